// SPDX-License-Identifier: Apache-2.0
#include "container/isobmff/boxes.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo::isobmff {

Result<std::optional<Box>> read_box(SourceReader& reader, std::uint64_t at, std::uint64_t limit) {
    if (at >= limit || limit - at < 8) return std::nullopt;
    RUEDO_TRY(auto head, reader.view(at, 16));
    if (head.size() < 8) return std::nullopt;
    ByteReader r(head);
    std::uint64_t size = r.u32();
    Box box{.type = r.u32(), .start = at, .body = at + 8};
    if (size == 1) {
        size = r.u64();
        if (r.overrun() || size < 16) return std::nullopt;
        box.body += 8;
    } else if (size == 0) {
        size = limit - at;  // to the end of the file
    } else if (size < 8) {
        return std::nullopt;
    }
    box.stated_end = size > UINT64_MAX - at ? UINT64_MAX : at + size;
    box.end = std::min(box.stated_end, limit);
    return box;
}

const std::uint8_t* Table::page(std::uint64_t i, unsigned at) {
    static constexpr std::array<std::uint8_t, 8> zeros{};
    constexpr std::size_t page_size = 16384;
    if (i >= count_) return zeros.data();
    auto offset = offset_ + i * entry_ + at;
    if (offset < page_start_ || offset + 8 > page_start_ + page_filled_) {
        page_.assign(page_size + 8, 0);
        auto got = source_->read_at(offset, std::span(page_).first(page_size));
        if (!got) {
            error_ = got.error();
            page_start_ = UINT64_MAX, page_filled_ = 0;
            return zeros.data();
        }
        page_filled_ = *got;
        // Behind the end of the file there are zeros; behind a whole page there is another page.
        if (page_filled_ < page_size) page_filled_ += 8;
        page_start_ = offset;
    }
    return page_.data() + (offset - page_start_);
}

// Larger than any sample seen; a size above it is a lie.
constexpr std::uint64_t sample_limit = 256ULL << 20;

Status read_sample(SourceReader& reader, std::uint64_t offset, std::uint64_t size, Bytes& out) {
    if (size > sample_limit)
        return fail(ErrorCode::limit, fmt::format("“{}” states a sample of {} bytes.", reader.source().name(), size),
                    "The file is damaged; export it again.");
    return reader.read(offset, size, out);
}

std::uint64_t Table::upper_bound(std::uint32_t value) {
    std::uint64_t low = 0, high = count_;
    while (low < high) {
        auto middle = low + (high - low) / 2;
        if (u32(middle) > value)
            high = middle;
        else
            low = middle + 1;
    }
    return low;
}

std::int64_t TrackPlan::tick_at(Time t) const {
    // The floor can be one tick low where a tick's time was rounded up to this very nanosecond.
    auto tick = time_to_ticks_floor(t - offset, timescale) + shift_ticks;
    return present(tick + 1) <= t ? tick + 1 : tick;
}

}  // namespace ruedo::isobmff
