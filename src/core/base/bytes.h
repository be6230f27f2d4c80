// SPDX-License-Identifier: Apache-2.0
// A bounds-checked reader and a writer for the integers of container formats.
#pragma once
#include <bit>
#include <cstdint>
#include <cstring>
#include <span>
#include <string>
#include <vector>

namespace ruedo {

using Bytes = std::vector<std::uint8_t>;
using ByteView = std::span<const std::uint8_t>;

/// Reads forward through `data`. Reading past the end gives zeros and sets `overrun`, which the caller checks
/// once, after a group of reads.
class ByteReader {
  public:
    explicit ByteReader(ByteView data) : data_(data) {}
    std::size_t left() const { return data_.size() - at_; }
    std::size_t position() const { return at_; }
    bool overrun() const { return overrun_; }
    void skip(std::uint64_t n) { take(n); }
    /// The next `n` bytes; empty when there are fewer.
    ByteView take(std::uint64_t n) {
        if (n > left()) {
            overrun_ = true;
            at_ = data_.size();
            return {};
        }
        auto part = data_.subspan(at_, static_cast<std::size_t>(n));
        at_ += static_cast<std::size_t>(n);
        return part;
    }
    ByteView rest() { return take(left()); }
    std::uint64_t be(unsigned bytes) {
        std::uint64_t v = 0;
        for (auto b : take(bytes)) v = v << 8 | b;
        return v;
    }
    std::uint64_t le(unsigned bytes) {
        std::uint64_t v = 0;
        unsigned shift = 0;
        for (auto b : take(bytes)) v |= static_cast<std::uint64_t>(b) << shift, shift += 8;
        return v;
    }
    std::uint8_t u8() { return static_cast<std::uint8_t>(be(1)); }
    std::uint16_t u16() { return static_cast<std::uint16_t>(be(2)); }
    std::uint32_t u24() { return static_cast<std::uint32_t>(be(3)); }
    std::uint32_t u32() { return static_cast<std::uint32_t>(be(4)); }
    std::int32_t i32() { return static_cast<std::int32_t>(u32()); }
    std::uint64_t u64() { return be(8); }

  private:
    ByteView data_;
    std::size_t at_ = 0;
    bool overrun_ = false;
};

/// Reads bits, most significant first; past the end gives zeros and sets `overrun`.
class BitReader {
  public:
    explicit BitReader(ByteView data) : data_(data) {}
    bool overrun() const { return overrun_; }
    std::uint64_t left() const { return data_.size() * 8 - at_; }
    std::uint32_t bits(unsigned n) {
        std::uint32_t v = 0;
        while (n-- > 0) v = v << 1 | bit();
        return v;
    }
    std::uint32_t bit() {
        if (at_ >= data_.size() * 8) {
            overrun_ = true;
            return 0;
        }
        auto b = data_[at_ / 8] >> (7 - at_ % 8) & 1;
        ++at_;
        return static_cast<std::uint32_t>(b);
    }
    /// Exp-Golomb codes (ITU-T H.264 clause 9.1).
    std::uint32_t ue() {
        unsigned zeros = 0;
        while (bit() == 0) {
            if (++zeros > 31 || overrun_) {
                overrun_ = true;
                return 0;
            }
        }
        return static_cast<std::uint32_t>((1ULL << zeros) - 1 + bits(zeros));
    }
    std::int32_t se() {
        auto k = ue();
        auto half = static_cast<std::int32_t>((static_cast<std::uint64_t>(k) + 1) / 2);
        return k & 1 ? half : -half;
    }

  private:
    ByteView data_;
    std::uint64_t at_ = 0;
    bool overrun_ = false;
};

/// Appends integers to a byte string.
class ByteWriter {
  public:
    Bytes bytes;
    std::size_t size() const { return bytes.size(); }
    ByteWriter& be(std::uint64_t v, unsigned n) {
        for (unsigned i = n; i-- > 0;) bytes.push_back(static_cast<std::uint8_t>(v >> (8 * i)));
        return *this;
    }
    ByteWriter& le(std::uint64_t v, unsigned n) {
        for (unsigned i = 0; i < n; ++i) bytes.push_back(static_cast<std::uint8_t>(v >> (8 * i)));
        return *this;
    }
    ByteWriter& u8(std::uint64_t v) { return be(v, 1); }
    ByteWriter& u16(std::uint64_t v) { return be(v, 2); }
    ByteWriter& u24(std::uint64_t v) { return be(v, 3); }
    ByteWriter& u32(std::uint64_t v) { return be(v, 4); }
    ByteWriter& u64(std::uint64_t v) { return be(v, 8); }
    ByteWriter& text(std::string_view s) {
        bytes.insert(bytes.end(), s.begin(), s.end());
        return *this;
    }
    ByteWriter& raw(ByteView v) {
        bytes.insert(bytes.end(), v.begin(), v.end());
        return *this;
    }
};

inline std::uint32_t be32(const std::uint8_t* p) {
    return static_cast<std::uint32_t>(p[0]) << 24 | static_cast<std::uint32_t>(p[1]) << 16 |
           static_cast<std::uint32_t>(p[2]) << 8 | p[3];
}
/// A four-character code as a number.
constexpr std::uint32_t fourcc(const char (&s)[5]) {
    return static_cast<std::uint32_t>(static_cast<std::uint8_t>(s[0])) << 24 |
           static_cast<std::uint32_t>(static_cast<std::uint8_t>(s[1])) << 16 |
           static_cast<std::uint32_t>(static_cast<std::uint8_t>(s[2])) << 8 | static_cast<std::uint8_t>(s[3]);
}

}  // namespace ruedo
