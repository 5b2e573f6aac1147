#include <QPainter>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "lanes/geometry.h"
#include "lanes/lanes.h"
#include "lanes/painters.h"
#include "look/html.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"
#include "replay/step_search.h"

// What is known of calls and of thread mode only where the trace is decoded again: functions that were put into others,
// samples of the program counter, the next call that went another way.
namespace mt::app {
namespace {}  // namespace

// Program-counter samples in thread mode, as far as they are decoded and have room: who it was that ran.
void Lanes::paint_samples(QPainter& p, const Row& row) {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    if (view_.to() - view_.from() > Time::from_ms(20)) return;
    p.setFont(text_font(10));
    const double middle = row.top + row.height / 2;
    double free_from = plot_left();
    const QColor ink = theme().night ? QColor("#1D2124") : QColor("#FFFFFF");
    for (std::size_t s = 0; s < trail->streams.size(); ++s) {
        if (recording->streams[s].core != row.lane->core() || trail->streams[s].checkpoints.empty()) continue;
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
                    trail->cores[row.lane->core()].running_at(packet.latest) != 0)
                    continue;
                const double x = x_of(packet.latest);
                p.setPen(QPen(ink, 1.2));
                p.drawLine(QPointF(x, middle - 5), QPointF(x, middle + 5));
                const std::string name =
                    packet.packet.kind == ItmKind::sleep ? "asleep" : event_text(*recording, s, packet.packet).name;
                const QString label = name.empty() ? words(hex_text(packet.packet.value)) : words(name);
                const double w = p.fontMetrics().horizontalAdvance(label);
                // Only as far as thread mode reaches unbroken.
                const std::size_t next = trail->cores[row.lane->core()].change_time.upper_bound(packet.latest);
                const double until = next < trail->cores[row.lane->core()].change_time.size()
                                         ? x_of(trail->cores[row.lane->core()].change_time[next])
                                         : width();
                if (x + 4 < free_from || x + w + 8 > std::min<double>(until + 4, width())) continue;
                p.drawText(QRectF(x + 4, middle - 8, w + 2, 16), Qt::AlignVCenter, label);
                free_from = x + w + 14;
            }
        }
    }
}

// What is inlined stands as a plate within the call that holds it: it is a level of the stack, but no call.
void Lanes::paint_inlined(QPainter& p, const Row& row) {
    const auto trail = document_.trail();
    const std::size_t stream = row.id.index;
    const StepTrail& steps = trail->steps[stream];
    if (too_short(view_, width() - plot_left(), *row.lane)) return;
    const auto stays = inlined_.get(document_.recording(), trail, stream, view_.from(), view_.to());
    if (!stays) return;
    const Theme& t = theme();
    p.setFont(text_font(10));
    const QFontMetrics metrics = p.fontMetrics();
    auto i = std::partition_point(stays->begin(), stays->end(),
                                  [this](const InlinedStay& s) { return s.end < view_.from(); });
    for (; i != stays->end() && i->begin <= view_.to(); ++i) {
        const double top = row.top + kCallsPad + i->level * kLevel;
        if (top + kLevel > row.top + row.height) continue;
        const double left = std::max(x_of(i->begin), plot_left()),
                     right = std::min(x_of(i->end), static_cast<double>(width()));
        if (right - left < 2) continue;
        const QString name = words((*steps.inlines)[i->inlined].name);
        QColor ink = t.night ? QColor("#F2F0EA") : QColor("#1D2124");
        const int wide = metrics.horizontalAdvance(name);
        if (wide + 8 > right - left) {  // no room for its name: a mark at the foot of the bar
            ink.setAlpha(130);
            p.fillRect(QRectF(left, top + kLevel - 4, right - left - 0.5, 2), ink);
            continue;
        }
        const QRectF plate(left + 0.5, top + 1.5, right - left - 1, kLevel - 4);
        p.fillRect(plate, t.panel);
        p.setPen(QPen(ink, 0.8));
        p.setBrush(Qt::NoBrush);
        p.drawRect(plate);
        p.drawText(plate.adjusted(3, 0, -3, 0), Qt::AlignVCenter | Qt::AlignLeft, name);
    }
}

QString Lanes::inlined_at(const SpanRef& call, Time t) const {
    const StepTrail& steps = document_.trail()->steps[call.lane.index];
    const auto stays =
        inlined_.get(document_.recording(), document_.trail(), call.lane.index, view_.from(), view_.to());
    if (!stays || !steps.inlines) return {};
    for (const InlinedStay& stay : *stays) {
        if (stay.level != call.level || stay.begin > t || stay.end <= t) continue;
        const Inlined& inlined = (*steps.inlines)[stay.inlined];
        return tr("<br>here in %1, inlined at %2:%3")
            .arg(escaped(words(inlined.name)), escaped(words(inlined.file).section('/', -1)))
            .arg(inlined.line);
    }
    return {};
}

// Pages that show functions follow the selected call.
void Lanes::tell_call() {
    const auto& span = view_.selection().span;
    if (!span || span->lane.kind != &functions_kind() || span == told_call_ || book_->find(*span) == nullptr) return;
    told_call_ = span;
    const StepTrail& t = document_.trail()->steps[span->lane.index];
    emit call_selected(t.core_index, static_cast<unsigned>(t.levels[span->level][span->index].function));
}

void Lanes::go_to_next_difference() {
    const auto span = view_.selection().span;
    if (!span || span->lane.kind != &functions_kind() || book_->find(*span) == nullptr) {
        emit missed(tr("Select a call first: the next one that went another way is looked for from there."));
        return;
    }
    if (comparing_) comparing_->cancel();
    comparing_ = std::make_shared<Progress>();
    jobs_.add(
        [this, call = *span, progress = comparing_, trail = document_.trail(), recording = document_.recording()] {
            const StepTrail& t = trail->steps[call.lane.index];
            const auto found = next_different_call(*recording, t, call.level, call.index, *progress);
            const std::string name =
                (*t.functions)[static_cast<std::uint32_t>(t.levels[call.level][call.index].function)].name;
            QMetaObject::invokeMethod(
                this,
                [this, call, found, name, progress] {
                    if (progress != comparing_) return;
                    comparing_.reset();
                    if (document_.recording() == nullptr) return;
                    if (found)
                        navigator_.go_to({call.lane, call.level, *found});
                    else
                        emit missed(tr("All later calls of %1 at this depth went the same way.").arg(words(name)));
                },
                Qt::QueuedConnection);
        });
}

}  // namespace mt::app
