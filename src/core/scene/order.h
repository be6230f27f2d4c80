// SPDX-License-Identifier: Apache-2.0
// What a scene is drawn of, and in which order: flat convex faces in a tree that every plane of one of them divides.
// From any eye it gives them from the farthest to the nearest, exactly: what goes through something else is cut where
// it does.
#pragma once
#include <memory>

#include "scene/scene.h"

namespace ruedo::scene {

struct Face {
    struct Edge {
        bool cut = false;  ///< Not a visible edge: the same surface goes on behind it.
        /// The plane of the neighbour it is shared with: a visible edge where that is turned away.
        std::optional<Vec> beyond{};
    };
    std::vector<Vec> corners;  ///< In order, counter-clockwise from before it.
    std::vector<Edge> edges;   ///< The `i`-th goes from corner `i` to the next.
    Vec face;
    double offset = 0;  ///< dot(face, place) of its plane.
    std::size_t thing = 0;
    /// Where on the sheet: x = dot(place - origin, across) and so on, in pixels.
    Vec origin, across, down;
    double side(const Vec& place) const { return dot(face, place) - offset; }
};

/// The faces of a thing. A bent panel is cut into strips that no pixel tells from the bend.
std::vector<Face> faces_of(const Thing& thing, std::size_t number);

class Order {
  public:
    Order() = default;
    explicit Order(std::vector<Face> faces);
    /// From the farthest to the nearest. What is seen edge-on is left out.
    std::vector<const Face*> from(const Vec& eye) const;

  private:
    struct Node {
        std::vector<Face> here;
        std::unique_ptr<Node> before, behind;
    };
    static std::unique_ptr<Node> divide(std::vector<Face> faces);
    static void walk(const Node* node, const Vec& eye, std::vector<const Face*>& out);
    std::unique_ptr<Node> root_;
};

}  // namespace ruedo::scene
