// SPDX-License-Identifier: Apache-2.0
#include "player/conditions.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo {
namespace {
using C = const ControlContext&;

bool has(C c, Kind kind) {
    auto& all = c.snapshot.track_options;
    return all && std::any_of(all->begin(), all->end(), [kind](auto& x) { return x.kind == kind; });
}

constexpr std::array phrase_rows{
    ConditionPhrase{"always", false, "whatever happens", [](C, Time) { return true; }},
    ConditionPhrase{"playing", false, "media time runs", [](C c, Time) { return c.snapshot.motion == Motion::moving; }},
    ConditionPhrase{"held", false, "pause was requested, or play never was",
                    [](C c, Time) { return c.snapshot.state.intent == Intent::hold; }},
    ConditionPhrase{"waiting", false, "play was requested and no data has arrived yet",
                    [](C c, Time) { return c.snapshot.motion == Motion::starved; }},
    ConditionPhrase{"seeking", false, "a seek is under way", [](C c, Time) { return c.snapshot.state.seeking; }},
    ConditionPhrase{"opening", false, "the source is being opened",
                    [](C c, Time) { return c.snapshot.state.phase == Phase::opening; }},
    ConditionPhrase{"failed", false, "it failed", [](C c, Time) { return c.snapshot.state.phase == Phase::failed; }},
    ConditionPhrase{"at the end", false, "it has played to the end",
                    [](C c, Time) { return c.snapshot.state.phase == Phase::ended; }},
    ConditionPhrase{"before the first start", false, "it has not played since it was opened",
                    [](C c, Time) { return !c.started; }},
    ConditionPhrase{"counting down", false, "it starts by itself after a delay",
                    [](C c, Time) { return c.countdown.has_value(); }},
    ConditionPhrase{"live", false, "it comes as it happens", [](C c, Time) { return c.snapshot.live; }},
    ConditionPhrase{"muted", false, "it was silenced", [](C c, Time) { return c.snapshot.muted; }},
    ConditionPhrase{"looping", false, "it loops, all or a range",
                    [](C c, Time) { return c.snapshot.loop.kind != Loop::Kind::none; }},
    ConditionPhrase{"has pictures", false, "there is video that plays", [](C c, Time) { return c.snapshot.has_video; }},
    ConditionPhrase{"has sound", false, "there is audio that plays", [](C c, Time) { return c.snapshot.has_audio; }},
    ConditionPhrase{"has captions", false, "there are caption tracks", [](C c, Time) { return has(c, Kind::text); }},
    ConditionPhrase{"captions shown", false, "captions are on", [](C c, Time) { return c.snapshot.text_track != 0; }},
    ConditionPhrase{"in full screen", false, "it covers the whole screen", [](C c, Time) { return c.full_screen; }},
    ConditionPhrase{"on handsets", false, "the mount is a handset", [](C c, Time) { return c.handset; }},
    ConditionPhrase{"several sources", false, "there is more than one source", [](C c, Time) { return c.count > 1; }},
    ConditionPhrase{"at the first source", false, "no source goes before this one",
                    [](C c, Time) { return c.index == 0; }},
    ConditionPhrase{"at the last source", false, "no source follows this one",
                    [](C c, Time) { return c.index + 1 >= c.count; }},
    ConditionPhrase{"with the bar", false, "controls that hide when idle are visible",
                    [](C c, Time) { return c.awake; }},
    ConditionPhrase{"no touch for", true, "no pointer, touch or key for that time",
                    [](C c, Time t) { return c.untouched >= t; }},
    ConditionPhrase{"waiting for", true, "it has been stalled for that time",
                    [](C c, Time t) { return c.waited >= t; }},
    ConditionPhrase{"past", true, "the position is past this time",
                    [](C c, Time t) { return c.snapshot.position > t; }},
    ConditionPhrase{"left under", true, "less than this is left to the end",
                    [](C c, Time t) {
                        auto& s = c.snapshot;
                        return s.duration_known && s.duration - s.position < t;
                    },
                    false},
    ConditionPhrase{"ahead of playback under", true, "less than this is buffered before the position",
                    [](C c, Time t) { return c.snapshot.buffered_to - c.snapshot.position < t; }, false},
};

/// What is never so at the same time, and what always goes with another.
struct Pair {
    std::string_view a, b;
};
constexpr std::array exclusions{
    Pair{"playing", "held"},
    Pair{"playing", "waiting"},
    Pair{"playing", "opening"},
    Pair{"playing", "failed"},
    Pair{"playing", "at the end"},
    Pair{"waiting", "held"},
    Pair{"waiting", "failed"},
    Pair{"waiting", "at the end"},
    Pair{"opening", "failed"},
    Pair{"opening", "at the end"},
    Pair{"failed", "at the end"},
    Pair{"seeking", "failed"},
    Pair{"seeking", "opening"},
    Pair{"counting down", "failed"},
    Pair{"counting down", "at the end"},
    Pair{"counting down", "playing"},
    Pair{"before the first start", "at the end"},
    Pair{"before the first start", "playing"},
};
constexpr std::array implications{
    Pair{"captions shown", "has captions"},
    Pair{"counting down", "before the first start"},
};

std::string spoken_time(Time t) {
    return t.ns % 1'000'000'000 == 0 ? fmt::format("{} s", t.ns / 1'000'000'000) : fmt::format("{:g} s", t.seconds());
}
}  // namespace

std::span<const ConditionPhrase> condition_phrases() { return phrase_rows; }

/// Recursive descent over words: either := both ("or" both)*, both := one ("and" one)*, one := "not" one | "(" ... ")"
/// | phrase.
class ConditionReader {
  public:
    explicit ConditionReader(std::string_view text) {
        while (!text.empty()) {
            if (text[0] == ' ' || text[0] == '\n' || text[0] == '\t') {
                text.remove_prefix(1);
            } else if (text[0] == '(' || text[0] == ')') {
                words_.push_back(text.substr(0, 1));
                text.remove_prefix(1);
            } else {
                auto end = std::min(text.find_first_of(" \n\t()"), text.size());
                words_.push_back(text.substr(0, end));
                text.remove_prefix(end);
            }
        }
    }
    std::expected<Condition, std::string> read() {
        if (words_.empty()) return Condition{};
        if (words_.size() > 400) return std::unexpected("is too long for a condition");
        if (!either()) return std::unexpected(wrong_);
        if (at_ < words_.size())
            return std::unexpected(fmt::format("continues with “{}”, which joins nothing", word()));
        return std::move(made_);
    }

  private:
    std::string_view word() const { return at_ < words_.size() ? words_[at_] : std::string_view(); }
    bool take(std::string_view wanted) { return word() == wanted ? ++at_, true : false; }
    void say(std::string_view words) {
        if (!made_.text_.empty() && made_.text_.back() != '(' && words != ")") made_.text_ += ' ';
        made_.text_ += words;
    }
    bool fail(std::string why) { return wrong_ = std::move(why), false; }
    bool either() {
        if (!both()) return false;
        while (take("or")) {
            say("or");
            if (!both()) return false;
            made_.parts_.push_back({Condition::Op::either});
        }
        return true;
    }
    bool both() {
        if (!one()) return false;
        while (take("and")) {
            say("and");
            if (!one()) return false;
            made_.parts_.push_back({Condition::Op::both});
        }
        return true;
    }
    bool one() {
        if (++depth_ > 50) return fail("has too many brackets");
        if (take("not")) {
            say("not");
            if (!one()) return false;
            made_.parts_.push_back({Condition::Op::no});
        } else if (take("(")) {
            say("(");
            if (!either()) return false;
            if (!take(")")) return fail("has a bracket that is not closed");
            say(")");
        } else if (!phrase()) {
            return false;
        }
        --depth_;
        return true;
    }
    bool phrase() {
        // The longest one that fits.
        std::size_t best = SIZE_MAX, length = 0;
        for (std::size_t i = 0; i < phrase_rows.size(); ++i) {
            auto rest = phrase_rows[i].words;
            std::size_t n = 0;
            while (!rest.empty() && at_ + n < words_.size()) {
                auto end = std::min(rest.find(' '), rest.size());
                if (words_[at_ + n] != rest.substr(0, end)) break;
                rest.remove_prefix(std::min(end + 1, rest.size()));
                ++n;
            }
            if (rest.empty() && n > length) best = i, length = n;
        }
        if (best == SIZE_MAX) {
            if (at_ >= words_.size()) return fail("ends where a condition is expected");
            std::string said;
            for (auto i = at_; i < words_.size() && i < at_ + 4; ++i) {
                if (words_[i] == "and" || words_[i] == "or" || words_[i] == ")") break;
                said += (said.empty() ? "" : " ") + std::string(words_[i]);
            }
            return fail(fmt::format("has “{}”, which is not a condition", said.empty() ? word() : said));
        }
        at_ += length;
        Condition::Part part{.op = Condition::Op::phrase, .phrase = best};
        say(phrase_rows[best].words);
        if (phrase_rows[best].timed) {
            // "3s" or "3 s".
            auto time = at_ < words_.size() ? parse_time(words_[at_]) : std::nullopt;
            if (time) {
                ++at_;
            } else if (at_ + 1 < words_.size()) {
                time = parse_time(std::string(words_[at_]) + std::string(words_[at_ + 1]));
                if (time) at_ += 2;
            }
            if (!time) return fail(fmt::format("needs a time with a unit after “{}”", phrase_rows[best].words));
            part.time = *time;
            say(spoken_time(*time));
        }
        made_.parts_.push_back(part);
        return true;
    }
    std::vector<std::string_view> words_;
    std::size_t at_ = 0;
    int depth_ = 0;
    std::string wrong_;
    Condition made_;
};

std::expected<Condition, std::string> Condition::parse(std::string_view text) { return ConditionReader(text).read(); }
std::string Condition::text() const { return text_; }

bool Condition::evaluate(const std::function<bool(const Part&)>& value) const {
    if (parts_.empty()) return true;
    std::vector<bool> stack;
    auto pop = [&] {
        bool top = stack.back();
        return stack.pop_back(), top;
    };
    for (auto& p : parts_) {
        if (p.op == Op::phrase) {
            stack.push_back(value(p));
        } else if (p.op == Op::no) {
            stack.push_back(!pop());
        } else {
            bool b = pop(), a = pop();
            stack.push_back(p.op == Op::both ? a && b : a || b);
        }
    }
    return stack.back();
}

bool Condition::holds(const ControlContext& context) const {
    return evaluate([&](const Part& p) { return phrase_rows.at(p.phrase).holds(context, p.time); });
}

bool Condition::possible() const { return goes_with({}); }

/// Every way the phrases of both can be true and false together that the exclusions leave.
bool Condition::goes_with(const Condition& other) const {
    std::vector<Part> said;
    for (auto* list : {&parts_, &other.parts_})
        for (auto& p : *list)
            if (p.op == Op::phrase && std::find(said.begin(), said.end(), p) == said.end()) said.push_back(p);
    if (said.size() > 14) return true;
    for (std::uint32_t truth = 0; truth < 1U << said.size(); ++truth) {
        auto is = [&](std::size_t i) { return (truth >> i & 1) != 0; };
        bool can_be = true;
        for (std::size_t i = 0; can_be && i < said.size(); ++i)
            for (std::size_t k = 0; can_be && k < said.size(); ++k) {
                auto a = phrase_rows.at(said[i].phrase).words, b = phrase_rows.at(said[k].phrase).words;
                for (auto& x : exclusions)
                    if (x.a == a && x.b == b && is(i) && is(k)) can_be = false;
                for (auto& x : implications)
                    if (x.a == a && x.b == b && is(i) && !is(k)) can_be = false;
                if (a == "always" && !is(i)) can_be = false;
                // Of the same phrase with two times, the stricter says the other.
                auto& row = phrase_rows.at(said[i].phrase);
                if (i != k && said[i].phrase == said[k].phrase && row.timed &&
                    (said[i].time > said[k].time) == row.longer_is_stricter && is(i) && !is(k))
                    can_be = false;
            }
        if (!can_be) continue;
        auto value = [&](const Part& p) {
            return is(static_cast<std::size_t>(std::find(said.begin(), said.end(), p) - said.begin()));
        };
        if (evaluate(value) && other.evaluate(value)) return true;
    }
    return false;
}

std::string conditions_page() {
    std::string page =
        "# Conditions\n\nMade from `src/core/player/conditions.cpp`. Phrases joined by `and`, `or` and `not`, with "
        "brackets where needed;\nwithout brackets `and` joins before `or`. Where a time follows, it has a unit: `no "
        "touch for 3 s`.\nAn empty condition always holds.\n\n| phrase | holds when |\n|---|---|\n";
    for (auto& r : phrase_rows) page += fmt::format("| `{}{}` | {} |\n", r.words, r.timed ? " …" : "", r.meaning);
    return page;
}

}  // namespace ruedo
