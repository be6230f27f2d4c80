// SPDX-License-Identifier: GPL-3.0-or-later
// How a player and its bars look, in sentences.
#include <QFontDatabase>

#include <nlohmann/json.hpp>

#include "workshop/telling.h"

namespace ruedo::builder {
namespace {
QString said(const ThemeMember& row, const ThemeSpec& theme) {
    if (!row.is_set(theme)) return text(row.usual);
    auto v = row.get(theme);
    switch (row.type) {
        case ThemeMember::Type::colour:
            return colour_said(v.get<std::string>());
        case ThemeMember::Type::family:
            return "“" + text(v.get<std::string>()) + "”";
        case ThemeMember::Type::integer:
            break;
    }
    return row.unit == "%" ? QString("%1 % of their default size").arg(v.get<int>()) : plural(v.get<int>(), "pixel");
}
}  // namespace

QString describe_theme(PageBuilder& t, const QString& name, const QString& at, const ThemeSpec& theme,
                       const ThemeSpec& inherited, std::function<ThemeSpec&(PlayerDocument&)> member) {
    QStringList told, defaults;
    for (auto& row : theme_members()) {
        bool silent = !row.is_set(inheriting(theme, inherited));
        auto key = name + " " + text(row.name).section('_', 0, 0);
        auto set = [&row, member](PlayerDocument& d, const QString& v) -> Taken {
            // Nothing is what it inherits.
            ThemeSpec fresh;
            if (v.isEmpty()) return std::visit([&](auto m) { member(d).*m = fresh.*m; }, row.place), Taken{};
            bool fine = true;
            nlohmann::json value = v.toStdString();
            if (row.type == ThemeMember::Type::integer) value = static_cast<int>(v.toDouble(&fine));
            if (!fine) return "Enter a number.";
            if (auto wrong = row.set(member(d), value)) return "It " + text(*wrong) + ".";
            return {};
        };
        auto& w = t.word(key, at + text(row.name), text(row.meaning),
                         silent ? text(row.subject) : said(row, inheriting(theme, inherited)), said(row, inherited),
                         row.is_set(theme), std::move(set));
        w.now = row.is_set(theme) ? row.type == ThemeMember::Type::integer ? QString::number(row.get(theme).get<int>())
                                                                           : text(row.get(theme).get<std::string>())
                                  : QString();
        w.options = {{"", said(row, inherited)}};
        switch (row.type) {
            case ThemeMember::Type::colour:
                w.options.insert(w.options.end(), colours().begin(), colours().end());
                w.typed = "Another colour";
                break;
            case ThemeMember::Type::family:
                for (auto& family : QFontDatabase::families())
                    if (!QFontDatabase::isPrivateFamily(family)) w.options.push_back({family, family});
                w.typed = "Another font family";
                break;
            case ThemeMember::Type::integer:
                w.range = {static_cast<double>(row.low),
                           static_cast<double>(row.high),
                           row.is_set(theme) ? row.get(theme).get<double>()
                           : row.unit == "%" ? 100.0
                                             : 4.0,
                           " " + text(row.unit),
                           text(row.meaning),
                           0};
                break;
        }
        if (silent)
            defaults << key;
        else
            told << text(row.sentence).replace("{}", "{" + key + "}");
    }
    if (!defaults.isEmpty()) told << t.defaults(defaults);
    return told.join(" ");
}

}  // namespace ruedo::builder
