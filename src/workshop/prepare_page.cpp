// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/prepare_page.h"

#include <QCursor>
#include <QLineEdit>
#include <QMenu>
#include <QVBoxLayout>
#include <QWidgetAction>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "picture/picture.h"
#include "view/look.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {
QImage picture_of(const std::string& source, Time at, const std::atomic<bool>& cancel) {
    auto opened = open_clip(source);
    if (!opened) return {};
    std::shared_ptr<Clip> clip(std::move(*opened));
    auto* track = clip->info().main(Kind::video);
    auto reader = track ? PictureReader::open(clip, *track, CodecRegistry::standard())
                        : Result<std::unique_ptr<PictureReader>>(std::unexpected(Error{}));
    auto picture = reader ? (*reader)->at(at, &cancel) : Result<Picture>(std::unexpected(Error{}));
    if (!picture) return {};
    auto image = render(*picture);
    return QImage(image.pixels.data(), image.width, image.height, image.stride(), QImage::Format_RGB32).copy();
}
}  // namespace

PreparePage::PreparePage(Project& project, QWidget* parent) : QWidget(parent), project_(project) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(0);
    auto* upper = new QHBoxLayout;
    upper->setSpacing(0);
    wipe_ = new Wipe;
    upper->addWidget(wipe_, 62);
    auto* beside = new QVBoxLayout;
    beside->setContentsMargins(22, 16, 22, 12);
    text_ = new QTextBrowser;
    text_->setFrameShape(QFrame::NoFrame);
    text_->setOpenLinks(false);
    text_->setAccessibleName("The recipe in sentences");
    sum_ = new QLabel;
    sum_->setWordWrap(true);
    sum_->setAccessibleName("What it comes to");
    make_ = new QPushButton("Make the whole");
    make_->setObjectName("primary");
    undo_ = new QPushButton("Take the last change back");
    undo_->setAccessibleName(undo_->text());
    auto* buttons = new QHBoxLayout;
    buttons->addWidget(make_), buttons->addWidget(undo_), buttons->addStretch(1);
    beside->addWidget(text_, 1), beside->addWidget(sum_), beside->addSpacing(6), beside->addLayout(buttons);
    upper->addLayout(beside, 38);
    strip_ = new CostStrip;
    cards_ = new JobCards(JobQueue::standard_folder());
    box->addLayout(upper, 1), box->addWidget(strip_), box->addWidget(cards_);
    connect(text_, &QTextBrowser::anchorClicked, this,
            [this](const QUrl& url) { open_word(url.toString().section(':', 1)); });
    connect(make_, &QPushButton::clicked, this, [this] { make(); });
    connect(undo_, &QPushButton::clicked, this, [this] {
        auto& all = recipes_[shown_];
        if (!all.empty()) all.pop_back();
        look();
    });
    strip_->on_place = [this](Time at) { show_place(at); };
    cards_->on_shelve = [this](const fs::path& file) {
        if (on_shelve) on_shelve(text(file.string()));
    };
    for (auto signal : {&Project::changed, &Project::current_changed})
        connect(&project_, signal, this, [this] { look(); });
    tell();
}

void PreparePage::showEvent(QShowEvent*) { look(); }

std::string PreparePage::source() const {
    auto& d = project_.document();
    return project_.current() < d.sources.size() ? resolve(d.sources[project_.current()], project_.folder())
                                                 : std::string();
}

/// What is chosen now, and what becomes of it: planned beside the window, and tried.
void PreparePage::look() {
    if (!isVisible()) return;
    auto from = source();
    auto target = project_.document().target.empty() ? std::string("desktop") : project_.document().target;
    auto shown = from + "|" + target;
    if (shown != shown_) {
        shown_ = shown;
        planned_.reset(), trial_.reset(), tried_key_.clear();
        desk_.forget("trial"), desk_.forget("pictures");
        strip_->show_trial({}), wipe_->show_pictures({}, {}, {}), sum_->clear();
        tell();
    }
    if (from.empty()) return;
    auto& before = recipes_[shown_];
    auto recipe = before.empty() ? std::optional<Recipe>() : std::optional(before.back());
    auto key = shown_ + "|" + (recipe ? to_json(*recipe).dump() : std::string());
    asked_ = key;
    desk_.ask(
        "plan", key,
        [from, target, recipe](const std::atomic<bool>& cancel) {
            auto p = std::make_shared<Planned>();
            auto work = [&]() -> Outcome {
                TRY(p->target, find_target(target));
                TRY(auto opened, open_clip(from));
                p->clip = std::move(opened);
                TRY(auto proposal, propose(p->clip, p->target, CodecRegistry::standard(), from, &cancel));
                p->why = std::move(proposal.why);
                p->recipe.wrapper = proposal.recipe.wrapper;
                p->recipe.fit_bytes = proposal.recipe.fit_bytes;
                if (recipe) p->recipe = *recipe;
                auto* wrapper = wrapper_named(p->recipe.wrapper);
                if (!wrapper) return fail(Code::internal, "The container is not known.");
                TRY(p->plan, plan_for(p->clip->info(), p->recipe, *wrapper, CodecRegistry::standard(), &p->target,
                                      from_packets(p->clip, from)));
                TRY(p->hardest, hardest_stretch(*p->clip, 4_s));
                return {};
            };
            if (auto done = work(); !done) p->refused = done.error();
            return p;
        },
        [this, key](std::shared_ptr<Planned> p) {
            answered_ = key;
            planned(std::move(p));
        });
}

void PreparePage::planned(std::shared_ptr<Planned> p) {
    // What can't be carried out is said, and what was tried before stays to be seen.
    if (p->refused) p->plan.reset();
    if (!p->clip && planned_) p->clip = planned_->clip;
    planned_ = std::move(p);
    tell();
    if (planned_->plan) try_it();
}

void PreparePage::tell() {
    told_ = {};
    QString html;
    auto& c = look::colours();
    if (!planned_) {
        html = source().empty() ? QString("<p>Choose a source in Gather; what becomes of it is told here.</p>")
                                : QString("<p style='color:%1;'>It is being looked into …</p>").arg(c.soft.name());
    } else {
        auto& p = *planned_;
        if (p.clip)
            html += QString("<p style='margin:0 0 10px 0; font-weight:600;'>%1</p>")
                        .arg(text(p.clip->info().name).toHtmlEscaped());
        if (p.plan) {
            told_ = tell_recipe(p.recipe, *p.plan, p.clip->info(), p.target, CodecRegistry::standard());
            html += told_.html;
            // Why, as long as nothing was changed by hand.
            auto& by_hand = recipes_[shown_];
            std::vector<std::string> why;
            if (by_hand.empty())
                why = p.why;
            else
                for (auto& f : p.plan->why) why.push_back(f.sentence);
            QStringList said;
            for (auto& s : why) said << text(s).toHtmlEscaped();
            html += QString("<p style='color:%1;'>%2</p>").arg(c.soft.name(), said.join(' '));
        } else if (p.refused) {
            html += QString("<p><span style='color:%1;'>&#9644;</span> %2 %3</p>")
                        .arg(c.rust.name(), text(p.refused->sentence).toHtmlEscaped(),
                             text(p.refused->hint).toHtmlEscaped());
        }
    }
    text_->setHtml(html);
    make_->setEnabled(planned_ && planned_->plan);
    undo_->setVisible(!recipes_[shown_].empty());
}

std::size_t PreparePage::changes() const {
    auto it = recipes_.find(shown_);
    return it == recipes_.end() ? 0 : it->second.size();
}
QStringList PreparePage::keys() const {
    QStringList list;
    for (auto& w : told_.words) list << w.key;
    return list;
}
QStringList PreparePage::choices(const QString& key) const {
    QStringList list;
    if (auto* w = told_.find(key))
        for (auto& c : w->choices) list << c.label;
    return list;
}
bool PreparePage::choose(const QString& key, const QString& label) {
    auto* w = told_.find(key);
    if (!w) return false;
    auto it = std::find_if(w->choices.begin(), w->choices.end(), [&](auto& c) { return c.label == label; });
    if (it == w->choices.end()) return false;
    change(it->take);
    return true;
}
bool PreparePage::type(const QString& key, const QString& typed) {
    auto* w = told_.find(key);
    auto trial = planned_ ? planned_->recipe : Recipe{};
    if (!w || !w->take_typed || !w->take_typed(trial, typed)) return false;
    change([trial](Recipe& r) { r = trial; });
    return true;
}
void PreparePage::change(const std::function<void(Recipe&)>& how) {
    if (!planned_) return;
    auto recipe = planned_->recipe;
    how(recipe);
    if (recipe == planned_->recipe) return;
    recipes_[shown_].push_back(recipe);
    look();
}

void PreparePage::open_word(const QString& key) {
    auto* word = told_.find(key);
    if (!word) return;
    QMenu menu(this);
    for (auto& c : word->choices) {
        auto* a = menu.addAction(c.label);
        a->setCheckable(true), a->setChecked(c.now);
        connect(a, &QAction::triggered, this, [this, key, label = c.label] { choose(key, label); });
    }
    if (word->take_typed) {
        auto* entry = new QLineEdit;
        entry->setPlaceholderText(word->typed);
        entry->setAccessibleName(word->typed);
        auto* action = new QWidgetAction(&menu);
        action->setDefaultWidget(entry);
        menu.addSeparator(), menu.addAction(action);
        connect(entry, &QLineEdit::returnPressed, this, [this, key, entry, &menu] {
            if (type(key, entry->text())) menu.close();
        });
    }
    menu.exec(QCursor::pos());
}

/// The hardest four seconds, as they will be.
void PreparePage::try_it() {
    auto& p = *planned_;
    auto key = shown_ + to_json(p.recipe).dump();
    if (key == tried_key_ && trial_) return;
    desk_.forget("trial");
    auto extension =
        p.plan->wrapper->extensions.empty() ? std::string("bin") : std::string(p.plan->wrapper->extensions.front());
    auto file = fs::path(scratch_.path().toStdString()) / ("trial-" + std::to_string(++number_) + "." + extension);
    TrialOptions o;
    o.recipe = p.recipe, o.target = p.target, o.from = p.hardest, o.file = file;
    sum_->setText(trial_ ? sum_->text() : "Its hardest four seconds are being tried …");
    wipe_->show_pictures({}, {}, "being tried …");
    desk_.ask(
        "trial", key,
        [from = source(), o](const std::atomic<bool>& cancel) mutable {
            o.cancel = &cancel;
            auto made = try_out(from, o, CodecRegistry::standard());
            return made ? std::pair(std::make_shared<const Trial>(std::move(*made)), std::string())
                        : std::pair(std::shared_ptr<const Trial>(), made.error().sentence + " " + made.error().hint);
        },
        [this, file, key](std::pair<std::shared_ptr<const Trial>, std::string> answer) {
            tried_key_ = key;
            std::error_code ec;
            if (!tried_.empty() && tried_ != file) fs::remove(tried_, ec);
            tried_ = file;
            trial_ = answer.first;
            strip_->show_trial(trial_);
            if (!trial_) {
                sum_->setText(text(answer.second));
                return wipe_->show_pictures({}, {}, "it can’t be made so");
            }
            auto& t = *trial_;
            auto sum = QString("%1 The whole will take about %2").arg(text(t.sentence()), bytes_said(t.whole_bytes));
            // A copy is there at once.
            if (t.whole_took.ns > 0)
                sum += QString(", %1 to make. Tried on its hardest %2 seconds")
                           .arg(text(format_clock(t.whole_took)).section('.', 0, 0))
                           .arg((t.to - t.from).seconds(), 0, 'g', 2);
            sum_->setText(sum + ".");
            auto worst = t.likeness.worst(1);
            show_place(worst.empty() ? t.from + (t.to - t.from) / 2 : worst[0].at);
        });
}

void PreparePage::show_place(Time at) {
    if (!trial_) return;
    place_ = at;
    strip_->set_place(at);
    auto inside = std::max(Time{}, at - trial_->from);
    desk_.ask(
        "pictures", tried_.string() + "|" + std::to_string(at.ns),
        [from = source(), file = tried_.string(), at, inside,
         copied = trial_->made.video.action == "copied"](const std::atomic<bool>& cancel) {
            auto before = picture_of(from, at, cancel);
            return std::pair(before, copied ? before : picture_of(file, inside, cancel));
        },
        [this](std::pair<QImage, QImage> both) {
            wipe_->show_pictures(both.first, both.second, both.second.isNull() ? "no pictures" : QString());
        });
}

void PreparePage::make() {
    if (!planned_ || !planned_->plan) return;
    auto& p = *planned_;
    auto stem = fs::path(p.clip->info().name).stem().string();
    auto ending = "." + std::string(p.plan->wrapper->extensions.front());
    fs::path out;
    std::error_code ec;
    auto taken = [&](const fs::path& place) {
        auto jobs = cards_->queue().list();
        return fs::exists(place, ec) ||
               std::any_of(jobs.begin(), jobs.end(), [&](auto& j) { return !j.over() && j.out == place; });
    };
    for (int n = 1; n == 1 || taken(out); ++n)
        out = project_.folder() / (stem + " for " + p.target.name + (n > 1 ? " " + std::to_string(n) : "") + ending);
    auto added = cards_->queue().add(source(), out, p.recipe, p.target.name);
    if (!added) return sum_->setText(text(added.error().sentence) + " " + text(added.error().hint));
    cards_->look();
}

}  // namespace ruedo
