// SPDX-License-Identifier: Apache-2.0
#include "container/ogg/link.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

namespace ruedo::ogg {
namespace {

/// Where pages of other streams than this link's begin: a chain's next link.
Status find_end(PageWalker& walker, ByteSource& source, Link& link, const std::vector<int>& others,
                std::uint64_t size) {
    link.end = size;
    if (size == UINT64_MAX || source.forward_only()) return {};
    auto ours = [&](ogg_page& page) {
        auto serial = ogg_page_serialno(&page);
        return link.holds(serial) || std::find(others.begin(), others.end(), serial) != others.end();
    };
    ogg_page page;
    std::uint64_t start = 0;
    // The file's last pages tell whether there is another link at all.
    bool chained = false;
    for (std::uint64_t back = 1 << 17;; back *= 4) {
        walker.seek(size - std::min(back, size - link.data));
        bool any = false;
        for (;;) {
            RUEDO_TRY(bool more, walker.next(page, start));
            if (!more) break;
            any = true;
            chained = !ours(page);
        }
        if (any || back >= size - link.data) break;
    }
    if (!chained) return {};
    auto low = link.data, high = size;
    while (high - low > 8192) {
        auto middle = low + (high - low) / 2;
        walker.seek(middle);
        RUEDO_TRY(bool more, walker.next(page, start));
        if (more && start < high && ours(page))
            low = start;
        else
            high = middle;
    }
    walker.seek(low);
    for (;;) {
        RUEDO_TRY(bool more, walker.next(page, start));
        if (!more) return {};
        if (!ours(page)) {
            link.end = start;
            return {};
        }
    }
}

/// The unit at which each stream begins: its first page's position less what the page holds.
Status find_first(PageWalker& walker, Link& link) {
    for (auto& s : link.streams) {
        s.has_data = false;
        walker.seek(link.data);
        ogg_stream_state state;
        ogg_stream_init(&state, s.serial);
        struct Clear {
            ogg_stream_state& s;
            ~Clear() { ogg_stream_clear(&s); }
        } clear{state};
        ogg_page page;
        std::uint64_t start = 0;
        PacketLength length;
        std::size_t headers = 1;
        std::int64_t sum = 0;
        for (int pages = 0; pages < 65536; ++pages) {
            RUEDO_TRY(bool more, walker.next(page, start));
            if (!more || start >= link.end) break;
            if (ogg_page_serialno(&page) != s.serial || ogg_page_bos(&page)) continue;
            ogg_stream_pagein(&state, &page);
            ogg_packet packet;
            for (int got; (got = ogg_stream_packetout(&state, &packet)) != 0;) {
                if (got < 0 || headers++ < s.headers_wanted) continue;
                sum += length.of(s, {packet.packet, static_cast<std::size_t>(packet.bytes)});
                s.has_data = true;
            }
            if (!s.has_data || ogg_page_granulepos(&page) < 0) continue;
            auto begin = s.end_of(ogg_page_granulepos(&page)) - sum;
            // A first page that claims less than it holds cuts the beginning (or, when it is also the last,
            // the end); one that claims more was cut out of a longer stream.
            s.first = s.is_video() ? std::max<std::int64_t>(begin, 0) : std::max<std::int64_t>(begin + s.pre_skip, 0);
            break;
        }
    }
    return {};
}

Status find_last(PageWalker& walker, ByteSource& source, Link& link) {
    if (link.end == UINT64_MAX || source.forward_only()) return {};
    for (std::uint64_t back = 1 << 16;; back *= 4) {
        auto from = link.end - std::min(back, link.end - link.data);
        walker.seek(from);
        std::set<int> found;
        ogg_page page;
        std::uint64_t start = 0;
        for (;;) {
            RUEDO_TRY(bool more, walker.next(page, start));
            if (!more || start >= link.end) break;
            for (auto& s : link.streams)
                if (s.serial == ogg_page_serialno(&page) && ogg_page_granulepos(&page) >= 0) {
                    s.last = std::max(s.end_of(ogg_page_granulepos(&page)), s.first);
                    found.insert(s.serial);
                }
        }
        if (from == link.data || found.size() == link.streams.size() || back > (64 << 20)) return {};
    }
}
}  // namespace

Result<std::optional<Link>> read_link(const std::shared_ptr<ByteSource>& source, std::uint64_t at, std::uint64_t size) {
    PageWalker walker(source);
    Link link;
    link.begin = at;
    walker.seek(at);
    ogg_page page;
    std::uint64_t start = 0;
    std::map<int, ogg_stream_state> assembling;
    struct Clear {
        std::map<int, ogg_stream_state>& m;
        ~Clear() {
            for (auto& [serial, s] : m) ogg_stream_clear(&s);
        }
    } clear{assembling};
    std::vector<int> others;
    bool headers_done = false;
    for (int pages = 0; !headers_done && pages < 4096; ++pages) {
        RUEDO_TRY(bool more, walker.next(page, start));
        if (!more) break;
        auto serial = ogg_page_serialno(&page);
        if (ogg_page_bos(&page)) {
            if (link.streams.size() + others.size() > 32)
                return fail(ErrorCode::limit, fmt::format("“{}” holds more than 32 streams at once.", source->name()),
                            "Export it with fewer tracks.");
            if (assembling.contains(serial)) continue;
            auto& state = assembling[serial];
            ogg_stream_init(&state, serial);
            ogg_stream_pagein(&state, &page);
            ogg_packet packet;
            Logical logical;
            logical.serial = serial;
            if (ogg_stream_packetout(&state, &packet) == 1 &&
                logical.begin({packet.packet, static_cast<std::size_t>(packet.bytes)}))
                link.streams.push_back(std::move(logical));
            else
                others.push_back(serial);
            link.data = walker.position();
            continue;
        }
        auto s = std::find_if(link.streams.begin(), link.streams.end(), [&](auto& l) { return l.serial == serial; });
        if (s != link.streams.end() && !s->complete()) {
            auto& state = assembling[serial];
            ogg_stream_pagein(&state, &page);
            ogg_packet packet;
            while (!s->complete() && ogg_stream_packetout(&state, &packet) == 1)
                s->add_header({packet.packet, static_cast<std::size_t>(packet.bytes)});
        }
        headers_done = !link.streams.empty() &&
                       std::all_of(link.streams.begin(), link.streams.end(), [](auto& l) { return l.complete(); });
    }
    std::erase_if(link.streams, [](auto& l) { return !l.complete(); });
    if (link.streams.empty()) return std::nullopt;
    RUEDO_TRY_DO(find_end(walker, *source, link, others, size));
    RUEDO_TRY_DO(find_first(walker, link));
    RUEDO_TRY_DO(find_last(walker, *source, link));
    std::optional<Time> from;
    Time to{};
    for (auto& s : link.streams) {
        if (!s.has_data) continue;
        from = std::min(from.value_or(s.time_of(s.first)), s.time_of(s.first));
        to = std::max(to, s.time_of(s.last));
    }
    link.origin = from.value_or(Time{});
    link.length = std::max(to - link.origin, Time{});
    return link;
}

}  // namespace ruedo::ogg
