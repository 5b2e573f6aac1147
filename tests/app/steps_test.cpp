// Calls, footsteps and functions in the real window: what a person would see after clicks and keys.
#include <QApplication>
#include <QLabel>
#include <QRegularExpression>
#include <QToolButton>
#include <QSignalSpy>
#include <QTest>
#include <QTextBlock>
#include <QSettings>

#include "base/text.h"
#include "measure/refs.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

// The call that is selected.
std::optional<SpanRef> selected(MainWindow& window) {
    const auto& span = window.desk().viewpoint().selection().span;
    return span && span->lane.kind == &functions_kind() ? span : std::nullopt;
}

class StepsPage : public ::testing::Test {
  protected:
    void SetUp() override {
        window = shown_window();
        open_and_wait(*window, test::data("steps/arm-etm-mount-cc/recording.target.toml"));
        QTest::qWait(60);
    }
    void TearDown() override { window.reset(); }

    const StepTrail& steps() const { return window->document().trail()->steps[0]; }
    QString name_of(const SpanRef& call) const {
        const auto f = static_cast<std::uint32_t>(steps().levels[call.level][call.index].function);
        return QString::fromStdString((*steps().functions)[f].name);
    }
    CallSpan span(const SpanRef& call) const { return steps().levels[call.level][call.index]; }
    // The longest call of a function, as a double click in the table shows it.
    void choose(const QString& function) {
        ASSERT_TRUE(window->desk().functions()->choose(function));
        ASSERT_TRUE(selected(*window));
    }
    bool rows_arrive() {
        return QTest::qWaitFor(
            [&] {
                const auto now = window->desk().footsteps()->current();
                return now && !window->desk().footsteps()->texts(*now).isEmpty();
            },
            5000);
    }

    std::unique_ptr<MainWindow> window;
};

TEST_F(StepsPage, TheFunctionsTableShowsTheFiguresAndLeadsToTheLongestCall) {
    QTableView* table = window->desk().functions()->table();
    ASSERT_TRUE(table->isVisible());
    int called = 0, inlined = 0;
    for (int i = 0; i < table->model()->rowCount(); ++i)
        ++(table->model()->index(i, 2).data().toString().startsWith("inlined in") ? inlined : called);
    EXPECT_EQ(called, 44);
    EXPECT_GT(inlined, 5);
    EXPECT_EQ(table->model()->index(0, 1).data().toString(), "idle_task");
    int row = 0;
    while (table->model()->index(row, 1).data().toString() != "refraction") ++row;
    const QRect cell = table->visualRect(table->model()->index(row, 0));
    QTest::mouseClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    QTest::mouseDClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    ASSERT_TRUE(selected(*window));
    EXPECT_EQ(name_of(*selected(*window)), "refraction");
    // The table counts without handlers that came in between; the lanes show them.
    EXPECT_GE(span(*selected(*window)).length.ns(),
              table->model()->index(row, 10).data(FunctionModel::kSortRole).toDouble());
    EXPECT_GT(window->desk().lanes()->span_rect(*selected(*window)).width(), 300);
}

TEST_F(StepsPage, AFunctionLeftOutHandsItsShareToTheOthers) {
    QTableView* table = window->desk().functions()->table();
    EXPECT_EQ(table->model()->index(0, 5).data().toString(), "97.9 %");
    window->desk().functions()->leave_out("idle_task", true);
    EXPECT_EQ(table->model()->index(0, 5).data().toString(), "0.000 %");
    EXPECT_GT(table->model()->index(1, 5).data(FunctionModel::kSortRole).toDouble(), 0.15);
    EXPECT_TRUE(window->desk()
                    .functions()
                    ->findChild<QLabel*>("functions_hint")
                    ->text()
                    .contains("Excluded from the shares: idle_task"));
}

TEST_F(StepsPage, AClickOnACallSelectsItAndSaysWhoWasOnTheStack) {
    choose("refraction");
    const SpanRef call = *selected(*window);
    // Near its begin: a handler preempts this one, the longest, in the middle.
    const QRectF bar = window->desk().lanes()->span_rect(call);
    const QPoint early = QPointF(bar.left() + bar.width() / 50 + 2, bar.center().y()).toPoint();
    window->desk().lanes()->setFocus();
    QTest::mouseClick(window->desk().lanes(), Qt::LeftButton, {}, early);
    ASSERT_EQ(selected(*window), call);
    EXPECT_GT(window->desk().viewpoint().cursor(), span(call).begin);
    EXPECT_LT(window->desk().viewpoint().cursor(), span(call).end());
    const QString words = window->findChild<QLabel*>("moment_words")->text();
    EXPECT_TRUE(words.contains("refraction")) << words.toStdString();
}

TEST_F(StepsPage, KeysWalkToTheNextCallTheLongestTheCallerAndBack) {
    choose("refraction");
    const SpanRef longest = *selected(*window);
    window->desk().lanes()->setFocus();
    QTest::keyClick(window.get(), Qt::Key_N);
    const SpanRef next = *selected(*window);
    EXPECT_EQ(name_of(next), "refraction");
    EXPECT_GT(span(next).step, span(longest).step);
    QTest::keyClick(window.get(), Qt::Key_P);
    EXPECT_EQ(*selected(*window), longest);
    QTest::keyClick(window.get(), Qt::Key_N);
    QTest::keyClick(window.get(), Qt::Key_L);
    EXPECT_EQ(*selected(*window), longest);
    QTest::keyClick(window->desk().lanes(), Qt::Key_Up);
    const SpanRef caller = *selected(*window);
    EXPECT_EQ(caller.level + 1, longest.level);
    EXPECT_LE(span(caller).begin, span(longest).begin);
    EXPECT_GE(span(caller).end(), span(longest).end());
    QTest::keyClick(window->desk().lanes(), Qt::Key_Down);
    EXPECT_EQ(selected(*window)->level, longest.level);
}

TEST_F(StepsPage, TheNextDifferenceIsACallThatWentAnotherWay) {
    choose("refraction");
    const SpanRef first = *selected(*window);
    window->desk().lanes()->setFocus();
    QTest::keyClick(window.get(), Qt::Key_D);
    const auto ended = [&] { return selected(*window) != first || !window->notice_text().isEmpty(); };
    ASSERT_TRUE(QTest::qWaitFor(ended, 10'000));
    // The ways of the two, instruction by instruction, without what cut in.
    const auto way = [&](const SpanRef& call) {
        std::vector<std::uint32_t> slots_passed;
        const CallSpan s = span(call);
        std::optional<std::uint16_t> handlers;
        each_step_piece(*window->document().recording(), steps(), s.step, [&](const StepPiece& p) {
            if (p.step > s.step && p.begin >= s.end()) return false;
            if (!handlers) handlers = p.handlers;
            if (p.handlers != *handlers) return true;
            for (std::uint32_t i = 0, slot = p.run.first; i < p.run.count; ++i, slot = steps().code->next(slot))
                slots_passed.push_back(slot);
            return true;
        });
        return slots_passed;
    };
    const SpanRef other = *selected(*window);
    if (other == first) {  // none: then all later ones are the same indeed
        const CallLevel& level = steps().levels[first.level];
        for (std::size_t i = first.index + 1; i < level.size() && i < first.index + 40; ++i)
            if (level[i].function == span(first).function && level[i].whole())
                EXPECT_EQ(way({first.lane, first.level, i}), way(first));
        return;
    }
    EXPECT_EQ(name_of(other), "refraction");
    EXPECT_EQ(other.level, first.level);
    EXPECT_NE(way(other), way(first));
    for (std::size_t i = first.index + 1; i < other.index; ++i)
        if (steps().levels[first.level][i].function == span(first).function && steps().levels[first.level][i].whole())
            EXPECT_EQ(way({first.lane, first.level, i}), way(first)) << "a difference was passed over";
}

TEST_F(StepsPage, FootstepsFollowTheCursorAndLeadIt) {
    window->desk().evidence()->show_page(window->desk().footsteps());
    choose("refraction");
    const CallSpan call = span(*selected(*window));
    ASSERT_TRUE(
        QTest::qWaitFor([&] { return window->desk().footsteps()->current() == std::uint64_t{call.step}; }, 5000));
    ASSERT_TRUE(rows_arrive());
    const QStringList first = window->desk().footsteps()->texts(call.step);
    EXPECT_EQ(first[4], "refraction");
    EXPECT_EQ(first[2].toStdString(),
              hex_text((*steps().functions)[static_cast<std::uint32_t>(call.function)].address, 8));
    EXPECT_TRUE(first[5].startsWith("axis.c:")) << first[5].toStdString();
    const Time before = window->desk().viewpoint().cursor();
    QTest::keyClick(window->desk().footsteps(), Qt::Key_Down);
    EXPECT_EQ(window->desk().footsteps()->current(), std::uint64_t{call.step} + 1);
    EXPECT_GE(window->desk().viewpoint().cursor(), before);
    QTest::keyClick(window->desk().footsteps(), Qt::Key_Down, Qt::ShiftModifier);
    EXPECT_NE(window->desk().footsteps()->texts(*window->desk().footsteps()->current())[5],
              window->desk().footsteps()->texts(std::uint64_t{call.step} + 1)[5]);
    QTest::keyClick(window->desk().footsteps(), Qt::Key_Home);
    EXPECT_EQ(window->desk().footsteps()->current(), 0u);
    QTest::keyClick(window->desk().footsteps(), Qt::Key_End);
    EXPECT_EQ(window->desk().footsteps()->current(), steps().steps - 1);
    ASSERT_TRUE(rows_arrive());
}

TEST_F(StepsPage, FootstepsFoldFromInstructionsOverLinesAndFunctionsToTheStack) {
    Footsteps* footsteps = window->desk().footsteps();
    window->desk().evidence()->show_page(footsteps);
    choose("refraction");
    const std::uint64_t first = span(*selected(*window)).step;
    ASSERT_TRUE(QTest::qWaitFor([&] { return footsteps->current() == first; }, 5000));
    ASSERT_TRUE(rows_arrive());
    const auto cell = [](const QString& row, int c) { return row.split('\t').value(c); };

    QTest::mouseClick(window->findChild<QToolButton*>("fold_2"), Qt::LeftButton);
    EXPECT_EQ(footsteps->fold(), Footsteps::Fold::lines);
    const QStringList lines = footsteps->shown();
    ASSERT_GT(lines.size(), 3);
    for (int i = 1; i < lines.size(); ++i) {
        EXPECT_TRUE(cell(lines[i], 6) != cell(lines[i - 1], 6) || cell(lines[i], 5) != cell(lines[i - 1], 5))
            << lines[i].toStdString();
        const auto number = [&](int row, int c) {
            return cell(lines[row], c).remove(QRegularExpression("[^0-9]")).toULongLong();
        };
        EXPECT_EQ(number(i - 1, 0) + number(i - 1, 3), number(i, 0)) << "no instruction between two rows is lost";
    }

    QTest::keyClick(footsteps, Qt::Key_Left);
    EXPECT_EQ(footsteps->fold(), Footsteps::Fold::functions);
    const QStringList functions = footsteps->shown();
    for (int i = 1; i < functions.size(); ++i)
        EXPECT_TRUE(cell(functions[i], 5) != cell(functions[i - 1], 5) || cell(functions[i], 5) == "bisect_track")
            << "each stay in a function is a row; the one that calls itself has a row for each level";
    QTest::keyClick(footsteps, Qt::Key_Down);
    ASSERT_TRUE(rows_arrive());
    EXPECT_NE(footsteps->texts(*footsteps->current())[4], "refraction");
    QTest::keyClick(footsteps, Qt::Key_Up);
    EXPECT_EQ(footsteps->current(), first);

    QTest::keyClick(footsteps, Qt::Key_Left);
    EXPECT_EQ(footsteps->fold(), Footsteps::Fold::stack);
    ASSERT_TRUE(QTest::qWaitFor([&] { return footsteps->frames().size() > 1; }, 5000));
    const QStringList stack = footsteps->shown();
    EXPECT_EQ(cell(stack[0], 5), "refraction");
    EXPECT_EQ(cell(stack[0], 4), "called");
    // A click on the caller goes to the instruction that calls, and the stack stays as it is.
    QTest::mouseClick(footsteps->viewport(), Qt::LeftButton, {}, QPoint(200, 22 + 19 + 9));
    EXPECT_EQ(footsteps->current(), first - 1);
    EXPECT_EQ(footsteps->shown(), stack);
    QTest::mouseDClick(footsteps->viewport(), Qt::LeftButton, {}, QPoint(200, 22 + 19 + 9));
    EXPECT_EQ(footsteps->fold(), Footsteps::Fold::lines) << "a level unfolds to its source lines";
    QTest::keyClick(footsteps, Qt::Key_Right);
    EXPECT_EQ(footsteps->fold(), Footsteps::Fold::instructions);
}

TEST_F(StepsPage, WhatIsInlinedIsNamedWithTheFunctionThatHoldsIt) {
    Footsteps* footsteps = window->desk().footsteps();
    window->desk().evidence()->show_page(footsteps);
    std::uint32_t slot = 1;
    const auto counts = steps().counters->executions(*steps().code);
    while (slot < counts.size() && (steps().inlines->names_at(slot).size() != 1 || counts[slot] == 0)) ++slot;
    ASSERT_LT(slot, counts.size());
    QTest::keyClick(footsteps, Qt::Key_Home);
    footsteps->seek_execution({slot}, 1);
    ASSERT_TRUE(QTest::qWaitFor([&] { return *footsteps->current() > 0; }, 10'000));
    ASSERT_TRUE(rows_arrive());
    const std::uint64_t inside = *footsteps->current();
    EXPECT_EQ(footsteps->texts(inside)[4].toStdString(), steps().inlines->names_at(slot)[0]);
    QTest::keyClick(footsteps, Qt::Key_Down, Qt::ControlModifier);
    ASSERT_TRUE(rows_arrive());
    EXPECT_EQ(footsteps->texts(*footsteps->current())[4].toStdString(),
              (*steps().functions)[steps().functions->at(slot)].name)
        << "out of it is in the function that holds it";
}

TEST_F(StepsPage, WhatIsBeingLookedForIsFoundThoughTheWindowChangesMeanwhile) {
    choose("refraction");
    window->desk().evidence()->show_page(window->desk().footsteps());
    window->resize(1320, 860);
    EXPECT_TRUE(QTest::qWaitFor(
        [&] { return window->desk().footsteps()->current() == std::uint64_t{span(*selected(*window)).step}; }, 5000));
}

TEST(StepsOfTwoCores, ACallOfTheLowerOneIsScrolledIntoView) {
    MainWindow window;
    window.resize(1280, 800);
    window.show();
    QSignalSpy finished(&window.document(), &Document::finished);
    window.open(QString::fromStdString(test::demo("larkspur.target.toml")));
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    ASSERT_TRUE(window.desk().functions()->choose("interpolate"));
    ASSERT_TRUE(selected(window));
    const QRectF bar = window.desk().lanes()->span_rect(*selected(window));
    EXPECT_GT(bar.top(), 24) << "below the scale";
    EXPECT_LT(bar.bottom(), window.desk().lanes()->height());
    EXPECT_GT(bar.width(), 200);
    // What was traced elsewhere takes a line.
    const auto& all = window.document().trail()->steps;
    const auto main = std::find_if(all.begin(), all.end(), [](const StepTrail& s) { return s.core_index == 0; });
    EXPECT_LT(window.desk().lanes()->row_rect(calls_lane(static_cast<std::size_t>(main - all.begin()))).height(), 20);
}

TEST_F(StepsPage, SearchingGoesToTheNextExecutionOfAFunctionOrLineAndBack) {
    window->desk().evidence()->show_page(window->desk().footsteps());
    choose("refraction");
    const std::uint64_t here = span(*selected(*window)).step;
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().footsteps()->current() == here; }, 5000));
    Footsteps* steps = window->desk().footsteps();
    // Types a text, and chooses to look for it among the instructions.
    const auto search_for = [&](const QString& text) {
        QTest::keyClick(window->desk().lanes(), Qt::Key_Slash);
        Search& search = window->tools().search();
        QTest::keyClicks(&search, text);
        for (int i = 0; i < 40 && !search.list()->currentItem()->text().contains("in Instructions"); ++i)
            QTest::keyClick(&search, Qt::Key_Down);
        QTest::keyClick(&search, Qt::Key_Return);
    };
    const auto arrive = [&](std::optional<std::uint64_t> before, const char* function) {
        EXPECT_TRUE(QTest::qWaitFor([&] { return steps->current() != before; }, 5000));
        EXPECT_TRUE(rows_arrive());
        const QStringList row = steps->texts(*steps->current());
        EXPECT_TRUE(row[4] == function || row[8] == function) << row.join(' ').toStdString();
        return *steps->current();
    };
    search_for("refraction");
    const std::uint64_t later = arrive(here, "refraction");
    EXPECT_GT(later, here);
    QTest::keyClick(window->desk().lanes(), Qt::Key_F3, Qt::ShiftModifier);
    EXPECT_EQ(arrive(later, "refraction"), here);
    QTest::keyClick(steps, Qt::Key_Home);
    ASSERT_TRUE(rows_arrive());
    search_for("focuser.c:21");
    const std::uint64_t line = arrive(0, "focus_task");
    EXPECT_TRUE(steps->texts(line)[5].endsWith("focuser.c:21"));
    search_for("no_such_function");
    EXPECT_TRUE(window->notice_text().contains("no_such_function")) << window->notice_text().toStdString();
}

TEST_F(StepsPage, ATimeThatLiesBetweenMomentsTheTraceTellsIsMarked) {
    window->desk().evidence()->show_page(window->desk().footsteps());
    choose("refraction");
    ASSERT_TRUE(rows_arrive());
    const std::uint64_t from = *window->desk().footsteps()->current();
    int told = 0, between = 0;
    for (std::uint64_t step = from; step < from + 400; ++step) {
        ASSERT_TRUE(QTest::qWaitFor([&] { return !window->desk().footsteps()->texts(step).isEmpty(); }, 5000));
        const QString time = window->desk().footsteps()->texts(step)[1];
        ++(time.startsWith(QStringLiteral("≈ ")) ? between : told);
        EXPECT_TRUE(time.endsWith("s")) << time.toStdString();
    }
    EXPECT_GT(told, 10) << "cycle counts tell some";
    EXPECT_GT(between, told) << "and several instructions share one";
}

TEST_F(StepsPage, SteppingOutLeadsToTheCallAndBehindTheReturn) {
    window->desk().evidence()->show_page(window->desk().footsteps());
    choose("refraction");
    const std::uint64_t first = span(*selected(*window)).step;
    ASSERT_TRUE(QTest::qWaitFor([&] { return window->desk().footsteps()->current() == first; }, 5000));
    ASSERT_TRUE(rows_arrive());
    QTest::keyClick(window->desk().footsteps(), Qt::Key_Up, Qt::ControlModifier);
    EXPECT_EQ(window->desk().footsteps()->current(), first - 1) << "the instruction that called it";
    ASSERT_TRUE(rows_arrive());
    const QString caller = window->desk().footsteps()->texts(first - 1)[4];
    QTest::keyClick(window->desk().footsteps(), Qt::Key_Down);
    ASSERT_TRUE(rows_arrive());
    QTest::keyClick(window->desk().footsteps(), Qt::Key_Down, Qt::ControlModifier);
    ASSERT_TRUE(QTest::qWaitFor([&] { return *window->desk().footsteps()->current() > first + 1; }, 5000));
    ASSERT_TRUE(rows_arrive());
    EXPECT_EQ(window->desk().footsteps()->texts(*window->desk().footsteps()->current())[4], caller);
}

TEST_F(StepsPage, TheSourceShowsTheLineThatRunsWithItsCounts) {
    window->desk().evidence()->show_page(window->desk().source());
    choose("refraction");
    SourceText* text = window->desk().source()->text();
    const auto at_function = [&] {
        return text->marked() && window->desk().source()->files()->currentText() == "axis.c";
    };
    ASSERT_TRUE(QTest::qWaitFor(at_function, 5000));
    // The firmware's sources are not here: its instructions stand for them, and it says how to find the text.
    EXPECT_TRUE(window->desk().source()->message().contains("Press “Find…”"))
        << window->desk().source()->message().toStdString();
    const Function* refraction = nullptr;
    for (std::uint32_t f = 0; f < steps().functions->size(); ++f)
        if ((*steps().functions)[f].name == "refraction") refraction = &(*steps().functions)[f];
    ASSERT_NE(refraction, nullptr);
    const auto rows_of = [&] { return text->rows(); };
    const auto marked = [&] { return rows_of()[static_cast<std::size_t>(*text->marked())]; };
    EXPECT_EQ(marked().line, refraction->line);
    EXPECT_EQ(marked().count, steps().counters->executions(*steps().code)[refraction->entry]);

    // With a file of that name, lines stand before the instructions.
    test::Folder folder;
    std::string lines;
    for (int i = 1; i <= 200; ++i) lines += "line " + std::to_string(i) + "\n";
    test::write_file(folder / "axis.c", lines);
    const QSettings kept;
    const QVariant before = kept.value("sources");
    ASSERT_TRUE(window->desk().source()->find_like(QString::fromStdString(folder / "axis.c")));
    EXPECT_EQ(rows_of()[static_cast<std::size_t>(*text->marked())].text, QString("line %1").arg(refraction->line));
    const std::size_t plain = rows_of().size();
    EXPECT_EQ(plain, 200u);
    QTest::mouseClick(window->desk().source()->findChild<QToolButton*>("source_mixed"), Qt::LeftButton);
    EXPECT_GT(rows_of().size(), plain);
    EXPECT_EQ(marked().slot, refraction->entry) << "the very instruction is marked";
    QTest::mouseClick(window->desk().source()->findChild<QToolButton*>("source_next"), Qt::LeftButton);
    const std::uint64_t first = span(*selected(*window)).step;
    ASSERT_TRUE(QTest::qWaitFor([&] { return *window->desk().footsteps()->current() > first; }, 5000));
    QSettings().setValue("sources", before);
}

TEST_F(StepsPage, CoverageListsWhatNeverRanAndADoubleClickShowsItsSource) {
    CoveragePage* page = window->desk().coverage();
    window->desk().evidence()->show_page(page);
    QTableView* table = page->table();
    ASSERT_TRUE(QTest::qWaitFor([&] { return table->model()->rowCount() == 49; }, 10'000));
    EXPECT_TRUE(page->hint().startsWith("95.0 % of the lines, 85.1 % of the instructions, 59.8 % of the branches both ways"))
        << page->hint().toStdString();
    QTest::mouseClick(page->findChild<QToolButton*>("coverage_never"), Qt::LeftButton);
    ASSERT_EQ(table->model()->rowCount(), 5);
    EXPECT_EQ(table->model()->index(0, CoverageModel::calls).data().toString(), "0");
    EXPECT_TRUE(table->model()->index(0, CoverageModel::instructions).data().toString().startsWith("0 of "));
    const QRect cell = table->visualRect(table->model()->index(0, CoverageModel::name));
    QTest::mouseClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    QTest::mouseDClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    SourceView* source = window->desk().source();
    ASSERT_TRUE(QTest::qWaitFor([&] { return source->isVisible() && source->text()->marked().has_value(); }, 10'000));
    const SourceRow& row = source->text()->rows()[static_cast<std::size_t>(*source->text()->marked())];
    EXPECT_TRUE(row.has_code);
    EXPECT_EQ(row.count, 0U);
    // Files, and the way to the next line that never ran.
    QTest::mouseClick(page->findChild<QToolButton*>("coverage_never"), Qt::LeftButton);
    page->show_by(CoveragePage::files);
    EXPECT_EQ(table->model()->rowCount(), 9);
    source->text()->setTextCursor(QTextCursor(source->text()->document()->findBlockByNumber(0)));
    EXPECT_TRUE(source->go_to_never_run(1));
    const int at = source->text()->textCursor().blockNumber();
    EXPECT_EQ(source->text()->rows()[static_cast<std::size_t>(at)].count, 0U);
    EXPECT_FALSE(source->go_to_never_run(-1));
}

TEST_F(StepsPage, TheCallTreeUnfoldsFromTheStartAndAnswersWhoCalls) {
    window->desk().evidence()->show_page(window->desk().call_tree());
    QTreeView* tree = window->desk().call_tree()->view();
    const auto* model = tree->model();
    ASSERT_GT(model->rowCount(), 1);
    std::uint64_t shares = 0;
    for (int row = 0; row < model->rowCount(); ++row)
        shares += static_cast<std::uint64_t>(model->index(row, 2).data(Qt::UserRole).toDouble() * 1e6);
    EXPECT_NEAR(double(shares), 1e6, 100) << "roots are the whole";
    choose("refraction");
    auto* walk = window->desk().call_tree()->findChild<QComboBox*>("call_walk");
    QTest::keyClick(walk, Qt::Key_Down);
    window->desk().call_tree()->set_walk(CallWalk::callers);
    ASSERT_EQ(model->rowCount(), 1);
    const QModelIndex top = model->index(0, 0);
    EXPECT_EQ(top.data().toString(), "refraction");
    ASSERT_EQ(model->rowCount(top), 1) << "one function calls it";
    EXPECT_EQ(model->index(0, 4, top).data(), model->index(0, 4).data()) << "all calls come from there";
    EXPECT_TRUE(tree->isExpanded(top));
    const QString caller = model->index(0, 0, top).data().toString();
    auto* name = window->desk().call_tree()->findChild<QLineEdit*>("call_function");
    name->clear();
    QTest::keyClicks(name, caller);
    QTest::keyClick(name, Qt::Key_Return);
    window->desk().call_tree()->set_walk(CallWalk::callees);
    EXPECT_EQ(model->index(0, 0).data().toString(), caller);
    bool calls_it = false;
    for (int row = 0; row < model->rowCount(model->index(0, 0)); ++row)
        calls_it = calls_it || model->index(row, 0, model->index(0, 0)).data().toString() == "refraction";
    EXPECT_TRUE(calls_it);
    EXPECT_TRUE(window->desk().call_tree()->copied_text().contains("\n  refraction\t")) << "as text, indented";
}

TEST_F(StepsPage, TheFaultNamesTheInstructionThatRaisedIt) {
    ASSERT_FALSE(window->document().findings().empty());
    const Finding& fault = window->document().findings()[0];
    EXPECT_EQ(fault.kind, FindingKind::fault);
    EXPECT_NE(fault.cause.find("focus_task (focuser.c:21)"), std::string::npos) << fault.cause;
    EXPECT_GE(fault.evidence.size(), 12u);
}

}  // namespace
}  // namespace mt::app
