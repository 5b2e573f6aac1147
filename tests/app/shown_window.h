// A window as it comes out of the box, on the screen.
#pragma once

#include <gtest/gtest.h>

#include <memory>
#include <string>

#include <QSettings>
#include <QSignalSpy>
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

/// Opens a recording and waits until all of it is read and judged. The test fails if that takes more than 20 s.
inline void open_and_wait(MainWindow& window, const std::string& path) {
    QSignalSpy finished(&window.document(), &Document::finished);
    window.open(QString::fromStdString(path));
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000)) << window.notice_text().toStdString();
}

}  // namespace mt::app
