// SPDX-License-Identifier: GPL-3.0-or-later
// Prepare, driven in the workshop's window.
#include <QTest>

#include "timing.h"
#include "window_support.h"
#include "workshop/prepare_page.h"
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
                     std::initializer_list<const char*> files = {"vp9_opus.webm"}) {
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
    bool tried() {
        return soon([&] { return page().trial() != nullptr; });
    }
};
}  // namespace

TEST_CASE("what a source becomes is told, tried on its hardest seconds, and changed word by word") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.told());
    CHECK(page.plain_text().contains("become H.264"));
    CHECK(page.plain_text().contains("Handset, basic"));
    CHECK(page.plain_text().contains("does not take VP9"));
    REQUIRE(k.tried());
    auto first = page.trial();
    CHECK(first->likeness.frames > 100);
    CHECK(page.strip().words_at(400).contains("likeness"));
    // Coarser is smaller and less alike; taken back it is as it was.
    REQUIRE(page.choose("quality", "much coarser than usual"));
    REQUIRE(soon([&] { return page.trial() && page.trial() != first; }));
    CHECK(page.trial()->made.bytes < first->made.bytes);
    CHECK(page.trial()->likeness.ssim_y < first->likeness.ssim_y);
    CHECK(page.plain_text().contains("much coarser than usual"));
    CHECK_FALSE(page.type("quality", "many"));
    REQUIRE(page.type("quality", "0.2"));
    REQUIRE(soon([&] { return page.plain_text().contains("to fit into 0.2 MB"); }));
    auto second = page.trial();
    REQUIRE(soon([&] { return page.trial() && page.trial() != second && page.trial()->whole_bytes == 200'000; }));
    // The line goes where a hand or a key puts it.
    auto& wipe = page.wipe();
    wipe.set_line(0.5);
    QTest::keyClick(&wipe, Qt::Key_Right);
    CHECK(wipe.line() > 0.5);
    press(&wipe, {wipe.width() * 0.25, wipe.height() / 2.0});
    CHECK(wipe.line() < 0.4);
    press(&page.strip(), {page.strip().width() * 0.5, 30});
}

TEST_CASE("choices of every word of a recipe can be carried out, or says why not") {
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
        for (auto& label : some_of(page.choices(key))) {
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
            auto* back = control(&page, "Take the last change back");
            REQUIRE(back);
            CHECK(back->isVisible());
            click(back);
            REQUIRE(soon([&] { return page.settled() && page.plain_text() == before; }));
        }
    CHECK(changed > 8);
}

TEST_CASE("the whole is made as a card along the foot, and comes onto the shelf") {
    Kitchen k;
    auto& page = k.page();
    REQUIRE(k.told());
    page.make();
    auto jobs = [&] { return page.cards().queue().list(); };
    REQUIRE(jobs().size() == 1);
    CHECK(jobs().at(0).out == k.folder / "vp9_opus for handset-basic.mp4");
    page.make();  // another one gets a name of its own
    CHECK(jobs().at(1).out == k.folder / "vp9_opus for handset-basic 2.mp4");
    REQUIRE(soon(
        [&] {
            auto all = jobs();
            return std::all_of(all.begin(), all.end(), [](auto& j) { return j.state == Job::State::done; });
        },
        60'000));
    CHECK(fs::exists(k.folder / "vp9_opus for handset-basic.mp4"));
    QPushButton* shelve = nullptr;
    REQUIRE(soon([&] {
        for (auto* b : page.cards().findChildren<QPushButton*>())
            if (b->text() == "Put it on the shelf" && b->isVisible()) shelve = b;
        return shelve != nullptr;
    }));
    shelve->click();
    CHECK(soon([&] { return k.window->project().document().sources.size() == 2; }));
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
