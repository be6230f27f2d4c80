// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/glance.h"

#include <QCryptographicHash>
#include <QDir>
#include <QStandardPaths>
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "capture/camera.h"
#include "catalogue/catalogue.h"
#include "facts/keep.h"
#include "playback/playback.h"
#include "view/poster.h"

namespace ruedo {
namespace {

QString cache_folder() {
    auto folder = QStandardPaths::writableLocation(QStandardPaths::CacheLocation) + "/glances";
    QDir().mkpath(folder);
    return folder;
}

/// The newest few hundred stay.
void tidy(const QString& folder) {
    auto files = QDir(folder).entryInfoList(QDir::Files, QDir::Time);
    for (qsizetype i = 1200; i < files.size(); ++i) QFile::remove(files[i].filePath());
}

std::optional<Thumbnail> kept(const QString& folder, const QString& key) {
    auto bytes = read_file((folder + "/" + key + ".json").toStdString(), 4 << 20);
    if (!bytes) return std::nullopt;
    auto facts = facts_from_json(nlohmann::json::parse(bytes->begin(), bytes->end(), nullptr, false));
    if (!facts) return std::nullopt;
    Thumbnail g;
    g.facts = std::make_shared<SourceFacts>(std::move(*facts));
    g.poster.load(folder + "/" + key + ".png");
    g.poster.setDevicePixelRatio(2);
    return g;
}

Thumbnail look_into(const std::string& source, const std::atomic<bool>* cancel) {
    Thumbnail g;
    if (auto name = parse_catalogue_name(source)) {
        // Title, length and poster are the service's to tell; the clip itself is not fetched for a card.
        auto clip = ask_catalogue(*name, KeyFile().key_for(name->host));
        if (!clip) return {{}, {}, clip.error()};
        auto facts = std::make_shared<SourceFacts>();
        facts->first_sentence = facts->second_sentence =
            fmt::format("“{}”, from the catalogue at {}.", clip->title, name->host);
        facts->duration = clip->duration;
        facts->info.duration = clip->duration;
        g.from_service = true;
        g.facts = std::move(facts);
        g.poster.loadFromData(clip->poster.data(), static_cast<int>(clip->poster.size()));
        if (!g.poster.isNull())
            g.poster = g.poster.scaled(PosterCache::poster_width * 2, PosterCache::poster_height * 2,
                                       Qt::KeepAspectRatio, Qt::SmoothTransformation);
        g.poster.setDevicePixelRatio(2);
        return g;
    }
    if (is_camera(source)) {
        // A device is not opened for a card: that would take it from its user.
        auto cameras = list_cameras();
        auto id = camera_id(source);
        auto it = std::find_if(cameras.begin(), cameras.end(), [&](auto& c) { return c.id == id; });
        if (it == cameras.end())
            return {{},
                    {},
                    Error{ErrorCode::not_found, fmt::format("The camera “{}” is not connected.", id), "Plug it in."}};
        auto facts = std::make_shared<SourceFacts>();
        facts->first_sentence = facts->second_sentence = fmt::format("Live pictures from “{}”.", it->name);
        g.from_service = true;
        g.facts = std::move(facts);
        return g;
    }
    auto opened = open_clip(source);
    if (!opened) return {{}, {}, opened.error()};
    std::shared_ptr<Clip> clip = std::move(*opened);
    // Only what is on this machine is kept: an address may give something else tomorrow.
    QString key, folder;
    if (clip->bytes() && clip->bytes()->cheap_to_seek())
        if (auto k = content_key(*clip->bytes())) {
            // What was found speaks of the name, so the same under another name is found anew; and so is what another
            // form of these facts was kept of.
            auto name =
                QCryptographicHash::hash(QByteArray::fromStdString(clip->info().name), QCryptographicHash::Sha256);
            key = QString("%1-%2-2").arg(QString::fromStdString(*k), QString::fromLatin1(name.toHex().left(16)));
            folder = cache_folder();
            if (auto before = kept(folder, key)) return *before;
        }
    auto facts = gather_facts(clip, CodecRegistry::standard(), source,
                              {.loudness = false, .cancel = cancel, .whole = false, .so_far = {}});
    if (!facts) return {{}, {}, facts.error()};
    g.facts = std::make_shared<SourceFacts>(std::move(*facts));
    if (auto tracks = select_tracks(clip->info(), CodecRegistry::standard()); !tracks)
        g.error = tracks.error();
    else
        g.poster = make_poster(clip, PosterCache::poster_width * 2, PosterCache::poster_height * 2, cancel);
    // A poster that was given up half way is none to be kept.
    if (!key.isEmpty() && !g.error && !*cancel) {
        auto text = to_json(*g.facts).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
        g.poster.save(folder + "/" + key + ".png");
        (void)write_file((folder + "/" + key + ".json").toStdString(),
                         {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
    }
    g.poster.setDevicePixelRatio(2);
    return g;
}
}  // namespace

PosterCache::PosterCache(QObject* parent) : QObject(parent) {
    tasks_.ask("", "tidy", [](auto&) { return tidy(cache_folder()), true; }, [](bool) {});
}

const Thumbnail* PosterCache::at(const std::string& source) {
    auto [it, fresh] = known_.try_emplace(source);
    if (!fresh) return it->second ? &*it->second : nullptr;
    ++waiting_;
    tasks_.ask(
        source, source, [source](const std::atomic<bool>& cancel) { return look_into(source, &cancel); },
        [this, source](Thumbnail thumbnail) {
            --waiting_;
            known_[source] = std::move(thumbnail);
            tasks_.forget(source);
            emit found(source);
        });
    return nullptr;
}

void PosterCache::forget(const std::string& source) {
    auto it = known_.find(source);
    if (it == known_.end()) return;
    if (!it->second) --waiting_;
    known_.erase(it);
    tasks_.forget(source);
}

}  // namespace ruedo
