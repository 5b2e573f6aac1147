#include <algorithm>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/sentences.h"

// What belongs together is told in one finding.
namespace mt {
namespace {

bool same_in(Role role, const Finding& a, const Finding& b) {
    const Involved *one = a.with(role), *other = b.with(role);
    return one != nullptr && other != nullptr && one->name == other->name;
}

// By the same task, in the same function as far as samples say; or in the same function where no task is known.
bool masked_alike(const Finding& a, const Finding& b) {
    if (a.with(Role::masker) != nullptr || b.with(Role::masker) != nullptr)
        return same_in(Role::masker, a, b) && same_in(Role::function, a, b);
    return same_in(Role::function, a, b);
}

// Several interrupts that came late because of the same masking are one finding: the latest leads, the
// others are named in it.
void join_late(std::vector<Finding>& all) {
    for (std::size_t i = 0; i < all.size(); ++i) {
        const auto held_up = [](const Finding& f) {
            return f.kind == FindingKind::late_response && is_about_interrupt(f) &&
                   (f.with(Role::masker) != nullptr || f.with(Role::function) != nullptr);
        };
        if (!held_up(all[i])) continue;
        for (std::size_t k = i + 1; k < all.size(); ++k) {
            if (!held_up(all[k]) || all[k].core != all[i].core ||
                !(masked_alike(all[i], all[k]) || (all[k].begin <= all[i].end && all[i].begin <= all[k].end)))
                continue;
            if (all[k].end - all[k].begin > all[i].end - all[i].begin) std::swap(all[i], all[k]);
            all[i].fact("also", title_of(all[k]), all[k].alike > 1 ? count_text(all[k].alike) : std::string());
            all[i].involve(Role::also, all[k].involved[0].name, all[k].lane);
            all[i].severity = std::max(all[i].severity, all[k].severity);
            all[i].evidence.push_back({all[k].begin, title_of(all[k])});
            all.erase(all.begin() + static_cast<std::ptrdiff_t>(k--));
        }
    }
}

// Whether what had the core instead of one is what the other is about.
bool runs_instead(const Finding& effect, const Finding& cause) {
    const Involved *runner = effect.with(Role::runner), *subject = cause.with(Role::subject);
    return runner != nullptr && subject != nullptr && runner->name == subject->name;
}

void join_consequences(std::vector<Finding>& all) {
    const auto share_activity = [](const Finding& a, const Finding& b) {
        return std::any_of(a.involved.begin(), a.involved.end(), [&b](const Involved& x) { return b.names(x.name); });
    };
    // A queue is in trouble from when it begins to fill, which its first evidence says.
    const auto touch = [](const Finding& effect, const Finding& cause) {
        const bool queue = cause.kind == FindingKind::queue_overflow && !cause.evidence.empty();
        const Time begin = queue ? std::min(cause.begin, cause.evidence.front().time) : cause.begin;
        return effect.begin <= cause.end && begin <= effect.end;
    };
    // What may be only the effect of another.
    const auto is_effect = [&](const Finding& effect, const Finding& cause) {
        using Kind = FindingKind;
        const bool shared = share_activity(effect, cause), touching = touch(effect, cause);
        const bool of_interrupt = is_about_interrupt(effect);
        switch (effect.kind) {
            case Kind::late_response:
                // An interrupt in the middle of its own storm, or masked by a task that is in trouble itself.
                if (of_interrupt)
                    return touching &&
                           ((cause.kind == Kind::interrupt_storm && effect.lane == cause.lane) ||
                            (cause.kind == Kind::queue_overflow && effect.with(Role::masker) != nullptr && shared));
                if (const Involved* lock = cause.with(Role::lock);
                    cause.kind == Kind::priority_inversion && lock != nullptr && effect.names(lock->name))
                    return true;
                return touching && (cause.kind == Kind::priority_inversion || cause.kind == Kind::lock_convoy ||
                                    cause.kind == Kind::deadlock || cause.kind == Kind::starvation ||
                                    cause.kind == Kind::queue_overflow || cause.kind == Kind::duration_outlier ||
                                    (cause.kind == Kind::unguarded_overlap && shared) ||
                                    cause.kind == Kind::interrupt_storm || cause.kind == Kind::missed_activation);
            case Kind::missed_activation:
                if (of_interrupt)
                    return touching && ((cause.kind == Kind::late_response && is_about_interrupt(cause) && shared) ||
                                        (cause.kind == Kind::queue_overflow && shared) ||
                                        (cause.kind == Kind::interrupt_storm && effect.lane == cause.lane));
                return touching && shared && cause.kind == Kind::starvation;
            case Kind::overload:
                return touching && shared && cause.kind != Kind::late_response && cause.kind != Kind::gap;
            case Kind::duration_outlier:
                return effect.lane.kind == &tasks_kind() && touching && shared &&
                       (cause.kind == Kind::starvation || cause.kind == Kind::queue_overflow ||
                        cause.kind == Kind::lock_convoy || cause.kind == Kind::priority_inversion ||
                        cause.kind == Kind::unguarded_overlap ||
                        (cause.kind == Kind::late_response && is_about_interrupt(cause) && effect.alike == 1));
            case Kind::starvation:
                // By a reader that cannot keep up with its queue, or those that queue up at a lock.
                return touching && ((cause.kind == Kind::lock_convoy && shared) ||
                                    (cause.kind == Kind::queue_overflow && runs_instead(effect, cause)));
            case Kind::queue_overflow:
                // Its reader was held off by those that queue up at a lock, or starved.
                return touching && effect.with(Role::runner) != nullptr && shared &&
                       (cause.kind == Kind::lock_convoy || cause.kind == Kind::starvation);
            default:
                return false;
        }
    };
    for (std::size_t e = 0; e < all.size();) {
        std::size_t cause = all.size();
        for (std::size_t k = 0; k < all.size(); ++k)
            if (k != e && all[k].kind != all[e].kind && is_effect(all[e], all[k]) &&
                (cause == all.size() || all[k].severity > all[cause].severity))
                cause = k;
        if (cause == all.size()) {
            ++e;
            continue;
        }
        Finding& c = all[cause];
        if (c.evidence.size() < 40) c.evidence.push_back({all[e].begin, title_of(all[e])});
        if (all[e].kind == FindingKind::duration_outlier || all[e].kind == FindingKind::starvation)
            c.fact("also", title_of(all[e]));
        all.erase(all.begin() + static_cast<std::ptrdiff_t>(e));
        e = 0;
    }
    // One fault, told by the exception and by the operating system.
    for (std::size_t e = 0; e < all.size(); ++e) {
        if (all[e].kind != FindingKind::fault || all[e].lane.kind != &tasks_kind()) continue;
        const auto same = std::find_if(all.begin(), all.end(), [&](const Finding& f) {
            return f.kind == FindingKind::fault && is_about_interrupt(f) && f.core_index == all[e].core_index &&
                   std::llabs((f.begin - all[e].begin).ps) < Time::from_ms(1).ps;
        });
        if (same == all.end()) continue;
        const std::string who = all[e].involved.front().name;
        same->fact("reported", all[e].evidence.back().what);
        same->involve(Role::task, who, all[e].lane);
        all.erase(all.begin() + static_cast<std::ptrdiff_t>(e--));
    }
    // The road to a fault: what went wrong before with the same task.
    for (auto& f : all) {
        if (f.kind != FindingKind::fault || (f.lane.kind != &tasks_kind() && f.with(Role::task) == nullptr)) continue;
        const Finding* before = nullptr;
        for (const auto& other : all)
            if (&other != &f && other.end <= f.begin && !is_about_interrupt(other) && share_activity(f, other) &&
                other.kind != FindingKind::gap && other.kind != FindingKind::late_response) {
                f.evidence.push_back({other.begin, title_of(other)});
                if (before == nullptr || other.severity > before->severity ||
                    (other.severity == before->severity && other.begin > before->begin))
                    before = &other;
            }
        if (before == nullptr) continue;
        f.fact("trouble_before", title_of(*before));
        f.fact("earlier_by", f.begin - before->begin);
    }
}

}  // namespace

void join_findings(const Trail& trail, std::vector<Finding>& all) {
    join_late(all);
    if (trail.tasks.present()) join_consequences(all);
}

}  // namespace mt
