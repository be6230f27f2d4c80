// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QImage>
#include <QLabel>
#include <QTextBrowser>

#include "view/desk.h"
#include "workshop/ladder_chart.h"
#include "workshop/project.h"
#include "workshop/strip_chart.h"

namespace ruedo {

/// What the chosen source is: in sentences, its shape drawn to scale, its length as a chart, the verdict for the
/// target, findings and tracks.
class FactsPanel : public QWidget {
  public:
    FactsPanel(Project& project, QWidget* parent = nullptr);
    QString plain_text() const { return text_->toPlainText(); }
    StripChart& strip() { return *strip_; }
    LadderChart& ladder() { return *ladder_; }
    /// A finding, by its code, is to be fixed by a recipe; nothing where Prepare is to tell what becomes of it.
    std::function<void(const std::string& finding)> on_fix;
    /// The findings that can be.
    std::vector<std::string> fixable() const;
    /// The clip’s own frame for the shape that is drawn; of another source than the chosen one it is let be.
    void take_poster(const std::string& source, const QImage& poster);

  private:
    class Shape;
    void rebuild();
    void describe(std::shared_ptr<const SourceFacts> facts, bool listening);
    void say(const QString& html);
    Project& project_;
    QLabel* title_;
    Shape* shape_;
    StripChart* strip_;
    LadderChart* ladder_;
    QTextBrowser* text_;
    std::string source_;
    std::shared_ptr<const SourceFacts> facts_;
    bool listening_ = false;
    BackgroundTasks tasks_{nullptr, 1};
};

}  // namespace ruedo
