// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QDir>
#include <QStandardPaths>

#include <unistd.h>

#include "catch_runner.h"
#include "view/look.h"

int main(int argc, char** argv) {
    if (!qEnvironmentVariableIsSet("QT_QPA_PLATFORM") && !qEnvironmentVariableIsSet("DISPLAY"))
        qputenv("QT_QPA_PLATFORM", "offscreen");
    QStandardPaths::setTestModeEnabled(true);
    // The queue of conversions is not the user’s.
    qputenv("XDG_STATE_HOME", (QDir::tempPath() + QString("/ruedo-window-tests-%1").arg(::getpid())).toUtf8());
    QApplication app(argc, argv);
    app.setApplicationName("ruedo-window-tests");
    app.setOrganizationName("ruedo-tests");
    ruedo::look::apply();
    return run_tests(argc, argv);
}
