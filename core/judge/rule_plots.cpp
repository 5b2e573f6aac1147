#include "judge/rule_plots.h"

#include <optional>
#include <string_view>
#include <utility>

namespace mt {
namespace {

// Which of the lane's lengths a quantity is; nothing where a lane does not show it.
std::optional<std::size_t> length_of(const Rule& rule, std::string_view kind) {
    switch (rule.what) {
        case RuleWhat::response:
        case RuleWhat::duration:
        case RuleWhat::hold:
        case RuleWhat::depth:
            return 0;
        case RuleWhat::running:
            return 1;
        case RuleWhat::own:
            return kind == "interrupts" ? std::optional<std::size_t>(1) : std::nullopt;
        case RuleWhat::value:
            return rule.mask ? std::nullopt : std::optional<std::size_t>(0);
        default:
            return std::nullopt;
    }
}

std::string words_of(bool at_most, const std::string& limit, const std::string& of_all) {
    return (of_all.empty() ? "" : of_all + " ") + (at_most ? "at most " : "at least ") + limit;
}

}  // namespace

std::vector<LimitLine> limits_of_rule(const Trail& trail, const RuleOutcome& o) {
    std::vector<LimitLine> lines;
    const Rule& r = o.rule;
    std::optional<double> per_cycle;
    const auto add = [&](const std::optional<RuleLimit>& limit, bool at_most, const std::string& of_all) {
        if (!limit) return;
        double value = limit->value;
        if (limit->cycles) {
            if (!per_cycle) per_cycle = cycle_of(trail, r);
            if (*per_cycle == 0) return;
            value *= *per_cycle;
        }
        LimitLine line;
        line.value = value;
        line.at_most = at_most;
        line.of_all = !of_all.empty();
        line.kept = o.verdict != Verdict::broken;
        line.text = words_of(at_most, limit->text, of_all);
        lines.push_back(std::move(line));
    };
    add(r.min, false, "");
    add(r.max, true, "");
    add(r.mean_max, true, "mean");
    add(r.median_max, true, "median");
    add(r.p95_max, true, "P95");
    add(r.p99_max, true, "P99");
    return lines;
}

Series series_of_rule(const Trail& trail, const Rule& rule, const Progress* progress) {
    Series series;
    if (rule.what == RuleWhat::order || rule.what == RuleWhat::overlap || rule.what == RuleWhat::load ||
        rule.what == RuleWhat::coverage)
        return series;
    series.of_values = unit_of(rule.what) != RuleUnit::time;
    fill_series(series, [&](const EachDot& each) {
        (void)each_rule_instance(
            trail, rule,
            [&](const RuleInstance& i) { each({i.span.value_or(SpanRef{}), i.begin, i.value}); }, progress);
    });
    return series;
}

std::vector<LimitLine> limit_lines(const Trail& trail, const std::vector<RuleOutcome>& outcomes) {
    std::vector<LimitLine> all;
    for (std::size_t n = 0; n < outcomes.size(); ++n) {
        const RuleOutcome& o = outcomes[n];
        if (o.rule.of.empty() || !length_of(o.rule, "interrupts")) continue;
        const auto subject = subject_of(trail, o.rule, o.rule.of);
        if (!subject) continue;
        const auto length = length_of(o.rule, subject->kind->id());
        if (!length) continue;
        std::vector<std::uint64_t> activities{subject->activity};
        activities.insert(activities.end(), subject->more.begin(), subject->more.end());
        for (const LimitLine& limit : limits_of_rule(trail, o))
            for (const std::uint64_t activity : activities) {
                LimitLine line = limit;
                line.activity = activity;
                line.lane = subject->kind->lane_of(trail, activity);
                line.length = *length;
                line.outcome = n;
                if (!line.lane) continue;
                all.push_back(line);
                if (!o.rule.magnitude) continue;
                // Of the size alone: the same on the other side.
                const std::string same = words_of(line.at_most, "", ""), other = words_of(!line.at_most, "", "");
                line.text.replace(line.text.find(same), same.size(), other + "−");
                line.value = -line.value;
                line.at_most = !line.at_most;
                all.push_back(std::move(line));
            }
    }
    return all;
}

}  // namespace mt
