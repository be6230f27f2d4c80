// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/pack_page.h"

#include <QApplication>
#include <QDir>
#include <QFileDialog>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QPainter>
#include <QProcess>
#include <QScrollArea>
#include <nlohmann/json.hpp>

#include "view/look.h"
#include "workshop/job_cards.h"

namespace ruedo {
namespace fs = std::filesystem;

/// Bytes by item, as lengths.
class PackPage::Bars : public QWidget {
  public:
    explicit Bars(QWidget* parent) : QWidget(parent) { setAccessibleName("Size by item"); }
    void set(std::vector<PackedItem> items) {
        items_ = std::move(items);
        setMinimumHeight(static_cast<int>(items_.size()) * 26 + 40);
        update();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        auto& c = look::colours();
        QPainter g(this);
        std::uint64_t most = 1, total = 0;
        for (auto& i : items_) most = std::max(most, i.bytes), total += i.bytes;
        int y = 4, names = 230, sizes = 90;
        g.setFont(look::tabular(look::Size::small));
        for (auto& i : items_) {
            g.setPen(c.ink);
            g.drawText(QRect(0, y, names - 8, 22), Qt::AlignVCenter | Qt::AlignLeft,
                       g.fontMetrics().elidedText(text(i.path), Qt::ElideMiddle, names - 8));
            double w = (width() - names - sizes - 90) * static_cast<double>(i.bytes) / static_cast<double>(most);
            g.fillRect(QRectF(names, y + 5, std::max(2.0, w), 12), i.kind == "media"        ? c.teal
                                                                   : i.kind == "executable" ? c.wine
                                                                                            : c.ochre);
            g.drawText(QRect(width() - sizes - 86, y, sizes, 22), Qt::AlignVCenter | Qt::AlignRight,
                       bytes_said(i.bytes));
            g.setPen(c.soft);
            g.drawText(QRect(width() - 80, y, 80, 22), Qt::AlignVCenter | Qt::AlignLeft, text(i.kind));
            y += 26;
        }
        g.setPen(c.line);
        g.drawLine(names, y + 2, width() - 86, y + 2);
        g.setPen(c.ink);
        g.setFont(look::tabular(look::Size::body, true));
        g.drawText(QRect(names, y + 6, width() - names - 86, 24), Qt::AlignVCenter | Qt::AlignRight,
                   QString("%1 in total").arg(bytes_said(total)));
    }

  private:
    std::vector<PackedItem> items_;
};

PackPage::PackPage(Project& project, std::shared_ptr<KnownClips> clips, QWidget* parent)
    : QWidget(parent), project_(project), clips_(std::move(clips)) {
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(24, 20, 24, 20);
    row->setSpacing(28);
    auto* left = new QVBoxLayout;
    auto* heading = new look::Label("The app");
    heading->setFont(look::font(look::Size::large, true));
    left->addWidget(heading);
    auto* form = new QFormLayout;
    name_ = new QLineEdit;
    name_->setAccessibleName("Name of the app");
    place_ = new QLineEdit;
    place_->setAccessibleName("Folder to make");
    browse_ = new QPushButton("Choose …");
    auto* place_row = new QHBoxLayout;
    place_row->addWidget(place_, 1), place_row->addWidget(browse_);
    form->addRow("Name", name_);
    form->addRow("Folder", place_row);
    left->addLayout(form);
    button_ = new QPushButton("Pack");
    button_->setObjectName("primary");
    stop_ = new QPushButton("Stop");
    run_ = new QPushButton("Start the app");
    progress_ = new QProgressBar;
    progress_->setTextVisible(false);
    outcome_ = new look::Label;
    outcome_->setWordWrap(true);
    outcome_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    auto* buttons = new QHBoxLayout;
    buttons->addWidget(button_), buttons->addWidget(stop_), buttons->addWidget(run_), buttons->addStretch(1);
    left->addSpacing(10), left->addLayout(buttons), left->addWidget(progress_), left->addWidget(outcome_);
    text_ = new QTextBrowser;
    text_->setFrameShape(QFrame::NoFrame);
    text_->setAccessibleName("Permissions and libraries");
    text_->setOpenLinks(false);
    connect(text_, &QTextBrowser::anchorClicked, this, [this](const QUrl& url) {
        if (on_fix) on_fix(url.path().toULong(), "aac-licence");
    });
    left->addWidget(text_, 1);
    row->addLayout(left, 4);
    auto* right = new QVBoxLayout;
    auto* bars_heading = new look::Label("Size");
    bars_heading->setFont(look::font(look::Size::large, true));
    right->addWidget(bars_heading);
    bars_ = new Bars(this);
    auto* scroll = new QScrollArea;
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    scroll->setWidget(bars_);
    right->addWidget(scroll, 1);
    row->addLayout(right, 5);
    stop_->hide(), run_->hide(), progress_->hide();

    connect(name_, &QLineEdit::editingFinished, this, [this] {
        auto d = project_.document();
        d.app_name = name_->text().trimmed().isEmpty() ? d.app_name : name_->text().trimmed().toStdString();
        project_.change(d, "Name");
    });
    connect(place_, &QLineEdit::textEdited, this, [this] { placed_by_hand_ = true; });
    connect(browse_, &QPushButton::clicked, this, [this] {
        auto folder =
            QFileDialog::getExistingDirectory(this, "Folder to make the app in", QFileInfo(place_->text()).path());
        if (!folder.isEmpty())
            place_->setText(folder + "/" + QString::fromStdString(file_stem(project_.document().app_name))),
                placed_by_hand_ = true;
    });
    connect(button_, &QPushButton::clicked, this, [this] { pack_into(place_->text().toStdString()); });
    connect(stop_, &QPushButton::clicked, this, [this] { *give_up_ = true; });
    connect(run_, &QPushButton::clicked, this,
            [this] { QProcess::startDetached(QString::fromStdString(made_.string()), {}); });
    connect(&project_, &Project::changed, this, [this] { rebuild(); });
    rebuild();
}
PackPage::~PackPage() { *give_up_ = true; }

void PackPage::rebuild() {
    auto& d = project_.document();
    if (!name_->hasFocus()) name_->setText(QString::fromStdString(d.app_name));
    if (!placed_by_hand_) place_->setText(QDir::homePath() + "/" + QString::fromStdString(file_stem(d.app_name)));
    button_->setEnabled(!busy_ && !d.sources.empty());
    struct Outlook {
        std::vector<PackedItem> items;
        QString html;
        std::vector<fs::path> outside;
    };
    auto work = [d = for_target(d, project_.folder()), folder = project_.folder(),
                 ask = clips_->asker()](const std::atomic<bool>&) {
        auto needs = needs_of(d, folder, CodecRegistry::standard(), ask);
        Outlook plan;
        auto& items = plan.items;
        std::error_code ec;
        auto& html = plan.html;
        auto& c = look::colours();
        if (needs) {
            plan.outside = needs->outside;
            auto player = executable_path().parent_path() / "ruedo-player";
            items.push_back({file_stem(d.app_name), fs::file_size(player, ec), "executable"});
            for (auto& [path, bytes] : needs->media)
                items.push_back(
                    {"media/" + path.filename().string() + (fs::is_directory(path, ec) ? "/" : ""), bytes, "media"});
            for (auto& m : needs->modules)
                items.push_back({"lib/" + m.file.filename().string(), fs::file_size(m.file, ec), "library"});
            std::stable_sort(items.begin(), items.end(), [](auto& a, auto& b) { return a.bytes > b.bytes; });
            html = QString(
                       "<p style='font-weight:600; margin:8px 0 2px 0'>Licence of the package</p><p "
                       "style='margin:0'>%1</p>")
                       .arg(text(needs->licence));
            for (auto& m : needs->modules)
                html +=
                    QString("<p style='margin:3px 0'>%1 <span style='color:%4'>%2, Debian’s %3</span></p>")
                        .arg(text(m.module->library), text(m.module->licence), text(m.module->package), c.soft.name());
            for (auto& f : needs->findings)
                html += QString(
                            "<p style='margin:6px 0'><span style='color:%3'>⊖</span> %1 <span "
                            "style='color:%4'>%2</span></p>")
                            .arg(text(f.sentence).toHtmlEscaped(), text(f.hint).toHtmlEscaped(), c.rust.name(),
                                 c.soft.name());
            if (needs->licence.find("GPL") != std::string::npos) {
                html += QString(
                            "<p><span style='color:%1'>⊖</span> The AAC sound makes the app GPL. Converting it to Opus "
                            "leaves that adapter out.")
                            .arg(c.rust.name());
                for (std::size_t i = 0; i < d.sources.size(); ++i) {
                    auto info = ask(resolve(d.sources[i], folder));
                    auto* audio = info ? info->main(Kind::audio) : nullptr;
                    if (audio && audio->codec == Codec::aac)
                        html += QString(" <a href='mend:%1' style='color:%2'>“%3”</a>")
                                    .arg(i)
                                    .arg(c.wine.name(), text(d.sources[i].name).toHtmlEscaped());
                }
                html += "</p>";
            }
        } else {
            html = QString("<p><span style='color:%3'>⊖</span> %1 <span style='color:%4'>%2</span></p>")
                       .arg(text(needs.error().sentence).toHtmlEscaped(), text(needs.error().hint).toHtmlEscaped(),
                            c.rust.name(), c.soft.name());
        }
        if (d.sources.empty()) html = "<p>There is nothing to pack yet. Add a clip in Gather first.</p>";
        return plan;
    };
    // What goes in follows from the sources and the name alone.
    nlohmann::json about{{"folder", project_.folder().string()},
                         {"app", d.app_name},
                         {"sources", to_json(for_target(d, project_.folder()))["sources"]}};
    tasks_.ask(
        "plan", about.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace), std::move(work),
        [this](Outlook plan) {
            bars_->set(plan.items);
            // Its name says what a press confirms.
            outside_ = std::move(plan.outside);
            auto count = outside_.size();
            button_->setText(count == 0   ? QString("Pack")
                             : count == 1 ? QString("Pack, with one file from outside")
                                          : QString("Pack, with %1 files from outside").arg(count));
            text_->setHtml(
                QString("<html><body style='color:%1'>%2</body></html>").arg(look::colours().ink.name(), plan.html));
        });
}

void PackPage::pack_into(const fs::path& folder) {
    if (busy_) return;
    busy_ = true;
    *give_up_ = false;
    button_->setEnabled(false), stop_->show(), run_->hide(), progress_->show(), progress_->setRange(0, 1000),
        progress_->setValue(0);
    outcome_->setText("Packing");
    auto work = [this, d = project_.document(), from = project_.folder(), folder, give_up = give_up_,
                 confirmed = outside_](const BackgroundTasks::Question& question) {
        PackOptions options;
        options.outside = [&](const fs::path& file) {
            return std::find(confirmed.begin(), confirmed.end(), file) != confirmed.end();
        };
        options.progress = [&](std::uint64_t done, std::uint64_t all) {
            question.post([this, done, all] {
                auto part = static_cast<double>(done) / static_cast<double>(std::max<std::uint64_t>(1, all));
                progress_->setValue(static_cast<int>(1000 * part));
                outcome_->setText(QString("%1 of %2").arg(bytes_said(done), bytes_said(all)));
            });
            return !*give_up && !question.given_up();
        };
        return pack(d, from, folder, executable_path().parent_path() / "ruedo-player", CodecRegistry::standard(),
                    options);
    };
    tasks_.ask("pack", std::to_string(++number_), std::move(work),
               [this](Result<Packed> result) { finished(std::move(result)); });
}

void PackPage::finished(Result<Packed> result) {
    busy_ = false;
    stop_->hide(), progress_->hide(), button_->setEnabled(true);
    if (result) {
        made_ = result->executable;
        run_->show();
        bars_->set(result->items);
        outcome_->setText(QString("Packed into %1, %2.")
                              .arg(QString::fromStdString(result->folder.string()), bytes_said(result->bytes)));
    } else {
        outcome_->setText(text(result.error().sentence) + " " + text(result.error().hint));
    }
    if (on_done) on_done(result.has_value());
}

}  // namespace ruedo
