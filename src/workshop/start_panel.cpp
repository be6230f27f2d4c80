// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/start_panel.h"

#include <QFileInfo>
#include <QHBoxLayout>
#include <QMenu>

#include "codec/codec.h"
#include "view/look.h"
#include "workshop/project.h"

namespace ruedo {

QString demo_project() {
    auto beside = executable_path().parent_path();
    // Installed, and in a build.
    for (auto place : {"../share/ruedo/demo/harbour-lights.ruedo", "../../../demo/harbour-lights.ruedo"}) {
        std::error_code ec;
        auto file = std::filesystem::weakly_canonical(beside / place, ec);
        // Its clips are made apart; without them there is nothing to look at.
        if (!ec && std::filesystem::exists(file.parent_path() / "media" / "lantern.webm", ec))
            return QString::fromStdString(file.string());
    }
    return {};
}

StartPanel::StartPanel(QMenu* add, QWidget* parent) : QWidget(parent) {
    auto& c = look::colours();
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(32, 16, 32, 16);
    box->setSpacing(10);
    auto words = [&](const QString& what, look::Size size, bool soft) {
        auto* label = new look::Label(what);
        label->setFont(look::font(size, size == look::Size::large));
        label->setAlignment(Qt::AlignHCenter);
        label->setWordWrap(true);
        if (soft) label->setStyleSheet(QString("color:%1;").arg(c.soft.name()));
        return label;
    };
    auto row = [&](std::initializer_list<QPushButton*> buttons) {
        auto* line = new QHBoxLayout;
        line->setSpacing(8);
        line->addStretch(1);
        for (auto* b : buttons) line->addWidget(b);
        line->addStretch(1);
        box->addLayout(line);
    };
    box->addStretch(2);
    box->addWidget(words("Drop clips, a folder or an address here", look::Size::large, false));
    box->addWidget(words("Start with what the player is to play.", look::Size::body, true));
    box->addSpacing(8);
    auto* choose = new QPushButton("Choose files …");
    auto* folder = new QPushButton("Choose a folder …");
    auto* paste = new QPushButton("Paste an address");
    auto* more = new QPushButton("A camera");
    choose->setObjectName("primary");
    more->setMenu(add);
    connect(choose, &QPushButton::clicked, this, &StartPanel::files);
    connect(folder, &QPushButton::clicked, this, &StartPanel::folder);
    connect(paste, &QPushButton::clicked, this, &StartPanel::pasted);
    row({choose});
    row({folder, paste, more});
    box->addSpacing(14);
    demo_ = new QPushButton("Open the demo, “Harbour Lights”");
    connect(demo_, &QPushButton::clicked, this, [this] { emit project(demo_project()); });
    row({demo_});
    recent_title_ = words("Recent projects", look::Size::small, true);
    box->addWidget(recent_title_);
    recent_ = new QVBoxLayout;
    recent_->setSpacing(4);
    box->addLayout(recent_);
    box->addStretch(3);
}

void StartPanel::showEvent(QShowEvent* e) {
    while (auto* item = recent_->takeAt(0)) {
        item->widget()->deleteLater();
        delete item;
    }
    auto names = Project::recent().mid(0, 4);
    for (auto& name : names) {
        QFileInfo file(name);
        auto* b = new QPushButton(look::literal(QString("%1 — %2").arg(file.completeBaseName(), file.path())));
        b->setObjectName("small");
        b->setToolTip(name);
        connect(b, &QPushButton::clicked, this, [this, name] { emit project(name); });
        recent_->addWidget(b, 0, Qt::AlignHCenter);
    }
    recent_title_->setVisible(!names.isEmpty());
    demo_->setVisible(!demo_project().isEmpty());
    QWidget::showEvent(e);
}

}  // namespace ruedo
