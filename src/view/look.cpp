// SPDX-License-Identifier: Apache-2.0
#include "view/look.h"

#include <array>

#include <QApplication>
#include <QEvent>
#include <QFontDatabase>
#include <QPainterPath>
#include <QPalette>
#include <QStyleFactory>
#include <cmath>

namespace ruedo::look {
namespace {
const Colours light{0xF7F1E5, 0xEDE3CF, 0xD0C2A6, 0x2A211C, 0x5C4F43, 0x8A2436,
                    0xC4841D, 0x1E6E72, 0x55743A, 0xB0451C, 0xF7F1E5};
const Colours dark{0x1F1A1D, 0x2A2327, 0x463B40, 0xF1E8DA, 0xC2B4A4, 0xD0586B,
                   0xE2AC4C, 0x4FB0B3, 0x8DB26A, 0xE27B4F, 0x1F1A1D};
bool dark_chosen = false;

/// Tooltips are plain text, whatever they look like: they contain names.
class PlainTips final : public QObject {
  public:
    using QObject::QObject;
    bool eventFilter(QObject* watched, QEvent* event) override {
        if (event->type() == QEvent::Polish && watched->inherits("QTipLabel"))
            static_cast<QLabel*>(watched)->setTextFormat(Qt::PlainText);
        return false;
    }
};
}  // namespace

bool is_dark() { return dark_chosen; }
const Colours& colours() { return dark_chosen ? dark : light; }

void apply() {
    auto system = QApplication::palette();
    dark_chosen = system.color(QPalette::Window).lightness() < 100;
    QApplication::setStyle(QStyleFactory::create("Fusion"));
    auto& c = colours();
    QPalette p;
    p.setColor(QPalette::Window, c.ground);
    p.setColor(QPalette::Base, c.ground);
    p.setColor(QPalette::AlternateBase, c.panel);
    p.setColor(QPalette::Button, c.panel);
    p.setColor(QPalette::Mid, c.line);
    p.setColor(QPalette::Dark, c.line);
    p.setColor(QPalette::Light, c.ground);
    for (auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText, QPalette::ToolTipText})
        p.setColor(role, c.ink);
    p.setColor(QPalette::PlaceholderText, c.soft);
    p.setColor(QPalette::ToolTipBase, c.panel);
    p.setColor(QPalette::Highlight, c.wine);
    p.setColor(QPalette::HighlightedText, c.on_wine);
    p.setColor(QPalette::Link, c.wine);
    for (auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText})
        p.setColor(QPalette::Disabled, role, c.soft);
    QApplication::setPalette(p);
    QApplication::setFont(font(Size::body));
    static auto* plain = new PlainTips(qApp);
    qApp->installEventFilter(plain);
}

QFont font(Size size, bool bold) {
    QFont f = QFontDatabase::systemFont(QFontDatabase::GeneralFont);
    f.setPixelSize(size == Size::small ? 12 : size == Size::body ? 14 : 20);
    f.setBold(bold);
    return f;
}
QFont tabular(Size size, bool bold) {
    // Digits of the system's typeface are of equal width in every font Debian ships; kerning would undo it.
    auto f = font(size, bold);
    f.setKerning(false);
    return f;
}

void draw_glyph(QPainter& g, QRectF box, Glyph glyph, const QColor& colour) {
    g.save();
    g.setRenderHint(QPainter::Antialiasing);
    auto side = std::min(box.width(), box.height());
    QRectF r(box.center().x() - side / 2, box.center().y() - side / 2, side, side);
    QPen pen(colour, side * 0.2, Qt::SolidLine, Qt::FlatCap);
    r.adjust(side * 0.12, side * 0.12, -side * 0.12, -side * 0.12);
    if (glyph == Glyph::filled) {
        g.setPen(Qt::NoPen);
        g.setBrush(colour);
        g.drawEllipse(r);
    } else {
        if (glyph == Glyph::dotted) pen.setDashPattern({0.6, 0.75});
        g.setPen(pen);
        g.setBrush(Qt::NoBrush);
        if (glyph == Glyph::broken)
            g.drawArc(r, 40 * 16, 280 * 16);
        else
            g.drawEllipse(r);
        if (glyph == Glyph::barred)
            g.drawLine(QPointF(r.left() + r.width() * 0.1, r.center().y()),
                       QPointF(r.right() - r.width() * 0.1, r.center().y()));
    }
    g.restore();
}

void draw_play(QPainter& g, QRectF b, const QColor& colour) {
    QPainterPath p;
    p.moveTo(b.left() + b.width() * 0.22, b.top() + b.height() * 0.1);
    p.lineTo(b.left() + b.width() * 0.9, b.center().y());
    p.lineTo(b.left() + b.width() * 0.22, b.bottom() - b.height() * 0.1);
    p.closeSubpath();
    g.fillPath(p, colour);
}
void draw_pause(QPainter& g, QRectF b, const QColor& colour) {
    auto w = b.width() * 0.2;
    g.fillRect(QRectF(b.left() + b.width() * 0.2, b.top() + b.height() * 0.12, w, b.height() * 0.76), colour);
    g.fillRect(QRectF(b.left() + b.width() * 0.6, b.top() + b.height() * 0.12, w, b.height() * 0.76), colour);
}
void draw_turn(QPainter& g, QRectF b, bool forward, const QString& inside, const QColor& colour) {
    g.save();
    auto w = b.width() * 0.075;
    QRectF r = b.adjusted(w, w, -w, -w);
    g.setPen(QPen(colour, w, Qt::SolidLine, Qt::FlatCap));
    // Open at the top; the head stands at the open end it turns towards.
    int from = forward ? 140 : 40;
    g.drawArc(r, from * 16, (forward ? 260 : -260) * 16);
    double end = (forward ? 40 : 140) * M_PI / 180;
    QPointF tip(r.center().x() + r.width() / 2 * std::cos(end), r.center().y() - r.height() / 2 * std::sin(end));
    double s = b.width() * 0.17, d = forward ? 1 : -1;
    QPainterPath head;
    head.moveTo(tip + QPointF(d * s * 0.2, -s * 0.9));
    head.lineTo(tip + QPointF(d * s * 0.55, s * 0.75));
    head.lineTo(tip + QPointF(-d * s * 1.1, s * 0.25));
    head.closeSubpath();
    g.fillPath(head, colour);
    auto f = font(Size::small, true);
    f.setPixelSize(static_cast<int>(b.height() * 0.36));
    g.setFont(f);
    g.setPen(colour);
    g.drawText(b.adjusted(0, b.height() * 0.06, 0, 0), Qt::AlignCenter, inside);
    g.restore();
}
void draw_speaker(QPainter& g, QRectF b, double level, bool muted, const QColor& colour) {
    g.save();
    QPainterPath p;
    auto x = b.left(), y = b.center().y(), w = b.width(), h = b.height();
    p.moveTo(x + w * 0.06, y - h * 0.15);
    p.lineTo(x + w * 0.22, y - h * 0.15);
    p.lineTo(x + w * 0.42, y - h * 0.36);
    p.lineTo(x + w * 0.42, y + h * 0.36);
    p.lineTo(x + w * 0.22, y + h * 0.15);
    p.lineTo(x + w * 0.06, y + h * 0.15);
    p.closeSubpath();
    g.fillPath(p, colour);
    QPen pen(colour, w * 0.085, Qt::SolidLine, Qt::RoundCap);
    g.setPen(pen);
    if (muted) {
        g.drawLine(QPointF(x + w * 0.58, y - h * 0.16), QPointF(x + w * 0.9, y + h * 0.16));
        g.drawLine(QPointF(x + w * 0.9, y - h * 0.16), QPointF(x + w * 0.58, y + h * 0.16));
    } else {
        for (int i = 0; i < 3; ++i) {
            if (level < 0.02 + i * 0.33) break;
            double r = w * (0.16 + 0.14 * i);
            g.drawArc(QRectF(x + w * 0.44 - r, y - r, 2 * r, 2 * r), -45 * 16, 90 * 16);
        }
    }
    g.restore();
}
void draw_corners(QPainter& g, QRectF b, bool inward, const QColor& colour) {
    g.save();
    auto w = b.width() * 0.1, s = b.width() * 0.26;
    g.setPen(QPen(colour, w, Qt::SolidLine, Qt::SquareCap, Qt::MiterJoin));
    QRectF r = b.adjusted(b.width() * 0.14, b.height() * 0.2, -b.width() * 0.14, -b.height() * 0.2);
    for (int i = 0; i < 4; ++i) {
        double dx = i % 2 ? -1 : 1, dy = i / 2 ? -1 : 1;
        QPointF c(i % 2 ? r.right() : r.left(), i / 2 ? r.bottom() : r.top());
        if (inward) c += QPointF(dx * s, dy * s), dx = -dx, dy = -dy;
        QPainterPath p;
        p.moveTo(c + QPointF(dx * s, 0));
        p.lineTo(c);
        p.lineTo(c + QPointF(0, dy * s));
        g.drawPath(p);
    }
    g.restore();
}

void draw_captions(QPainter& g, QRectF b, bool on, const QColor& colour) {
    auto plate = b.adjusted(0, b.height() * 0.1, 0, -b.height() * 0.1);
    g.setPen(QPen(colour, std::max(1.5, b.width() / 11)));
    g.setBrush(on ? QBrush(colour) : Qt::NoBrush);
    g.drawRoundedRect(plate, 2, 2);
    g.setPen(QPen(on ? QColor(0xF7, 0xF1, 0xE5) : colour, std::max(1.5, b.width() / 11)));
    auto line = [&](double y, double from, double to) {
        g.drawLine(QPointF(plate.left() + plate.width() * from, plate.top() + plate.height() * y),
                   QPointF(plate.left() + plate.width() * to, plate.top() + plate.height() * y));
    };
    line(0.5, 0.22, 0.78);
    line(0.75, 0.32, 0.68);
}
void draw_to_edge(QPainter& g, QRectF b, bool forward, const QColor& colour) {
    g.setPen(Qt::NoPen);
    g.setBrush(colour);
    auto x = [&](double v) { return forward ? b.left() + b.width() * v : b.right() - b.width() * v; };
    g.drawPolygon(QPolygonF({QPointF(x(0.1), b.top()), QPointF(x(0.72), b.center().y()), QPointF(x(0.1), b.bottom())}));
    g.setPen(QPen(colour, std::max(2.0, b.width() / 9)));
    g.drawLine(QPointF(x(0.88), b.top() + 1), QPointF(x(0.88), b.bottom() - 1));
}

void draw_frame_step(QPainter& g, QRectF b, bool forward, const QColor& colour) {
    auto pen = std::max(1.5, b.width() / 11);
    auto x = [&](double v) { return forward ? b.left() + b.width() * v : b.right() - b.width() * v; };
    g.setPen(QPen(colour, pen));
    g.setBrush(Qt::NoBrush);
    g.drawRect(QRectF(QPointF(x(0.02), b.top() + b.height() * 0.15), QPointF(x(0.5), b.bottom() - b.height() * 0.15))
                   .normalized());
    g.setPen(QPen(colour, pen * 1.3));
    g.drawLine(QPointF(x(0.62), b.center().y()), QPointF(x(0.98), b.center().y()));
    g.drawPolyline(QPolygonF({QPointF(x(0.8), b.center().y() - b.height() * 0.2), QPointF(x(1), b.center().y()),
                              QPointF(x(0.8), b.center().y() + b.height() * 0.2)}));
}
void draw_loop(QPainter& g, QRectF b, bool on, const QColor& colour) {
    auto pen = b.width() * 0.11;
    auto r = b.adjusted(pen, pen, -pen, -pen);
    g.setPen(QPen(colour, pen, Qt::SolidLine, Qt::FlatCap));
    g.setBrush(Qt::NoBrush);
    // Closed while it goes round; open where it would end.
    g.drawArc(r, (on ? 90 : 60) * 16, (on ? 360 : -240) * 16);
    g.setPen(Qt::NoPen);
    g.setBrush(colour);
    g.drawEllipse(QPointF(r.center().x(), r.top()), pen * 1.5, pen * 1.5);
}
void draw_audio(QPainter& g, QRectF b, const QColor& colour) {
    static constexpr std::array heights{0.4, 0.9, 0.6, 1.0, 0.3};
    auto wide = b.width() / 9;
    for (std::size_t i = 0; i < heights.size(); ++i) {
        auto high = b.height() * heights.at(i);
        g.fillRect(QRectF(b.left() + wide * 2 * static_cast<double>(i), b.center().y() - high / 2, wide, high), colour);
    }
}
void draw_leave(QPainter& g, QRectF b, const QColor& colour) {
    auto pen = std::max(1.5, b.width() / 10);
    g.setPen(QPen(colour, pen));
    g.setBrush(Qt::NoBrush);
    auto left = b.left() + b.width() * 0.08, right = b.left() + b.width() * 0.58;
    g.drawPolyline(QPolygonF({QPointF(right, b.top() + pen), QPointF(left, b.top() + pen),
                              QPointF(left, b.bottom() - pen), QPointF(right, b.bottom() - pen)}));
    auto y = b.center().y();
    g.drawLine(QPointF(b.left() + b.width() * 0.36, y), QPointF(b.right(), y));
    g.drawPolyline(QPolygonF({QPointF(b.right() - b.width() * 0.22, y - b.height() * 0.2), QPointF(b.right(), y),
                              QPointF(b.right() - b.width() * 0.22, y + b.height() * 0.2)}));
}
void draw_live(QPainter& g, QRectF b, const QColor& colour) {
    g.setPen(Qt::NoPen);
    g.setBrush(colour);
    auto r = b.width() * 0.2;
    g.drawEllipse(QPointF(b.left() + b.width() * 0.62, b.center().y()), r, r);
    g.drawRect(QRectF(b.right() - b.width() * 0.1, b.top(), b.width() * 0.1, b.height()));
    g.drawRect(QRectF(b.left(), b.center().y() - b.height() * 0.05, b.width() * 0.3, b.height() * 0.1));
}

}  // namespace ruedo::look
