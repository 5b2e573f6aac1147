#include "judge/rule_check.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "base/near_names.h"
#include "base/text.h"
#include "judge/load_windows.h"
#include "measure/coverage.h"
#include "measure/moments.h"
#include "measure/nearest_rank.h"
#include "measure/tasks.h"

namespace mt {
namespace {

// Times are rounded to a picosecond each: a difference of two meets a limit to within one.
constexpr double kRounding = 1;

// Gathers what is told into an outcome.
class Tally {
  public:
    Tally(RuleOutcome& out, double per_cycle) : out_(out) {
        const Rule& r = out.rule;
        const auto limit = [&](const std::optional<RuleLimit>& l) {
            return l ? std::optional(l->cycles ? l->value * per_cycle : l->value) : std::nullopt;
        };
        least_ = limit(r.min);
        most_ = limit(r.max);
        keep_all_ = r.mean_max || r.median_max || r.p95_max || r.p99_max;
        slack_ = unit_of(r.what) == RuleUnit::time ? kRounding : 0;
        for (const auto& [name, l] : {std::pair("mean", limit(r.mean_max)), std::pair("median", limit(r.median_max)),
                                      std::pair("P95", limit(r.p95_max)), std::pair("P99", limit(r.p99_max))})
            if (l) statistics_.emplace_back(name, *l);
    }

    void take(const RuleInstance& i) {
        ++out_.checked;
        out_.least = std::min(out_.least.value_or(i.value), i.value);
        out_.greatest = std::max(out_.greatest.value_or(i.value), i.value);
        if (keep_all_) all_.push_back(i.value);
        if (!least_ && !most_) return;
        const auto beyond = [&](double v) {
            return (most_ && v > *most_ + slack_) || (least_ && v < *least_ - slack_);
        };
        const bool at_low = beyond(i.low), at_high = beyond(i.high);
        RulePlace place{i.begin, i.end, i.value, margin(i.value), at_low != at_high, i.span};
        // Whatever the value is within its bounds, it is beyond, unless the bounds reach over the whole allowed range.
        const bool over = least_ && most_ && i.low < *least_ - slack_ && i.high > *most_ + slack_;
        place.undecided = place.undecided || over;
        if (!out_.worst || place.margin < out_.worst->margin) out_.worst = place;
        if (place.undecided) {
            ++out_.undecided;
        } else if (at_low) {
            ++out_.violations;
            keep(place);
        }
    }
    void finish() {
        const auto worse = [](const RulePlace& a, const RulePlace& b) {
            return a.margin != b.margin ? a.margin < b.margin : a.begin < b.begin;
        };
        std::sort(out_.places.begin(), out_.places.end(), worse);
        if (out_.places.size() > RuleOutcome::kMostPlaces) out_.places.resize(RuleOutcome::kMostPlaces);
        bool beyond = false;
        for (const auto& [name, limit] : statistics_) {
            if (all_.empty()) break;
            RuleStatistic s{name, 0, limit, true};
            if (s.name == "mean") {
                long double sum = 0;
                for (const double v : all_) sum += v;
                s.value = static_cast<double>(sum / static_cast<long double>(all_.size()));
            } else {
                const std::size_t percent = s.name == "median" ? 50 : s.name == "P95" ? 95 : 99;
                const auto at =
                    all_.begin() + static_cast<std::ptrdiff_t>((all_.size() * percent + 99) / 100 - 1);  // nearest rank
                std::nth_element(all_.begin(), at, all_.end());
                s.value = *at;
            }
            s.kept = !(s.value > limit + slack_);
            beyond = beyond || !s.kept;
            out_.statistics.push_back(std::move(s));
        }
        out_.verdict = out_.violations > 0 || beyond               ? Verdict::broken
                       : out_.checked == 0 || out_.undecided > 0 ? Verdict::undecided
                                                                   : Verdict::kept;
    }
    double margin(double v) const {
        double m = HUGE_VAL;
        if (most_) m = std::min(m, *most_ - v);
        if (least_) m = std::min(m, v - *least_);
        return m;
    }
    std::optional<double> least() const { return least_; }
    std::optional<double> most() const { return most_; }

  private:
    void keep(const RulePlace& place) {
        out_.places.push_back(place);
        if (out_.places.size() < 2 * RuleOutcome::kMostPlaces) return;
        std::nth_element(out_.places.begin(), out_.places.begin() + RuleOutcome::kMostPlaces, out_.places.end(),
                         [](const RulePlace& a, const RulePlace& b) {
                             return a.margin != b.margin ? a.margin < b.margin : a.begin < b.begin;
                         });
        out_.places.resize(RuleOutcome::kMostPlaces);
    }

    RuleOutcome& out_;
    std::optional<double> least_, most_;
    std::vector<std::pair<std::string, double>> statistics_;
    bool keep_all_ = false;
    double slack_ = 0;
    std::vector<double> all_;
};

Result<void> judge_load(const Trail& trail, RuleOutcome& out, const Progress* progress) {
    const Rule& rule = out.rule;
    Load load;
    if (!rule.of.empty()) {
        const auto task = subject_of(trail, rule, rule.of);
        if (!task) return tl::make_unexpected(task.error());
        load = load_of_task(trail, task->activity);
    } else {
        const auto core = std::find_if(trail.cores.begin(), trail.cores.end(),
                                       [&](const CoreTrail& c) { return c.name == rule.core; });
        if (core == trail.cores.end()) {
            std::string names;
            for (const CoreTrail& c : trail.cores) names += (names.empty() ? "" : ", ") + c.name;
            return failure("no core is called '" + rule.core + "'", "", "there are: " + names);
        }
        const auto index = static_cast<std::size_t>(core - trail.cores.begin());
        if (!trail.tasks.tells_load(index)) {
            out.reason = "nothing tells when " + rule.core + " is idle: that needs an operating system's events";
            return {};
        }
        load = load_of_core(trail, index);
    }
    Tally tally(out, 0);
    const auto share = [](std::optional<double> percent) { return percent ? std::optional(*percent / 100) : std::nullopt; };
    const Time width = *rule.within;
    const LoadWindows all = load_windows(
        load, width, share(tally.least()), share(tally.most()),
        [&](const LoadStretch& s) {
            ++out.violations;
            const double percent = 100 * s.share;
            if (out.places.size() < RuleOutcome::kMostPlaces)
                out.places.push_back({s.worst, s.worst + width, percent, tally.margin(percent), false, std::nullopt});
        },
        progress);
    const std::uint64_t violations = out.violations;
    const bool high = tally.most().has_value();
    if (all.greatest && all.least) {
        const auto& worst = high && (!tally.least() || tally.margin(100 * all.greatest->second) <=
                                                           tally.margin(100 * all.least->second))
                                ? *all.greatest
                                : *all.least;
        const double percent = 100 * worst.second;
        out.worst = RulePlace{worst.first, worst.first + width, percent, tally.margin(percent), false, std::nullopt};
        out.least = 100 * all.least->second;
        out.greatest = 100 * all.greatest->second;
    }
    out.checked = all.spans;
    out.excluded = all.too_short;
    tally.finish();
    out.violations = violations;
    if (out.checked == 0) out.reason = "no recorded stretch is as long as " + duration_text(width);
    return {};
}

// In each period of `per` that holds both, or `then` alone: the first `first` comes at or before the first `then`.
Result<void> judge_order(const Trail& trail, RuleOutcome& out) {
    const auto first = moments_of(trail, *out.rule.first), then = moments_of(trail, *out.rule.then);
    if (!first) return tl::make_unexpected(first.error());
    if (!then) return tl::make_unexpected(then.error());
    Rule per = out.rule;
    per.what = RuleWhat::period;
    per.of = out.rule.per;
    const auto counts = each_rule_instance(trail, per, [&](const RuleInstance& period) {
        const auto from = [&](const std::vector<Time>& all) {
            const auto at = std::lower_bound(all.begin(), all.end(), period.begin);
            return at != all.end() && *at < period.end ? std::optional(*at) : std::nullopt;
        };
        const auto a = from(*first), b = from(*then);
        if (!b) return;
        ++out.checked;
        const Time came = a.value_or(period.end);
        const double late = static_cast<double>((came - *b).ps);
        RulePlace place{period.begin, period.end, late, -late, false, period.span};
        if (!out.worst || place.margin < out.worst->margin) out.worst = place;
        if (late <= 0) return;
        ++out.violations;
        if (out.places.size() < RuleOutcome::kMostPlaces) out.places.push_back(place);
    });
    if (!counts) return tl::make_unexpected(counts.error());
    out.excluded = counts->excluded;
    std::stable_sort(out.places.begin(), out.places.end(),
                     [](const RulePlace& a, const RulePlace& b) { return a.margin < b.margin; });
    out.verdict = out.violations > 0 ? Verdict::broken : out.checked == 0 ? Verdict::undecided : Verdict::kept;
    return {};
}

// How long a cycle of the rule's activity is; 0: not known.
double cycle_ps(const Trail& trail, std::size_t core) {
    if (core >= trail.cores.size() || !trail.cores[core].own_clock) return 0;
    return 1e12 / static_cast<double>(trail.cores[core].clock.hz);
}
bool in_cycles(const Rule& r) {
    for (const auto* l : {&r.min, &r.max, &r.mean_max, &r.median_max, &r.p95_max, &r.p99_max, &r.nominal})
        if (*l && (*l)->cycles) return true;
    return false;
}
constexpr const char* kNoClock = "the clock of its core is not known: a limit in cycles says no time";

struct Use {
    Time begin, end;
    std::size_t side = 0;
    SpanRef span;
};
Result<void> uses_of(const Trail& trail, const Rule& rule, const std::string& name, std::size_t side,
                     std::vector<Use>& uses, std::uint64_t& excluded) {
    const auto subject = subject_of(trail, rule, name);
    if (!subject) return tl::make_unexpected(subject.error());
    const LaneId id = subject->kind->lane_of(trail, subject->activity);
    const auto lane = id ? subject->kind->lane(trail, id.index) : nullptr;
    for (std::size_t level = 0; lane != nullptr && level < lane->levels(); ++level)
        for (std::size_t i = 0; i < lane->size(level); ++i) {
            const SpanRef ref{id, static_cast<std::uint32_t>(level), i};
            if (subject->kind->activity_of(trail, ref) != subject->activity) continue;
            const Span s = lane->span(level, i);
            if (s.whole())
                uses.push_back({s.begin, s.end, side, ref});
            else
                ++excluded;
        }
    return {};
}

// Pairs of uses at the same time: of one resource, or of one thing and another.
Result<void> judge_overlap(const Trail& trail, RuleOutcome& out) {
    std::vector<Use> uses;
    const bool two = !out.rule.with.empty();
    if (auto done = uses_of(trail, out.rule, out.rule.of, 0, uses, out.excluded); !done) return done;
    if (two)
        if (auto done = uses_of(trail, out.rule, out.rule.with, 1, uses, out.excluded); !done) return done;
    const double per_cycle = cycle_of(trail, out.rule);
    if (in_cycles(out.rule) && per_cycle == 0) {
        out.reason = kNoClock;
        return {};
    }
    Tally limits(out, per_cycle);
    const double allowed = limits.most().value_or(0);
    std::sort(uses.begin(), uses.end(), [](const Use& a, const Use& b) { return a.begin < b.begin; });
    std::vector<std::size_t> open;
    for (std::size_t i = 0; i < uses.size(); ++i) {
        std::erase_if(open, [&](std::size_t k) { return !(uses[i].begin < uses[k].end); });
        for (const std::size_t k : open) {
            if (two && uses[k].side == uses[i].side) continue;
            const Time end = std::min(uses[k].end, uses[i].end);
            const double common = static_cast<double>((end - uses[i].begin).ps);
            RulePlace place{uses[i].begin, end, common, allowed - common, false, uses[i].span};
            if (!out.worst || place.margin < out.worst->margin) out.worst = place;
            if (!(common > allowed)) continue;
            ++out.violations;
            if (out.places.size() < RuleOutcome::kMostPlaces) out.places.push_back(place);
        }
        open.push_back(i);
    }
    out.checked = uses.size();
    std::stable_sort(out.places.begin(), out.places.end(),
                     [](const RulePlace& a, const RulePlace& b) { return a.margin < b.margin; });
    out.verdict = out.violations > 0 ? Verdict::broken : out.checked == 0 ? Verdict::undecided : Verdict::kept;
    return {};
}

// Coverage of each stream of instructions, made when a rule first asks for it.
class CoverBook {
  public:
    CoverBook(const Recording& recording, const Trail& trail) : recording_(recording), trail_(trail) {}
    const std::vector<Coverage>& all() {
        if (made_) return all_;
        made_ = true;
        for (const StepTrail& steps : trail_.steps)
            if (steps.core_index < recording_.images.size() && recording_.images[steps.core_index] != nullptr)
                all_.push_back(Coverage::of(steps.code, steps.functions,
                                            recording_.source_map(steps.core_index, *steps.code),
                                            CoverCounts::of(steps)));
        return all_;
    }

  private:
    const Recording& recording_;
    const Trail& trail_;
    bool made_ = false;
    std::vector<Coverage> all_;
};

bool names_file(const std::string& path, const std::string& name) {
    if (name.size() > path.size() || path.compare(path.size() - name.size(), name.size(), name) != 0) return false;
    return name.size() == path.size() || path[path.size() - name.size() - 1] == '/';
}

// The share that ran of a function, a file, or everything. Where trace is missing, more may have run.
Result<void> judge_coverage(const Trail& trail, CoverBook& book, RuleOutcome& out) {
    const Rule& rule = out.rule;
    if (trail.steps.empty()) {
        out.reason = "coverage needs instruction trace";
        return {};
    }
    CoverSums sums;
    bool found = false;
    std::vector<std::string> known;
    for (const Coverage& c : book.all()) {
        if (rule.of == "*") {
            sums.add(c.sums);
            found = true;
            continue;
        }
        for (const CoverFunction& f : c.functions) {
            known.push_back(f.name);
            if (f.name != rule.of) continue;
            sums.add(f.sums);
            found = true;
        }
        for (const CoverFile& f : c.files) {
            known.push_back(f.name);
            if (!names_file(f.name, rule.of)) continue;
            sums.add(f.sums);
            found = true;
        }
    }
    if (!found)
        return failure("no function or file is called '" + rule.of + "'", "",
                       near_names_text(rule.of, known, "the image names none"));
    const auto [part, whole] = rule.share == Rule::Share::lines      ? std::pair(sums.lines_run, sums.lines)
                               : rule.share == Rule::Share::branches ? std::pair(sums.branches_both, sums.branches)
                                                                     : std::pair(sums.instructions_run, sums.instructions);
    if (whole == 0) {
        out.reason = "it has none of that";
        return {};
    }
    bool missing = false;
    for (const StepTrail& steps : trail.steps)
        for (std::size_t g = 0; g < steps.gaps.size() && !missing; ++g) missing = is_missing(steps.gaps[g].gap.kind);
    const double share = 100 * static_cast<double>(part) / static_cast<double>(whole);
    Tally tally(out, 0);
    tally.take({Time{}, trail.end, share, share, missing ? 100.0 : share, std::nullopt});
    tally.finish();
    if (out.undecided > 0) out.reason = "trace is missing: more may have run";
    return {};
}

// Whether the times of a recording mean nothing for this rule.
bool without_time(const Trail& trail, const Rule& rule) {
    if (unit_of(rule.what) != RuleUnit::time) return false;
    const auto subject = subject_of(trail, rule, rule.of);
    return subject && subject->core < trail.cores.size() && !trail.cores[subject->core].timed;
}

Result<RuleOutcome> judge_one(CoverBook& book, const Trail& trail, const RulesFile& file, const Rule& rule,
                              const Progress* progress) {
    RuleOutcome out;
    out.rule = rule;
    Result<void> done;
    if (rule.what == RuleWhat::load) {
        done = judge_load(trail, out, progress);
    } else if (rule.what == RuleWhat::order) {
        done = judge_order(trail, out);
    } else if (rule.what == RuleWhat::overlap) {
        done = judge_overlap(trail, out);
    } else if (rule.what == RuleWhat::coverage) {
        done = judge_coverage(trail, book, out);
    } else if (without_time(trail, rule)) {
        out.reason = "the trace tells no time: an instruction counts as a cycle";
    } else {
        std::optional<Tally> tally;
        // The clock of the core is known once the activity is: limits in cycles need it first.
        const auto subject = rule.what == RuleWhat::latency ? Result<RuleSubject>(RuleSubject{})
                                                            : subject_of(trail, rule, rule.of);
        const double per_cycle = subject ? cycle_ps(trail, subject->core) : 0;
        if (subject && in_cycles(rule) && per_cycle == 0) {
            out.reason = kNoClock;
            return out;
        }
        tally.emplace(out, per_cycle);
        const auto counts =
            each_rule_instance(trail, rule, [&](const RuleInstance& i) { tally->take(i); }, progress);
        if (counts) {
            out.excluded = counts->excluded;
            out.unpaired = counts->unpaired;
            tally->finish();
            if (out.checked == 0)
                out.reason = out.excluded + out.unpaired > 0 ? "no whole instance is in the recording"
                                                             : "it never happened in the recording";
            if (counts->incomplete && out.undecided > 0) out.reason = "trace is missing: there may have been more";
        } else {
            done = tl::make_unexpected(counts.error());
        }
    }
    if (!done) {
        if (!rule.optional)
            return failure("rule '" + rule.name + "': " + done.error().what,
                           file.path + ":" + std::to_string(rule.line), done.error().advice);
        out = {};
        out.rule = rule;
        out.reason = "the recording has no such activity";
    }
    return out;
}

}  // namespace

std::string_view verdict_name(Verdict verdict) {
    constexpr std::string_view kNames[] = {"kept", "broken", "undecided"};
    return kNames[static_cast<std::size_t>(verdict)];
}

double cycle_of(const Trail& trail, const Rule& rule) {
    const auto subject = subject_of(trail, rule, rule.of);
    return subject ? cycle_ps(trail, subject->core) : 0;
}

std::string rule_value_text(RuleWhat what, double value) {
    if (what == RuleWhat::order || unit_of(what) == RuleUnit::time) {
        const std::string text = duration_text(Time{static_cast<std::int64_t>(std::fabs(value))});
        return value < 0 ? "\u2212" + text : text;
    }
    char text[40];
    if (unit_of(what) == RuleUnit::percent)
        std::snprintf(text, sizeof text, "%.4g %%", value);
    else
        std::snprintf(text, sizeof text, "%.10g", value);
    return text;
}

Result<RuleOutcome> judge_rule(const Recording& recording, const Trail& trail, const RulesFile& file, const Rule& rule,
                               const Progress* progress) {
    CoverBook book(recording, trail);
    return judge_one(book, trail, file, rule, progress);
}

Result<std::vector<RuleOutcome>> judge_rules(const Recording& recording, const Trail& trail, const RulesFile& file,
                                             const Progress* progress) {
    std::vector<RuleOutcome> all;
    CoverBook book(recording, trail);
    for (const Rule& rule : file.rules) {
        auto one = judge_one(book, trail, file, rule, progress);
        if (!one) return tl::make_unexpected(one.error());
        all.push_back(std::move(*one));
        if (progress != nullptr && progress->cancelled()) break;
    }
    return all;
}

}  // namespace mt
