// The real window, driven with mouse and keys; what a person would see is what is asserted.
#include <QApplication>
#include <QClipboard>
#include <QDragEnterEvent>
#include <QDropEvent>
#include <QHeaderView>
#include <QLabel>
#include <QListView>
#include <QMenu>
#include <QMimeData>
#include <QPushButton>
#include <QScrollBar>
#include <QSignalSpy>
#include <QTest>
#include <QToolButton>
#include <QWheelEvent>

#include "main_window.h"
#include "measure/refs.h"
#include "support.h"

namespace mt::app {

namespace {

using test::Folder;

class Window : public ::testing::Test {
  protected:
    void SetUp() override {
        window = std::make_unique<MainWindow>();
        window->resize(1280, 800);
        window->show();
        ASSERT_TRUE(QTest::qWaitForWindowExposed(window.get()));
    }
    void TearDown() override { window.reset(); }

    // Opens and waits for the end of decoding and judging.
    void open(const std::string& path) {
        QSignalSpy finished(&window->session(), &Session::finished), failed(&window->session(), &Session::failed);
        window->open(QString::fromStdString(path));
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() + failed.count() > 0; }, 20'000));
        QTest::qWait(60);
    }
    void open_demo() { open(test::demo("larkspur.target.toml")); }

    Viewpoint& view() { return window->viewpoint(); }
    Lanes* lanes() { return window->lanes(); }
    const CoreTrail& core() { return window->session().trail()->cores[0]; }
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
        QListView* list = window->findings_panel()->list();
        const QRect r = list->visualRect(list->model()->index(row, 0));
        QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, r.center());
    }

    std::unique_ptr<MainWindow> window;
};

TEST_F(Window, StartsByTellingWhatToDo) {
    EXPECT_NE(window->findChild<QPushButton*>("start_open"), nullptr);
    EXPECT_TRUE(window->findChild<QPushButton*>("start_open")->isVisible());
    EXPECT_FALSE(lanes()->isVisible());
    EXPECT_NE(window->findChild<QLabel*>("findings_empty")->text().indexOf("Open a recording"), -1);
}

TEST_F(Window, OpensTheDemonstrationOnTheWhole) {
    open_demo();
    EXPECT_TRUE(lanes()->isVisible());
    EXPECT_EQ(view().from(), Time{});
    EXPECT_EQ(view().to(), window->session().trail()->end);
    EXPECT_EQ(window->findings_panel()->list()->model()->rowCount(), 5);
    EXPECT_EQ(window->health_text(), "20.000 s · 2 cores · whole but for 1 gap (3.14 ms) · clock agrees");
    EXPECT_EQ(window->windowTitle(), "Larkspur night 3 – Mindful Trail");
    EXPECT_LT(lanes()->row_rect(lane(16)).top(), lanes()->row_rect(lane(17)).top())
        << "ENC_INDEX above STEP_TIMER";
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
    EXPECT_NE(window->health_text().indexOf("whole but for 1 gap in the instructions"), -1)
        << window->health_text().toStdString();
    QAction* place = nullptr;
    for (QAction* a : window->findChild<QToolButton*>("health")->menu()->actions())
        if (a->text().startsWith("Instructions missing at ")) place = a;
    ASSERT_NE(place, nullptr);
    place->trigger();
    const StepTrail& t = window->session().trail()->steps[0];
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
    EXPECT_NE(window->moment()->text().indexOf("ENC_INDEX entered"), -1) << window->moment()->text().toStdString();
    EXPECT_EQ(window->findChild<QLabel*>("measures_name")->text(), "ENC_INDEX");
    // The evidence follows: the current row is the entry.
    QStringList row;
    EXPECT_TRUE(QTest::qWaitFor([&] {
        row = window->events()->current_row() ? window->events()->row_text(*window->events()->current_row())
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
    const auto& tasks = window->session().trail()->tasks;
    ASSERT_EQ(view().selection().lane.kind, &tasks_kind());
    EXPECT_EQ(tasks.task_name(static_cast<std::uint32_t>(view().selection().lane.index)), "clock")
        << "who waited for the lock";
    EXPECT_GT(lanes()->row_rect(view().selection().lane).height(), 20);
    EXPECT_NE(window->moment()->text().indexOf("held by focus"), -1) << window->moment()->text().toStdString();
    EXPECT_EQ(window->findChild<QLabel*>("measures_name")->text(), "clock");
    QTest::keyClick(lanes(), Qt::Key_F);
    QTest::keyClick(lanes(), Qt::Key_F);
    EXPECT_NEAR(view().cursor().seconds(), 8.79998, 0.001) << "the gap";
    for (int i = 0; i < 3; ++i) QTest::keyClick(lanes(), Qt::Key_F, Qt::ShiftModifier);
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
    Ridge* ridge = window->ridge();
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
    window->go_to_text("9.8244 s");
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
    window->go_to_text("ENC_INDEX");
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
    MeasuresPage* page = window->measures_page();
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
    window->go_to_text("ENC_INDEX");
    const ExceptionLane& enc = executions(16);
    const std::size_t longest = enc.longest(0, enc.size());
    OverTimePlot* dots = window->measures_panel()->over_time();
    QTest::qWait(50);
    auto* plot = dots->findChild<QWidget*>();
    QTest::mouseClick(plot, Qt::LeftButton, {}, dots->position_of(execution_ref(0, index(16), longest)).toPoint());
    EXPECT_EQ(selected(), longest);
    view().fit();
    DistributionPlot* bars = window->measures_panel()->distribution();
    QTest::qWait(50);
    auto* bar_plot = bars->findChild<QWidget*>();
    QTest::mouseClick(bar_plot, Qt::LeftButton, {},
                      QPoint(static_cast<int>(bars->x_of(Time::from_us(1.4))), bar_plot->height() - 40));
    ASSERT_TRUE(view().selection().span);
    EXPECT_NEAR(enc.length(selected()).us(), 1.4, 0.15) << "an execution of the bar that was hit";
}

TEST_F(Window, TheEvidenceScrollsThroughEverythingAndMovesTheCursor) {
    open_demo();
    PacketTable* events = window->events();
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
    window->evidence()->setCurrentIndex(1);
    ASSERT_TRUE(QTest::qWaitFor([&] {
        return window->packets()->current_row() &&
               !window->packets()->row_text(*window->packets()->current_row()).isEmpty();
    }));
    const QStringList packet = window->packets()->row_text(*window->packets()->current_row());
    EXPECT_TRUE(packet[0].startsWith("0x"));
    EXPECT_FALSE(packet[1].isEmpty()) << "raw bytes";
}

TEST_F(Window, FindingInTheEvidenceGoesToTheNextRowThatHasIt) {
    open_demo();
    window->go_to_text("5 s");
    auto* find = window->findChild<QLineEdit*>("find");
    QTest::keyClick(lanes(), Qt::Key_F, Qt::ControlModifier);
    ASSERT_TRUE(find->hasFocus());
    QTest::keyClicks(find, "refine_cent");
    const auto current_name = [&] {
        return window->events()->current_row() ? window->events()->row_text(*window->events()->current_row()).value(2)
                                               : QString();
    };
    QTest::keyClick(find, Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return current_name() == "refine_centroid"; }));
    const Time first = view().cursor();
    EXPECT_GT(first, Time::from_ms(6000)) << "the next guide frame";
    QTest::keyClick(find, Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return view().cursor() > first; }));
    QTest::keyClick(find, Qt::Key_Return, Qt::ShiftModifier);
    ASSERT_TRUE(QTest::qWaitFor([&] { return view().cursor() == first; }));
    find->clear();
    QTest::keyClicks(find, "moonshine");
    QTest::keyClick(find, Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->notice_text().contains("moonshine"); }));
}

TEST_F(Window, GoToUnderstandsTimesAndNamesAndSaysWhenItDoesNot) {
    open_demo();
    auto* go = window->findChild<QLineEdit*>("go");
    QTest::mouseClick(go, Qt::LeftButton);
    QTest::keyClicks(go, "12.5 s");
    QTest::keyClick(go, Qt::Key_Return);
    EXPECT_EQ(view().cursor(), Time::from_ms(12'500));
    EXPECT_TRUE(lanes()->hasFocus());
    EXPECT_TRUE(window->go_to_text("3250 us"));
    EXPECT_EQ(view().cursor(), Time::from_us(3250));
    EXPECT_FALSE(window->go_to_text("99 s"));
    EXPECT_NE(window->notice_text().indexOf("after the end"), -1);
    EXPECT_FALSE(window->go_to_text("moon"));
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
    EXPECT_EQ(window->findings_panel()->list()->model()->rowCount(), 5);
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
    EXPECT_NE(window->moment()->text().indexOf("gap"), -1) << window->moment()->text().toStdString();
}

TEST_F(Window, DecodingCanBeStoppedInTheMiddle) {
    Folder folder;
    const auto part = test::read_bytes(test::demo("larkspur-night.swo"));
    std::vector<std::uint8_t> bytes;
    for (int i = 0; i < 60; ++i) bytes.insert(bytes.end(), part.begin(), part.end());
    test::write_file(folder / "long.bin", bytes);
    test::write_file(folder / "x.target.toml", test::itm_target("long.bin"));
    QSignalSpy opened(&window->session(), &Session::opened), finished(&window->session(), &Session::finished);
    window->open(QString::fromStdString(folder / "x.target.toml"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return opened.count() > 0; }, 20'000))
        << "the first picture comes before the end";
    EXPECT_EQ(finished.count(), 0);
    auto* stop = window->findChild<QPushButton*>("stop");
    ASSERT_TRUE(stop->isVisible());
    QTest::mouseClick(stop, Qt::LeftButton);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    EXPECT_FALSE(stop->isVisible());
    EXPECT_NE(window->notice_text().indexOf("stopped"), -1);
    EXPECT_LT(window->session().trail()->streams[0].read_bytes, bytes.size());
    EXPECT_GT(window->session().figures(interrupts_kind()).size(), 3U) << "what was decoded is measured";
}

TEST_F(Window, OpeningAgainAndAgainWhileDecodingShowsOnlyTheLast) {
    for (int i = 0; i < 10; ++i)
        window->open(QString::fromStdString(i % 2 == 0 ? test::demo("larkspur.target.toml")
                                                       : test::data("mount/mount.target.toml")));
    QSignalSpy finished(&window->session(), &Session::finished);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    QTest::qWait(200);
    EXPECT_EQ(finished.count(), 1);
    EXPECT_EQ(window->windowTitle(), "Telescope mount controller – Mindful Trail");
    EXPECT_EQ(core().lanes.size(), 9U);
}

TEST_F(Window, AFileDroppedOnTheWindowOpens) {
    QMimeData mime;
    mime.setUrls({QUrl::fromLocalFile(QString::fromStdString(test::data("mount/mount.target.toml")))});
    QSignalSpy finished(&window->session(), &Session::finished);
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
    QSignalSpy saved(&window->session(), &Session::saved);
    const QString path = QString::fromStdString(folder / "mount.mtrail");
    window->session().save(path, false);
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
    for (const QSize size : {QSize(1024, 700), QSize(1280, 800), QSize(2560, 1440)}) {
        window->resize(size);
        QTest::qWait(30);
        EXPECT_EQ(window->size(), size) << "no part asks for more room";
        for (QWidget* part : {static_cast<QWidget*>(lanes()), static_cast<QWidget*>(window->ridge()),
                              static_cast<QWidget*>(window->moment()), static_cast<QWidget*>(window->events())}) {
            EXPECT_GT(part->height(), 20);
            EXPECT_TRUE(window->rect().contains(QRect(part->mapTo(window.get(), QPoint(0, 0)), part->size())))
                << part->accessibleName().toStdString() << " at " << size.width();
        }
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
    EXPECT_FALSE(window->evidence()->isVisible());
    QTest::keyClick(lanes(), Qt::Key_Space);
    EXPECT_TRUE(window->evidence()->isVisible());
    EXPECT_TRUE(window->findings_panel()->isVisible());
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
    EXPECT_NE(first_of("interrupt 0 · main"), merged.size()) << "each says whose it is";
    EXPECT_NE(first_of("· cop"), merged.size());
    QTest::keyClick(window.get(), Qt::Key_C);
    EXPECT_EQ(lanes()->headings(), apart);
}

TEST_F(Window, EvenStepsGiveEachChangeTheSameWidth) {
    open_demo();
    window->go_to_finding(1);  // the late interrupt: little happens for long, then much at once
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
    EXPECT_NE(window->health_text().indexOf("whole"), -1);
}

}  // namespace
}  // namespace mt::app
