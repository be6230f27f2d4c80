// SPDX-License-Identifier: GPL-3.0-or-later
// The path with what can be done with a run: kept, laid beside another one, written and read.
#pragma once
#include <QLabel>
#include <QPushButton>

#include "workshop/path_chart.h"

namespace ruedo {

class PathPanel : public QWidget {
  public:
    explicit PathPanel(QWidget* parent = nullptr);
    PathChart& chart() { return *chart_; }
    void keep();
    void let_go();
    void align(std::size_t anchor);
    Status write(const std::filesystem::path& file) const;
    Status read(const std::filesystem::path& file);
    QString said() const { return said_->text(); }

  private:
    void describe();
    PathChart* chart_;
    QLabel* said_;
    QPushButton* runs_;
    std::size_t anchor_ = 0;
};

}  // namespace ruedo
