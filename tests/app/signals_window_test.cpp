// Signals of other devices in the window: lanes with a scale, the value at the cursor, heights that a person drags.
#include <gtest/gtest.h>

#include <QClipboard>
#include <QContextMenuEvent>
#include <QDialog>
#include <QFile>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QSignalSpy>
#include <QTableWidget>
#include <QTest>
#include <QTimer>

#include "measure/kinds/kinds.h"
#include "shell/signals_import.h"
#include "menus.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class SignalsInTheWindow : public ::testing::Test {
  protected:
    void SetUp() override {
        window = shown_window();
        test::write_file(folder / "t.target.toml",
                         "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"" +
                             test::data("tasks/mount-a/trace") + "\"\n[[signals]]\nfile = \"" +
                             test::data("signals/vcd-mount.vcd") +
                             "\"\nselect = [\"supply_current_mA\", \"adc\", \"star_table_use\"]\n"
                             "align = [{ resource = \"star table\", edge = \"star_table_use both\" }]\n");
        open_and_wait(*window, folder / "t.target.toml");
        lanes = window->desk().lanes();
        lanes->set_hidden_kinds({"tasks", "locks", "queues", "interrupts", "semaphores", "resources", "marks"});
    }
    LaneId lane(const std::string& name) {
        const auto& all = window->document().trail()->tasks.values;
        for (std::size_t i = 0; i < all.size(); ++i)
            if (all[i].name == name) return {&values_kind(), i};
        ADD_FAILURE() << name;
        return {};
    }
    QString heading(const QString& name) {
        for (const QString& h : lanes->headings())
            if (h.startsWith(name + " | ")) return h;
        return {};
    }
    QImage picture() { return lanes->grab().toImage(); }

    test::Folder folder;
    std::unique_ptr<MainWindow> window;
    Lanes* lanes = nullptr;
};

TEST_F(SignalsInTheWindow, TheValueAtTheCursorStandsInTheHeading) {
    window->desk().viewpoint().set_cursor(Time::from_ms(2'000));
    const auto& all = window->document().trail()->tasks.values[lane("supply_current_mA").index];
    EXPECT_EQ(heading("supply_current_mA"),
              QString("supply_current_mA | = ") + QString::fromStdString(all.text(all.at(Time::from_ms(2'000)))));
    const QRectF row = lanes->row_rect(lane("adc"));
    QTest::mouseClick(lanes, Qt::LeftButton, {},
                      QPointF(lanes->x_of(Time::from_ms(3'000)), row.center().y()).toPoint());
    EXPECT_TRUE(heading("adc").contains("adc | = ")) << heading("adc").toStdString();
}

TEST_F(SignalsInTheWindow, ALanesHeightIsDraggedRememberedAndGivenBack) {
    const LaneId id = lane("adc");
    const QRectF before = lanes->row_rect(id);
    const QPoint edge(40, static_cast<int>(before.bottom()) - 1);
    QTest::mousePress(lanes, Qt::LeftButton, {}, edge);
    QTest::mouseMove(lanes, edge + QPoint(0, 60));
    QTest::mouseMove(lanes, edge + QPoint(0, 90));
    QTest::mouseRelease(lanes, Qt::LeftButton, {}, edge + QPoint(0, 90));
    EXPECT_NEAR(lanes->row_rect(id).height(), before.height() + 90, 3);
    EXPECT_GT(QSettings().value("lanes/tall/values/adc").toDouble(), before.height() + 80);
    QTimer::singleShot(50, [&] {
        auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
        ASSERT_NE(menu, nullptr);
        for (QAction* a : menu->actions())
            if (a->text() == "As tall as the others") a->trigger();
        menu->close();
    });
    const QPoint inside = lanes->row_rect(id).center().toPoint();
    QContextMenuEvent event(QContextMenuEvent::Mouse, inside, lanes->mapToGlobal(inside));
    QApplication::sendEvent(lanes, &event);
    EXPECT_LT(lanes->row_rect(id).height(), before.height() + 40);
    EXPECT_FALSE(QSettings().contains("lanes/tall/values/adc"));
}

TEST_F(SignalsInTheWindow, ScaledToWhatIsVisibleSmallChangesFillTheLane) {
    window->desk().viewpoint().go_to(Time::from_ms(2'000), Time::from_ms(2'300), Time::from_ms(2'100));
    const QImage whole = picture();
    lanes->set_to_visible(true);
    const QImage visible = picture();
    EXPECT_NE(whole, visible);
    EXPECT_TRUE(QSettings().value("lanes/to_visible").toBool());
}

// Fills the fields of the dialog that opens next, and accepts it.
void answer(const std::vector<std::pair<QString, QString>>& fields) {
    QTimer::singleShot(50, [fields] {
        auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget());
        ASSERT_NE(dialog, nullptr);
        for (const auto& [name, text] : fields) {
            auto* field = name.isEmpty() ? dialog->findChild<QLineEdit*>() : dialog->findChild<QLineEdit*>(name);
            ASSERT_NE(field, nullptr);
            field->setText(text);
        }
        dialog->accept();
    });
}

TEST_F(SignalsInTheWindow, SeveralStandInOneRowEachInItsColour) {
    const LaneId adc = lane("adc"), current = lane("supply_current_mA");
    const QPoint inside = lanes->row_rect(adc).center().toPoint();
    const int rows = lanes->rows();
    choose(lanes, inside, {"Draw in the row of", "supply_current_mA"});
    EXPECT_EQ(lanes->rows(), rows - 1);
    EXPECT_EQ(lanes->row_rect(adc), lanes->row_rect(current)) << "the same row";
    choose(lanes, lanes->row_rect(current).center().toPoint(), {"Give adc a row of its own"});
    EXPECT_EQ(lanes->rows(), rows);
}

TEST_F(SignalsInTheWindow, AreDrawnAndScaledAsAPersonChooses) {
    window->desk().viewpoint().go_to(Time::from_ms(2'000), Time::from_ms(2'010), Time::from_ms(2'005));
    const QImage steps = picture();
    const QPoint inside = lanes->row_rect(lane("supply_current_mA")).center().toPoint();
    choose(lanes, inside, {"Draw as", "a line"});
    EXPECT_NE(picture(), steps);
    choose(lanes, inside, {"Draw as", "dots"});
    const QImage dots = picture();
    QTimer::singleShot(150, [] { answer({{"", "-100 400"}}); });
    choose(lanes, inside, {"Scale of this lane", "fixed…"});
    EXPECT_NE(picture(), dots);
    EXPECT_EQ(QSettings().value("lanes/line/values|supply_current_mA").toStringList().value(3), "400") << "remembered";
}

TEST_F(SignalsInTheWindow, TheSamplesOfTheSelectedValueAreListedAndFollowTheCursorBothWays) {
    const LaneId adc = lane("adc");
    SamplesPage* page = window->desk().samples();
    window->desk().evidence()->show_page(page);
    window->desk().viewpoint().select(adc);
    const ValueLane& of = window->document().trail()->tasks.values[adc.index];
    EXPECT_EQ(page->row_count(), of.samples.size());
    window->desk().viewpoint().set_cursor(of.samples.time(100));
    EXPECT_TRUE(QTest::qWaitFor([&] { return page->current_row() == 100U; }));
    EXPECT_EQ(page->row_text(100)[1], QString::fromStdString(of.text(100)));
    page->setFocus();
    QTest::keyClick(page, Qt::Key_Down);
    EXPECT_EQ(window->desk().viewpoint().cursor(), of.samples.time(101));
    page->copy_selected();
    EXPECT_TRUE(QGuiApplication::clipboard()->text().contains(QString::fromStdString(of.text(101))));
}

TEST_F(SignalsInTheWindow, KeysGoToChangesAndCrossings) {
    const LaneId table = lane("star_table_use");
    window->desk().viewpoint().select(table);
    const ValueLane& of = window->document().trail()->tasks.values[table.index];
    const std::size_t high = [&] {
        std::size_t i = 10;
        while (of.samples.bits(i) != 1) ++i;
        return i;
    }();
    window->desk().viewpoint().set_cursor(of.samples.time(high));
    lanes->setFocus();
    QTest::keyClick(lanes, Qt::Key_V);
    EXPECT_EQ(window->desk().viewpoint().cursor(), of.samples.time(high + 1));
    QTest::keyClick(lanes, Qt::Key_V, Qt::ShiftModifier);
    EXPECT_EQ(window->desk().viewpoint().cursor(), of.samples.time(high));
    QTest::keyClick(lanes, Qt::Key_H);
    EXPECT_GT(window->desk().viewpoint().cursor(), of.samples.time(high));
}

TEST_F(SignalsInTheWindow, AToBSaysWhatAValueDidInBetween) {
    const LaneId current = lane("supply_current_mA");
    window->desk().viewpoint().select(current);
    window->desk().viewpoint().set_ruler(Time::from_ms(2'000), Time::from_ms(2'500));
    const QString told = window->desk().measures_panel()->told_between();
    for (const char* figure : {"difference", "slope", "mean", "RMS", "integral", "least", "greatest"})
        EXPECT_TRUE(told.contains(figure)) << told.toStdString();
    window->desk().viewpoint().set_ruler(std::nullopt, std::nullopt);
    EXPECT_TRUE(window->desk().measures_panel()->told_between().isEmpty());
}

TEST_F(SignalsInTheWindow, AClockIsDrawnByHandAndTakenBack) {
    const LaneId adc = lane("adc");
    window->desk().viewpoint().go_to(Time::from_ms(2'000), Time::from_ms(2'100), Time::from_ms(2'000));
    const Time before = window->document().trail()->tasks.values[adc.index].samples.time(0);
    const QPoint from(static_cast<int>(lanes->x_of(Time::from_ms(2'020))), static_cast<int>(lanes->row_rect(adc).center().y()));
    QTest::mousePress(lanes, Qt::LeftButton, Qt::AltModifier, from);
    QTest::mouseMove(lanes, from + QPoint(60, 0));
    QTest::mouseMove(lanes, from + QPoint(200, 0));
    QTest::mouseRelease(lanes, Qt::LeftButton, Qt::AltModifier, from + QPoint(200, 0));
    const auto first = [&] {
        for (const auto& v : window->document().trail()->tasks.values)
            if (v.name == "adc") return v.samples.time(0);
        return Time{};
    };
    EXPECT_TRUE(QTest::qWaitFor([&] { return !window->document().busy() && first() != before; }, 10'000));
    const Time span = lanes->time_at(lanes->plot_left_edge() + 200) - lanes->time_at(lanes->plot_left_edge());
    EXPECT_NEAR((first() - before).seconds(), span.seconds(), span.seconds() * 0.1);
    EXPECT_EQ(window->document().trail()->beside.at(0).how, LaidSignals::How::by_hand);
    window->desk().target().draft().undo();
    EXPECT_TRUE(QTest::qWaitFor([&] { return !window->document().busy() && first() == before; }, 10'000));
}

void trigger(MainWindow& window, const QString& text) {
    for (QAction* a : window.findChildren<QAction*>())
        if (a->text() == text) return a->trigger();
    ADD_FAILURE() << text.toStdString();
}

TEST_F(SignalsInTheWindow, AWaymarkIsPlantedEditedTakenAwayAndTakenBack) {
    Viewpoint& view = window->desk().viewpoint();
    WaymarkPage* page = window->desk().waymarks();
    view.set_cursor(Time::from_ms(2'345));
    answer({{"waymark_name", "odd"}, {"waymark_note", "look again"}});
    trigger(*window, "Plant &waymark…");
    ASSERT_EQ(page->row_count(), 1U);
    EXPECT_EQ(page->row_text(0)[1], "odd");
    EXPECT_EQ(page->row_text(0)[4], "look again");
    EXPECT_TRUE(QFile::exists(QString::fromStdString(folder / "t.waymarks.toml")));
    EXPECT_FALSE(heading("waymarks").isEmpty()) << "a lane of its own";
    view.set_ruler(Time::from_ms(1'000), Time::from_ms(1'500));
    answer({{"waymark_name", "start-up"}});
    trigger(*window, "Plant &waymark…");
    ASSERT_EQ(page->row_count(), 2U);
    EXPECT_EQ(page->row_text(0)[1], "start-up") << "by time";
    EXPECT_EQ(page->row_text(0)[2], "500 ms");
    window->desk().evidence()->show_page(page);
    page->setFocus();
    QTest::keyClick(page, Qt::Key_Home);
    answer({{"waymark_name", "boot"}});
    QTest::keyClick(page, Qt::Key_Return);
    EXPECT_EQ(page->row_text(0)[1], "boot");
    QTest::keyClick(page, Qt::Key_Home);
    QTest::keyClick(page, Qt::Key_Delete);
    EXPECT_EQ(page->row_count(), 1U);
    QTest::keyClick(page, Qt::Key_Z, Qt::ControlModifier);
    EXPECT_EQ(page->row_count(), 2U);
    open_and_wait(*window, folder / "t.target.toml");
    EXPECT_EQ(page->row_count(), 2U) << "kept with the recording";
}

TEST_F(SignalsInTheWindow, AFileIsLookedAtBeforeItIsLaidBeside) {
    SignalsImport import(QString::fromStdString(test::data("signals/current-mount.csv")));
    QSignalSpy looked(&import, &SignalsImport::looked);
    ASSERT_TRUE(looked.wait(10'000));
    auto* table = import.findChild<QTableWidget*>("import_signals");
    ASSERT_EQ(table->rowCount(), 2) << "a current and a number of a table";
    EXPECT_EQ(import.chosen().size(), 2);
    EXPECT_TRUE(import.findChild<QLabel*>("import_said")->text().startsWith("CSV"));
    for (int row = 0; row < 2; ++row) table->item(row, 0)->setCheckState(Qt::Unchecked);
    EXPECT_FALSE(import.findChild<QPushButton*>("import_take")->isEnabled()) << "none is chosen";
    const std::size_t before = window->document().trail()->beside.size();
    window->desk().target().lay_signals(QString::fromStdString(test::data("signals/current-mount.csv")), {});
    EXPECT_TRUE(QTest::qWaitFor([&] { return !window->document().busy() && window->document().trail()->beside.size() == before + 1; }, 10'000));
}

}  // namespace
}  // namespace mt::app
