// SPDX-License-Identifier: Apache-2.0
#include "demo/server.h"

#include "io/ranges.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <microhttpd.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstring>
#include <thread>

namespace ruedo::demo {
namespace {

using Clock = std::chrono::steady_clock;

/// One answer on its way out.
struct Sending {
    LoopbackServer* server = nullptr;
    std::shared_ptr<LoopbackServer::Entry> entry;
    int file = -1;
    std::uint64_t from = 0, length = 0;
    Clock::time_point begun = Clock::now();
    ~Sending() {
        if (file >= 0) ::close(file);
    }
};

ssize_t give(void* self, std::uint64_t position, char* to, std::size_t most) {
    auto& s = *static_cast<Sending*>(self);
    auto& how = s.entry->served;
    auto pause = [&](std::chrono::milliseconds time) {
        for (auto until = Clock::now() + time; !s.server->stopping_ && Clock::now() < until;)
            std::this_thread::sleep_for(std::chrono::milliseconds(5));
    };
    if (s.server->stopping_) return MHD_CONTENT_READER_END_WITH_ERROR;
    if (how.cut_after && position >= how.cut_after) return MHD_CONTENT_READER_END_WITH_ERROR;
    if (how.silent_after && position >= how.silent_after) {
        pause(std::chrono::minutes(1));
        return MHD_CONTENT_READER_END_WITH_ERROR;
    }
    auto start = s.from + position;
    if (how.endless)
        start %= std::max<std::uint64_t>(1, s.length);
    else if (position >= s.length)
        return MHD_CONTENT_READER_END_OF_STREAM;
    auto n = std::min<std::uint64_t>(most, s.length - (start - s.from));
    if (how.drip_ms) pause(std::chrono::milliseconds(how.drip_ms)), n = 1;
    if (how.cut_after) n = std::min(n, how.cut_after - position);
    if (how.silent_after) n = std::min(n, how.silent_after - position);
    if (how.bytes_per_second) {
        n = std::min<std::uint64_t>(n, std::max<std::uint64_t>(512, how.bytes_per_second / 50));
        auto due = s.begun + std::chrono::nanoseconds(static_cast<std::int64_t>(
                                 static_cast<double>(position + n) * 1e9 / static_cast<double>(how.bytes_per_second)));
        while (!s.server->stopping_ && Clock::now() < due)
            std::this_thread::sleep_for(std::min<Clock::duration>(due - Clock::now(), std::chrono::milliseconds(20)));
    }
    auto at = start;
    if (s.file >= 0) {
        auto got = ::pread(s.file, to, static_cast<std::size_t>(n), static_cast<off_t>(at));
        if (got <= 0) return MHD_CONTENT_READER_END_WITH_ERROR;
        n = static_cast<std::uint64_t>(got);
    } else {
        std::memcpy(to, how.body.data() + at, static_cast<std::size_t>(n));
    }
    s.server->sent_ += n;
    return static_cast<ssize_t>(n);
}

MHD_Result queue(MHD_Connection* connection, unsigned status, MHD_Response* response) {
    auto result = MHD_queue_response(connection, status, response);
    MHD_destroy_response(response);
    return result;
}
MHD_Result text(MHD_Connection* connection, unsigned status, const std::string& body, const char* type = "text/plain") {
    auto* r = MHD_create_response_from_buffer(body.size(), const_cast<char*>(body.data()), MHD_RESPMEM_MUST_COPY);
    MHD_add_response_header(r, "Content-Type", type);
    return queue(connection, status, r);
}

MHD_Result handle(void* self, MHD_Connection* connection, const char* url, const char* method, const char*, const char*,
                  std::size_t*, void** state) {
    auto& server = *static_cast<LoopbackServer*>(self);
    if (!*state) {
        *state = self;  // headers first; answered when the request is complete
        return MHD_YES;
    }
    ++server.requests_;
    if (std::strcmp(method, "GET") != 0 && std::strcmp(method, "HEAD") != 0) return text(connection, 405, "");
    std::shared_ptr<LoopbackServer::Entry> entry;
    {
        std::lock_guard lock(server.mutex_);
        auto it = server.entries_.find(url);
        // A path that ends with a slash answers for everything below it.
        if (it == server.entries_.end())
            for (auto& [path, e] : server.entries_)
                if (path.ends_with('/') && std::string_view(url).starts_with(path)) entry = e;
        if (it != server.entries_.end()) entry = it->second;
        if (entry) ++entry->asked;
    }
    if (!entry) return text(connection, 404, "");
    if (entry->how) {
        Asked asked;
        asked.path = url;
        auto collect = [](void* to, MHD_ValueKind, const char* key, const char* value) {
            (*static_cast<std::map<std::string, std::string>*>(to))[key] = value ? value : "";
            return MHD_YES;
        };
        MHD_get_connection_values(connection, MHD_GET_ARGUMENT_KIND, collect, &asked.query);
        MHD_get_connection_values(connection, MHD_HEADER_KIND, collect, &asked.headers);
        auto answered = entry->how(asked);
        return text(connection, answered.status, answered.body, answered.type.c_str());
    }
    auto& how = entry->served;
    if (how.never_answers) {
        for (int i = 0; i < 12'000 && !server.stopping_; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(5));
        return MHD_NO;
    }
    if (!how.redirect.empty()) {
        auto* r = MHD_create_response_from_buffer(0, nullptr, MHD_RESPMEM_PERSISTENT);
        MHD_add_response_header(r, "Location", how.redirect.c_str());
        return queue(connection, 302, r);
    }
    if (entry->asked <= how.busy_for) return text(connection, 429, "");
    if (how.status != 200) return text(connection, how.status, "");
    auto sending = std::make_unique<Sending>();
    sending->server = &server;
    sending->entry = entry;
    std::uint64_t size = how.body.size();
    if (!how.file.empty()) {
        sending->file = ::open(how.file.c_str(), O_RDONLY | O_CLOEXEC);
        struct stat st{};
        if (sending->file < 0 || ::fstat(sending->file, &st) != 0) return text(connection, 404, "");
        size = static_cast<std::uint64_t>(st.st_size);
    }
    std::uint64_t from = 0, to = size;
    auto* range = MHD_lookup_connection_value(connection, MHD_HEADER_KIND, "Range");
    bool looked_at = range && !how.ignores_ranges && !how.states_no_length && !how.endless, part = false;
    if (looked_at && !asked_range(range, size, from, to, part)) {
        auto* r = MHD_create_response_from_buffer(0, nullptr, MHD_RESPMEM_PERSISTENT);
        MHD_add_response_header(r, "Content-Range", fmt::format("bytes */{}", size).c_str());
        return queue(connection, 416, r);
    }
    auto shown_from = from;
    if (how.wrong_part && from > 0) from = shown_from = 0;
    sending->from = from, sending->length = to - from;
    auto length = how.states_no_length || how.endless ? MHD_SIZE_UNKNOWN : sending->length + how.claims_more;
    auto* r = MHD_create_response_from_callback(length, 16 << 10, &give, sending.release(),
                                                [](void* s) { delete static_cast<Sending*>(s); });
    MHD_add_response_header(r, "Content-Type", how.type.c_str());
    if (!how.ignores_ranges && !how.states_no_length && !how.endless)
        MHD_add_response_header(r, "Accept-Ranges", "bytes");
    if (how.compressed) MHD_add_response_header(r, "Content-Encoding", "gzip");
    auto tag = how.etag_changes_after && entry->asked > how.etag_changes_after ? std::string("\"second\"") : how.etag;
    if (!tag.empty()) MHD_add_response_header(r, "ETag", tag.c_str());
    if (part)
        MHD_add_response_header(r, "Content-Range",
                                fmt::format("bytes {}-{}/{}", shown_from, to - 1, size + how.claims_more).c_str());
    return queue(connection, part ? 206 : 200, r);
}

}  // namespace

std::unique_ptr<LoopbackServer> LoopbackServer::start(std::uint16_t port, const std::string& key,
                                                      const std::string& certificate) {
    std::unique_ptr<LoopbackServer> s(new LoopbackServer);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_port = htons(port);
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    unsigned flags = MHD_USE_INTERNAL_POLLING_THREAD | MHD_USE_THREAD_PER_CONNECTION;
    s->tls_ = !key.empty();
    MHD_Daemon* d = s->tls_ ? MHD_start_daemon(flags | MHD_USE_TLS, port, nullptr, nullptr, &handle, s.get(),
                                               MHD_OPTION_SOCK_ADDR, &at, MHD_OPTION_HTTPS_MEM_KEY, key.c_str(),
                                               MHD_OPTION_HTTPS_MEM_CERT, certificate.c_str(), MHD_OPTION_END)
                            : MHD_start_daemon(flags, port, nullptr, nullptr, &handle, s.get(), MHD_OPTION_SOCK_ADDR,
                                               &at, MHD_OPTION_END);
    if (!d) return nullptr;
    s->daemon_ = d;
    auto* info = MHD_get_daemon_info(d, MHD_DAEMON_INFO_BIND_PORT);
    s->port_ = info ? info->port : port;
    return s;
}

LoopbackServer::~LoopbackServer() {
    stopping_ = true;
    if (daemon_) MHD_stop_daemon(static_cast<MHD_Daemon*>(daemon_));
}

void LoopbackServer::serve(const std::string& path, Served what) {
    auto e = std::make_shared<Entry>();
    e->served = std::move(what);
    std::lock_guard lock(mutex_);
    entries_[path] = std::move(e);
}
void LoopbackServer::answer(const std::string& path, std::function<Answered(const Asked&)> how) {
    auto e = std::make_shared<Entry>();
    e->how = std::move(how);
    std::lock_guard lock(mutex_);
    entries_[path] = std::move(e);
}
std::string LoopbackServer::address(const std::string& path) const {
    return fmt::format("{}://127.0.0.1:{}{}", tls_ ? "https" : "http", port_, path);
}

}  // namespace ruedo::demo
