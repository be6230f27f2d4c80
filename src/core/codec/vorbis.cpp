// SPDX-License-Identifier: Apache-2.0
// Vorbis through libvorbis.
#include <vorbis/codec.h>
#include <vorbis/vorbisenc.h>

#include <algorithm>

#include "codec/channel_order.h"
#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto broken = [] {
            return fail(ErrorCode::malformed, "The Vorbis track's headers can't be followed.",
                        "Export the sound again.");
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
    Status decode(ByteView data, AudioBlock& out) override {
        auto p = packet(data, false);
        out.rate = static_cast<int>(info_.rate), out.channels = info_.channels;
        out.samples.clear();
        if (vorbis_synthesis(&block_, &p) != 0)
            return fail(ErrorCode::malformed, "A packet of the Vorbis track is damaged.", "Export the clip again.");
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

class Encoder final : public AudioEncoder {
  public:
    static Result<std::unique_ptr<AudioEncoder>> make(Codec, const AudioEncodeOptions& o) {
        auto refused = [] {
            return fail(ErrorCode::limit, "The Vorbis encoder refused these settings.", "Choose another rate.");
        };
        if (o.channels < 1 || o.channels > 8) return refused();
        auto e = std::make_unique<Encoder>();
        e->channels_ = o.channels;
        // It varies its rate by nature: what is aimed at is the quality that comes to about so many bits, a pair of
        // channels at 48 kHz.
        static constexpr std::array<float, 12> kilobits{45, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 500};
        auto wanted = static_cast<float>(o.bitrate) / 1000 * 2 / static_cast<float>(o.channels) * 48000 /
                      static_cast<float>(std::clamp(o.rate, 24000, 48000));
        auto above = std::upper_bound(kilobits.begin() + 1, kilobits.end() - 1, wanted);
        auto part = std::clamp((wanted - *(above - 1)) / (*above - *(above - 1)), 0.0F, 1.0F);
        auto quality = 0.1F * (static_cast<float>(above - 1 - kilobits.begin()) + part) - 0.1F;
        if (vorbis_encode_init_vbr(&e->info_, o.channels, o.rate, std::clamp(quality, -0.1F, 1.0F)) != 0)
            return refused();
        if (vorbis_analysis_init(&e->state_, &e->info_) != 0 || vorbis_block_init(&e->state_, &e->block_) != 0)
            return fail(ErrorCode::internal, "The Vorbis encoder could not be started.");
        e->started_ = true;
        ogg_packet first, comments, setup;
        if (vorbis_analysis_headerout(&e->state_, &e->comment_, &first, &comments, &setup) != 0)
            return fail(ErrorCode::internal, "The Vorbis encoder gave no headers.");
        auto bytes = [](const ogg_packet& p) { return Bytes(p.packet, p.packet + p.bytes); };
        e->config_ = lace_headers({bytes(first), bytes(comments), bytes(setup)});
        return e;
    }
    Encoder() {
        vorbis_info_init(&info_);
        vorbis_comment_init(&comment_);
    }
    ~Encoder() override {
        if (started_) vorbis_block_clear(&block_), vorbis_dsp_clear(&state_);
        vorbis_comment_clear(&comment_);
        vorbis_info_clear(&info_);
    }
    std::size_t frame_samples() const override { return 1024; }
    unsigned delay_samples() const override { return 0; }
    Status encode(std::span<const float> samples, std::vector<EncodedSamples>& out) override {
        auto wide = static_cast<std::size_t>(channels_), n = samples.size() / wide;
        auto** planes = vorbis_analysis_buffer(&state_, static_cast<int>(n));
        auto places = vorbis_places(channels_);
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t k = 0; k < wide; ++k) planes[places[k]][i] = samples[i * wide + k];
        vorbis_analysis_wrote(&state_, static_cast<int>(n));
        return collect(out);
    }
    Status drain(std::vector<EncodedSamples>& out) override {
        vorbis_analysis_wrote(&state_, 0);
        return collect(out);
    }
    Bytes config() const override { return config_; }

  private:
    Status collect(std::vector<EncodedSamples>& out) {
        while (vorbis_analysis_blockout(&state_, &block_) == 1) {
            ogg_packet packet;
            if (vorbis_analysis(&block_, nullptr) != 0 || vorbis_bitrate_addblock(&block_) != 0)
                return fail(ErrorCode::internal, "The Vorbis encoder failed on a block.");
            while (vorbis_bitrate_flushpacket(&state_, &packet) == 1) {
                // A packet gives a quarter of its block and of the one before it; the first one gives nothing yet.
                auto size = vorbis_packet_blocksize(&info_, &packet);
                auto samples = last_block_ ? (last_block_ + size) / 4 : 0;
                last_block_ = size;
                out.push_back(
                    {Bytes(packet.packet, packet.packet + packet.bytes), static_cast<std::uint32_t>(samples)});
            }
        }
        return {};
    }
    vorbis_info info_{};
    vorbis_comment comment_{};
    vorbis_dsp_state state_{};
    vorbis_block block_{};
    long last_block_ = 0;
    Bytes config_;
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
                                    .encodes = {Codec::vorbis},
                                    .audio_decoder = &Decoder::make,
                                    .audio_encoder = &Encoder::make};
    return &module;
}
