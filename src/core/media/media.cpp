// SPDX-License-Identifier: Apache-2.0
#include "media/media.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <mutex>

namespace ruedo {

std::string_view kind_name(Kind kind) {
    static constexpr std::array<std::string_view, 4> names{"video", "audio", "text", "other"};
    return names.at(static_cast<std::size_t>(kind));
}
namespace {
/// In the order of `Codec`: the name in documents, the name in sentences.
constexpr std::array<std::pair<std::string_view, std::string_view>, 24> codecs{{{"h264", "H.264"},
                                                                                {"vp8", "VP8"},
                                                                                {"vp9", "VP9"},
                                                                                {"av1", "AV1"},
                                                                                {"hevc", "HEVC"},
                                                                                {"theora", "Theora"},
                                                                                {"mjpeg", "Motion JPEG"},
                                                                                {"png", "PNG pictures"},
                                                                                {"mpeg1", "MPEG-1 video"},
                                                                                {"mpeg2", "MPEG-2 video"},
                                                                                {"mpeg4", "MPEG-4 Visual"},
                                                                                {"aac", "AAC"},
                                                                                {"opus", "Opus"},
                                                                                {"vorbis", "Vorbis"},
                                                                                {"mp3", "MP3"},
                                                                                {"mp2", "MPEG layer II"},
                                                                                {"ac3", "AC-3"},
                                                                                {"flac", "FLAC"},
                                                                                {"pcm", "PCM"},
                                                                                {"webvtt", "WebVTT"},
                                                                                {"subrip", "SubRip"},
                                                                                {"tx3g", "timed text"},
                                                                                {"raw", "plain pictures"},
                                                                                {"unknown", "an unknown codec"}}};
}  // namespace
std::string_view codec_name(Codec codec) { return codecs.at(static_cast<std::size_t>(codec)).first; }
Codec codec_from_name(std::string_view name) {
    auto it = std::find_if(codecs.begin(), codecs.end(), [&](auto& c) { return c.first == name; });
    return it == codecs.end() ? Codec::unknown : static_cast<Codec>(it - codecs.begin());
}
std::string_view codec_title(Codec codec) { return codecs.at(static_cast<std::size_t>(codec)).second; }

Colour::Matrix Colour::matrix_from_code(unsigned code) {
    switch (code) {
        case 0:
            return Matrix::identity;
        case 1:
            return Matrix::bt709;
        case 4:
        case 5:
        case 6:
            return Matrix::bt601;
        case 9:
        case 10:
            return Matrix::bt2020;
        default:
            return Matrix::unspecified;
    }
}
unsigned Colour::matrix_code() const {
    switch (matrix) {
        case Matrix::identity:
            return 0;
        case Matrix::bt709:
            return 1;
        case Matrix::bt601:
            return 6;
        case Matrix::bt2020:
            return 9;
        case Matrix::unspecified:
            break;
    }
    return 2;
}
Colour Colour::or_else(const Colour& fallback) const {
    Colour c = *this;
    if (c.matrix == Matrix::unspecified) c.matrix = fallback.matrix;
    if (c.range == Range::unspecified) c.range = fallback.range;
    if (c.primaries == 2) c.primaries = fallback.primaries;
    if (c.transfer == 2) c.transfer = fallback.transfer;
    return c;
}
std::optional<Colour> Colour::always(Codec codec) {
    switch (codec) {
        case Codec::vp8:
        case Codec::theora:
            return Colour{Matrix::bt601, Range::limited, 2, 2};
        case Codec::mjpeg:
        case Codec::png:
            return Colour{Matrix::bt601, Range::full, 2, 2};
        default:
            return std::nullopt;
    }
}
Colour Colour::made_for(Codec codec) const {
    auto made = *this;
    if (auto known = always(codec)) made.matrix = known->matrix, made.range = known->range;
    return made;
}
Colour Colour::tagged() const {
    auto made = *this;
    // ISO/IEC 23091-2 clauses 8.1 and 8.2: those of BT.709, of SMPTE 170M (which BT.601 became), of BT.2020.
    constexpr std::uint8_t unstated = 2;
    auto usual = [&](std::uint8_t bt601, std::uint8_t bt709, std::uint8_t bt2020) {
        switch (matrix) {
            case Matrix::bt601:
                return bt601;
            case Matrix::bt709:
                return bt709;
            case Matrix::bt2020:
                return bt2020;
            default:
                return unstated;
        }
    };
    if (made.primaries == unstated) made.primaries = usual(6, 1, 9);
    if (made.transfer == unstated) made.transfer = usual(6, 1, 14);
    return made;
}
Colour Colour::resolved(int height) const {
    auto colour = *this;
    // Red, green and blue themselves come with all of their samples alone (clause 8.3): with a quarter of them, as
    // here, so the tag is wrong.
    if (matrix == Matrix::identity) colour.matrix = Matrix::unspecified;
    return colour.or_else({height >= 720 ? Matrix::bt709 : Matrix::bt601, Range::limited, primaries, transfer});
}

namespace {
int shaped_width(const VideoFormat& f) {
    if (!f.pixel_aspect.stated()) return f.width;
    auto wide =
        (static_cast<std::int64_t>(f.width) * f.pixel_aspect.num * 2 + f.pixel_aspect.den) / (f.pixel_aspect.den * 2);
    return static_cast<int>(std::clamp<std::int64_t>(wide, 1, 32768));
}
}  // namespace
Error frame_too_large(std::int64_t width, std::int64_t height) {
    return {ErrorCode::limit,
            fmt::format("Its frames are {} × {} pixels; more than {} × {} are not decoded.", width, height,
                        most_frame_side, most_frame_side),
            "If that is what it says and not what it is, export the clip again."};
}
int VideoFormat::display_width() const { return rotation % 180 == 0 ? shaped_width(*this) : height; }
int VideoFormat::display_height() const { return rotation % 180 == 0 ? height : shaped_width(*this); }

/// Whether a frame of this size has something inside `c`.
static bool leaves_something(const Crop& c, int width, int height) {
    return c.left >= 0 && c.top >= 0 && c.right >= 0 && c.bottom >= 0 && std::int64_t{c.left} + c.right < width &&
           std::int64_t{c.top} + c.bottom < height;
}

void VideoFormat::set_coded_size(int coded_width, int coded_height) {
    if (!leaves_something(crop, coded_width, coded_height)) crop = {};
    width = coded_width - crop.left - crop.right, height = coded_height - crop.top - crop.bottom;
}

Frame cropped(Frame picture, const Crop& edges) {
    if (!leaves_something(edges, picture.width, picture.height)) return picture;
    for (std::size_t i = 0; i < 3; ++i) {
        int part = i == 0 ? 1 : 2;
        picture.plane[i] += std::ptrdiff_t{edges.top / part} * picture.stride[i] + edges.left / part;
    }
    picture.width -= edges.left + edges.right, picture.height -= edges.top + edges.bottom;
    return picture;
}

const Track* ClipInfo::find(std::uint64_t id) const {
    auto it = std::find_if(tracks.begin(), tracks.end(), [&](auto& t) { return t.id == id; });
    return it == tracks.end() ? nullptr : &*it;
}
const Track* ClipInfo::main(Kind kind) const {
    const Track* first = nullptr;
    for (auto& track : tracks) {
        if (track.kind != kind || track.problem) continue;
        if (track.is_default) return &track;
        if (!first) first = &track;
    }
    return first;
}

namespace {
// H.264 and HEVC may hold back at most 16 pictures; after that many later ones nothing earlier can follow.
constexpr int reorder_limit = 16;
/// Whether pictures that follow a keyframe may be shown before it.
bool leads(Codec codec) {
    return codec == Codec::h264 || codec == Codec::hevc || codec == Codec::mpeg1 || codec == Codec::mpeg2 ||
           codec == Codec::mpeg4;
}
bool presented(const Track& track, Time pts) { return pts >= track.start && pts < track.end; }
}  // namespace

Result<Time> frame_time_at(TrackReader& reader, const Track& track, Time t) {
    t = std::max(t, track.start);
    std::optional<Time> best, first, key;
    // A keyframe before the edit's start may be the only one at or before t, so the search begins there.
    RUEDO_TRY_DO(reader.seek(t));
    PacketHead head;
    for (int later = 0; later < reorder_limit;) {
        RUEDO_TRY(bool more, reader.next(head));
        if (!more) break;
        if (!presented(track, head.pts)) continue;
        if (!first || head.pts < *first) first = head.pts;
        if (head.pts <= t) {
            if (!best || head.pts > *best) best = head.pts;
        } else {
            ++later;
            // Behind a keyframe may come pictures that are shown before it, but then no others between. Codecs without
            // any are not looked at further, which over a network would have to be waited for.
            if (key && head.pts > *key) break;
            if (head.keyframe && best && !leads(track.codec)) break;
            if (head.keyframe && best && !key) key = head.pts;
        }
    }
    if (best) return *best;
    if (first) return *first;
    return fail(ErrorCode::truncated, "No picture can be read at that place.", "The file may be cut short.");
}

Result<FrameTimes> frame_times(TrackReader& reader, const Track& track) {
    constexpr std::size_t most = 4'000'000;
    FrameTimes times;
    PacketHead head;
    for (;;) {
        RUEDO_TRY(bool more, reader.next(head));
        if (!more) break;
        if (!presented(track, head.pts)) continue;
        if (times.all.size() == most)
            return fail(ErrorCode::limit, "It has more pictures than are counted here.",
                        "Use times instead of numbers.");
        times.all.push_back(head.pts);
        if (head.keyframe) times.keyframes.push_back(head.pts);
    }
    for (auto* list : {&times.all, &times.keyframes}) std::sort(list->begin(), list->end());
    return times;
}
std::size_t FrameTimes::number_at(Time t) const {
    auto after = std::upper_bound(all.begin(), all.end(), t);
    return after == all.begin() ? 0 : static_cast<std::size_t>(after - all.begin()) - 1;
}

std::string_view ClipTags::image_type(ByteView image) {
    if (image.size() > 3 && image[0] == 0xFF && image[1] == 0xD8 && image[2] == 0xFF) return "image/jpeg";
    static constexpr std::array<std::uint8_t, 8> png{0x89, 'P', 'N', 'G', 0x0D, 0x0A, 0x1A, 0x0A};
    return image.size() > 8 && std::equal(png.begin(), png.end(), image.begin()) ? "image/png" : "";
}
void ClipTags::take_cover(ByteView image) {
    if (cover.empty() && image.size() <= most_cover && !image_type(image).empty())
        cover.assign(image.begin(), image.end());
}
std::string tidy_title(std::string_view text) {
    std::string out;
    for (char c : text.substr(0, text.find('\0')))
        if (static_cast<unsigned char>(c) >= 0x20 && c != 0x7F)
            out += c;
        else if (!out.empty() && out.back() != ' ')
            out += ' ';
    // Not cut within a letter.
    if (out.size() > 1000) {
        std::size_t n = 1000;
        while (n > 0 && (out[n] & 0xC0) == 0x80) --n;
        out.resize(n);
    }
    return out;
}

void TrackEnd::see(const PacketHead& head) {
    end_ = std::max(end_, head.pts + head.duration - head.trim_end);
    if (head.pts > last_)
        before_ = last_, last_ = head.pts, duration_ = head.duration;
    else
        before_ = std::max(before_, head.pts);
}
bool edited_off(const Track& track, const PacketHead& first) {
    if (track.kind != Kind::audio) return first.pts.ns < 0;
    return first.pts < Time{} - track.preroll - std::max(first.duration * 4, 100_ms);
}

std::optional<Time> TrackEnd::of(const Track& track) const {
    if (last_.ns == INT64_MIN) return std::nullopt;
    auto end = end_;
    if (duration_.ns == 0 && before_.ns != INT64_MIN && last_ - before_ < 10_s)
        end = std::max(end, last_ + (last_ - before_));
    return std::min(end, track.end);
}

Result<Time> keyframe_time_near(TrackReader& reader, const Track& track, Time t) {
    RUEDO_TRY_DO(reader.seek(t));
    PacketHead head;
    std::optional<Time> before;
    for (;;) {
        auto more = reader.next(head);
        // Where what follows can't be had in time, the one before is near enough.
        if (!more && !(before && more.error().code == ErrorCode::timeout)) return std::unexpected(more.error());
        if (!more || !*more) break;
        if (!head.keyframe) continue;
        if (head.pts > t) {
            if (before && (t - *before) <= (head.pts - t)) break;
            return std::min(head.pts, track.end);
        }
        before = head.pts;
    }
    return std::max(before.value_or(track.start), track.start);
}

namespace {
/// Decoders hand out pictures of one size over and over; a few buffers are kept between them.
class FramePool {
  public:
    std::shared_ptr<std::uint8_t> take(std::size_t size) {
        std::uint8_t* memory = nullptr;
        {
            std::lock_guard lock(mutex_);
            // The last one that was given back is the likeliest to be in a cache still.
            auto it = std::find_if(free_.rbegin(), free_.rend(), [&](auto& b) { return b.second == size; });
            if (it != free_.rend()) {
                memory = it->first;
                free_.erase(std::next(it).base());
            }
        }
        // What comes from the system is zero already, so that large pieces are not written to here.
        if (!memory) memory = static_cast<std::uint8_t*>(std::calloc(1, size + 64));
        if (!memory) throw std::bad_alloc();
        void* aligned = memory;
        std::size_t room = size + 64;
        std::align(64, size, aligned, room);
        return {static_cast<std::uint8_t*>(aligned), [this, memory, size](auto*) { give_back(memory, size); }};
    }
    void give_back(std::uint8_t* memory, std::size_t size) {
        std::lock_guard lock(mutex_);
        free_.emplace_back(memory, size);
        // The oldest goes first, so buffers of a size no longer used do not stay.
        if (free_.size() > 8) std::free(free_.front().first), free_.erase(free_.begin());
    }
    static FramePool& instance() {
        static auto* pool = new FramePool;  // outlives every picture, also those in static objects
        return *pool;
    }

  private:
    std::mutex mutex_;
    std::vector<std::pair<std::uint8_t*, std::size_t>> free_;
};
}  // namespace

std::shared_ptr<std::uint8_t> frame_memory(std::size_t size) { return FramePool::instance().take(size); }

Frame make_frame(int width, int height, std::array<std::uint8_t*, 3>& planes) {
    Frame p;
    p.width = width;
    p.height = height;
    auto align = [](int n) { return (n + 63) / 64 * 64; };
    int chroma_height = (height + 1) / 2;
    p.stride = {align(width), align((width + 1) / 2), align((width + 1) / 2)};
    auto luma = static_cast<std::size_t>(p.stride[0]) * static_cast<std::size_t>(height);
    auto chroma = static_cast<std::size_t>(p.stride[1]) * static_cast<std::size_t>(chroma_height);
    auto memory = frame_memory(luma + 2 * chroma + 64);
    planes = {memory.get(), memory.get() + luma, memory.get() + luma + chroma};
    p.plane = {planes[0], planes[1], planes[2]};
    p.owner = std::move(memory);
    return p;
}

Frame copy_frame(int width, int height, std::array<const std::uint8_t*, 3> planes, std::array<int, 3> strides) {
    std::array<std::uint8_t*, 3> to{};
    auto p = make_frame(width, height, to);
    for (std::size_t i = 0; i < 3; ++i) {
        int rows = i == 0 ? height : (height + 1) / 2, wide = i == 0 ? width : (width + 1) / 2;
        for (std::ptrdiff_t y = 0; y < rows; ++y)
            std::memcpy(to[i] + y * p.stride[i], planes[i] + y * strides[i], static_cast<std::size_t>(wide));
    }
    return p;
}

}  // namespace ruedo
