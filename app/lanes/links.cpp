#include <QContextMenuEvent>
#include <QInputDialog>
#include <QMenu>
#include <QPainter>
#include <QPainterPath>

#include <algorithm>

#include "base/text.h"
#include "lanes/geometry.h"
#include "lanes/lanes.h"
#include "lanes/painters.h"
#include "look/theme.h"
#include "look/words.h"
#include "measure/refs.h"
#include "navigate/moment_actions.h"

// What lies across lanes: who waits for whom, who made whom ready, what was sent, what followed straight after.
namespace mt::app {
namespace {

constexpr std::size_t kMostLinks = 60;

}  // namespace

// In each task's lane: from the recording's start over its creation to its first run.
void Lanes::paint_start(QPainter& p) {
    const auto trail = document_.trail();
    const Theme& t = theme();
    p.setFont(text_font(10, true));
    for (std::size_t i = 0; i < trail->tasks.tasks.size(); ++i) {
        const TaskLane& lane = trail->tasks.tasks[i];
        const QRectF r = row_rect(task_lane(i));
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

// Where a task, or an interrupt that did something to a task of `core`, stands. The number of an interrupt does not
// tell its core: it is the task's own, unless that has no such interrupt.
QRectF Lanes::actor_rect(std::size_t core, std::uint32_t who) const {
    const auto trail = document_.trail();
    if (!Actor::is_interrupt(who)) return who < trail->tasks.tasks.size() ? row_rect(task_lane(who)) : QRectF();
    const std::uint32_t number = who & 0xFFFF;
    for (std::size_t turn = 0; turn < trail->cores.size(); ++turn) {
        const std::size_t c = (std::min(core, trail->cores.size() - 1) + turn) % trail->cores.size();
        for (const std::uint16_t code : {ExceptionId::make(ExceptionId::Space::system, number).code(),
                                         ExceptionId::make(ExceptionId::Space::arm, 16 + number).code()})
            if (const auto l = trail->cores[c].lane_index(code)) return row_rect(interrupt_lane(c, *l));
    }
    return {};
}

// Entries that the job sent or received: from each send to its receive.
void Lanes::paint_message_links(QPainter& p, std::size_t task, const TaskJob& job) {
    const auto trail = document_.trail();
    const auto place = [&](std::uint32_t who) { return actor_rect(trail->tasks.tasks[task].core, who); };
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

// From each wait for a lock to the bar of the task that holds it.
void Lanes::paint_lock_links(QPainter& p) {
    const auto trail = document_.trail();
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
            const QRectF waiter = row_rect(task_lane(w.task)), holder = row_rect(task_lane(w.holder));
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
    const auto& span = view_.selection().span;
    const auto trail = document_.trail();
    if (!span || span->lane.kind != &tasks_kind() || book_->find(*span) == nullptr) return;
    const TaskLane& lane = trail->tasks.tasks[span->lane.index];
    const TaskJob& job = lane.jobs[span->index];
    const QRectF own = row_rect(span->lane);
    if (own.isEmpty()) return;
    p.setRenderHint(QPainter::Antialiasing);
    paint_message_links(p, span->lane.index, job);
    std::size_t i = lane.stretches.partition_point([&](const TaskStretch& x) { return x.begin < job.ready; });
    for (std::size_t n = 0; i < lane.stretches.size() && lane.stretches[i].begin <= job.end && n < 40; ++i) {
        const TaskStretch& x = lane.stretches[i];
        if (x.state != TaskState::ready || x.object == kNobody) continue;
        // Only where it became ready; losing the core is seen without a line.
        if (i > 0 && lane.stretches[i - 1].state == TaskState::running) continue;
        const QRectF from = actor_rect(lane.core, x.object);
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

void Lanes::contextMenuEvent(QContextMenuEvent* e) {
    if (!document_.trail()) return;
    const bool by_mouse = e->reason() == QContextMenuEvent::Mouse;
    const Row* row = by_mouse ? row_at(e->pos().y()) : row_of(view_.selection().lane);
    QMenu menu(this);
    menu.setObjectName("lane_menu");
    if (row != nullptr) {
        const LaneId id = row->id;
        menu.addAction(tr("Select %1").arg(words(row->lane->name())), this, [this, id] { view_.select(id); });
        menu.addAction(tr("Go to its longest"), this, [this, id] {
            view_.select(id);
            navigator_.go_to_longest();
        });
        if (row->lane->shape() == Shape::line) add_line_looks(menu, *row);
        if (tall_.count(key_of(*row)) != 0)
            menu.addAction(tr("As tall as the others"), this, [this, key = key_of(*row)] { set_tall(key, 0); });
        add_limit(menu, *row, by_mouse ? span_at(*row, e->pos()) : view_.selection().span);
        menu.addAction(tr("Hide lanes of this kind"), this, [this, id] {
            auto hidden = hidden_kinds();
            hidden.insert(std::string(id.kind->id()));
            set_hidden_kinds(std::move(hidden));
        });
        menu.addSeparator();
    }
    const Time at = by_mouse && e->pos().x() >= plot_left() ? time_at(e->pos().x()) : view_.cursor();
    add_moment_actions(menu, document_, view_, at);
    if (row != nullptr) add_job_rules(menu, *row);
    menu.exec(e->globalPos());
}

void Lanes::add_line_looks(QMenu& menu, const Row& row) {
    const std::string key = key_of(row);
    const LineLook now = looks_.of(key);
    const auto offer = [&](QMenu* in, const QString& text, bool is, LineLook look, const std::string& of) {
        QAction* a = in->addAction(text, this, [this, of, look] { set_look(of, look); });
        a->setCheckable(true);
        a->setChecked(is);
    };
    QAction* visible = menu.addAction(tr("Scale to what is visible"), this, [this](bool on) { set_to_visible(on); });
    visible->setCheckable(true);
    visible->setChecked(to_visible_);
    if (row.lane->fills()) return;
    QMenu* scale = menu.addMenu(tr("Scale of this lane"));
    using Scale = LineLook::Scale;
    for (const auto& [text, which] : {std::pair{tr("as the others"), Scale::usual},
                                      {tr("to all that was told"), Scale::all},
                                      {tr("to what is visible"), Scale::visible}}) {
        LineLook look = now;
        look.scale = which;
        offer(scale, text, now.scale == which, look, key);
    }
    QAction* fixed = scale->addAction(tr("fixed…"), this, [this, key, now, lane = row.lane] {
        const auto [low, high] = now.scale == Scale::fixed ? std::pair(now.low, now.high) : lane->bounds();
        bool given = false;
        const QString text = QInputDialog::getText(this, tr("Fixed scale"), tr("From … to …, in the unit of the lane:"),
                                                   QLineEdit::Normal, QString("%1 %2").arg(low).arg(high), &given);
        const QStringList parts = text.simplified().replace("..", " ").split(' ', Qt::SkipEmptyParts);
        LineLook look = now;
        look.scale = Scale::fixed;
        bool one = false, other = false;
        if (parts.size() == 2) {
            look.low = parts[0].toDouble(&one);
            look.high = parts[1].toDouble(&other);
        }
        if (!given) return;
        if (one && other && look.high > look.low)
            set_look(key, look);
        else
            emit missed(tr("“%1” is no scale: write two numbers, the lower one first, as 0 250.").arg(text));
    });
    fixed->setCheckable(true);
    fixed->setChecked(now.scale == Scale::fixed);
    QMenu* drawn = menu.addMenu(tr("Draw as"));
    using Drawn = LineLook::Drawn;
    for (const auto& [text, which] :
         {std::pair{tr("steps"), Drawn::steps}, {tr("a line"), Drawn::line}, {tr("dots"), Drawn::dots}}) {
        LineLook look = now;
        look.drawn = which;
        offer(drawn, text, now.drawn == which, look, key);
    }
    QMenu* with = menu.addMenu(tr("Draw in the row of"));
    for (const Row& other : rows_) {
        if (other.id == row.id || other.lane->shape() != Shape::line || other.lane->fills() || !row.guests.empty()) continue;
        LineLook look = now;
        look.with = other.lane->name();
        offer(with, words(other.lane->name()), false, look, key);
    }
    with->menuAction()->setEnabled(!with->isEmpty());
    for (const auto& [id, lane] : row.guests) {
        LineLook look = looks_.of(key_of(id, *lane));
        look.with.clear();
        menu.addAction(tr("Give %1 a row of its own").arg(words(lane->name())), this,
                       [this, of = key_of(id, *lane), look] { set_look(of, look); });
    }
}

void Lanes::add_job_rules(QMenu& menu, const Row& row) {
    if (row.id.kind != &tasks_kind() || document_.live()) return;
    const TaskTrail& tasks = document_.trail()->tasks;
    const std::size_t task = row.id.index;
    const TaskLane& lane = tasks.tasks[task];
    if (tasks.cores[lane.core].only_switches) return;
    menu.addSection(tr("A job of %1 ends").arg(words(lane.name)));
    const auto offer = [&](const QString& text, const JobRule& rule) {
        QAction* a = menu.addAction(text);
        a->setCheckable(true);
        a->setChecked(lane.rule == rule);
        connect(a, &QAction::triggered, this, [this, task, rule] { emit job_rule_wanted(task, rule); });
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
}

// A thin line from the handler that ended to the one that was entered straight after it, without a return.
void Lanes::paint_tail_chains(QPainter& p, const Row& row) {
    if (row.id.kind != &interrupts_kind()) return;
    const CoreTrail& core = document_.trail()->cores[row.lane->core()];
    const ExceptionLane& lane = core.lanes[row.id.index & 0xFFFF'FFFF];
    const auto [first, last] = lane.touching(view_.from(), view_.to());
    if (last - first > 200) return;
    QColor ink = theme().interrupt;
    for (std::size_t i = first; i < last; ++i) {
        if ((lane.flags(i) & ExceptionInstance::kTailChained) == 0) continue;
        // Before the entry stands "between", before that the handler that left.
        const std::size_t entry = core.change_time.lower_bound(lane.begin(i));
        std::size_t k = entry;
        while (k > 0 && entry - k < 4 &&
               (core.change_running[k] == lane.code() || core.change_running[k] >= ContextChange::kBetween))
            --k;
        const auto from = core.lane_index(core.change_running[k]);
        if (!from) continue;
        const QRectF a = row_rect(interrupt_lane(row.lane->core(), *from)), b = row_rect(row.id);
        const double left = x_of(core.change_time[std::min(k + 1, core.change_time.size() - 1)]),
                     right = x_of(lane.begin(i));
        if (right < plot_left() || x_of(lane.end(i)) - right < 3) continue;
        p.setPen(QPen(ink, 1, Qt::DashLine));
        p.drawLine(QPointF(std::max(left, plot_left()), a.center().y()), QPointF(right, b.center().y()));
    }
}

}  // namespace mt::app
