#include "moment_strip.h"

#include <QHBoxLayout>
#include <QTextDocumentFragment>

#include <algorithm>

#include "base/text.h"
#include "theme.h"

namespace mt::app {
namespace {
QString words(const std::string& s) { return QString::fromStdString(s); }
}  // namespace

namespace {

// Who was on the stack, the innermost first.
QString stack_at(const StepTrail& steps, Time t) {
    QStringList names;
    for (const CallLevel& level : steps.levels) {
        const auto i = level.at(t);
        if (!i) break;
        const CallSpan& s = level[*i];
        names.prepend(words((*steps.functions)[static_cast<std::uint32_t>(s.function)].name).toHtmlEscaped());
    }
    if (names.isEmpty()) return QObject::tr("no call is known here");
    names[0] = "<b>" + names[0] + "</b>";
    constexpr int kMost = 5;
    if (names.size() > kMost) names = names.mid(0, kMost) << "…";
    return names.join(" ◂ ");
}

// Which task has the core, who else is ready, and who waits for whom.
QString tasks_at(const Trail& trail, std::size_t core, Time t) {
    const TaskTrail& tasks = trail.tasks;
    const auto link = [&](std::size_t task) {
        const TaskLane& lane = tasks.tasks[task];
        return QString("<a href=\"task:%1:%2:0\" style=\"color:%4; text-decoration:none\">%3</a>")
            .arg(task)
            .arg(std::min(lane.job_from(t), lane.jobs.empty() ? 0 : lane.jobs.size() - 1))
            .arg(words(lane.name).toHtmlEscaped(),
                 theme().night ? QStringLiteral("#3F5C22") : QStringLiteral("#BFD6A2"));
    };
    QString running;
    QStringList ready, waiting;
    for (const std::size_t i : tasks.order()) {
        const TaskLane& lane = tasks.tasks[i];
        const std::size_t at = lane.stretch_at(t);
        if (at == lane.stretches.size()) continue;
        const TaskStretch& s = lane.stretches[at];
        if (s.core != core) continue;
        if (s.state == TaskState::running)
            running = lane.idle ? QObject::tr("idle since %1").arg(words(duration_text(t - s.begin)))
                                : QObject::tr("%1 runs since %2").arg(link(i), words(duration_text(t - s.begin)));
        if (s.state == TaskState::ready && !lane.idle) ready += link(i) + " " + words(duration_text(t - s.begin));
        if (s.state == TaskState::waits_lock) {
            QString holder;
            if (const LockLane* lock = tasks.lock(s.object))
                for (std::size_t w = lock->waits.partition_point([t](const LockWait& x) { return x.end < t; });
                     w < lock->waits.size(); ++w)
                    if (lock->waits[w].task == i && lock->waits[w].begin <= t &&
                        lock->waits[w].holder < tasks.tasks.size()) {
                        holder = QObject::tr(", held by %1").arg(link(lock->waits[w].holder));
                        break;
                    }
            waiting +=
                QObject::tr("%1 for %2%3").arg(link(i), words(tasks.object_name(s.object)).toHtmlEscaped(), holder);
        }
    }
    QStringList parts;
    if (!running.isEmpty()) parts += running;
    if (!ready.isEmpty()) parts += QObject::tr("ready: %1").arg(ready.join(", "));
    if (!waiting.isEmpty()) parts += QObject::tr("waiting: %1").arg(waiting.join(", "));
    if (const auto& c = tasks.cores[core].critical; c.size() > 0) {
        const std::size_t i = c.partition_point([t](const UseSpan& s) { return s.end < t; });
        if (i < c.size() && c[i].begin <= t && c[i].end > t)
            parts += QObject::tr("interrupts masked since %1").arg(words(duration_text(t - c[i].begin)));
    }
    if (parts.isEmpty()) parts += QObject::tr("no task is known to have it");
    return parts.join(" · ");
}

}  // namespace

QString moment_sentence(const Recording&, const Trail& trail, Time t) {
    QStringList cores;
    for (std::size_t c = 0; c < trail.cores.size(); ++c) {
        const CoreTrail& core = trail.cores[c];
        struct Level {
            unsigned depth;
            std::size_t lane, instance;
        };
        std::vector<Level> nest;
        // Those that reach beyond this moment; else the one that the recording ends in. Executions without
        // length (their times are bounded alike) had the core at no moment.
        const auto gather = [&](auto wanted) {
            for (std::size_t l = 0; l < core.lanes.size(); ++l)
                if (const auto i = core.lanes[l].at(t); i && wanted(core.lanes[l], *i))
                    nest.push_back({core.lanes[l].depth(*i), l, *i});
        };
        gather([&](const ExceptionLane& lane, std::size_t i) { return lane.end(i) > t; });
        if (nest.empty())
            gather([&](const ExceptionLane& lane, std::size_t i) { return lane.begin(i) == t && !lane.whole(i); });
        std::sort(nest.begin(), nest.end(), [](const Level& a, const Level& b) { return a.depth > b.depth; });
        const auto link = [&](const Level& n) {
            return QString("<a href=\"lane:%1:%2:%3\" style=\"color:%5; text-decoration:none\">%4</a>")
                .arg(c)
                .arg(n.lane)
                .arg(n.instance)
                .arg(words(core.lanes[n.lane].name()).toHtmlEscaped(),
                     theme().night ? QStringLiteral("#8A4326") : QStringLiteral("#E6AE96"));
        };
        QString say = "<b>" + words(core.name).toHtmlEscaped() + ":</b> ";
        const std::uint16_t running = core.running_at(t);
        const auto change = core.change_at(t);
        const bool follows =
            std::any_of(trail.steps.begin(), trail.steps.end(), [c](const StepTrail& s) { return s.core_index == c; });
        const bool has_tasks = c < trail.tasks.cores.size() && trail.tasks.cores[c].present;
        if (trail.gaps.touch(c, t, t)) {
            say += QObject::tr("not known, the trace has a gap here");
        } else if (!nest.empty()) {
            const Level& top = nest.front();
            const ExceptionLane& lane = core.lanes[top.lane];
            if (running == ContextChange::kBetween)
                say += QObject::tr("returning to %1").arg(link(top));
            else if (t == lane.begin(top.instance))
                say += QObject::tr("%1 entered").arg(link(top));
            else
                say +=
                    QObject::tr("%1 runs since %2").arg(link(top), words(duration_text(t - lane.begin(top.instance))));
            if (const Time slack = lane.instance(top.instance).begin_slack; slack.ps > 0)
                say += QObject::tr(" (or up to %1 earlier)").arg(words(duration_text(slack)));
            if (lane.whole(top.instance))
                say += QObject::tr(", left %1 later").arg(words(duration_text(lane.end(top.instance) - t)));
            if (nest.size() > 1) {
                QStringList waiting;
                for (std::size_t i = 1; i < nest.size(); ++i) waiting += link(nest[i]);
                say += QObject::tr(" · cut into and waiting: %1, thread mode").arg(waiting.join(", "));
            } else {
                if (!has_tasks) say += QObject::tr(" · waiting: thread mode");
            }
        } else if (has_tasks) {
            // Whose thread mode it is comes below.
        } else if (running == ContextChange::kUnknown && follows) {
            // What instruction trace knows comes below.
        } else if (running == ContextChange::kUnknown) {
            say += change && core.change_time.size() > 0 ? QObject::tr("not known")
                                                         : QObject::tr("not known yet: no exception packet so far");
        } else if (running == ContextChange::kBetween) {
            say += QObject::tr("between two handlers (tail-chaining or returning)");
        } else {
            say += QObject::tr("thread mode since %1").arg(words(duration_text(t - core.change_time[*change])));
            // Who comes next, and who was last.
            std::size_t next = *change + 1;
            while (next < core.change_time.size() && core.change_running[next] >= ContextChange::kBetween) ++next;
            if (next < core.change_time.size() && core.change_running[next] != 0)
                say += QObject::tr(" · next: %1 in %2")
                           .arg(words(core.running_name(core.change_running[next])).toHtmlEscaped(),
                                words(duration_text(core.change_time[next] - t)));
        }
        if (has_tasks && !trail.gaps.touch(c, t, t)) {
            const QString of_tasks = tasks_at(trail, c, t);
            say += (nest.empty() || of_tasks.isEmpty() ? QString() : QStringLiteral(" · ")) + of_tasks;
        }
        for (const StepTrail& steps : trail.steps) {
            if (steps.core_index != c) continue;
            const bool said = !say.endsWith("</b> ");
            if (said && (t < steps.begin || t > steps.end)) continue;  // traced elsewhere
            say += (said ? QStringLiteral(" · ") : QString()) + stack_at(steps, t);
        }
        cores += say;
    }
    return cores.join(" &nbsp; ");
}

MomentStrip::MomentStrip(Session& session, Viewpoint& view, QWidget* parent)
    : QWidget(parent), session_(session), view_(view) {
    setAccessibleName(tr("Moment: what was going on at the cursor"));
    setAttribute(Qt::WA_StyledBackground);
    time_ = new QLabel;
    time_->setObjectName("moment_time");
    words_ = new QLabel;
    words_->setObjectName("moment_words");
    words_->setTextFormat(Qt::RichText);
    words_->setTextInteractionFlags(Qt::TextBrowserInteraction);
    words_->setMinimumWidth(50);
    words_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 4, 12, 4);
    row->setSpacing(22);
    row->addWidget(time_);
    row->addWidget(words_, 1);
    more_ = new QLabel(QStringLiteral("…"));
    more_->setObjectName("moment_more");
    row->addWidget(more_);
    more_->hide();
    connect(words_, &QLabel::linkActivated, this, [this](const QString& link) {
        const QStringList parts = link.split(':');
        if (parts.size() == 4 && parts[0] == "task")
            emit job_chosen(parts[1].toULongLong(), parts[2].toULongLong());
        else if (parts.size() == 4)
            emit instance_chosen(parts[1].toULongLong(), parts[2].toULongLong(), parts[3].toULongLong());
    });
    for (const auto signal : {&Session::opened, &Session::grew, &Session::finished})
        connect(&session, signal, this, &MomentStrip::renew);
    connect(&view, &Viewpoint::cursor_changed, this, &MomentStrip::renew);
    renew();
}

QString MomentStrip::text() const { return QTextDocumentFragment::fromHtml(words_->text()).toPlainText(); }

void MomentStrip::renew() {
    // The one dark strip in the light theme, and the one light strip at night: it is always found at once.
    const Theme& t = theme();
    const QColor back = t.night ? QColor("#E9E2D2") : QColor("#2B2A27"),
                 front = t.night ? QColor("#1D2124") : QColor("#F4EFE2");
    set_style(*this, QString("mt--app--MomentStrip { background: %2; } QLabel { color: %1; background: %2; }")
                         .arg(front.name(), back.name()));
    if (time_->font() != fixed_font(12, true)) time_->setFont(fixed_font(12, true));
    if (const QString time = words(moment_text(view_.cursor())); time_->text() != time) time_->setText(time);
    const auto trail = session_.trail();
    const QString sentence =
        trail ? moment_sentence(*session_.recording(), *trail, view_.cursor()) : tr("nothing is open");
    if (words_->text() != sentence) words_->setText(sentence);
    tell_of_more();
}

void MomentStrip::tell_of_more() {
    const QMargins m = layout()->contentsMargins();
    const int room = width() - m.left() - m.right() - time_->sizeHint().width() - layout()->spacing();
    const bool more = words_->sizeHint().width() > room;
    more_->setVisible(more);
    more_->setToolTip(more ? words_->text() : QString());
}

void MomentStrip::resizeEvent(QResizeEvent* e) {
    QWidget::resizeEvent(e);
    tell_of_more();
}

}  // namespace mt::app
