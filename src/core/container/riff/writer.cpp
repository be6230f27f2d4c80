// SPDX-License-Identifier: Apache-2.0
// Writing WAV (RIFF; RF64 of EBU Tech 3306 where it grows beyond four gigabytes).
#include "container/container.h"
#include "media/codec_headers.h"

namespace ruedo::riff {
namespace {

class WavMuxer final : public Muxer {
  public:
    explicit WavMuxer(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}
    Result<std::size_t> add(const MuxerTrack& track) override {
        RUEDO_TRY_DO(container_format_named("wav")->check(track));
        auto format = parse_pcm_format(track.config);
        if (!format || format->big_endian || data_at_)
            return fail(ErrorCode::limit, "WAV takes one track of little-endian samples.", "Let it be encoded anew.");
        block_ = format->container_bytes * static_cast<unsigned>(format->channels);
        silence_ = format->container_bytes == 1 && !format->is_float ? 0x80 : 0;
        rate_ = static_cast<std::uint64_t>(format->rate);
        ByteWriter w;
        // Room for the long sizes, should they be needed.
        w.text("RIFF").le(0, 4).text("WAVE").text("JUNK").le(28, 4).bytes.resize(w.size() + 28);
        bool wide = format->channels > 2 || format->bits > 16;
        w.text("fmt ").le(wide ? 40 : 16, 4);
        auto plain = make_pcm_config(*format);
        unsigned tag = format->is_float ? 3 : 1;
        w.le(wide ? 0xFFFE : tag, 2).raw(ByteView(plain).subspan(2));
        if (wide) {
            // Where the channels sit, as far as speakers have places; then the format as a GUID.
            static constexpr std::array<unsigned, 9> places{0, 0x4, 0x3, 0x7, 0x33, 0x37, 0x3F, 0x70F, 0x63F};
            auto n = static_cast<std::size_t>(format->channels);
            w.le(22, 2).le(format->bits, 2).le(n < places.size() ? places[n] : 0, 4).le(tag, 2);
            w.raw(Bytes{0, 0, 0, 0, 0x10, 0, 0x80, 0, 0, 0xAA, 0, 0x38, 0x9B, 0x71});
        }
        w.text("data").le(0, 4);
        data_at_ = w.size();
        RUEDO_TRY_DO(sink_->write(w.bytes));
        return 0;
    }
    Status write(std::size_t, const MuxerPacket& p) override {
        // Samples lie end to end; where there were none for a while, there is silence.
        auto stated = time_to_ticks(p.pts, rate_) * static_cast<std::int64_t>(block_);
        auto at = static_cast<std::int64_t>(sink_->position() - data_at_);
        if (auto gap = stated - at; gap > (at == 0 ? 0 : static_cast<std::int64_t>(rate_ / 100 * block_)))
            for (Bytes quiet(static_cast<std::size_t>(std::min<std::int64_t>(gap, 1 << 16)) / block_ * block_ + block_,
                             silence_);
                 gap > 0; gap -= std::ssize(quiet))
                RUEDO_TRY_DO(sink_->write(
                    ByteView(quiet).first(static_cast<std::size_t>(std::min<std::int64_t>(gap, std::ssize(quiet))))));
        return sink_->write(p.data);
    }
    Status finish(const Progress&) override {
        if (!data_at_ || sink_->position() == data_at_)
            return fail(ErrorCode::empty, "Nothing was written into the clip.", "Choose a source with sound.");
        auto size = sink_->position() - data_at_;
        if (size & 1) RUEDO_TRY_DO(sink_->write(Bytes{0}));
        auto all = sink_->position() - 8;
        bool large = all > 0xFFFFFFFE;
        ByteWriter head, length;
        head.text(large ? "RF64" : "RIFF").le(large ? 0xFFFFFFFF : all, 4).text("WAVE");
        if (large) head.text("ds64").le(28, 4).le(all, 8).le(size, 8).le(size / block_, 8).le(0, 4);
        length.le(large ? 0xFFFFFFFF : size, 4);
        RUEDO_TRY_DO(sink_->write_at(0, head.bytes));
        RUEDO_TRY_DO(sink_->write_at(data_at_ - 4, length.bytes));
        return sink_->commit();
    }

  private:
    std::unique_ptr<ByteSink> sink_;
    std::uint64_t data_at_ = 0, rate_ = 48000;
    unsigned block_ = 4;
    std::uint8_t silence_ = 0;
};

}  // namespace
}  // namespace ruedo::riff

namespace ruedo {
std::unique_ptr<Muxer> wav_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<riff::WavMuxer>(std::move(sink));
}
}  // namespace ruedo
