// SPDX-License-Identifier: Apache-2.0
#include "display.h"

#include <fmt/format.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>
#include <xcb/xcb.h>

#include <QDir>
#include <QLibraryInfo>
#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <string>
#include <vector>

namespace ruedo {
namespace {

bool wayland_answers(const std::string& name) {
    auto* runtime = std::getenv("XDG_RUNTIME_DIR");
    auto path = name.starts_with('/') ? name : fmt::format("{}/{}", runtime ? runtime : "", name);
    sockaddr_un address{};
    address.sun_family = AF_UNIX;
    if (path.size() >= sizeof address.sun_path) return false;
    std::strcpy(address.sun_path, path.c_str());
    int fd = ::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    bool answers = fd >= 0 && ::connect(fd, reinterpret_cast<const sockaddr*>(&address), sizeof address) == 0;
    if (fd >= 0) ::close(fd);
    return answers;
}
bool x_answers() {
    // Kept as long as the program lives: a server whose only client goes starts over, and the window library ends the
    // process where it meets one that does.
    static auto* connection = xcb_connect(nullptr, nullptr);
    return xcb_connection_has_error(connection) == 0;
}
/// Platforms of the window library; none where its plug-ins are not found.
std::vector<std::string> installed() {
    std::vector<std::string> names;
    QDir folder(QLibraryInfo::path(QLibraryInfo::PluginsPath) + "/platforms");
    for (auto& file : folder.entryList({"libq*.so"})) names.push_back(file.mid(4).chopped(3).toStdString());
    return names;
}
/// "xcb;wayland" asks for one after the other, "offscreen:size=…" for one in a way of its own.
bool any_of(const std::string& asked, const std::vector<std::string>& platforms) {
    for (std::size_t from = 0; from <= asked.size();) {
        auto end = std::min(asked.find(';', from), asked.size());
        auto name = asked.substr(from, std::min(asked.find(':', from), end) - from);
        if (std::any_of(platforms.begin(), platforms.end(),
                        [&](auto& p) { return p == name || p.starts_with(name + "-"); }))
            return true;
        from = end + 1;
    }
    return false;
}
std::string named(const char* variable) {
    auto* value = std::getenv(variable);
    return value ? value : "";
}

}  // namespace

std::optional<Error> no_display(int argc, char** argv) {
    auto asked = named("QT_QPA_PLATFORM");
    for (int i = 1; i + 1 < argc; ++i)
        if (!std::strcmp(argv[i], "-platform")) asked = argv[i + 1];
    if (!asked.empty()) {
        if (auto platforms = installed(); !platforms.empty() && !any_of(asked, platforms))
            return Error{ErrorCode::usage, fmt::format("There is no platform “{}” to show a window on.", asked),
                         fmt::format("There are {}.", fmt::join(platforms, ", "))};
        return std::nullopt;
    }
    auto x = named("DISPLAY"), wayland = named("WAYLAND_DISPLAY");
    if (x.empty() && wayland.empty())
        return Error{ErrorCode::io, "There is no display to open a window on.",
                     "Start it where there is one; “ruedo --help” lists what works without."};
    if ((!wayland.empty() && wayland_answers(wayland)) || (!x.empty() && x_answers())) return std::nullopt;
    return Error{ErrorCode::io, fmt::format("The display “{}” does not answer.", x.empty() ? wayland : x),
                 "Check DISPLAY, or start it where there is a display."};
}

}  // namespace ruedo
