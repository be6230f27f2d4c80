// SPDX-License-Identifier: GPL-3.0-or-later
// The workshop's window, driven for real.
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QTextBrowser>
#include <QToolTip>
#include <random>
#include <thread>

#include "demo/server.h"
#include "stream/host.h"
#include "timing.h"
#include "view/look.h"
#include "window_support.h"
#include "workshop/facts.h"
#include "workshop/known_clips.h"
#include "workshop/pack_page.h"
#include "workshop/path_chart.h"
#include "workshop/ring.h"
#include "workshop/sentences.h"
#include "workshop/shelf.h"
#include "workshop/window.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Shop {
    Folder folder;
    PlaybackHost host{false};
    WorkshopWindow window{host};
    Shop(std::initializer_list<const char*> files = {"vp9_opus.webm", "h264_high_aac.mp4"}) {
        PlayerDocument d;
        d.app_name = "Harbour Lights";
        for (auto file : files) {
            fs::copy_file(fixture(file), folder / file);
            SourceSpec s;
            s.name = s.file = file;
            d.sources.push_back(s);
        }
        done(save_document(d, folder / "shop.ruedo"));
        window.show();
        REQUIRE(window.open_project(folder / "shop.ruedo"));
    }
    Snapshot now() { return window.player().snapshot(); }
    bool phase(Phase p) {
        return soon([&] { return now().state.phase == p && !now().state.seeking; });
    }
};
}  // namespace

TEST_CASE("A project opens with its first source held on the first frame", "[workshop]") {
    Shop shop;
    REQUIRE(shop.phase(Phase::ready));
    CHECK(shop.now().source == "vp9_opus.webm");
    CHECK(soon([&] { return shop.window.player().surface().has_picture(); }));
    CHECK(shop.window.sentences().plain_text().contains("paused on its first frame"));
    shop.window.project().set_current(1);
    CHECK(soon([&] { return shop.now().source == "h264_high_aac.mp4"; }));
    CHECK(soon([&] {
        return shop.window.facts().plain_text().contains("H.264") &&
               shop.window.facts().plain_text().contains("180 frames");
    }));
}

TEST_CASE("Names that look like markup are names", "[workshop]") {
    Shop shop;
    auto d = shop.window.project().document();
    d.sources[0].name = "<b>Pier</b> & <i>quay";
    shop.window.project().change(d, "Name");
    int shown = 0;
    for (auto* label : shop.window.findChildren<QLabel*>())
        if (label->text().contains("Pier")) {
            ++shown;
            CHECK(label->textFormat() == Qt::PlainText);
        }
    CHECK(shown > 0);
    CHECK_FALSE(shop.window.open_project(shop.folder / "R&B <i>.ruedo"));
    bool told = false;
    for (auto* label : shop.window.findChildren<QLabel*>())
        told |= label->isVisible() && label->textFormat() == Qt::RichText &&
                label->text().contains("R&amp;B &lt;i&gt;.ruedo");
    CHECK(told);
    CHECK(look::literal("Fish & chips && more") == "Fish && chips &&&& more");
    QToolTip::showText(shop.window.mapToGlobal(QPoint(40, 40)), "<b>Pier</b>", &shop.window);
    QLabel* tip = nullptr;
    for (auto* w : QApplication::topLevelWidgets())
        if (w->inherits("QTipLabel") && w->isVisible()) tip = static_cast<QLabel*>(w);
    REQUIRE(tip);
    CHECK(tip->textFormat() == Qt::PlainText);
    QToolTip::hideText();
}

TEST_CASE("A window that could open nothing has no button without a word on it", "[workshop]") {
    Folder folder;
    PlaybackHost host{false};
    WorkshopWindow window{host};
    window.show();
    auto unnamed = [&] {
        QStringList found;
        for (auto* b : window.findChildren<QAbstractButton*>())
            if (b->isVisible() && b->inherits("QPushButton") && b->text().isEmpty() && b->icon().isNull() &&
                !dynamic_cast<Ring*>(b->parentWidget()))  // which draws its own
                found << b->accessibleName();
        return found.join(", ").toStdString();
    };
    CHECK(unnamed() == "");
    std::ofstream(folder / "half.ruedo") << R"({"ruedo": 1, "sources": [{"name": "a"}]})";
    CHECK_FALSE(window.open_project(folder / "half.ruedo"));
    CHECK(unnamed() == "");
    CHECK(window.windowTitle().contains("New player"));
}

TEST_CASE("What was found of a file under one name is not told of it under another", "[workshop]") {
    Shop shop({"vp9_opus.webm"});
    auto* shelf = shop.window.findChild<Shelf*>();
    REQUIRE(soon([&] { return shelf->verdict_of(0).has_value(); }));
    fs::copy_file(fixture("vp9_opus.webm"), shop.folder / "renamed.mp4");
    auto d = shop.window.project().document();
    SourceSpec other;
    other.name = other.file = "renamed.mp4";
    d.sources.push_back(other), d.target = "desktop";
    shop.window.project().change(d, "Another");
    REQUIRE(soon([&] { return shelf->cards() == 2 && shelf->verdict_of(1).has_value(); }));
    CHECK(shelf->sentence_of(1).contains("The name ends in “.mp4”"));
    CHECK_FALSE(shelf->sentence_of(0).contains("ends in"));
}

TEST_CASE("Words in the sentences change the player at once, and can be undone", "[workshop]") {
    Shop shop;
    auto& s = shop.window.sentences();
    auto& p = shop.window.project();
    auto first = p.document();
    for (auto [key, value] : {std::pair{"loop", "all"},
                              {"fit", "cover"},
                              {"align", "0 1"},
                              {"mount", "handset-upright"},
                              {"surround", "#8A2436"},
                              {"volume", "40"},
                              {"muted", "yes"},
                              {"speed", "1.5"},
                              {"corner", "12"},
                              {"render", "160x90 blocky"},
                              {"queue", "leave"},
                              {"hide", "2"},
                              {"bar where foot", "beside"},
                              {"start", "play"}}) {
        INFO(key);
        auto before = p.document();
        REQUIRE(s.set_value(key, value));
        CHECK_FALSE(p.document() == before);
        p.undo();
        CHECK(p.document() == before);
        p.redo();
    }
    CHECK_FALSE(s.set_value("fit", "squeeze"));
    CHECK_FALSE(s.set_value("nothing", "x"));
    CHECK(shop.phase(Phase::playing));  // "start: play" took effect
    CHECK(shop.now().loop.kind == Loop::Kind::all);
    CHECK(shop.window.player().width() < shop.window.player().height());  // a handset, upright
    while (p.can_undo()) p.undo();
    CHECK(p.document() == first);
    CHECK(s.plain_text().contains("plays once"));
    for (auto& key : s.keys()) CHECK(s.plain_text().size() > key.size());
}

TEST_CASE("Every choice of every word takes effect, is told, and can be undone to where it was", "[workshop]") {
    Shop shop;
    auto& s = shop.window.sentences();
    auto& p = shop.window.project();
    auto keys = s.keys();
    CHECK(keys.size() >= 16);
    // And those of each control when it is selected.
    std::vector<std::pair<QString, std::string>> all;
    for (auto& key : keys) all.emplace_back(key, std::string());
    for (auto& c : p.document().player().controls) {
        p.select(c.name);
        for (auto& key : s.keys())
            if (!keys.contains(key)) all.emplace_back(key, c.name);
    }
    auto first = p.document();
    int changed = 0;
    for (auto& [key, control] : all) {
        p.select(control);
        auto values = s.values(key);
        INFO(key.toStdString() << " of " << control);
        if (values.isEmpty()) values = {"0.5 2", "{time}"};  // what is typed only
        for (auto& value : values) {
            INFO(value.toStdString());
            if (value == "file") continue;  // asks for a file
            auto before = p.document();
            auto told = s.plain_text();
            bool taken = s.set_value(key, value);
            CHECK((taken || s.values(key).isEmpty()));
            if (p.document() == before) continue;
            ++changed;
            // Sentences tell what the document holds, and a change of one word is not silent.
            CHECK(s.plain_text() != told);
            auto after = p.document();
            p.undo();
            CHECK(p.document() == before);
            if (changed % 3) continue;
            p.redo();
            CHECK(p.document() == after);
            p.undo();
            CHECK(p.document() == before);
        }
    }
    CHECK(changed > 400);
    CHECK(p.document() == first);
}

TEST_CASE("Languages that are chosen in the sentences are heard and seen at once", "[workshop]") {
    Shop shop({"two_audio_languages.mkv"});
    REQUIRE(shop.phase(Phase::ready));
    auto id_of = [&](const char* language) {
        for (auto& c : *shop.now().track_options)
            if (c.kind == Kind::audio && c.language == language) return c.id;
        return std::uint64_t{0};
    };
    auto& s = shop.window.sentences();
    REQUIRE(s.set_value("sound", "de"));
    CHECK(soon([&] { return shop.now().audio_track == id_of("de"); }));
    REQUIRE(s.set_value("sound", ""));
    CHECK(soon([&] { return shop.now().audio_track == id_of("en"); }));
    // Captions beside the clip.
    auto d = shop.window.project().document();
    for (auto language : {"en", "de"}) {
        std::string vtt = "WEBVTT\n\n00:00.000 --> 00:05.000\n" + std::string(language) + "\n";
        auto file = "captions." + std::string(language) + ".vtt";
        put(shop.folder / file, {reinterpret_cast<const std::uint8_t*>(vtt.data()), vtt.size()});
        d.sources[0].captions.push_back(file);
    }
    shop.window.project().change(d, "Captions");
    shop.window.player().load(d, 0, shop.folder.path);
    REQUIRE(shop.phase(Phase::ready));
    auto seen = [&] {
        auto now = shop.now();
        return now.cues && !now.cues->list.empty() ? now.cues->list[0].text() : std::string();
    };
    for (auto language : {"en", "de", "en"}) {
        REQUIRE(s.set_value("captions", language));
        INFO(language);
        CHECK(soon([&] { return seen() == language; }));
    }
    REQUIRE(s.set_value("captions", ""));
    CHECK(soon([&] { return shop.now().text_track == 0; }));
    // Any language, in words where it has some; what is no tag of one is refused.
    auto said = [&] { return s.plain_text(); };
    REQUIRE(s.set_value("captions", "ja"));
    CHECK(soon([&] { return said().contains("captions in Japanese"); }));
    REQUIRE(s.set_value("captions", "pt-BR"));
    CHECK(soon([&] { return said().contains("captions in Portuguese (pt-BR)"); }));
    for (auto none : {"Japanese", "j", "xx", "ja_JP", "ja-", "ja-toolong9x"})
        CHECK_FALSE(s.set_value("captions", none));
    CHECK(shop.window.project().document().sources[0].text_language == "pt-BR");
}

TEST_CASE("A dead address costs an edit nothing, and closing waits for nothing", "[workshop]") {
    // Connections are taken and never answered.
    auto server = demo::LoopbackServer::start();
    server->serve("/mute.mp4", {.never_answers = true});
    Time closing{};
    std::uint64_t asked = 0;
    {
        Shop shop({"vp9_opus.webm"});
        shop.window.add_sources({QString::fromStdString(server->address("/mute.mp4"))});
        REQUIRE(soon([&] { return shop.window.project().document().sources.size() == 2; }));
        shop.window.project().set_current(0);
        pass(600);
        auto before = server->requests();
        auto worst = Time{};
        for (int i = 0; i < 20; ++i) {
            worst = std::max(worst, took([&] {
                                 shop.window.sentences().set_value("volume", QString::number(10 + i));
                                 QApplication::processEvents();
                             }));
            pass(30);
        }
        CHECK(worst < 200_ms);
        asked = server->requests() - before;
        // What is typed last counts, and the findings come though the address says nothing.
        shop.window.sentences().set_value("fit", "fill");
        CHECK(soon([&] {
            return control(&shop.window, "Findings") &&
                   static_cast<QTextBrowser*>(control(&shop.window, "Findings"))->toPlainText().contains("stretched");
        }));
        closing = took([&] { shop.window.close(); });
    }
    INFO(asked << " requests for twenty edits that do not concern the address");
    CHECK(asked <= 3);
    CHECK(closing < 500_ms);
}

TEST_CASE("The newest question wins at the desk, the same is not asked twice, and going waits for nobody",
          "[workshop]") {
    std::atomic<int> worked = 0, given_up = 0;
    std::vector<int> answers;
    auto slow = [&](int answer) {
        return [&, answer](const std::atomic<bool>& cancel) {
            ++worked;
            for (int i = 0; i < 400 && !cancel; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(1));
            given_up += cancel;
            return answer;
        };
    };
    auto quick = [](int answer) { return [answer](const std::atomic<bool>&) { return answer; }; };
    auto note = [&](int a) { answers.push_back(a); };
    {
        BackgroundTasks tasks;
        tasks.ask("a", "1", slow(1), note);
        REQUIRE(soon([&] { return worked == 1; }));
        tasks.ask("a", "2", quick(2), note);
        REQUIRE(soon([&] { return answers == std::vector{2}; }));
        CHECK(soon([&] { return given_up == 1; }));
        tasks.ask("a", "2", quick(22), note);  // the same question: known already
        tasks.ask("b", "2", quick(3), note);
        REQUIRE(soon([&] { return answers.size() == 2; }));
        CHECK(answers == std::vector{2, 3});
        tasks.forget("a");
        tasks.ask("a", "2", quick(4), note);
        REQUIRE(soon([&] { return answers.size() == 3; }));
        // Reads of the work give up with it.
        tasks.ask(
            "c", "1",
            [&](const std::atomic<bool>&) {
                ++worked;
                while (!ReadScope::given_up()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
                return 0;
            },
            note);
        REQUIRE(soon([&] { return worked == 2; }));
    }
    pass(50);
    CHECK(answers == std::vector{2, 3, 4});
}

TEST_CASE("Work beside a window may ask what clips hold after the window is gone", "[workshop]") {
    auto known = std::make_shared<KnownClips>();
    auto ask = known->asker();
    std::weak_ptr<KnownClips> watched = known;
    known.reset();
    CHECK_FALSE(watched.expired());
    CHECK(value(ask(fixture("vp9_opus.webm").string())).container == "webm");
    ask = {};
    CHECK(watched.expired());
    // For real: windows that go while their pages are still finding out.
    for (int i = 0; i < 6; ++i) {
        Shop shop({"theora_vorbis.ogv", "h264_aac.ts", "mjpeg_pcm.avi"});
        shop.window.show_step(WorkshopWindow::pack_step);
        soon([] { return false; }, i * 7);
    }
}

TEST_CASE("An edit leaves the posters of other sources as they are", "[workshop]") {
    Shop shop;
    auto d = shop.window.project().document();
    d.player().put({.kind = &control_kind("strip")}, "foot/middle");
    shop.window.project().change(d, "Controls");
    auto& player = shop.window.player();
    REQUIRE(soon([&] { return player.posters_made() >= 2; }));
    for (auto [key, value] :
         {std::pair{"volume", "40"}, {"hide", "5"}, {"fit", "cover"}, {"loop", "all"}, {"surround", "#8A2436"}})
        shop.window.sentences().set_value(key, value);
    pass(300);
    CHECK(player.posters_made() == 2);
}

TEST_CASE("A project is saved, opened again and not mixed up with unsaved work", "[workshop]") {
    Shop shop;
    auto& p = shop.window.project();
    shop.window.sentences().set_value("loop", "all");
    CHECK(p.modified());
    done(p.save());
    CHECK_FALSE(p.modified());
    CHECK(value(load_document(shop.folder / "shop.ruedo")).sources[0].loop.kind == Loop::Kind::all);
    fs::create_directory(shop.folder / "elsewhere");
    // Everything a source names goes on meaning what it meant.
    auto with_files = p.document();
    put(shop.folder / "poster.png", Bytes{1});
    put(shop.folder / "a.en.vtt", Bytes{1});
    with_files.sources[0].poster = "poster.png",
    with_files.sources[0].captions = {"a.en.vtt", "http://harbour.test/b.vtt"};
    put(shop.folder / "made.mp4", Bytes{1});
    with_files.sources[0].prepare_for("desktop").file = "made.mp4";
    p.change(with_files, "Files");
    done(p.save_as(shop.folder / "elsewhere" / "copy.ruedo"));
    CHECK(fs::exists(resolve(p.document().sources[0], p.folder())));
    CHECK(fs::exists(resolve(p.document().sources[0].poster, p.folder())));
    CHECK(fs::exists(resolve(p.document().sources[0].captions[0], p.folder())));
    CHECK(p.document().sources[0].captions[1] == "http://harbour.test/b.vtt");
    CHECK(fs::exists(resolve(p.document().sources[0].prepared_for("desktop")->file, p.folder())));
    CHECK(Project::recent().contains(QString::fromStdString((shop.folder / "elsewhere" / "copy.ruedo").string())));
    // Changed: a copy is kept, which is its window’s own while that is there.
    shop.window.sentences().set_value("hide", "7");
    pass(1500);
    auto left = Project::recovered();  // others may have left theirs
    CHECK((!left || left->path != p.path()));
}

TEST_CASE("Adding takes what is there, names what is not, and adds what opens of folders", "[workshop]") {
    Shop shop;
    fs::create_directories(shop.folder / "more" / "deep");
    fs::copy_file(fixture("vfr_h264.mp4"), shop.folder / "more" / "a.mp4");
    fs::copy_file(fixture("vp8_vorbis.webm"), shop.folder / "more" / "b");  // content decides
    fs::copy_file(fixture("audio.flac"), shop.folder / "more" / "deep" / "c.flac");
    put(shop.folder / "more" / "notes.mp4", Bytes{'n', 'o', 't', ' ', 'm', 'e', 'd', 'i', 'a', '.'});
    auto path = [&](const std::string& name) { return QString::fromStdString((shop.folder / name).string()); };
    auto& sources = shop.window.project().document().sources;
    shop.window.add_sources({path("more"), "http://127.0.0.1:1/fog%20signal.webm?part=2"});
    REQUIRE(soon([&] { return sources.size() == 6; }));
    CHECK(sources[2].file == "more/a.mp4");
    CHECK(sources[3].file == "more/b");
    CHECK(sources[4].file == "more/deep/c.flac");
    CHECK(sources[5].file == "http://127.0.0.1:1/fog%20signal.webm?part=2");
    CHECK(sources[5].name == "fog signal");
    shop.window.show_step(WorkshopWindow::gather);
    // A name that does not exist offers the one that does; pressing that adds it.
    auto notice = [&]() -> QLabel* {
        for (auto* l : shop.window.findChildren<QLabel*>())
            if (l->isVisible() && l->text().contains("instead</a>")) return l;
        return nullptr;
    };
    auto* entry = qobject_cast<QLineEdit*>(control(&shop.window, "Path or address of a source to add"));
    REQUIRE(entry);
    entry->setText("vp9_opsu.webm");
    key(entry, Qt::Key_Return);
    REQUIRE(soon([&] { return notice() != nullptr; }));
    CHECK(sources.size() == 6);
    auto text = notice()->text();
    auto from = text.indexOf("href='") + 6;
    emit notice() -> linkActivated(text.mid(from, text.indexOf('\'', from) - from));
    REQUIRE(soon([&] { return sources.size() == 7; }));
    CHECK(sources[6].file == "vp9_opus.webm");
    shop.window.project().undo();
    shop.window.project().undo();
    CHECK(sources.size() == 2);
}

TEST_CASE("Cards and facts judge for the target, and change with it", "[workshop]") {
    Shop shop({"theora_vorbis.ogv", "h264_aac.ts"});
    auto& shelf = shop.window.shelf();
    auto set_target = [&](const char* name) {
        auto d = shop.window.project().document();
        d.target = name;
        shop.window.project().change(d, "Target");
    };
    REQUIRE(soon([&] { return shelf.sentence_of(0).startsWith("Plays") && shelf.sentence_of(1).startsWith("Plays"); }));
    set_target("handset-recent");
    CHECK(shelf.sentence_of(0).contains("pictures change"));
    CHECK(shelf.sentence_of(1).contains("only the wrapper changes"));
    CHECK(soon([&] { return shop.window.facts().plain_text().contains("For Handset, recent"); }));
    CHECK(shop.window.facts().plain_text().contains("Theora is not among what it takes"));
    set_target("scene-engine-open");
    CHECK(shelf.sentence_of(0).startsWith("Plays."));
    CHECK(shop.window.facts().plain_text().contains("seek"));
    shop.window.project().undo();
    CHECK(shelf.sentence_of(1).contains("only the wrapper changes"));
}

TEST_CASE("A stream that is added by its address is told by its rungs, plays, and leaves its marks on the path",
          "[workshop]") {
    auto host = value(stream::StaticServer::start({.folder = fixture("streams")}));
    Shop shop;
    shop.window.add_sources({text(host->address() + "fmp4/master.m3u8")});
    REQUIRE(soon([&] { return shop.window.project().document().sources.size() == 3; }));
    // What every stream's list is called names none.
    CHECK(shop.window.project().document().sources[2].name == "fmp4");
    shop.window.project().set_current(2);
    auto& facts = shop.window.facts();
    REQUIRE(soon([&] { return facts.plain_text().contains("A stream in HLS segments"); }));
    CHECK(facts.plain_text().contains("3 rungs"));
    shop.window.show_step(WorkshopWindow::gather);
    REQUIRE(soon([&] { return facts.ladder().width() > 200; }));
    CHECK(facts.ladder().isVisibleTo(&facts));
    CHECK(!facts.strip().isVisibleTo(&facts));
    // Every segment of every rung can be asked about.
    std::set<QString> said;
    for (double y = 0; y < facts.ladder().height(); y += 3)
        for (double x = 0; x < facts.ladder().width(); x += 5) said.insert(facts.ladder().words_at({x, y}));
    int segments = 0;
    for (auto& words : said) segments += words.contains("segment ");
    CHECK(segments == 9);
    shop.window.show_step(WorkshopWindow::arrange);
    REQUIRE(shop.phase(Phase::ready));
    shop.window.player().controller().play();
    REQUIRE(soon([&] { return shop.now().position > 1_s && shop.now().stream; }));
    CHECK(!shop.now().stream->decisions.empty());
    auto events = shop.window.player().controller().events();
    CHECK(std::any_of(events.begin(), events.end(), [](auto& e) { return e.name == "rung"; }));
    shop.window.project().set_current(1);
    CHECK(soon([&] { return facts.strip().isVisibleTo(&facts) && !facts.ladder().isVisibleTo(&facts); }));
    // Of a folder that holds a stream the playlist is added, and nothing that it is made of.
    fs::copy(fixture("streams/ts"), shop.folder / "coast", fs::copy_options::recursive);
    shop.window.add_sources({text((shop.folder / "coast").string())});
    REQUIRE(soon([&] { return shop.window.project().document().sources.size() > 3; }));
    CHECK(shop.window.project().document().sources.size() == 4);
    CHECK(shop.window.project().document().sources[3].file == "coast/master.m3u8");
    CHECK(shop.window.project().document().sources[3].name == "coast");
}

TEST_CASE("The chart says what stands under the pointer, and loudness follows by itself", "[workshop]") {
    Shop shop({"h264_high_aac.mp4"});
    shop.window.show_step(WorkshopWindow::gather);
    REQUIRE(soon([&] { return shop.window.facts().plain_text().contains("LUFS over all"); }));
    auto& strip = shop.window.facts().strip();
    REQUIRE(strip.isVisible());
    auto words = strip.words_at(strip.width() - 20);
    INFO(words.toStdString());
    CHECK(words.contains("bit/s"));
    CHECK(words.contains("keyframe 1."));
    CHECK(strip.words_at(2).isEmpty());
}

TEST_CASE("Five hundred files at once leave the window answering", "[workshop]") {
    Shop shop;
    fs::create_directory(shop.folder / "many");
    QStringList files;
    for (int i = 0; i < 500; ++i) {
        auto file = shop.folder / "many" / ("clip" + std::to_string(i) + ".mp4");
        fs::create_symlink(fixture(i % 3 ? "colour_bt709_full_h264.mp4" : "colour_bt601_limited_h264.mp4"), file);
        files << QString::fromStdString(file.string());
    }
    shop.window.show_step(WorkshopWindow::gather);
    pass(300);
    // The longest that one turn of the event loop takes, from the drop until all are looked into.
    Time longest{};
    QElapsedTimer whole;
    shop.window.add_sources(files);
    whole.start();
    auto done_ = [&] {
        if (shop.window.shelf().cards() != 502) return false;
        for (std::size_t i : {10UL, 250UL, 501UL})
            if (shop.window.shelf().sentence_of(i).isEmpty()) return false;
        return true;
    };
    while (!done_() && whole.elapsed() < 60'000) {
        longest = std::max(longest, took([] { QApplication::processEvents(QEventLoop::AllEvents, 1); }));
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
    }
    CHECK(done_());
    INFO("longest turn " << longest.ms() << " ms");
    CHECK(longest < 150_ms * slowed);  // on a quiet machine it is about 60, the first, which takes them all in
}

TEST_CASE("However many files go into an app, the window is no larger than one wants it", "[workshop]") {
    Shop shop;
    auto d = shop.window.project().document();
    std::string vtt = "WEBVTT\n\n00:00.000 --> 00:05.000\nThe lamp turns.\n";
    for (int i = 0; i < 80; ++i) {
        auto file = "captions" + std::to_string(i) + ".en.vtt";
        put(shop.folder / file, {reinterpret_cast<const std::uint8_t*>(vtt.data()), vtt.size()});
        d.sources[0].captions.push_back(file);
    }
    shop.window.project().change(d, "Captions");
    shop.window.show_step(WorkshopWindow::pack_step);
    auto widgets = shop.window.pack_page().findChildren<QWidget*>();
    auto bars =
        std::find_if(widgets.begin(), widgets.end(), [](auto* w) { return w->accessibleName() == "Size by item"; });
    REQUIRE(bars != widgets.end());
    CHECK(soon([&] { return (*bars)->height() > 80 * 20; }));
    CHECK(shop.window.minimumSizeHint().height() <= 800);
    CHECK((*bars)->visibleRegion().boundingRect().height() <= shop.window.height());
}

TEST_CASE("The ring's calls do what they say, and those that are not allowed say why", "[workshop]") {
    Shop shop;
    REQUIRE(shop.phase(Phase::ready));
    auto& ring = shop.window.ring();
    auto button = [&](machine::Input call) { return ring.call_button(call); };
    REQUIRE(soon([&] { return button(machine::Input::play)->isEnabled(); }));
    click(button(machine::Input::play));
    REQUIRE(shop.phase(Phase::playing));
    click(button(machine::Input::pause));
    REQUIRE(shop.phase(Phase::paused));
    // What is offered is of the state the ring shows.
    REQUIRE(soon([&] { return ring.shown().state.phase == Phase::paused; }));
    // A place and a number are chosen: half way, and one picture on, are offered first.
    auto choose = [&](machine::Input call, int action) {
        click(button(call));
        REQUIRE(soon([] { return dynamic_cast<QMenu*>(QApplication::activePopupWidget()) != nullptr; }));
        auto* menu = static_cast<QMenu*>(QApplication::activePopupWidget());
        menu->actions().at(action)->trigger();
        menu->close();
    };
    choose(machine::Input::seek, 1);
    CHECK(soon([&] { return shop.now().position == 3_s; }));
    choose(machine::Input::step, 0);
    CHECK(soon([&] { return shop.now().position == 3033_ms; }));
    choose(machine::Input::step, 3);
    CHECK(soon([&] { return shop.now().position == 2700_ms; }));
    choose(machine::Input::step, 5);  // the number that stands there, 25 pictures
    CHECK(soon([&] { return std::abs((shop.now().position - 3533_ms).ns) < (1_ms).ns; }));
    // Each state says how one gets there and away.
    CHECK(Ring::ways(Phase::playing).contains("play from"));
    CHECK(Ring::ways(Phase::closed).contains("release from"));
    for (auto p : {Phase::empty, Phase::playing, Phase::closed}) {
        auto before = ring.grab().toImage();
        click(ring.state_button(p));
        CHECK(ring.grab().toImage() != before);
        click(ring.state_button(p));
    }
    click(button(machine::Input::stop));
    REQUIRE(shop.phase(Phase::ready));
    CHECK(soon([&] {
        return ring.taken(Phase::ready, Phase::playing) == 1 && ring.taken(Phase::playing, Phase::paused) == 1;
    }));
    click(button(machine::Input::release));
    REQUIRE(shop.phase(Phase::closed));
    REQUIRE(soon([&] { return !button(machine::Input::play)->isEnabled(); }));
    CHECK(button(machine::Input::play)->toolTip().contains("released"));
}

TEST_CASE("The path follows the trace, and its stretch can be copied as text", "[workshop]") {
    Shop shop;
    REQUIRE(shop.phase(Phase::ready));
    shop.window.player().controller().play();
    pass(800);
    shop.window.player().controller().seek(4_s);
    pass(600);
    auto text = shop.window.path().visible_events();
    CHECK(text.contains("\"event\":\"call\""));
    CHECK(text.contains("\"event\":\"seek\""));
    int lines = 0;
    for (auto& line : text.split('\n', Qt::SkipEmptyParts)) {
        CHECK(nlohmann::json::accept(line.toStdString()));
        ++lines;
    }
    CHECK(lines >= 5);
}

TEST_CASE("What gave way, stood still and caught up is marked on the path where it happened", "[workshop]") {
    PathChart path;
    std::size_t marks = path.marked();
    CHECK(marks == 0);
    Event e;
    for (auto name : {"giving-way", "stood-still", "caught-up", "starved", "error", "sound-missing"}) {
        e.name = name, e.wall += 1_s, e.media += 700_ms;
        path.note(e);
        INFO(name);
        CHECK(path.marked() == ++marks);
    }
    for (auto name : {"state", "opened", "volume"}) {
        e.name = name;
        path.note(e);
        CHECK(path.marked() == marks);
    }
    path.forget();
    CHECK(path.marked() == 0);
}

TEST_CASE("A hand on the path moves along it, looks closer, measures, and points at a moment that is marked",
          "[workshop]") {
    PathChart path;
    path.resize(560, 250);
    Snapshot s;
    s.state.phase = Phase::playing, s.duration = 60_s;
    Event e;
    e.name = "volume";
    for (int i = 1; i <= 40; ++i) {
        e.wall = 1_s * i - 500_ms, e.media = e.wall, s.position = e.wall;
        path.sample(s, {}, e.wall), path.note(e);
    }
    path.show();
    path.look_at(Time{}, 20_s);
    auto seen = [&] {
        std::vector<double> walls;
        for (auto& line : path.visible_events().split('\n', Qt::SkipEmptyParts))
            walls.push_back(static_cast<double>(nlohmann::json::parse(line.toStdString())["wall_ns"]) / 1e9);
        return walls;
    };
    REQUIRE(seen().size() == 20);
    auto plain = path.grab().toImage();
    // What lies under the hand goes along with it.
    press(&path, {400, 100}), move(&path, {300, 100}, Qt::LeftButton), let_go(&path, {300, 100});
    auto after = seen();
    REQUIRE(after.size() >= 19);
    CHECK((after.front() > 2 && after.front() < 6));
    CHECK_FALSE(path.pointed());
    path.look_at(Time{}, 20_s);
    QWheelEvent closer(QPointF(300, 100), path.mapToGlobal(QPointF(300, 100)), {}, {0, 240}, Qt::NoButton,
                       Qt::NoModifier, Qt::NoScrollPhase, false);
    QApplication::sendEvent(&path, &closer);
    CHECK((seen().size() >= 13 && seen().size() <= 16));
    // A press that stays points there, and that is drawn over everything.
    path.look_at(Time{}, 20_s);
    press(&path, {300, 100}), let_go(&path, {300, 100});
    REQUIRE(path.pointed());
    CHECK((*path.pointed() > 7_s && *path.pointed() < 13_s));
    auto drawn = [&](const QImage& before) { return soon([&] { return path.grab().toImage() != before; }); };
    CHECK(drawn(plain));
    path.point(std::nullopt);
    CHECK(soon([&] { return path.grab().toImage() == plain; }));
    for (double x : {200.0, 400.0}) press(&path, {x, 120}, Qt::LeftButton, Qt::ShiftModifier);
    CHECK(drawn(plain));
    CHECK_FALSE(path.pointed());
}

TEST_CASE("No words on the path lie on others, the newest are always read, and closer to there is room for all",
          "[workshop]") {
    PathChart path;
    path.resize(560, 250);
    path.show();
    Snapshot s;
    s.state.phase = Phase::playing, s.duration = 20_s;
    std::mt19937 random(11);
    std::vector<Time> written;
    std::optional<double> newest;  // where it stands, with the chart moved along
    Time now;
    for (int i = 0; i < 26; ++i) {
        now += 1_ms * (500 + random() % 900);
        s.position = 1_ms * (random() % 20'000);
        s.counters.dropped += random() % 3;
        path.sample(s, {}, now);
        Event e;
        e.wall = now, e.media = s.position, e.name = i ? "seek" : "first-picture", e.took = 1_ms * (random() % 400);
        path.note(e);
        written.push_back(now);
        bool pressed = random() % 2;
        if (pressed) e.name = "press", e.detail = "forward: seek", path.note(e), written.push_back(now);
        path.look_at(std::max(Time{}, now - 17_s), 20_s);
        auto words = path.words();
        REQUIRE_FALSE(words.empty());
        for (std::size_t a = 0; a < words.size(); ++a)
            for (std::size_t b = 0; b < a; ++b) CHECK_FALSE(words[a].intersects(words[b]));
        if (pressed || now < 17_s) continue;
        if (!newest) newest = words.back().left();
        CHECK(words.back().left() == Approx(*newest).margin(1));
    }
    CHECK(newest);
    CHECK(path.words().size() < written.size());
    for (auto wall : written) {
        path.look_at(wall - 1_ms, 1_s);
        CHECK_FALSE(path.words().empty());
    }
    path.forget();
    CHECK(path.words().empty());
}

TEST_CASE("Playing on while another step is shown loses nothing", "[workshop][seek]") {
    Shop shop;
    REQUIRE(shop.phase(Phase::ready));
    shop.window.player().controller().play();
    REQUIRE(shop.phase(Phase::playing));
    shop.window.show_step(WorkshopWindow::gather);
    pass(100);
    auto before = shop.now().counters.dropped;
    BareTimer timer;
    pass(1200);
    // How many a slow machine drops and has shown by now is its own affair; that they go on coming is ours.
    CHECK(static_cast<double>(shop.now().counters.dropped - before) <= 1 + timer.stood().seconds() * 30);
    CHECK(soon([&] { return shop.now().counters.presented > 25; }));
}

TEST_CASE("What lies outside the project's folder is packed by a press that says so, and by no other", "[workshop]") {
    Shop shop;
    Folder elsewhere;
    fs::copy_file(fixture("audio_opus.ogg"), elsewhere / "horn.ogg");
    auto& page = shop.window.pack_page();
    auto button = [&](const QString& part) -> QPushButton* {
        for (auto* b : page.findChildren<QPushButton*>())
            if (b->text().startsWith("Pack") && b->text().contains(part)) return b;
        return nullptr;
    };
    REQUIRE(button("Pack"));
    int packed = 0;
    bool fine = true;
    page.on_done = [&](bool ok) { ++packed, fine = ok; };
    shop.window.show_step(WorkshopWindow::pack_step);
    auto d = shop.window.project().document();
    d.sources.push_back({.name = "Horn", .file = (elsewhere / "horn.ogg").string()});
    shop.window.project().change(d, "Horn");
    // Before the page has said it, a press confirms nothing.
    page.pack_into(shop.folder / "early");
    REQUIRE(soon([&] { return packed == 1; }));
    CHECK_FALSE(fine);
    CHECK_FALSE(fs::exists(shop.folder / "early"));
    REQUIRE(soon([&] { return button("one file from outside") != nullptr; }));
    page.pack_into(shop.folder / "app");
    REQUIRE(soon([&] { return packed == 2; }, 20'000));
    CHECK(fine);
    CHECK(fs::exists(shop.folder / "app" / "media" / "horn.ogg"));
}

TEST_CASE("Packing from the window makes an app that starts from any folder and plays the same", "[workshop]") {
    Shop shop;
    auto out = shop.folder / "app";
    bool finished = false, fine = false;
    shop.window.pack_page().on_done = [&](bool ok) { finished = true, fine = ok; };
    shop.window.show_step(WorkshopWindow::pack_step);
    shop.window.pack_page().pack_into(out);
    REQUIRE(soon([&] { return finished; }, 20'000));
    REQUIRE(fine);
    auto moved = shop.folder / "moved elsewhere";
    fs::rename(out, moved);
    fs::current_path("/");
    auto report = shop.folder / "report.json";
    auto command = "'" + (moved / "harbour-lights").string() + "' --check 3s --json > '" + report.string() + "'";
    auto exit = std::system(command.c_str());
    auto said = bytes_of(report);
    INFO(std::string(said.begin(), said.end()));
    REQUIRE(exit == 0);
    auto j = nlohmann::json::parse(said);
    CHECK(j["state"] == "playing");
    CHECK(j["presented"].get<int>() > 10);
    CHECK(j["error"].is_null());
    // The same place again is refused, and nothing is lost.
    finished = false;
    shop.window.pack_page().pack_into(moved);
    REQUIRE(soon([&] { return finished; }));
    CHECK_FALSE(fine);
}

TEST_CASE("A window that goes while a name is being typed takes the name over first", "[workshop]") {
    auto shop = std::make_unique<Shop>();
    auto& project = shop->window.project();
    std::string named;
    QObject::connect(&project, &Project::changed, [&] { named = project.document().app_name; });
    shop->window.show_step(WorkshopWindow::pack_step);
    shop->window.activateWindow();
    REQUIRE(soon([&] { return shop->window.isActiveWindow(); }, 5000));
    auto* name = shop->window.pack_page().findChild<QLineEdit*>();
    REQUIRE(name);
    name->setFocus();
    name->end(false);
    QTest::keyClicks(name, " at night");
    shop.reset();
    CHECK(named == "Harbour Lights at night");
}

TEST_CASE("Nothing is cut off or covered from 1024 x 640 on, and every button can be named", "[workshop]") {
    Shop shop;
    for (auto size : {QSize(1280, 800), QSize(1024, 640)})
        for (int step :
             {WorkshopWindow::gather, WorkshopWindow::arrange, WorkshopWindow::prepare, WorkshopWindow::pack_step}) {
            shop.window.show_step(step);
            shop.window.resize(size);
            pass(200);
            INFO(size.width() << " x " << size.height() << ", step " << step);
            CHECK(shop.window.size() == size);
            std::vector<std::pair<QRect, QString>> places;
            for (auto* b : shop.window.findChildren<QPushButton*>()) {
                if (!b->isVisible()) continue;
                INFO(b->text().toStdString() << b->accessibleName().toStdString());
                // What is drawn round the ring has its words beside it, and a name.
                CHECK_FALSE((b->text().isEmpty() && b->accessibleName().isEmpty()));
                CHECK(b->height() >= 24);
                CHECK(b->fontMetrics().horizontalAdvance(b->text()) <= b->width());
                // What is in a list that scrolls may lie outside.
                bool scrolls = false;
                for (auto* w = b->parentWidget(); w; w = w->parentWidget())
                    scrolls = scrolls || qobject_cast<QAbstractScrollArea*>(w);
                if (scrolls) continue;
                QRect place(b->mapTo(&shop.window, QPoint()), b->size());
                CHECK(shop.window.rect().contains(place));
                for (auto& [other, name] : places) {
                    INFO("beside " << name.toStdString());
                    CHECK_FALSE(other.intersects(place));
                }
                places.emplace_back(place, b->text());
            }
        }
}

TEST_CASE("An empty project begins with what can be done, and one with sources with its player", "[workshop]") {
    PlaybackHost host;
    WorkshopWindow window(host);
    window.show();
    auto* pages = window.findChild<QStackedWidget*>();
    REQUIRE(pages);
    auto begins = [&](const char* words) {
        auto all = window.findChildren<QPushButton*>();
        return std::count_if(all.begin(), all.end(),
                             [&](auto* b) { return b->isVisible() && b->text().startsWith(words); });
    };
    CHECK(pages->currentIndex() == WorkshopWindow::gather);
    CHECK(begins("Choose files") == 1);
    window.show_step(WorkshopWindow::arrange);
    CHECK(begins("Choose files") == 1);
    window.show_step(WorkshopWindow::gather);
    Folder folder;
    PlayerDocument d;
    d.sources.push_back({});
    d.sources[0].name = "A", d.sources[0].file = fixture("vp9_opus.webm");
    done(save_document(d, folder / "p.ruedo"));
    REQUIRE(window.open_project(folder / "p.ruedo"));
    CHECK(pages->currentIndex() == WorkshopWindow::arrange);
    CHECK(begins("Choose files") == 0);
    window.project().start_new();
    CHECK(pages->currentIndex() == WorkshopWindow::gather);
    CHECK(begins("Choose files") == 1);
}
