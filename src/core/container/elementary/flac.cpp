// SPDX-License-Identifier: Apache-2.0
// FLAC (RFC 9639): metadata, frames found by their checksums, seeking by the seek table and bisection.
#include <fmt/format.h>

#include <algorithm>

#include "container/container.h"
#include "media/codec_headers.h"

namespace ruedo::elementary {
namespace {

struct SeekPoint {
    std::uint64_t sample = 0, offset = 0;
};

struct Flac {
    std::shared_ptr<ByteSource> source;
    FlacInfo info;
    std::uint64_t begin = 0, size = UINT64_MAX;
    std::vector<SeekPoint> points;
};

struct FlacFrame {
    std::uint64_t offset = 0, size = 0, sample = 0;
    std::int64_t samples = 0;
};

class FrameFinder {
  public:
    explicit FrameFinder(std::shared_ptr<const Flac> shared)
        : shared_(std::move(shared)), reader_(shared_->source, window) {}

    /// The whole frame at or after `at`, its checksum right; nothing at the end.
    Result<std::optional<FlacFrame>> find(std::uint64_t at) {
        for (std::uint64_t from = at; at < shared_->size && at < from + (4 << 20);) {
            // Nearly always a frame begins right here; over a network no more is waited for.
            RUEDO_TRY(auto here, reader_.view(at, 16));
            if (here.size() < 10) return std::nullopt;
            if (here[0] == 0xFF && (here[1] & 0xFE) == 0xF8) {
                RUEDO_TRY(auto frame, whole(at));
                if (frame) return frame;
            }
            RUEDO_TRY(auto view, reader_.view(at, 1 << 14));
            std::size_t i = here[0] == 0xFF && (here[1] & 0xFE) == 0xF8 ? 1 : 0;
            for (; i + 1 < view.size(); ++i)
                if (view[i] == 0xFF && (view[i + 1] & 0xFE) == 0xF8) break;
            if (i + 1 >= view.size()) {
                at += view.size() - 1;
                if (view.size() < 1 << 14) return std::nullopt;
                continue;
            }
            RUEDO_TRY(auto frame, whole(at + i));
            if (frame) return frame;
            at += i + 1;
        }
        return std::nullopt;
    }
    SourceReader& reader() { return reader_; }

  private:
    static constexpr std::size_t window = 1 << 20;
    std::uint64_t sample_of(const AudioFrameHeader& f) const {
        return f.counts_samples ? f.number : f.number * shared_->info.min_block;
    }

    Result<std::optional<FlacFrame>> whole(std::uint64_t at) {
        std::optional<AudioFrameHeader> head;
        std::size_t looked = 0;
        for (std::size_t length = std::clamp<std::size_t>(
                 shared_->info.max_frame ? shared_->info.max_frame + 64U : 1 << 11, 512, window);
             ; length = std::min(window, length * 2)) {
            RUEDO_TRY(auto view, reader_.view(at, length));
            if (!head) {
                head = parse_flac_frame(view);
                if (!head || (head->rate && head->rate != shared_->info.rate) ||
                    head->channels != shared_->info.channels)
                    return std::nullopt;
                looked = head->header;
            }
            auto ends_here = [&](std::size_t n) {
                return n >= head->header + 2 &&
                       flac_crc16(view.first(n - 2)) == (static_cast<unsigned>(view[n - 2]) << 8 | view[n - 1]);
            };
            auto done = [&](std::size_t n) { return FlacFrame{at, n, sample_of(*head), head->samples}; };
            for (auto i = std::max<std::size_t>(looked, shared_->info.min_frame); i + 2 <= view.size(); ++i) {
                // Where one file was put behind another, the next one's header follows the last frame.
                if (view[i] == 'f' && i + 4 <= view.size() && std::memcmp(view.data() + i, "fLaC", 4) == 0 &&
                    ends_here(i))
                    return done(i);
                if (view[i] != 0xFF || (view[i + 1] & 0xFE) != 0xF8) continue;
                auto next = parse_flac_frame(view.subspan(i));
                if (!next || next->counts_samples != head->counts_samples) continue;
                if (next->number !=
                    head->number + (head->counts_samples ? static_cast<std::uint64_t>(head->samples) : 1))
                    continue;
                if (ends_here(i)) return done(i);
            }
            looked = view.size() > 32 ? view.size() - 32 : looked;
            if (view.size() < length) {
                // The last frame: all that is left, or all but a trailing tag.
                if (ends_here(view.size())) return done(view.size());
                if (view.size() > 128 && ends_here(view.size() - 128)) return done(view.size() - 128);
                return std::nullopt;
            }
            if (length == window) return std::nullopt;
        }
    }
    std::shared_ptr<const Flac> shared_;
    SourceReader reader_;
};

class FlacReader final : public TrackReader {
  public:
    explicit FlacReader(std::shared_ptr<const Flac> shared)
        : shared_(std::move(shared)), frames_(shared_), offset_(shared_->begin) {}
    Result<bool> next(PacketHead& head) override {
        // The header may say how much there is; what stands behind that is not part of it.
        if (last_) return false;
        RUEDO_TRY(auto frame, frames_.find(offset_));
        if (!frame) return false;
        frame_ = *frame;
        last_ = is_last(frame_);
        offset_ = frame_.offset + frame_.size;
        auto rate = static_cast<std::uint64_t>(shared_->info.rate);
        head = {};
        head.pts = ticks_to_time(static_cast<std::int64_t>(frame_.sample), 1, rate);
        head.duration = ticks_to_time(static_cast<std::int64_t>(frame_.sample) + frame_.samples, 1, rate) - head.pts;
        head.keyframe = true;
        head.size = frame_.size;
        return true;
    }
    Status read(Bytes& out) override { return frames_.reader().read(frame_.offset, frame_.size, out); }
    Status seek(Time t) override {
        auto rate = static_cast<std::uint64_t>(shared_->info.rate);
        auto target = static_cast<std::uint64_t>(std::max<std::int64_t>(0, time_to_ticks_floor(t + 1_ns, rate)));
        auto low = shared_->begin, high = shared_->size;
        for (auto& p : shared_->points) {
            if (p.sample <= target)
                low = std::max(low, shared_->begin + p.offset);
            else {
                high = std::min(high, shared_->begin + p.offset);
                break;
            }
        }
        // Length unknown, or bytes that come only in order: forward from what is known. The start is where it is.
        if (high == UINT64_MAX || shared_->source->forward_only() || target == 0) high = low;
        while (high > low && high - low > 65536) {
            auto middle = low + (high - low) / 2;
            RUEDO_TRY(auto frame, frames_.find(middle));
            if (frame && frame->offset < high && frame->sample <= target)
                low = frame->offset;
            else
                high = middle;
        }
        offset_ = low;
        last_ = false;
        for (;;) {
            RUEDO_TRY(auto frame, frames_.find(offset_));
            if (!frame || frame->sample + static_cast<std::uint64_t>(frame->samples) > target) break;
            offset_ = frame->offset + frame->size;
            if ((last_ = is_last(*frame))) break;
        }
        return {};
    }

  private:
    bool is_last(const FlacFrame& f) const {
        auto all = shared_->info.samples;
        return all > 0 && f.sample + static_cast<std::uint64_t>(f.samples) >= all;
    }
    std::shared_ptr<const Flac> shared_;
    FrameFinder frames_;
    std::uint64_t offset_;
    FlacFrame frame_;
    bool last_ = false;
};

class FlacClip final : public Clip {
  public:
    /// `from`: where it begins; what a tag before it says counts where its own comments say nothing.
    Status open(std::shared_ptr<ByteSource> source, std::uint64_t from, const ClipTags& before) {
        auto& name = source->name();
        info_.container = "flac";
        SourceReader reader(source);
        shared_->size = source->size().value_or(UINT64_MAX);
        Track t;
        auto at = from + 4;
        for (int blocks = 0;; ++blocks) {
            RUEDO_TRY(auto head, reader.view(at, 4));
            if (head.size() < 4 || blocks > 512)
                return fail(ErrorCode::truncated, fmt::format("“{}” ends within its FLAC header.", name),
                            "Copy it again.");
            bool last = head[0] & 0x80;
            unsigned type = head[0] & 0x7FU;
            std::uint64_t length =
                static_cast<std::uint64_t>(head[1]) << 16 | static_cast<std::uint64_t>(head[2]) << 8 | head[3];
            if (at + 4 + length > shared_->size)
                return fail(ErrorCode::truncated,
                            fmt::format("A block of the FLAC header of “{}” is longer than the file.", name),
                            "Copy or export it again.");
            if ((type == 0 && blocks == 0) || type == 3 || type == 4 || type == 6) {
                Bytes block;
                RUEDO_TRY_DO(reader.read(at, 4 + length, block));
                if (type == 0) {
                    t.config = {'f', 'L', 'a', 'C'};
                    t.config.insert(t.config.end(), block.begin(), block.end());
                    t.config[4] = 0x80;
                }
                if (type == 3) {
                    ByteReader r(ByteView(block).subspan(4));
                    while (r.left() >= 18) {
                        SeekPoint p{r.u64(), r.u64()};
                        r.skip(2);
                        if (p.sample != UINT64_MAX &&
                            (shared_->points.empty() || p.sample > shared_->points.back().sample))
                            shared_->points.push_back(p);
                    }
                }
                if (type == 4) {
                    auto comments = vorbis_comments(block);
                    take_comments(comments, info_.tags);
                    for (auto& [key, value] : comments)
                        if (key == "LANGUAGE")
                            t.language = value.size() == 3 ? bcp47_from_iso639(value) : value.substr(0, 35);
                }
                if (type == 6) info_.tags.take_cover(picture_in_block(ByteView(block).subspan(4)));
            }
            at += 4 + length;
            if (last) break;
        }
        auto stream = parse_flac_info(t.config);
        if (!stream)
            return fail(ErrorCode::malformed, fmt::format("The FLAC header of “{}” can’t be followed.", name),
                        "Export it again.");
        shared_->source = source;
        shared_->info = *stream;
        shared_->begin = at;
        std::erase_if(shared_->points, [&](auto& p) { return shared_->begin + p.offset >= shared_->size; });
        t.id = 1;
        t.kind = Kind::audio;
        t.codec = Codec::flac;
        t.codec_tag = "FLAC";
        t.is_default = true;
        t.tick = {1, stream->rate};
        describe_from_config(t);
        auto samples = stream->samples;
        if (samples == 0 && shared_->size != UINT64_MAX && !source->forward_only()) {
            FrameFinder frames(shared_);
            for (std::uint64_t back = 1 << 16; samples == 0; back *= 4) {
                auto begin = back >= shared_->size - at ? at : shared_->size - back;
                for (auto place = begin;;) {
                    RUEDO_TRY(auto frame, frames.find(place));
                    if (!frame) break;
                    samples = frame->sample + static_cast<std::uint64_t>(frame->samples);
                    place = frame->offset + frame->size;
                }
                if (begin == at) break;
            }
        }
        info_.duration = ticks_to_time(static_cast<std::int64_t>(samples), 1, static_cast<std::uint64_t>(stream->rate));
        info_.duration_known = samples > 0;
        if (info_.tags.title.empty()) info_.tags.title = before.title;
        info_.tags.take_cover(before.cover);
        if (from > 0)
            info_.findings.push_back(
                {"tag-before-flac",
                 fmt::format("An ID3 tag of {} bytes stands before the FLAC in “{}”, where none may be.", from, name),
                 "Rewrap it: many players refuse such a file."});
        info_.tracks.push_back(std::move(t));
        return {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t) override { return std::make_unique<FlacReader>(shared_); }

  private:
    std::shared_ptr<Flac> shared_ = std::make_shared<Flac>();
};

}  // namespace

Result<std::unique_ptr<Clip>> open_flac(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<FlacClip>();
    RUEDO_TRY_DO(clip->open(std::move(source), 0, {}));
    return clip;
}
Result<std::unique_ptr<Clip>> open_flac_behind(std::shared_ptr<ByteSource> source, std::uint64_t from, ClipTags tags) {
    auto clip = std::make_unique<FlacClip>();
    RUEDO_TRY_DO(clip->open(std::move(source), from, tags));
    return clip;
}

}  // namespace ruedo::elementary
