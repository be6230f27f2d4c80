// SPDX-License-Identifier: Apache-2.0
// When something is so: a small closed language of phrases joined by “and”, “or” and “not”, read from the moment's
// context. One row for each phrase, of which docs/conditions.md is made.
#pragma once
#include "player/controls.h"

namespace ruedo {

struct ConditionPhrase {
    std::string_view words;  ///< "no touch for"; a time follows where `timed`.
    bool timed;
    std::string_view meaning;
    bool (*holds)(const ControlContext&, Time);
    /// With times: true for a longer one says true for a shorter one (or, where false, the other way round).
    bool longer_is_stricter = true;
};
std::span<const ConditionPhrase> condition_phrases();

class Condition {
  public:
    /// An empty text is a condition that always holds. Errors say what is wrong, in words that go on after the place in
    /// a document: "speaks of “has colour”, which is no condition".
    static std::expected<Condition, std::string> parse(std::string_view text);
    bool holds(const ControlContext& context) const;
    /// The text put straight: one space between words, times as short as they can be written.
    std::string text() const;
    /// False for one that no moment can fulfil; true as well where it is too long to be sure.
    bool possible() const;
    /// True when some moment fulfils both.
    bool goes_with(const Condition& other) const;

  private:
    enum class Op { phrase, no, both, either };
    struct Part {
        Op op;
        std::size_t phrase = 0;
        Time time{};
        bool operator==(const Part&) const = default;
    };
    bool evaluate(const std::function<bool(const Part&)>& value) const;
    std::vector<Part> parts_;  ///< Operands before what joins them.
    std::string text_;
    friend class ConditionReader;
};

/// The page of the documentation.
std::string conditions_page();

}  // namespace ruedo
