// SPDX-License-Identifier: Apache-2.0
// RIFF: AVI (with the old index and OpenDML's) and WAV (RIFF and RF64, EBU Tech 3306).
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "container/container.h"
#include "container/elementary/frames.h"

namespace ruedo::riff {
namespace {

constexpr std::uint32_t le_tag(const char (&s)[5]) { return std::byteswap(fourcc(s)); }

struct Chunk {
    std::uint64_t at = 0, size = 0;
    std::uint32_t id = 0;
};

Result<std::optional<Chunk>> read_chunk(SourceReader& reader, std::uint64_t at) {
    TRY(auto head, reader.view(at, 8));
    if (head.size() < 8) return std::nullopt;
    ByteReader r(head);
    auto id = static_cast<std::uint32_t>(r.le(4));
    return Chunk{at + 8, r.le(4), id};
}

Error unknown_codec(const Track& t, const std::string& name) {
    return {Code::codec_missing,
            fmt::format("Track {} of “{}” is in a codec that is not known here (“{}”).", t.id, name, t.codec_tag),
            export_again};
}

/// WAVEFORMATEX as a track's codec.
void name_sound(Track& t, ByteView format) {
    ByteReader r(format);
    auto tag = r.le(2);
    t.audio.channels = static_cast<int>(r.le(2));
    t.audio.rate = static_cast<int>(std::min<std::uint64_t>(r.le(4), 768000));
    t.codec_tag = fmt::format("0x{:04x}", tag);
    if (parse_pcm_format(format)) {
        t.codec = Codec::pcm;
        t.config.assign(format.begin(), format.end());
    } else if (tag == 0x55) {
        t.codec = Codec::mp3;
    } else if (tag == 0xFF && format.size() > 18) {
        t.codec = Codec::aac;
        t.config.assign(format.begin() + 18, format.end());
    }
}

// ---- WAV

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
    Outcome read(Bytes& out) override { return reader_.read(at_, count_ * block_, out); }
    Outcome seek(Time t) override {
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
    Outcome open(std::shared_ptr<ByteSource> source) {
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
            TRY(auto chunk, read_chunk(reader, at));
            if (!chunk) break;
            if (chunk->id == le_tag("ds64") && chunk->size >= 24) {
                TRY(auto view, reader.view(chunk->at, 24));
                ByteReader r(view);
                r.skip(8);
                long_data = r.le(8);
            } else if (chunk->id == le_tag("fmt ") && chunk->size <= 4096) {
                Bytes format;
                TRY_DO(reader.read(chunk->at, chunk->size, format));
                if (auto pcm = parse_pcm_format(format))
                    block_ = pcm->container_bytes * static_cast<unsigned>(pcm->channels);
                name_sound(t, format);
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
            return fail(Code::malformed, fmt::format("“{}” does not say how its sound is stored.", name),
                        "Export it again.");
        if (!data) return fail(Code::truncated, fmt::format("“{}” ends before its sound.", name), "Copy it again.");
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

// ---- AVI

struct Entry {
    std::uint64_t at = 0;      ///< Of the chunk's data.
    std::uint64_t before = 0;  ///< Bytes of the stream before it.
    std::uint32_t size = 0;
    bool key = false;
};

struct Stream {
    Track track;
    std::uint64_t scale = 1, rate = 1, start = 0, sample_size = 0, bytes_per_second = 0;
    Bytes super_index;
    std::vector<Entry> entries;
    bool annex_b = false;
    std::shared_ptr<elementary::FrameIndex> frames;  ///< MP3: frames do not keep to chunks.

    /// Presentation time of entry `i`: its place in the stream, or its bytes where samples have a fixed size.
    Time time_of(std::size_t i) const {
        if (sample_size && bytes_per_second)
            return ticks_to_time(static_cast<std::int64_t>(i < entries.size() ? entries[i].before : total()), 1,
                                 bytes_per_second);
        return ticks_to_time(static_cast<std::int64_t>(i + start), scale, rate);
    }
    std::uint64_t total() const { return entries.empty() ? 0 : entries.back().before + entries.back().size; }
};

/// The chunks of one stream as one run of bytes.
class Joined final : public ByteSource {
  public:
    Joined(std::shared_ptr<ByteSource> source, std::shared_ptr<const Stream> stream)
        : source_(std::move(source)), stream_(std::move(stream)) {}
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) override {
        auto& e = stream_->entries;
        auto it =
            std::upper_bound(e.begin(), e.end(), offset, [](std::uint64_t o, const Entry& x) { return o < x.before; });
        if (it == e.begin()) return 0U;
        std::size_t done = 0;
        for (--it; it != e.end() && done < into.size(); ++it) {
            auto skip = offset + done - it->before;
            if (skip >= it->size) continue;
            auto n = std::min<std::uint64_t>(it->size - skip, into.size() - done);
            TRY(auto got, source_->read_at(it->at + skip, into.subspan(done, static_cast<std::size_t>(n))));
            done += got;
            if (got < n) break;
        }
        return done;
    }
    std::optional<std::uint64_t> size() const override { return stream_->total(); }
    const std::string& name() const override { return source_->name(); }

  private:
    std::shared_ptr<ByteSource> source_;
    std::shared_ptr<const Stream> stream_;
};

class AviReader final : public TrackReader {
  public:
    AviReader(std::shared_ptr<ByteSource> source, std::shared_ptr<const Stream> stream)
        : reader_(std::move(source)), stream_(std::move(stream)) {}
    Result<bool> next(PacketHead& head) override {
        auto& e = stream_->entries;
        // An empty chunk lets the picture before it stand longer.
        while (at_ < e.size() && e[at_].size == 0) ++at_;
        if (at_ >= e.size()) return false;
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
    Outcome read(Bytes& out) override {
        auto& e = stream_->entries[current_];
        TRY_DO(reader_.read(e.at, e.size, out));
        if (stream_->annex_b) {
            Bytes units;
            from_annex_b(out, units);
            out.swap(units);
        }
        return {};
    }
    Outcome seek(Time t) override {
        auto& e = stream_->entries;
        std::size_t low = 0, high = e.size();
        while (low < high) {
            auto middle = (low + high) / 2;
            if (stream_->time_of(middle) <= t)
                low = middle + 1;
            else
                high = middle;
        }
        at_ = low > 0 ? low - 1 : 0;
        while (at_ > 0 && !(e[at_].key && e[at_].size)) --at_;
        while (at_ < e.size() && !(e[at_].key && e[at_].size)) ++at_;
        return {};
    }

  private:
    SourceReader reader_;
    std::shared_ptr<const Stream> stream_;
    std::size_t at_ = 0, current_ = 0;
};

class AviClip final : public Clip {
  public:
    explicit AviClip(std::shared_ptr<ByteSource> source) : source_(std::move(source)), reader_(source_) {}

    Outcome open() {
        info_.container = "avi";
        auto& name = source_->name();
        auto size = reader_.size_or_max();
        std::uint64_t movi = 0;
        std::optional<Chunk> index;
        std::vector<std::pair<std::uint64_t, std::uint64_t>> bodies;  // of every movi list
        bool cut = false;
        for (std::uint64_t at = 0; at < size && bodies.size() < 4096;) {
            TRY(auto riff, read_chunk(reader_, at));
            if (!riff || riff->id != le_tag("RIFF")) break;
            auto end = riff->at + riff->size;
            if (end > size) cut = size != UINT64_MAX, end = size;
            for (auto inner = riff->at + 4; inner + 8 <= end;) {
                TRY(auto chunk, read_chunk(reader_, inner));
                if (!chunk) break;
                if (chunk->id == le_tag("LIST")) {
                    TRY(auto view, reader_.view(chunk->at, 4));
                    auto type = ByteReader(view).le(4);
                    if (type == le_tag("hdrl") && streams_.empty()) {
                        if (chunk->size > (16 << 20))
                            return fail(Code::limit,
                                        fmt::format("The header of “{}” claims {} MB.", name, chunk->size >> 20),
                                        "Export it again.");
                        Bytes header;
                        if (!reader_.read(chunk->at + 4, chunk->size - std::min<std::uint64_t>(4, chunk->size), header))
                            return fail(Code::truncated, fmt::format("“{}” ends within its header.", name),
                                        "Copy it again.");
                        read_header(header);
                    } else if (type == le_tag("movi")) {
                        if (!movi) movi = chunk->at;
                        bodies.emplace_back(chunk->at + 4, std::min(chunk->at + chunk->size, size));
                    }
                } else if (chunk->id == le_tag("idx1") && !index) {
                    index = chunk;
                }
                inner = chunk->at + chunk->size + (chunk->size & 1);
            }
            at = riff->at + riff->size + (riff->size & 1);
        }
        if (streams_.empty())
            return fail(Code::malformed, fmt::format("“{}” does not describe a single stream.", name),
                        "Export it again.");
        if (bodies.empty())
            return fail(Code::truncated, fmt::format("“{}” ends before its first picture or sound.", name),
                        "Copy it again.");
        for (auto& s : streams_) TRY_DO(read_open_index(*s));
        bool indexed = std::any_of(streams_.begin(), streams_.end(), [](auto& s) { return !s->entries.empty(); });
        if (!indexed && index) {
            TRY_DO(read_old_index(*index, movi));
            indexed = std::any_of(streams_.begin(), streams_.end(), [](auto& s) { return !s->entries.empty(); });
        }
        if (!indexed) {
            for (auto& [from, to] : bodies) TRY_DO(walk(from, to, 0));
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
        for (auto& s : streams_) TRY_DO(settle(s));
        if (info_.tracks.empty())
            return fail(Code::truncated, fmt::format("“{}” ends before its first picture or sound.", name),
                        "Copy it again.");
        if (lost || cut)
            info_.findings.push_back(
                {"truncated",
                 fmt::format("“{}” was cut short; the first {} of it play.", name, format_time(info_.duration)),
                 "Copy it again to have the rest."});
        return {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        auto& s = streams_[by_id_.at(id)];
        if (s->frames) return elementary::frame_reader(s->frames, {}, false);
        return std::make_unique<AviReader>(source_, s);
    }

  private:
    /// `hdrl`: a `strl` list for each stream.
    void read_header(ByteView data) {
        ByteReader r(data);
        while (r.left() >= 8 && streams_.size() < 64) {
            auto id = r.le(4), size = r.le(4);
            auto body = r.take(std::min<std::uint64_t>(size, r.left()));
            if (size & 1) r.skip(std::min<std::size_t>(1, r.left()));
            if (id == le_tag("LIST") && ByteReader(body).le(4) == le_tag("strl")) read_stream(body.subspan(4));
        }
    }
    void read_stream(ByteView data) {
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
                b.skip(12);
                s->sample_size = b.le(4);
            } else if (id == le_tag("strf") && t.kind == Kind::video) {
                b.skip(4);
                t.video.width = static_cast<int>(std::min<std::uint64_t>(b.le(4), 32768));
                t.video.height = std::min(std::abs(static_cast<int>(static_cast<std::int32_t>(b.le(4)))), 32768);
                b.skip(4);
                auto tag = b.take(4);
                t.codec_tag.assign(tag.begin(), tag.end());
                name_video(*s);
            } else if (id == le_tag("strf") && t.kind == Kind::audio) {
                name_sound(t, body);
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
        t.id = streams_.size();
        t.is_default = true;
        streams_.push_back(std::move(s));
    }
    static void name_video(Stream& s) {
        auto tag = s.track.codec_tag;
        std::transform(tag.begin(), tag.end(), tag.begin(),
                       [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
        static const std::map<std::string, Codec, std::less<>> names{
            {"MJPG", Codec::mjpeg}, {"H264", Codec::h264}, {"AVC1", Codec::h264}, {"X264", Codec::h264},
            {"VP80", Codec::vp8},   {"VP90", Codec::vp9},  {"AV01", Codec::av1},  {"HEVC", Codec::hevc}};
        if (auto it = names.find(tag); it != names.end()) s.track.codec = it->second;
    }

    void add(std::uint32_t id, std::uint64_t at, std::uint64_t size, bool key) {
        auto high = (id & 0xFF) - '0', low = (id >> 8 & 0xFF) - '0';
        if (high > 9 || low > 9 || high * 10 + low >= streams_.size()) return;
        auto type = id >> 16;
        auto& s = *streams_[high * 10 + low];
        bool fits = s.track.kind == Kind::video ? type == ('d' | 'c' << 8) || type == ('d' | 'b' << 8)
                                                : type == ('w' | 'b' << 8);
        if (!fits || s.entries.size() > 50'000'000) return;
        s.entries.push_back({at, 0, static_cast<std::uint32_t>(size),
                             key || s.track.kind == Kind::audio || s.track.codec == Codec::mjpeg});
    }

    /// OpenDML (AVI extensions 1.02): an index of indexes, or the index itself, in the stream's header.
    Outcome read_open_index(Stream& s) {
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
            s.entries.push_back(
                {base + offset, 0, static_cast<std::uint32_t>(size & 0x7FFFFFFF),
                 !(size & 0x80000000U) || s.track.kind == Kind::audio || s.track.codec == Codec::mjpeg});
        }
    }
    Outcome read_old_index(const Chunk& index, std::uint64_t movi) {
        std::optional<std::uint64_t> base;
        for (std::uint64_t at = 0; at + 16 <= index.size; at += 16 * 4096) {
            TRY(auto view,
                reader_.view(index.at + at,
                             static_cast<std::size_t>(std::min<std::uint64_t>(16 * 4096, index.size - at) / 16 * 16)));
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
                        TRY(auto chunk, read_chunk(reader_, from + offset));
                        if (chunk && chunk->id == id) {
                            base = from;
                            break;
                        }
                    }
                }
                add(id, *base + offset + 8, size, flags & 0x10);
            }
            if (part.size() < 16) break;
        }
        return {};
    }
    Outcome walk(std::uint64_t at, std::uint64_t end, int depth) {
        while (at + 8 <= end) {
            TRY(auto chunk, read_chunk(reader_, at));
            if (!chunk) break;
            if (chunk->id == le_tag("LIST") && depth < 3) {
                at = chunk->at + 4;  // what is inside follows as if it stood here
                continue;
            }
            add(chunk->id, chunk->at, chunk->size, false);
            at = chunk->at + chunk->size + (chunk->size & 1);
        }
        // Without an index nothing says which pictures are whole; the first is, and where a codec tells, others.
        for (auto& s : streams_)
            if (!s->entries.empty()) s->entries[0].key = true;
        return {};
    }

    Outcome settle(const std::shared_ptr<Stream>& s) {
        auto& t = s->track;
        auto& name = source_->name();
        if (t.kind == Kind::other || s->entries.empty()) return {};
        t.tick = Rational{static_cast<std::int64_t>(s->scale), static_cast<std::int64_t>(s->rate)}.reduced();
        if (t.codec == Codec::pcm && s->bytes_per_second) s->sample_size = 1;
        Bytes first;
        auto shown = std::find_if(s->entries.begin(), s->entries.end(), [](auto& e) { return e.size > 0; });
        if (shown != s->entries.end() && shown->size < (64 << 20)) (void)reader_.read(shown->at, shown->size, first);
        if (t.codec == Codec::h264 || t.codec == Codec::hevc) {
            s->annex_b = true;
            t.config = t.codec == Codec::h264 ? make_avcc(first) : make_hvcc(first);
        }
        if (t.codec == Codec::unknown)
            t.problem = unknown_codec(t, name);
        else if (t.codec != Codec::mp3)
            describe_from_config(t);
        Time end = s->time_of(s->entries.size());
        if (t.codec == Codec::mp3) {
            std::size_t at = 0;
            std::optional<SoundFrame> frame;
            for (; at + 4 <= first.size() && !frame; ++at) frame = parse_mp3_frame(ByteView(first).subspan(at));
            if (frame) {
                t.audio = {frame->rate, frame->channels};
                describe_from_config(t);
                s->frames = std::make_shared<elementary::FrameIndex>(std::make_shared<Joined>(source_, s),
                                                                     &parse_mp3_frame, at - 1, *frame);
            } else {
                t.problem =
                    Error{Code::malformed,
                          fmt::format("Track {} of “{}” is called MP3, but no frame of it can be found.", t.id, name),
                          "Export it again."};
            }
        }
        t.start = s->time_of(0);
        info_.duration = std::max(info_.duration, end);
        info_.duration_known = true;
        by_id_[t.id] = static_cast<std::size_t>(std::find(streams_.begin(), streams_.end(), s) - streams_.begin());
        info_.tracks.push_back(t);
        return {};
    }

    std::shared_ptr<ByteSource> source_;
    SourceReader reader_;
    std::vector<std::shared_ptr<Stream>> streams_;
    std::map<std::uint64_t, std::size_t> by_id_;
};

}  // namespace

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    Bytes head(12);
    TRY(auto got, source->read_at(0, head));
    if (got == 12 && std::memcmp(head.data() + 8, "AVI ", 4) == 0) {
        auto clip = std::make_unique<AviClip>(std::move(source));
        TRY_DO(clip->open());
        return clip;
    }
    auto clip = std::make_unique<WavClip>();
    TRY_DO(clip->open(std::move(source)));
    return clip;
}

}  // namespace ruedo::riff
