#include "signals/lay_beside.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <set>

#include "base/near_names.h"
#include "base/text.h"
#include "measure/lane_kind.h"
#include "signals/signal_file.h"

namespace mt {
namespace {

using Stretch = std::pair<Time, Time>;

// What is on while any of the stretches is.
Edges joined(std::vector<Stretch> stretches) {
    std::sort(stretches.begin(), stretches.end());
    Edges e;
    for (const auto& [begin, end] : stretches) {
        if (!e.falling.empty() && begin <= e.falling.back()) {
            e.falling.back() = std::max(e.falling.back(), end);
            continue;
        }
        e.rising.push_back(begin);
        e.falling.push_back(end);
    }
    return e;
}

tl::unexpected<Problem> nothing_of(const ClockTie::Align& what, const std::vector<std::string>& known) {
    return failure("the recording has no " + what.of + " called '" + what.name + "'", "",
                   near_names_text(what.name, known, "it has none at all"));
}

// The stretches of one activity of a kind.
Result<Edges> stretches_of(const ClockTie::Align& what, const Trail& trail, std::string_view kind_id) {
    const LaneKind* kind = LaneKinds::find(kind_id);
    std::vector<std::string> known;
    std::vector<Stretch> stretches;
    bool any = false;
    for (const auto& name : kind->names(trail)) {
        known.push_back(name.name);
        if (name.name != what.name) continue;
        any = true;
        const LaneId id = kind->lane_of(trail, name.index);
        const auto lane = kind->lane(trail, id.index);
        if (lane == nullptr) continue;
        for (std::size_t level = 0; level < lane->levels(); ++level)
            for (std::size_t i = 0; i < lane->size(level); ++i) {
                const SpanRef ref{id, static_cast<std::uint32_t>(level), i};
                if (!kind->lanes_are_activities() && kind->activity_of(trail, ref) != name.index) continue;
                const Span s = lane->span(level, i);
                if (s.whole()) stretches.emplace_back(s.begin, s.end);
            }
    }
    if (!any) return nothing_of(what, known);
    return joined(std::move(stretches));
}

// Whether most samples follow each other at the same distance.
bool is_sampled_evenly(const ValueLane& lane) {
    const std::size_t n = std::min<std::size_t>(lane.samples.size(), 10'000);
    if (n < 16) return false;
    std::vector<std::int64_t> gaps;
    for (std::size_t i = 1; i < n; ++i) gaps.push_back((lane.samples.time(i) - lane.samples.time(i - 1)).ps);
    std::sort(gaps.begin(), gaps.end());
    const auto usual = static_cast<double>(gaps[gaps.size() / 2]);
    return usual > 0 && static_cast<double>(gaps[gaps.size() / 20]) >= 0.9 * usual &&
           static_cast<double>(gaps[gaps.size() * 19 / 20]) <= 1.1 * usual;
}

// What a device measured, on its own clock.
using Lanes = std::vector<const ValueLane*>;

const ValueLane* signal_named(const Lanes& lanes, const std::string& name) {
    for (const ValueLane* lane : lanes)
        if (lane->name == name || lane->source + "." + lane->name == name) return lane;
    return nullptr;
}

Result<ClockFit> aligned(const ClockTie& tie, const std::string& path, const Lanes& lanes, const Trail& trail,
                         const std::optional<ClockHint>& hint) {
    std::vector<SeenByBoth> seen;
    for (const ClockTie::Align& a : tie.align) {
        auto here = edges_of(a, trail);
        if (!here) return tl::make_unexpected(here.error());
        const ValueLane* lane = signal_named(lanes, a.signal);
        if (lane == nullptr) {
            std::vector<std::string> known;
            for (const auto* l : lanes) known.push_back(l->name);
            return failure("it has no signal '" + a.signal + "'", path,
                           near_names_text(a.signal, known, "name one that it has"));
        }
        Edges there = edges_of(*lane);
        if (a.rising) seen.push_back({here->rising, there.rising});
        // A mark has no end: each edge is one.
        if (a.falling) seen.push_back({a.of == "mark" && !a.rising ? here->rising : here->falling, there.falling});
        if (a.of == "mark" && a.rising && a.falling) {
            std::vector<Time> both(there.rising);
            both.insert(both.end(), there.falling.begin(), there.falling.end());
            std::sort(both.begin(), both.end());
            seen.resize(seen.size() - 2);
            seen.push_back({here->rising, std::move(both)});
        }
    }
    return fit_clocks(seen, hint);
}

// What in the recording moves as a signal of the file does; said, and never taken silently.
std::string proposal(const Lanes& lanes, const Trail& trail, const Progress* progress) {
    struct Known {
        ClockTie::Align what;
        Edges edges;
    };
    std::vector<Known> here;
    const auto take = [&](const char* of, const std::string& name) {
        if (here.size() >= 64 || name.empty()) return;
        ClockTie::Align a;
        a.of = of;
        a.name = name;
        if (auto edges = edges_of(a, trail); edges && edges->rising.size() >= 8 && edges->rising.size() <= 20'000)
            here.push_back({a, std::move(*edges)});
    };
    for (const auto& r : trail.tasks.resources) take("resource", r.name);
    for (const auto& m : trail.tasks.marks) take("mark", m.name);
    for (const auto& t : trail.tasks.tasks) take("task", t.name);
    for (const auto& c : trail.cores)
        for (const auto& l : c.lanes) take("interrupt", l.name());
    std::string best;
    double best_share = 0.6;
    std::size_t tried = 0;
    for (const ValueLane* lane : lanes) {
        const bool levels = lane->sort != ValueSort::real && (lane->samples.even() || lane->samples.size() <= 200'000);
        if (!levels || lane->samples.size() < 16) continue;
        const Edges there = edges_of(*lane);
        if (there.rising.size() < 8 || there.rising.size() > 20'000) continue;
        for (const Known& k : here) {
            if (++tried > 256 || (progress != nullptr && progress->cancelled())) break;
            const auto fit = fit_clocks({{k.edges.rising, there.rising}});
            if (!fit) continue;
            const double share = static_cast<double>(fit->matched) / static_cast<double>(fit->matched + fit->unmatched);
            if (share <= best_share) continue;
            best_share = share;
            best = "[{ " + k.what.of + " = \"" + k.what.name + "\", edge = \"" + lane->name + " rising\" }]";
        }
    }
    return best;
}

}  // namespace

Edges edges_of(const ValueLane& lane) {
    Edges e;
    const bool even = lane.samples.even() || is_sampled_evenly(lane);
    // Of whole numbers, whatever is not zero is high; a voltage is high above its middle, and low again somewhat below.
    const bool real = lane.sort == ValueSort::real || lane.sort == ValueSort::small_real;
    const double least = lane.value_of(lane.least).number(), span = lane.value_of(lane.greatest).number() - least;
    const double rise = least + 0.6 * span, fall = least + 0.4 * span;
    std::optional<bool> level;
    Time before;
    for (std::size_t i = 0; i < lane.samples.size(); ++i) {
        if (!lane.known(i)) {
            level.reset();
            continue;
        }
        const ValueSample s = lane.samples[i];
        const double v = lane.value_of(s.bits).number();
        const bool high = !real ? v != 0 : level.value_or(false) ? v > fall : v >= rise;
        if (level && *level != high) {
            const Time at = even ? Time{before.ps + (s.time - before).ps / 2} : s.time;
            (high ? e.rising : e.falling).push_back(at);
        }
        level = high;
        before = s.time;
    }
    return e;
}

Result<Edges> edges_of(const ClockTie::Align& what, const Trail& trail) {
    std::vector<std::string> known;
    std::vector<Stretch> stretches;
    if (what.of == "function") return stretches_of(what, trail, "functions");
    if (what.of == "mark") {
        Edges e;
        bool any = false;
        for (const MarkLane& lane : trail.tasks.marks) {
            known.push_back(lane.name);
            if (lane.name != what.name) continue;
            any = true;
            for (std::size_t i = 0; i < lane.marks.size(); ++i)
                if (!what.value || *what.value == lane.marks[i].value) e.rising.push_back(lane.marks[i].time);
        }
        if (!any) return nothing_of(what, known);
        std::sort(e.rising.begin(), e.rising.end());
        return e;
    }
    if (what.of == "value") {
        for (const ValueLane& lane : trail.tasks.values) {
            if (lane.core == ValueLane::kNoCore) continue;
            known.push_back(lane.name);
            if (lane.name == what.name) return edges_of(lane);
        }
        return nothing_of(what, known);
    }
    bool any = false;
    if (what.of == "resource")
        for (const ResourceLane& lane : trail.tasks.resources) {
            known.push_back(lane.name);
            if (lane.name != what.name) continue;
            any = true;
            for (std::size_t i = 0; i < lane.uses.size(); ++i)
                if ((lane.uses[i].flags & LockHold::kCut) == 0)
                    stretches.emplace_back(lane.uses[i].begin, lane.uses[i].end);
        }
    if (what.of == "interrupt")
        for (const CoreTrail& core : trail.cores)
            for (const ExceptionLane& lane : core.lanes) {
                known.push_back(lane.name());
                if (lane.name() != what.name) continue;
                any = true;
                for (std::size_t i = 0; i < lane.size(); ++i)
                    if (lane.whole(i)) stretches.emplace_back(lane.begin(i), lane.begin(i) + lane.length(i));
            }
    if (what.of == "task")
        for (std::size_t t = 0; t < trail.tasks.tasks.size(); ++t) {
            known.push_back(trail.tasks.tasks[t].name);
            if (trail.tasks.tasks[t].name != what.name) continue;
            any = true;
            for (const CoreTasks& core : trail.tasks.cores)
                for (std::size_t i = 0; i + 1 < core.runs.size(); ++i)
                    if (core.runs[i].who == t) stretches.emplace_back(core.runs[i].begin, core.runs[i + 1].begin);
        }
    if (!any) return nothing_of(what, known);
    return joined(std::move(stretches));
}

namespace {

constexpr double kArrivalWithin = 1e8;  ///< ns: a line and a computer in between keep bytes no longer

// Where the keys about a clock stand.
struct KeysAt {
    std::string table;
    std::size_t index = 0;
    std::string shown() const { return table == "signals" ? "[[signals]]" : "[" + table + "]"; }
};

// How a device's clock is brought to the recording's, as its keys say; what is doubtful about it is told.
ClockFit brought(const ClockTie& tie, const std::string& path, const Lanes& lanes, const std::string& of,
                 const KeysAt& keys, const std::optional<ClockHint>& hint, Trail& trail, LaidSignals& laid,
                 const Progress* progress) {
    ClockFit fit;
    fit.offset_ns = tie.offset_ns.value_or(0);
    fit.drift_ppm = tie.drift_ppm.value_or(0);
    if (!tie.align.empty()) {
        auto found = aligned(tie, path, lanes, trail, hint);
        if (found) {
            fit = *found;
            laid.how = LaidSignals::How::aligned;
            if (!found->drift_known)
                trail.doubts.push_back({of + "a single edge tells nothing of how the clocks drift apart: 0 ppm are taken",
                                        "add another entry to align, or give drift_ppm"});
            if (!found->drift_known && tie.drift_ppm) fit.drift_ppm = *tie.drift_ppm;
        } else {
            trail.doubts.push_back(
                {of + "their clock could not be brought to the recording's: " + found.error().what +
                     (found.error().where.empty() ? "" : " (" + found.error().where + ")"),
                 found.error().advice});
        }
    } else if (tie.offset_ns || tie.drift_ppm) {
        laid.how = LaidSignals::How::by_hand;
    } else {
        const std::string found = proposal(lanes, trail, progress);
        trail.doubts.push_back(
            {of + "both starts are taken for the same moment, as nothing says how the clocks differ",
             found.empty() ? "add align, or offset_ns, to their " + keys.shown()
                           : "their rhythm fits: add align = " + found + " to their " + keys.shown()});
        if (!found.empty())
            trail.doubts.back().mends = {{"Align them so", {{keys.table, keys.index, "align", found}}}};
    }
    laid.offset_ns = fit.offset_ns;
    laid.drift_ppm = fit.drift_ppm;
    laid.uncertainty_ns = fit.uncertainty_ns;
    laid.matched = fit.matched;
    laid.unmatched = fit.unmatched;
    return fit;
}

// A name that no other value has.
void name_lane(ValueLane& lane, const std::string& device, std::set<std::string>& taken) {
    if (taken.count(lane.name) != 0 && !lane.source.empty()) lane.name = lane.source + "." + lane.name;
    if (taken.count(lane.name) != 0) lane.name = device + "." + lane.name;
    taken.insert(lane.name);
}

void lay_file(const SignalsSpec& spec, std::size_t index, Trail& trail, std::set<std::string>& taken, Progress* progress) {
    auto file = read_signal_file(spec.file, spec.select, progress);
    if (!file) {
        trail.doubts.push_back(
            {"signals are missing: " + file.error().what + " (" + file.error().where + ")", file.error().advice});
        return;
    }
    LaidSignals laid;
    laid.file = spec.file;
    laid.name = !spec.name.empty() ? spec.name : std::filesystem::path(spec.file).stem().string();
    laid.format = file->format;
    laid.lanes = file->lanes.size();
    const std::string of = "of the signals in " + std::filesystem::path(spec.file).filename().string() + ": ";
    for (const std::string& warning : file->warnings) trail.doubts.push_back({of + warning, ""});
    Lanes lanes;
    for (const ValueLane& lane : file->lanes) lanes.push_back(&lane);
    const ClockFit fit = brought(spec, spec.file, lanes, of, {"signals", index}, std::nullopt, trail, laid, progress);
    for (ValueLane& lane : file->lanes) {
        lane.id = static_cast<std::uint32_t>(kBesideNumbers + trail.tasks.values.size());
        lane.move_times([&](Time t) { return fit.to_here(t); });
        name_lane(lane, laid.name, taken);
        lane.source = laid.name;
        trail.tasks.values.push_back(std::move(lane));
    }
    trail.beside.push_back(std::move(laid));
}

// The samples are in the trail already, from when their first byte came, on the device's clock.
void lay_samples(const SamplesParameters& spec, const SampleTrail& samples, Trail& trail, Progress* progress) {
    if (samples.samples == 0) return;
    LaidSignals laid;
    laid.file = samples.file;
    laid.name = samples.name;
    laid.format = "samples";
    laid.lanes = samples.lanes.size();
    Lanes lanes;
    const bool tied = !spec.align.empty() || spec.offset_ns || spec.drift_ppm;
    for (const std::size_t i : samples.lanes) {
        ValueLane& lane = trail.tasks.values[i];
        if (tied) lane.move_times(Time{} - samples.begin, 1);
        lanes.push_back(&lane);
    }
    // When its first byte came says where to look.
    std::optional<ClockHint> hint;
    if (samples.arrived) hint = ClockHint{-static_cast<double>(samples.begin.ps) / 1e3, kArrivalWithin};
    if (tied || samples.begin == Time{}) {
        const ClockFit fit = brought(spec, samples.file, lanes, "of the samples of " + samples.name + ": ",
                                     {"stream.samples", samples.spec}, hint, trail, laid, progress);
        for (const std::size_t i : samples.lanes)
            trail.tasks.values[i].move_times(fit.to_here(Time{}), 1 / (1 + fit.drift_ppm / 1e6));
    } else {
        laid.offset_ns = -static_cast<double>(samples.begin.ps) / 1e3;
        trail.doubts.push_back({"of the samples of " + samples.name +
                                    ": they are placed by when their first byte came, to some milliseconds",
                                "add align to their [stream.samples]"});
    }
    trail.beside.push_back(std::move(laid));
}

}  // namespace

void lay_beside(const TargetFile& target, Trail& trail, Progress* progress) {
    std::set<std::string> taken;
    std::set<std::size_t> measured;
    for (const SampleTrail& s : trail.measured) measured.insert(s.lanes.begin(), s.lanes.end());
    for (std::size_t i = 0; i < trail.tasks.values.size(); ++i)
        if (measured.count(i) == 0) taken.insert(trail.tasks.values[i].name);
    for (const SampleTrail& samples : trail.measured) {
        for (const std::size_t i : samples.lanes) name_lane(trail.tasks.values[i], samples.name, taken);
        if (target.streams[samples.spec].protocol == Protocol::samples)
            lay_samples(target.streams[samples.spec].samples, samples, trail, progress);
    }
    for (std::size_t i = 0; i < target.beside.size(); ++i) {
        lay_file(target.beside[i], i, trail, taken, progress);
        if (progress != nullptr && progress->cancelled()) return;
    }
}

}  // namespace mt
