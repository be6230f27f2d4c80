// SPDX-License-Identifier: Apache-2.0
#include "display.h"

#include <fmt/format.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>
#include <xcb/xcb.h>

#include <cstdlib>
#include <cstring>

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
    auto* connection = xcb_connect(nullptr, nullptr);
    bool answers = xcb_connection_has_error(connection) == 0;
    xcb_disconnect(connection);
    return answers;
}
std::string named(const char* variable) {
    auto* value = std::getenv(variable);
    return value ? value : "";
}

}  // namespace

std::optional<Error> no_display() {
    if (!named("QT_QPA_PLATFORM").empty()) return std::nullopt;
    auto x = named("DISPLAY"), wayland = named("WAYLAND_DISPLAY");
    if (x.empty() && wayland.empty())
        return Error{Code::io, "There is no display to open a window on.",
                     "Start it where there is one; “ruedo --help” lists what works without."};
    if ((!wayland.empty() && wayland_answers(wayland)) || (!x.empty() && x_answers())) return std::nullopt;
    return Error{Code::io, fmt::format("The display “{}” does not answer.", x.empty() ? wayland : x),
                 "Check DISPLAY, or start it where there is a display."};
}

}  // namespace ruedo
