// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "base/strand.h"
#include "catch_runner.h"
#include "view/look.h"

int main(int argc, char** argv) {
    const ruedo::LanesEnd lanes_end;
    if (!qEnvironmentVariableIsSet("QT_QPA_PLATFORM") && !qEnvironmentVariableIsSet("DISPLAY"))
        qputenv("QT_QPA_PLATFORM", "offscreen");
    QStandardPaths::setTestModeEnabled(true);
    // The queue of conversions is not the user’s.
    QTemporaryDir state;
    qputenv("XDG_STATE_HOME", state.path().toUtf8());
    QApplication app(argc, argv);
    app.setApplicationName("ruedo-window-tests");
    app.setOrganizationName("ruedo-tests");
    ruedo::look::apply();
    return run_tests(argc, argv);
}
