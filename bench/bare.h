// SPDX-License-Identifier: Apache-2.0
// The codec libraries used as barely as can be: what the engine is measured against.
#pragma once
#include <memory>

#include "media/media.h"

namespace ruedo::bench {

struct Packets {
    std::vector<Packet> list;
    Track track;
};

class BareDecoder {
  public:
    virtual ~BareDecoder() = default;
    /// Feeds one packet; with `pixels` what comes out is converted there, directly. Pictures that came out.
    virtual int decode(const Packet& packet, std::vector<std::uint8_t>* pixels) = 0;
    virtual int drain(std::vector<std::uint8_t>* pixels) = 0;
};
/// Planes of 4:2:0 as pixels, as directly as can be.
void to_pixels(const std::uint8_t* const planes[3], const int strides[2], int w, int h, std::vector<std::uint8_t>& out);
std::unique_ptr<BareDecoder> bare_decoder(const Track& track, unsigned threads);

}  // namespace ruedo::bench
