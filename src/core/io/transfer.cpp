// SPDX-License-Identifier: Apache-2.0
#include "io/transfer.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

namespace ruedo::transfer {

void start_curl() {
    static const auto once = curl_global_init(CURL_GLOBAL_DEFAULT);
    (void)once;
}

std::string lower(std::string_view s) {
    std::string out(s);
    std::transform(out.begin(), out.end(), out.begin(), [](unsigned char c) { return std::tolower(c); });
    return out;
}

std::string_view trimmed(std::string_view s) {
    while (!s.empty() && (s.front() == ' ' || s.front() == '\t')) s.remove_prefix(1);
    while (!s.empty() && (s.back() == '\r' || s.back() == '\n' || s.back() == ' ' || s.back() == '\t'))
        s.remove_suffix(1);
    return s;
}

std::string last_part(const std::string& address) {
    auto end = address.find_first_of("?#");
    auto path = address.substr(0, end);
    while (path.ends_with('/')) path.pop_back();
    auto slash = path.rfind('/');
    auto name = slash == std::string::npos ? path : path.substr(slash + 1);
    int length = 0;
    char* plain = curl_easy_unescape(nullptr, name.c_str(), static_cast<int>(name.size()), &length);
    if (plain) name.assign(plain, static_cast<std::size_t>(length)), curl_free(plain);
    return name;
}
std::string host_of(const std::string& address) {
    auto from = address.find("://");
    from = from == std::string::npos ? 0 : from + 3;
    auto host = address.substr(from, address.find_first_of("/?#", from) - from);
    auto at = host.rfind('@');
    return at == std::string::npos ? host : host.substr(at + 1);
}

std::optional<std::uint64_t> number_in(std::string_view s) {
    std::uint64_t v = 0;
    auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
    return ec == std::errc() && end == s.data() + s.size() ? std::optional(v) : std::nullopt;
}
PartSent part_sent(std::string_view text) {
    PartSent part;
    if (auto slash = text.find('/'); slash != std::string_view::npos) part.of = number_in(text.substr(slash + 1));
    auto dash = text.find('-');
    if (text.starts_with("bytes ") && dash != std::string_view::npos) part.from = number_in(text.substr(6, dash - 6));
    return part;
}
Error other_part(const std::string& address) {
    return {ErrorCode::network,
            fmt::format("“{}” sends another part of “{}” than was asked for.", host_of(address), last_part(address)),
            "The server's ranges are wrong; serve the file in another way."};
}

void prepare(CURL* easy, const std::string& address, const HttpOptions& o, curl_slist* headers) {
    curl_easy_setopt(easy, CURLOPT_URL, address.c_str());
    curl_easy_setopt(easy, CURLOPT_NOSIGNAL, 1L);
    curl_easy_setopt(easy, CURLOPT_QUICK_EXIT, 1L);  // a name that is being looked up does not hold anybody up
    curl_easy_setopt(easy, CURLOPT_PROTOCOLS_STR, "http,https");
    // What was asked for securely is not fetched otherwise.
    curl_easy_setopt(easy, CURLOPT_REDIR_PROTOCOLS_STR, lower(address).starts_with("https") ? "https" : "http,https");
    curl_easy_setopt(easy, CURLOPT_FOLLOWLOCATION, 1L);
    curl_easy_setopt(easy, CURLOPT_MAXREDIRS, static_cast<long>(o.redirects));
    curl_easy_setopt(easy, CURLOPT_CONNECTTIMEOUT_MS, static_cast<long>(o.connect.ns / 1'000'000));
    curl_easy_setopt(easy, CURLOPT_USERAGENT, "Ruedo/" RUEDO_VERSION);
    curl_easy_setopt(easy, CURLOPT_HTTPHEADER, headers);
    curl_easy_setopt(easy, CURLOPT_TCP_KEEPALIVE, 1L);
}

Error transfer_error(CURLcode code, const std::string& address, const HttpOptions& o, long status) {
    auto host = host_of(address);
    switch (code) {
        case CURLE_URL_MALFORMAT:
            return {ErrorCode::usage, fmt::format("“{}” is not a complete address.", address),
                    "Write it as http://host/path."};
        case CURLE_COULDNT_RESOLVE_HOST:
        case CURLE_COULDNT_RESOLVE_PROXY:
            return {ErrorCode::network, fmt::format("There is no host “{}”, or no network to find it on.", host),
                    "Check the address and the network."};
        case CURLE_COULDNT_CONNECT:
            return {ErrorCode::network, fmt::format("“{}” does not take connections.", host),
                    "Check the address and port, and whether the server runs."};
        case CURLE_TOO_MANY_REDIRECTS:
            return {ErrorCode::network, fmt::format("“{}” redirects more than {} times.", host, o.redirects),
                    "The server sends in circles; use the final address."};
        case CURLE_UNSUPPORTED_PROTOCOL:
            if (status >= 300 && status < 400)
                return {ErrorCode::refused,
                        fmt::format("“{}” redirects to something that is not fetched from here.", host),
                        "Use the final address itself."};
            [[fallthrough]];
        case CURLE_WEIRD_SERVER_REPLY:
        case CURLE_HTTP2:
        case CURLE_BAD_CONTENT_ENCODING:
            return {ErrorCode::network, fmt::format("“{}” answers in a way that is not http.", host),
                    "Check the address and port; something else may be listening there."};
        case CURLE_PARTIAL_FILE:
            return {ErrorCode::network,
                    fmt::format("“{}” closed the connection before all of its answer had come.", host),
                    "The file on the server is cut short, or the connection is poor."};
        case CURLE_PEER_FAILED_VERIFICATION:
        case CURLE_SSL_CONNECT_ERROR:
        case CURLE_SSL_CERTPROBLEM:
        case CURLE_SSL_CACERT_BADFILE:
        case CURLE_SSL_ISSUER_ERROR:
            return {ErrorCode::refused, fmt::format("The certificate of “{}” is not to be trusted.", host),
                    "Let the server show a certificate from a known authority, or add its authority to the system's."};
        case CURLE_OPERATION_TIMEDOUT:
            return {ErrorCode::timeout, fmt::format("“{}” did not answer within {:.0f} s.", host, o.connect.seconds()),
                    "Check the network and the server, then try again."};
        default:
            return {ErrorCode::network,
                    fmt::format("The transfer from “{}” broke off ({}).", host, curl_easy_strerror(code)),
                    "Check the network, then try again."};
    }
}
std::optional<Error> status_error(long status, const std::string& address) {
    auto name = last_part(address), host = host_of(address);
    if (status == 200 || status == 206 || status == 416) return std::nullopt;
    if (status == 404 || status == 410)
        return Error{ErrorCode::not_found, fmt::format("“{}” is not on “{}” (status {}).", name, host, status),
                     "Check the address."};
    if (status == 429)
        return Error{ErrorCode::network, fmt::format("“{}” is asked for too much at once (status 429).", host),
                     "Try again later."};
    if (status == 401 || status == 403 || status == 407)
        return Error{ErrorCode::refused,
                     fmt::format("“{}” does not allow “{}” to be read (status {}).", host, name, status),
                     "Ask for access, or check the key."};
    return Error{ErrorCode::network, fmt::format("“{}” answers with status {}.", host, status),
                 status >= 500 ? "The server has a fault; try again later." : "Check the address."};
}

}  // namespace ruedo::transfer

namespace ruedo {
using namespace transfer;

bool is_address(std::string_view text) {
    auto head = lower(text.substr(0, 8));
    return head.starts_with("http://") || head.starts_with("https://") || text.starts_with("catalogue://") ||
           text.starts_with("catalogues://") || text.starts_with("camera://");
}

}  // namespace ruedo
