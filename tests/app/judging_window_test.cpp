// Rules, comparison and report in the real window: verdicts, causes and pages as a person gets them.
#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenuBar>
#include <QPushButton>
#include <QToolButton>
#include <QSettings>
#include <QSignalSpy>
#include <QTest>

#include <gtest/gtest.h>

#include <filesystem>

#include "measure/refs.h"
#include "menus.h"
#include "shell/beside.h"
#include "shell/report_dialog.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class JudgingInTheWindow : public RecordingInTheWindow {
  protected:
    void open(const std::string& path) {
        RecordingInTheWindow::open(path);
        QTest::qWait(60);
    }
    std::string rules(const std::string& more) {
        test::write_file(folder / "x.rules.toml", "format = \"mindful-trail-rules/1\"\n" + more);
        return folder / "x.rules.toml";
    }
};

TEST_F(JudgingInTheWindow, RulesShowTheirVerdictsAndADoubleClickGoesToTheWorstPlace) {
    open(test::data("tasks/mount-a/trace"));
    RulesPage* page = window->desk().rules();
    window->desk().evidence()->show_page(page);
    EXPECT_TRUE(page->hint().startsWith("No rules yet")) << page->hint().toStdString();
    window->desk().judgement().use_file(QString::fromStdString(rules("[[rule]]\nname = \"the weather answers\"\nof = \"weather\"\nwhat = \"response\"\nmax = \"21.6 ms\"\n"
                                                "[[rule]]\nname = \"the encoder is quick\"\nof = \"encoder\"\nwhat = \"duration\"\nmax = \"1 ms\"\n")));
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->table()->model()->rowCount() == 2; }, 10'000)) << page->hint().toStdString();
    EXPECT_EQ(page->hint(), "x.rules.toml: 1 kept, 1 broken, 0 undecided");
    // Broken ones stand on top.
    const auto cell = [&](int row, int column) { return page->table()->model()->index(row, column).data().toString(); };
    EXPECT_EQ(cell(0, RuleModel::verdict), "broken");
    EXPECT_EQ(cell(0, RuleModel::name), "the weather answers");
    EXPECT_EQ(cell(0, RuleModel::worst), "32.9 ms");
    EXPECT_EQ(page->places()->model()->rowCount(), 1);
    const QRect area = page->table()->visualRect(page->table()->model()->index(0, RuleModel::name));
    QTest::mouseClick(page->table()->viewport(), Qt::LeftButton, {}, area.center());
    QTest::mouseDClick(page->table()->viewport(), Qt::LeftButton, {}, area.center());
    const auto& selection = window->desk().viewpoint().selection();
    ASSERT_TRUE(selection.span);
    EXPECT_EQ(window->document().lanes()->find(selection.lane)->name(), "weather");
    EXPECT_LE(window->desk().viewpoint().from(), Time::from_ms(5262.1));
    EXPECT_GE(window->desk().viewpoint().to(), Time::from_ms(5294.8));
}

TEST_F(JudgingInTheWindow, ProposedRulesAreKeptByTheRecordingTheyComeFrom) {
    open(test::data("tasks/mount-clean/trace"));
    RulesPage* page = window->desk().rules();
    window->desk().evidence()->show_page(page);
    window->desk().judgement().propose_into(QString::fromStdString(folder / "p.rules.toml"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->table()->model()->rowCount() > 10; }, 20'000)) << page->hint().toStdString();
    for (int row = 0; row < page->table()->model()->rowCount(); ++row)
        EXPECT_EQ(page->table()->model()->index(row, RuleModel::verdict).data().toString(), "kept")
            << page->table()->model()->index(row, RuleModel::name).data().toString().toStdString();
}

TEST_F(JudgingInTheWindow, AWrongRulesFileIsToldWithItsLine) {
    open(test::data("tasks/mount-clean/trace"));
    RulesPage* page = window->desk().rules();
    window->desk().evidence()->show_page(page);
    window->desk().judgement().use_file(QString::fromStdString(rules("[[rule]]\nname = \"a\"\nof = \"weather\"\nwhat = \"respons\"\nmax = \"1 ms\"\n")));
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->hint().contains("did you mean response?"); }, 10'000)) << page->hint().toStdString();
    EXPECT_TRUE(page->hint().contains("x.rules.toml:2"));
}

TEST_F(JudgingInTheWindow, ComparingTellsCausesWithTheirEffectsBelowThem) {
    open(test::data("pairs/a-after.tar.xz"));
    ComparePage* page = window->desk().compare();
    window->desk().evidence()->show_page(page);
    QSignalSpy compared(page, &ComparePage::compared);
    page->compare_with(QString::fromStdString(test::data("pairs/a-before.tar.xz")));
    EXPECT_TRUE(page->hint().startsWith("Reading a-before.tar.xz")) << page->hint().toStdString();
    ASSERT_TRUE(QTest::qWaitFor([&] { return compared.count() > 0; }, 30'000));
    EXPECT_TRUE(page->hint().contains("6 worse, 0 better")) << page->hint().toStdString();
    const auto cell = [&](int row, int column) { return page->table()->model()->index(row, column).data().toString(); };
    EXPECT_EQ(cell(0, ChangeModel::what), "dome map is held for longer");
    EXPECT_TRUE(cell(0, ChangeModel::why).endsWith("a cause"));
    EXPECT_TRUE(cell(1, ChangeModel::why).contains("because of dome map hold")) << cell(1, ChangeModel::why).toStdString();
    EXPECT_TRUE(cell(1, ChangeModel::what).startsWith("      "));
    EXPECT_TRUE(page->findChild<QLabel*>("compare_figures")->text().contains("beyond chance"));
    // A row that is no change of a figure says why nothing is drawn.
    auto* picture = page->findChild<TwoDistributions*>();
    ASSERT_NE(picture, nullptr);
    const int last = page->table()->model()->rowCount() - 1;
    page->table()->selectRow(last);
    ASSERT_TRUE(cell(last, ChangeModel::what).startsWith("Found before")) << cell(last, ChangeModel::what).toStdString();
    EXPECT_TRUE(picture->why().contains("Choose a change of a figure")) << picture->why().toStdString();
    // What cannot be read is told, and what was found stays away.
    page->compare_with("/nowhere/at/all");
    ASSERT_TRUE(QTest::qWaitFor([&] { return compared.count() > 1; }, 10'000));
    EXPECT_EQ(page->table()->model()->rowCount(), 0);
    EXPECT_TRUE(page->hint().contains("/nowhere/at/all")) << page->hint().toStdString();
}

TEST_F(JudgingInTheWindow, AReportHoldsTheChosenParts) {
    open(test::data("tasks/mount-a/trace"));
    ReportDialog dialog(window->document(), QString::fromStdString(rules("[[rule]]\nname = \"the weather answers\"\nof = \"weather\"\nwhat = \"response\"\nmax = \"21.6 ms\"\n")),
                        nullptr, window.get());
    dialog.show();
    EXPECT_FALSE(dialog.findChild<QCheckBox*>("report_coverage")->isEnabled());  // no instruction trace
    QTest::mouseClick(dialog.findChild<QCheckBox*>("report_measures"), Qt::LeftButton, {}, {8, 8});
    QSignalSpy written(&dialog, &ReportDialog::written);
    dialog.write_to(QString::fromStdString(folder / "r.html"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return written.count() > 0; }, 20'000)) << dialog.message().toStdString();
    const std::string page = test::read_text(folder / "r.html");
    EXPECT_NE(page.find("the weather answers"), std::string::npos);
    EXPECT_NE(page.find("id=\"findings\""), std::string::npos);
    EXPECT_EQ(page.find("id=\"measures\""), std::string::npos);
}

const std::string kLateWeather = "[[rule]]\nname = \"the weather answers\"\nof = \"weather\"\nwhat = \"response\"\nmax = \"21.6 ms\"\n";

TEST_F(JudgingInTheWindow, ALimitStandsInTheDistributionInThePanelAndInTheTooltip) {
    open(test::data("tasks/mount-a/trace"));
    RulesPage* page = window->desk().rules();
    window->desk().evidence()->show_page(page);
    window->desk().judgement().use_file(QString::fromStdString(rules(kLateWeather)));
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->distribution()->limits().size() == 1; }, 10'000));
    EXPECT_EQ(page->distribution()->limits()[0].text, "at most 21.6 ms");
    EXPECT_TRUE(page->distribution()->limits()[0].broken);
    // The limit lies inside the plot, and jobs on both of its sides.
    const double at = page->distribution()->x_of(Time::from_ms(21.6));
    EXPECT_GT(at, 10);
    EXPECT_LT(at, page->distribution()->width());
    // Where the job is selected, the panel beside the lanes draws it too.
    const QRect cell = page->places()->visualRect(page->places()->model()->index(0, 0));
    QTest::mouseClick(page->places()->viewport(), Qt::LeftButton, {}, cell.center());
    QTest::mouseDClick(page->places()->viewport(), Qt::LeftButton, {}, cell.center());
    const auto span = window->desk().viewpoint().selection().span;
    ASSERT_TRUE(span);
    MeasuresPanel* panel = window->desk().measures_panel();
    ASSERT_TRUE(QTest::qWaitFor([&] { return panel->over_time()->limits().size() == 1; }, 5'000));
    EXPECT_EQ(panel->distribution()->limits().size(), 1U);
    Lanes* lanes = window->desk().lanes();
    const QString told = lanes->told_at(lanes->span_rect(*span).center());
    EXPECT_TRUE(told.contains("breaks the rule “the weather answers”: 32.9 ms, at most 21.6 ms")) << told.toStdString();
}

TEST_F(JudgingInTheWindow, APlaceIsExplainedByWhereItsTimeWent) {
    open(test::data("tasks/mount-a/trace"));
    RulesPage* page = window->desk().rules();
    window->desk().evidence()->show_page(page);
    window->desk().judgement().use_file(QString::fromStdString(rules(kLateWeather)));
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->places()->model()->rowCount() == 1; }, 10'000));
    const QRect cell = page->places()->visualRect(page->places()->model()->index(0, 0));
    QTest::mouseClick(page->places()->viewport(), Qt::LeftButton, {}, cell.center());
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->explained().contains("time spent"); }, 10'000)) << page->explained().toStdString();
    EXPECT_TRUE(page->explained().startsWith("32.9 ms, 11.3 ms beyond the limit")) << page->explained().toStdString();
    EXPECT_TRUE(page->explained().contains("had the core")) << page->explained().toStdString();
    // Another click on the rule brings its distribution back.
    const QRect rule = page->table()->visualRect(page->table()->model()->index(0, RuleModel::name));
    QTest::mouseClick(page->table()->viewport(), Qt::LeftButton, {}, rule.center());
    EXPECT_TRUE(page->explained().isEmpty());
    EXPECT_TRUE(page->distribution()->isVisible());
}

TEST_F(JudgingInTheWindow, ARightClickLimitsATaskAndTheRuleCanBeTakenBack) {
    std::filesystem::copy(test::data("tasks/mount-a/trace"), folder / "t", std::filesystem::copy_options::recursive);
    open(folder / "t");
    Lanes* lanes = window->desk().lanes();
    std::optional<LaneId> weather;
    for (std::size_t t = 0; t < window->document().trail()->tasks.tasks.size(); ++t)
        if (window->document().trail()->tasks.tasks[t].name == "weather") weather = task_lane(t);
    ASSERT_TRUE(weather);
    window->desk().viewpoint().select(*weather);
    choose(lanes, QPoint(30, static_cast<int>(lanes->row_rect(*weather).center().y())), {"Limit weather…"});
    auto* dialog = window->findChild<QDialog*>("limit_dialog");
    ASSERT_NE(dialog, nullptr);
    auto* most = dialog->findChild<QLineEdit*>("limit_most");
    ASSERT_TRUE(QTest::qWaitFor([&] { return !most->text().isEmpty(); }, 10'000));
    EXPECT_EQ(most->text(), "40 ms") << "32.9 ms and a fifth";
    EXPECT_TRUE(dialog->findChild<QLabel*>("limit_seen")->text().contains("32.9 ms")) << dialog->findChild<QLabel*>("limit_seen")->text().toStdString();
    auto* add = dialog->findChild<QPushButton*>("limit_add");
    most->selectAll();
    QTest::keyClicks(most, "soon");
    EXPECT_FALSE(add->isEnabled());
    EXPECT_TRUE(dialog->findChild<QLabel*>("limit_message")->text().contains("“soon” is no limit"));
    most->selectAll();
    QTest::keyClicks(most, "21.6 ms");
    ASSERT_TRUE(add->isEnabled()) << dialog->findChild<QLabel*>("limit_message")->text().toStdString();
    QTest::mouseClick(add, Qt::LeftButton);
    RulesPage* page = window->desk().rules();
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->table()->model()->rowCount() == 1; }, 10'000)) << page->hint().toStdString();
    EXPECT_TRUE(page->isVisible()) << "it is shown what came of it";
    EXPECT_EQ(page->table()->model()->index(0, RuleModel::verdict).data().toString(), "broken");
    const std::string file = window->desk().judgement().file().toStdString();
    EXPECT_TRUE(file.ends_with("t.rules.toml")) << file;
    EXPECT_NE(test::read_text(file).find("max = '21.6 ms'"), std::string::npos) << test::read_text(file);
    window->desk().judgement().take_back();
    EXPECT_FALSE(std::filesystem::exists(file)) << "there was none before";
    EXPECT_EQ(page->table()->model()->rowCount(), 0);
}

TEST_F(JudgingInTheWindow, ComparedRecordingsStandInLanesBelowEachOtherAlignedWhereAPersonSays) {
    open(test::data("pairs/a-after.tar.xz"));
    ComparePage* page = window->desk().compare();
    window->desk().evidence()->show_page(page);
    QSignalSpy compared(page, &ComparePage::compared);
    page->compare_with(QString::fromStdString(test::data("pairs/a-before.tar.xz")));
    ASSERT_TRUE(QTest::qWaitFor([&] { return compared.count() > 0; }, 30'000));
    QTest::mouseClick(page->findChild<QPushButton*>("compare_lanes"), Qt::LeftButton);
    Beside* beside = window->desk().beside();
    ASSERT_TRUE(QTest::qWaitFor([&] { return beside->document().trail() && !beside->document().busy(); }, 30'000));
    ASSERT_TRUE(beside->isVisible());
    EXPECT_TRUE(beside->told().contains("both from their start")) << beside->told().toStdString();
    EXPECT_NEAR(beside->height(), window->desk().lanes()->height(), 60) << "each has half of the room";
    Viewpoint &upper = window->desk().viewpoint(), &lower = beside->viewpoint();
    upper.go_to(Time::from_ms(1000), Time::from_ms(1200), Time::from_ms(1100));
    EXPECT_EQ(lower.from(), Time::from_ms(1000)) << "both move together";
    EXPECT_EQ(lower.to(), Time::from_ms(1200));
    lower.show(Time::from_ms(2000), Time::from_ms(2100));
    EXPECT_EQ(upper.from(), Time::from_ms(2000));
    // Aligned at their cursors.
    upper.set_cursor(Time::from_ms(2010));
    lower.set_cursor(Time::from_ms(2060));
    QTest::mouseClick(beside->findChild<QToolButton*>("beside_align"), Qt::LeftButton);
    EXPECT_EQ(beside->offset(), Time::from_ms(50));
    EXPECT_EQ(lower.from(), Time::from_ms(2050));
    EXPECT_NEAR(beside->lanes()->x_of(Time::from_ms(2060)), window->desk().lanes()->x_of(Time::from_ms(2010)), 0.5)
        << "they stand one above the other";
    EXPECT_TRUE(beside->told().contains("50.0 ms earlier")) << beside->told().toStdString();
    // Also at the very begin of the upper one: the lower then shows what lies before its begin, or behind.
    upper.go_to(Time{}, Time::from_ms(100), Time{});
    EXPECT_EQ(lower.from(), Time::from_ms(50));
    // What happened in both, side by side.
    page->show_part(ComparePage::events);
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->side()->table()->model()->rowCount() > 5; }, 10'000)) << page->side()->hint().toStdString();
    EXPECT_TRUE(page->side()->hint().startsWith("within what is visible")) << page->side()->hint().toStdString();
    QTest::mouseClick(beside->findChild<QToolButton*>("beside_close"), Qt::LeftButton);
    EXPECT_FALSE(beside->isVisible());
    // The figures of both.
    page->show_part(ComparePage::figures);
    page->both()->choose("locks", "mean");
    const auto* model = page->both()->table()->model();
    bool there = false;
    for (int row = 0; row < model->rowCount(); ++row)
        if (model->index(row, 0).data().toString() == "dome map") {
            there = true;
            EXPECT_TRUE(model->index(row, 3).data().toString().startsWith("+")) << "held for longer";
        }
    EXPECT_TRUE(there);
    // Without instruction trace no code is compared.
    page->show_part(ComparePage::code);
    EXPECT_TRUE(page->code_of_both()->hint().startsWith("Only recordings with instruction trace")) << page->code_of_both()->hint().toStdString();
}

}  // namespace
}  // namespace mt::app
