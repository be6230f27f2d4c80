// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/sentence_words.h"

#include <fmt/format.h>

#include <QColor>
#include <QStringList>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "view/look.h"

namespace ruedo {
namespace {
using nlohmann::json;
using Taken = std::optional<QString>;

QString seconds(Time t) { return t.seconds() == 1 ? QString("1 second") : QString("%1 seconds").arg(t.seconds()); }
QString plural(qint64 n, const QString& one) { return QString("%1 %2%3").arg(n).arg(one, n == 1 ? "" : "s"); }
Time from_seconds(double s) { return Time{static_cast<std::int64_t>(s * 1e9 + 0.5)}; }

const std::vector<Word::Choice> colours{{"#17131A", "night (#17131A)"}, {"#000000", "black (#000000)"},
                                        {"#8A2436", "wine (#8A2436)"},  {"#F7F1E5", "sand (#F7F1E5)"},
                                        {"#2A211C", "ink (#2A211C)"},   {"#1E6E72", "teal (#1E6E72)"},
                                        {"#C4841D", "ochre (#C4841D)"}};
QString colour_said(const std::string& colour) {
    auto said = text(colour);
    for (auto& c : colours)
        if (c.value.compare(said, Qt::CaseInsensitive) == 0) return c.label.section(' ', 0, 0);
    return said;
}

class Teller {
  public:
    Teller(const PlayerDocument& d, std::size_t source, const std::string& control,
           const std::function<std::string(const std::string&)>& file_for)
        : d_(d), source_(source), file_for_(file_for) {
        if (auto* selected = d.player().control(control))
            tell_control(static_cast<std::size_t>(selected - d.player().controls.data()));
        tell_source();
        tell_player();
        tell_controls();
    }
    Told out;

  private:
    Word& word(QString key, QString path, QString what, QString shown, QString fallback, bool changed,
               decltype(Word::set) set) {
        Word w;
        w.key = std::move(key), w.path = std::move(path), w.what = std::move(what), w.shown = std::move(shown);
        w.fallback = std::move(fallback), w.changed = changed, w.set = std::move(set);
        out.words.push_back(std::move(w));
        return out.words.back();
    }
    /// A word with a list: one choice a value, the default first.
    Word& chosen(QString key, QString path, QString what, std::vector<Word::Choice> choices, const QString& now,
                 std::function<void(PlayerDocument&, std::size_t)> take) {
        auto at = std::find_if(choices.begin(), choices.end(), [&](auto& c) { return c.value == now; });
        auto shown = at == choices.end() ? now : at->label;
        auto set = [choices, take = std::move(take)](PlayerDocument& d, const QString& v) -> Taken {
            auto it = std::find_if(choices.begin(), choices.end(), [&](auto& c) { return c.value == v; });
            if (it == choices.end()) return QString("“%1” is none of these.").arg(v);
            take(d, static_cast<std::size_t>(it - choices.begin()));
            return {};
        };
        auto& w = word(std::move(key), std::move(path), std::move(what), shown, choices.front().label,
                       now != choices.front().value, std::move(set));
        w.choices = std::move(choices), w.now = now;
        return w;
    }
    Word& number(QString key, QString path, QString what, QString shown, QString fallback, bool changed,
                 Word::Range range, std::function<void(PlayerDocument&, double)> take) {
        auto set = [range, take = std::move(take)](PlayerDocument& d, const QString& v) -> Taken {
            bool fine = false;
            double n = v.toDouble(&fine);
            if (!fine || n < range.low || n > range.high)
                return QString("A number from %1 to %2 is wanted.").arg(range.low).arg(range.high);
            take(d, n);
            return {};
        };
        auto& w = word(std::move(key), std::move(path), std::move(what), std::move(shown), std::move(fallback), changed,
                       std::move(set));
        w.now = QString::number(range.now), w.range = std::move(range);
        return w;
    }

    void tell_source() {
        if (source_ >= d_.sources.size()) {
            out.paragraphs.push_back(
                {"source", "No source", {"There is no source yet. Drop a clip anywhere in this window."}});
            return;
        }
        auto& s = d_.sources[source_];
        auto at = QString("/sources/%1/").arg(source_);
        auto own = [i = source_](PlayerDocument& d) -> SourceSpec& { return d.sources[i]; };
        auto started = [](const Start& start) {
            return start.how == Start::How::hold   ? QString("on its first frame, held")
                   : start.how == Start::How::play ? QString("playing, as soon as it can")
                                                   : QString("playing, after %1").arg(seconds(start.delay));
        };
        auto& start = word("start", at + "start", "Start", started(s.start), started({}),
                           s.start.how != Start::How::hold, [own](PlayerDocument& d, const QString& v) -> Taken {
                               bool fine = false;
                               double n = v.toDouble(&fine);
                               if (v == "hold")
                                   own(d).start = {};
                               else if (v == "play")
                                   own(d).start = {Start::How::play, {}};
                               else if (fine && n >= 0 && n <= 3600)
                                   own(d).start = {Start::How::delay, from_seconds(n)};
                               else
                                   return "A number of seconds is wanted.";
                               return {};
                           });
        start.choices = {{"hold", started({})}, {"play", started({Start::How::play, {}})}};
        start.range = {0, 3600, s.start.delay.seconds(), " s", "Playing, after", 1};
        start.now = s.start.how == Start::How::play ? "play" : s.start.how == Start::How::hold ? "hold" : "";

        auto looped = [](const Loop& loop) {
            return loop.kind == Loop::Kind::none ? QString("plays once")
                   : loop.kind == Loop::Kind::all
                       ? QString("plays again and again")
                       : QString("repeats from %1 to %2").arg(text(format_time(loop.from)), text(format_time(loop.to)));
        };
        auto& loop = word("loop", at + "loop", "Loop", looped(s.loop), looped({}), s.loop.kind != Loop::Kind::none,
                          [own](PlayerDocument& d, const QString& v) -> Taken {
                              auto ends = v.split(' ', Qt::SkipEmptyParts);
                              if (v == "none" || v == "all") {
                                  own(d).loop = {v == "all" ? Loop::Kind::all : Loop::Kind::none, {}, {}};
                                  return {};
                              }
                              auto from = ends.size() == 2 ? parse_time(ends[0].toStdString()) : std::nullopt;
                              auto to = ends.size() == 2 ? parse_time(ends[1].toStdString()) : std::nullopt;
                              if (!from || !to || *to <= *from)
                                  return "Two times with units are wanted, the later one last: 1.5s 4s.";
                              own(d).loop = {Loop::Kind::range, *from, *to};
                              return {};
                          });
        loop.choices = {{"none", looped({})}, {"all", looped({Loop::Kind::all, {}, {}})}};
        loop.typed = "Repeats from and to";
        loop.now = s.loop.kind == Loop::Kind::range
                       ? QString("%1ms %2ms").arg(s.loop.from.ns / 1'000'000).arg(s.loop.to.ns / 1'000'000)
                   : s.loop.kind == Loop::Kind::all ? "all"
                                                    : "none";

        static const QStringList fits{"shown whole", "made to cover its place", "stretched to fill its place",
                                      "left at its own size"};
        std::vector<Word::Choice> fit_choices;
        for (int i = 0; i < 4; ++i) fit_choices.push_back({text(fit_name(static_cast<Fit>(i))), fits[i]});
        chosen("fit", at + "fit", "Fit", std::move(fit_choices), text(fit_name(s.fit)),
               [own](PlayerDocument& d, std::size_t i) { own(d).fit = static_cast<Fit>(i); });

        std::vector<Word::Choice> aligns{{"0.5 0.5", "in the middle"}};
        auto corner = [](double x, double y) {
            auto across = x == 0 ? " left" : x == 1 ? " right" : "", down = y == 0 ? " top" : y == 1 ? " bottom" : "";
            return QString("to the%1%2").arg(down, across);
        };
        for (double y : {0.0, 0.5, 1.0})
            for (double x : {0.0, 0.5, 1.0})
                if (x != 0.5 || y != 0.5) aligns.push_back({QString("%1 %2").arg(x).arg(y), corner(x, y)});
        chosen("align", at + "align", "Alignment", aligns, QString("%1 %2").arg(s.align_x).arg(s.align_y),
               [own, aligns](PlayerDocument& d, std::size_t i) {
                   own(d).align_x = aligns[i].value.section(' ', 0, 0).toDouble();
                   own(d).align_y = aligns[i].value.section(' ', 1, 1).toDouble();
               });

        std::vector<Word::Choice> captions{{"", "without captions"}}, sounds{{"", "its default sound"}};
        for (auto tag : {"en", "de", "fr", "es", "it", "nl", "pt", "sv"}) {
            captions.push_back({tag, "captions in " + text(language_title(tag))});
            sounds.push_back({tag, "sound in " + text(language_title(tag))});
        }
        chosen("captions", at + "text_language", "Captions", captions, text(s.text_language),
               [own, captions](PlayerDocument& d, std::size_t i) {
                   own(d).text_language = captions[i].value.toStdString();
               });
        chosen(
            "sound", at + "sound_language", "Language of the sound", sounds, text(s.sound_language),
            [own, sounds](PlayerDocument& d, std::size_t i) { own(d).sound_language = sounds[i].value.toStdString(); });

        auto stands = [](const SourceSpec& of) {
            return of.no_poster         ? QString("nothing but its surround")
                   : of.poster_at       ? "its frame at " + text(format_time(*of.poster_at))
                   : !of.poster.empty() ? text(std::filesystem::path(of.poster).filename().string())
                                        : QString("its first frame");
        };
        auto& poster = word("poster", at + "poster", "Poster", stands(s), stands({}), s.has_poster(),
                            [own, file_for = file_for_](PlayerDocument& d, const QString& v) -> Taken {
                                auto time = parse_time(v.toStdString());
                                own(d).no_poster = v == "none";
                                own(d).poster_at = time;
                                bool file = !v.isEmpty() && v != "none" && v != "file" && !time;
                                own(d).poster = file ? file_for(v.toStdString()) : std::string();
                                return {};
                            });
        poster.choices = {{"", "its first frame"}, {"none", "nothing but its surround"}, {"file", "a picture …"}};
        poster.typed = "Its frame at a time, such as 2.5s";
        poster.now = s.no_poster   ? "none"
                     : s.poster_at ? QString("%1ms").arg(s.poster_at->ns / 1'000'000)
                                   : text(s.poster);
        out.paragraphs.push_back({"source",
                                  text(s.name),
                                  {"This source starts {start}, with {sound} and {captions}, and {loop}.",
                                   "Before it is started it shows {poster}.", "Its picture is {fit}, {align}."}});
    }

    void tell_player() {
        auto& p = d_.player();
        const QString at = "/players/0/";
        std::vector<Word::Choice> mounts{{"window", "a window"},
                                         {"handset-upright", "a handset, upright"},
                                         {"handset-sideways", "a handset, sideways"},
                                         {"tablet", "a tablet"},
                                         {"wall", "a panel on a wall"}};
        chosen("mount", "/mount", "Mount", mounts, text(mount_name(d_.mount)), [](PlayerDocument& d, std::size_t i) {
            // Another mount has another size.
            if (d.mount != static_cast<Mount>(i)) d.mount_width = d.mount_height = 0;
            d.mount = static_cast<Mount>(i);
        });
        // Common ones, with the size of the glass.
        std::vector<Word::Choice> sizes{
            {"", d_.mount == Mount::window ? "as large as there is room" : "of its usual size"}};
        if (d_.mount == Mount::handset_upright || d_.mount == Mount::handset_sideways) {
            struct Glass {
                int width, height, across, down;
            };
            for (auto g : {Glass{320, 568, 50, 89}, Glass{360, 640, 62, 110}, Glass{360, 780, 66, 143},
                           Glass{390, 844, 65, 140}, Glass{412, 915, 69, 153}}) {
                if (d_.mount == Mount::handset_sideways) std::swap(g.width, g.height), std::swap(g.across, g.down);
                sizes.push_back(
                    {QString("%1x%2").arg(g.width).arg(g.height),
                     QString("of %1 × %2 pixels (%3 × %4 mm)").arg(g.width).arg(g.height).arg(g.across).arg(g.down)});
            }
        } else {
            using Sizes = std::vector<std::pair<int, int>>;
            for (auto [w, h] : d_.mount == Mount::window   ? Sizes{{480, 270}, {640, 360}, {960, 540}, {1280, 720}}
                               : d_.mount == Mount::tablet ? Sizes{{768, 1024}, {1280, 800}}
                                                           : Sizes{{1080, 1920}, {3840, 2160}})
                sizes.push_back({QString("%1x%2").arg(w).arg(h), QString("of %1 × %2 pixels").arg(w).arg(h)});
        }
        auto typed_size = d_.mount_width > 0 ? QString("%1x%2").arg(d_.mount_width).arg(d_.mount_height) : QString();
        auto& sized_mount =
            word("mount-size", "/mount_size", "Size of the mount",
                 typed_size.isEmpty() ? sizes[0].label
                                      : QString("of %1 × %2 pixels").arg(d_.mount_width).arg(d_.mount_height),
                 sizes[0].label, !typed_size.isEmpty(), [](PlayerDocument& d, const QString& v) -> Taken {
                     auto parts = v.split('x');
                     int w = parts.value(0).toInt(), h = parts.value(1).toInt();
                     if (v.isEmpty())
                         w = h = 0;
                     else if (parts.size() != 2 || w < 100 || h < 100 || w > 8192 || h > 8192)
                         return "A size such as 640x360 is wanted, 100 to 8192 pixels.";
                     d.mount_width = w, d.mount_height = h;
                     return {};
                 });
        sized_mount.choices = std::move(sizes), sized_mount.now = typed_size;
        sized_mount.typed = "A size in pixels, such as 640x360";
        std::vector<Word::Choice> ends{
            {"hold", "it stays on its last frame"},       {"next", "it goes on to the next source"},
            {"again", "it begins the same source again"}, {"round", "it goes on to the next, and round again"},
            {"poster", "it goes back to how it began"},   {"leave", "it lets everything go and leaves"}};
        chosen("queue", at + "at_end", "End of a source", ends, text(at_end_name(p.at_end)),
               [](PlayerDocument& d, std::size_t i) { d.player().at_end = static_cast<AtEnd>(i); });
        auto& surround =
            word("surround", at + "picture/surround", "Surround", colour_said(p.picture.surround), "night",
                 p.picture.surround != PictureSpec{}.surround, [](PlayerDocument& d, const QString& v) -> Taken {
                     if (!is_colour(v.toStdString())) return "A colour such as #17131A is wanted.";
                     d.player().picture.surround = v.toStdString();
                     return {};
                 });
        surround.choices.assign(colours.begin(), colours.begin() + 4);
        surround.typed = "A colour of your own", surround.now = text(p.picture.surround);
        number("corner", at + "picture/corner_px", "Corners",
               p.picture.corner ? QString("rounded by %1 pixels").arg(p.picture.corner) : QString("square"), "square",
               p.picture.corner != 0, {0, 200, static_cast<double>(p.picture.corner), " px", "Corners rounded by", 0},
               [](PlayerDocument& d, double n) { d.player().picture.corner = static_cast<int>(n); });
        auto sized = [](const PictureSpec& s) {
            return s.render_width == 0 ? QString("as large as it is seen")
                                       : QString("at %1 × %2 pixels, scaled %3")
                                             .arg(s.render_width)
                                             .arg(s.render_height)
                                             .arg(s.blocky ? "in blocks" : "smoothly");
        };
        auto& render = word("render", at + "picture/render", "Render size", sized(p.picture), sized({}),
                            p.picture.render_width != 0, [](PlayerDocument& d, const QString& v) -> Taken {
                                auto& s = d.player().picture;
                                if (v.isEmpty()) {
                                    s.render_width = s.render_height = 0, s.blocky = false;
                                    return {};
                                }
                                auto parts = v.split(' ', Qt::SkipEmptyParts);
                                auto size = parts.value(0).split('x');
                                int w = size.value(0).toInt(), h = size.value(1).toInt();
                                bool fine = size.size() == 2 && w >= 10 && h >= 10 && w <= 8192 && h <= 8192 &&
                                            (parts.size() == 1 || parts[1] == "blocky" || parts[1] == "smooth");
                                if (!fine) return "A size such as 320x180 is wanted, and perhaps “blocky”.";
                                s.render_width = w, s.render_height = h, s.blocky = parts.value(1) == "blocky";
                                return {};
                            });
        render.choices = {{"", sized({})}};
        render.typed = "A size in pixels, such as “160x90 blocky”";
        render.now = p.picture.render_width == 0 ? QString()
                                                 : QString("%1x%2 %3")
                                                       .arg(p.picture.render_width)
                                                       .arg(p.picture.render_height)
                                                       .arg(p.picture.blocky ? "blocky" : "smooth");
        number("volume", at + "volume", "Volume", QString("%1 %").arg(qRound(p.volume * 100)), "100 %", p.volume != 1,
               {0, 100, p.volume * 100, " %", "The volume it begins with", 0},
               [](PlayerDocument& d, double n) { d.player().volume = n / 100; });
        chosen("muted", at + "muted", "Sound at the start", {{"no", "sound on"}, {"yes", "sound off"}},
               p.muted ? "yes" : "no", [](PlayerDocument& d, std::size_t i) { d.player().muted = i == 1; });
        number("speed", at + "speed", "Speed",
               p.speed == 1 ? QString("its own speed") : QString("%1 times its speed").arg(p.speed), "its own speed",
               p.speed != 1, {0.25, 4, p.speed, " ×", "The speed it begins with", 2},
               [](PlayerDocument& d, double n) { d.player().speed = n; });
        number("hide", at + "hide_after_ns", "Hiding", seconds(p.hide_after), "3 seconds", p.hide_after != 3_s,
               {1, 60, p.hide_after.seconds(), " s", "How long what hides stays", 1},
               [](PlayerDocument& d, double n) { d.player().hide_after = from_seconds(n); });
        auto waits = [](Time t) {
            return t == Time{} ? QString("it waits for as long as it takes")
                               : QString("it shows the failure sign after %1").arg(seconds(t));
        };
        auto& give_up = number("give-up", at + "give_up_after_ns", "Waiting", waits(p.give_up_after), waits({}),
                               p.give_up_after != Time{},
                               {0, 600, p.give_up_after.seconds(), " s", "The failure sign after; 0 for never", 1},
                               [](PlayerDocument& d, double n) { d.player().give_up_after = from_seconds(n); });
        give_up.choices = {{"0", waits({})}, {"8", waits(8_s)}};
        out.paragraphs.push_back(
            {"player",
             text(d_.app_name),
             {"The player is seen in {mount}, {mount-size}. It begins with {muted}, its volume at {volume}, at "
              "{speed}.",
              "When a source ends, {queue}. When nothing comes any more, {give-up}.",
              "The picture is drawn {render}, its corners are {corner}, and what it leaves free is {surround}.",
              "After {hide} of playing without a touch, what lies on the picture hides."}});
    }

    void tell_controls() {
        auto& p = d_.player();
        Paragraph paragraph{"controls", "Controls", {}};
        auto said = [&](const std::vector<std::size_t>& list) {
            QStringList names;
            for (auto i : list) names << QString("[%1]").arg(text(p.controls[i].name));
            return names.join(", ");
        };
        static const std::vector<Word::Choice> wheres{
            {"on", "on the picture"}, {"beside", "right beside it"}, {"clear", "clear of it"}};
        static const std::vector<Word::Choice> edges{{"bottom", "lower"}, {"top", "upper"}};
        for (std::size_t b = 0; b < p.bars.size(); ++b) {
            auto& bar = p.bars[b];
            auto at = QString("/players/0/bars/%1/").arg(b);
            auto key = [&](const char* of) { return QString("bar %1 %2").arg(of, text(bar.name)); };
            chosen(
                key("where"), at + "where", "Place of a bar", wheres, wheres[static_cast<std::size_t>(bar.where)].value,
                [b](PlayerDocument& d, std::size_t i) { d.player().bars[b].where = static_cast<BarSpec::Where>(i); });
            chosen(key("edge"), at + "edge", "Edge of a bar", edges, edges[static_cast<std::size_t>(bar.edge)].value,
                   [b](PlayerDocument& d, std::size_t i) { d.player().bars[b].edge = static_cast<BarSpec::Edge>(i); });
            QStringList groups;
            for (auto group : Slot::groups) {
                auto list = p.in_slot(fmt::format("{}/{}", bar.name, group));
                if (!list.empty())
                    groups << QString(group == "middle" ? "%1 in its %2" : "%1 at its %2").arg(said(list), text(group));
            }
            paragraph.told << QString("The bar “%1” stands {%2}, at the {%3} edge. %4")
                                  .arg(text(bar.name), key("where"), key("edge"),
                                       groups.isEmpty() ? QString("It holds nothing yet.")
                                                        : "It holds " + groups.join("; ") + ".");
        }
        QStringList places;
        for (auto place : Slot::places) {
            auto list = p.in_slot(place);
            if (!list.empty())
                places << QString("%1 %2").arg(
                    place == "centre" ? "in the middle" : "at the " + text(place).replace('-', ' '), said(list));
        }
        if (!places.isEmpty()) paragraph.told << "On the picture stand, " + places.join("; ") + ".";
        if (p.controls.empty()) paragraph.told << "It has no controls. Drag some from the tray onto the picture.";
        out.paragraphs.push_back(std::move(paragraph));
    }

    /// What a value of a setting is called.
    static QString said(const SettingKind& s, const ControlSettings& settings) {
        auto v = s.get(settings);
        auto usual = text(s.usual);
        if (s.type == SettingKind::Type::yes_or_no)
            return usual.section('/', v.get<bool>() ? 0 : 1, v.get<bool>() ? 0 : 1);
        if (v == s.get({})) return usual;
        switch (s.type) {
            case SettingKind::Type::time:
                return seconds(Time{v.get<std::int64_t>()});
            case SettingKind::Type::whole:
                if (s.name == "frames") return plural(v.get<int>(), "frame");
                if (s.name == "rank") return QString("as number %1 of 9, from the last").arg(v.get<int>());
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

    void tell_control(std::size_t i) {
        auto& p = d_.player();
        auto& c = p.controls[i];
        auto at = QString("/players/0/controls/%1/").arg(i);
        auto own = [i](PlayerDocument& d) -> ControlSpec& { return d.player().controls[i]; };

        auto& kind = word("kind", at + "kind", "What a control is", text(c.kind->title), text(c.kind->title), false,
                          [own](PlayerDocument& d, const QString& v) -> Taken {
                              auto* other = find_control(v.toStdString());
                              if (!other) return QString("There is no control “%1”.").arg(v);
                              auto& spec = own(d);
                              // One that bears its kind's name goes on bearing it.
                              bool plain = spec.name.starts_with(spec.kind->name);
                              spec.kind = other;
                              if (plain) spec.name.clear(), spec.name = d.player().free_name(other->name);
                              return {};
                          });
        for (auto& k : control_kinds())
            if (k.form == c.kind->form) kind.choices.push_back({text(k.name), text(k.title)});
        kind.now = text(c.kind->name);

        std::vector<Word::Choice> offered;
        for (auto& bar : p.bars)
            for (auto group : Slot::groups) {
                auto name = fmt::format("{}/{}", bar.name, group);
                offered.push_back({text(name), text(spoken(*parse_slot(name)))});
            }
        for (auto place : Slot::places) offered.push_back({text(place), text(spoken(*parse_slot(place)))});
        auto& slot = word("slot", at + "slot", "Place of a control", text(spoken(*parse_slot(c.slot))), {}, false,
                          [i](PlayerDocument& d, const QString& v) -> Taken {
                              auto to = parse_slot(v.toStdString());
                              if (!to || (!to->bar.empty() && !d.player().bar(to->bar)))
                                  return "There is no such place.";
                              if (d.player().controls[i].slot != v.toStdString()) d.player().move(i, v.toStdString());
                              return {};
                          });
        slot.choices = std::move(offered), slot.now = text(c.slot);

        QStringList told{QString("It is {kind} (%1).").arg(text(c.kind->meaning)), "It stands in {slot}."};
        for (auto& s : setting_kinds()) {
            if (!c.kind->has(s.name)) continue;
            told << text(s.sentence).replace("{}", "{" + text(s.name) + "}");
            auto set = [own, row = &s](PlayerDocument& d, const QString& v) -> Taken {
                json value;
                bool fine = true;
                switch (row->type) {
                    case SettingKind::Type::time:
                        value = from_seconds(v.toDouble(&fine)).ns;
                        break;
                    case SettingKind::Type::whole:
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
                if (!fine) return "A number is wanted.";
                if (auto wrong = row->set(own(d).settings, value)) return "It " + text(*wrong) + ".";
                return {};
            };
            auto value = s.get(c.settings);
            auto& w = word(text(s.name), at + text(s.name), text(s.name).section('_', 0, 0), said(s, c.settings),
                           said(s, {}), value != s.get({}), std::move(set));
            switch (s.type) {
                case SettingKind::Type::time: {
                    auto now = static_cast<double>(value.get<std::int64_t>()) / 1e9;
                    w.range = {1, 120, now, " s", text(s.meaning), 1}, w.now = QString::number(now);
                    break;
                }
                case SettingKind::Type::whole:
                    w.range = {static_cast<double>(s.low),
                               static_cast<double>(s.high),
                               value.get<double>(),
                               s.name == "frames" || s.name == "rank" ? "" : " px",
                               text(s.meaning),
                               0};
                    w.now = QString::number(value.get<int>());
                    break;
                case SettingKind::Type::yes_or_no:
                    w.choices = {{"yes", text(s.usual).section('/', 0, 0)}, {"no", text(s.usual).section('/', 1, 1)}};
                    w.now = value.get<bool>() ? "yes" : "no";
                    break;
                case SettingKind::Type::colour:
                    w.choices = colours;
                    w.choices.insert(w.choices.begin(), {"", text(s.usual)});
                    w.typed = "A colour of your own", w.now = text(value.get<std::string>());
                    break;
                case SettingKind::Type::choice:
                    w.choices = {{"mark", "a mark"}, {"words", "words"}, {"both", "a mark and words"}};
                    w.now = text(value.get<std::string>());
                    break;
                case SettingKind::Type::condition:
                    w.choices = {{"", text(s.usual)},
                                 {"always", "always"},
                                 {"has captions", "when: has captions"},
                                 {"on handsets", "when: on handsets"},
                                 {"not on handsets", "when: not on handsets"},
                                 {"in full screen", "when: in full screen"},
                                 {"before the first start", "when: before the first start"},
                                 {"at the end", "when: at the end"},
                                 {"waiting", "when: waiting"},
                                 {"several sources", "when: several sources"}};
                    w.typed = "A condition of your own (docs/conditions.md)", w.now = text(value.get<std::string>());
                    break;
                case SettingKind::Type::speeds:
                    w.typed = text(s.meaning), w.now = said(s, c.settings);
                    break;
                case SettingKind::Type::words:
                case SettingKind::Type::template_words:
                    w.choices = {{"", text(s.usual)}};
                    w.typed = text(s.meaning), w.now = text(value.get<std::string>());
                    break;
            }
        }
        out.paragraphs.push_back({"control", text(c.name), told});
    }

    const PlayerDocument& d_;
    std::size_t source_;
    const std::function<std::string(const std::string&)>& file_for_;
};

}  // namespace

const Word* Told::find(const QString& key) const {
    auto it = std::find_if(words.begin(), words.end(), [&](auto& w) { return w.key == key; });
    return it == words.end() ? nullptr : &*it;
}

Told tell(const PlayerDocument& document, std::size_t source, const std::string& control,
          const std::function<std::string(const std::string&)>& file_for) {
    return std::move(Teller(document, source, control, file_for).out);
}

}  // namespace ruedo
