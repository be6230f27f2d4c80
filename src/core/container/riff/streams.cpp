// SPDX-License-Identifier: Apache-2.0
#include "container/riff/streams.h"

#include <algorithm>
#include <mutex>

namespace ruedo::riff {

Result<std::optional<Chunk>> ChunkWalk::next() {
    while (at + 8 <= end) {
        RUEDO_TRY(auto chunk, read_chunk(reader, at));
        if (!chunk) break;
        if (chunk->id == le_tag("RIFF")) {
            RUEDO_TRY(bool more, goes_on(reader, *chunk));
            if (!more) break;
        }
        bool list = chunk->id == le_tag("LIST") || chunk->id == le_tag("RIFF");
        at = list ? chunk->at + 4 : chunk->after();
        if (!list) return chunk;
    }
    return std::nullopt;
}

Time Stream::time_of(std::size_t i) const {
    if (sample_size && bytes_per_second)
        return lead() + ticks_to_time(static_cast<std::int64_t>(i < entries.size() ? entries[i].before : total()), 1,
                                      bytes_per_second);
    return ticks_to_time(static_cast<std::int64_t>(i + start), scale, rate);
}

bool Stream::takes(std::uint32_t id) const {
    auto high = (id & 0xFF) - '0', low = (id >> 8 & 0xFF) - '0';
    if (high > 9 || low > 9 || high * 10 + low != number) return false;
    auto type = id >> 16;
    return track.kind == Kind::video ? type == ('d' | 'c' << 8) || type == ('d' | 'b' << 8) : type == ('w' | 'b' << 8);
}

void Stream::add(const Chunk& chunk, bool key) {
    if (entries.size() > 50'000'000) return;
    entries.push_back({chunk.at, 0, static_cast<std::uint32_t>(chunk.size), key || always_key()});
}

Status Stream::add_walked(const Chunk& chunk, SourceReader& reader) {
    bool key = entries.empty() || always_key();
    if (!key && chunk.size > 0) {
        RUEDO_TRY(auto head,
                  reader.view(chunk.at, static_cast<std::size_t>(std::min<std::uint64_t>(chunk.size, 4096))));
        key = is_keyframe(track.codec, head);
    }
    auto before = total();
    add(chunk, key);
    entries.back().before = before;
    return {};
}

Result<bool> Stream::more() {
    if (!walk) return false;
    for (;;) {
        auto from = walk->at;
        RUEDO_TRY(auto chunk, walk->next());
        if (!chunk || chunk->at + chunk->size > walk->reader.size_or_max()) return false;
        if (!takes(chunk->id)) continue;
        // What could not be looked at is met again.
        if (auto added = add_walked(*chunk, walk->reader); !added) {
            walk->at = from;
            return std::unexpected(added.error());
        }
        return true;
    }
}

Status Stream::reach(Time t) {
    while (entries.empty() || time_of(entries.size() - 1) <= t) {
        RUEDO_TRY(bool more_came, more());
        if (!more_came) break;
    }
    return {};
}

std::size_t Stream::key_at(Time t) const {
    std::size_t low = 0, high = entries.size();
    while (low < high) {
        auto middle = (low + high) / 2;
        if (time_of(middle) <= t)
            low = middle + 1;
        else
            high = middle;
    }
    auto key = [&](std::size_t i) { return entries[i].key && entries[i].size > 0; };
    auto at = low > 0 ? low - 1 : 0;
    if (entries.empty()) return 0;
    while (at > 0 && !key(at)) --at;
    while (at < entries.size() && !key(at)) ++at;
    return at;
}

namespace {
/// The chunks of one stream as one run of bytes.
class Joined final : public ByteSource {
  public:
    Joined(std::shared_ptr<ByteSource> source, std::shared_ptr<Stream> stream)
        : source_(std::move(source)), stream_(std::move(stream)) {}
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) override {
        std::lock_guard lock(mutex_);
        while (stream_->total() < offset + into.size()) {
            RUEDO_TRY(bool more, stream_->more());
            if (!more) break;
        }
        auto& e = stream_->entries;
        auto it =
            std::upper_bound(e.begin(), e.end(), offset, [](std::uint64_t o, const Entry& x) { return o < x.before; });
        if (it == e.begin()) return 0U;
        std::size_t done = 0;
        for (--it; it != e.end() && done < into.size(); ++it) {
            auto skip = offset + done - it->before;
            if (skip >= it->size) continue;
            auto n = std::min<std::uint64_t>(it->size - skip, into.size() - done);
            RUEDO_TRY(auto got, source_->read_at(it->at + skip, into.subspan(done, static_cast<std::size_t>(n))));
            done += got;
            if (got < n) break;
        }
        return done;
    }
    std::optional<std::uint64_t> size() const override {
        return stream_->walk ? std::nullopt : std::optional(stream_->total());
    }
    bool cheap_to_seek() const override { return source_->cheap_to_seek(); }
    bool forward_only() const override { return source_->forward_only(); }
    const std::string& name() const override { return source_->name(); }

  private:
    std::shared_ptr<ByteSource> source_;
    std::mutex mutex_;
    std::shared_ptr<Stream> stream_;
};

class AviReader final : public TrackReader {
  public:
    AviReader(std::shared_ptr<ByteSource> source, std::shared_ptr<Stream> stream)
        : reader_(std::move(source)), stream_(std::move(stream)) {}
    Result<bool> next(PacketHead& head) override {
        auto& e = stream_->entries;
        // An empty chunk lets the picture before it stand longer.
        for (;; ++at_) {
            if (at_ >= e.size()) {
                RUEDO_TRY(bool more, stream_->more());
                if (!more) return false;
            }
            if (e[at_].size > 0) break;
        }
        auto after = at_ + 1;
        while (after < e.size() && e[after].size == 0) ++after;
        head = {};
        head.pts = stream_->time_of(at_);
        head.duration = stream_->time_of(after) - head.pts;
        head.keyframe = e[at_].key;
        head.size = e[at_].size;
        head.offset = e[at_].at;
        current_ = at_++;
        return true;
    }
    Status read(Bytes& out) override {
        auto& e = stream_->entries[current_];
        RUEDO_TRY_DO(reader_.read(e.at, e.size, out));
        if (stream_->annex_b) {
            Bytes units;
            from_annex_b(out, units);
            out.swap(units);
        }
        return {};
    }
    Status seek(Time t) override {
        RUEDO_TRY_DO(stream_->reach(t));
        at_ = stream_->key_at(t);
        return {};
    }

  private:
    SourceReader reader_;
    std::shared_ptr<Stream> stream_;
    std::size_t at_ = 0, current_ = 0;
};
}  // namespace

std::shared_ptr<elementary::FrameIndex> audio_frames(std::shared_ptr<ByteSource> source,
                                                     std::shared_ptr<Stream> stream) {
    auto begin = stream->frames_begin;
    auto first = *stream->frame;
    auto joined = std::make_shared<Joined>(std::move(source), std::move(stream));
    return std::make_shared<elementary::FrameIndex>(std::move(joined), frame_parser(first.codec), begin, first);
}

std::unique_ptr<TrackReader> chunk_reader(std::shared_ptr<ByteSource> source, std::shared_ptr<Stream> stream) {
    return std::make_unique<AviReader>(std::move(source), std::move(stream));
}

}  // namespace ruedo::riff
