// SPDX-License-Identifier: Apache-2.0
// Writing MPEG transport streams (ISO/IEC 13818-1): one programme, its tables repeated, a clock reference ten times a
// second.
#include <algorithm>

#include "container/container.h"
#include "media/codec_headers.h"

namespace ruedo::mpegts {
namespace {

constexpr unsigned map_pid = 0x1000, first_pid = 0x100;
constexpr std::int64_t lead = 90'000;         ///< Time stamps begin so late, so that none is negative.
constexpr std::int64_t clock_ahead = 45'000;  ///< So long before it is decoded what is written must have come.
constexpr Time tables_apart{100'000'000}, clocks_apart{100'000'000};  ///< At most (2.7.2 of the latter).

struct Kin {
    Codec codec;
    unsigned stream_type, stream_id;
};
constexpr std::array kinds{Kin{Codec::h264, 0x1B, 0xE0},  Kin{Codec::hevc, 0x24, 0xE0}, Kin{Codec::mpeg2, 0x02, 0xE0},
                           Kin{Codec::mpeg1, 0x01, 0xE0}, Kin{Codec::aac, 0x0F, 0xC0},  Kin{Codec::mp3, 0x03, 0xC0},
                           Kin{Codec::mp2, 0x03, 0xC0},   Kin{Codec::ac3, 0x81, 0xBD}};
const Kin& kin_of(Codec codec) {
    return *std::find_if(kinds.begin(), kinds.end(), [&](auto& k) { return k.codec == codec; });
}

/// Annex A: the CRC that every section ends with.
std::uint32_t section_crc(ByteView data) {
    std::uint32_t crc = 0xFFFFFFFF;
    for (auto b : data)
        for (unsigned bit = 0; bit < 8; ++bit) {
            bool top = (crc >> 31 ^ b >> (7 - bit)) & 1;
            crc = crc << 1 ^ (top ? 0x04C11DB7 : 0);
        }
    return crc;
}

struct Elementary {
    MuxerTrack spec;
    unsigned pid = 0, stream_id = 0, continuity = 0;
    unsigned length_size = 4;
    Bytes parameter_sets;  ///< As a byte stream, to be repeated at keyframes.
};

class TsMuxer final : public Muxer {
  public:
    explicit TsMuxer(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}
    Result<std::size_t> add(const MuxerTrack& track) override {
        RUEDO_TRY_DO(container_format_named("mpegts")->check(track));
        Elementary e;
        e.spec = track;
        e.pid = first_pid + static_cast<unsigned>(tracks_.size());
        e.stream_id = kin_of(track.codec).stream_id;
        bool fine = true;
        if (track.codec == Codec::h264) {
            auto c = parse_avcc(track.config);
            if ((fine = c.has_value())) e.length_size = c->length_size, e.parameter_sets = c->parameter_sets;
        } else if (track.codec == Codec::hevc) {
            auto c = parse_hvcc(track.config);
            if ((fine = c.has_value())) e.length_size = c->length_size, e.parameter_sets = c->parameter_sets;
        } else if (track.codec == Codec::aac) {
            fine = !adts_header(track.config, 0).empty();
        }
        if (!fine)
            return fail(ErrorCode::malformed, "The track’s header has no form in a transport stream.",
                        "Let it be encoded anew.");
        for (auto& other : tracks_)
            if (other.stream_id == e.stream_id && e.stream_id != 0xBD) e.stream_id = other.stream_id + 1;
        tracks_.push_back(std::move(e));
        return tracks_.size() - 1;
    }
    Status write(std::size_t index, const MuxerPacket& p) override {
        auto& t = tracks_.at(index);
        if (clock_ == SIZE_MAX) {
            auto video =
                std::find_if(tracks_.begin(), tracks_.end(), [](auto& e) { return e.spec.kind() == Kind::video; });
            clock_ = video == tracks_.end() ? 0 : static_cast<std::size_t>(video - tracks_.begin());
        }
        bool starts =
            (index == clock_ && p.keyframe && t.spec.kind() == Kind::video) || std::exchange(begins_segment_, false);
        if (!any_ || starts || p.dts - tables_at_ >= tables_apart) {
            RUEDO_TRY_DO(tables());
            tables_at_ = p.dts;
        }
        any_ = true;
        RUEDO_TRY_DO(keep_clock(p.dts));
        RUEDO_TRY(auto data, payload(t, p));
        return send(t, index == clock_, p, data);
    }
    void begins_segment() override { begins_segment_ = true; }
    Status finish(const Progress&) override {
        if (!any_)
            return fail(ErrorCode::empty, "Nothing was written into the clip.",
                        "Choose a source with pictures or sound.");
        return sink_->commit();
    }

  private:
    Result<Bytes> payload(const Elementary& t, const MuxerPacket& p) {
        Bytes out;
        switch (t.spec.codec) {
            case Codec::h264:
            case Codec::hevc: {
                bool avc = t.spec.codec == Codec::h264;
                // An access unit delimiter first (2.14.1), and what decoding needs before every keyframe.
                out = avc ? Bytes{0, 0, 0, 1, 0x09, 0xF0} : Bytes{0, 0, 0, 1, 0x46, 0x01, 0x50};
                if (p.keyframe) out.insert(out.end(), t.parameter_sets.begin(), t.parameter_sets.end());
                Bytes units;
                if (!to_annex_b(p.data, t.length_size, units))
                    return fail(ErrorCode::malformed, "A picture’s parts are longer than the picture.",
                                "Let it be encoded anew.");
                for (auto unit : split_annex_b(units)) {
                    if (unit.empty() || (avc ? (unit[0] & 31) == 9 : (unit[0] >> 1 & 63) == 35)) continue;
                    out.insert(out.end(), {0, 0, 0, 1});
                    out.insert(out.end(), unit.begin(), unit.end());
                }
                return out;
            }
            case Codec::aac:
                out = adts_header(t.spec.config, p.data.size());
                if (out.empty())
                    return fail(ErrorCode::limit, "A packet of the sound is too long for a transport stream.",
                                "Let it be encoded anew.");
                break;
            case Codec::mpeg1:
            case Codec::mpeg2:
                if (p.keyframe && (p.data.size() < 4 || p.data[3] != 0xB3)) out = t.spec.config;
                break;
            default:
                break;
        }
        out.insert(out.end(), p.data.begin(), p.data.end());
        return out;
    }
    static void stamp(ByteWriter& w, unsigned mark, std::int64_t t) {
        auto v = static_cast<std::uint64_t>(t) & 0x1FFFFFFFFULL;
        w.u8(mark << 4 | (v >> 30) << 1 | 1).u16((v >> 15 & 0x7FFF) << 1 | 1).u16((v & 0x7FFF) << 1 | 1);
    }
    /// When what is written here must have come, for what is decoded at `t` (2.4.3.5).
    void reference(ByteWriter& field, Time t) {
        auto ticks = time_to_ticks(t, 90000) + lead - clock_ahead;
        auto base = static_cast<std::uint64_t>(std::max<std::int64_t>(0, ticks)) & 0x1FFFFFFFFULL;
        field.u32(base >> 1).u8((base & 1) << 7 | 0x7E).u8(0);
        clocked_ = t;
    }
    /// References by themselves, where pictures come further apart than those may. A gap of hours is not filled.
    Status keep_clock(Time now) {
        auto& t = tracks_.at(clock_);
        if (clocked_ && now - *clocked_ > 3600_s) clocked_.reset();
        while (clocked_ && now - *clocked_ > clocks_apart) {
            ByteWriter packet;  // without a payload, so that it is not counted
            packet.u8(0x47).u16(t.pid).u8(0x20 | ((t.continuity + 15) & 15)).u8(183).u8(0x10);
            reference(packet, *clocked_ + clocks_apart);
            packet.bytes.resize(188, 0xFF);
            RUEDO_TRY_DO(sink_->write(packet.bytes));
        }
        return {};
    }
    Status send(Elementary& t, bool clock, const MuxerPacket& p, const Bytes& data) {
        auto pts = time_to_ticks(p.pts, 90000) + lead, dts = time_to_ticks(p.dts, 90000) + lead;
        ByteWriter w;
        w.u24(1).u8(t.stream_id);
        auto length = 3 + (pts == dts ? 5U : 10U) + data.size();
        // Pictures may be longer than this can say; 0 then leaves it open.
        w.u16(length > 0xFFFF || t.spec.kind() == Kind::video ? 0 : length);
        w.u8(0x84).u8(pts == dts ? 0x80 : 0xC0).u8(pts == dts ? 5 : 10);
        stamp(w, pts == dts ? 2 : 3, pts);
        if (pts != dts) stamp(w, 1, dts);
        w.raw(data);
        bool random = p.keyframe;
        for (std::size_t at = 0; at < w.size();) {
            ByteWriter field;  // what the adaptation field holds behind its length
            bool first = at == 0;
            if (first && (clock || random)) {
                field.u8((random ? 0x40 : 0) | (clock ? 0x10 : 0));
                if (clock) reference(field, p.dts);
            }
            auto head = field.size() ? field.size() + 1 : 0;
            auto n = std::min<std::size_t>(184 - head, w.size() - at);
            // What is short of a packet is stuffed, in the adaptation field.
            auto stuffing = 184 - head - n;
            ByteWriter packet;
            packet.u8(0x47).u16((first ? 0x4000U : 0) | t.pid).u8((head || stuffing ? 0x30 : 0x10) | t.continuity);
            t.continuity = (t.continuity + 1) & 15;
            if (head || stuffing) {
                packet.u8(head + stuffing - 1);
                if (!head && stuffing > 1) packet.u8(0), --stuffing;
                if (!head) --stuffing;
                packet.raw(field.bytes);
                packet.bytes.insert(packet.bytes.end(), stuffing, 0xFF);
            }
            packet.raw(ByteView(w.bytes).subspan(at, n));
            packet.bytes.resize(188, 0xFF);
            RUEDO_TRY_DO(sink_->write(packet.bytes));
            at += n;
        }
        return {};
    }
    Status section(unsigned pid, unsigned& continuity, unsigned table, ByteView body) {
        ByteWriter s;
        s.u8(table).u16(0xB000 | (body.size() + 5 + 4)).u16(1).u8(0xC1).u16(0).raw(body);
        s.u32(section_crc(s.bytes));
        ByteWriter packet;
        packet.u8(0x47).u16(0x4000 | pid).u8(0x10 | continuity).u8(0).raw(s.bytes);
        continuity = (continuity + 1) & 15;
        if (packet.size() > 188)
            return fail(ErrorCode::limit, "A transport stream of so many tracks is not written here.",
                        "Keep fewer tracks.");
        packet.bytes.resize(188, 0xFF);
        return sink_->write(packet.bytes);
    }
    Status tables() {
        ByteWriter programmes, map;
        programmes.u16(1).u16(0xE000 | map_pid);
        RUEDO_TRY_DO(section(0, pat_continuity_, 0, programmes.bytes));
        map.u16(0xE000 | tracks_.at(clock_).pid).u16(0xF000);
        for (auto& t : tracks_) {
            ByteWriter descriptors;
            if (t.spec.kind() == Kind::audio && !t.spec.language.empty())
                descriptors.u8(0x0A).u8(4).text(iso639_from_bcp47(t.spec.language)).u8(0);
            map.u8(kin_of(t.spec.codec).stream_type).u16(0xE000 | t.pid).u16(0xF000 | descriptors.size());
            map.raw(descriptors.bytes);
        }
        return section(map_pid, pmt_continuity_, 2, map.bytes);
    }

    std::unique_ptr<ByteSink> sink_;
    std::vector<Elementary> tracks_;
    std::size_t clock_ = SIZE_MAX;
    unsigned pat_continuity_ = 0, pmt_continuity_ = 0;
    Time tables_at_{};
    std::optional<Time> clocked_;  ///< What the last reference is for.
    bool any_ = false, begins_segment_ = false;
};

}  // namespace
}  // namespace ruedo::mpegts

namespace ruedo {
std::unique_ptr<Muxer> mpegts_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<mpegts::TsMuxer>(std::move(sink));
}
}  // namespace ruedo
