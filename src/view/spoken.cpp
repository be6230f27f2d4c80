// SPDX-License-Identifier: Apache-2.0
#include "view/spoken.h"

#include <QAccessibleWidget>
#include <QVariant>

namespace ruedo {
namespace {
constexpr auto role_property = "ruedo-role";
QAccessibleInterface* spoken(const QString&, QObject* object) {
    if (!object || !object->isWidgetType()) return nullptr;
    auto role = object->property(role_property);
    if (!role.isValid()) return nullptr;
    return new QAccessibleWidget(static_cast<QWidget*>(object), static_cast<QAccessible::Role>(role.toInt()));
}
}  // namespace

void speak_as(QWidget& widget, QAccessible::Role role) {
    static bool once = (QAccessible::installFactory(spoken), true);
    static_cast<void>(once);
    widget.setProperty(role_property, static_cast<int>(role));
    // It may have been asked for already: the first name given to a widget does that.
    if (auto* before = QAccessible::queryAccessibleInterface(&widget))
        QAccessible::deleteAccessibleInterface(QAccessible::uniqueId(before));
}

}  // namespace ruedo
