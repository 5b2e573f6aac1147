// The page State in the real window: registers and variables follow the instruction that is looked at.
#include <QLineEdit>
#include <QSignalSpy>
#include <QTest>
#include <QToolButton>

#include <gtest/gtest.h>

#include "shell/past_strip.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class StateInTheWindow : public RecordingInTheWindow {
  protected:
    void SetUp() override {
        open(test::data("steps/rv-etrace-mount/recording.target.toml"));
        page = window->desk().state();
        window->desk().evidence()->show_page(page);
    }
    void go_to(std::uint64_t step) {
        QSignalSpy filled(page, &StatePage::filled);
        window->desk().footsteps()->go_to(step);
        ASSERT_TRUE(QTest::qWaitFor([&] { return filled.count() > 0; }, 20'000)) << page->hint().toStdString();
    }
    // The cell so many columns behind the one of that name.
    QString cell(QTableView* table, const QString& name, int behind) const {
        for (int row = 0; row < table->model()->rowCount(); ++row)
            for (int column = 0; column < table->model()->columnCount(); ++column)
                if (table->model()->index(row, column).data().toString() == name)
                    return table->model()->index(row, column + behind).data().toString();
        return "no such cell";
    }
    StatePage* page = nullptr;
};

TEST_F(StateInTheWindow, ShowsWhatIsKnownBeforeTheInstructionAndWhoWroteIt) {
    go_to(81);
    EXPECT_TRUE(page->hint().startsWith("before instruction 81 at 0x80000022")) << page->hint().toStdString();
    EXPECT_EQ(cell(page->registers(), "x2", 1), "0x800077d0") << "the stack";
    EXPECT_EQ(cell(page->registers(), "x3", 1), "0x80001200");
    EXPECT_EQ(cell(page->registers(), "x25", 1), "not known") << "nobody wrote it since the reset";
    // A double click on a register goes to the instruction that wrote it.
    const QString told = page->registers()->model()->index(1, 0).data(Qt::ToolTipRole).toString();
    const std::uint64_t writer = told.section(' ', 3, 3).remove(';').toULongLong();
    ASSERT_TRUE(told.startsWith("Written by instruction ") && writer < 81U) << told.toStdString();
    const QRect area = page->registers()->visualRect(page->registers()->model()->index(1, 0));
    QTest::mouseClick(page->registers()->viewport(), Qt::LeftButton, {}, area.center());
    QTest::mouseDClick(page->registers()->viewport(), Qt::LeftButton, {}, area.center());
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().footsteps()->current() == writer; }, 5'000));
}

// Its page is opened while a late instruction is looked at: nothing was executed until then.
class LateStateInTheWindow : public StateInTheWindow {
  protected:
    void SetUp() override {
        open(test::data("steps/rv-etrace-mount/recording.target.toml"));
        page = window->desk().state();
        window->desk().show_evidence(window->desk().footsteps());
    }
};

TEST_F(LateStateInTheWindow, IsThereAtOnceInPartAndSoonAsAWhole) {
    std::vector<std::pair<QString, QString>> seen;  // what is said, and the stack pointer
    QObject::connect(page, &StatePage::filled, page, [&] { seen.emplace_back(page->hint(), cell(page->registers(), "x2", 1)); });
    window->desk().footsteps()->go_to(2'500'000);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().footsteps()->current() == 2'500'000U; }, 20'000));
    ASSERT_TRUE(seen.empty()) << "nobody sees it yet";
    window->desk().show_evidence(page);
    ASSERT_TRUE(QTest::qWaitFor([&] { return !seen.empty() && !seen.back().first.contains("executing all before them"); }, 20'000)) << page->hint().toStdString();
    ASSERT_EQ(seen.size(), 2U);
    EXPECT_TRUE(seen[0].first.contains(QString::fromUtf8("registers known from the last 200\u202F000 instructions"))) << seen[0].first.toStdString();
    EXPECT_TRUE(seen[1].first.startsWith(seen[0].first.section(':', 0, 0))) << "of the same instruction";
    EXPECT_TRUE(seen[0].second == "not known" || seen[0].second == seen[1].second);
    EXPECT_NE(seen[1].second, "not known");
    // All is executed meanwhile: in the end one look is enough, wherever it goes.
    std::uint64_t step = 100'000;
    EXPECT_TRUE(QTest::qWaitFor([&] {
        seen.clear();
        go_to(step = step * 7 % 3'000'000);
        QTest::qWait(100);
        return seen.size() == 1 && !seen[0].first.contains("executing");
    }, 20'000));
}

TEST_F(StateInTheWindow, VariablesAreNamedAndKept) {
    go_to(2'201);
    auto* add = page->findChild<QLineEdit*>("state_add");
    QSignalSpy filled(page, &StatePage::filled);
    QTest::keyClicks(add, "outcome");
    QTest::keyClick(add, Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return filled.count() > 0; }, 20'000));
    EXPECT_EQ(cell(page->variables(), "outcome", 1), "0");
    EXPECT_EQ(cell(page->variables(), "outcome", 2).remove(QChar(0x202F)).remove(' '), "2199") << "the store that wrote it";
    // What is not there is said in its row.
    page->watch("no_such_thing");
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->variables()->model()->rowCount() == 2; }, 20'000));
    EXPECT_TRUE(cell(page->variables(), "no_such_thing", 1).contains("no_such_thing"));
    page->variables()->setFocus();
    page->variables()->selectRow(1);
    QTest::keyClick(page->variables(), Qt::Key_Delete);
    EXPECT_EQ(page->watched(), QStringList{"outcome"});
}

TEST_F(StateInTheWindow, APictureIsKeptBesideWhatStandsElsewhere) {
    go_to(81);
    auto* keep = page->findChild<QToolButton*>("state_keep");
    QTest::mouseClick(keep, Qt::LeftButton);
    ASSERT_TRUE(page->kept()->isVisible());
    EXPECT_EQ(cell(page->kept(), "x2", 1), "0x800077d0");
    EXPECT_EQ(cell(page->kept(), "x2", 2), "0x800077d0") << "the same now";
    go_to(2'201);
    EXPECT_EQ(cell(page->kept(), "x2", 1), "0x800077d0") << "what was kept stays";
    EXPECT_EQ(cell(page->kept(), "x2", 2), cell(page->registers(), "x2", 1)) << "and what stands there now beside it";
    int differ = 0;
    for (int row = 0; row < page->kept()->model()->rowCount(); ++row)
        differ += page->kept()->model()->index(row, 1).data() != page->kept()->model()->index(row, 2).data() ? 1 : 0;
    EXPECT_GT(differ, 0) << "others have changed";
    QTest::mouseClick(keep, Qt::LeftButton);
    EXPECT_FALSE(page->kept()->isVisible());
}

TEST_F(StateInTheWindow, AKeyGoesToTheInstructionThatChangesARegisterNext) {
    go_to(81);
    for (int row = 0; row < page->registers()->model()->rowCount(); ++row)
        if (page->registers()->model()->index(row, 0).data().toString() == "x2") page->registers()->setCurrentIndex(page->registers()->model()->index(row, 0));
    page->registers()->setFocus();
    const QString before = cell(page->registers(), "x2", 1);
    QSignalSpy filled(page, &StatePage::filled);
    QTest::keyClick(page->registers(), Qt::Key_Right, Qt::ControlModifier | Qt::AltModifier);
    ASSERT_TRUE(QTest::qWaitFor([&] { return filled.count() > 0; }, 20'000)) << page->hint().toStdString();
    const std::uint64_t writer = *window->desk().footsteps()->current();
    EXPECT_GT(writer, 81U);
    EXPECT_EQ(cell(page->registers(), "x2", 1), before) << "before that instruction it stands as it did";
    go_to(writer + 1);
    EXPECT_NE(cell(page->registers(), "x2", 1), before) << "behind it, no longer";
}

TEST_F(StateInTheWindow, FunctionsOnTheStackShowTheirVariables) {
    go_to(77'777);
    QTreeWidget* locals = page->locals();
    ASSERT_GE(locals->topLevelItemCount(), 4);
    QTreeWidgetItem* inner = locals->topLevelItem(0);
    EXPECT_EQ(inner->text(0), "median_push");
    EXPECT_TRUE(inner->isExpanded()) << "the function that runs";
    EXPECT_EQ(locals->topLevelItem(1)->text(0), "mount_round");
    EXPECT_FALSE(locals->topLevelItem(1)->isExpanded());
    const auto variable = [](QTreeWidgetItem* frame, const QString& name) -> QTreeWidgetItem* {
        for (int i = 0; i < frame->childCount(); ++i)
            if (frame->child(i)->text(0) == name) return frame->child(i);
        return nullptr;
    };
    QTreeWidgetItem* s = variable(inner, "s");
    ASSERT_NE(s, nullptr);
    EXPECT_EQ(s->childCount(), 9) << "an array opens";
    EXPECT_EQ(variable(inner, "i")->text(1), "2");
    EXPECT_EQ(variable(locals->topLevelItem(1), "m")->text(1), "not kept here");
    // What a person opens stays open, a double click goes to the instruction that wrote it.
    s->setExpanded(true);
    locals->scrollToItem(s);
    const QRect area = locals->visualItemRect(s);
    const QPoint name(area.left() + 20, area.center().y());
    QTest::mouseClick(locals->viewport(), Qt::LeftButton, {}, name);
    QTest::mouseDClick(locals->viewport(), Qt::LeftButton, {}, name);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().footsteps()->current() == 77'775U; }, 5'000));
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->hint().startsWith("before instruction 77") && page->hint().contains("775"); }, 20'000));
    QTreeWidgetItem* again = variable(locals->topLevelItem(0), "s");
    ASSERT_NE(again, nullptr);
    EXPECT_TRUE(again->isExpanded());
    const QString third = again->child(2)->text(1);
    // Such a variable can be named, too.
    page->watch("s[2]");
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->variables()->model()->rowCount() == 1; }, 20'000));
    EXPECT_EQ(cell(page->variables(), "s[2]", 1), third);
}

TEST_F(StateInTheWindow, TheStripOfStepsStandsInTheCodeArrangement) {
    EXPECT_FALSE(window->desk().past()->isVisible());
    QTest::keyClick(window.get(), Qt::Key_F2);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().past()->isVisible(); }, 5'000));
    EXPECT_TRUE(page->isVisible()) << "the state is the third column";
    go_to(2'201);
    const auto press = [&](const char* name) { QTest::mouseClick(window->desk().past()->findChild<QToolButton*>(name), Qt::LeftButton); };
    Footsteps* steps = window->desk().footsteps();
    press("past_back");
    EXPECT_EQ(steps->current(), 2'200U);
    press("past_on");
    press("past_on");
    EXPECT_EQ(steps->current(), 2'202U);
    press("past_on_line");
    EXPECT_GT(*steps->current(), 2'202U);
    const std::uint64_t line = *steps->current();
    press("past_on_function");
    EXPECT_GT(*steps->current(), line);
    press("past_back_function");
    EXPECT_TRUE(window->desk().past()->text().startsWith("instruction 2")) << window->desk().past()->text().toStdString();
    // The first line that never ran before lies further on, and behind the last one there is none.
    const std::uint64_t from = *steps->current();
    QTest::keyClick(window.get(), Qt::Key_N, Qt::ControlModifier | Qt::AltModifier);
    ASSERT_TRUE(QTest::qWaitFor([&] { return *steps->current() > from; }, 20'000));
}

}  // namespace
}  // namespace mt::app
