// SPDX-License-Identifier: GPL-3.0-or-later
// A desktop notification, for users who look elsewhere.
#pragma once
#include <QString>

namespace ruedo {

/// By the freedesktop Notifications interface (org.freedesktop.Notifications, version 1.2), where somebody provides it;
/// returns at once.
void notify_desktop(const QString& heading, const QString& words);

}  // namespace ruedo
