// The first page of the guide, step by step, as a person would follow it: a test for each.
#include <gtest/gtest.h>

#include <QAbstractButton>
#include <QApplication>
#include <QClipboard>
#include <QComboBox>
#include <QListView>
#include <QProcess>
#include <QSignalSpy>
#include <QTest>
#include <QToolButton>

#include "measure/kinds/kinds.h"
#include "measure/refs.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class FirstTenMinutes : public testing::Test {
  protected:
    void SetUp() override { window = shown_window(); }
    void open_demonstration() {
        QSignalSpy finished(&window->document(), &Document::finished);
        QAbstractButton* card = nullptr;
        for (auto* c : window->desk().start_page()->findChildren<QAbstractButton*>("start_card"))
            if (c->text() == "A night that went wrong") card = c;
        ASSERT_NE(card, nullptr);
        QTest::mouseClick(card, Qt::LeftButton);
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
        window->activateWindow();
        ASSERT_TRUE(QTest::qWaitFor([&] { return QApplication::focusWidget() != nullptr; }));
    }
    void press(Qt::Key key, Qt::KeyboardModifiers with = Qt::NoModifier) {
        QWidget* focus = QApplication::focusWidget();
        QTest::keyClick(focus != nullptr ? focus : window.get(), key, with);
    }
    const Finding& finding(std::size_t i) const { return window->document().findings()[i]; }
    std::unique_ptr<MainWindow> window;
};

// The steps of the guide, by their numbers, are the tests of this file.
TEST_F(FirstTenMinutes, EveryStepOfTheGuideHasATest) {
    const std::string guide = test::read_text(std::string(MT_DOCS) + "/user-guide.md");
    EXPECT_EQ(guide.find("\n## "), guide.find("\n## Your first ten minutes")) << "it is the first page";
    std::size_t steps = 0;
    for (const std::string& line : test::lines(guide)) {
        if (line == "## Open a recording") break;
        steps += line.starts_with("### " + std::to_string(steps + 1) + ". ") ? 1 : 0;
    }
    std::size_t tests = 0;
    const testing::TestSuite* suite = testing::UnitTest::GetInstance()->current_test_suite();
    for (int i = 0; i < suite->total_test_count(); ++i)
        tests += std::string(suite->GetTestInfo(i)->name()).starts_with("Step") ? 1 : 0;
    EXPECT_EQ(steps, 10U);
    EXPECT_EQ(tests, steps);
}

TEST_F(FirstTenMinutes, Step1OpensTheDemonstration) {
    open_demonstration();
    EXPECT_TRUE(window->desk().lanes()->isVisible());
    EXPECT_FALSE(window->desk().ridge()->cairns().empty());
}

TEST_F(FirstTenMinutes, Step2LeadsEveryViewToTheFault) {
    open_demonstration();
    press(Qt::Key_F);
    EXPECT_EQ(finding(0).title, "BusFault");
    EXPECT_EQ(window->desk().findings_panel()->current(), 0);
    const Viewpoint& view = window->desk().viewpoint();
    EXPECT_LE(view.from(), finding(0).begin);
    EXPECT_GE(view.to(), finding(0).begin);
    EXPECT_TRUE(window->desk().evidence()->in_front(window->desk().footsteps()));
    EXPECT_TRUE(window->desk().measures_panel()->isVisible());
}

TEST_F(FirstTenMinutes, Step3GoesToTheLateInterrupt) {
    open_demonstration();
    press(Qt::Key_F);
    press(Qt::Key_F);
    EXPECT_EQ(finding(1).title, "ENC_INDEX entered 64.3 µs late");
    EXPECT_NE(finding(1).cause.find("interrupts were masked by focus"), std::string::npos);
    EXPECT_EQ(window->desk().findings_panel()->current(), 1);
}

TEST_F(FirstTenMinutes, Step4ShowsFiguresAndGoesToTheLongest) {
    open_demonstration();
    press(Qt::Key_F);
    press(Qt::Key_F);
    const auto selected = [&] { return window->desk().viewpoint().selection(); };
    ASSERT_EQ(selected().lane, finding(1).lane) << "the finding selects its execution";
    press(Qt::Key_L);
    const auto longest = selected();
    press(Qt::Key_N);
    EXPECT_EQ(selected().lane, longest.lane);
    EXPECT_FALSE(selected() == longest);
    press(Qt::Key_P);
    EXPECT_TRUE(selected() == longest);
}

TEST_F(FirstTenMinutes, Step5MeasuresFromAToB) {
    open_demonstration();
    press(Qt::Key_A);
    const Time a = window->desk().viewpoint().cursor();
    Lanes* lanes = window->desk().lanes();
    QTest::mouseClick(lanes, Qt::LeftButton, {}, QPoint(lanes->width() * 2 / 3, lanes->height() - 8));
    press(Qt::Key_B);
    const Viewpoint& view = window->desk().viewpoint();
    ASSERT_TRUE(view.a() && view.b());
    EXPECT_EQ(*view.a(), a);
    EXPECT_GT(*view.b(), a);
    press(Qt::Key_C, Qt::ControlModifier | Qt::ShiftModifier);
    EXPECT_TRUE(QApplication::clipboard()->text().contains("cycles"))
        << QApplication::clipboard()->text().toStdString();
    press(Qt::Key_Escape);
    EXPECT_FALSE(view.a());
}

TEST_F(FirstTenMinutes, Step6FindsAVariable) {
    open_demonstration();
    press(Qt::Key_Slash);
    QTest::keyClicks(QApplication::focusWidget(), "axis_error");
    QTest::keyClick(QApplication::focusWidget(), Qt::Key_Return);
    const LaneId lane = window->desk().viewpoint().selection().lane;
    ASSERT_EQ(lane.kind, &values_kind());
    EXPECT_EQ(window->document().trail()->tasks.values[lane.index].name, "axis_error");
}

TEST_F(FirstTenMinutes, Step7ShowsCodeAndWalksIt) {
    open_demonstration();
    press(Qt::Key_F);
    press(Qt::Key_F2);
    EXPECT_EQ(window->desk().arrangement().name(), Arrangement::Name::code);
    EXPECT_TRUE(window->desk().footsteps()->isVisible());
    EXPECT_TRUE(window->desk().source()->isVisible());
    press(Qt::Key_F2);
    EXPECT_EQ(window->desk().arrangement().name(), Arrangement::Name::timing);
}

TEST_F(FirstTenMinutes, Step8FindsOutHowBytesAreRead) {
    QSignalSpy finished(&window->document(), &Document::finished);
    for (auto* c : window->desk().start_page()->findChildren<QAbstractButton*>("start_card"))
        if (c->text() == "The raw bytes") QTest::mouseClick(c, Qt::LeftButton);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000)) << window->notice_text().toStdString();
    BytesStrip* strip = window->desk().bytes();
    ASSERT_TRUE(strip->isVisible());
    EXPECT_TRUE(strip->findChild<QComboBox*>("bytes_guesses")->currentText().startsWith("ITM"));
    EXPECT_TRUE(strip->findChild<QLabel*>("bytes_why")->text().contains("?")) << "asks what the bytes cannot tell";
    strip->set_image(QString::fromStdString(test::demo("larkspur.elf")));
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 1; }, 20'000));
    EXPECT_NE(window->document().recording()->images[0], nullptr);
}

TEST_F(FirstTenMinutes, Step9SetsASettingRight) {
    open_demonstration();
    press(Qt::Key_T, Qt::ControlModifier);
    TargetForm* form = window->desk().target().form();
    ASSERT_TRUE(form->isVisible());
    form->show_part("core", 0);
    auto* clock = form->findChild<QLineEdit*>("key_clock_hz");
    ASSERT_NE(clock, nullptr);
    clock->setFocus();
    clock->selectAll();
    QSignalSpy finished(&window->document(), &Document::finished);
    QTest::keyClicks(clock, "60000000");
    QTest::keyClick(clock, Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    EXPECT_TRUE(window->notice_text().startsWith("clock_hz set to 60000000.\nBefore: "))
        << window->notice_text().toStdString();
    QTest::mouseClick(form->findChild<QAbstractButton*>("target_undo"), Qt::LeftButton);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 1; }, 20'000));
    EXPECT_EQ(window->document().recording()->target.cores[0].clock_hz, 120'000'000U);
}

TEST_F(FirstTenMinutes, Step10LetsAScriptDoIt) {
    QProcess mtrail;
    mtrail.start(MT_CLI, {"find", QString::fromStdString(test::demo("larkspur.target.toml")), "--fail-if", "fault"});
    ASSERT_TRUE(mtrail.waitForFinished(60'000));
    EXPECT_EQ(mtrail.exitCode(), 1);
    EXPECT_TRUE(mtrail.readAllStandardOutput().startsWith("1. BusFault"));
}

}  // namespace
}  // namespace mt::app
