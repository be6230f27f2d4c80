// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/prepare_page.h"

#include <QCursor>
#include <QLineEdit>
#include <QMenu>
#include <QVBoxLayout>
#include <QWidgetAction>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "convert/mends.h"
#include "player/layout.h"
#include "view/look.h"
#include "view/poster.h"

namespace ruedo {
namespace fs = std::filesystem;

PreparePage::PreparePage(Project& project, PlaybackHost& host, QWidget* parent) : QWidget(parent), project_(project) {
    (void)scratch_.make();  // what can’t be written there says so when it is tried
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(0);
    auto* one = new QWidget;
    auto* one_box = new QVBoxLayout(one);
    one_box->setContentsMargins(0, 0, 0, 0);
    one_box->setSpacing(0);
    auto* upper = new QHBoxLayout;
    upper->setSpacing(0);
    before_after_ = new BeforeAfter(host);
    upper->addWidget(before_after_, 62);
    auto* beside = new QVBoxLayout;
    beside->setContentsMargins(22, 12, 22, 10);
    name_ = new look::Label;
    name_->setFont(look::font(look::Size::body, true));
    name_->setWordWrap(true);
    shelf_ = new QPushButton("All sources");
    auto* head = new QHBoxLayout;
    head->addWidget(name_, 1), head->addWidget(shelf_, 0, Qt::AlignTop);
    text_ = new QTextBrowser;
    text_->setFrameShape(QFrame::NoFrame);
    text_->setOpenLinks(false);
    text_->setAccessibleName("Recipe in sentences");
    sum_ = new QLabel;
    sum_->setTextFormat(Qt::RichText);
    sum_->setWordWrap(true);
    sum_->setAccessibleName("Result");
    note_ = new look::Label;
    note_->setWordWrap(true);
    note_->setFont(look::font(look::Size::small));
    note_->setStyleSheet(QString("color:%1;").arg(look::colours().soft.name()));
    note_->hide();
    make_ = new QPushButton("Convert the clip");
    make_->setObjectName("primary");
    keep_ = new QPushButton("Keep this result");
    undo_ = new QPushButton("Undo");
    for (auto* b : {shelf_, keep_}) b->setAccessibleName(b->text());
    undo_->setAccessibleName("Undo the last change");
    runs_ = new RunsChart;
    runs_->hide();
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(8);
    buttons->addWidget(make_), buttons->addWidget(keep_), buttons->addWidget(undo_), buttons->addStretch(1);
    beside->addLayout(head), beside->addWidget(text_, 1), beside->addWidget(sum_), beside->addWidget(runs_);
    beside->addWidget(note_), beside->addSpacing(6), beside->addLayout(buttons);
    upper->addLayout(beside, 38);
    strip_ = new CostStrip;
    one_box->addLayout(upper, 1), one_box->addWidget(strip_);
    table_ = new ShelfTable(project_);
    pages_ = new QStackedWidget;
    pages_->addWidget(one), pages_->addWidget(table_);
    cards_ = new JobCards(JobQueue::standard_folder());
    box->addWidget(pages_, 1), box->addWidget(cards_);
    connect(text_, &QTextBrowser::anchorClicked, this,
            [this](const QUrl& url) { open_word(url.toString().section(':', 1)); });
    connect(sum_, &QLabel::linkActivated, this, [this] {
        tried_key_.clear(), compared_.reset();
        if (planned_ && planned_->plan) return try_it();
        sum_->clear(), strip_->show_sample_encode({}), before_after_->clear();
    });
    connect(make_, &QPushButton::clicked, this, [this] { make(); });
    connect(keep_, &QPushButton::clicked, this, [this] { keep_run(); });
    connect(shelf_, &QPushButton::clicked, this, [this] { show_shelf(true); });
    connect(undo_, &QPushButton::clicked, this, [this] {
        if (project_.can_undo() && project_.undo_text() == "Recipe") return project_.undo();
        auto d = project_.document();
        d.sources.at(project_.current()).prepare_for(target()).recipe.reset();
        project_.change(d, "Recipe");
    });
    strip_->on_place = [this](Time at) { before_after_->pairing().show(at), strip_->set_place(at); };
    before_after_->on_place = [this](Time at) { strip_->set_place(at); };
    before_after_->offers = [this] {
        auto mount = shape_of(project_.document().mount);
        return std::vector<BeforeAfter::Offer>{
            {"Use as the poster", [this](Time at) { keep_poster(at, Poster::as_it_is); }},
            {"Use the sharpest frame nearby as the poster", [this](Time at) { keep_poster(at, Poster::sharpest); }},
            {QString("Use as the poster, cropped to %1 × %2").arg(mount.width).arg(mount.height),
             [this](Time at) { keep_poster(at, Poster::cut); }},
            {"Save a contact sheet of twelve frames", [this](Time) { make_sheet(); }}};
    };
    before_after_->on_plays = [this] {
        if (on_plays) on_plays();
    };
    runs_->on_run = [this](std::size_t run) {
        auto& kept = kept_[shown_];
        if (run < kept.size()) change([recipe = kept[run].recipe](Recipe& r) { r = recipe; });
    };
    table_->on_back = [this] { show_shelf(false); };
    table_->on_source = [this](std::size_t source) { project_.set_current(source), show_shelf(false); };
    table_->is_made = [this](const fs::path& out) { return under_way(out); };
    table_->on_make = [this](const std::vector<ShelfTable::Line>& lines, const Target& target) {
        auto d = project_.document();
        for (auto& l : lines) {
            Job estimated;
            estimated.estimated_bytes = l.target_report.bytes_after, estimated.estimated = l.target_report.took;
            if (!add_job(d, l.source, l.target_report.recipe, target, l.target_report.ending, estimated)) break;
        }
        project_.change(d, "Preparing the shelf");
        cards_->look(), table_->look();
    };
    cards_->on_shelve = [this](const fs::path& file) {
        if (on_shelve) on_shelve(text(file.string()));
    };
    cards_->on_compare = [this](const Job& job) { compare(job); };
    cards_->on_over = [this](const Job& job) {
        // Where it was made for this project, that is played from now on.
        auto& d = project_.document();
        bool ours = std::any_of(d.sources.begin(), d.sources.end(), [&](auto& s) {
            return std::any_of(s.prepared.begin(), s.prepared.end(), [&](auto& p) {
                return !p.file.empty() && resolve(p.file, project_.folder()) == job.out.string();
            });
        });
        if (ours) emit project_.changed();
        if (on_over) on_over(job);
    };
    for (auto signal : {&Project::changed, &Project::current_changed})
        connect(&project_, signal, this, [this] { look(); });
    describe();
}

void PreparePage::showEvent(QShowEvent*) { look(); }
void PreparePage::hideEvent(QHideEvent*) { before_after_->pairing().hold(); }

void PreparePage::show_shelf(bool shelf) {
    before_after_->pairing().hold();
    pages_->setCurrentIndex(shelf);
    look();
}

const SourceSpec* PreparePage::spec() const {
    auto& d = project_.document();
    return project_.current() < d.sources.size() ? &d.sources[project_.current()] : nullptr;
}
std::string PreparePage::source() const { return spec() ? resolve(*spec(), project_.folder()) : std::string(); }
std::string PreparePage::target() const {
    auto& name = project_.document().target;
    return name.empty() ? std::string("desktop") : name;
}

/// What is chosen now, and what becomes of it: planned beside the window, and tried.
void PreparePage::look() {
    if (!isVisible()) return;
    if (pages_->currentWidget() == table_) return table_->look();
    auto from = source();
    auto shown = from + "|" + target();
    if (shown != shown_) {
        shown_ = shown;
        planned_.reset(), sample_encode_.reset(), tried_key_.clear(), compared_.reset();
        tasks_.forget("trial"), tasks_.forget("held");
        strip_->show_sample_encode({}), before_after_->clear(), sum_->clear();
        note_->hide();
        describe();
        show_runs();
    }
    if (from.empty()) return;
    auto* prepared = spec()->prepared_for(target());
    auto recipe = prepared ? prepared->recipe : std::nullopt;
    auto key = shown_ + "|" + (recipe ? to_json(*recipe).dump() : std::string());
    asked_ = key;
    tasks_.ask(
        "plan", key,
        [from, target = target(), recipe,
         known = planned_ ? planned_->known : nullptr](const std::atomic<bool>& cancel) mutable {
            auto p = std::make_shared<Planned>();
            auto work = [&]() -> Status {
                if (!known) {
                    auto fresh = std::make_shared<Known>();
                    RUEDO_TRY(fresh->target, find_target(target));
                    RUEDO_TRY(auto opened, open_clip(from));
                    fresh->clip = std::move(opened);
                    RUEDO_TRY(fresh->proposal,
                              propose(fresh->clip, fresh->target, CodecRegistry::standard(), from, &cancel));
                    RUEDO_TRY(fresh->hardest, hardest_stretch(*fresh->clip, 4_s));
                    known = fresh;
                }
                p->known = known;
                p->recipe.container_format = known->proposal.recipe.container_format;
                p->recipe.fit_bytes = known->proposal.recipe.fit_bytes;
                if (recipe) p->recipe = *recipe;
                auto* container_format = container_format_named(p->recipe.container_format);
                if (!container_format) return fail(ErrorCode::internal, "Unknown container.");
                RUEDO_TRY(p->plan,
                          plan_for(known->clip->info(), p->recipe, *container_format, CodecRegistry::standard(),
                                   &known->target, from_packets(known->clip, from)));
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
    planned_ = std::move(p);
    describe();
    if (auto code = std::exchange(fix_, {}); !code.empty()) return fix(code);
    if (planned_->plan) try_it();
}

void PreparePage::fix(const std::string& finding) {
    auto* row = recipe_fix_for(finding);
    if (!row) return;
    if (!planned_ || !settled()) return void(fix_ = finding);
    if (!planned_->known) return;
    auto changed = changes_;
    change([&](Recipe& r) { row->apply(r, planned_->known->clip->info()); });
    // Nothing has to be said otherwise: it is made so in any case.
    if (changed == changes_ && planned_->plan) try_it();
}

void PreparePage::describe() {
    told_ = {};
    QString html;
    auto& c = look::colours();
    auto* prepared = spec() ? spec()->prepared_for(target()) : nullptr;
    bool by_hand = prepared && prepared->recipe;
    name_->setText(spec() ? text(spec()->name) : QString());
    if (!planned_) {
        html = source().empty() ? QString("<p>Choose a source in Gather to see how it converts.</p>")
                                : QString("<p style='color:%1;'>Analysing …</p>").arg(c.soft.name());
    } else {
        auto& p = *planned_;
        if (p.plan) {
            told_ =
                describe_recipe(p.recipe, *p.plan, p.known->clip->info(), p.known->target, CodecRegistry::standard());
            html += told_.html;
            // Why, as long as nothing was changed by hand.
            std::vector<std::string> why;
            if (!by_hand)
                why = p.known->proposal.why;
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
    undo_->setVisible(by_hand);
    show_runs();
}

QStringList PreparePage::keys() const {
    QStringList list;
    for (auto& w : told_.words) list << w.key;
    return list;
}
QStringList PreparePage::options(const QString& key) const {
    QStringList list;
    if (auto* w = told_.find(key))
        for (auto& c : w->options) list << c.label;
    return list;
}
bool PreparePage::choose(const QString& key, const QString& label) {
    auto* w = told_.find(key);
    if (!w) return false;
    auto it = std::find_if(w->options.begin(), w->options.end(), [&](auto& c) { return c.label == label; });
    if (it == w->options.end()) return false;
    change(it->take);
    return true;
}
bool PreparePage::type(const QString& key, const QString& typed) {
    auto* w = told_.find(key);
    auto sample_encode = planned_ ? planned_->recipe : Recipe{};
    if (!w || !w->take_typed || !w->take_typed(sample_encode, typed)) return false;
    change([sample_encode](Recipe& r) { r = sample_encode; });
    return true;
}
/// What was made by another recipe is no longer what stands for it.
void PreparePage::change(const std::function<void(Recipe&)>& how) {
    if (!planned_ || !spec()) return;
    auto recipe = planned_->recipe;
    how(recipe);
    if (recipe == planned_->recipe) return;
    ++changes_;
    auto d = project_.document();
    auto& prepared = d.sources.at(project_.current()).prepare_for(target());
    prepared.recipe = recipe, prepared.file.clear();
    project_.change(d, "Recipe");
}

void PreparePage::open_word(const QString& key) {
    auto* word = told_.find(key);
    if (!word) return;
    QMenu menu(this);
    for (auto& c : word->options) {
        auto* a = menu.addAction(look::literal(c.label));
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

void PreparePage::compare(const Job& job) {
    if (pages_->currentWidget() == table_) show_shelf(false);
    compared_ = job;
    tasks_.forget("trial");
    before_after_->clear("Comparing with the original …");
    strip_->show_sample_encode({});
    auto file = job.out.filename().string();
    sum_->setText(QString("Comparing “%1” with the original …").arg(text(file).toHtmlEscaped()));
    tasks_.ask(
        "held", std::to_string(job.id) + "|" + std::to_string(++number_),
        [this, job](const BackgroundTasks::Question& question) {
            Time told{};
            auto held = hold_against(
                job.in, job.out, job.recipe.from, CodecRegistry::standard(),
                &static_cast<const std::atomic<bool>&>(question), [&](double part) {
                    if (monotonic_now() - told < 300_ms) return;
                    told = monotonic_now();
                    question.post([this, part] {
                        before_after_->clear(QString("Comparing with the original: %1 %").arg(part * 100, 0, 'f', 0));
                    });
                });
            return held ? std::pair(std::make_shared<const SampleEncode>(std::move(*held)), std::string())
                        : std::pair(std::shared_ptr<const SampleEncode>(),
                                    held.error().sentence + " " + held.error().hint);
        },
        [this, job, file](std::pair<std::shared_ptr<const SampleEncode>, std::string> answer) {
            auto back =
                QString(" <a href='back' style='color:%1;'>Back to the sample</a>").arg(look::colours().wine.name());
            if (!answer.first) {
                before_after_->clear("it can’t be compared");
                return sum_->setText(text(answer.second).toHtmlEscaped() + back);
            }
            auto& t = *answer.first;
            auto sum =
                QString("“%1”, as converted: %2").arg(text(file).toHtmlEscaped(), text(t.sentence()).toHtmlEscaped());
            if (job.estimated_bytes)
                sum += QString(" %1; the estimate was %2.")
                           .arg(bytes_said(t.whole_bytes), bytes_said(job.estimated_bytes));
            bool pictures = t.likeness.frames > 0;
            show_sample_encode(answer.first, {job.in, job.out.string(), t.from, t.to, {}, pictures}, sum + back);
        });
}

/// Those that are kept, and the one that is seen where it is none of them.
void PreparePage::show_runs() {
    auto runs = kept_[shown_];
    auto now = runs.size();
    std::vector<std::shared_ptr<const SampleEncode>> others;
    bool seen = sample_encode_ && !compared_ && sample_encode_->likeness.frames > 0;
    for (std::size_t i = 0; i < runs.size(); ++i) {
        if (planned_ && runs[i].recipe == planned_->recipe) now = i;
        others.push_back(runs[i].sample_encode);
    }
    keep_->setEnabled(seen && now == runs.size());
    if (seen && now == runs.size() && !runs.empty()) runs.push_back({sample_encode_, planned_->recipe, "this one"});
    runs_->setVisible(runs.size() > 1);
    runs_->show_runs(std::move(runs), now);
    strip_->show_kept(std::move(others));
}
void PreparePage::keep_run() {
    if (!sample_encode_ || !planned_ || !keep_->isEnabled()) return;
    QStringList words;
    for (auto* key : {"codec", "quality", "size", "effort"})
        if (auto* w = told_.find(key)) words << w->shown;
    kept_[shown_].push_back({sample_encode_, planned_->recipe, words.join(", ")});
    show_runs();
}

bool PreparePage::under_way(const fs::path& out) {
    auto jobs = cards_->queue().list();
    return std::any_of(jobs.begin(), jobs.end(), [&](auto& j) { return !j.over() && j.out == out; });
}
bool PreparePage::add_job(PlayerDocument& d, std::size_t index, const Recipe& recipe, const Target& target,
                          const std::string& ending, const Job& estimated) {
    auto from = resolve(d.sources.at(index), project_.folder());
    auto out = place_for(project_.folder(), from, target, ending, [this](auto& place) { return under_way(place); });
    auto added = cards_->queue().add(from, out, recipe, target.name, estimated);
    if (!added) sum_->setText((text(added.error().sentence) + " " + text(added.error().hint)).toHtmlEscaped());
    if (added) d.sources[index].prepare_for(target.name).file = project_.file_for(out);
    return added.has_value();
}
void PreparePage::make() {
    if (!planned_ || !planned_->plan) return;
    auto& p = *planned_;
    auto d = project_.document();
    Job estimated;
    if (sample_encode_ && !compared_)
        estimated.estimated_bytes = sample_encode_->whole_bytes, estimated.estimated = sample_encode_->whole_took;
    auto& endings = p.plan->container_format->extensions;
    if (add_job(d, project_.current(), p.recipe, p.known->target,
                endings.empty() ? "bin" : std::string(endings.front()), estimated))
        project_.change(d, "Preparing");
    cards_->look();
}

}  // namespace ruedo
