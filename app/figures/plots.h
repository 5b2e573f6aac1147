// Two plots of what is selected: the distribution of its lengths, and each of them over time.
#pragma once

#include <memory>

#include <QVector>
#include <QWidget>

#include "measure/series.h"
#include "navigate/viewpoint.h"

class QCustomPlot;
class QCPBars;
class QCPGraph;
class QCPItemStraightLine;
class QCPItemText;

namespace mt::app {

/// A histogram of lengths or values; a click on a bar chooses the longest span in it.
class DistributionPlot : public QWidget {
    Q_OBJECT
  public:
    explicit DistributionPlot(Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {260, 150}; }
    /// `why`: said in place of the plot where there is nothing to draw.
    void show(std::shared_ptr<const Series> series, const QString& why);
    /// Where a length stands, for tests: x in widget pixels.
    double x_of(Time length) const;
    QCustomPlot* plot() const { return plot_; }
    /// What the bars stand for, as a heading and rows with tabs.
    QString values_text() const;

  signals:
    void span_chosen(const mt::SpanRef& span);

  protected:
    void contextMenuEvent(QContextMenuEvent*) override;

  private:
    void renew();
    void clicked(const QPointF& at);
    QCustomPlot* plot_;
    QCPBars* bars_;
    QCPItemText* empty_ = nullptr;
    std::shared_ptr<const Series> series_;
    QString why_;
    double unit_ = 1e6;  ///< of the axis, in picoseconds or of values
};

/// One dot per span; a click on a dot chooses it. Of many, the extremes are kept, so that no outlier is lost. Or the
/// share of the time that the spans take, in windows.
class OverTimePlot : public QWidget {
    Q_OBJECT
  public:
    explicit OverTimePlot(Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {260, 170}; }
    void show(std::shared_ptr<const Series> series, const QString& why);
    void show_share(const Lane& lane, Time end);
    /// How long a window of the share is; 0 while lengths are shown.
    Time window() const { return window_; }
    /// Where a span stands, for tests, in widget pixels; null if it has no dot.
    QPointF position_of(const SpanRef& span) const;
    /// What the dots, or the line, stand for, as a heading and rows with tabs.
    QString values_text() const;

  signals:
    void span_chosen(const mt::SpanRef& span);
    /// A window of the share: show it in the lanes.
    void window_chosen(mt::Time from, mt::Time to);

  protected:
    void contextMenuEvent(QContextMenuEvent*) override;

  private:
    void renew();
    void draw(const QVector<double>& x, const QVector<double>& y);
    void renew_marks();
    QPointF position_of(const Series::Dot& dot) const;
    void clicked(const QPointF& at);
    Viewpoint& view_;
    QCustomPlot* plot_;
    QCPGraph* dots_;
    QCPGraph* chosen_;
    QCPItemStraightLine* cursor_;
    QCPItemText* empty_ = nullptr;
    std::shared_ptr<const Series> series_;
    QVector<double> shares_;  ///< of each window, in percent
    QString why_;
    Time window_;
    double unit_ = 1e6;  ///< of the axis, in picoseconds or of values
};

}  // namespace mt::app
