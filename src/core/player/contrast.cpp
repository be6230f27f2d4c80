// SPDX-License-Identifier: Apache-2.0
// Whether what stands on the picture can be read there, by the clip’s own pictures.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "codec/codec.h"
#include "player/layout.h"
#include "player/rules.h"
#include "player/screen.h"

namespace ruedo {
namespace {
struct Rgb {
    double r = 0, g = 0, b = 0;
};
Rgb rgb(std::string_view hex) {
    auto part = [&](std::size_t at) { return std::stoi(std::string(hex.substr(at, 2)), nullptr, 16) / 255.0; };
    return is_colour(hex) ? Rgb{part(1), part(3), part(5)} : Rgb{};
}
Rgb over(const Rgb& top, double cover, const Rgb& below) {
    auto mix = [&](double a, double b) { return a * cover + b * (1 - cover); };
    return {mix(top.r, below.r), mix(top.g, below.g), mix(top.b, below.b)};
}
/// Relative luminance (WCAG 2.2).
double luminance(const Rgb& c) {
    auto linear = [](double v) { return v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
    return 0.2126 * linear(c.r) + 0.7152 * linear(c.g) + 0.0722 * linear(c.b);
}
double contrast(double a, double b) { return (std::max(a, b) + 0.05) / (std::min(a, b) + 0.05); }

constexpr std::string_view ink = "#2A211C", paper = "#F7F1E5", night = "#17131A";
constexpr double enough = 4.5, share = 0.1;

/// What a control is drawn in, and what lies between it and the picture (view/paint.cpp draws it so).
struct Drawn {
    Rgb letters, ground;
    double cover = 1;
};
std::optional<Drawn> drawn(const ControlSpec& c, const BarSpec* bar, const ThemeSpec& theme) {
    using Form = ControlKind::Form;
    auto& s = c.settings;
    auto first = [](std::initializer_list<std::string_view> list) {
        return rgb(*std::find_if(list.begin(), list.end(), [](auto v) { return !v.empty(); }));
    };
    auto form = c.kind->form;
    if (form == Form::strip || form == Form::meter) return {};  // pictures of their own, and no words
    if (c.kind->chief) {
        auto disc = s.ground.empty() ? theme.accent : s.ground;
        bool dark = disc.empty() || is_dark(disc);
        return Drawn{first({s.ink, dark ? paper : ink}), first({disc, usual_accent}), 1};
    }
    // What lies on the picture in a dark plate of its own is not of the theme.
    if (form == Form::notice || form == Form::sign || (form == Form::captions && !bar))
        return Drawn{first({s.ink, paper}), first({s.ground, night}), s.ground.empty() ? 0.8 : 1};
    Drawn d{first({s.ink, theme.text, lies_on_dark(&c, theme) ? paper : ink}),
            first({s.ground, theme.background, usual_background}), bar ? bar->cover : 0.93};
    if (!s.ground.empty()) d.cover = 1;
    return d;
}

}  // namespace

double contrast(std::string_view a, std::string_view b) { return contrast(luminance(rgb(a)), luminance(rgb(b))); }
bool is_dark(std::string_view colour) {
    // Where the contrasts to black and to white are the same.
    return is_colour(colour) && luminance(rgb(colour)) < 0.18;
}
bool lies_on_dark(const ControlSpec* control, const ThemeSpec& theme) {
    return is_dark(control && !control->settings.ground.empty() ? control->settings.ground : theme.background);
}

std::vector<RgbImage> sample_frames(const std::string& source) {
    std::vector<RgbImage> images;
    if (is_address(source)) return images;
    auto opened = open_clip(source);
    if (!opened) return images;
    std::shared_ptr<Clip> clip = std::move(*opened);
    auto* track = clip->info().main(Kind::video);
    auto reader = track && !clip->info().live ? FrameReader::open(clip, *track, CodecRegistry::standard())
                                              : fail(ErrorCode::not_found, "no pictures");
    for (double part : {0.1, 0.5, 0.85}) {
        if (!reader) break;
        auto picture = (*reader)->keyframe_near(scaled(clip->info().duration, part));
        if (!picture || picture->width <= 0) continue;
        auto w = std::min(240, std::max(16, track->video.display_width()));
        auto h = std::max(1, w * track->video.display_height() / std::max(1, track->video.display_width()));
        images.push_back(render(*picture, w, h));
    }
    return images;
}

std::vector<DocumentFinding> review_contrast(const PlayerDocument& d, const std::filesystem::path& folder,
                                             const SampledFrames& pictures) {
    std::vector<DocumentFinding> found;
    if (d.mount == Mount::room) return found;  // what is small there is the room’s own affair
    auto mount = shape_of(d.mount, d.mount_width, d.mount_height);
    std::map<std::size_t, std::vector<RgbImage>> seen;
    for (std::size_t p = 0; p < d.players.size(); ++p) {
        auto& spec = d.player(p);
        std::vector<bool> said(spec.controls.size());
        for (auto i : queue_of(d, p)) {
            auto& source = d.sources[i];
            if (!seen.contains(i)) seen[i] = pictures(resolve(source, folder));
            if (seen[i].empty()) continue;
            auto moment = usual_moment();
            moment.snapshot.display_width = seen[i].front().width,
            moment.snapshot.display_height = seen[i].front().height;
            auto layout = lay_out(spec, mount, moment, &source);
            auto surround = rgb(spec.picture.surround);
            for (std::size_t k = 0; k < spec.controls.size(); ++k) {
                auto& control = spec.controls[k];
                auto& at = layout.controls[k];
                auto slot = parse_slot(control.slot);
                auto* bar = slot && !slot->bar.empty() ? spec.bar(slot->bar) : nullptr;
                auto how = drawn(control, bar, at.theme);
                if (said[k] || !at.shown || at.box.empty() || !how) continue;
                auto letters = luminance(how->letters);
                std::size_t samples = 0, poor = 0;
                double worst = 21;
                constexpr int across = 24, down = 8;
                for (auto& image : seen[i])
                    for (int y = 0; y < down; ++y)
                        for (int x = 0; x < across; ++x) {
                            auto px = at.box.x + (at.box.width * (2 * x + 1)) / (2 * across);
                            auto py = at.box.y + (at.box.height * (2 * y + 1)) / (2 * down);
                            auto below = surround;
                            auto& on = layout.picture;
                            if (on.holds({px, py, 1, 1})) {
                                auto ix = (px - on.x) * image.width / on.width,
                                     iy = (py - on.y) * image.height / on.height;
                                auto* v = image.pixels.data() + iy * image.stride() + ix * 4;
                                below = {v[2] / 255.0, v[1] / 255.0, v[0] / 255.0};
                            }
                            auto c = contrast(letters, luminance(over(how->ground, how->cover, below)));
                            ++samples, poor += c < enough, worst = std::min(worst, c);
                        }
                if (static_cast<double>(poor) < share * static_cast<double>(samples)) continue;
                said[k] = true;
                auto& own = control.settings;
                // Where its colours are read on each other, it is what shines through.
                bool covered = contrast(letters, luminance(how->ground)) >= enough;
                bool by_theme =
                    own.ink.empty() && own.ground.empty() && !(at.theme == ThemeSpec{}) && !(bar && covered);
                auto on_bar = bar && own.ground.empty() && own.ink.empty();
                found.push_back(
                    {"hard-to-read",
                     fmt::format(
                         "“{}” is hard to read on “{}”: its contrast is {:.1f} to 1 in places, and 4.5 is needed.",
                         control.name, source.name, worst),
                     "Users can’t read it there.", fmt::format("/players/{}/controls/{}", p, k),
                     by_theme ? DocumentFinding::Fix{"Use the default colours of text and background",
                                                     [p](PlayerDocument& doc) {
                                                         auto& player = doc.player(p);
                                                         player.theme.text.clear(), player.theme.background.clear();
                                                         for (auto& b : player.bars)
                                                             b.theme.text.clear(), b.theme.background.clear();
                                                     }}
                     : on_bar
                         ? DocumentFinding::Fix{fmt::format("Let the bar “{}” cover what lies behind it", bar->name),
                                                [p, name = bar->name](PlayerDocument& doc) {
                                                    for (auto& b : doc.player(p).bars)
                                                        if (b.name == name) b.cover = 0.93;
                                                }}
                         : DocumentFinding::Fix{"Use the default colours", [p, k](PlayerDocument& doc) {
                                                    auto& s = doc.player(p).controls.at(k).settings;
                                                    s.ink.clear(), s.ground.clear();
                                                }}});
            }
        }
    }
    return found;
}

}  // namespace ruedo
