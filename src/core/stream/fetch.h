// SPDX-License-Identifier: Apache-2.0
// Fetching what playlists name: from a server, or from a disk where the stream lies there.
#pragma once
#include "io/client.h"

namespace ruedo::stream {

/// Not thread-safe.
class Fetch {
  public:
    explicit Fetch(HttpOptions options = {}) : client_(std::move(options)) {}
    struct Got {
        Bytes bytes;
        std::string address;  ///< Where it came from in the end.
        Time took{};
        std::optional<Time> server_date;  ///< Since 1970, where the server says.
    };
    /// Statuses that bring no bytes are errors here.
    Result<Got> get(const std::string& address, std::optional<ByteSource::Range> range, std::size_t limit,
                    const HttpClient::Watch& watch = {});

  private:
    HttpClient client_;
};

/// The initialization vector of a segment that states none: its media sequence number (clause 5.2).
std::array<std::uint8_t, 16> vector_of(std::uint64_t number);
/// AES-128 in cipher block chaining with PKCS#7 padding (RFC 8216 clause 4.3.2.4). `encrypted` where it does not come
/// out even, which a wrong key leads to nearly always.
Result<Bytes> decrypt(ByteView bytes, ByteView key, const std::array<std::uint8_t, 16>& iv);
Bytes encrypt(ByteView bytes, ByteView key, const std::array<std::uint8_t, 16>& iv);

}  // namespace ruedo::stream
