// SPDX-License-Identifier: Apache-2.0
#include "container/ogg/pages.h"

#include <algorithm>
#include <cmath>

#include "media/codec_headers.h"

namespace ruedo::ogg {

void PageWalker::seek(std::uint64_t offset) {
    ogg_sync_reset(&sync_);
    position_ = read_at_ = offset;
}

Result<bool> PageWalker::next(ogg_page& page, std::uint64_t& start) {
    constexpr long chunk = 8192;
    for (;;) {
        auto n = ogg_sync_pageseek(&sync_, &page);
        if (n > 0) {
            start = position_;
            position_ += static_cast<std::uint64_t>(n);
            return true;
        }
        if (n < 0) {
            position_ += static_cast<std::uint64_t>(-n);
            continue;
        }
        auto* to = reinterpret_cast<std::uint8_t*>(ogg_sync_buffer(&sync_, chunk));
        if (!to) return fail(ErrorCode::limit, "There is no memory for a page.");
        std::size_t wanted = chunk;
        auto got = source_->read_at(read_at_, {to, wanted});
        // Who only looks at what is here takes less, down to the last byte.
        while (!got && wanted > 1 && ReadScope::only_buffered()) got = source_->read_at(read_at_, {to, wanted /= 2});
        if (!got) return std::unexpected(got.error());
        if (*got == 0) return false;
        read_at_ += *got;
        ogg_sync_wrote(&sync_, static_cast<long>(*got));
    }
}

bool Logical::begin(ByteView packet) {
    auto starts = [&](std::string_view magic) {
        return packet.size() >= magic.size() &&
               std::equal(magic.begin(), magic.end(), packet.begin(),
                          [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
    };
    track.kind = Kind::audio;
    if (starts("\x01vorbis") && packet.size() >= 30) {
        track.codec = Codec::vorbis, track.codec_tag = "vorbis";
        headers_wanted = 3;
    } else if (starts("OpusHead")) {
        track.codec = Codec::opus, track.codec_tag = "OpusHead";
        headers_wanted = 2;
        if (auto head = parse_opus_head(packet)) pre_skip = head->pre_skip;
    } else if (starts("\x7f"
                      "FLAC") &&
               packet.size() > 13 + 4) {
        track.codec = Codec::flac, track.codec_tag = "FLAC";
        // The number of header packets that follow; 0 when the writer did not know.
        headers_wanted = 1U + std::min<unsigned>(64, static_cast<unsigned>(packet[7]) << 8 | packet[8]);
    } else if (starts("\x80theora")) {
        track.kind = Kind::video;
        track.codec = Codec::theora, track.codec_tag = "theora";
        headers_wanted = 3;
        auto head = parse_theora_head(packet);
        if (!head) return false;
        shift = head->granule_shift;
        counts_from_one = head->version >= 0x030201;
        num = static_cast<std::uint64_t>(head->rate.den), den = static_cast<std::uint64_t>(head->rate.num);
    } else {
        return false;
    }
    add_header(packet);
    return true;
}

void Logical::add_header(ByteView packet) {
    headers.emplace_back(packet.begin(), packet.end());
    if (headers.size() == 2) {
        auto comments = vorbis_comments(packet);
        take_comments(comments, tags);
        for (auto& [name, value] : comments)
            if (name == "LANGUAGE") track.language = value.size() == 3 ? bcp47_from_iso639(value) : value.substr(0, 35);
    }
    if (!complete()) return;
    track.id = static_cast<std::uint32_t>(serial);
    track.is_default = true;
    if (track.codec == Codec::vorbis || track.codec == Codec::theora) track.config = lace_headers(headers);
    if (track.codec == Codec::opus) track.config = headers[0];
    if (track.codec == Codec::flac) track.config.assign(headers[0].begin() + 9, headers[0].end());
    if (track.codec == Codec::vorbis) modes = parse_vorbis_modes(headers[0], headers[2]);
    describe_from_config(track);
    if (track.kind == Kind::audio) num = 1, den = static_cast<std::uint64_t>(std::max(track.audio.rate, 1));
    track.tick = {static_cast<std::int64_t>(num), static_cast<std::int64_t>(den)};
}

std::int64_t Logical::end_of(ogg_int64_t granule) const {
    if (!is_video()) return granule - pre_skip;
    auto count = (granule >> shift) + (granule & ((ogg_int64_t{1} << shift) - 1));
    return counts_from_one ? count : count + 1;
}
std::int64_t Logical::nearest(Time t) const {
    auto unit = std::llround(t.seconds() * static_cast<double>(den) / static_cast<double>(num));
    auto far = [&](std::int64_t n) { return std::abs((time_of(n) - t).ns); };
    return std::min({unit - 1, unit, unit + 1}, [&](auto a, auto b) { return far(a) < far(b); });
}
std::int64_t Logical::key_of(ogg_int64_t granule) const { return (granule >> shift) - (counts_from_one ? 1 : 0); }

std::int64_t PacketLength::of(const Logical& logical, ByteView packet) {
    switch (logical.track.codec) {
        case Codec::theora:
            return 1;
        case Codec::opus:
            return opus_packet_samples(packet);
        case Codec::flac: {
            auto frame = parse_flac_frame(packet);
            return frame ? frame->samples : 0;
        }
        case Codec::vorbis:
            return logical.modes ? vorbis_packet_samples(*logical.modes, packet, previous_block) : 0;
        default:
            return 0;
    }
}

}  // namespace ruedo::ogg
