// SPDX-License-Identifier: Apache-2.0
// Serves a folder over http on this machine, as well as a link in some weather lets it (RFC 9110, RFC 9112).
#pragma once
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>

#include "stream/weather.h"

namespace ruedo::stream {

/// One request as it was answered.
struct Served {
    Time at{};  ///< Since the service began.
    std::string method, path;
    unsigned status = 0;
    std::uint64_t bytes = 0;  ///< Of the body, as far as they were sent.
    Time took{};
};

struct StaticServerOptions {
    std::filesystem::path folder;
    std::uint16_t port = 0;                     ///< 0 for a free one.
    std::optional<NetworkTrace> network_trace;  ///< One link for all connections; as fast as it goes without.
    /// Finished playlists are served as if they were live: their segments come one after the other from the moment the
    /// service began, over and over, and the newest few are listed.
    bool live = false;
    bool anywhere = false;  ///< Not on the loopback address only.
    unsigned idle_s = 30;   ///< A connection on which nothing moves for so long is closed; 0 for never.
    std::function<void(const Served&)> told;  ///< From several threads, one at a time.
};

class StaticServer {
  public:
    /// `not-found` where the folder is none, `io` where the port is taken.
    static Result<std::unique_ptr<StaticServer>> start(StaticServerOptions options);
    ~StaticServer();
    std::string address() const;  ///< "http://127.0.0.1:8080/".
    std::uint16_t port() const;
    struct Inside;

  private:
    explicit StaticServer(std::unique_ptr<Inside> inside);
    std::unique_ptr<Inside> inside_;
};

/// A finished list of segments as a live one that began `since` ago: the newest `window` segments, over and over. What
/// is not a list of segments is given back as it is.
std::string live_list(std::string_view finished, Time since, std::size_t window = 6);

}  // namespace ruedo::stream
