// SPDX-License-Identifier: Apache-2.0
#pragma once
#include "codec/codec.h"

namespace ruedo {

/// Sound encoders whose packets all last equally long: what is short is filled up with silence, and silence drives out
/// what the encoder still holds.
class FixedFrameEncoder : public AudioEncoder {
  public:
    Status encode(std::span<const float> interleaved, std::vector<EncodedSamples>& out) override {
        auto whole = frame_samples() * static_cast<std::size_t>(channels_);
        put_in_ += static_cast<std::int64_t>(interleaved.size()) / channels_;
        std::vector<float> filled;
        if (interleaved.size() < whole) {
            filled.assign(interleaved.begin(), interleaved.end());
            filled.resize(whole);
            interleaved = filled;
        }
        RUEDO_TRY(auto data, encode_frame(interleaved));
        come_out_ += static_cast<std::int64_t>(frame_samples());
        out.push_back({std::move(data), static_cast<std::uint32_t>(frame_samples())});
        return {};
    }
    Status drain(std::vector<EncodedSamples>& out) override {
        while (come_out_ < put_in_ + static_cast<std::int64_t>(delay_samples())) RUEDO_TRY_DO(encode({}, out));
        return {};
    }

  protected:
    /// One packet of `frame_samples` per channel.
    virtual Result<Bytes> encode_frame(std::span<const float> interleaved) = 0;

  private:
    std::int64_t put_in_ = 0, come_out_ = 0;
};

}  // namespace ruedo
