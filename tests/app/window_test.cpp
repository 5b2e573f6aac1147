// The real window, driven with mouse and keys; what a person would see is what is asserted.
#include <QAbstractButton>
#include <QAbstractItemView>
#include <QAbstractSpinBox>
#include <QAccessible>
#include <QTextBlock>
#include <QApplication>
#include <QClipboard>
#include <QComboBox>
#include <QDragEnterEvent>
#include <QDropEvent>
#include <QHeaderView>
#include <QImage>
#include <QLabel>
#include <QListView>
#include <QMenu>
#include <QMimeData>
#include <QPushButton>
#include <QScrollBar>
#include <QSignalSpy>
#include <QSettings>
#include <QTest>
#include <QTimer>
#include <QToolButton>
#include <QWheelEvent>

#include <filesystem>

#include "measure/refs.h"
#include "overview/finding_card.h"
#include "shell/help.h"
#include "shell/picture.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {

namespace {

using test::Folder;

class Window : public ::testing::Test {
  protected:
    void SetUp() override { window = shown_window(); }
    void TearDown() override { window.reset(); }

    // Opens and waits for the end of decoding and judging.
    void open(const std::string& path) {
        window->open(QString::fromStdString(path));
        QSignalSpy finished(&window->document(), &Document::finished), failed(&window->document(), &Document::failed);
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() + failed.count() > 0; }, 20'000));
        QTest::qWait(60);
    }
    void open_demo() { open(test::demo("larkspur.target.toml")); }

    // With the arrow keys to a line of what was found.
    void choose_match(const QString& text) {
        Search& search = window->tools().search();
        for (int i = 0; i < 60; ++i) {
            if (auto* item = search.list()->currentItem(); item != nullptr && item->text().contains(text)) return;
            QTest::keyClick(&search, Qt::Key_Down);
        }
        FAIL() << search.listed().join("\n").toStdString();
    }

    Viewpoint& view() { return window->desk().viewpoint(); }
    Lanes* lanes() { return window->desk().lanes(); }
    const CoreTrail& core() { return window->document().trail()->cores[0]; }
    std::size_t index(unsigned number) { return *core().lane_index(number); }
    LaneId lane(unsigned number) { return interrupt_lane(0, index(number)); }
    const ExceptionLane& executions(unsigned number) { return core().lanes[index(number)]; }
    // Which span of the selected lane is selected; there must be one.
    std::size_t selected() {
        EXPECT_TRUE(view().selection().span);
        return view().selection().span.value_or(SpanRef{}).index;
    }
    QPoint in_lane(unsigned number, double x) {
        return {static_cast<int>(x), static_cast<int>(lanes()->row_rect(lane(number)).center().y())};
    }
    void wheel(QWidget* on, QPointF at, int steps, Qt::KeyboardModifiers keys = Qt::NoModifier) {
        QWheelEvent e(at, on->mapToGlobal(at), {}, {0, 120 * steps}, Qt::NoButton, keys, Qt::NoScrollPhase, false);
        QApplication::sendEvent(on, &e);
    }
    void drag(QWidget* on, QPoint from, QPoint to) {
        QTest::mousePress(on, Qt::LeftButton, {}, from);
        for (int i = 1; i <= 5; ++i) {
            const QPointF at = from + (to - from) * i / 5;
            QMouseEvent move(QEvent::MouseMove, at, on->mapToGlobal(at), Qt::NoButton, Qt::LeftButton, Qt::NoModifier);
            QApplication::sendEvent(on, &move);
        }
        QTest::mouseRelease(on, Qt::LeftButton, {}, to);
    }
    void click_finding(int row) {
        QListView* list = window->desk().findings_panel()->list();
        const QRect r = list->visualRect(list->model()->index(row, 0));
        QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, r.topLeft() + QPoint(60, 16));  // its title
    }

    std::unique_ptr<MainWindow> window;
};

TEST_F(Window, StartsByTellingWhatToDo) {
    EXPECT_NE(window->findChild<QPushButton*>("start_open"), nullptr);
    EXPECT_TRUE(window->findChild<QPushButton*>("start_open")->isVisible());
    EXPECT_FALSE(lanes()->isVisible());
    EXPECT_FALSE(window->findChild<QLabel*>("findings_empty")->isVisible()) << "nothing but the start page";
}

TEST_F(Window, OpensTheDemonstrationOnTheWhole) {
    open_demo();
    EXPECT_TRUE(lanes()->isVisible());
    EXPECT_EQ(view().from(), Time{});
    EXPECT_EQ(view().to(), window->document().trail()->end);
    EXPECT_EQ(window->desk().findings_panel()->list()->model()->rowCount(), 7);
    EXPECT_EQ(window->health_text(), "20.000 s · 2 cores · complete except for 1 gap (3.14 ms) · clock agrees");
    EXPECT_EQ(window->windowTitle(), "Larkspur night 3 – Mindful Trail");
    EXPECT_LT(lanes()->row_rect(lane(16)).top(), lanes()->row_rect(lane(17)).top()) << "ENC_INDEX above STEP_TIMER";
    EXPECT_LT(lanes()->row_rect(lane(17)).top(), lanes()->row_rect(lane(15)).top()) << "SysTick below";
}

TEST_F(Window, DamagedInstructionTraceIsNotCalledWholeAndEachPlaceIsOneClickAway) {
    const std::string from = test::data("steps/rv-etrace-mount");
    Folder folder;
    auto raw = test::read_bytes(from + "/trace.bin");
    raw.erase(raw.begin() + 90'000, raw.begin() + 90'037);
    test::write_file(folder / "trace.bin", raw);
    std::string target = test::read_text(from + "/recording.target.toml");
    const std::string stated = "../mount-cop.elf";
    target.replace(target.find(stated), stated.size(), test::data("steps/mount-cop.elf"));
    test::write_file(folder / "x.target.toml", target);
    open(folder / "x.target.toml");
    EXPECT_NE(window->health_text().indexOf("complete except for 1 gap in the instructions"), -1)
        << window->health_text().toStdString();
    QAction* place = nullptr;
    for (QAction* a : window->findChild<QToolButton*>("health")->menu()->actions())
        if (a->text().startsWith("Instructions missing at ")) place = a;
    ASSERT_NE(place, nullptr);
    place->trigger();
    const StepTrail& t = window->document().trail()->steps[0];
    EXPECT_LE(view().from(), t.gaps[0].begin);
    EXPECT_GE(view().to(), t.gaps[0].begin);
    EXPECT_LT(view().to() - view().from(), Time::from_ms(1)) << "close enough to see it";
    EXPECT_EQ(view().cursor(), t.gaps[0].begin);
}

TEST_F(Window, AClickOnTheLateFindingLeadsToItsEntry) {
    open_demo();
    click_finding(1);
    const ExceptionLane& enc = executions(16);
    ASSERT_TRUE(view().selection().span);
    EXPECT_EQ(view().selection().lane, lane(16));
    const Time entry = enc.begin(selected());
    EXPECT_EQ(view().cursor(), entry);
    EXPECT_NEAR(entry.seconds(), 9.8244, 0.0001);
    EXPECT_LT(view().to() - view().from(), Time::from_us(400)) << "close enough to see it";
    EXPECT_NE(window->desk().moment()->text().indexOf("ENC_INDEX entered"), -1)
        << window->desk().moment()->text().toStdString();
    EXPECT_EQ(window->findChild<QLabel*>("measures_name")->text(), "ENC_INDEX");
    // The evidence follows: the current row is the entry.
    QStringList row;
    EXPECT_TRUE(QTest::qWaitFor([&] {
        row = window->desk().events()->current_row()
                  ? window->desk().events()->row_text(*window->desk().events()->current_row())
                  : QStringList();
        return row.mid(0, 3) == QStringList{"9.824 411 167 s", "entered", "ENC_INDEX"};
    })) << row.join(" | ").toStdString();
}

TEST_F(Window, TheFindingKeyWalksThemAll) {
    open_demo();
    lanes()->setFocus();
    QTest::keyClick(lanes(), Qt::Key_F);
    EXPECT_EQ(view().selection().lane, lane(5)) << "first the one that is selected already";
    QTest::keyClick(lanes(), Qt::Key_F);
    EXPECT_EQ(view().selection().lane, lane(16));
    QTest::keyClick(lanes(), Qt::Key_F);
    EXPECT_EQ(view().selection().lane.kind, &values_kind()) << "the current that nothing explains";
    QTest::keyClick(lanes(), Qt::Key_F);
    const auto& tasks = window->document().trail()->tasks;
    ASSERT_EQ(view().selection().lane.kind, &tasks_kind());
    EXPECT_EQ(tasks.task_name(static_cast<std::uint32_t>(view().selection().lane.index)), "clock")
        << "who waited for the lock";
    EXPECT_GT(lanes()->row_rect(view().selection().lane).height(), 20);
    EXPECT_NE(window->desk().moment()->text().indexOf("held by focus"), -1)
        << window->desk().moment()->text().toStdString();
    EXPECT_EQ(window->findChild<QLabel*>("measures_name")->text(), "clock");
    for (int i = 0; i < 3; ++i) QTest::keyClick(lanes(), Qt::Key_F);
    EXPECT_NEAR(view().cursor().seconds(), 8.79998, 0.001) << "the gap";
    for (int i = 0; i < 5; ++i) QTest::keyClick(lanes(), Qt::Key_F, Qt::ShiftModifier);
    EXPECT_EQ(view().selection().lane, lane(16));
}

TEST_F(Window, TheWheelZoomsAtTheMouseDownToNanosecondsAndBackOut) {
    open_demo();
    const QPointF at(600, 60);
    const Time under = lanes()->time_at(at.x());
    wheel(lanes(), at, 3);
    EXPECT_NEAR(lanes()->x_of(under), at.x(), 1.5) << "what is under the mouse stays there";
    EXPECT_LT(view().to() - view().from(), Time::from_ms(9000));
    for (int i = 0; i < 120; ++i) wheel(lanes(), at, 1);
    EXPECT_EQ(view().to() - view().from(), Time{10'000}) << "ten nanoseconds";
    for (int i = 0; i < 140; ++i) wheel(lanes(), at, -1);
    EXPECT_EQ(view().to() - view().from(), view().end());
}

TEST_F(Window, KeysZoomPanAndFit) {
    open_demo();
    lanes()->setFocus();
    QTest::keyClick(lanes(), Qt::Key_Plus);
    EXPECT_NEAR(static_cast<double>((view().to() - view().from()).ps), static_cast<double>(view().end().ps) / 2, 1e6);
    const Time from = view().from();
    QTest::keyClick(lanes(), Qt::Key_Right);
    EXPECT_GT(view().from(), from);
    QTest::keyClick(lanes(), Qt::Key_Left);
    EXPECT_EQ(view().from(), from);
    QTest::keyClick(lanes(), Qt::Key_0);
    EXPECT_EQ(view().to(), view().end());
}

TEST_F(Window, DraggingPansAndADragOnTheScaleZooms) {
    open_demo();
    drag(lanes(), {300, 10}, {500, 10});
    const double width = lanes()->width();
    EXPECT_LT((view().to() - view().from()).seconds(), 20.0 * 210 / (width - 150));
    const Time from = view().from();
    drag(lanes(), {500, 100}, {400, 100});
    EXPECT_GT(view().from(), from) << "to the left: later";
}

TEST_F(Window, TheRidgeFrameCanBeDraggedAndStretched) {
    open_demo();
    view().show(Time::from_ms(5000), Time::from_ms(8000));
    Ridge* ridge = window->desk().ridge();
    const auto x = [&](double s) { return static_cast<int>(s / 20.0 * ridge->width()); };
    drag(ridge, {x(6.5), 60}, {x(10.5), 60});
    EXPECT_NEAR(view().from().seconds(), 9, 0.1);
    EXPECT_NEAR(view().to().seconds(), 12, 0.1);
    drag(ridge, {x(12), 60}, {x(15), 60});
    EXPECT_NEAR(view().from().seconds(), 9, 0.1);
    EXPECT_NEAR(view().to().seconds(), 15, 0.1);
    QTest::mouseClick(ridge, Qt::LeftButton, {}, {x(3), 70});
    EXPECT_NEAR((view().from().seconds() + view().to().seconds()) / 2, 3, 0.2)
        << "a click elsewhere brings the frame there";
}

TEST_F(Window, BackAndForwardReturnToThePlacesVisited) {
    open_demo();
    click_finding(0);
    const Time first = view().from();
    click_finding(1);
    const Time second = view().from();
    QTest::mouseClick(window->findChild<QToolButton*>("back"), Qt::LeftButton);
    EXPECT_EQ(view().from(), first);
    QTest::mouseClick(window->findChild<QToolButton*>("back"), Qt::LeftButton);
    EXPECT_EQ(view().to(), view().end()) << "the whole, where it began";
    EXPECT_FALSE(window->findChild<QToolButton*>("back")->isEnabled());
    QTest::mouseClick(window->findChild<QToolButton*>("forward"), Qt::LeftButton);
    QTest::mouseClick(window->findChild<QToolButton*>("forward"), Qt::LeftButton);
    EXPECT_EQ(view().from(), second);
}

TEST_F(Window, MeasuringSnapsBothEndsToEdges) {
    open_demo();
    click_finding(1);
    const ExceptionLane& enc = executions(16);
    const ExceptionLane& step = executions(17);
    const std::size_t late = selected(), next_step = step.first_from(enc.begin(late));
    QTest::mouseClick(window->findChild<QToolButton*>("ruler"), Qt::LeftButton);
    const int a = static_cast<int>(lanes()->x_of(enc.begin(late))) + 3,
              b = static_cast<int>(lanes()->x_of(step.begin(next_step))) - 4;
    drag(lanes(), in_lane(16, a), in_lane(17, b));
    ASSERT_TRUE(view().a() && view().b());
    EXPECT_EQ(*view().a(), enc.begin(late));
    EXPECT_EQ(*view().b(), step.begin(next_step));
    EXPECT_FALSE(window->findChild<QToolButton*>("ruler")->isChecked()) << "one measurement, then the mouse pans again";
    QTest::keyClick(lanes(), Qt::Key_Escape);
    EXPECT_FALSE(view().a());
}

TEST_F(Window, AClickPutsTheCursorAndADoubleClickGoesThere) {
    open_demo();
    window->desk().navigator().go_to_text("9.8244 s");
    const ExceptionLane& step = executions(17);
    const std::size_t i = step.first_from(view().from());
    const QPoint at = in_lane(17, lanes()->x_of(step.begin(i)) + 2);
    const Time from = view().from();
    QTest::mouseClick(lanes(), Qt::LeftButton, {}, at);
    EXPECT_EQ(selected(), i);
    EXPECT_EQ(view().cursor(), step.begin(i)) << "snapped to the entry";
    EXPECT_EQ(view().from(), from) << "a click only shows";
    QTest::mouseDClick(lanes(), Qt::LeftButton, {}, at);
    EXPECT_LT(view().to() - view().from(), Time::from_us(100));
    EXPECT_LE(view().from(), step.begin(i));
    EXPECT_GE(view().to(), step.end(i));
}

TEST_F(Window, NextPreviousAndLongestExecution) {
    open_demo();
    window->desk().navigator().go_to_text("ENC_INDEX");
    const std::size_t first = selected();
    QTest::keyClick(lanes(), Qt::Key_N);
    EXPECT_EQ(selected(), first + 1);
    QTest::keyClick(lanes(), Qt::Key_P);
    EXPECT_EQ(selected(), first);
    QTest::keyClick(lanes(), Qt::Key_L);
    const ExceptionLane& enc = executions(16);
    EXPECT_EQ(selected(), enc.longest(0, enc.size()));
}

TEST_F(Window, TheTableSortsFiltersCopiesAndLeadsToTheLanes) {
    open_demo();
    QTest::keyClick(lanes(), Qt::Key_M);
    MeasuresPage* page = window->desk().measures_page();
    ASSERT_TRUE(page->isVisible());
    QTest::mouseClick(page->choice(), Qt::LeftButton, {}, page->choice()->tabRect(0).center());
    QTableView* table = page->table("interrupts");
    ASSERT_TRUE(table->isVisible());
    EXPECT_EQ(table->model()->rowCount(), 10) << "seven of the main core, three of the co-processor";
    QHeaderView* head = table->horizontalHeader();
    const auto click_head = [&](int column) {
        QTest::mouseClick(head->viewport(), Qt::LeftButton, {},
                          {head->sectionViewportPosition(column) + head->sectionSize(column) / 2, 8});
    };
    const auto column = [&](const QString& heading) {
        int c = 0;
        while (table->model()->headerData(c, Qt::Horizontal).toString() != heading) ++c;
        return c;
    };
    click_head(column("count"));
    click_head(column("count"));
    EXPECT_EQ(table->model()->index(0, 0).data().toString(), "STEP_TIMER") << "by count, most first";
    const int whose = column("core");
    int of_main = 0;
    for (int r = 0; r < 10; ++r) of_main += table->model()->index(r, whose).data().toString() == "main" ? 1 : 0;
    EXPECT_EQ(of_main, 7) << "two interrupts of one number are told apart";
    page->filter()->setFocus();
    QTest::keyClicks(page->filter(), "sys");
    EXPECT_EQ(table->model()->rowCount(), 1);
    EXPECT_EQ(table->model()->index(0, 0).data().toString(), "SysTick");
    page->filter()->clear();
    const auto row_of = [&](const QString& name) {
        int r = 0;
        while (table->model()->index(r, 0).data().toString() != name) ++r;
        return r;
    };
    const QRect cell = table->visualRect(table->model()->index(row_of("GUIDE_UART"), 0));
    QTest::mouseClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    EXPECT_EQ(view().selection().lane, lane(19)) << "selected in every view";
    EXPECT_EQ(window->findChild<QLabel*>("measures_name")->text(), "GUIDE_UART");
    EXPECT_TRUE(page->isVisible());
    ASSERT_TRUE(view().selection().span) << "and its longest execution is where every view stands";
    EXPECT_EQ(view().cursor(), executions(19).begin(selected()));
    QTest::keyClick(table, Qt::Key_C, Qt::ControlModifier);
    EXPECT_NE(QGuiApplication::clipboard()->text().indexOf(QRegularExpression("GUIDE_UART\t.*\tmain\t960\t")), -1)
        << QGuiApplication::clipboard()->text().toStdString();
    EXPECT_EQ(QGuiApplication::clipboard()->text().count('\n'), 2) << "the heading and one row";
    QTest::mouseDClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    EXPECT_TRUE(lanes()->isVisible());
    EXPECT_TRUE(view().selection().span);
    EXPECT_LT(view().to() - view().from(), Time::from_ms(1));
}

TEST_F(Window, ADotAndABarLeadToTheirExecution) {
    open_demo();
    window->desk().navigator().go_to_text("ENC_INDEX");
    const ExceptionLane& enc = executions(16);
    const std::size_t longest = enc.longest(0, enc.size());
    OverTimePlot* dots = window->desk().measures_panel()->over_time();
    QTest::qWait(50);
    auto* plot = dots->findChild<QWidget*>();
    QTest::mouseClick(plot, Qt::LeftButton, {}, dots->position_of(execution_ref(0, index(16), longest)).toPoint());
    EXPECT_EQ(selected(), longest);
    view().fit();
    DistributionPlot* bars = window->desk().measures_panel()->distribution();
    QTest::qWait(50);
    auto* bar_plot = bars->findChild<QWidget*>();
    QTest::mouseClick(bar_plot, Qt::LeftButton, {},
                      QPoint(static_cast<int>(bars->x_of(Time::from_us(1.4))), bar_plot->height() - 40));
    ASSERT_TRUE(view().selection().span);
    EXPECT_NEAR(enc.length(selected()).us(), 1.4, 0.15) << "an execution of the bar that was hit";
}

TEST_F(Window, TheEvidenceScrollsThroughEverythingAndMovesTheCursor) {
    open_demo();
    PacketTable* events = window->desk().events();
    const std::uint64_t rows = events->row_count();
    EXPECT_GT(rows, 480'000U);
    events->setFocus();
    QTest::keyClick(events, Qt::Key_End);
    ASSERT_TRUE(QTest::qWaitFor([&] { return view().cursor().seconds() > 19.9; }))
        << "the cursor goes to the last event";
    EXPECT_EQ(events->current_row(), rows - 1);
    QTest::keyClick(events, Qt::Key_Home);
    ASSERT_TRUE(QTest::qWaitFor([&] { return view().cursor().seconds() < 0.1; }));
    // Any row in the middle, by the scroll bar and the mouse.
    events->verticalScrollBar()->setValue(static_cast<int>(rows / 2));
    QTest::mouseClick(events->viewport(), Qt::LeftButton, {}, {200, 60});
    ASSERT_TRUE(QTest::qWaitFor([&] { return view().cursor().seconds() > 5; }));
    QTest::keyClick(events, Qt::Key_C, Qt::ControlModifier);
    ASSERT_TRUE(QTest::qWaitFor([&] { return QGuiApplication::clipboard()->text().count('\t') == 6; }));
    window->desk().evidence()->show_page("packets");
    ASSERT_TRUE(QTest::qWaitFor([&] {
        return window->desk().packets()->current_row() &&
               !window->desk().packets()->row_text(*window->desk().packets()->current_row()).isEmpty();
    }));
    const QStringList packet = window->desk().packets()->row_text(*window->desk().packets()->current_row());
    EXPECT_TRUE(packet[0].startsWith("0x"));
    EXPECT_FALSE(packet[1].isEmpty()) << "raw bytes";
}

TEST_F(Window, SearchingGoesToTheNextRowOfTheEvidenceThatHasItAndF3Further) {
    open_demo();
    window->desk().navigator().go_to_text("5 s");
    auto* search = window->findChild<QLineEdit*>("search");
    QTest::keyClick(lanes(), Qt::Key_F, Qt::ControlModifier);
    ASSERT_TRUE(search->hasFocus());
    QTest::keyClicks(search, "refine_cent");
    choose_match("“refine_cent” in Events");
    const auto current_name = [&] {
        PacketTable* events = window->desk().events();
        return events->current_row() ? events->row_text(*events->current_row()).value(2) : QString();
    };
    QTest::keyClick(search, Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return current_name() == "refine_centroid"; }));
    const Time first = view().cursor();
    EXPECT_GT(first, Time::from_ms(6000)) << "the next guide frame";
    QTest::keyClick(lanes(), Qt::Key_F3);
    ASSERT_TRUE(QTest::qWaitFor([&] { return view().cursor() > first; }));
    QTest::keyClick(lanes(), Qt::Key_F3, Qt::ShiftModifier);
    ASSERT_TRUE(QTest::qWaitFor([&] { return view().cursor() == first; }));
    QTest::keyClick(lanes(), Qt::Key_Slash);
    QTest::keyClicks(search, "moonshine");
    choose_match("“moonshine” in Events");
    QTest::keyClick(search, Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->notice_text().contains("moonshine"); }));
}

TEST_F(Window, SearchingFindsNamesFindingsAndCommandsTheBestFirst) {
    open_demo();
    auto* search = window->findChild<QLineEdit*>("search");
    QTest::keyClick(lanes(), Qt::Key_Slash);
    QTest::keyClicks(search, "enc_index");
    const QStringList found = window->tools().search().listed();
    ASSERT_GT(found.size(), 3);
    EXPECT_EQ(found[0], "Interrupts");
    EXPECT_EQ(found[1], "ENC_INDEX | 16") << "named exactly so: Enter goes there";
    EXPECT_NE(found.indexOf("Findings"), -1) << found.join(", ").toStdString();
    QTest::keyClick(search, Qt::Key_Return);
    EXPECT_EQ(view().selection().lane, lane(16));
    EXPECT_TRUE(lanes()->hasFocus());
    const Time first = view().cursor();
    QTest::keyClick(lanes(), Qt::Key_F3);
    EXPECT_GT(view().cursor(), first) << "the next execution of it";
    QTest::keyClick(lanes(), Qt::Key_Slash);
    QTest::keyClicks(search, "legend");
    QTest::keyClick(search, Qt::Key_Return);
    EXPECT_TRUE(lanes()->key_shown()) << "commands are found by their names";
    QTest::keyClick(lanes(), Qt::Key_Slash);
    QTest::keyClicks(search, "xyzzy nothing");
    QTest::keyClick(search, Qt::Key_Escape);
    EXPECT_TRUE(window->tools().search().listed().isEmpty());
    EXPECT_TRUE(lanes()->hasFocus());
}

TEST_F(Window, GoToUnderstandsTimesAndNamesAndSaysWhenItDoesNot) {
    open_demo();
    auto* go = window->findChild<QLineEdit*>("search");
    QTest::mouseClick(go, Qt::LeftButton);
    QTest::keyClicks(go, "12.5 s");
    QTest::keyClick(go, Qt::Key_Return);
    EXPECT_EQ(view().cursor(), Time::from_ms(12'500));
    EXPECT_TRUE(lanes()->hasFocus());
    EXPECT_TRUE(window->desk().navigator().go_to_text("3250 us"));
    EXPECT_EQ(view().cursor(), Time::from_us(3250));
    EXPECT_FALSE(window->desk().navigator().go_to_text("99 s"));
    EXPECT_NE(window->notice_text().indexOf("after the end"), -1);
    EXPECT_FALSE(window->desk().navigator().go_to_text("moon"));
    EXPECT_NE(window->notice_text().indexOf("moon"), -1);
}

TEST_F(Window, ABrokenFileShowsItsErrorAndLeavesWhatWasOpen) {
    open_demo();
    Folder folder;
    test::write_file(
        folder / "bad.target.toml",
        std::string(
            "format = \"mindful-trail-target/1\"\n[[core]]\nname = 5\n[[stream]]\nprotocol=\"itm\"\ncore=\"x\"\n"));
    open(folder / "bad.target.toml");
    EXPECT_NE(window->notice_text().indexOf("bad.target.toml:3"), -1) << window->notice_text().toStdString();
    EXPECT_NE(window->notice_text().indexOf("key 'name'"), -1);
    EXPECT_EQ(window->windowTitle(), "Larkspur night 3 – Mindful Trail");
    EXPECT_EQ(window->desk().findings_panel()->list()->model()->rowCount(), 7);
    click_finding(1);
    EXPECT_EQ(view().selection().lane, lane(16)) << "and it still works";
}

TEST_F(Window, DoubtsAndGapsAreListedAndLeadToTheirPlace) {
    open_demo();
    auto* health = window->findChild<QToolButton*>("health");
    ASSERT_EQ(health->menu()->actions().size(), 1);
    EXPECT_NE(health->menu()->actions()[0]->text().indexOf("Gap at 8.79"), -1);
    health->menu()->actions()[0]->trigger();
    EXPECT_LT(view().to() - view().from(), Time::from_ms(10));
    EXPECT_NE(window->desk().moment()->text().indexOf("gap"), -1) << window->desk().moment()->text().toStdString();
}

TEST_F(Window, DecodingCanBeStoppedInTheMiddle) {
    Folder folder;
    const auto part = test::read_bytes(test::demo("larkspur-night.swo"));
    std::vector<std::uint8_t> bytes;
    for (int i = 0; i < 60; ++i) bytes.insert(bytes.end(), part.begin(), part.end());
    test::write_file(folder / "long.bin", bytes);
    test::write_file(folder / "x.target.toml", test::itm_target("long.bin"));
    window->open(QString::fromStdString(folder / "x.target.toml"));
    QSignalSpy opened(&window->document(), &Document::opened), finished(&window->document(), &Document::finished);
    ASSERT_TRUE(QTest::qWaitFor([&] { return opened.count() > 0; }, 20'000))
        << "the first picture comes before the end";
    EXPECT_EQ(finished.count(), 0);
    auto* stop = window->findChild<QPushButton*>("stop");
    ASSERT_TRUE(stop->isVisible());
    QTest::mouseClick(stop, Qt::LeftButton);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    EXPECT_FALSE(stop->isVisible());
    EXPECT_NE(window->notice_text().indexOf("stopped"), -1);
    EXPECT_LT(window->document().trail()->streams[0].read_bytes, bytes.size());
    EXPECT_GT(window->document().figures(interrupts_kind()).size(), 3U) << "what was decoded is measured";
}

TEST_F(Window, OpeningAgainAndAgainWhileDecodingShowsOnlyTheLast) {
    for (int i = 0; i < 10; ++i)
        window->open(QString::fromStdString(i % 2 == 0 ? test::demo("larkspur.target.toml")
                                                       : test::data("mount/mount.target.toml")));
    QSignalSpy finished(&window->document(), &Document::finished);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    QTest::qWait(200);
    EXPECT_EQ(finished.count(), 1);
    EXPECT_EQ(window->windowTitle(), "Telescope mount controller – Mindful Trail");
    EXPECT_EQ(core().lanes.size(), 9U);
}

TEST_F(Window, AFileDroppedOnTheWindowOpens) {
    QMimeData mime;
    mime.setUrls({QUrl::fromLocalFile(QString::fromStdString(test::data("mount/mount.target.toml")))});
    QSignalSpy finished(&window->document(), &Document::finished);
    QDragEnterEvent enter({50, 50}, Qt::CopyAction, &mime, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(window.get(), &enter);
    EXPECT_TRUE(enter.isAccepted());
    QDropEvent drop(QPointF(50, 50), Qt::CopyAction, &mime, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(window.get(), &drop);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    EXPECT_EQ(core().lanes.size(), 9U);
}

TEST_F(Window, SavesAndOpensARecordingFolderAndRemembersIt) {
    Folder folder;
    open(test::data("mount/mount.target.toml"));
    QSignalSpy saved(&window->document(), &Document::saved);
    const QString path = QString::fromStdString(folder / "mount.mtrail");
    window->document().save(path, false);
    ASSERT_TRUE(QTest::qWaitFor([&] { return saved.count() > 0; }, 10'000));
    open(path.toStdString());
    EXPECT_EQ(core().lanes.size(), 9U);
    bool listed = false;
    for (auto* menu : window->findChildren<QMenu*>())
        for (auto* a : menu->actions()) listed = listed || a->text() == path;
    EXPECT_TRUE(listed) << "in the recent list";
}

TEST_F(Window, SmallAndLargeWindowsKeepEverythingInside) {
    open_demo();
    click_finding(3);  // figures, a button and plots stand at the right
    for (const QSize size : {QSize(1024, 700), QSize(1280, 800), QSize(2560, 1440)}) {
        window->resize(size);
        QTest::qWait(30);
        EXPECT_EQ(window->size(), size) << "no part asks for more room";
        for (QWidget* part :
             {static_cast<QWidget*>(lanes()), static_cast<QWidget*>(window->desk().ridge()),
              static_cast<QWidget*>(window->desk().moment()), static_cast<QWidget*>(window->desk().events())}) {
            EXPECT_GT(part->height(), 20);
            EXPECT_TRUE(window->rect().contains(QRect(part->mapTo(window.get(), QPoint(0, 0)), part->size())))
                << part->accessibleName().toStdString() << " at " << size.width();
        }
        EXPECT_GE(window->desk().events()->viewport()->height(), 24 + 5 * 21) << "five rows of every table";
        const double last = lanes()->row_rect({&threads_kind(), 0}).bottom();
        EXPECT_LE(last, lanes()->height() + 200) << "rows fit or scroll";
    }
}

TEST_F(Window, OnlyTheLanesAndBack) {
    open_demo();
    lanes()->setFocus();
    const int before = lanes()->width();
    QTest::keyClick(lanes(), Qt::Key_Space);
    QTest::qWait(30);
    EXPECT_GT(lanes()->width(), before + 300);
    EXPECT_FALSE(window->desk().evidence()->isVisible());
    QTest::keyClick(lanes(), Qt::Key_Space);
    EXPECT_TRUE(window->desk().evidence()->isVisible());
    EXPECT_TRUE(window->desk().findings_panel()->isVisible());
}

TEST_F(Window, CoresMergeIntoOneNestAndPartAgain) {
    open_demo();
    const QStringList apart = lanes()->headings();
    QTest::keyClick(window.get(), Qt::Key_C);
    ASSERT_TRUE(lanes()->merged());
    const QStringList merged = lanes()->headings();
    ASSERT_EQ(merged.size(), apart.size()) << "no lane comes or goes";
    const auto last_of = [&](const QString& what) {
        qsizetype last = -1;
        for (qsizetype i = 0; i < merged.size(); ++i)
            if (merged[i].contains(what)) last = i;
        return last;
    };
    const auto first_of = [&](const QString& what) {
        for (qsizetype i = 0; i < merged.size(); ++i)
            if (merged[i].contains(what)) return i;
        return merged.size();
    };
    EXPECT_LT(last_of("calls |"), first_of("interrupt"));
    EXPECT_LT(last_of("| interrupt "), first_of("task, priority"));
    EXPECT_NE(first_of("interrupt 0 · exception 16 · main"), merged.size()) << "each says whose it is";
    EXPECT_NE(first_of("· cop"), merged.size());
    QTest::keyClick(window.get(), Qt::Key_C);
    EXPECT_EQ(lanes()->headings(), apart);
}

TEST_F(Window, EvenStepsGiveEachChangeTheSameWidth) {
    open_demo();
    window->desk().navigator().go_to_finding(1);  // the late interrupt: little happens for long, then much at once
    const Time from = view().from(), to = view().to();
    const auto changes_until = [&](Time t) { return core().change_time.upper_bound(t); };
    QTest::keyClick(window.get(), Qt::Key_E);
    ASSERT_NE(view().scale(), nullptr);
    EXPECT_EQ(view().from(), from) << "the same stretch, on another scale";
    // At each quarter of the width a quarter of the steps is behind.
    const EvenScale& scale = *view().scale();
    for (const double share : {0.25, 0.5, 0.75}) {
        const Time at = view().at_share(share);
        EXPECT_NEAR(scale.place(at), scale.place(from) + share * (scale.place(to) - scale.place(from)), 0.01);
        EXPECT_NEAR(view().share_of(at), share, 1e-3);
        EXPECT_GE(changes_until(at), changes_until(from));
    }
    // The wheel keeps what is under the mouse where it is.
    const double left = lanes()->row_rect(lane(16)).left();
    const QPointF mouse(left + 300, lanes()->row_rect(lane(16)).center().y());
    const double share = (mouse.x() - lanes()->plot_left_edge()) / (lanes()->width() - lanes()->plot_left_edge());
    const double place = scale.place(view().at_share(share));
    wheel(lanes(), mouse, 2);
    EXPECT_NEAR(scale.place(view().at_share(share)), place, 0.2);
    EXPECT_LT(view().to() - view().from(), to - from);
    QTest::keyClick(lanes(), Qt::Key_Right);
    QTest::keyClick(window.get(), Qt::Key_E);
    EXPECT_EQ(view().scale(), nullptr);
}

TEST_F(Window, TheCodeArrangementIsAKeyAwayAndWhatIsChangedInItIsKept) {
    open(test::data("steps/arm-etm-mount-cc/recording.target.toml"));
    Desk& desk = window->desk();
    QTest::keyClick(lanes(), Qt::Key_F2);
    QTest::qWait(30);
    EXPECT_TRUE(desk.evidence()->in_front(desk.footsteps()));
    EXPECT_TRUE(desk.evidence()->in_front(desk.source()));
    EXPECT_EQ(desk.evidence()->panes_shown(), 3);
    EXPECT_FALSE(desk.findings_panel()->isVisible());
    for (QWidget* page : {static_cast<QWidget*>(desk.footsteps()), static_cast<QWidget*>(desk.source()),
                          static_cast<QWidget*>(desk.state())}) {
        EXPECT_TRUE(page->isVisible());
        EXPECT_GE(page->height(), 14 * 21 + 24) << "fourteen rows and a heading at 1280x800";
    }
    // Another page in front of the third pane, the findings back.
    desk.evidence()->show_page(desk.call_tree());
    QTest::keyClick(lanes(), Qt::Key_1, Qt::ControlModifier);
    EXPECT_TRUE(desk.findings_panel()->isVisible());
    QTest::keyClick(lanes(), Qt::Key_F2);
    EXPECT_EQ(desk.evidence()->panes_shown(), 1);
    EXPECT_TRUE(desk.measures_panel()->isVisible());
    QTest::keyClick(lanes(), Qt::Key_F2);
    EXPECT_TRUE(desk.evidence()->in_front(desk.call_tree())) << "as it was left";
    EXPECT_TRUE(desk.findings_panel()->isVisible());
    // A window that is opened later, with a recording of the same kind, looks like this one.
    window->close();
    window = std::make_unique<MainWindow>();
    window->show();
    open(test::data("steps/arm-etm-mount/recording.target.toml"));
    EXPECT_EQ(window->desk().arrangement().name(), Arrangement::Name::code);
    EXPECT_TRUE(window->desk().evidence()->in_front(window->desk().call_tree()));
    window->desk().arrangement().reset();
    EXPECT_TRUE(window->desk().evidence()->in_front(window->desk().state())) << "as it comes";
    EXPECT_FALSE(window->desk().findings_panel()->isVisible());
}

TEST_F(Window, APageCanStandBesideAnotherAndBeDrawnLarger) {
    open_demo();
    EvidenceArea* evidence = window->desk().evidence();
    evidence->move_page(window->desk().packets(), 1);
    QTest::qWait(30);
    EXPECT_EQ(evidence->panes_shown(), 2);
    EXPECT_TRUE(window->desk().events()->isVisible());
    EXPECT_TRUE(window->desk().packets()->isVisible());
    EXPECT_GT(window->desk().packets()->mapTo(window.get(), QPoint(0, 0)).x(),
              window->desk().events()->mapTo(window.get(), QPoint(0, 0)).x());
    const int before = window->desk().packets()->height();
    evidence->show_page(window->desk().packets());
    QTest::keyClick(lanes(), Qt::Key_F11);
    QTest::qWait(30);
    EXPECT_GT(window->desk().packets()->height(), 2 * before);
    EXPECT_FALSE(lanes()->isVisible());
    EXPECT_FALSE(window->desk().events()->isVisible());
    QTest::keyClick(window.get(), Qt::Key_F11);
    QTest::qWait(30);
    EXPECT_TRUE(lanes()->isVisible());
    EXPECT_TRUE(window->desk().events()->isVisible());
    evidence->move_page(window->desk().packets(), -1);
    EXPECT_EQ(evidence->panes_shown(), 1);
}

TEST_F(Window, SeveralRecordingsAreOpenAtOnceEachWhereItWasLeft) {
    open_demo();
    window->desk().navigator().go_to_text("12.5 s");
    open(test::data("mount/mount.target.toml"));
    ASSERT_EQ(window->desk_count(), 2U);
    EXPECT_TRUE(window->tabs()->isVisible());
    EXPECT_EQ(window->windowTitle(), "Telescope mount controller – Mindful Trail");
    QTest::keyClick(lanes(), Qt::Key_PageUp, Qt::ControlModifier);
    EXPECT_EQ(window->windowTitle(), "Larkspur night 3 – Mindful Trail");
    EXPECT_EQ(view().cursor(), Time::from_ms(12'500));
    EXPECT_NE(window->health_text().indexOf("20.000 s"), -1);
    // Opening one that is open already shows that one.
    open(test::data("mount/mount.target.toml"));
    EXPECT_EQ(window->desk_count(), 2U);
    QTest::keyClick(lanes(), Qt::Key_W, Qt::ControlModifier);
    EXPECT_EQ(window->desk_count(), 1U);
    EXPECT_EQ(window->windowTitle(), "Larkspur night 3 – Mindful Trail");
    QTest::keyClick(lanes(), Qt::Key_W, Qt::ControlModifier);
    EXPECT_EQ(window->desk_count(), 1U) << "an empty one";
    EXPECT_TRUE(window->findChild<QPushButton*>("start_open")->isVisible());
}

TEST_F(Window, GoingBackBringsTheSelectionBackToo) {
    open_demo();
    click_finding(1);
    const auto late = view().selection();
    click_finding(2);
    ASSERT_NE(view().selection(), late);
    QTest::keyClick(lanes(), Qt::Key_Left, Qt::AltModifier);
    EXPECT_EQ(view().selection(), late);
}

TEST_F(Window, AFindingThatIsMutedWithAReasonLeavesTheListAndComesBack) {
    Folder folder;
    for (const char* file : {"larkspur.target.toml", "larkspur.elf", "larkspur.svd", "larkspur-cop.elf",
                             "larkspur-night.swo", "larkspur-cop.etrace", "larkspur-night.etm4"})
        std::filesystem::copy(test::demo(file), folder / file);
    std::filesystem::copy(test::demo("larkspur-night-os"), folder / "larkspur-night-os");
    open(folder / "larkspur.target.toml");
    FindingsPanel* panel = window->desk().findings_panel();
    ASSERT_EQ(panel->list()->model()->rowCount(), 5);
    const QString first = panel->list()->model()->index(0, 0).data().toString();
    ASSERT_TRUE(window->desk().finding_list().mute(0, "known, fixed in release 4"));
    EXPECT_EQ(panel->list()->model()->rowCount(), 4);
    EXPECT_NE(window->findChild<QLabel*>("findings_count")->text().indexOf("1 muted"), -1);
    EXPECT_NE(panel->list()->model()->index(0, 0).data().toString(), first);
    EXPECT_EQ(window->desk().ridge()->cairns().size(), 4U) << "gone from the ridge, too";
    const std::string kept = test::read_text(folder / "larkspur.muted.toml");
    EXPECT_NE(kept.find("known, fixed in release 4"), std::string::npos) << "beside the target file";
    // Another window reads it again.
    window = std::make_unique<MainWindow>();
    window->show();
    open(folder / "larkspur.target.toml");
    EXPECT_EQ(window->desk().findings_panel()->list()->model()->rowCount(), 4);
    window->desk().finding_list().show_muted(true);
    EXPECT_EQ(window->desk().findings_panel()->list()->model()->rowCount(), 5);
    EXPECT_EQ(window->desk().finding_list().reason(0), "known, fixed in release 4");
    ASSERT_TRUE(window->desk().finding_list().unmute(0));
    EXPECT_EQ(window->desk().finding_list().muted_rows(), 0U);
}

TEST_F(Window, FindingsAreFilteredByKindAndByAnyName) {
    open_demo();
    FindingList& list = window->desk().finding_list();
    list.set_filter("fault", {});
    EXPECT_EQ(list.rows(), 1U);
    list.set_filter({}, "enc_index");
    ASSERT_EQ(list.rows(), 1U);
    EXPECT_EQ(window->document().findings()[list.finding_of(0)].kind, FindingKind::late_response);
    list.set_filter({}, "moonshine");
    EXPECT_EQ(list.rows(), 0U);
    EXPECT_TRUE(window->findChild<QLabel*>("findings_empty")->text().contains("No finding fits"));
    list.set_filter({}, {});
    EXPECT_EQ(list.rows(), 7U);
}

TEST_F(Window, NamesAndTimesInAFindingsTextAreLinks) {
    open_demo();
    click_finding(1);
    // Look for the link with the mouse, as a person does: somewhere in the open card.
    QListView* list = window->desk().findings_panel()->list();
    const QRect card = list->visualRect(list->currentIndex());
    const auto before = view().selection();
    const Time cursor = view().cursor();
    bool went = false;
    for (int y = card.top() + 30; y < card.bottom() && !went; y += 5)
        for (int x = card.left() + 14; x < card.right() - 10 && !went; x += 6) {
            QMouseEvent move(QEvent::MouseMove, QPointF(x, y), list->viewport()->mapToGlobal(QPointF(x, y)),
                             Qt::NoButton, Qt::NoButton, Qt::NoModifier);
            QApplication::sendEvent(list->viewport(), &move);
            if (list->viewport()->cursor().shape() != Qt::PointingHandCursor) continue;
            QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, QPoint(x, y));
            went = view().selection() != before || view().cursor() != cursor;
        }
    EXPECT_TRUE(went) << "a name or a time led somewhere";
}

TEST_F(Window, AFaultIsACardAndASelectedExecutionIsComparedWithATypicalOne) {
    open_demo();
    click_finding(0);
    const QString card = window->desk().measures_panel()->told();
    EXPECT_TRUE(card.contains("ldr.w r0, [r3, r0, lsl #2] at 0x08000112")) << card.toStdString();
    EXPECT_TRUE(card.contains("star_table_at ◂ track_loop ◂ track_task"));
    EXPECT_TRUE(card.contains("what led to it"));
    // The instructions come to the front, at the core of the fault.
    EXPECT_TRUE(window->desk().evidence()->in_front(window->desk().footsteps()));
    EXPECT_EQ(window->document().trail()->steps[window->desk().footsteps()->stream()].core, "main");
    // What raised it has a row of its own between the last instruction that completed and the handler's first.
    Footsteps* rows = window->desk().footsteps();
    QTest::qWait(300);  // what was asked for on the way there comes late, and counts no more
    EXPECT_TRUE(rows->at_raised());
    EXPECT_TRUE(QTest::qWaitFor([&] { return rows->shown().filter("raised").size() == 1; }));
    EXPECT_TRUE(rows->copied_text().startsWith("raised ")) << rows->copied_text().toStdString();
    EXPECT_TRUE(rows->copied_text().contains("08000112\tldr.w r0, [r3, r0, lsl #2]\tstar_table_at"))
        << rows->copied_text().toStdString();
    QTest::keyClick(rows, Qt::Key_Down);
    EXPECT_FALSE(rows->at_raised());
    EXPECT_TRUE(QTest::qWaitFor([&] { return rows->copied_text().contains("0x0800057a"); }))
        << "the handler's first instruction: " << rows->copied_text().toStdString();
    QTest::keyClick(rows, Qt::Key_Up);
    EXPECT_TRUE(rows->at_raised()) << "the way back leads over it";
    window->desk().arrangement().use(Arrangement::Name::code);
    EXPECT_TRUE(
        QTest::qWaitFor([&] { return window->desk().source()->stream() == window->desk().footsteps()->stream(); }));
    for (const QComboBox* choice : window->desk().evidence()->findChildren<QComboBox*>("stream_choice"))
        if (choice->isVisible()) EXPECT_EQ(choice->currentText(), "main") << "each pane says so";
    window->desk().arrangement().use(Arrangement::Name::timing);
    click_finding(1);
    EXPECT_EQ(window->desk().measures_panel()->told(), QString()) << "figures and plots again";
    view().select(task_lane(0));
    EXPECT_EQ(window->desk().measures_panel()->told(), QString()) << "a task has figures";
    view().select(lane(5));
    EXPECT_TRUE(window->desk().measures_panel()->told().contains("raised by")) << "it need not be gone to";
    click_finding(1);
    QTest::keyClick(lanes(), Qt::Key_W);
    EXPECT_TRUE(QTest::qWaitFor([&] { return window->desk().measures_panel()->told().contains("typical one of"); }))
        << window->desk().measures_panel()->told().toStdString();
    EXPECT_TRUE(window->desk().measures_panel()->told().contains("itself"));
    QTest::keyClick(lanes(), Qt::Key_W);
    EXPECT_EQ(window->desk().measures_panel()->told(), QString());
}

TEST_F(Window, WhatTheFirmwarePrintedStandsInLinesThatFollowTheCursor) {
    open(test::data("mount/mount.target.toml"));
    TextPage* text = window->desk().text();
    ASSERT_TRUE(window->desk().evidence()->offers(text));
    window->desk().evidence()->show_page(text);
    EXPECT_EQ(text->row_text(0), (QStringList{"0.000 069 722 s", "mount 7 up"}));
    // The cursor leads to the line that stood there last, a click leads the cursor.
    const Time third = window->document().trail()->texts[0].line(2).begin;
    view().set_cursor(third + Time::from_us(3));
    EXPECT_EQ(text->current_row(), 2U);
    QTest::mouseClick(text->viewport(), Qt::LeftButton, {}, QPoint(300, 24 + 10));
    EXPECT_EQ(view().cursor(), window->document().trail()->texts[0].line(0).begin);
    QTest::keyClick(text, Qt::Key_Down, Qt::ShiftModifier);
    QTest::keyClick(text, Qt::Key_C, Qt::ControlModifier);
    const QString copied = QGuiApplication::clipboard()->text();
    EXPECT_TRUE(copied.startsWith("time (ns)\ttext\n69722.222\tmount 7 up\n")) << copied.toStdString();
    EXPECT_EQ(copied.count('\n'), 3);
    // Searching finds it.
    const QString last = text->row_text(text->row_count() - 1)[1];
    QString why;
    text->find_text(last, true, [&](const QString& why_not) { why = why_not; });
    ASSERT_TRUE(QTest::qWaitFor([&] { return text->row_text(*text->current_row())[1] == last; }, 10'000)) << why.toStdString();
    EXPECT_TRUE(why.isEmpty()) << why.toStdString();
    // It is a lane like any other.
    EXPECT_TRUE(window->desk().navigator().go_to_text("console"));
    EXPECT_EQ(view().selection().lane.kind, &text_kind());
}

TEST_F(Window, AnyViewBecomesAPictureAsPngOrSvg) {
    open_demo();
    Folder folder;
    lanes()->setFocus();
    EXPECT_EQ(window->desk().view_in_use(), lanes());
    const QString png = QString::fromStdString(folder / "lanes.png"),
                  svg = QString::fromStdString(folder / "lanes.svg");
    ASSERT_TRUE(save_picture(*window->desk().view_in_use(), png));
    EXPECT_EQ(QImage(png).size(), lanes()->size());
    ASSERT_TRUE(save_picture(*lanes(), svg));
    const std::string text = test::read_text(svg.toStdString());
    EXPECT_NE(text.find("<svg"), std::string::npos);
    EXPECT_NE(text.find("STEP_TIMER"), std::string::npos) << "text stays text";
    window->desk().events()->setFocus();
    EXPECT_EQ(window->desk().view_in_use(), window->desk().events());
    EXPECT_FALSE(save_picture(*lanes(), "/no/such/folder/x.png"));
    EXPECT_FALSE(save_picture(*lanes(), "/no/such/folder/x.svg"));
}

// Who cannot see the window hears what each part is.
TEST_F(Window, EveryControlHasANameForAssistiveTechnology) {
    open_demo();
    window->desk().show_measures(true);
    window->desk().show_measures(false);
    QStringList nameless;
    const auto says = [](QWidget* w) {
        QAccessibleInterface* a = QAccessible::queryAccessibleInterface(w);
        return a == nullptr ? QString() : a->text(QAccessible::Name);
    };
    for (QWidget* w : window->findChildren<QWidget*>()) {
        const bool control = qobject_cast<QAbstractButton*>(w) != nullptr || qobject_cast<QLineEdit*>(w) != nullptr ||
                             qobject_cast<QComboBox*>(w) != nullptr || qobject_cast<QAbstractItemView*>(w) != nullptr ||
                             w->focusPolicy() == Qt::StrongFocus;
        // Parts that Qt makes for itself, and frames around what has a name.
        if (!control || w->objectName().startsWith("qt_") ||
            QString(w->metaObject()->className()).startsWith("QComboBoxListView") ||
            qobject_cast<QHeaderView*>(w) != nullptr || qobject_cast<QScrollBar*>(w) != nullptr ||
            w->parentWidget() == nullptr || qobject_cast<QTabBar*>(w->parentWidget()) != nullptr ||
            qobject_cast<QComboBox*>(w->parentWidget()) != nullptr ||
            qobject_cast<QLineEdit*>(w->parentWidget()) != nullptr || qobject_cast<QMenu*>(w) != nullptr ||
            qobject_cast<QAbstractScrollArea*>(w->parentWidget()) != nullptr ||
            qobject_cast<QAbstractSpinBox*>(w->parentWidget()) != nullptr)
            continue;
        if (says(w).isEmpty())
            nameless << QString("%1 %2 in %3")
                            .arg(w->metaObject()->className(), w->objectName(),
                                 w->parentWidget()->metaObject()->className());
    }
    EXPECT_TRUE(nameless.isEmpty()) << nameless.join("\n").toStdString();
}

// From a colleague's bytes and an image to lanes, and to a target file that opens them from then on.
TEST_F(Window, RawBytesAreIdentifiedShownAndKept) {
    Folder folder;
    namespace fs = std::filesystem;
    fs::copy_file(test::demo("larkspur-night.swo"), folder / "from_colleague.bin");
    fs::copy_file(test::demo("larkspur.elf"), folder / "firmware.axf");
    QSignalSpy finished(&window->document(), &Document::finished);
    window->open(QString::fromStdString(folder / "from_colleague.bin"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    BytesStrip* strip = window->desk().bytes();
    EXPECT_TRUE(strip->isVisible());
    auto* guesses = strip->findChild<QComboBox*>("bytes_guesses");
    EXPECT_TRUE(guesses->currentText().startsWith("ITM (fits to")) << guesses->currentText().toStdString();
    EXPECT_EQ(strip->findChild<QToolButton*>("bytes_image")->text(), "Image: firmware.axf") << "the only one beside it";
    auto* clock = strip->findChild<QComboBox*>("bytes_clock");
    EXPECT_EQ(clock->currentText(), "120000000") << "SysTick would come every 1 or 10 ms";
    ASSERT_NE(core().lane_index(17), std::nullopt);
    const Time before = executions(17).begin(10);
    // Another clock: the lanes show what that would mean.
    clock->setFocus();
    clock->lineEdit()->selectAll();
    QTest::keyClicks(clock->lineEdit(), "60000000");
    QTest::keyClick(clock->lineEdit(), Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 1; }, 20'000));
    EXPECT_NEAR(executions(17).begin(10).ns(), 2 * before.ns(), 2);
    strip->keep_as(QString::fromStdString(folder / "night"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 2; }, 20'000));
    EXPECT_FALSE(strip->isVisible());
    EXPECT_TRUE(fs::exists(folder / "night.target.toml"));
    const std::string text = test::read_text(folder / "night.target.toml");
    EXPECT_NE(text.find("file     = \"from_colleague.bin\""), std::string::npos) << text;
    EXPECT_NE(text.find("clock_hz = 60000000"), std::string::npos) << text;
}

TEST_F(Window, WhatIsNoTraceIsRefusedWithWhatItIs) {
    Folder folder;
    test::write_file(folder / "notes.txt", "remember to ask about the focuser\n");
    window->open(QString::fromStdString(folder / "notes.txt"));
    auto* notice = window->findChild<QLabel*>("notice");
    EXPECT_TRUE(QTest::qWaitFor([&] { return notice->text().contains("no trace that is known here: it is text"); }))
        << notice->text().toStdString();
    EXPECT_FALSE(window->desk().bytes()->isVisible());
}

TEST_F(Window, PlacesInAFindingsTextLeadToTheSource) {
    open_demo();
    click_finding(0);
    const QString html = finding_html(window->document().findings()[0], true);
    EXPECT_TRUE(html.contains("place:catalog.c:7")) << html.toStdString();
    EXPECT_TRUE(html.contains("place:0x08000112")) << html.toStdString();
    emit window->desk().findings_panel()->place_chosen(0, "catalog.c:7");
    EXPECT_TRUE(window->desk().evidence()->in_front(window->desk().source()));
    SourceText* text = window->desk().source()->text();
    EXPECT_TRUE(QTest::qWaitFor([&] { return text->marked() == 6; })) << "line 7";
}

TEST_F(Window, SearchKnowsTheImageAndTheSettings) {
    open_demo();
    const auto listed = [&](const QString& text) {
        window->tools().search().begin();
        QTest::keyClicks(&window->tools().search(), text);
        return window->tools().search().listed().join("\n");
    };
    EXPECT_TRUE(listed("clock_hz").contains("Settings of the recording")) << listed("clock_hz").toStdString();
    // A variable that nothing is recorded of.
    const Symbol* variable = nullptr;
    for (const Symbol& s : window->document().recording()->images[0]->symbols())
        if (!s.function && !s.label && s.size == 4 && s.name != "axis_error" && s.name != "centroid") variable = &s;
    ASSERT_NE(variable, nullptr);
    const QString name = QString::fromStdString(variable->name);
    EXPECT_TRUE(listed(name).contains("Variables of the image")) << listed(name).toStdString();
    choose_match(name);
    QTest::keyClick(&window->tools().search(), Qt::Key_Return);
    EXPECT_TRUE(window->findChild<QLabel*>("notice")->text().contains("nothing is recorded of it"));
}

TEST_F(Window, ContextMenusSayWhatOneDoesWithAMoment) {
    open_demo();
    const auto entries = [&](QWidget* on, const QPoint& at) {
        QStringList all;
        QTimer::singleShot(0, window.get(), [&all] {
            QMenu* menu = nullptr;
            ASSERT_TRUE(QTest::qWaitFor(
                [&] { return (menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) != nullptr; }));
            for (const QAction* a : menu->actions()) all << a->text();
            menu->close();
        });
        QContextMenuEvent e(QContextMenuEvent::Mouse, at, on->mapToGlobal(at));
        QApplication::sendEvent(on, &e);
        return all;
    };
    click_finding(1);
    EXPECT_TRUE(entries(window->desk().ridge(), QPoint(300, 40)).contains("Set A here"));
    const QStringList lane_menu = entries(lanes(), in_lane(17, 500));
    EXPECT_TRUE(lane_menu.contains("Go to its longest")) << lane_menu.join("; ").toStdString();
    EXPECT_TRUE(lane_menu.contains("Set B here"));
    EXPECT_TRUE(entries(window->desk().events()->viewport(), QPoint(300, 40)).contains("Show it in the lanes"));
    window->desk().evidence()->show_page(window->desk().footsteps());
    QTest::qWait(200);
    EXPECT_FALSE(entries(window->desk().footsteps()->viewport(), QPoint(300, 40))
                     .filter("Next execution of this instruction")
                     .isEmpty());
    const auto plots = window->desk().measures_panel()->findChildren<OverTimePlot*>();
    ASSERT_FALSE(plots.isEmpty());
    EXPECT_TRUE(entries(plots[0], plots[0]->rect().center()).contains("Copy values"));
    EXPECT_TRUE(plots[0]->values_text().startsWith("begin (ns)\tlength (ns)\n"))
        << plots[0]->values_text().toStdString();
    EXPECT_TRUE(entries(window->desk().moment(), QPoint(300, 8)).contains("Copy what it says"));
}

TEST_F(Window, AToBIsCopiedInNanosecondsAndCycles) {
    open_demo();
    view().set_ruler(Time::from_us(1000), Time::from_us(1250));
    QTest::keyClick(lanes(), Qt::Key_C, Qt::ControlModifier | Qt::ShiftModifier);
    const double hz = static_cast<double>(core().clock.hz);
    EXPECT_EQ(QGuiApplication::clipboard()->text(),
              QString("A (ns)\tB (ns)\tA–B (ns)\tA–B (cycles of main)\n1000000.000\t1250000.000\t250000.000\t%1\n")
                  .arg(static_cast<qint64>(250e-6 * hz + 0.5)));
    view().set_ruler(std::nullopt, std::nullopt);
    QTest::keyClick(lanes(), Qt::Key_C, Qt::ControlModifier | Qt::ShiftModifier);
    EXPECT_TRUE(window->findChild<QLabel*>("notice")->text().startsWith("Set A and B first"));
}

TEST_F(Window, ColumnsKeepTheWidthsThatAPersonDrew) {
    open_demo();
    window->desk().evidence()->show_page(window->desk().functions());
    QTableView* table = window->desk().functions()->table();
    QHeaderView* header = table->horizontalHeader();
    const int edge = header->sectionViewportPosition(2);
    const int before = table->columnWidth(1);
    drag(header->viewport(), {edge - 1, 8}, {edge + 59, 8});
    EXPECT_EQ(table->columnWidth(1), before + 60);
    window->desk().functions()->leave_out("main", true);  // the table is filled again
    EXPECT_EQ(table->columnWidth(1), before + 60);
}

TEST_F(Window, HelpHasAllKeysAndTheGuideAndSearchesBoth) {
    open_demo();
    QTest::keyClick(window.get(), Qt::Key_F1);
    Help* help = window->findChild<Help*>();
    ASSERT_NE(help, nullptr);
    EXPECT_TRUE(help->isVisible());
    // Every key of the menus is there.
    const QAbstractItemModel& keys = *help->keys()->model();
    QStringList listed;
    for (int i = 0; i < keys.rowCount(); ++i) listed << keys.index(i, 1).data().toString();
    for (const QAction* a : window->findChildren<QAction*>())
        if (a->property("menu").isValid() && !a->shortcut().isEmpty()) {
            EXPECT_FALSE(listed.filter(a->shortcut().toString(QKeySequence::NativeText)).isEmpty())
                << a->text().toStdString();
        }
    const int all = keys.rowCount();
    auto* field = help->findChild<QLineEdit*>("help_search");
    QTest::keyClicks(field, "prescaler");
    EXPECT_EQ(keys.rowCount(), 0);
    EXPECT_GT(help->matches(), 1);
    EXPECT_TRUE(help->guide()->isVisible()) << "the guide has it";
    QTest::keyClick(field, Qt::Key_Return);
    EXPECT_TRUE(help->findChild<QLabel*>("help_count")->text().startsWith("2 of "));
    field->clear();
    QTest::keyClicks(field, "caller");
    EXPECT_GT(keys.rowCount(), 0);
    EXPECT_LT(keys.rowCount(), all);
    // A heading and a link lead there.
    field->clear();
    const auto found = help->headings()->findItems("Search", Qt::MatchContains);
    ASSERT_EQ(found.size(), 1);
    help->headings()->setCurrentItem(found[0]);
    EXPECT_EQ(help->guide()->textCursor().block().text(), "Search");
    emit help->guide()->anchorClicked(QUrl("formats/target-file.md"));
    EXPECT_EQ(help->guide()->textCursor().block().blockFormat().headingLevel(), 1);
    EXPECT_TRUE(help->guide()->textCursor().block().text().contains("arget file"));
}

// The lanes are drawn by hand, and still each of them is there to be read.
TEST_F(Window, EveryLaneIsAnItemForAssistiveTechnology) {
    open_demo();
    view().fit();
    QAccessibleInterface* list = QAccessible::queryAccessibleInterface(lanes());
    ASSERT_NE(list, nullptr);
    EXPECT_EQ(list->role(), QAccessible::List);
    ASSERT_EQ(list->childCount(), lanes()->headings().size());
    ASSERT_GT(list->childCount(), 8);
    view().select(lane(5));
    int selected = 0;
    for (int i = 0; i < list->childCount(); ++i) {
        QAccessibleInterface* item = list->child(i);
        ASSERT_NE(item, nullptr);
        EXPECT_EQ(item->role(), QAccessible::ListItem);
        EXPECT_FALSE(item->text(QAccessible::Name).isEmpty());
        EXPECT_TRUE(item->text(QAccessible::Value).contains("in view"));
        EXPECT_EQ(item->rect().width(), lanes()->width());
        if (item->state().selected) {
            ++selected;
            EXPECT_TRUE(item->text(QAccessible::Name).contains("BusFault"))
                << item->text(QAccessible::Name).toStdString();
        }
    }
    EXPECT_EQ(selected, 1);
}

TEST_F(Window, TheDemonstrationFindsTheSourcesOfBothItsCores) {
    open_demo();
    for (const char* function : {"star_table_at", "interpolate"}) {
        ASSERT_TRUE(window->desk().functions()->choose(function)) << function;
        window->desk().evidence()->show_page(window->desk().source());
        EXPECT_TRUE(QTest::qWaitFor([&] {
            return window->desk().source()->text()->toPlainText().contains(QString(function) + "(");
        })) << window->desk().source()->message().toStdString();
        EXPECT_EQ(window->desk().source()->message(), QString()) << function;
    }
}

TEST_F(Window, AHealthyRecordingSaysSo) {
    Folder folder;
    board::MountOptions options;
    options.seconds = 3;
    options.healthy = true;
    test::write_file(folder / "stream.bin", test::mount_bytes(options));
    test::write_file(folder / "x.target.toml", test::itm_target("stream.bin"));
    open(folder / "x.target.toml");
    auto* empty = window->findChild<QLabel*>("findings_empty");
    EXPECT_TRUE(empty->isVisible());
    EXPECT_NE(empty->text().indexOf("Nothing unusual"), -1);
    EXPECT_NE(window->health_text().indexOf("complete"), -1);
}

}  // namespace
}  // namespace mt::app
