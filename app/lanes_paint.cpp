#include "lanes.h"

#include <QPainter>

#include <algorithm>
#include <cmath>
#include <functional>

#include "base/text.h"
#include "lanes_geometry.h"
#include "shapes.h"
#include "theme.h"
#include "time_axis.h"

// How the lanes are drawn; how they are used stands in lanes.cpp.
namespace mt::app {
namespace {
constexpr double kMostDetailed = 3000;
QString words(const std::string& s) { return QString::fromStdString(s); }

// Opaque mixture: filling with it is far cheaper than blending at every pixel.
QColor blend(const QColor& over, const QColor& under, double share) {
    const auto mix = [&](int a, int b) { return static_cast<int>(std::lround(a * share + b * (1 - share))); };
    return {mix(over.red(), under.red()), mix(over.green(), under.green()), mix(over.blue(), under.blue())};
}

// Pixel columns of one colour; neighbours of the same height become one rectangle.
class Columns {
  public:
    Columns(QPainter& p, const QColor& colour) : p_(p), colour_(colour) {}
    void add(int x, int top, int bottom) {
        if (!run_.isNull() && x == run_.right() + 1 && top == run_.top() && bottom == run_.bottom() + 1) {
            run_.setRight(x);
            return;
        }
        flush();
        run_ = QRect(x, top, 1, bottom - top);
    }
    void flush() {
        if (run_.height() > 0) p_.fillRect(run_, colour_);
        run_ = QRect();
    }

  private:
    QPainter& p_;
    QColor colour_;
    QRect run_;
};

// Pixel columns over the whole height of a band: solid from the bottom up to a share of it, light above.
class SharedColumns {
  public:
    SharedColumns(QPainter& p, const QRectF& band, const QColor& light, const QColor& solid)
        : band_(band), light_(p, light), solid_(p, solid) {}
    void add(int px, double share) {
        const int x = static_cast<int>(band_.left()) + px, top = static_cast<int>(band_.top()),
                  bottom = static_cast<int>(band_.bottom());
        const int solid = static_cast<int>(std::lround(share * band_.height()));
        light_.add(x, top, bottom - solid);
        solid_.add(x, bottom - solid, bottom);
    }
    void flush() {
        light_.flush();
        solid_.flush();
    }

  private:
    QRectF band_;
    Columns light_, solid_;
};
}  // namespace

void Lanes::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.fillRect(rect(), t.panel);
    growth_.painted();
    if (!session_.trail()) return;
    p.save();
    p.setClipRect(QRectF(0, kAxis, width(), height() - kAxis));
    paint_finding(p);
    for (const Row& r : rows_)
        if (r.top + r.height > kAxis && r.top < height()) paint_row(p, r);
    for (const Row& r : rows_)
        if (r.lane >= 0 && !r.folded) paint_tail_chains(p, r);
    p.setClipRect(QRectF(plot_left(), kAxis, width() - plot_left(), height() - kAxis));
    if (session_.trail()->tasks.present()) {
        paint_lock_links(p);
        paint_job_links(p);
        if (start_shown_) paint_start(p);
    }
    paint_gaps(p);
    p.restore();
    paint_axis(p);
    const double x = x_of(view_.cursor());
    if (x >= plot_left() && x <= width()) {
        p.setPen(QPen(t.text, 1.4));
        p.drawLine(QPointF(x, kAxis - 6), QPointF(x, height()));
        p.setBrush(t.text);
        p.setPen(Qt::NoPen);
        p.setRenderHint(QPainter::Antialiasing);
        const QPointF head[] = {{x - 5, kAxis - 8}, {x + 5, kAxis - 8}, {x, kAxis}};
        p.drawPolygon(head, 3);
    }
    paint_ruler(p);
    if (drag_ == Drag::zoom) {
        QColor glass = t.measure;
        glass.setAlpha(50);
        p.fillRect(QRectF(QPointF(pressed_.x(), 0), QPointF(mouse_.x(), height())).normalized(), glass);
    }
    if (hasFocus()) {
        p.setPen(QPen(t.measure, 1));
        p.setBrush(Qt::NoBrush);
        p.drawRect(rect().adjusted(0, 0, -1, -1));
    }
    if (key_shown_) paint_key(p);
}

void Lanes::paint_axis(QPainter& p) {
    const Theme& t = theme();
    p.fillRect(QRectF(0, 0, width(), kAxis), t.window);
    p.setPen(t.rule);
    p.drawLine(QPointF(0, kAxis - 0.5), QPointF(width(), kAxis - 0.5));
    p.setFont(text_font(11));
    const int wanted = std::max(2, static_cast<int>((width() - plot_left()) / (view_.scale() != nullptr ? 96 : 72)));
    const auto ticks = view_.scale() != nullptr ? even_ticks(*view_.scale(), view_.from(), view_.to(), wanted)
                                                : time_ticks(view_.from(), view_.to(), wanted);
    p.setPen(t.second);
    p.drawText(QRectF(8, 0, plot_left() - 12, kAxis), Qt::AlignLeft | Qt::AlignVCenter, ticks.offset_text);
    for (const auto& tick : ticks.ticks) {
        const double x = x_of(tick.at);
        const int w = p.fontMetrics().horizontalAdvance(tick.label);
        QColor line = t.rule;
        line.setAlpha(150);
        p.setPen(QPen(line, 1, Qt::DotLine));
        p.drawLine(QPointF(x, kAxis), QPointF(x, height()));
        p.setPen(t.second);
        if (x - w / 2.0 >= plot_left() && x + w / 2.0 <= width() - 2)
            p.drawText(QRectF(x - w / 2.0 - 2, 0, w + 4, kAxis), Qt::AlignCenter, tick.label);
    }
}

// What stands before a lane: its name, and what it is.
std::pair<QString, QString> Lanes::heading(const Row& row) const {
    const CoreTrail& core = session_.trail()->cores[row.core];
    const TaskTrail& tasks = session_.trail()->tasks;
    const auto task = task_of(row);
    QString name, sub;
    if (row.lane >= 0) {
        const ExceptionLane& lane = core.lanes[static_cast<std::size_t>(row.lane)];
        name = words(lane.name());
        const auto& image = session_.recording()->images[row.core];
        if (core.plain_numbers)
            sub = tr("interrupt %1").arg(lane.number() - 16);
        else if (image != nullptr && image->machine() == Image::Machine::riscv)
            sub = lane.number() >= 256 ? tr("exception, cause %1").arg(lane.number() - 256)
                                       : tr("interrupt, cause %1").arg(lane.number() - 16);
        else
            sub = lane.number() >= 16 ? tr("interrupt %1").arg(lane.number() - 16)
                                      : tr("exception %1").arg(lane.number());
    } else if (task) {
        const TaskLane& lane = tasks.tasks[*task];
        name = words(lane.name);
        sub = lane.idle ? tr("idle") : lane.priority_known ? tr("task, priority %1").arg(lane.priority) : tr("task");
        if (lane.migrates) sub += tr(", several cores");
    } else if (const auto value = value_of(row)) {
        const ValueLane& lane = tasks.values[*value];
        name = words(lane.name);
        sub = lane.value_names.empty()
                  ? tr("value, %1 to %2").arg(words(lane.text(lane.least)), words(lane.text(lane.greatest)))
                  : tr("value by name");
    } else if (const auto mark = mark_of(row)) {
        const MarkLane& lane = tasks.marks[*mark];
        name = words(lane.name);
        sub = tr("%1 marks").arg(words(count_text(lane.marks.size())));
    } else if (const auto queue = queue_of(row)) {
        const QueueLane& lane = tasks.queues[*queue];
        name = words(lane.name);
        sub = lane.failed > 0 ? tr("queue, at most %1, %2 lost").arg(lane.peak).arg(lane.failed)
                              : tr("queue, at most %1").arg(lane.peak);
    } else if (row.lane == kCalls) {
        const StepTrail* steps = steps_of(row.core);
        name = tr("calls");
        sub = words(core.name) + tr(" core") + (steps->clock == StepClock::none ? tr(", no time") : QString());
    } else {
        name = tr("thread mode");
        sub = words(core.name) + tr(" core");
    }
    if (merged_ && session_.trail()->cores.size() > 1 && (row.lane >= 0 || task)) sub += " · " + words(core.name);
    return {name, sub};
}

QStringList Lanes::headings() const {
    QStringList all;
    for (const Row& r : rows_) {
        const auto [name, sub] = heading(r);
        all << name + " | " + sub;
    }
    return all;
}

void Lanes::paint_row(QPainter& p, const Row& row) {
    const Theme& t = theme();
    const Selection& s = view_.selection();
    const auto task = task_of(row);
    const bool selected =
        (row.lane >= 0 && s.core == row.core && s.lane == row.lane) || (task && s.task == static_cast<int>(*task));
    const TaskTrail& tasks = session_.trail()->tasks;
    if (selected) p.fillRect(QRectF(0, row.top, plot_left(), row.height), t.selected);
    p.setPen(t.rule);
    p.drawLine(QPointF(0, row.top + row.height - 0.5), QPointF(width(), row.top + row.height - 0.5));
    const auto [name, sub] = heading(row);
    p.save();
    p.setClipRect(QRectF(0, std::max(row.top, kAxis), plot_left() - 4, row.height), Qt::IntersectClip);
    if (row.folded) {
        p.setFont(text_font(10));
        p.setPen(t.second);
        texts_.draw(p, QRectF(12, row.top, plot_left() - 18, row.height), name);
    } else {
        p.setFont(text_font(12, true));
        p.setPen(t.text);
        const double middle = row.lane == kCalls ? row.top + 20 : row.top + row.height / 2;
        texts_.draw(p, QRectF(12, middle - 15, plot_left() - 18, 16), name);
        p.setFont(text_font(10));
        p.setPen(t.second);
        texts_.draw(p, QRectF(12, middle, plot_left() - 16, 13), sub);
    }
    p.restore();
    if (row.folded) return;
    p.save();
    p.setClipRect(QRectF(plot_left(), std::max(row.top, kAxis), width() - plot_left(), row.height), Qt::IntersectClip);
    if (row.lane >= 0) {
        paint_interrupts(p, row);
    } else if (task) {
        paint_task(p, row, tasks.tasks[*task]);
    } else if (const auto value = value_of(row)) {
        paint_value(p, row, tasks.values[*value]);
    } else if (const auto mark = mark_of(row)) {
        paint_marks(p, row, tasks.marks[*mark]);
    } else if (const auto queue = queue_of(row)) {
        paint_queue(p, row, tasks.queues[*queue]);
    } else if (row.lane == kCalls) {
        paint_calls(p, row);
    } else {
        paint_thread(p, row);
        paint_samples(p, row);
    }
    p.restore();
}

// One instance: solid where it runs, a thread where something more urgent cut in.
void Lanes::paint_instance(QPainter& p, const CoreTrail& core, const ExceptionLane& lane, std::size_t i,
                           const QRectF& band) {
    const Theme& t = theme();
    const ExceptionInstance x = lane.instance(i);
    const double left = x_of(x.begin), right = std::max(left + 1, x_of(x.end));
    const double soft_begin = left - x_of(x.begin - x.begin_slack), soft_end = right - x_of(x.end - x.end_slack);
    const QRectF bar(left, band.top(), right - left, band.height());
    const bool cut_in = x.whole() && x.own < x.end - x.begin;
    if (!cut_in || bar.width() < 4) {
        draw_handler(p, bar, t.interrupt);
    } else {
        draw_cut_into(p, bar, t.interrupt);
        bool first = true;
        for (std::size_t k = core.change_time.lower_bound(x.begin);
             k < core.change_time.size() && core.change_time[k] < x.end; ++k) {
            if (core.change_running[k] != lane.number()) continue;
            const Time until = k + 1 < core.change_time.size() ? std::min(core.change_time[k + 1], x.end) : x.end;
            const QRectF piece(x_of(core.change_time[k]), band.top(),
                               std::max(1.0, x_of(until) - x_of(core.change_time[k])), band.height());
            if (first)
                draw_handler(p, piece, t.interrupt);
            else
                draw_running(p, piece, t.interrupt);
            first = false;
        }
    }
    if (soft_begin > 2)
        draw_soft_edge(p, QRectF(left - soft_begin, band.top(), soft_begin, band.height()), t.interrupt);
    if (soft_end > 2) {
        QColor haze = t.panel;
        haze.setAlpha(120);
        draw_soft_edge(p,
                       QRectF(right - std::min(soft_end, right - left), band.top(), std::min(soft_end, right - left),
                              band.height()),
                       haze);
    }
    if ((x.flags & ExceptionInstance::kCutBegin) != 0 && bar.width() > 8)
        draw_torn_edge(p, left, bar.top(), bar.bottom(), true);
    if ((x.flags & ExceptionInstance::kCutEnd) != 0 && bar.width() > 8)
        draw_torn_edge(p, right, bar.top(), bar.bottom(), false);
    const Selection& s = view_.selection();
    if (s.instance == i && s.lane >= 0 &&
        &session_.trail()->cores[s.core].lanes[static_cast<std::size_t>(s.lane)] == &lane) {
        p.setPen(QPen(t.text, 1.6));
        p.setBrush(Qt::NoBrush);
        p.drawRect(bar.adjusted(-1.5, -2, 1.5, 2));
    }
    const double shown_left = std::max(bar.left(), plot_left()),
                 shown_right = std::min(bar.right(), static_cast<double>(width()));
    if (shown_right - shown_left < 26) return;  // no duration is that short in writing
    p.setFont(text_font(11));
    const QString label = words(duration_text(x.end - x.begin));
    if (x.whole() && !cut_in && p.fontMetrics().horizontalAdvance(label) + 14 < shown_right - shown_left) {
        p.setPen(t.night ? QColor("#1D2124") : QColor("#FFFFFF"));
        p.drawText(QRectF(shown_left, bar.top(), shown_right - shown_left, bar.height()), Qt::AlignCenter, label);
    }
}

void Lanes::paint_interrupts(QPainter& p, const Row& row) {
    const Theme& t = theme();
    const CoreTrail& core = session_.trail()->cores[row.core];
    const ExceptionLane& lane = core.lanes[static_cast<std::size_t>(row.lane)];
    const QRectF band(plot_left(), row.top + 5, width() - plot_left(), row.height - 10);
    const auto [first, last] = lane.touching(view_.from(), view_.to());
    const double pixels = band.width();
    if (static_cast<double>(last - first) < std::min(kMostDetailed, pixels / 2.5)) {
        for (std::size_t i = first; i < last; ++i) paint_instance(p, core, lane, i, band);
        return;
    }
    // Too many to draw one by one: each pixel shows that it ran, and the longest execution there (the
    // solid part) against the longest of all, so that what differs stands out from far away.
    const double longest =
        lane.size() == 0 ? 1
                         : static_cast<double>(std::max<std::int64_t>(1, lane.length(lane.longest(0, lane.size())).ps));
    const Selection& s = view_.selection();
    const QColor light = blend(t.interrupt, t.panel, 0.24), solid_colour = blend(t.interrupt, t.panel, 0.65);
    SharedColumns columns(p, band, light, solid_colour);
    for (int px = 0; px < static_cast<int>(pixels); ++px) {
        const Time from = time_at(plot_left() + px), to = time_at(plot_left() + px + 1);
        const auto [a, b] = lane.touching(from, to);
        if (a == b) continue;
        const double share = static_cast<double>(lane.length(lane.longest(a, b)).ps) / longest;
        columns.add(px, share);
    }
    columns.flush();
    if (s.instance && s.lane == row.lane && s.core == row.core && *s.instance < lane.size()) {
        const double x = x_of(lane.begin(*s.instance));
        p.setPen(QPen(t.text, 1.6));
        p.setBrush(Qt::NoBrush);
        p.drawRect(QRectF(x - 2.5, band.top() - 2, 6, band.height() + 4));
    }
}

void Lanes::paint_thread(QPainter& p, const Row& row) {
    const Theme& t = theme();
    const CoreTrail& core = session_.trail()->cores[row.core];
    const QRectF band(plot_left(), row.top + 7, width() - plot_left(), row.height - 14);
    if (!core.thread_seen) {
        p.setFont(text_font(11));
        p.setPen(t.second);
        p.drawText(band.adjusted(8, 0, 0, 0), Qt::AlignVCenter | Qt::AlignLeft,
                   core.change_time.empty() ? tr("no exception trace in this recording: enable DWT_CTRL.EXCTRCENA")
                                            : tr("not seen: no return to thread mode in this recording"));
        return;
    }
    const std::size_t first = core.change_time.upper_bound(view_.from()),
                      last = core.change_time.lower_bound(view_.to());
    const double pixels = band.width();
    SharedColumns columns(p, band, blend(t.land, t.panel, 0.27), t.land);
    if (static_cast<double>(last - first) < kMostDetailed) {
        for (std::size_t k = first == 0 ? 0 : first - 1; k < last; ++k) {
            const double left = std::max(band.left(), x_of(core.change_time[k]));
            const double right = k + 1 < core.change_time.size() ? std::min(band.right(), x_of(core.change_time[k + 1]))
                                                                 : std::min(band.right(), x_of(core.end));
            if (right <= left && core.change_running[k] != 0) continue;
            const QRectF piece(left, band.top(), std::max(0.6, right - left), band.height());
            if (core.change_running[k] == 0)
                draw_running(p, piece, t.land);
            else if (core.change_running[k] != ContextChange::kUnknown)
                draw_cut_into(p, piece, t.land);
        }
        return;
    }
    Time handlers = core.handlers_until(view_.from());
    for (int px = 0; px < static_cast<int>(pixels); ++px) {
        const Time from = time_at(plot_left() + px), to = time_at(plot_left() + px + 1);
        const auto at = core.change_at(from);
        const Time until = core.handlers_until(to), in_handlers = until - handlers;
        handlers = until;
        if (from > core.end) break;  // of several cores one may be known further than another
        if (!at || (core.change_running[*at] == ContextChange::kUnknown &&
                    (*at + 1 == core.change_time.size() || core.change_time[*at + 1] >= to)))
            continue;
        const double share = 1 - std::clamp(static_cast<double>(in_handlers.ps) /
                                                static_cast<double>(std::max<std::int64_t>(1, (to - from).ps)),
                                            0.0, 1.0);
        columns.add(px, share);
    }
    columns.flush();
}

// A thin line from the handler that ended to the one that was entered straight after it, without a return.
void Lanes::paint_tail_chains(QPainter& p, const Row& row) {
    const CoreTrail& core = session_.trail()->cores[row.core];
    const ExceptionLane& lane = core.lanes[static_cast<std::size_t>(row.lane)];
    const auto [first, last] = lane.touching(view_.from(), view_.to());
    if (last - first > 200) return;
    QColor ink = theme().interrupt;
    for (std::size_t i = first; i < last; ++i) {
        if ((lane.flags(i) & ExceptionInstance::kTailChained) == 0) continue;
        // Before the entry stands "between", before that the handler that left.
        const std::size_t entry = core.change_time.lower_bound(lane.begin(i));
        std::size_t k = entry;
        while (k > 0 && entry - k < 4 &&
               (core.change_running[k] == lane.number() || core.change_running[k] >= ContextChange::kBetween))
            --k;
        const auto from = core.lane_index(core.change_running[k]);
        if (!from) continue;
        const QRectF a = row_rect(row.core, static_cast<int>(*from)), b = row_rect(row.core, row.lane);
        const double left = x_of(core.change_time[std::min(k + 1, core.change_time.size() - 1)]),
                     right = x_of(lane.begin(i));
        if (right < plot_left() || x_of(lane.end(i)) - right < 3) continue;
        p.setPen(QPen(ink, 1, Qt::DashLine));
        p.drawLine(QPointF(std::max(left, plot_left()), a.center().y()), QPointF(right, b.center().y()));
    }
}

// Program-counter samples in thread mode, as far as they are decoded and have room: who it was that ran.
void Lanes::paint_samples(QPainter& p, const Row& row) {
    const auto trail = session_.trail();
    const auto recording = session_.recording();
    if (view_.to() - view_.from() > Time::from_ms(20)) return;
    p.setFont(text_font(10));
    const double middle = row.top + row.height / 2;
    double free_from = plot_left();
    const QColor ink = theme().night ? QColor("#1D2124") : QColor("#FFFFFF");
    for (std::size_t s = 0; s < trail->streams.size(); ++s) {
        if (recording->streams[s].core != row.core || trail->streams[s].checkpoints.empty()) continue;
        const std::size_t first = block_of_time(trail->streams[s], view_.from()),
                          last = block_of_time(trail->streams[s], view_.to());
        if (last - first > 4) return;
        for (std::size_t b = first; b <= last; ++b) {
            const auto stored = store_.get(s, b);
            if (!stored) continue;
            for (const std::uint32_t i : stored->events) {
                const TimedPacket& packet = stored->block.packets[i];
                if (packet.packet.kind != ItmKind::pc && packet.packet.kind != ItmKind::sleep) continue;
                if (packet.latest < view_.from() || packet.latest > view_.to() ||
                    trail->cores[row.core].running_at(packet.latest) != 0)
                    continue;
                const double x = x_of(packet.latest);
                p.setPen(QPen(ink, 1.2));
                p.drawLine(QPointF(x, middle - 5), QPointF(x, middle + 5));
                const std::string name =
                    packet.packet.kind == ItmKind::sleep ? "asleep" : event_text(*recording, s, packet.packet).name;
                const QString label = name.empty() ? words(hex_text(packet.packet.value)) : words(name);
                const double w = p.fontMetrics().horizontalAdvance(label);
                // Only as far as thread mode reaches unbroken.
                const std::size_t next = trail->cores[row.core].change_time.upper_bound(packet.latest);
                const double until = next < trail->cores[row.core].change_time.size()
                                         ? x_of(trail->cores[row.core].change_time[next])
                                         : width();
                if (x + 4 < free_from || x + w + 8 > std::min<double>(until + 4, width())) continue;
                p.drawText(QRectF(x + 4, middle - 8, w + 2, 16), Qt::AlignVCenter, label);
                free_from = x + w + 14;
            }
        }
    }
}

// Across the rows of the core whose trace was lost: what the others did then is known.
void Lanes::paint_gaps(QPainter& p) {
    const auto trail = session_.trail();
    p.save();
    p.setClipRect(QRectF(plot_left(), kAxis, width() - plot_left(), height()), Qt::IntersectClip);
    for (std::size_t first = 0, last = 0; first < rows_.size(); first = last) {
        while (last < rows_.size() && rows_[last].core == rows_[first].core) ++last;
        const double top = std::max<double>(kAxis, rows_[first].top),
                     bottom = std::min<double>(height(), rows_[last - 1].top + rows_[last - 1].height);
        if (bottom > top)
            trail->gaps.each(rows_[first].core, view_.from(), view_.to(), time_at(1) - time_at(0),
                             [&](const Gap& g) { paint_gap(p, g, top, bottom); });
    }
    p.restore();
}

void Lanes::paint_gap(QPainter& p, const Gap& g, double top, double bottom) {
    const double left = std::max(plot_left() - 10, x_of(g.begin)),
                 right = std::min<double>(width() + 10, std::max(left + 1, x_of(g.end)));
    draw_gap(p, QRectF(left, top, right - left, bottom - top));
    if (right - left <= 130) return;
    p.setFont(text_font(11, true));
    p.setPen(theme().contour.darker(theme().night ? 80 : 140));
    const QString label = (g.kind == GapKind::overflow ? tr("trace lost for up to %1") : tr("damaged, up to %1"))
                              .arg(words(duration_text(g.end - g.begin)));
    const QRectF area(left, bottom - 20, right - left, 18);
    const int w = p.fontMetrics().horizontalAdvance(label) + 10;
    p.fillRect(QRectF(area.center().x() - w / 2.0, area.top(), w, area.height()), theme().panel);
    p.drawText(area, Qt::AlignCenter, label);
}

// The stretch of the selected finding: from when it was due to what happened.
void Lanes::paint_finding(QPainter& p) {
    const Selection& s = view_.selection();
    if (s.task >= 0 && s.instance) {
        for (const Finding& f : session_.findings()) {
            if (f.lane >= 0 || f.task != s.task || f.job != *s.instance) continue;
            const double left = x_of(f.begin), right = x_of(std::max(f.end, f.begin));
            QColor tint = theme().finding;
            tint.setAlpha(theme().night ? 38 : 28);
            p.fillRect(QRectF(left, kAxis, std::max(1.0, right - left), height()), tint);
            return;
        }
    }
    if (s.lane < 0 || !s.instance) return;
    for (const Finding& f : session_.findings()) {
        if (f.lane != s.lane || f.core_index != s.core || f.instance != *s.instance) continue;
        const double left = x_of(f.begin), right = x_of(std::max(f.end, f.begin));
        QColor tint = theme().finding;
        tint.setAlpha(theme().night ? 38 : 28);
        p.fillRect(QRectF(left, kAxis, std::max(1.0, right - left), height()), tint);
        if (f.kind != FindingKind::late_response) continue;
        // Ready but held off: a thin line with slanting ticks from when it was due to its entry.
        const ExceptionLane& lane = session_.trail()->cores[s.core].lanes[static_cast<std::size_t>(s.lane)];
        const QRectF row = row_rect(s.core, s.lane);
        const double entry = x_of(lane.begin(*s.instance)), y = row.center().y();
        p.save();
        p.setRenderHint(QPainter::Antialiasing);
        p.setPen(QPen(theme().finding, 1.6));
        p.drawLine(QPointF(left, y), QPointF(entry, y));
        if (entry - left > 12)
            for (double x = left + 5; x < entry - 3; x += 9)
                p.drawLine(QPointF(x - 2.5, y + 4), QPointF(x + 2.5, y - 4));
        p.setFont(text_font(11, true));
        const QString label = tr("due, entered %1 late").arg(words(duration_text(lane.begin(*s.instance) - f.begin)));
        if (p.fontMetrics().horizontalAdvance(label) + 8 < entry - left)
            p.drawText(QRectF(left, y - 17, entry - left, 13), Qt::AlignCenter, label);
        p.restore();
    }
}

void Lanes::paint_ruler(QPainter& p) {
    if (!view_.a() && !view_.b()) return;
    const Theme& t = theme();
    p.setRenderHint(QPainter::Antialiasing);
    // A strip of its own under the lanes, so that no lane is covered.
    const double y = height() - kRuler / 2;
    p.fillRect(QRectF(0, height() - kRuler, width(), kRuler), t.window);
    p.setPen(t.rule);
    p.drawLine(QPointF(0, height() - kRuler), QPointF(width(), height() - kRuler));
    p.setFont(text_font(11, true));
    p.setPen(t.measure);
    p.drawText(QRectF(12, height() - kRuler, plot_left() - 16, kRuler), Qt::AlignVCenter | Qt::AlignLeft, tr("A–B"));
    p.save();
    p.setClipRect(QRectF(plot_left(), 0, width() - plot_left(), height()));
    if (view_.a() && view_.b()) {
        p.setPen(QPen(t.measure, 1.4));
        p.drawLine(QPointF(x_of(*view_.a()), y), QPointF(x_of(*view_.b()), y));
    }
    const auto end = [&](std::optional<Time> at, const QString& name) {
        if (!at) return;
        const double x = x_of(*at);
        p.setPen(QPen(t.measure, 1, Qt::DashLine));
        p.drawLine(QPointF(x, kAxis), QPointF(x, height() - kRuler));
        p.setPen(Qt::NoPen);
        p.setBrush(t.measure);
        p.drawEllipse(QPointF(x, y), 9, 9);
        p.setPen(t.panel);
        p.drawText(QRectF(x - 9, y - 9, 18, 18), Qt::AlignCenter, name);
    };
    end(view_.a(), "A");
    end(view_.b(), "B");
    p.restore();
    if (view_.a() && view_.b()) {
        const Time d{std::llabs((*view_.b() - *view_.a()).ps)};
        const Clock clock = session_.trail()->cores[view_.selection().core].clock;
        QString label =
            tr("%1 · %2 cycles")
                .arg(words(duration_text(d)), words(count_text(static_cast<std::uint64_t>(clock.cycles(d)))));
        if (d.ps > 0) label += " · " + words(frequency_text(d));
        const int w = p.fontMetrics().horizontalAdvance(label) + 22;
        const double middle =
            std::clamp((x_of(*view_.a()) + x_of(*view_.b())) / 2, plot_left() + w / 2.0 + 2, width() - w / 2.0 - 2);
        const QRectF box(middle - w / 2.0, y - 10, w, 20);
        p.setPen(QPen(t.measure, 1.2));
        p.setBrush(t.panel);
        p.drawRoundedRect(box, 4, 4);
        p.setPen(t.measure.darker(t.night ? 90 : 115));
        p.drawText(box, Qt::AlignCenter, label);
    }
}

void Lanes::paint_key(QPainter& p) {
    const Theme& t = theme();
    struct Entry {
        QString text;
        std::function<void(const QRectF&)> draw;
    };
    const std::vector<Entry> entries = {
        {tr("handler runs"), [&](const QRectF& r) { draw_handler(p, r, t.interrupt); }},
        {tr("cut into by something more urgent"),
         [&](const QRectF& r) {
             draw_cut_into(p, r, t.interrupt);
             draw_handler(p, r.adjusted(0, 0, -40, 0), t.interrupt);
             draw_running(p, r.adjusted(42, 0, 0, 0), t.interrupt);
         }},
        {tr("tail chain: entered straight after another"),
         [&](const QRectF& r) {
             draw_handler(p, r.adjusted(0, 0, -38, -8), t.interrupt);
             draw_handler(p, r.adjusted(38, 8, 0, 0), t.interrupt);
             p.setPen(QPen(t.interrupt, 1, Qt::DashLine));
             p.drawLine(QPointF(r.left() + 24, r.top() + 4), QPointF(r.left() + 38, r.bottom() - 4));
         }},
        {tr("begin known only within bounds"),
         [&](const QRectF& r) {
             draw_soft_edge(p, r.adjusted(0, 0, -30, 0), t.interrupt);
             draw_running(p, r.adjusted(30, 0, 0, 0), t.interrupt);
         }},
        {tr("entry or exit not seen: left out of figures"),
         [&](const QRectF& r) {
             draw_handler(p, r, t.interrupt);
             draw_torn_edge(p, r.right(), r.top(), r.bottom(), false);
         }},
        {tr("thread mode runs; tick: sampled there"),
         [&](const QRectF& r) {
             draw_running(p, r, t.land);
             p.setPen(QPen(t.panel, 1.2));
             p.drawLine(QPointF(r.center().x(), r.center().y() - 5), QPointF(r.center().x(), r.center().y() + 5));
         }},
        {tr("task is ready, something else has the core"),
         [&](const QRectF& r) { draw_held_off(p, r, blend(t.land, t.text, 0.55)); }},
        {tr("task waits for a lock; the line leads to its holder"),
         [&](const QRectF& r) { draw_lock_wait(p, r, t.waiting); }},
        {tr("task waits for data, time or its next job"), [&](const QRectF& r) { draw_idle_wait(p, r, t.second); }},
        {tr("many in each pixel: solid = longest of them"),
         [&](const QRectF& r) {
             QColor l = t.interrupt;
             l.setAlpha(70);
             p.fillRect(r, l);
             p.fillRect(r.adjusted(0, r.height() * 0.6, 0, 0), t.interrupt);
         }},
        {tr("due but held off (a finding)"),
         [&](const QRectF& r) {
             p.setPen(QPen(t.finding, 1.6));
             p.drawLine(QPointF(r.left(), r.center().y()), QPointF(r.right(), r.center().y()));
             for (double x = r.left() + 5; x < r.right(); x += 9)
                 p.drawLine(QPointF(x - 2, r.center().y() + 4), QPointF(x + 3, r.center().y() - 4));
         }},
        {tr("not known: trace lost or damaged"), [&](const QRectF& r) { draw_gap(p, r); }},
        {tr("a finding"), [&](const QRectF& r) { draw_cairn(p, r.center().x(), r.bottom(), r.height()); }},
    };
    p.setFont(text_font(12));
    const double line = 26, w = 370, h = line * static_cast<double>(entries.size()) + 38;
    const QRectF box(width() - w - 16, kAxis + 8, w, h);
    p.setPen(QPen(t.rule, 1));
    p.setBrush(t.window);
    p.setRenderHint(QPainter::Antialiasing);
    p.drawRoundedRect(box, 5, 5);
    p.setPen(t.text);
    p.setFont(text_font(13, true));
    p.drawText(QRectF(box.left() + 14, box.top() + 6, w, 22), Qt::AlignVCenter, tr("Key  (K shows and hides it)"));
    double y = box.top() + 32;
    for (const auto& e : entries) {
        p.save();
        e.draw(QRectF(box.left() + 14, y + 4, 62, line - 10));
        p.restore();
        p.setFont(text_font(12));
        p.setPen(t.text);
        p.drawText(QRectF(box.left() + 90, y, w - 96, line - 2), Qt::AlignVCenter, e.text);
        y += line;
    }
}

}  // namespace mt::app
