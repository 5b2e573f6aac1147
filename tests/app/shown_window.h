// A window as it comes out of the box, on the screen.
#pragma once

#include <gtest/gtest.h>

#include <memory>
#include <string>

#include <QAbstractItemView>
#include <QSettings>
#include <QSignalSpy>
#include <QTest>

#include "shell/main_window.h"
#include "support.h"

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

/// A test of one recording in the window.
class RecordingInTheWindow : public testing::Test {
  protected:
    void open(const std::string& path) {
        window = shown_window();
        open_and_wait(*window, path);
    }
    /// What a cell says.
    static QString cell_of(const QAbstractItemView& table, int row, int column) {
        return table.model()->index(row, column).data().toString();
    }
    /// The first row that says so in this column; -1: none.
    static int row_with(const QAbstractItemView& table, int column, const QString& text) {
        for (int row = 0; row < table.model()->rowCount(); ++row)
            if (cell_of(table, row, column) == text) return row;
        return -1;
    }
    test::Folder folder;
    std::unique_ptr<MainWindow> window;
};

}  // namespace mt::app
