// SPDX-License-Identifier: Apache-2.0
#include "view/host_watch.h"

#include <QCoreApplication>
#include <QDBusMessage>
#include <QDBusPendingReply>
#include <QEvent>

#include <QWidget>
#include <QWindow>

namespace ruedo {
namespace {
constexpr auto login = "org.freedesktop.login1", login_path = "/org/freedesktop/login1",
               login_manager = "org.freedesktop.login1.Manager";
}  // namespace

HostWatch::HostWatch(QWidget& window, std::function<void(std::string_view)> says, QDBusConnection system,
                     QDBusConnection session)
    : QObject(&window), window_(window), says_(std::move(says)) {
    window.installEventFilter(this);
    // A window that comes back is not drawn in at first: what several events say together counts once they are through.
    settling_.setSingleShot(true);
    connect(&settling_, &QTimer::timeout, this, [this] { look(); });
    if (system.isConnected()) {
        system.connect(login, login_path, login_manager, "PrepareForSleep", this, SLOT(sleeps(bool)));
        watch_session(system);
    }
    // Desktops differ in who sends it, not in what is sent.
    if (session.isConnected())
        session.connect({}, {}, "org.freedesktop.ScreenSaver", "ActiveChanged", this, SLOT(locks(bool)));
}

/// Others on the machine may lock theirs.
void HostWatch::watch_session(QDBusConnection system) {
    auto id = qEnvironmentVariable("XDG_SESSION_ID");
    auto ask = QDBusMessage::createMethodCall(login, login_path, login_manager,
                                              id.isEmpty() ? "GetSessionByPID" : "GetSession");
    ask << (id.isEmpty() ? QVariant(static_cast<quint32>(QCoreApplication::applicationPid())) : QVariant(id));
    auto* asked = new QDBusPendingCallWatcher(system.asyncCall(ask), this);
    connect(asked, &QDBusPendingCallWatcher::finished, this, [this, system, asked]() mutable {
        asked->deleteLater();
        QDBusPendingReply<QDBusObjectPath> path = *asked;
        if (path.isError()) return;  // it belongs to none
        for (auto [signal, slot] : {std::pair("Lock", SLOT(lock())), std::pair("Unlock", SLOT(unlock()))})
            system.connect(login, path.value().path(), "org.freedesktop.login1.Session", signal, this, slot);
    });
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
            if (!settling_.isActive()) settling_.start(100);
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
