// SPDX-License-Identifier: Apache-2.0
#include "view/desktop_player.h"

#include <QApplication>
#include <QCryptographicHash>
#include <QDBusConnection>
#include <QDBusConnectionInterface>
#include <QDBusMessage>
#include <QDBusObjectPath>
#include <QDBusPendingCallWatcher>
#include <QDBusPendingReply>
#include <QDBusVariant>
#include <QUrl>
#include <QWindow>

#include "view/look.h"

namespace ruedo {
using What = Press::What;

namespace {
constexpr auto path = "/org/mpris/MediaPlayer2", root = "org.mpris.MediaPlayer2",
               player_interface = "org.mpris.MediaPlayer2.Player", properties = "org.freedesktop.DBus.Properties";
qlonglong microseconds(Time t) { return t.ns / 1000; }
Time from_microseconds(qlonglong us) {
    constexpr qlonglong most = INT64_MAX / 1000;
    return Time{std::clamp(us, -most, most) * 1000};
}
/// A source's place on the bus; it has to be a path, so it is its number.
QDBusObjectPath track_path(std::size_t source) { return QDBusObjectPath(QString("/ruedo/source/%1").arg(source)); }
bool can(const Snapshot& s, machine::Input call) { return machine::allowed(s.state, call); }
}  // namespace

/// One row for each property; those that are `told` have their changes told.
struct DesktopPlayer::Property {
    const char *interface, *name, *type;
    QVariant (*get)(const DesktopPlayer&);
    void (*set)(DesktopPlayer&, const QVariant&) = nullptr;
    bool told = true;
};
struct DesktopPlayer::Method {
    const char *interface, *name, *takes;  ///< Signature of its arguments.
    void (*call)(DesktopPlayer&, const QVariantList&);
};

struct Rows {
    using D = const DesktopPlayer&;
    static PlayerSession& session(D d) { return d.player().session(); }
    static Snapshot now(D d) { return d.player().snapshot(); }
    static void press(DesktopPlayer& d, Press p) { session(d).press(p); }
    static QVariantMap metadata(D d) {
        auto& s = session(d);
        auto shot = s.snapshot();
        QVariantMap m{{"mpris:trackid", QVariant::fromValue(track_path(s.index()))}};
        if (auto* source = s.source()) {
            m["xesam:title"] = text(source->name);
            auto file = resolve(*source, s.folder());
            m["xesam:url"] = is_address(file) ? text(file) : QUrl::fromLocalFile(text(file)).toString();
        }
        if (shot.duration_known) m["mpris:length"] = microseconds(shot.duration);
        return m;
    }
    static QString status(D d) {
        auto s = now(d);
        bool nothing = s.state.phase == Phase::empty || s.state.phase == Phase::closed ||
                       s.state.phase == Phase::failed || s.state.phase == Phase::ended;
        return nothing ? "Stopped" : s.state.intent == Intent::play ? "Playing" : "Paused";
    }
    static bool open(D d) {
        auto s = now(d);
        return can(s, machine::Input::play) || can(s, machine::Input::pause);
    }
    static constexpr std::array properties{
        DesktopPlayer::Property{root, "CanQuit", "b", [](D) { return QVariant(true); }},
        DesktopPlayer::Property{root, "Fullscreen", "b", [](D d) { return QVariant(d.player().in_full_screen()); },
                                [](DesktopPlayer& d, const QVariant& v) {
                                    if (v.toBool() != d.player().in_full_screen()) d.player().toggle_full_screen();
                                }},
        DesktopPlayer::Property{root, "CanSetFullscreen", "b", [](D) { return QVariant(true); }},
        DesktopPlayer::Property{root, "CanRaise", "b", [](D) { return QVariant(true); }},
        DesktopPlayer::Property{root, "HasTrackList", "b", [](D) { return QVariant(false); }},
        DesktopPlayer::Property{root, "Identity", "s", [](D d) { return QVariant(d.identity_); }},
        DesktopPlayer::Property{root, "DesktopEntry", "s", [](D d) { return QVariant(d.entry_); }},
        // What an app plays is what its document names.
        DesktopPlayer::Property{root, "SupportedUriSchemes", "as", [](D) { return QVariant(QStringList()); }},
        DesktopPlayer::Property{root, "SupportedMimeTypes", "as", [](D) { return QVariant(QStringList()); }},
        DesktopPlayer::Property{player_interface, "PlaybackStatus", "s", [](D d) { return QVariant(status(d)); }},
        DesktopPlayer::Property{
            player_interface, "LoopStatus", "s",
            [](D d) { return QVariant(now(d).loop.kind == Loop::Kind::none ? "None" : "Track"); },
            [](DesktopPlayer& d, const QVariant& v) { press(d, {.what = What::loop, .onward = v != "None"}); }},
        DesktopPlayer::Property{player_interface, "Rate", "d", [](D d) { return QVariant(now(d).rate); },
                                [](DesktopPlayer& d, const QVariant& v) {
                                    // A rate of nothing means to pause (clause of the property).
                                    auto rate = v.toDouble();
                                    rate == 0 ? press(d, {.what = What::pause})
                                              : press(d, {.what = What::speed, .amount = rate});
                                }},
        DesktopPlayer::Property{player_interface, "Metadata", "a{sv}", [](D d) { return QVariant(metadata(d)); }},
        DesktopPlayer::Property{player_interface, "Volume", "d",
                                [](D d) {
                                    auto s = now(d);
                                    return QVariant(s.muted ? 0.0 : s.volume);
                                },
                                [](DesktopPlayer& d, const QVariant& v) {
                                    press(d, {.what = What::volume, .amount = std::clamp(v.toDouble(), 0.0, 1.0)});
                                }},
        DesktopPlayer::Property{player_interface, "Position", "x",
                                [](D d) { return QVariant(microseconds(now(d).position)); }, nullptr, false},
        DesktopPlayer::Property{player_interface, "MinimumRate", "d",
                                [](D d) { return QVariant(now(d).live ? 1 : 0.25); }},
        DesktopPlayer::Property{player_interface, "MaximumRate", "d",
                                [](D d) { return QVariant(now(d).live ? 1.0 : 4.0); }},
        DesktopPlayer::Property{player_interface, "CanGoNext", "b", [](D d) { return QVariant(d.context().has_next); }},
        DesktopPlayer::Property{player_interface, "CanGoPrevious", "b",
                                [](D d) { return QVariant(d.context().has_previous); }},
        DesktopPlayer::Property{player_interface, "CanPlay", "b", [](D d) { return QVariant(open(d)); }},
        DesktopPlayer::Property{player_interface, "CanPause", "b", [](D d) { return QVariant(open(d)); }},
        DesktopPlayer::Property{player_interface, "CanSeek", "b",
                                [](D d) { return QVariant(now(d).seekable.has_value()); }},
        DesktopPlayer::Property{player_interface, "CanControl", "b", [](D) { return QVariant(true); }, nullptr, false},
    };
    static void seek_to(DesktopPlayer& d, Time to) {
        auto s = now(d);
        // Past the end it means the next one.
        if (s.duration_known && to > s.duration) return press(d, {.what = What::turn, .onward = true});
        press(d, {.what = What::seek, .by = std::max(Time{}, to)});
    }
    static constexpr std::array methods{
        DesktopPlayer::Method{root, "Raise", "",
                              [](DesktopPlayer& d, const QVariantList&) {
                                  auto* window = d.screen_.window();
                                  window->setWindowState(window->windowState() & ~Qt::WindowMinimized);
                                  window->show(), window->raise(), window->activateWindow();
                              }},
        DesktopPlayer::Method{root, "Quit", "", [](DesktopPlayer&, const QVariantList&) { qApp->quit(); }},
        DesktopPlayer::Method{player_interface, "Next", "",
                              [](DesktopPlayer& d, const QVariantList&) { press(d, {.what = What::turn}); }},
        DesktopPlayer::Method{
            player_interface, "Previous", "",
            [](DesktopPlayer& d, const QVariantList&) { press(d, {.what = What::turn, .onward = false}); }},
        DesktopPlayer::Method{player_interface, "Pause", "",
                              [](DesktopPlayer& d, const QVariantList&) { press(d, {.what = What::pause}); }},
        DesktopPlayer::Method{player_interface, "PlayPause", "",
                              [](DesktopPlayer& d, const QVariantList&) { press(d, {.what = What::toggle}); }},
        DesktopPlayer::Method{player_interface, "Stop", "",
                              [](DesktopPlayer& d, const QVariantList&) { press(d, {.what = What::stop}); }},
        DesktopPlayer::Method{player_interface, "Play", "",
                              [](DesktopPlayer& d, const QVariantList&) { press(d, {.what = What::play}); }},
        DesktopPlayer::Method{player_interface, "Seek", "x",
                              [](DesktopPlayer& d, const QVariantList& a) {
                                  seek_to(d, now(d).position + from_microseconds(a[0].toLongLong()));
                              }},
        DesktopPlayer::Method{player_interface, "SetPosition", "ox",
                              [](DesktopPlayer& d, const QVariantList& a) {
                                  // Of a track that no longer plays nothing is done, nor of a place outside it.
                                  auto s = now(d);
                                  auto to = from_microseconds(a[1].toLongLong());
                                  if (a[0].value<QDBusObjectPath>() != track_path(session(d).index()) || to < Time{} ||
                                      (s.duration_known && to > s.duration))
                                      return;
                                  press(d, {.what = What::seek, .by = to});
                              }},
        // Nothing but what the document names is played.
        DesktopPlayer::Method{player_interface, "OpenUri", "s", [](DesktopPlayer&, const QVariantList&) {}},
    };
};

DesktopPlayer::DesktopPlayer(ScreenView& screen, QString identity, QString entry)
    : screen_(screen), identity_(std::move(identity)), entry_(std::move(entry)) {
    connect(&timer_, &QTimer::timeout, this, [this] { follow(); });
}
DesktopPlayer::~DesktopPlayer() {
    keep_awake(false);
    if (name_.isEmpty()) return;
    auto bus = QDBusConnection::sessionBus();
    bus.unregisterObject(path);
    bus.unregisterService(name_);
}

bool DesktopPlayer::take_name(const QString& executable) {
    auto bus = QDBusConnection::sessionBus();
    if (!bus.isConnected()) return true;
    // The same app packed twice is two apps: each has a name of its own.
    auto place = QCryptographicHash::hash(executable.toUtf8(), QCryptographicHash::Sha1).toHex().left(8);
    auto stem = entry_;
    for (auto& c : stem)
        if (!c.isLetterOrNumber() || c.unicode() > 127) c = '_';
    auto name = QString("%1.%2.at_%3").arg(root, stem.isEmpty() || stem[0].isDigit() ? "app_" + stem : stem, place);
    if (!bus.registerVirtualObject(path, this)) return true;
    auto reply = bus.interface()->registerService(name, QDBusConnectionInterface::DontQueueService);
    if (reply.value() == QDBusConnectionInterface::ServiceNotRegistered) {
        bus.unregisterObject(path);
        bus.call(QDBusMessage::createMethodCall(name, path, root, "Raise"), QDBus::Block, 2000);
        return false;
    }
    name_ = name;
    told_ = all(player_interface);
    told_.insert(all(root));
    timer_.start(200);
    return true;
}

QVariantMap DesktopPlayer::all(const QString& interface) const {
    QVariantMap m;
    for (auto& p : Rows::properties)
        if (interface == p.interface) m[p.name] = p.get(*this);
    return m;
}

/// Tells what has changed since the last look, and where the position went by more than time.
void DesktopPlayer::follow() {
    auto bus = QDBusConnection::sessionBus();
    for (auto interface : {root, player_interface}) {
        QVariantMap changed;
        for (auto& p : Rows::properties) {
            if (!p.told || QLatin1String(p.interface) != QLatin1String(interface)) continue;
            auto value = p.get(*this);
            if (value != told_.value(p.name)) changed[p.name] = told_[p.name] = value;
        }
        if (changed.isEmpty()) continue;
        auto signal = QDBusMessage::createSignal(path, properties, "PropertiesChanged");
        signal << QString(interface) << changed << QStringList();
        bus.send(signal);
    }
    // Where it went by more than time, the trace says so.
    auto& controller = player().controller();
    bool fresh = std::exchange(of_, &controller) != &controller, sought = fresh && looked_;
    for (auto& e : controller.events(fresh ? 0 : seen_)) {
        seen_ = e.n;
        sought = sought || (looked_ && (e.name == "seek" || e.name == "looped"));
    }
    looked_ = true;
    if (sought) {
        auto signal = QDBusMessage::createSignal(path, player_interface, "Seeked");
        signal << microseconds(controller.snapshot().position);
        bus.send(signal);
    }
    bool moves = false;
    for (std::size_t i = 0; i < screen_.count(); ++i) {
        auto one = screen_.player(i).snapshot();
        moves = moves || (one.has_video && one.motion == Motion::moving);
    }
    keep_awake(moves);
}

/// Freedesktop’s screen saver interface, where the desktop has one.
void DesktopPlayer::keep_awake(bool awake) {
    if (awake == awake_ || asked_) return;
    awake_ = awake;
    auto bus = QDBusConnection::sessionBus();
    if (!bus.isConnected()) return;
    constexpr auto service = "org.freedesktop.ScreenSaver";
    if (!awake) {
        auto call = QDBusMessage::createMethodCall(service, "/org/freedesktop/ScreenSaver", service, "UnInhibit");
        if (std::uint32_t cookie = std::exchange(cookie_, 0)) bus.send(call << cookie);
        return;
    }
    auto call = QDBusMessage::createMethodCall(service, "/org/freedesktop/ScreenSaver", service, "Inhibit");
    call << identity_ << QString("Video is playing");
    asked_ = true;
    auto* answer = new QDBusPendingCallWatcher(bus.asyncCall(call), this);
    connect(answer, &QDBusPendingCallWatcher::finished, this, [this, answer] {
        QDBusPendingReply<std::uint32_t> cookie = *answer;
        if (cookie.isValid()) cookie_ = cookie.value();
        asked_ = false;
        answer->deleteLater();
    });
}

QString DesktopPlayer::introspect(const QString&) const {
    QString xml;
    for (auto interface : {root, player_interface}) {
        xml += QString("<interface name=\"%1\">\n").arg(interface);
        for (auto& m : Rows::methods) {
            if (QLatin1String(m.interface) != QLatin1String(interface)) continue;
            xml += QString("<method name=\"%1\">").arg(m.name);
            for (auto* type = m.takes; *type; ++type)
                xml += QString("<arg direction=\"in\" type=\"%1\"/>").arg(QLatin1Char(*type));
            xml += "</method>\n";
        }
        for (auto& p : Rows::properties)
            if (QLatin1String(p.interface) == QLatin1String(interface))
                xml += QString("<property name=\"%1\" type=\"%2\" access=\"%3\"/>\n")
                           .arg(p.name, p.type, p.set ? "readwrite" : "read");
        if (QLatin1String(interface) == QLatin1String(player_interface))
            xml += "<signal name=\"Seeked\"><arg name=\"Position\" type=\"x\"/></signal>\n";
        xml += "</interface>\n";
    }
    return xml;
}

bool DesktopPlayer::handleMessage(const QDBusMessage& message, const QDBusConnection& bus) {
    auto refuse = [&](QDBusError::ErrorType why, const QString& words) {
        bus.send(message.createErrorReply(why, words));
        return true;
    };
    auto args = message.arguments();
    if (message.interface() == properties) {
        auto interface = args.value(0).toString(), name = args.value(1).toString();
        if (message.member() == "GetAll") return bus.send(message.createReply(all(interface))), true;
        auto row = std::find_if(Rows::properties.begin(), Rows::properties.end(),
                                [&](auto& p) { return interface == p.interface && name == p.name; });
        if (row == Rows::properties.end())
            return refuse(QDBusError::UnknownProperty, QString("There is no property %1.%2.").arg(interface, name));
        if (message.member() == "Get")
            return bus.send(message.createReply(QVariant::fromValue(QDBusVariant(row->get(*this))))), true;
        if (message.member() != "Set") return false;
        if (!row->set) return refuse(QDBusError::PropertyReadOnly, QString("%1 can only be read.").arg(name));
        row->set(*this, args.value(2).value<QDBusVariant>().variant());
        return bus.send(message.createReply()), true;
    }
    for (auto& m : Rows::methods) {
        // A call may leave its interface out.
        if (message.member() != m.name || !(message.interface().isEmpty() || message.interface() == m.interface))
            continue;
        if (message.signature() != m.takes)
            return refuse(QDBusError::InvalidArgs, QString("%1 takes “%2”.").arg(m.name, m.takes));
        bus.send(message.createReply());
        m.call(*this, args);
        return true;
    }
    return false;
}

}  // namespace ruedo
