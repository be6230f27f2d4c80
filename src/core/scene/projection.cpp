// SPDX-License-Identifier: Apache-2.0
#include "scene/projection.h"

#include <algorithm>
#include <charconv>
#include <cstring>
#include <thread>

#include "scene/crew.h"
#include "scene/raster.h"

namespace ruedo::scene {
namespace {

constexpr double before_eye = 1e-3;  ///< Nearer than this nothing is asked where it is.

bool same(const Scene& a, const Scene& b) {
    auto alike = [](const Thing& p, const Thing& q) {
        return p.kind == q.kind && p.player == q.player && p.panel == q.panel && p.body.foot == q.body.foot &&
               p.body.axes == q.body.axes && p.body.width == q.body.width && p.body.height == q.body.height &&
               p.body.depth == q.body.depth && p.body.round == q.body.round && p.sheet == q.sheet &&
               p.colour == q.colour && p.cover == q.cover;
    };
    return a.low == b.low && a.high == b.high && a.walls == b.walls && a.floor == b.floor &&
           std::equal(a.things.begin(), a.things.end(), b.things.begin(), b.things.end(), alike);
}

/// A plane before an eye: where pixels fall on it.
class Plane {
  public:
    Plane(const Eye& eye, const Vec& face, const Vec& on, const Vec& origin, const Vec& across, const Vec& down)
        : eye_(eye) {
        auto f = eye.focal();
        auto linear = [&](const Vec& n) {
            // dot(n, direction of the pixel x, y)
            std::array<double, 3> l{-dot(n, eye.axes.right) * eye.width / 2 + dot(n, eye.axes.up) * eye.height / 2 -
                                        dot(n, eye.axes.face) * f,
                                    dot(n, eye.axes.right), -dot(n, eye.axes.up)};
            return l;
        };
        auto to = dot(face, on - eye.at);
        auto sign = to < 0 ? -1.0 : 1.0;
        auto w = linear(face), s = linear(across), t = linear(down);
        auto s0 = dot(across, eye.at - origin), t0 = dot(down, eye.at - origin);
        auto combine = [&](double start, double wk, double k) { return sign * (start * wk + to * k); };
        mapping_ = {combine(s0, w[0], s[0]),
                    combine(s0, w[1], s[1]),
                    combine(s0, w[2], s[2]),
                    combine(t0, w[0], t[0]),
                    combine(t0, w[1], t[1]),
                    combine(t0, w[2], t[2]),
                    sign * w[0],
                    sign * w[1],
                    sign * w[2]};
    }
    const Mapping& mapping() const { return mapping_; }
    /// The same, counted from `place` in units of which it holds `units`.
    Mapping within(const RectF& place, double wide, double high) const {
        auto m = mapping_;
        auto kx = wide / place.width, ky = high / place.height;
        m.x0 = (m.x0 - place.x * m.w0) * kx, m.xx = (m.xx - place.x * m.wx) * kx, m.xy = (m.xy - place.x * m.wy) * kx;
        m.y0 = (m.y0 - place.y * m.w0) * ky, m.yx = (m.yx - place.y * m.wx) * ky, m.yy = (m.yy - place.y * m.wy) * ky;
        return m;
    }
    /// Where x (or y) is at least (or, with a `sign` of -1, at most) `value`.
    std::optional<Bound> beyond(bool down, double value, double sign) const {
        auto& m = mapping_;
        return down ? Bound::of(sign * (m.yx - value * m.wx), sign * (m.yy - value * m.wy),
                                sign * (m.y0 - value * m.w0), true)
                    : Bound::of(sign * (m.xx - value * m.wx), sign * (m.xy - value * m.wy),
                                sign * (m.x0 - value * m.w0), true);
    }
    std::optional<Bound> ahead() const { return Bound::of(mapping_.wx, mapping_.wy, mapping_.w0, false); }

  private:
    const Eye& eye_;
    Mapping mapping_;
};

/// The half plane of the view beside the edge from `a` to `b`, on the side of `inner`.
std::optional<Bound> beside(const Eye& eye, const Vec& a, const Vec& b, const Vec& inner, bool soft) {
    auto n = cross(a - eye.at, b - eye.at);
    if (dot(n, inner - eye.at) < 0) n = -n;
    auto across = dot(n, eye.axes.right), down = -dot(n, eye.axes.up);
    return Bound::of(across, down,
                     -across * eye.width / 2 - down * eye.height / 2 - dot(n, eye.axes.face) * eye.focal(), soft);
}

/// The pixels of the view that a polygon may touch; `behind` where a part of it is not before the eye.
Box touched(const Eye& eye, std::span<const Vec> corners, bool& behind) {
    double left = INFINITY, top = INFINITY, right = -INFINITY, bottom = -INFINITY;
    auto take = [&](const Vec& p) {
        auto s = eye.project(p);
        if (!s) return;
        left = std::min(left, s->x), right = std::max(right, s->x);
        top = std::min(top, s->y), bottom = std::max(bottom, s->y);
    };
    auto depth = [&](const Vec& p) { return -dot(p - eye.at, eye.axes.face); };
    for (std::size_t i = 0; i < corners.size(); ++i) {
        auto &a = corners[i], &b = corners[(i + 1) % corners.size()];
        auto da = depth(a), db = depth(b);
        if (da >= before_eye)
            take(a);
        else
            behind = true;
        if ((da >= before_eye) != (db >= before_eye)) take(a + (b - a) * ((before_eye - da) / (db - da)));
    }
    if (!(left <= right)) return {};
    auto low = [](double v, int most) { return static_cast<int>(std::clamp(std::floor(v), 0.0, double(most))); };
    auto high = [](double v, int most) { return static_cast<int>(std::clamp(std::ceil(v), 0.0, double(most))); };
    int x = low(left, eye.width), y = low(top, eye.height);
    return {x, y, high(right, eye.width) - x, high(bottom, eye.height) - y};
}
Box both(const Box& a, const Box& b) {
    int x = std::max(a.x, b.x), y = std::max(a.y, b.y);
    return {x, y, std::min(a.right(), b.right()) - x, std::min(a.bottom(), b.bottom()) - y};
}
Box around(const Box& a, const Box& b) {
    if (a.empty()) return b;
    if (b.empty()) return a;
    int x = std::min(a.x, b.x), y = std::min(a.y, b.y);
    return {x, y, std::max(a.right(), b.right()) - x, std::max(a.bottom(), b.bottom()) - y};
}
RectF both(const RectF& a, const RectF& b) {
    auto x = std::max(a.x, b.x), y = std::max(a.y, b.y);
    return {x, y, std::min(a.x + a.width, b.x + b.width) - x, std::min(a.y + a.height, b.y + b.height) - y};
}
std::uint32_t dimmed(std::uint32_t pixel, double by) {
    auto one = [&](int at) {
        return static_cast<std::uint32_t>(std::lround((pixel >> at & 0xFF) * std::clamp(by, 0.0, 1.0))) << at;
    };
    return 0xFF000000 | one(0) | one(8) | one(16);
}
/// What the light of the room leaves of a plain side.
double lit(const Vec& face) { return 0.62 + 0.38 * std::max(0.0, dot(face, unit({0.35, 0.8, 0.5}))); }

}  // namespace

std::uint32_t pixel_of(std::string_view colour) {
    std::uint32_t value = 0;
    if (colour.size() == 7) std::from_chars(colour.data() + 1, colour.data() + 7, value, 16);
    return 0xFF000000 | value;
}

class Projection::Drawing {
  public:
    explicit Drawing(int threads)
        : pool_(std::clamp(threads > 0 ? threads : static_cast<int>(std::thread::hardware_concurrency()), 1, 16)) {}

    Box draw(const Scene& scene, const Eye& eye, std::span<const Laid> laid) {
        work = {};
        Box view{0, 0, eye.width, eye.height};
        bool elsewhere = !drawn_ || !(eye == eye_);
        bool rearranged = !drawn_ || !same(scene, scene_);
        auto changed = take(laid);
        if (rearranged) {
            scene_ = scene;
            std::vector<Face> faces;
            for (std::size_t i = 0; i < scene.things.size(); ++i)
                for (auto& f : faces_of(scene.things[i], i)) faces.push_back(std::move(f));
            order_ = Order(std::move(faces));
        }
        bool anew = elsewhere || rearranged;
        if (!anew && changed.empty() && !relaid_) return {};
        if (image.width != eye.width || image.height != eye.height) {
            image.width = eye.width, image.height = eye.height;
            image.pixels.resize(static_cast<std::size_t>(eye.width) * static_cast<std::size_t>(eye.height) * 4);
        }
        eye_ = eye, drawn_ = true;
        auto moved = set_up(changed);
        for (auto& [levels, deepest] : wanted_) {
            auto before = levels->made();
            levels->make(deepest, [this](int rows, auto halve) { pool_.share(rows, halve); });
            work.halved += static_cast<std::size_t>(std::max(0, levels->made() - before));
        }
        if (anew) {
            // Most often the next look is from elsewhere again: what stands behind is kept once the eye rests.
            kept_ = false;
            paint(image, view, 0, drawn_things_.size());
            work.faces = drawn_things_.size();
            return view;
        }
        auto part = both(view, moved);
        if (part.empty()) return {};
        if (!kept_) {
            behind_.width = image.width, behind_.height = image.height;
            behind_.pixels.resize(image.pixels.size());
            paint(behind_, view, 0, first_laid_);
            kept_ = true, work.faces += first_laid_;
        }
        auto stride = static_cast<std::size_t>(image.stride());
        pool_.share(part.height, [&](int from, int to) {
            for (int y = part.y + from; y < part.y + to; ++y)
                std::memcpy(
                    &image.pixels[static_cast<std::size_t>(y) * stride + static_cast<std::size_t>(part.x) * 4],
                    &behind_.pixels[static_cast<std::size_t>(y) * stride + static_cast<std::size_t>(part.x) * 4],
                    static_cast<std::size_t>(part.width) * 4);
            rows(image, {part.x, part.y + from, part.width, to - from}, first_laid_, drawn_things_.size());
        });
        work.faces += drawn_things_.size() - first_laid_;
        return part;
    }
    RgbImage image;
    Work work;

  private:
    /// Takes textures over; which of them, by player and layer, are not what they were.
    std::vector<std::pair<std::size_t, std::size_t>> take(std::span<const Laid> laid) {
        std::vector<std::pair<std::size_t, std::size_t>> changed;
        relaid_ = laid.size() != laid_.size();
        levels_.resize(std::max(levels_.size(), laid.size()));
        for (std::size_t p = 0; p < laid.size(); ++p) {
            auto& layers = laid[p].layers;
            auto* before = p < laid_.size() ? &laid_[p] : nullptr;
            if (!before || before->layers.size() != layers.size() || before->surround != laid[p].surround)
                relaid_ = true;
            while (levels_[p].size() < layers.size()) levels_[p].push_back(std::make_unique<Levels>());
            for (std::size_t l = 0; l < layers.size(); ++l) {
                auto& now = layers[l].texture;
                auto* was = before && l < before->layers.size() ? &before->layers[l] : nullptr;
                auto lies = [](const RectF& a, const RectF& b) {
                    return a.x == b.x && a.y == b.y && a.width == b.width && a.height == b.height;
                };
                if (was && !(lies(was->place, layers[l].place) &&
                             std::equal(was->parts.begin(), was->parts.end(), layers[l].parts.begin(),
                                        layers[l].parts.end(), lies)))
                    relaid_ = true;
                bool same_pixels = was && was->texture.revision == now.revision && was->texture.pixels == now.pixels &&
                                   was->texture.width == now.width && was->texture.height == now.height;
                if (same_pixels) continue;
                changed.emplace_back(p, l);
                if (now) levels_[p][l]->take(now);
            }
        }
        laid_.assign(laid.begin(), laid.end());
        return changed;
    }

    void push(Drawn d) {
        if (!d.box.empty()) drawn_things_.push_back(std::move(d));
    }

    /// A polygon on a plane, with nothing on it yet; `soft` says which of its edges are visible edges.
    template <class Soft>
    Drawn outlined(const Plane& plane, std::span<const Vec> corners, Soft soft) const {
        Drawn drawn;
        bool behind = false;
        drawn.box = touched(eye_, corners, behind);
        drawn.mapping = plane.mapping();
        Vec middle;
        for (auto& c : corners) middle = middle + c * (1.0 / static_cast<double>(corners.size()));
        for (std::size_t i = 0; i < corners.size(); ++i)
            if (auto bound = beside(eye_, corners[i], corners[(i + 1) % corners.size()], middle, soft(i)))
                drawn.bounds.push_back(*bound);
        if (behind)
            if (auto ahead = plane.ahead()) drawn.bounds.push_back(*ahead);
        return drawn;
    }

    /// Everything there is to draw, in order; the part of the view that the changed layers touch.
    Box set_up(const std::vector<std::pair<std::size_t, std::size_t>>& changed) {
        drawn_things_.clear(), wanted_.clear();
        set_up_walls();
        first_laid_ = SIZE_MAX;
        Box moved;
        for (auto* face : order_.from(eye_.at)) {
            auto& thing = scene_.things[face->thing];
            Plane plane(eye_, face->face, face->corners[0], face->origin, face->across, face->down);
            auto whole = outlined(plane, face->corners, [&](std::size_t i) {
                auto& e = face->edges[i];
                return !e.cut && !(e.beyond && dot(*e.beyond, eye_.at - face->corners[i]) > 0);
            });
            if (whole.box.empty()) continue;
            bool front = face->side(eye_.at) > 0;
            if (thing.kind == Thing::Kind::solid) {
                whole.colour = dimmed(pixel_of(thing.colour), lit(face->face));
                push(std::move(whole));
            } else if (thing.kind == Thing::Kind::backing) {
                auto cover = static_cast<std::uint32_t>(std::lround(thing.cover * 255));
                auto own = dimmed(pixel_of(thing.colour), thing.cover);
                whole.colour = (own & 0xFFFFFF) | cover << 24, whole.see_through = cover < 255;
                push(std::move(whole));
            } else if (!front) {
                // Its back: plain, and darker than anything that shows a picture.
                whole.colour = pixel_of("#3A312C");
                push(std::move(whole));
            } else {
                lay_on(*face, thing, plane, whole, changed, moved);
            }
        }
        first_laid_ = std::min(first_laid_, drawn_things_.size());
        return relaid_ ? Box{0, 0, eye_.width, eye_.height} : moved;
    }

    void lay_on(const Face& face, const Thing& thing, const Plane& plane, const Drawn& whole,
                const std::vector<std::pair<std::size_t, std::size_t>>& changed, Box& moved) {
        static const Laid nothing;
        auto& laid = thing.player < laid_.size() ? laid_[thing.player] : nothing;
        auto sheet = thing.sheet.rect();
        auto covers = [&](const Laid::Layer& layer) {
            if (!layer.texture || layer.texture.see_through) return false;
            auto seen = both(layer.place, sheet);
            return !layer.parts.empty() && seen.width >= sheet.width && seen.height >= sheet.height &&
                   both(layer.parts[0], sheet).width >= sheet.width &&
                   both(layer.parts[0], sheet).height >= sheet.height;
        };
        // From here on it may change with every picture.
        first_laid_ = std::min(first_laid_, drawn_things_.size());
        if (thing.kind == Thing::Kind::screen && std::none_of(laid.layers.begin(), laid.layers.end(), covers)) {
            auto under = whole;
            under.colour = pixel_of(laid.surround);
            push(std::move(under));
        }
        for (std::size_t l = 0; l < laid.layers.size(); ++l) {
            auto& layer = laid.layers[l];
            if (!layer.texture || !(layer.place.width > 0) || !(layer.place.height > 0)) continue;
            auto* levels = levels_[thing.player][l].get();
            bool news = std::find(changed.begin(), changed.end(), std::pair(thing.player, l)) != changed.end();
            for (auto& part : layer.parts) {
                auto seen = both(both(part, layer.place), sheet);
                if (!(seen.width > 0) || !(seen.height > 0)) continue;
                auto drawn = whole;
                bool behind = false;
                drawn.box = both(whole.box, touched(eye_, corners_of(face, seen), behind));
                if (drawn.box.empty()) continue;
                auto bound = [&](bool down, double value, double sign, double edge) {
                    if (value == edge) return;  // the face's own
                    if (auto b = plane.beyond(down, value, sign)) drawn.bounds.push_back(*b);
                };
                bound(false, seen.x, 1, sheet.x), bound(false, seen.x + seen.width, -1, sheet.x + sheet.width);
                bound(true, seen.y, 1, sheet.y), bound(true, seen.y + seen.height, -1, sheet.y + sheet.height);
                drawn.mapping = plane.within(layer.place, layer.texture.width, layer.texture.height);
                drawn.texture = levels, drawn.see_through = layer.texture.see_through;
                want(*levels, drawn);
                if (news) moved = around(moved, drawn.box);
                push(std::move(drawn));
            }
        }
    }
    static std::array<Vec, 4> corners_of(const Face& f, const RectF& r) {
        auto at = [&](double x, double y) {
            return f.origin + f.across * (x / dot(f.across, f.across)) + f.down * (y / dot(f.down, f.down));
        };
        return {at(r.x, r.y + r.height), at(r.x + r.width, r.y + r.height), at(r.x + r.width, r.y), at(r.x, r.y)};
    }
    /// The most halvings that any of its pixels may ask for: both steps are largest in some corner.
    void want(Levels& levels, const Drawn& drawn) {
        Mapping::Steps most{0, 0};
        for (int x : {drawn.box.x - run_length, drawn.box.right() + run_length})
            for (int y : {drawn.box.y, drawn.box.bottom()}) {
                auto& m = drawn.mapping;
                bool ahead = m.w0 + m.wx * x + m.wy * y > 0;
                auto steps = ahead ? m.steps_at(x, y) : Mapping::Steps{INFINITY, INFINITY};
                most.right = std::max(most.right, steps.right), most.down = std::max(most.down, steps.down);
            }
        int deepest = level_for(most);
        auto it = std::find_if(wanted_.begin(), wanted_.end(), [&](auto& w) { return w.first == &levels; });
        if (it == wanted_.end())
            wanted_.emplace_back(&levels, deepest);
        else
            it->second = std::max(it->second, deepest);
    }

    /// The room from inside. Its faces share their edges, so that each pixel is in one of them.
    void set_up_walls() {
        auto &l = scene_.low, &h = scene_.high;
        Vec lamp{(l.x + h.x) / 2, h.y - 0.2, (l.z + h.z) / 2};
        struct Side {
            std::array<Vec, 4> corners;
            Vec face, across, down;
            bool floor;
        };
        Vec a{l.x, l.y, l.z}, b{h.x, l.y, l.z}, c{h.x, l.y, h.z}, d{l.x, l.y, h.z};
        Vec e{l.x, h.y, l.z}, f{h.x, h.y, l.z}, g{h.x, h.y, h.z}, i{l.x, h.y, h.z};
        const Vec x{1, 0, 0}, y{0, 1, 0}, z{0, 0, 1};
        for (auto& side : {Side{{a, b, c, d}, y, x, z, true}, Side{{e, f, g, i}, -y, x, z, false},
                           Side{{a, b, f, e}, z, x, y, false}, Side{{d, c, g, i}, -z, x, y, false},
                           Side{{a, d, i, e}, x, z, y, false}, Side{{b, c, g, f}, -x, z, y, false}}) {
            Plane plane(eye_, side.face, side.corners[0], {}, side.across, side.down);
            auto drawn = outlined(plane, side.corners, [](std::size_t) { return false; });
            drawn.plain =
                Plain{dimmed(pixel_of(side.floor ? scene_.floor : scene_.walls), side.face.y < 0 ? 1.0 : 0.94),
                      dot(lamp, side.across), dot(lamp, side.down), dot(lamp - side.corners[0], side.face), side.floor};
            push(std::move(drawn));
        }
    }

    void rows(RgbImage& into, const Box& part, std::size_t from, std::size_t to) const {
        for (std::size_t i = from; i < to; ++i) {
            auto& d = drawn_things_[i];
            auto stride = static_cast<std::size_t>(into.width);
            auto* pixels = reinterpret_cast<std::uint32_t*>(into.pixels.data());
            for (int y = std::max(part.y, d.box.y); y < std::min(part.bottom(), d.box.bottom()); ++y)
                d.row(y, part.x, part.right(), pixels + static_cast<std::size_t>(y) * stride);
        }
    }
    void paint(RgbImage& into, const Box& part, std::size_t from, std::size_t to) {
        pool_.share(part.height, [&](int first, int last) {
            rows(into, {part.x, part.y + first, part.width, last - first}, from, to);
        });
    }

    ThreadPool pool_;
    Scene scene_;
    Eye eye_;
    Order order_;
    bool drawn_ = false, relaid_ = false, kept_ = false;
    std::vector<Laid> laid_;
    std::vector<std::vector<std::unique_ptr<Levels>>> levels_;
    std::vector<std::pair<Levels*, int>> wanted_;
    std::vector<Drawn> drawn_things_;
    std::size_t first_laid_ = 0;
    RgbImage behind_;
};

Projection::Projection(int threads) : drawing_(std::make_unique<Drawing>(threads)) {}
Projection::~Projection() = default;
Box Projection::draw(const Scene& scene, const Eye& eye, std::span<const Laid> laid) {
    return drawing_->draw(scene, eye, laid);
}
const RgbImage& Projection::image() const { return drawing_->image; }
Projection::Work Projection::work() const { return drawing_->work; }

}  // namespace ruedo::scene
