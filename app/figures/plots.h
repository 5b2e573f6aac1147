// Two plots of what is selected: the distribution of its lengths, and each of them over time.
#pragma once

#include <memory>

#include <vector>

#include <QVector>
#include <QWidget>

#include "measure/series.h"
#include "navigate/viewpoint.h"

class QCustomPlot;
class QCPBars;
class QCPGraph;
class QCPItemStraightLine;
class QCPItemText;
class QCPAbstractItem;

namespace mt::app {

/// A limit drawn into a plot, in picoseconds or as a value.
struct PlotLimit {
    double at = 0;
    QString text;
    bool broken = false;
};

/// The lines of limits in one plot, with their words.
class LimitMarks {
  public:
    /// `upright`: the sizes lie along x.
    LimitMarks(QCustomPlot* plot, bool upright) : plot_(plot), upright_(upright) {}
    void set(std::vector<PlotLimit> limits) { limits_ = std::move(limits); }
    const std::vector<PlotLimit>& limits() const { return limits_; }
    /// Widens the range of sizes for those that are near; the others are named at the edge.
    void draw(double unit);
    void clear();

  private:
    QCustomPlot* plot_;
    bool upright_;
    std::vector<PlotLimit> limits_;
    std::vector<QCPAbstractItem*> items_;
};

/// A plot that fills its widget: a left click goes somewhere, the menu names where and copies the numbers, a sentence
/// stands in place of the axes where there is nothing to draw.
class ClickPlot : public QWidget {
    Q_OBJECT
  public:
    QCustomPlot* plot() const { return plot_; }
    /// What is drawn, as a heading and rows with tabs; empty where nothing is.
    virtual QString values_text() const = 0;

  protected:
    /// `least`: the height below which it says nothing, in pixels.
    ClickPlot(Viewpoint& view, const QString& name, int least, QWidget* parent);
    /// Draws it anew: it was shown, the colours changed.
    virtual void renew() = 0;
    /// A left click there, in pixels of the plot.
    virtual void clicked(const QPointF& at) = 0;
    /// What the menu calls such a click; empty where it would do nothing.
    virtual QString where_to() const = 0;
    void showEvent(QShowEvent*) override { renew(); }
    void contextMenuEvent(QContextMenuEvent*) override;
    /// The last step of `renew`: axes, or `why_` where it is empty; and onto the screen.
    void finish(bool empty);

    Viewpoint& view_;
    QCustomPlot* plot_;
    QString why_;  ///< said in place of the plot

  private:
    QCPItemText* empty_ = nullptr;
};

/// A histogram of lengths or values; a click on a bar chooses the longest span in it.
class DistributionPlot : public ClickPlot {
    Q_OBJECT
  public:
    explicit DistributionPlot(Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {260, 150}; }
    /// `why`: said in place of the plot where there is nothing to draw.
    void show(std::shared_ptr<const Series> series, const QString& why);
    /// Drawn until something else is shown.
    void set_limits(std::vector<PlotLimit> limits);
    const std::vector<PlotLimit>& limits() const { return marks_.limits(); }
    /// Where a length stands, for tests: x in widget pixels.
    double x_of(Time length) const;
    QString values_text() const override;

  signals:
    void span_chosen(const mt::SpanRef& span);
    void moment_chosen(mt::Time t);  ///< of what no lane draws

  private:
    void renew() override;
    QString where_to() const override;
    void clicked(const QPointF& at) override;
    LimitMarks marks_;
    QCPBars* bars_;
    std::shared_ptr<const Series> series_;
    double unit_ = 1e6;  ///< of the axis, in picoseconds or of values
};

/// One dot per span; a click on a dot chooses it. Of many, the extremes are kept, so that no outlier is lost. Or the
/// share of the time that the spans take, in windows.
class OverTimePlot : public ClickPlot {
    Q_OBJECT
  public:
    explicit OverTimePlot(Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {260, 170}; }
    void show(std::shared_ptr<const Series> series, const QString& why);
    void show_share(const Lane& lane, Time end);
    /// Drawn until something else is shown.
    void set_limits(std::vector<PlotLimit> limits);
    const std::vector<PlotLimit>& limits() const { return marks_.limits(); }
    /// How long a window of the share is; 0 while lengths are shown.
    Time window() const { return window_; }
    /// Where a span stands, for tests, in widget pixels; null if it has no dot.
    QPointF position_of(const SpanRef& span) const;
    QString values_text() const override;

  signals:
    void span_chosen(const mt::SpanRef& span);
    /// A window of the share: show it in the lanes.
    void window_chosen(mt::Time from, mt::Time to);

  private:
    void renew() override;
    QString where_to() const override;
    void draw(const QVector<double>& x, const QVector<double>& y);
    void renew_marks();
    QPointF position_of(const Series::Dot& dot) const;
    void clicked(const QPointF& at) override;
    LimitMarks marks_;
    QCPGraph* dots_;
    QCPGraph* chosen_;
    QCPItemStraightLine* cursor_;
    std::shared_ptr<const Series> series_;
    QVector<double> shares_;  ///< of each window, in percent
    Time window_;
    double unit_ = 1e6;  ///< of the axis, in picoseconds or of values
};

/// Something that only grows, as a line of steps over the recording; a click goes to the nearest moment at which it grew.
class GrowthPlot : public ClickPlot {
    Q_OBJECT
  public:
    explicit GrowthPlot(Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {280, 170}; }
    /// `points`: moment and share, 0 to 1, ascending. `why`: said in place of the plot where there are none.
    void show(std::vector<std::pair<Time, double>> points, const QString& why);
    const std::vector<std::pair<Time, double>>& points() const { return points_; }
    /// Where a moment stands, for tests: x in widget pixels.
    double x_of(Time t) const;
    QString values_text() const override;

  signals:
    void moment_chosen(mt::Time t);

  private:
    void renew() override;
    QString where_to() const override;
    void clicked(const QPointF& at) override;
    QCPGraph* line_;
    QCPItemStraightLine* cursor_;
    std::vector<std::pair<Time, double>> points_;
};

}  // namespace mt::app
