// Runs all window tests in one application on the offscreen platform, with settings of their own.
#include <QApplication>
#include <QSettings>
#include <QTemporaryDir>

#include <gtest/gtest.h>

#include "look/theme.h"

int main(int argc, char** argv) {
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    ::testing::InitGoogleTest(&argc, argv);
    QTemporaryDir settings;
    QSettings::setPath(QSettings::NativeFormat, QSettings::UserScope, settings.path());
    QApplication app(argc, argv);
    QApplication::setApplicationName("mindful-trail-tests");
    QApplication::setOrganizationName("mindful-trail-tests");
    app.setProperty("mtTextScale", 1.0);
    mt::app::apply_theme(false);
    return RUN_ALL_TESTS();
}
