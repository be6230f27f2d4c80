// SPDX-License-Identifier: Apache-2.0
#include "view/paint.h"

#include <algorithm>
#include <cmath>

#include "view/look.h"

namespace ruedo {
namespace {
using Form = ControlKind::Form;
// Controls stand on a sand-coloured plate in both schemes, since they lie on the picture.
const QColor sand(text(usual_background)), dark_ink{0x2A, 0x21, 0x1C}, soft_ink{0x5C, 0x4F, 0x43},
    wine(text(usual_accent)), paper{0xF7, 0xF1, 0xE5}, rule{0xD0, 0xC2, 0xA6}, teal{0x1E, 0x6E, 0x72},
    ochre{0xC4, 0x84, 0x1D};
/// The colours a control is drawn in, by its theme and by what lies under it.
struct Shades {
    QColor ink, soft, accent;
    QColor unusable;  ///< What can't be used just now.
    QColor rule;      ///< The empty part of rails, dials and meters.
    QColor on_accent;
};
QColor colour_or(const std::string& set, const QColor& usual) { return set.empty() ? usual : QColor(text(set)); }
Shades shades(const Drawn& drawn) {
    auto& t = drawn.theme;
    auto dark = drawn.on_dark;
    Shades s{dark ? paper : dark_ink,
             dark ? rule : soft_ink,
             dark ? QColor(0xD0, 0x58, 0x6B) : wine,
             dark ? soft_ink : rule,
             rule,
             paper};
    if (!t.accent.empty()) s.accent = QColor(text(t.accent)), s.on_accent = is_dark(t.accent) ? paper : dark_ink;
    if (!t.text.empty()) {
        s.ink = s.soft = s.unusable = s.rule = QColor(text(t.text));
        s.unusable.setAlphaF(0.4F), s.rule.setAlphaF(0.25F);
    }
    return s;
}
QFont in_family(QFont f, const Drawn& drawn) {
    if (!drawn.theme.font.empty()) f.setFamilies({text(drawn.theme.font)});
    return f;
}
/// Its own, its theme's, or what is usual.
double radius_of(const ControlSpec& c, const Drawn& drawn, double usual) {
    return c.settings.radius >= 0 ? c.settings.radius : drawn.theme.corner >= 0 ? drawn.theme.corner : usual;
}
constexpr double dial_from = 225, dial_sweep = 270;  // degrees, counter-clockwise from the right; open at the foot
constexpr double strip_wide = 64, strip_gap = 6;

void draw_focus(QPainter& g, QRectF r, double radius) {
    g.setBrush(Qt::NoBrush);
    g.setPen(QPen(ochre, 2));
    g.drawRoundedRect(r.adjusted(1, 1, -1, -1), radius, radius);
}
QRectF square_in(QRectF box) {
    auto side = std::min(box.width(), box.height());
    return {box.center().x() - side / 2, box.center().y() - side / 2, side, side};
}
QFont words_font(const ControlSpec& c, QRectF box, const Drawn& drawn) {
    auto f = in_family(look::tabular(look::Size::small), drawn);
    f.setPixelSize(words_pixels(c, static_cast<int>(box.height())));
    return f;
}
/// The background of a control: a colour of its own, or a plate where it lies on the video.
void paint_ground(QPainter& g, const ControlSpec& c, QRectF box, const Drawn& drawn) {
    auto& s = c.settings;
    if (s.ground.empty() && !drawn.on_picture) return;
    auto ground = colour_or(drawn.theme.background, sand);
    ground.setAlpha(238);
    auto radius = radius_of(c, drawn, 4);
    g.setPen(Qt::NoPen);
    g.setBrush(colour_or(s.ground, ground));
    g.drawRoundedRect(box, radius, radius);
}

void draw_mark(QPainter& g, const Mark& mark, QRectF square, double inset, const QColor& ink, const Drawn& drawn) {
    // A larger mark leaves less free around it, in the same place.
    if (auto per_cent = drawn.theme.mark_size) {
        auto more = square.width() * (per_cent / 100.0 - 1) / 2;
        square.adjust(-more, -more, more, more);
    }
    auto side = square.width();
    auto within = [&](double part) { return square.adjusted(side * part, side * part, -side * part, -side * part); };
    auto place = within(inset);
    using Shape = Mark::Shape;
    switch (mark.shape) {
        case Shape::none:
            break;
        case Shape::play:
            return look::draw_play(g, place.translated(side * 0.02, 0), ink);
        case Shape::pause:
            return look::draw_pause(g, place, ink);
        case Shape::stop:
            return g.fillRect(within(inset + 0.06), ink);
        case Shape::turn_back:
        case Shape::turn_forward:
            return look::draw_turn(g, within(0.18), mark.shape == Shape::turn_forward, text(mark.figure), ink);
        case Shape::frame_back:
        case Shape::frame_forward:
            return look::draw_frame_step(g, place, mark.shape == Shape::frame_forward, ink);
        case Shape::to_start:
        case Shape::to_end:
            return look::draw_to_edge(g, place, mark.shape == Shape::to_end, ink);
        case Shape::speaker:
            return look::draw_speaker(g, place, mark.level, mark.on, ink);
        case Shape::loop:
            return look::draw_loop(g, within(0.2), mark.on, ink);
        case Shape::figure: {
            auto f = in_family(look::tabular(look::Size::small, true), drawn);
            f.setPixelSize(std::max(10, static_cast<int>(side * 0.32)));
            g.setFont(f);
            g.setPen(ink);
            return g.drawText(square, Qt::AlignCenter, text(mark.figure));
        }
        case Shape::captions:
            return look::draw_captions(g, place, mark.on, ink);
        case Shape::audio_tracks:
            return look::draw_audio(g, place, ink);
        case Shape::corners:
            return look::draw_corners(g, place, mark.on, ink);
        case Shape::leave:
            return look::draw_leave(g, place, ink);
        case Shape::again:
            return look::draw_turn(g, within(0.22), true, {}, ink);
        case Shape::live:
            return look::draw_live(g, place, ink);
        case Shape::waiting:
            return look::draw_glyph(g, place, look::Glyph::broken, ink);
        case Shape::more:
            return look::draw_glyph(g, within(0.3), look::Glyph::dotted, ink);
    }
}

void paint_button(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    auto& s = c.settings;
    bool works = unusable(c, context).empty();
    auto shade = shades(drawn);
    auto chief = c.kind->chief;
    auto on_disc = s.ground.empty() ? shade.on_accent : is_dark(s.ground) ? paper : dark_ink;
    auto ink = !works ? shade.unusable : colour_or(s.ink, chief ? on_disc : drawn.pressed ? shade.accent : shade.ink);
    bool mark = s.show != ControlSettings::Show::words, words = s.show != ControlSettings::Show::mark;
    auto round = chief && !words ? std::min(box.width(), box.height()) / 2 : 8;
    auto radius = chief && !words && s.radius < 0 ? round : radius_of(c, drawn, round);
    if (chief) {
        // The one that matters most is a disc, whatever lies under it.
        auto plate = words ? box.adjusted(3, 3, -3, -3) : square_in(box).adjusted(3, 3, -3, -3);
        auto disc = colour_or(s.ground, drawn.theme.accent.empty() ? wine : shade.accent);
        g.setPen(drawn.on_picture ? QPen(paper, 2) : QPen(Qt::NoPen));
        g.setBrush(drawn.pressed && s.ground.empty() ? (drawn.theme.accent.empty() ? dark_ink : disc.darker(130))
                                                     : disc);
        g.drawRoundedRect(plate, radius, radius);
    } else {
        paint_ground(g, c, box, drawn);
    }
    auto square = mark && words ? QRectF(box.left(), box.top(), box.height(), box.height()) : square_in(box);
    if (mark) draw_mark(g, c.kind->mark(context, s), square, chief ? 0.33 : 0.27, ink, drawn);
    if (words) {
        g.setFont(words_font(c, box, drawn));
        g.setPen(ink);
        auto place = mark ? box.adjusted(square.width(), 0, -6, 0) : box.adjusted(6, 0, -6, 0);
        g.drawText(
            place, (mark ? Qt::AlignLeft : Qt::AlignHCenter) | Qt::AlignVCenter,
            g.fontMetrics().elidedText(text(label_of(c, context)), Qt::ElideRight, static_cast<int>(place.width())));
    }
    if (drawn.focus) draw_focus(g, words ? box : square_in(box), radius);
}

void paint_rail(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    auto& s = context.snapshot;
    paint_ground(g, c, box, drawn);
    auto r = rail_in(box, c);
    auto [from, to] = rail_range(s);
    auto x_of = [&, from = from, to = to](Time t) {
        auto part = to > from ? static_cast<double>((t - from).ns) / static_cast<double>((to - from).ns) : 0;
        return r.left() + r.width() * std::clamp(part, 0.0, 1.0);
    };
    auto shade = shades(drawn);
    auto ink = colour_or(c.settings.ink, shade.accent);
    auto position = drawn.dragged ? from + scaled(to - from, *drawn.dragged) : s.position;
    g.setPen(Qt::NoPen);
    g.setBrush(shade.rule);
    g.drawRect(r);
    // Buffered, as a thin line at the foot; where it is, from the start.
    g.setBrush(teal);
    g.drawRect(QRectF(x_of(s.buffered_from), r.bottom() - 2, x_of(s.buffered_to) - x_of(s.buffered_from), 2));
    g.setBrush(ink);
    g.drawRect(QRectF(r.left(), r.top(), x_of(position) - r.left(), r.height() - 2));
    if (c.settings.ticks && s.pictures) {
        // Those that would stand closer together than can be seen are one.
        g.setBrush(shade.soft);
        double before = -10;
        for (auto t : s.pictures->keyframes)
            if (auto x = x_of(t); t >= from && t <= to && x - before >= 4)
                g.drawRect(QRectF(x - 0.5, r.top() - 5, 1, 4)), before = x;
    }
    // The stretch that repeats stands between two gates.
    if (s.loop.kind == Loop::Kind::range) {
        g.setBrush(ochre);
        for (auto t : {s.loop.from, s.loop.to}) g.drawRect(QRectF(x_of(t) - 1, r.top() - 6, 2, r.height() + 8));
        g.drawRect(QRectF(x_of(s.loop.from), r.top() - 6, x_of(s.loop.to) - x_of(s.loop.from), 2));
    }
    // A post, not a knob: it stands on the rail like a ring's fence.
    bool works = unusable(c, context).empty();
    auto x = x_of(position);
    g.setBrush(works ? ink : shade.soft);
    g.drawRect(QRectF(x - 3, r.top() - 8, 6, r.height() + 12));
    if (c.settings.figures) {
        g.setFont(in_family(look::tabular(look::Size::small), drawn));
        g.setPen(colour_or(c.settings.ink, shade.ink));
        auto words = QRectF(r.left(), r.bottom() + 4, r.width(), 16);
        g.drawText(words, Qt::AlignLeft | Qt::AlignVCenter, text(format_clock(position)));
        if (s.duration_known) {
            g.setPen(colour_or(c.settings.ink, shade.soft));
            g.drawText(words, Qt::AlignRight | Qt::AlignVCenter, text(format_clock(s.duration - position) + " left"));
        }
    }
    if (drawn.focus) draw_focus(g, box, 6);
}

void paint_dial(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    paint_ground(g, c, box, drawn);
    auto mark = c.kind->mark(context, c.settings);
    auto square = square_in(box);
    auto r =
        square.adjusted(square.width() * 0.16, square.width() * 0.16, -square.width() * 0.16, -square.width() * 0.16);
    auto arc = [&](double part, const QColor& colour) {
        g.setPen(QPen(colour, square.width() * 0.11, Qt::SolidLine, Qt::FlatCap));
        g.drawArc(r, static_cast<int>(dial_from * 16), static_cast<int>(-dial_sweep * part * 16));
    };
    auto shade = shades(drawn);
    arc(1, shade.rule);
    arc(c.kind->value(context), mark.on ? shade.soft : colour_or(c.settings.ink, shade.accent));
    auto f = in_family(look::tabular(look::Size::small), drawn);
    f.setPixelSize(std::max(10, static_cast<int>(square.width() * 0.27)));
    g.setFont(f);
    g.setPen(mark.on ? shade.soft : colour_or(c.settings.ink, shade.ink));
    g.drawText(square, Qt::AlignCenter, text(mark.figure));
    if (drawn.focus) draw_focus(g, square, 6);
}

void paint_words(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    paint_ground(g, c, box, drawn);
    auto words = text(label_of(c, context));
    if (auto mark = c.kind->mark(context, c.settings); mark.shape != Mark::Shape::none) {
        QRectF square(box.left() + 2, box.center().y() - 12, 24, 24);
        draw_mark(g, mark, square, 0.2, shades(drawn).accent, drawn);
        box.setLeft(square.right());
    }
    g.setFont(words_font(c, box, drawn));
    g.setPen(colour_or(c.settings.ink, shades(drawn).ink));
    g.drawText(box, Qt::AlignCenter,
               g.fontMetrics().elidedText(words, Qt::ElideRight, static_cast<int>(box.width() - 4)));
}

/// Strokes from soft to full; as many are filled as it is loud.
void paint_meter(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    paint_ground(g, c, box, drawn);
    auto loud = (level_dB(context.snapshot) + 48) / 48;
    auto r = box.adjusted(6, box.height() / 2 - 8, -6, -(box.height() / 2 - 8));
    auto count = std::max(4, static_cast<int>(r.width() / 7));
    auto shade = shades(drawn);
    auto usual = drawn.theme.accent.empty() ? teal : shade.accent;
    for (int i = 0; i < count; ++i) {
        // The last few are near full.
        auto filled = (i + 0.5) / count < loud;
        auto colour = i >= count * 7 / 8 ? ochre : colour_or(c.settings.ink, usual);
        g.setPen(QPen(filled ? colour : shade.rule, 3, Qt::SolidLine, Qt::FlatCap));
        auto x = r.left() + (i + 0.5) * r.width() / count;
        g.drawLine(QPointF(x, r.top()), QPointF(x, r.bottom()));
    }
}

/// What failed, or has not come, and what can be done: one block in the middle.
void paint_notice(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    g.setPen(Qt::NoPen);
    g.setBrush(colour_or(c.settings.ground, QColor(0x17, 0x13, 0x1A, 225)));
    g.drawRoundedRect(box, radius_of(c, drawn, 4), radius_of(c, drawn, 4));
    // Nothing may have failed: it has only waited for too long.
    auto e = context.snapshot.error.value_or(Error{});
    if (!context.snapshot.error) e.sentence = label_of(c, context);
    QTextOption wrap(Qt::AlignCenter);
    wrap.setWrapMode(QTextOption::WordWrap);
    auto f = in_family(look::font(look::Size::body), drawn);
    f.setPixelSize(16);
    auto soft = in_family(look::font(look::Size::small), drawn);
    auto words = box.adjusted(12, 8, -12, -8);
    auto first = QFontMetricsF(f).boundingRect(words, Qt::TextWordWrap | Qt::AlignHCenter, text(e.sentence));
    auto second = QFontMetricsF(soft).boundingRect(words, Qt::TextWordWrap | Qt::AlignHCenter, text(e.hint));
    auto top = words.center().y() - (first.height() + second.height() + 4) / 2;
    g.setFont(f);
    g.setPen(colour_or(c.settings.ink, paper));
    g.drawText(QRectF(words.left(), top, words.width(), first.height()), text(e.sentence), wrap);
    g.setFont(soft);
    g.setPen(QColor(0xC2, 0xB4, 0xA4));
    g.drawText(QRectF(words.left(), top + first.height() + 4, words.width(), second.height() + 2), text(e.hint), wrap);
}

/// A dark disc with a mark that turns, or with a figure.
void paint_sign(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    auto square = square_in(box);
    g.setPen(Qt::NoPen);
    g.setBrush(colour_or(c.settings.ground, QColor(0x17, 0x13, 0x1A, 190)));
    g.drawEllipse(square.adjusted(1, 1, -1, -1));
    auto ink = colour_or(c.settings.ink, paper);
    if (auto mark = c.kind->mark(context, c.settings); mark.shape != Mark::Shape::none) {
        g.save();
        g.translate(square.center());
        g.rotate(drawn.turned);
        draw_mark(g, mark, square.translated(-square.center()), 0.16, ink, drawn);
        g.restore();
        return;
    }
    auto f = in_family(look::tabular(look::Size::large, true), drawn);
    f.setPixelSize(std::max(12, static_cast<int>(square.width() * 0.42)));
    g.setFont(f);
    g.setPen(ink);
    g.drawText(square, Qt::AlignCenter, text(label_of(c, context)));
}

void paint_strip(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    paint_ground(g, c, box, drawn);
    g.setRenderHint(QPainter::SmoothPixmapTransform);
    g.setFont(in_family(look::font(look::Size::small), drawn));
    auto chosen = drawn.theme.accent.empty() ? wine : shades(drawn).accent;
    auto first = strip_first(box, drawn.strip.size(), context.index);
    for (auto i = first; i < drawn.strip.size(); ++i) {
        auto b = strip_box(box, i, first);
        if (b.right() > box.right() + 1) break;
        g.fillRect(b, look::surround);
        auto& item = drawn.strip[i];
        if (!item.poster.isNull()) {
            auto size = QSizeF(item.poster.size()).scaled(b.size(), Qt::KeepAspectRatio);
            g.drawImage(QRectF(b.center() - QPointF(size.width() / 2, size.height() / 2), size), item.poster);
        } else {
            g.setPen(paper);
            g.drawText(b.adjusted(4, 2, -4, -2), Qt::AlignCenter | Qt::TextWordWrap, item.name);
        }
        g.setBrush(Qt::NoBrush);
        bool now = i == context.index;
        g.setPen(QPen(now ? chosen : rule, now ? 3 : 1));
        g.drawRect(b.adjusted(1, 1, -1, -1));
    }
    if (drawn.focus) draw_focus(g, box, 4);
}

void paint_captions(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    auto words = text(label_of(c, context));
    if (drawn.on_picture && !words.isEmpty()) {
        g.setPen(Qt::NoPen);
        g.setBrush(colour_or(c.settings.ground, QColor(0x17, 0x13, 0x1A, 205)));
        g.drawRect(box);
    } else if (!drawn.on_picture) {
        paint_ground(g, c, box, drawn);
    }
    auto f = in_family(look::font(look::Size::body), drawn);
    f.setPixelSize(std::clamp(static_cast<int>(box.height() * 0.4), 12, 40));
    g.setFont(f);
    g.setPen(colour_or(c.settings.ink, drawn.on_picture ? paper : shades(drawn).ink));
    g.drawText(box.adjusted(6, 0, -6, 0), Qt::AlignCenter | Qt::TextWordWrap, words);
}

}  // namespace

void paint_control(QPainter& g, const ControlSpec& c, const ControlContext& context, QRectF box, const Drawn& drawn) {
    g.save();
    g.setRenderHint(QPainter::Antialiasing);
    g.setBrush(Qt::NoBrush);
    switch (c.kind->form) {
        case Form::button:
            paint_button(g, c, context, box, drawn);
            break;
        case Form::rail:
            paint_rail(g, c, context, box, drawn);
            break;
        case Form::dial:
            paint_dial(g, c, context, box, drawn);
            break;
        case Form::label:
            paint_words(g, c, context, box, drawn);
            break;
        case Form::sign:
            paint_sign(g, c, context, box, drawn);
            break;
        case Form::notice:
            paint_notice(g, c, context, box, drawn);
            break;
        case Form::strip:
            paint_strip(g, c, context, box, drawn);
            break;
        case Form::captions:
            paint_captions(g, c, context, box, drawn);
            break;
        case Form::meter:
            paint_meter(g, c, context, box, drawn);
            break;
    }
    g.restore();
}

void paint_bar(QPainter& g, const ThemeSpec& theme, double cover, QRectF box) {
    g.save();
    g.setRenderHint(QPainter::Antialiasing);
    auto ground = colour_or(theme.background, sand);
    ground.setAlphaF(static_cast<float>(cover));
    g.setPen(Qt::NoPen);
    g.setBrush(ground);
    auto radius = theme.corner >= 0 ? theme.corner : 4;
    g.drawRoundedRect(box, radius, radius);
    g.restore();
}

void paint_more(QPainter& g, QRectF box, const Drawn& drawn) {
    static const ControlSpec plain{.kind = &control_kind("stop")};
    g.save();
    g.setRenderHint(QPainter::Antialiasing);
    g.setBrush(Qt::NoBrush);
    paint_ground(g, plain, box, drawn);
    draw_mark(g, {Mark::Shape::more}, square_in(box), 0.27, drawn.pressed ? shades(drawn).accent : shades(drawn).ink,
              drawn);
    if (drawn.focus) draw_focus(g, square_in(box), 8);
    g.restore();
}

QRectF rail_in(QRectF box, const ControlSpec& c) {
    return {box.left() + 8, box.center().y() - (c.settings.figures ? 8 : 3), box.width() - 16, 6};
}
double dial_at(QRectF box, QPointF at) {
    auto d = at - box.center();
    double angle = std::atan2(-d.y(), d.x()) * 180 / M_PI;
    double turned = std::fmod(dial_from - angle + 720, 360);
    // In the opening at the foot the nearer end counts.
    if (turned > dial_sweep) turned = turned < dial_sweep + (360 - dial_sweep) / 2 ? dial_sweep : 0;
    return turned / dial_sweep;
}
QRectF strip_box(QRectF box, std::size_t i, std::size_t first) {
    return {box.left() + static_cast<double>(i - first) * (strip_wide + strip_gap), box.top() + 4, strip_wide,
            box.height() - 8.0};
}
std::size_t strip_first(QRectF box, std::size_t count, std::size_t index) {
    auto fit = static_cast<std::size_t>(std::max(1.0, (box.width() + strip_gap) / (strip_wide + strip_gap)));
    if (count <= fit) return 0;
    return std::min(count - fit, index > fit / 2 ? index - fit / 2 : 0);
}

}  // namespace ruedo
