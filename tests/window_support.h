// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QAbstractButton>
#include <QApplication>
#include <QElapsedTimer>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QProcess>
#include <QTimer>

#include "support.h"
#include "view/player_view.h"

namespace ruedo::test {

/// Runs the event loop until `wanted`, or the limit. Waits for events rather than looking for them all the time, but
/// not for long, as what is wanted may come without one.
inline bool soon(const std::function<bool()>& wanted, int ms = 30000) {
    QElapsedTimer clock;
    clock.start();
    QTimer look;
    look.start(2);
    while (!wanted()) {
        if (clock.elapsed() > ms) return wanted();
        QApplication::processEvents(QEventLoop::AllEvents | QEventLoop::WaitForMoreEvents);
        QApplication::processEvents(QEventLoop::AllEvents, 10);  // and what these led to
    }
    return true;
}
inline void pass(int ms) {
    soon([] { return false; }, ms);
}

/// A message bus of a test's own.
struct OwnBus {
    QProcess process;
    QString address;
    OwnBus() {
        process.start("dbus-daemon", {"--session", "--nofork", "--print-address"});
        REQUIRE(process.waitForStarted());
        REQUIRE(soon([&] { return process.canReadLine(); }));
        address = QString::fromUtf8(process.readLine()).trimmed();
    }
    ~OwnBus() { process.kill(), process.waitForFinished(); }
};

/// What a hand does: events through the application, to the widget that has them.
inline void press(QWidget* w, QPointF at, Qt::MouseButton button = Qt::LeftButton,
                  Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
    QMouseEvent down(QEvent::MouseButtonPress, at, w->mapToGlobal(at), button, button, modifiers);
    QApplication::sendEvent(w, &down);
}
inline void move(QWidget* w, QPointF at, Qt::MouseButtons buttons = Qt::NoButton) {
    QMouseEvent m(QEvent::MouseMove, at, w->mapToGlobal(at), Qt::NoButton, buttons, Qt::NoModifier);
    QApplication::sendEvent(w, &m);
}
inline void let_go(QWidget* w, QPointF at) {
    QMouseEvent up(QEvent::MouseButtonRelease, at, w->mapToGlobal(at), Qt::LeftButton, Qt::NoButton, Qt::NoModifier);
    QApplication::sendEvent(w, &up);
}
/// A press on a button that works; what was just opened is shown to work a moment later.
inline void click(QWidget* w) {
    auto* button = dynamic_cast<QAbstractButton*>(w);
    REQUIRE(button);
    REQUIRE(soon([&] { return button->isEnabled(); }));
    button->click();
}
inline void key(QWidget* w, int code, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
    QKeyEvent down(QEvent::KeyPress, code, modifiers), up(QEvent::KeyRelease, code, modifiers);
    QApplication::sendEvent(w, &down);
    QApplication::sendEvent(w, &up);
}
/// The control of a bar with this accessible name, as it stands now.
inline QWidget* control(QWidget* root, const QString& name) {
    for (auto* w : root->findChildren<QWidget*>())
        if (w->accessibleName() == name) return w;
    return nullptr;
}
inline PlayerDocument document_of(std::initializer_list<const char*> names) {
    PlayerDocument d;
    for (auto name : names) {
        SourceSpec s;
        s.name = name, s.file = fixture(name).string();
        d.sources.push_back(s);
    }
    return d;
}
}  // namespace ruedo::test
