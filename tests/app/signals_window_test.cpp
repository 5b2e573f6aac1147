// Signals of other devices in the window: lanes with a scale, the value at the cursor, heights that a person drags.
#include <gtest/gtest.h>

#include <QContextMenuEvent>
#include <QMenu>
#include <QTest>
#include <QTimer>

#include "measure/kinds/kinds.h"
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

}  // namespace
}  // namespace mt::app
