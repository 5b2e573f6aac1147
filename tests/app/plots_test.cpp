// Plots and the moment strip in the real window: what a click, the menu and a narrow window make of them.
#include <QAction>
#include <QApplication>
#include <QClipboard>
#include <QLabel>
#include <QTest>

#include <gtest/gtest.h>
#include <qcustomplot.h>

#include <cmath>
#include <map>

#include "figures/plots.h"
#include "measure/refs.h"
#include "menus.h"
#include "overview/moment_strip.h"
#include "shown_window.h"
#include "support.h"

namespace mt::app {
namespace {

class PlotsInTheWindow : public RecordingInTheWindow {
  protected:
    void SetUp() override {
        open(test::data("tasks/mount-a/trace"));
        const auto& tasks = window->document().trail()->tasks.tasks;
        for (std::size_t t = 0; t < tasks.size(); ++t)
            if (tasks[t].name == "weather") weather = task_lane(t);
        ASSERT_TRUE(weather);
        window->desk().viewpoint().select(*weather);
        panel = window->desk().measures_panel();
        ASSERT_TRUE(QTest::qWaitFor([&] { return !panel->over_time()->values_text().isEmpty(); }, 10'000));
    }
    std::vector<PlotLimit> limit(double ms) const { return {{ms * 1e9, "a limit", false}}; }
    // Where the words of the only limit begin and end, from the top, in pixels.
    static QRectF words_in(QCustomPlot* plot) {
        for (int i = 0; i < plot->itemCount(); ++i)
            if (auto* text = qobject_cast<QCPItemText*>(plot->item(i)); text != nullptr && text->text().contains("a limit"))
                return {text->topLeft->pixelPosition(), text->bottomRight->pixelPosition()};
        return {};
    }
    std::optional<LaneId> weather;
    MeasuresPanel* panel = nullptr;
};

TEST_F(PlotsInTheWindow, TheirMenuCopiesTheNumbersWithAHeading) {
    QApplication::clipboard()->clear();
    choose(panel->over_time(), panel->over_time()->rect().center(), {"Copy values"});
    const QStringList rows = QApplication::clipboard()->text().split('\n', Qt::SkipEmptyParts);
    ASSERT_GT(rows.size(), 10);
    EXPECT_EQ(rows[0], "begin (ns)\tlength (ns)");
    double before = -1;
    for (const QString& row : rows.mid(1)) {
        const QStringList cells = row.split('\t');
        ASSERT_EQ(cells.size(), 2) << row.toStdString();
        EXPECT_GT(cells[0].toDouble(), before) << "in the order of time";
        EXPECT_GT(cells[1].toDouble(), 0);
        before = cells[0].toDouble();
    }
    choose(panel->distribution(), panel->distribution()->rect().center(), {"Copy values"});
    const QStringList bars = QApplication::clipboard()->text().split('\n', Qt::SkipEmptyParts);
    ASSERT_GT(bars.size(), 2);
    EXPECT_EQ(bars[0], "from (ns)\tto (ns)\tcount");
    qulonglong all = 0;
    for (const QString& bar : bars.mid(1)) all += bar.section('\t', 2).toULongLong();
    EXPECT_EQ(all, static_cast<qulonglong>(rows.size() - 1)) << "both show the same jobs";
}

TEST_F(PlotsInTheWindow, AMenuSaysWhereAClickWouldGo) {
    choose(panel->over_time(), panel->over_time()->rect().center(), {"Show what the nearest dot stands for"});
    choose(panel->distribution(), QPoint(panel->distribution()->width() / 2, 20), {"Show the longest of this bar"});
    SUCCEED() << "the entries are there; a missing one fails";
}

TEST_F(PlotsInTheWindow, AClickOnADotSelectsItsJob) {
    OverTimePlot* plot = panel->over_time();
    std::map<std::size_t, QPointF> dots;
    for (std::size_t i = 0; i < 400; ++i)
        if (const QPointF at = plot->position_of(SpanRef{*weather, 0, i}); !at.isNull()) dots[i] = at;
    ASSERT_GT(dots.size(), 10U);
    const QPointF at = std::next(dots.begin(), 5)->second;
    QTest::mouseClick(plot->plot(), Qt::LeftButton, {}, at.toPoint());
    const auto& chosen = window->desk().viewpoint().selection().span;
    ASSERT_TRUE(chosen && dots.count(chosen->index) == 1);
    // Dots may lie upon each other: it is one at that very place.
    const QPointF is = dots[chosen->index];
    EXPECT_LT(std::hypot(is.x() - at.x(), is.y() - at.y()), 3.0);
}

TEST_F(PlotsInTheWindow, WordsOfALimitFarAboveStandOverWhatIsDrawn) {
    OverTimePlot* plot = panel->over_time();
    const auto highest_dot = [&] {
        double y = 1e9;
        for (std::size_t i = 0; i < 2000; ++i)
            if (const QPointF at = plot->position_of(SpanRef{*weather, 0, i}); !at.isNull()) y = std::min(y, at.y());
        return y;
    };
    plot->set_limits(limit(5000));  // five seconds: nothing is near
    plot->plot()->replot();
    const QRectF words = words_in(plot->plot());
    ASSERT_FALSE(words.isNull());
    EXPECT_LE(words.bottom(), highest_dot() + 2) << "no dot is covered";
    EXPECT_GE(words.top(), -1) << "the words lie inside";
    EXPECT_LE(words.right(), plot->plot()->width() + 1);
}

TEST_F(PlotsInTheWindow, WordsOfALimitStandOverTheBars) {
    DistributionPlot* plot = panel->distribution();
    const auto counts = plot->values_text().split('\n', Qt::SkipEmptyParts);
    double most = 0;
    for (const QString& row : counts.mid(1)) most = std::max(most, row.section('\t', 2).toDouble());
    for (const double ms : {5000.0, 0.0001}) {  // far above, far below
        plot->set_limits(limit(ms));
        plot->plot()->replot();
        const QRectF words = words_in(plot->plot());
        ASSERT_FALSE(words.isNull()) << ms;
        EXPECT_LE(words.bottom(), plot->plot()->yAxis->coordToPixel(most) + 2) << ms << ": no bar is covered";
        EXPECT_GE(words.left(), -1) << ms;
        EXPECT_LE(words.right(), plot->plot()->width() + 1) << ms;
    }
    plot->set_limits({});
    EXPECT_TRUE(words_in(plot->plot()).isNull()) << "taken away again";
}

TEST_F(PlotsInTheWindow, LargeCountsAreGroupedAndThereIsNoHalfInstance) {
    for (const std::uint64_t most : {1ULL, 45'000ULL, 430'000ULL, 28'000'000ULL}) {
        Series series;
        series.edges = {1e9, 2e9, 3e9};
        series.counts = {most, 1};
        series.greatest = 3e9;
        panel->distribution()->show(std::make_shared<const Series>(series), {});
        QCPAxis* axis = panel->distribution()->plot()->yAxis;
        panel->distribution()->plot()->replot();
        const QStringList labels = axis->tickVectorLabels();
        EXPECT_TRUE(labels.contains("0"));
        for (const QString& label : labels) {
            EXPECT_FALSE(label.contains("e+") || label.contains('.')) << label.toStdString();
            if (most == 430'000) EXPECT_TRUE(label == "0" || label.endsWith("\u202f000")) << label.toStdString();
            if (most == 28'000'000) EXPECT_TRUE(label == "0" || label.endsWith(" M")) << label.toStdString();
        }
    }
}

TEST_F(PlotsInTheWindow, AreDrawnAnewInTheColoursOfTheNight) {
    const QImage day = panel->distribution()->grab().toImage();
    QAction* night = nullptr;
    for (QAction* a : window->findChildren<QAction*>())
        if (a->text().contains("night", Qt::CaseInsensitive) && a->isCheckable()) night = a;
    ASSERT_NE(night, nullptr);
    night->trigger();
    QTest::qWait(100);
    const QImage dark = panel->distribution()->grab().toImage();
    EXPECT_GT(qGray(day.pixel(3, 3)), 180);
    EXPECT_LT(qGray(dark.pixel(3, 3)), 80);
    night->trigger();
}

class MomentInTheWindow : public RecordingInTheWindow {
  protected:
    void SetUp() override {
        open(test::demo("larkspur.target.toml"));
        strip = window->desk().moment();
        more = strip->findChild<QLabel*>("moment_more");
    }
    MomentStrip* strip = nullptr;
    QLabel* more = nullptr;
};

TEST_F(MomentInTheWindow, ShowsWholePhrasesOnlyHoweverNarrowItIs) {
    window->desk().navigator().go_to(Time::from_ms(12'608.5));
    const QString whole = strip->text();
    ASSERT_TRUE(whole.contains("cop:") && whole.contains("beside:")) << whole.toStdString();
    // Each phrase ends where another begins, or a core's part does.
    QStringList ends;
    QString so_far;
    for (const MomentPiece& piece : moment_pieces(*window->document().trail(), window->desk().viewpoint().cursor())) {
        if (piece.place != MomentPiece::more && !so_far.isEmpty()) ends << so_far;
        so_far += QString::fromStdString(piece.said.text);
    }
    ends << so_far;
    const auto letters = [](QString text) {
        text.remove(' ').remove(QChar(0xA0)).remove(QChar(0x202F)).remove(QChar(0x2009)).remove(QString::fromUtf8("·"));
        return text;
    };
    QStringList allowed;
    for (const QString& end : ends) allowed << letters(end);
    int narrowest = 100'000;
    for (int width = 2560; width >= 1024; width -= 64) {
        window->resize(width, 800);
        QTest::qWait(10);
        const QString shown = strip->shown_text();
        EXPECT_TRUE(allowed.contains(letters(shown))) << "at " << width << ": " << shown.toStdString();
        EXPECT_FALSE(shown.trimmed().endsWith(':')) << "a core's name alone says nothing: " << shown.toStdString();
        EXPECT_EQ(more->isVisible(), letters(shown) != letters(whole)) << width;
        EXPECT_LE(shown.size(), narrowest) << "narrower shows no more";
        narrowest = static_cast<int>(shown.size());
        EXPECT_EQ(strip->text(), whole) << "all of it can still be copied";
    }
    EXPECT_LT(narrowest, whole.size());
    EXPECT_TRUE(more->toolTip().contains("beside:")) << "what has no room is in the tooltip";
}

TEST_F(MomentInTheWindow, ItsLinksLeadToTheSameWhetherAllIsShownOrNot) {
    window->resize(1024, 700);
    window->desk().navigator().go_to(Time::from_ms(12'608.5));
    auto* words = strip->findChild<QLabel*>("moment_words");
    ASSERT_TRUE(more->isVisible());
    std::optional<SpanRef> chosen;
    QObject::connect(strip, &MomentStrip::span_chosen, strip, [&](const SpanRef& span) { chosen = span; });
    emit words->linkActivated("0");
    ASSERT_TRUE(chosen);
    const std::optional<SpanRef> narrow = chosen;
    window->desk().navigator().go_to(Time::from_ms(12'608.5));
    window->resize(2560, 1000);
    QTest::qWait(20);
    emit words->linkActivated("0");
    EXPECT_EQ(chosen, narrow);
    emit words->linkActivated("100000");
    emit words->linkActivated("nonsense");
    EXPECT_EQ(chosen, narrow) << "a link that is none goes nowhere";
}

TEST_F(MomentInTheWindow, WithNothingOpenItSaysSo) {
    const auto empty = shown_window();
    EXPECT_EQ(empty->desk().moment()->shown_text(), "nothing is open");
}

}  // namespace
}  // namespace mt::app
