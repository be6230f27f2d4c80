// SPDX-License-Identifier: Apache-2.0
#include "stream/address.h"

#include <curl/curl.h>
#include <fmt/format.h>

#include <filesystem>

#include "io/transfer.h"

namespace ruedo {
namespace fs = std::filesystem;

namespace {
bool has_scheme(std::string_view text) {
    auto colon = text.find_first_of(":/?#");
    return colon != std::string_view::npos && colon > 0 && text[colon] == ':';
}
bool is_web(std::string_view text) {
    auto head = transfer::lower(text.substr(0, 8));
    return head.starts_with("http://") || head.starts_with("https://");
}
/// A reference of a playlist on disk: a path with escapes, whose query names nothing there.
std::string plain_path(std::string_view reference) {
    auto end = reference.find_first_of("?#");
    int length = 0;
    auto path = std::string(reference.substr(0, end));
    char* plain = curl_easy_unescape(nullptr, path.c_str(), static_cast<int>(path.size()), &length);
    if (!plain) return path;
    std::string out(plain, static_cast<std::size_t>(length));
    curl_free(plain);
    return out;
}
}  // namespace

Result<std::string> resolve(const std::string& base, const std::string& reference) {
    if (reference.empty() || reference.size() > 8192)
        return fail(ErrorCode::malformed, "A playlist names a segment by nothing, or by more than 8192 letters.",
                    "Make the playlist again.");
    if (!is_web(base)) {
        if (is_web(reference)) return reference;
        if (has_scheme(reference))
            return fail(
                ErrorCode::refused,
                fmt::format("A playlist names “{}”, which is neither a file nor on the web.", reference.substr(0, 200)),
                "Name segments by their paths, or by http addresses.");
        // Files of a playlist lie beside it, in its folder or in one next to that; never by a path from the root.
        auto path = fs::path(plain_path(reference));
        if (path.is_absolute() || path.native().find('\0') != std::string::npos)
            return fail(ErrorCode::refused,
                        fmt::format("A playlist names “{}”, which lies outside its folder.", reference.substr(0, 200)),
                        "Name segments by paths that begin at the playlist.");
        return (fs::path(base).parent_path() / path).lexically_normal().string();
    }
    auto* url = curl_url();
    char* text = nullptr;
    bool fine =
        curl_url_set(url, CURLUPART_URL, base.c_str(), 0) == CURLUE_OK &&
        curl_url_set(url, CURLUPART_URL, reference.c_str(), CURLU_URLENCODE | CURLU_NON_SUPPORT_SCHEME) == CURLUE_OK &&
        curl_url_get(url, CURLUPART_URL, &text, 0) == CURLUE_OK;
    std::string found = fine && text ? text : "";
    curl_free(text);
    curl_url_cleanup(url);
    if (found.empty())
        return fail(ErrorCode::malformed,
                    fmt::format("A playlist names “{}”, which is no address.", reference.substr(0, 200)),
                    "Make the playlist again.");
    bool was_secure = transfer::lower(base.substr(0, 6)) == "https:";
    if (!is_web(found) || (was_secure && transfer::lower(found.substr(0, 6)) != "https:"))
        return fail(ErrorCode::refused,
                    fmt::format("A playlist of “{}” names “{}”, which is not fetched from there.",
                                transfer::host_of(base), found.substr(0, 200)),
                    "Serve segments as the playlist itself is served.");
    return found;
}

}  // namespace ruedo
