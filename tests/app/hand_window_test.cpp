// A target in hand, in the window: clicks and keys on the real window, against a real board process.
#include <QCheckBox>
#include <QInputDialog>
#include <QLineEdit>
#include <QMenu>
#include <QMessageBox>
#include <QTest>
#include <QTimer>
#include <QToolButton>

#include <gtest/gtest.h>

#include <filesystem>

#include "base/text.h"
#include "process.h"
#include "look/theme.h"
#include "shown_window.h"

namespace mt::app {
namespace {

using test::Board;

class TargetInHand : public ::testing::Test {
  protected:
    void SetUp() override {
        for (const char* file : {"larkspur-live.target.toml", "larkspur.elf", "larkspur-cop.elf", "larkspur.svd", "mount.btf.toml"})
            if (std::filesystem::exists(std::string(MT_DEMO "/") + file)) std::filesystem::copy(std::string(MT_DEMO "/") + file, folder / file);
        // Registers that stand in memory, so that the board has them.
        std::string svd = test::read_text(folder / "larkspur.svd");
        svd.insert(svd.find("</peripherals>"),
                   "<peripheral><name>MAIL</name><baseAddress>0x20000000</baseAddress><registers><register><name>CTRL</name>"
                   "<addressOffset>0</addressOffset><fields><field><name>MODE</name><bitOffset>0</bitOffset><bitWidth>2</bitWidth></field></fields>"
                   "</register><register><name>DATA</name><addressOffset>4</addressOffset><readAction>clear</readAction></register>"
                   "<register><name>KEY</name><addressOffset>8</addressOffset><access>write-only</access></register></registers></peripheral>");
        test::write_file(folder / "larkspur.svd", svd);
        window = shown_window();
        record();
    }
    /// Both cores; instructions of the co-processor.
    void record() {
        test::write_file(folder / "r.recipe.toml",
                         "format = \"mindful-trail-recipe/1\"\nname = \"hand\"\npatience_ms = 30000\ntarget = \"larkspur-live.target.toml\"\n"
                         "[[connect]]\ncore = \"main\"\ndebug = \"" + board.gdb() + "\"\n" + test::tcp(board.trace()) +
                             "[[connect]]\ncore = \"cop\"\ndebug = \"" + board.gdb_cop() + "\"\nprotocol = \"etrace\"\n" +
                             test::tcp(board.trace_cop()) + "[record]\nseconds = 300\n");
        window->open(QString::fromStdString(folder / "r.recipe.toml"));
        QTest::keyClick(window.get(), Qt::Key_F5);
        ASSERT_TRUE(wait([&] { return hand().at_hand() && window->document().live() && steps() > 1000; })) << window->notice_text().toStdString();
        window->desk().show_evidence(&hand());
        auto* cores = window->findChild<QComboBox*>("hand_core");
        cores->setFocus();
        QTest::keyClick(cores, Qt::Key_Down);
        ASSERT_EQ(cores->currentText(), "cop");
    }
    void TearDown() override {
        window->desk().record().live().stop(false);
        EXPECT_TRUE(wait([&] { return !window->desk().record().live().active(); }));
    }
    HandPage& hand() { return *window->desk().hand(); }
    static bool wait(std::function<bool()> is) { return QTest::qWaitFor(is, 60'000); }
    std::uint64_t steps() {
        const auto trail = window->document().trail();
        return trail && !trail->steps.empty() ? trail->steps[0].steps : 0;
    }
    void click(const char* name) {
        auto* b = window->findChild<QToolButton*>(name);
        ASSERT_NE(b, nullptr) << name;
        ASSERT_TRUE(b->isVisible() && b->isEnabled()) << name;
        QTest::mouseClick(b, Qt::LeftButton);
    }
    void enter(const char* field, const QString& text) {
        auto* f = window->findChild<QLineEdit*>(field);
        f->setFocus();
        f->clear();
        QTest::keyClicks(f, text);
        QTest::keyClick(f, Qt::Key_Return);
    }
    /// The value of a row, wherever in a tree it stands.
    static QTreeWidgetItem* row(QTreeWidget* tree, const QString& name) {
        const auto found = tree->findItems(name, Qt::MatchExactly | Qt::MatchRecursive, 0);
        return found.isEmpty() ? nullptr : found.front();
    }
    QString value(QTreeWidget* tree, const QString& name) {
        const QTreeWidgetItem* item = row(tree, name);
        return item == nullptr ? QString() : item->text(1);
    }
    void halt() {
        click("hand_go");
        ASSERT_TRUE(wait([&] { return hand().where().startsWith("stands at") && !value(hand().registers(), "pc").isEmpty(); })) << hand().where().toStdString();
    }
    /// Double click on a value, the new one, Enter.
    void change(QTreeWidget* tree, const QString& name, const QString& to) {
        QTreeWidgetItem* item = row(tree, name);
        ASSERT_NE(item, nullptr);
        for (QTreeWidgetItem* up = item->parent(); up != nullptr; up = up->parent()) up->setExpanded(true);
        tree->scrollToItem(item);
        const QPoint at = tree->visualItemRect(item).center() + QPoint(tree->columnWidth(0) - tree->visualItemRect(item).center().x() + 12, 0);
        QTest::mouseClick(tree->viewport(), Qt::LeftButton, {}, at);
        QTest::mouseDClick(tree->viewport(), Qt::LeftButton, {}, at);
        auto* editor = tree->findChild<QLineEdit*>();
        ASSERT_NE(editor, nullptr) << "the value can be typed over";
        editor->selectAll();
        QTest::keyClicks(editor, to);
        QTest::keyClick(editor, Qt::Key_Return);
    }
    test::Folder folder;
    Board board;
    std::unique_ptr<MainWindow> window;
};

TEST_F(TargetInHand, EachStepGrowsTheTraceAndAllViewsStandWhereTheCoreStands) {
    halt();
    QTest::qWait(500);
    const QString pc = value(hand().registers(), "pc");
    const std::uint64_t before = steps();
    // One may be the taking of an interrupt, which executes nothing.
    for (int step = 1; step <= 2; ++step) {
        const std::uint64_t stood = window->desk().record().live().state().cores.back().stands;
        QTest::keyClick(window.get(), Qt::Key_F7);
        ASSERT_TRUE(wait([&] { return window->desk().record().live().state().cores.back().stands > stood; }));
    }
    ASSERT_TRUE(wait([&] { return value(hand().registers(), "pc") != pc; }));
    ASSERT_TRUE(wait([&] { return steps() > before; })) << "the step is in the trace";
    EXPECT_LE(steps(), before + 4);
    ASSERT_TRUE(wait([&] { return window->desk().footsteps()->current() == steps() - 1; })) << "and the instructions stand at it";
    EXPECT_EQ(row(hand().registers(), "pc")->foreground(1).color(), theme().interrupt) << "what changed is marked";
    // A line, over calls, out: each ends somewhere else.
    for (const char* button : {"hand_line", "hand_over", "hand_out"}) {
        const QString at = hand().where();
        click(button);
        ASSERT_TRUE(wait([&] { return hand().where() != at && hand().where().startsWith("stands at"); })) << button << " " << at.toStdString();
    }
}

TEST_F(TargetInHand, OverEachStepTheCallersStayAndThePastIsKnownFromHowTheCoreStands) {
    enter("hand_add_point", "interpolate");
    ASSERT_TRUE(wait([&] { return hand().where().contains("breakpoint at interpolate"); })) << hand().where().toStdString();
    for (int step = 0; step < 3; ++step) {
        const std::uint64_t stood = window->desk().record().live().state().cores.back().stands;
        QTest::keyClick(window.get(), Qt::Key_F7);
        ASSERT_TRUE(wait([&] { return window->desk().record().live().state().cores.back().stands > stood; }));
    }
    Footsteps* footsteps = window->desk().footsteps();
    window->desk().show_evidence(footsteps);
    footsteps->set_fold(Footsteps::Fold::stack);
    const auto& frames = footsteps->frames();
    ASSERT_TRUE(wait([&] { return footsteps->current() == steps() - 1 && frames.size() > 2 && frames.front().name == "interpolate"; }))
        << "at " << footsteps->current().value_or(0) << " of " << steps() << ": " << backtrace_text(frames, 9);
    EXPECT_TRUE(std::any_of(frames.begin(), frames.end(), [](const TraceFrame& f) { return f.handler; })) << "the interrupt that it is part of: " << backtrace_text(frames, 9);
    for (const TraceFrame& f : frames)
        if (!f.handler && f.level > 0) EXPECT_GT(f.line, 0) << f.name << ": where it calls the next";
    // What nobody wrote since the recording began is known, too.
    StatePage* state = window->desk().state();
    window->desk().evidence()->show_page(state);
    const auto known = [&] { return state->hint().section(": ", 1).section(' ', 0, 0).toInt(); };
    EXPECT_TRUE(wait([&] { return known() >= 30; })) << state->hint().toStdString();
}

TEST_F(TargetInHand, AVariableIsWatchedFromItsMenu) {
    enter("hand_add_variable", "axis_angle");
    ASSERT_TRUE(wait([&] { return row(hand().variables(), "axis_angle") != nullptr && !value(hand().variables(), "axis_angle").isEmpty(); }));
    hand().variables()->setCurrentItem(row(hand().variables(), "axis_angle"));
    ASSERT_FALSE(hand().variables()->actions().isEmpty());
    hand().variables()->actions().front()->trigger();
    EXPECT_TRUE(wait([&] { return hand().where().contains("axis_angle was accessed"); })) << hand().where().toStdString();
    ASSERT_EQ(hand().points()->topLevelItemCount(), 1);
    EXPECT_EQ(hand().points()->topLevelItem(0)->text(0), "watch axis_angle write");
}

TEST_F(TargetInHand, APointStopsAtItsCountIsListedWithItsHitsAndKeptForTheNextTime) {
    enter("hand_add_point", "interpolate count 3");
    ASSERT_TRUE(wait([&] { return hand().where().contains("breakpoint at interpolate, hit 3"); })) << hand().where().toStdString();
    EXPECT_TRUE(hand().where().contains("halted 2 times to look")) << hand().where().toStdString();
    ASSERT_EQ(hand().points()->topLevelItemCount(), 1);
    EXPECT_EQ(hand().points()->topLevelItem(0)->text(0), "interpolate count 3");
    EXPECT_EQ(hand().points()->topLevelItem(0)->text(2), "3");
    const auto kept = [&] { return std::filesystem::exists(folder / "larkspur-live.points.toml") ? test::read_text(folder / "larkspur-live.points.toml") : std::string(); };
    ASSERT_TRUE(wait([&] { return kept().find("break interpolate count 3") != std::string::npos; })) << kept();
    // The next recording has it again.
    window->desk().record().live().stop(false);
    ASSERT_TRUE(wait([&] { return !window->desk().record().live().active(); }));
    record();
    ASSERT_TRUE(wait([&] { return hand().points()->topLevelItemCount() == 1; }));
    // While the core stops and goes on at it, what is asked for may be refused: it is asked for again.
    auto asked = std::chrono::steady_clock::now() - std::chrono::seconds(5);
    ASSERT_TRUE(wait([&] {
        if (hand().points()->topLevelItemCount() == 0) return true;
        if (std::chrono::steady_clock::now() - asked < std::chrono::seconds(3)) return false;
        asked = std::chrono::steady_clock::now();
        hand().points()->setCurrentItem(hand().points()->topLevelItem(0));
        hand().points()->setFocus();
        QTest::keyClick(hand().points(), Qt::Key_Delete);
        return false;
    })) << window->notice_text().toStdString() << "; " << hand().where().toStdString() << "; focus " << hand().points()->hasFocus();
    EXPECT_TRUE(wait([&] { return kept().find("[[point]]") == std::string::npos; })) << kept();
}

TEST_F(TargetInHand, NothingIsChangedUnlessWritingIsOnAndAChangeCanBeTakenBack) {
    halt();
    enter("hand_add_variable", "axis_angle");
    ASSERT_TRUE(wait([&] { return !value(hand().variables(), "axis_angle").isEmpty(); }));
    const QString was = value(hand().variables(), "axis_angle");
    auto* tree = hand().variables();
    const QPoint at(tree->columnWidth(0) + 10, tree->visualItemRect(tree->topLevelItem(0)).center().y());
    QTest::mouseClick(tree->viewport(), Qt::LeftButton, {}, at);
    QTest::mouseDClick(tree->viewport(), Qt::LeftButton, {}, at);
    EXPECT_TRUE(window->notice_text().contains("may only be looked at")) << window->notice_text().toStdString();
    QTest::mouseClick(window->findChild<QCheckBox*>("hand_writing"), Qt::LeftButton, {}, QPoint(8, 8));
    change(hand().variables(), "axis_angle", "1234");
    ASSERT_TRUE(wait([&] { return value(hand().variables(), "axis_angle") == "1234"; })) << value(hand().variables(), "axis_angle").toStdString();
    EXPECT_TRUE(window->notice_text().contains("axis_angle = 1234, was " + was)) << window->notice_text().toStdString();
    change(hand().registers(), "a0", "0x55");
    ASSERT_TRUE(wait([&] { return value(hand().registers(), "a0") == "0x00000055"; }));
    click("hand_undo");
    ASSERT_TRUE(wait([&] { return value(hand().registers(), "a0") != "0x00000055"; }));
    click("hand_undo");
    ASSERT_TRUE(wait([&] { return value(hand().variables(), "axis_angle") == was; })) << value(hand().variables(), "axis_angle").toStdString();
}

TEST_F(TargetInHand, PeripheralsAreReadRegisterByRegisterWhenTheyAreOpened) {
    auto* cores = window->findChild<QComboBox*>("hand_core");
    cores->setFocus();
    QTest::keyClick(cores, Qt::Key_Up);
    ASSERT_EQ(cores->currentText(), "main");
    halt();
    const auto group = [&] { return row(hand().registers(), "peripherals"); };
    ASSERT_TRUE(wait([&] { return group() != nullptr; }));
    group()->setExpanded(true);
    QTreeWidgetItem* mail = row(hand().registers(), "MAIL");
    ASSERT_NE(mail, nullptr);
    EXPECT_EQ(mail->childCount(), 0) << "nothing is read before it is opened";
    mail->setExpanded(true);
    ASSERT_EQ(mail->childCount(), 3);
    ASSERT_TRUE(wait([&] { return !mail->child(0)->text(1).isEmpty() && !mail->child(0)->child(0)->text(1).isEmpty(); }));
    EXPECT_TRUE(mail->child(1)->text(1).contains("reading it acts")) << "it is not read unless somebody wants it";
    EXPECT_EQ(mail->child(2)->text(1), "can only be written");
    hand().registers()->scrollToItem(mail->child(1));
    const QPoint at = hand().registers()->visualItemRect(mail->child(1)).center();
    QTest::mouseClick(hand().registers()->viewport(), Qt::LeftButton, {}, at);
    QTest::mouseDClick(hand().registers()->viewport(), Qt::LeftButton, {}, at);
    EXPECT_TRUE(wait([&] { return !mail->child(1)->text(1).contains("acts"); })) << "now it is";
    EXPECT_TRUE(window->notice_text().isEmpty()) << window->notice_text().toStdString();
}

TEST_F(TargetInHand, ThePastIsPutIntoTheTargetAndTakenBack) {
    halt();
    ASSERT_TRUE(wait([&] { return window->desk().footsteps()->current() == steps() - 1; }));
    const QString pc = value(hand().registers(), "pc");
    window->desk().show_evidence(window->desk().state());
    // So far back that it is another instruction, and that its state is known in part.
    const std::uint64_t back = steps() - 200;
    window->desk().footsteps()->go_to(back);
    QString hint;
    ASSERT_TRUE(wait([&] {
        hint = window->desk().state()->hint();
        return hint.startsWith("before instruction " + QString::fromStdString(count_text(back))) && !hint.contains("executing");
    })) << hint.toStdString();
    QString asked;
    QTimer::singleShot(300, [&asked] {
        auto* box = qobject_cast<QMessageBox*>(QApplication::activeModalWidget());
        if (box == nullptr) return;
        asked = box->text();
        QTest::mouseClick(box->button(QMessageBox::Yes), Qt::LeftButton);
    });
    click("state_put");
    EXPECT_TRUE(asked.contains("of memory are known")) << asked.toStdString();
    EXPECT_TRUE(asked.contains("staying as they are in the target")) << asked.toStdString();
    window->desk().show_evidence(&hand());
    ASSERT_TRUE(wait([&] { return value(hand().registers(), "pc") != pc; }));
    EXPECT_TRUE(hint.contains(value(hand().registers(), "pc"))) << "it stands at that instruction: " << hint.toStdString();
    click("hand_undo");
    ASSERT_TRUE(wait([&] { return value(hand().registers(), "pc") == pc; })) << value(hand().registers(), "pc").toStdString();
}

TEST_F(TargetInHand, CoresThatGoTogetherStopTogetherAndMemoryIsShownAsOneWants) {
    QTest::mouseClick(window->findChild<QCheckBox*>("hand_together"), Qt::LeftButton, {}, QPoint(8, 8));
    enter("hand_add_point", "interpolate");
    ASSERT_TRUE(wait([&] {
        const auto& cores = window->desk().record().live().state().cores;
        return std::all_of(cores.begin(), cores.end(), [](const auto& c) { return !c.debug || !c.running; });
    }));
    std::string reason;
    for (const auto& c : window->desk().record().live().state().cores)
        if (c.name == "main") reason = c.reason;
    EXPECT_EQ(reason.rfind("stopped with cop, ", 0), 0U) << reason;
    enter("hand_address", "0x80000000");
    ASSERT_TRUE(wait([&] { return hand().memory()->topLevelItemCount() == 16; }));
    const QString bytes = hand().memory()->topLevelItem(0)->text(1);
    EXPECT_EQ(bytes.split(' ').size(), 16);
    auto* as = window->findChild<QComboBox*>("hand_memory_as");
    as->setFocus();
    QTest::keyClick(as, Qt::Key_Down);
    ASSERT_TRUE(wait([&] { return hand().memory()->topLevelItem(0)->text(1).split(' ').size() == 4; }));
    const QStringList b = bytes.split(' ');
    EXPECT_EQ(hand().memory()->topLevelItem(0)->text(1).split(' ').front(), b[3] + b[2] + b[1] + b[0]) << "as the core reads them";
}

TEST_F(TargetInHand, MemoryIsTypedOverFilledSearchedAndShownAsInstructions) {
    halt();
    QTreeWidget* tree = hand().memory();
    const auto shows = [&](int row) { return row < tree->topLevelItemCount() ? tree->topLevelItem(row)->text(1) : QString(); };
    const auto type_over = [&](const QString& text, bool may = true) {
        const QPoint at(tree->columnWidth(0) + 10, tree->visualItemRect(tree->topLevelItem(0)).center().y());
        QTest::mouseClick(tree->viewport(), Qt::LeftButton, {}, at);
        QTest::mouseDClick(tree->viewport(), Qt::LeftButton, {}, at);
        auto* editor = tree->findChild<QLineEdit*>();
        ASSERT_EQ(editor != nullptr, may);
        if (!may) return;
        editor->selectAll();
        QTest::keyClicks(editor, text);
        QTest::keyClick(editor, Qt::Key_Return);
    };
    // An entry of the menu, and what its dialog is given.
    const auto choose = [&](const QString& begins, const QString& answer) {
        QTimer::singleShot(200, [=] {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            ASSERT_NE(menu, nullptr);
            for (QAction* a : menu->actions()) {
                if (!a->text().startsWith(begins)) continue;
                QTimer::singleShot(200, [=] {
                    auto* dialog = qobject_cast<QInputDialog*>(QApplication::activeModalWidget());
                    ASSERT_NE(dialog, nullptr);
                    dialog->setTextValue(answer);
                    dialog->accept();
                });
                menu->setActiveAction(a);
                return QTest::keyClick(menu, Qt::Key_Return);
            }
            menu->close();
        });
        emit tree->customContextMenuRequested(tree->visualItemRect(tree->topLevelItem(0)).center());
    };
    enter("hand_address", "0x80040000");
    ASSERT_TRUE(wait([&] { return tree->topLevelItemCount() == 16; }));
    type_over("00", false);
    EXPECT_TRUE(window->notice_text().contains("may only be looked at")) << window->notice_text().toStdString();
    QTest::mouseClick(window->findChild<QCheckBox*>("hand_writing"), Qt::LeftButton, {}, QPoint(8, 8));
    // addi a0, a0, 1; then a jump to itself.
    auto* as = window->findChild<QComboBox*>("hand_memory_as");
    as->setFocus();
    QTest::keyClick(as, Qt::Key_Down);
    ASSERT_TRUE(wait([&] { return shows(0).split(' ').size() == 4; })) << shows(0).toStdString();
    type_over("00150513 0000006f 1 2");
    ASSERT_TRUE(wait([&] { return shows(0) == "00150513 0000006f 00000001 00000002"; })) << shows(0).toStdString();
    type_over("nothing");
    EXPECT_TRUE(wait([&] { return window->notice_text().contains("4 of 8 digits each"); })) << window->notice_text().toStdString();
    QTest::keyClick(as, Qt::Key_Down);
    QTest::keyClick(as, Qt::Key_Down);
    ASSERT_TRUE(wait([&] { return shows(0).contains("addi"); })) << shows(0).toStdString();
    EXPECT_TRUE(shows(1).startsWith("j")) << shows(1).toStdString();
    choose("Fill from", "4 0x13");
    ASSERT_TRUE(wait([&] { return shows(0).contains("0x13131313") || !shows(0).contains("addi a0"); })) << shows(0).toStdString();
    choose("Search from", "0x100 0x0000006f");
    ASSERT_TRUE(wait([&] { return tree->topLevelItemCount() == 1 && tree->topLevelItem(0)->text(0) == "0x80040004"; })) << shows(0).toStdString();
    QTest::mouseClick(tree->viewport(), Qt::LeftButton, {}, tree->visualItemRect(tree->topLevelItem(0)).center());
    QTest::mouseDClick(tree->viewport(), Qt::LeftButton, {}, tree->visualItemRect(tree->topLevelItem(0)).center());
    ASSERT_TRUE(wait([&] { return tree->topLevelItemCount() > 10 && tree->topLevelItem(0)->text(0) == "0x80040004"; }));
}

}  // namespace
}  // namespace mt::app
