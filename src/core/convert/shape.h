// SPDX-License-Identifier: Apache-2.0
// How a conversion changes the size and shape of frames.
#pragma once
#include "container/container.h"
#include "convert/plan.h"

namespace ruedo {

/// What of a picture is taken, and how large it becomes: into `reshape` and `format` of a plan whose `video` is known.
/// At most so large, where that is not 0.
void plan_shape(Plan& plan, const Recipe::Video& wanted, int most_width, int most_height, int step);
/// What a container can't say of how its pictures are shown and their codec does not say either; empty for nothing.
std::string unsaid_shape(const Track& track, const ContainerFormat& container_format);

}  // namespace ruedo
