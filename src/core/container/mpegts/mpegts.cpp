// SPDX-License-Identifier: Apache-2.0
// MPEG transport streams (ISO/IEC 13818-1): the tables that name what travels in them.
#include <fmt/format.h>

#include <algorithm>

#include "container/mpegts/pes_clip.h"

namespace ruedo::mpegts {
namespace {

/// A table section (clause 2.4.4) put together from packets of one PID.
struct Section {
    Bytes data;
    bool add(const Packet& p) {
        auto payload = p.payload;
        if (p.unit_start) {
            if (payload.empty() || payload[0] + 1U > payload.size()) return false;
            payload = payload.subspan(payload[0] + 1U);
            data.clear();
        } else if (data.empty()) {
            return false;
        }
        if (data.size() < 8192) data.insert(data.end(), payload.begin(), payload.end());
        return data.size() >= 3 && data.size() >= length();
    }
    std::size_t length() const { return 3U + ((data[1] & 0x0FU) << 8 | data[2]); }
    /// Between the table's own fields and its CRC.
    ByteView body() const { return length() >= 12 ? ByteView(data).subspan(8, length() - 12) : ByteView{}; }
};

class TsClip final : public PesClip {
  public:
    Status open(std::shared_ptr<ByteSource> source, Layout layout, std::optional<Timeline> timeline) {
        shared_->source = std::move(source);
        shared_->layout = layout;
        info_.container = "mpegts";
        RUEDO_TRY_DO(read_tables());
        if (shared_->streams.empty())
            return fail(ErrorCode::malformed,
                        fmt::format("“{}” looks like a transport stream, but no programme is described in it.",
                                    shared_->source->name()),
                        "Copy or record it again.");
        return settle(timeline);
    }

  private:
    Status read_tables() {
        PacketWalker packets(shared_->source, *shared_->layout);
        Packet p;
        Section pat, pmt;
        std::optional<unsigned> map_pid;
        for (int i = 0; i < 100'000; ++i) {
            RUEDO_TRY(bool more, packets.next(p));
            if (!more) break;
            if (p.pid == 0 && !map_pid && pat.add(p)) {
                ByteReader r(pat.body());
                while (r.left() >= 4) {
                    auto programme = r.u16();
                    auto pid = r.u16() & 0x1FFFU;
                    if (programme != 0) {
                        map_pid = pid;
                        break;
                    }
                }
            } else if (map_pid && p.pid == *map_pid && pmt.add(p)) {
                read_map(pmt.body());
                return {};
            }
        }
        return {};
    }
    void read_map(ByteView body) {
        ByteReader r(body);
        r.skip(2);
        r.skip(r.u16() & 0xFFF);
        while (r.left() >= 5 && shared_->streams.size() < 64) {
            auto type = r.u8();
            auto pid = r.u16() & 0x1FFFU;
            ByteReader d(r.take(r.u16() & 0xFFF));
            Stream s;
            s.pid = pid;
            auto& t = s.track;
            t.id = pid;
            t.tick = {1, 90000};
            t.codec_tag = fmt::format("stream type 0x{:02x}", type);
            switch (type) {
                case 0x1B:
                    t.kind = Kind::video, t.codec = Codec::h264;
                    break;
                case 0x24:
                    t.kind = Kind::video, t.codec = Codec::hevc;
                    break;
                case 0x01:
                    t.kind = Kind::video, t.codec = Codec::mpeg1;
                    break;
                case 0x02:
                    t.kind = Kind::video, t.codec = Codec::mpeg2;
                    break;
                case 0x10:
                    t.kind = Kind::video, t.codec = Codec::mpeg4;
                    break;
                case 0x0F:
                    t.kind = Kind::audio, t.codec = Codec::aac;
                    break;
                case 0x03:
                case 0x04:
                    t.kind = Kind::audio, t.codec = Codec::mp3;
                    break;
                case 0x81:
                    t.kind = Kind::audio, t.codec = Codec::ac3;
                    break;
                case 0x11:
                case 0x87:
                    t.kind = Kind::audio;
                    break;
                case 0x06:  // private data; its descriptors tell
                    break;
                default:
                    continue;
            }
            while (d.left() >= 2) {
                auto tag = d.u8(), length = d.u8();
                auto content = d.take(length);
                if (tag == 0x0A && content.size() >= 3)
                    t.language = bcp47_from_iso639(std::string(content.begin(), content.begin() + 3));
                if (tag == 0x6A) t.kind = Kind::audio, t.codec = Codec::ac3;  // ETSI EN 300 468 annex D
            }
            if (t.kind != Kind::other) add(std::move(s));
        }
    }
};

}  // namespace

bool probe(ByteView head) { return find_layout(head).has_value(); }

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    return mpegts::open_segment(std::move(source), std::nullopt);
}

Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline) {
    Bytes head(2048);
    RUEDO_TRY(auto got, source->read_at(0, head));
    head.resize(got);
    auto clip = std::make_unique<TsClip>();
    RUEDO_TRY_DO(clip->open(std::move(source), find_layout(head).value_or(Layout{}), timeline));
    return clip;
}

}  // namespace ruedo::mpegts
