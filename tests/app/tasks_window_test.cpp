// Tasks in the window: real clicks and keys on the real window, and what the user then sees.
#include <gtest/gtest.h>

#include <QApplication>
#include <QClipboard>
#include <QComboBox>
#include <QContextMenuEvent>
#include <QGuiApplication>
#include <QHelpEvent>
#include <QMenu>
#include <QRegularExpression>
#include <QSignalSpy>
#include <QTest>
#include <QTimer>
#include <QToolTip>
#include <QWheelEvent>

#include "base/text.h"
#include "measure/refs.h"
#include "measure/states.h"
#include "shell/main_window.h"
#include "support.h"
#include "task_program.h"

namespace mt::app {
namespace {

// With ordinary spaces between groups of digits.
QString plain(QString text) { return text.replace(QChar(0x202F), QChar(' ')); }

class TasksWindow : public testing::Test {
  protected:
    void SetUp() override {
        window.resize(1280, 900);
        window.show();
        open(test::data("tasks/mount-a/trace"));
    }
    void open(const std::string& path) {
        window.open(QString::fromStdString(path));
        QSignalSpy finished(&window.document(), &Document::finished);
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    }
    const TaskTrail& tasks() { return window.document().trail()->tasks; }
    std::size_t task(const std::string& name) {
        for (std::size_t i = 0; i < tasks().tasks.size(); ++i)
            if (tasks().tasks[i].name == name) return i;
        ADD_FAILURE() << name;
        return 0;
    }
    QPoint in_task(std::size_t task, Time t) {
        return {static_cast<int>(window.desk().lanes()->x_of(t)),
                static_cast<int>(window.desk().lanes()->row_rect(task_lane(task)).center().y())};
    }
    // The page of who acts on whom, once its picture is there.
    InterplayPage* interplay_shown() {
        window.desk().evidence()->show_page("interplay");
        InterplayPage* page = window.desk().interplay();
        EXPECT_TRUE(QTest::qWaitFor([&] { return !page->picture()->interplay().edges.empty() && !page->busy(); }));
        return page;
    }
    void click_finding(const std::string& kind) {
        const auto& all = window.document().findings();
        for (std::size_t i = 0; i < all.size(); ++i)
            if (finding_kind_name(all[i].kind) == kind) {
                window.desk().navigator().go_to_finding(i);
                return;
            }
        ADD_FAILURE() << "no " << kind;
    }
    std::string view_task() {
        const LaneId lane = window.desk().viewpoint().selection().lane;
        return lane.kind != &tasks_kind() ? std::string() : tasks().tasks[lane.index].name;
    }
    // Which span of the selected lane is selected; there must be one.
    std::size_t selected() {
        EXPECT_TRUE(window.desk().viewpoint().selection().span);
        return window.desk().viewpoint().selection().span.value_or(SpanRef{}).index;
    }
    QString moment() { return window.desk().moment()->text(); }
    MainWindow window;
};

TEST_F(TasksWindow, ShowsTasksByPriorityBelowTheInterrupts) {
    const auto top = [&](const char* name) { return window.desk().lanes()->row_rect(task_lane(task(name))).top(); };
    EXPECT_LT(top("axis_ra"), top("axis_dec"));
    EXPECT_LT(top("axis_dec"), top("guide"));
    EXPECT_LT(top("guide"), top("journal"));
    EXPECT_LT(top("journal"), top("idle")) << "idle last";
    EXPECT_GT(top("axis_ra"), window.desk().lanes()->row_rect(interrupt_lane(0, 0)).top());
    EXPECT_EQ(window.desk().findings_panel()->list()->model()->rowCount(), 7);
    EXPECT_EQ(window.windowTitle(), "mount-a – Mindful Trail");
}

TEST_F(TasksWindow, TheInversionSaysWhoWaitsForWhom) {
    click_finding("priority_inversion");
    EXPECT_EQ(view_task(), "axis_dec");
    EXPECT_NE(moment().indexOf("waiting: axis_dec for axis state, held by weather"), -1) << moment().toStdString();
    EXPECT_EQ(window.findChild<QLabel*>("measures_name")->text(), "axis_dec");
    EXPECT_NE(plain(window.findChild<QLabel*>("measures_sub")->text()).indexOf("2 399 jobs"), -1)
        << window.findChild<QLabel*>("measures_sub")->text().toStdString();
    // A link in the strip leads to the holder.
    window.desk().navigator().go_to(job_ref(task("weather"), 21));
    EXPECT_EQ(view_task(), "weather");
}

TEST_F(TasksWindow, AClickSelectsAJobADoubleClickShowsItKeysWalk) {
    const std::size_t guide = task("guide");
    const TaskJob job = tasks().tasks[guide].jobs[40];
    window.desk().viewpoint().go_to(job.ready - Time::from_ms(30), job.end + Time::from_ms(30), {});
    QTest::mouseClick(window.desk().lanes(), Qt::LeftButton, {}, in_task(guide, job.start + Time{job.run.ps / 2}));
    EXPECT_EQ(view_task(), "guide");
    EXPECT_EQ(selected(), 40U);
    QTest::mouseDClick(window.desk().lanes(), Qt::LeftButton, {}, in_task(guide, job.start + Time{job.run.ps / 2}));
    EXPECT_LT((window.desk().viewpoint().to() - window.desk().viewpoint().from()).ps, job.response().ps * 2);
    window.desk().lanes()->setFocus();
    QTest::keyClick(window.desk().lanes(), Qt::Key_N);
    EXPECT_EQ(selected(), 41U);
    EXPECT_EQ(window.desk().viewpoint().cursor(), tasks().tasks[guide].jobs[41].ready);
    QTest::keyClick(window.desk().lanes(), Qt::Key_P);
    QTest::keyClick(window.desk().lanes(), Qt::Key_P);
    EXPECT_EQ(selected(), 39U);
}

TEST_F(TasksWindow, TheTooltipTakesTheResponseApart) {
    click_finding("priority_inversion");
    const std::size_t dec = task("axis_dec");
    const TaskJob job = tasks().tasks[dec].jobs[selected()];
    const QPoint at = in_task(dec, job.ready + Time{job.response().ps / 2});
    QHelpEvent help(QEvent::ToolTip, at, window.desk().lanes()->mapToGlobal(at));
    QApplication::sendEvent(window.desk().lanes(), &help);
    const QString text = QToolTip::text();
    EXPECT_NE(text.indexOf("waits for a lock: axis state, held by weather"), -1) << text.toStdString();
    EXPECT_NE(text.indexOf("11.0 ms waiting for locks"), -1) << text.toStdString();
    QToolTip::hideText();
}

TEST_F(TasksWindow, TablesOfTasksLocksAndQueuesLeadToTheWorst) {
    window.desk().show_measures(true);
    auto* page = window.desk().measures_page();
    FigureTable* all = page->table("tasks");
    EXPECT_TRUE(all->isVisible()) << "tasks first, where there are any";
    EXPECT_EQ(all->rows(), 10);
    page->filter()->setText("axis");
    EXPECT_EQ(all->rows(), 2);
    EXPECT_EQ(all->cell(1, "name"), "axis_dec");
    EXPECT_EQ(plain(all->cell(1, "count")), "2 399");
    const QRect row = all->visualRect(all->model()->index(1, 0));
    QTest::mouseClick(all->viewport(), Qt::LeftButton, {}, row.center());
    EXPECT_EQ(view_task(), "axis_dec");
    EXPECT_TRUE(page->isVisible()) << "a click leaves the table where it is";
    QTest::mouseDClick(all->viewport(), Qt::LeftButton, {}, row.center());
    EXPECT_FALSE(page->isVisible());
    EXPECT_TRUE(window.desk().lanes()->isVisible());
    page->filter()->clear();
    window.desk().show_measures(true);
    page->choose("locks");
    FigureTable* locks = page->table("locks");
    EXPECT_TRUE(locks->isVisible());
    EXPECT_EQ(locks->rows(), 4);
    locks->selectRow(0);
    QTest::keyClick(locks, Qt::Key_C, Qt::ControlModifier);
    EXPECT_NE(plain(QGuiApplication::clipboard()->text()).indexOf(QRegularExpression("axis state\t\\d+\t4847")), -1)
        << QGuiApplication::clipboard()->text().toStdString();
    page->choose("queues");
    EXPECT_EQ(page->table("queues")->cell(0, "name"), "link words");
    EXPECT_EQ(page->table("queues")->cell(0, "refused"), "0") << "nothing refused";
    page->choose("states");
    EXPECT_EQ(page->shown().id(), "queues") << "no value has a name here";
}

TEST_F(TasksWindow, TheTableOfStatesMeasuresWhatNamedValuesStoodFor) {
    std::string target = test::read_text(test::data("mount/mount.target.toml"));
    for (const std::string file : {"capture.bin", "firmware.elf"})
        target.replace(target.find("\"" + file), file.size() + 1, "\"" + test::data("mount/" + file));
    const std::string port = "name   = \"shutter\"\n";
    target.insert(target.find(port), "names = { 1 = \"settles\", 3 = \"open\" }\n");
    const test::Folder folder;
    test::write_file(folder / "a.target.toml", target);
    open(folder / "a.target.toml");
    window.desk().show_measures(true);
    auto* page = window.desk().measures_page();
    int tab = 0;
    while (page->choice()->tabText(tab) != "States") ++tab;
    QTest::mouseClick(page->choice(), Qt::LeftButton, {}, page->choice()->tabRect(tab).center());
    FigureTable* states = page->table("states");
    ASSERT_TRUE(states->isVisible());
    ASSERT_GE(states->rows(), 2);
    int open_row = -1;
    for (int i = 0; i < states->rows(); ++i)
        if (states->cell(i, "name") == "open") open_row = i;
    ASSERT_GE(open_row, 0);
    EXPECT_EQ(states->cell(open_row, "of"), "shutter");
    EXPECT_EQ(states->cell(open_row, "count"), "1");
    const StateRow row = state_rows(*window.document().trail())[static_cast<std::size_t>(open_row)];
    EXPECT_EQ(plain(states->cell(open_row, "max")).toStdString(), duration_text(row.worst_end - row.worst_begin));
    const QRect at = states->visualRect(states->model()->index(open_row, 0));
    QTest::mouseClick(states->viewport(), Qt::LeftButton, {}, at.center());
    QTest::mouseDClick(states->viewport(), Qt::LeftButton, {}, at.center());
    EXPECT_FALSE(page->isVisible());
    EXPECT_LE(window.desk().viewpoint().from(), row.worst_begin) << "its longest stay, all of it";
    EXPECT_GE(window.desk().viewpoint().to(), row.worst_end);
}

TEST_F(TasksWindow, ADotOverTimeLeadsToItsJob) {
    window.desk().navigator().go_to(job_ref(task("axis_dec"), 3));
    auto* dots = window.desk().measures_panel()->over_time();
    QTest::qWait(60);
    const TaskLane& lane = tasks().tasks[task("axis_dec")];
    std::size_t longest = 0;
    for (std::size_t i = 0; i < lane.jobs.size(); ++i)
        if (lane.jobs[i].whole() && lane.jobs[i].response() > lane.jobs[longest].response()) longest = i;
    auto* plot = dots->findChild<QWidget*>();
    QTest::mouseClick(plot, Qt::LeftButton, {}, dots->position_of(job_ref(task("axis_dec"), longest)).toPoint());
    EXPECT_EQ(selected(), longest);
    EXPECT_EQ(view_task(), "axis_dec");
}

TEST_F(TasksWindow, SystemEventsFollowTheCursorAndAreSearched) {
    auto* table = window.desk().trace_events();
    ASSERT_TRUE(table->isVisible());
    EXPECT_EQ(table->row_count(), 97'328U);
    click_finding("priority_inversion");
    QStringList row;
    EXPECT_TRUE(QTest::qWaitFor([&] {
        row = table->current_row() ? table->row_text(*table->current_row()) : QStringList();
        return row.mid(1, 2) == QStringList{"mutex_take_blocked", "axis state"};
    })) << row.join(" | ").toStdString();
    const std::uint64_t before = *table->current_row();
    table->find_text("limit switch", true, [](const QString& why_not) { EXPECT_EQ(why_not, QString()); });
    EXPECT_TRUE(QTest::qWaitFor([&] {
        row = table->current_row() ? table->row_text(*table->current_row()) : QStringList();
        return row.value(2) == "limit switch";
    })) << row.join(" | ").toStdString();
    EXPECT_GT(*table->current_row(), before);
    EXPECT_TRUE(QTest::qWaitFor([&] { return std::abs(window.desk().viewpoint().cursor().seconds() - 9.15) < 0.001; }))
        << "the first of the storm";
    QTest::keyClick(table, Qt::Key_Down, Qt::ShiftModifier);
    QTest::keyClick(table, Qt::Key_C, Qt::ControlModifier);
    EXPECT_TRUE(QTest::qWaitFor([&] { return QGuiApplication::clipboard()->text().count('\n') == 2; }));
}

TEST_F(TasksWindow, GoesToATaskOrALockByName) {
    EXPECT_TRUE(window.desk().navigator().go_to_text("dome"));
    EXPECT_EQ(view_task(), "dome");
    EXPECT_TRUE(window.desk().navigator().go_to_text("star table lock"));
    EXPECT_FALSE(window.desk().navigator().go_to_text("no such thing"));
    EXPECT_NE(window.notice_text().indexOf("name of anything in the lanes"), -1);
}

TEST_F(TasksWindow, ALossIsToldAndTheFaultComesFirst) {
    open(test::data("tasks/mount-c/trace"));
    EXPECT_EQ(window.document().findings()[0].kind, FindingKind::fault);
    EXPECT_NE(window.health_text().indexOf("1 gap (469 ms)"), -1) << window.health_text().toStdString();
    window.desk().viewpoint().set_cursor(Time::from_ms(2300));
    EXPECT_NE(moment().indexOf("gap"), -1) << moment().toStdString();
}

TEST_F(TasksWindow, TheLaneThatAFindingIsAboutIsInSight) {
    open(test::data("tasks/mount-b/trace"));
    window.resize(1024, 700);
    for (int i = 0; i < window.desk().findings_panel()->list()->model()->rowCount(); ++i) {
        window.desk().navigator().go_to_finding(static_cast<std::size_t>(i));
        const LaneId lane = window.desk().viewpoint().selection().lane;
        ASSERT_EQ(lane.kind, &tasks_kind());
        const QRectF row = window.desk().lanes()->row_rect(lane);
        EXPECT_GE(row.top(), 0) << window.document().findings()[static_cast<std::size_t>(i)].title;
        EXPECT_LE(row.bottom(), window.desk().lanes()->height())
            << window.document().findings()[static_cast<std::size_t>(i)].title;
    }
}

TEST_F(TasksWindow, AnotherTraceWithoutMetadataLeavesWhatWasOpen) {
    test::Folder folder;
    test::write_file(folder / "metadata", std::string("trace { major = 9; };"));
    window.open(QString::fromStdString(folder.path()));
    QSignalSpy failed(&window.document(), &Document::failed);
    ASSERT_TRUE(QTest::qWaitFor([&] { return failed.count() > 0; }));
    QTest::qWait(20);
    EXPECT_NE(window.notice_text().indexOf("metadata:1:"), -1) << window.notice_text().toStdString();
    EXPECT_EQ(window.windowTitle(), "mount-a – Mindful Trail");
}

TEST_F(TasksWindow, FastClicksAndOddSizesKeepItWhole) {
    for (int i = 0; i < 10; ++i) {
        QTest::mouseClick(window.desk().lanes(), Qt::LeftButton, {}, QPoint(300 + 60 * i, 250 + 30 * i));
        window.desk().navigator().go_to_finding(static_cast<std::size_t>(i % 5));
    }
    for (const QSize size : {QSize(1024, 700), QSize(2560, 1440), QSize(1280, 800)}) {
        window.resize(size);
        QTest::qWait(20);
        EXPECT_GT(window.desk().lanes()->width(), 300);
        EXPECT_FALSE(window.grab().isNull());
    }
}

TEST_F(TasksWindow, ARightClickOnATaskChangesWhereItsJobsEnd) {
    test::Folder folder;
    test::write_jobs_of_two_parts(folder / "trace", 100);
    open(folder / "trace");
    const auto jobs = [&] { return tasks().tasks[task("guide")].jobs.size(); };
    const std::size_t before = jobs();
    window.desk().viewpoint().go_to(Time::from_ms(50), Time::from_ms(60), Time::from_ms(55));
    QSignalSpy finished(&window.document(), &Document::finished);
    QStringList offered;
    QTimer::singleShot(0, &window, [&] {
        auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
        ASSERT_NE(menu, nullptr);
        for (QAction* a : menu->actions()) offered << a->text();
        for (QAction* a : menu->actions())
            if (a->text() == "at any wait but for a lock") a->trigger();
        menu->close();
    });
    const QPoint at = in_task(task("guide"), Time::from_ms(55));
    QContextMenuEvent click(QContextMenuEvent::Mouse, at, window.desk().lanes()->mapToGlobal(at));
    QApplication::sendEvent(window.desk().lanes(), &click);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    EXPECT_TRUE(offered.contains("at its wait for the next job, as the trace says"))
        << offered.join("; ").toStdString();
    EXPECT_EQ(jobs(), 2 * before) << "a job is now each stretch between waits";
    EXPECT_EQ(window.desk().viewpoint().from(), Time::from_ms(50)) << "the lanes stay where they were";
    EXPECT_EQ(view_task(), "guide");
    EXPECT_NE(window.desk().findChild<QLabel*>("measures_sub")->text().indexOf("a job ends at any wait"), -1);
    open(folder / "trace");
    EXPECT_EQ(jobs(), 2 * before) << "opened again, it still holds";
    EXPECT_TRUE(window.notice_text().contains("guide: a job ends at any wait")) << window.notice_text().toStdString();
    window.document().set_job_rule("guide", JobRule{});
    ASSERT_TRUE(QTest::qWaitFor([&] { return !window.document().busy(); }, 20'000));
    EXPECT_EQ(jobs(), before);
    open(folder / "trace");
    EXPECT_EQ(jobs(), before) << "the trace's own rule holds again";
    EXPECT_TRUE(window.document().job_rules().empty());
}

TEST_F(TasksWindow, TheWayToEachFirstRunIsDrawn) {
    const QImage plain_lanes = window.desk().lanes()->grab().toImage();
    QTest::keyClick(&window, Qt::Key_S);
    Time last{};
    for (const auto& t : tasks().tasks)
        if (t.ran) last = std::max(last, t.first_run);
    EXPECT_EQ(window.desk().viewpoint().from(), Time{});
    EXPECT_GE(window.desk().viewpoint().to(), last);
    EXPECT_LT(window.desk().viewpoint().to().ps, 2 * last.ps + Time::from_ms(1).ps) << "and not much more";
    const QImage shown = window.desk().lanes()->grab().toImage();
    QTest::keyClick(&window, Qt::Key_S);
    EXPECT_NE(window.desk().lanes()->grab().toImage(), shown) << "the same key takes it away";
    EXPECT_NE(plain_lanes, shown);
}

TEST_F(TasksWindow, OverTimeShowsRunningTimeHeldUpTimeAndLoad) {
    window.desk().viewpoint().select(task_lane(task("guide")));
    auto* choice = window.findChild<QComboBox*>("over_time_choice");
    ASSERT_TRUE(choice->isVisible());
    OverTimePlot* plot = window.desk().measures_panel()->over_time();
    const TaskLane& lane = tasks().tasks[task("guide")];
    const auto choose = [choice](int what) {
        choice->setCurrentIndex(what);
        emit choice->activated(what);
    };
    const auto height = [&](int what) {
        choose(what);
        return plot->position_of(job_ref(task("guide"), 10)).y();
    };
    ASSERT_TRUE(lane.jobs[10].whole());
    const double response = height(0);
    EXPECT_GE(height(2), 0);
    EXPECT_NE(height(1), response) << "running time is another length, on its own scale";
    choose(3);
    const Time window_length = plot->window();
    EXPECT_GT(window_length.ps, 0);
    EXPECT_LE(window.document().trail()->end.ps / window_length.ps, 120);
    QTest::mouseClick(plot->findChild<QWidget*>(), Qt::LeftButton, {}, plot->rect().center());
    EXPECT_EQ(window.desk().viewpoint().to() - window.desk().viewpoint().from(), window_length)
        << "a click shows that window";
    window.desk().viewpoint().select(interrupt_lane(0, 0));
    EXPECT_EQ(choice->itemText(1), "over time: own time") << "an interrupt has other lengths than a task";
    EXPECT_EQ(choice->count(), 3);
}

TEST_F(TasksWindow, MarksStandInLanesOfTheirOwn) {
    open(MT_DEMO "/larkspur.target.toml");
    ASSERT_EQ(tasks().marks.size(), 1U);
    const MarkLane& marks = tasks().marks[0];
    const Time first = marks.marks[0].time;
    window.desk().viewpoint().go_to(first - Time::from_ms(1), first + Time::from_ms(1), first);
    const QRectF row = window.desk().lanes()->row_rect({&marks_kind(), 0});
    ASSERT_FALSE(row.isEmpty());
    QWheelEvent wheel(QPointF(10, 200), QPointF(10, 200), {}, {0, -2400}, Qt::NoButton, {}, Qt::NoScrollPhase, false);
    QApplication::sendEvent(window.desk().lanes(), &wheel);
    const QRectF now = window.desk().lanes()->row_rect({&marks_kind(), 0});
    const QPoint at(static_cast<int>(window.desk().lanes()->x_of(first)), static_cast<int>(now.center().y()));
    QHelpEvent ask(QEvent::ToolTip, at, window.desk().lanes()->mapToGlobal(at));
    QApplication::sendEvent(window.desk().lanes(), &ask);
    EXPECT_NE(QToolTip::text().indexOf("frame = 2"), -1) << QToolTip::text().toStdString();
}

TEST_F(TasksWindow, InterplayShowsWhoActsOnWhomAndLeadsToTheWorst) {
    InterplayPage* page = interplay_shown();
    InterplayPicture* picture = page->picture();
    const Interplay& of = picture->interplay();
    // A lock that somebody had to wait for.
    std::size_t edge = 0;
    for (std::size_t i = 0; i < of.edges.size(); ++i)
        if (of.edges[i].deed == Deed::locks && of.edges[i].worst_wait > of.edges[edge].worst_wait) edge = i;
    ASSERT_EQ(of.edges[edge].deed, Deed::locks);
    ASSERT_GT(of.edges[edge].waits, 0u);
    const QPoint at = picture->label_of_edge(edge).toPoint();
    QTest::mouseClick(picture, Qt::LeftButton, {}, at);
    EXPECT_EQ(picture->edge(), edge);
    EXPECT_TRUE(page->heading().contains(QString::fromStdString(of.nodes[of.edges[edge].to].name)))
        << page->heading().toStdString();
    ASSERT_TRUE(
        QTest::qWaitFor([&] { return page->calls()->model()->rowCount() >= static_cast<int>(of.edges[edge].count); }));
    EXPECT_TRUE(page->calls()->model()->index(0, 5).data().toString().startsWith("held "));
    // The list leads the cursor.
    page->calls()->selectRow(1);
    EXPECT_EQ(page->calls()->model()->index(1, 0).data().toString().toStdString(),
              moment_text(window.desk().viewpoint().cursor()));
    QTest::mouseDClick(picture, Qt::LeftButton, {}, at);
    const Viewpoint& view = window.desk().viewpoint();
    EXPECT_LE(view.from(), of.edges[edge].worst_from);
    EXPECT_GE(view.to(), of.edges[edge].worst_to);
    EXPECT_LT((view.to() - view.from()).ps, 3 * of.edges[edge].worst_wait.ps);
    EXPECT_EQ(view.selection().lane, of.actor(of.edges[edge]).lane);
}

TEST_F(TasksWindow, TheHistoryOfAnObjectIsListedAndFiltered) {
    InterplayPage* page = interplay_shown();
    InterplayPicture* picture = page->picture();
    const Interplay& of = picture->interplay();
    const auto queue = static_cast<std::size_t>(
        std::find_if(of.nodes.begin(), of.nodes.end(), [](const auto& n) { return n.sort == InterplayNode::queue; }) -
        of.nodes.begin());
    ASSERT_LT(queue, of.nodes.size());
    QTest::mouseClick(picture, Qt::LeftButton, {}, picture->middle_of_node(queue).toPoint());
    EXPECT_EQ(window.desk().viewpoint().selection().lane, of.nodes[queue].lane) << "lanes and panel follow";
    const QueueLane& lane = tasks().queues[static_cast<std::size_t>(of.nodes[queue].number)];
    QAbstractItemModel* rows = page->calls()->model();
    ASSERT_TRUE(QTest::qWaitFor([&] { return rows->rowCount() >= static_cast<int>(lane.ops.size()); }));
    const int all = rows->rowCount();
    page->findChild<QLineEdit*>("interplay_filter")->setText("receive");
    EXPECT_EQ(rows->rowCount(), static_cast<int>(lane.received) + 1) << "and one who still waits at the end";
    EXPECT_LT(rows->rowCount(), all);
    page->calls()->setFocus();
    QTest::keyClick(page->calls(), Qt::Key_C, Qt::ControlModifier);  // nothing is selected: all rows
    EXPECT_TRUE(QGuiApplication::clipboard()->text().startsWith("time (ns)\twho\tdoes\tobject\twaited (ns)\tresult\n"));
    // Of what is in view only; keys walk over the edges.
    window.desk().viewpoint().show(Time::from_ms(100), Time::from_ms(110));
    page->set_in_view(true);
    EXPECT_TRUE(QTest::qWaitFor([&] { return picture->interplay().to == window.desk().viewpoint().to(); }));
    EXPECT_TRUE(QTest::qWaitFor([&] { return !page->busy(); }));
    picture->select_node(std::nullopt);
    picture->setFocus();
    QTest::keyClick(picture, Qt::Key_Right);
    EXPECT_EQ(picture->edge(), 0u);
    QTest::keyClick(picture, Qt::Key_Left);
    EXPECT_EQ(picture->edge(), picture->interplay().edges.size() - 1);
}

}  // namespace
}  // namespace mt::app
