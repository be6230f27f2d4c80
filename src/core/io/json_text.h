// SPDX-License-Identifier: Apache-2.0
// JSON as people write it (RFC 8259): read with the line and column of whatever is wrong, and of every value.
#pragma once
#include <expected>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "io/io.h"

namespace ruedo {

/// A place in a text: line and column from 1, columns in characters (code points); 0 for none.
struct TextPlace {
    std::size_t line = 0, column = 0;
    explicit operator bool() const { return line > 0; }
    bool operator==(const TextPlace&) const = default;
};

/// What is wrong with a JSON text, and where.
struct JsonFault {
    TextPlace place;
    std::string what;  ///< "“,” or “}” was expected": goes on after the place.
    /// `malformed`: "In line 3, column 5 of “p.ruedo”, …".
    Error error(std::string_view subject) const;
};

/// Deeper than this no text is read: what walks through values goes as deep as they do.
constexpr int most_json_depth = 200;
std::expected<nlohmann::json, JsonFault> parse_json(ByteView text);
/// A file that holds one JSON value. Errors: those of `read_file`, and `malformed`.
Result<nlohmann::json> read_json(const std::filesystem::path& path, std::uint64_t limit = 64 << 20);

/// Where the value at a JSON pointer (RFC 6901) stands: the name of a member, or an element of a list.
TextPlace place_in_json(ByteView text, const std::string& pointer);
/// Pointers of members that come again in one object, with the place of the later one, which is the one that counts.
std::vector<std::pair<std::string, TextPlace>> doubled_members(ByteView text);
/// A member's name as a part of a JSON pointer (RFC 6901 clause 3).
std::string pointer_part(std::string_view name);

}  // namespace ruedo
