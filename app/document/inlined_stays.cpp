#include "document/inlined_stays.h"

#include <QMetaObject>

#include <algorithm>

#include "model/even_scale.h"
#include "replay/step_window.h"

namespace mt::app {
namespace {

InlinedStays::Stays decode(const Recording& recording, const StepTrail& trail, Time from, Time to) {
    InlinedStays::Stays stays;
    const Code& code = *trail.code;
    const InlineTable& inlines = *trail.inlines;
    const std::uint64_t first = step_at(recording, trail, from);
    std::uint64_t looked_at = 0;
    each_step_piece(recording, trail, first, [&](const StepPiece& p) {
        if (p.begin > to || looked_at > 4 * InlinedStays::kMostSteps) return false;
        looked_at += p.run.count;
        std::uint32_t slot = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count; ++i, slot = code.next(slot)) {
            const std::uint32_t in = inlines.at(slot);
            if (in == InlineTable::kNone || p.depth == 0) continue;
            const auto at = [&](std::uint32_t n) {
                return Time{p.begin.ps +
                            static_cast<std::int64_t>(static_cast<__int128>((p.end - p.begin).ps) * n / p.run.count)};
            };
            const auto level = static_cast<std::uint16_t>(p.depth - 1);
            if (!stays.empty() && stays.back().inlined == in && stays.back().level == level &&
                stays.back().end >= at(i))
                stays.back().end = at(i + 1);
            else
                stays.push_back({at(i), at(i + 1), in, level});
        }
        return true;
    });
    return stays;
}

}  // namespace

std::uint64_t steps_between(const StepTrail& trail, Time from, Time to) {
    return static_cast<std::uint64_t>(std::max(0.0, steps_by(trail, to) - steps_by(trail, from)));
}

InlinedStays::InlinedStays(QObject* parent) : QObject(parent) {}
InlinedStays::~InlinedStays() { jobs_.clear(); }

std::shared_ptr<const InlinedStays::Stays> InlinedStays::get(const std::shared_ptr<const Recording>& recording,
                                                             const std::shared_ptr<const Trail>& trail,
                                                             std::size_t stream, Time from, Time to) {
    const StepTrail& steps = trail->steps[stream];
    if (!steps.inlines || steps.inlines->size() == 0 || !trail->complete) return nullptr;
    if (windows_.size() <= stream) windows_.resize(stream + 1);
    Window& w = windows_[stream];
    if (w.trail == trail.get() && w.from <= from && to <= w.to) return w.stays;
    if (steps_between(steps, from, to) > kMostSteps) return nullptr;
    // A little more than is seen, so that moving along finds it there.
    const Time room{(to - from).ps / 2};
    w = {trail.get(), std::max(Time{}, from - room), to + room, nullptr};
    jobs_.add(
        [this, recording, trail, stream, from = w.from, to = w.to] {
            auto stays = std::make_shared<const Stays>(decode(*recording, trail->steps[stream], from, to));
            QMetaObject::invokeMethod(
                this,
                [this, stays, stream, from, to, key = trail.get()] {
                    Window& window = windows_[stream];
                    if (window.trail != key || window.from != from || window.to != to) return;
                    window.stays = stays;
                    emit arrived();
                },
                Qt::QueuedConnection);
        },
        true);
    return nullptr;
}

}  // namespace mt::app
