// Values that are unlike themselves: far outside of where they are as a rule, at rest where they always moved, jumping;
// written by somebody who never does; updates that were lost; and pins that move without the code that moves them.
#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/witness.h"
#include "judge/writers.h"

namespace mt {
namespace {

constexpr std::size_t kMostSamples = 5'000'000;  ///< of a lane that is looked at

Finding about_sample(FindingKind kind, const Trail& trail, std::size_t lane_index, std::size_t sample) {
    const ValueLane& lane = trail.tasks.values[lane_index];
    Finding f;
    f.kind = kind;
    f.set_about({{&values_kind(), lane_index}, 0, sample});
    f.involve(Role::subject, lane.name, f.lane);
    f.begin = lane.samples.time(sample);
    f.end = f.begin;
    f.core_index = lane.core == ValueLane::kNoCore ? 0 : lane.core;
    if (f.core_index < trail.cores.size()) f.core = trail.cores[f.core_index].name;
    return f;
}
std::string with_unit(const ValueLane& lane, std::uint64_t bits) {
    return lane.value_of(bits).text() + (lane.unit.empty() ? "" : " " + lane.unit);
}

// What was told around a sample, up to its neighbours, stands where nothing is lost or unsure.
bool stands(const Judged& judged, const ValueLane& lane, std::size_t i) {
    if (lane.core == ValueLane::kNoCore) return true;
    const Time from = lane.samples.time(i > 0 ? i - 1 : 0);
    const Time to = lane.samples.time(std::min(i + 1, lane.samples.size() - 1));
    return judged.trail.trusted(lane.core, from, to) && !judged.trail.gaps.touch(lane.core, from, to);
}
// Something in the streams of its core does not fit together: what only one packet tells is no evidence then.
bool disturbed(const Judged& judged, const ValueLane& lane) {
    if (lane.core == ValueLane::kNoCore || lane.core >= judged.trail.cores.size()) return false;
    const CoreTrail& core = judged.trail.cores[lane.core];
    const auto& streams = judged.trail.streams;
    return core.contradictions > 0 || judged.trail.tasks.contradictions > 0 ||
           std::any_of(streams.begin(), streams.end(), [&](const StreamTrail& s) {
               return s.core == core.name && (s.bad_bytes > 0 || s.strays.size() > 0);
           });
}
// A whole number that would lie within [low, high] if one of its bytes were another, and that a byte which no usual
// value uses: so great is the chance of it only where a byte was disturbed on its way.
bool one_byte_off(const ValueLane& lane, std::size_t i, double low, double high) {
    if (lane.sort != ValueSort::whole && lane.sort != ValueSort::signed_whole) return false;
    const double reach = std::max(std::fabs(low), std::fabs(high));
    const bool has_sign = lane.sort == ValueSort::signed_whole;
    const auto cut = [&](std::uint64_t bits, unsigned width) {
        const unsigned above = 64 - 8 * width;
        return has_sign ? static_cast<std::uint64_t>(static_cast<std::int64_t>(bits << above) >> above)
                        : bits << above >> above;
    };
    unsigned width = 8;
    while (width > 1 && cut(lane.least, width / 2) == lane.least && cut(lane.greatest, width / 2) == lane.greatest)
        width /= 2;
    for (unsigned byte = 1; byte < width; ++byte) {
        if (std::ldexp(1.0, static_cast<int>(8 * byte)) < 8 * reach) continue;
        const std::uint64_t mask = std::uint64_t{0xFF} << (8 * byte), bits = lane.samples.bits(i);
        for (const std::uint64_t told : {bits & ~mask, bits | mask}) {
            const std::uint64_t other = cut(told, width);
            if (const double x = lane.value_of(other).number(); other != bits && x >= low && x <= high) return true;
        }
    }
    return false;
}

// A few samples far away from where nearly all are.
bool find_outside(const Judged& judged, std::size_t v, std::vector<Finding>& out) {
    const ValueLane& lane = judged.trail.tasks.values[v];
    const Thresholds::Values& limits = judged.thresholds.values;
    std::vector<double> sorted;
    for (std::size_t i = 0; i < lane.samples.size(); ++i)
        if (const double x = lane.value(i).number(); lane.known(i) && !std::isnan(x)) sorted.push_back(x);
    if (sorted.size() < limits.fewest) return false;
    std::sort(sorted.begin(), sorted.end());
    const std::size_t rim = std::max<std::size_t>(3, part(sorted.size(), limits.rim));
    const double low = sorted[rim], high = sorted[sorted.size() - 1 - rim], width = high - low;
    if (!(width > 0)) return false;
    std::size_t outside = 0, episodes = 0, worst = 0;
    double by = 0;
    std::optional<std::size_t> last;
    for (std::size_t i = 0; i < lane.samples.size(); ++i) {
        const double x = lane.value(i).number(), beyond = std::max(low - x, x - high);
        if (!lane.known(i) || !(beyond > limits.widths * width) || !stands(judged, lane, i)) continue;
        ++outside;
        if (!last || i > *last + 8) ++episodes;
        last = i;
        if (beyond > by) {
            by = beyond;
            worst = i;
        }
    }
    if (outside == 0 || episodes > limits.episodes || outside > rim) return false;
    // The first value of all is where it was before anything ran.
    if (worst == 0 || (outside == 1 && disturbed(judged, lane))) return false;
    const bool doubted = outside == 1 && lane.core != ValueLane::kNoCore && one_byte_off(lane, worst, low, high);
    Finding f = about_sample(doubted ? FindingKind::disturbed_sample : FindingKind::value_outlier, judged.trail, v, worst);
    f.severity = doubted ? 0.35 : 0.64;
    f.end = lane.holds_until(worst, judged.trail.end);
    f.fact("value", with_unit(lane, lane.samples.bits(worst)));
    const auto bits_of = [&](double x) { return lane.sort == ValueSort::signed_whole || lane.sort == ValueSort::whole
                                                    ? Value::of(static_cast<std::int64_t>(std::llround(x))).text()
                                                    : Value::of(x).text(); };
    f.fact("usual_least", bits_of(low));
    f.fact("usual_most", bits_of(high));
    f.fact("samples", sorted.size());
    f.fact("lasted", f.end - f.begin);
    if (lane.core != ValueLane::kNoCore && lane.origin(worst).access == ValueAccess::written)
        if (const std::string who = Writers(judged.recording, judged.trail, lane).of(worst); !who.empty()) f.fact("writer", who);
    f.evidence.push_back({f.begin, lane.name + " = " + f.told("value")});
    out.push_back(std::move(f));
    return true;
}

// A step far larger than all others, to a value that is usual elsewhere.
void find_jump(const Judged& judged, std::size_t v, std::vector<Finding>& out) {
    const ValueLane& lane = judged.trail.tasks.values[v];
    const Thresholds::Values& limits = judged.thresholds.values;
    const std::size_t n = lane.samples.size();
    std::vector<double> steps;
    std::size_t up = 0, down = 0;
    for (std::size_t i = 1; i < n; ++i) {
        if (!lane.known(i) || !lane.known(i - 1)) continue;
        const double step = lane.value(i).number() - lane.value(i - 1).number();
        up += step > 0 ? 1 : 0;
        down += step < 0 ? 1 : 0;
        if (step != 0 && !std::isnan(step)) steps.push_back(std::fabs(step));
    }
    if (steps.size() < limits.fewest || up * 10 < steps.size() || down * 10 < steps.size()) return;  // a counter that wraps
    std::sort(steps.begin(), steps.end());
    const double p99 = steps[steps.size() * 99 / 100], most = steps.back();
    const std::size_t alike = static_cast<std::size_t>(steps.end() - std::lower_bound(steps.begin(), steps.end(), most / 2));
    const double below = steps.size() > alike ? steps[steps.size() - 1 - alike] : 0;
    if (most < limits.of_step * p99 || most < 4 * below || alike > 2) return;
    for (std::size_t i = 1; i < n; ++i) {
        if (!lane.known(i) || !lane.known(i - 1)) continue;
        if (std::fabs(lane.value(i).number() - lane.value(i - 1).number()) != most) continue;
        // One sample that is another, and the next as before: told by one packet.
        const bool alone = alike == 2 && i + 1 < n && lane.samples.bits(i + 1) == lane.samples.bits(i - 1);
        if (!stands(judged, lane, i) || (alone && disturbed(judged, lane))) return;
        Finding f = about_sample(FindingKind::value_jump, judged.trail, v, i);
        f.severity = 0.57;
        f.fact("from", with_unit(lane, lane.samples.bits(i - 1)));
        f.fact("value", with_unit(lane, lane.samples.bits(i)));
        f.fact("usual_step", Value::of(p99).text());
        f.fact("steps", steps.size());
        if (lane.core != ValueLane::kNoCore && lane.origin(i).access == ValueAccess::written)
            if (const std::string who = Writers(judged.recording, judged.trail, lane).of(i); !who.empty()) f.fact("writer", who);
        f.evidence.push_back({lane.samples.time(i - 1), lane.name + " = " + f.told("from")});
        f.evidence.push_back({f.begin, lane.name + " = " + f.told("value")});
        out.push_back(std::move(f));
        return;
    }
}

// Told again and again, and always the same, where it changed all the time.
void find_stuck(const Judged& judged, std::size_t v, std::vector<Finding>& out) {
    const ValueLane& lane = judged.trail.tasks.values[v];
    const Thresholds::Values& limits = judged.thresholds.values;
    const std::size_t n = lane.samples.size();
    std::vector<std::size_t> lengths;
    std::size_t begin = 0, longest = 0, at = 0;
    for (std::size_t i = 1; i <= n; ++i) {
        if (i < n && lane.samples.bits(i) == lane.samples.bits(begin) && lane.known(i)) continue;
        lengths.push_back(i - begin);
        if (i - begin > longest) {
            longest = i - begin;
            at = begin;
        }
        begin = i;
    }
    if (lengths.size() < limits.runs) return;
    std::sort(lengths.begin(), lengths.end());
    const std::size_t usual = lengths[lengths.size() * 99 / 100], second = lengths[lengths.size() - 2];
    const Time from = lane.samples.time(at), to = lane.samples.time(at + longest - 1);
    if (longest < limits.of_run * std::max<std::size_t>(usual, 2) || longest < 4 * second ||
        to - from < times(judged.trail.end, limits.stuck_share))
        return;
    Finding f = about_sample(FindingKind::value_stuck, judged.trail, v, at);
    f.severity = 0.63;
    f.end = to;
    f.fact("value", with_unit(lane, lane.samples.bits(at)));
    f.fact("times", std::uint64_t{longest});
    f.fact("lasted", to - from);
    f.fact("usual", std::uint64_t{usual});
    if (at + longest == n) f.fact("to_the_end", true);
    f.evidence.push_back({from, lane.name + " = " + f.told("value") + ", and stays"});
    out.push_back(std::move(f));
}

// A task of which little more is known than that it once had a core: perhaps its number was told wrong.
bool seldom_runs(const Trail& trail, const std::string& name) {
    return std::any_of(trail.tasks.tasks.begin(), trail.tasks.tasks.end(),
                       [&](const TaskLane& t) { return t.name == name && t.stretches.size() < 8; });
}

void find_odd_writer(const Judged& judged, std::size_t v, std::vector<Finding>& out) {
    const ValueLane& lane = judged.trail.tasks.values[v];
    const Thresholds::Values& limits = judged.thresholds.values;
    const Writers writers(judged.recording, judged.trail, lane);
    std::map<std::string, std::vector<std::size_t>> by;
    std::size_t known = 0;
    for (std::size_t i = 0; i < lane.samples.size(); ++i) {
        if (i % 4096 == 0 && judged.stopped()) return;
        if (lane.origin(i).access != ValueAccess::written) continue;
        const std::string who = writers.of(i);
        if (who.empty()) continue;
        ++known;
        if (auto& of = by[who]; of.size() < 4) of.push_back(i);
    }
    if (known < limits.fewest_writes || by.size() < 2) return;
    for (const auto& [who, at] : by) {
        if ((at.size() == 1 && disturbed(judged, lane)) || seldom_runs(judged.trail, who)) continue;
        // A first write, or one at the very beginning, sets it up.
        if (at.size() > limits.odd_writes || part(known, limits.odd_share) < at.size() || at[0] < 3) continue;
        if (lane.samples.time(at[0]) < times(judged.trail.end, 0.01)) continue;
        Finding f = about_sample(FindingKind::odd_writer, judged.trail, v, at[0]);
        f.severity = 0.7;
        f.fact("writer", who);
        f.fact("writes", known);
        f.fact("odd_writes", at.size());
        f.fact("value", with_unit(lane, lane.samples.bits(at[0])));
        for (const auto& [other, of] : by)
            if (of.size() >= 4) f.fact("usual_writer", other);
        if (writers.functions_known()) f.fact("function", true);
        f.evidence.push_back({f.begin, who + " writes " + f.told("value") + " into " + lane.name});
        out.push_back(std::move(f));
        return;
    }
}

// Read by one, written by another who cut in, and written by the first from what it had read.
void find_lost_update(const Judged& judged, std::size_t v, std::vector<Finding>& out) {
    const ValueLane& lane = judged.trail.tasks.values[v];
    const Writers by_time(judged.recording, judged.trail, lane);
    std::map<std::string, std::size_t> read_at;  // the last read of each that has not written since
    struct Foreign {
        std::size_t read, write;
        std::string who;
    };
    std::map<std::string, Foreign> cut_in;
    std::size_t lost = 0;
    std::optional<Finding> worst;
    bool reads = false;
    for (std::size_t i = 0; i < lane.samples.size(); ++i) {
        if (i % 4096 == 0 && judged.stopped()) return;
        const ValueAccess access = lane.origin(i).access;
        if (access > ValueAccess::read) continue;
        reads = reads || access == ValueAccess::read;
        const std::string who = by_time.of(i);
        if (who.empty()) {  // nobody knows whose it is: nothing can be said across it
            read_at.clear();
            cut_in.clear();
            continue;
        }
        if (access == ValueAccess::read) {
            read_at[who] = i;
            cut_in.erase(who);
            continue;
        }
        if (const auto mine = cut_in.find(who); mine != cut_in.end() && read_at.count(who) != 0) {
            ++lost;
            if (!worst) {
                const Foreign& other = mine->second;
                Finding f = about_sample(FindingKind::lost_update, judged.trail, v, i);
                f.severity = 0.82;
                f.begin = lane.samples.time(other.read);
                f.fact("writer", who);
                f.fact("other", other.who);
                f.fact("read", with_unit(lane, lane.samples.bits(other.read)));
                f.fact("meanwhile", with_unit(lane, lane.samples.bits(other.write)));
                f.fact("value", with_unit(lane, lane.samples.bits(i)));
                f.evidence.push_back({f.begin, who + " reads " + f.told("read")});
                f.evidence.push_back({lane.samples.time(other.write), other.who + " writes " + f.told("meanwhile")});
                f.evidence.push_back({lane.samples.time(i), who + " writes " + f.told("value")});
                worst = std::move(f);
            }
        }
        read_at.erase(who);
        cut_in.erase(who);
        for (const auto& [reader, at] : read_at) cut_in.insert_or_assign(reader, Foreign{at, i, who});
    }
    if (!reads || !worst) return;
    worst->alike = lost;
    out.push_back(std::move(*worst));
}

// The edges of a line of two levels.
std::vector<std::size_t> edges_in(const ValueLane& lane, std::size_t most) {
    std::vector<std::size_t> all;
    for (std::size_t i = 1; i < lane.samples.size() && all.size() <= most; ++i)
        if (lane.known(i) && lane.known(i - 1) && (lane.samples.bits(i) != 0) != (lane.samples.bits(i - 1) != 0))
            all.push_back(i);
    return all;
}

// Where a handler begins that never returns: nothing else answers from there on.
Time until_stuck(const CoreTrail& core) {
    Time until = core.end;
    for (const ExceptionLane& lane : core.lanes)
        if (const std::size_t n = lane.size(); n > 0 && (lane.flags(n - 1) & ExceptionInstance::kCutEnd) != 0)
            until = std::min(until, lane.begin(n - 1));
    return until;
}

// A line of which every edge goes with one execution of a handler, but for a few.
void find_stray_edges(const Judged& judged, std::size_t v, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const ValueLane& lane = trail.tasks.values[v];
    const Thresholds::Values& limits = judged.thresholds.values;
    const auto edges = edges_in(lane, 2'000'000);
    if (edges.size() < limits.fewest_edges) return;
    double reach_ns = 1000;
    for (const LaidSignals& laid : trail.beside)
        if (laid.name == lane.source) {
            if (laid.how == LaidSignals::How::by_start) return;
            reach_ns += laid.uncertainty_ns;
        }
    const Time reach = Time::from_ns(reach_ns);
    judged.each_lane([&](std::size_t c, std::size_t l) {
        const ExceptionLane& handler = trail.cores[c].lanes[l];
        // Each edge with an execution before the next edge; or half of them, where a pulse stands for one.
        for (const std::size_t every : {1U, 2U}) {
            const std::size_t expected = edges.size() / every;
            if (handler.size() * 20 < expected * 19 || expected * 20 < handler.size() * 19) continue;
            std::vector<std::size_t> stray;
            std::size_t one = 0, judged_edges = 0;
            for (std::size_t k = 0; k + every < edges.size() && stray.size() <= limits.most_stray * 4; ++k) {
                if (every == 2 && lane.samples.bits(edges[k]) == 0) continue;
                const Time from = lane.samples.time(edges[k]) - reach, to = lane.samples.time(edges[k + every]) - reach;
                if (from < Time{} || to > until_stuck(trail.cores[c])) continue;
                if (trail.gaps.touch(static_cast<std::uint16_t>(c), from, to) || !trail.trusted(c, from, to)) continue;
                ++judged_edges;
                const std::size_t entries = handler.first_from(to) - handler.first_from(from);
                one += entries == 1 ? 1 : 0;
                if (entries == 0) stray.push_back(edges[k]);
            }
            if (stray.empty() || stray.size() > limits.most_stray || judged_edges < limits.fewest_edges / every ||
                one < judged_edges - 2 * stray.size() - part(judged_edges, 0.002))
                continue;
            if (!out.empty() && out.back().kind == FindingKind::stray_edge && out.back().lane == LaneId{&values_kind(), v})
                return;
            Finding f = about_sample(FindingKind::stray_edge, trail, v, stray[0]);
            f.severity = 0.6;
            f.core_index = c;
            f.core = trail.cores[c].name;
            f.end = lane.holds_until(stray[0], trail.end);
            f.fact("handler", handler.name());
            f.fact("edges", judged_edges);
            f.fact("stray", stray.size());
            f.fact("lasted", f.end - f.begin);
            f.involve(Role::also, handler.name(), interrupt_lane(c, l));
            for (const std::size_t i : stray) f.evidence.push_back({lane.samples.time(i), lane.name + " moves"});
            out.push_back(std::move(f));
            return;
        }
    });
}

// The numbers of tasks are no quantity.
bool names_the_task(const Recording& recording, const std::string& name) {
    const auto is = [&](const auto& of, const std::string& called) { return of.role == "current-task" && called == name; };
    const TargetFile& target = recording.target;
    return std::any_of(target.watches.begin(), target.watches.end(), [&](auto& w) { return is(w, w.symbol); }) ||
           std::any_of(target.ports.begin(), target.ports.end(), [&](auto& p) { return is(p, p.name); });
}

void find_odd_values(const Judged& judged, std::vector<Finding>& out) {
    const auto& values = judged.trail.tasks.values;
    for (std::size_t v = 0; v < values.size() && !judged.stopped(); ++v) {
        const ValueLane& lane = values[v];
        if (lane.samples.size() < 8 || lane.samples.size() > kMostSamples || lane.samples.even()) continue;
        const bool levels = lane.sort == ValueSort::truth ||
                            (lane.sort == ValueSort::whole && lane.least == 0 && lane.greatest <= 1);
        const bool told_inside = lane.core != ValueLane::kNoCore && lane.core < judged.trail.cores.size();
        const bool numbers = lane.value_names.empty() && !levels && !names_the_task(judged.recording, lane.name);
        if (numbers && !find_outside(judged, v, out)) find_jump(judged, v, out);
        if (numbers && told_inside) find_stuck(judged, v, out);
        if (told_inside && lane.origin(0).access <= ValueAccess::read) {
            find_odd_writer(judged, v, out);
            find_lost_update(judged, v, out);
        }
        if (levels && !told_inside) find_stray_edges(judged, v, out);
    }
}

}  // namespace

const Detector& odd_values_detector();
const Detector& odd_values_detector() {
    static constexpr Detector detector{"odd values", 85, find_odd_values};
    return detector;
}

}  // namespace mt
