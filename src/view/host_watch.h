// SPDX-License-Identifier: Apache-2.0
// What the desktop says of an app's life: its window, the session, sleep. In words that a player's host says
// (player/host_life.h). Phone calls and being torn down are for the app to say.
#pragma once
#include <QDBusConnection>
#include <QObject>
#include <QTimer>
#include <functional>
#include <string_view>

class QWidget;

namespace ruedo {

class HostWatch : public QObject {
    Q_OBJECT
  public:
    /// Watches `window` for as long as both live. Without a bus only the window tells. Of sessions, only the lock of
    /// the one this process belongs to counts.
    HostWatch(QWidget& window, std::function<void(std::string_view word)> says,
              QDBusConnection system = QDBusConnection::systemBus(),
              QDBusConnection session = QDBusConnection::sessionBus());

  protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

  private slots:
    void sleeps(bool now);
    void locks(bool now);
    void lock() { locks(true); }
    void unlock() { locks(false); }

  private:
    void watch_session(QDBusConnection system);
    void look();
    void say_asleep();
    QWidget& window_;
    QTimer settling_;
    std::function<void(std::string_view)> says_;
    bool asleep_ = false, locked_ = false, said_asleep_ = false, away_ = false, covered_ = false;
};

}  // namespace ruedo
