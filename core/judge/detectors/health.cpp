// Faults, and what puts the recording itself in doubt: losses, the clock, the image.
#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/step_faults.h"
#include "judge/witness.h"
#include "replay/packet_block.h"
#include "target/exception_names.h"

namespace mt {
namespace {

constexpr unsigned kSysTick = 15;
constexpr std::size_t kAllTicks = ~std::size_t{0};

// Ticks that people set: from 10 µs to 100 ms, and the binary rates of 32.768 kHz timers.
constexpr std::array<double, 26> kUsualTicksUs = {
    1000, 10000, 100,   500,   2000,   5000, 250, 200, 50,       20000,    125,     2500,   4000,
    8000, 25000, 40000, 50000, 100000, 25,   20,  10,  976.5625, 1953.125, 3906.25, 7812.5, 16666.667};

// The clock at which the tick would be a usual one.
struct Likelier {
    Time tick;
    Hertz clock;
};
std::optional<Likelier> likelier_clock(double period_cycles, std::uint64_t stated_hz) {
    for (const double tick_us : {1000.0, 10000.0, 100.0, 2000.0, 5000.0, 500.0}) {
        const double hz = period_cycles / tick_us * 1e6, mhz = hz / 1e6;
        const bool round = std::fabs(mhz - std::round(mhz)) < 0.002 * mhz && mhz >= 0.99 && mhz < 1100;
        const double ratio = hz / static_cast<double>(stated_hz);
        if (round && ratio >= 0.02 && ratio <= 50) return Likelier{Time::from_us(tick_us), {std::round(mhz) * 1e6}};
    }
    return std::nullopt;
}

// The period of a SysTick that comes steadily; nullopt if there is none.
std::optional<Time> steady_tick(const Trail& trail, std::size_t c, std::size_t newest) {
    const ExceptionLane* lane = trail.cores[c].lane(kSysTick);
    if (lane == nullptr) return std::nullopt;
    std::vector<Time> periods;
    for (std::size_t i = lane->size() > newest ? lane->size() - newest : 0; i < lane->size(); ++i)
        if (const auto p = period_of(trail, *lane, i)) periods.push_back(*p);
    if (periods.size() < 20) return std::nullopt;
    const Time median = quantile(periods, 0.5);
    if ((quantile(periods, 0.9) - quantile(periods, 0.1)).ps * 20 > median.ps) return std::nullopt;
    return median;
}

double tick_cycles(const CoreTrail& core, Time tick) {
    return static_cast<double>(tick.ps) * static_cast<double>(core.clock.hz) / 1e12;
}

// The first execution of a fault that can be believed, and how many can: whole ones, one that the recording
// ends in, and those that a reported loss cut. What the very next packets contradict is a damaged number.
std::pair<std::size_t, std::uint64_t> credible(const Recording& recording, const Trail& trail, std::size_t c,
                                               const ExceptionLane& lane) {
    const bool packets = std::any_of(recording.streams.begin(), recording.streams.end(),
                                     [c](const Recording::Stream& s) { return s.core == c; });
    const CoreTrail& core = trail.cores[c];
    std::size_t first = 0;
    std::uint64_t count = 0;
    for (std::size_t i = 0; i < lane.size(); ++i) {
        if (!lane.whole(i) && lane.end(i) < core.end && !trail.gaps.touch(c, lane.begin(i), lane.end(i))) continue;
        // An exception packet stands for itself; what instructions or events tell follows from those before.
        if (!packets && !trail.trusted(c, lane.begin(i), lane.begin(i))) continue;
        if (count++ == 0) first = i;
    }
    return {first, count};
}

void find_faults(const Recording& recording, const Trail& trail, std::size_t c, std::vector<Finding>& out) {
    const CoreTrail& core = trail.cores[c];
    for (std::size_t l = 0; l < core.lanes.size(); ++l) {
        const ExceptionLane& lane = core.lanes[l];
        if (!lane.id().is_fault() || lane.size() == 0) continue;
        const auto [first, count] = credible(recording, trail, c, lane);
        if (count == 0) continue;
        Finding f = about_instance(FindingKind::fault, trail, c, l, first);
        f.alike = count;
        f.severity = 1;
        const auto change = core.change_at(f.begin);
        std::uint16_t before = ContextChange::kUnknown;
        // Several changes may bear the same time: go by their order, back from the entry itself.
        bool entered = false;
        for (std::size_t i = change ? *change + 1 : 0; i-- > 0;) {
            const std::uint16_t running = core.change_running[i];
            if (entered && running != ContextChange::kBetween) {
                before = running;
                break;
            }
            entered = entered || running == lane.code();
        }
        f.fact("cut_into", core.running_name(before));
        // The last sample of the program counter before it, and after it.
        std::optional<TimedPacket> last, inside, task;
        each_packet_between(recording, trail, c, f.begin - Time::from_ms(20), f.end,
                            [&](std::size_t, const TimedPacket& p) {
                                if (p.packet.kind == ItmKind::data_write && p.latest < f.begin) {
                                    const WatchSpec* watch = recording.target.watch(p.packet.number);
                                    if (watch != nullptr && watch->role == "current-task") task = p;
                                }
                                if (p.packet.kind != ItmKind::pc || p.latest < f.begin - Time::from_ms(2)) return;
                                if (p.latest < f.begin)
                                    last = p;
                                else if (!inside && p.latest > f.begin)
                                    inside = p;
                            });
        if (last) {
            f.fact("sampled_in", place_text(recording, c, last->packet.value));
            f.fact("sampled_before", f.begin - last->latest);
            f.evidence.push_back(
                {last->latest, "program counter sampled in " + place_text(recording, c, last->packet.value)});
        }
        if (task) {
            const EventText text = event_text(recording, 0, task->packet);
            f.fact("variable", text.value, text.name);
            f.evidence.push_back({task->latest, text.name + " written: " + text.value});
        }
        (void)explain_fault(recording, trail, c, lane.id(), f.begin, f);
        f.evidence.push_back({f.begin, lane.name() + " entered"});
        if (inside)
            f.evidence.push_back(
                {inside->latest, "program counter sampled in " + place_text(recording, c, inside->packet.value)});
        const bool to_the_end = !lane.whole(first) && lane.end(first) >= core.end;
        if (to_the_end) f.fact(core.end == f.begin ? "ends_with_it" : "never_returned", true);
        if (core.timed)
            f.fact(to_the_end ? "inside_for" : "handled_for", (to_the_end ? core.end : lane.end(first)) - f.begin);
        out.push_back(std::move(f));
    }
}

void find_gaps(const Recording&, const Trail& trail, std::vector<Finding>& out) {
    if (trail.gaps.empty()) return;
    for (const GapKind kind : {GapKind::overflow, GapKind::damage}) {
        std::uint64_t count = 0, bytes = 0;
        std::optional<Gap> longest;
        for (std::size_t i = 0; i < trail.gaps.size(); ++i) {
            const Gap& g = trail.gaps[i];
            if (g.kind != kind) continue;
            ++count;
            bytes += g.length;
            if (!longest || g.end - g.begin > longest->end - longest->begin ||
                (g.end - g.begin == longest->end - longest->begin && g.length > longest->length))
                longest = g;
        }
        if (count == 0) continue;
        Finding f;
        f.kind = FindingKind::gap;
        f.begin = longest->begin;
        f.end = longest->end;
        f.alike = count;
        f.core_index = longest->core;
        f.core = trail.cores[longest->core].name;
        if (kind == GapKind::overflow) {
            f.fact("longest", f.end - f.begin);
            if (longest->events) {
                const CoreTasks& lost = trail.tasks.cores[longest->core];
                f.fact("recorder", true);
                if (lost.lost_events > 0) f.fact("events", lost.lost_events);
                if (lost.lost_packets > 0) f.fact("packets", lost.lost_packets);
            }
        } else {
            f.fact("stretches", count);
            f.fact("bytes", Bytes{bytes});
            f.fact("offset", hex_text(longest->offset, 1));
            f.fact("damage", longest->events ? trail.tasks.streams[longest->stream].first_trouble
                                             : std::string(itm_damage_text(static_cast<ItmDamage>(longest->reason))));
            f.fact("given_up", Bytes{longest->length});
            f.fact("up_to", std::string(longest->events ? "packet" : "synchronisation"));
        }
        const double share =
            trail.end.ps > 0 ? static_cast<double>(trail.gaps.covered().ps) / static_cast<double>(trail.end.ps) : 0;
        f.severity = std::min(0.9, 0.35 + share);
        f.evidence = {{f.begin, "the last that is known before the longest"},
                      {f.end, "the first that is known after it"}};
        out.push_back(std::move(f));
    }
}

}  // namespace

ClockCheck clock_check(const Trail& trail, std::size_t c, std::size_t newest) {
    const auto tick = steady_tick(trail, c, newest);
    if (!tick) return ClockCheck::unchecked;
    const auto usual = [&](double us) { return std::fabs(tick->us() / us - 1) < 0.003; };
    if (std::any_of(kUsualTicksUs.begin(), kUsualTicksUs.end(), usual)) return ClockCheck::agrees;
    return likelier_clock(tick_cycles(trail.cores[c], *tick), trail.cores[c].clock.hz) ? ClockCheck::contradicts
                                                                                       : ClockCheck::unchecked;
}

namespace {

void find_clock_doubt(const Recording&, const Trail& trail, std::size_t c, std::vector<Finding>& out) {
    if (clock_check(trail, c) != ClockCheck::contradicts) return;
    const CoreTrail& core = trail.cores[c];
    const std::size_t l = *core.lane_index(kSysTick);
    const ExceptionLane& lane = core.lanes[l];
    const Time tick = *steady_tick(trail, c, kAllTicks);
    Finding f = about_instance(FindingKind::clock_doubt, trail, c, l, 0);
    const Likelier likelier = *likelier_clock(tick_cycles(core, tick), core.clock.hz);
    f.fact("tick", tick);
    f.fact("usual_tick", likelier.tick);
    f.fact("likelier_clock", likelier.clock);
    f.fact("stated_clock", Hertz{static_cast<double>(core.clock.hz)});
    f.severity = 0.92;
    f.end = lane.begin(std::min<std::size_t>(lane.size() - 1, 8));
    f.evidence = {{f.begin, "SysTick entered; " + count_text(lane.size()) + " entries measured"}};
    out.push_back(std::move(f));
}

void find_image_doubt(const Judged& judged, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Recording& recording = judged.recording;
    const Thresholds::Image& limits = judged.thresholds.image;
    for (std::size_t s = 0; s < trail.streams.size(); ++s) {
        const StreamTrail& stream = trail.streams[s];
        const std::uint64_t samples = stream.counts[static_cast<std::size_t>(ItmKind::pc)];
        const Share outside{static_cast<double>(stream.samples_outside) /
                            static_cast<double>(std::max<std::uint64_t>(samples, 1))};
        if (samples < limits.fewest_samples || outside.value < limits.outside) continue;
        Finding f;
        f.kind = FindingKind::image_doubt;
        f.core_index = recording.streams[s].core;
        f.core = stream.core;
        f.begin = f.end = stream.first_outside_at;
        f.fact("outside", outside);
        f.fact("image", recording.images[f.core_index]->path());
        f.fact("first_outside", Address{stream.first_outside});
        f.severity = 0.88;
        f.evidence = {{f.begin, "program counter " + hex_text(stream.first_outside)}};
        out.push_back(std::move(f));
    }
}

}  // namespace

const Detector& health_detector();
const Detector& health_detector() {
    static constexpr Detector detector{"health", 10, [](const Judged& judged, std::vector<Finding>& out) {
                                           find_gaps(judged.recording, judged.trail, out);
                                           find_image_doubt(judged, out);
                                           for (std::size_t core = 0;
                                                core < judged.trail.cores.size() && !judged.stopped(); ++core) {
                                               find_faults(judged.recording, judged.trail, core, out);
                                               find_clock_doubt(judged.recording, judged.trail, core, out);
                                           }
                                       }};
    return detector;
}

}  // namespace mt
