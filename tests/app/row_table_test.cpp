// The tables over any number of rows: filtered by a text, their columns chosen.
#include <gtest/gtest.h>

#include <QApplication>
#include <QClipboard>
#include <QSignalSpy>
#include <QTest>

#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class RowTables : public testing::Test {
  protected:
    void SetUp() override {
        window = shown_window();
        open_and_wait(*window, test::demo("larkspur.target.toml"));
    }
    void only(RowTable& table, const QString& text) {
        window->desk().evidence()->show_page(table.widget());
        table.filter()->setFocus();
        table.filter()->selectAll();
        if (text.isEmpty())
            QTest::keyClick(table.filter(), Qt::Key_Delete);
        else
            QTest::keyClicks(table.filter(), text);
        // It begins a moment after the last key.
        ASSERT_TRUE(QTest::qWaitFor(
            [&] { return !table.filtering() && text.isEmpty() == (table.shown_count() == table.row_count()); },
            30'000));
    }
    std::unique_ptr<MainWindow> window;
};

TEST_F(RowTables, EventsAreFilteredWalkedAndCopied) {
    PacketTable& events = *window->desk().events();
    only(events, "enc_index");
    ASSERT_GT(events.shown_count(), 10U);
    EXPECT_LT(events.shown_count(), events.row_count() / 2);
    auto* count = events.findChild<QLabel*>("rows_count");
    EXPECT_TRUE(count->isVisible());
    EXPECT_TRUE(count->text().contains(" of ")) << count->text().toStdString();
    QTest::keyClick(events.filter(), Qt::Key_Return);
    QTest::keyClick(&events, Qt::Key_Home);
    std::uint64_t before = 0;
    for (int i = 0; i < 5; ++i) {
        ASSERT_TRUE(events.current_row());
        EXPECT_TRUE(i == 0 || *events.current_row() > before);
        before = *events.current_row();
        ASSERT_TRUE(QTest::qWaitFor([&] { return !events.row_text(before).isEmpty(); }));
        EXPECT_TRUE(events.row_text(before).join(' ').contains("ENC_INDEX"))
            << events.row_text(before).join(' ').toStdString();
        QTest::keyClick(&events, Qt::Key_Down);
    }
    QTest::keyClick(&events, Qt::Key_Home);
    for (int i = 0; i < 3; ++i) QTest::keyClick(&events, Qt::Key_Down, Qt::ShiftModifier);
    QApplication::clipboard()->clear();
    QTest::keySequence(&events, QKeySequence::Copy);
    ASSERT_TRUE(QTest::qWaitFor([&] { return !QApplication::clipboard()->text().isEmpty(); }));
    const QStringList copied = QApplication::clipboard()->text().trimmed().split('\n');
    EXPECT_EQ(copied.size(), 4) << "only rows that are shown";
    for (const QString& line : copied) EXPECT_TRUE(line.contains("ENC_INDEX"));
    // All rows come back, and the current one stays.
    const auto current = events.current_row();
    only(events, "");
    EXPECT_EQ(events.shown_count(), events.row_count());
    EXPECT_EQ(events.current_row(), current);
}

TEST_F(RowTables, WhatNoRowHasLeavesNoneAndEscapeBringsAllBack) {
    PacketTable& packets = *window->desk().packets();
    only(packets, "no such thing");
    EXPECT_EQ(packets.shown_count(), 0U);
    QTest::keyClick(&packets, Qt::Key_Down);  // nowhere to go, and no harm
    QTest::keyClick(&packets, Qt::Key_Escape);
    QTest::qWait(300);
    EXPECT_EQ(packets.shown_count(), packets.row_count());
    EXPECT_TRUE(packets.filter()->text().isEmpty());
}

TEST_F(RowTables, WhatIsTypedBelowTheTextIsSentLineByLine) {
    TextPage* text = window->desk().text();
    window->desk().show_evidence(text);
    EXPECT_FALSE(text->input()->isVisible()) << "no console is recorded";
    const int high = text->viewport()->height();
    text->set_console(true);
    ASSERT_TRUE(text->input()->isVisible());
    EXPECT_LT(text->viewport()->height(), high) << "the lines stand above it";
    EXPECT_GE(text->input()->geometry().top(), text->viewport()->geometry().bottom());
    QSignalSpy typed(text, &TextPage::typed);
    QTest::mouseClick(text->input(), Qt::LeftButton);
    QTest::keyClicks(text->input(), "park now");
    QTest::keyClick(text->input(), Qt::Key_Return);
    ASSERT_EQ(typed.count(), 1);
    EXPECT_EQ(typed[0][0].toString(), "park now");
    EXPECT_TRUE(text->input()->text().isEmpty()) << "ready for the next line";
    text->set_console(false);
    EXPECT_EQ(text->viewport()->height(), high);
}

TEST_F(RowTables, SystemEventsAndTextAreFilteredToo) {
    TraceTable& trace = *window->desk().trace_events();
    only(trace, "bus_lock");
    ASSERT_GT(trace.shown_count(), 0U);
    EXPECT_LT(trace.shown_count(), trace.row_count());
    window->close_desk(window->desk());
    open_and_wait(*window, test::data("mount/mount.target.toml"));
    TextPage& text = *window->desk().text();
    const std::string some = text.row_text(1)[1].toStdString();
    only(text, QString::fromStdString(some).left(6));
    ASSERT_GT(text.shown_count(), 0U);
    QTest::keyClick(&text, Qt::Key_Home);
    EXPECT_TRUE(
        text.row_text(*text.current_row())[1].contains(QString::fromStdString(some).left(6), Qt::CaseInsensitive));
}

TEST_F(RowTables, ColumnsThatAreHiddenStayHiddenInTheNextWindow) {
    PacketTable& events = *window->desk().events();
    const QStringList all = events.columns_shown();
    ASSERT_EQ(all.size(), 7);
    events.set_column_shown(3, false);
    EXPECT_EQ(events.columns_shown().size(), 6);
    MainWindow another;
    EXPECT_EQ(another.desk().events()->columns_shown(), events.columns_shown());
    EXPECT_EQ(another.desk().packets()->columns_shown().size(), 5) << "another table";
    for (std::size_t i = 0; i < 7; ++i) events.set_column_shown(i, false);
    EXPECT_EQ(events.columns_shown().size(), 1) << "one always stays";
}

}  // namespace
}  // namespace mt::app
