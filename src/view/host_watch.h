// SPDX-License-Identifier: Apache-2.0
// What the desktop says of an app's life: its window, the session, sleep. In words that a player's host says
// (player/host_life.h). Phone calls and being torn down are for the app to say.
#pragma once
#include <QObject>
#include <functional>
#include <string_view>

class QWidget;

namespace ruedo {

class HostWatch : public QObject {
    Q_OBJECT
  public:
    /// Watches `window` for as long as both live. Without a bus only the window tells.
    HostWatch(QWidget& window, std::function<void(std::string_view word)> says);

  protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

  private slots:
    void sleeps(bool now);
    void locks(bool now);
    void lock() { locks(true); }
    void unlock() { locks(false); }

  private:
    void look();
    void say_asleep();
    QWidget& window_;
    std::function<void(std::string_view)> says_;
    bool asleep_ = false, locked_ = false, said_asleep_ = false, away_ = false, covered_ = false;
};

}  // namespace ruedo
