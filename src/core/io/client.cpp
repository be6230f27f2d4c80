// SPDX-License-Identifier: Apache-2.0
#include "io/client.h"

#include <fmt/format.h>

#include "io/transfer.h"

namespace ruedo {
using namespace transfer;

struct HttpClient::Connection {
    CURL* easy = nullptr;
    CURLM* multi = nullptr;  ///< Keeps what is connected.
    Answer answer;
    std::size_t limit = 0;
    bool too_large = false, stopped = false;
    const Watch* watch = nullptr;
    Time begun{}, looked{};

    std::size_t header(std::string_view line) {
        if (line.starts_with("HTTP/")) answer.headers.clear();  // of the final answer, after redirects
        if (auto colon = line.find(':'); colon != std::string_view::npos)
            answer.headers[lower(line.substr(0, colon))] = trimmed(line.substr(colon + 1));
        return line.size();
    }
    std::size_t body(std::string_view data) {
        if (answer.body.empty()) answer.first_byte = monotonic_now() - begun;
        if (answer.body.size() + data.size() > limit) {
            too_large = true;
            return 0;
        }
        answer.body.insert(answer.body.end(), data.begin(), data.end());
        return data.size();
    }
    bool go_on() {
        if (ReadScope::given_up()) return false;
        auto now = monotonic_now();
        if (now - looked < 20_ms) return true;
        looked = now;
        curl_off_t of = -1;
        curl_easy_getinfo(easy, CURLINFO_CONTENT_LENGTH_DOWNLOAD_T, &of);
        auto whole = static_cast<std::uint64_t>(std::max<curl_off_t>(0, of));
        if (watch && *watch && !(*watch)(answer.body.size(), whole, now - begun)) stopped = true;
        return !stopped;
    }
};

HttpClient::HttpClient(HttpOptions options)
    : options_(std::move(options)), connection_(std::make_unique<Connection>()) {
    start_curl();
    connection_->easy = curl_easy_init();
    connection_->multi = curl_multi_init();
}
HttpClient::~HttpClient() {
    curl_easy_cleanup(connection_->easy);
    curl_multi_cleanup(connection_->multi);
}

Result<HttpClient::Answer> HttpClient::get(const std::string& address, std::optional<ByteSource::Range> range,
                                           std::size_t limit, const Watch& watch) {
    auto& c = *connection_;
    c.answer = {}, c.limit = limit, c.too_large = c.stopped = false, c.watch = &watch;
    c.begun = c.looked = monotonic_now();
    curl_easy_reset(c.easy);
    curl_slist* headers = nullptr;
    for (auto& h : options_.headers) headers = curl_slist_append(headers, h.c_str());
    prepare(c.easy, address, options_, headers);
    std::string part;
    if (range) {
        part = fmt::format("{}-{}", range->from, range->to - 1);
        curl_easy_setopt(c.easy, CURLOPT_RANGE, part.c_str());
    }
    auto stall = std::max<std::int64_t>(1, options_.stall.ns / 1'000'000'000);
    curl_easy_setopt(c.easy, CURLOPT_LOW_SPEED_LIMIT, 100L);
    curl_easy_setopt(c.easy, CURLOPT_LOW_SPEED_TIME, static_cast<long>(stall));
    curl_write_callback head = [](char* data, std::size_t size, std::size_t count, void* to) {
        return static_cast<Connection*>(to)->header({data, size * count});
    };
    curl_write_callback body = [](char* data, std::size_t size, std::size_t count, void* to) {
        return static_cast<Connection*>(to)->body({data, size * count});
    };
    curl_xferinfo_callback look = [](void* to, curl_off_t, curl_off_t, curl_off_t, curl_off_t) {
        return static_cast<Connection*>(to)->go_on() ? 0 : 1;
    };
    curl_easy_setopt(c.easy, CURLOPT_HEADERFUNCTION, head);
    curl_easy_setopt(c.easy, CURLOPT_HEADERDATA, &c);
    curl_easy_setopt(c.easy, CURLOPT_WRITEFUNCTION, body);
    curl_easy_setopt(c.easy, CURLOPT_WRITEDATA, &c);
    curl_easy_setopt(c.easy, CURLOPT_XFERINFOFUNCTION, look);
    curl_easy_setopt(c.easy, CURLOPT_XFERINFODATA, &c);
    curl_easy_setopt(c.easy, CURLOPT_NOPROGRESS, 0L);
    // In steps, so that cancelling works while no bytes arrive.
    curl_multi_add_handle(c.multi, c.easy);
    std::optional<CURLcode> code;
    for (int running = 1; !code;) {
        curl_multi_perform(c.multi, &running);
        int left = 0;
        while (auto* m = curl_multi_info_read(c.multi, &left))
            if (m->msg == CURLMSG_DONE) code = m->data.result;
        if (!code && !c.go_on()) code = CURLE_ABORTED_BY_CALLBACK;
        if (!code && running == 0) code = CURLE_RECV_ERROR;
        if (!code) curl_multi_poll(c.multi, nullptr, 0, 20, nullptr);
    }
    curl_multi_remove_handle(c.multi, c.easy);
    curl_easy_getinfo(c.easy, CURLINFO_RESPONSE_CODE, &c.answer.status);
    char* place = nullptr;
    curl_easy_getinfo(c.easy, CURLINFO_EFFECTIVE_URL, &place);
    c.answer.address = place ? place : address;
    curl_slist_free_all(headers);
    c.answer.took = monotonic_now() - c.begun;
    auto name = last_part(address);
    if (c.too_large)
        return fail(ErrorCode::limit, fmt::format("“{}” is larger than {} bytes.", name, limit),
                    "Is it what was meant? Serve it in smaller parts.");
    if (*code == CURLE_ABORTED_BY_CALLBACK) {
        if (ReadScope::given_up() && !c.stopped)
            return std::unexpected(ReadScope::stopped(fmt::format("“{}” was still being fetched", name)));
        return fail(ErrorCode::cancelled, "Reading was given up.");
    }
    if (*code == CURLE_OPERATION_TIMEDOUT && (c.answer.status || !c.answer.body.empty()))
        return fail(ErrorCode::timeout, fmt::format("“{}” sent nothing for {} s.", host_of(address), stall),
                    "Check the network and the server, then try again.");
    if (*code != CURLE_OK) return std::unexpected(transfer_error(*code, address, options_, c.answer.status));
    if (range && c.answer.status == 206 && part_sent(c.answer.headers["content-range"]).from != range->from)
        return std::unexpected(other_part(address));
    if (range && c.answer.status == 200) {
        auto from = std::min<std::uint64_t>(range->from, c.answer.body.size()),
             to = std::min<std::uint64_t>(range->to, c.answer.body.size());
        c.answer.body = Bytes(c.answer.body.begin() + static_cast<std::ptrdiff_t>(from),
                              c.answer.body.begin() + static_cast<std::ptrdiff_t>(to));
    }
    return std::move(c.answer);
}

Result<HttpAnswer> http_get(const std::string& address, const HttpOptions& options, std::size_t limit) {
    HttpClient client(options);
    auto until = monotonic_now() + options.connect + options.first_byte;
    ReadScope scope(nullptr, false, until);
    RUEDO_TRY(auto answer, client.get(address, {}, limit));
    return HttpAnswer{answer.status, std::move(answer.body)};
}

}  // namespace ruedo
