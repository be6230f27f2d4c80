// SPDX-License-Identifier: Apache-2.0
// Clips known by an id at a service (docs/catalogue.md): an id and an access key give title, poster and address.
#pragma once
#include <filesystem>
#include <optional>

#include "base/time.h"
#include "io/http.h"

namespace ruedo {

/// "catalogue://host:port/id", or "catalogues://…" for one that is reached over TLS.
struct CatalogueName {
    std::string host;  ///< With its port, when one is stated.
    std::string id;
    bool secure = false;
    std::string base() const { return (secure ? "https://" : "http://") + host; }
};
std::optional<CatalogueName> parse_catalogue_name(std::string_view source);

struct CatalogueClip {
    std::string title;
    Time duration{};
    std::string address;  ///< Where it plays from.
    std::string form;     ///< "file", or "stream" for HLS and DASH; others are not played.
    Bytes poster;         ///< PNG or JPEG, as sent; may be empty.
};

/// Asks the service. Errors: `not-found` (unknown id, or withdrawn), `refused` (no key, wrong key), `network` and
/// `timeout` (the service is down), `malformed` (an answer that is none). Each has its own sentence.
Result<CatalogueClip> ask_catalogue(const CatalogueName& name, const std::string& key, bool with_poster = true);

/// Access keys of the user, by host: a file that only the user can read, never a project's or a packed app's.
class KeyFile {
  public:
    /// `~/.config/ruedo/keys.json` in the user's settings.
    static std::filesystem::path standard();
    explicit KeyFile(std::filesystem::path path = standard()) : path_(std::move(path)) {}
    std::string key_for(const std::string& host) const;  ///< Empty when there is none.
    /// Written with mode 0600, whole or not at all. An empty key takes it out.
    Status set(const std::string& host, const std::string& key);
    std::vector<std::string> hosts() const;

  private:
    std::filesystem::path path_;
};

}  // namespace ruedo
