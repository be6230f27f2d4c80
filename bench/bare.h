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
std::unique_ptr<BareDecoder> bare_decoder(const Track& track, unsigned threads);

}  // namespace ruedo::bench
