// SPDX-License-Identifier: Apache-2.0
// What can be wrong with a source, by itself, for its target, and as it is drawn.
#include "convert/targets.h"
#include "player/reviewed.h"
#include "text/cues.h"

namespace ruedo::reviewed {
namespace {
namespace fs = std::filesystem;

bool is_there(const std::string& file) {
    std::error_code ec;
    return fs::exists(file, ec);
}
/// Width and height of a PNG (its IHDR) or a JPEG (its frame header); nothing of anything else.
std::optional<std::pair<int, int>> video_shape(const fs::path& file) {
    // What stands before the frame of a JPEG may be a picture of its own.
    Bytes b(1 << 20);
    auto source = open_file(file);
    auto got = source ? (*source)->read_at(0, b) : 0;
    if (!got || *got < 24) return {};
    b.resize(*got);
    auto two = [&](std::size_t at) { return b[at] << 8 | b[at + 1]; };
    std::pair<int, int> size{};
    if (b[0] == 0x89 && b[1] == 'P') {
        size = {two(16) << 16 | two(18), two(20) << 16 | two(22)};
    } else if (b[0] == 0xFF && b[1] == 0xD8) {
        for (std::size_t at = 2; at + 9 < b.size() && b[at] == 0xFF; at += 2 + static_cast<std::size_t>(two(at + 2))) {
            bool frame =
                b[at + 1] >= 0xC0 && b[at + 1] <= 0xCF && b[at + 1] != 0xC4 && b[at + 1] != 0xC8 && b[at + 1] != 0xCC;
            if (frame) return std::pair{two(at + 7), two(at + 5)};
        }
    }
    return size.first > 0 && size.second > 0 ? std::optional(size) : std::nullopt;
}
void never_played(R r) {
    std::vector<bool> played(r.document.sources.size());
    every_player(r, [&](const Player& p) {
        for (auto i : p.queue) played[i] = true;
    });
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (!played[i])
            r.note(fmt::format("No player plays “{}”.", s.name), fmt::format("/sources/{}", i),
                   Fix{"Remove it", [i](PlayerDocument& d) { remove_source(d, i); }});
    });
}
void poster_flash(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (s.start.how == Start::How::play && (!s.poster.empty() || s.poster_at))
            r.note(fmt::format("“{}” starts by itself, so its poster only flashes.", s.name), source_at(i, "poster"),
                   fix_source("Remove the poster", i, [](SourceSpec& x) { x.poster.clear(), x.poster_at.reset(); }));
    });
}
void poster_shape(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (s.poster.empty() || !r.clips[i]) return;
        auto file = resolve(s.poster, r.folder);
        auto* video = r.clips[i]->main(Kind::video);
        auto poster = is_address(file) ? std::nullopt : video_shape(file);
        if (!video || !poster || video->video.display_height() <= 0) return;
        auto ours = static_cast<double>(poster->first) / poster->second,
             theirs = static_cast<double>(video->video.display_width()) / video->video.display_height();
        if (std::max(ours / theirs, theirs / ours) < 1.03) return;
        r.note(fmt::format("The poster of “{}” is {} × {}; the clip is {} × {}.", s.name, poster->first, poster->second,
                           video->video.display_width(), video->video.display_height()),
               source_at(i, "poster"), fix_source("Take a frame of the clip", i, [](SourceSpec& x) {
                   x.poster.clear(), x.poster_at = Time{};
               }));
    });
}
void unread_poster(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        auto file = resolve(s.poster, r.folder);
        if (s.poster.empty() || is_address(file) || !is_there(file)) return;
        if (auto fine = check_poster(file); !fine)
            r.note(fine.error().sentence, source_at(i, "poster"),
                   fix_source("Use its first frame", i, [](SourceSpec& x) { x.poster.clear(); }));
    });
}
void short_loop(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (s.loop.kind == Loop::Kind::range && s.loop.to - s.loop.from < 1_s)
            r.note(fmt::format("“{}” repeats a stretch of {:g} s.", s.name, (s.loop.to - s.loop.from).seconds()),
                   source_at(i, "loop"),
                   fix_source("Loop all of it", i, [](SourceSpec& x) { x.loop = {Loop::Kind::all, {}, {}}; }));
    });
}
/// `wrong` says what is wrong with a local caption file, or nothing.
void caption_files(R r, const std::function<std::string(const std::string& name, const std::string& file)>& wrong) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        for (std::size_t k = 0; k < s.captions.size(); ++k) {
            auto file = resolve(s.captions[k], r.folder);
            if (is_address(file)) continue;
            auto sentence = wrong(s.captions[k], file);
            if (sentence.empty()) continue;
            r.note(sentence, source_at(i, fmt::format("captions/{}", k)),
                   fix_source("Leave them out", i, [k](SourceSpec& x) {
                       x.captions.erase(x.captions.begin() + static_cast<std::ptrdiff_t>(k));
                   }));
        }
    });
}
void no_captions_file(R r) {
    caption_files(r, [](const std::string& name, const std::string& file) {
        return is_there(file) ? std::string() : fmt::format("There are no captions “{}”.", name);
    });
}
void unread_captions(R r) {
    caption_files(r, [](const std::string&, const std::string& file) {
        auto fine = is_there(file) ? check_captions(file) : Status();
        return fine ? std::string() : fine.error().sentence;
    });
}
std::optional<Target> target_of(R r) {
    auto found = find_target(r.document.target);
    return found ? std::optional(*found) : std::nullopt;
}
/// What is played for the target: what was made for it stands in a source’s place.
bool prepared(R r, const SourceSpec& s) {
    auto* p = s.prepared_for(r.document.target);
    return p && !p->file.empty();
}
void target_refuses(R r) {
    auto target = target_of(r);
    if (!target) return;
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (!r.clips[i] || prepared(r, s)) return;
        auto& clip = *r.clips[i];
        std::string why;
        auto& all = target->containers;
        if (std::find(all.begin(), all.end(), clip.container) == all.end())
            why = fmt::format("it does not take {}", container_title(clip.container));
        for (auto kind : {Kind::video, Kind::audio}) {
            auto* track = clip.main(kind);
            if (!track || !why.empty()) continue;
            auto* rule = rule_of(kind == Kind::video ? target->video : target->audio, track->codec);
            if (!rule)
                why = fmt::format("it does not take {}", codec_title(track->codec));
            else
                why = misfit(*track, 0, *rule);
        }
        if (!why.empty())
            r.note(fmt::format("{} can’t play “{}”: {}.", target->title, s.name, why), source_at(i, "file"));
    });
}
void over_budget(R r) {
    auto target = target_of(r);
    if (!target || target->bundle_bytes == 0) return;
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (!r.clips[i] || prepared(r, s) || is_address(s.file) || r.clips[i]->bytes <= target->bundle_bytes) return;
        r.note(
            fmt::format("“{}” has {:.1f} MB; {} takes {:.1f} MB.", s.name, static_cast<double>(r.clips[i]->bytes) / 1e6,
                        target->title, static_cast<double>(target->bundle_bytes) / 1e6),
            source_at(i, "file"));
    });
}
void loud_start(R r) {
    auto target = target_of(r);
    if (!target || target->starts_loud) return;
    for (std::size_t p = 0; p < r.document.players.size(); ++p) {
        if (!starts_loud(r.document, p)) continue;
        r.note(fmt::format("“{}” starts by itself with sound, which {} forbids.", r.document.player(p).name,
                           target->title),
               fmt::format("/players/{}/muted", p),
               Fix{"Start muted", [p](PlayerDocument& d) { d.player(p).muted = true; }});
    }
}

void render_shape(R r) {
    each_player(r, [&](const Player& p) {
        auto& picture = p.spec.picture;
        if (picture.render_width <= 0) return;
        for (auto i : p.queue) {
            auto* video = p.clip(i) ? p.clip(i)->main(Kind::video) : nullptr;
            if (!video || video->video.display_height() <= 0) continue;
            double w = picture.render_width, h = picture.render_height, cw = video->video.display_width(),
                   ch = video->video.display_height();
            auto shape = std::max(w / h / (cw / ch), cw / ch / (w / h));
            auto times = std::max({w / cw, cw / w, h / ch, ch / h});
            if (shape < 1.03 && times < 10) continue;
            return r.note(
                fmt::format("The picture is drawn at {} × {}, {} “{}” ({} × {}).", picture.render_width,
                            picture.render_height, shape >= 1.03 ? "another shape than that of" : "ten times off",
                            r.document.sources[i].name, cw, ch),
                p.at("picture/render"), p.change("Render it at display size", [](PlayerSpec& s) {
                    s.picture.render_width = s.picture.render_height = 0;
                }));
        }
    });
}

constexpr std::array source_rows{
    ReviewRule{"never-played", "A source that is in no player’s queue.", "It would be packed for nothing.",
               never_played},
    ReviewRule{"poster-flash", "A poster of a source that starts by itself.",
               "A poster is for a source that waits to be started.", poster_flash},
    ReviewRule{"poster-shape", "A poster of another shape than its clip.", "The picture jumps when playback starts.",
               poster_shape},
    ReviewRule{"unread-poster", "A poster that is not an image.", "The first frame is shown instead.", unread_poster},
    ReviewRule{"short-loop", "A loop shorter than a second.", "It flickers, and its audio buzzes.", short_loop},
    ReviewRule{"no-captions-file", "A missing caption file.", "The captions would be missing silently.",
               no_captions_file},
    ReviewRule{"unread-captions", "An unreadable caption file.", "The captions would be missing silently.",
               unread_captions},
    ReviewRule{"target-refuses", "A source that the target does not take.",
               "It would fail on the device; Prepare makes one that plays.", target_refuses, Severity::error},
    ReviewRule{"over-budget", "A file larger than the target’s budget for one.", "The upload would be refused.",
               over_budget, Severity::error},
    ReviewRule{"loud-start", "It starts by itself with sound where the target forbids that.",
               "It would be muted there, or not start.", loud_start},
    ReviewRule{"render-shape", "A render size of another shape than the clip, or ten times off.",
               "Probably a typing error; the video is stretched or coarse.", render_shape},
};
}  // namespace

std::span<const ReviewRule> rules_of_sources() { return source_rows; }

}  // namespace ruedo::reviewed
