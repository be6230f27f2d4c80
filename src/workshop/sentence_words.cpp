// SPDX-License-Identifier: GPL-3.0-or-later
// A source and a player in sentences.
#include "workshop/sentence_words.h"

#include <algorithm>

#include "player/screen.h"
#include "text/cues.h"
#include "workshop/telling.h"

namespace ruedo {
namespace builder {

const std::vector<Word::Option>& colours() {
    static const std::vector<Word::Option> list{{"#17131A", "night (#17131A)"}, {"#000000", "black (#000000)"},
                                                {"#8A2436", "wine (#8A2436)"},  {"#F7F1E5", "sand (#F7F1E5)"},
                                                {"#2A211C", "ink (#2A211C)"},   {"#1E6E72", "teal (#1E6E72)"},
                                                {"#C4841D", "ochre (#C4841D)"}};
    return list;
}
QString colour_said(const std::string& colour) {
    auto said = text(colour);
    for (auto& c : colours())
        if (c.value.compare(said, Qt::CaseInsensitive) == 0) return c.label.section(' ', 0, 0);
    return said;
}

void describe_source(PageBuilder& t, std::size_t source,
                     const std::function<std::string(const std::string&)>& file_for) {
    if (source >= t.document.sources.size()) {
        t.out.paragraphs.push_back(
            {"source", "No source", {"There is no source yet. Drop a clip anywhere in this window."}});
        return;
    }
    auto& s = t.document.sources[source];
    auto at = QString("/sources/%1/").arg(source);
    auto own = [i = source](PlayerDocument& d) -> SourceSpec& { return d.sources[i]; };
    auto started = [](const Start& start) {
        return start.how == Start::How::hold   ? QString("paused on its first frame")
               : start.how == Start::How::play ? QString("playing as soon as it can")
                                               : QString("playing, after %1").arg(seconds(start.delay));
    };
    auto& start = t.word("start", at + "start", "Start", started(s.start), started({}), s.start.how != Start::How::hold,
                         [own](PlayerDocument& d, const QString& v) -> Taken {
                             bool fine = false;
                             double n = v.toDouble(&fine);
                             if (v == "hold")
                                 own(d).start = {};
                             else if (v == "play")
                                 own(d).start = {Start::How::play, {}};
                             else if (fine && n >= 0 && n <= 3600)
                                 own(d).start = {Start::How::delay, from_seconds(n)};
                             else
                                 return "Enter a number of seconds.";
                             return {};
                         });
    start.options = {{"hold", started({})}, {"play", started({Start::How::play, {}})}};
    start.range = {0, 3600, s.start.delay.seconds(), " s", "Playing, after", 1};
    start.now = s.start.how == Start::How::play ? "play" : s.start.how == Start::How::hold ? "hold" : "";

    auto looped = [](const Loop& loop) {
        return loop.kind == Loop::Kind::none ? QString("plays once")
               : loop.kind == Loop::Kind::all
                   ? QString("loops")
                   : QString("repeats from %1 to %2").arg(text(format_time(loop.from)), text(format_time(loop.to)));
    };
    auto& loop = t.word("loop", at + "loop", "Loop", looped(s.loop), looped({}), s.loop.kind != Loop::Kind::none,
                        [own](PlayerDocument& d, const QString& v) -> Taken {
                            auto ends = v.split(' ', Qt::SkipEmptyParts);
                            if (v == "none" || v == "all") {
                                own(d).loop = {v == "all" ? Loop::Kind::all : Loop::Kind::none, {}, {}};
                                return {};
                            }
                            auto from = ends.size() == 2 ? parse_time(ends[0].toStdString()) : std::nullopt;
                            auto to = ends.size() == 2 ? parse_time(ends[1].toStdString()) : std::nullopt;
                            if (!from || !to || *to <= *from)
                                return "Enter two times with units, the later one last: 1.5s 4s.";
                            own(d).loop = {Loop::Kind::range, *from, *to};
                            return {};
                        });
    loop.options = {{"none", looped({})}, {"all", looped({Loop::Kind::all, {}, {}})}};
    loop.typed = "Loop from and to";
    loop.now = s.loop.kind == Loop::Kind::range
                   ? QString("%1ms %2ms").arg(s.loop.from.ns / 1'000'000).arg(s.loop.to.ns / 1'000'000)
               : s.loop.kind == Loop::Kind::all ? "all"
                                                : "none";

    static const QStringList fits{"contained", "covering its area", "stretched to fill its area", "at its own size"};
    std::vector<Word::Option> fit_track_options;
    for (int i = 0; i < 4; ++i) fit_track_options.push_back({text(fit_name(static_cast<Fit>(i))), fits[i]});
    t.chosen("fit", at + "fit", "Fit", std::move(fit_track_options), text(fit_name(s.fit)),
             [own](PlayerDocument& d, std::size_t i) { own(d).fit = static_cast<Fit>(i); });

    std::vector<Word::Option> aligns{{"0.5 0.5", "in the middle"}};
    auto corner = [](double x, double y) {
        auto across = x == 0 ? " left" : x == 1 ? " right" : "", down = y == 0 ? " top" : y == 1 ? " bottom" : "";
        return QString("to the%1%2").arg(down, across);
    };
    for (double y : {0.0, 0.5, 1.0})
        for (double x : {0.0, 0.5, 1.0})
            if (x != 0.5 || y != 0.5) aligns.push_back({QString("%1 %2").arg(x).arg(y), corner(x, y)});
    t.chosen("align", at + "align", "Alignment", aligns, QString("%1 %2").arg(s.align_x).arg(s.align_y),
             [own, aligns](PlayerDocument& d, std::size_t i) {
                 own(d).align_x = aligns[i].value.section(' ', 0, 0).toDouble();
                 own(d).align_y = aligns[i].value.section(' ', 1, 1).toDouble();
             });

    // Those of its captions are offered first; any other is typed.
    auto in_language = [&](const char* key, const char* path, const char* what, const char* none, const QString& some,
                           std::string SourceSpec::* member) {
        std::vector<Word::Option> options{{"", none}};
        auto offer = [&](const std::string& tag) {
            auto offered = [&](auto& c) { return c.value == text(tag); };
            if (std::none_of(options.begin(), options.end(), offered))
                options.push_back({text(tag), some + text(language_title(tag))});
        };
        offer(s.*member);
        auto shown = options.back().label;
        for (auto& file : s.captions) offer(language_of_name(file));
        for (auto tag : {"en", "de", "fr", "es", "it", "nl", "pt", "sv"}) offer(tag);
        auto& w = t.word(key, at + path, what, shown, none, !(s.*member).empty(),
                         [own, member](PlayerDocument& d, const QString& v) -> Taken {
                             if (!v.isEmpty() && !is_language_tag(v.toStdString()))
                                 return "Enter a language tag, such as ja or pt-BR.";
                             own(d).*member = v.toStdString();
                             return {};
                         });
        w.options = std::move(options), w.typed = "Another language, by its tag", w.now = text(s.*member);
    };
    in_language("captions", "text_language", "Captions", "without captions", "captions in ",
                &SourceSpec::text_language);
    in_language("sound", "sound_language", "Language of the sound", "its default sound", "sound in ",
                &SourceSpec::audio_language);

    auto stands = [](const SourceSpec& of) {
        return of.no_poster         ? QString("nothing but the surround")
               : of.poster_at       ? "its frame at " + text(format_time(*of.poster_at))
               : !of.poster.empty() ? text(std::filesystem::path(of.poster).filename().string())
                                    : QString("its first frame");
    };
    auto& poster = t.word("poster", at + "poster", "Poster", stands(s), stands({}), s.has_poster(),
                          [own, file_for](PlayerDocument& d, const QString& v) -> Taken {
                              auto time = parse_time(v.toStdString());
                              own(d).no_poster = v == "none";
                              own(d).poster_at = time;
                              bool file = !v.isEmpty() && v != "none" && v != "file" && !time;
                              own(d).poster = file ? file_for(v.toStdString()) : std::string();
                              return {};
                          });
    poster.options = {{"", "its first frame"}, {"none", "nothing but the surround"}, {"file", "a picture …"}};
    poster.typed = "Its frame at a time, such as 2.5s";
    poster.now = s.no_poster ? "none" : s.poster_at ? QString("%1ms").arg(s.poster_at->ns / 1'000'000) : text(s.poster);
    t.out.paragraphs.push_back({"source",
                                text(s.name),
                                {"This source starts {start}, with {sound} and {captions}, and {loop}.",
                                 "Before it starts it shows {poster}.", "Its video is {fit}, {align}."}});
}

/// What all players are seen in; said of the one player there is, or of the screen that several share.
QString describe_mount(PageBuilder& t) {
    std::vector<Word::Option> mounts{{"window", "a window"},
                                     {"handset-upright", "a handset, upright"},
                                     {"handset-sideways", "a handset, sideways"},
                                     {"tablet", "a tablet"},
                                     {"wall", "a panel on a wall"},
                                     {"room", "a room"}};
    t.chosen("mount", "/mount", "Mount", mounts, text(mount_name(t.document.mount)),
             [](PlayerDocument& d, std::size_t i) {
                 // Another mount has another size.
                 if (d.mount != static_cast<Mount>(i)) d.mount_width = d.mount_height = 0;
                 d.mount = static_cast<Mount>(i);
             });
    // Common ones, with the size of the glass.
    std::vector<Word::Option> sizes{{"", t.document.mount == Mount::window || t.document.mount == Mount::room
                                             ? "at any size"
                                             : "at its default size"}};
    if (t.document.mount == Mount::handset_upright || t.document.mount == Mount::handset_sideways) {
        struct Glass {
            int width, height, across, down;
        };
        for (auto g : {Glass{320, 568, 50, 89}, Glass{360, 640, 62, 110}, Glass{360, 780, 66, 143},
                       Glass{390, 844, 65, 140}, Glass{412, 915, 69, 153}}) {
            if (t.document.mount == Mount::handset_sideways) std::swap(g.width, g.height), std::swap(g.across, g.down);
            sizes.push_back(
                {QString("%1x%2").arg(g.width).arg(g.height),
                 QString("at %1 × %2 pixels (%3 × %4 mm)").arg(g.width).arg(g.height).arg(g.across).arg(g.down)});
        }
    } else {
        using Sizes = std::vector<std::pair<int, int>>;
        for (auto [w, h] : t.document.mount == Mount::window   ? Sizes{{480, 270}, {640, 360}, {960, 540}, {1280, 720}}
                           : t.document.mount == Mount::tablet ? Sizes{{768, 1024}, {1280, 800}}
                           : t.document.mount == Mount::room   ? Sizes{{1280, 800}, {1920, 1080}}
                                                               : Sizes{{1080, 1920}, {3840, 2160}})
            sizes.push_back({QString("%1x%2").arg(w).arg(h), QString("at %1 × %2 pixels").arg(w).arg(h)});
    }
    auto typed_size = t.document.mount_width > 0
                          ? QString("%1x%2").arg(t.document.mount_width).arg(t.document.mount_height)
                          : QString();
    auto& sized_mount = t.word(
        "mount-size", "/mount_size", "Size of the mount",
        typed_size.isEmpty() ? sizes[0].label
                             : QString("at %1 × %2 pixels").arg(t.document.mount_width).arg(t.document.mount_height),
        sizes[0].label, !typed_size.isEmpty(), [](PlayerDocument& d, const QString& v) -> Taken {
            auto parts = v.split('x');
            int w = parts.value(0).toInt(), h = parts.value(1).toInt();
            if (v.isEmpty())
                w = h = 0;
            else if (parts.size() != 2 || w < 100 || h < 100 || w > 8192 || h > 8192)
                return "Enter a size such as 640x360, 100 to 8192 pixels.";
            d.mount_width = w, d.mount_height = h;
            return {};
        });
    sized_mount.options = std::move(sizes), sized_mount.now = typed_size;
    sized_mount.typed = "A size in pixels, such as 640x360";
    return "{mount}, {mount-size}";
}

QString counted(std::size_t n, bool more) {
    static const QStringList words{"no",    "one",   "two",  "three", "four",   "five",  "six",
                                   "seven", "eight", "nine", "ten",   "eleven", "twelve"};
    auto said = words.value(static_cast<qsizetype>(n));
    return more ? QString("with %1 more player%2").arg(said, n == 1 ? "" : "s")
                : QString("%1 player%2").arg(said, n == 1 ? "" : "s");
}

/// How many share the screen: new ones are usual players; of those that go the selected one is the last.
void describe_count(PageBuilder& t) {
    bool several = t.document.players.size() > 1;
    std::vector<Word::Option> counts{{"1", several ? counted(1, false) : QString("alone")}};
    for (std::size_t n = 2; n <= PlayerDocument::most_players; ++n)
        counts.push_back({QString::number(n), several ? counted(n, false) : counted(n - 1, true)});
    t.chosen("players", "/players", "Players on the screen", counts, QString::number(t.document.players.size()),
             [keep = t.player](PlayerDocument& d, std::size_t i) {
                 auto kept = keep;
                 while (d.players.size() < i + 1) add_player(d);
                 while (d.players.size() > i + 1) {
                     auto gone = d.players.size() - 1 == kept ? d.players.size() - 2 : d.players.size() - 1;
                     d.players.erase(d.players.begin() + static_cast<std::ptrdiff_t>(gone));
                     if (gone < kept) --kept;
                 }
             });
    t.out.words.back().changed = false;  // there is no way back to one of them by leaving the list out
}

void describe_screen(PageBuilder& t) {
    auto& s = t.document.screen;
    t.chosen(
        "arrangement", "/screen/arrangement", "Arrangement",
        {{"row", "side by side"}, {"column", "one below the other"}, {"stage", "the first large, the rest in a strip"}},
        text(arrangement_names()[static_cast<std::size_t>(s.arrangement)]),
        [](PlayerDocument& d, std::size_t i) { d.screen.arrangement = static_cast<ScreenSpec::Arrangement>(i); });
    t.number("screen-gap", "/screen/gap_px", "Gap between players", plural(s.gap, "pixel"), "8 pixels",
             s.gap != ScreenSpec{}.gap, {0, 200, static_cast<double>(s.gap), " px", "Between the players", 0},
             [](PlayerDocument& d, double n) { d.screen.gap = static_cast<int>(n); });
    t.coloured("screen-ground", "/screen/ground", "Colour between players", s.ground, ScreenSpec{}.ground,
               [](PlayerDocument& d) -> std::string& { return d.screen.ground; });
    t.chosen("one-sounds", "/screen/one_sounds", "Audio of several players",
             {{"no", "Several players may sound at once"},
              {"yes", "Only one player sounds: one that starts mutes the others"}},
             s.one_sounds ? "yes" : "no", [](PlayerDocument& d, std::size_t i) { d.screen.one_sounds = i == 1; });
    QStringList names;
    for (auto& p : t.document.players) names << "<" + text(p.name) + ">";
    t.out.paragraphs.push_back({"screen",
                                text(t.document.app_name),
                                {"The screen is " + describe_mount(t) + ".",
                                 "It holds {players}, {arrangement}: " + names.join(", ") +
                                     ". Between them are {screen-gap} of {screen-ground}.",
                                 "{one-sounds}."}});
}

/// Which sources a player plays, in which order.
void describe_queue(PageBuilder& t) {
    auto written = [](const std::vector<std::string>& names) {
        QStringList list;
        for (auto& n : names) list << text(n);
        return list.join("; ");
    };
    auto& own = t.spec().sources;
    auto now = own ? written(*own) : QString();
    auto said = [&](const QString& list) {
        return list.isEmpty() ? QString("nothing") : QString(list).replace("; ", ", ");
    };
    auto& w =
        t.word("plays", t.at() + "sources", "Sources of a player", own ? said(now) : QString("every source"),
               "every source", own.has_value(), [player = t.player](PlayerDocument& d, const QString& v) -> Taken {
                   std::vector<std::string> names;
                   for (auto& part : v.split(';', Qt::SkipEmptyParts)) {
                       auto name = part.trimmed().toStdString();
                       if (std::none_of(d.sources.begin(), d.sources.end(), [&](auto& s) { return s.name == name; }))
                           return QString("There is no source “%1” on the shelf.").arg(text(name));
                       names.push_back(std::move(name));
                   }
                   d.player(player).sources.reset();
                   if (!names.empty()) d.player(player).sources = std::move(names);
                   return {};
               });
    w.options = {{"", "every source"}};
    for (auto& s : t.document.sources) {
        auto names = own.value_or(std::vector<std::string>{});
        if (std::find(names.begin(), names.end(), s.name) == names.end()) {
            names.push_back(s.name);
            w.options.push_back({written(names), (own ? "“%1” as well" : "only “%1”") + QString()});
        } else {
            std::erase(names, s.name);
            if (names.empty()) continue;
            w.options.push_back({written(names), "without “%1”"});
        }
        w.options.back().label = w.options.back().label.arg(text(s.name));
    }
    w.typed = "Names of sources, with semicolons between them", w.now = now;
}

/// Which of several it is.
void describe_place(PageBuilder& t) {
    auto at = t.player;
    t.word("player-name", t.at() + "name", "Name of a player", text(t.spec().name), {}, false,
           [at](PlayerDocument& d, const QString& v) -> Taken {
               auto name = v.trimmed().toStdString();
               if (name.empty() || name.size() > 200) return "Enter a name.";
               for (std::size_t i = 0; i < d.players.size(); ++i)
                   if (i != at && d.player(i).name == name) return "Another player already has this name.";
               d.player(at).name = std::move(name);
               return {};
           });
    auto& name = t.out.words.back();
    name.typed = "Name", name.now = name.shown;
    static const QStringList ordinals{"first",   "second", "third", "fourth", "fifth",    "sixth",
                                      "seventh", "eighth", "ninth", "tenth",  "eleventh", "twelfth"};
    auto& place =
        t.word("place", t.at().chopped(1), "Place of a player", "the " + ordinals.value(static_cast<qsizetype>(at)), {},
               false, [at](PlayerDocument& d, const QString& v) -> Taken {
                   bool fine = false;
                   auto to = v.toULong(&fine);
                   if (!fine || to < 1 || to > d.players.size()) return "There is no such place.";
                   auto moved = d.player(at);
                   d.players.erase(d.players.begin() + static_cast<std::ptrdiff_t>(at));
                   d.players.insert(d.players.begin() + static_cast<std::ptrdiff_t>(to - 1), std::move(moved));
                   return {};
               });
    for (std::size_t i = 0; i < t.document.players.size(); ++i)
        place.options.push_back({QString::number(i + 1), "the " + ordinals.value(static_cast<qsizetype>(i))});
    place.now = QString::number(at + 1);
}

void describe_player(PageBuilder& t) {
    auto& p = t.spec();
    auto at = t.at();
    auto own = [i = t.player](PlayerDocument& d) -> PlayerSpec& { return d.player(i); };
    std::vector<Word::Option> ends{
        {"hold", "it stays on its last frame"},   {"next", "the next source plays"},
        {"again", "the same source plays again"}, {"round", "the next source plays, and after the last one the first"},
        {"poster", "it returns to its start"},    {"leave", "it releases everything and closes"}};
    t.chosen("queue", at + "at_end", "End of a source", ends, text(at_end_name(p.at_end)),
             [own](PlayerDocument& d, std::size_t i) { own(d).at_end = static_cast<AtEnd>(i); });
    t.coloured("surround", at + "picture/surround", "Surround", p.picture.surround, VideoSpec{}.surround,
               [own](PlayerDocument& d) -> std::string& { return own(d).picture.surround; });
    t.number("corner", at + "picture/corner_px", "Corners",
             p.picture.corner ? QString("%1 px round").arg(p.picture.corner) : QString("square"), "square",
             p.picture.corner != 0, {0, 200, static_cast<double>(p.picture.corner), " px", "Corners rounded by", 0},
             [own](PlayerDocument& d, double n) { own(d).picture.corner = static_cast<int>(n); });
    auto sized = [](const VideoSpec& s) {
        return s.render_width == 0 ? QString("at display size")
                                   : QString("at %1 × %2 pixels, scaled %3")
                                         .arg(s.render_width)
                                         .arg(s.render_height)
                                         .arg(s.blocky ? "with nearest-neighbour scaling" : "smoothly");
    };
    auto& render = t.word("render", at + "picture/render", "Render size", sized(p.picture), sized({}),
                          p.picture.render_width != 0, [own](PlayerDocument& d, const QString& v) -> Taken {
                              auto& s = own(d).picture;
                              if (v.isEmpty()) {
                                  s.render_width = s.render_height = 0, s.blocky = false;
                                  return {};
                              }
                              auto parts = v.split(' ', Qt::SkipEmptyParts);
                              auto size = parts.value(0).split('x');
                              int w = size.value(0).toInt(), h = size.value(1).toInt();
                              bool fine = size.size() == 2 && w >= 10 && h >= 10 && w <= 8192 && h <= 8192 &&
                                          (parts.size() == 1 || parts[1] == "blocky" || parts[1] == "smooth");
                              if (!fine) return "Enter a size such as 320x180, optionally with “blocky”.";
                              s.render_width = w, s.render_height = h, s.blocky = parts.value(1) == "blocky";
                              return {};
                          });
    render.options = {{"", sized({})}};
    render.typed = "A size in pixels, such as “160x90 blocky”";
    render.now = p.picture.render_width == 0 ? QString()
                                             : QString("%1x%2 %3")
                                                   .arg(p.picture.render_width)
                                                   .arg(p.picture.render_height)
                                                   .arg(p.picture.blocky ? "blocky" : "smooth");
    t.number("volume", at + "volume", "Volume", QString("%1 %").arg(qRound(p.volume * 100)), "100 %", p.volume != 1,
             {0, 100, p.volume * 100, " %", "Initial volume", 0},
             [own](PlayerDocument& d, double n) { own(d).volume = n / 100; });
    t.chosen("muted", at + "muted", "Audio at the start", {{"no", "sound on"}, {"yes", "sound off"}},
             p.muted ? "yes" : "no", [own](PlayerDocument& d, std::size_t i) { own(d).muted = i == 1; });
    t.number("speed", at + "speed", "Speed",
             p.speed == 1 ? QString("normal speed") : QString("%1 times normal speed").arg(p.speed), "normal speed",
             p.speed != 1, {0.25, 4, p.speed, " ×", "Initial speed", 2},
             [own](PlayerDocument& d, double n) { own(d).speed = n; });
    t.number("hide", at + "hide_after_ns", "Hiding", seconds(p.hide_after), "3 seconds", p.hide_after != 3_s,
             {1, 60, p.hide_after.seconds(), " s", "Time until controls hide", 1},
             [own](PlayerDocument& d, double n) { own(d).hide_after = from_seconds(n); });
    auto waits = [](Time wait) {
        return wait == Time{} ? QString("it keeps waiting") : QString("it fails after %1").arg(seconds(wait));
    };
    auto& give_up =
        t.number("give-up", at + "give_up_after_ns", "Waiting", waits(p.give_up_after), waits({}),
                 p.give_up_after != Time{}, {0, 600, p.give_up_after.seconds(), " s", "Fails after; 0 for never", 1},
                 [own](PlayerDocument& d, double n) { own(d).give_up_after = from_seconds(n); });
    give_up.options = {{"0", waits({})}, {"8", waits(8_s)}};
    describe_count(t);
    describe_queue(t);
    QString seen = "It plays {plays}.";
    if (t.document.players.size() > 1)
        describe_place(t), seen = "It is called {player-name}, is {place} of them, and plays {plays}.";
    else
        seen = "The player is mounted in " + describe_mount(t) + ", {players}, and plays {plays}.";
    t.out.paragraphs.push_back({"player",
                                text(t.document.players.size() > 1 ? p.name : t.document.app_name),
                                {seen + " It starts with {muted}, volume {volume}, at {speed}.",
                                 "When a source ends, {queue}. If the network stalls, {give-up}.",
                                 describe_theme(t, "theme", at + "theme/", p.theme, {},
                                                [own](PlayerDocument& d) -> ThemeSpec& { return own(d).theme; }),
                                 "Video is rendered {render} with {corner} corners; the area around it is {surround}.",
                                 "Controls on the picture hide after {hide} without input."}});
}

}  // namespace builder

const Word* SentencePage::find(const QString& key) const {
    auto it = std::find_if(words.begin(), words.end(), [&](auto& w) { return w.key == key; });
    return it == words.end() ? nullptr : &*it;
}

SentencePage describe(const PlayerDocument& document, const Selected& selected,
                      const std::function<std::string(const std::string&)>& file_for) {
    builder::PageBuilder t{document, selected.player};
    auto& controls = t.spec().controls;
    if (auto* control = t.spec().control(selected.control))
        describe_control(t, static_cast<std::size_t>(control - controls.data()));
    describe_source(t, selected.source, file_for);
    if (document.players.size() > 1) describe_screen(t);
    if (document.mount == Mount::room) describe_room(t);
    describe_player(t);
    describe_controls(t);
    describe_host(t);
    return std::move(t.out);
}

}  // namespace ruedo
