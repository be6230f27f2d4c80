// SPDX-License-Identifier: Apache-2.0
// WAV (RIFF and RF64, EBU Tech 3306).
#include <fmt/format.h>

#include <algorithm>

#include "container/riff/chunks.h"

namespace ruedo::riff {
namespace {

class WavReader final : public TrackReader {
  public:
    WavReader(std::shared_ptr<ByteSource> source, std::uint64_t begin, std::uint64_t size, std::uint64_t block,
              std::uint64_t rate)
        : reader_(std::move(source)), begin_(begin), frames_(size / block), block_(block), rate_(rate) {}
    Result<bool> next(PacketHead& head) override {
        auto first = number_ * per_packet;
        if (first >= frames_) return false;
        count_ = std::min(per_packet, frames_ - first);
        head = {};
        head.pts = ticks_to_time(static_cast<std::int64_t>(first), 1, rate_);
        head.duration = ticks_to_time(static_cast<std::int64_t>(first + count_), 1, rate_) - head.pts;
        head.keyframe = true;
        head.size = count_ * block_;
        at_ = begin_ + first * block_;
        head.offset = at_;
        ++number_;
        return true;
    }
    Status read(Bytes& out) override { return reader_.read(at_, count_ * block_, out); }
    Status seek(Time t) override {
        number_ =
            static_cast<std::uint64_t>(std::max<std::int64_t>(0, time_to_ticks_floor(t + 1_ns, rate_))) / per_packet;
        number_ = std::min(number_, frames_ ? (frames_ - 1) / per_packet : 0);
        return {};
    }

  private:
    static constexpr std::uint64_t per_packet = 4096;
    SourceReader reader_;
    std::uint64_t begin_, frames_, block_, rate_;
    std::uint64_t number_ = 0, count_ = 0, at_ = 0;
};

class WavClip final : public Clip {
  public:
    Status open(std::shared_ptr<ByteSource> source) {
        source_ = std::move(source);
        auto& name = source_->name();
        info_.container = "wav";
        SourceReader reader(source_);
        auto all = reader.size_or_max();
        Track t;
        t.id = 1;
        t.kind = Kind::audio;
        t.is_default = true;
        std::uint64_t long_data = 0, at = 12;
        std::optional<Chunk> data;
        bool have_format = false;
        for (int i = 0; i < 4096 && !data; ++i) {
            RUEDO_TRY(auto chunk, read_chunk(reader, at));
            if (!chunk) break;
            if (chunk->id == le_tag("ds64") && chunk->size >= 24) {
                RUEDO_TRY(auto view, reader.view(chunk->at, 24));
                ByteReader r(view);
                r.skip(8);
                long_data = r.le(8);
            } else if (chunk->id == le_tag("fmt ") && chunk->size <= 4096) {
                Bytes format;
                RUEDO_TRY_DO(reader.read(chunk->at, chunk->size, format));
                if (auto pcm = parse_pcm_format(format))
                    block_ = pcm->container_bytes * static_cast<unsigned>(pcm->channels);
                name_audio(t, format);
                have_format = true;
            } else if (chunk->id == le_tag("data")) {
                data = chunk;
                if (chunk->size == UINT32_MAX && long_data) data->size = long_data;
                // A recorder that was stopped leaves a size of nothing, or of everything.
                if (chunk->size == 0 || (chunk->size >= UINT32_MAX - 255 && !long_data))
                    data->size = all == UINT64_MAX ? UINT64_MAX / 2 : all - chunk->at;
            }
            at = chunk->at + chunk->size + (chunk->size & 1);
        }
        if (!have_format)
            return fail(ErrorCode::malformed, fmt::format("“{}” does not say how its sound is stored.", name),
                        "Export it again.");
        if (!data)
            return fail(ErrorCode::truncated, fmt::format("“{}” ends before its sound.", name), "Copy it again.");
        begin_ = data->at, size_ = data->size;
        if (all != UINT64_MAX && begin_ + size_ > all) {
            size_ = all > begin_ ? all - begin_ : 0;
            info_.findings.push_back(
                {"truncated",
                 fmt::format("“{}” was cut short: {} of {} bytes of its sound are there.", name, size_, data->size),
                 "Copy it again to have the rest."});
        }
        describe_from_config(t);
        t.tick = {1, t.audio.rate};
        if (t.codec != Codec::pcm) {
            block_ = 1;
            t.problem = unknown_codec(t, name);
        } else {
            info_.duration =
                ticks_to_time(static_cast<std::int64_t>(size_ / block_), 1, static_cast<std::uint64_t>(t.audio.rate));
            info_.duration_known = all != UINT64_MAX;
        }
        info_.tracks.push_back(std::move(t));
        return {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t) override {
        return std::make_unique<WavReader>(source_, begin_, info_.tracks[0].problem ? 0 : size_, block_,
                                           static_cast<std::uint64_t>(std::max(1, info_.tracks[0].audio.rate)));
    }

  private:
    std::shared_ptr<ByteSource> source_;
    std::uint64_t begin_ = 0, size_ = 0, block_ = 1;
};

}  // namespace

Result<std::unique_ptr<Clip>> open_wav(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<WavClip>();
    RUEDO_TRY_DO(clip->open(std::move(source)));
    return clip;
}

}  // namespace ruedo::riff
