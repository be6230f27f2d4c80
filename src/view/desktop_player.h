// SPDX-License-Identifier: Apache-2.0
// A packed app's player on the desktop's bus: what media keys, panels and other programs press and read (MPRIS D-Bus
// Interface Specification 2.2); one instance of an app; and the screen kept awake while pictures move.
#pragma once
#include <QDBusVirtualObject>
#include <QTimer>
#include <QVariantMap>

#include "view/screen_view.h"

namespace ruedo {

class DesktopPlayer : public QDBusVirtualObject {
  public:
    /// `identity` is the app's name, `entry` its desktop file without its ending.
    DesktopPlayer(ScreenView& screen, QString identity, QString entry);
    ~DesktopPlayer() override;
    /// Takes the app's name on the session's bus. False where another instance has it; that one was asked to show
    /// itself. True as well without a bus.
    bool take_name(const QString& executable);

    QString introspect(const QString& path) const override;
    bool handleMessage(const QDBusMessage& message, const QDBusConnection& bus) override;
    struct Property;
    struct Method;

  private:
    friend struct Rows;
    PlayerView& player() const { return screen_.player(screen_.active()); }
    ControlContext context() const { return player().session().context(); }
    void follow();
    void keep_awake(bool awake);
    QVariantMap all(const QString& interface) const;
    ScreenView& screen_;
    QString identity_, entry_, name_;
    QTimer timer_;
    QVariantMap told_;
    const Controller* of_ = nullptr;  ///< Whose events were seen, and how many.
    std::uint64_t seen_ = 0;
    bool looked_ = false;
    std::uint32_t cookie_ = 0;
    bool awake_ = false, asked_ = false;
};

}  // namespace ruedo
