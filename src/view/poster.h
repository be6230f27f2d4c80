// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <QImage>

#include "playback/playback.h"

namespace ruedo {

/// The picture at a time of a clip (two seconds into it, or its first quarter where it is short, without), fitted into
/// this many pixels; of sound alone its cover. Nothing where there is neither. Blocks; for threads beside the window's.
QImage make_poster(std::shared_ptr<Clip> clip, int width, int height, const std::atomic<bool>* cancel = nullptr,
                   std::optional<Time> at = {});

/// The poster of a source by its name: from the catalogue that knows it, else out of the clip. Blocks.
QImage find_poster(const std::string& source, int width, int height, const std::atomic<bool>* cancel = nullptr,
                   std::optional<Time> at = {});

}  // namespace ruedo
