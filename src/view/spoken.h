// SPDX-License-Identifier: Apache-2.0
// Accessibility of widgets that are painted by hand.
#pragma once
#include <QAccessible>
#include <QWidget>

namespace ruedo {

/// From here on a screen reader takes the widget for this: without, one that is drawn by hand is passed over as a
/// frame round others.
void speak_as(QWidget& widget, QAccessible::Role role);

}  // namespace ruedo
