// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/notice.h"

#include <QDBusConnection>
#include <QDBusMessage>
#include <QVariantMap>

namespace ruedo {

void notify_desktop(const QString& heading, const QString& words) {
    auto bus = QDBusConnection::sessionBus();
    if (!bus.isConnected()) return;
    auto call = QDBusMessage::createMethodCall("org.freedesktop.Notifications", "/org/freedesktop/Notifications",
                                               "org.freedesktop.Notifications", "Notify");
    call << QString("Ruedo") << 0U << QString() << heading << words.toHtmlEscaped() << QStringList() << QVariantMap()
         << -1;
    bus.send(call);
}

}  // namespace ruedo
