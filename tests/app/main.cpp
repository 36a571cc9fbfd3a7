#include <gtest/gtest.h>

#include <QApplication>
#include <QStandardPaths>

#include "app/theme.h"

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QStandardPaths::setTestModeEnabled(true);
    QApplication app(argc, argv);
    QApplication::setStyle("Fusion");
    cruscotto::applyTheme(false);
    testing::InitGoogleTest(&argc, argv);
    return RUN_ALL_TESTS();
}
