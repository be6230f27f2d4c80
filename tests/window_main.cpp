// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QStandardPaths>

#include "base/strand.h"
#include "catch_runner.h"
#include "io/io.h"
#include "view/look.h"

int main(int argc, char** argv) {
    const ruedo::WorkersEnd workers_end;
    if (!qEnvironmentVariableIsSet("QT_QPA_PLATFORM") && !qEnvironmentVariableIsSet("DISPLAY"))
        qputenv("QT_QPA_PLATFORM", "offscreen");
    QStandardPaths::setTestModeEnabled(true);
    // The queue of conversions is not the user’s.
    const ruedo::ScratchFolder state("state");
    if (!state.make()) return 1;
    qputenv("XDG_STATE_HOME", state.path().c_str());
    QApplication app(argc, argv);
    app.setApplicationName("ruedo-window-tests");
    app.setOrganizationName("ruedo-tests");
    ruedo::look::apply();
    return run_tests(argc, argv);
}
