// SPDX-License-Identifier: Apache-2.0
#include "catalogue/catalogue.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "io/json_text.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;

std::optional<CatalogueName> parse_catalogue_name(std::string_view source) {
    CatalogueName n;
    for (auto [scheme, secure] : {std::pair<std::string_view, bool>{"catalogue://", false}, {"catalogues://", true}}) {
        if (!source.starts_with(scheme)) continue;
        source.remove_prefix(scheme.size());
        auto slash = source.find('/');
        if (slash == std::string_view::npos || slash == 0) return std::nullopt;
        n.host = source.substr(0, slash);
        n.id = source.substr(slash + 1);
        n.secure = secure;
        bool plain = !n.id.empty() && n.id.size() <= 128 && std::all_of(n.id.begin(), n.id.end(), [](unsigned char c) {
            return std::isalnum(c) || c == '-' || c == '_' || c == '.';
        });
        return plain ? std::optional(n) : std::nullopt;
    }
    return std::nullopt;
}

Result<CatalogueClip> ask_catalogue(const CatalogueName& name, const std::string& key, bool with_poster) {
    HttpOptions options;
    options.connect = 5_s, options.first_byte = 5_s;
    options.redirects = 0;  // a key is not carried elsewhere
    if (!key.empty()) options.headers = {"Authorization: Bearer " + key};
    if (std::any_of(key.begin(), key.end(), [](unsigned char c) { return c < 33 || c > 126; }))
        return fail(ErrorCode::refused,
                    fmt::format("The key for “{}” holds characters that a key can’t have.", name.host),
                    "Enter the key again, as the service gave it.");
    auto answer = http_get(fmt::format("{}/clips/{}", name.base(), name.id), options, 1 << 20);
    if (!answer) {
        if (answer.error().code == ErrorCode::cancelled || answer.error().code == ErrorCode::refused)
            return std::unexpected(answer.error());
        if (answer.error().code == ErrorCode::limit)
            return fail(ErrorCode::limit, fmt::format("The catalogue at “{}” answers with more than 1 MB.", name.host),
                        "Tell the service; what it says of a clip is far shorter.");
        return fail(answer.error().code, fmt::format("The catalogue at “{}” does not answer.", name.host),
                    "Check that the service runs, and the network.");
    }
    switch (answer->status) {
        case 200:
            break;
        case 401:
            return fail(ErrorCode::refused,
                        fmt::format("The catalogue at “{}” wants a key, and none is kept for it.", name.host),
                        fmt::format("Keep one with: ruedo key {} KEY", name.host));
        case 403:
            return fail(ErrorCode::refused,
                        fmt::format("The catalogue at “{}” does not accept the key that is kept for it.", name.host),
                        "Ask the service for a key, and keep that one.");
        case 404:
            return fail(ErrorCode::not_found,
                        fmt::format("The catalogue at “{}” knows no clip “{}”.", name.host, name.id), "Check the id.");
        case 410:
            return fail(ErrorCode::not_found,
                        fmt::format("The clip “{}” was withdrawn from the catalogue at “{}”.", name.id, name.host),
                        "Choose another clip.");
        default:
            return fail(ErrorCode::network,
                        fmt::format("The catalogue at “{}” has a fault (status {}).", name.host, answer->status),
                        "Try again later.");
    }
    auto j = parse_json(answer->body).value_or(json());
    auto wrong = [&](const char* what) {
        return fail(ErrorCode::malformed,
                    fmt::format("The catalogue at “{}” gives an answer that {}.", name.host, what),
                    "The service speaks another format than this program.");
    };
    if (!j.is_object()) return wrong("is not JSON");
    CatalogueClip clip;
    try {
        if (j.value("format", "") != "ruedo-catalogue" || j.at("version").get<int>() != 1)
            return wrong("is of another format");
        clip.title = j.at("title");
        clip.duration = Time{j.at("duration_ns").get<std::int64_t>()};
        clip.form = j.at("play").at("form");
        clip.address = j.at("play").at("address");
    } catch (const json::exception&) {
        return wrong("lacks something");
    }
    if (clip.address.starts_with('/')) clip.address = name.base() + clip.address;
    if (!is_address(clip.address)) return wrong("names no address to play from");
    if (clip.form != "file" && clip.form != "stream")
        return fail(ErrorCode::codec_missing,
                    fmt::format("The clip “{}” comes as a {}, which can’t be played here yet.", name.id, clip.form),
                    "Ask for it as a file.");
    if (with_poster && j.contains("poster") && j["poster"].is_string()) {
        auto poster = j["poster"].get<std::string>();
        if (poster.starts_with('/')) poster = name.base() + poster;
        // Without its poster a clip still plays.
        if (is_address(poster))
            if (auto image = http_get(poster, {.connect = 5_s, .first_byte = 5_s}, 8 << 20);
                image && image->status == 200)
                clip.poster = std::move(image->body);
    }
    return clip;
}

fs::path KeyFile::standard() {
    if (auto* config = std::getenv("XDG_CONFIG_HOME"); config && *config)
        return fs::path(config) / "ruedo" / "keys.json";
    auto* home = std::getenv("HOME");
    if (!home || !*home) return {};
    return fs::path(home) / ".config" / "ruedo" / "keys.json";
}
namespace {
json keys_in(const fs::path& path) {
    auto j = read_json(path, 1 << 20).value_or(json());
    return j.is_object() ? j : json::object();
}
}  // namespace
std::string KeyFile::key_for(const std::string& host) const {
    auto j = keys_in(path_);
    return j.contains(host) && j[host].is_string() ? j[host].get<std::string>() : std::string();
}
std::vector<std::string> KeyFile::hosts() const {
    std::vector<std::string> list;
    auto keys = keys_in(path_);
    for (auto& [host, key] : keys.items()) list.push_back(host);
    return list;
}
Status KeyFile::set(const std::string& host, const std::string& key) {
    if (path_.empty())
        return fail(ErrorCode::not_found, "There is no home folder to keep keys in.", "Set HOME or XDG_CONFIG_HOME.");
    auto j = keys_in(path_);
    if (key.empty())
        j.erase(host);
    else
        j[host] = key;
    RUEDO_TRY_DO(make_folder(path_.parent_path()));
    auto text = j.dump(2, ' ', false, json::error_handler_t::replace) + "\n";
    // Nobody else may read it, not even for the moment before its mode is set.
    auto before = ::umask(0077);
    auto written = write_file(path_, {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
    ::umask(before);
    RUEDO_TRY_DO(written);
    std::error_code ec;
    fs::permissions(path_, fs::perms::owner_read | fs::perms::owner_write, ec);
    return {};
}

Result<std::shared_ptr<ByteSource>> open_source(const std::string& source) {
    if (source.starts_with("catalogue://") || source.starts_with("catalogues://")) {
        auto name = parse_catalogue_name(source);
        if (!name)
            return fail(ErrorCode::usage, fmt::format("“{}” names no clip of a catalogue.", source),
                        "Write it as catalogue://host:port/id.");
        RUEDO_TRY(auto clip, ask_catalogue(*name, KeyFile().key_for(name->host), false));
        return http_source(clip.address);
    }
    if (is_address(source)) return http_source(source);
    return open_file(source);
}

}  // namespace ruedo
