// Rules, comparison and report in the real window: verdicts, causes and pages as a person gets them.
#include <QLabel>
#include <QMenuBar>
#include <QPushButton>
#include <QSettings>
#include <QSignalSpy>
#include <QTest>

#include <gtest/gtest.h>

#include "shell/report_dialog.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class JudgingInTheWindow : public ::testing::Test {
  protected:
    void open(const std::string& path) {
        window = shown_window();
        open_and_wait(*window, path);
        QTest::qWait(60);
    }
    std::string rules(const std::string& more) {
        test::write_file(folder / "x.rules.toml", "format = \"mindful-trail-rules/1\"\n" + more);
        return folder / "x.rules.toml";
    }
    test::Folder folder;
    std::unique_ptr<MainWindow> window;
};

TEST_F(JudgingInTheWindow, RulesShowTheirVerdictsAndADoubleClickGoesToTheWorstPlace) {
    open(test::data("tasks/mount-a/trace"));
    RulesPage* page = window->desk().rules();
    window->desk().evidence()->show_page(page);
    EXPECT_TRUE(page->hint().startsWith("No rules yet")) << page->hint().toStdString();
    page->use_file(QString::fromStdString(rules("[[rule]]\nname = \"the weather answers\"\nof = \"weather\"\nwhat = \"response\"\nmax = \"21.6 ms\"\n"
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
    page->propose_into(QString::fromStdString(folder / "p.rules.toml"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return page->table()->model()->rowCount() > 10; }, 20'000)) << page->hint().toStdString();
    for (int row = 0; row < page->table()->model()->rowCount(); ++row)
        EXPECT_EQ(page->table()->model()->index(row, RuleModel::verdict).data().toString(), "kept")
            << page->table()->model()->index(row, RuleModel::name).data().toString().toStdString();
}

TEST_F(JudgingInTheWindow, AWrongRulesFileIsToldWithItsLine) {
    open(test::data("tasks/mount-clean/trace"));
    RulesPage* page = window->desk().rules();
    window->desk().evidence()->show_page(page);
    page->use_file(QString::fromStdString(rules("[[rule]]\nname = \"a\"\nof = \"weather\"\nwhat = \"respons\"\nmax = \"1 ms\"\n")));
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
    // What cannot be read is told, and what was found stays away.
    page->compare_with("/nowhere/at/all");
    ASSERT_TRUE(QTest::qWaitFor([&] { return compared.count() > 1; }, 10'000));
    EXPECT_EQ(page->table()->model()->rowCount(), 0);
    EXPECT_TRUE(page->hint().contains("/nowhere/at/all")) << page->hint().toStdString();
}

TEST_F(JudgingInTheWindow, AReportHoldsTheChosenParts) {
    open(test::data("tasks/mount-a/trace"));
    ReportDialog dialog(window->document(), QString::fromStdString(rules("[[rule]]\nname = \"the weather answers\"\nof = \"weather\"\nwhat = \"response\"\nmax = \"21.6 ms\"\n")),
                        window.get());
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

}  // namespace
}  // namespace mt::app
