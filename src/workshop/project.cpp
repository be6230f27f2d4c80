// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/project.h"

#include <sys/stat.h>
#include <unistd.h>

#include <QDir>
#include <QSettings>
#include <QStandardPaths>
#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

namespace ruedo {
namespace fs = std::filesystem;
namespace {
/// Where copies are kept: the first is the usual one, the others are for when that is full or can't be written to.
std::vector<fs::path> copies_folders() {
    std::vector<fs::path> all;
    for (auto place :
         {QStandardPaths::AppDataLocation, QStandardPaths::RuntimeLocation, QStandardPaths::TempLocation}) {
        auto folder = QStandardPaths::writableLocation(place);
        if (folder.isEmpty()) continue;
        if (place != QStandardPaths::AppDataLocation) folder += QString("/ruedo-unsaved-%1").arg(::getuid());
        all.push_back(folder.toStdString());
    }
    return all;
}
/// One's own, and nobody else's.
bool make_private(const fs::path& folder) {
    QDir().mkpath(QString::fromStdString(folder.string()));
    struct stat st{};
    return ::lstat(folder.c_str(), &st) == 0 && S_ISDIR(st.st_mode) && st.st_uid == ::getuid();
}
fs::path lock_of(const fs::path& copy) { return copy.string() + ".lock"; }
/// Nothing where the window whose copy it is is there.
std::unique_ptr<QLockFile> lock(const fs::path& copy) {
    auto lock = std::make_unique<QLockFile>(QString::fromStdString(lock_of(copy).string()));
    lock->setStaleLockTime(0);
    return lock->tryLock(0) ? std::move(lock) : nullptr;
}
/// Copies there are, the oldest first.
std::vector<fs::path> copies() {
    std::vector<fs::path> all;
    std::error_code ec;
    for (auto& folder : copies_folders())
        for (auto& entry : fs::directory_iterator(folder, ec)) {
            auto& file = entry.path();
            if (file.filename().string().starts_with("unsaved") && file.extension() == ".json") all.push_back(file);
        }
    std::sort(all.begin(), all.end(),
              [&](auto& one, auto& other) { return fs::last_write_time(one, ec) < fs::last_write_time(other, ec); });
    return all;
}
constexpr int most_windows = 64;
/// A change is copied no later than this, however fast others follow it.
constexpr int copy_after_ms = 1000;
}  // namespace

Project::Project(QObject* parent) : QObject(parent) {
    history_.push_back({document_, {}});
    copy_.setSingleShot(true);
    connect(&copy_, &QTimer::timeout, this, [this] { (void)keep_unsaved(); });
    // A file that is written anew is another file, so its folder is watched as well; what they say comes in a bunch.
    auto* settle = new QTimer(this);
    settle->setSingleShot(true);
    connect(settle, &QTimer::timeout, this, [this] { look_at_disk(); });
    for (auto signal : {&QFileSystemWatcher::fileChanged, &QFileSystemWatcher::directoryChanged})
        connect(&watcher_, signal, this, [settle] { settle->start(150); });
}

/// Each window keeps a copy of its own; a held lock means that its window is alive. Empty where none can be locked.
fs::path Project::copy_file(const fs::path& folder) {
    for (auto& held : held_)
        if (held.folder == folder) return held.path;
    if (!make_private(folder)) return {};
    std::error_code ec;
    Copy copy{folder, {}, nullptr};
    auto take = [&](const fs::path& file) {
        if (!copy.lock && (copy.lock = lock(file))) copy.path = file;
    };
    // What someone left behind is theirs until it has been looked at.
    for (int n = 0; !copy.lock && n < most_windows; ++n)
        if (auto file = folder / fmt::format("unsaved-{}.json", n); !fs::exists(file, ec)) take(file);
    // Where there are too many that nobody came back for, the oldest goes.
    if (!copy.lock)
        for (auto& file : copies())
            if (file.parent_path() == folder) take(file);
    if (!copy.lock) return {};
    held_.push_back(std::move(copy));
    return held_.back().path;
}
void Project::copy_soon() {
    if (!copy_.isActive()) copy_.start(copy_after_ms);
}

fs::path Project::folder() const {
    std::error_code ec;
    auto folder = path_.empty() ? fs::current_path(ec) : fs::absolute(path_, ec).parent_path();
    // The folder it was started in may be gone.
    return ec ? fs::path(QDir::homePath().toStdString()) : folder;
}

void Project::set_current(std::size_t source) {
    source = document_.sources.empty() ? 0 : std::min(source, document_.sources.size() - 1);
    if (source == current_) return;
    current_ = source;
    emit current_changed();
}

void Project::select_player(std::size_t player, std::string control) {
    player = std::min(player, document_.players.size() - 1);
    if (!document_.player(player).control(control)) control.clear();
    if (player == player_ && control == selected_) return;
    player_ = player;
    selected_ = std::move(control);
    emit selected_changed();
}
/// Says so; what is no longer there is no longer selected.
void Project::changed_now(std::optional<std::size_t> player) {
    auto before = std::pair(player_, selected_);
    player_ = std::min(player.value_or(player_), document_.players.size() - 1);
    if (player_ != before.first || !spec().control(selected_)) selected_.clear();
    emit changed();
    if (before != std::pair(player_, selected_)) emit selected_changed();
}

void Project::change(const PlayerDocument& document, const QString& what, std::optional<std::size_t> player) {
    if (document == document_) return;
    history_.resize(at_ + 1);
    history_.push_back({document, what});
    ++at_;
    document_ = document;
    copy_soon();
    changed_now(player);
    if (current_ >= document_.sources.size()) set_current(0);
}
QString Project::undo_text() const { return can_undo() ? history_[at_].what : QString(); }
QString Project::redo_text() const { return can_redo() ? history_[at_ + 1].what : QString(); }
void Project::undo() {
    if (!can_undo()) return;
    document_ = history_[--at_].document;
    copy_soon();
    changed_now();
    set_current(current_);
}
void Project::redo() {
    if (!can_redo()) return;
    document_ = history_[++at_].document;
    copy_soon();
    changed_now();
    set_current(current_);
}

void Project::restart(PlayerDocument document, fs::path path) {
    document_ = saved_ = std::move(document);
    path_ = std::move(path);
    if (!watcher_.files().isEmpty()) watcher_.removePaths(watcher_.files());
    if (!watcher_.directories().isEmpty()) watcher_.removePaths(watcher_.directories());
    on_disk_.clear();
    if (auto bytes = path_.empty() ? Bytes{} : read_file(path_).value_or(Bytes{}); !bytes.empty()) {
        on_disk_ = std::move(bytes);
        watcher_.addPath(QString::fromStdString(path_.string()));
        watcher_.addPath(QString::fromStdString(path_.parent_path().string()));
    }
    history_.assign(1, {document_, {}});
    at_ = 0;
    current_ = player_ = 0;
    selected_.clear();
    emit opened();
    changed_now();
    emit current_changed();
}
void Project::start_new() { restart({}, {}); }

Status Project::open(const fs::path& path) {
    RUEDO_TRY(auto document, load_document(path));
    restart(std::move(document), fs::absolute(path));
    QSettings settings;
    auto list = settings.value("recent").toStringList();
    auto name = QString::fromStdString(path_.string());
    list.removeAll(name);
    list.prepend(name);
    settings.setValue("recent", list.mid(0, 8));
    return {};
}
void Project::look_at_disk() {
    if (path_.empty()) return;
    auto name = QString::fromStdString(path_.string());
    if (!watcher_.files().contains(name)) watcher_.addPath(name);
    auto now = read_file(path_);
    if (!now || *now == on_disk_) return;
    auto theirs = load_document(path_);
    if (!theirs) return;  // half written, perhaps; there will be another word
    bool ours = modified();
    if (!ours) {
        on_disk_ = *now, saved_ = *theirs;
        change(*theirs, "What was changed on disk");
    }
    emit changed_on_disk(!ours);
}

Status Project::save() {
    // What someone else wrote meanwhile is not written over.
    if (auto now = read_file(path_); now && !on_disk_.empty() && *now != on_disk_) {
        auto beside = path_;
        std::error_code ec;
        for (int n = 1; n == 1 || fs::exists(beside, ec); ++n)
            beside =
                path_.parent_path() / (path_.stem().string() + (n == 1 ? ".theirs" : ".theirs-" + std::to_string(n)) +
                                       path_.extension().string());
        RUEDO_TRY_DO(write_file(beside, *now));
        emit theirs_kept(QString::fromStdString(beside.filename().string()));
    }
    RUEDO_TRY_DO(save_document(document_, path_));
    on_disk_ = read_file(path_).value_or(Bytes{});
    saved_ = document_;
    forget_recovery();
    emit changed();
    return {};
}
Status Project::save_as(const fs::path& path) {
    // Files keep meaning what they meant: names relative to the old folder are written anew.
    auto moved = document_;
    auto old = folder();
    auto target = fs::absolute(path).parent_path();
    for (auto& s : moved.sources) {
        std::vector<std::string*> files{&s.file, &s.poster};
        for (auto& captions : s.captions) files.push_back(&captions);
        for (auto& made : s.prepared) files.push_back(&made.file);
        for (auto* written : files) {
            if (written->empty() || is_address(*written)) continue;
            fs::path file = resolve(*written, old);
            auto relative = file.lexically_relative(target);
            *written = !relative.empty() && *relative.begin() != ".." ? relative.string() : file.string();
        }
    }
    RUEDO_TRY_DO(save_document(moved, path));
    auto current = current_;
    RUEDO_TRY_DO(open(path));
    set_current(current);
    return {};
}
std::string Project::file_for(const fs::path& file) const {
    auto whole = fs::absolute(file).lexically_normal();
    auto relative = whole.lexically_relative(folder());
    return !path_.empty() && !relative.empty() && *relative.begin() != ".." ? relative.string() : whole.string();
}
QStringList Project::recent() {
    QStringList there;
    for (auto& name : QSettings().value("recent").toStringList())
        if (QFile::exists(name)) there << name;
    return there;
}

bool Project::keep_unsaved() {
    if (!modified()) return forget_recovery(), true;
    nlohmann::json j{{"path", path_.string()}, {"document", to_json(document_)}};
    auto text = j.dump(2, ' ', false, nlohmann::json::error_handler_t::replace);
    QString why = "There is no folder to keep it in.";
    auto folders = copies_folders();
    for (auto& folder : folders) {
        auto file = copy_file(folder);
        if (file.empty()) continue;
        auto kept = write_file(file, {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
        if (!kept) {
            why = QString::fromStdString(kept.error().sentence);
            continue;
        }
        bool elsewhere = folder != folders.front();
        if (elsewhere && !misplaced_) emit copy_misplaced(why, QString::fromStdString(file.string()));
        misplaced_ = elsewhere;
        return true;
    }
    emit copy_misplaced(why, {});
    misplaced_ = true;
    return false;
}
void Project::forget_recovery() {
    copy_.stop();
    std::error_code ec;
    for (auto& held : held_) fs::remove(held.path, ec);
    misplaced_ = false;
}
std::optional<Project::Recovered> Project::recovered() {
    auto all = copies();
    for (auto file = all.rbegin(); file != all.rend(); ++file) {
        if (!lock(*file)) continue;
        auto bytes = read_file(*file);
        auto j = bytes ? nlohmann::json::parse(bytes->begin(), bytes->end(), nullptr, false) : nlohmann::json();
        if (!j.is_object() || !j.contains("document") || !j.contains("path") || !j["path"].is_string()) continue;
        if (auto document = document_from_json(j["document"], "unsaved work"))
            return Recovered{*document, j["path"].get<std::string>(), *file};
    }
    return std::nullopt;
}
void Project::recover(const Recovered& r) {
    PlayerDocument base;
    if (auto on_disk = load_document(r.path)) base = *on_disk;
    restart(base, r.path);
    change(r.document, "Unsaved work");
    // Its own copy first, then the one that it came from.
    if (!keep_unsaved()) return;
    std::error_code ec;
    fs::remove(r.copy, ec), fs::remove(lock_of(r.copy), ec);
}

}  // namespace ruedo
