// SPDX-License-Identifier: GPL-3.0-or-later
// The world as it was at a moment of the path: what was called up to then, every property, and how it looked.
#pragma once
#include <QLabel>
#include <QTextBrowser>

#include "workshop/history.h"

namespace ruedo {

class PlayerView;

/// A player as it looks now, small.
QImage small_frame(PlayerView& player);

class MomentPanel : public QWidget {
  public:
    explicit MomentPanel(QWidget* parent = nullptr);
    std::function<void()> on_back;  ///< To what is now.
    void show_moment(const History& history, Time wall);
    QString plain_text() const { return text_->toPlainText(); }
    std::size_t pictures() const { return pictures_; }

  private:
    QLabel *title_, *strip_;
    QTextBrowser* text_;
    std::size_t pictures_ = 0;
};

}  // namespace ruedo
