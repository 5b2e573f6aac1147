#include "judge/live_health.h"

#include <cmath>
#include <cstdio>
#include <optional>

#include "base/text.h"
#include "judge/finding.h"

namespace mt {
namespace {

using Grade = HealthLine::Grade;
constexpr double kQuiet = 1.0;   ///< seconds without a byte that are worth a word
constexpr double kUnseen = 2.0;  ///< seconds after which a port or comparator should have spoken
constexpr std::size_t kNewestTicks = 1000;
constexpr double kPaceOff = 0.08;  ///< what trace time and this computer's clock may differ
constexpr double kLineBusy = 0.75, kLineFull = 0.9;

std::string fixed(double v, int digits) {
    char text[32];
    std::snprintf(text, sizeof text, "%.*f", digits, v);
    return text;
}
std::string rate_text(double per_s, const char* unit) {
    if (per_s >= 1e6) return fixed(per_s / 1e6, 2) + " M" + unit;
    if (per_s >= 1e3) return fixed(per_s / 1e3, per_s < 1e4 ? 1 : 0) + " k" + unit;
    return fixed(per_s, 0) + (unit[0] == ' ' ? "" : " ") + unit;
}
std::string seconds_text(double s) { return fixed(s, s < 10 ? 2 : 0) + " s"; }

HealthLine stream_line(const RunState& state, const RunState::Stream& s, const LiveFigures* f, const StreamTrail* t,
                       const StepTrail* steps, const EventStream* events, const SampleTrail* samples,
                       const StreamSpec& spec, std::span<const std::uint8_t> raw) {
    HealthLine line;
    const bool decoded = t != nullptr || steps != nullptr || events != nullptr || samples != nullptr;
    line.title = s.core + ": " + std::string(protocol_title(spec.protocol)) + (decoded ? "" : ", not decoded");
    if (f != nullptr) {
        line.figure = rate_text(f->bytes_per_s, "B/s");
        line.under = rate_text(f->packets_per_s, events != nullptr    ? " events/s"
                                                 : samples != nullptr ? " samples/s"
                                                                      : " packets/s");
    }
    const ReceiverState& r = s.received;
    if (!r.connected && state.recording) {
        line.grade = Grade::bad;
        line.detail = r.trouble.empty() ? "not connected" : r.trouble;
        line.advice = "It is tried again twice a second; what the target sends meanwhile is missing.";
        return line;
    }
    if (spec.protocol == Protocol::console) {  // it may rightly be silent
        line.under = samples != nullptr ? bytes_text(samples->samples) + " of text" : "";
        line.detail = r.bytes == 0 ? "nothing was printed yet" : "printed last " + seconds_text(r.quiet_s) + " ago";
        return line;
    }
    if (r.bytes == 0 || r.quiet_s > kQuiet) {
        bool halted = false;
        for (const auto& c : state.cores) halted = halted || (c.name == s.core && c.debug && !c.running);
        if (halted && r.bytes > 0) {  // as it should be
            line.detail = "the core stands, silent for " + seconds_text(r.quiet_s);
            line.under.clear();
            return line;
        }
        line.grade = r.bytes == 0 ? Grade::bad : Grade::watch;
        line.detail = (r.bytes == 0 ? "no data for " : "silent for ") + seconds_text(r.quiet_s);
        if (!r.waiting_for.empty()) line.detail += ", " + r.waiting_for;
        line.advice = halted ? "The core stands still: resume it."
                             : "Is trace enabled on the target, is this the right port or line, and does the core run?";
        return line;
    }
    if (samples != nullptr) {
        line.detail = spec.protocol == Protocol::samples ? count_text(samples->samples) + " of each channel"
                                                         : "read " + plural(samples->samples, "time", "times");
        if (spec.protocol == Protocol::samples && f != nullptr && f->packets_per_s > 0 && state.elapsed_s > 4 &&
            std::fabs(f->packets_per_s / samples->rate_hz - 1) > kPaceOff) {
            line.grade = Grade::bad;
            line.detail = "comes at another rate than the stated " + rate_text(samples->rate_hz, "Hz");
            line.advice = "Are rate_hz, type and channels in its [stream.samples] those of the device?";
        }
        return line;
    }
    if (events != nullptr) {
        line.detail = "a packet " + seconds_text(std::max(0.0, f == nullptr ? 0 : f->sync_age_s)) + " ago";
        if (events->packets == 0 && state.elapsed_s > 2 && r.bytes > 2000) {
            line.grade = Grade::bad;
            line.detail = "data, but no packet in " + bytes_text(r.bytes);
            line.advice = "Does the metadata belong to what the target sends?";
        } else if (events->discarded > 0) {
            line.grade = Grade::watch;
            line.detail += ", the target lost " + plural(events->discarded, "event", "events");
            line.advice = "Record fewer kinds of events, or read the buffer more often (every_ms).";
        }
        return line;
    }
    if (t != nullptr || steps != nullptr) {
        const auto syncs = t != nullptr ? t->counts[static_cast<std::size_t>(ItmKind::sync)] : steps->syncs;
        if (syncs == 0 && state.elapsed_s > 1 && r.bytes > 2000) {
            line.grade = Grade::bad;
            line.detail = "data, but no synchronisation in " + bytes_text(r.bytes);
            line.advice =
                spec.framing == Framing::none &&
                        tpiu_has_full_sync(raw.first(std::min<std::size_t>(raw.size(), 1 << 20)))
                    ? "It holds formatter synchronisations: set framing = \"tpiu\" and a trace_id in the target file."
                : steps != nullptr && steps->contradictions > 0
                    ? "The packets do not fit the program: is this the image that runs?"
                : spec.framing == Framing::tpiu
                    ? "No source of that trace_id speaks, or there are no formatter frames: check framing and trace_id."
                    : "Is the framing, the protocol or the bit rate wrong? Does the target send synchronisation "
                      "packets?";
            return line;
        }
        if (steps != nullptr && steps->contradictions > 20 && steps->contradictions * 4 > syncs) {
            line.grade = Grade::bad;
            line.detail = "packets do not fit the program, " + plural(steps->contradictions, "time", "times");
            line.advice = "Is this the image that runs, and do the parameters in [stream." +
                          std::string(protocol_name(spec.protocol)) +
                          "] match the encoder? Testing the connection says which of them is suspect.";
            return line;
        }
        line.detail = syncs == 0                             ? "waiting for synchronisation"
                      : f == nullptr || f->sync_age_s < 0.05 ? std::string("synchronised now")
                                                             : "synchronised " + seconds_text(f->sync_age_s) + " ago";
        if (syncs == 0) line.grade = Grade::unknown;
        if (f != nullptr && r.bytes > f->decoded + 8'000'000)
            line.detail += ", decoding is " + bytes_text(r.bytes - f->decoded) + " behind";
    }
    return line;
}

// Seconds that a core's trace tells in a second of this computer; nothing where that cannot be said.
std::optional<double> pace(const Recording& recording, const std::vector<LiveFigures>& figures, std::size_t core) {
    for (std::size_t i = 0; i < recording.streams.size() && i < figures.size(); ++i)
        if (recording.streams[i].core == core && figures[i].pace > 0.01) return figures[i].pace;
    return std::nullopt;
}

}  // namespace

std::vector<HealthLine> live_health(const Recording& recording, const Trail* trail, const RunState& state,
                                    const std::vector<LiveFigures>& figures) {
    std::vector<HealthLine> lines;
    std::uint64_t bad = 0, overflows = 0, breaks = 0, gaps = trail == nullptr ? 0 : trail->gaps.size();
    bool overflowed = false;  // a buffer in a target
    for (const auto& s : state.streams) {
        const LiveFigures* f = nullptr;
        const StreamTrail* t = nullptr;
        std::span<const std::uint8_t> raw;
        for (std::size_t i = 0; i < recording.streams.size(); ++i)
            if (recording.streams[i].spec == s.stream) {
                f = i < figures.size() ? &figures[i] : nullptr;
                t = trail != nullptr && i < trail->streams.size() ? &trail->streams[i] : nullptr;
                raw = recording.streams[i].bytes();
            }
        const StepTrail* steps = nullptr;
        for (std::size_t i = 0; i < recording.step_streams.size(); ++i)
            if (recording.step_streams[i].spec == s.stream) {
                f = recording.streams.size() + i < figures.size() ? &figures[recording.streams.size() + i] : nullptr;
                steps = trail != nullptr && i < trail->steps.size() ? &trail->steps[i] : nullptr;
                raw = recording.step_streams[i].bytes();
            }
        const std::size_t before = recording.streams.size() + recording.step_streams.size();
        const SampleTrail* samples = nullptr;
        for (std::size_t i = 0; i < recording.sample_streams.size(); ++i)
            if (recording.sample_streams[i].spec == s.stream) {
                f = before + i < figures.size() ? &figures[before + i] : nullptr;
                samples = trail != nullptr && i < trail->measured.size() ? &trail->measured[i] : nullptr;
            }
        const StreamSpec& spec = recording.target.streams[s.stream];
        const EventStream* events = nullptr;
        if (recording.events && recording.events->spec == s.stream) {
            const EventStream* told =
                trail == nullptr || trail->tasks.streams.empty() ? nullptr : &trail->tasks.streams[0];
            if (spec.protocol == Protocol::ctf) {
                const std::size_t i = before + recording.sample_streams.size();
                f = i < figures.size() ? &figures[i] : nullptr;
                events = told;
            } else if (told != nullptr) {
                bad += told->bad_bytes;  // of what comes through one of its ports
            }
        }
        lines.push_back(stream_line(state, s, f, t, steps, events, samples, spec, raw));
        if (events != nullptr) bad += events->bad_bytes;
        if (steps != nullptr) {
            bad += steps->bad_bytes;
            gaps += steps->gaps.size();
        }
        breaks += s.received.breaks.size();
        overflowed = overflowed || s.received.lost_by_source > 0;
        if (t != nullptr) {
            bad += t->bad_bytes;
            overflows += t->counts[static_cast<std::size_t>(ItmKind::overflow)];
        }
        if (spec.swo_baud > 0 && f != nullptr && f->bytes_per_s > 0) {
            const double use = f->bytes_per_s * 10 / static_cast<double>(spec.swo_baud);
            HealthLine line;
            line.title = "line use " + fixed(use * 100, use < 0.1 ? 1 : 0) + " %";
            line.detail = "of " + rate_text(static_cast<double>(spec.swo_baud), "baud");
            line.grade = use > kLineFull ? Grade::bad : use > kLineBusy ? Grade::watch : Grade::good;
            if (use > 1.05)
                line.advice = "More comes than the stated line carries: is swo_baud wrong?";
            else if (use > kLineBusy)
                line.advice = "Packets are lost when the line is full: trace less, or use a faster line.";
            lines.push_back(line);
        }
        if (s.received.fill >= 0 && !s.received.exhausted) {
            HealthLine line;
            line.title = "target's buffer " + fixed(s.received.fill * 100, 0) + " % full";
            line.detail = s.core + ", when it was last read";
            line.grade = s.received.fill > kLineFull   ? Grade::bad
                         : s.received.fill > kLineBusy ? Grade::watch
                                                       : Grade::good;
            if (s.received.lost_by_source > 0) {
                line.grade = Grade::bad;
                line.detail += ", overflowed: " + bytes_text(s.received.lost_by_source) + " lost";
            }
            if (line.grade != Grade::good) line.advice = "Read it more often (every_ms), or make it larger.";
            lines.push_back(line);
        }
    }
    if (trail != nullptr) {
        for (std::size_t c = 0; c < trail->cores.size(); ++c) {
            HealthLine line;
            if (const auto by = pace(recording, figures, c); by && std::fabs(*by - 1) > kPaceOff) {
                const double mhz = static_cast<double>(trail->cores[c].clock.hz) / 1e6;
                line.grade = Grade::bad;
                line.title = "clock in doubt";
                line.detail = fixed(*by, 2) + " s of trace in each second";
                line.advice = "Is clock_hz of core " + trail->cores[c].name + " rather near " + fixed(mhz * *by, 1) +
                              " MHz than " + fixed(mhz, 1) + " MHz, or its timestamp_prescaler wrong?";
                lines.push_back(line);
                continue;
            }
            if (trail->cores[c].lane(15) == nullptr) continue;
            switch (clock_check(*trail, c, kNewestTicks)) {
                case ClockCheck::agrees:
                    line.title = "clock agrees";
                    break;
                case ClockCheck::contradicts:
                    line.grade = Grade::bad;
                    line.title = "clock in doubt";
                    line.advice = "Is clock_hz of core " + trail->cores[c].name + " right, and the prescaler?";
                    break;
                default:
                    continue;
            }
            const ExceptionLane& tick = *trail->cores[c].lane(15);
            if (tick.size() > 1)
                line.detail = "SysTick every " +
                              duration_text(Time{(tick.begin(tick.size() - 1) - tick.begin(0)).ps /
                                                 static_cast<std::int64_t>(tick.size() - 1)}) +
                              " at " + fixed(static_cast<double>(trail->cores[c].clock.hz) / 1e6, 0) + " MHz";
            lines.push_back(line);
        }
        if (trail->streams.size() == 1 && state.elapsed_s > kUnseen && trail->streams[0].packets > 100) {
            const StreamTrail& s = trail->streams[0];
            for (const auto& w : recording.target.watches)
                if (w.comparator < 4 && s.comparators[w.comparator] == 0)
                    lines.push_back(
                        {Grade::bad, "comparator " + std::to_string(w.comparator) + " silent",
                         (w.symbol.empty() ? "" : w.symbol + ": ") + "never seen in " + seconds_text(state.elapsed_s),
                         "", "", "Is DWT_FUNCTION set for it, and is the variable ever accessed?"});
            for (const auto& p : recording.target.ports)
                if (p.number < 256 && s.ports[p.number] == 0)
                    lines.push_back(
                        {Grade::watch, "port " + std::to_string(p.number) + " silent",
                         (p.name.empty() ? "" : p.name + ": ") + "never seen in " + seconds_text(state.elapsed_s), "",
                         "", "Is it enabled in ITM_TER, and does the firmware reach it?"});
            if (s.timestamps == 0)
                lines.push_back({Grade::bad, "no timestamps", "times are not known", "", "", "Enable ITM_TCR.TSENA."});
        }
        HealthLine line;
        line.title = bytes_text(bad) + (bad == 1 ? " is no packet" : " are no packets");
        if (bad == 0) line.title = "0 bad bytes";
        line.detail = plural(gaps, "gap", "gaps") + ", " + plural(overflows, "overflow", "overflows") +
                      (breaks > 0 ? ", " + plural(breaks, "break", "breaks") : "");
        if (bad > 0 || breaks > 0) {
            line.grade = Grade::bad;
            line.advice = overflowed ? "A target's buffer overflowed: read it more often (every_ms), or make it larger."
                                     : "Bytes are lost or damaged on the way: check the line, its rate and its phase "
                                       "(line check).";
        } else if (overflows > 0) {
            line.grade = Grade::watch;
            line.advice = "The target makes more trace than the line carries: trace less, or use a faster line.";
        }
        lines.push_back(line);
    }
    if (state.brief_halts > 0)
        lines.push_back(
            {Grade::watch, "target halted to be read",
             plural(state.brief_halts, "time", "times") + ", " + seconds_text(state.brief_halt_s) + " altogether", "",
             "", "This debug server cannot read memory while the core runs; times include the halts."});
    return lines;
}

}  // namespace mt
