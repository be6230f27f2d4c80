// SPDX-License-Identifier: Apache-2.0
#include "stream/host.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <microhttpd.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <cstring>
#include <mutex>

#include "io/io.h"
#include "io/ranges.h"
#include "io/transfer.h"

namespace ruedo::stream {
namespace fs = std::filesystem;

struct StaticServer::Inside {
    StaticServerOptions options;
    fs::path root;
    MHD_Daemon* daemon = nullptr;
    std::uint16_t port = 0;
    Time begun = monotonic_now();
    std::mutex mutex;
    std::condition_variable stopped;
    bool stopping = false;
    Time link_free{};  ///< Since it began: until then the link carries what was sent before.
    std::uint64_t asked = 0;
    std::mutex telling;

    Time now() const { return monotonic_now() - begun; }
    /// False when the service is being stopped.
    bool wait_until(Time t) {
        std::unique_lock lock(mutex);
        while (!stopping && now() < t) stopped.wait_for(lock, std::chrono::nanoseconds((t - now()).ns));
        return !stopping;
    }
    /// Sends that many bytes through the link that all share. `ready` is since when the sender has had them to send:
    /// waking late costs the link nothing, as long as it is not much.
    bool carry(std::size_t bytes, Time& ready) {
        if (!options.network_trace) return true;
        {
            std::lock_guard lock(mutex);
            auto from = std::max({ready, link_free, now() - 100_ms});
            ready = link_free = options.network_trace->done(from, static_cast<double>(bytes) * 8);
        }
        return wait_until(ready);
    }
};

namespace {

struct Sending {
    StaticServer::Inside* host = nullptr;
    int file = -1;
    std::string text;
    std::uint64_t from = 0;
    Served served;
    Time begun{}, ready{};
    ~Sending() {
        if (file >= 0) ::close(file);
        served.took = host->now() - begun;
        if (!host->options.told) return;
        std::lock_guard lock(host->telling);
        host->options.told(served);
    }
};

ssize_t give(void* self, std::uint64_t position, char* to, std::size_t most) {
    auto& s = *static_cast<Sending*>(self);
    // In steps small enough for a link to change within a segment.
    if (s.host->options.network_trace) most = std::min<std::size_t>(most, 4096);
    if (position == 0) s.ready = s.host->now();
    if (!s.host->carry(most, s.ready)) return MHD_CONTENT_READER_END_WITH_ERROR;
    if (s.file < 0) {
        auto n = s.text.copy(to, most, s.from + position);
        s.served.bytes += n;
        return n > 0 ? static_cast<ssize_t>(n) : MHD_CONTENT_READER_END_OF_STREAM;
    }
    auto got = ::pread(s.file, to, most, static_cast<off_t>(s.from + position));
    if (got <= 0) return MHD_CONTENT_READER_END_WITH_ERROR;
    s.served.bytes += static_cast<std::uint64_t>(got);
    return got;
}

const char* type_of(const fs::path& path) {
    static constexpr std::pair<const char*, const char*> types[] = {
        {".m3u8", "audio/mpegurl"},    {".mpd", "application/dash+xml"},
        {".ts", "video/mp2t"},         {".m4s", "video/iso.segment"},
        {".mp4", "video/mp4"},         {".m4a", "audio/mp4"},
        {".webm", "video/webm"},       {".mkv", "video/matroska"},
        {".aac", "audio/aac"},         {".mp3", "audio/mpeg"},
        {".ogg", "audio/ogg"},         {".vtt", "text/vtt"},
        {".json", "application/json"}, {".html", "text/html"},
        {".png", "image/png"},         {".jpg", "image/jpeg"}};
    auto extension = transfer::lower(path.extension().string());
    for (auto [ending, type] : types)
        if (extension == ending) return type;
    return "application/octet-stream";
}

/// The file behind a path, if it is one of the folder's: nothing hidden, and nothing that a link leads out to.
std::optional<fs::path> file_of(const StaticServer::Inside& host, std::string_view url) {
    fs::path path;
    while (!url.empty()) {
        while (url.starts_with('/')) url.remove_prefix(1);
        auto part = url.substr(0, url.find('/'));
        url.remove_prefix(part.size());
        if (part.empty()) continue;
        if (part.starts_with('.') || part.find('\0') != std::string_view::npos ||
            part.find('\\') != std::string_view::npos)
            return std::nullopt;
        path /= part;
    }
    std::error_code ec;
    auto real = fs::canonical(host.root / path, ec);
    if (ec || !fs::is_regular_file(real, ec)) return std::nullopt;
    auto [root_end, ignored] = std::mismatch(host.root.begin(), host.root.end(), real.begin(), real.end());
    return root_end == host.root.end() ? std::optional(real) : std::nullopt;
}

/// What stands for a byte in a path. Where that is a zero, nothing has such a name.
std::size_t unescape(void*, MHD_Connection*, char* text) {
    auto length = MHD_http_unescape(text);
    if (std::strlen(text) != length) text[0] = 0, length = 0;
    return length;
}

std::string http_date(std::time_t t) { return fmt::format("{:%a, %d %b %Y %H:%M:%S} GMT", fmt::gmtime(t)); }

MHD_Result handle(void* self, MHD_Connection* connection, const char* url, const char* method, const char*, const char*,
                  std::size_t*, void** state) {
    auto& host = *static_cast<StaticServer::Inside*>(self);
    if (!*state) {
        *state = self;  // headers first; answered when the request is complete
        return MHD_YES;
    }
    auto sending = std::make_unique<Sending>();
    auto& s = *sending;
    s.host = &host, s.begun = s.served.at = host.now();
    s.served.method = method, s.served.path = url;
    std::uint64_t count = 0;
    {
        std::lock_guard lock(host.mutex);
        count = ++host.asked;
    }
    bool refuse = false;
    if (auto& w = host.options.network_trace) {
        // Spread by the number of the request, the same on every run.
        auto mixed = (count * 0x9E3779B97F4A7C15ULL) >> 33;
        auto share = static_cast<double>(mixed % 10'000) / 10'000;
        refuse = share < w->refused;
        auto extra =
            Time{static_cast<std::int64_t>(static_cast<double>(w->jitter.ns) * static_cast<double>(mixed % 997) / 997)};
        if (!host.wait_until(host.now() + w->delay * 2 + extra)) return MHD_NO;
    }
    std::string etag, changed;
    const char* type = "text/plain";
    auto common = [&](MHD_Response* r) {
        MHD_add_response_header(r, "Content-Type", type);
        MHD_add_response_header(r, "Access-Control-Allow-Origin", "*");
        MHD_add_response_header(r, "Access-Control-Expose-Headers", "Content-Length, Content-Range, Date, ETag");
        if (!etag.empty()) MHD_add_response_header(r, "ETag", etag.c_str());
        if (!changed.empty()) MHD_add_response_header(r, "Last-Modified", changed.c_str());
    };
    auto send = [&](unsigned status, MHD_Response* r) {
        common(r);
        auto result = MHD_queue_response(connection, status, r);
        MHD_destroy_response(r);
        return result;
    };
    auto brief = [&](unsigned status, auto&& more) {
        s.served.status = status;
        auto* r = MHD_create_response_from_buffer(0, nullptr, MHD_RESPMEM_PERSISTENT);
        more(r);
        return send(status, r);
    };
    auto plain = [&](unsigned status) { return brief(status, [](auto*) {}); };
    if (std::strcmp(method, "OPTIONS") == 0)
        return brief(204, [](auto* r) {
            MHD_add_response_header(r, "Access-Control-Allow-Methods", "GET, HEAD, OPTIONS");
            MHD_add_response_header(r, "Access-Control-Allow-Headers", "Range, If-Range, If-None-Match");
        });
    bool head = std::strcmp(method, "HEAD") == 0;
    if (!head && std::strcmp(method, "GET") != 0)
        return brief(405, [](auto* r) { MHD_add_response_header(r, "Allow", "GET, HEAD, OPTIONS"); });
    if (refuse) return brief(503, [](auto* r) { MHD_add_response_header(r, "Retry-After", "1"); });
    auto path = file_of(host, url);
    if (!path) return plain(404);
    s.file = ::open(path->c_str(), O_RDONLY | O_CLOEXEC);
    struct stat st{};
    if (s.file < 0 || ::fstat(s.file, &st) != 0) return plain(404);
    type = type_of(*path);
    auto size = static_cast<std::uint64_t>(st.st_size);
    if (host.options.live && path->extension() == ".m3u8") {
        auto text = read_file(*path, 32 << 20);
        if (!text) return plain(404);
        s.text = live_list({reinterpret_cast<const char*>(text->data()), text->size()}, host.now());
        if (s.text.empty()) s.text.assign(text->begin(), text->end());
        ::close(std::exchange(s.file, -1));
        size = s.text.size();
    } else {
        etag = fmt::format("\"{:x}-{:x}\"", size, st.st_mtim.tv_sec * 1'000'000'000LL + st.st_mtim.tv_nsec);
        changed = http_date(st.st_mtim.tv_sec);
    }
    auto asked = [&](const char* name) -> std::string_view {
        auto* v = MHD_lookup_connection_value(connection, MHD_HEADER_KIND, name);
        return v ? v : std::string_view{};
    };
    auto matches = [&](std::string_view list) {
        return list == "*" || (!etag.empty() && list.find(etag) != list.npos);
    };
    auto none_match = asked("If-None-Match");
    if (!none_match.empty() ? matches(none_match) : !changed.empty() && asked("If-Modified-Since") == changed)
        return plain(304);
    std::uint64_t from = 0, to = size;
    bool part = false;
    auto range = asked("Range"), if_range = asked("If-Range");
    bool fits = if_range.empty() || if_range == etag || if_range == changed;
    if (!range.empty() && fits && !asked_range(range, size, from, to, part))
        return brief(416, [&](auto* r) {
            MHD_add_response_header(r, "Content-Range", fmt::format("bytes */{}", size).c_str());
        });
    s.from = from;
    s.served.status = part ? 206 : 200;
    auto status = s.served.status;
    auto* r = MHD_create_response_from_callback(to - from, 16 << 10, &give, sending.release(),
                                                [](void* p) { delete static_cast<Sending*>(p); });
    MHD_add_response_header(r, "Accept-Ranges", "bytes");
    if (host.options.live) MHD_add_response_header(r, "Cache-Control", "no-cache");
    if (part) MHD_add_response_header(r, "Content-Range", fmt::format("bytes {}-{}/{}", from, to - 1, size).c_str());
    return send(status, r);
}

}  // namespace

StaticServer::StaticServer(std::unique_ptr<Inside> inside) : inside_(std::move(inside)) {}

Result<std::unique_ptr<StaticServer>> StaticServer::start(StaticServerOptions options) {
    std::error_code ec;
    auto root = fs::canonical(options.folder, ec);
    if (ec || !fs::is_directory(root, ec))
        return fail(ErrorCode::not_found, fmt::format("There is no folder “{}”.", options.folder.string()),
                    "Name the folder that holds the stream.");
    auto inside = std::make_unique<Inside>();
    inside->options = std::move(options);
    inside->root = std::move(root);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_port = htons(inside->options.port);
    at.sin_addr.s_addr = htonl(inside->options.anywhere ? INADDR_ANY : INADDR_LOOPBACK);
    // What is finished is closed at once, not when the next one comes; who says nothing for long makes room.
    auto flags = MHD_USE_INTERNAL_POLLING_THREAD | MHD_USE_THREAD_PER_CONNECTION | MHD_USE_ITC;
    inside->daemon =
        MHD_start_daemon(static_cast<unsigned>(flags), inside->options.port, nullptr, nullptr, &handle, inside.get(),
                         MHD_OPTION_SOCK_ADDR, &at, MHD_OPTION_CONNECTION_LIMIT, 1000U, MHD_OPTION_CONNECTION_TIMEOUT,
                         inside->options.network_trace ? 4 * inside->options.idle_s : inside->options.idle_s,
                         MHD_OPTION_UNESCAPE_CALLBACK, &unescape, nullptr, MHD_OPTION_END);
    if (!inside->daemon)
        return fail(
            ErrorCode::io,
            fmt::format("Port {} can’t be served; something else may be listening there.", inside->options.port),
            "Choose another port, or none for a free one.");
    auto* info = MHD_get_daemon_info(inside->daemon, MHD_DAEMON_INFO_BIND_PORT);
    inside->port = info ? info->port : inside->options.port;
    return std::unique_ptr<StaticServer>(new StaticServer(std::move(inside)));
}
StaticServer::~StaticServer() {
    {
        std::lock_guard lock(inside_->mutex);
        inside_->stopping = true;
    }
    inside_->stopped.notify_all();
    MHD_stop_daemon(inside_->daemon);
    // All calls have been made when stopping returns.
    std::lock_guard lock(inside_->telling);
}
std::uint16_t StaticServer::port() const { return inside_->port; }
std::string StaticServer::address() const { return fmt::format("http://127.0.0.1:{}/", inside_->port); }

}  // namespace ruedo::stream
