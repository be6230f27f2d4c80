// SPDX-License-Identifier: Apache-2.0
// Vorbis decoding through libvorbis.
#include <vorbis/codec.h>

#include "codec/channel_order.h"
#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto broken = [] {
            return fail(Code::malformed, "The Vorbis track's headers can't be followed.", "Export the sound again.");
        };
        auto headers = split_laced(track.config);
        if (headers.empty()) return broken();
        auto d = std::make_unique<Decoder>();
        int number = 0;
        for (auto h : headers) {
            auto packet = d->packet(h, number == 0);
            if (vorbis_synthesis_headerin(&d->info_, &d->comment_, &packet) != 0) return broken();
            ++number;
        }
        if (d->info_.channels < 1 || d->info_.channels > 8 || vorbis_synthesis_init(&d->state_, &d->info_) != 0)
            return broken();
        vorbis_block_init(&d->state_, &d->block_);
        d->started_ = true;
        return d;
    }
    Decoder() {
        vorbis_info_init(&info_);
        vorbis_comment_init(&comment_);
    }
    ~Decoder() override {
        if (started_) vorbis_block_clear(&block_), vorbis_dsp_clear(&state_);
        vorbis_comment_clear(&comment_);
        vorbis_info_clear(&info_);
    }
    Outcome decode(ByteView data, SoundBlock& out) override {
        auto p = packet(data, false);
        out.rate = static_cast<int>(info_.rate), out.channels = info_.channels;
        out.samples.clear();
        if (vorbis_synthesis(&block_, &p) != 0)
            return fail(Code::malformed, "A packet of the Vorbis track is damaged.", "Export the clip again.");
        vorbis_synthesis_blockin(&state_, &block_);
        float** planes = nullptr;
        auto wide = static_cast<std::size_t>(info_.channels);
        auto places = vorbis_places(info_.channels);
        for (int n; (n = vorbis_synthesis_pcmout(&state_, &planes)) > 0; vorbis_synthesis_read(&state_, n)) {
            auto at = out.samples.size();
            out.samples.resize(at + static_cast<std::size_t>(n) * wide);
            for (std::size_t i = 0; i < static_cast<std::size_t>(n); ++i)
                for (std::size_t k = 0; k < wide; ++k) out.samples[at + i * wide + k] = planes[places[k]][i];
        }
        return {};
    }
    void reset() override { vorbis_synthesis_restart(&state_); }

  private:
    ogg_packet packet(ByteView data, bool first) {
        ogg_packet p{};
        p.packet = const_cast<unsigned char*>(data.data());
        p.bytes = static_cast<long>(data.size());
        p.b_o_s = first;
        p.packetno = count_++;
        p.granulepos = -1;
        return p;
    }
    vorbis_info info_{};
    vorbis_comment comment_{};
    vorbis_dsp_state state_{};
    vorbis_block block_{};
    ogg_int64_t count_ = 0;
    bool started_ = false;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "vorbis",
                                    .library = "libvorbis",
                                    .licence = "BSD-3-Clause",
                                    .package = "libvorbis0a",
                                    .decodes = {Codec::vorbis},
                                    .encodes = {},
                                    .audio_decoder = &Decoder::make};
    return &module;
}
