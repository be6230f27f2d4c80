// SPDX-License-Identifier: Apache-2.0
// Opening ISO base media files (ISO/IEC 14496-12) and QuickTime movies: what the moov says, and how to walk it.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "container/container.h"
#include "container/isobmff/boxes.h"
#include "media/codec_headers.h"

namespace ruedo::isobmff {
namespace {

constexpr int depth_limit = 16;
constexpr std::size_t track_limit = 64;

struct Edit {
    std::uint64_t duration = 0;
    std::int64_t media_time = 0;
};

/// A track while its boxes are read.
struct Draft {
    Track track;
    TrackPlan plan;
    std::uint64_t media_duration = 0;
    std::vector<Edit> edits;
    bool too_many_edits = false, seen_tables = false, enabled = true;
    std::string encrypted_as;
};

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

class IsoClip final : public Clip {
  public:
    explicit IsoClip(std::shared_ptr<ByteSource> source) : source_(std::move(source)), reader_(source_) {}
    Outcome open();
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        auto& plan = plans_.at(id);
        if (fragments_) return make_fragment_reader(source_, plan, fragments_);
        return make_table_reader(source_, plan);
    }

  private:
    template <class F>
    Outcome children(const Box& parent, std::uint64_t from, F&& visit, int depth) {
        if (depth > depth_limit)
            return fail(Code::limit, fmt::format("“{}” nests boxes more than {} deep.", source_->name(), depth_limit),
                        "The file is damaged; export it again.");
        for (auto at = from; at < parent.end;) {
            TRY(auto box, read_box(reader_, at, parent.end));
            if (!box) break;
            TRY_DO(visit(*box));
            at = box->end;
        }
        return {};
    }
    Result<Bytes> body(const Box& box, std::uint64_t limit = 1 << 20) {
        Bytes out;
        TRY_DO(reader_.read(box.body, std::min(box.size(), limit), out));
        return out;
    }
    Outcome read_moov(const Box& moov);
    Outcome read_trak(const Box& box, Draft& draft, int depth);
    Outcome read_table(const Box& box, Draft& draft);
    Outcome read_sample_entry(const Box& stsd, Draft& draft);
    Outcome read_video_entry(const Box& entry, Draft& draft);
    Outcome read_audio_entry(const Box& entry, Draft& draft);
    Outcome read_sidx(const Box& box);
    Outcome read_mfra();
    Outcome finish();
    void apply_edits(Draft& draft);
    Outcome settle_fragments();
    Outcome find_truncation();

    std::shared_ptr<ByteSource> source_;
    SourceReader reader_;
    std::vector<Draft> drafts_;
    std::map<std::uint64_t, TrackPlan> plans_;
    std::shared_ptr<FragmentIndex> fragments_;
    std::map<std::uint64_t, TrackDefaults> defaults_;
    std::uint32_t movie_timescale_ = 1000;
    std::uint64_t movie_duration_ = 0, fragment_duration_ = 0, file_end_ = 0;
    std::uint64_t sidx_at_ = 0, moov_end_ = 0;
    bool fragmented_ = false, cut_short_ = false;
    Time sidx_duration_{};
};

Outcome IsoClip::open() {
    auto size = source_->size().value_or(UINT64_MAX);
    file_end_ = size;
    info_.container = "mp4";
    std::optional<Box> moov;
    std::uint64_t at = 0, first_moof = 0, first_mdat = UINT64_MAX;
    std::optional<std::uint64_t> broken_at;
    bool first = true, has_mdat = false;
    while (at < size) {
        TRY(auto box, read_box(reader_, at, size));
        if (!box) {
            if (first)
                return fail(Code::malformed,
                            fmt::format("“{}” begins with a box whose size is impossible.", source_->name()),
                            "The file is damaged; copy it again.");
            if (size - at >= 8)
                broken_at = at;
            else
                cut_short_ = true;
            break;
        }
        first = false;
        if (box->stated_end > size && box->stated_end != UINT64_MAX) cut_short_ = true;
        if (box->type == fourcc("ftyp")) {
            TRY(auto brand, body(*box, 64));
            if (brand.size() >= 4 && be32(brand.data()) == fourcc("qt  ")) info_.container = "mov";
        } else if (box->type == fourcc("moov") && !moov) {
            moov = box;
            moov_end_ = box->end;
            TRY_DO(read_moov(*box));
        } else if (box->type == fourcc("mdat")) {
            if (!has_mdat) first_mdat = box->start;
            has_mdat = true;
        } else if (box->type == fourcc("sidx") && !sidx_at_ && moov) {
            sidx_at_ = box->start;
            TRY_DO(read_sidx(*box));
        } else if (box->type == fourcc("moof")) {
            first_moof = box->start;
            if (moov) break;  // the rest is walked when it is needed
        }
        if (moov && !fragmented_) {
            // Only what follows the moov could still tell of a cut; the mdat before it has been seen.
            if (has_mdat) {
                if (moov->start > first_mdat)
                    info_.findings.push_back(
                        {"index-at-end",
                         fmt::format("The index of “{}” begins at byte {} of {}, after the pictures and sound; over a "
                                     "network playing starts late.",
                                     source_->name(), moov->start, size == UINT64_MAX ? moov->end : size),
                         "Rewrap it with the index in front."});
                break;
            }
        }
        at = box->end;
    }
    if (!moov) {
        if (broken_at)
            return fail(Code::malformed,
                        fmt::format("“{}” has a box of impossible size at byte {}, before its index.", source_->name(),
                                    *broken_at),
                        "Export the clip again.");
        if (cut_short_ || has_mdat)
            return fail(
                Code::truncated,
                fmt::format("“{}” was cut short before its index (the moov box), so nothing in it can be found.",
                            source_->name()),
                "Copy it again; an export with the index in front survives such cuts.");
        return fail(Code::malformed, fmt::format("“{}” has no index (moov box).", source_->name()),
                    "Export the clip again.");
    }
    if (fragmented_) {
        fragments_ = std::make_shared<FragmentIndex>(source_, first_moof ? first_moof : moov_end_);
        if (!sidx_at_ && !source_->forward_only()) TRY_DO(read_mfra());
    }
    return finish();
}

Outcome IsoClip::read_moov(const Box& moov) {
    if (moov.stated_end > file_end_)
        return fail(Code::truncated,
                    fmt::format("“{}” was cut short inside its index (the moov box).", source_->name()),
                    "Copy it again.");
    return children(
        moov, moov.body,
        [&](const Box& box) -> Outcome {
            if (box.type == fourcc("mvhd")) {
                TRY(auto data, body(box, 256));
                ByteReader r(data);
                auto version = r.u32() >> 24;
                r.skip(version == 1 ? 16 : 8);
                movie_timescale_ = std::max<std::uint32_t>(1, r.u32());
                movie_duration_ = version == 1 ? r.u64() : r.u32();
            } else if (box.type == fourcc("trak")) {
                if (drafts_.size() >= track_limit)
                    return fail(Code::limit,
                                fmt::format("“{}” states more than {} tracks.", source_->name(), track_limit),
                                "The file is damaged.");
                Draft draft;
                TRY_DO(read_trak(box, draft, 1));
                drafts_.push_back(std::move(draft));
            } else if (box.type == fourcc("mvex")) {
                fragmented_ = true;
                return children(
                    box, box.body,
                    [&](const Box& inner) -> Outcome {
                        TRY(auto data, body(inner, 64));
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

Outcome IsoClip::read_trak(const Box& parent, Draft& draft, int depth) {
    return children(
        parent, parent.body,
        [&](const Box& box) -> Outcome {
            switch (box.type) {
                case fourcc("mdia"):
                case fourcc("minf"):
                case fourcc("stbl"):
                case fourcc("edts"):
                    return read_trak(box, draft, depth + 1);
                case fourcc("tkhd"): {
                    TRY(auto data, body(box, 256));
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
                case fourcc("mdhd"): {
                    TRY(auto data, body(box, 64));
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
                    TRY(auto data, body(box, 64));
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
                    TRY(auto data, body(box, 64));
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
                    TRY(auto data, body(box));
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

Outcome IsoClip::read_table(const Box& box, Draft& draft) {
    static constexpr std::array<std::uint32_t, 8> tables{fourcc("stts"), fourcc("ctts"), fourcc("stsz"),
                                                         fourcc("stz2"), fourcc("stsc"), fourcc("stco"),
                                                         fourcc("co64"), fourcc("stss")};
    if (std::find(tables.begin(), tables.end(), box.type) == tables.end()) return {};
    TRY(auto head, body(box, 12));
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
        draft.seen_tables = true;
    } else if (box.type == fourcc("stz2")) {
        t.compact_bits = r.u32() & 0xFF;
        std::uint64_t count = r.u32();
        if (t.compact_bits != 4 && t.compact_bits != 8 && t.compact_bits != 16)
            return fail(Code::malformed,
                        fmt::format("“{}” has sample sizes of {} bits.", source_->name(), t.compact_bits),
                        "Export the clip again.");
        t.compact_sizes = true;
        auto bytes = (count * t.compact_bits + 7) / 8;
        t.stsz = table(12, bytes, 1);
        t.samples = std::min(count, t.stsz.count() * 8 / t.compact_bits);
        draft.seen_tables = true;
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

Outcome IsoClip::read_sample_entry(const Box& stsd, Draft& draft) {
    TRY(auto entry, read_box(reader_, stsd.body + 8, stsd.end));
    if (!entry) return {};
    auto& track = draft.track;
    track.codec_tag = tag_text(entry->type);
    auto type = entry->type;
    if (type == fourcc("encv") || type == fourcc("enca")) draft.encrypted_as = track.codec_tag;
    if (track.kind == Kind::video) TRY_DO(read_video_entry(*entry, draft));
    if (track.kind == Kind::audio) TRY_DO(read_audio_entry(*entry, draft));
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
        case fourcc("wvtt"):
            track.codec = Codec::webvtt;
            break;
        case fourcc("tx3g"):
            track.codec = Codec::tx3g;
            break;
        default:
            break;
    }
    return {};
}

Outcome IsoClip::read_video_entry(const Box& entry, Draft& draft) {
    auto& track = draft.track;
    TRY(auto data, body(entry, 78));
    ByteReader r(data);
    r.skip(24);
    track.video.width = r.u16();
    track.video.height = r.u16();
    return children(
        entry, entry.body + 78,
        [&](const Box& box) -> Outcome {
            TRY(auto inner, body(box));
            ByteReader b(inner);
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

Outcome IsoClip::read_audio_entry(const Box& entry, Draft& draft) {
    auto& track = draft.track;
    TRY(auto data, body(entry, 64));
    ByteReader r(data);
    r.skip(8);
    auto version = r.u16();
    r.skip(6);
    track.audio.channels = r.u16();
    r.skip(6);
    track.audio.rate = static_cast<int>(r.u32() >> 16);
    // QuickTime's sound descriptions of version 1 and 2 are longer.
    std::uint64_t from = entry.body + 28 + (version == 1 ? 16U : version == 2 ? 36U : 0U);
    auto visit = [&](auto&& self, const Box& box, int depth) -> Outcome {
        if (box.type == fourcc("wave"))
            return children(box, box.body, [&](const Box& b) { return self(self, b, depth + 1); }, depth + 1);
        TRY(auto inner, body(box));
        if (box.type == fourcc("esds") && inner.size() > 4) {
            unsigned indication = 0;
            track.config = asc_from_esds(ByteView(inner).subspan(4), indication);
            if (indication == 0x40 || (indication >= 0x66 && indication <= 0x68)) track.codec = Codec::aac;
            if (indication == 0x69 || indication == 0x6B) track.codec = Codec::mp3;
            if (indication == 0xDD) track.codec = Codec::vorbis;
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
    return children(entry, from, [&](const Box& b) { return visit(visit, b, 4); }, 4);
}

Outcome IsoClip::read_sidx(const Box& box) {
    TRY(auto data, body(box, 16 << 20));
    ByteReader r(data);
    auto version = r.u32() >> 24;
    r.skip(4);
    auto timescale = std::max<std::uint32_t>(1, r.u32());
    auto time = static_cast<std::int64_t>(version ? r.u64() : r.u32());
    auto offset = box.end + (version ? r.u64() : r.u32());
    r.skip(2);
    auto count = r.u16();
    auto start = time;
    std::vector<FragmentIndex::Hint> hints;
    for (unsigned i = 0; i < count && !r.overrun(); ++i) {
        auto word = r.u32();
        auto duration = r.u32();
        r.skip(4);
        if (word >> 31) return {};  // an index of indexes: walking does as well
        hints.push_back({ticks_to_time(time, 1, timescale), offset});
        offset += word & 0x7FFFFFFF;
        time += duration;
    }
    sidx_duration_ = ticks_to_time(time - start, 1, timescale);
    if (!fragments_) fragments_ = std::make_shared<FragmentIndex>(source_, box.end);
    fragments_->hints = std::move(hints);
    return {};
}

Outcome IsoClip::read_mfra() {
    // The last box of the file states the size of the mfra around it (8.8.11).
    auto size = source_->size();
    if (!size || *size < 16) return {};
    TRY(auto tail, reader_.view(*size - 16, 16));
    if (tail.size() < 16 || be32(tail.data() + 4) != fourcc("mfro")) return {};
    std::uint64_t length = be32(tail.data() + 12);
    if (length < 24 || length > *size || length > (64 << 20)) return {};
    TRY(auto mfra, read_box(reader_, *size - length, *size));
    if (!mfra || mfra->type != fourcc("mfra")) return {};
    return children(
        *mfra, mfra->body,
        [&](const Box& box) -> Outcome {
            if (box.type != fourcc("tfra")) return {};
            TRY(auto data, body(box, 16 << 20));
            ByteReader r(data);
            auto version = r.u32() >> 24;
            auto id = r.u32();
            auto lengths = r.u32();
            auto count = r.u32();
            auto draft = std::find_if(drafts_.begin(), drafts_.end(), [&](auto& d) { return d.track.id == id; });
            if (draft == drafts_.end() || draft->track.kind != Kind::video) return {};
            for (std::uint32_t i = 0; i < count && r.left() > 0; ++i) {
                auto time = static_cast<std::int64_t>(version ? r.u64() : r.u32());
                auto moof = version ? r.u64() : r.u32();
                r.skip((lengths >> 4 & 3) + 1 + (lengths >> 2 & 3) + 1 + (lengths & 3) + 1);
                if (r.overrun()) break;
                fragments_->hints.push_back({ticks_to_time(time, 1, draft->plan.timescale), moof});
            }
            return {};
        },
        1);
}

/// Leading empty edits and one media edit are played; anything else plays as if there were none.
void IsoClip::apply_edits(Draft& draft) {
    auto& edits = draft.edits;
    std::uint64_t empty = 0;
    std::size_t i = 0;
    while (i < edits.size() && edits[i].media_time == -1) empty += edits[i++].duration;
    if (i + 1 < edits.size() || (i < edits.size() && edits[i].media_time < 0)) {
        info_.findings.push_back(
            {"edit-list",
             fmt::format("Track {} has an edit list of {} edits, which is played as if it had none.", draft.track.id,
                         edits.size()),
             "Export the clip with its cuts applied."});
        return;
    }
    draft.plan.offset = ticks_to_time(static_cast<std::int64_t>(empty), 1, movie_timescale_);
    if (i >= edits.size()) return;
    draft.plan.shift_ticks = edits[i].media_time;
    draft.track.start = draft.plan.offset;
    // A fragmented file states its edit's length as 0 or as that of the empty moov; neither is an end.
    if (edits[i].duration > 0 && !fragmented_)
        draft.track.end =
            draft.plan.offset + ticks_to_time(static_cast<std::int64_t>(edits[i].duration), 1, movie_timescale_);
}

Outcome IsoClip::finish() {
    if (drafts_.empty())
        return fail(Code::malformed, fmt::format("“{}” has an index without a single track.", source_->name()),
                    "Export the clip again.");
    for (auto& d : drafts_) {
        d.track.tick = {1, d.plan.timescale};
        d.plan.file_end = file_end_;
        d.plan.intra = d.track.kind == Kind::audio;
        d.plan.defaults = defaults_[d.track.id];
        if (d.track.kind == Kind::video || d.track.kind == Kind::audio) {
            describe_from_config(d.track);
            if (!d.encrypted_as.empty())
                d.track.problem = Error{
                    Code::encrypted,
                    fmt::format("Track {} of “{}” is encrypted ({}).", d.track.id, source_->name(), d.encrypted_as),
                    "Ask for a copy without encryption; Ruedo holds no keys."};
            else if (d.track.codec == Codec::unknown)
                d.track.problem = Error{Code::codec_missing,
                                        fmt::format("Track {} of “{}” is in a codec that is not known here (“{}”).",
                                                    d.track.id, source_->name(), d.track.codec_tag),
                                        export_again};
        }
        apply_edits(d);
        // Opus states its delay twice, here and in its header; the header counts where there is no edit list.
        if (d.track.codec == Codec::opus && d.edits.empty())
            if (auto head = parse_opus_head(d.track.config))
                d.plan.shift_ticks = time_to_ticks(ticks_to_time(head->pre_skip, 1, 48000), d.plan.timescale);
    }
    // The first enabled track of each kind is the default one.
    for (auto kind : {Kind::video, Kind::audio, Kind::text}) {
        bool taken = false;
        for (auto& d : drafts_) {
            if (d.track.kind != kind) continue;
            d.track.is_default = d.enabled && !taken;
            taken = taken || d.enabled;
        }
    }
    TRY_DO(settle_fragments());
    // The earliest presented sample of the whole clip is presentation time 0.
    std::optional<Time> origin;
    for (auto& d : drafts_) {
        if (d.track.kind != Kind::video && d.track.kind != Kind::audio) continue;
        auto walker =
            fragments_ ? make_fragment_reader(source_, d.plan, fragments_) : make_table_reader(source_, d.plan);
        PacketHead head;
        Time first = Time::max();
        for (int i = 0; i < 17; ++i) {
            TRY(bool more, walker->next(head));
            if (!more) break;
            auto pts = d.track.kind == Kind::audio ? std::max(head.pts, d.track.start) : head.pts;
            if (pts >= d.track.start) first = std::min(first, pts);
        }
        if (first == Time::max()) continue;
        if (d.edits.empty() || d.track.start < first) d.track.start = std::max(first, Time{});
        origin = std::min(origin.value_or(first), first);
    }
    auto zero = origin.value_or(Time{});
    for (auto& d : drafts_) {
        if (zero.ns != 0) {
            // Shift in ticks where that is exact, so that nothing is rounded twice.
            auto ticks = time_to_ticks(zero, d.plan.timescale);
            if (ticks_to_time(ticks, 1, d.plan.timescale) == zero && d.plan.offset.ns == 0)
                d.plan.shift_ticks += ticks;
            else
                d.plan.offset -= zero;
            d.track.start -= zero;
            if (d.track.end != Time::max()) d.track.end -= zero;
        }
        Time end{};
        // Pictures are shown later than decoded, by a composition offset that the media's length does not hold.
        if (d.media_duration && d.track.kind == Kind::video)
            end = d.track.start + ticks_to_time(static_cast<std::int64_t>(d.media_duration), 1, d.plan.timescale);
        else if (d.media_duration)
            end = d.plan.present(static_cast<std::int64_t>(d.media_duration));
        if (d.track.end != Time::max()) end = end.ns ? std::min(end, d.track.end) : d.track.end;
        if (d.track.kind == Kind::audio && d.track.end == Time::max() && end.ns > 0 && !fragmented_) d.track.end = end;
        if (d.track.kind == Kind::video || d.track.kind == Kind::audio) info_.duration = std::max(info_.duration, end);
        plans_.emplace(d.track.id, d.plan);
        info_.tracks.push_back(d.track);
    }
    if (fragmented_) {
        Time stated = sidx_duration_.ns
                          ? sidx_duration_
                          : ticks_to_time(static_cast<std::int64_t>(fragment_duration_), 1, movie_timescale_);
        if (stated.ns > info_.duration.ns) info_.duration = stated;
    }
    TRY_DO(find_truncation());
    info_.duration_known = info_.duration.ns > 0;
    return {};
}

Outcome IsoClip::settle_fragments() {
    if (!fragmented_) return {};
    // A moov that holds samples of its own is a plain file with an empty mvex.
    bool any = std::any_of(drafts_.begin(), drafts_.end(), [](auto& d) { return d.plan.tables.samples > 0; });
    if (any) {
        fragments_.reset();
        fragmented_ = false;
    }
    return {};
}

/// What of the file can be reached: where it was cut, and how long a fragmented file without an index is.
Outcome IsoClip::find_truncation() {
    if (!fragments_) {
        Time reach{};
        bool missing = false;
        for (auto& track : info_.tracks) {
            if (track.kind != Kind::video && track.kind != Kind::audio) continue;
            auto& plan = plans_.at(track.id);
            // Chunks are stored in order in nearly every file: the last sample tells at once whether all are there.
            TRY(bool there, has_last_sample(source_, plan));
            if (there) continue;
            missing = true;
            PacketHead head;
            auto all = make_table_reader(source_, plan);
            Time end{};
            for (;;) {
                TRY(bool more, all->next(head));
                if (!more) break;
                end = std::max(end, head.pts + head.duration);
            }
            track.end = std::min(track.end, end);
            reach = std::max(reach, end);
        }
        if (missing) info_.duration = reach;
        cut_short_ = missing;
    } else if ((info_.duration.ns == 0 || cut_short_) && !source_->forward_only()) {
        // Neither index nor stated length: hop over the fragments to the last one.
        Time reach{};
        for (auto& track : info_.tracks) {
            if (track.kind != Kind::video && track.kind != Kind::audio) continue;
            auto walker = make_fragment_reader(source_, plans_.at(track.id), fragments_);
            TRY_DO(walker->seek(Time{INT64_MAX / 4}));
            PacketHead head;
            for (;;) {
                TRY(bool more, walker->next(head));
                if (!more) break;
                reach = std::max(reach, head.pts + head.duration);
            }
        }
        info_.duration = reach;
        cut_short_ = cut_short_ || fragments_->cut_short();
    }
    if (cut_short_)
        info_.findings.push_back(
            {"truncated",
             fmt::format("“{}” was cut short; the first {} of it play.", source_->name(), format_time(info_.duration)),
             "Copy it again to have the rest."});
    return {};
}

}  // namespace

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<IsoClip>(std::move(source));
    TRY_DO(clip->open());
    return clip;
}

}  // namespace ruedo::isobmff
