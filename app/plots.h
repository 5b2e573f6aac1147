// Two plots of one lane or task: the distribution of its durations or responses, and each of them over time.
#pragma once

#include <QVector>
#include <QWidget>

#include "series.h"
#include "session.h"
#include "viewpoint.h"

class QCustomPlot;
class QCPBars;
class QCPGraph;
class QCPItemStraightLine;
class QCPItemText;

namespace mt::app {

/// A histogram of durations; a click on a bar chooses the longest instance in it.
class DistributionPlot : public QWidget {
    Q_OBJECT
  public:
    DistributionPlot(Session& session, Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {260, 150}; }
    /// Where a duration stands, for tests: x in widget pixels.
    double x_of(Time duration) const;
    QCustomPlot* plot() const { return plot_; }
    void renew();

  signals:
    void instance_chosen(const mt::app::Selection& place);

  private:
    void clicked(const QPointF& at);
    Session& session_;
    Viewpoint& view_;
    QCustomPlot* plot_;
    QCPBars* bars_;
    QCPItemText* empty_ = nullptr;
    Distribution shown_;
    double unit_ps_ = 1e6;
};

/// One dot per instance; a click on a dot chooses it. Of a hundred thousand and more, the extremes of
/// each pixel are kept, so that no outlier is lost.
class OverTimePlot : public QWidget {
    Q_OBJECT
  public:
    OverTimePlot(Session& session, Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {260, 170}; }
    /// What is drawn of a task: a length of each job, or the processor load by it in windows of time.
    enum class Shown { response, running, held_up, load };
    void set_shown(Shown shown);
    Shown shown() const { return shown_; }
    /// The windows of Shown::load: how long one is.
    Time window() const { return window_; }
    /// Where an instance stands, for tests, in widget pixels.
    QPointF position_of(std::size_t instance) const;
    void renew();

  signals:
    void instance_chosen(const mt::app::Selection& place);
    /// A window of the load: show it in the lanes.
    void window_chosen(mt::Time from, mt::Time to);

  private:
    void clicked(const QPointF& at);
    void renew_marks();
    Session& session_;
    Viewpoint& view_;
    QCustomPlot* plot_;
    QCPGraph* dots_;
    QCPGraph* chosen_;
    QCPItemStraightLine* cursor_;
    QCPItemText* empty_ = nullptr;
    Series series() const;
    void renew_load(const Series& lane, QVector<double>& x, QVector<double>& y);
    Shown shown_ = Shown::response;
    Time window_;
    std::vector<std::size_t> instances_;
    double unit_ps_ = 1e6;
};

}  // namespace mt::app
