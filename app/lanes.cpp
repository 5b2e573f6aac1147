#include "lanes.h"

#include <QHelpEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QToolTip>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "lanes_geometry.h"

namespace mt::app {
namespace {
QString words(const std::string& s) { return QString::fromStdString(s); }

QString value_text(const ValueLane& lane, std::int64_t value) {
    const auto named = lane.value_names.find(static_cast<std::uint64_t>(value));
    return named == lane.value_names.end()
               ? words(lane.text(value))
               : words(named->second).toHtmlEscaped() + " (" + words(lane.text(value)) + ")";
}
}  // namespace

Lanes::Lanes(Session& session, Viewpoint& view, BlockStore& store, QWidget* parent)
    : QWidget(parent), session_(session), view_(view), store_(store), growth_([this] {
          lay_out();
          update();
      }) {
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);  // it fills itself
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Lanes: interrupts over time"));
    const auto again = [this] {
        lay_out();
        update();
    };
    connect(&session, &Session::opened, this, [this] { call_.reset(); });
    connect(&session, &Session::grew, this, [this] { growth_.ask(); });
    connect(&session, &Session::finished, this, again);
    connect(&view, &Viewpoint::window_changed, this, again);
    connect(&view, &Viewpoint::selection_changed, this, [this, again] {
        if (view_.selection() != Selection{}) call_.reset();  // one thing is selected at a time
        reveal_ = true;
        again();
    });
    connect(&store, &BlockStore::arrived, this, qOverload<>(&QWidget::update));
    connect(&inlined_, &InlinedStays::arrived, this, qOverload<>(&QWidget::update));
    connect(&view, &Viewpoint::scale_changed, this, qOverload<>(&QWidget::update));
    for (const auto signal : {&Viewpoint::cursor_changed, &Viewpoint::selection_changed, &Viewpoint::ruler_changed})
        connect(&view, signal, this, qOverload<>(&QWidget::update));
}

double Lanes::plot_left() const { return std::min(150.0, width() * 0.3); }
double Lanes::x_of(Time t) const { return plot_left() + view_.share_of(t) * (width() - plot_left()); }
Time Lanes::time_at(double x) const { return view_.at_share((x - plot_left()) / std::max(1.0, width() - plot_left())); }

// Instructions were traced for so short a part of what is in view that their calls cannot be told apart.
bool Lanes::too_short(const StepTrail& steps) const {
    return steps.begin > Time{} && x_of(steps.end) - x_of(steps.begin) < 12;
}

// Lanes with nothing in view fold to a line.
void Lanes::lay_out() {
    rows_.clear();
    const auto trail = session_.trail();
    if (!trail) return;
    if (trail.get() != ordered_.lock().get()) {
        order_ = trail->tasks.order();
        ordered_ = trail;
    }
    // A task stirs if it does anything but wait for its next job in view.
    const auto stirs = [&](const TaskLane& lane) {
        const auto [first, last] = lane.touching(view_.from(), view_.to());
        if (last - first > 3) return true;
        for (std::size_t i = first; i < last; ++i)
            if (const TaskState s = lane.stretches[i].state;
                s != TaskState::waits_next_job && s != TaskState::absent && s != TaskState::unknown)
                return true;
        return false;
    };
    double y = kAxis;
    std::size_t shown = 0;
    double calls_height = 0;
    for (std::size_t c = 0; c < trail->cores.size(); ++c) {
        const CoreTrail& core = trail->cores[c];
        const StepTrail* steps = steps_of(c);
        if (steps != nullptr) {
            const bool elsewhere = trail->complete && (steps->end < view_.from() || steps->begin > view_.to());
            const double layers =
                static_cast<double>(std::max<std::size_t>(2, too_short(*steps) ? 0 : depth_in_view(c))) * kLevel;
            rows_.push_back({c, kCalls, 0, elsewhere ? kFolded : layers + 2 * kCallsPad, elsewhere});
            calls_height += rows_.back().height;
        }
        for (const std::size_t l : core.by_priority) {
            const auto [first, last] = core.lanes[l].touching(view_.from(), view_.to());
            const bool selected = view_.selection().core == c && view_.selection().lane == static_cast<int>(l);
            rows_.push_back({c, static_cast<int>(l), 0, 0, first == last && !selected});
            shown += rows_.back().folded ? 0 : 1;
        }
        const TaskTrail& tasks = trail->tasks;
        const bool has_tasks = c < tasks.cores.size() && tasks.cores[c].present;
        if ((steps == nullptr || core.thread_seen) && (!has_tasks || !trail->streams.empty())) {
            rows_.push_back({c, kThread, 0, 0, false});
            ++shown;
        }
        if (!has_tasks) continue;
        for (const std::size_t t : order_) {
            const TaskLane& lane = tasks.tasks[t];
            if (lane.core != c || lane.stretches.empty()) continue;
            rows_.push_back({c, row_of_task(t), 0, 0, !stirs(lane) && view_.selection().task != static_cast<int>(t)});
            shown += rows_.back().folded ? 0 : 1;
        }
    }
    // One nest for all cores: calls, then interrupts, then threads and tasks, each by core.
    if (merged_)
        std::stable_sort(rows_.begin(), rows_.end(), [this](const Row& one, const Row& other) {
            const auto rank = [this](const Row& r) {
                return r.lane == kCalls ? 0 : r.lane >= 0 ? 1 : task_of(r) ? 3 : 2;
            };
            return rank(one) < rank(other);
        });
    const TaskTrail& tasks = trail->tasks;
    for (std::size_t q = 0; q < tasks.queues.size(); ++q)
        if (!tasks.queues[q].ops.empty()) {
            rows_.push_back({0, row_of_queue(q), 0, 0, false});
            ++shown;
        }
    for (std::size_t v = 0; v < tasks.values.size(); ++v) {
        rows_.push_back({tasks.values[v].core, row_of_value(v), 0, 0, false});
        ++shown;
    }
    for (std::size_t m = 0; m < tasks.marks.size() && m < 200; ++m) {
        const MarkLane& lane = tasks.marks[m];
        // The begin and end of a use are told by what is used.
        if (lane.marks.empty() || (!lane.foreign && (lane.id == 1 || lane.id == 2))) continue;
        rows_.push_back({lane.marks[0].core, row_of_mark(m), 0, 0, false});
        ++shown;
    }
    // Full rows share what room there is, within reason.
    const auto folds = std::count_if(rows_.begin(), rows_.end(), [](const Row& r) { return r.folded; });
    const double room = height() - kAxis - kRuler - static_cast<double>(folds) * kFolded - calls_height;
    const double full =
        std::clamp(room / static_cast<double>(std::max<std::size_t>(1, shown)), kFull, std::max(58.0, height() * 0.08));
    for (Row& r : rows_) {
        r.top = y;
        if (r.lane != kCalls) r.height = r.folded ? kFolded : full;
        y += r.height;
    }
    content_ = y;
    if (reveal_call_ && call_) {
        for (const Row& r : rows_) {
            if (r.core != call_->core || r.lane != kCalls) continue;
            const double top = r.top + kCallsPad + static_cast<double>(call_->level) * kLevel,
                         low = top + 3 * kLevel - (height() - kRuler), high = top - kAxis - kLevel;
            scroll_ = low > high ? high : std::clamp(scroll_, low, high);
        }
        reveal_call_ = false;
    } else if (reveal_) {
        const Selection& s = view_.selection();
        for (const Row& r : rows_) {
            const auto task = task_of(r);
            if (task ? s.task != static_cast<int>(*task) : s.lane < 0 || r.core != s.core || r.lane != s.lane) continue;
            const double low = r.top + r.height - (height() - kRuler), high = r.top - kAxis;
            scroll_ = low > high ? high : std::clamp(scroll_, low, high);
        }
    }
    scroll_ = std::clamp(scroll_, 0.0, scroll_limit());
    for (Row& r : rows_) r.top -= scroll_;
}

double Lanes::scroll_limit() const { return std::max(0.0, content_ - (height() - kRuler)); }

QRectF Lanes::row_rect(std::size_t core, int lane) const {
    for (const Row& r : rows_)
        if (r.core == core && r.lane == lane) return {plot_left(), r.top, width() - plot_left(), r.height};
    return {};
}

const Lanes::Row* Lanes::row_at(double y) const {
    for (const Row& r : rows_)
        if (y >= r.top && y < r.top + r.height) return &r;
    return nullptr;
}

std::optional<std::size_t> Lanes::instance_at(const Row& row, double x) const {
    const auto trail = session_.trail();
    if (!trail || row.lane < 0 || x < plot_left()) return std::nullopt;
    const ExceptionLane& lane = trail->cores[row.core].lanes[static_cast<std::size_t>(row.lane)];
    // A pixel of grace on both sides; of several in the pixel the longest.
    const auto [first, last] = lane.touching(time_at(x - 2), time_at(x + 2));
    if (first == last) return std::nullopt;
    return lane.longest(first, last);
}

void Lanes::set_measuring(bool on) {
    if (measuring_ == on) return;
    measuring_ = on;
    setCursor(on ? Qt::CrossCursor : Qt::ArrowCursor);
    emit measuring_changed(on);
}

void Lanes::set_key_shown(bool on) {
    key_shown_ = on;
    update();
}

Time Lanes::snapped(Time t, Time reach) const {
    const auto trail = session_.trail();
    if (!trail) return t;
    Time best = t;
    Time distance = reach + Time{1};
    const auto consider = [&](Time edge) {
        const Time d{std::llabs((edge - t).ps)};
        if (d < distance) {
            best = edge;
            distance = d;
        }
    };
    for (const auto& core : trail->cores)
        for (const auto& lane : core.lanes) {
            const std::size_t next = lane.first_from(t);
            if (next < lane.size()) consider(lane.begin(next));
            if (next > 0) {
                consider(lane.begin(next - 1));
                consider(lane.end(next - 1));
            }
            if (next > 1) consider(lane.end(next - 2));
        }
    for (const auto& lane : trail->tasks.tasks) {
        const std::size_t next = lane.stretches.partition_point([t](const TaskStretch& s) { return s.begin < t; });
        if (next < lane.stretches.size()) consider(lane.stretches[next].begin);
        if (next > 0) consider(lane.stretches[next - 1].begin);
    }
    return best;
}

void Lanes::go_to_instance(std::size_t core, std::size_t lane, std::size_t instance) {
    const auto trail = session_.trail();
    if (!trail || core >= trail->cores.size() || lane >= trail->cores[core].lanes.size() ||
        instance >= trail->cores[core].lanes[lane].size())
        return;
    const ExceptionLane& l = trail->cores[core].lanes[lane];
    const Time begin = l.begin(instance), end = l.end(instance);
    const Time room = std::max(Time{(end - begin).ps * 2}, Time::from_us(20));
    view_.select({core, static_cast<int>(lane), instance});
    view_.go_to(begin - room, std::min(end + room, begin + Time{room.ps * 4}), begin);
}

void Lanes::step_instance(int direction) {
    if (step_call(direction) || step_job(direction)) return;
    const auto trail = session_.trail();
    const Selection s = view_.selection();
    if (!trail || s.lane < 0) return;
    const ExceptionLane& lane = trail->cores[s.core].lanes[static_cast<std::size_t>(s.lane)];
    if (lane.size() == 0) return;
    std::size_t i = 0;
    if (s.instance) {
        if (direction < 0 ? *s.instance == 0 : *s.instance + 1 >= lane.size()) return;
        i = direction < 0 ? *s.instance - 1 : *s.instance + 1;
    } else {
        const std::size_t next = lane.first_from(view_.cursor());
        if (direction > 0 ? next >= lane.size() : next == 0) return;
        i = direction > 0 ? next : next - 1;
    }
    // Keep the scale; move only as far as needed to have the instance in the middle.
    const Time half{(view_.to() - view_.from()).ps / 2};
    view_.select({s.core, s.lane, i});
    if (lane.begin(i) < view_.from() || lane.end(i) > view_.to())
        view_.go_to(lane.begin(i) - half, lane.begin(i) + half, lane.begin(i));
    else
        view_.set_cursor(lane.begin(i));
}

void Lanes::go_to_longest() {
    if (go_to_longest_call() || go_to_longest_job()) return;
    const auto trail = session_.trail();
    const Selection s = view_.selection();
    if (!trail || s.lane < 0) return;
    const ExceptionLane& lane = trail->cores[s.core].lanes[static_cast<std::size_t>(s.lane)];
    std::optional<std::size_t> longest;
    for (std::size_t i = 0; i < lane.size(); ++i)
        if (lane.whole(i) && (!longest || lane.length(i) > lane.length(*longest))) longest = i;
    if (longest) go_to_instance(s.core, static_cast<std::size_t>(s.lane), *longest);
}

void Lanes::select_neighbour(int direction) {
    if (step_depth(direction)) return;
    std::vector<const Row*> lanes;
    for (const Row& r : rows_)
        if (r.lane >= 0 || task_of(r)) lanes.push_back(&r);
    if (lanes.empty()) return;
    std::size_t at = direction > 0 ? lanes.size() - 1 : 0;
    for (std::size_t i = 0; i < lanes.size(); ++i)
        if (const auto task = task_of(*lanes[i]);
            task ? view_.selection().task == static_cast<int>(*task)
                 : lanes[i]->core == view_.selection().core && lanes[i]->lane == view_.selection().lane)
            at = i;
    at = (at + lanes.size() + static_cast<std::size_t>(direction < 0 ? -1 + static_cast<int>(lanes.size()) : 1)) %
         lanes.size();
    if (const auto task = task_of(*lanes[at]))
        view_.select({lanes[at]->core, -1, std::nullopt, static_cast<int>(*task)});
    else
        view_.select({lanes[at]->core, lanes[at]->lane, std::nullopt});
    lay_out();
}

// The begin or end of a call within a few pixels, else the moment itself.
Time Lanes::snapped_to(Time t, const CallSpan& s) const {
    const Time reach = time_at(plot_left() + 6) - view_.from();
    if (std::llabs((t - s.begin).ps) <= reach.ps || x_of(s.end()) - x_of(s.begin) < 8) return s.begin;
    return std::llabs((t - s.end()).ps) <= reach.ps ? s.end() : t;
}

void Lanes::mousePressEvent(QMouseEvent* e) {
    if (!session_.trail()) return;
    pressed_ = mouse_ = e->position();
    pressed_from_ = view_.from();
    pressed_to_ = view_.to();
    panned_ = 0;
    if (e->button() == Qt::MiddleButton) {
        drag_ = Drag::pan;
        return;
    }
    if (e->button() != Qt::LeftButton) return;
    const Time reach = time_at(plot_left() + 8) - view_.from();
    const auto near = [&](std::optional<Time> end) {
        return end && std::fabs(x_of(*end) - pressed_.x()) < 10 && pressed_.y() > height() - kRuler;
    };
    if (near(view_.a()))
        drag_ = Drag::ruler_a;
    else if (near(view_.b()))
        drag_ = Drag::ruler_b;
    else if (measuring_ && pressed_.x() >= plot_left()) {
        drag_ = Drag::ruler;
        view_.set_ruler(snapped(time_at(pressed_.x()), reach), std::nullopt);
    } else
        drag_ = Drag::waiting;
}

void Lanes::mouseMoveEvent(QMouseEvent* e) {
    mouse_ = e->position();
    const Time reach = time_at(plot_left() + 8) - view_.from();
    const double moved = mouse_.x() - pressed_.x();
    if (drag_ == Drag::waiting && std::fabs(moved) > 4 && pressed_.x() >= plot_left())
        drag_ = pressed_.y() < kAxis ? Drag::zoom : Drag::pan;
    switch (drag_) {
        case Drag::pan: {
            const Time by{static_cast<std::int64_t>(-moved / std::max(1.0, width() - plot_left()) *
                                                    static_cast<double>((pressed_to_ - pressed_from_).ps))};
            setCursor(Qt::ClosedHandCursor);
            if (view_.scale() != nullptr) {
                view_.pan((panned_ - moved) / std::max(1.0, width() - plot_left()));
                panned_ = moved;
            } else {
                view_.show(pressed_from_ + by, pressed_to_ + by);
            }
            break;
        }
        case Drag::zoom:
            update();
            break;
        case Drag::ruler:
        case Drag::ruler_b:
            view_.set_ruler(view_.a(), snapped(time_at(mouse_.x()), reach));
            break;
        case Drag::ruler_a:
            view_.set_ruler(snapped(time_at(mouse_.x()), reach), view_.b());
            break;
        default:
            break;
    }
}

void Lanes::mouseReleaseEvent(QMouseEvent* e) {
    const Drag was = drag_;
    drag_ = Drag::none;
    setCursor(measuring_ ? Qt::CrossCursor : Qt::ArrowCursor);
    if (was == Drag::zoom && std::fabs(e->position().x() - pressed_.x()) > 4) {
        const Time a = time_at(std::max(plot_left(), pressed_.x())),
                   b = time_at(std::max(plot_left(), e->position().x()));
        view_.go_to(std::min(a, b), std::max(a, b), view_.cursor());
    }
    if ((was == Drag::ruler) && !view_.b()) view_.set_ruler(view_.a(), view_.a());
    if (was == Drag::ruler) set_measuring(false);
    update();
    if (was != Drag::waiting || e->button() != Qt::LeftButton) return;
    // A click shows a place: the lane, the instance under it, the moment.
    const Row* row = row_at(e->position().y());
    if (e->position().y() < kAxis) row = nullptr;
    const auto call = row == nullptr ? std::nullopt : call_at(*row, e->position());
    select_call(call);
    if (call) {
        const CallSpan& s = steps_of(call->core)->levels[call->level][call->index];
        view_.set_cursor(snapped_to(time_at(e->position().x()), s));
        return;
    }
    const auto instance = row == nullptr ? std::nullopt : instance_at(*row, e->position().x());
    if (row != nullptr && row->lane >= 0) view_.select({row->core, row->lane, instance});
    if (const auto task = row == nullptr ? std::nullopt : task_of(*row)) {
        const bool in_plot = e->position().x() >= plot_left();
        view_.select(
            {row->core, -1, in_plot ? job_at(*task, e->position().x()) : std::nullopt, static_cast<int>(*task)});
    }
    if (e->position().x() < plot_left()) return;
    const Time reach = time_at(plot_left() + 6) - view_.from();
    if (instance) {
        const ExceptionLane& lane = session_.trail()->cores[row->core].lanes[static_cast<std::size_t>(row->lane)];
        const double left = x_of(lane.begin(*instance)), right = x_of(lane.end(*instance));
        view_.set_cursor(right - left < 8 ? lane.begin(*instance) : snapped(time_at(e->position().x()), reach));
    } else {
        view_.set_cursor(snapped(time_at(e->position().x()), reach));
    }
}

void Lanes::mouseDoubleClickEvent(QMouseEvent* e) {
    drag_ = Drag::none;
    const Row* row = row_at(e->position().y());
    if (row == nullptr || e->button() != Qt::LeftButton) return;
    if (const auto call = call_at(*row, e->position())) {
        go_to_call(*call);
        return;
    }
    if (const auto task = task_of(*row); task && e->position().x() >= plot_left()) {
        if (const auto job = job_at(*task, e->position().x())) {
            go_to_job(*task, *job);
            return;
        }
    }
    if (const auto instance = instance_at(*row, e->position().x()))
        go_to_instance(row->core, static_cast<std::size_t>(row->lane), *instance);
    else if (e->position().x() >= plot_left())
        view_.zoom(0.25, time_at(e->position().x()));
}

void Lanes::wheelEvent(QWheelEvent* e) {
    if (!session_.trail()) return;
    const double steps = e->angleDelta().y() / 120.0, sideways = e->angleDelta().x() / 120.0;
    if ((e->modifiers() & Qt::ShiftModifier) != 0 || sideways != 0)
        view_.pan(-0.15 * (sideways != 0 ? sideways : steps));
    else if (e->position().x() < plot_left()) {
        reveal_ = false;
        scroll_ = std::clamp(scroll_ - steps * 40, 0.0, scroll_limit());
        lay_out();
        update();
    } else
        view_.zoom(std::pow(0.75, steps), time_at(e->position().x()));
    e->accept();
}

void Lanes::keyPressEvent(QKeyEvent* e) {
    const Time cursor = view_.cursor();
    const bool seen = cursor >= view_.from() && cursor <= view_.to();
    const Time around = seen ? cursor : Time{(view_.from().ps + view_.to().ps) / 2};
    switch (e->key()) {
        case Qt::Key_Left:
            view_.pan(-0.15);
            break;
        case Qt::Key_Right:
            view_.pan(0.15);
            break;
        case Qt::Key_Up:
            select_neighbour(-1);
            break;
        case Qt::Key_Down:
            select_neighbour(1);
            break;
        case Qt::Key_Plus:
        case Qt::Key_Equal:
            view_.zoom(0.5, around);
            break;
        case Qt::Key_Minus:
            view_.zoom(2, around);
            break;
        case Qt::Key_Home:
            view_.fit();
            break;
        case Qt::Key_PageUp:
            view_.pan(-0.9);
            break;
        case Qt::Key_PageDown:
            view_.pan(0.9);
            break;
        default:
            QWidget::keyPressEvent(e);
    }
}

void Lanes::set_merged(bool on) {
    merged_ = on;
    lay_out();
    update();
}

void Lanes::set_start_shown(bool on) {
    start_shown_ = on;
    update();
}

void Lanes::leaveEvent(QEvent*) { QToolTip::hideText(); }

QString Lanes::describe(const Row& row, double x) const {
    const CoreTrail& core = session_.trail()->cores[row.core];
    const Time t = time_at(x);
    if (row.lane == kThread) return tr("thread mode, %1").arg(words(moment_text(t)));
    if (const auto task = task_of(row)) return describe_task(*task, x);
    const TaskTrail& tasks = session_.trail()->tasks;
    if (const auto v = value_of(row)) {
        const ValueLane& lane = tasks.values[*v];
        const std::size_t i = lane.at(t);
        return i == lane.samples.size()
                   ? tr("%1: no value yet").arg(words(lane.name))
                   : tr("<b>%1</b> = %2<br>since %3")
                         .arg(words(lane.name).toHtmlEscaped(), value_text(lane, lane.samples[i].value))
                         .arg(words(moment_text(lane.samples[i].time)));
    }
    if (const auto m = mark_of(row)) {
        const MarkLane& lane = tasks.marks[*m];
        const Time from = time_at(x - 4), to = time_at(x + 4);
        const std::size_t first = lane.marks.partition_point([&](const TaskMark& o) { return o.time < from; });
        const std::size_t last = lane.marks.partition_point([&](const TaskMark& o) { return o.time <= to; });
        QString text = "<b>" + words(lane.name).toHtmlEscaped() + "</b>";
        if (first >= last) return text + tr(": none here, %1 in all").arg(words(count_text(lane.marks.size())));
        if (last - first > 8) return text + tr(": %1 here").arg(words(count_text(last - first)));
        for (std::size_t i = first; i < last; ++i) {
            const TaskMark& o = lane.marks[i];
            const auto named = lane.value_names.find(static_cast<std::uint64_t>(o.value));
            text += "<br>" +
                    (named != lane.value_names.end() ? words(named->second).toHtmlEscaped() + " = " : QString()) +
                    QString::number(o.value) + tr(" at %1").arg(words(moment_text(o.time)));
            if (o.who != kNobody) text += tr(", by %1").arg(words(tasks.actor_name(o.who)).toHtmlEscaped());
        }
        return text;
    }
    if (const auto q = queue_of(row)) {
        const QueueLane& lane = tasks.queues[*q];
        const std::size_t n = lane.ops.partition_point([t](const QueueOp& o) { return !(t < o.time); });
        if (n == 0) return tr("%1: not used yet").arg(words(lane.name));
        const QueueOp& o = lane.ops[n - 1];
        return tr("<b>%1</b>: %2 entries<br>%3 by %4, %5")
            .arg(words(lane.name).toHtmlEscaped())
            .arg(o.fill)
            .arg(o.kind == QueueOp::send      ? tr("sent")
                 : o.kind == QueueOp::receive ? tr("received")
                                              : tr("send refused"),
                 words(tasks.actor_name(o.who)).toHtmlEscaped(), words(moment_text(o.time)));
    }
    const ExceptionLane& lane = core.lanes[static_cast<std::size_t>(row.lane)];
    const auto i = instance_at(row, x);
    if (!i) return tr("%1: does not run at %2").arg(words(lane.name()), words(moment_text(t)));
    const ExceptionInstance n = lane.instance(*i);
    QString text =
        tr("<b>%1</b>, execution %2 of %3<br>entered %4<br>duration %5 (%6 ns, %7 cycles), own %8<br>nest depth %9")
            .arg(words(lane.name()).toHtmlEscaped(), words(count_text(*i + 1)), words(count_text(lane.size())),
                 words(moment_text(n.begin)), words(duration_text(n.end - n.begin)), words(ns_text(n.end - n.begin)),
                 words(count_text(static_cast<std::uint64_t>(core.clock.cycles(n.end - n.begin)))),
                 words(duration_text(n.own)))
            .arg(n.depth);
    if ((n.flags & ExceptionInstance::kTailChained) != 0) text += tr("<br>tail-chained from the handler before");
    if (n.begin_slack.ps > 0)
        text += tr("<br>entered up to %1 earlier (its timestamp came late)").arg(words(duration_text(n.begin_slack)));
    if (n.end_slack.ps > 0) text += tr("<br>left up to %1 earlier").arg(words(duration_text(n.end_slack)));
    if (!n.whole())
        text += tr("<br>%1 not seen: left out of the figures")
                    .arg((n.flags & ExceptionInstance::kCutBegin) != 0 ? tr("its entry was") : tr("its exit was"));
    return text;
}

bool Lanes::event(QEvent* e) {
    if (e->type() == QEvent::Resize) {
        lay_out();
    } else if (e->type() == QEvent::ToolTip && session_.trail()) {
        auto* help = static_cast<QHelpEvent*>(e);
        const Row* row = row_at(help->pos().y());
        const auto call = row == nullptr || help->pos().y() <= kAxis ? std::nullopt : call_at(*row, help->pos());
        if (call)
            QToolTip::showText(help->globalPos(), describe_call(*call), this);
        else if (row != nullptr && row->lane == kCalls)
            QToolTip::hideText();
        else if (row != nullptr && help->pos().x() >= plot_left() && help->pos().y() > kAxis)
            QToolTip::showText(help->globalPos(), describe(*row, help->pos().x()), this);
        else
            QToolTip::hideText();
        return true;
    }
    return QWidget::event(e);
}

}  // namespace mt::app
