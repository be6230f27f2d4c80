// SPDX-License-Identifier: GPL-3.0-or-later
// How words of the sentences are made: a list to choose from, a number, a text of one's own. Each part of the document
// has a file of its own.
#pragma once
#include <algorithm>

#include "view/look.h"
#include "workshop/sentence_words.h"

namespace ruedo::builder {
using Taken = std::optional<QString>;

inline QString seconds(Time t) {
    return t.seconds() == 1 ? QString("1 second") : QString("%1 seconds").arg(t.seconds());
}
inline QString plural(qint64 n, const QString& one) { return QString("%1 %2%3").arg(n).arg(one, n == 1 ? "" : "s"); }
inline Time from_seconds(double s) { return Time{static_cast<std::int64_t>(s * 1e9 + 0.5)}; }
/// Colours to choose from, and what a colour is called.
const std::vector<Word::Option>& colours();
QString colour_said(const std::string& colour);

/// The page as built so far.
struct PageBuilder {
    const PlayerDocument& document;
    std::size_t player;
    SentencePage out{};

    Word& word(QString key, QString path, QString what, QString shown, QString fallback, bool changed,
               decltype(Word::set) set) {
        Word w;
        w.key = std::move(key), w.path = std::move(path), w.what = std::move(what), w.shown = std::move(shown);
        w.fallback = std::move(fallback), w.changed = changed, w.set = std::move(set);
        out.words.push_back(std::move(w));
        return out.words.back();
    }
    /// One sentence for all that is at its default: "Label, colour and corners: default." Each opens by its own name.
    QString defaults(const QStringList& keys) {
        if (keys.isEmpty()) return {};
        QStringList names;
        for (auto& key : keys) names << "{" + key + "}";
        for (auto& w : out.words)
            if (w.key == keys.front() && !w.shown.isEmpty()) w.shown[0] = w.shown[0].toUpper();
        auto last = names.takeLast();
        return (names.isEmpty() ? last : names.join(", ") + " and " + last) + ": default.";
    }
    /// A word with a list: one choice a value, the default first.
    Word& chosen(QString key, QString path, QString what, std::vector<Word::Option> options, const QString& now,
                 std::function<void(PlayerDocument&, std::size_t)> take) {
        auto at = std::find_if(options.begin(), options.end(), [&](auto& c) { return c.value == now; });
        auto shown = at == options.end() ? now : at->label;
        auto set = [options, take = std::move(take)](PlayerDocument& d, const QString& v) -> Taken {
            auto it = std::find_if(options.begin(), options.end(), [&](auto& c) { return c.value == v; });
            if (it == options.end()) return QString("“%1” is not one of these.").arg(v);
            take(d, static_cast<std::size_t>(it - options.begin()));
            return {};
        };
        auto& w = word(std::move(key), std::move(path), std::move(what), shown, options.front().label,
                       now != options.front().value, std::move(set));
        w.options = std::move(options), w.now = now;
        return w;
    }
    Word& number(QString key, QString path, QString what, QString shown, QString fallback, bool changed,
                 Word::Range range, std::function<void(PlayerDocument&, double)> take) {
        auto set = [range, take = std::move(take)](PlayerDocument& d, const QString& v) -> Taken {
            bool fine = false;
            double n = v.toDouble(&fine);
            if (!fine || n < range.low || n > range.high)
                return QString("Enter a number from %1 to %2.").arg(range.low).arg(range.high);
            take(d, n);
            return {};
        };
        auto& w = word(std::move(key), std::move(path), std::move(what), std::move(shown), std::move(fallback), changed,
                       std::move(set));
        w.now = QString::number(range.now), w.range = std::move(range);
        return w;
    }

    /// A colour: some of our own, or any.
    Word& coloured(QString key, QString path, QString what, const std::string& now, const std::string& usual,
                   std::function<std::string&(PlayerDocument&)> member) {
        auto set = [member = std::move(member)](PlayerDocument& d, const QString& v) -> Taken {
            if (!is_colour(v.toStdString())) return "Enter a colour such as #17131A.";
            member(d) = v.toStdString();
            return {};
        };
        auto& w = word(std::move(key), std::move(path), std::move(what), colour_said(now), colour_said(usual),
                       now != usual, std::move(set));
        w.options.assign(colours().begin(), colours().begin() + 4);
        w.typed = "Another colour", w.now = text(now);
        return w;
    }
    const PlayerSpec& spec() const { return document.player(player); }
    QString at() const { return QString("/players/%1/").arg(player); }
};

/// The sentences of a theme; what it does not set is `inherited`.
QString describe_theme(PageBuilder& t, const QString& name, const QString& at, const ThemeSpec& theme,
                       const ThemeSpec& inherited, std::function<ThemeSpec&(PlayerDocument&)> member);
void describe_controls(PageBuilder& t);
void describe_control(PageBuilder& t, std::size_t control);
void describe_room(PageBuilder& t);
void describe_host(PageBuilder& t);

}  // namespace ruedo::builder
