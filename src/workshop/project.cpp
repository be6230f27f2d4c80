// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/project.h"

#include <QDir>
#include <QSettings>
#include <QStandardPaths>
#include <nlohmann/json.hpp>

namespace ruedo {
namespace fs = std::filesystem;
namespace {
fs::path recovery_file() {
    auto folder = QStandardPaths::writableLocation(QStandardPaths::AppDataLocation);
    QDir().mkpath(folder);
    return fs::path(folder.toStdString()) / "unsaved.json";
}
}  // namespace

Project::Project(QObject* parent) : QObject(parent) {
    history_.push_back({document_, {}});
    copy_.setSingleShot(true);
    connect(&copy_, &QTimer::timeout, this, [this] { keep_copy(); });
}

fs::path Project::folder() const { return path_.empty() ? fs::current_path() : fs::absolute(path_).parent_path(); }

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
    copy_.start(1000);
    changed_now(player);
    if (current_ >= document_.sources.size()) set_current(0);
}
QString Project::undo_text() const { return can_undo() ? history_[at_].what : QString(); }
QString Project::redo_text() const { return can_redo() ? history_[at_ + 1].what : QString(); }
void Project::undo() {
    if (!can_undo()) return;
    document_ = history_[--at_].document;
    copy_.start(1000);
    changed_now();
    set_current(current_);
}
void Project::redo() {
    if (!can_redo()) return;
    document_ = history_[++at_].document;
    copy_.start(1000);
    changed_now();
    set_current(current_);
}

void Project::restart(PlayerDocument document, fs::path path) {
    document_ = saved_ = std::move(document);
    path_ = std::move(path);
    history_.assign(1, {document_, {}});
    at_ = 0;
    current_ = player_ = 0;
    selected_.clear();
    emit opened();
    changed_now();
    emit current_changed();
}
void Project::start_new() { restart({}, {}); }

Outcome Project::open(const fs::path& path) {
    TRY(auto document, load_document(path));
    restart(std::move(document), fs::absolute(path));
    QSettings settings;
    auto list = settings.value("recent").toStringList();
    auto name = QString::fromStdString(path_.string());
    list.removeAll(name);
    list.prepend(name);
    settings.setValue("recent", list.mid(0, 8));
    return {};
}
Outcome Project::save() {
    TRY_DO(save_document(document_, path_));
    saved_ = document_;
    forget_recovery();
    emit changed();
    return {};
}
Outcome Project::save_as(const fs::path& path) {
    // Files keep meaning what they meant: names relative to the old folder are written anew.
    auto moved = document_;
    auto old = folder();
    auto target = fs::absolute(path).parent_path();
    for (auto& s : moved.sources) {
        std::vector<std::string*> files{&s.file, &s.poster};
        for (auto& captions : s.captions) files.push_back(&captions);
        for (auto* written : files) {
            if (written->empty() || is_address(*written)) continue;
            fs::path file = resolve(*written, old);
            auto relative = file.lexically_relative(target);
            *written = !relative.empty() && *relative.begin() != ".." ? relative.string() : file.string();
        }
    }
    TRY_DO(save_document(moved, path));
    auto current = current_;
    TRY_DO(open(path));
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

void Project::keep_copy() {
    if (!modified()) return forget_recovery();
    nlohmann::json j{{"path", path_.string()}, {"document", to_json(document_)}};
    auto text = j.dump(2, ' ', false, nlohmann::json::error_handler_t::replace);
    (void)write_file(recovery_file(), {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
}
void Project::forget_recovery() {
    copy_.stop();
    std::error_code ec;
    fs::remove(recovery_file(), ec);
}
std::optional<Project::Recovered> Project::recovered() {
    auto bytes = read_file(recovery_file());
    if (!bytes) return std::nullopt;
    auto j = nlohmann::json::parse(bytes->begin(), bytes->end(), nullptr, false);
    if (!j.is_object() || !j.contains("document") || !j.contains("path") || !j["path"].is_string()) return std::nullopt;
    auto document = document_from_json(j["document"], "unsaved work");
    if (!document) return std::nullopt;
    return Recovered{*document, j["path"].get<std::string>()};
}
void Project::recover(const Recovered& r) {
    PlayerDocument base;
    if (auto on_disk = load_document(r.path)) base = *on_disk;
    restart(base, r.path);
    change(r.document, "Unsaved work");
}

}  // namespace ruedo
