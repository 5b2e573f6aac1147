#include "plots.h"

#include <QMouseEvent>
#include <QVBoxLayout>

#include <qcustomplot.h>

#include <array>
#include <cmath>

#include "base/text.h"
#include "series.h"
#include "theme.h"

namespace mt::app {
namespace {

constexpr std::size_t kEveryDot = 20000;

struct LengthUnit {
    double ps;
    const char* name;
};

LengthUnit unit_for(Time greatest) {
    constexpr std::array<LengthUnit, 4> units = {{{1e3, "ns"}, {1e6, "µs"}, {1e9, "ms"}, {1e12, "s"}}};
    for (const auto& u : units)
        if (static_cast<double>(greatest.ps) < u.ps * 1500) return u;
    return units.back();
}

// Labels with their unit: "20 µs".
class UnitTicker : public QCPAxisTicker {
  public:
    UnitTicker(QString unit, int count) : unit_(std::move(unit)) { setTickCount(count); }

  protected:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override {
        return QString::number(tick, 'g', 4) + " " + unit_;
    }

  private:
    QString unit_;
};

class UnitTickerLog : public QCPAxisTickerLog {
  public:
    explicit UnitTickerLog(QString unit) : unit_(std::move(unit)) { setSubTickCount(0); }

  protected:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override {
        return QString::number(tick, 'g', 4) + " " + unit_;
    }
    // 1, 2 and 5 of each decade, thinned to what has room.
    QVector<double> createTickVector(double, const QCPRange& range) override {
        QVector<double> ticks;
        for (double power = std::pow(10, std::floor(std::log10(std::max(range.lower, 1e-6)))); power <= range.upper;
             power *= 10)
            for (const double f : {1.0, 2.0, 5.0})
                if (power * f >= range.lower && power * f <= range.upper) ticks.push_back(power * f);
        while (ticks.size() > 5) {
            QVector<double> fewer;
            for (int i = 0; i < ticks.size(); i += 2) fewer.push_back(ticks[i]);
            ticks = fewer;
        }
        return ticks;
    }

  private:
    QString unit_;
};

void dress(QCustomPlot* plot) {
    const Theme& t = theme();
    plot->setBackground(t.window);
    plot->setFont(text_font(10));
    for (QCPAxis* axis : {plot->xAxis, plot->yAxis}) {
        axis->setBasePen(QPen(t.second, 1));
        axis->setTickPen(QPen(t.second, 1));
        axis->setSubTickPen(Qt::NoPen);
        axis->setTickLabelColor(t.second);
        axis->setLabelColor(t.second);
        axis->setTickLabelFont(text_font(10));
        axis->setLabelFont(text_font(10));
        axis->grid()->setPen(QPen(t.rule, 1, Qt::DotLine));
        axis->grid()->setZeroLinePen(Qt::NoPen);
    }
    plot->xAxis->grid()->setVisible(false);
}

QCustomPlot* framed_plot(QWidget* in) {
    auto* plot = new QCustomPlot;
    auto* layout = new QVBoxLayout(in);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->addWidget(plot);
    dress(plot);
    return plot;
}

// A sentence in place of axes where there is nothing to draw.
void say_empty(QCustomPlot* plot, QCPItemText*& text, bool empty, const QString& why) {
    if (text == nullptr) {
        text = new QCPItemText(plot);
        text->position->setType(QCPItemPosition::ptAxisRectRatio);
        text->position->setCoords(0.5, 0.5);
    }
    text->setFont(text_font(11));
    text->setColor(theme().second);
    text->setText(why);
    text->setVisible(empty);
    plot->xAxis->setVisible(!empty);
    plot->yAxis->setVisible(!empty);
}

}  // namespace

DistributionPlot::DistributionPlot(Session& session, Viewpoint& view, QWidget* parent)
    : QWidget(parent), session_(session), view_(view), plot_(framed_plot(this)) {
    setAccessibleName(tr("Distribution of durations"));
    setMinimumHeight(100);
    bars_ = new QCPBars(plot_->xAxis, plot_->yAxis);
    connect(plot_, &QCustomPlot::mousePress, this, [this](QMouseEvent* e) {
        if (e->button() == Qt::LeftButton) clicked(e->position());
    });
    connect(&session, &Session::finished, this, &DistributionPlot::renew);
    connect(&view, &Viewpoint::selection_changed, this, &DistributionPlot::renew);
    renew();
}

void DistributionPlot::renew() {
    dress(plot_);
    const Theme& t = theme();
    const Series lane = Series::of(session_, view_.selection());
    const Distribution* ready = lane.distribution(session_, view_.selection());
    shown_ = ready == nullptr ? Distribution{} : *ready;
    QVector<double> x, y;
    double top = 1;
    if (!shown_.counts.empty()) {
        const LengthUnit unit = unit_for(shown_.edges.back());
        unit_ps_ = unit.ps;
        for (const auto n : shown_.counts) top = std::max(top, static_cast<double>(n));
        for (std::size_t i = 0; i < shown_.counts.size(); ++i) {
            if (shown_.counts[i] == 0) continue;
            const double a = static_cast<double>(shown_.edges[i].ps) / unit.ps,
                         b = static_cast<double>(shown_.edges[i + 1].ps) / unit.ps;
            const double middle = shown_.logarithmic ? std::sqrt(a * b) : (a + b) / 2;
            // One in thousands must still be seen: rare bins have a least height.
            x.push_back(middle);
            y.push_back(std::max(static_cast<double>(shown_.counts[i]), top * 0.03));
        }
        plot_->xAxis->setScaleType(shown_.logarithmic ? QCPAxis::stLogarithmic : QCPAxis::stLinear);
        const double low = static_cast<double>(shown_.edges.front().ps) / unit.ps,
                     high = static_cast<double>(shown_.edges.back().ps) / unit.ps;
        plot_->xAxis->setTicker(shown_.logarithmic ? QSharedPointer<QCPAxisTicker>(new UnitTickerLog(unit.name))
                                                   : QSharedPointer<QCPAxisTicker>(new UnitTicker(unit.name, 4)));
        plot_->xAxis->setRange(shown_.logarithmic ? low * 0.94 : low - (high - low) * 0.03,
                               shown_.logarithmic ? high * 1.06 : high + (high - low) * 0.03);
        bars_->setWidthType(QCPBars::wtAxisRectRatio);
        bars_->setWidth(0.85 / static_cast<double>(shown_.counts.size()));
    }
    bars_->setPen(Qt::NoPen);
    bars_->setBrush(t.measure);
    bars_->setData(x, y, true);
    plot_->yAxis->setRange(0, top * 1.08);
    auto ticker = QSharedPointer<QCPAxisTicker>(new QCPAxisTicker);
    ticker->setTickCount(3);
    plot_->yAxis->setTicker(ticker);
    plot_->yAxis->setNumberFormat("gb");
    plot_->yAxis->setNumberPrecision(5);
    say_empty(plot_, empty_, x.isEmpty(),
              !lane             ? QString()
              : session_.busy() ? tr("decoding")
                                : tr("no whole execution"));
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

double DistributionPlot::x_of(Time duration) const {
    return plot_->xAxis->coordToPixel(static_cast<double>(duration.ps) / unit_ps_);
}

void DistributionPlot::clicked(const QPointF& at) {
    const Selection s = view_.selection();
    const Series lane = Series::of(session_, s);
    if (!lane || shown_.counts.empty()) return;
    const Time wanted{static_cast<std::int64_t>(plot_->xAxis->pixelToCoord(at.x()) * unit_ps_)};
    // The bin under the mouse, or the nearest one that is not empty.
    std::size_t best = shown_.counts.size();
    double nearest = 14;
    for (std::size_t i = 0; i < shown_.counts.size(); ++i) {
        if (shown_.counts[i] == 0) continue;
        if (wanted >= shown_.edges[i] && wanted < shown_.edges[i + 1]) {
            best = i;
            break;
        }
        const double away =
            std::min(std::fabs(x_of(shown_.edges[i]) - at.x()), std::fabs(x_of(shown_.edges[i + 1]) - at.x()));
        if (away < nearest) {
            nearest = away;
            best = i;
        }
    }
    if (best == shown_.counts.size()) return;
    std::size_t longest = lane.size();
    for (std::size_t i = 0; i < lane.size(); ++i) {
        if (!lane.whole(i) || lane.length(i) < shown_.edges[best] || lane.length(i) >= shown_.edges[best + 1]) continue;
        if (longest == lane.size() || lane.length(i) > lane.length(longest)) longest = i;
    }
    if (longest < lane.size()) emit instance_chosen({s.core, s.lane, longest, s.task});
}

OverTimePlot::OverTimePlot(Session& session, Viewpoint& view, QWidget* parent)
    : QWidget(parent), session_(session), view_(view), plot_(framed_plot(this)) {
    setAccessibleName(tr("Duration over time"));
    setMinimumHeight(110);
    dots_ = plot_->addGraph();
    chosen_ = plot_->addGraph();
    cursor_ = new QCPItemStraightLine(plot_);
    connect(plot_, &QCustomPlot::mousePress, this, [this](QMouseEvent* e) {
        if (e->button() == Qt::LeftButton) clicked(e->position());
    });
    connect(&session, &Session::finished, this, &OverTimePlot::renew);
    connect(&view, &Viewpoint::selection_changed, this, &OverTimePlot::renew);
    connect(&view, &Viewpoint::cursor_changed, this, [this] {
        renew_marks();
        plot_->replot(QCustomPlot::rpQueuedReplot);
    });
    renew();
}

void OverTimePlot::renew() {
    dress(plot_);
    const Theme& t = theme();
    const Series lane = series();
    instances_.clear();
    QVector<double> x, y;
    Time greatest{};
    const bool load = shown_ == Shown::load && lane.task() != nullptr;
    if (load) {
        renew_load(lane, x, y);
    } else if (lane && lane.size() > 0) {
        const std::size_t stride = std::max<std::size_t>(1, lane.size() / kEveryDot * 2);
        for (std::size_t i = 0; i < lane.size(); i += stride) {
            // Of a stretch, the longest stands for all: outliers are what people look for here.
            const std::size_t last = std::min(i + stride, lane.size());
            const std::size_t top = lane.longest(i, last);
            instances_.push_back(lane.whole(top) ? top : i);
            if (stride > 1 && i != instances_.back()) instances_.push_back(i);
        }
        std::sort(instances_.begin(), instances_.end());
        std::erase_if(instances_, [&](std::size_t i) { return !lane.whole(i); });
        for (const std::size_t i : instances_) greatest = std::max(greatest, lane.length(i));
        const LengthUnit unit = unit_for(greatest);
        unit_ps_ = unit.ps;
        for (const std::size_t i : instances_) {
            x.push_back(lane.begin(i).seconds());
            y.push_back(static_cast<double>(lane.length(i).ps) / unit.ps);
        }
        plot_->yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker(unit.name, 4)));
    }
    plot_->xAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker("s", 4)));
    dots_->setLineStyle(load ? QCPGraph::lsStepCenter : QCPGraph::lsNone);
    dots_->setPen(QPen(t.measure, 1.2));
    QColor dot = t.measure;
    dot.setAlpha(instances_.size() > 3000 ? 90 : 170);
    dots_->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssDisc, QPen(dot, 0), dot, 3.2));
    if (load) dots_->setScatterStyle(QCPScatterStyle::ssNone);
    dots_->setAdaptiveSampling(false);
    dots_->setData(x, y, true);
    plot_->xAxis->setRange(-view_.end().seconds() * 0.01, view_.end().seconds() * 1.01);
    plot_->yAxis->setRange(0, std::max(1e-9, static_cast<double>(greatest.ps) / unit_ps_ * 1.12));
    if (load) plot_->yAxis->setRange(0, y.isEmpty() ? 1 : std::max(1.0, *std::max_element(y.begin(), y.end()) * 1.12));
    chosen_->setLineStyle(QCPGraph::lsNone);
    chosen_->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssCircle, QPen(t.finding, 2), Qt::NoBrush, 11));
    renew_marks();
    say_empty(plot_, empty_, x.isEmpty(),
              !lane             ? QString()
              : session_.busy() ? tr("decoding")
                                : tr("no whole execution"));
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

Series OverTimePlot::series() const {
    return Series::of(session_, view_.selection(),
                      shown_ == Shown::running   ? Series::Of::running
                      : shown_ == Shown::held_up ? Series::Of::held_up
                                                 : Series::Of::response);
}

void OverTimePlot::set_shown(Shown shown) {
    if (shown_ == shown) return;
    shown_ = shown;
    renew();
}

// Share of each window in which the task had a core, interrupts in it included; windows are round times.
void OverTimePlot::renew_load(const Series& lane, QVector<double>& x, QVector<double>& y) {
    constexpr std::int64_t kWindows = 120;
    const std::int64_t end = std::max<std::int64_t>(1, lane.trail().end.ps);
    std::int64_t step = 1;
    for (int i = 0; step * kWindows < end; ++i) step = i % 3 == 1 ? step / 2 * 5 : step * 2;  // 1, 2, 5, 10, …
    window_ = Time{step};
    for (std::int64_t from = 0; from < end; from += step) {
        const Time a{from}, b{std::min(from + step, end)};
        if (b.ps - a.ps < step / 2 && from > 0) break;  // a rest of a window says little
        x.push_back((a.seconds() + b.seconds()) / 2);
        y.push_back(100.0 * static_cast<double>(lane.task()->running_time(a, b).ps) / static_cast<double>((b - a).ps));
    }
    plot_->yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker("%", 4)));
}

void OverTimePlot::renew_marks() {
    const Series lane = series();
    const auto instance = view_.selection().instance;
    QVector<double> x, y;
    if (lane && shown_ != Shown::load && instance && *instance < lane.size() && lane.whole(*instance)) {
        x.push_back(lane.begin(*instance).seconds());
        y.push_back(static_cast<double>(lane.length(*instance).ps) / unit_ps_);
    }
    chosen_->setData(x, y, true);
    cursor_->setPen(QPen(theme().second, 1, Qt::DotLine));
    cursor_->setVisible(!instances_.empty() || (shown_ == Shown::load && lane.task() != nullptr));
    cursor_->point1->setCoords(view_.cursor().seconds(), 0);
    cursor_->point2->setCoords(view_.cursor().seconds(), 1);
}

QPointF OverTimePlot::position_of(std::size_t instance) const {
    const Series lane = series();
    if (!lane || instance >= lane.size()) return {};
    return {plot_->xAxis->coordToPixel(lane.begin(instance).seconds()),
            plot_->yAxis->coordToPixel(static_cast<double>(lane.length(instance).ps) / unit_ps_)};
}

void OverTimePlot::clicked(const QPointF& at) {
    const Selection s = view_.selection();
    const Series lane = series();
    if (!lane) return;
    if (shown_ == Shown::load && lane.task() != nullptr) {
        if (window_.ps <= 0) return;
        const double seconds = plot_->xAxis->pixelToCoord(at.x());
        if (seconds < 0 || seconds > lane.trail().end.seconds()) return;
        const auto k = static_cast<std::int64_t>(seconds * 1e12) / window_.ps;
        emit window_chosen(Time{k * window_.ps}, Time{(k + 1) * window_.ps});
        return;
    }
    double nearest = 12 * 12;
    std::optional<std::size_t> best;
    for (const std::size_t i : instances_) {
        const QPointF d = position_of(i) - at;
        const double away = d.x() * d.x() + d.y() * d.y();
        if (away < nearest) {
            nearest = away;
            best = i;
        }
    }
    if (best) emit instance_chosen({s.core, s.lane, *best, s.task});
}

}  // namespace mt::app
