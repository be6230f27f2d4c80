// SPDX-License-Identifier: Apache-2.0
// What the AV1 encoder's adapter and its process say to each other, over a socket between them: a command, and for each
// an answer with so many packets. Both are built together and run on one machine, so values go as they lie in memory.
#pragma once
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <cstddef>
#include <cstdint>

namespace ruedo::svtav1 {

/// The first command; its answer holds one packet, the track's configuration. A colour is as its stream writes it.
struct Settings {
    int width, height, rate_num, rate_den, keyframe_every, effort, quality;
    std::uint32_t bitrate;  ///< Bits per second; 0 for constant quality.
    int matrix, primaries, transfer;
    bool full_range;
};
/// The others. After `picture` come its three planes, without gaps.
enum class Command : std::uint32_t { picture, end };

struct Answer {
    enum class What : std::uint32_t { fine, not_started, refused, no_header, failed } what;
    std::uint32_t packets;
};
/// Before each packet's bytes.
struct PacketHeader {
    std::int64_t number;  ///< Of the picture, from 0 in the order in which they were put in.
    std::uint64_t bytes;
    bool keyframe;
};

/// The process's half: blocks until all of it is through; false where nobody is at the other end any more.
inline bool write_all(int to, const void* data, std::size_t size) {
    for (auto* p = static_cast<const std::byte*>(data); size > 0;) {
        auto n = ::send(to, p, size, MSG_NOSIGNAL);
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0) return false;
        p += n, size -= static_cast<std::size_t>(n);
    }
    return true;
}
inline bool read_all(int from, void* data, std::size_t size) {
    for (auto* p = static_cast<std::byte*>(data); size > 0;) {
        auto n = ::recv(from, p, size, 0);
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0) return false;
        p += n, size -= static_cast<std::size_t>(n);
    }
    return true;
}

}  // namespace ruedo::svtav1
