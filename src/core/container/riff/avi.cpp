// SPDX-License-Identifier: Apache-2.0
// AVI, with the old index and OpenDML’s (AVI extensions 1.02), or by walking its chunks where neither is available.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "container/riff/streams.h"
#include "media/mpeg_video.h"
#include "media/picture_order.h"

namespace ruedo::riff {
namespace {

class AviClip final : public Clip {
  public:
    explicit AviClip(std::shared_ptr<ByteSource> source) : source_(std::move(source)), reader_(source_) {}

    Status open() {
        info_.container = "avi";
        auto& name = source_->name();
        auto size = reader_.size_or_max();
        std::uint64_t movi = 0;
        std::optional<Chunk> index;
        std::vector<std::pair<std::uint64_t, std::uint64_t>> bodies;  // of every movi list
        bool cut = false;
        for (std::uint64_t at = 0; at < size && bodies.size() < 4096;) {
            RUEDO_TRY(auto riff, read_chunk(reader_, at));
            if (!riff || riff->id != le_tag("RIFF")) break;
            if (at > 0) {
                RUEDO_TRY(bool more, goes_on(reader_, *riff));
                if (!more) break;
            }
            auto end = riff->at + riff->size;
            if (end > size) cut = size != UINT64_MAX, end = size;
            for (auto inner = riff->at + 4; inner + 8 <= end;) {
                RUEDO_TRY(auto chunk, read_chunk(reader_, inner));
                if (!chunk) break;
                if (chunk->id == le_tag("LIST")) {
                    RUEDO_TRY(auto view, reader_.view(chunk->at, 4));
                    auto type = ByteReader(view).le(4);
                    if (type == le_tag("hdrl") && streams_.empty()) {
                        if (chunk->size > (16 << 20))
                            return fail(ErrorCode::limit,
                                        fmt::format("The header of “{}” claims {} MB.", name, chunk->size >> 20),
                                        "Export it again.");
                        Bytes header;
                        if (!reader_.read(chunk->at + 4, chunk->size - std::min<std::uint64_t>(4, chunk->size), header))
                            return fail(ErrorCode::truncated, fmt::format("“{}” ends within its header.", name),
                                        "Copy it again.");
                        read_header(header);
                    } else if (type == le_tag("movi")) {
                        if (source_->forward_only()) return open_arriving(chunk->at + 4);
                        if (!movi) movi = chunk->at;
                        bodies.emplace_back(chunk->at + 4, std::min(chunk->at + chunk->size, size));
                    }
                } else if (chunk->id == le_tag("idx1") && !index) {
                    index = chunk;
                }
                inner = chunk->after();
            }
            at = riff->after();
        }
        if (streams_.empty()) return no_streams();
        if (bodies.empty()) return ends_early();
        for (auto& s : streams_) RUEDO_TRY_DO(read_open_index(*s));
        bool indexed = std::any_of(streams_.begin(), streams_.end(), [](auto& s) { return !s->entries.empty(); });
        if (!indexed && index) {
            RUEDO_TRY_DO(read_old_index(*index, movi));
            indexed = std::any_of(streams_.begin(), streams_.end(), [](auto& s) { return !s->entries.empty(); });
        }
        if (!indexed) {
            for (auto& [from, to] : bodies) RUEDO_TRY_DO(walk_all(from, to));
            info_.findings.push_back({"no-index",
                                      fmt::format("“{}” has no index; its chunks were walked to make one.", name),
                                      "Put it into MP4 or Matroska so that it seeks quickly everywhere."});
        }
        std::uint64_t lost = 0;
        for (auto& s : streams_) {
            lost +=
                static_cast<std::uint64_t>(std::erase_if(s->entries, [&](auto& e) { return e.at + e.size > size; }));
            std::uint64_t before = 0;
            for (auto& e : s->entries) e.before = std::exchange(before, before + e.size);
        }
        for (auto& s : streams_) {
            settle(*s);
            if (s->frame) frames_[s->number] = audio_frames(source_, s);
        }
        if (info_.tracks.empty()) return ends_early();
        if (lost || cut)
            info_.findings.push_back(
                {"truncated",
                 fmt::format("“{}” was cut short; the first {} of it play.", name, format_time(info_.duration)),
                 "Copy it again to have the rest."});
        return {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        auto s = streams_[static_cast<std::size_t>(id)];
        if (arriving_) s = walking(*s, UINT64_MAX);
        if (PictureOrder::reorders(s->track)) return ordered_reader(source_, s);
        if (!s->frame) return chunk_reader(source_, s);
        auto frames = arriving_ ? audio_frames(source_, s) : frames_.at(static_cast<std::size_t>(id));
        return elementary::frame_reader(frames, -s->lead(), false);
    }

  private:
    /// Bytes that come in order only: whatever index there is lies behind all that it tells of, so chunks are taken
    /// as they come, and each reader walks for itself.
    Status open_arriving(std::uint64_t body) {
        if (streams_.empty()) return no_streams();
        arriving_ = body;
        constexpr std::uint64_t reach = 8 << 20;  // where the first of each stream must be
        for (auto& s : streams_) {
            if (s->track.kind == Kind::other) continue;
            auto own = walking(*s, body + reach);
            do {
                RUEDO_TRY(bool more, own->more());
                if (!more) break;
            } while (own->entries.back().size == 0);
            s->entries = std::move(own->entries);
            settle(*s);
        }
        if (info_.tracks.empty()) return ends_early();
        return {};
    }
    std::shared_ptr<Stream> walking(const Described& s, std::uint64_t reach) const {
        auto own = std::make_shared<Stream>();
        static_cast<Described&>(*own) = s;
        own->walk = std::make_unique<ChunkWalk>(SourceReader(source_), *arriving_, reach);
        return own;
    }
    std::unexpected<Error> no_streams() const {
        return fail(ErrorCode::malformed, fmt::format("“{}” does not describe a single stream.", source_->name()),
                    "Export it again.");
    }
    std::unexpected<Error> ends_early() const {
        return fail(ErrorCode::truncated, fmt::format("“{}” ends before its first picture or sound.", source_->name()),
                    "Copy it again.");
    }
    /// `hdrl`: a `strl` list for each stream.
    void read_header(ByteView data) {
        ByteReader r(data);
        while (r.left() >= 8 && streams_.size() < 64) {
            auto id = r.le(4), size = r.le(4);
            auto body = r.take(std::min<std::uint64_t>(size, r.left()));
            if (size & 1) r.skip(std::min<std::size_t>(1, r.left()));
            if (id == le_tag("LIST") && ByteReader(body).le(4) == le_tag("strl")) describe_stream(body.subspan(4));
        }
    }
    void describe_stream(ByteView data) {
        auto s = std::make_shared<Stream>();
        auto& t = s->track;
        ByteReader r(data);
        while (r.left() >= 8) {
            auto id = r.le(4), size = r.le(4);
            auto body = r.take(std::min<std::uint64_t>(size, r.left()));
            if (size & 1) r.skip(std::min<std::size_t>(1, r.left()));
            ByteReader b(body);
            if (id == le_tag("strh")) {
                auto type = b.le(4);
                t.kind = type == le_tag("vids") ? Kind::video : type == le_tag("auds") ? Kind::audio : Kind::other;
                b.skip(16);
                s->scale = std::max<std::uint64_t>(1, b.le(4));
                s->rate = std::max<std::uint64_t>(1, b.le(4));
                s->start = b.le(4);
                s->length = b.le(4);
                b.skip(8);
                s->sample_size = b.le(4);
            } else if (id == le_tag("strf") && t.kind == Kind::video) {
                b.skip(4);
                t.video.width = static_cast<int>(std::min<std::uint64_t>(b.le(4), 32768));
                auto rows = std::int64_t{static_cast<std::int32_t>(b.le(4))};  // from the top where negative
                t.video.height = static_cast<int>(std::min<std::int64_t>(std::abs(rows), 32768));
                b.skip(4);
                auto tag = b.take(4);
                t.codec_tag.assign(tag.begin(), tag.end());
                t.codec = codec_of_fourcc(t.codec_tag);
                b.skip(20);
                auto config = b.rest();
                if (t.codec == Codec::mpeg4) t.config.assign(config.begin(), config.end());
            } else if (id == le_tag("strf") && t.kind == Kind::audio) {
                name_audio(t, body);
                b.skip(8);
                s->bytes_per_second = b.le(4);
            } else if (id == le_tag("indx")) {
                s->super_index.assign(body.begin(), body.end());
            } else if (id == le_tag("vprp") && body.size() >= 24) {
                b.skip(20);
                auto down = static_cast<std::int64_t>(b.le(2)), across = static_cast<std::int64_t>(b.le(2));
                if (down && across && t.video.width && t.video.height) {
                    auto aspect = Rational{across * t.video.height, down * t.video.width}.reduced();
                    if (aspect.num != aspect.den) t.video.pixel_aspect = aspect;
                }
            }
        }
        t.id = s->number = streams_.size();
        t.is_default = true;
        streams_.push_back(std::move(s));
    }
    /// OpenDML (AVI extensions 1.02): an index of indexes, or the index itself, in the stream's header.
    Status read_open_index(Stream& s) {
        if (s.super_index.size() < 24) return {};
        ByteReader r(s.super_index);
        r.skip(3);
        auto type = r.u8();
        auto count = r.le(4);
        r.skip(4 + 12);
        if (type == 1) {
            read_open_entries(s, s.super_index);
            return {};
        }
        for (std::uint64_t i = 0; i < count && r.left() >= 16 && i < 65536; ++i) {
            auto at = r.le(8), size = r.le(4);
            r.skip(4);
            if (size < 32 || size > (64 << 20)) continue;
            Bytes part;
            if (!reader_.read(at + 8, size - 8, part)) continue;
            read_open_entries(s, part);
        }
        return {};
    }
    static void read_open_entries(Stream& s, ByteView data) {
        ByteReader r(data);
        auto longs = r.le(2);
        r.skip(1);
        auto type = r.u8();
        auto count = r.le(4);
        r.skip(4);
        auto base = r.le(8);
        r.skip(4);
        if (type != 1 || longs < 2 || longs > 8) return;
        for (std::uint64_t i = 0; i < count && r.left() >= longs * 4; ++i) {
            auto offset = r.le(4), size = r.le(4);
            r.skip((longs - 2) * 4);
            s.entries.push_back({base + offset, 0, static_cast<std::uint32_t>(size & 0x7FFFFFFF),
                                 !(size & 0x80000000U) || s.always_key()});
        }
    }
    Status read_old_index(const Chunk& index, std::uint64_t movi) {
        std::optional<std::uint64_t> base;
        for (std::uint64_t at = 0; at + 16 <= index.size; at += 16 * 4096) {
            RUEDO_TRY(auto view,
                      reader_.view(index.at + at, static_cast<std::size_t>(
                                                      std::min<std::uint64_t>(16 * 4096, index.size - at) / 16 * 16)));
            Bytes part(view.begin(), view.end());
            ByteReader r(part);
            while (r.left() >= 16) {
                auto id = static_cast<std::uint32_t>(r.le(4));
                auto flags = r.le(4);
                auto offset = r.le(4), size = r.le(4);
                if (!base) {
                    // Offsets count from the list's type, or from the start of the file; the first entry tells.
                    base = 0;
                    for (auto from : {movi, std::uint64_t{0}}) {
                        RUEDO_TRY(auto chunk, read_chunk(reader_, from + offset));
                        if (chunk && chunk->id == id) {
                            base = from;
                            break;
                        }
                    }
                }
                for (auto& s : streams_)
                    if (s->takes(id)) s->add({*base + offset + 8, size, id}, flags & 0x10);
            }
            if (part.size() < 16) break;
        }
        return {};
    }
    Status walk_all(std::uint64_t from, std::uint64_t to) {
        ChunkWalk walk{SourceReader(source_), from, to};
        for (;;) {
            RUEDO_TRY(auto chunk, walk.next());
            if (!chunk) return {};
            for (auto& s : streams_)
                if (s->takes(chunk->id)) RUEDO_TRY_DO(s->add_walked(*chunk, walk.reader));
        }
    }
    /// From the header and the first chunk: the track.
    void settle(Stream& s) {
        auto& t = s.track;
        auto& name = source_->name();
        if (t.kind == Kind::other || s.entries.empty()) return;
        t.tick = Rational{static_cast<std::int64_t>(s.scale), static_cast<std::int64_t>(s.rate)}.reduced();
        if (t.codec == Codec::pcm && s.bytes_per_second) s.sample_size = 1;
        Bytes first;
        auto shown = std::find_if(s.entries.begin(), s.entries.end(), [](auto& e) { return e.size > 0; });
        if (shown != s.entries.end() && shown->size < (64 << 20)) (void)reader_.read(shown->at, shown->size, first);
        if (t.codec == Codec::h264 || t.codec == Codec::hevc) {
            s.annex_b = true;
            t.config = t.codec == Codec::h264 ? make_avcc(first) : make_hvcc(first);
        }
        if (t.codec == Codec::mpeg4)
            if (auto config = mpeg4_config_bytes(first); !config.empty()) t.config = std::move(config);
        if (t.codec == Codec::mpeg1 || t.codec == Codec::mpeg2) t.config = mpeg_sequence_bytes(first);
        bool framed = t.codec == Codec::mp3 || t.codec == Codec::mp2 || t.codec == Codec::ac3;
        if (framed) {
            auto parse = frame_parser(t.codec);
            for (std::size_t at = 0; at + 7 <= first.size() && !s.frame; ++at)
                s.frame = parse(ByteView(first).subspan(at)), s.frames_begin = at;
            if (s.frame)
                t.codec = s.frame->codec, t.audio = {s.frame->rate, s.frame->channels};
            else
                t.problem = Error{ErrorCode::malformed,
                                  fmt::format("Track {} of “{}” is called {}, but no frame of it can be found.", t.id,
                                              name, codec_title(t.codec)),
                                  "Export it again."};
        }
        if (t.codec == Codec::unknown)
            t.problem = unknown_codec(t, name);
        else if (!framed || s.frame)
            describe_from_config(t);
        t.start = s.time_of(0);
        Time end = s.time_of(s.entries.size());
        // Where the chunks are still to come, the header says how many.
        if (arriving_)
            end = s.length ? ticks_to_time(static_cast<std::int64_t>(s.start + s.length), s.scale, s.rate) : Time{};
        info_.duration = std::max(info_.duration, end);
        info_.duration_known = info_.duration.ns > 0;
        info_.tracks.push_back(t);
    }

    std::shared_ptr<ByteSource> source_;
    SourceReader reader_;
    std::vector<std::shared_ptr<Stream>> streams_;
    std::map<std::size_t, std::shared_ptr<elementary::FrameIndex>> frames_;
    std::optional<std::uint64_t> arriving_;  ///< Where the chunks begin that are taken as they come.
};

}  // namespace

Result<std::unique_ptr<Clip>> open_avi(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<AviClip>(std::move(source));
    RUEDO_TRY_DO(clip->open());
    return clip;
}

}  // namespace ruedo::riff
