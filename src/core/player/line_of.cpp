// SPDX-License-Identifier: Apache-2.0
#include "player/line_of.h"

#include <nlohmann/json.hpp>

namespace ruedo {
namespace {
using nlohmann::json;

/// Follows the parser's events with the path they are at and the line the parser has come to.
class LineFinder : public json::json_sax_t {
  public:
    static std::size_t find(ByteView text, const std::string& pointer) {
        LineFinder finder(pointer);
        auto* begin = reinterpret_cast<const char*>(text.data());
        json::sax_parse(Counting{begin, &finder}, Counting{begin + text.size(), &finder}, &finder);
        return finder.found_;
    }
    bool null() override { return value(); }
    bool boolean(bool) override { return value(); }
    // The end of a number is known by what follows, which may be the end of the line.
    bool number_integer(number_integer_t) override { return value(before_); }
    bool number_unsigned(number_unsigned_t) override { return value(before_); }
    bool number_float(number_float_t, const string_t&) override { return value(before_); }
    bool string(string_t&) override { return value(); }
    bool binary(binary_t&) override { return value(); }
    bool start_object(std::size_t) override { return open(false); }
    bool start_array(std::size_t) override { return open(true); }
    bool key(string_t& name) override { return levels_.back().name = name, true; }
    bool end_object() override { return close(); }
    bool end_array() override { return close(); }
    bool parse_error(std::size_t, const std::string&, const nlohmann::detail::exception&) override { return false; }

  private:
    /// Counts the lines it passes.
    struct Counting {
        using iterator_category = std::input_iterator_tag;
        using value_type = char;
        using difference_type = std::ptrdiff_t;
        using pointer = const char*;
        using reference = const char&;
        const char* at;
        LineFinder* finder;
        reference operator*() const { return *at; }
        Counting& operator++() {
            finder->before_ = finder->line_;
            if (*at++ == '\n') ++finder->line_;
            return *this;
        }
        bool operator==(const Counting& o) const { return at == o.at; }
        bool operator!=(const Counting& o) const { return at != o.at; }
    };
    explicit LineFinder(std::string pointer) : pointer_(std::move(pointer)) {}
    struct Level {
        bool list;
        std::size_t index = 0;
        std::string name{};
    };
    /// As a pointer has it (RFC 6901 clause 3).
    static std::string escaped(const std::string& name) {
        std::string out;
        for (char c : name) out += c == '~' ? "~0" : c == '/' ? "~1" : std::string(1, c);
        return out;
    }
    bool here() const {
        std::string at;
        for (auto& l : levels_) at += "/" + (l.list ? std::to_string(l.index) : escaped(l.name));
        return at == pointer_;
    }
    bool look(std::size_t line) {
        if (here()) found_ = line;
        return found_ == 0;
    }
    bool value(std::size_t line = 0) {
        if (!look(line ? line : line_)) return false;
        if (!levels_.empty() && levels_.back().list) ++levels_.back().index;
        return true;
    }
    bool open(bool list) {
        if (!look(line_)) return false;
        levels_.push_back({list});
        return levels_.size() < 200;
    }
    bool close() {
        levels_.pop_back();
        if (!levels_.empty() && levels_.back().list) ++levels_.back().index;
        return true;
    }
    std::string pointer_;
    std::vector<Level> levels_;
    std::size_t line_ = 1, before_ = 1, found_ = 0;
};
}  // namespace

std::size_t line_of(ByteView text, const std::string& pointer) { return LineFinder::find(text, pointer); }

}  // namespace ruedo
