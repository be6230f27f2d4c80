// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/path_panel.h"

#include <QFileDialog>
#include <QMenu>
#include <QVBoxLayout>

#include "view/look.h"

namespace ruedo {

PathPanel::PathPanel(QWidget* parent) : QWidget(parent) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(10, 4, 8, 0);
    box->setSpacing(0);
    auto* head = new QHBoxLayout;
    said_ = new look::Label;
    said_->setFont(look::font(look::Size::small));
    said_->setStyleSheet(QString("color:%1;").arg(look::colours().soft.name()));
    said_->setAccessibleName("Compare the path with another run");
    said_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    runs_ = new QPushButton("this run …");
    runs_->setObjectName("small");
    head->addWidget(said_, 1), head->addWidget(runs_);
    chart_ = new PathChart;
    box->addLayout(head);
    box->addWidget(chart_, 1);
    chart_->on_difference = [this] { describe(); };
    auto* menu = new QMenu(runs_);
    connect(menu, &QMenu::aboutToShow, menu, [this, menu] {
        menu->clear();
        menu->addAction("Keep it and start another run", this, [this] { keep(); });
        menu->addAction("Compare with a run from a file …", this, [this] {
            auto file =
                QFileDialog::getOpenFileName(this, "A run to compare with", {}, "Runs (*.jsonl);;All files (*)");
            if (file.isEmpty()) return;
            if (auto done = read(file.toStdString()); !done) said_->setText(text(done.error().sentence));
        });
        menu->addAction("Save this run …", this, [this] {
            auto file = QFileDialog::getSaveFileName(this, "Save this run", "run.jsonl", "Runs (*.jsonl)");
            if (file.isEmpty()) return;
            if (auto done = write(file.toStdString()); !done) said_->setText(text(done.error().sentence));
        });
        if (!chart_->kept()) return;
        menu->addSeparator();
        for (std::size_t i = 0; i < anchors().size(); ++i) {
            auto* a = menu->addAction(QString("Both aligned at %1").arg(text(anchors()[i].title)), this,
                                      [this, i] { align(i); });
            a->setCheckable(true);
            a->setChecked(i == anchor_);
        }
        menu->addSeparator();
        menu->addAction("Stop comparing", this, [this] { let_go(); });
    });
    runs_->setMenu(menu);
    describe();
}

void PathPanel::keep() {
    auto run = chart_->run();
    run.name = "the kept run";
    chart_->forget();  // a new run begins
    chart_->compare(std::move(run), anchors()[anchor_]);
}
void PathPanel::let_go() { chart_->compare(std::nullopt); }
void PathPanel::align(std::size_t anchor) {
    anchor_ = anchor;
    chart_->compare(chart_->kept(), anchors()[anchor]);
}
Status PathPanel::write(const std::filesystem::path& file) const {
    auto lines = to_lines(chart_->run());
    return write_file(file, {reinterpret_cast<const std::uint8_t*>(lines.data()), lines.size()});
}
Status PathPanel::read(const std::filesystem::path& file) {
    RUEDO_TRY(auto bytes, read_file(file, 512 << 20));
    RUEDO_TRY(auto run, run_from_lines(bytes, file.filename().string()));
    chart_->compare(std::move(run), anchors()[anchor_]);
    return {};
}

void PathPanel::describe() {
    auto& kept = chart_->kept();
    if (!kept)
        said_->setText("Press on the path to see everything at that moment.");
    else if (auto& d = chart_->difference())
        said_->setText(
            QString("The runs diverge at %1 s. %2").arg(d->after.seconds(), 0, 'f', 1).arg(text(d->sentence)));
    else
        said_->setText(QString("Same as %1 so far, from %2 on.").arg(text(kept->name), text(anchors()[anchor_].title)));
}

}  // namespace ruedo
