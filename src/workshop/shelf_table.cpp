// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/shelf_table.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "view/look.h"
#include "workshop/job_cards.h"

namespace ruedo {
namespace fs = std::filesystem;
using What = TargetReport::What;
namespace {
constexpr int name_wide = 190, what_wide = 152, bar_wide = 300;

QString what_words(const ShelfTable::Line& l) {
    if (!l.known) return "analysing";
    auto& f = l.target_report;
    if (l.under_way) return "converting";
    if (f.made) return f.what == What::rewrapped ? "rewrapped, made" : "converted, made";
    switch (f.what) {
        case What::as_it_is:
            return "unchanged";
        case What::rewrapped:
            return "to be rewrapped";
        case What::converted:
            return "to be converted";
        case What::refused:
            return "refused";
        case What::elsewhere:
            return "not bundled";
    }
    return {};
}
}  // namespace

/// A source: its name, what becomes of it, why, and its bytes before and after as bars.
class ShelfTable::Row : public QWidget {
  public:
    Row(ShelfTable& owner, std::size_t line, const QString& name) : owner_(owner), line_(line) {
        setFocusPolicy(Qt::StrongFocus);
        setCursor(Qt::PointingHandCursor);
        setMinimumHeight(58);
        auto* row = new QHBoxLayout(this);
        row->setContentsMargins(20, 10, 20, 10);
        row->setSpacing(14);
        name_ = new look::Label(name);
        name_->setFont(look::font(look::Size::body, true));
        name_->setFixedWidth(name_wide);
        name_->setWordWrap(true);
        what_ = new look::Label;
        what_->setFixedWidth(what_wide);
        what_->setContentsMargins(18, 0, 0, 0);
        what_->setWordWrap(true);
        why_ = new look::Label;
        why_->setWordWrap(true);
        why_->setFont(look::font(look::Size::small));
        row->addWidget(name_, 0, Qt::AlignTop), row->addWidget(what_, 0, Qt::AlignTop);
        row->addWidget(why_, 1, Qt::AlignTop), row->addSpacing(bar_wide + 16);
    }
    void show_line(const Line& l, std::uint64_t most, std::uint64_t budget) {
        now_ = l, most_ = most, budget_ = budget;
        what_->setText(what_words(l));
        QStringList why;
        // The first ones tell most; all of them are told where one points.
        for (auto& w : l.target_report.why) why << text(w);
        why_->setText(why.mid(0, 3).join(' '));
        why_->setToolTip(why.join('\n'));
        setAccessibleName(QString("%1: %2. %3").arg(name_->text(), what_->text(), sizes()));
        update();
    }
    QString sizes() const {
        auto& f = now_.target_report;
        if (!f.bytes_before) return {};
        if (f.what == What::as_it_is || f.what == What::refused || f.what == What::elsewhere)
            return bytes_said(f.bytes_before);
        if (!f.bytes_after) return bytes_said(f.bytes_before) + ", testing the hardest 4 s";
        return QString("%1, %2%3")
            .arg(bytes_said(f.bytes_before), f.made ? QString() : QString("then about "), bytes_said(f.bytes_after));
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        auto& c = look::colours();
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(QPen(c.line, 1));
        g.drawLine(QPointF(20, height() - 0.5), QPointF(width() - 20, height() - 0.5));
        if (hasFocus()) {
            g.setPen(QPen(c.ochre, 2));
            g.drawRect(QRectF(rect()).adjusted(8, 3, -8, -3));
        }
        auto& f = now_.target_report;
        QRectF mark(what_->x(), what_->y() + 4, 11, 11);
        auto [glyph, colour] = !now_.known                   ? std::pair(look::Glyph::dotted, c.soft)
                               : f.what == What::refused     ? std::pair(look::Glyph::barred, c.rust)
                               : f.makes() || now_.under_way ? std::pair(look::Glyph::broken, c.ochre)
                                                             : std::pair(look::Glyph::filled, c.moss);
        look::draw_glyph(g, mark, glyph, colour);
        if (!f.bytes_before) return;
        // As wide as the heaviest, or the budget.
        auto left = width() - 20.0 - bar_wide, top = 12.0, wide = bar_wide - 4.0;
        auto length = [&](std::uint64_t bytes) {
            return std::max(2.0,
                            wide * static_cast<double>(bytes) / static_cast<double>(std::max<std::uint64_t>(1, most_)));
        };
        bool over = budget_ && std::max(f.bytes_after, f.makes() ? 0 : f.bytes_before) > budget_;
        if (f.what == What::as_it_is || f.what == What::refused || f.what == What::elsewhere) {
            g.fillRect(QRectF(left, top, length(f.bytes_before), 8), f.what == What::as_it_is ? c.teal : c.line);
        } else {
            g.fillRect(QRectF(left, top, length(f.bytes_before), 8), c.line);
            if (f.bytes_after) g.fillRect(QRectF(left, top + 10, length(f.bytes_after), 8), over ? c.rust : c.teal);
        }
        if (budget_ && budget_ <= most_) {
            auto x = left + wide * static_cast<double>(budget_) / static_cast<double>(most_);
            g.setPen(QPen(c.wine, 2));
            g.drawLine(QPointF(x, top - 4), QPointF(x, top + 22));
        }
        g.setFont(look::tabular(look::Size::small));
        g.setPen(c.soft);
        g.drawText(QRectF(left, top + 20, wide, 18), Qt::AlignLeft | Qt::AlignVCenter, sizes());
    }
    void mousePressEvent(QMouseEvent*) override { chosen(); }
    void keyPressEvent(QKeyEvent* e) override {
        if (e->key() == Qt::Key_Return || e->key() == Qt::Key_Space) return chosen();
        QWidget::keyPressEvent(e);
    }

  private:
    void chosen() {
        if (owner_.on_source && line_ < owner_.lines_.size()) owner_.on_source(owner_.lines_[line_].source);
    }
    ShelfTable& owner_;
    std::size_t line_;
    Line now_;
    std::uint64_t most_ = 1, budget_ = 0;
    QLabel *name_, *what_, *why_;
};

ShelfTable::ShelfTable(Project& project, QWidget* parent) : QWidget(parent), project_(project) {
    (void)scratch_.make();  // what can’t be written there says so when it is tried
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(0, 14, 0, 0);
    box->setSpacing(0);
    auto* head = new QHBoxLayout;
    head->setContentsMargins(20, 0, 20, 10);
    auto* words = new QVBoxLayout;
    heading_ = new look::Label;
    heading_->setFont(look::font(look::Size::large, true));
    sum_ = new look::Label;
    sum_->setWordWrap(true);
    words->addWidget(heading_), words->addWidget(sum_);
    make_ = new QPushButton;
    make_->setObjectName("primary");
    back_ = new QPushButton("Back to one source");
    head->setSpacing(10);
    head->addLayout(words, 1), head->addSpacing(20), head->addWidget(back_), head->addWidget(make_);
    list_ = new QWidget;
    box_ = new QVBoxLayout(list_);
    box_->setContentsMargins(0, 0, 0, 0);
    box_->setSpacing(0);
    box_->addStretch(1);
    auto* scroll = new QScrollArea;
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setWidgetResizable(true);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    scroll->setWidget(list_);
    scroll->setAccessibleName("Sources and how they convert");
    box->addLayout(head), box->addWidget(scroll, 1);
    connect(back_, &QPushButton::clicked, this, [this] {
        if (on_back) on_back();
    });
    connect(make_, &QPushButton::clicked, this, [this] {
        std::vector<Line> missing;
        for (auto& l : lines_)
            if (l.known && l.target_report.makes() && !l.under_way) missing.push_back(l);
        if (on_make && !missing.empty()) on_make(missing, target_);
    });
}

void ShelfTable::look() {
    auto& d = project_.document();
    auto folder = project_.folder();
    auto wanted = find_target(d.target.empty() ? std::string("desktop") : d.target);
    if (!wanted) {
        heading_->setText(text(wanted.error().sentence));
        lines_.clear(), rebuild();
        return make_->hide();
    }
    bool other = target_.name != wanted->name;
    target_ = *wanted;
    struct Asked {
        Line line;
        std::optional<Recipe> recipe;
        fs::path made;
    };
    std::vector<Asked> ask;
    std::string key = target_.name;
    auto before = std::move(lines_);
    lines_.clear();
    for (std::size_t i = 0; i < d.sources.size(); ++i) {
        auto* prepared = d.sources[i].prepared_for(target_.name);
        Asked a;
        a.line.source = i, a.line.place = resolve(d.sources[i], folder);
        if (prepared) a.recipe = prepared->recipe;
        if (prepared && !prepared->file.empty()) a.made = resolve(prepared->file, folder);
        // What is being made has not come yet, but will.
        a.line.under_way = !a.made.empty() && is_made && is_made(a.made);
        key += "|" + a.line.place + "|" + a.made.string() + (a.recipe ? to_json(*a.recipe).dump() : "");
        // What was known of it stands there until it is known anew.
        if (!other && i < before.size() && before[i].place == a.line.place) {
            auto way = a.line.under_way;
            a.line = before[i], a.line.source = i, a.line.under_way = way;
        }
        lines_.push_back(a.line);
        ask.push_back(std::move(a));
    }
    rebuild();
    tasks_.forget("trials");
    tasks_.ask(
        "lines", key + "|" + std::to_string(++looked_),
        [this, ask, target = target_](const BackgroundTasks::Question& question) {
            for (std::size_t i = 0; i < ask.size() && !question.given_up(); ++i) {
                auto& a = ask[i];
                auto made = a.line.under_way ? fs::path() : a.made;
                auto f = report_for(a.line.place, target, a.recipe, made, CodecRegistry::standard(),
                                    &static_cast<const std::atomic<bool>&>(question));
                question.post([this, i, f] {
                    auto& l = lines_.at(i);
                    bool same = l.known && l.target_report.what == f.what && l.target_report.recipe == f.recipe;
                    auto estimated = std::pair(l.target_report.bytes_after, l.target_report.took);
                    l.target_report = f, l.known = true;
                    // What a trial said of the same recipe still holds.
                    if (same && l.tried && f.makes() && !f.bytes_after)
                        l.target_report.bytes_after = estimated.first, l.target_report.took = estimated.second;
                    else
                        l.tried = !f.makes() || f.what != What::converted;
                    say();
                });
            }
            return 0;
        },
        [this](int) { try_them(); });
}

/// What is to be converted, one after the other.
void ShelfTable::try_them() {
    std::vector<std::pair<std::size_t, Line>> ask;
    for (std::size_t i = 0; i < lines_.size(); ++i)
        if (!lines_[i].tried && !lines_[i].under_way) ask.emplace_back(i, lines_[i]);
    if (ask.empty()) return;
    auto folder = scratch_.path();
    tasks_.ask(
        "trials", std::to_string(looked_),
        [this, ask, folder, target = target_](const BackgroundTasks::Question& question) mutable {
            for (auto& [i, line] : ask) {
                if (question.given_up()) break;
                auto file = folder / ("trial." + line.target_report.ending);
                auto done = estimate(line.target_report, line.place, target, file, CodecRegistry::standard(),
                                     &static_cast<const std::atomic<bool>&>(question));
                if (!done && done.error().code != ErrorCode::cancelled) {
                    line.target_report.what = What::refused;
                    line.target_report.why = {done.error().sentence, done.error().hint};
                }
                question.post([this, i = i, f = line.target_report] {
                    lines_.at(i).target_report = f, lines_.at(i).tried = true;
                    say();
                });
            }
            return 0;
        },
        [](int) {});
}

bool ShelfTable::settled() const {
    return std::all_of(lines_.begin(), lines_.end(), [](auto& l) { return l.known && (l.tried || l.under_way); });
}

void ShelfTable::rebuild() {
    for (auto* r : rows_) r->deleteLater();
    rows_.clear();
    for (std::size_t i = 0; i < lines_.size(); ++i) {
        auto* row = new Row(*this, i, text(project_.document().sources[lines_[i].source].name));
        box_->insertWidget(static_cast<int>(i), row);
        rows_.push_back(row);
    }
    say();
}

void ShelfTable::say() {
    std::uint64_t most = 1, before = 0, after = 0;
    std::array<int, 5> count{};
    int missing = 0, under_way = 0, unknown = 0, made = 0;
    for (auto& l : lines_) {
        auto& f = l.target_report;
        most = std::max({most, f.bytes_before, f.bytes_after});
        if (!l.known) {
            ++unknown;
            continue;
        }
        ++count[static_cast<std::size_t>(f.what)];
        under_way += l.under_way, made += f.made;
        missing += f.makes() && !l.under_way;
        if (f.what == What::refused || f.what == What::elsewhere) continue;
        before += f.bytes_before;
        after += f.what == What::as_it_is ? f.bytes_before : f.bytes_after;
    }
    // The budget is seen where it is of the same order.
    auto budget = target_.bundle_bytes;
    if (budget && budget < most * 4) most = std::max(most, budget + budget / 20);
    for (std::size_t i = 0; i < rows_.size(); ++i) rows_[i]->show_line(lines_[i], most, budget);
    heading_->setText(QString("All sources, for %1").arg(text(target_.title)));
    QStringList parts;
    auto add = [&](int n, const char* one, const char* many) {
        if (n) parts << (n == 1 ? QString("one %1").arg(one) : QString("%1 %2").arg(n).arg(many));
    };
    auto of = [&](What w) { return count[static_cast<std::size_t>(w)]; };
    add(of(What::as_it_is), "unchanged", "unchanged");
    add(of(What::rewrapped), "is rewrapped", "are rewrapped");
    add(of(What::converted), "is converted", "are converted");
    add(of(What::refused), "is refused", "are refused");
    add(of(What::elsewhere), "is not bundled", "are not bundled");
    add(unknown, "is being analysed", "are being analysed");
    auto sum = parts.join(", ");
    if (!sum.isEmpty()) sum[0] = sum[0].toUpper(), sum += ".";
    if (before) sum += QString(" In total %1").arg(bytes_said(before));
    if (before && settled() && after != before) sum += QString(", then about %1").arg(bytes_said(after));
    if (before) sum += ".";
    if (budget) sum += QString(" Each may take %1.").arg(bytes_said(budget));
    if (lines_.empty()) sum = "No sources yet. Add a clip in Gather first.";
    sum_->setText(sum);
    make_->setVisible(!lines_.empty());
    make_->setEnabled(missing > 0 && !unknown);
    make_->setText(missing == 1  ? QString("Convert the missing one")
                   : missing > 1 ? QString("Convert the %1 missing ones").arg(missing)
                   : under_way   ? QString("Converting")
                                 : QString("All converted"));
}

}  // namespace ruedo
