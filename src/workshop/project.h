// SPDX-License-Identifier: GPL-3.0-or-later
// The open project: the document, where it lies, its history, and a copy for after a crash.
#pragma once
#include <QFileSystemWatcher>
#include <QLockFile>
#include <QObject>
#include <QString>
#include <QTimer>
#include <filesystem>
#include <vector>

#include "player/player.h"

namespace ruedo {

class Project : public QObject {
    Q_OBJECT
  public:
    explicit Project(QObject* parent = nullptr);
    const PlayerDocument& document() const { return document_; }
    /// Where relative files are looked for.
    std::filesystem::path folder() const;
    const std::filesystem::path& path() const { return path_; }
    bool modified() const { return !(document_ == saved_); }
    std::size_t current() const { return current_; }
    void set_current(std::size_t source);
    /// The player that is selected: one always is.
    std::size_t player() const { return player_; }
    const PlayerSpec& spec() const { return document_.player(player_); }
    void select_player(std::size_t player, std::string control = {});
    /// The control of it that is selected, by its own name; empty for none.
    const std::string& selected() const { return selected_; }
    void select(std::string control) { select_player(player_, std::move(control)); }

    /// Takes a changed document over; one step of the history. `what` says it in words ("Loop"). `player` is selected
    /// in it, where it is another one.
    void change(const PlayerDocument& document, const QString& what, std::optional<std::size_t> player = {});
    bool can_undo() const { return at_ > 0; }
    bool can_redo() const { return at_ + 1 < history_.size(); }
    QString undo_text() const;
    QString redo_text() const;
    void undo();
    void redo();

    void start_new();
    Status open(const std::filesystem::path& path);
    Status save();
    Status save_as(const std::filesystem::path& path);
    /// A file inside the project's folder is written relative to it.
    std::string file_for(const std::filesystem::path& file) const;

    static QStringList recent();
    /// What a crash left unsaved, if anything: the copy and the project it belongs to.
    struct Recovered {
        PlayerDocument document;
        std::filesystem::path path;
        std::filesystem::path copy;  ///< Where it lies; taken away once it has been taken over.
    };
    /// The newest copy that no running window keeps.
    static std::optional<Recovered> recovered();
    void recover(const Recovered& recovered);
    /// Keeps a copy of what is not saved; false where there is such and it could not be kept anywhere.
    bool keep_unsaved();
    void forget_recovery();

  signals:
    void changed();           ///< The document.
    void current_changed();   ///< Which source is selected.
    void selected_changed();  ///< Which player or control is selected.
    void opened();            ///< Another document altogether.
    /// The file was changed by someone else. Where nothing was changed here, that was taken over, as a step of the
    /// history; else theirs is `kept` beside it when this one is saved.
    void changed_on_disk(bool taken_over);
    void theirs_kept(const QString& file);
    /// Unsaved work is not kept where it should be: it is kept `instead`, or nowhere where that is empty.
    void copy_misplaced(const QString& why, const QString& instead);

  private:
    struct Step {
        PlayerDocument document;
        QString what;
    };
    void changed_now(std::optional<std::size_t> player = {});
    void restart(PlayerDocument document, std::filesystem::path path);
    void copy_soon();
    void look_at_disk();
    std::filesystem::path copy_file(const std::filesystem::path& folder);
    PlayerDocument document_, saved_;
    std::filesystem::path path_;
    std::vector<Step> history_;
    std::size_t at_ = 0, current_ = 0, player_ = 0;
    std::string selected_;
    QTimer copy_;
    /// This window's copies: one, and another one where the usual folder could not take it.
    struct Copy {
        std::filesystem::path folder, path;
        std::unique_ptr<QLockFile> lock;
    };
    std::vector<Copy> held_;
    bool misplaced_ = false;
    QFileSystemWatcher watcher_;
    Bytes on_disk_;  ///< The file as it was when it was read or written here.
};

}  // namespace ruedo
