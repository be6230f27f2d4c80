// SPDX-License-Identifier: Apache-2.0
// Where the times of a transport or program stream start over, as in files joined from several and at a station that
// begins its programme anew: the parts are laid end to end.
#pragma once
#include <atomic>
#include <cstdint>
#include <map>
#include <mutex>
#include <optional>
#include <vector>

namespace ruedo::mpegts {

/// Which part of the file a packet is in, and by how much that part's times are moved. Thread-safe: where bytes come in
/// order only, each reader tells what it comes by.
class Joins {
  public:
    /// A packet of stream `pid` at `offset` that is decoded at `ticks` (90 kHz) of its own part's times. Only what lies
    /// behind everything seen of the stream is looked at. A few stamps that are astray by themselves begin no part.
    void see(unsigned pid, std::uint64_t offset, std::int64_t ticks);
    /// Reading goes on at `offset`: when something is passed over so, times may be far apart there.
    void jump(unsigned pid, std::uint64_t offset);
    /// What is added to the times of that packet.
    std::int64_t shift(unsigned pid, std::uint64_t offset) const;
    /// In how many places times start over.
    std::size_t count() const;

  private:
    static constexpr std::size_t most = 65536;
    struct Moved {
        std::uint64_t from = 0;  ///< The packet from which on ...
        std::int64_t by = 0;     ///< ... so many ticks are added,
        std::size_t part = 0;    ///< as so many further parts have begun.
    };
    struct StreamClock {
        std::vector<Moved> moved;
        std::optional<std::int64_t> last;  ///< Ticks since the first part's start.
        std::uint64_t offset = 0;
        unsigned run = 0;  ///< Packets since it was moved.
        bool gap = false;  ///< What follows it was passed over.
    };
    static std::int64_t shift_of(const StreamClock& s, std::uint64_t offset);
    mutable std::mutex mutex_;
    std::map<unsigned, StreamClock> streams_;
    std::vector<std::int64_t> parts_;  ///< What is added in each further one, as the stream that came first to it says.
    std::atomic<bool> any_ = false;    ///< Whether any packet is moved; mostly none is.
};

}  // namespace ruedo::mpegts
