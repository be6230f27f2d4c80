// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QLabel>
#include <QLineEdit>
#include <QProgressBar>
#include <QPushButton>
#include <QTextBrowser>
#include <atomic>

#include "pack/pack.h"
#include "view/desk.h"
#include "workshop/known_clips.h"
#include "workshop/project.h"

namespace ruedo {

/// Packing: what the app will hold, item by item, where it goes, and the making of it beside the window.
class PackPage : public QWidget {
  public:
    PackPage(Project& project, std::shared_ptr<KnownClips> clips, QWidget* parent = nullptr);
    ~PackPage() override;
    void pack_into(const std::filesystem::path& folder);
    bool busy() const { return busy_; }
    QString plain_text() const { return text_->toPlainText(); }
    std::function<void(bool ok)> on_done;
    /// A source is to be fixed by a recipe, for what was found (convert/mends.h).
    std::function<void(std::size_t source, const std::string& finding)> on_fix;

  private:
    class Bars;
    void rebuild();
    void finished(Result<Packed> result);
    Project& project_;
    std::shared_ptr<KnownClips> clips_;
    QLineEdit* name_;
    QLineEdit* place_;
    QPushButton *button_, *stop_, *run_, *browse_;
    QProgressBar* progress_;
    QLabel* outcome_;
    QTextBrowser* text_;
    Bars* bars_;
    std::vector<std::filesystem::path> outside_;  ///< Files from outside the project’s folder that a press takes in.
    std::shared_ptr<std::atomic<bool>> give_up_ = std::make_shared<std::atomic<bool>>(false);
    std::filesystem::path made_;
    std::uint64_t number_ = 0;
    bool busy_ = false, placed_by_hand_ = false;
    BackgroundTasks tasks_;
};

}  // namespace ruedo
