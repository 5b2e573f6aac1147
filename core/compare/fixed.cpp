#include "compare/fixed.h"

#include <algorithm>
#include <cmath>

#include "base/text.h"

namespace mt {
namespace {

constexpr double kSure = 0.05;  ///< chance that it did not come again by luck

struct Situation {
    std::string text;
    std::uint64_t times = 0;
    std::optional<Time> worst;
    bool told = false;
};

// A task asks for a lock that another has.
Situation waits_for(const Trail& trail, const std::string& task, const std::string& lock) {
    Situation s{task + " asks for " + lock + " while another has it", 0, std::nullopt, !trail.tasks.streams.empty()};
    for (const LockLane& l : trail.tasks.locks) {
        if (l.name != lock) continue;
        for (std::size_t i = 0; i < l.waits.size(); ++i) {
            const LockWait& w = l.waits[i];
            if (trail.tasks.task_name(w.task) != task) continue;
            ++s.times;
            if (w.whole()) s.worst = std::max(s.worst.value_or(Time{}), w.end - w.begin);
        }
    }
    return s;
}

// The instances of an activity by its name, of the same kind.
Situation instances_of(const Trail& trail, const LaneKind& kind, const std::string& name) {
    Situation s{"instances of " + name, 0, std::nullopt, kind.told(trail)};
    if (kind.id() == "tasks") s.text = "jobs of " + name;
    if (kind.id() == "interrupts") s.text = "executions of " + name;
    if (kind.id() == "functions") s.text = "calls of " + name;
    for (const LaneKind::Name& n : kind.names(trail)) {
        if (n.name != name) continue;
        const LaneId id = kind.lane_of(trail, n.index);
        const auto lane = id ? kind.lane(trail, id.index) : nullptr;
        for (std::size_t level = 0; lane != nullptr && level < lane->levels(); ++level)
            for (std::size_t i = 0; i < lane->size(level); ++i) {
                const SpanRef ref{id, static_cast<std::uint32_t>(level), i};
                if (!kind.lanes_are_activities() && kind.activity_of(trail, ref) != n.index) continue;
                ++s.times;
                const Span span = lane->span(level, i);
                if (span.whole() && span.end > span.begin && lane->shape() != Shape::line)
                    s.worst = std::max(s.worst.value_or(Time{}), lane->length(level, i, 0));
            }
        break;
    }
    return s;
}

Situation situation_of(const Trail& trail, const Finding& f) {
    if (const std::string lock = f.who(Role::lock); !lock.empty()) return waits_for(trail, f.who(), lock);
    if (f.kind == FindingKind::priority_inversion && f.with(Role::holder) != nullptr) return {};
    return f.lane.kind != nullptr ? instances_of(trail, *f.lane.kind, f.who()) : Situation();
}

// One recording may tell a fault by its exception, another by the task that raised it.
bool same_fault(const Finding& f, const Finding& g) {
    return f.kind == FindingKind::fault && g.kind == FindingKind::fault &&
           std::any_of(f.involved.begin(), f.involved.end(), [&](const Involved& who) { return g.names(who.name); });
}

}  // namespace

std::vector<Mended> what_is_mended(const Trail& before, const std::vector<Finding>& findings_before, const Trail& after,
                                   const std::vector<Finding>& findings_after) {
    std::vector<Mended> all;
    for (const Finding& f : findings_before) {
        if (f.lane.kind == nullptr || f.who().empty() || f.kind == FindingKind::gap) continue;
        const Situation was = situation_of(before, f), is = situation_of(after, f);
        if (was.text.empty()) continue;
        Mended m;
        m.title = f.title;
        m.kind = f.kind;
        m.situation = was.text;
        m.before = was.times;
        m.after = is.times;
        m.found_before = std::max<std::uint64_t>(1, f.alike);
        for (const Finding& g : findings_after)
            if (g.kind == f.kind && (g.who() == f.who() || same_fault(f, g))) m.found_after += std::max<std::uint64_t>(1, g.alike);
        if (is.worst) m.worst = duration_text(*is.worst);
        if (m.found_after > 0) {
            m.now = Mended::Now::still;
        } else if (!is.told) {
            m.now = Mended::Now::not_told;
        } else if (m.after == 0) {
            m.now = Mended::Now::untested;
        } else {
            // Once in so many: how likely is it that it stays away in those that came by luck alone?
            const double each = std::min(1.0, static_cast<double>(m.found_before) / static_cast<double>(std::max(m.before, m.found_before)));
            const double luck = each >= 1 ? 0 : std::pow(1 - each, static_cast<double>(m.after));
            m.now = luck < kSure ? Mended::Now::gone : Mended::Now::not_enough;
            if (m.now == Mended::Now::not_enough)
                m.needed = static_cast<std::uint64_t>(std::ceil(std::log(kSure) / std::log(1 - each)));
        }
        all.push_back(std::move(m));
    }
    return all;
}

std::string_view mended_name(Mended::Now now) {
    constexpr std::string_view kNames[] = {"gone", "still there", "not enough seen", "not put to the test", "not recorded"};
    return kNames[static_cast<std::size_t>(now)];
}

std::string mended_text(const Mended& m) {
    switch (m.now) {
        case Mended::Now::still:
            return m.title + ": still found, " + plural(m.found_after, "time", "times") +
                   (m.after >= m.found_after ? " in " + count_text(m.after) + " " + m.situation : "");
        case Mended::Now::gone:
            return m.title + ": not found again; " + m.situation + ": " + plural(m.after, "time", "times") +
                   (m.worst.empty() ? "" : ", within " + m.worst + " at the most");
        case Mended::Now::not_enough:
            return m.title + ": not found again, but it came " + plural(m.found_before, "time", "times") + " in " +
                   count_text(m.before) + " before and had " + plural(m.after, "chance", "chances") + " now (" + m.situation +
                   "); " + count_text(m.needed) + " are needed to say more";
        case Mended::Now::untested:
            return m.title + ": not put to the test: " + m.situation + " never came up";
        case Mended::Now::not_told:
            break;
    }
    return m.title + ": the recording after does not tell of it";
}

}  // namespace mt
