#include <QContextMenuEvent>
#include <QMenu>
#include <QPainter>
#include <QPainterPath>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "lanes.h"
#include "lanes_geometry.h"
#include "measure/tasks.h"
#include "shapes.h"
#include "theme.h"

// Tasks, values and queues in the lanes: states told apart by shape, waits linked to those who hold them up.
namespace mt::app {
namespace {

QString words(const std::string& s) { return QString::fromStdString(s); }
constexpr std::size_t kMostLinks = 60;

QColor mixed(const QColor& over, const QColor& under, double share) {
    const auto mix = [&](int a, int b) { return static_cast<int>(std::lround(a * share + b * (1 - share))); };
    return {mix(over.red(), under.red()), mix(over.green(), under.green()), mix(over.blue(), under.blue())};
}

QRectF band_of(const QRectF& row) {
    const double pad = std::min(7.0, row.height() / 5);
    return row.adjusted(0, pad, 0, -pad);
}

}  // namespace

std::optional<std::size_t> Lanes::task_of(const Row& row) {
    if (row.lane > kTasks || row.lane <= kValues) return std::nullopt;
    return static_cast<std::size_t>(kTasks - row.lane);
}
std::optional<std::size_t> Lanes::value_of(const Row& row) {
    if (row.lane > kValues || row.lane <= kQueues) return std::nullopt;
    return static_cast<std::size_t>(kValues - row.lane);
}
std::optional<std::size_t> Lanes::queue_of(const Row& row) {
    if (row.lane > kQueues || row.lane <= kMarks) return std::nullopt;
    return static_cast<std::size_t>(kQueues - row.lane);
}
std::optional<std::size_t> Lanes::mark_of(const Row& row) {
    if (row.lane > kMarks) return std::nullopt;
    return static_cast<std::size_t>(kMarks - row.lane);
}

QRectF Lanes::task_rect(std::size_t task) const {
    for (const Row& r : rows_)
        if (r.lane == row_of_task(task)) return {plot_left(), r.top, width() - plot_left(), r.height};
    return {};
}

// The job whose time from ready to end covers the place; of several in the pixels around it the longest.
std::optional<std::size_t> Lanes::job_at(std::size_t task, double x) const {
    const TaskLane& lane = session_.trail()->tasks.tasks[task];
    const Time from = time_at(x - 2), to = time_at(x + 2);
    std::optional<std::size_t> best;
    for (std::size_t i = lane.job_from(from); i < lane.jobs.size() && lane.jobs[i].ready <= to; ++i) {
        if (!best || lane.jobs[i].response() > lane.jobs[*best].response()) best = i;
        if (i > lane.job_from(from) + 5000) break;
    }
    return best;
}

// A task that has its core: thin where an interrupt cut in.
void Lanes::paint_task_running(QPainter& p, std::size_t c, Time from, Time to, const QRectF& bar) {
    const Theme& t = theme();
    const CoreTrail& core = session_.trail()->cores[c];
    const std::size_t first = core.change_time.upper_bound(from), last = core.change_time.lower_bound(to);
    if (bar.width() < 5 || first >= last || last - first > static_cast<std::size_t>(bar.width())) {
        draw_running(p, bar, t.land);
        return;
    }
    draw_cut_into(p, bar, t.land);
    Time at = from;
    bool handler = core.change_at(from) && ContextChange::is_handler(core.running_at(from));
    for (std::size_t k = first; k <= last; ++k) {
        const Time until = k < last ? core.change_time[k] : to;
        if (!handler && until > at) {
            const double left = std::max(bar.left(), x_of(at)), right = std::min(bar.right(), x_of(until));
            if (right > left) draw_running(p, {left, bar.top(), right - left, bar.height()}, t.land);
        }
        at = until;
        handler = k < last && ContextChange::is_handler(core.change_running[k]);
    }
}

void Lanes::paint_task(QPainter& p, const Row& row, const TaskLane& lane) {
    const Theme& t = theme();
    const TaskTrail& tasks = session_.trail()->tasks;
    const QRectF band = band_of({plot_left(), row.top, width() - plot_left(), row.height});
    const auto [first, last] = lane.touching(view_.from(), view_.to());
    const double right_edge = width();
    if (static_cast<double>(last - first) > band.width() * 1.2) {
        // Zoomed out: solid is the share of each pixel in which it had a core.
        const QColor full = lane.idle ? mixed(t.land, t.panel, 0.3) : t.land,
                     light = lane.idle ? t.panel : mixed(t.land, t.panel, 0.28);
        for (int px = 0; px < static_cast<int>(band.width()); ++px) {
            const Time from = time_at(plot_left() + px), to = time_at(plot_left() + px + 1);
            if (from >= session_.trail()->end) break;
            const Time ran = lane.running_time(from, std::min(to, session_.trail()->end));
            if (ran.ps <= 0) continue;
            const double share = std::min(
                1.0, static_cast<double>(ran.ps) / static_cast<double>(std::max<std::int64_t>(1, (to - from).ps)));
            const int x = static_cast<int>(band.left()) + px,
                      solid = std::max(1, static_cast<int>(std::lround(share * band.height())));
            p.fillRect(QRect(x, static_cast<int>(band.top()), 1, static_cast<int>(band.height()) - solid), light);
            p.fillRect(QRect(x, static_cast<int>(band.bottom()) - solid, 1, solid), full);
        }
        return;
    }
    p.setFont(text_font(10));
    const QFontMetrics metrics = p.fontMetrics();
    double painted = -1;
    for (std::size_t i = first; i < last; ++i) {
        const TaskStretch& s = lane.stretches[i];
        const Time end = i + 1 < lane.stretches.size() ? lane.stretches[i + 1].begin : session_.trail()->end;
        if (end <= view_.from()) continue;
        const double left = std::max(plot_left() - 20, x_of(s.begin)), right = std::min(right_edge + 20, x_of(end));
        const QRectF bar(left, band.top(), std::max(0.6, right - left), band.height());
        switch (s.state) {
            case TaskState::running:
                if (bar.right() < painted) break;  // covered by the one before
                if (bar.width() < 1) {
                    p.fillRect(QRectF(left, band.top(), 1, band.height()),
                               lane.idle ? mixed(t.land, t.panel, 0.3) : t.land);
                    painted = std::floor(left) + 1;
                    break;
                }
                if (lane.idle)
                    p.fillRect(QRectF(bar.left(), bar.bottom() - bar.height() / 3, bar.width(), bar.height() / 3),
                               mixed(t.land, t.panel, 0.3));
                else
                    paint_task_running(p, s.core, s.begin, end, bar);
                break;
            case TaskState::ready:
                if (!lane.idle && bar.width() >= 2) draw_held_off(p, bar, mixed(t.land, t.text, 0.55));
                break;
            case TaskState::waits_lock:
                if (bar.width() >= 2) draw_lock_wait(p, bar, t.waiting);
                break;
            case TaskState::waits_data:
            case TaskState::waits_time:
            case TaskState::waits_next_job:
                if (bar.width() >= 8) draw_idle_wait(p, bar, t.second);
                break;
            case TaskState::unknown:
                break;  // gaps are drawn over all lanes
            case TaskState::absent:
                break;
        }
        QString label;
        if (s.state == TaskState::waits_lock)
            label = tr("waits for %1").arg(words(tasks.object_name(s.object)));
        else if (s.state == TaskState::ready && !lane.idle)
            label = tr("ready");
        else if (s.state == TaskState::waits_data)
            label = tr("waits for %1").arg(words(tasks.object_name(s.object)));
        // Behind the ring of a wait.
        const double from = std::max(bar.left(), plot_left()) + (s.state == TaskState::waits_lock ? 38 : 8),
                     to = std::min(bar.right(), right_edge) - 8;
        if (!label.isEmpty() && metrics.horizontalAdvance(label) + 40 < to - from) {
            p.setPen(s.state == TaskState::waits_lock ? t.waiting.darker(t.night ? 85 : 120) : t.second);
            const QRectF area(from, band.center().y() - 8, metrics.horizontalAdvance(label) + 8, 16);
            p.fillRect(area, t.panel);
            p.drawText(area, Qt::AlignCenter, label);
        }
    }
    const Selection& selection = view_.selection();
    if (selection.task >= 0 && row_of_task(static_cast<std::size_t>(selection.task)) == row.lane &&
        selection.instance && *selection.instance < lane.jobs.size()) {
        const TaskJob& j = lane.jobs[*selection.instance];
        const double left = x_of(j.ready), right = std::max(left + 2, x_of(j.end));
        p.setPen(QPen(t.text, 1.6));
        p.setBrush(Qt::NoBrush);
        p.drawRect(QRectF(left - 1.5, band.top() - 3, right - left + 3, band.height() + 6));
    }
}

// A step line; zoomed out, from the least to the greatest in each pixel.
void Lanes::paint_value(QPainter& p, const Row& row, const ValueLane& lane) {
    const Theme& t = theme();
    const QRectF band = band_of({plot_left(), row.top, width() - plot_left(), row.height});
    if (lane.samples.empty()) return;
    if (!lane.value_names.empty()) {
        paint_named_value(p, row, lane);
        return;
    }
    const double low = static_cast<double>(lane.least), high = std::max(static_cast<double>(lane.greatest), low + 1);
    const auto y_of = [&](std::int64_t v) {
        return band.bottom() - (static_cast<double>(v) - low) / (high - low) * band.height();
    };
    const std::size_t at = lane.at(view_.from());
    const std::size_t first = at == lane.samples.size() ? 0 : at;
    const std::size_t last = lane.samples.partition_point([&](const ValueSample& s) { return s.time <= view_.to(); });
    p.setPen(QPen(t.measure, 1.2));
    if (last - first > static_cast<std::size_t>(band.width()) * 2) {
        std::size_t from = first;
        for (int px = 0; px < static_cast<int>(band.width()); ++px) {
            const Time until = time_at(plot_left() + px + 1);
            const std::size_t to = lane.samples.partition_point([&](const ValueSample& s) { return s.time < until; });
            if (to <= from) continue;
            const auto e = lane.extent(from, to);
            const double x = band.left() + px;
            p.drawLine(QPointF(x, y_of(e.least)), QPointF(x, std::min(y_of(e.least) - 1, y_of(e.greatest))));
            from = to;
        }
        return;
    }
    QPainterPath path;
    for (std::size_t i = first; i < last; ++i) {
        const double x = std::max(band.left(), x_of(lane.samples[i].time)), y = y_of(lane.samples[i].value);
        if (i == first)
            path.moveTo(x, y);
        else
            path.lineTo(x, path.currentPosition().y()), path.lineTo(x, y);
    }
    path.lineTo(std::min<double>(width(), x_of(session_.trail()->end)), path.currentPosition().y());
    p.drawPath(path);
}

// A value whose numbers have names: what it was, from one sample to the next. 0 without a name is nothing.
void Lanes::paint_named_value(QPainter& p, const Row& row, const ValueLane& lane) {
    const Theme& t = theme();
    const QRectF band = band_of({plot_left(), row.top, width() - plot_left(), row.height});
    const std::size_t at = lane.at(view_.from());
    p.setFont(text_font(10));
    double painted = band.left() - 1;
    for (std::size_t i = at == lane.samples.size() ? 0 : at; i < lane.samples.size(); ++i) {
        const ValueSample& s = lane.samples[i];
        if (s.time > view_.to()) break;
        const double left = std::max(band.left(), x_of(s.time)),
                     right = std::min<double>(width(), i + 1 < lane.samples.size() ? x_of(lane.samples[i + 1].time)
                                                                                   : x_of(session_.trail()->end));
        if (right < painted) {  // not to be told apart: on to the next pixel
            const Time next = time_at(painted + 1);
            i = std::max(i, lane.samples.partition_point([&](const ValueSample& v) { return v.time < next; }) - 2);
            continue;
        }
        painted = std::floor(std::max(left, right - 0.5)) + 1;
        const auto named = lane.value_names.find(static_cast<std::uint64_t>(s.value));
        if (s.value == 0 && named == lane.value_names.end()) continue;
        const QRectF span(left, band.top(), std::max(1.0, right - left), band.height());
        p.fillRect(span, mixed(t.measure, t.panel, s.value % 2 == 0 ? 0.30 : 0.45));
        const QString text = named != lane.value_names.end() ? words(named->second) : QString::number(s.value);
        if (p.fontMetrics().horizontalAdvance(text) + 8 > span.width()) continue;
        p.setPen(t.text);
        p.drawText(span.adjusted(4, 0, -2, 0), Qt::AlignLeft | Qt::AlignVCenter, text);
    }
}

// A tick for each mark, with what it says where there is room.
void Lanes::paint_marks(QPainter& p, const Row& row, const MarkLane& lane) {
    const Theme& t = theme();
    const QRectF band = band_of({plot_left(), row.top, width() - plot_left(), row.height});
    std::size_t i = lane.marks.partition_point([&](const TaskMark& m) { return m.time < view_.from(); });
    p.setFont(text_font(10));
    while (i < lane.marks.size() && lane.marks[i].time <= view_.to()) {
        const TaskMark& m = lane.marks[i];
        const double x = x_of(m.time);
        p.setPen(QPen(t.text, 1.2));
        p.drawLine(QPointF(x, band.top() + 3), QPointF(x, band.bottom()));
        p.setPen(Qt::NoPen);
        p.setBrush(t.text);
        const QPointF foot[] = {{x - 3, band.bottom()}, {x + 3, band.bottom()}, {x, band.bottom() - 5}};
        p.drawPolygon(foot, 3);
        const Time next = time_at(x + 1);
        std::size_t after = i + 1;
        if (after < lane.marks.size() && lane.marks[after].time < next)
            after = lane.marks.partition_point([&](const TaskMark& o) { return o.time < next; });
        const auto named = lane.value_names.find(static_cast<std::uint64_t>(m.value));
        const QString text = named != lane.value_names.end() ? words(named->second) : QString::number(m.value);
        const double room = (after < lane.marks.size() ? x_of(lane.marks[after].time) : width()) - x;
        if (after == i + 1 && p.fontMetrics().horizontalAdvance(text) + 10 < room) {
            p.setPen(t.second);
            p.drawText(QRectF(x + 4, band.top(), room - 6, band.height()), Qt::AlignLeft | Qt::AlignVCenter, text);
        }
        i = after;
    }
}

// In each task's lane: from the recording's start over its creation to its first run.
void Lanes::paint_start(QPainter& p) {
    const auto trail = session_.trail();
    const Theme& t = theme();
    p.setFont(text_font(10, true));
    for (std::size_t i = 0; i < trail->tasks.tasks.size(); ++i) {
        const TaskLane& lane = trail->tasks.tasks[i];
        const QRectF r = task_rect(i);
        if (r.isEmpty()) continue;
        const double y = r.top() + 5, left = std::max(plot_left(), x_of(Time{}));
        if (!lane.ran) {
            p.setPen(t.finding);
            p.drawText(QRectF(left + 4, r.top(), 200, 14), Qt::AlignLeft | Qt::AlignVCenter, tr("never ran"));
            continue;
        }
        const double right = x_of(lane.first_run);
        if (right < plot_left()) continue;
        p.setPen(QPen(t.measure, 1.4, Qt::DotLine));
        p.drawLine(QPointF(left, y), QPointF(right, y));
        p.setPen(QPen(t.measure, 1.6));
        p.drawLine(QPointF(right, r.top() + 1), QPointF(right, r.bottom() - 1));
        if (lane.was_created) {
            const double x = x_of(lane.created);
            if (x >= plot_left()) p.drawLine(QPointF(x, y - 3), QPointF(x, y + 3));
        }
        const QString text = tr("first run after %1").arg(words(duration_text(lane.first_run)));
        const double w = p.fontMetrics().horizontalAdvance(text) + 6;
        const bool beside = right + 4 + w < width();
        const QRectF label(beside ? right + 3 : right - 3 - w, r.top() - 1, w, 14);
        QColor ground = t.panel;
        ground.setAlpha(215);
        p.fillRect(label, ground);
        p.setPen(t.text);
        p.drawText(label, Qt::AlignCenter, text);
    }
}

// Where an interrupt that did something to a task of `core` stands. The number does not tell its core: it is the task's
// own, unless that has no such interrupt.
QRectF Lanes::interrupt_rect(std::size_t core, std::uint32_t who) const {
    const auto trail = session_.trail();
    const unsigned number = 16 + (who & 0xFFFF);
    for (std::size_t turn = 0; turn < trail->cores.size(); ++turn) {
        const std::size_t c = (std::min(core, trail->cores.size() - 1) + turn) % trail->cores.size();
        if (const auto l = trail->cores[c].lane_index(number)) return row_rect(c, static_cast<int>(*l));
    }
    return {};
}

// Entries that the job sent or received: from each send to its receive.
void Lanes::paint_message_links(QPainter& p, std::size_t task, const TaskJob& job) {
    const auto trail = session_.trail();
    const auto place = [&](std::uint32_t who) {
        if (!Actor::is_interrupt(who)) return who < trail->tasks.tasks.size() ? task_rect(who) : QRectF();
        return interrupt_rect(trail->tasks.tasks[task].core, who);
    };
    std::size_t drawn = 0;
    for (const QueueLane& queue : trail->tasks.queues) {
        const auto first = queue.ops.partition_point([&](const QueueOp& o) { return o.time < job.ready; });
        for (std::size_t i = first; i < queue.ops.size() && queue.ops[i].time <= job.end && drawn < kMostLinks; ++i) {
            const QueueOp& o = queue.ops[i];
            if (o.who != task || o.kind == QueueOp::failed) continue;
            // First in, first out: the send and the receive of the same serial number belong together.
            const int step = o.kind == QueueOp::send ? 1 : -1;
            const QueueOp* other = nullptr;
            std::size_t k = i;
            for (int n = 0; n < 20'000 && other == nullptr; ++n) {
                if (step < 0 && k == 0) break;
                k += static_cast<std::size_t>(step);
                if (k >= queue.ops.size()) break;
                if (queue.ops[k].kind != o.kind && queue.ops[k].kind != QueueOp::failed &&
                    queue.ops[k].serial == o.serial)
                    other = &queue.ops[k];
            }
            if (other == nullptr) continue;
            const QueueOp& sent = step > 0 ? o : *other;
            const QueueOp& got = step > 0 ? *other : o;
            const QRectF a = place(sent.who), b = place(got.who);
            if (a.isEmpty() || b.isEmpty() || got.time < view_.from() || sent.time > view_.to()) continue;
            const QPointF from(x_of(sent.time), a.center().y()), to(x_of(got.time), b.center().y());
            QPainterPath path(from);
            path.cubicTo(QPointF(from.x() + 18, from.y()), QPointF(to.x() - 18, to.y()), to);
            p.setPen(QPen(theme().measure, 1.3));
            p.setBrush(Qt::NoBrush);
            p.drawPath(path);
            p.setBrush(theme().measure);
            p.drawRect(QRectF(from.x() - 2.5, from.y() - 2.5, 5, 5));
            const QPointF head[] = {{to.x() - 7, to.y() - 3.5}, {to.x() - 7, to.y() + 3.5}, to};
            p.drawPolygon(head, 3);
            ++drawn;
        }
    }
}

void Lanes::paint_queue(QPainter& p, const Row& row, const QueueLane& lane) {
    const Theme& t = theme();
    const QRectF band = band_of({plot_left(), row.top, width() - plot_left(), row.height});
    const double high = std::max<double>(lane.peak, 1);
    const std::size_t n = lane.ops.partition_point([&](const QueueOp& o) { return o.time <= view_.from(); });
    std::size_t i = n == 0 ? 0 : n - 1;
    const QColor fill = mixed(t.waiting, t.panel, 0.55);
    double painted = band.left() - 1;
    for (; i < lane.ops.size() && lane.ops[i].time <= view_.to(); ++i) {
        const QueueOp& o = lane.ops[i];
        const double left = std::max(band.left(), x_of(o.time)),
                     right = std::min<double>(
                         width(), i + 1 < lane.ops.size() ? x_of(lane.ops[i + 1].time) : x_of(session_.trail()->end));
        if (o.kind != QueueOp::failed && right < painted) continue;
        const double h = o.fill / high * band.height();
        if (o.fill > 0) p.fillRect(QRectF(left, band.bottom() - h, std::max(1.0, right - left), h), fill);
        painted = std::floor(std::max(left + 1, right));
        if (o.kind == QueueOp::failed) {  // an entry refused: a cross above
            p.save();
            p.setRenderHint(QPainter::Antialiasing);
            p.setPen(QPen(t.finding, 1.6));
            p.drawLine(QPointF(left - 3, band.top() - 2), QPointF(left + 3, band.top() + 4));
            p.drawLine(QPointF(left - 3, band.top() + 4), QPointF(left + 3, band.top() - 2));
            p.restore();
        }
    }
}

// From each wait for a lock to the bar of the task that holds it.
void Lanes::paint_lock_links(QPainter& p) {
    const auto trail = session_.trail();
    const Theme& t = theme();
    struct Link {
        Time length;
        QPointF from, to;
        QString holder;
    };
    std::vector<Link> links;
    for (const LockLane& lock : trail->tasks.locks) {
        const std::size_t begin = lock.waits.partition_point([&](const LockWait& w) { return w.end < view_.from(); });
        for (std::size_t i = begin; i < lock.waits.size() && i < begin + 3000; ++i) {
            const LockWait& w = lock.waits[i];
            if (w.begin > view_.to()) continue;
            const double left = std::max(plot_left(), x_of(w.begin)), right = std::min<double>(width(), x_of(w.end));
            if (right - left < 14 || w.holder >= trail->tasks.tasks.size()) continue;
            const QRectF waiter = task_rect(w.task), holder = task_rect(w.holder);
            if (waiter.isEmpty() || holder.isEmpty()) continue;
            const double x = left + std::min((right - left) / 2, 26.0);
            const bool above = holder.center().y() < waiter.center().y();
            const QRectF target = band_of(holder);
            links.push_back({w.end - w.begin, QPointF(x, waiter.center().y() + (above ? -5 : 5)),
                             QPointF(x + 9, above ? target.bottom() : target.top()),
                             words(trail->tasks.task_name(w.holder))});
        }
    }
    if (links.size() > kMostLinks) {
        std::nth_element(links.begin(), links.begin() + kMostLinks, links.end(),
                         [](const Link& a, const Link& b) { return a.length > b.length; });
        links.resize(kMostLinks);
    }
    p.setRenderHint(QPainter::Antialiasing);
    for (const Link& l : links) {
        QPainterPath path(l.from);
        const double middle = (l.from.y() + l.to.y()) / 2;
        path.cubicTo(QPointF(l.from.x(), middle), QPointF(l.to.x(), middle), l.to);
        p.setPen(QPen(t.waiting, 1.2));
        p.setBrush(Qt::NoBrush);
        p.drawPath(path);
        p.setBrush(t.waiting);
        p.drawEllipse(l.to, 2.4, 2.4);
    }
    p.setRenderHint(QPainter::Antialiasing, false);
}

// For the selected job: who made it ready, and who released what it waited for.
void Lanes::paint_job_links(QPainter& p) {
    const Selection& s = view_.selection();
    const auto trail = session_.trail();
    if (s.task < 0 || !s.instance || static_cast<std::size_t>(s.task) >= trail->tasks.tasks.size()) return;
    const TaskLane& lane = trail->tasks.tasks[static_cast<std::size_t>(s.task)];
    if (*s.instance >= lane.jobs.size()) return;
    const TaskJob& job = lane.jobs[*s.instance];
    const QRectF own = task_rect(static_cast<std::size_t>(s.task));
    if (own.isEmpty()) return;
    p.setRenderHint(QPainter::Antialiasing);
    paint_message_links(p, static_cast<std::size_t>(s.task), job);
    std::size_t i = lane.stretches.partition_point([&](const TaskStretch& x) { return x.begin < job.ready; });
    for (std::size_t n = 0; i < lane.stretches.size() && lane.stretches[i].begin <= job.end && n < 40; ++i) {
        const TaskStretch& x = lane.stretches[i];
        if (x.state != TaskState::ready || x.object == kNobody) continue;
        // Only where it became ready; losing the core is seen without a line.
        if (i > 0 && lane.stretches[i - 1].state == TaskState::running) continue;
        QRectF from;
        if (Actor::is_interrupt(x.object)) {
            from = interrupt_rect(lane.core, x.object);
        } else {
            from = task_rect(x.object);
        }
        if (from.isEmpty()) continue;
        const double at = x_of(x.begin);
        if (at < plot_left() || at > width()) continue;
        const bool down = own.center().y() > from.center().y();
        const QPointF a(at, from.center().y()), b(at, own.center().y() + (down ? -6 : 6));
        p.setPen(QPen(theme().measure, 1.2, Qt::DashLine));
        p.drawLine(a, b);
        p.setPen(Qt::NoPen);
        p.setBrush(theme().measure);
        const double d = down ? -6 : 6;
        const QPointF head[] = {{b.x() - 3.5, b.y() + d}, {b.x() + 3.5, b.y() + d}, {b.x(), b.y()}};
        p.drawPolygon(head, 3);
        ++n;
    }
    p.setRenderHint(QPainter::Antialiasing, false);
}

// Where a job of this task ends: shown, and changeable.
void Lanes::contextMenuEvent(QContextMenuEvent* e) {
    const Row* row = row_at(e->pos().y());
    const auto task = row != nullptr ? task_of(*row) : std::nullopt;
    if (!task || session_.live()) return;
    const TaskTrail& tasks = session_.trail()->tasks;
    const TaskLane& lane = tasks.tasks[*task];
    if (tasks.cores[lane.core].only_switches) return;
    QMenu menu(this);
    menu.setObjectName("job_rule_menu");
    menu.addSection(tr("A job of %1 ends").arg(words(lane.name)));
    const auto offer = [&](const QString& text, const JobRule& rule) {
        QAction* a = menu.addAction(text);
        a->setCheckable(true);
        a->setChecked(lane.rule == rule);
        connect(a, &QAction::triggered, this, [this, task, rule] { emit job_rule_wanted(*task, rule); });
    };
    JobRule rule;
    offer(tr("at its wait for the next job, as the trace says"), rule);
    rule.ends = JobRule::Ends::any_wait;
    offer(tr("at any wait but for a lock"), rule);
    // What it waits for, in the order in which that is seen.
    std::vector<std::uint32_t> objects;
    for (std::size_t i = 0; i < lane.stretches.size() && i < 20'000; ++i) {
        const TaskStretch& s = lane.stretches[i];
        if (is_waiting(s.state) && s.state != TaskState::waits_lock &&
            std::find(objects.begin(), objects.end(), s.object) == objects.end() && objects.size() < 12)
            objects.push_back(s.object);
    }
    rule.ends = JobRule::Ends::wait_for;
    for (const std::uint32_t object : objects) {
        rule.object = tasks.object_name(object);
        offer(tr("at its wait for %1").arg(words(rule.object)), rule);
    }
    if (lane.rule.ends == JobRule::Ends::marks) offer(words(job_rule_text(lane.rule)), lane.rule);
    menu.exec(e->globalPos());
}

QString Lanes::describe_task(std::size_t task, double x) const {
    const auto trail = session_.trail();
    const TaskTrail& tasks = trail->tasks;
    const TaskLane& lane = tasks.tasks[task];
    const Time t = time_at(x);
    QString text = "<b>" + words(lane.name).toHtmlEscaped() + "</b>";
    if (lane.priority_known) text += lane.idle ? tr(", idle") : tr(", priority %1").arg(lane.priority);
    const std::size_t i = lane.stretch_at(t);
    if (i == lane.stretches.size()) return text + "<br>" + tr("nothing is known of it yet");
    const TaskStretch& s = lane.stretches[i];
    const Time end = i + 1 < lane.stretches.size() ? lane.stretches[i + 1].begin : trail->end;
    text += "<br>" + words(std::string(task_state_name(s.state)));
    if (s.state == TaskState::waits_lock) {
        text += ": <b>" + words(tasks.object_name(s.object)).toHtmlEscaped() + "</b>";
        if (const LockLane* lock = tasks.lock(s.object)) {
            for (std::size_t w = lock->waits.partition_point([&](const LockWait& x2) { return x2.end < t; });
                 w < lock->waits.size(); ++w)
                if (lock->waits[w].task == task && lock->waits[w].begin <= t) {
                    text += tr(", held by %1").arg(words(tasks.task_name(lock->waits[w].holder)).toHtmlEscaped());
                    break;
                }
        }
    } else if (s.state == TaskState::waits_data) {
        text += ": " + words(tasks.object_name(s.object)).toHtmlEscaped();
    } else if (s.state == TaskState::ready && s.object != kNobody) {
        const bool lost = i > 0 && lane.stretches[i - 1].state == TaskState::running;
        text += (lost ? tr(", %1 took the core") : tr(", made so by %1"))
                    .arg(words(tasks.actor_name(s.object)).toHtmlEscaped());
    }
    text += tr(" for %1, from %2").arg(words(duration_text(end - s.begin)), words(moment_text(s.begin)));
    if (const auto j = lane.job_from(t); j < lane.jobs.size() && lane.jobs[j].ready <= t) {
        const TaskJob& job = lane.jobs[j];
        text += tr("<br>job %1 of %2: ready %3<br>response %4, running %5, cut into by tasks %6 times")
                    .arg(words(count_text(j + 1)), words(count_text(lane.jobs.size())), words(moment_text(job.ready)),
                         words(duration_text(job.response())), words(duration_text(job.run)))
                    .arg(job.preemptions);
        const JobParts parts = parts_of(*trail, task, job.ready, job.end);
        const auto part = [&](Time length, const QString& what) {
            if (length.ps > 0) text += "<br>&nbsp; " + words(duration_text(length)) + " " + what;
        };
        part(parts.own, tr("its own work"));
        part(parts.others, tr("other tasks"));
        part(parts.lock, tr("waiting for locks"));
        part(parts.data, tr("waiting for data or time"));
        part(parts.interrupts, tr("interrupts"));
        part(parts.kernel, tr("the kernel"));
        if (!job.whole())
            text += (job.flags & TaskJob::kOpen) != 0
                        ? tr("<br>not ended when the recording ended: left out of the figures")
                        : tr("<br>its begin may be lost: left out of the figures");
    }
    return text;
}

void Lanes::go_to(const Selection& place) {
    if (!place.instance) return;
    if (place.task >= 0)
        go_to_job(static_cast<std::size_t>(place.task), *place.instance);
    else if (place.lane >= 0)
        go_to_instance(place.core, static_cast<std::size_t>(place.lane), *place.instance);
}

void Lanes::go_to_job(std::size_t task, std::size_t job) {
    const auto trail = session_.trail();
    if (!trail || task >= trail->tasks.tasks.size() || job >= trail->tasks.tasks[task].jobs.size()) return;
    const TaskLane& lane = trail->tasks.tasks[task];
    const TaskJob& j = lane.jobs[job];
    const Time room = std::max(Time{j.response().ps / 3}, Time::from_us(20));
    view_.select({lane.core, -1, job, static_cast<int>(task)});
    view_.go_to(j.ready - room, j.end + room, j.ready);
}

bool Lanes::step_job(int direction) {
    const Selection s = view_.selection();
    const auto trail = session_.trail();
    if (!trail || s.task < 0 || static_cast<std::size_t>(s.task) >= trail->tasks.tasks.size()) return false;
    const TaskLane& lane = trail->tasks.tasks[static_cast<std::size_t>(s.task)];
    if (lane.jobs.empty()) return true;
    std::size_t i = s.instance ? *s.instance : lane.job_from(view_.cursor());
    if (s.instance) {
        if (direction < 0 ? i == 0 : i + 1 >= lane.jobs.size()) return true;
        i = direction < 0 ? i - 1 : i + 1;
    }
    i = std::min(i, lane.jobs.size() - 1);
    const TaskJob& j = lane.jobs[i];
    const Time half{(view_.to() - view_.from()).ps / 2};
    view_.select({lane.core, -1, i, s.task});
    if (j.ready < view_.from() || j.end > view_.to())
        view_.go_to(j.ready - half, j.ready + half, j.ready);
    else
        view_.set_cursor(j.ready);
    return true;
}

bool Lanes::go_to_longest_job() {
    const Selection s = view_.selection();
    const auto trail = session_.trail();
    if (!trail || s.task < 0 || static_cast<std::size_t>(s.task) >= trail->tasks.tasks.size()) return false;
    const TaskLane& lane = trail->tasks.tasks[static_cast<std::size_t>(s.task)];
    if (lane.jobs.empty()) return true;
    go_to_job(static_cast<std::size_t>(s.task), lane.longest_response.argmax(0, lane.jobs.size(), [&](std::size_t i) {
        return lane.jobs[i].whole() ? lane.jobs[i].response() : Time{};
    }));
    return true;
}

}  // namespace mt::app
