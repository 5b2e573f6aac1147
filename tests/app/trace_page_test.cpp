// What to trace, driven by clicks and keys on the real window against a real board process.
#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableWidget>
#include <QTest>

#include <gtest/gtest.h>

#include "process.h"
#include "record/cost_bars.h"
#include "shown_window.h"

namespace mt::app {
namespace {

using test::Board;

class WhatToTrace : public ::testing::Test {
  protected:
    void SetUp() override {
        window = shown_window();
        for (const char* file : {"larkspur-live.target.toml", "larkspur.elf", "larkspur-cop.elf", "larkspur.svd"})
            std::filesystem::copy(std::string(MT_DEMO "/") + file, folder / file);
    }
    void open(const Board& board, const std::string& rest, const std::string& trace = "") {
        const std::string connect =
            "debug = \"" + board.gdb() + "\"\n" + (trace.empty() ? test::tcp(board.trace()) : trace);
        test::write_file(folder / "r.recipe.toml", test::recipe_text_for(connect, rest, "larkspur-live.target.toml"));
        window->open(QString::fromStdString(folder / "r.recipe.toml"));
    }
    template <class T>
    T* named(const char* name) {
        auto* w = window->findChild<T*>(name);
        EXPECT_NE(w, nullptr) << name;
        return w;
    }
    void click(const char* name) {
        auto* b = named<QPushButton>(name);
        ASSERT_TRUE(b->isVisible()) << name;
        QTest::mouseClick(b, Qt::LeftButton);
    }
    TracePage* page() { return window->desk().record().trace(); }
    QString verdict() { return page()->verdict_text(); }
    void look() {
        click("trace_look");
        ASSERT_TRUE(QTest::qWaitFor([&] { return !page()->looking(); }, 15'000));
    }
    /// Clicks a three-way box until it says so.
    void set(const char* name, Qt::CheckState state) {
        auto* box = named<QCheckBox>(name);
        for (int i = 0; i < 3 && box->checkState() != state; ++i)
            QTest::mouseClick(box, Qt::LeftButton, {}, QPoint(8, box->height() / 2));
        EXPECT_EQ(box->checkState(), state) << name;
    }
    int unit(const QString& name) {
        for (int i = 0; i < 64; ++i)
            if (page()->picture()->name_of(i) == name) return i;
        return -1;
    }

    test::Folder folder;
    std::unique_ptr<MainWindow> window;
};

TEST_F(WhatToTrace, LookingDrawsTheUnitsAndAClickTellsOfOne) {
    Board board({"--bare"});
    open(board, "[record]\nseconds = 0.5\n");
    click("recipe_trace");
    ASSERT_TRUE(page()->isVisible());
    EXPECT_TRUE(verdict().contains("not known yet")) << verdict().toStdString();
    look();
    EXPECT_TRUE(verdict().contains("Nothing is asked for")) << verdict().toStdString();
    const int dwt = unit("DWT"), tpiu = unit("TPIU");
    ASSERT_GE(dwt, 0);
    ASSERT_GE(tpiu, 0);
    const QRectF box = page()->picture()->box_of(dwt);
    EXPECT_LT(box.right(), page()->picture()->box_of(tpiu).left()) << "from the core to the pins";
    QTest::mouseClick(page()->picture(), Qt::LeftButton, {}, box.center().toPoint());
    EXPECT_TRUE(named<QLabel>("trace_detail")->text().contains("comparator 0"))
        << named<QLabel>("trace_detail")->text().toStdString();
    QTest::keyClick(page()->picture(), Qt::Key_Right);
    EXPECT_NE(page()->picture()->chosen(), dwt) << "the arrow keys go on";
}

TEST_F(WhatToTrace, WhatIsMarkedIsPlannedCostedAndRecorded) {
    Board board({"--bare"});
    open(board, "[before]\nreset = true\nrun_to = { place = \"main\" }\n[record]\nseconds = 0.5\n");
    click("recipe_trace");
    look();
    set("trace_exceptions", Qt::Checked);
    EXPECT_TRUE(verdict().contains("This can be had")) << verdict().toStdString();
    click("trace_add_variable");
    auto* field = named<QTableWidget>("trace_variables")->findChild<QLineEdit*>();
    ASSERT_NE(field, nullptr) << "the new row is being edited";
    QTest::keyClicks(field, "axis_error");
    QTest::keyClick(field, Qt::Key_Return);
    named<QComboBox>("trace_to")->setCurrentIndex(1);
    QTest::qWait(50);
    auto* costs = page()->findChild<CostBars*>();
    EXPECT_TRUE(costs->text().contains("variable axis_error")) << costs->text().toStdString();
    page()->picture()->choose(unit("DWT"));
    EXPECT_TRUE(named<QLabel>("trace_detail")->text().contains("DWT_COMP0"))
        << named<QLabel>("trace_detail")->text().toStdString();
    QTest::keyClick(window.get(), Qt::Key_F5);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().record().live().active(); }, 5'000))
        << window->notice_text().toStdString();
    ASSERT_TRUE(QTest::qWaitFor([&] { return !window->desk().record().live().active(); }, 20'000));
    const auto trail = window->document().trail();
    ASSERT_TRUE(trail);
    ASSERT_FALSE(trail->streams.empty());
    EXPECT_GT(trail->streams[0].comparators[0], 0U) << "axis_error was told";
    EXPECT_TRUE(window->desk().record().stations()->station_text(RunState::set_trace).contains("registers written"));
}

TEST_F(WhatToTrace, TheRarerWishesUnfoldAndAreTheRecipesToo) {
    Board board({"--bare"});
    open(board, "[record]\nseconds = 0.5\n");
    click("recipe_trace");
    look();
    EXPECT_FALSE(named<QLineEdit>("trace_events")->isVisible());
    click("trace_unfold");
    ASSERT_TRUE(named<QLineEdit>("trace_events")->isVisible());
    named<QComboBox>("trace_instructions")->setCurrentIndex(2);
    named<QComboBox>("trace_to")->setCurrentIndex(3);
    const auto type = [&](const char* name, const char* text) {
        auto* field = named<QLineEdit>(name);
        field->setFocus();
        QTest::keyClicks(field, text);
        QTest::keyClick(field, Qt::Key_Return);
    };
    type("trace_events", "guide_task, track_loop");
    type("trace_stop", "guide_task");
    named<QSpinBox>("trace_after_bytes")->setValue(1024);
    EXPECT_TRUE(verdict().contains("1 event, and 2 are wanted besides the trigger")) << verdict().toStdString();
    named<QLineEdit>("trace_events")->clear();
    type("trace_events", "guide_task");
    EXPECT_TRUE(verdict().contains("This can be had")) << verdict().toStdString();
    const TraceWish w = page()->wish();
    ASSERT_TRUE(w.instructions && w.stop);
    EXPECT_EQ(w.instructions->events, std::vector<std::string>{"guide_task"});
    EXPECT_EQ(w.stop->after_bytes, 1024U);
    EXPECT_NE(recipe_text(page()->recipe(), folder / "r.recipe.toml").find("events = [\"guide_task\"]"),
              std::string::npos);
}

TEST_F(WhatToTrace, WhatCannotBeHadIsSaidAtOnce) {
    Board board({"--bare"});
    open(board, "[trace]\nvariables = [{ of = \"tasks\" }]\n[record]\nseconds = 0.5\n");
    click("recipe_trace");
    look();
    EXPECT_TRUE(verdict().contains("cannot be watched")) << verdict().toStdString();
    Board dead({"--bare", "--unit-off", "etm"});
    open(dead, "[trace]\ninstructions = {}\nto = \"buffer\"\n[record]\nseconds = 0.5\n");
    click("recipe_trace");
    look();
    EXPECT_TRUE(verdict().contains("without power")) << verdict().toStdString();
}

TEST_F(WhatToTrace, AQuestionFillsTheFormAndTheRecipeKeepsIt) {
    Board board({"--bare"});
    open(board, "[record]\nseconds = 0.5\n");
    click("recipe_trace");
    auto* preset = named<QComboBox>("trace_preset");
    const int fault = preset->findText("every instruction until the fault");
    ASSERT_GT(fault, 0);
    preset->setCurrentIndex(fault);
    emit preset->activated(fault);
    EXPECT_EQ(named<QComboBox>("trace_instructions")->currentIndex(), 2);
    EXPECT_EQ(named<QComboBox>("trace_to")->currentIndex(), 3);
    click("trace_back");
    EXPECT_TRUE(window->desk().record().form()->isVisible());
    EXPECT_TRUE(named<QLabel>("recipe_trace_said")->text().contains("instructions"));
    const auto recipe = window->desk().record().form()->recipe();
    ASSERT_TRUE(recipe) << recipe.error().text();
    ASSERT_EQ(recipe->traces.size(), 1U);
    EXPECT_EQ(recipe->traces[0].to, TraceWish::To::buffer);
    EXPECT_FALSE(recipe->traces[0].keep);
}

TEST_F(WhatToTrace, ParametersAreFieldsAndSetWhatTheyStandFor) {
    Board board;
    open(board, "[parameters]\nseconds = 4\n[record]\nseconds = \"{seconds}\"\n");
    auto* field = named<QLineEdit>("parameter_seconds");
    ASSERT_NE(field, nullptr);
    EXPECT_EQ(field->text(), "4");
    EXPECT_FALSE(window->desk().record().form()->findChild<QDoubleSpinBox*>("recipe_seconds")->isEnabled());
    field->setFocus();
    field->selectAll();
    QTest::keyClicks(field, "7");
    QTest::keyClick(field, Qt::Key_Return);
    const auto recipe = window->desk().record().form()->recipe();
    ASSERT_TRUE(recipe) << recipe.error().text();
    EXPECT_EQ(recipe->seconds, 7.0);
}

TEST_F(WhatToTrace, WhatLedHereShowsTheLastInstructionsOfAFault) {
    Board board({"--bare", "--fault-at", "0.4"});
    open(board,
         "[before]\nreset = true\nrun_to = { place = \"main\" }\n[trace]\nkeep = false\ninstructions = {}\nto = "
         "\"buffer\"\n[record]\nseconds = "
         "0.2\n[after]\nkeep_trace = true\n",
         "trace = \"buffer\"\n");
    QTest::keyClick(window.get(), Qt::Key_F5);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().record().live().active(); }, 5'000))
        << window->notice_text().toStdString();
    ASSERT_TRUE(QTest::qWaitFor([&] { return !window->desk().record().live().active(); }, 20'000));
    QTest::qWait(500);
    window->desk().record().ask_what_led_here();
    ASSERT_TRUE(QTest::qWaitFor([&] { return !window->desk().record().live().active(); }, 20'000))
        << window->notice_text().toStdString();
    const auto steps = [&] {
        const auto trail = window->document().trail();
        return trail && !trail->steps.empty() ? trail->steps[0].steps : 0;
    };
    EXPECT_TRUE(QTest::qWaitFor([&] { return steps() > 100; }, 10'000)) << window->notice_text().toStdString();
}

TEST_F(WhatToTrace, IsWholeOnASmallScreen) {
    Board board({"--bare"});
    window->resize(1024, 700);
    open(board, "[trace]\nexceptions = true\nto = \"swo\"\n[record]\nseconds = 0.5\n");
    click("recipe_trace");
    look();
    std::string wide;
    for (QWidget* w : window->findChildren<QWidget*>())
        if (w->isVisible() && w->minimumSizeHint().width() > 900)
            wide += std::string(w->metaObject()->className()) + " " + w->objectName().toStdString() + "\n";
    EXPECT_EQ(window->width(), 1024) << wide;
    for (const char* name : {"trace_look", "trace_back"}) {
        auto* b = named<QPushButton>(name);
        EXPECT_LE(b->mapTo(window.get(), b->rect().bottomRight()).x(), window->width()) << name;
    }
    EXPECT_GT(page()->picture()->box_of(unit("TPIU")).width(), 40);
    EXPECT_LE(page()->picture()->box_of(unit("TPIU")).right(), page()->picture()->width());
}

}  // namespace
}  // namespace mt::app
