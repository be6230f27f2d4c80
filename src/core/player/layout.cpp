// SPDX-License-Identifier: Apache-2.0
#include "player/layout.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace ruedo {
namespace {
using Form = ControlKind::Form;
constexpr int between = 2, margin = 8, pad = 4;
constexpr std::string_view no_room = "There is not enough room for it.";

Box inside(Box a, const Box& b) {
    int right = std::min(a.right(), b.right()), bottom = std::min(a.bottom(), b.bottom());
    a.x = std::max(a.x, b.x), a.y = std::max(a.y, b.y);
    a.width = std::max(0, right - a.x), a.height = std::max(0, bottom - a.y);
    return a;
}

int height_of(const ControlSpec& c, const MountShape& m) {
    if (c.settings.size > 0) return std::max(c.settings.size, m.least());
    if (c.kind->form == Form::strip) return 60;
    if (c.kind->form == Form::sign) return std::max(64, m.unit());
    return static_cast<int>(m.unit() * c.kind->tall);
}
/// The least it is of use at.
int width_of(const ControlSpec& c, const MountShape& m, const ControlContext& context) {
    int high = height_of(c, m);
    auto& kind = *c.kind;
    auto words = [&] { return words_width(label_of(c, context), words_pixels(c, high)) + 12; };
    switch (kind.form) {
        case Form::button: {
            if (c.settings.show == ControlSettings::Show::mark) return high;
            return std::max(m.least(), c.settings.show == ControlSettings::Show::both ? high + words() : words() + 8);
        }
        case Form::label:
            // A mark beside its words takes a little room.
            return std::max(m.least(), words() + (kind.mark(context, c.settings).shape != Mark::Shape::none ? 18 : 0));
        case Form::dial:
            return high;
        case Form::rail:
        case Form::strip:
            return std::max(150, kind.width * m.unit());
        case Form::sign:
            return high;
        case Form::notice:
        case Form::captions:
        case Form::meter:
            return kind.width * m.unit();
    }
    return high;
}

class Laying {
  public:
    Laying(const PlayerSpec& player, const MountShape& mount, const ControlContext& context, const SourceSpec* source)
        : player_(player), mount_(mount), context_(context), source_(source) {
        whole_ = {0, 0, mount.width, mount.height};
        safe_ = {mount.left, mount.top, std::max(0, mount.width - mount.left - mount.right),
                 std::max(0, mount.height - mount.top - mount.bottom)};
        out_.controls.resize(player.controls.size());
        for (std::size_t i = 0; i < player.controls.size(); ++i) {
            auto& c = player.controls[i];
            auto& o = out_.controls[i];
            o.why = unseen(player, c, context);
            wanted_.push_back(o.why.empty());
            slots_.push_back(parse_slot(c.slot).value_or(Slot{}));
            if (!o.why.empty()) continue;
            o.why = unusable(c, context);
            o.enabled = o.why.empty();
        }
    }

    Layout run() {
        bars();
        places();
        // What found no place on the picture is folded away beside what a bar has folded, or into a control of its own.
        if (!orphans_.empty() && out_.more.empty()) {
            for (auto& row : rows_)
                if (fill(row, true)) break;
            if (out_.more.empty()) more_on_picture();
        }
        out_.whole = whole_, out_.loose = mount_.loose;
        out_.captions_foot = (mount_.loose ? out_.area.bottom() : mount_.height) - margin;
        for (auto& b : out_.bars)
            if (player_.bars[b.bar].edge == BarSpec::Edge::bottom && b.box.meets(out_.picture))
                out_.captions_foot = std::min(out_.captions_foot, b.box.y - pad);
        if (!out_.more.empty())
            for (auto i : orphans_) out_.more.front().controls.push_back(i);
        return std::move(out_);
    }

  private:
    struct Row {
        std::size_t bar;
        Box box;  ///< Of the plate.
        bool two_rows;
    };

    std::vector<std::size_t> wanted_on(std::string_view bar) const {
        std::vector<std::size_t> list;
        for (std::size_t i = 0; i < slots_.size(); ++i)
            if (wanted_[i] && slots_[i].bar == bar) list.push_back(i);
        std::stable_sort(list.begin(), list.end(), [&](auto a, auto b) { return slots_[a].group < slots_[b].group; });
        return list;
    }
    void fold(std::size_t i) {
        auto& o = out_.controls[i];
        o.shown = false, o.folded = true, o.enabled = false, o.box = {};
        o.why = no_room;
    }
    int row_height(const std::vector<std::size_t>& list, bool stretching) const {
        int high = 0;
        for (auto i : list)
            if (player_.controls[i].kind->stretches() == stretching)
                high = std::max(high, height_of(player_.controls[i], mount_));
        return high;
    }
    /// All of a list side by side.
    int needed(const std::vector<std::size_t>& list) const {
        int wide = 0;
        for (auto i : list) wide += width_of(player_.controls[i], mount_, context_);
        return wide + between * std::max(0, static_cast<int>(list.size()) - 1);
    }
    int bar_width(const Box& picture) const {
        return std::min(safe_.width - 2 * margin, std::max(300, std::min(picture.width - 24, 900)));
    }

    void bars() {
        // Those beside the picture take room from it; those on it do not.
        struct Ready {
            std::size_t bar;
            std::vector<std::size_t> list;
            int high = 0;
            bool two_rows = false;
        };
        std::vector<Ready> ready;
        Box area = whole_;
        auto size_of = [&](const std::vector<std::size_t>& list, int wide, bool& two_rows) {
            int rails = row_height(list, true), rest = row_height(list, false);
            two_rows = rails > 0 && rest > 0 && needed(list) > wide - 2 * margin;
            return (two_rows ? rails + rest : std::max(rails, rest)) + 2 * pad;
        };
        int left_over = safe_.height;
        for (std::size_t b = 0; b < player_.bars.size(); ++b) {
            Ready r{b, wanted_on(player_.bars[b].name)};
            if (r.list.empty()) continue;
            auto picture = fitted(area);
            bool outside = player_.bars[b].where != BarSpec::Where::on;
            r.high = size_of(r.list, bar_width(picture), r.two_rows);
            if (outside && mount_.loose) {
                if (bar_width(picture) < mount_.least() + 2 * pad)
                    for (auto i : r.list) fold(i), orphans_.insert(i);
                else
                    ready.push_back(std::move(r));
                continue;
            }
            int gaps = player_.bars[b].where == BarSpec::Where::clear ? 2 * margin : 0;
            // Where two rows leave too little, one row folds more away; where that is still too much, all of it.
            if (r.two_rows && left_over - r.high - gaps < 48)
                r.high = std::max(row_height(r.list, true), row_height(r.list, false)) + 2 * pad, r.two_rows = false;
            if (left_over - r.high - gaps < (outside ? 32 : 0) || bar_width(picture) < mount_.least() + 2 * pad) {
                for (auto i : r.list) fold(i), orphans_.insert(i);
                continue;
            }
            left_over -= r.high + gaps;
            if (outside) {
                // Video yields to controls inside the safe area.
                area = inside(area, safe_);
                area.height -= r.high + gaps;
                if (player_.bars[b].edge == BarSpec::Edge::top) area.y += r.high + gaps;
            }
            ready.push_back(std::move(r));
        }
        if (mount_.loose) {
            for (auto& r : ready) {
                auto& bar = player_.bars[r.bar];
                if (bar.where == BarSpec::Where::on) continue;
                whole_.height += r.high + 2 * margin;
                if (bar.edge == BarSpec::Edge::top) area.y += r.high + 2 * margin;
            }
            safe_ = whole_;
        }
        out_.area = area;
        out_.picture = fitted(area);
        const auto on = mount_.loose ? area : safe_;
        auto seen = inside(out_.picture, on);
        int foot = seen.bottom(), head = seen.y;  // what is left of the picture between the bars on it
        int below = mount_.loose ? area.bottom() : out_.picture.bottom(),
            above = mount_.loose ? area.y : out_.picture.y;
        for (auto& r : ready) {
            auto& bar = player_.bars[r.bar];
            int wide = bar_width(out_.picture);
            bool two_rows = r.two_rows;
            // As near to the picture's own middle as the mount allows.
            Box box{std::clamp(out_.picture.x + (out_.picture.width - wide) / 2, safe_.x + margin,
                               std::max(safe_.x + margin, safe_.right() - margin - wide)),
                    0, wide, r.high};
            bool bottom = bar.edge == BarSpec::Edge::bottom;
            if (bar.where == BarSpec::Where::on) {
                // On the picture where that leaves it to be seen, else right below it.
                bool aside = bottom && seen.height < 2 * r.high + 110 && below + margin + r.high <= on.bottom();
                if (aside)
                    box.y = below + margin, below = box.bottom();
                else if (bottom)
                    box.y = std::clamp(foot - 10 - r.high, on.y, std::max(on.y, on.bottom() - r.high)), foot = box.y;
                else
                    box.y = std::clamp(head + 10, on.y, std::max(on.y, on.bottom() - r.high)), head = box.bottom();
            } else {
                int off = bar.where == BarSpec::Where::clear || mount_.loose ? margin : 0;
                if (bottom)
                    box.y = std::min(below + off, safe_.bottom() - r.high), below = box.bottom() + off;
                else
                    box.y = std::max(above - off - r.high, safe_.y), above = box.y - off;
            }
            // Bars of one edge stand in a stack; what would lie over another is left out.
            bool over = !(bar.where == BarSpec::Where::on ? on : safe_).holds(box);
            for (auto& other : out_.bars) over = over || other.box.meets(box);
            if (over) {
                for (auto i : r.list) fold(i), orphans_.insert(i);
                continue;
            }
            out_.bars.push_back({r.bar, box});
            rows_.push_back({r.bar, box, two_rows});
            fill(rows_.back(), false);
        }
        region_ = {seen.x + margin, head + margin, seen.width - 2 * margin, foot - head - 2 * margin};
    }

    Box fitted(const Box& area) const {
        auto& s = context_.snapshot;
        if (!source_ || s.display_width <= 0 || s.display_height <= 0) return area;
        auto r = fit_rect(source_->fit, s.display_width, s.display_height, area.width, area.height, source_->align_x,
                          source_->align_y);
        Box box{area.x + static_cast<int>(std::lround(r.x)), area.y + static_cast<int>(std::lround(r.y)),
                static_cast<int>(std::lround(r.width)), static_cast<int>(std::lround(r.height))};
        return inside(box, area);
    }

    /// The controls of a bar side by side; what does not fit is folded away, highest rank first. True when something
    /// was, or a control for more was asked for and had room.
    bool fill(const Row& row, bool with_more) {
        auto all = wanted_on(player_.bars[row.bar].name);
        auto name = player_.bars[row.bar].name;
        std::erase_if(out_.more, [&](auto& m) { return m.bar == name; });
        Box inner{row.box.x + pad, row.box.y + pad, row.box.width - 2 * pad, row.box.height - 2 * pad};
        std::vector<std::size_t> lower, upper, folded;
        for (auto i : all) (row.two_rows && player_.controls[i].kind->stretches() ? upper : lower).push_back(i);
        auto last_to_stay = [&](std::vector<std::size_t>& list) {
            return std::max_element(list.begin(), list.end(), [&](auto a, auto b) {
                return std::pair(player_.controls[a].rank(), a) < std::pair(player_.controls[b].rank(), b);
            });
        };
        auto fold_controls = [&](std::vector<std::size_t>& list, int wide, int high) {
            while (!list.empty()) {
                auto worst = last_to_stay(list);
                auto too_high = std::find_if(list.begin(), list.end(),
                                             [&](auto i) { return height_of(player_.controls[i], mount_) > high; });
                if (too_high != list.end())
                    worst = too_high;
                else if (needed(list) <= wide)
                    break;
                folded.push_back(*worst);
                list.erase(worst);
            }
        };
        int upper_high = upper.empty() ? 0 : row_height(upper, true);
        int lower_high = inner.height - upper_high;
        fold_controls(upper, inner.width, std::max(upper_high, 0));
        int more = mount_.unit();
        if (with_more || !folded.empty())
            fold_controls(lower, inner.width - more - between, lower_high);
        else {
            auto kept = lower;
            fold_controls(lower, inner.width, lower_high);
            if (!folded.empty())
                lower = kept, folded.clear(), fold_controls(lower, inner.width - more - between, lower_high);
        }
        for (auto i : folded) fold(i);
        bool wants_more = with_more || !folded.empty();
        bool has_more = wants_more && inner.width >= more && lower_high >= mount_.least();
        lay_row(upper, {inner.x, inner.y, inner.width, upper_high});
        lay_row(lower, {inner.x, inner.y + upper_high, inner.width - (has_more ? more + between : 0), lower_high});
        if (has_more) {
            int high = std::min(lower_high, more);
            out_.more.push_back(
                {{inner.right() - more, inner.y + upper_high + (lower_high - high) / 2, more, high}, folded, name});
        } else if (!folded.empty()) {
            for (auto i : folded) orphans_.insert(i);
        }
        return has_more;
    }

    /// Rails share what is left; without one the groups stand apart.
    void lay_row(const std::vector<std::size_t>& list, const Box& row) {
        int rails = 0;
        for (auto i : list) rails += player_.controls[i].kind->stretches();
        int spare = row.width - needed(list);
        auto width_in = [&](Slot::Group group) {
            std::vector<std::size_t> part;
            std::copy_if(list.begin(), list.end(), std::back_inserter(part),
                         [&](auto i) { return slots_[i].group == group; });
            return needed(part);
        };
        int x = row.x;
        auto group = Slot::Group::start;
        int rail_of = rails;
        for (auto i : list) {
            if (rails == 0 && slots_[i].group != group) {
                group = slots_[i].group;
                if (group == Slot::Group::end)
                    x = std::max(x, row.right() - width_in(group));
                else
                    x = std::clamp(row.x + (row.width - width_in(group)) / 2, x,
                                   std::max(x, row.right() - width_in(group) - between - width_in(Slot::Group::end)));
            }
            auto& c = player_.controls[i];
            int wide = width_of(c, mount_, context_), high = std::min(height_of(c, mount_), row.height);
            if (c.kind->stretches()) {
                int part = spare / rail_of;
                wide += part, spare -= part, --rail_of;
            }
            auto& o = out_.controls[i];
            o.shown = o.on_bar = true, o.folded = false;
            o.box = {x, row.y + (row.height - high) / 2, wide, high};
            x += wide + between;
        }
    }

    /// Rows in the corners and at the upper and lower edge, columns at the sides and in the middle. Where two would
    /// meet, or one would stand outside, the one of the highest rank gives way.
    void places() {
        std::vector<std::size_t> kept;
        for (std::size_t i = 0; i < slots_.size(); ++i)
            if (wanted_[i] && slots_[i].bar.empty()) kept.push_back(i);
        while (!kept.empty()) {
            for (std::size_t place = 0; place < Slot::places.size(); ++place) lay_place(place, kept);
            auto loser = SIZE_MAX;
            auto lose = [&](std::size_t i) {
                auto key = [&](auto k) { return std::pair(player_.controls[k].rank(), k); };
                if (loser == SIZE_MAX || key(loser) < key(i)) loser = i;
            };
            for (auto i : kept) {
                auto& box = out_.controls[i].box;
                if (!region_.holds(box)) lose(i);
                for (auto k : kept)
                    if (i != k && box.meets(out_.controls[k].box)) lose(i), lose(k);
            }
            if (loser == SIZE_MAX) break;
            std::erase(kept, loser);
            fold(loser);
            orphans_.insert(loser);
        }
        for (auto i : kept) out_.controls[i].shown = true;
    }
    void lay_place(std::size_t place, const std::vector<std::size_t>& kept) {
        std::vector<std::size_t> list;
        std::copy_if(kept.begin(), kept.end(), std::back_inserter(list),
                     [&](auto i) { return slots_[i].place == place; });
        if (list.empty()) return;
        auto size = [&](std::size_t i) {
            auto& c = player_.controls[i];
            int wide = width_of(c, mount_, context_), high = height_of(c, mount_);
            if (c.kind->stretches()) wide = std::max(wide, std::min(region_.width, 6 * mount_.unit()));
            if (c.kind->form == Form::notice) {
                wide = std::min(region_.width, std::max(wide, 440));
                int text = words_width(label_of(c, context_), 16);
                high = 24 + 24 * (1 + text / std::max(1, wide - 32));
            }
            if (c.kind->form == Form::captions) wide = std::max(wide, region_.width * 6 / 10);
            return std::pair(wide, high);
        };
        std::size_t column = place % 3, line = place / 3;
        bool upright = line == 1;
        int wide = 0, high = 0;
        for (auto i : list) {
            auto [w, h] = size(i);
            wide = upright ? std::max(wide, w) : wide + w + (wide ? between : 0);
            high = upright ? high + h + (high ? between : 0) : std::max(high, h);
        }
        auto along = [](int from, int room, int taken, std::size_t part) {
            return from + (part == 0 ? 0 : part == 1 ? (room - taken) / 2 : room - taken);
        };
        int x = along(region_.x, region_.width, wide, column), y = along(region_.y, region_.height, high, line);
        for (auto i : list) {
            auto [w, h] = size(i);
            out_.controls[i].box =
                upright ? Box{along(x, wide, w, column), y, w, h} : Box{x, along(y, high, h, line), w, h};
            (upright ? y : x) += (upright ? h : w) + between;
        }
    }
    void more_on_picture() {
        int side = mount_.unit();
        for (std::size_t place : {8UL, 2UL, 6UL, 0UL, 4UL}) {
            Box box{region_.x + static_cast<int>(place % 3) * (region_.width - side) / 2,
                    region_.y + static_cast<int>(place / 3) * (region_.height - side) / 2, side, side};
            bool free = region_.holds(box);
            for (auto& c : out_.controls) free = free && !(c.shown && c.box.meets(box));
            if (!free) continue;
            out_.more.push_back({box, {}, {}});
            return;
        }
    }

    const PlayerSpec& player_;
    const MountShape& mount_;
    const ControlContext& context_;
    const SourceSpec* source_;
    Box whole_, safe_, region_;
    std::vector<bool> wanted_;
    std::vector<Slot> slots_;
    std::vector<Row> rows_;
    std::set<std::size_t> orphans_;
    Layout out_;
};

}  // namespace

Layout lay_out(const PlayerSpec& player, const MountShape& mount, const ControlContext& context,
               const SourceSpec* source) {
    auto layout = Laying(player, mount, context, source).run();
    for (std::size_t i = 0; i < layout.controls.size(); ++i) {
        auto slot = parse_slot(player.controls[i].slot);
        auto& at = layout.controls[i];
        at.theme = player.theme_on(slot && at.on_bar ? player.bar(slot->bar) : nullptr);
        at.on_dark = lies_on_dark(&player.controls[i], at.theme);
    }
    return layout;
}

std::optional<std::size_t> control_at(const Layout& layout, int x, int y) {
    for (std::size_t i = 0; i < layout.controls.size(); ++i)
        if (layout.controls[i].shown && layout.controls[i].box.holds({x, y, 1, 1})) return i;
    return {};
}

int words_width(std::string_view words, int pixels) {
    // Half of the height for each character, wide ones being rare in a label.
    auto characters = std::count_if(words.begin(), words.end(), [](char c) { return (c & 0xC0) != 0x80; });
    return static_cast<int>((characters * pixels * 58 + 99) / 100);
}
int words_pixels(const ControlSpec& c, int height) {
    if (c.settings.size > 0) return std::clamp(height / 3, 11, 96);
    return 13;
}

bool poster_stands(const SourceSpec& source, const Snapshot& s) {
    return source.has_poster() && s.state.phase == Phase::ready && s.position.ns == 0 && !s.state.seeking;
}

std::string unseen(const PlayerSpec& player, const ControlSpec& c, const ControlContext& context) {
    if (auto why = c.kind->absent(context); !why.empty()) return std::string(why);
    if (!c.settings.when.empty()) {
        auto when = Condition::parse(c.settings.when);
        if (when && when->holds(context)) return {};
        return fmt::format("It appears when “{}”.", c.settings.when);
    }
    if (c.kind->steadfast || context.awake) return {};
    auto slot = parse_slot(c.slot);
    auto* bar = slot ? player.bar(slot->bar) : nullptr;
    if (bar && bar->where != BarSpec::Where::on) return {};
    return "There was no input for a while.";
}
std::string unusable(const ControlSpec& c, const ControlContext& context) {
    if (auto why = c.kind->idle(context); !why.empty()) return std::string(why);
    if (c.settings.usable.empty()) return {};
    auto usable = Condition::parse(c.settings.usable);
    return usable && usable->holds(context) ? std::string()
                                            : fmt::format("It can be used when “{}”.", c.settings.usable);
}

MountShape shape_of(Mount mount, int width, int height) {
    struct Row {
        int width, height;
        bool touch, handset;
        int cut;  ///< At the top of what is held upright, for a camera.
    };
    static constexpr std::array<Row, 6> rows{{{960, 540, false, false, 0},
                                              {360, 780, true, true, 26},
                                              {780, 360, true, true, 26},
                                              {1024, 768, true, false, 0},
                                              {1920, 1080, true, false, 0},
                                              {1280, 800, true, false, 0}}};
    auto& row = rows.at(static_cast<std::size_t>(mount));
    MountShape m;
    m.width = width > 0 ? width : row.width;
    m.height = height > 0 ? height : row.height;
    m.touch = row.touch, m.handset = row.handset;
    if (mount == Mount::handset_upright) m.top = std::min(row.cut, m.height / 12);
    if (mount == Mount::handset_sideways) m.left = m.right = std::min(row.cut, m.width / 12);
    return m;
}

ControlContext usual_moment() {
    ControlContext c;
    auto& s = c.snapshot;
    s.state.phase = Phase::playing, s.state.intent = Intent::play;
    s.has_video = s.has_audio = s.duration_known = true;
    s.duration = 90_s, s.position = 31_s, s.seekable = TimeRange{{}, 90_s};
    c.count = 2, c.has_next = c.has_previous = c.started = true, c.title = "A clip";
    return c;
}

}  // namespace ruedo
