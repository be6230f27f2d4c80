// SPDX-License-Identifier: Apache-2.0
// Files over http and https (RFC 9110), read by ranges into a window of bounded size.
#pragma once
#include <vector>

#include "base/time.h"
#include "io/io.h"

namespace ruedo {

struct HttpOptions {
    Time connect{5'000'000'000};      ///< Until a connection stands.
    Time first_byte{10'000'000'000};  ///< Until the answer's first byte.
    Time stall{10'000'000'000};       ///< Without a kilobyte while an answer comes and somebody waits for it.
    Time patience{20'000'000'000};    ///< For one read, until some kilobytes more of it are here, retries and all.
    int retries = 3;                  ///< In a row without progress; waits of 250 ms, doubling, lie between, or what
                                      ///< the server asks for (429 and 503, RFC 9110 clause 10.2.3).
    std::uint64_t window = 64 << 20;  ///< Bytes kept at most.
    std::uint64_t ahead = 16 << 20;   ///< Bytes fetched beyond what has been read.
    int redirects = 5;
    std::vector<std::string> headers;  ///< Sent with every request, such as an access key.
};

/// True for what begins with http://, https://, catalogue://, catalogues:// or camera://: what is not a file.
bool is_address(std::string_view text);

/// Bytes at an http address.
class HttpSource : public ByteSource {
  public:
    /// Requests made so far; for measuring.
    virtual std::uint64_t requests() const = 0;
    /// False once the server has answered a request for a part with the whole.
    virtual bool serves_parts() const = 0;
};

/// Returns at once; the first read connects. Errors: `network` (no connection, cut off, changed on the way),
/// `timeout`, `not-found`, `refused` (access, certificate), `cancelled`.
std::shared_ptr<HttpSource> http_source(std::string address, HttpOptions options = {});

/// A small answer as a whole, for services: status and body. At most `limit` bytes.
struct HttpAnswer {
    long status = 0;
    Bytes body;
};
Result<HttpAnswer> http_get(const std::string& address, const HttpOptions& options = {}, std::size_t limit = 4 << 20);

}  // namespace ruedo
