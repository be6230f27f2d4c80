// SPDX-License-Identifier: Apache-2.0
// Sand and wine: the colours and the few shapes that everything seen is made of.
#pragma once
#include <QColor>
#include <QLabel>
#include <QPainter>
#include <QString>
#include <string_view>

namespace ruedo {

/// The core's UTF-8 as the interface's strings.
inline QString text(std::string_view s) { return QString::fromUtf8(s.data(), static_cast<qsizetype>(s.size())); }

}  // namespace ruedo

namespace ruedo::look {

struct Colours {
    QColor ground, panel, line, ink, soft, wine, ochre, teal, moss, rust, on_wine;
};
/// As the system says; light when it says nothing.
const Colours& colours();
bool is_dark();
/// Sets the application's palette and font sizes, and that tips are plain text.
void apply();
inline const QColor surround{0x17, 0x13, 0x1A};

/// The three sizes of the one typeface.
enum class Size { small, body, large };
QFont font(Size size, bool bold = false);
/// Digits of equal width, for numbers that change.
QFont tabular(Size size, bool bold = false);

/// A label whose words are what they are: a name that looks like markup is a name.
class Label : public QLabel {
  public:
    explicit Label(const QString& words = {}, QWidget* parent = nullptr) : QLabel(words, parent) {
        setTextFormat(Qt::PlainText);
    }
    explicit Label(QWidget* parent) : Label(QString(), parent) {}
};
/// Words of somebody else’s for a menu or a press: an ampersand in them is one, and underlines nothing.
inline QString literal(QString words) { return words.replace('&', "&&"); }

/// The ring family: an arc that says a state without colour.
enum class Glyph { filled, broken, dotted, barred };
void draw_glyph(QPainter& painter, QRectF box, Glyph glyph, const QColor& colour);

// Marks of IEC 60417: 5107B (normal run), 5111B (pause). Drawn into a square.
void draw_play(QPainter& painter, QRectF box, const QColor& colour);
void draw_pause(QPainter& painter, QRectF box, const QColor& colour);
/// A turn of a ring back or forth, with what it turns by written inside.
void draw_turn(QPainter& painter, QRectF box, bool forward, const QString& inside, const QColor& colour);
void draw_speaker(QPainter& painter, QRectF box, double level, bool muted, const QColor& colour);
/// A plate with lines of words, filled while captions are shown.
void draw_captions(QPainter& painter, QRectF box, bool on, const QColor& colour);
/// Towards the next source, or back: a wedge against an edge.
void draw_to_edge(QPainter& painter, QRectF box, bool forward, const QColor& colour);
void draw_corners(QPainter& painter, QRectF box, bool inward, const QColor& colour);
/// One frame of a strip, with an arm to the side it steps to.
void draw_frame_step(QPainter& painter, QRectF box, bool forward, const QColor& colour);
/// A closed ring with a bead where it begins; broken while it plays once.
void draw_loop(QPainter& painter, QRectF box, bool on, const QColor& colour);
/// Two voices: bars of a level, side by side.
void draw_audio(QPainter& painter, QRectF box, const QColor& colour);
/// Out through the open side of a frame.
void draw_leave(QPainter& painter, QRectF box, const QColor& colour);
/// A dot on its way into a gate: now.
void draw_live(QPainter& painter, QRectF box, const QColor& colour);

}  // namespace ruedo::look
