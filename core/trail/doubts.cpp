#include "trail/doubts.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <string>

#include "base/text.h"
#include "trail/step_fit.h"

namespace mt {

void doubt_stream(const Recording& recording, Trail& trail, std::size_t index) {
    const StreamTrail& s = trail.streams[index];
    const StreamSpec& spec = recording.target.streams[recording.streams[index].spec];
    const auto doubt = [&](std::string text, std::string advice) {
        trail.doubts.push_back({std::move(text), std::move(advice)});
    };
    const StreamJournal& journal = recording.streams[index].journal;
    if (journal.present && !journal.ended)
        doubt("The recording of " + s.core + " was not ended by its recorder: it was killed, or the machine stopped.",
              "All bytes that were received until then are here, but for the last moment.");
    for (const auto& b : journal.breaks)
        doubt("The connection to " + s.core + " was lost after " + bytes_text(b.offset) + " (" + b.reason + ")" +
                  (b.missing_s < 0 ? std::string(": nothing came after it.")
                                   : " for " + duration_text(Time::from_ns(b.missing_s * 1e9)) +
                                         " by the recording computer's clock."),
              b.missing_s < 0 ? "" : "What the target sent meanwhile is missing; the gap is marked.");
    if (journal.halts > 0)
        doubt("Core " + s.core + " was halted " + plural(journal.halts, "time", "times") + " (" +
                  duration_text(Time::from_ns(journal.halted_s * 1e9)) +
                  " altogether) so that its debug server could read its memory.",
              "A timer that goes on meanwhile makes such executions look long.");
    if (journal.unsaved > 0)
        doubt(bytes_text(journal.unsaved) + " of " + s.core + " came but could not be written (" + journal.end_reason +
                  ").",
              "Free some disk space, or record with keep = \"newest\".");
    if (journal.first > 0)
        doubt("The first " + bytes_text(journal.first) + " of " + s.core + " were given up to keep the newest.", "");
    if (journal.after_s > 0)
        doubt("Times of " + s.core + " begin " + duration_text(Time::from_ns(journal.after_s * 1e9)) +
                  " after the recording's start by this computer's clock, to within " +
                  duration_text(Time::from_ns(journal.after_slack_s * 1e9)) + ".",
              "Order between cores is known no better than that.");
    if (s.never_syncs)
        doubt(
            "The stream holds no synchronisation packet: it is decoded on trust from its first byte, and damage cannot "
            "be told from data.",
            "Let the target send synchronisation packets (DWT_CTRL.SYNCTAP, ITM_TCR.SYNCENA).");
    if (s.timestamps == 0 && s.events > 0)
        doubt("The stream holds no local timestamps: the order of events is known, their times are not.",
              "Enable ITM_TCR.TSENA and record again.");
    if (s.bytes > 0 && s.bad_bytes * 50 > s.bytes) {
        const bool frames = spec.framing == Framing::none && tpiu_has_full_sync(recording.streams[index].bytes());
        doubt(share_text(static_cast<double>(s.bad_bytes) / static_cast<double>(s.bytes)) +
                  " of the stream's bytes are no packets.",
              frames ? "It holds formatter synchronisations: is framing = \"tpiu\" right?"
                     : "Is the protocol, the framing or the line's bit rate wrong?");
    }
    if (s.unknown_lengths > 0)
        doubt("After " + plural(s.unknown_lengths, "damaged stretch", "damaged stretches") +
                  " the lost time is not known: later times are too early by that much.",
              "Enable global timestamps (ITM_TCR.GTSFREQ): they restore the time after a loss.");
    for (const double factor : {4.0, 16.0, 64.0})
        if (s.global_rate > 0 && std::fabs(s.global_rate / factor - 1) < 0.005)
            doubt("Global timestamps count " + std::to_string(static_cast<int>(factor)) +
                      " times as fast as the local ones say.",
                  "Is timestamp_prescaler " + std::to_string(spec.timestamp_prescaler * static_cast<unsigned>(factor)) +
                      " rather than " + std::to_string(spec.timestamp_prescaler) + "?");
    if (s.clock_changes > 1 ||
        (s.clock_changes == 1 && s.counts[static_cast<std::size_t>(ItmKind::global_time_1)] == 1))
        doubt("Global timestamps report " + plural(s.clock_changes, "change", "changes") + " of the clock.",
              "Times assume one clock throughout; check what changed it.");
    if (spec.swo_baud > 0 && trail.end.ps > 0) {
        const double bits = static_cast<double>(s.raw_bytes) * 10, seconds = trail.end.seconds();
        if (bits / seconds > 1.05 * static_cast<double>(spec.swo_baud) && spec.framing == Framing::none)
            doubt("The stream is " + bytes_text(s.raw_bytes) + " in " + duration_text(trail.end) +
                      ", more than a line of " + std::to_string(spec.swo_baud) + " baud carries.",
                  "Is clock_hz or timestamp_prescaler wrong, or swo_baud?");
    }
    for (const auto& port : recording.target.ports)
        if (port.number < 256 && s.ports[port.number] == 0 && recording.streams.size() == 1)
            doubt("Port " + std::to_string(port.number) + (port.name.empty() ? "" : " (" + port.name + ")") +
                      " is in the target file but was never written.",
                  "Is it enabled in ITM_TER, and does the firmware reach it?");
    for (const auto& watch : recording.target.watches)
        if (watch.comparator < 4 && s.comparators[watch.comparator] == 0 && recording.streams.size() == 1)
            doubt("Comparator " + std::to_string(watch.comparator) +
                      (watch.symbol.empty() ? "" : " (" + watch.symbol + ")") +
                      " is in the target file but never reported.",
                  "Is DWT_FUNCTION set for it?");
}

namespace {

constexpr std::size_t kLookedAt = 64 * 1024;

bool contradicts(const StepGap& g) {
    return g.kind == StepGapKind::contradiction || g.kind == StepGapKind::not_in_image;
}

// In how many stretches, as long as from one synchronisation to the next, something does not fit. One wrong byte may
// spoil all that follows until then.
std::uint64_t spoilt_stretches(const StepTrail& t) {
    const std::uint64_t stretch = t.bytes / (t.syncs + 1);
    std::uint64_t spoilt = 0, until = 0;
    for (std::size_t i = 0; i < t.gaps.size(); ++i) {
        const StepGap& g = t.gaps[i].gap;
        if ((!contradicts(g) && g.kind != StepGapKind::damaged) || (spoilt > 0 && g.offset < until)) continue;
        ++spoilt;
        until = g.offset + stretch;
    }
    return spoilt;
}

// Whether what does not fit stands at one place again and again, as it does where the image differs from what ran.
bool at_one_place(const StepTrail& t) {
    std::map<std::uint64_t, std::uint64_t> places;
    std::uint64_t all = 0, most = 0;
    for (std::size_t i = 0; i < t.gaps.size() && all < 10'000; ++i) {
        const StepGap& g = t.gaps[i].gap;
        if (!contradicts(g)) continue;
        ++all;
        if (g.address != 0) most = std::max(most, ++places[g.address]);
    }
    return most >= 3 && most * 2 > all;
}

// What a person should look at where a stream makes no sense from its beginning on.
std::string suspicion(const Recording& recording, std::size_t index) {
    const Recording::Stream& s = recording.step_streams[index];
    const auto raw = s.bytes();
    if (const auto suspect = suspect_parameter(recording.target.streams[s.spec], recording.code[s.core],
                                               raw.first(std::min(raw.size(), kLookedAt))))
        return suspect->text();
    return "Is this the image that ran? No parameter of [[stream]], changed alone, makes more of it fit.";
}

}  // namespace

void doubt_steps(const Recording& recording, Trail& trail, std::size_t index) {
    const StepTrail& t = trail.steps[index];
    const auto doubt = [&](std::string text, std::string advice) {
        trail.doubts.push_back({std::move(text), std::move(advice)});
    };
    const bool hopeless = spoilt_stretches(t) * 4 > t.syncs;
    const bool unreadable = hopeless && t.bytes > 0 && t.bad_bytes * 50 > t.bytes;
    if (unreadable)
        doubt(share_text(static_cast<double>(t.bad_bytes) / static_cast<double>(t.bytes)) +
                  " of the instruction trace's bytes are no packets.",
              suspicion(recording, index));
    if (t.contradiction) {
        const std::string where =
            (t.contradiction->gap.address != 0 ? ", first at " + hex_text(t.contradiction->gap.address, 8) : "") +
            " (" + t.contradiction->gap.reason + ", byte " + std::to_string(t.contradiction->gap.offset) + ")" +
            (t.contradictions > 1 ? ", and " + plural(t.contradictions - 1, "more time", "more times") : "") + ".";
        if (hopeless || at_one_place(t))
            doubt("Trace and image of " + t.core + " do not fit together" + where,
                  unreadable ? ""
                  : hopeless ? suspicion(recording, index)
                             : "Most of it fits, and this is always the same place: is the code there other than what "
                               "ran, or written by the program itself?");
        else
            doubt(
                "The instruction trace of " + t.core + " is damaged" + where,
                "Long stretches before and behind it fit the program, so bytes were changed or lost on the way: check "
                "the line and its rate. What cannot be trusted is marked as a gap.");
    }
    if (t.clock == StepClock::none && t.steps > 0)
        doubt("The instruction trace of " + t.core + " tells no time: each instruction is drawn as one cycle.",
              "Lengths compare instructions, not time.");
}

void doubt_events(const Recording&, Trail& trail) {
    const auto doubt = [&](std::string text, std::string advice) {
        trail.doubts.push_back({std::move(text), std::move(advice)});
    };
    for (const auto& s : trail.tasks.streams) {
        if (s.damaged_packets > 0)
            doubt(s.file + ": " + s.first_trouble + ", at byte " + std::to_string(s.first_trouble_at) +
                      (s.damaged_packets > 1 ? ", and " + plural(s.damaged_packets - 1, "more place", "more places")
                                             : "") +
                      ".",
                  "What cannot be read is a gap; all other packets are read.");
        if (s.backwards > 0)
            doubt("Times run backwards " + plural(s.backwards, "time", "times") + " in " + s.file + ".",
                  "Such events are put at the time of the one before. Is the clock read without interrupts masked, or "
                  "is its width stated too large?");
    }
    if (trail.tasks.contradictions > 0)
        doubt(plural(trail.tasks.contradictions, "event contradicts", "events contradict") +
                  " what came before, such as a task that runs though it waits.",
              "Is a hook missing in the firmware, or called twice?");
}

void doubt_cores(Trail& trail) {
    for (const auto& core : trail.cores)
        if (core.contradictions > 0)
            trail.doubts.push_back(
                {"On core " + core.name + ", " +
                     plural(core.contradictions, "exception packet contradicts", "exception packets contradict") +
                     " those before: packets were lost without an overflow being reported.",
                 "Instances around them are left out of the figures."});
}

}  // namespace mt
