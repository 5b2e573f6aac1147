#include <QCursor>
#include <QPainter>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "lanes.h"
#include "lanes_geometry.h"
#include "replay/step_search.h"
#include "shapes.h"
#include "theme.h"

// The call stack in the lanes: one layer a depth, the outermost on top, each call named where there is room.
namespace mt::app {
namespace {

QString words(const std::string& s) { return QString::fromStdString(s); }
constexpr std::size_t kMostSpans = 1500;

// Functions of one file share a hue: the colours of a geological map, none of which means a state elsewhere.
QColor colour_of(const FunctionTable& functions, const Function& f) {
    static const QColor by_day[] = {"#7F9C8A", "#C2A56B", "#8A9BB0", "#B08B78",
                                    "#A3AB6A", "#86ABA8", "#AC93AB", "#B9AE94"};
    static const QColor by_night[] = {"#5F7D6B", "#8F774A", "#687A90", "#866A5C",
                                      "#79824C", "#6B8583", "#826F82", "#8B816B"};
    if (f.file.empty()) return theme().night ? QColor("#66696B") : QColor("#A9ABA6");
    return (theme().night ? by_night : by_day)[functions.file_index(f) % 8];
}

QColor pale(const QColor& c) {
    const QColor& under = theme().panel;
    const auto mix = [](int a, int b) { return (a * 2 + b * 3) / 5; };
    return {mix(c.red(), under.red()), mix(c.green(), under.green()), mix(c.blue(), under.blue())};
}

}  // namespace

const StepTrail* Lanes::steps_of(std::size_t core) const {
    const auto trail = session_.trail();
    if (!trail) return nullptr;
    for (const StepTrail& t : trail->steps)
        if (t.core_index == core) return &t;
    return nullptr;
}

std::size_t Lanes::depth_in_view(std::size_t core) const {
    const StepTrail* t = steps_of(core);
    if (t == nullptr) return 0;
    std::size_t depth = 0;
    for (std::size_t level = 0; level < t->levels.size() && level < kMostLevels; ++level) {
        const auto [first, last] = t->levels[level].touching(view_.from(), view_.to());
        if (first != last) depth = level + 1;
    }
    return depth;
}

std::optional<Lanes::Call> Lanes::call_at(const Row& row, const QPointF& at) const {
    const StepTrail* t = steps_of(row.core);
    if (t == nullptr || row.lane != kCalls || at.x() < plot_left()) return std::nullopt;
    const double y = at.y() - row.top - kCallsPad;
    if (y < 0) return std::nullopt;
    const auto level = static_cast<std::size_t>(y / kLevel);
    if (level >= t->levels.size()) return std::nullopt;
    const auto [first, last] = t->levels[level].touching(time_at(at.x() - 1), time_at(at.x() + 1));
    if (first == last) return std::nullopt;
    return Call{row.core, level, t->levels[level].longest(first, last)};
}

QRectF Lanes::call_rect(const Call& call) const {
    const StepTrail* t = steps_of(call.core);
    for (const Row& r : rows_)
        if (t != nullptr && r.core == call.core && r.lane == kCalls && call.level < t->levels.size()) {
            const CallSpan& s = t->levels[call.level][call.index];
            const double left = x_of(s.begin);
            return {left, r.top + kCallsPad + static_cast<double>(call.level) * kLevel,
                    std::max(1.0, x_of(s.end()) - left), kLevel - 1};
        }
    return {};
}

void Lanes::paint_calls(QPainter& p, const Row& row) {
    const StepTrail* t = steps_of(row.core);
    if (t == nullptr) return;
    const Theme& th = theme();
    if (t->levels.empty()) {
        p.setFont(text_font(11));
        p.setPen(th.second);
        p.drawText(QRectF(plot_left() + 8, row.top, width(), row.height), Qt::AlignVCenter | Qt::AlignLeft,
                   session_.busy() ? tr("decoding: calls come as they end") : tr("no instruction was executed"));
        return;
    }
    const QColor ink = th.night ? QColor("#F2F0EA") : QColor("#1D2124");
    if (too_short(*t) && t->end >= view_.from() && t->begin <= view_.to()) {
        // A mark at the place, and what lies there.
        const QString text =
            tr("traced for %1 from %2").arg(words(duration_text(t->end - t->begin)), words(moment_text(t->begin)));
        p.setFont(text_font(11));
        const double x = x_of(t->begin), wide = p.fontMetrics().horizontalAdvance(text) + 10;
        p.fillRect(QRectF(x - 1, row.top + kCallsPad, std::max(3.0, x_of(t->end) - x), row.height - 2 * kCallsPad),
                   colour_of(*t->functions, (*t->functions)[static_cast<std::uint32_t>(t->levels[0][0].function)]));
        p.setPen(th.second);
        const bool left = x - wide > plot_left();
        p.drawText(QRectF(left ? x - wide : x + 8, row.top, wide, row.height), Qt::AlignVCenter | Qt::AlignLeft, text);
        return;
    }
    p.setFont(text_font(10));
    const QFontMetrics metrics = p.fontMetrics();
    const double right_edge = width();
    for (std::size_t level = 0; level < t->levels.size(); ++level) {
        const double top = row.top + kCallsPad + static_cast<double>(level) * kLevel;
        if (top > row.top + row.height - kLevel + 2 || top > height()) break;
        if (top + kLevel < kAxis) continue;
        const CallLevel& calls = t->levels[level];
        const auto [first, last] = calls.touching(view_.from(), view_.to());
        const auto draw = [&](const CallSpan& s, double left, double right, bool faint) {
            const Function& f = (*t->functions)[static_cast<std::uint32_t>(s.function)];
            const bool handler = (s.flags & CallFrame::kHandler) != 0;
            const QRectF bar(left, top, std::max(1.0, right - left), kLevel - 1);
            const QColor plain = handler ? th.interrupt : colour_of(*t->functions, f),
                         colour = faint ? pale(plain) : plain;
            if (handler && bar.width() > 5 && !faint)
                draw_handler(p, bar, colour);
            else
                p.fillRect(bar, colour);
            if (bar.width() > 6 && (s.flags & CallFrame::kCutBegin) != 0 && left > plot_left())
                draw_torn_edge(p, bar.left(), bar.top(), bar.bottom(), true);
            if (bar.width() > 6 && (s.flags & CallFrame::kCutEnd) != 0 && right < right_edge)
                draw_torn_edge(p, bar.right(), bar.top(), bar.bottom(), false);
            const double from = std::max(bar.left(), plot_left()) + 4, to = std::min(bar.right(), right_edge) - 3;
            if (to - from < 24) return;
            p.setPen(handler && !faint ? QColor("#FFFFFF") : ink);
            const QString name = metrics.elidedText(words(f.name), Qt::ElideRight, static_cast<int>(to - from));
            if (name.size() > 2)
                p.drawText(QRectF(from, top, to - from, kLevel - 1), Qt::AlignVCenter | Qt::AlignLeft, name);
        };
        if (last - first <= kMostSpans) {
            double gap_right = -1;  // neighbours keep a pixel between them where both are wide
            for (std::size_t i = first; i < last; ++i) {
                const CallSpan& s = calls[i];
                double left = std::max(x_of(s.begin), plot_left() - 20);
                const double right = std::min(x_of(s.end()), right_edge + 20);
                if (left <= gap_right + 0.5 && right - left > 3) left += 1;
                draw(s, left, right, right - left < 0.5);
                gap_right = right;
            }
            continue;
        }
        // Too many: each pixel shows the longest call in it, pale if that fills less than half of it; neighbours of the
        // same function become one bar.
        const int pixels = static_cast<int>(right_edge - plot_left());
        std::optional<CallSpan> run;
        int run_from = 0;
        bool run_faint = false;
        const auto flush = [&](int until) {
            if (run) draw(*run, plot_left() + run_from, plot_left() + until, run_faint);
            run.reset();
        };
        for (int px = 0; px < pixels; ++px) {
            const Time a = time_at(plot_left() + px), b = time_at(plot_left() + px + 1);
            const auto [i, k] = calls.touching(a, b);
            if (i == k) {
                flush(px);
                continue;
            }
            CallSpan s = calls[calls.longest(i, k)];
            const bool faint = 2 * (std::min(s.end(), b) - std::max(s.begin, a)).ps < (b - a).ps;
            s.flags = s.flags & CallFrame::kHandler;
            if (run && run->function == s.function && run_faint == faint) continue;
            flush(px);
            run = s;
            run_from = px;
            run_faint = faint;
        }
        flush(pixels);
    }
    paint_inlined(p, row, *t);
    if (call_ && call_->core == row.core && call_->level < t->levels.size() &&
        call_->index < t->levels[call_->level].size()) {
        p.setPen(QPen(th.text, 1.6));
        p.setBrush(Qt::NoBrush);
        p.drawRect(call_rect(*call_).adjusted(-1, -1, 1, 1));
    }
}

// What is inlined stands as a plate within the call that holds it: it is a level of the stack, but no call.
void Lanes::paint_inlined(QPainter& p, const Row& row, const StepTrail& steps) {
    const auto trail = session_.trail();
    const auto stream = static_cast<std::size_t>(&steps - trail->steps.data());
    const auto stays = inlined_.get(session_.recording(), trail, stream, view_.from(), view_.to());
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

QString Lanes::describe_call(const Call& call) {
    const StepTrail& t = *steps_of(call.core);
    const CallSpan& s = t.levels[call.level][call.index];
    const Function& f = (*t.functions)[static_cast<std::uint32_t>(s.function)];
    const FunctionTally& tally = t.tallies[static_cast<std::size_t>(s.function)];
    QString text = tr("<b>%1</b>%2<br>entered %3, instruction %4<br>%5 %6, depth %7")
                       .arg(words(f.name).toHtmlEscaped(),
                            f.file.empty() ? QString() : tr(" · %1:%2").arg(words(f.file).toHtmlEscaped()).arg(f.line),
                            words(moment_text(s.begin)), words(count_text(s.step)),
                            t.clock == StepClock::none ? tr("instructions as cycles:") : tr("duration"),
                            words(duration_text(s.length)))
                       .arg(call.level + 1);
    text += tr("<br>of %1 calls").arg(words(count_text(tally.calls + tally.left_out)));
    if (tally.calls > 0)
        text +=
            tr(": least %1, greatest %2").arg(words(duration_text(tally.least)), words(duration_text(tally.greatest)));
    const auto stays =
        inlined_.get(session_.recording(), session_.trail(),
                     static_cast<std::size_t>(&t - session_.trail()->steps.data()), view_.from(), view_.to());
    if (stays && t.inlines) {
        const Time here = time_at(mapFromGlobal(QCursor::pos()).x());
        for (const InlinedStay& stay : *stays) {
            if (stay.level != call.level || stay.begin > here || stay.end <= here) continue;
            const Inlined& inlined = (*t.inlines)[stay.inlined];
            text += tr("<br>here in %1, inlined at %2:%3")
                        .arg(words(inlined.name).toHtmlEscaped(), words(inlined.file).section('/', -1).toHtmlEscaped())
                        .arg(inlined.line);
            break;
        }
    }
    if ((s.flags & CallFrame::kHandler) != 0) text += tr("<br>entered by an exception");
    if ((s.flags & CallFrame::kTail) != 0) text += tr("<br>entered by a jump in place of its caller");
    if ((s.flags & CallFrame::kUnwound) != 0) text += tr("<br>left without a return of its own");
    if ((s.flags & CallFrame::kContinued) != 0) text += tr("<br>a part: the stack was switched meanwhile");
    if ((s.flags & CallFrame::kCutBegin) != 0) text += tr("<br>its entry was not seen");
    if ((s.flags & CallFrame::kCutEnd) != 0) text += tr("<br>its end was not seen");
    return text;
}

void Lanes::select_call(std::optional<Call> call) {
    call_ = call;
    if (call_) {
        view_.select({});
        const StepTrail& t = *steps_of(call_->core);
        emit call_selected(call_->core, static_cast<unsigned>(t.levels[call_->level][call_->index].function));
    }
    update();
}

void Lanes::go_to_call(const Call& call) {
    const StepTrail* t = steps_of(call.core);
    if (t == nullptr || call.level >= t->levels.size() || call.index >= t->levels[call.level].size()) return;
    const CallSpan& s = t->levels[call.level][call.index];
    const Time room = std::max(Time{s.length.ps / 8}, Time{20'000});
    reveal_call_ = true;
    select_call(call);
    view_.go_to(s.begin - room, s.end() + room, s.begin);
    reveal_call_ = true;  // also where the window was there already
    lay_out();
    update();
}

// The next call of the same function, wherever on the stack; false if there is none.
bool Lanes::step_call(int direction) {
    if (!call_) return false;
    const StepTrail* t = steps_of(call_->core);
    if (t == nullptr) return false;
    const CallSpan now = t->levels[call_->level][call_->index];
    std::optional<Call> best;
    std::uint64_t best_step = 0;
    for (std::size_t level = 0; level < t->levels.size(); ++level) {
        const CallLevel& calls = t->levels[level];
        std::size_t i = calls.touching(now.begin, now.begin).first;
        if (direction > 0) {
            for (; i < calls.size(); ++i) {
                if (best && calls[i].step >= best_step) break;
                if (calls[i].step > now.step && calls[i].function == now.function) {
                    best = Call{call_->core, level, i};
                    best_step = calls[i].step;
                    break;
                }
            }
        } else {
            i = std::min(calls.size(), i + 2);
            while (i-- > 0) {
                if (best && calls[i].step <= best_step) break;
                if (calls[i].step < now.step && calls[i].function == now.function) {
                    best = Call{call_->core, level, i};
                    best_step = calls[i].step;
                    break;
                }
            }
        }
    }
    if (!best) return true;
    select_call(best);
    const CallSpan& s = t->levels[best->level][best->index];
    const Time half{(view_.to() - view_.from()).ps / 2};
    if (s.begin < view_.from() || s.end() > view_.to())
        view_.go_to(s.begin - half, s.begin + half, s.begin);
    else
        view_.set_cursor(s.begin);
    return true;
}

// To the caller (-1), or to the first callee (1).
bool Lanes::step_depth(int direction) {
    if (!call_) return false;
    const StepTrail* t = steps_of(call_->core);
    if (t == nullptr || (direction < 0 && call_->level == 0)) return true;
    const std::size_t level = direction < 0 ? call_->level - 1 : call_->level + 1;
    if (level >= t->levels.size()) return true;
    const CallSpan now = t->levels[call_->level][call_->index];
    const CallLevel& calls = t->levels[level];
    auto [i, last] = calls.touching(now.begin, now.end() + Time{1});
    if (direction < 0) {
        while (i < last && calls[i].end() < now.end()) ++i;
    } else {
        while (i < last && calls[i].step < now.step) ++i;
    }
    if (i >= last) return true;
    select_call(Call{call_->core, level, i});
    view_.set_cursor(calls[i].begin);
    return true;
}

bool Lanes::go_to_longest_call() {
    if (!call_) return false;
    const StepTrail* t = steps_of(call_->core);
    const auto function = t->levels[call_->level][call_->index].function;
    const FunctionTally& tally = t->tallies[static_cast<std::size_t>(function)];
    if (tally.calls > 0) go_to_call({call_->core, tally.longest.level, static_cast<std::size_t>(tally.longest.index)});
    return true;
}

void Lanes::go_to_next_difference() {
    const StepTrail* t = call_ ? steps_of(call_->core) : nullptr;
    if (t == nullptr) {
        emit missed(tr("Select a call first: the next one that went another way is looked for from there."));
        return;
    }
    if (comparing_) comparing_->cancel();
    comparing_ = std::make_shared<Progress>();
    jobs_.add(
        [this, call = *call_, progress = comparing_, trail = session_.trail(), recording = session_.recording(), t] {
            const auto found = next_different_call(*recording, *t, call.level, call.index, *progress);
            QMetaObject::invokeMethod(
                this,
                [this, call, found, progress, trail, t] {
                    if (progress != comparing_) return;
                    comparing_.reset();
                    if (session_.recording() == nullptr || steps_of(call.core) == nullptr) return;
                    const auto name =
                        (*t->functions)[static_cast<std::uint32_t>(t->levels[call.level][call.index].function)].name;
                    if (found)
                        go_to_call({call.core, call.level, *found});
                    else
                        emit missed(tr("All later calls of %1 at this depth went the same way.").arg(words(name)));
                },
                Qt::QueuedConnection);
        });
}

}  // namespace mt::app
