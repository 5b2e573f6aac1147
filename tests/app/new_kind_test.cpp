// A kind of lane that the window has never heard of is drawn, explained, selected, walked through, measured and found
// by its name.
#include <gtest/gtest.h>

#include <QSignalSpy>
#include <QSettings>
#include <QTest>

#include "pin_lanes.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class ANewKindInTheWindow : public testing::Test {
  protected:
    ANewKindInTheWindow() { LaneKinds::all().push_back(&pins); }
    ~ANewKindInTheWindow() override {
        window.reset();
        LaneKinds::all().pop_back();
    }
    void SetUp() override {
        window = shown_window(1280, 1400);
        open_and_wait(*window, test::data("mount/mount.target.toml"));
    }
    SpanRef pulse(std::uint64_t i) const { return {{&pins, 0}, 0, i}; }
    const std::optional<SpanRef>& selected() const { return window->desk().viewpoint().selection().span; }

    const test::Pins pins;
    std::unique_ptr<MainWindow> window;
};

TEST_F(ANewKindInTheWindow, IsDrawnAndExplainedAndSelectedByAClick) {
    Lanes* lanes = window->desk().lanes();
    window->desk().viewpoint().go_to({}, Time::from_us(60), {});
    EXPECT_TRUE(lanes->headings().contains("dome light | pin")) << lanes->headings().join("; ").toStdString();
    const QRectF first = lanes->span_rect(pulse(0));
    ASSERT_FALSE(first.isEmpty());
    EXPECT_TRUE(lanes->told_at(first.center()).contains("up from 0.000 010 000 s"))
        << lanes->told_at(first.center()).toStdString();
    EXPECT_TRUE(lanes->told_at({lanes->x_of(Time::from_us(20)), first.center().y()}).contains("down at"));
    QTest::mouseClick(lanes, Qt::LeftButton, {}, first.center().toPoint());
    EXPECT_EQ(selected(), pulse(0));
    const QColor there = lanes->grab().toImage().pixelColor(lanes->span_rect(pulse(1)).center().toPoint()),
                 beside = lanes->grab().toImage().pixelColor(
                     QPointF(lanes->x_of(Time::from_us(20)), first.center().y()).toPoint());
    EXPECT_NE(there, beside) << "the second pulse is a bar, between them is nothing";
}

TEST_F(ANewKindInTheWindow, IsFoundByNameWalkedThroughAndMeasured) {
    ASSERT_TRUE(window->desk().navigator().go_to_text("dome light"));
    EXPECT_EQ(selected(), pulse(0));
    window->desk().lanes()->setFocus();
    QTest::keyClick(window->desk().lanes(), Qt::Key_N);
    EXPECT_EQ(selected(), pulse(1));
    QTest::keyClick(window->desk().lanes(), Qt::Key_P);
    EXPECT_EQ(selected(), pulse(0));
    QTest::keyClick(window->desk().lanes(), Qt::Key_L);
    EXPECT_EQ(selected(), pulse(1)) << "5 µs against 2 µs";
    EXPECT_EQ(window->findChild<QLabel*>("measures_name")->text(), "dome light");
    EXPECT_TRUE(window->findChild<QLabel*>("measures_figures")->text().contains("5.00 µs"))
        << window->findChild<QLabel*>("measures_figures")->text().toStdString();
    EXPECT_FALSE(window->desk().measures_panel()->over_time()->position_of(pulse(1)).isNull()) << "a dot for each";
    EXPECT_EQ(window->desk().lanes()->snapped(Time::from_us(11.99), Time::from_us(0.1)), Time::from_us(12));
    window->desk().viewpoint().set_cursor(Time::from_us(31));
    EXPECT_TRUE(window->desk().moment()->text().contains("dome light (up) for 1.00 µs"))
        << window->desk().moment()->text().toStdString();
}

TEST_F(ANewKindInTheWindow, HasATableThatLeadsToItsLongest) {
    window->desk().show_measures(true);
    MeasuresPage* page = window->desk().measures_page();
    page->choose("pins");
    FigureTable* table = page->table("pins");
    ASSERT_TRUE(table->isVisible());
    EXPECT_EQ(table->cell(0, "name"), "dome light");
    EXPECT_EQ(table->cell(0, "count"), "2");
    QTest::mouseClick(table->viewport(), Qt::LeftButton, {}, table->visualRect(table->model()->index(0, 0)).center());
    EXPECT_EQ(selected(), pulse(1));
    QTest::keyClick(table, Qt::Key_C, Qt::ControlModifier);
    EXPECT_TRUE(page->copied_text().startsWith("pin\tpulses\tshortest (ns)\tlongest (ns)\ndome light\t2\t"))
        << page->copied_text().toStdString();
}

}  // namespace
}  // namespace mt::app
