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
    bool complete = true;    ///< False when only its first packet was taken.
    std::size_t stated = 0;  ///< How long `data` should be (clause 2.4.3.7); 0 where that is not said.
};

/// The PES packets of one elementary stream in their order, whatever they travel in.
class PesSource {
  public:
    virtual ~PesSource() = default;
    /// Goes on from the first that begins at or after `offset` of the file.
    virtual void seek(std::uint64_t offset) = 0;
    virtual Result<bool> next(Pes& pes) = 0;
    /// The next one, with its first packet's data only; for looking at times.
    virtual Result<bool> next_head(Pes& pes) = 0;
};

/// A time stamp of 33 bits in five bytes.
std::int64_t read_stamp(ByteReader& r);
/// Takes the header off a packet that begins a unit; false when its bytes are none.
bool begin_pes(Pes& pes, const Packet& packet);

/// Puts together what one PID carries.
class PesWalker final : public PesSource {
  public:
    PesWalker(std::shared_ptr<ByteSource> source, Layout layout, unsigned pid)
        : packets_(std::move(source), layout), pid_(pid) {}
    void seek(std::uint64_t offset) override;
    Result<bool> next(Pes& pes) override;
    Result<bool> next_head(Pes& pes) override;

  private:
    PacketWalker packets_;
    unsigned pid_;
    std::optional<Pes> begun_;
};

/// PES packets of a program stream (clause 2.5.3), or packets of an ISO/IEC 11172-1 stream.
class PackWalker final : public PesSource {
  public:
    /// `stream`: a stream id; or, for private stream 1, 0xBD00 with the number of what travels in it. 0: any.
    PackWalker(std::shared_ptr<ByteSource> source, unsigned stream) : reader_(std::move(source)), stream_(stream) {}
    void seek(std::uint64_t offset) override;
    Result<bool> next(Pes& pes) override;
    Result<bool> next_head(Pes& pes) override { return next(pes); }
    /// Which stream the last one was of.
    unsigned stream() const { return found_; }

  private:
    SourceReader reader_;
    unsigned stream_, found_ = 0;
    std::uint64_t at_ = 0;
    bool in_step_ = true;
};

}  // namespace ruedo::mpegts
