// SPDX-License-Identifier: GPL-3.0-or-later
// All sources at once, for one target: what stays, what is converted, why, and the sizes.
#pragma once
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QVBoxLayout>

#include "convert/fitting.h"
#include "view/desk.h"
#include "workshop/project.h"

namespace ruedo {

class ShelfTable : public QWidget {
  public:
    explicit ShelfTable(Project& project, QWidget* parent = nullptr);
    /// Looks at every source again, beside the window; told row by row.
    void look();
    struct Line {
        std::size_t source = 0;
        std::string place;  ///< Where the source is.
        TargetReport target_report;
        bool known = false, tried = false, under_way = false;
    };
    const std::vector<Line>& lines() const { return lines_; }
    /// Every row is known, and conversions have been sampled.
    bool settled() const;
    QString summary() const { return sum_->text(); }
    /// Which files are being made just now.
    std::function<bool(const std::filesystem::path&)> is_made;
    /// Makes what is missing of these lines.
    std::function<void(const std::vector<Line>&, const Target&)> on_make;
    std::function<void()> on_back;
    std::function<void(std::size_t source)> on_source;  ///< One of them is to be looked at closely.

  private:
    class Row;
    void rebuild();
    void say();
    void try_them();
    Project& project_;
    Target target_;
    std::vector<Line> lines_;
    std::vector<Row*> rows_;
    QLabel *heading_, *sum_;
    QPushButton *make_, *back_;
    QWidget* list_;
    QVBoxLayout* box_;
    ScratchFolder scratch_{"trials"};
    std::uint64_t looked_ = 0;
    BackgroundTasks tasks_{nullptr, 1, QThread::LowPriority};
};

}  // namespace ruedo
