// SPDX-License-Identifier: GPL-3.0-or-later
// Controls in sentences: where each stands, and what can be said of one.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "workshop/telling.h"

namespace ruedo::builder {
namespace {
using nlohmann::json;

/// What a value of a setting is called.
QString said(const SettingKind& s, const ControlSettings& settings) {
    auto v = s.get(settings);
    auto usual = text(s.usual);
    if (s.type == SettingKind::Type::yes_or_no) return usual.section('/', v.get<bool>() ? 0 : 1, v.get<bool>() ? 0 : 1);
    if (v == s.get({})) return usual;
    switch (s.type) {
        case SettingKind::Type::time:
            return seconds(Time{v.get<std::int64_t>()});
        case SettingKind::Type::integer:
            if (s.name == "frames") return plural(v.get<int>(), "frame");
            if (s.name == "rank") return QString("with priority %1 of 9").arg(v.get<int>());
            return plural(v.get<int>(), "pixel");
        case SettingKind::Type::speeds: {
            QStringList list;
            for (auto& n : v) list << QString::number(n.get<double>());
            return list.join(' ');
        }
        case SettingKind::Type::words:
        case SettingKind::Type::template_words:
            return "“" + text(v.get<std::string>()) + "”";
        case SettingKind::Type::colour:
            return colour_said(v.get<std::string>());
        case SettingKind::Type::choice:
            return v == "words" ? "words" : "a mark and words";
        case SettingKind::Type::condition:
            return (v == "always" || v == "with the bar" ? "" : "when: ") + text(v.get<std::string>());
        case SettingKind::Type::yes_or_no:
            break;
    }
    return usual;
}

}  // namespace

void describe_controls(PageBuilder& t) {
    auto& p = t.spec();
    auto own = [i = t.player](PlayerDocument& d) -> PlayerSpec& { return d.player(i); };
    Paragraph paragraph{"controls", "Controls", {}};
    auto said = [&](const std::vector<std::size_t>& list) {
        QStringList names;
        for (auto i : list) names << QString("[%1]").arg(text(p.controls[i].name));
        return names.join(", ");
    };
    static const std::vector<Word::Option> wheres{
        {"on", "on the picture"}, {"beside", "right beside it"}, {"clear", "clear of it"}};
    static const std::vector<Word::Option> edges{{"bottom", "lower"}, {"top", "upper"}};
    for (std::size_t b = 0; b < p.bars.size(); ++b) {
        auto& bar = p.bars[b];
        auto at = t.at() + QString("bars/%1/").arg(b);
        auto key = [&](const char* of) { return QString("bar %1 %2").arg(of, text(bar.name)); };
        t.chosen(key("where"), at + "where", "Place of a bar", wheres,
                 wheres[static_cast<std::size_t>(bar.where)].value,
                 [b, own](PlayerDocument& d, std::size_t i) { own(d).bars[b].where = static_cast<BarSpec::Where>(i); });
        t.chosen(key("edge"), at + "edge", "Edge of a bar", edges, edges[static_cast<std::size_t>(bar.edge)].value,
                 [b, own](PlayerDocument& d, std::size_t i) { own(d).bars[b].edge = static_cast<BarSpec::Edge>(i); });
        QStringList groups;
        for (auto group : Slot::groups) {
            auto list = p.in_slot(fmt::format("{}/{}", bar.name, group));
            if (!list.empty())
                groups << QString(group == "middle" ? "%1 in its %2" : "%1 at its %2").arg(said(list), text(group));
        }
        paragraph.told << QString("The bar “%1” is {%2}, at the {%3} edge. %4")
                              .arg(text(bar.name), key("where"), key("edge"),
                                   groups.isEmpty() ? QString("It is empty.") : "It holds " + groups.join("; ") + ".");
        paragraph.told << describe_theme(t, "theme " + text(bar.name), at + "theme/", bar.theme, p.theme,
                                         [b, own](PlayerDocument& d) -> ThemeSpec& { return own(d).bars[b].theme; });
    }
    QStringList places;
    for (auto place : Slot::places) {
        auto list = p.in_slot(place);
        if (!list.empty())
            places << QString("%1 %2").arg(
                place == "centre" ? "in the middle" : "at the " + text(place).replace('-', ' '), said(list));
    }
    if (!places.isEmpty()) paragraph.told << "On the picture are, " + places.join("; ") + ".";
    if (p.controls.empty()) paragraph.told << "It has no controls. Drag some from the tray onto the picture.";
    t.out.paragraphs.push_back(std::move(paragraph));
}

void describe_control(PageBuilder& t, std::size_t i) {
    auto& p = t.spec();
    auto& c = p.controls[i];
    auto at = t.at() + QString("controls/%1/").arg(i);
    auto of = [player = t.player](PlayerDocument& d) -> PlayerSpec& { return d.player(player); };
    auto own = [of, i](PlayerDocument& d) -> ControlSpec& { return of(d).controls[i]; };

    auto& kind = t.word("kind", at + "kind", "Kind of control", text(c.kind->title), text(c.kind->title), false,
                        [of, own](PlayerDocument& d, const QString& v) -> Taken {
                            auto* other = find_control(v.toStdString());
                            if (!other) return QString("There is no control “%1”.").arg(v);
                            auto& spec = own(d);
                            // One that bears its kind's name goes on bearing it.
                            bool plain = spec.name.starts_with(spec.kind->name);
                            spec.kind = other;
                            if (plain) spec.name.clear(), spec.name = of(d).free_name(other->name);
                            return {};
                        });
    for (auto& k : control_kinds())
        if (k.form == c.kind->form) kind.options.push_back({text(k.name), text(k.title)});
    kind.now = text(c.kind->name);

    std::vector<Word::Option> offered;
    for (auto& bar : p.bars)
        for (auto group : Slot::groups) {
            auto name = fmt::format("{}/{}", bar.name, group);
            offered.push_back({text(name), text(spoken(*parse_slot(name)))});
        }
    for (auto place : Slot::places) offered.push_back({text(place), text(spoken(*parse_slot(place)))});
    auto& slot = t.word("slot", at + "slot", "Place of a control", text(spoken(*parse_slot(c.slot))), {}, false,
                        [i, of](PlayerDocument& d, const QString& v) -> Taken {
                            auto to = parse_slot(v.toStdString());
                            if (!to || (!to->bar.empty() && !of(d).bar(to->bar))) return "There is no such place.";
                            if (of(d).controls[i].slot != v.toStdString()) of(d).move(i, v.toStdString());
                            return {};
                        });
    slot.options = std::move(offered), slot.now = text(c.slot);

    QStringList told{QString("It is {kind} (%1).").arg(text(c.kind->meaning)), "It is in {slot}."};
    QStringList defaults;
    for (auto& s : setting_kinds()) {
        if (!c.kind->has(s.name)) continue;
        bool silent = !s.subject.empty() && s.get(c.settings) == s.get({});
        if (silent)
            defaults << text(s.name);
        else
            told << text(s.sentence).replace("{}", "{" + text(s.name) + "}");
        auto set = [own, row = &s](PlayerDocument& d, const QString& v) -> Taken {
            json value;
            bool fine = true;
            switch (row->type) {
                case SettingKind::Type::time:
                    value = from_seconds(v.toDouble(&fine)).ns;
                    break;
                case SettingKind::Type::integer:
                    value = static_cast<std::int64_t>(v.toDouble(&fine));
                    break;
                case SettingKind::Type::yes_or_no:
                    value = v == "yes", fine = v == "yes" || v == "no";
                    break;
                case SettingKind::Type::speeds:
                    value = json::array();
                    for (auto& n : v.split(' ', Qt::SkipEmptyParts)) value.push_back(n.toDouble());
                    break;
                case SettingKind::Type::condition: {
                    auto read = Condition::parse(v.toStdString());
                    if (!read) return "It " + text(read.error()) + ".";
                    value = read->text();
                    break;
                }
                default:
                    value = v.toStdString();
            }
            if (!fine) return "Enter a number.";
            if (auto wrong = row->set(own(d).settings, value)) return "It " + text(*wrong) + ".";
            return {};
        };
        auto value = s.get(c.settings);
        auto& w =
            t.word(text(s.name), at + text(s.name), text(s.name).section('_', 0, 0),
                   silent ? text(s.subject) : said(s, c.settings), said(s, {}), value != s.get({}), std::move(set));
        switch (s.type) {
            case SettingKind::Type::time: {
                auto now = static_cast<double>(value.get<std::int64_t>()) / 1e9;
                w.range = {1, 120, now, " s", text(s.meaning), 1}, w.now = QString::number(now);
                break;
            }
            case SettingKind::Type::integer:
                w.range = {static_cast<double>(s.low),
                           static_cast<double>(s.high),
                           value.get<double>(),
                           s.name == "frames" || s.name == "rank" ? "" : " px",
                           text(s.meaning),
                           0};
                w.now = QString::number(value.get<int>());
                break;
            case SettingKind::Type::yes_or_no:
                w.options = {{"yes", text(s.usual).section('/', 0, 0)}, {"no", text(s.usual).section('/', 1, 1)}};
                w.now = value.get<bool>() ? "yes" : "no";
                break;
            case SettingKind::Type::colour:
                w.options = colours();
                w.options.insert(w.options.begin(), {"", text(s.usual)});
                w.typed = "Another colour", w.now = text(value.get<std::string>());
                break;
            case SettingKind::Type::choice:
                w.options = {{"mark", "a mark"}, {"words", "words"}, {"both", "a mark and words"}};
                w.now = text(value.get<std::string>());
                break;
            case SettingKind::Type::condition:
                w.options = {{"", text(s.usual)},
                             {"always", "always"},
                             {"has captions", "when: has captions"},
                             {"on handsets", "when: on handsets"},
                             {"not on handsets", "when: not on handsets"},
                             {"in full screen", "when: in full screen"},
                             {"before the first start", "when: before the first start"},
                             {"at the end", "when: at the end"},
                             {"waiting", "when: waiting"},
                             {"several sources", "when: several sources"}};
                w.typed = "Another condition (docs/conditions.md)", w.now = text(value.get<std::string>());
                break;
            case SettingKind::Type::speeds:
                w.typed = text(s.meaning), w.now = said(s, c.settings);
                break;
            case SettingKind::Type::words:
            case SettingKind::Type::template_words:
                w.options = {{"", text(s.usual)}};
                w.typed = text(s.meaning), w.now = text(value.get<std::string>());
                break;
        }
    }
    if (!defaults.isEmpty()) told << t.defaults(defaults);
    t.out.paragraphs.push_back({"control", text(c.name), told});
}

}  // namespace ruedo::builder
