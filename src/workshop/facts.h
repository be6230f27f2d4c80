// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QLabel>
#include <QTextBrowser>

#include "workshop/project.h"

namespace ruedo {

/// What the chosen source is: in sentences, its shape drawn to scale, its tracks, and findings.
class FactsPanel : public QWidget {
  public:
    FactsPanel(Project& project, QWidget* parent = nullptr);
    QString plain_text() const { return text_->toPlainText(); }

  private:
    class Shape;
    void rebuild();
    Project& project_;
    Shape* shape_;
    QTextBrowser* text_;
    std::uint64_t number_ = 0;
};

}  // namespace ruedo
