// SPDX-License-Identifier: Apache-2.0
// What a moov says (ISO/IEC 14496-12 clause 8.2 to 8.7, 14496-14, 14496-15, QuickTime’s sound descriptions).
#include <algorithm>

#include "container/isobmff/entries.h"
#include "container/isobmff/iso_clip.h"
#include "media/codec_headers.h"

namespace ruedo::isobmff {
namespace {

std::string tag_text(std::uint32_t tag) {
    std::string s;
    for (int i = 3; i >= 0; --i) {
        char c = static_cast<char>(tag >> (8 * i));
        s += c >= 32 && c < 127 ? c : '?';
    }
    return s;
}

/// ISO 639-2/T packed in 15 bits (8.4.2.3), as BCP 47: the two-letter code where there is one.
std::string language_from(unsigned packed) {
    if (packed < 0x400 || packed == 0x7FFF) return {};
    std::string code{static_cast<char>((packed >> 10 & 31) + 0x60), static_cast<char>((packed >> 5 & 31) + 0x60),
                     static_cast<char>((packed & 31) + 0x60)};
    if (code.find_first_not_of("abcdefghijklmnopqrstuvwxyz") != std::string::npos) return {};
    return bcp47_from_iso639(code);
}

/// Plain samples as QuickTime names them (QTFF, “Sound sample descriptions”); version 2 has a format of its own.
std::optional<PcmFormat> quicktime_pcm(std::uint32_t type, const Bytes& entry, unsigned version) {
    ByteReader r(entry);
    r.skip(16);
    PcmFormat f;
    f.channels = r.u16();
    f.bits = r.u16();
    r.skip(4);
    f.rate = static_cast<int>(r.u32() >> 16);
    f.big_endian = true;
    switch (type) {
        case fourcc("sowt"):
            f.big_endian = false;
            break;
        case fourcc("twos"):
            break;
        case fourcc("raw "):
            f.bits = 8;
            break;
        case fourcc("in24"):
            f.bits = 24;
            break;
        case fourcc("in32"):
            f.bits = 32;
            break;
        case fourcc("fl32"):
        case fourcc("fl64"):
            f.is_float = true;
            f.bits = type == fourcc("fl32") ? 32 : 64;
            break;
        case fourcc("lpcm"): {
            if (version != 2) return std::nullopt;
            r.skip(4);
            f.rate = static_cast<int>(std::clamp(std::bit_cast<double>(r.u64()), 0.0, 768000.0));
            f.channels = static_cast<int>(std::min<std::uint32_t>(r.u32(), 255));
            r.skip(4);
            f.bits = std::min<std::uint32_t>(r.u32(), 64);
            auto flags = r.u32();
            f.is_float = flags & 1, f.big_endian = flags & 2;
            break;
        }
        default:
            return std::nullopt;
    }
    f.container_bytes = (f.bits + 7) / 8;
    if (f.channels < 1 || f.rate < 1 || f.container_bytes < 1 || f.container_bytes > 8) return std::nullopt;
    // Eight bits are signed by name “twos” and “sowt”, which a WAVEFORMATEX has no word for.
    if (f.bits == 8 && type != fourcc("raw ")) return std::nullopt;
    return f;
}

}  // namespace

Status IsoClip::read_moov(const Box& moov) {
    if (moov.stated_end > file_end_)
        return fail(ErrorCode::truncated,
                    fmt::format("“{}” was cut short inside its index (the moov box).", source_->name()),
                    "Copy it again.");
    return children(
        moov, moov.body,
        [&](const Box& box) -> Status {
            if (box.type == fourcc("mvhd")) {
                RUEDO_TRY(auto data, body(box, 256));
                ByteReader r(data);
                auto version = r.u32() >> 24;
                auto created = static_cast<std::int64_t>(r.be(version == 1 ? 8 : 4));
                r.skip(version == 1 ? 8 : 4);
                // Nought is nothing said; what lies before 1970 or beyond 2200 is a slip.
                if (created > epoch_1904 && created < epoch_1904 + 7'258'000'000)
                    info_.tags.created = created - epoch_1904;
                movie_timescale_ = std::max<std::uint32_t>(1, r.u32());
                movie_duration_ = version == 1 ? r.u64() : r.u32();
            } else if (box.type == fourcc("trak")) {
                if (drafts_.size() >= track_limit)
                    return fail(ErrorCode::limit,
                                fmt::format("“{}” states more than {} tracks.", source_->name(), track_limit),
                                "The file is damaged.");
                Draft draft;
                RUEDO_TRY_DO(read_trak(box, draft, 1));
                drafts_.push_back(std::move(draft));
            } else if (box.type == fourcc("udta")) {
                return read_tags(box);
            } else if (box.type == fourcc("mvex")) {
                fragmented_ = true;
                return children(
                    box, box.body,
                    [&](const Box& inner) -> Status {
                        RUEDO_TRY(auto data, body(inner, 64));
                        ByteReader r(data);
                        auto version = r.u32() >> 24;
                        if (inner.type == fourcc("mehd")) fragment_duration_ = version == 1 ? r.u64() : r.u32();
                        if (inner.type == fourcc("trex")) {
                            auto id = r.u32();
                            r.skip(4);
                            auto& d = defaults_[id];
                            d.duration = r.u32(), d.size = r.u32(), d.flags = r.u32();
                        }
                        return {};
                    },
                    1);
            }
            return {};
        },
        0);
}

/// The title and the cover, where they stand in a list of items. What can't be followed here is passed over.
Status IsoClip::read_tags(const Box& udta) {
    auto inside = [&](const Box& parent, std::uint64_t from, std::uint32_t type) -> std::optional<Box> {
        std::optional<Box> found;
        (void)children(
            parent, from,
            [&](const Box& b) -> Status {
                if (b.type == type && !found) found = b;
                return {};
            },
            1);
        return found;
    };
    auto meta = inside(udta, udta.body, fourcc("meta"));
    auto list = meta ? inside(*meta, meta->body + 4, fourcc("ilst")) : std::nullopt;
    /// Behind its type and its language.
    auto item = [&](std::uint32_t type, std::size_t most) -> Result<Bytes> {
        auto named = list ? inside(*list, list->body, type) : std::nullopt;
        auto data = named ? inside(*named, named->body, fourcc("data")) : std::nullopt;
        if (!data || data->size() > most) return Bytes{};
        RUEDO_TRY(auto bytes, body(*data, most));
        bytes.erase(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(8, bytes.size())));
        return bytes;
    };
    RUEDO_TRY(auto title, item(fourcc("\xA9nam"), 4096));
    if (!title.empty()) info_.tags.title = tidy_title({reinterpret_cast<const char*>(title.data()), title.size()});
    RUEDO_TRY(auto cover, item(fourcc("covr"), ClipTags::most_cover + 8));
    info_.tags.take_cover(cover);
    return {};
}

Status IsoClip::read_trak(const Box& parent, Draft& draft, int depth) {
    return children(
        parent, parent.body,
        [&](const Box& box) -> Status {
            switch (box.type) {
                case fourcc("mdia"):
                case fourcc("minf"):
                case fourcc("stbl"):
                case fourcc("edts"):
                    return read_trak(box, draft, depth + 1);
                case fourcc("tkhd"): {
                    RUEDO_TRY(auto data, body(box, 256));
                    ByteReader r(data);
                    auto word = r.u32();
                    draft.enabled = word & 1;
                    r.skip(word >> 24 == 1 ? 16 : 8);
                    draft.track.id = draft.plan.id = r.u32();
                    r.skip(4 + (word >> 24 == 1 ? 8U : 4U) + 8 + 2 + 2 + 2 + 2);
                    // The upper left of the matrix (8.3.2.3) says how the picture is turned.
                    auto a = r.i32(), b = r.i32();
                    r.skip(4);
                    auto c = r.i32(), d = r.i32();
                    constexpr std::int32_t one = 0x10000;
                    if (a == 0 && b == one && c == -one && d == 0) draft.track.video.rotation = 90;
                    if (a == -one && b == 0 && c == 0 && d == -one) draft.track.video.rotation = 180;
                    if (a == 0 && b == -one && c == one && d == 0) draft.track.video.rotation = 270;
                    return {};
                }
                case fourcc("tref"):
                    return children(
                        box, box.body,
                        [&](const Box& b) -> Status {
                            if (b.type != fourcc("chap")) return {};
                            RUEDO_TRY(auto data, body(b, 1024));
                            for (ByteReader r(data); r.left() >= 4;) chapters_.insert(r.u32());
                            return {};
                        },
                        depth + 1);
                case fourcc("mdhd"): {
                    RUEDO_TRY(auto data, body(box, 64));
                    ByteReader r(data);
                    auto version = r.u32() >> 24;
                    r.skip(version == 1 ? 16 : 8);
                    draft.plan.timescale = std::max<std::uint32_t>(1, r.u32());
                    draft.media_duration = version == 1 ? r.u64() : r.u32();
                    if (draft.media_duration == (version == 1 ? UINT64_MAX : UINT32_MAX)) draft.media_duration = 0;
                    draft.track.language = language_from(r.u16());
                    return {};
                }
                case fourcc("elng"): {
                    // The whole tag counts before the three letters of the media header (8.4.6), which come before it.
                    RUEDO_TRY(auto data, body(box, 64));
                    std::string tag(
                        data.begin() + std::min<std::ptrdiff_t>(4, static_cast<std::ptrdiff_t>(data.size())),
                        data.end());
                    tag = tag.substr(0, tag.find('\0'));
                    bool plain = !tag.empty() && std::all_of(tag.begin(), tag.end(), [](unsigned char c) {
                        return std::isalnum(c) || c == '-';
                    });
                    if (plain) draft.track.language = tag;
                    return {};
                }
                case fourcc("hdlr"): {
                    RUEDO_TRY(auto data, body(box, 64));
                    ByteReader r(data);
                    r.skip(8);
                    auto type = r.u32();
                    if (draft.track.kind != Kind::other) return {};  // QuickTime has a second handler for the data
                    draft.track.kind = type == fourcc("vide")   ? Kind::video
                                       : type == fourcc("soun") ? Kind::audio
                                       : type == fourcc("text") || type == fourcc("sbtl") || type == fourcc("subt")
                                           ? Kind::text
                                           : Kind::other;
                    return {};
                }
                case fourcc("elst"): {
                    RUEDO_TRY(auto data, body(box));
                    ByteReader r(data);
                    auto version = r.u32() >> 24;
                    auto count = r.u32();
                    for (std::uint32_t i = 0; i < count && r.left() > 0; ++i) {
                        Edit e;
                        e.duration = version == 1 ? r.u64() : r.u32();
                        e.media_time = version == 1 ? static_cast<std::int64_t>(r.u64()) : r.i32();
                        r.skip(4);
                        if (r.overrun()) break;
                        draft.edits.push_back(e);
                    }
                    return {};
                }
                case fourcc("stsd"):
                    return read_sample_entry(box, draft);
                default:
                    return read_table(box, draft);
            }
        },
        depth);
}

Status IsoClip::read_table(const Box& box, Draft& draft) {
    static constexpr std::array<std::uint32_t, 8> tables{fourcc("stts"), fourcc("ctts"), fourcc("stsz"),
                                                         fourcc("stz2"), fourcc("stsc"), fourcc("stco"),
                                                         fourcc("co64"), fourcc("stss")};
    if (std::find(tables.begin(), tables.end(), box.type) == tables.end()) return {};
    RUEDO_TRY(auto head, body(box, 12));
    ByteReader r(head);
    auto version = r.u32() >> 24;
    auto& t = draft.plan.tables;
    // A count may lie; a table never reaches past its box.
    auto table = [&](std::uint64_t skip, std::uint64_t count, unsigned entry) {
        auto room = box.size() > skip ? (box.size() - skip) / entry : 0;
        return Table(source_, box.body + skip, std::min(count, room), entry);
    };
    if (box.type == fourcc("stsz")) {
        t.constant_size = r.u32();
        t.samples = r.u32();
        if (t.constant_size)
            t.samples = std::min(t.samples, source_->size().value_or(UINT64_MAX) / t.constant_size);
        else
            t.stsz = table(12, t.samples, 4), t.samples = t.stsz.count();
    } else if (box.type == fourcc("stz2")) {
        t.compact_bits = r.u32() & 0xFF;
        std::uint64_t count = r.u32();
        if (t.compact_bits != 4 && t.compact_bits != 8 && t.compact_bits != 16)
            return fail(ErrorCode::malformed,
                        fmt::format("“{}” has sample sizes of {} bits.", source_->name(), t.compact_bits),
                        "Export the clip again.");
        t.compact_sizes = true;
        auto bytes = (count * t.compact_bits + 7) / 8;
        t.stsz = table(12, bytes, 1);
        t.samples = std::min(count, t.stsz.count() * 8 / t.compact_bits);
    } else {
        std::uint64_t count = r.u32();
        if (box.type == fourcc("stts")) t.stts = table(8, count, 8);
        if (box.type == fourcc("ctts")) t.ctts = table(8, count, 8), t.signed_ctts = version > 0;
        if (box.type == fourcc("stsc")) t.stsc = table(8, count, 12);
        if (box.type == fourcc("stco")) t.chunks = table(8, count, 4);
        if (box.type == fourcc("co64")) t.chunks = table(8, count, 8), t.long_offsets = true;
        if (box.type == fourcc("stss")) t.stss = table(8, count, 4), t.has_stss = true;
    }
    return {};
}

Status IsoClip::read_sample_entry(const Box& stsd, Draft& draft) {
    RUEDO_TRY(auto entry, read_box(reader_, stsd.body + 8, stsd.end));
    if (!entry) return {};
    auto& track = draft.track;
    track.codec_tag = tag_text(entry->type);
    auto type = entry->type;
    if (type == fourcc("encv") || type == fourcc("enca")) draft.encrypted_as = track.codec_tag;
    if (track.kind == Kind::video) RUEDO_TRY_DO(read_video_entry(*entry, draft));
    if (track.kind == Kind::audio) RUEDO_TRY_DO(read_audio_entry(*entry, draft));
    switch (type) {
        case fourcc("avc1"):
        case fourcc("avc3"):
            track.codec = Codec::h264;
            break;
        case fourcc("vp08"):
            track.codec = Codec::vp8;
            break;
        case fourcc("vp09"):
            track.codec = Codec::vp9;
            break;
        case fourcc("av01"):
            track.codec = Codec::av1;
            break;
        case fourcc("hvc1"):
        case fourcc("hev1"):
            track.codec = Codec::hevc;
            break;
        case fourcc("jpeg"):
        case fourcc("mjpa"):
            track.codec = Codec::mjpeg;
            break;
        case fourcc("Opus"):
            track.codec = Codec::opus;
            break;
        case fourcc("fLaC"):
            track.codec = Codec::flac;
            break;
        case fourcc(".mp3"):
            track.codec = Codec::mp3;
            break;
        case fourcc("ac-3"):
            track.codec = Codec::ac3;
            break;
        case fourcc("wvtt"):
            track.codec = Codec::webvtt;
            break;
        case fourcc("tx3g"):
            track.codec = Codec::tx3g;
            break;
        default:
            if (track.kind == Kind::video && track.codec == Codec::unknown)
                track.codec = codec_of_fourcc(track.codec_tag);
            break;
    }
    return {};
}

/// The clean aperture (ISO/IEC 14496-12 clause 12.1.4), to the nearest pixel; nothing where it is no part of the frame.
static void read_clean_aperture(ByteView data, VideoFormat& f) {
    ByteReader r(data);
    auto fraction = [&] {
        auto n = r.i32();
        auto d = r.u32();
        return d ? static_cast<double>(n) / d : 0.0;
    };
    double width = fraction(), height = fraction(), x = fraction(), y = fraction();
    auto edges = [](int coded, double clean, double offset, int& before, int& after) {
        auto kept = std::lround(clean), first = std::lround((coded - clean) / 2 + offset);
        if (kept < 1 || first < 0 || first + kept > coded) return false;
        before = static_cast<int>(first), after = static_cast<int>(coded - first - kept);
        return true;
    };
    Crop c;
    if (r.overrun() || !edges(f.width, width, x, c.left, c.right) || !edges(f.height, height, y, c.top, c.bottom))
        return;
    f.crop = c;
    f.set_coded_size(f.width, f.height);
}

Status IsoClip::read_video_entry(const Box& entry, Draft& draft) {
    auto& track = draft.track;
    RUEDO_TRY(auto data, body(entry, 78));
    ByteReader r(data);
    r.skip(24);
    track.video.width = r.u16();
    track.video.height = r.u16();
    return children(
        entry, entry.body + 78,
        [&](const Box& box) -> Status {
            RUEDO_TRY(auto inner, body(box));
            ByteReader b(inner);
            if (box.type == fourcc("esds") && inner.size() > 4) {
                // ISO/IEC 14496-1 table 5.
                unsigned type = 0;
                track.config = asc_from_esds(ByteView(inner).subspan(4), type);
                if (type == 0x20) track.codec = Codec::mpeg4;
                if (type >= 0x60 && type <= 0x65) track.codec = Codec::mpeg2;
                if (type == 0x6A) track.codec = Codec::mpeg1;
                if (type == 0x6C) track.codec = Codec::mjpeg;
            }
            if (box.type == fourcc("avcC") || box.type == fourcc("av1C") || box.type == fourcc("hvcC"))
                track.config = inner;
            if (box.type == fourcc("vpcC"))
                b.skip(4), track.config.assign(
                               inner.begin() + std::min<std::ptrdiff_t>(4, static_cast<std::ptrdiff_t>(inner.size())),
                               inner.end());
            if (box.type == fourcc("pasp")) {
                auto w = b.u32(), h = b.u32();
                if (w && h) track.video.pixel_aspect = Rational{w, h}.reduced();
            }
            if (box.type == fourcc("clap")) {
                RUEDO_TRY(auto clean, body(box, 32));
                read_clean_aperture(clean, track.video);
            }
            if (box.type == fourcc("colr")) {
                auto kind = b.u32();
                if (kind == fourcc("nclx") || kind == fourcc("nclc")) {
                    auto& c = track.video.colour;
                    c.primaries = static_cast<std::uint8_t>(b.u16());
                    c.transfer = static_cast<std::uint8_t>(b.u16());
                    c.matrix = Colour::matrix_from_code(b.u16());
                    if (kind == fourcc("nclx")) c.range = b.u8() & 0x80 ? Colour::Range::full : Colour::Range::limited;
                }
            }
            return {};
        },
        4);
}

Status IsoClip::read_audio_entry(const Box& entry, Draft& draft) {
    auto& track = draft.track;
    RUEDO_TRY(auto data, body(entry, 64));
    ByteReader r(data);
    r.skip(8);
    auto version = r.u16();
    r.skip(6);
    track.audio.channels = r.u16();
    r.skip(6);
    track.audio.rate = static_cast<int>(r.u32() >> 16);
    auto pcm = quicktime_pcm(entry.type, data, version);
    // QuickTime's sound descriptions of version 1 and 2 are longer.
    std::uint64_t from = entry.body + 28 + (version == 1 ? 16U : version == 2 ? 36U : 0U);
    auto visit = [&](auto&& self, const Box& box, int depth) -> Status {
        if (box.type == fourcc("wave"))
            return children(box, box.body, [&](const Box& b) { return self(self, b, depth + 1); }, depth + 1);
        RUEDO_TRY(auto inner, body(box));
        if (box.type == fourcc("enda") && pcm && inner.size() >= 2) pcm->big_endian = inner[1] == 0;
        if (box.type == fourcc("esds") && inner.size() > 4) {
            unsigned indication = 0;
            track.config = asc_from_esds(ByteView(inner).subspan(4), indication);
            if (indication == 0x40 || (indication >= 0x66 && indication <= 0x68)) track.codec = Codec::aac;
            if (indication == 0x69 || indication == 0x6B) track.codec = Codec::mp3;
            if (indication == 0xDD) track.codec = Codec::vorbis;
            if (indication == 0xA5) track.codec = Codec::ac3;
        }
        if (box.type == fourcc("dac3") && inner.size() >= 3) {
            // ETSI TS 102 366 annex F.4; as a frame's head says it.
            track.audio.channels = ac3_channels(inner[1] >> 3 & 7U, inner[1] & 4);
        }
        if (box.type == fourcc("dfLa") && inner.size() > 4) {
            track.config = {'f', 'L', 'a', 'C'};
            track.config.insert(track.config.end(), inner.begin() + 4, inner.end());
        }
        if (box.type == fourcc("dOps") && inner.size() >= 11) {
            // As an OpusHead (RFC 7845): the same fields, little-endian.
            ByteReader b(inner);
            b.skip(1);
            ByteWriter head;
            head.text("OpusHead").u8(1).u8(b.u8()).le(b.u16(), 2).le(b.u32(), 4).le(b.u16(), 2).raw(b.rest());
            track.config = head.bytes;
        }
        return {};
    };
    RUEDO_TRY_DO(children(entry, from, [&](const Box& b) { return visit(visit, b, 4); }, 4));
    if (!pcm) return {};
    track.codec = Codec::pcm;
    track.audio = {pcm->rate, pcm->channels};
    track.config = make_pcm_config(*pcm);
    // A sample is all channels of one instant, however its tables put it.
    draft.plan.pcm_frame = pcm->container_bytes * static_cast<unsigned>(pcm->channels);
    return {};
}

}  // namespace ruedo::isobmff
