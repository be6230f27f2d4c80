// SPDX-License-Identifier: Apache-2.0
// Writing Matroska and WebM (RFC 9559): clusters of known size as they fill; cues in front where room was kept for
// them, else at the end.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "container/container.h"
#include "container/matroska/blocks.h"
#include "media/codec_headers.h"

namespace ruedo::matroska {
namespace {

class EbmlWriter : public ByteWriter {
  public:
    EbmlWriter& element_id(std::uint32_t v) {
        return be(v, v > 0xFFFFFF ? 4 : v > 0xFFFF ? 3 : v > 0xFF ? 2 : 1), *this;
    }
    /// A size in `length` bytes (0: as few as do).
    EbmlWriter& size(std::uint64_t v, unsigned length = 0) {
        if (length == 0)
            for (length = 1; v >= (1ULL << (7 * length)) - 1; ++length) {
            }
        return be(v | 1ULL << (7 * length), length), *this;
    }
    EbmlWriter& number(std::uint32_t id, std::uint64_t v) {
        unsigned n = 1;
        while (n < 8 && v >> (8 * n)) ++n;
        element_id(id).size(n).be(v, n);
        return *this;
    }
    /// In so many bytes, whatever its value is.
    EbmlWriter& fixed(std::uint32_t id, std::uint64_t v, unsigned n) {
        element_id(id).size(n).be(v, n);
        return *this;
    }
    /// So many bytes of nothing, at least nine, for something to come.
    EbmlWriter& room(std::uint64_t whole) {
        element_id(id::void_element).size(whole - 9, 8);
        bytes.resize(bytes.size() + static_cast<std::size_t>(whole) - 9);
        return *this;
    }
    EbmlWriter& real(std::uint32_t id, double v) {
        element_id(id).size(8).be(std::bit_cast<std::uint64_t>(v), 8);
        return *this;
    }
    EbmlWriter& words(std::uint32_t id, std::string_view v) {
        element_id(id).size(v.size()).text(v);
        return *this;
    }
    EbmlWriter& binary(std::uint32_t id, ByteView v) {
        element_id(id).size(v.size()).raw(v);
        return *this;
    }
    template <class F>
    EbmlWriter& master(std::uint32_t id, F&& fill) {
        EbmlWriter inner;
        fill(inner);
        return binary(id, inner.bytes);
    }
};

constexpr unsigned seek_head_room = 128;
constexpr std::int64_t cue_distance = 400;  ///< Milliseconds at least from one to the next.

struct CodecName {
    Codec codec;
    std::string_view matroska, webm;  ///< Empty where it does not go there.
};
constexpr std::array codec_names{CodecName{Codec::vp8, "V_VP8", "V_VP8"},
                                 CodecName{Codec::vp9, "V_VP9", "V_VP9"},
                                 CodecName{Codec::av1, "V_AV1", "V_AV1"},
                                 CodecName{Codec::h264, "V_MPEG4/ISO/AVC", ""},
                                 CodecName{Codec::hevc, "V_MPEGH/ISO/HEVC", ""},
                                 CodecName{Codec::theora, "V_THEORA", ""},
                                 CodecName{Codec::mjpeg, "V_MJPEG", ""},
                                 CodecName{Codec::mpeg4, "V_MPEG4/ISO/ASP", ""},
                                 CodecName{Codec::mpeg2, "V_MPEG2", ""},
                                 CodecName{Codec::mpeg1, "V_MPEG1", ""},
                                 CodecName{Codec::opus, "A_OPUS", "A_OPUS"},
                                 CodecName{Codec::vorbis, "A_VORBIS", "A_VORBIS"},
                                 CodecName{Codec::aac, "A_AAC", ""},
                                 CodecName{Codec::flac, "A_FLAC", ""},
                                 CodecName{Codec::mp3, "A_MPEG/L3", ""},
                                 CodecName{Codec::mp2, "A_MPEG/L2", ""},
                                 CodecName{Codec::ac3, "A_AC3", ""},
                                 CodecName{Codec::pcm, "A_PCM/INT/LIT", ""},
                                 CodecName{Codec::subrip, "S_TEXT/UTF8", "D_WEBVTT/SUBTITLES"},
                                 CodecName{Codec::tx3g, "S_TEXT/UTF8", "D_WEBVTT/SUBTITLES"},
                                 CodecName{Codec::webvtt, "S_TEXT/WEBVTT", "D_WEBVTT/SUBTITLES"}};

struct Held {
    bool there = false;
    std::int64_t ms = 0, lasts_ms = 0;
    Time pts{}, duration{};
    Time end{};  ///< Of all so far: the last one in decoding order need not be the last that is seen.
    bool keyframe = true;
    Bytes data;
};

class MatroskaMuxer final : public Muxer {
  public:
    MatroskaMuxer(std::unique_ptr<ByteSink> sink, std::string_view doc) : sink_(std::move(sink)), doc_(doc) {}

    Result<std::size_t> add(const MuxerTrack& track) override {
        RUEDO_TRY_DO(container_format_named(doc_)->check(track));
        tracks_.push_back(track);
        held_.emplace_back();
        return tracks_.size() - 1;
    }

    Status write(std::size_t index, const MuxerPacket& p) override {
        if (sink_->position() == 0) RUEDO_TRY_DO(write_head());
        auto& held = held_.at(index);
        // Pictures come in the order of decoding: one that is shown after the next may be the last to be shown.
        if (held.there) RUEDO_TRY_DO(put(index, held, {}, held.pts > p.pts));
        auto delay = delay_of(tracks_[index]);
        auto ms = [&](Time t) { return (t + delay).ns >= 0 ? ((t + delay).ns + 500'000) / 1'000'000 : 0; };
        held.there = true;
        held.pts = p.pts;
        held.duration = p.duration;
        held.ms = ms(p.pts), held.lasts_ms = std::max<std::int64_t>(1, ms(p.pts + p.duration) - held.ms);
        held.keyframe = p.keyframe;
        held.data.assign(p.data.begin(), p.data.end());
        held.end = std::max(held.end, p.pts + p.duration);
        return {};
    }

    void expect(std::uint64_t packets) override { room_ = 512 + std::min<std::uint64_t>(packets, 64 << 20); }

    Status finish(const Progress& told) override {
        if (sink_->position() == 0)
            return fail(ErrorCode::empty, "Nothing was written into the clip.",
                        "Choose a source with pictures or sound.");
        Time end{};
        for (std::size_t i = 0; i < held_.size(); ++i) {
            auto& h = held_[i];
            if (!h.there) continue;
            auto until = std::min(end_of(i).value_or(h.end), h.end);
            // Opus says itself how long a packet lasts, whatever was made of it before.
            auto lasts =
                tracks_[i].codec == Codec::opus ? ticks_to_time(opus_packet_samples(h.data), 1, 48000) : h.duration;
            RUEDO_TRY_DO(put(i, h, std::max(Time{}, h.pts + lasts - until), true));
            end = std::max(end, until);
        }
        RUEDO_TRY_DO(flush());
        auto cues_at = room_ ? room_at_ : sink_->position();
        auto cues = written_cues(0);
        if (!room_) {
            RUEDO_TRY_DO(sink_->write(cues));
        } else if (cues.size() == room_ || cues.size() + 9 <= room_) {
            EbmlWriter rest;
            if (cues.size() < room_) rest.element_id(id::void_element).size(room_ - cues.size() - 9, 8);
            RUEDO_TRY_DO(sink_->write_at(room_at_, cues));
            RUEDO_TRY_DO(sink_->write_at(room_at_ + cues.size(), rest.bytes));
        } else {
            // More than was expected: what follows makes room. The size does not depend on the places.
            auto more = cues.size() > room_ ? cues.size() - room_ : 0;
            EbmlWriter rest;
            if (auto left = room_ + more - cues.size()) {
                more += 9;
                rest.element_id(id::void_element).size(left, 8);
            }
            RUEDO_TRY_DO(sink_->insert_gap(room_at_ + room_, more, told));
            cues = written_cues(more);
            RUEDO_TRY_DO(sink_->write_at(room_at_, cues));
            RUEDO_TRY_DO(sink_->write_at(room_at_ + cues.size(), rest.bytes));
        }
        EbmlWriter size;
        size.size(sink_->position() - segment_, 8);
        RUEDO_TRY_DO(sink_->write_at(segment_ - 8, size.bytes));
        EbmlWriter head;
        head.master(id::seek_head, [&](auto& s) {
            auto seek = [&](std::uint32_t what, std::uint64_t where) {
                s.master(id::seek, [&](auto& e) {
                    EbmlWriter v;
                    v.element_id(what);
                    e.binary(id::seek_id, v.bytes).number(id::seek_position, where - segment_);
                });
            };
            seek(id::info, info_at_), seek(id::tracks, tracks_at_), seek(id::cues, cues_at);
            if (attachments_at_) seek(id::attachments, attachments_at_);
        });
        auto rest = seek_head_room - head.bytes.size();
        head.element_id(id::void_element).size(rest - 2, 1);
        RUEDO_TRY_DO(sink_->write_at(segment_, head.bytes));
        EbmlWriter duration;
        duration.real(id::duration, end.ms());
        RUEDO_TRY_DO(sink_->write_at(duration_at_, duration.bytes));
        return sink_->commit();
    }

  private:
    struct Cue {
        std::int64_t ms;
        std::uint64_t track, cluster, relative;
    };

    Status write_head() {
        EbmlWriter w;
        w.master(id::ebml, [&](auto& e) {
            e.number(0x4286, 1)
                .number(0x42F7, 1)
                .number(0x42F2, 4)
                .number(0x42F3, 8)
                .words(id::doc_type, doc_)
                .number(0x4287, 4)
                .number(0x4285, 2);
        });
        w.element_id(id::segment).be(0x01FFFFFFFFFFFFFFULL, 8);
        segment_ = w.bytes.size();
        w.bytes.resize(w.bytes.size() + seek_head_room);  // filled in at the end
        w.bytes[segment_] = 0xEC, w.bytes[segment_ + 1] = 0x80 | (seek_head_room - 2);
        info_at_ = w.bytes.size();
        EbmlWriter info;
        info.number(id::timestamp_scale, 1'000'000).words(id::muxing_app, "ruedo").words(id::writing_app, "ruedo");
        if (!tags_.title.empty()) info.words(id::title, tags_.title);
        if (tags_.created)
            info.fixed(id::date, static_cast<std::uint64_t>((*tags_.created - epoch_2001) * 1'000'000'000), 8);
        auto before = info.bytes.size();
        info.real(id::duration, 0);
        w.binary(id::info, info.bytes);
        duration_at_ = w.bytes.size() - info.bytes.size() + before;
        // WebM has no attachments.
        if (!tags_.cover.empty() && doc_ == "matroska") {
            attachments_at_ = w.bytes.size();
            auto type = ClipTags::image_type(tags_.cover);
            w.master(id::attachments, [&](auto& a) {
                a.master(id::attached_file, [&](auto& f) {
                    f.words(id::file_name, type == "image/png" ? "cover.png" : "cover.jpg")
                        .words(id::file_type, std::string(type))
                        .binary(id::file_data, tags_.cover)
                        .number(id::file_uid, 1);
                });
            });
        }
        tracks_at_ = w.bytes.size();
        w.master(id::tracks, [&](auto& t) {
            for (std::size_t i = 0; i < tracks_.size(); ++i)
                t.master(id::track_entry, [&](auto& e) { describe(e, i); });
        });
        room_at_ = w.bytes.size();
        if (room_) w.room(room_);
        return sink_->write(w.bytes);
    }

    void describe(EbmlWriter& e, std::size_t i) {
        auto& t = tracks_[i];
        auto kind = t.kind();
        e.number(id::track_number, i + 1)
            .number(id::track_uid, i + 1)
            .number(id::track_type, kind == Kind::audio   ? 2
                                    : kind == Kind::video ? 1
                                                          : 17)
            .number(id::flag_lacing, 0);
        if (!t.is_default) e.number(id::flag_default, 0);
        e.words(id::language, iso639_from_bcp47(t.language));
        if (!t.language.empty()) e.words(id::language_bcp47, t.language);
        auto pcm = t.codec == Codec::pcm ? parse_pcm_format(t.config) : std::nullopt;
        for (auto& name : codec_names)
            if (name.codec == t.codec)
                e.words(id::codec_id, pcm && pcm->is_float     ? "A_PCM/FLOAT/IEEE"
                                      : pcm && pcm->big_endian ? "A_PCM/INT/BIG"
                                      : doc_ == "webm"         ? name.webm
                                                               : name.matroska);
        if (kind == Kind::text) return;
        if (t.codec == Codec::vp9 && t.config.size() >= 3) {
            // WebM's own form of the same facts: id, length, value.
            Bytes features{1, 1, t.config[0],
                           2, 1, t.config[1],
                           3, 1, static_cast<std::uint8_t>(t.config[2] >> 4),
                           4, 1, static_cast<std::uint8_t>(t.config[2] >> 1 & 7)};
            e.binary(id::codec_private, features);
        } else if (!t.config.empty() && !pcm) {
            e.binary(id::codec_private, t.config);
        }
        if (kind == Kind::audio) {
            if (t.delay_samples) e.number(id::codec_delay, static_cast<std::uint64_t>(delay_of(t).ns));
            if (t.codec == Codec::opus) e.number(id::seek_pre_roll, 80'000'000);
            // Times are rounded to milliseconds; how long packets are that are all alike is not.
            auto aac = t.codec == Codec::aac ? parse_aac_config(t.config) : std::nullopt;
            auto samples = aac && !aac->sbr        ? 1024
                           : t.codec == Codec::ac3 ? 1536
                           : t.codec == Codec::mp3 ? (t.audio.rate < 32000 ? 576 : 1152)
                                                   : 0;
            if (samples)
                e.number(
                    id::default_duration,
                    static_cast<std::uint64_t>(ticks_to_time(samples, 1, static_cast<std::uint64_t>(t.audio.rate)).ns));
            e.master(id::audio, [&](auto& a) {
                a.real(id::sampling_frequency, t.audio.rate)
                    .number(id::channels, static_cast<std::uint64_t>(t.audio.channels));
                if (pcm) a.number(id::bit_depth, pcm->bits);
            });
            return;
        }
        auto& v = t.video;
        e.master(id::video, [&](auto& m) {
            // Fields are in MPEG video and Motion JPEG at most, and what these hold was not looked for.
            bool fields = t.codec == Codec::mpeg2 || t.codec == Codec::mpeg4 || t.codec == Codec::mjpeg;
            if (!fields) m.number(id::flag_interlaced, 2);
            auto& cut = v.crop;
            m.number(id::pixel_width, static_cast<std::uint64_t>(v.width + cut.left + cut.right))
                .number(id::pixel_height, static_cast<std::uint64_t>(v.height + cut.top + cut.bottom));
            for (auto [element, pixels] : {std::pair{id::crop_bottom, cut.bottom},
                                           {id::crop_top, cut.top},
                                           {id::crop_left, cut.left},
                                           {id::crop_right, cut.right}})
                if (pixels) m.number(element, static_cast<std::uint64_t>(pixels));
            auto flat = v;
            flat.rotation = 0;
            if (flat.display_width() != v.width)
                m.number(id::display_width, static_cast<std::uint64_t>(flat.display_width()))
                    .number(id::display_height, static_cast<std::uint64_t>(flat.display_height()));
            // What is not stated is not guessed: a reader would take it for known.
            if (auto& c = v.colour; c.stated())
                m.master(id::colour, [&](auto& k) {
                    k.number(id::matrix, c.matrix_code())
                        .number(id::range, c.range == Colour::Range::full      ? 2
                                           : c.range == Colour::Range::limited ? 1
                                                                               : 0);
                    k.number(id::transfer, c.transfer).number(id::primaries, c.primaries);
                });
            // A roll turns the picture counter-clockwise to be shown (clause 5.1.4.1.28.45).
            if (v.rotation)
                m.master(id::projection, [&](auto& p) {
                    p.number(id::projection_type, 0).real(id::pose_roll, v.rotation == 270 ? 90 : -v.rotation);
                });
        });
    }

    Status put(std::size_t index, Held& h, Time cut, bool last) {
        auto kind = tracks_[index].kind();
        bool video = kind == Kind::video, text = kind == Kind::text;
        bool has_video = std::any_of(tracks_.begin(), tracks_.end(), [](auto& t) { return t.kind() == Kind::video; });
        bool fresh = cluster_.empty() || h.ms - cluster_ms_ > 30'000 || h.ms < cluster_ms_ - 30'000 ||
                     cluster_.size() > (4 << 20) || (video && h.keyframe && h.ms - cluster_ms_ >= 500) ||
                     (!has_video && h.ms - cluster_ms_ >= 5'000);
        if (fresh) {
            RUEDO_TRY_DO(flush());
            cluster_ms_ = h.ms;
            EbmlWriter w;
            w.number(id::timestamp, static_cast<std::uint64_t>(cluster_ms_));
            cluster_ = w.bytes;
        }
        EbmlWriter block;
        block.size(index + 1).be(static_cast<std::uint16_t>(static_cast<std::int16_t>(h.ms - cluster_ms_)), 2);
        // Where there are no pictures, the beginning of each cluster is a place to go to.
        if ((video ? h.keyframe : fresh && !has_video) && (last_cue_ < 0 || h.ms - last_cue_ >= cue_distance)) {
            pending_.push_back({h.ms, index + 1, 0, cluster_.size()});
            last_cue_ = h.ms;
        }
        EbmlWriter w;
        if (text || (last && (cut.ns > 0 || video))) {
            auto data = ByteView(h.data);
            ByteView settings;
            if (text && doc_ == "webm") block.u8(0).text("\n");  // no name of its own
            if (text && doc_ != "webm") {
                auto line = std::find(data.begin(), data.end(), '\n');
                settings = {data.begin(), line};
                data = {line == data.end() ? line : line + 1, data.end()};
            }
            if (!text || doc_ != "webm") block.u8(0);
            block.raw(data);
            w.master(id::block_group, [&](auto& g) {
                g.binary(id::block, block.bytes);
                if (!settings.empty() && tracks_[index].codec == Codec::webvtt)
                    g.master(id::block_additions, [&](auto& a) {
                        a.master(id::block_more, [&](auto& m) {
                            m.number(id::block_add_id, 1).binary(id::block_additional, settings);
                        });
                    });
                if (video || text) g.number(id::block_duration, static_cast<std::uint64_t>(h.lasts_ms));
                if (!h.keyframe) g.element_id(id::reference_block).size(1).u8(0xFF);
                if (cut.ns > 0) g.element_id(id::discard_padding).size(8).be(static_cast<std::uint64_t>(cut.ns), 8);
            });
        } else {
            block.u8(h.keyframe ? 0x80 : 0).raw(h.data);
            w.binary(id::simple_block, block.bytes);
        }
        cluster_.insert(cluster_.end(), w.bytes.begin(), w.bytes.end());
        h.there = false;
        return {};
    }

    Status flush() {
        if (cluster_.empty()) return {};
        for (auto& cue : pending_) cue.cluster = sink_->position(), cues_.push_back(cue);
        pending_.clear();
        EbmlWriter w;
        w.element_id(id::cluster).size(cluster_.size());
        RUEDO_TRY_DO(sink_->write(w.bytes));
        RUEDO_TRY_DO(sink_->write(cluster_));
        cluster_.clear();
        return {};
    }

    static Time delay_of(const MuxerTrack& t) {
        auto rate = t.codec == Codec::opus || t.audio.rate <= 0 ? 48000 : t.audio.rate;
        return ticks_to_time(t.delay_samples, 1, static_cast<std::uint64_t>(rate));
    }
    /// With everything from the first cluster on moved back by that much.
    Bytes written_cues(std::uint64_t shift) const {
        EbmlWriter w;
        w.master(id::cues, [&](auto& c) {
            for (auto& cue : cues_)
                c.master(id::cue_point, [&](auto& point) {
                    point.number(id::cue_time, static_cast<std::uint64_t>(cue.ms));
                    point.master(id::cue_track_positions, [&](auto& t) {
                        t.number(id::cue_track, cue.track)
                            .fixed(id::cue_cluster, cue.cluster - segment_ + shift, 6)
                            .number(id::cue_relative, cue.relative);
                    });
                });
        });
        return w.bytes;
    }

    std::unique_ptr<ByteSink> sink_;
    std::string_view doc_;  ///< "webm" or "matroska".
    std::vector<MuxerTrack> tracks_;
    std::vector<Held> held_;
    std::vector<Cue> cues_, pending_;
    Bytes cluster_;
    std::int64_t cluster_ms_ = 0;
    std::uint64_t segment_ = 0, info_at_ = 0, tracks_at_ = 0, attachments_at_ = 0, duration_at_ = 0, room_ = 0,
                  room_at_ = 0;
    std::int64_t last_cue_ = -1;
};

}  // namespace
}  // namespace ruedo::matroska

namespace ruedo {
std::unique_ptr<Muxer> webm_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<matroska::MatroskaMuxer>(std::move(sink), "webm");
}
std::unique_ptr<Muxer> matroska_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<matroska::MatroskaMuxer>(std::move(sink), "matroska");
}
Result<std::unique_ptr<Muxer>> webm_muxer(const std::filesystem::path& path, bool replace) {
    RUEDO_TRY(auto file, FileWriter::create(path, replace ? Replace::anything : Replace::nothing));
    return webm_muxer(std::make_unique<FileWriter>(std::move(file)));
}
}  // namespace ruedo
