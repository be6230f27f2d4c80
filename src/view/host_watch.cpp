// SPDX-License-Identifier: Apache-2.0
#include "view/host_watch.h"

#include <QDBusConnection>
#include <QEvent>
#include <QTimer>
#include <QWidget>
#include <QWindow>

namespace ruedo {

HostWatch::HostWatch(QWidget& window, std::function<void(std::string_view)> says)
    : QObject(&window), window_(window), says_(std::move(says)) {
    window.installEventFilter(this);
    if (auto system = QDBusConnection::systemBus(); system.isConnected()) {
        auto manager = "org.freedesktop.login1";
        system.connect(manager, "/org/freedesktop/login1", "org.freedesktop.login1.Manager", "PrepareForSleep", this,
                       SLOT(sleeps(bool)));
        system.connect(manager, {}, "org.freedesktop.login1.Session", "Lock", this, SLOT(lock()));
        system.connect(manager, {}, "org.freedesktop.login1.Session", "Unlock", this, SLOT(unlock()));
    }
    // Desktops differ in who sends it, not in what is sent.
    if (auto session = QDBusConnection::sessionBus(); session.isConnected())
        session.connect({}, {}, "org.freedesktop.ScreenSaver", "ActiveChanged", this, SLOT(locks(bool)));
}

bool HostWatch::eventFilter(QObject* watched, QEvent* event) {
    switch (event->type()) {
        case QEvent::WinIdChange:
        case QEvent::Show:
            if (auto* handle = window_.windowHandle(); handle && watched == &window_) handle->installEventFilter(this);
            [[fallthrough]];
        case QEvent::Hide:
        case QEvent::WindowStateChange:
        case QEvent::Expose:
            // What several events say together is looked at once they are through.
            QTimer::singleShot(0, this, [this] { look(); });
            break;
        default:
            break;
    }
    return QObject::eventFilter(watched, event);
}

void HostWatch::look() {
    auto* handle = window_.windowHandle();
    bool away = window_.isMinimized() || !window_.isVisible();
    bool covered = !away && handle && !handle->isExposed();
    if (away == away_ && covered == covered_) return;
    bool was = away_ || covered_;
    away_ = away, covered_ = covered;
    if (was) says_("foreground");
    if (away) says_("background");
    if (covered) says_("covered");
}

void HostWatch::sleeps(bool now) { asleep_ = now, say_asleep(); }
void HostWatch::locks(bool now) { locked_ = now, say_asleep(); }
void HostWatch::say_asleep() {
    bool now = asleep_ || locked_;
    if (std::exchange(said_asleep_, now) != now) says_(now ? "sleep" : "wake");
}

}  // namespace ruedo
