// SPDX-License-Identifier: Apache-2.0
// A small server on the loopback address: for the demo's catalogue, and for tests and measurements, where it can
// be told to misbehave in every way that servers do.
#pragma once
#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <mutex>

#include "base/bytes.h"

namespace ruedo::demo {

/// What is served at a path, and how badly.
struct Served {
    Bytes body;
    std::string file;  ///< Instead of `body`: read from disk as it is asked for.
    std::string type = "application/octet-stream";
    unsigned status = 200;
    std::string redirect;  ///< Sends elsewhere.
    std::string etag = "\"first\"";
    unsigned etag_changes_after = 0;     ///< Requests after which another ETag is sent; 0 for never.
    std::uint64_t bytes_per_second = 0;  ///< 0 for as fast as it goes.
    std::uint64_t cut_after = 0;         ///< The connection is closed after so many bytes of each answer; 0 for never.
    std::uint64_t silent_after = 0;      ///< Nothing more comes after so many bytes, and the connection stays open.
    std::uint64_t claims_more = 0;       ///< Added to the length that is stated.
    unsigned drip_ms = 0;                ///< One byte at a time, so far apart; 0 for as many as are wanted.
    bool endless = false;                ///< The body over and over, without a length.
    unsigned busy_for = 0;               ///< So many requests are answered with 429 first.
    bool ignores_ranges = false, states_no_length = false, compressed = false, never_answers = false,
         wrong_part = false;
};

struct Asked {
    std::string path;
    std::map<std::string, std::string> query, headers;
};
struct Answered {
    unsigned status = 200;
    std::string type = "application/json", body;
};

class LoopbackServer {
  public:
    /// On a free port, or the one that is asked for. With key and certificate (PEM) it speaks TLS.
    static std::unique_ptr<LoopbackServer> start(std::uint16_t port = 0, const std::string& key = {},
                                                 const std::string& certificate = {});
    ~LoopbackServer();
    void serve(const std::string& path, Served what);
    void answer(const std::string& path, std::function<Answered(const Asked&)> how);
    std::string address(const std::string& path) const;
    std::uint16_t port() const { return port_; }
    std::uint64_t sent() const { return sent_; }
    std::uint64_t requests() const { return requests_; }

    // Only for the library's callbacks.
    struct Entry {
        Served served;
        std::function<Answered(const Asked&)> how;
        std::uint64_t asked = 0;
    };
    std::mutex mutex_;
    std::map<std::string, std::shared_ptr<Entry>> entries_;
    std::atomic<std::uint64_t> sent_ = 0, requests_ = 0;
    std::atomic<bool> stopping_ = false;

  private:
    LoopbackServer() = default;
    std::uint16_t port_ = 0;
    bool tls_ = false;
    void* daemon_ = nullptr;
};

}  // namespace ruedo::demo
