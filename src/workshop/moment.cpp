// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/moment.h"

#include <QHBoxLayout>
#include <QPainter>
#include <QPushButton>
#include <QScrollBar>
#include <nlohmann/json.hpp>

#include "playback/properties.h"
#include "view/look.h"
#include "view/paint_player.h"
#include "view/player_view.h"

namespace ruedo {
namespace {
/// A property’s value for people: times as times, nothing where there is none.
QString said(const Property& p, const Snapshot& s) {
    auto v = p.value(s);
    if (v.is_null()) return {};
    if (p.type == Property::Type::time)
        return QString("%1 s").arg(static_cast<double>(v.get<std::int64_t>()) / 1e9, 0, 'f', 3);
    if (p.type == Property::Type::yes_or_no) return v.get<bool>() ? "yes" : "no";
    if (p.type == Property::Type::number) return QString::number(v.get<double>(), 'g', 4);
    return v.is_string() ? text(v.get<std::string>()) : text(v.dump());
}
/// "buffered_to_ns" as "buffered to".
QString title(const Property& p) {
    auto name = text(p.name);
    if (name.endsWith("_ns")) name.chop(3);
    return name.replace('_', ' ');
}
bool is_call(const Event& e) {
    return e.name == "call" || e.name == "press" || e.name == "host" || e.name == "refused" || e.name == "ray";
}
}  // namespace

QImage small_frame(PlayerView& player) {
    constexpr QSize room(124, 104);
    auto& session = player.session();
    auto& layout = player.layout_now();
    QSize whole(std::max(1, layout.whole.width), std::max(1, layout.whole.height));
    QImage small(whole.scaled(room, Qt::KeepAspectRatio).expandedTo({1, 1}), QImage::Format_RGB16);
    // What is drawn small is made small first, which costs next to nothing.
    auto little = [&](const QImage& seen) { return seen.isNull() ? seen : seen.scaled(room, Qt::KeepAspectRatio); };
    QPainter g(&small);
    g.scale(static_cast<double>(small.width()) / whole.width(), static_cast<double>(small.height()) / whole.height());
    paint_player(g, whole, session.player(), layout, session.context(), session.source(),
                 {.picture = little(player.surface().still()), .poster = little(player.poster_now())});
    return small;
}

MomentPanel::MomentPanel(QWidget* parent) : QWidget(parent) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(12, 6, 8, 6);
    box->setSpacing(4);
    auto* head = new QHBoxLayout;
    title_ = new look::Label;
    title_->setFont(look::font(look::Size::body, true));
    auto* back = new QPushButton("Back to live");
    back->setObjectName("small");
    connect(back, &QPushButton::clicked, this, [this] {
        if (on_back) on_back();
    });
    head->addWidget(title_, 1), head->addWidget(back);
    strip_ = new QLabel;
    strip_->setFixedHeight(56);
    strip_->setAccessibleName("Frames around that moment");
    text_ = new QTextBrowser;
    text_->setFrameShape(QFrame::NoFrame);
    text_->setAccessibleName("The player as it was");
    box->addLayout(head);
    box->addWidget(strip_);
    box->addWidget(text_, 1);
}

void MomentPanel::show_moment(const History& history, Time wall) {
    auto& c = look::colours();
    title_->setText(QString("As it was at %1 s").arg(wall.seconds(), 0, 'f', 2));
    // The strip: the picture of that moment is framed.
    auto taken = history.pictures_near(wall, 4);
    pictures_ = taken.size();
    QPixmap strip(std::max(60, width() - 24), 56);
    strip.fill(c.ground);
    QPainter g(&strip);
    int x = 0;
    std::size_t now = 0;
    for (std::size_t i = 0; i < taken.size(); ++i)
        if (taken[i].wall <= wall) now = i;
    for (std::size_t i = 0; i < taken.size(); ++i) {
        auto size = taken[i].picture.size().scaled(62, 52, Qt::KeepAspectRatio);
        QRect at(QPoint(x + 1, (54 - size.height()) / 2 + 1), size);
        g.drawImage(at, taken[i].picture);
        if (i == now) g.setPen(QPen(c.wine, 2)), g.drawRect(at.adjusted(0, 0, -1, -1));
        x += size.width() + 4;
    }
    g.end();
    strip_->setPixmap(strip);
    strip_->setVisible(!taken.empty());
    auto* look = history.at(wall);
    QString html = QString("<html><body style='color:%1'>").arg(c.ink.name());
    auto heading = [&](const QString& words) {
        html += QString("<p style='font-weight:600; margin:4px 0 2px 0'>%1</p>").arg(words);
    };
    auto row = [&](const QString& name, const QString& value) {
        return QString("<tr><td style='color:%1; padding-right:10px'>%2</td><td>%3</td></tr>")
            .arg(c.soft.name(), name, value.toHtmlEscaped());
    };
    heading("Calls up to then");
    auto by = history.events_by(wall);
    std::vector<const Event*> calls;
    for (auto i = by; i-- > 0 && calls.size() < 6;)
        if (is_call(history.events()[i])) calls.push_back(&history.events()[i]);
    if (calls.empty()) html += "<p style='margin:0'>None yet.</p>";
    for (auto it = calls.rbegin(); it != calls.rend(); ++it)
        html +=
            QString("<p style='margin:0'><span style='color:%1'>%2 s</span> %3 %4</p>")
                .arg(c.soft.name())
                .arg((*it)->wall.seconds(), 0, 'f', 2)
                .arg((*it)->name == "call" ? QString() : text((*it)->name) + ":", text((*it)->detail).toHtmlEscaped());
    heading("It was");
    if (look) {
        html += "<table cellspacing='0'>";
        html += row("the app", text(look->life.place()));
        for (auto& p : properties())
            if (auto value = said(p, look->snapshot); !value.isEmpty()) html += row(title(p), value);
        html += "</table>";
    }
    auto at = text_->verticalScrollBar()->value();
    text_->setHtml(html + "</body></html>");
    text_->verticalScrollBar()->setValue(at);
}

}  // namespace ruedo
