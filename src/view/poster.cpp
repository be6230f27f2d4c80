// SPDX-License-Identifier: Apache-2.0
#include "view/poster.h"

#include "catalogue/catalogue.h"
#include "container/container.h"

namespace ruedo {

QImage make_poster(std::shared_ptr<Clip> clip, int width, int height, const std::atomic<bool>* cancel,
                   std::optional<Time> wanted) {
    auto tracks = select_tracks(clip->info(), CodecRegistry::standard());
    // Of audio alone, its cover.
    if (auto& cover = clip->info().tags.cover; !cover.empty() && tracks && !tracks->video) {
        auto image = QImage::fromData(cover.data(), static_cast<int>(cover.size()));
        return image.isNull() ? image : image.scaled(width, height, Qt::KeepAspectRatio, Qt::SmoothTransformation);
    }
    if (!tracks || !tracks->video) return {};
    auto at = wanted.value_or(std::min(2_s, clip->info().duration / 4));
    auto& f = tracks->video->video;
    auto reader = FrameReader::open(std::move(clip), *tracks->video, CodecRegistry::standard());
    if (!reader) return {};
    auto picture = (*reader)->at(at, cancel);
    if (!picture) return {};
    auto r = fit_rect(Fit::contain, f.display_width(), f.display_height(), width, height);
    auto image = render(*picture, static_cast<int>(r.width), static_cast<int>(r.height));
    return QImage(image.pixels.data(), image.width, image.height, image.stride(), QImage::Format_RGB32).copy();
}

QImage find_poster(const std::string& source, int width, int height, const std::atomic<bool>* cancel,
                   std::optional<Time> at) {
    ReadScope scope(cancel);
    if (auto name = parse_catalogue_name(source); name && !at) {
        auto clip = ask_catalogue(*name, KeyFile().key_for(name->host));
        QImage poster;
        if (clip) poster.loadFromData(clip->poster.data(), static_cast<int>(clip->poster.size()));
        return poster.isNull() ? poster : poster.scaled(width, height, Qt::KeepAspectRatio, Qt::SmoothTransformation);
    }
    auto clip = open_clip(source);
    return clip ? make_poster(std::shared_ptr<Clip>(std::move(*clip)), width, height, cancel, at) : QImage();
}

}  // namespace ruedo
