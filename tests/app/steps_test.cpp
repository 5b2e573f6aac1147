// Calls, footsteps and functions in the real window: what a person would see after clicks and keys.
#include <QApplication>
#include <QLabel>
#include <QSignalSpy>
#include <QTest>

#include "base/text.h"
#include "main_window.h"
#include "support.h"

namespace mt::app {
namespace {

class StepsPage : public ::testing::Test {
  protected:
    void SetUp() override {
        window = std::make_unique<MainWindow>();
        window->resize(1280, 800);
        window->show();
        ASSERT_TRUE(QTest::qWaitForWindowExposed(window.get()));
        QSignalSpy finished(&window->session(), &Session::finished);
        window->open(QString::fromStdString(test::data("steps/arm-etm-mount-cc/recording.target.toml")));
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
        QTest::qWait(60);
    }
    void TearDown() override { window.reset(); }

    const StepTrail& steps() const { return window->session().trail()->steps[0]; }
    QString name_of(const Lanes::Call& call) const {
        const auto f = static_cast<std::uint32_t>(steps().levels[call.level][call.index].function);
        return QString::fromStdString((*steps().functions)[f].name);
    }
    CallSpan span(const Lanes::Call& call) const { return steps().levels[call.level][call.index]; }
    // The longest call of a function, as a double click in the table shows it.
    void choose(const QString& function) {
        ASSERT_TRUE(window->functions()->choose(function));
        ASSERT_TRUE(window->lanes()->call());
    }
    bool rows_arrive() {
        return QTest::qWaitFor(
            [&] {
                const auto now = window->footsteps()->current();
                return now && !window->footsteps()->texts(*now).isEmpty();
            },
            5000);
    }

    std::unique_ptr<MainWindow> window;
};

TEST_F(StepsPage, TheFunctionsTableShowsTheFiguresAndLeadsToTheLongestCall) {
    QTableView* table = window->functions()->table();
    ASSERT_TRUE(table->isVisible());
    EXPECT_EQ(table->model()->rowCount(), 44);
    EXPECT_EQ(table->model()->index(0, 0).data().toString(), "idle_task");
    int row = 0;
    while (table->model()->index(row, 0).data().toString() != "refraction") ++row;
    const QRect cell = table->visualRect(table->model()->index(row, 0));
    QTest::mouseClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    QTest::mouseDClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    ASSERT_TRUE(window->lanes()->call());
    EXPECT_EQ(name_of(*window->lanes()->call()), "refraction");
    // The table counts without handlers that came in between; the lanes show them.
    EXPECT_GE(span(*window->lanes()->call()).length.ns(),
              table->model()->index(row, 8).data(FunctionModel::kSortRole).toDouble());
    EXPECT_GT(window->lanes()->call_rect(*window->lanes()->call()).width(), 300);
}

TEST_F(StepsPage, AFunctionLeftOutHandsItsShareToTheOthers) {
    QTableView* table = window->functions()->table();
    EXPECT_EQ(table->model()->index(0, 4).data().toString(), "97.9 %");
    window->functions()->leave_out("idle_task", true);
    EXPECT_EQ(table->model()->index(0, 4).data().toString(), "0.000 %");
    EXPECT_GT(table->model()->index(1, 4).data(FunctionModel::kSortRole).toDouble(), 0.15);
    EXPECT_TRUE(window->functions()
                    ->findChild<QLabel*>("functions_hint")
                    ->text()
                    .contains("Left out of the shares: idle_task"));
}

TEST_F(StepsPage, AClickOnACallSelectsItAndSaysWhoWasOnTheStack) {
    choose("refraction");
    const Lanes::Call call = *window->lanes()->call();
    const QPoint middle = window->lanes()->call_rect(call).center().toPoint();
    window->lanes()->setFocus();
    QTest::mouseClick(window->lanes(), Qt::LeftButton, {}, middle);
    ASSERT_EQ(window->lanes()->call(), call);
    EXPECT_GT(window->viewpoint().cursor(), span(call).begin);
    EXPECT_LT(window->viewpoint().cursor(), span(call).end());
    const QString words = window->findChild<QLabel*>("moment_words")->text();
    EXPECT_TRUE(words.contains("refraction")) << words.toStdString();
}

TEST_F(StepsPage, KeysWalkToTheNextCallTheLongestTheCallerAndBack) {
    choose("refraction");
    const Lanes::Call longest = *window->lanes()->call();
    window->lanes()->setFocus();
    QTest::keyClick(window.get(), Qt::Key_N);
    const Lanes::Call next = *window->lanes()->call();
    EXPECT_EQ(name_of(next), "refraction");
    EXPECT_GT(span(next).step, span(longest).step);
    QTest::keyClick(window.get(), Qt::Key_P);
    EXPECT_EQ(*window->lanes()->call(), longest);
    QTest::keyClick(window.get(), Qt::Key_N);
    QTest::keyClick(window.get(), Qt::Key_L);
    EXPECT_EQ(*window->lanes()->call(), longest);
    QTest::keyClick(window->lanes(), Qt::Key_Up);
    const Lanes::Call caller = *window->lanes()->call();
    EXPECT_EQ(caller.level + 1, longest.level);
    EXPECT_LE(span(caller).begin, span(longest).begin);
    EXPECT_GE(span(caller).end(), span(longest).end());
    QTest::keyClick(window->lanes(), Qt::Key_Down);
    EXPECT_EQ(window->lanes()->call()->level, longest.level);
}

TEST_F(StepsPage, FootstepsFollowTheCursorAndLeadIt) {
    window->evidence()->setCurrentWidget(window->footsteps());
    choose("refraction");
    const CallSpan call = span(*window->lanes()->call());
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->footsteps()->current() == std::uint64_t{call.step}; }, 5000));
    ASSERT_TRUE(rows_arrive());
    const QStringList first = window->footsteps()->texts(call.step);
    EXPECT_EQ(first[4], "refraction");
    EXPECT_EQ(first[2].toStdString(),
              hex_text((*steps().functions)[static_cast<std::uint32_t>(call.function)].address, 8));
    EXPECT_TRUE(first[5].startsWith("axis.c:")) << first[5].toStdString();
    const Time before = window->viewpoint().cursor();
    QTest::keyClick(window->footsteps(), Qt::Key_Down);
    EXPECT_EQ(window->footsteps()->current(), std::uint64_t{call.step} + 1);
    EXPECT_GE(window->viewpoint().cursor(), before);
    QTest::keyClick(window->footsteps(), Qt::Key_Down, Qt::ShiftModifier);
    EXPECT_NE(window->footsteps()->texts(*window->footsteps()->current())[5],
              window->footsteps()->texts(std::uint64_t{call.step} + 1)[5]);
    QTest::keyClick(window->footsteps(), Qt::Key_Home);
    EXPECT_EQ(window->footsteps()->current(), 0u);
    QTest::keyClick(window->footsteps(), Qt::Key_End);
    EXPECT_EQ(window->footsteps()->current(), steps().steps - 1);
    ASSERT_TRUE(rows_arrive());
}

TEST_F(StepsPage, TheFaultNamesTheInstructionThatRaisedIt) {
    ASSERT_FALSE(window->session().findings().empty());
    const Finding& fault = window->session().findings()[0];
    EXPECT_EQ(fault.kind, FindingKind::fault);
    EXPECT_NE(fault.cause.find("focus_task (focuser.c:21)"), std::string::npos) << fault.cause;
    EXPECT_GE(fault.evidence.size(), 12u);
}

}  // namespace
}  // namespace mt::app
