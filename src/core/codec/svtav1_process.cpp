// SPDX-License-Identifier: Apache-2.0
// AV1 encoding through SVT-AV1 (Main profile, 8-bit 4:2:0), in a process of its own: a call of the library can take
// seconds, it cannot be broken off, and two of it in one process disturb each other. Standard input is the socket to
// the parent (codec/svtav1.cpp); the process ends as soon as that closes its end.
#include <poll.h>
#include <svt-av1/EbSvtAv1Enc.h>

#include <algorithm>
#include <array>
#include <cstdlib>
#include <thread>
#include <vector>

#include "codec/svtav1_wire.h"
#include "media/codec_headers.h"

namespace ruedo::svtav1 {
namespace {

struct Packet {
    std::int64_t number;
    bool keyframe;
    Bytes data;
};

/// The library. It is never taken apart, since that waits for the end of all that was begun: the process ends instead.
class Library {
  public:
    /// Why it could not start, if so.
    Answer::What start(const Settings& o) {
        EbSvtAv1EncConfiguration c{};
        if (svt_av1_enc_init_handle(&handle_, nullptr, &c) != EB_ErrorNone) return Answer::What::not_started;
        width_ = o.width, height_ = o.height;
        c.source_width = static_cast<std::uint32_t>(o.width), c.source_height = static_cast<std::uint32_t>(o.height);
        c.frame_rate_numerator = static_cast<std::uint32_t>(o.rate_num);
        c.frame_rate_denominator = static_cast<std::uint32_t>(o.rate_den);
        static constexpr std::array<std::int8_t, 3> presets{12, 8, 5};
        c.enc_mode = presets.at(static_cast<std::size_t>(std::clamp(o.effort, 0, 2)));
        c.intra_period_length = std::max(1, o.keyframe_every) - 1;
        c.intra_refresh_type = SVT_AV1_KF_REFRESH;
        c.scene_change_detection = 0;
        // What it looks ahead at it keeps, and a good deal more with it; large pictures are kept fewer.
        bool large = o.width * o.height > 1280 * 720;
        c.hierarchical_levels = large ? 3 : 4;
        c.look_ahead_distance = large ? 0 : 16;
        c.enable_tf = !large;
        c.logical_processors = 2;
        if (o.bitrate == 0) {
            c.rate_control_mode = SVT_AV1_RC_MODE_CQP_OR_CRF;
            c.qp = static_cast<std::uint32_t>(std::clamp(o.quality, 1, 63));
        } else {
            c.rate_control_mode = SVT_AV1_RC_MODE_VBR;
            c.target_bit_rate = o.bitrate;
        }
        c.matrix_coefficients = static_cast<EbMatrixCoefficients>(o.matrix);
        c.color_primaries = static_cast<EbColorPrimaries>(o.primaries);
        c.transfer_characteristics = static_cast<EbTransferCharacteristics>(o.transfer);
        c.color_range = o.full_range ? EB_CR_FULL_RANGE : EB_CR_STUDIO_RANGE;
        if (svt_av1_enc_set_parameter(handle_, &c) != EB_ErrorNone || svt_av1_enc_init(handle_) != EB_ErrorNone)
            return Answer::What::refused;
        EbBufferHeaderType* header = nullptr;
        if (svt_av1_enc_stream_header(handle_, &header) == EB_ErrorNone && header) {
            for (auto& u : split_av1({header->p_buffer, header->n_filled_len}))
                if (u.type == Av1Unit::sequence_header) configure(u);
            svt_av1_enc_stream_header_release(header);
        }
        return config_.empty() ? Answer::What::no_header : Answer::What::fine;
    }
    /// Planes without gaps.
    bool encode(Bytes& picture, std::vector<Packet>& out) { return send(picture, count_++) && collect(out, false); }
    bool drain(std::vector<Packet>& out) {
        // Without a picture its threads wait for one for ever: they get one, which goes nowhere.
        Bytes grey(static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_) * 3 / 2, 128);
        if (count_ == 0 && !send(grey, -1)) return false;
        EbBufferHeaderType end{};
        end.size = sizeof end;
        end.flags = EB_BUFFERFLAG_EOS;
        end.pic_type = EB_AV1_INVALID_PICTURE;
        svt_av1_enc_send_picture(handle_, &end);
        return collect(out, true);
    }
    /// An AV1CodecConfigurationRecord (AV1 in ISOBMFF clause 2.3.3).
    const Bytes& config() const { return config_; }

  private:
    bool send(Bytes& picture, std::int64_t number) {
        auto luma = static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_);
        EbSvtIOFormat planes{};
        planes.luma = picture.data(), planes.cb = planes.luma + luma, planes.cr = planes.cb + luma / 4;
        planes.y_stride = static_cast<std::uint32_t>(width_);
        planes.cb_stride = planes.cr_stride = static_cast<std::uint32_t>(width_ / 2);
        planes.width = static_cast<std::uint32_t>(width_), planes.height = static_cast<std::uint32_t>(height_);
        planes.color_fmt = EB_YUV420, planes.bit_depth = EB_EIGHT_BIT;
        EbBufferHeaderType in{};
        in.size = sizeof in;
        in.p_buffer = reinterpret_cast<std::uint8_t*>(&planes);
        in.n_filled_len = static_cast<std::uint32_t>(picture.size());
        in.pic_type = EB_AV1_INVALID_PICTURE;
        in.pts = number;
        return svt_av1_enc_send_picture(handle_, &in) == EB_ErrorNone;
    }
    void configure(const Av1Unit& u) {
        auto s = parse_av1_sequence(u.payload).value_or(Av1Sequence{});
        ByteWriter w;
        w.u8(0x81).u8(s.profile << 5 | s.level).u8(s.tier << 7 | 1 << 3 | 1 << 2).u8(0).raw(u.whole);
        config_ = std::move(w.bytes);
    }
    bool collect(std::vector<Packet>& out, bool to_the_end) {
        for (;;) {
            EbBufferHeaderType* packet = nullptr;
            auto got = svt_av1_enc_get_packet(handle_, &packet, to_the_end);
            if (got == EB_NoErrorEmptyQueue || (got == EB_ErrorNone && !packet)) return true;
            if (got != EB_ErrorNone) return false;
            Packet p{packet->pts, packet->pic_type == EB_AV1_KEY_PICTURE, {}};
            // Containers mark where a picture begins, so delimiters are left out.
            for (auto& u : split_av1({packet->p_buffer, packet->n_filled_len}))
                if (u.type != Av1Unit::temporal_delimiter) p.data.insert(p.data.end(), u.whole.begin(), u.whole.end());
            bool last = packet->flags & EB_BUFFERFLAG_EOS;
            svt_av1_enc_release_out_buffer(&packet);
            if (!p.data.empty() && p.number >= 0) out.push_back(std::move(p));
            if (last) return true;
        }
    }
    EbComponentType* handle_ = nullptr;
    int width_ = 0, height_ = 0;
    std::int64_t count_ = 0;
    Bytes config_;
};

bool answer(int to, Answer::What what, const std::vector<Packet>& packets) {
    Answer head{what, static_cast<std::uint32_t>(packets.size())};
    return write_all(to, &head, sizeof head) && std::all_of(packets.begin(), packets.end(), [&](auto& p) {
               PacketHeader header{p.number, p.data.size(), p.keyframe};
               return write_all(to, &header, sizeof header) && write_all(to, p.data.data(), p.data.size());
           });
}

void serve(int socket) {
    using What = Answer::What;
    Settings s;
    if (!read_all(socket, &s, sizeof s)) return;
    Library library;
    auto started = library.start(s);
    std::vector<Packet> packets;
    if (started == What::fine) packets.push_back({0, true, library.config()});
    bool goes_on = answer(socket, started, packets) && started == What::fine;
    Bytes picture(static_cast<std::size_t>(s.width) * static_cast<std::size_t>(s.height) * 3 / 2);
    Command command;
    while (goes_on && read_all(socket, &command, sizeof command)) {
        if (command == Command::picture && !read_all(socket, picture.data(), picture.size())) return;
        packets.clear();
        bool fine = command == Command::picture ? library.encode(picture, packets) : library.drain(packets);
        goes_on = answer(socket, fine ? What::fine : What::failed, packets);
    }
}

}  // namespace
}  // namespace ruedo::svtav1

int main() {
    setenv("SVT_LOG", "0", 1);  // it would tell of itself on stderr
    std::thread([] {
        pollfd other_end{STDIN_FILENO, POLLRDHUP, 0};
        while (::poll(&other_end, 1, -1) < 0) continue;
        ::_exit(0);
    }).detach();
    ruedo::svtav1::serve(STDIN_FILENO);
    ::_exit(0);  // not waiting for the library's threads
}
