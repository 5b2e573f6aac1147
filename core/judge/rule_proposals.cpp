#include "judge/rule_proposals.h"

#include <algorithm>
#include <cmath>
#include <sstream>

#include "judge/rule_check.h"

namespace mt {
namespace {

constexpr std::uint64_t kFewest = 10;

// Looser by the margin, to two digits: up for a greatest, down for a least.
double loosened(double value, double margin, bool up) {
    const double wide = up ? value * (1 + margin) : value * (1 - margin);
    if (!(wide > 0)) return 0;
    const double digit = std::pow(10, std::floor(std::log10(wide)) - 1);
    return (up ? std::ceil(wide / digit) : std::floor(wide / digit)) * digit;
}

RuleLimit in_time(double ps) {
    constexpr std::pair<const char*, double> kUnits[] = {{"s", 1e12}, {"ms", 1e9}, {"us", 1e6}, {"ns", 1e3}};
    for (const auto& [unit, size] : kUnits)
        if (ps >= size || std::string_view(unit) == "ns") {
            std::ostringstream s;
            s.precision(6);
            s << ps / size << " " << unit;
            return *parse_limit(s.str(), RuleUnit::time);
        }
    return {};
}
RuleLimit in_number(double v) {
    std::ostringstream s;
    s << std::ceil(v);
    return *parse_limit(s.str(), RuleUnit::plain);
}

}  // namespace

std::vector<Rule> propose_rules(const Recording& recording, const Trail& trail, double margin) {
    std::vector<Rule> all;
    RulesFile none;
    const auto propose = [&](const std::string& of, const std::string& core, RuleWhat what) {
        Rule r;
        r.of = of;
        r.core = core;
        r.what = what;
        r.name = (core.empty() ? "" : core + ": ") + of + " " + std::string(rule_what_name(what));
        if (std::any_of(all.begin(), all.end(), [&](const Rule& o) { return o.name == r.name; })) return;
        const auto seen = judge_rule(recording, trail, none, r);
        if (!seen || seen->checked < kFewest || !seen->least || !seen->greatest || *seen->greatest <= 0) return;
        const bool time = unit_of(what) == RuleUnit::time;
        const double most = loosened(*seen->greatest, margin, true);
        r.max = time ? in_time(most) : in_number(most);
        if (what == RuleWhat::period)
            if (const double least = loosened(*seen->least, margin, false); least > 0) r.min = in_time(least);
        all.push_back(std::move(r));
    };
    for (const TaskLane& t : trail.tasks.tasks) {
        if (t.idle || (t.core < trail.tasks.cores.size() && trail.tasks.cores[t.core].only_switches)) continue;
        propose(t.name, "", RuleWhat::response);
        propose(t.name, "", RuleWhat::period);
    }
    for (const CoreTrail& core : trail.cores) {
        for (const ExceptionLane& lane : core.lanes) {
            const bool two = std::count_if(trail.cores.begin(), trail.cores.end(), [&](const CoreTrail& c) {
                                 return std::any_of(c.lanes.begin(), c.lanes.end(), [&](const ExceptionLane& l) { return l.name() == lane.name(); });
                             }) > 1;
            propose(lane.name(), two ? core.name : "", RuleWhat::duration);
            propose(lane.name(), two ? core.name : "", RuleWhat::period);
        }
    }
    for (const LockLane& lock : trail.tasks.locks) propose(lock.name, "", RuleWhat::hold);
    for (const QueueLane& queue : trail.tasks.queues) propose(queue.name, "", RuleWhat::depth);
    return all;
}

}  // namespace mt
