// SPDX-License-Identifier: GPL-3.0-or-later
// The document as text, beside the sentences: both say the same, and either can be changed.
#pragma once
#include <QLabel>
#include <QPlainTextEdit>
#include <QTimer>

#include "workshop/project.h"

namespace ruedo {

class DocumentText : public QWidget {
  public:
    explicit DocumentText(Project& project, QWidget* parent = nullptr);
    /// Marks the member at a JSON pointer, and brings it to be seen; nothing for an empty one.
    void mark(const QString& pointer);
    QPlainTextEdit& editor() { return *editor_; }
    QString problem() const { return problem_->text(); }
    /// The lines that are marked, from 1; 0 and 0 for none.
    std::pair<int, int> marked() const { return marked_; }

  private:
    void show_document();
    void take();
    void show_marks();
    Project& project_;
    QPlainTextEdit* editor_;
    QLabel* problem_;
    QTimer later_;
    QString pointer_;
    std::pair<int, int> marked_{};
    int wrong_line_ = 0;
    bool writing_ = false;
};

}  // namespace ruedo
