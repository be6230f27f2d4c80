// SPDX-License-Identifier: Apache-2.0
// Writing WebM (RFC 9559): clusters of known size as they fill, cues and lengths at the end.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "container/container.h"
#include "container/matroska/ebml.h"

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

constexpr unsigned seek_head_room = 96;

struct Held {
    bool there = false;
    std::int64_t ms = 0;
    Time pts{}, duration{};
    bool keyframe = true;
    Bytes data;
};

class WebmWriter final : public ClipWriter {
  public:
    explicit WebmWriter(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}

    Result<std::size_t> add(const WriteTrack& track) override {
        static constexpr std::array known{Codec::vp8, Codec::vp9, Codec::av1, Codec::opus, Codec::vorbis};
        if (std::find(known.begin(), known.end(), track.codec) == known.end())
            return fail(Code::codec_missing, fmt::format("{} can’t be put into WebM.", codec_title(track.codec)),
                        "Choose VP9 or AV1, and Opus.");
        tracks_.push_back(track);
        held_.emplace_back();
        return tracks_.size() - 1;
    }

    Outcome write(std::size_t index, const WritePacket& p) override {
        if (sink_->position() == 0) TRY_DO(write_head());
        auto& held = held_.at(index);
        if (held.there) TRY_DO(put(index, held, {}, false));
        auto delay = ticks_to_time(tracks_[index].delay_samples, 1, 48000);
        held.there = true;
        held.pts = p.pts;
        held.duration = p.duration;
        held.ms = (p.pts + delay).ns >= 0 ? ((p.pts + delay).ns + 500'000) / 1'000'000 : 0;
        held.keyframe = p.keyframe;
        held.data.assign(p.data.begin(), p.data.end());
        end_ = std::max(end_, p.pts + p.duration);
        return {};
    }

    Outcome finish(Time sound_end, const Progress&) override {
        if (sink_->position() == 0)
            return fail(Code::empty, "Nothing was written into the clip.", "Choose a source with pictures or sound.");
        Time end{};
        for (std::size_t i = 0; i < held_.size(); ++i) {
            auto& h = held_[i];
            if (!h.there) continue;
            bool sound = tracks_[i].audio.rate > 0;
            auto last = h.pts + h.duration;
            auto cut = sound && sound_end.ns > 0 ? std::max(Time{}, last - sound_end) : Time{};
            TRY_DO(put(i, h, cut, true));
            end = std::max(end, last - cut);
        }
        TRY_DO(flush());
        auto cues = sink_->position();
        EbmlWriter w;
        w.master(id::cues, [&](auto& c) {
            for (auto& cue : cues_)
                c.master(id::cue_point, [&](auto& point) {
                    point.number(id::cue_time, static_cast<std::uint64_t>(cue.ms));
                    point.master(id::cue_track_positions, [&](auto& t) {
                        t.number(id::cue_track, cue.track)
                            .number(id::cue_cluster, cue.cluster - segment_)
                            .number(id::cue_relative, cue.relative);
                    });
                });
        });
        TRY_DO(sink_->write(w.bytes));
        EbmlWriter size;
        size.size(sink_->position() - segment_, 8);
        TRY_DO(sink_->write_at(segment_ - 8, size.bytes));
        EbmlWriter head;
        head.master(id::seek_head, [&](auto& s) {
            auto seek = [&](std::uint32_t what, std::uint64_t where) {
                s.master(id::seek, [&](auto& e) {
                    EbmlWriter v;
                    v.element_id(what);
                    e.binary(id::seek_id, v.bytes).number(id::seek_position, where - segment_);
                });
            };
            seek(id::info, info_at_), seek(id::tracks, tracks_at_), seek(id::cues, cues);
        });
        auto rest = seek_head_room - head.bytes.size();
        head.element_id(id::void_element).size(rest - 2, 1);
        TRY_DO(sink_->write_at(segment_, head.bytes));
        EbmlWriter duration;
        duration.real(id::duration, end.ms());
        TRY_DO(sink_->write_at(duration_at_, duration.bytes));
        return sink_->commit();
    }

  private:
    struct Cue {
        std::int64_t ms;
        std::uint64_t track, cluster, relative;
    };

    Outcome write_head() {
        EbmlWriter w;
        w.master(id::ebml, [](auto& e) {
            e.number(0x4286, 1)
                .number(0x42F7, 1)
                .number(0x42F2, 4)
                .number(0x42F3, 8)
                .words(id::doc_type, "webm")
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
        auto before = info.bytes.size();
        info.real(id::duration, 0);
        w.binary(id::info, info.bytes);
        duration_at_ = w.bytes.size() - info.bytes.size() + before;
        tracks_at_ = w.bytes.size();
        w.master(id::tracks, [&](auto& t) {
            for (std::size_t i = 0; i < tracks_.size(); ++i)
                t.master(id::track_entry, [&](auto& e) { describe(e, i); });
        });
        return sink_->write(w.bytes);
    }

    void describe(EbmlWriter& e, std::size_t i) {
        auto& t = tracks_[i];
        bool sound = t.audio.rate > 0;
        e.number(id::track_number, i + 1)
            .number(id::track_uid, i + 1)
            .number(id::track_type, sound ? 2 : 1)
            .number(id::flag_lacing, 0);
        e.words(id::language, iso639_from_bcp47(t.language));
        if (!t.language.empty()) e.words(id::language_bcp47, t.language);
        static constexpr std::array<std::pair<Codec, std::string_view>, 5> ids{{{Codec::vp8, "V_VP8"},
                                                                                {Codec::vp9, "V_VP9"},
                                                                                {Codec::av1, "V_AV1"},
                                                                                {Codec::opus, "A_OPUS"},
                                                                                {Codec::vorbis, "A_VORBIS"}}};
        for (auto& [codec, name] : ids)
            if (codec == t.codec) e.words(id::codec_id, name);
        if (t.codec == Codec::vp9 && t.config.size() >= 3) {
            // WebM's own form of the same facts: id, length, value.
            Bytes features{1, 1, t.config[0],
                           2, 1, t.config[1],
                           3, 1, static_cast<std::uint8_t>(t.config[2] >> 4),
                           4, 1, static_cast<std::uint8_t>(t.config[2] >> 1 & 7)};
            e.binary(id::codec_private, features);
        } else if (!t.config.empty()) {
            e.binary(id::codec_private, t.config);
        }
        if (sound) {
            if (t.delay_samples)
                e.number(id::codec_delay, static_cast<std::uint64_t>(ticks_to_time(t.delay_samples, 1, 48000).ns));
            if (t.codec == Codec::opus) e.number(id::seek_pre_roll, 80'000'000);
            e.master(id::audio, [&](auto& a) {
                a.real(id::sampling_frequency, t.audio.rate)
                    .number(id::channels, static_cast<std::uint64_t>(t.audio.channels));
            });
            return;
        }
        auto& v = t.video;
        e.master(id::video, [&](auto& m) {
            m.number(id::flag_interlaced, 2)
                .number(id::pixel_width, static_cast<std::uint64_t>(v.width))
                .number(id::pixel_height, static_cast<std::uint64_t>(v.height));
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

    Outcome put(std::size_t index, Held& h, Time cut, bool last) {
        bool video = tracks_[index].audio.rate == 0;
        bool has_video = std::any_of(tracks_.begin(), tracks_.end(), [](auto& t) { return t.audio.rate == 0; });
        bool fresh = cluster_.empty() || h.ms - cluster_ms_ > 30'000 || h.ms < cluster_ms_ - 30'000 ||
                     cluster_.size() > (4 << 20) || (video && h.keyframe && h.ms - cluster_ms_ >= 500) ||
                     (!has_video && h.ms - cluster_ms_ >= 5'000);
        if (fresh) {
            TRY_DO(flush());
            cluster_ms_ = h.ms;
            EbmlWriter w;
            w.number(id::timestamp, static_cast<std::uint64_t>(cluster_ms_));
            cluster_ = w.bytes;
        }
        EbmlWriter block;
        block.size(index + 1).be(static_cast<std::uint16_t>(static_cast<std::int16_t>(h.ms - cluster_ms_)), 2);
        // Where there are no pictures, the beginning of each cluster is a place to go to.
        if (video ? h.keyframe : fresh && !has_video) pending_.push_back({h.ms, index + 1, 0, cluster_.size()});
        EbmlWriter w;
        if (last && (cut.ns > 0 || video)) {
            block.u8(0).raw(h.data);
            w.master(id::block_group, [&](auto& g) {
                g.binary(id::block, block.bytes);
                if (video)
                    g.number(id::block_duration, static_cast<std::uint64_t>(
                                                     std::max<std::int64_t>(1, (h.duration.ns + 500'000) / 1'000'000)));
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

    Outcome flush() {
        if (cluster_.empty()) return {};
        for (auto& cue : pending_) cue.cluster = sink_->position(), cues_.push_back(cue);
        pending_.clear();
        EbmlWriter w;
        w.element_id(id::cluster).size(cluster_.size());
        TRY_DO(sink_->write(w.bytes));
        TRY_DO(sink_->write(cluster_));
        cluster_.clear();
        return {};
    }

    std::unique_ptr<ByteSink> sink_;
    std::vector<WriteTrack> tracks_;
    std::vector<Held> held_;
    std::vector<Cue> cues_, pending_;
    Bytes cluster_;
    std::int64_t cluster_ms_ = 0;
    std::uint64_t segment_ = 0, info_at_ = 0, tracks_at_ = 0, duration_at_ = 0;
    Time end_{};
};

}  // namespace
}  // namespace ruedo::matroska

namespace ruedo {
std::unique_ptr<ClipWriter> write_webm(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<matroska::WebmWriter>(std::move(sink));
}
Result<std::unique_ptr<ClipWriter>> write_webm(const std::filesystem::path& path, bool replace) {
    TRY(auto file, FileWriter::create(path, replace));
    return write_webm(std::make_unique<FileWriter>(std::move(file)));
}
}  // namespace ruedo
