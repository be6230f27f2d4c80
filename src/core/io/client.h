// SPDX-License-Identifier: Apache-2.0
// Requests one after the other over a connection that is kept (RFC 9112 clause 9.3): for playlists and segments, which
// are many, small and wanted whole.
#pragma once
#include <functional>
#include <map>
#include <memory>

#include "io/http.h"

namespace ruedo {

/// Not thread-safe; one per thread that fetches.
class HttpClient {
  public:
    explicit HttpClient(HttpOptions options = {});
    ~HttpClient();
    HttpClient(const HttpClient&) = delete;
    HttpClient& operator=(const HttpClient&) = delete;

    struct Answer {
        long status = 0;
        Bytes body;
        std::string address;                                      ///< Where it came from in the end, after redirects.
        Time first_byte{};                                        ///< From the request to the answer's first byte.
        Time took{};                                              ///< From the request to its last one.
        std::map<std::string, std::string, std::less<>> headers;  ///< Of the final answer; names in lower case.
    };
    /// Hears every 20 ms or so how much of the body has come, of how much where that was said (else 0), and since when
    /// it was asked for; false gives up (`cancelled`).
    using Watch = std::function<bool(std::uint64_t bytes, std::uint64_t of, Time since)>;
    /// `range`, if any, from its first byte up to before its last (RFC 9110 clause 14.1.2); where a server answers with
    /// the whole, its part is taken out; `network` where it answers with another part. Statuses that bring no bytes are
    /// answers, not errors. `limit` where the body is larger.
    Result<Answer> get(const std::string& address, std::optional<ByteSource::Range> range = {},
                       std::size_t limit = 64 << 20, const Watch& watch = {});

  private:
    struct Connection;
    HttpOptions options_;
    std::unique_ptr<Connection> connection_;
};

}  // namespace ruedo
