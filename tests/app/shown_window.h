// A window as it comes out of the box, on the screen.
#pragma once

#include <gtest/gtest.h>

#include <memory>

#include <QSettings>
#include <QTest>

#include "shell/main_window.h"

namespace mt::app {

/// With no settings of anybody; `width` and `height` in pixels. The test fails if it does not show.
inline std::unique_ptr<MainWindow> shown_window(int width = 1280, int height = 800) {
    QSettings().clear();
    auto window = std::make_unique<MainWindow>();
    window->resize(width, height);
    window->show();
    window->activateWindow();
    EXPECT_TRUE(QTest::qWaitForWindowExposed(window.get()));
    return window;
}

}  // namespace mt::app
