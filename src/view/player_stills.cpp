// SPDX-License-Identifier: Apache-2.0
// The stills of a player: its posters, those in its strips, and the one under the pointer.
#include <algorithm>

#include "view/look.h"
#include "view/player_view.h"
#include "view/poster.h"

namespace ruedo {
namespace {
QString poster_file(const SourceSpec& source, const std::filesystem::path& folder) {
    if (source.poster.empty() || is_address(source.poster)) return {};
    return text(resolve(source.poster, folder));
}
}  // namespace

std::vector<StripItem> PlayerView::strip_items() const {
    std::vector<StripItem> items;
    for (std::size_t i = 0; i < session_->document().sources.size(); ++i) {
        auto poster = posters_.find(i);
        items.push_back(
            {text(session_->document().sources[i].name), poster == posters_.end() ? QImage() : poster->second});
    }
    return items;
}
/// Decoded beside playback, from a clip of its own; of local sources only.
void PlayerView::ask_still(std::optional<Time> at, std::function<void(const QImage&)> told) {
    auto* source = session_->source();
    if (!at || !source || is_address(source->file)) return tasks_.forget("still");
    auto file = resolve(*source, session_->folder());
    auto size = std::clamp(width() / 4, 96, 240);
    tasks_.ask(
        "still", file + "|" + std::to_string(at->ns),
        [file, at, size](const std::atomic<bool>& cancel) { return find_poster(file, size, size, &cancel, at); },
        [told = std::move(told)](const QImage& still) { told(still); });
}

void PlayerView::fill_strips() {
    for (auto& m : controls_) m.shows->set_strip(strip_items());
}

void PlayerView::find_posters() {
    auto& document = session_->document();
    bool strips = std::any_of(controls_.begin(), controls_.end(),
                              [](auto& m) { return m.shows->spec().kind->form == ControlKind::Form::strip; });
    for (std::size_t i = 0; i < document.sources.size(); ++i) {
        // A strip wants all of them; a service's poster is there long before its clip.
        auto& spec = document.sources[i];
        if (posters_.contains(i) || !(strips || spec.file.starts_with("catalogue") || spec.has_poster())) continue;
        posters_[i] = {};
        auto source = resolve(spec, session_->folder());
        auto own = poster_file(spec, session_->folder());
        auto work = [source, own, at = spec.poster_at](const std::atomic<bool>& cancel) {
            auto poster = own.isEmpty() ? QImage() : QImage(own);
            return poster.isNull() ? find_poster(source, at ? 1920 : 960, at ? 1280 : 640, &cancel, at)
                                   : poster.scaled(1920, 1280, Qt::KeepAspectRatio, Qt::SmoothTransformation);
        };
        tasks_.ask("poster " + std::to_string(i),
                   source + "|" + own.toStdString() + "|" + std::to_string(spec.poster_at.value_or(Time{-1}).ns),
                   std::move(work), [this, i, source](QImage poster) {
                       ++posters_made_;
                       auto& sources = session_->document().sources;
                       if (!poster.isNull() && i < sources.size() && resolve(sources[i], session_->folder()) == source)
                           set_poster(i, poster);
                   });
    }
}

/// Posters of sources that stay what they were are kept.
void PlayerView::forget_posters(const PlayerDocument& before, const std::filesystem::path& folder) {
    auto& now = session_->document();
    for (auto it = posters_.begin(); it != posters_.end();) {
        auto i = it->first;
        bool same = folder == session_->folder() && i < before.sources.size() && i < now.sources.size() &&
                    before.sources[i].file == now.sources[i].file &&
                    before.sources[i].poster == now.sources[i].poster &&
                    before.sources[i].poster_at == now.sources[i].poster_at;
        if (!same) tasks_.forget("poster " + std::to_string(i));
        it = same ? std::next(it) : posters_.erase(it);
    }
}

void PlayerView::set_poster(std::size_t index, const QImage& poster) {
    posters_[index] = poster;
    fill_strips();
}

}  // namespace ruedo
