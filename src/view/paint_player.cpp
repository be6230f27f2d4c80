// SPDX-License-Identifier: Apache-2.0
#include "view/paint_player.h"

#include <algorithm>
#include <cmath>

#include "view/captions.h"
#include "view/look.h"

namespace ruedo {
void paint_video(QPainter& g, const QImage& image, const QRectF& target, const QRectF& area, const VideoSpec& spec) {
    auto seen = area & target;
    bool as_is = std::abs(target.width() * g.device()->devicePixelRatioF() - image.width()) < 0.5 &&
                 std::abs(target.height() * g.device()->devicePixelRatioF() - image.height()) < 0.5;
    g.save();
    if (!as_is && !spec.blocky) g.setRenderHint(QPainter::SmoothPixmapTransform);
    if (spec.corner > 0) {
        // The picture as the paint of a rounded shape, so that its corners are smooth.
        QBrush paint(image);
        paint.setTransform(QTransform::fromTranslate(target.x(), target.y())
                               .scale(target.width() / image.width(), target.height() / image.height()));
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(Qt::NoPen);
        g.setBrush(paint);
        g.drawRoundedRect(seen, spec.corner, spec.corner);
    } else {
        if (seen != target) g.setClipRect(seen, Qt::IntersectClip);
        g.drawImage(target, image);
    }
    g.restore();
}

void paint_player(QPainter& g, QSize size, const PlayerSpec& player, const Layout& layout,
                  const ControlContext& context, const SourceSpec* source, const PlayerStill& still) {
    // What hangs beside a surface has nothing of it behind it.
    g.fillRect(layout.loose ? rect_of(layout.area) : QRect(QPoint(), size), QColor(text(player.picture.surround)));
    QRectF area(rect_of(layout.area));
    QRectF target(rect_of(layout.picture));
    auto& s = context.snapshot;
    if (source && s.display_width > 0) {
        auto r = fit_rect(source->fit, s.display_width, s.display_height, area.width(), area.height(), source->align_x,
                          source->align_y);
        target =
            QRectF(std::round(area.x() + r.x), std::round(area.y() + r.y), std::round(r.width), std::round(r.height));
    }
    if (!still.picture.isNull()) paint_video(g, still.picture, target, area, player.picture);
    if (!still.poster.isNull()) {
        g.fillRect(area, QColor(text(player.picture.surround)));
        auto fitted = QSizeF(still.poster.size()).scaled(area.size(), Qt::KeepAspectRatio);
        g.save();
        g.setRenderHint(QPainter::SmoothPixmapTransform);
        g.drawImage(QRectF(area.center() - QPointF(fitted.width(), fitted.height()) / 2, fitted), still.poster);
        g.restore();
    }
    bool line_of_its_own = false;
    for (std::size_t i = 0; i < player.controls.size(); ++i)
        line_of_its_own = line_of_its_own ||
                          (layout.controls[i].shown && player.controls[i].kind->form == ControlKind::Form::captions);
    if (!line_of_its_own) paint_cues(g, s, target & area, layout.captions_foot);
    for (auto& b : layout.bars) {
        auto& bar = player.bars[b.bar];
        paint_bar(g, player.theme_on(&bar), bar.cover, rect_of(b.box));
    }

    for (std::size_t i = 0; i < player.controls.size(); ++i) {
        auto& at = layout.controls[i];
        if (!at.shown) continue;
        Drawn drawn;
        drawn.on_picture = !at.on_bar, drawn.on_dark = at.on_dark, drawn.theme = at.theme, drawn.strip = still.strip;
        paint_control(g, player.controls[i], context, rect_of(at.box), drawn);
    }
    for (auto& m : layout.more) {
        Drawn drawn;
        drawn.on_picture = m.bar.empty(), drawn.theme = player.theme_on(player.bar(m.bar));
        drawn.on_dark = lies_on_dark(nullptr, drawn.theme);
        paint_more(g, rect_of(m.box), drawn);
    }
}

}  // namespace ruedo
