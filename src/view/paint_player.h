// SPDX-License-Identifier: Apache-2.0
// A whole player drawn into a picture: for mirrors and pictures of it. Nothing of this counts as shown.
#pragma once
#include "view/paint.h"

namespace ruedo {

struct PlayerStill {
    QImage picture;  ///< In any size of the display's shape; none where nothing is shown.
    QImage poster;   ///< Where one stands in front of it.
    std::span<const StripItem> strip{};
};
/// Exactly `size`, as the mount shows it.
void paint_player(QPainter& painter, QSize size, const PlayerSpec& player, const Layout& layout,
                  const ControlContext& context, const SourceSpec* source, const PlayerStill& still);
/// The picture where it lies: fitted into `area`, cut to it, with rounded corners.
void paint_video(QPainter& painter, const QImage& image, const QRectF& target, const QRectF& area,
                 const VideoSpec& spec);

}  // namespace ruedo
