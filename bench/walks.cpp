// SPDX-License-Identifier: Apache-2.0
#include "bench/walks.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <vector>

namespace ruedo::bench {
namespace {

using View = const std::vector<std::uint8_t>&;

std::vector<std::uint8_t> whole(const char* path) {
    int fd = ::open(path, O_RDONLY | O_CLOEXEC);
    struct stat st{};
    if (fd < 0 || ::fstat(fd, &st) != 0) std::abort();
    std::vector<std::uint8_t> data(static_cast<std::size_t>(st.st_size));
    for (std::size_t at = 0; at < data.size();) {
        auto n = ::read(fd, data.data() + at, data.size() - at);
        if (n <= 0) break;
        at += static_cast<std::size_t>(n);
    }
    ::close(fd);
    return data;
}
std::uint64_t be(const std::uint8_t* p, int n) {
    std::uint64_t v = 0;
    while (n-- > 0) v = v << 8 | *p++;
    return v;
}
std::uint32_t le(const std::uint8_t* p) {
    return p[0] | p[1] << 8 | p[2] << 16 | static_cast<std::uint32_t>(p[3]) << 24;
}

/// Sample sizes of every track, found box by box.
std::size_t mp4(View d, std::size_t from, std::size_t to) {
    std::size_t units = 0;
    for (auto at = from; at + 8 <= to;) {
        auto size = static_cast<std::size_t>(be(&d[at], 4));
        if (size < 8 || at + size > to) break;
        if (std::memcmp(&d[at + 4], "stsz", 4) == 0 && size >= 20)
            for (std::size_t i = 0, n = be(&d[at + 16], 4); i < n && at + 24 + 4 * i <= at + size; ++i)
                units += be(&d[at + 20 + 4 * i], 4) > 0;
        for (auto* inside : {"moov", "trak", "mdia", "minf", "stbl"})
            if (std::memcmp(&d[at + 4], inside, 4) == 0) units += mp4(d, at + 8, at + size);
        at += size;
    }
    return units;
}
std::size_t webm(View d) {
    std::size_t units = 0;
    auto vint = [&](std::size_t at, std::uint64_t& v, bool keep) {
        std::size_t n = 1;
        while (n < 8 && !(d[at] & (0x80 >> (n - 1)))) ++n;
        if (at + n > d.size()) return std::size_t{0};
        v = be(&d[at], static_cast<int>(n));
        if (!keep) v &= (1ULL << (7 * n)) - 1;
        return n;
    };
    for (std::size_t at = 0; at + 12 < d.size();) {
        std::uint64_t id = 0, size = 0;
        auto a = vint(at, id, true);
        auto b = a ? vint(at + a, size, false) : 0;
        if (!b) break;
        at += a + b;
        if (id == 0x18538067 || id == 0x1F43B675) continue;  // segment, cluster: what is inside follows
        units += id == 0xA3 || id == 0xA0;
        at += static_cast<std::size_t>(size);
    }
    return units;
}
std::size_t ogg(View d) {
    std::size_t units = 0;
    for (std::size_t at = 0; at + 27 <= d.size() && std::memcmp(&d[at], "OggS", 4) == 0;) {
        std::size_t segments = d[at + 26], body = 0;
        for (std::size_t i = 0; i < segments && at + 27 + i < d.size(); ++i)
            body += d[at + 27 + i], units += d[at + 27 + i] < 255;
        at += 27 + segments + body;
    }
    return units;
}
std::size_t ts(View d) {
    std::size_t units = 0;
    for (std::size_t at = 0; at + 188 <= d.size(); at += 188) units += d[at] == 0x47 && d[at + 1] & 0x40;
    return units;
}
std::size_t riff(View d) {
    std::size_t units = 0;
    for (std::size_t at = 12; at + 12 <= d.size();) {
        if (std::memcmp(&d[at], "LIST", 4) == 0) {
            at += 12;
            continue;
        }
        auto size = le(&d[at + 4]);
        units += d[at + 2] == 'd' || d[at + 2] == 'w';
        at += 8 + size + (size & 1);
    }
    return units;
}
std::size_t flac(View d) {
    std::size_t units = 0;
    for (std::size_t at = 4; at + 1 < d.size(); ++at) units += d[at] == 0xFF && (d[at + 1] & 0xFE) == 0xF8;
    return units;
}
std::size_t mp3(View d) {
    static constexpr std::array kbits{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0};
    static constexpr std::array rates{44100, 48000, 32000, 1};
    std::size_t units = 0;
    for (std::size_t at = 0; at + 4 <= d.size();) {
        if (d[at] != 0xFF || (d[at + 1] & 0xE0) != 0xE0) {
            ++at;
            continue;
        }
        auto size = 144 * 1000 * kbits[d[at + 2] >> 4] / rates[d[at + 2] >> 2 & 3] + (d[at + 2] >> 1 & 1);
        at += static_cast<std::size_t>(size > 0 ? size : 1);
        ++units;
    }
    return units;
}
}  // namespace

std::size_t bare_walk(const std::filesystem::path& path) {
    auto data = whole(path.c_str());
    auto extension = path.extension();
    if (extension == ".mp4") return mp4(data, 0, data.size());
    if (extension == ".webm") return webm(data);
    if (extension == ".ogg" || extension == ".ogv") return ogg(data);
    if (extension == ".ts") return ts(data);
    if (extension == ".avi") return riff(data);
    if (extension == ".flac") return flac(data);
    if (extension == ".mp3") return mp3(data);
    std::abort();
}

}  // namespace ruedo::bench
