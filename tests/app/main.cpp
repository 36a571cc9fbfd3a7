#include <gtest/gtest.h>

#include <QApplication>
#include <QSettings>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "app/widgets/theme.h"

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QStandardPaths::setTestModeEnabled(true);
    // The parts of these tests run side by side: what one remembers is not another's.
    const QTemporaryDir settings;
    qputenv("XDG_STATE_HOME", settings.path().toLocal8Bit());
    QSettings::setPath(QSettings::NativeFormat, QSettings::UserScope, settings.path());
    QApplication app(argc, argv);
    QApplication::setStyle("Fusion");
    cruscotto::applyTheme(false);
    testing::InitGoogleTest(&argc, argv);
    return RUN_ALL_TESTS();
}
