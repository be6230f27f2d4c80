// SPDX-License-Identifier: Apache-2.0
// Transport packets and the packetized elementary streams in them (ISO/IEC 13818-1 clauses 2.4.3.2 and 2.4.3.6).
#pragma once
#include "io/io.h"

namespace ruedo::mpegts {

/// How packets lie in the file: 188 bytes, or 192 with a time stamp before each, or 204 with parity after.
struct Layout {
    std::uint64_t first = 0;
    std::uint64_t size = 188;
};
std::optional<Layout> find_layout(ByteView head);

struct Packet {
    std::uint64_t offset = 0;
    unsigned pid = 0;
    bool unit_start = false, random_access = false, discontinuity = false, scrambled = false;
    ByteView payload;  ///< Valid until the next packet is read.
};

class PacketWalker {
  public:
    PacketWalker(std::shared_ptr<ByteSource> source, Layout layout)
        : reader_(std::move(source)), layout_(layout), at_(layout.first) {}
    /// Moves to the first packet at or after `offset`.
    void seek(std::uint64_t offset);
    Result<bool> next(Packet& packet);

  private:
    SourceReader reader_;
    Layout layout_;
    std::uint64_t at_;
};

struct Pes {
    std::uint64_t offset = 0;
    std::optional<std::int64_t> pts, dts;  ///< 90 kHz, 33 bits.
    bool random_access = false;
    Bytes data;
    bool complete = true;  ///< False when only its first packet was taken.
};

/// Takes the header off a packet that begins a unit; false when its bytes are none.
bool begin_pes(Pes& pes, const Packet& packet);

/// Puts together what one PID carries.
class PesWalker {
  public:
    PesWalker(std::shared_ptr<ByteSource> source, Layout layout, unsigned pid)
        : packets_(std::move(source), layout), pid_(pid) {}
    void seek(std::uint64_t offset);
    Result<bool> next(Pes& pes);
    /// Only the first transport packet of the next one; for looking at times.
    Result<bool> next_head(Pes& pes);

  private:
    PacketWalker packets_;
    unsigned pid_;
    std::optional<Pes> begun_;
};

}  // namespace ruedo::mpegts
