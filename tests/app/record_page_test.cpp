// The record page, driven by clicks and keys on the real window against a real board process.
#include <QApplication>
#include <QDialog>
#include <QLabel>
#include <QMessageBox>
#include <QSettings>
#include <QTest>
#include <QTimer>

#include <gtest/gtest.h>

#include "measure/refs.h"
#include "process.h"
#include "record/line_check_dialog.h"
#include "shown_window.h"

namespace mt::app {
namespace {

using test::Board;

class RecordingPage : public ::testing::Test {
  protected:
    void SetUp() override { window = shown_window(); }
    void write_recipe(const std::string& connect, const std::string& rest) {
        std::filesystem::copy(MT_DEMO "/larkspur.target.toml", folder / "larkspur.target.toml");
        std::filesystem::copy(MT_DEMO "/larkspur.elf", folder / "larkspur.elf");
        std::filesystem::copy(MT_DEMO "/larkspur.svd", folder / "larkspur.svd");
        test::write_file(folder / "r.recipe.toml", test::recipe_text_for(connect, rest, "larkspur.target.toml"));
    }
    std::string both(const Board& b) { return "debug = \"" + b.gdb() + "\"\n" + test::tcp(b.trace()); }
    void click(const char* name) {
        auto* b = window->findChild<QPushButton*>(name);
        ASSERT_NE(b, nullptr) << name;
        ASSERT_TRUE(b->isVisible()) << name;
        QTest::mouseClick(b, Qt::LeftButton);
    }
    bool wait_for(std::function<bool()> is, int ms = 60'000) { return QTest::qWaitFor(is, ms); }
    /// Opens the recipe and records until so much is there to see.
    void record_until(Time shown) {
        window->open(QString::fromStdString(folder / "r.recipe.toml"));
        click("record_start");
        ASSERT_TRUE(wait_for([&] { return window->desk().viewpoint().end() > shown; }))
            << window->notice_text().toStdString() << sane().toStdString();
    }
    void stop_and_keep() {
        click("record_keep");
        ASSERT_TRUE(wait_for([&] { return !window->desk().record().live().active(); }));
    }
    QString sane() { return window->desk().record().sane()->text(); }

    test::Folder folder;
    std::unique_ptr<MainWindow> window;
};

TEST_F(RecordingPage, TheStartPageLeadsToTheFormWhichTriesTheConnection) {
    Board board;
    click("start_record");
    EXPECT_TRUE(window->desk().record().form()->isVisible());
    EXPECT_TRUE(window->desk().record().strip()->isVisible());
    window->desk().record().form()->show_target(MT_DEMO "/larkspur.target.toml");
    QTest::keyClicks(window->findChild<QLineEdit*>("debug_main"), QString::fromStdString(board.gdb()));
    QTest::keyClicks(window->findChild<QLineEdit*>("address_main"), QString::fromStdString(board.trace()));
    click("recipe_test");
    ASSERT_TRUE(wait_for([&] { return window->desk().record().form()->report_text().contains("bad byte"); }))
        << window->desk().record().form()->report_text().toStdString();
    const QString report = window->desk().record().form()->report_text();
    EXPECT_TRUE(report.contains("core halted at 0x")) << report.toStdString();
    EXPECT_TRUE(report.contains("image matches")) << report.toStdString();
    EXPECT_TRUE(report.contains("kB/s of trace")) << report.toStdString();
    EXPECT_TRUE(report.contains("0 bad bytes")) << report.toStdString();
}

TEST_F(RecordingPage, TheFormKeepsWhatItHasNoFieldFor) {
    write_recipe("debug = \"127.0.0.1:1\"\nthread = 2\n" + test::tcp("127.0.0.1:2"), "[record]\nseconds = 1\n");
    window->open(QString::fromStdString(folder / "r.recipe.toml"));
    const auto recipe = window->desk().record().form()->recipe();
    ASSERT_TRUE(recipe) << recipe.error().text();
    ASSERT_EQ(recipe->connects.size(), 1U);
    EXPECT_EQ(recipe->connects[0].thread, 2U) << "the core's own thread of its server";
}

TEST_F(RecordingPage, AWrongFieldIsNamedWhereItStands) {
    click("start_record");
    window->desk().record().form()->show_target(MT_DEMO "/larkspur.target.toml");
    click("recipe_use");
    EXPECT_TRUE(window->desk().record().form()->report_text().contains("where its trace comes from is not given"))
        << window->desk().record().form()->report_text().toStdString();
}

TEST_F(RecordingPage, RecordsFromResetShowsItGrowingAndEndsInFindings) {
    Board board({"--fault-at", "1.2"});
    write_recipe(both(board),
                 "[before]\ncheck_image = true\nreset = true\nrun_to = { place = \"main\" }\n[record]\nseconds = "
                 "6\n[after]\nleave = \"halted\"\nbad_if = [\"fault\"]\n");
    window->open(QString::fromStdString(folder / "r.recipe.toml"));
    ASSERT_TRUE(window->desk().record().shown());
    EXPECT_TRUE(window->desk().record().strip()->text().startsWith("ready: the recording will be saved as"))
        << window->desk().record().strip()->text().toStdString();
    QTest::keyClick(window.get(), Qt::Key_F5);
    ASSERT_TRUE(
        wait_for([&] { return window->desk().record().live().recording() && window->desk().lanes()->isVisible(); }));
    ASSERT_TRUE(wait_for([&] { return window->desk().viewpoint().end() > Time::from_ms(900); }));
    EXPECT_TRUE(window->desk().viewpoint().following());
    EXPECT_TRUE(window->desk().record().stations()->station_text(RunState::check_image).contains("matches memory"));
    EXPECT_TRUE(window->desk().record().stations()->station_text(RunState::run_to).contains("main.c:5"));
    EXPECT_TRUE(sane().contains("main: ITM | synchronised")) << sane().toStdString();
    EXPECT_TRUE(sane().contains("0 bad bytes")) << sane().toStdString();
    EXPECT_TRUE(window->desk().record().strip()->text().contains("all of it decoded"))
        << window->desk().record().strip()->text().toStdString();
    const QRectF row =
        window->desk().lanes()->row_rect(interrupt_lane(0, *window->document().trail()->cores[0].lane_index(17)));
    EXPECT_GT(row.height(), 20) << "STEP_TIMER has a lane while the recording grows";
    ASSERT_TRUE(
        wait_for([&] { return !window->desk().record().live().active() && window->document().findings().size() > 0; }));
    EXPECT_TRUE(window->desk().findings_panel()->isVisible());
    EXPECT_TRUE(window->desk().record().stations()->station_text(RunState::stop).contains("the time was up"));
    EXPECT_EQ(window->document().findings()[0].kind, FindingKind::fault);
    EXPECT_TRUE(std::filesystem::exists(folder / "test-1.mtrail/trail.toml"));
    EXPECT_TRUE(window->desk().record().strip()->text().contains("saved as"))
        << window->desk().record().strip()->text().toStdString();
    click("record_close");
    EXPECT_TRUE(window->desk().evidence()->isVisible());
    EXPECT_FALSE(window->desk().record().strip()->isVisible());
}

TEST_F(RecordingPage, MovingAwayStopsFollowingAndEndFollowsAgain) {
    Board board;
    write_recipe(both(board), "[record]\nseconds = 30\n");
    record_until(Time::from_ms(1500));
    QTest::keyClick(window->desk().lanes(), Qt::Key_Left);
    EXPECT_FALSE(window->desk().viewpoint().following());
    const Time from = window->desk().viewpoint().from(), end = window->desk().viewpoint().end();
    ASSERT_TRUE(wait_for([&] { return window->desk().viewpoint().end() > end + Time::from_ms(300); }));
    EXPECT_EQ(window->desk().viewpoint().from(), from) << "the past stands still while the recording grows";
    EXPECT_TRUE(window->desk().record().strip()->findChild<QPushButton*>("record_follow")->isVisible());
    QTest::keyClick(window.get(), Qt::Key_End);
    EXPECT_TRUE(window->desk().viewpoint().following());
    ASSERT_TRUE(wait_for([&] { return window->desk().viewpoint().from() > from + Time::from_ms(300); }));
    stop_and_keep();
}

TEST_F(RecordingPage, TheCallStackOfTheCoProcessorGrowsWhileItIsRecorded) {
    Board board;
    for (const char* file : {"larkspur-live.target.toml", "larkspur.elf", "larkspur.svd", "larkspur-cop.elf"})
        std::filesystem::copy(std::string(MT_DEMO "/") + file, folder / file);
    test::write_file(folder / "r.recipe.toml",
                     test::recipe_text_for(test::tcp(board.trace_cop()), "[record]\nseconds = 30\n",
                                           "larkspur-live.target.toml", "cop\"\nprotocol = \"etrace"));
    record_until(Time::from_ms(900));
    const auto steps = [&] { return window->document().trail()->steps.at(0).steps; };
    const std::uint64_t before = steps();
    EXPECT_GT(before, 20'000U);
    EXPECT_TRUE(sane().contains("cop: E-Trace | synchronised")) << sane().toStdString();
    ASSERT_TRUE(wait_for([&] { return steps() > before + 50'000; }));
    EXPECT_GT(window->desk().lanes()->span_rect(call_ref(0, 1, 0)).height(), 8)
        << "the outermost calls are drawn though they last";
    // Coverage grows with it, and so do the counts in the source.
    CoveragePage* coverage = window->desk().coverage();
    window->desk().show_evidence(coverage);
    ASSERT_TRUE(wait_for([&] { return coverage->hint().contains("so far"); })) << coverage->hint().toStdString();
    const auto runs = [&] {
        std::uint64_t all = 0;
        for (const auto& of : window->desk().cover_book().book()->of)
            for (const std::uint64_t n : of.coverage.counts.executions) all += n;
        return all;
    };
    const std::uint64_t so_far = runs();
    EXPECT_GT(so_far, 0U);
    ASSERT_TRUE(wait_for([&] { return runs() > so_far; })) << "looked at again while it is recorded";
    stop_and_keep();
    ASSERT_TRUE(wait_for([&] { return !window->document().busy() && window->document().trail()->complete; }));
    EXPECT_GT(window->document().trail()->steps.at(0).tallies.size(), 10U);
}

TEST_F(RecordingPage, HoldingThePictureHoldsOnlyThePicture) {
    Board board;
    write_recipe(both(board), "[record]\nseconds = 30\n");
    record_until(Time::from_ms(500));
    QTest::keyClick(window->desk().lanes(), Qt::Key_Space);
    ASSERT_TRUE(window->desk().record().live().held());
    QTest::qWait(150);  // what was on its way
    const Time end = window->desk().viewpoint().end();
    const auto bytes = window->desk().record().live().state().bytes;
    ASSERT_TRUE(wait_for([&] { return window->desk().record().live().state().bytes > bytes + 50'000; }))
        << "recording goes on";
    EXPECT_EQ(window->desk().viewpoint().end(), end);
    QTest::keyClick(window->desk().lanes(), Qt::Key_Space);
    ASSERT_TRUE(wait_for([&] { return window->desk().viewpoint().end() > end; }));
    stop_and_keep();
}

TEST_F(RecordingPage, HaltingACoreSilencesItsTraceAndSaysWhereItStands) {
    Board board;
    write_recipe(both(board), "[record]\nseconds = 30\n");
    record_until(Time::from_ms(500));
    click("halt_main");
    ASSERT_TRUE(wait_for([&] { return window->findChild<QLabel*>("record_cores")->text().contains("halted at"); }));
    ASSERT_TRUE(wait_for([&] { return sane().contains("silent for"); })) << sane().toStdString();
    EXPECT_TRUE(sane().contains("the core stands, silent for")) << sane().toStdString();
    click("halt_main");
    ASSERT_TRUE(wait_for([&] { return window->findChild<QLabel*>("record_cores")->text().contains("running"); }));
    stop_and_keep();
}

TEST_F(RecordingPage, DiscardingAsksAndLeavesNothing) {
    Board board;
    write_recipe(both(board), "[record]\nseconds = 30\n");
    record_until(Time::from_ms(300));
    QTimer::singleShot(100, [] {
        for (auto* w : QApplication::topLevelWidgets())
            if (auto* box = qobject_cast<QMessageBox*>(w)) box->button(QMessageBox::Yes)->click();
    });
    click("record_discard");
    ASSERT_TRUE(wait_for([&] { return !window->desk().record().live().active(); }));
    EXPECT_FALSE(std::filesystem::exists(folder / "test-1.mtrail"));
    EXPECT_TRUE(window->notice_text().contains("discarded"));
}

TEST_F(RecordingPage, AConnectionThatFailsIsSaidAtItsStation) {
    const std::string nobody = "127.0.0.1:" + std::to_string(test::free_port());
    write_recipe(test::tcp(nobody), "[record]\nseconds = 1\n");
    window->open(QString::fromStdString(folder / "r.recipe.toml"));
    click("record_start");
    ASSERT_TRUE(wait_for([&] { return !window->desk().record().live().active(); }));
    EXPECT_TRUE(window->notice_text().contains("cannot connect")) << window->notice_text().toStdString();
    EXPECT_TRUE(window->notice_text().contains(QString::fromStdString(nobody)));
    EXPECT_EQ(window->desk().record().live().state().stations[RunState::connect].status, Station::Status::failed);
    EXPECT_TRUE(window->desk().record().form()->isVisible()) << "where it can be corrected";
}

TEST_F(RecordingPage, WrongFramingIsNoticedWhileItRecords) {
    Board board;
    write_recipe(both(board), "[record]\nseconds = 30\n");
    std::string target = test::read_text(folder / "larkspur.target.toml");
    target.replace(target.find("framing  = \"none\""), 17, "framing = \"tpiu\"\ntrace_id = 1\n");
    test::write_file(folder / "larkspur.target.toml", target);
    window->open(QString::fromStdString(folder / "r.recipe.toml"));
    click("record_start");
    ASSERT_TRUE(wait_for([&] { return sane().contains("data, but no synchronisation"); })) << sane().toStdString();
    EXPECT_TRUE(sane().contains("check framing and trace_id")) << sane().toStdString();
    stop_and_keep();
}

TEST_F(RecordingPage, TenFastClicksOnRecordMakeOneRecording) {
    Board board;
    write_recipe(both(board), "[record]\nseconds = 1\n");
    window->open(QString::fromStdString(folder / "r.recipe.toml"));
    for (int i = 0; i < 10; ++i) QTest::keyClick(window.get(), Qt::Key_F5);
    ASSERT_TRUE(wait_for([&] {
        return window->document().recording() && !window->desk().record().live().active() && !window->document().busy();
    }));
    EXPECT_TRUE(std::filesystem::exists(folder / "test-1.mtrail"));
    EXPECT_FALSE(std::filesystem::exists(folder / "test-2.mtrail"));
}

// The threads of a recording look at it until they have ended, also while the window is being taken down.
TEST_F(RecordingPage, GoingAwayWhileItRecordsEndsTheRecordingAndKeepsWhatCame) {
    Board board;
    write_recipe(both(board), "[record]\nseconds = 30\n");
    for (int turn = 1; turn <= 6; ++turn) {
        record_until(Time::from_ns(50'000'000));
        QTest::qWait(37 * turn);
        window.reset();
        const auto kept = open_recording(folder / ("test-" + std::to_string(turn) + ".mtrail"));
        ASSERT_TRUE(kept) << turn;
        window = shown_window();
    }
}

TEST_F(RecordingPage, TheLineCheckFindsTheWindowAndStoresItsMiddle) {
    Board board({"--phase", "1"});
    write_recipe(both(board), "[record]\nseconds = 1\n");
    window->open(QString::fromStdString(folder / "r.recipe.toml"));
    click("record_line");
    auto* dialog = window->findChild<LineCheckDialog*>();
    ASSERT_NE(dialog, nullptr);
    click("line_start");
    ASSERT_TRUE(wait_for([&] { return dialog->store()->isEnabled(); }, 30'000)) << dialog->text().toStdString();
    EXPECT_TRUE(dialog->text().startsWith("Phase 11 of 24 is the middle of a clean window 9 wide"))
        << dialog->text().toStdString();
    click("line_store");
    EXPECT_NE(test::read_text(folder / "larkspur.target.toml").find("phase  = 11"), std::string::npos);
    dialog->close();
}

}  // namespace
}  // namespace mt::app
