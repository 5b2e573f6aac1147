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
    s.precision(6);
    s << v;
    return *parse_limit(s.str(), RuleUnit::plain);
}

// A range of values, by a part of the greatest size that was seen wider on either side.
void propose_range(Rule& rule, double least, double greatest, double margin) {
    const double room = margin * std::max(std::fabs(least), std::fabs(greatest));
    const double digit = room > 0 ? std::pow(10, std::floor(std::log10(room))) : 1;
    rule.min = in_number(std::floor((least - room) / digit) * digit);
    rule.max = in_number(std::ceil((greatest + room) / digit) * digit);
}

}  // namespace

Result<LimitProposal> propose_limit(const Recording& recording, const Trail& trail, const std::string& of,
                                    const std::string& core, RuleWhat what, double margin,
                                    const Progress* progress) {
    LimitProposal p;
    p.rule.of = of;
    p.rule.core = core;
    p.rule.what = what;
    p.rule.name = (core.empty() ? "" : core + ": ") + of + " " + std::string(rule_what_name(what));
    const auto seen = judge_rule(recording, trail, {}, p.rule, progress);
    if (!seen) return tl::make_unexpected(seen.error());
    p.count = seen->checked;
    p.least = seen->least;
    p.greatest = seen->greatest;
    if (!p.least || !p.greatest) return p;
    if (what == RuleWhat::value) {
        propose_range(p.rule, *p.least, *p.greatest, margin);
        return p;
    }
    const bool time = unit_of(what) == RuleUnit::time;
    const double most = loosened(*p.greatest, margin, true);
    p.rule.max = time ? in_time(most) : in_number(std::ceil(most));
    if (what == RuleWhat::period)
        if (const double least = loosened(*p.least, margin, false); least > 0) p.rule.min = in_time(least);
    return p;
}

std::vector<Rule> propose_rules(const Recording& recording, const Trail& trail, double margin) {
    std::vector<Rule> all;
    const auto propose = [&](const std::string& of, const std::string& core, RuleWhat what) {
        auto p = propose_limit(recording, trail, of, core, what, margin);
        if (!p || p->count < kFewest || !p->greatest || *p->greatest <= 0) return;
        if (std::any_of(all.begin(), all.end(), [&](const Rule& o) { return o.name == p->rule.name; })) return;
        all.push_back(std::move(p->rule));
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
