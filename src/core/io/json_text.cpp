// SPDX-License-Identifier: Apache-2.0
#include "io/json_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <nlohmann/json.hpp>
#include <set>

namespace ruedo {
namespace {
using nlohmann::json;

TextPlace place_at(ByteView text, std::size_t offset) {
    auto end = text.begin() + static_cast<std::ptrdiff_t>(std::min(offset, text.size()));
    auto line = 1 + std::count(text.begin(), end, '\n');
    auto start = end;
    while (start != text.begin() && *(start - 1) != '\n') --start;
    // Bytes that continue a character of UTF-8 are no characters of their own.
    auto column = 1 + std::count_if(start, end, [](std::uint8_t b) { return (b & 0xC0) != 0x80; });
    return {static_cast<std::size_t>(line), static_cast<std::size_t>(column)};
}

/// Walks through a text and says where each member and element begins. Stops at the first fault.
class Scanner {
  public:
    /// Hears of each value: its pointer's parts, and the offset it is found at. False ends the walk.
    using Visit = std::function<bool(const std::vector<std::string>& path, std::size_t offset)>;
    Scanner(ByteView text, Visit visit) : text_(text), visit_(std::move(visit)) {}
    /// Called for a member whose name its object has already.
    Visit doubled;
    bool run() {
        // A byte order mark is let be (RFC 8259 clause 8.1).
        if (text_.size() >= 3 && text_[0] == 0xEF && text_[1] == 0xBB && text_[2] == 0xBF) at_ = 3;
        blanks();
        if (!visit({}, at_) || !value()) return false;
        blanks();
        return at_ == text_.size() || wrong("nothing more was expected");
    }
    std::optional<JsonFault> fault;

  private:
    bool visit(const std::vector<std::string>& path, std::size_t offset) { return !visit_ || visit_(path, offset); }
    int peek() const { return at_ < text_.size() ? text_[at_] : -1; }
    void blanks() {
        while (at_ < text_.size() &&
               (text_[at_] == ' ' || text_[at_] == '\t' || text_[at_] == '\n' || text_[at_] == '\r'))
            ++at_;
    }
    bool wrong(std::string what) {
        if (at_ >= text_.size()) what = "the text ends too early: " + what;
        fault = JsonFault{place_at(text_, at_), std::move(what)};
        return false;
    }
    bool value() {
        switch (int c = peek()) {
            case '{':
                return inside('}', [this] { return member(); });
            case '[':
                return inside(']', [this] { return element(); });
            case '"': {
                std::string unused;
                return string(unused);
            }
            case 't':
                return word("true");
            case 'f':
                return word("false");
            case 'n':
                return word("null");
            default:
                return c == '-' || (c >= '0' && c <= '9') ? number() : wrong("a value was expected");
        }
    }
    template <class Each>
    bool inside(char close, Each each) {
        if (path_.size() >= most_json_depth)
            return wrong(fmt::format("it goes more than {} levels deep", most_json_depth));
        ++at_;
        blanks();
        if (peek() == close) return ++at_, true;
        names_.emplace_back();
        path_.emplace_back();
        for (index_.push_back(0);; ++index_.back()) {
            if (!each()) return false;
            blanks();
            if (peek() == close) break;
            if (peek() != ',') return wrong(fmt::format("“,” or “{}” was expected", close));
            ++at_;
            blanks();
        }
        names_.pop_back(), path_.pop_back(), index_.pop_back();
        return ++at_, true;
    }
    bool member() {
        auto from = at_;
        if (peek() != '"') return wrong("a name in quotes was expected");
        std::string name;
        if (!string(name)) return false;
        path_.back() = pointer_part(name);
        if (!names_.back().insert(name).second && doubled && !doubled(path_, from)) return false;
        if (!visit(path_, from)) return false;
        blanks();
        if (peek() != ':') return wrong("“:” was expected");
        ++at_;
        blanks();
        return value();
    }
    bool element() {
        path_.back() = std::to_string(index_.back());
        return visit(path_, at_) && value();
    }
    bool word(std::string_view w) {
        for (char c : w) {
            if (peek() != c) return wrong(fmt::format("“{}” was expected", w));
            ++at_;
        }
        return true;
    }
    bool digits() {
        if (peek() < '0' || peek() > '9') return wrong("a digit was expected");
        while (peek() >= '0' && peek() <= '9') ++at_;
        return true;
    }
    bool number() {
        if (peek() == '-') ++at_;
        if (peek() == '0') {
            ++at_;
            if (peek() >= '0' && peek() <= '9') return wrong("a number that begins with 0 was not expected");
        } else if (!digits()) {
            return false;
        }
        if (peek() == '.' && (++at_, !digits())) return false;
        if (peek() == 'e' || peek() == 'E') {
            ++at_;
            if (peek() == '+' || peek() == '-') ++at_;
            if (!digits()) return false;
        }
        return true;
    }
    /// What stands in it, but for characters by number, which no name of ours has.
    bool string(std::string& out) {
        for (++at_; peek() != '"'; ++at_) {
            int c = peek();
            if (c < 0) return wrong("a closing quote was expected");
            if (c < 0x20) return wrong("a closing quote was expected in this line");
            if (c != '\\') {
                out += static_cast<char>(c);
                continue;
            }
            ++at_;
            constexpr std::string_view letters = "\"\\/bfnrtu", meant = "\"\\/\b\f\n\r\t";
            auto which = letters.find(static_cast<char>(peek()));
            if (peek() < 0 || which == letters.npos) return wrong("“\\” may stand before \" \\ / b f n r t u only");
            if (which < meant.size()) {
                out += meant[which];
                continue;
            }
            out += "\\u";
            for (int i = 0; i < 4; ++i) {
                ++at_;
                if (peek() < 0 || !std::isxdigit(peek())) return wrong("four hexadecimal digits were expected");
                out += static_cast<char>(peek());
            }
        }
        return ++at_, true;
    }

    ByteView text_;
    Visit visit_;
    std::size_t at_ = 0;
    std::vector<std::string> path_;
    std::vector<std::size_t> index_;
    std::vector<std::set<std::string>> names_;
};

std::string pointer_of(const std::vector<std::string>& path) {
    std::string all;
    for (auto& part : path) all += "/" + part;
    return all;
}
}  // namespace

Error JsonFault::error(std::string_view subject) const {
    return {ErrorCode::malformed,
            fmt::format("In line {}, column {} of “{}”, {}.", place.line, place.column, subject, what),
            "Put it right in a text editor, or open an older copy."};
}

std::string pointer_part(std::string_view name) {
    std::string out;
    for (char c : name) out += c == '~' ? "~0" : c == '/' ? "~1" : std::string(1, c);
    return out;
}

std::expected<json, JsonFault> parse_json(ByteView text) {
    Scanner scanner(text, {});
    if (!scanner.run()) return std::unexpected(*scanner.fault);
    try {
        return json::parse(text.begin(), text.end());
    } catch (const json::exception& e) {
        auto* at = dynamic_cast<const json::parse_error*>(&e);
        return std::unexpected(JsonFault{place_at(text, at && at->byte > 0 ? at->byte - 1 : text.size()),
                                         at ? "text in UTF-8 was expected" : "a number is too large"});
    }
}

Result<json> read_json(const std::filesystem::path& path, std::uint64_t limit) {
    RUEDO_TRY(auto bytes, read_file(path, limit));
    auto read = parse_json(bytes);
    if (!read) return std::unexpected(read.error().error(path.filename().string()));
    return std::move(*read);
}

TextPlace place_in_json(ByteView text, const std::string& pointer) {
    TextPlace found;
    auto levels = static_cast<std::size_t>(std::count(pointer.begin(), pointer.end(), '/'));
    Scanner scanner(text, [&](auto& path, std::size_t offset) {
        // The later one of two counts, so the walk goes on.
        if (offset < text.size() && path.size() == levels && pointer_of(path) == pointer)
            found = place_at(text, offset);
        return true;
    });
    (void)scanner.run();
    return found;
}

std::vector<std::pair<std::string, TextPlace>> doubled_members(ByteView text) {
    std::vector<std::pair<std::string, TextPlace>> all;
    Scanner scanner(text, {});
    scanner.doubled = [&](auto& path, std::size_t offset) {
        all.emplace_back(pointer_of(path), place_at(text, offset));
        return all.size() < 1000;
    };
    (void)scanner.run();
    return all;
}

}  // namespace ruedo
