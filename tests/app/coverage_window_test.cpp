// Coverage in the real window: folders, over time, with the recordings of a store, against another recording.
#include <QApplication>
#include <QDialog>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QSignalSpy>
#include <QTest>
#include <QTimer>
#include <QToolButton>

#include <gtest/gtest.h>

#include <filesystem>

#include "look/table_text.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class CoverageInTheWindow : public RecordingInTheWindow {
  protected:
    void open(const std::string& path) {
        RecordingInTheWindow::open(path);
        page = window->desk().coverage();
        window->desk().evidence()->show_page(page);
        ASSERT_TRUE(QTest::qWaitFor([&] { return rows() > 0; }, 20'000)) << page->hint().toStdString();
    }
    int rows() const { return page->table()->model()->rowCount(); }
    QString cell(int row, int column) const { return cell_of(*page->table(), row, column); }
    int row_of(const QString& name) const { return row_with(*page->table(), CoverageModel::name, name); }
    bool settled() const { return !window->desk().cover_book().busy(); }
    std::string recording(const std::string& name) { return test::data("steps/" + name + "/recording.target.toml"); }
    CoveragePage* page = nullptr;
};

TEST_F(CoverageInTheWindow, FoldersAddUpTheirFiles) {
    open(recording("rv-etrace-mount"));
    page->show_by(CoveragePage::files);
    const int files = rows();
    std::uint64_t of_files = 0;
    for (int row = 0; row < files; ++row) of_files += cell(row, CoverageModel::lines).section(" of ", 1).remove(QChar(0x202F)).remove(' ').toULongLong();
    page->show_by(CoveragePage::folders);
    ASSERT_GT(rows(), 0);
    EXPECT_LT(rows(), files);
    std::uint64_t of_folders = 0;
    for (int row = 0; row < rows(); ++row) of_folders += cell(row, CoverageModel::lines).section(" of ", 1).remove(QChar(0x202F)).remove(' ').toULongLong();
    EXPECT_EQ(of_folders, of_files);
    EXPECT_TRUE(cell(0, CoverageModel::file).contains("file")) << cell(0, CoverageModel::file).toStdString();
}

TEST_F(CoverageInTheWindow, OverTimeShowsWhenItGrewAndAClickGoesThere) {
    open(recording("rv-etrace-mount"));
    QTest::mouseClick(page->findChild<QToolButton*>("coverage_over_time"), Qt::LeftButton);
    ASSERT_TRUE(QTest::qWaitFor([&] { return !page->growth()->points().empty(); }, 20'000));
    const auto& points = page->growth()->points();
    const auto& sums = window->desk().cover_book().book()->of[0].coverage.sums;
    EXPECT_NEAR(points.back().second, double(sums.instructions_run) / double(sums.instructions), 1e-9) << "at the end what the page says";
    EXPECT_LT(points.front().second, points.back().second);
    const Time last = points.back().first;
    QTest::mouseClick(page->growth()->findChild<QWidget*>(), Qt::LeftButton, {},
                      QPoint(static_cast<int>(page->growth()->x_of(last)), page->growth()->height() / 2));
    EXPECT_NEAR(window->desk().viewpoint().cursor().seconds(), last.seconds(), window->desk().viewpoint().end().seconds() / 50);
    EXPECT_TRUE(page->growth()->values_text().startsWith("time (ns)\trun (%)"));
}

TEST_F(CoverageInTheWindow, AStoreAddsWhatOthersRanAndKeepsReasons) {
    const std::string store = folder / "all.mtcover";
    open(recording("rv-etrace-mount"));
    CoverBook& book = window->desk().cover_book();
    const QString alone = page->hint();
    book.use_store(QString::fromStdString(store));
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && page->hint().contains("with 0 recordings of all.mtcover"); }, 20'000)) << page->hint().toStdString();
    book.add_to_store();
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && page->hint().contains("with 1 recording of all.mtcover"); }, 20'000)) << page->hint().toStdString();
    EXPECT_TRUE(page->hint().startsWith(alone)) << "it is the same recording: nothing is counted twice";
    // Why something need not run is kept, and shown beside it.
    page->show_never(true);
    ASSERT_GT(rows(), 0);
    const QString name = cell(0, CoverageModel::name);
    QTimer::singleShot(200, window.get(), [] {
        auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget());
        ASSERT_NE(dialog, nullptr);
        QTest::keyClicks(dialog->findChild<QLineEdit*>("reason_text"), "only in the factory");
        QTest::keyClicks(dialog->findChild<QLineEdit*>("reason_note"), "the test bench");
        QTest::keyClick(dialog->findChild<QLineEdit*>("reason_note"), Qt::Key_Return);
    });
    page->ask_reason(name);
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && row_of(name) >= 0 && cell(row_of(name), CoverageModel::reason) == "only in the factory"; }, 20'000));
    EXPECT_FALSE(page->table()->isColumnHidden(CoverageModel::reason));
    ASSERT_EQ(book.book()->reasons.size(), 1U);
    EXPECT_EQ(book.book()->reasons[0].note, "the test bench");
    // A justified function that runs after all is told.
    page->show_never(false);
    int ran = -1;
    for (int row = 0; row < rows() && ran < 0; ++row)
        if (!cell(row, CoverageModel::instructions).startsWith("0 of ")) ran = row;
    const QString running = cell(ran, CoverageModel::name);
    book.justify(running, "never needed", {});
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && page->hint().contains(running); }, 20'000)) << page->hint().toStdString();
    // No store, or a damaged one, is told and changes nothing.
    test::write_file(folder / "bad.mtcover", "this is no store");
    book.use_store(QString::fromStdString(folder / "bad.mtcover"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && !book.trouble().isEmpty(); }, 20'000));
    EXPECT_TRUE(page->hint().contains("bad.mtcover")) << page->hint().toStdString();
    EXPECT_EQ(test::read_text(folder / "bad.mtcover"), "this is no store");
    book.use_store({});
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && page->hint() == alone; }, 20'000)) << page->hint().toStdString();
}

TEST_F(CoverageInTheWindow, AgainstAnotherRecordingItSaysWhatOnlyOneRan) {
    open(recording("arm-mtb-paddle"));
    EXPECT_TRUE(page->table()->isColumnHidden(CoverageModel::here));
    CoverBook& book = window->desk().cover_book();
    book.use_other(QString::fromStdString(recording("arm-mtb-paddle-window")));
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && page->hint().contains("only here"); }, 20'000)) << page->hint().toStdString();
    EXPECT_FALSE(page->table()->isColumnHidden(CoverageModel::here));
    std::uint64_t here = 0;
    for (int row = 0; row < rows(); ++row)
        here += page->table()->model()->index(row, CoverageModel::here).data(kPlainRole).toString().toULongLong();
    std::uint64_t told = 0;
    for (const auto& of : book.book()->of) told += of.difference->gained;
    EXPECT_EQ(here, told);
    EXPECT_GT(here, 0U);
    // What it cannot read it says; what was shown stays.
    book.use_other("/nowhere/at/all.target.toml");
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled() && page->hint().contains("/nowhere/at/all"); }, 20'000)) << page->hint().toStdString();
    EXPECT_GT(rows(), 0);
}

TEST_F(CoverageInTheWindow, TheMenuOffersWhatCanBeDone) {
    open(recording("arm-mtb-paddle"));
    const auto entries = [&] {
        QMenu menu;
        page->fill_menu(menu);
        QStringList open;
        for (const QAction* a : menu.actions())
            if (a->isEnabled() && !a->isSeparator()) open << a->text();
        return open;
    };
    EXPECT_EQ(entries(), QStringList({"A store of recordings…", "A new store…", "Another recording: what only this one ran…"}));
    window->desk().cover_book().use_store(QString::fromStdString(folder / "s.mtcover"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return settled(); }, 20'000));
    page->table()->selectRow(0);
    const QString name = cell(0, CoverageModel::name);
    EXPECT_TRUE(entries().contains("Add this recording to the store"));
    EXPECT_TRUE(entries().contains("Say why " + name + " need not run…")) << entries().join("; ").toStdString();
    EXPECT_TRUE(entries().contains("Nothing: this recording alone"));
}

TEST_F(CoverageInTheWindow, TheMarginSaysWhichWaysBranchesWent) {
    open(recording("rv-etrace-mount"));
    int with_source = 0;
    while (cell(with_source, CoverageModel::file).isEmpty() && with_source + 1 < rows()) ++with_source;
    const QModelIndex index = page->table()->model()->index(with_source, CoverageModel::name);
    page->table()->scrollTo(index);
    const QRect area = page->table()->visualRect(index);
    QTest::mouseClick(page->table()->viewport(), Qt::LeftButton, {}, area.center());
    QTest::mouseDClick(page->table()->viewport(), Qt::LeftButton, {}, area.center());
    SourceView* source = window->desk().source();
    ASSERT_TRUE(QTest::qWaitFor([&] { return source->isVisible() && !source->text()->rows().empty(); }, 10'000));
    source->set_mixed(true);
    int decides = -1;
    for (int i = 0; i < static_cast<int>(source->text()->rows().size()) && decides < 0; ++i) {
        const SourceRow& r = source->text()->rows()[static_cast<std::size_t>(i)];
        if (r.slot != Code::kNowhere && r.decides && r.taken > 0 && r.not_taken > 0) decides = i;
    }
    ASSERT_GE(decides, 0);
    const SourceRow& r = source->text()->rows()[static_cast<std::size_t>(decides)];
    EXPECT_EQ(r.taken + r.not_taken, r.count);
    EXPECT_TRUE(source->text()->told_of(decides).contains("its branches: taken")) << source->text()->told_of(decides).toStdString();
    EXPECT_TRUE(source->text()->told_of(-1).isEmpty());
}

}  // namespace
}  // namespace mt::app
