// SPDX-License-Identifier: Apache-2.0
// The picture of a scene as an eye sees it. Faces are drawn from the farthest to the nearest (scene/order.h), each
// pixel by the part of it that a face covers, with textures filtered as they are seen (scene/texture.h). What has not
// changed is not drawn again: neither what stands behind pictures that play, nor anything where nothing moves.
#pragma once
#include <functional>
#include <memory>
#include <span>

#include "scene/order.h"
#include "scene/texture.h"

namespace ruedo::scene {

/// What is laid onto a player's screen and bars, in pixels of its layout, the lowest first.
struct Laid {
    struct Layer {
        Texture texture;
        RectF place;               ///< All of the texture lies here,
        std::vector<RectF> parts;  ///< and this much of it is seen.
    };
    std::vector<Layer> layers;
    std::string surround = "#17131A";  ///< Of the screen, under everything.
};

class Projection {
  public:
    /// Draws with so many threads, the caller's among them; 0 for as many as there are cores.
    explicit Projection(int threads = 0);
    ~Projection();
    Projection(const Projection&) = delete;
    /// Brings the picture up to date and says which part of it differs from before; nothing where none does. `laid`:
    /// one for each player. Textures must stay until the next call. The picture has the eye's size. Not for several
    /// threads at a time.
    Box draw(const Scene& scene, const Eye& eye, std::span<const Laid> laid);
    const RgbImage& image() const;
    /// Faces that the last call drew, and halved pictures it made: nothing where nothing changed.
    struct Work {
        std::size_t faces = 0, halved = 0;
    };
    Work work() const;

  private:
    class Drawing;
    std::unique_ptr<Drawing> drawing_;
};

/// "#17131A" as 32-bit B G R A, opaque; black where it is no colour.
std::uint32_t pixel_of(std::string_view colour);

}  // namespace ruedo::scene
