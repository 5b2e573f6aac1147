#include "figures/plots.h"

#include <QClipboard>
#include <QContextMenuEvent>
#include <QGuiApplication>
#include <QMenu>
#include <QMouseEvent>
#include <QVBoxLayout>

#include <qcustomplot.h>

#include <array>
#include <cmath>

#include "base/text.h"
#include "look/theme.h"
#include "look/layout.h"

namespace mt::app {
namespace {

struct AxisUnit {
    double size;  ///< in picoseconds, or of values
    const char* name;
};

AxisUnit unit_for(const Series* series) {
    constexpr std::array<AxisUnit, 4> units = {{{1e3, "ns"}, {1e6, "µs"}, {1e9, "ms"}, {1e12, "s"}}};
    if (series != nullptr && series->of_values) return {1, ""};
    for (const auto& u : units)
        if (series == nullptr || series->greatest < u.size * 1500) return u;
    return units.back();
}

QString label_of(double tick, const QString& unit) {
    const double size = std::fabs(tick);
    const QString number = size >= 1e4 && size < 1e7 ? (tick < 0 ? "-" : "") + words(count_text(std::llround(size)))
                                                     : QString::number(tick, 'g', 4);
    return number + (unit.isEmpty() ? unit : " " + unit);
}

// Numbers of instances: whole ones.
class CountTicker : public QCPAxisTicker {
  public:
    CountTicker() { setTickCount(3); }

  protected:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override {
        if (std::fabs(tick - std::round(tick)) > 1e-6) return {};
        return tick < 1e7 ? label_of(tick, {}) : label_of(tick / 1e6, "M");
    }
};

// Labels with their unit: "20 µs".
class UnitTicker : public QCPAxisTicker {
  public:
    UnitTicker(QString unit, int count) : unit_(std::move(unit)) { setTickCount(count); }

  protected:
    // Of ticks so near to each other that their words are the same the first alone has them.
    QVector<QString> createLabelVector(const QVector<double>& ticks, const QLocale&, QChar, int) override {
        QVector<QString> labels;
        QString before;
        for (const double tick : ticks) {
            const QString label = label_of(tick, unit_);
            labels.push_back(label == before ? QString() : label);
            before = label;
        }
        return labels;
    }

  private:
    QString unit_;
};

class UnitTickerLog : public QCPAxisTickerLog {
  public:
    explicit UnitTickerLog(QString unit) : unit_(std::move(unit)) { setSubTickCount(0); }

  protected:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override { return label_of(tick, unit_); }
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

// Where nobody sees it nothing is drawn: being shown draws it.
void redraw(QCustomPlot* plot) {
    if (plot->isVisible() && !plot->size().isEmpty()) plot->replot(QCustomPlot::rpQueuedReplot);
}

QCustomPlot* framed_plot(QWidget* in) {
    auto* plot = new QCustomPlot;
    plot->setMinimumSize(24, 24);  // it cannot be drawn on nothing
    bare_column(in)->addWidget(plot);
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

// A length in ns, a value as it is.
QString number_of(const Series& series, double x) { return QString::number(series.of_values ? x : x / 1e3, 'g', 12); }

}  // namespace

ClickPlot::ClickPlot(Viewpoint& view, const QString& name, int least, QWidget* parent)
    : QWidget(parent), view_(view), plot_(framed_plot(this)) {
    setAccessibleName(name);
    setMinimumHeight(least);
    connect(plot_, &QCustomPlot::mousePress, this, [this](QMouseEvent* e) {
        if (e->button() == Qt::LeftButton) clicked(e->position());
    });
    connect(&view, &Viewpoint::colours_changed, this, &ClickPlot::renew);
}

void ClickPlot::finish(bool empty) {
    say_empty(plot_, empty_, empty, why_);
    redraw(plot_);
}

void ClickPlot::contextMenuEvent(QContextMenuEvent* e) {
    QMenu menu(this);
    if (const QString go = where_to(); !go.isEmpty()) menu.addAction(go, this, [this, at = e->pos()] { clicked(at); });
    const QString values = values_text();
    menu.addAction(tr("Copy values"), this, [values] { QGuiApplication::clipboard()->setText(values); })
        ->setEnabled(!values.isEmpty());
    menu.exec(e->globalPos());
}

void LimitMarks::clear() {
    for (QCPAbstractItem* item : items_) plot_->removeItem(item);
    items_.clear();
}

void LimitMarks::draw(double unit) {
    clear();
    QCPAxis* sizes = upright_ ? plot_->xAxis : plot_->yAxis;
    const bool logarithmic = sizes->scaleType() == QCPAxis::stLogarithmic;
    // What is far away is not worth to draw all the rest small for.
    QCPRange range = sizes->range();
    const double room = logarithmic ? 0 : range.size();
    const auto near_by = [&](double v) {
        return logarithmic ? v > range.lower / 4 && v < range.upper * 4 : v > range.lower - room && v < range.upper + room;
    };
    QCPRange wide = range;
    for (const PlotLimit& l : limits_) {
        const double v = l.at / unit;
        if (!near_by(v)) continue;
        const double beside = logarithmic ? 0 : range.size() * 0.05;
        wide.lower = std::min(wide.lower, logarithmic ? v * 0.94 : v - beside);
        wide.upper = std::max(wide.upper, logarithmic ? v * 1.06 : v + beside);
    }
    // Words of those above stand over what is drawn, not on it.
    const bool any_above = std::any_of(limits_.begin(), limits_.end(), [&](const PlotLimit& l) {
        return l.at / unit > range.upper && !near_by(l.at / unit);
    });
    if (any_above && !upright_) wide.upper += wide.size() * 0.18;
    if (upright_ && !limits_.empty()) {
        const QCPRange counts = plot_->yAxis->range();
        plot_->yAxis->setRange(counts.lower, counts.upper + counts.size() * 0.16 * static_cast<double>(limits_.size()));
    }
    sizes->setRange(wide);
    const auto ink_of = [](const PlotLimit& l) { return l.broken ? theme().finding : theme().second; };
    for (const PlotLimit& l : limits_) {
        const double v = l.at / unit;
        if (!near_by(v)) continue;
        auto* stroke = new QCPItemStraightLine(plot_);
        stroke->setPen(QPen(ink_of(l), 1.2, Qt::DashLine));
        stroke->point1->setCoords(upright_ ? v : 0, upright_ ? 0 : v);
        stroke->point2->setCoords(upright_ ? v : 1, upright_ ? 1 : v);
        items_.push_back(stroke);
    }
    int line = 0;  // words stand over all strokes
    for (const PlotLimit& l : limits_) {
        const double v = l.at / unit;
        const QColor ink = ink_of(l);
        auto* text = new QCPItemText(plot_);
        text->setFont(text_font(10));
        text->setColor(ink);
        text->setBrush(QBrush(theme().window));
        text->setPadding(QMargins(2, 0, 2, 0));
        const double share = sizes->coordToPixel(v) / std::max(1, upright_ ? plot_->width() : plot_->height());
        if (near_by(v)) {
            text->setText(l.text);
            if (upright_) {
                text->position->setTypeX(QCPItemPosition::ptPlotCoords);
                text->position->setTypeY(QCPItemPosition::ptAxisRectRatio);
                text->position->setCoords(v, 0.02 + 0.13 * line);
                text->setPositionAlignment(Qt::AlignTop | (share > 0.5 ? Qt::AlignRight : Qt::AlignLeft));
            } else {
                text->position->setTypeX(QCPItemPosition::ptAxisRectRatio);
                text->position->setTypeY(QCPItemPosition::ptPlotCoords);
                text->position->setCoords(0.99, v);
                text->setPositionAlignment(Qt::AlignRight | (share < 0.3 ? Qt::AlignTop : Qt::AlignBottom));
            }
        } else {
            const bool above = v > range.upper;
            text->setText(upright_ ? (above ? l.text + " ▸" : "◂ " + l.text) : (above ? "▴ " : "▾ ") + l.text);
            text->position->setType(QCPItemPosition::ptAxisRectRatio);
            text->position->setCoords(upright_ && !above ? 0.01 : 0.99, upright_ || above ? 0.02 + 0.13 * line : 0.98);
            text->setPositionAlignment((upright_ && !above ? Qt::AlignLeft : Qt::AlignRight) |
                                       (upright_ || above ? Qt::AlignTop : Qt::AlignBottom));
        }
        items_.push_back(text);
        ++line;
    }
}

DistributionPlot::DistributionPlot(Viewpoint& view, QWidget* parent)
    : ClickPlot(view, tr("Distribution of lengths"), 100, parent), marks_(plot_, true) {
    bars_ = new QCPBars(plot_->xAxis, plot_->yAxis);
    renew();
}

void DistributionPlot::show(std::shared_ptr<const Series> series, const QString& why) {
    series_ = std::move(series);
    why_ = why;
    marks_.set({});
    renew();
}

void DistributionPlot::renew() {
    dress(plot_);
    const Theme& t = theme();
    static const Series nothing;
    const Series& shown = series_ ? *series_ : nothing;
    QVector<double> x, y;
    double top = 1;
    if (!shown.counts.empty()) {
        const AxisUnit unit = unit_for(&shown);
        unit_ = unit.size;
        for (const auto n : shown.counts) top = std::max(top, static_cast<double>(n));
        for (std::size_t i = 0; i < shown.counts.size(); ++i) {
            if (shown.counts[i] == 0) continue;
            const double a = shown.edges[i] / unit.size, b = shown.edges[i + 1] / unit.size;
            const double middle = shown.logarithmic ? std::sqrt(a * b) : (a + b) / 2;
            // One in thousands must still be seen: rare bins have a least height.
            x.push_back(middle);
            y.push_back(std::max(static_cast<double>(shown.counts[i]), top * 0.03));
        }
        plot_->xAxis->setScaleType(shown.logarithmic ? QCPAxis::stLogarithmic : QCPAxis::stLinear);
        const double low = shown.edges.front() / unit.size, high = shown.edges.back() / unit.size;
        plot_->xAxis->setTicker(shown.logarithmic ? QSharedPointer<QCPAxisTicker>(new UnitTickerLog(unit.name))
                                                  : QSharedPointer<QCPAxisTicker>(new UnitTicker(unit.name, 4)));
        plot_->xAxis->setRange(shown.logarithmic ? low * 0.94 : low - (high - low) * 0.03,
                               shown.logarithmic ? high * 1.06 : high + (high - low) * 0.03);
        bars_->setWidthType(QCPBars::wtAxisRectRatio);
        bars_->setWidth(0.85 / static_cast<double>(shown.counts.size()));
    }
    bars_->setPen(Qt::NoPen);
    bars_->setBrush(t.measure);
    bars_->setData(x, y, true);
    plot_->yAxis->setRange(0, top * 1.08);
    plot_->yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new CountTicker));
    x.isEmpty() ? marks_.clear() : marks_.draw(unit_);
    finish(x.isEmpty());
}

void DistributionPlot::set_limits(std::vector<PlotLimit> limits) {
    marks_.set(std::move(limits));
    renew();
}

QString DistributionPlot::values_text() const {
    if (!series_ || series_->counts.empty()) return {};
    const QString unit = series_->of_values ? QString() : QStringLiteral(" (ns)");
    QString text = tr("from%1\tto%1\tcount\n").arg(unit);
    for (std::size_t i = 0; i < series_->counts.size(); ++i)
        text += QStringList{number_of(*series_, series_->edges[i]), number_of(*series_, series_->edges[i + 1]),
                            QString::number(series_->counts[i])}
                    .join('\t') +
                "\n";
    return text;
}

QString DistributionPlot::where_to() const { return series_ ? tr("Show the longest of this bar") : QString(); }

double DistributionPlot::x_of(Time length) const {
    return plot_->xAxis->coordToPixel(static_cast<double>(length.ps) / unit_);
}

// The bin under the mouse, or the nearest one that is not empty.
void DistributionPlot::clicked(const QPointF& at) {
    if (!series_) return;
    const Series& shown = *series_;
    const double wanted = plot_->xAxis->pixelToCoord(at.x()) * unit_;
    const auto away_from = [&](double edge) { return std::fabs(plot_->xAxis->coordToPixel(edge / unit_) - at.x()); };
    std::size_t best = shown.counts.size();
    double nearest = 14;
    for (std::size_t i = 0; i < shown.counts.size(); ++i) {
        if (shown.counts[i] == 0) continue;
        if (wanted >= shown.edges[i] && wanted < shown.edges[i + 1]) {
            best = i;
            break;
        }
        const double away = std::min(away_from(shown.edges[i]), away_from(shown.edges[i + 1]));
        if (away < nearest) {
            nearest = away;
            best = i;
        }
    }
    if (best == shown.counts.size()) return;
    const Series::Dot& dot = series_->longest[best];
    if (dot.span.lane)
        emit span_chosen(dot.span);
    else
        emit moment_chosen(dot.begin);
}

OverTimePlot::OverTimePlot(Viewpoint& view, QWidget* parent)
    : ClickPlot(view, tr("Lengths over time"), 110, parent), marks_(plot_, false) {
    dots_ = plot_->addGraph();
    chosen_ = plot_->addGraph();
    cursor_ = new QCPItemStraightLine(plot_);
    for (const auto signal : {&Viewpoint::cursor_changed, &Viewpoint::selection_changed})
        connect(&view, signal, this, [this] {
            renew_marks();
            redraw(plot_);
        });
    renew();
}

void OverTimePlot::show(std::shared_ptr<const Series> series, const QString& why) {
    series_ = std::move(series);
    why_ = why;
    window_ = {};
    marks_.set({});
    renew();
}

void OverTimePlot::set_limits(std::vector<PlotLimit> limits) {
    marks_.set(std::move(limits));
    renew();
}

// Windows are round times.
void OverTimePlot::show_share(const Lane& lane, Time recording) {
    constexpr std::int64_t kWindows = 120;
    const std::int64_t end = std::max<std::int64_t>(1, recording.ps);
    std::int64_t step = 1;
    for (int i = 0; step * kWindows < end; ++i) step = i % 3 == 1 ? step / 2 * 5 : step * 2;  // 1, 2, 5, 10, …
    window_ = Time{step};
    series_.reset();
    marks_.set({});
    why_.clear();
    shares_.clear();
    for (std::int64_t from = 0; from < end; from += step) {
        const Time a{from}, b{std::min(from + step, end)};
        if (b.ps - a.ps < step / 2 && from > 0) break;  // a rest of a window says little
        shares_.push_back(100.0 * static_cast<double>(lane.busy(a, b).value_or(Time{}).ps) /
                          static_cast<double>((b - a).ps));
    }
    renew();
}

void OverTimePlot::renew() {
    dress(plot_);
    QVector<double> x, y;
    if (window_ > Time{}) {
        for (int i = 0; i < shares_.size(); ++i) {
            const double from = window_.seconds() * i,
                         to = std::min(window_.seconds() * (i + 1), view_.end().seconds());
            x.push_back((from + to) / 2);
        }
        y = shares_;
        plot_->yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker("%", 4)));
        plot_->yAxis->setRange(0, y.isEmpty() ? 1 : std::max(1.0, *std::max_element(y.begin(), y.end()) * 1.12));
    } else {
        const AxisUnit unit = unit_for(series_.get());
        unit_ = unit.size;
        if (series_)
            for (const Series::Dot& dot : series_->dots) {
                x.push_back(dot.begin.seconds());
                y.push_back(dot.size / unit_);
            }
        plot_->yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker(unit.name, 4)));
        // Lengths begin at nothing, values where they are.
        const double low = series_ && series_->of_values ? series_->least : 0,
                     high = series_ ? series_->greatest : unit_,
                     room = high > low ? (high - low) * 0.12 : std::max(1e-9, std::fabs(high) * 0.12);
        plot_->yAxis->setRange(low == 0 ? 0 : (low - room) / unit_, (high + room) / unit_);
    }
    window_ > Time{} || x.isEmpty() ? marks_.clear() : marks_.draw(unit_);
    draw(x, y);
}

void OverTimePlot::draw(const QVector<double>& x, const QVector<double>& y) {
    const Theme& t = theme();
    const bool share = window_ > Time{};
    plot_->xAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker("s", 4)));
    dots_->setLineStyle(share ? QCPGraph::lsStepCenter : QCPGraph::lsNone);
    dots_->setPen(QPen(t.measure, 1.2));
    QColor dot = t.measure;
    dot.setAlpha(x.size() > 3000 ? 90 : 170);
    dots_->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssDisc, QPen(dot, 0), dot, 3.2));
    if (share) dots_->setScatterStyle(QCPScatterStyle::ssNone);
    dots_->setAdaptiveSampling(false);
    dots_->setData(x, y, true);
    plot_->xAxis->setRange(-view_.end().seconds() * 0.01, view_.end().seconds() * 1.01);
    chosen_->setLineStyle(QCPGraph::lsNone);
    chosen_->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssCircle, QPen(t.finding, 2), Qt::NoBrush, 11));
    renew_marks();
    finish(x.isEmpty());
}

void OverTimePlot::renew_marks() {
    QVector<double> x, y;
    const auto& span = view_.selection().span;
    if (series_ && span)
        for (const Series::Dot& dot : series_->dots)
            if (dot.span == *span) {
                x.push_back(dot.begin.seconds());
                y.push_back(dot.size / unit_);
            }
    chosen_->setData(x, y, true);
    cursor_->setPen(QPen(theme().second, 1, Qt::DotLine));
    cursor_->setVisible((series_ && !series_->dots.empty()) || window_ > Time{});
    cursor_->point1->setCoords(view_.cursor().seconds(), 0);
    cursor_->point2->setCoords(view_.cursor().seconds(), 1);
}

QPointF OverTimePlot::position_of(const Series::Dot& dot) const {
    return {plot_->xAxis->coordToPixel(dot.begin.seconds()), plot_->yAxis->coordToPixel(dot.size / unit_)};
}

QPointF OverTimePlot::position_of(const SpanRef& span) const {
    if (series_)
        for (const Series::Dot& dot : series_->dots)
            if (dot.span == span) return position_of(dot);
    return {};
}

QString OverTimePlot::values_text() const {
    QString text;
    if (window_ > Time{}) {
        text = tr("from (ns)\tshare (%)\n");
        for (int i = 0; i < shares_.size(); ++i)
            text += QString::number(window_.ns() * i, 'f', 3) + "\t" + QString::number(shares_[i], 'g', 9) + "\n";
    } else if (series_ && !series_->dots.empty()) {
        text = series_->of_values ? tr("time (ns)\tvalue\n") : tr("begin (ns)\tlength (ns)\n");
        for (const Series::Dot& dot : series_->dots)
            text += QString::fromStdString(ns_text(dot.begin)) + "\t" + number_of(*series_, dot.size) + "\n";
    }
    return text;
}

QString OverTimePlot::where_to() const {
    if (window_ > Time{}) return tr("Show this stretch in the lanes");
    return series_ ? tr("Show what the nearest dot stands for") : QString();
}

void OverTimePlot::clicked(const QPointF& at) {
    if (window_ > Time{}) {
        const double seconds = plot_->xAxis->pixelToCoord(at.x());
        if (seconds < 0 || seconds > view_.end().seconds()) return;
        const auto k = static_cast<std::int64_t>(seconds * 1e12) / window_.ps;
        emit window_chosen(Time{k * window_.ps}, Time{(k + 1) * window_.ps});
        return;
    }
    if (!series_) return;
    double nearest = 12 * 12;
    const Series::Dot* best = nullptr;
    for (const Series::Dot& dot : series_->dots) {
        const QPointF d = position_of(dot) - at;
        const double away = d.x() * d.x() + d.y() * d.y();
        if (away < nearest) {
            nearest = away;
            best = &dot;
        }
    }
    if (best != nullptr) emit span_chosen(best->span);
}

GrowthPlot::GrowthPlot(Viewpoint& view, QWidget* parent) : ClickPlot(view, tr("When coverage grew"), 90, parent) {
    line_ = plot_->addGraph();
    cursor_ = new QCPItemStraightLine(plot_);
    connect(&view, &Viewpoint::cursor_changed, this, &GrowthPlot::renew);
    renew();
}

void GrowthPlot::show(std::vector<std::pair<Time, double>> points, const QString& why) {
    points_ = std::move(points);
    why_ = why;
    renew();
}

void GrowthPlot::renew() {
    dress(plot_);
    const Theme& t = theme();
    QVector<double> x, y;
    double low = 100, high = 0;
    for (const auto& [time, share] : points_) {
        x.push_back(time.seconds());
        y.push_back(100 * share);
        low = std::min(low, 100 * share);
        high = std::max(high, 100 * share);
    }
    const double end = view_.end().seconds();
    if (!x.isEmpty()) {
        x.push_back(end);  // nothing new from there on
        y.push_back(y.back());
    }
    line_->setLineStyle(QCPGraph::lsStepLeft);
    line_->setPen(QPen(t.measure, 1.6));
    line_->setData(x, y, true);
    plot_->xAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker("s", 4)));
    plot_->yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new UnitTicker("%", 4)));
    plot_->xAxis->setRange(-end * 0.01, end * 1.01);
    const double room = std::max(0.5, (high - low) * 0.08);
    plot_->yAxis->setRange(std::max(0.0, low - room), std::min(101.0, high + room));
    cursor_->setPen(QPen(t.second, 1, Qt::DotLine));
    cursor_->setVisible(!x.isEmpty());
    cursor_->point1->setCoords(view_.cursor().seconds(), 0);
    cursor_->point2->setCoords(view_.cursor().seconds(), 1);
    finish(x.isEmpty());
}

double GrowthPlot::x_of(Time t) const { return plot_->xAxis->coordToPixel(t.seconds()); }

QString GrowthPlot::values_text() const {
    if (points_.empty()) return {};
    QString text = tr("time (ns)\trun (%)\n");
    for (const auto& [time, share] : points_)
        text += QString::fromStdString(ns_text(time)) + "\t" + QString::number(100 * share, 'g', 9) + "\n";
    return text;
}

QString GrowthPlot::where_to() const { return points_.empty() ? QString() : tr("Go to where it grew here"); }

void GrowthPlot::clicked(const QPointF& at) {
    const auto away = [&](const auto& point) { return std::fabs(x_of(point.first) - at.x()); };
    const auto nearest =
        std::min_element(points_.begin(), points_.end(), [&](const auto& a, const auto& b) { return away(a) < away(b); });
    if (nearest != points_.end()) emit moment_chosen(nearest->first);
}

}  // namespace mt::app
