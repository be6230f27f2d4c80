// SPDX-License-Identifier: GPL-3.0-or-later
// Prepare, driven in the workshop's window.
#include <QDBusConnection>
#include <QDBusMessage>
#include <QDBusVirtualObject>
#include <QProcess>
#include <QTest>
#include <QWheelEvent>

#include "conversions.h"
#include "timing.h"
#include "window_support.h"
#include "workshop/facts.h"
#include "workshop/notice.h"
#include "workshop/pack_page.h"
#include "workshop/path_chart.h"
#include "workshop/prepare_page.h"
#include "workshop/shelf.h"
#include "workshop/window.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Kitchen {
    Folder folder;
    PlaybackHost host{false};
    QByteArray before_ = qgetenv("XDG_STATE_HOME");
    std::unique_ptr<WorkshopWindow> window;
    explicit Kitchen(const char* target = "handset-basic",
                     std::initializer_list<const char*> files = {"vp9_small.webm"}) {
        qputenv("XDG_STATE_HOME", QByteArray::fromStdString((folder / "state").string()));
        window = std::make_unique<WorkshopWindow>(host);
        PlayerDocument d;
        d.target = target;
        for (auto file : files) {
            fs::copy_file(fixture(file), folder / file);
            SourceSpec s;
            s.name = s.file = file;
            d.sources.push_back(s);
        }
        done(save_document(d, folder / "k.ruedo"));
        window->show();
        REQUIRE(window->open_project(folder / "k.ruedo"));
        window->show_step(WorkshopWindow::prepare);
    }
    ~Kitchen() {
        window.reset();
        qputenv("XDG_STATE_HOME", before_);
    }
    PreparePage& page() { return window->prepare_page(); }
    bool told() {
        return soon([&] { return !page().keys().isEmpty(); });
    }
    Pairing& pairing() { return page().before_after().pairing(); }
    /// Pictures of both stand there.
    bool seen() {
        return soon([&] { return page().sample_encode() && page().wipe().both(); });
    }
    std::vector<Job> jobs() { return page().cards().queue().list(); }
    QPushButton* button(const QString& words) {
        for (auto* b : window->findChildren<QPushButton*>())
            if (b->text() == words && b->isVisible()) return b;
        return nullptr;
    }
    const SourceSpec& source(std::size_t i = 0) { return window->project().document().sources.at(i); }
    bool tried() {
        return soon([&] { return page().sample_encode() != nullptr; });
    }
};
}  // namespace

TEST_CASE("What a source becomes is told, tried on its hardest seconds, and changed word by word", "[prepare]") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.told());
    CHECK(page.plain_text().contains("become H.264"));
    CHECK(page.plain_text().contains("Handset, basic"));
    CHECK(page.plain_text().contains("does not take VP9"));
    // The source itself is seen long before anything was made of it.
    bool early = false;
    REQUIRE(soon([&] {
        early = early || (page.wipe().has_before() && !page.sample_encode());
        return page.sample_encode() != nullptr;
    }));
    CHECK(early);
    auto first = page.sample_encode();
    CHECK(first->likeness.frames > 100);
    CHECK(page.strip().words_at(400).contains("similarity"));
    // Coarser is smaller and less alike; taken back it is as it was.
    REQUIRE(page.choose("quality", "much lower than default"));
    REQUIRE(soon([&] { return page.sample_encode() && page.sample_encode() != first; }));
    CHECK(page.sample_encode()->made.bytes < first->made.bytes);
    CHECK(page.sample_encode()->likeness.ssim_y < first->likeness.ssim_y);
    CHECK(page.plain_text().contains("much lower than default"));
    CHECK_FALSE(page.type("quality", "many"));
    REQUIRE(page.type("quality", "0.2"));
    REQUIRE(soon([&] { return page.plain_text().contains("to fit into 0.2 MB"); }));
    auto second = page.sample_encode();
    REQUIRE(soon([&] {
        return page.sample_encode() && page.sample_encode() != second && page.sample_encode()->whole_bytes == 200'000;
    }));
    // The line goes where a hand or a key puts it.
    auto& wipe = page.wipe();
    wipe.set_line(0.5);
    QTest::keyClick(&wipe, Qt::Key_Right);
    CHECK(wipe.line() > 0.5);
    press(&wipe, {wipe.width() * 0.25, wipe.height() / 2.0});
    CHECK(wipe.line() < 0.4);
    press(&page.strip(), {page.strip().width() * 0.5, 30});
}

TEST_CASE("The first pictures of a trial can be compared before the rest of it is done, which says how far it is",
          "[prepare]") {
    Kitchen k("handset-basic", {"h264_high_aac.mp4"});
    REQUIRE(k.told());
    k.page().change([](Recipe& r) { r.video.codec = Codec::vp9, r.video.effort = 2, r.container_format = "webm"; });
    QStringList sums;
    bool compared_before = false;
    REQUIRE(soon([&] {
        if (sums.isEmpty() || sums.back() != k.page().sum()) sums << k.page().sum();
        compared_before = compared_before || (!k.page().sample_encode() && k.page().wipe().both());
        return k.page().sample_encode() && k.page().wipe().both();
    }));
    CHECK(compared_before);
    CHECK(sums.filter(QRegularExpression("Testing the hardest 4 seconds: \\d+ %")).size() > 1);
    CHECK(sums.back().contains("estimated from the hardest"));
}

TEST_CASE("Choices of every word of a recipe can be carried out, or says why not", "[prepare]") {
    Kitchen k("open-web-view", {"text_webvtt.mkv"});
    auto& page = k.page();
    REQUIRE(k.told());
    int changed = 0;
    // The ends and the middle of each list: a trial begins with every one of them.
    auto some_of = [](const QStringList& all) {
        QStringList some{all.front()};
        if (all.size() > 2) some << all[all.size() / 2];
        if (all.size() > 1) some << all.back();
        return some;
    };
    for (auto& key : page.keys())
        for (auto& label : some_of(page.options(key))) {
            INFO(key.toStdString() << ": " << label.toStdString());
            REQUIRE(soon([&] { return page.settled(); }));
            auto before = page.plain_text();
            auto changes = page.changes();
            REQUIRE(page.choose(key, label));
            if (page.changes() == changes) continue;  // it was so already
            REQUIRE(soon([&] { return page.settled(); }));
            ++changed;
            // There are words to go on from, or a sentence that says why not.
            CHECK((!page.keys().isEmpty() || page.plain_text().contains(".")));
            auto* back = control(&page, "Undo the last change");
            REQUIRE(back);
            CHECK(back->isVisible());
            click(back);
            REQUIRE(soon([&] { return page.settled() && page.plain_text() == before; }));
        }
    CHECK(changed > 8);
}

TEST_CASE("The whole is made as a card along the foot, and comes onto the shelf", "[prepare]") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.told());
    page.make();
    auto jobs = [&] { return page.cards().queue().list(); };
    REQUIRE(jobs().size() == 1);
    CHECK(jobs().at(0).out == k.folder / "vp9_small for handset-basic.mp4");
    page.make();  // another one gets a name of its own
    CHECK(jobs().at(1).out == k.folder / "vp9_small for handset-basic 2.mp4");
    REQUIRE(soon(
        [&] {
            auto all = jobs();
            return std::all_of(all.begin(), all.end(), [](auto& j) { return j.state == Job::State::done; });
        },
        240'000));
    CHECK(fs::exists(k.folder / "vp9_small for handset-basic.mp4"));
    QPushButton* shelve = nullptr;
    REQUIRE(soon([&] {
        for (auto* b : page.cards().findChildren<QPushButton*>())
            if (b->text() == "Add to the shelf" && b->isVisible()) shelve = b;
        return shelve != nullptr;
    }));
    shelve->click();
    CHECK(soon([&] { return k.window->project().document().sources.size() == 2; }));
    // A ladder that waited in the queue comes there by its first list, and there is nothing to compare it with.
    LadderRecipe ladder;
    ladder.rungs = {{96, 54, 90'000}};
    (void)value(page.cards().queue().add_ladder(tiny("ladder.mp4").string(), k.folder / "ladder", ladder));
    page.cards().look();
    QWidget* card = nullptr;
    REQUIRE(soon(
        [&] {
            for (auto* w : page.cards().findChildren<QWidget*>())
                if (w->accessibleName().startsWith("ladder: ")) card = w;
            return card && jobs().back().state == Job::State::done;
        },
        240'000));
    auto press_of = [&](const char* words) {
        for (auto* b : card->findChildren<QPushButton*>())
            if (b->text() == words) return b;
        return static_cast<QPushButton*>(nullptr);
    };
    REQUIRE(soon([&] { return press_of("Add to the shelf")->isVisible(); }));
    CHECK(!press_of("Compare")->isVisible());
    press_of("Add to the shelf")->click();
    auto& sources = k.window->project().document().sources;
    REQUIRE(soon([&] { return sources.size() == 3; }));
    CHECK(open_clip(resolve(sources.back(), k.folder.path)).value()->stream());
    // A window that is closed leaves what was under way to the next start.
    Recipe slow;
    slow.video.action = Recipe::Do::encode, slow.video.effort = 2;
    auto job = value(page.cards().queue().add(fixture("h264_high_aac.mp4").string(), k.folder / "slow.webm", slow));
    page.cards().look();
    REQUIRE(soon([&] { return jobs().back().state == Job::State::running || jobs().back().over(); }));
    auto folder = page.cards().queue().folder();
    k.window.reset();
    auto left = JobQueue(folder).list().back();
    CHECK((left.id == job.id && (left.state == Job::State::waiting || left.state == Job::State::done)));
}

TEST_CASE("Both play and step locked to each other, round and round", "[prepare][seek]") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.seen());
    auto& pairing = k.pairing();
    auto& t = *page.sample_encode();
    std::vector<Time> times;
    for (auto& p : t.likeness.places) times.push_back(p.at);
    auto stands = [&](std::size_t i) { return soon([&] { return pairing.place() == times.at(i); }); };
    pairing.show(times[40]);
    REQUIRE(stands(40));
    pairing.step(1);
    CHECK(stands(41));
    for (int i = 0; i < 5; ++i) pairing.step(-1);
    CHECK(stands(36));
    // Further back than is kept, and to both ends.
    pairing.step(-36);
    CHECK(stands(0));
    pairing.step(-3);
    CHECK(stands(0));
    pairing.step(2);
    CHECK(stands(2));
    pairing.show(t.to + 5_s);
    CHECK(stands(times.size() - 1));
    pairing.step(4);
    // From the last picture it goes on at the first.
    bool wrapped = false;
    auto before = pairing.shown_pairs();
    page.before_after().toggle();
    CHECK(pairing.playing());
    CHECK(soon([&] {
        wrapped = wrapped || pairing.place() < times[20];
        return wrapped && pairing.shown_pairs() > before + 20;
    }));
    key(&page.strip(), Qt::Key_Right);  // a picture on, held
    CHECK_FALSE(pairing.playing());
    auto held = pairing.place();
    pass(120);
    CHECK(std::find(times.begin(), times.end(), pairing.place()) != times.end());
    CHECK(pairing.place() >= held);
    // From where playing was held one goes on picture by picture, whatever had been read ahead.
    for (int i = 0; i < 6; ++i) {
        auto shown = pairing.shown_pairs();
        pairing.play();
        REQUIRE(soon([&] { return pairing.shown_pairs() > shown + 2 + static_cast<std::uint64_t>(i) % 3; }));
        pairing.hold();
        pass(60);
        auto at = std::find(times.begin(), times.end(), pairing.place());
        REQUIRE(at != times.end());
        auto number = static_cast<std::size_t>(at - times.begin());
        if (number + 1 == times.size()) continue;
        pairing.step(1);
        CHECK(stands(number + 1));
        pairing.step(-2);
        CHECK(stands(number == 0 ? 0 : number - 1));
    }
    // Leaving the page holds it.
    pairing.play();
    k.window->show_step(WorkshopWindow::gather);
    CHECK_FALSE(pairing.playing());
}

TEST_CASE("Either is heard, the louder one turned down to the other", "[prepare]") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.tried());
    auto first = page.sample_encode();
    REQUIRE(page.choose("loudness", "at -14 LUFS"));
    REQUIRE(soon([&] { return page.sample_encode() && page.sample_encode() != first && page.wipe().both(); }));
    auto clip = open("vp9_small.webm");
    auto was = value(gather_facts(clip, CodecRegistry::standard())).loudness->integrated;
    INFO(was << " LUFS");
    auto& pairing = k.pairing();
    auto louder = was < -14 ? Pairing::AudibleSide::after : Pairing::AudibleSide::before;
    pairing.play();
    REQUIRE(soon([&] { return pairing.turned_down(louder) > 0; }));
    CHECK(pairing.turned_down(louder) == Approx(std::abs(was + 14)).margin(2));
    auto other = louder == Pairing::AudibleSide::after ? Pairing::AudibleSide::before : Pairing::AudibleSide::after;
    CHECK(pairing.turned_down(other) == 0);
    auto& looks = page.before_after();
    for (auto* word : {"original audio", "no audio", "converted audio"}) {
        auto shown = pairing.shown_pairs();
        looks.pick(word);
        CHECK(pairing.playing());
        CHECK(soon([&] { return pairing.shown_pairs() > shown + 3; }));
    }
    CHECK(pairing.heard() == Pairing::AudibleSide::after);
}

TEST_CASE("Under a line, side by side or as their difference, whole or so large that pixels are seen", "[prepare]") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.seen());
    auto& wipe = page.wipe();
    auto& looks = page.before_after();
    CHECK(looks.words().size() == 9);
    auto dark = [](const QImage& image) {
        std::int64_t sum = 0;
        for (int y = 60; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x) sum += qGray(image.pixel(x, y));
        return sum / std::max(1, (image.height() - 60) * image.width());
    };
    auto plain = dark(wipe.grab().toImage());
    looks.pick("difference");
    CHECK(wipe.seen() == Wipe::Comparing::difference);
    CHECK(soon([&] { return dark(wipe.grab().toImage()) < plain / 2; }));
    looks.pick("beside");
    // A hand moves both.
    for (auto* seen : {"beside", "line", "difference"}) {
        looks.pick(seen);
        looks.pick("four");
        CHECK(wipe.zoom() == 4);
        auto at = wipe.centre();
        QPointF from(wipe.width() * 0.7, wipe.height() * 0.4);
        press(&wipe, from, Qt::RightButton);
        move(&wipe, from + QPointF(-40, 24), Qt::RightButton);
        let_go(&wipe, from + QPointF(-40, 24));
        INFO(seen);
        CHECK(std::abs(wipe.centre().x() - at.x() - 10) < 0.01);
        CHECK(std::abs(wipe.centre().y() - at.y() + 6) < 0.01);
        looks.pick("pixels");
        CHECK(wipe.zoom() == 1);
        looks.pick("whole");
        CHECK(wipe.zoom() == 0);
    }
    // What lies under the pointer stays there, and beyond the edge there is nothing to go to.
    looks.pick("line");
    auto wheel = [&](QPointF at, int by) {
        QWheelEvent e(at, wipe.mapToGlobal(at), {}, {0, by}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase, false);
        QApplication::sendEvent(&wipe, &e);
    };
    for (int i = 0; i < 12; ++i) wheel({1, 1}, 120);
    auto zoom = wipe.zoom();
    CHECK(zoom > 2);
    auto corner = wipe.centre();
    CHECK(corner.x() * zoom < wipe.width());
    for (int i = 0; i < 40; ++i) key(&wipe, Qt::Key_Up);
    CHECK(wipe.centre().y() * zoom == Approx(wipe.height() / 2.0).margin(2));
    for (int i = 0; i < 40; ++i) wheel({300, 200}, -120);
    CHECK(wipe.zoom() == 0);
    key(&wipe, Qt::Key_Plus);
    CHECK(wipe.zoom() > 0);
}

TEST_CASE("Runs are kept, laid over each other, and taken up again", "[prepare]") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.tried());
    auto keep = [&] { click(control(&page, "Keep this result")); };
    keep();
    CHECK_FALSE(control(&page, "Keep this result")->isEnabled());
    CHECK_FALSE(page.runs().isVisible());
    auto first = page.sample_encode();
    REQUIRE(page.choose("quality", "much lower than default"));
    REQUIRE(soon([&] { return page.sample_encode() && page.sample_encode() != first; }));
    CHECK(page.runs().isVisible());
    REQUIRE(page.runs().runs().size() == 2);
    keep();
    auto& runs = page.runs();
    REQUIRE(runs.runs().size() == 2);
    // Larger stands to the right, more alike higher.
    auto fine = runs.point_of(0), coarse = runs.point_of(1);
    CHECK((fine.x() > coarse.x() && fine.y() < coarse.y()));
    CHECK(runs.runs()[1].words.contains("much lower"));
    press(&runs, fine);
    REQUIRE(soon([&] { return page.settled() && page.plain_text().contains("at default quality"); }));
    key(&runs, Qt::Key_Left);
    REQUIRE(soon([&] { return page.settled() && page.plain_text().contains("much lower than default"); }));
    // The recipe is part of the project, and so of its history.
    CHECK(k.source().prepared_for("handset-basic")->recipe.has_value());
    k.window->project().undo(), k.window->project().undo(), k.window->project().undo();
    CHECK((!k.source().prepared_for("handset-basic") || !k.source().prepared_for("handset-basic")->recipe));
}

TEST_CASE("Everything on the shelf at once: what is made of it, why, and by one press", "[prepare]") {
    Kitchen k("handset-basic", {"vp9_small.webm", "h264_high_aac.mp4", "encrypted_encv.mp4"});
    auto& page = k.page();
    click(k.button("All sources"));
    auto& table = page.table();
    REQUIRE(soon([&] { return table.lines().size() == 3 && table.settled(); }));
    auto& lines = table.lines();
    CHECK(lines[0].target_report.what == TargetReport::What::converted);
    CHECK(lines[1].target_report.what == TargetReport::What::converted);
    CHECK(lines[2].target_report.what == TargetReport::What::refused);
    CHECK((lines[0].target_report.bytes_after > 0 && lines[0].target_report.took.ns > 0));
    CHECK(table.summary().contains("2 are converted, one is refused"));
    CHECK(k.window->shelf().sentence_of(0).contains("Plays after conversion"));
    click(k.button("Convert the 2 missing ones"));
    CHECK(k.jobs().size() == 2);
    CHECK(k.jobs()[0].estimated_bytes > 0);
    REQUIRE(soon([&] { return k.button("All converted") != nullptr; }, 60'000));
    CHECK((lines[0].target_report.made && lines[1].target_report.made));
    for (std::size_t i = 0; i < 2; ++i) {
        auto* made = k.source(i).prepared_for("handset-basic");
        REQUIRE(made);
        CHECK(fs::exists(k.folder / made->file));
    }
    // From now on that is what plays there, and the card says so; for another target it is the source itself.
    CHECK(soon([&] { return k.window->shelf().sentence_of(0).contains("vp9_small for handset-basic.mp4"); }));
    CHECK(k.window->screen().document().sources[0].file == "vp9_small for handset-basic.mp4");
    auto d = k.window->project().document();
    d.target = "desktop";
    k.window->project().change(d, "Target");
    CHECK(k.window->screen().document().sources[0].file == "vp9_small.webm");
    CHECK(soon([&] { return table.summary().contains("unchanged"); }));
    // A press on one of them goes back to it.
    table.on_source(1);
    CHECK(k.window->project().current() == 1);
    CHECK(soon([&] { return page.plain_text().contains("H.264"); }));
}

TEST_CASE("Cards say what came against what was foretold, are ordered by hand, and tried again", "[prepare]") {
    Kitchen k;
    auto& page = k.page();
    auto& cards = page.cards();
    Recipe quick;
    quick.video.action = Recipe::Do::encode, quick.video.codec = Codec::vp8, quick.video.effort = 0, quick.to = 1_s;
    auto in = (k.folder / "vp9_small.webm").string();
    Job estimated;
    estimated.estimated_bytes = 54321, estimated.estimated = 2_s;
    auto bad = value(cards.queue().add((k.folder / "gone.webm").string(), k.folder / "0.webm", quick));
    auto good = value(cards.queue().add(in, k.folder / "1.webm", quick, {}, estimated));
    cards.look();
    auto state = [&](std::uint64_t id) {
        for (auto& j : cards.shown())
            if (j.id == id) return j.state;
        return Job::State::waiting;
    };
    REQUIRE(soon([&] { return state(good.id) == Job::State::done && state(bad.id) == Job::State::failed; }));
    auto card = [&](std::uint64_t id) {
        auto name = text(std::to_string(id == good.id ? 1 : 0) + ".webm: ");
        for (auto* w : cards.findChildren<QFrame*>())
            if (w->accessibleName().startsWith(name)) return w;
        FAIL("there is no card");
        return static_cast<QFrame*>(nullptr);
    };
    CHECK(card(good.id)->accessibleName().contains("Estimate: 54 kB in 0:02"));
    CHECK(card(bad.id)->accessibleName().contains("gone.webm"));
    // Held against what it was made of.
    page.compare(cards.shown().at(0).id == good.id ? cards.shown()[0] : cards.shown()[1]);
    REQUIRE(soon([&] { return page.sum().contains("as converted") && page.wipe().both(); }));
    CHECK(page.sum().contains("the estimate was 54 kB"));
    CHECK(page.strip().words_at(300).contains("similarity"));
    REQUIRE(k.told());
    // What failed is tried again once what it lacked is there.
    fs::copy_file(in, k.folder / "gone.webm");
    click(k.button("Try again"));
    REQUIRE(soon([&] { return state(bad.id) == Job::State::done; }));
    // Three that rest are put into another order; none is made before it rests.
    auto slow = quick;
    slow.video.effort = 2, slow.to.reset();
    std::vector<std::uint64_t> ids;
    for (int i = 0; i < 3; ++i) {
        auto job = value(cards.queue().add(in, k.folder / ("w" + std::to_string(i) + ".webm"), slow));
        done(cards.queue().pause(job.id));
        ids.push_back(job.id);
    }
    cards.look();
    auto order = [&] {
        std::vector<std::uint64_t> list;
        for (auto& j : cards.shown())
            if (!j.over()) list.push_back(j.id);
        return list;
    };
    REQUIRE(soon([&] { return order() == ids; }));
    auto resting = [&](int i) {
        for (auto* w : cards.findChildren<QFrame*>())
            if (w->accessibleName().startsWith(QString("w%1.webm: ").arg(i))) return w;
        FAIL("there is no card");
        return static_cast<QFrame*>(nullptr);
    };
    auto* first = resting(0);
    REQUIRE(soon([&] { return resting(1)->x() >= first->x() + first->width() && resting(2)->x() > resting(1)->x(); }));
    press(first, {20, 20});
    move(first, {20 + 1.6 * first->width(), 20}, Qt::LeftButton);
    let_go(first, {20, 20});
    REQUIRE(soon([&] { return order() == std::vector{ids[1], ids[0], ids[2]}; }));
    key(resting(0), Qt::Key_Left, Qt::ControlModifier);
    CHECK(soon([&] { return order() == ids; }));
    for (auto id : ids) done(cards.queue().stop(id));
    cards.look();
    CHECK(soon([&] { return order().empty() && state(ids[0]) == Job::State::stopped; }));
    CHECK(cards.unfinished() == 0);
}

TEST_CASE("Findings of a source lead to the recipe that mends them", "[prepare]") {
    Kitchen k("desktop", {"rotate90.mp4", "h264_high_aac.mp4"});
    k.window->show_step(WorkshopWindow::gather);
    auto& facts = k.window->facts();
    REQUIRE(soon([&] { return !facts.fixable().empty(); }));
    CHECK(facts.fixable() == std::vector<std::string>{"index-at-end", "rotated"});
    facts.on_fix("rotated");
    auto recipe = [&](std::size_t i) {
        auto* p = k.source(i).prepared_for("desktop");
        return p ? p->recipe : std::nullopt;
    };
    REQUIRE(soon([&] { return recipe(0).has_value(); }));
    CHECK(recipe(0)->video.shape == Recipe::Shape::bake);
    CHECK(soon([&] { return k.page().settled() && k.page().plain_text().contains("become"); }));
    // The licence of the packed app is another one once the sound is.
    k.window->pack_page().on_fix(1, "aac-licence");
    REQUIRE(soon([&] { return recipe(1).has_value(); }));
    CHECK(recipe(1)->audio.codec == Codec::opus);
    // Nothing to be fixed: what becomes of it is told.
    facts.on_fix("");
    CHECK(k.page().isVisible());
}

TEST_CASE("What the target does not take is played converted as it goes, with the converter in front", "[prepare]") {
    Kitchen k;
    k.window->show_step(WorkshopWindow::arrange);
    auto& sentences = k.window->sentences();
    REQUIRE(soon([&] { return sentences.remarked() && sentences.remarked()->presses.size() == 2; }));
    CHECK(sentences.findings_text().contains("VP9 is not among what it takes"));
    CHECK_FALSE(sentences.findings_text().contains("Nothing stands in the way"));
    CHECK_FALSE(k.window->plays_through());
    std::function(sentences.remarked()->presses[0].second)();
    CHECK(k.window->plays_through());
    CHECK(sentences.findings_text().contains("converted for Handset, basic while it plays"));
    auto& player = k.window->player();
    REQUIRE(soon([&] { return player.snapshot().state.phase == Phase::ready; }));
    player.controller().play();
    CHECK(soon([&] { return player.snapshot().converted_to.value_or(Time{}) > 1_s && k.window->path().made() > 3; }));
    CHECK(player.snapshot().converted_to.value() >= player.snapshot().position);
    player.controller().pause();
    std::function(sentences.remarked()->presses[0].second)();
    CHECK_FALSE(k.window->plays_through());
    CHECK(soon([&] {
        auto s = player.snapshot();
        return s.state.phase == Phase::ready && !s.converted_to;
    }));
}

TEST_CASE("Leaving while something is being made asks, and the desktop hears of what is done", "[prepare]") {
    // A bus of its own, with somebody on it who takes notifications.
    OwnBus bus;
    auto& address = bus.address;
    auto before = qgetenv("DBUS_SESSION_BUS_ADDRESS");
    qputenv("DBUS_SESSION_BUS_ADDRESS", address.toUtf8());
    struct Desktop : QDBusVirtualObject {
        QStringList heard;
        QString introspect(const QString&) const override { return {}; }
        bool handleMessage(const QDBusMessage& message, const QDBusConnection& on) override {
            if (message.member() != "Notify") return false;
            heard << message.arguments().at(3).toString() + ": " + message.arguments().at(4).toString();
            on.send(message.createReply(1U));
            return true;
        }
    } desktop;
    {
        auto there = QDBusConnection::connectToBus(address, "desktop");
        REQUIRE(there.isConnected());
        REQUIRE(there.registerService("org.freedesktop.Notifications"));
        REQUIRE(there.registerVirtualObject("/org/freedesktop/Notifications", &desktop));
        notify_desktop("heading", "a < b");
        CHECK(soon([&] { return desktop.heard.contains("heading: a &lt; b"); }));
        Kitchen k;
        Recipe slow;
        slow.video.action = Recipe::Do::encode, slow.to = 3_s;
        auto in = fixture("vp9_opus.webm").string();
        auto& cards = k.page().cards();
        (void)value(cards.queue().add(in, k.folder / "slow.webm", slow));
        cards.look();
        REQUIRE(soon([&] { return cards.unfinished() == 1; }));
        std::size_t asked = 0;
        bool leave = false;
        k.window->ask_to_leave = [&](std::size_t unfinished) {
            asked += unfinished;
            return leave;
        };
        CHECK_FALSE(k.window->close());
        CHECK(asked == 1);
        CHECK(k.window->isVisible());
        // Nobody looks at it while it ends.
        QWidget other;
        other.show(), other.activateWindow();
        REQUIRE(soon([&] { return cards.unfinished() == 0; }, 90'000));
        CHECK(soon([&] {
            return std::any_of(desktop.heard.begin(), desktop.heard.end(),
                               [](auto& said) { return said.startsWith("“slow.webm” is ready"); });
        }));
        leave = true;
        CHECK(k.window->close());
        CHECK(asked == 1);  // nothing was under way any more
        there.unregisterObject("/org/freedesktop/Notifications");
    }
    QDBusConnection::disconnectFromBus("desktop");
    before.isNull() ? qunsetenv("DBUS_SESSION_BUS_ADDRESS") : qputenv("DBUS_SESSION_BUS_ADDRESS", before);
}

TEST_CASE("The picture that stands there is kept as a poster, the sharpest near it, or cut to what it is seen in",
          "[prepare]") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.seen());
    auto at = page.sample_encode()->likeness.places.at(20).at;
    page.keep_poster(at, PreparePage::Poster::as_it_is);
    CHECK(k.source().poster_at == at);
    page.keep_poster(at, PreparePage::Poster::sharpest);
    REQUIRE(soon([&] { return page.note().contains("sharpest"); }));
    auto sharp = k.source().poster_at.value();
    CHECK((sharp >= at - 500_ms - 40_ms && sharp <= at + 500_ms));
    auto shape = shape_of(Mount::window);
    for (int i = 0; i < 2; ++i) {
        auto wanted = i ? "vp9_small poster 2.png" : "vp9_small poster.png";
        page.keep_poster(at, PreparePage::Poster::cut);
        REQUIRE(soon([&] { return k.source().poster == wanted; }));
        CHECK(QImage(text((k.folder / wanted).string())).size() == QSize(shape.width, shape.height));
        CHECK_FALSE(k.source().poster_at);
    }
    page.make_sheet();
    REQUIRE(soon([&] { return page.note().contains("vp9_small sheet.png"); }));
    CHECK(QImage(text((k.folder / "vp9_small sheet.png").string())).width() > 4 * 300);
    k.window->project().undo();
    CHECK(k.source().poster == "vp9_small poster.png");
    CHECK(page.before_after().offers().size() == 4);
    // Of a job that is compared it is the source that the job was made of, if that is there.
    Job other;
    other.in = fixture("h264_high_aac.mp4").string(), other.out = fixture("h264_high_aac.mp4");
    page.compare(other);
    page.keep_poster(1_s, PreparePage::Poster::as_it_is);
    CHECK((!k.source().poster_at && page.note().contains("not on the shelf")));
}

TEST_CASE("How alike pictures are is said where they were held against each other, and why not where they were not",
          "[prepare]") {
    CostStrip strip;
    CHECK(strip.alike_in_words().isEmpty());
    auto said = [&](const std::string& action, std::vector<double> likeness) {
        auto sample_encode = std::make_shared<SampleEncode>();
        sample_encode->to = 4_s, sample_encode->made.video.action = action;
        for (auto v : likeness) {
            auto at = 40_ms * static_cast<std::int64_t>(sample_encode->likeness.places.size());
            sample_encode->likeness.places.push_back({.at = at, .ssim_y = v});
        }
        strip.show_sample_encode(sample_encode);
        strip.grab();
        return strip.alike_in_words().toStdString();
    };
    CHECK(said("encoded", {0.99, 0.912, 0.95}) == "from 0.912");
    CHECK(said("encoded", {}).empty());
    CHECK(said("copied", {}) == "the same");
    CHECK(said("none", {}) == "left out");
    // Sound alone is made in no time, which is a second at most.
    Kitchen k;
    auto& page = k.page();
    REQUIRE((k.told() && k.tried()));
    REQUIRE(page.choose("codec", "are left out"));
    REQUIRE(soon([&] { return page.strip().alike_in_words() == "left out"; }));
    CHECK(page.sum().contains("and 0:01 to convert"));
}

TEST_CASE("What can't be copied is not offered as a copy", "[prepare]") {
    Kitchen k("handset-basic", {"vp9_small.webm", "h264_high_aac.mp4"});
    auto& page = k.page();
    REQUIRE(k.told());
    CHECK_FALSE(page.options("codec").contains("are copied unchanged"));
    CHECK_FALSE(page.options("sound").contains("is copied unchanged"));
    k.window->project().set_current(1);
    REQUIRE(soon([&] { return page.settled() && page.options("sound").contains("is copied unchanged"); }));
    CHECK_FALSE(page.options("codec").contains("are copied unchanged"));
    auto d = k.window->project().document();
    d.target = "desktop";
    k.window->project().change(d, "Target");
    REQUIRE(soon([&] { return page.settled() && page.options("codec").contains("are copied unchanged"); }));
}

TEST_CASE("A pair is shown however soon after opening it is asked for, and whatever was asked for before",
          "[prepare]") {
    PlaybackHost host(false);
    Pairing pairing(host);
    std::optional<Time> shown;
    int troubles = 0;
    pairing.on_shown = [&](const Pairing::FramePair& s) { shown = s.at; };
    pairing.on_trouble = [&](const Error&) { ++troubles; };
    auto file = fixture("h264_high_aac.mp4").string();
    auto times = frames_in(file, 5_s);
    std::mt19937 random(9);
    for (int i = 0; i < 60; ++i) {
        pairing.open(Pairing::Subject{file, file, {}, 5_s, {}});
        for (auto n = random() % 3; n > 0; --n) {
            std::this_thread::sleep_for(std::chrono::microseconds(random() % 3000));
            pairing.show(times[random() % times.size()].pts);
        }
        if (random() % 2) pairing.hear(Pairing::AudibleSide::before), pairing.play();
        std::this_thread::sleep_for(std::chrono::microseconds(random() % 3000));
        auto last = times[random() % times.size()].pts;
        INFO(i << ": " << last.ns);
        pairing.show(last);
        REQUIRE(soon([&] { return shown == last; }));
        // Another clip, or none, and then that one again.
        if (i % 3 == 0) pairing.open({});
        shown.reset();
    }
    CHECK(troubles == 0);
    pairing.open(Pairing::Subject{file, fixture("audio.flac").string(), {}, 5_s, {}});
    pairing.show(1_s);
    CHECK(soon([&] { return troubles == 1; }));
}
