// The jobs of an investigation with the keyboard alone: every key goes to whatever has the focus.
#include <gtest/gtest.h>

#include <QApplication>
#include <QDropEvent>
#include <QFileDialog>
#include <QListView>
#include <QMenu>
#include <QMimeData>
#include <QSettings>
#include <QSignalSpy>
#include <QTest>
#include <QTextBlock>
#include <QTimer>

#include "measure/kinds/kinds.h"
#include "measure/refs.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class Keyboard : public testing::Test {
  protected:
    void SetUp() override {
        window = shown_window();
        open(test::demo("larkspur.target.toml"));
    }

    void open(const std::string& path) {
        QSignalSpy finished(&window->document(), &Document::finished);
        press(Qt::Key_O, Qt::ControlModifier, [&] { answer_file(QString::fromStdString(path)); });
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
        window->activateWindow();
        ASSERT_TRUE(QTest::qWaitFor([&] { return QApplication::focusWidget() != nullptr; }));
    }

    // To the widget with the focus; a shortcut is met by any.
    void press(Qt::Key key, Qt::KeyboardModifiers with = Qt::NoModifier, std::function<void()> meanwhile = {}) {
        if (meanwhile) QTimer::singleShot(0, window.get(), std::move(meanwhile));
        QWidget* focus = QApplication::focusWidget();
        QTest::keyClick(focus != nullptr ? focus : window.get(), key, with);
    }
    void type(const QString& text) { QTest::keyClicks(QApplication::focusWidget(), text); }

    // Waits for the dialog of files, types a path and Enter.
    void answer_file(const QString& path) {
        QFileDialog* dialog = nullptr;
        ASSERT_TRUE(QTest::qWaitFor(
            [&] { return (dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget())) != nullptr; }));
        auto* name = dialog->findChild<QLineEdit*>("fileNameEdit");
        ASSERT_NE(name, nullptr);
        name->setText(
            path);  // what is typed letter by letter opens a list of completions, which no plugin here can show
        QTest::keyClick(name, Qt::Key_Return);
        if (dialog->isVisible()) dialog->reject();
    }
    // In the context menu of what has the focus: down to the entry, and Enter.
    void choose_in_menu(const QString& text) {
        QTimer::singleShot(0, window.get(), [this, text] {
            QMenu* menu = nullptr;
            ASSERT_TRUE(QTest::qWaitFor(
                [&] { return (menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) != nullptr; }));
            for (int i = 0; i < 40; ++i) {
                QTest::keyClick(menu, Qt::Key_Down);
                if (menu->activeAction() != nullptr && menu->activeAction()->text().contains(text)) {
                    QTest::keyClick(menu, Qt::Key_Return);
                    return;
                }
            }
            menu->close();
            ADD_FAILURE() << "no " << text.toStdString();
        });
        QWidget* focus = QApplication::focusWidget();
        auto* area = qobject_cast<QAbstractScrollArea*>(focus);
        const QPoint at = focus->inputMethodQuery(Qt::ImCursorRectangle).toRect().center();
        QContextMenuEvent e(QContextMenuEvent::Keyboard, at, focus->mapToGlobal(at));
        QApplication::sendEvent(area != nullptr ? area->viewport() : focus, &e);
    }
    // F until a finding of this kind is gone to.
    const Finding& walk_to(FindingKind kind) {
        const auto& all = window->document().findings();
        for (std::size_t i = 0; i < all.size(); ++i) {
            press(Qt::Key_F);
            if (const auto at = window->desk().navigator().finding(); at && all[*at].kind == kind) return all[*at];
        }
        ADD_FAILURE() << "no such finding";
        return all[0];
    }
    Viewpoint& view() { return window->desk().viewpoint(); }

    std::unique_ptr<MainWindow> window;
};

TEST_F(Keyboard, FromALateInterruptToWhatKeptItWaiting) {
    const Finding& late = walk_to(FindingKind::late_response);
    EXPECT_TRUE(QString::fromStdString(late.title).contains("late")) << late.title;
    EXPECT_EQ(view().selection().lane, late.lane);
    EXPECT_LE(view().from(), late.begin);
    EXPECT_GE(view().to(), late.begin);
    // Into the list: its menu leads to those who are involved.
    const Involved* masker = late.with(Role::masker);
    ASSERT_NE(masker, nullptr);
    window->desk().findings_panel()->list()->setFocus(Qt::TabFocusReason);
    ASSERT_TRUE(window->desk().findings_panel()->list()->hasFocus());
    choose_in_menu(QString("Go to %1 there").arg(QString::fromStdString(masker->name)));
    EXPECT_EQ(view().selection().lane, masker->lane);
}

TEST_F(Keyboard, FromAFaultToTheLineThatRaisedIt) {
    walk_to(FindingKind::fault);
    EXPECT_TRUE(window->desk().footsteps()->at_raised());
    press(Qt::Key_F2);  // instructions and source beside each other
    EXPECT_EQ(window->desk().arrangement().name(), Arrangement::Name::code);
    SourceView* source = window->desk().source();
    ASSERT_TRUE(QTest::qWaitFor([&] { return source->isVisible() && source->text()->marked().has_value(); }));
    const QString line = source->text()->document()->findBlockByNumber(*source->text()->marked()).text();
    const auto place = window->document().recording()->images[0]->line_at(0x08000112);
    ASSERT_TRUE(place);
    EXPECT_EQ(*source->text()->marked() + 1, place->line) << line.toStdString();
    EXPECT_TRUE(line.contains("[")) << "the table is read there: " << line.toStdString();
}

TEST_F(Keyboard, FromAFunctionToItsLongestCallAndWhyItIsLonger) {
    press(Qt::Key_Slash);
    type("interpolate");
    press(Qt::Key_Return);
    ASSERT_EQ(view().selection().lane.kind, &functions_kind());
    press(Qt::Key_L);
    ASSERT_TRUE(view().selection().span);
    const StepTrail& steps = window->document().trail()->steps[view().selection().lane.index];
    const auto call = [&] { return steps.levels[view().selection().span->level][view().selection().span->index]; };
    EXPECT_EQ(call().length, steps.tallies[call().function].greatest);
    press(Qt::Key_W);
    EXPECT_TRUE(QTest::qWaitFor([&] { return window->desk().measures_panel()->told().contains("typical one"); }))
        << window->desk().measures_panel()->told().toStdString();
}

TEST_F(Keyboard, ToAVariablesExtreme) {
    press(Qt::Key_F, Qt::ControlModifier);
    type("axis_error");
    press(Qt::Key_Return);
    ASSERT_EQ(view().selection().lane.kind, &values_kind());
    press(Qt::Key_L);
    ASSERT_TRUE(view().selection().span);
    const ValueLane& value = window->document().trail()->tasks.values[view().selection().lane.index];
    EXPECT_EQ(value.value(view().selection().span->index).number(), 39);
    EXPECT_EQ(view().cursor(), value.samples.time(view().selection().span->index));
}

TEST_F(Keyboard, SavedClosedAndOpenedAgainItIsArrangedAsBefore) {
    test::Folder folder;
    press(Qt::Key_F2);
    ASSERT_EQ(window->desk().arrangement().name(), Arrangement::Name::code);
    QSignalSpy saved(&window->document(), &Document::saved);
    const QString path = QString::fromStdString(folder / "night.mtrail");
    press(Qt::Key_S, Qt::ControlModifier, [&] { answer_file(path); });
    ASSERT_TRUE(QTest::qWaitFor([&] { return saved.count() == 1; }, 10'000));
    window = std::make_unique<MainWindow>();
    window->resize(1280, 800);
    window->show();
    window->activateWindow();
    ASSERT_TRUE(QTest::qWaitForWindowActive(window.get()));
    open(folder / "night.mtrail/trail.toml");
    EXPECT_EQ(window->desk().arrangement().name(), Arrangement::Name::code);
    EXPECT_TRUE(window->desk().source()->isVisible());
    EXPECT_TRUE(window->desk().footsteps()->isVisible());
}

// A colleague's bytes are dropped on the window; all the rest is keys.
TEST_F(Keyboard, FromADroppedFileToLanesAndATargetFile) {
    test::Folder folder;
    std::filesystem::copy_file(test::demo("larkspur-night.swo"), folder / "from_colleague.bin");
    std::filesystem::copy_file(test::demo("larkspur.elf"), folder / "firmware.axf");
    window->close_desk(window->desk());
    QSignalSpy finished(&window->document(), &Document::finished);
    QMimeData mime;
    mime.setUrls({QUrl::fromLocalFile(QString::fromStdString(folder / "from_colleague.bin"))});
    QDragEnterEvent enter({50, 50}, Qt::CopyAction, &mime, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(window.get(), &enter);
    QDropEvent drop(QPointF(50, 50), Qt::CopyAction, &mime, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(window.get(), &drop);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 30'000)) << window->notice_text().toStdString();
    window->activateWindow();
    ASSERT_TRUE(QTest::qWaitFor([&] { return QApplication::focusWidget() != nullptr; }));
    const auto& cores = window->document().trail()->cores;
    EXPECT_TRUE(cores[0].lane_index(17)) << "the lanes are there";
    const auto walk_until = [&](const QString& name, Qt::Key key) {
        for (int i = 0; i < 60; ++i) {
            QWidget* focus = QApplication::focusWidget();
            for (QWidget* w = focus; w != nullptr; w = w->parentWidget())
                if (w->objectName() == name) return true;
            press(key, key == Qt::Key_Backtab ? Qt::ShiftModifier : Qt::NoModifier);
        }
        return false;
    };
    ASSERT_TRUE(walk_until("bytes_clock", Qt::Key_Backtab) || walk_until("bytes_clock", Qt::Key_Tab));
    press(Qt::Key_A, Qt::ControlModifier);
    type("60000000");
    press(Qt::Key_Return);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 1; }, 30'000));
    EXPECT_EQ(window->document().recording()->target.cores[0].clock_hz, 60'000'000U);
    ASSERT_TRUE(walk_until("bytes_keep", Qt::Key_Tab) || walk_until("bytes_keep", Qt::Key_Backtab));
    press(Qt::Key_Space, Qt::NoModifier, [&] { answer_file(QString::fromStdString(folder / "night.target.toml")); });
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 2; }, 30'000));
    EXPECT_TRUE(std::filesystem::exists(folder / "night.target.toml"));
    EXPECT_EQ(window->document().recording()->target.path, folder / "night.target.toml");
}

TEST_F(Keyboard, EveryPageOfEvidenceIsReachedAndHasAMenu) {
    std::set<QString> seen;
    for (std::size_t i = 0; i <= window->desk().evidence()->pages().size(); ++i) {
        press(Qt::Key_Tab, Qt::ControlModifier);
        ASSERT_NE(window->desk().evidence()->current(), nullptr);
        seen.insert(window->desk().evidence()->current()->id());
        QWidget* focus = QApplication::focusWidget();
        ASSERT_NE(focus, nullptr);
        EXPECT_TRUE(window->desk().evidence()->isAncestorOf(focus));
    }
    for (EvidencePage* page : window->desk().evidence()->pages())
        if (window->desk().evidence()->offers(page->widget())) {
            EXPECT_EQ(seen.count(page->id()), 1u) << page->id().toStdString();
        }
}

}  // namespace
}  // namespace mt::app
