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

std::optional<std::string> likelier_clock(double period_cycles, std::uint64_t stated_hz) {
    for (const double tick_us : {1000.0, 10000.0, 100.0, 2000.0, 5000.0, 500.0}) {
        const double hz = period_cycles / tick_us * 1e6, mhz = hz / 1e6;
        const bool round = std::fabs(mhz - std::round(mhz)) < 0.002 * mhz && mhz >= 0.99 && mhz < 1100;
        const double ratio = hz / static_cast<double>(stated_hz);
        if (!round || ratio < 0.02 || ratio > 50) continue;
        char text[160];
        std::snprintf(text, sizeof text, "for a tick of %s the core clock would be %.0f MHz rather than %.4g",
                      duration_text(Time::from_us(tick_us)).c_str(), std::round(mhz),
                      static_cast<double>(stated_hz) / 1e6);
        return text;
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
        f.title = lane.name() + (count == 1 ? "" : " (" + count_text(count) + " times)");
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
        f.cause = "It cut into " + core.running_name(before);
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
            f.cause += "; " + duration_text(f.begin - last->latest) + " before, the program counter was in " +
                       place_text(recording, c, last->packet.value);
            f.evidence.push_back(
                {last->latest, "program counter sampled in " + place_text(recording, c, last->packet.value)});
        }
        if (task) {
            const EventText text = event_text(recording, 0, task->packet);
            f.cause += "; " + text.name + " was " + text.value;
            f.evidence.push_back({task->latest, text.name + " written: " + text.value});
        }
        f.cause += ". ";
        (void)explain_fault(recording, trail, c, lane.id(), f.begin, f);
        f.evidence.push_back({f.begin, lane.name() + " entered"});
        if (inside)
            f.evidence.push_back(
                {inside->latest, "program counter sampled in " + place_text(recording, c, inside->packet.value)});
        const bool to_the_end = !lane.whole(first) && lane.end(first) >= core.end;
        f.cause += to_the_end && core.end == f.begin ? std::string("The recording ends with it.")
                   : to_the_end && !core.timed       ? std::string("It never returned: the recording ends inside it.")
                   : !core.timed                     ? std::string("Its handler returned.")
                   : to_the_end ? "It never returned: the recording ends " + duration_text(core.end - f.begin) +
                                      " later inside it."
                                : "Its handler ran for " + duration_text(lane.length(first)) + ".";
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
        const Time known = f.end - f.begin;
        if (kind == GapKind::overflow) {
            f.title = count == 1 ? "Trace lost for up to " + duration_text(known)
                                 : "Trace lost " + count_text(count) + " times, for up to " + duration_text(known);
            f.cause =
                "The target's trace buffer overflowed: more was to be sent than the line carries. Instances around it "
                "are left out of all figures.";
            if (longest->events) {
                const CoreTasks& lost = trail.tasks.cores[longest->core];
                f.cause = "The recorder lost " +
                          (lost.lost_events > 0 ? plural(lost.lost_events, "event", "events") : std::string("events")) +
                          (lost.lost_packets > 0 ? " in " + plural(lost.lost_packets, "packet", "packets") : "") +
                          ": its buffer was full, or packets were not fetched in time. Jobs, waits and interrupts "
                          "around it are left out of all figures.";
            }
        } else {
            f.title = plural(count, "damaged stretch", "damaged stretches") + ", " + bytes_text(bytes);
            const std::string what = longest->events
                                         ? trail.tasks.streams[longest->stream].first_trouble
                                         : std::string(itm_damage_text(static_cast<ItmDamage>(longest->reason)));
            f.cause = "At offset " + hex_text(longest->offset, 1) + ": " + what + ", " + bytes_text(longest->length) +
                      " given up to the next " + (longest->events ? "packet" : "synchronisation") +
                      ". Instances around it are left out of all figures.";
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
    f.title = "SysTick measures " + duration_text(tick) + ": is the clock right?";
    f.cause = "At the stated clock its period is no usual tick; " +
              *likelier_clock(tick_cycles(core, tick), core.clock.hz) + ". All times scale with it.";
    f.severity = 0.92;
    f.end = lane.begin(std::min<std::size_t>(lane.size() - 1, 8));
    f.evidence = {{f.begin, "SysTick entered; " + count_text(lane.size()) + " entries measured"}};
    out.push_back(std::move(f));
}

void find_image_doubt(const Recording& recording, const Trail& trail, std::vector<Finding>& out) {
    for (std::size_t s = 0; s < trail.streams.size(); ++s) {
        const StreamTrail& stream = trail.streams[s];
        const std::uint64_t samples = stream.counts[static_cast<std::size_t>(ItmKind::pc)];
        if (samples < 20 || stream.samples_outside * 10 < samples) continue;
        Finding f;
        f.kind = FindingKind::image_doubt;
        f.core_index = recording.streams[s].core;
        f.core = stream.core;
        f.begin = f.end = stream.first_outside_at;
        f.title = "The image does not fit the recording";
        f.cause = share_text(static_cast<double>(stream.samples_outside) / static_cast<double>(samples)) +
                  " of the program-counter samples lie where " + recording.images[f.core_index]->path() +
                  " holds no code, first at " + hex_text(stream.first_outside) +
                  ". Names may be wrong: is it the image that ran?";
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
                                           find_image_doubt(judged.recording, judged.trail, out);
                                           for (std::size_t core = 0;
                                                core < judged.trail.cores.size() && !judged.stopped(); ++core) {
                                               find_faults(judged.recording, judged.trail, core, out);
                                               find_clock_doubt(judged.recording, judged.trail, core, out);
                                           }
                                       }};
    return detector;
}

}  // namespace mt
