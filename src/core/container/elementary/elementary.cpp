// SPDX-License-Identifier: Apache-2.0
// MP3 and layer II (with ID3v2 tags, and the Xing, Info and VBRI headers that encoders put into the first frame), ADTS
// and AC-3.
#include <fmt/format.h>

#include <algorithm>

#include "container/container.h"
#include "container/elementary/frames.h"

namespace ruedo::elementary {
namespace {

std::optional<AudioFrameHeader> parse_any(ByteView at) {
    for (auto parse : {&parse_mp3_frame, &parse_adts_frame, &parse_ac3_frame})
        if (auto frame = parse(at)) return frame;
    return std::nullopt;
}

/// Length of an ID3v2 tag at the start of `head` (ID3v2.4 structure clause 3.1); 0 for none.
std::uint64_t id3_length(ByteView head) {
    if (head.size() < 10 || std::memcmp(head.data(), "ID3", 3) != 0) return 0;
    std::uint64_t size = 0;
    for (int i = 6; i < 10; ++i) size = size << 7 | (head[static_cast<std::size_t>(i)] & 0x7F);
    return size + 10 + (head[5] & 0x10 ? 10 : 0);
}

/// Text in Latin-1 or UTF-8, by the byte before it.
std::string id3_text(ByteView body) {
    if (body[0] == 3) return tidy_title({reinterpret_cast<const char*>(body.data()) + 1, body.size() - 1});
    std::string text;
    for (auto b : body[0] == 0 ? body.subspan(1) : ByteView{})
        if (b < 0x80)
            text += static_cast<char>(b);
        else
            text += static_cast<char>(0xC0 | b >> 6), text += static_cast<char>(0x80 | (b & 63));
    return tidy_title(text);
}
/// The picture in an APIC frame (ID3v2.3 clause 4.15): behind its type, its kind and its description.
ByteView id3_picture(ByteView body) {
    auto wide = body[0] == 1 || body[0] == 2;
    std::size_t at = 1;
    while (at < body.size() && body[at]) ++at;
    at += 2;
    while (at + 1 < body.size() && (body[at] || (wide && body[at + 1]))) at += wide ? 2 : 1;
    at += wide ? 2 : 1;
    return at < body.size() ? body.subspan(at) : ByteView{};
}
/// When the first sample of a segment is presented, as its tag says (RFC 8216 clause 3.4): ticks of 90 kHz, 33 bits, in
/// a private frame.
std::optional<Time> id3_stamp(ByteView body) {
    constexpr std::string_view owner = ".streaming.transportStreamTimestamp";
    std::string_view text(reinterpret_cast<const char*>(body.data()), body.size());
    auto end = text.find('\0');
    if (end == text.npos || !text.substr(0, end).ends_with(owner) || body.size() != end + 9) return std::nullopt;
    return ticks_to_time(static_cast<std::int64_t>(ByteReader(body.subspan(end + 1)).u64() & ((1ULL << 33) - 1)), 1,
                         90000);
}
/// What an ID3v2.3 or 2.4 tag says of the clip (frames: clause 4).
void read_id3(ByteView tag, ClipInfo& info) {
    auto& tags = info.tags;
    if (tag.size() < 10 || tag[3] < 3 || tag[3] > 4 || tag[5] & 0xC0) return;
    ByteReader r(tag.subspan(10));
    while (r.left() >= 11) {
        auto name = r.u32();
        std::uint64_t size = 0;
        for (int i = 0; i < 4; ++i) size = tag[3] == 4 ? size << 7 | (r.u8() & 127U) : size << 8 | r.u8();
        r.skip(2);
        auto body = r.take(size);
        if (name == 0 || body.empty()) return;
        if (name == fourcc("TIT2") && tags.title.empty()) tags.title = id3_text(body);
        if (name == fourcc("APIC")) tags.take_cover(id3_picture(body));
        if (name == fourcc("PRIV")) info.zero = id3_stamp(body);
    }
}

/// What an encoder says in the first frame of an MP3.
struct FirstFrame {
    bool present = false;
    std::uint64_t frames = 0, bytes = 0;  ///< 0 when not stated; `bytes` with this frame, or without it.
    unsigned delay = 0, padding = 0;
    bool states_delay = false;
};
FirstFrame read_first_frame(ByteView frame, const AudioFrameHeader& head) {
    FirstFrame f;
    bool full = head.samples == 1152;
    std::size_t side = full ? (head.channels == 1 ? 17 : 32) : (head.channels == 1 ? 9 : 17);
    auto at = [&](std::size_t offset, std::string_view magic) {
        return frame.size() >= offset + magic.size() &&
               std::memcmp(frame.data() + offset, magic.data(), magic.size()) == 0;
    };
    if (at(36, "VBRI")) {
        ByteReader r(frame.subspan(36 + 4 + 2 + 2 + 2));
        f.present = true;
        f.bytes = r.u32(), f.frames = r.u32();
    } else if (at(4 + side, "Xing") || at(4 + side, "Info")) {
        ByteReader r(frame.subspan(4 + side + 4));
        f.present = true;
        auto flags = r.u32();
        if (flags & 1) f.frames = r.u32();
        if (flags & 2) f.bytes = r.u32();
        if (flags & 4) r.skip(100);
        if (flags & 8) r.skip(4);
        // The encoder's own block: its name in nine bytes, then, among other things, delay and padding.
        auto name = r.take(9);
        r.skip(12);
        auto both = r.u24();
        if (!r.overrun() && !name.empty() && name[0] != 0)
            f.delay = both >> 12, f.padding = both & 0xFFF, f.states_delay = f.delay > 0;
    }
    return f;
}

class FramedClip final : public Clip {
  public:
    Status open(std::shared_ptr<ByteSource> source) {
        auto& name = source->name();
        SourceReader reader(source);
        std::uint64_t at = 0;
        for (int tags = 0; tags < 16; ++tags) {
            RUEDO_TRY(auto head, reader.view(at, 10));
            auto length = id3_length(head);
            if (length == 0) break;
            if (length <= (source->cheap_to_seek() ? ClipTags::most_cover + 65536 : 16384)) {
                Bytes tag;
                if (reader.read(at, length, tag)) read_id3(tag, info_);
            }
            at += length;
        }
        if (at > 0) {
            RUEDO_TRY(auto head, reader.view(at, 4));
            if (head.size() == 4 && std::memcmp(head.data(), "fLaC", 4) == 0) {
                flac_at_ = at;
                return {};
            }
        }
        // The first frame that is followed by another of its kind.
        std::optional<AudioFrameHeader> first;
        // Over a network no more is waited for than two frames may take.
        const std::size_t look = source->cheap_to_seek() ? 16384 : 4096;
        for (auto limit = at + (1 << 17); !first && at < limit;) {
            RUEDO_TRY(auto window, reader.view(at, look));
            if (window.size() < 10) break;
            std::size_t i = 0;
            for (; i + 10 <= window.size() && !first; ++i) {
                auto frame = parse_any(window.subspan(i));
                if (!frame) continue;
                auto next = i + frame->size;
                auto after = next + 10 <= window.size() ? parse_any(window.subspan(next)) : std::nullopt;
                bool last = window.size() < look && next == window.size();
                if ((after && after->rate == frame->rate && after->samples == frame->samples) || last) {
                    first = frame;
                    at += i;
                }
            }
            if (!first) at += window.size() < look ? window.size() : look * 3 / 4;
        }
        if (!first)
            return fail(
                ErrorCode::not_media,
                fmt::format("“{}” begins like bare sound (MP3, AAC or AC-3), but no frame of it can be found.", name),
                "Copy or export it again.");
        adts_ = first->codec == Codec::aac;
        info_.container = adts_ ? "adts" : codec_name(first->codec);
        FirstFrame stated;
        if (first->codec == Codec::mp3) {
            RUEDO_TRY(auto frame, reader.view(at, std::min<std::size_t>(first->size, 4096)));
            stated = read_first_frame(frame, *first);
            if (stated.present) at += first->size;
        }
        auto size = source->size();
        index_ = std::make_shared<FrameIndex>(source, frame_parser(first->codec), at, *first);

        Track t;
        t.id = 1;
        t.kind = Kind::audio;
        t.codec = first->codec;
        t.codec_tag = adts_ ? "ADTS" : codec_title(first->codec);
        t.audio = {first->rate, first->channels};
        t.config = first->config;
        t.is_default = true;
        t.tick = {1, first->rate};
        describe_from_config(t);
        auto rate = static_cast<std::uint64_t>(first->rate);
        // A decoder adds 529 samples of its own to the delay that the encoder states.
        if (stated.states_delay) delay_ = ticks_to_time(stated.delay + 529, 1, rate);
        auto part = ticks_to_time(static_cast<std::int64_t>(stated.frames) * first->samples, 1, rate);
        bool joined = false;
        if (size && stated.frames > 0 && stated.bytes > 0 && at + stated.bytes < *size) {
            RUEDO_TRY(auto more, goes_on(reader, at + stated.bytes, stated.bytes, part));
            joined = more;
        }
        if (stated.frames > 0 && !joined) {
            auto samples = static_cast<std::int64_t>(stated.frames) * first->samples -
                           (stated.states_delay ? stated.delay + stated.padding : 0);
            info_.duration = ticks_to_time(std::max<std::int64_t>(samples, 0), 1, rate);
            info_.duration_known = true;
            if (stated.states_delay) t.end = info_.duration;
        } else if (size && source->cheap_to_seek()) {
            // Without a header only walking tells; a long file is walked in part, and the rest estimated.
            RUEDO_TRY(bool whole, index_->walk(16 << 20));
            auto walked = index_->time_of(index_->frames()) - delay_;
            info_.duration =
                whole || index_->passed() == 0
                    ? walked
                    : Time{static_cast<std::int64_t>(static_cast<double>(walked.ns) * static_cast<double>(*size - at) /
                                                     static_cast<double>(index_->passed()))};
            info_.duration_known = true;
            auto states = joined ? fmt::format("“{}” states the length of its first part", name)
                                 : fmt::format("“{}” does not state its length", name);
            info_.findings.push_back(
                {"no-index",
                 whole
                     ? fmt::format("{}; it was found by walking all {} frames.", states, index_->frames())
                     : fmt::format("{}; {} is an estimate from its first 16 MB.", states, format_time(info_.duration)),
                 adts_ ? "Put it into MP4 or Ogg when a target has to seek."
                       : "Export it with an info header, or put it into MP4 or Ogg."});
        } else if (joined) {
            info_.duration = Time{static_cast<std::int64_t>(
                static_cast<double>(part.ns) * static_cast<double>(*size - at) / static_cast<double>(stated.bytes))};
            info_.duration_known = true;
        } else if (size && first->bitrate > 0) {
            info_.duration = ticks_to_time(static_cast<std::int64_t>((*size - at) * 8), 1, first->bitrate);
            info_.duration_known = true;
        }
        info_.tracks.push_back(std::move(t));
        return {};
    }
    /// Its tag counts on the clock of a transport stream (RFC 8216 clause 3.4).
    void count_from(const Timeline& timeline) {
        if (!info_.zero) return;
        auto ticks = time_to_ticks(*info_.zero - timeline.zero, 90000);
        info_.zero = timeline.zero + ticks_to_time(ticks_near(ticks, time_to_ticks(timeline.near, 90000)), 1, 90000);
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t) override { return frame_reader(index_, delay_, adts_); }
    /// Where its tag is followed by FLAC instead, which is opened by another.
    std::optional<std::uint64_t> flac_at() const { return flac_at_; }

  private:
    /// Whether more than a second of sound follows at `at`, where its first frame says that all has been: recordings
    /// put in a row. What takes as much room and is no sound is a tag. `bytes` take the time `part`.
    Result<bool> goes_on(SourceReader& reader, std::uint64_t at, std::uint64_t bytes, Time part) const {
        auto& source = reader.source();
        auto left = static_cast<double>(*source.size() - at);
        if (left / static_cast<double>(bytes) * part.seconds() < 1) return false;
        // Looking there would mean waiting for all before it.
        if (source.forward_only()) return true;
        for (int in_a_row = 0; in_a_row < 8; ++in_a_row) {
            RUEDO_TRY(auto frame, index_->find(reader, at));
            if (!frame) return false;
            at += frame->size;
        }
        return true;
    }
    std::shared_ptr<FrameIndex> index_;
    std::optional<std::uint64_t> flac_at_;
    Time delay_{};
    bool adts_ = false;
};

}  // namespace

bool probe(ByteView head) {
    if (id3_length(head) > 0) return true;
    auto frame = parse_any(head);
    if (!frame) return false;
    if (frame->size + 10 > head.size()) return frame->size >= head.size() || frame->size + 10 > 2048;
    auto next = parse_any(head.subspan(frame->size));
    return next && next->rate == frame->rate;
}

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<FramedClip>();
    RUEDO_TRY_DO(clip->open(source));
    if (clip->flac_at()) return open_flac_behind(std::move(source), *clip->flac_at(), clip->info().tags);
    return clip;
}

Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline) {
    auto clip = std::make_unique<FramedClip>();
    RUEDO_TRY_DO(clip->open(source));
    if (clip->flac_at())
        return fail(ErrorCode::not_media, fmt::format("“{}” is FLAC, which no stream is made of here.", source->name()),
                    "Make the stream anew, with a codec that streams have.");
    if (timeline) clip->count_from(*timeline);
    return clip;
}

}  // namespace ruedo::elementary
