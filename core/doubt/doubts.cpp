#include "doubt/doubts.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/text.h"
#include "doubt/step_fit.h"
#include "wire/tpiu.h"

namespace mt {

namespace {

Mend to_set(std::string table, std::size_t index, std::string key, std::string value) {
    std::string label = "Set " + key + " to " + value;
    return {std::move(label), {{std::move(table), index, std::move(key), std::move(value)}}};
}
Mend to_choose_image(std::size_t core) {
    return {"Choose the image…", {{"core", core, "image", ""}}, Mend::Asks::image};
}

// A rate as a person would state it: three digits, or four if the first is a 1.
std::uint64_t round_rate(double hz) {
    if (!(hz >= 1) || hz > 1e11) return 0;
    const double digits = std::pow(10, std::floor(std::log10(hz)) - 2);
    return static_cast<std::uint64_t>(std::round(hz / digits) * digits);
}

// The source that sends most in formatter frames; nothing if there are none.
std::optional<unsigned> busiest_id(std::span<const std::uint8_t> raw) {
    constexpr std::size_t enough = 1 << 20;
    TpiuDeframer frames(1, false);
    std::vector<std::uint8_t> none;
    std::vector<TpiuDeframer::Break> breaks;
    frames.feed(raw.first(std::min(raw.size(), enough)), none, breaks);
    const auto& bytes = frames.counts().bytes_of_id;
    const auto most = std::max_element(bytes.begin() + 1, bytes.begin() + 0x70);
    return *most == 0 ? std::nullopt : std::optional(static_cast<unsigned>(most - bytes.begin()));
}

// What happened while a stream was recorded.
void doubt_journal(const StreamJournal& journal, const std::string& core, Trail& trail) {
    const auto doubt = [&](std::string text, std::string advice) {
        trail.doubts.push_back({std::move(text), std::move(advice)});
    };
    if (journal.present && !journal.ended)
        doubt("The recording of " + core + " was not ended by its recorder: it was killed, or the machine stopped.",
              "All bytes that were received until then are here, but for the last moment.");
    for (const auto& b : journal.breaks)
        doubt("The connection to " + core + " was lost after " + bytes_text(b.offset) + " (" + b.reason + ")" +
                  (b.missing_s < 0 ? std::string(": nothing came after it.")
                                   : " for " + duration_text(Time::from_ns(b.missing_s * 1e9)) +
                                         " by the recording computer's clock."),
              b.missing_s < 0 ? "" : "What the target sent meanwhile is missing; the gap is marked.");
    if (journal.halts > 0)
        doubt("Core " + core + " was halted " + plural(journal.halts, "time", "times") + " (" +
                  duration_text(Time::from_ns(journal.halted_s * 1e9)) +
                  " altogether) so that its debug server could read its memory.",
              "A timer that goes on meanwhile makes such executions look long.");
    if (journal.unsaved > 0)
        doubt(bytes_text(journal.unsaved) + " of " + core + " came but could not be written (" + journal.end_reason +
                  ").",
              "Free some disk space, or record with keep = \"newest\".");
    if (journal.waited > 0)
        doubt(bytes_text(journal.waited) + " of " + core +
                  " had waited on the line when the recording began: they are from "
                  "before and are not part of it.",
              "");
    if (journal.first > 0)
        doubt("The first " + bytes_text(journal.first) + " of " + core + " were given up to keep the newest.", "");
    if (journal.after_s > 0)
        doubt("Times of " + core + " begin " + duration_text(Time::from_ns(journal.after_s * 1e9)) +
                  " after the recording's start by this computer's clock, to within " +
                  duration_text(Time::from_ns(journal.after_slack_s * 1e9)) + ".",
              "Order between cores is known no better than that.");
}

// How long the trace says that it lasted, against the clock of the computer that recorded it. Times may begin before
// the recording did, and a target may rest: only far too much time, or far too little without any rest, is doubted.
// `rates`: what that may be for, each with its value now.
struct Rate {
    std::string table;
    std::size_t index;
    std::string key;
    std::uint64_t hz;
};
void doubt_pace(const StreamJournal& journal, Time told, const std::string& core, const std::string& key,
                const std::vector<Rate>& rates, Trail& trail) {
    const bool live = journal.source.starts_with("tcp ") || journal.source.starts_with("serial ");
    if (!live || journal.lasted_s < 2 || !journal.breaks.empty() || journal.first > 0 || told.ps <= 0) return;
    const double ratio = told.seconds() / journal.lasted_s;
    if (ratio < 1.5 && ratio > 1.0 / 3) return;
    char times[32];
    std::snprintf(times, sizeof times, "%.3g", ratio > 1 ? ratio : 1 / ratio);
    std::vector<Mend> mends;
    for (const Rate& r : rates)
        if (const std::uint64_t hz = round_rate(static_cast<double>(r.hz) * ratio); hz > 0 && hz != r.hz)
            mends.push_back(to_set(r.table, r.index, r.key, std::to_string(hz)));
    trail.doubts.push_back({"The trace of " + core + " tells " + duration_text(told) + ", but it was recorded for " +
                                duration_text(Time::from_ns(journal.lasted_s * 1e9)) +
                                " by the recording computer's clock: " + times + " times as " +
                                (ratio > 1 ? "much." : "little."),
                            "Is " + key + " wrong by that factor?", std::move(mends)});
}

}  // namespace

void doubt_stream(const Recording& recording, Trail& trail, std::size_t index) {
    const StreamTrail& s = trail.streams[index];
    const StreamSpec& spec = recording.target.streams[recording.streams[index].spec];
    const std::size_t in_file = recording.streams[index].spec, core_in_file = recording.streams[index].core;
    const auto doubt = [&](std::string text, std::string advice, std::vector<Mend> mends = {}) {
        trail.doubts.push_back({std::move(text), std::move(advice), std::move(mends)});
    };
    const auto prescaler = [&](unsigned to) {
        return std::vector{to_set("stream.itm", in_file, "timestamp_prescaler", std::to_string(to))};
    };
    const StreamJournal& journal_of = recording.streams[index].journal;
    doubt_journal(journal_of, s.core, trail);
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
        std::vector<Mend> mends;
        if (const auto id = frames ? busiest_id(recording.streams[index].bytes()) : std::nullopt)
            mends.push_back(
                {"Read formatter frames, trace ID " + std::to_string(*id),
                 {{"stream", in_file, "framing", "\"tpiu\""}, {"stream", in_file, "trace_id", std::to_string(*id)}}});
        else if (spec.framing == Framing::tpiu && !tpiu_has_full_sync(recording.streams[index].bytes()))
            mends.push_back({"Read without formatter frames",
                             {{"stream", in_file, "framing", "\"none\""}, {"stream", in_file, "trace_id", ""}}});
        doubt(share_text(static_cast<double>(s.bad_bytes) / static_cast<double>(s.bytes)) +
                  " of the stream's bytes are no packets.",
              frames ? "It holds formatter synchronisations: is framing = \"tpiu\" right?"
                     : "Is the protocol, the framing or the line's bit rate wrong?",
              std::move(mends));
    }
    if (s.unknown_lengths > 0)
        doubt("After " + plural(s.unknown_lengths, "damaged stretch", "damaged stretches") +
                  " the lost time is not known: later times are too early by that much.",
              "Enable global timestamps (ITM_TCR.GTSFREQ): they restore the time after a loss.");
    if (s.strays.size() > 0) {
        const GlobalCheck::Stray& first = s.strays[0];
        doubt(
            "Between " + moment_text(first.from) + " and " + moment_text(first.to) + " global timestamps tell " +
                duration_text(Time{std::abs(first.missing.ps)}) + (first.missing.ps > 0 ? " more" : " less") +
                " than local ones, though every packet reads well" +
                (s.strays.size() > 1 ? "; so in " + plural(s.strays.size() - 1, "more stretch", "more stretches") + "."
                                     : "."),
            "Bytes were lost, doubled or changed there: check the line. What the lanes show in between may be wrong, "
            "and "
            "later times are off by as much.");
    }
    const auto allowed = [](unsigned p) { return p == 1 || p == 4 || p == 16 || p == 64; };
    for (const double factor : {4.0, 16.0, 64.0})
        if (s.global_rate > 0 && std::fabs(s.global_rate / factor - 1) < 0.005)
            doubt("Global timestamps count " + std::to_string(static_cast<int>(factor)) +
                      " times as fast as the local ones say.",
                  "Is timestamp_prescaler " + std::to_string(spec.timestamp_prescaler * static_cast<unsigned>(factor)) +
                      " rather than " + std::to_string(spec.timestamp_prescaler) + "?",
                  allowed(spec.timestamp_prescaler * static_cast<unsigned>(factor))
                      ? prescaler(spec.timestamp_prescaler * static_cast<unsigned>(factor))
                      : std::vector<Mend>());
    for (const unsigned factor : {4u, 16u, 64u})
        if (s.global_rate > 0 && spec.timestamp_prescaler % factor == 0 &&
            std::fabs(s.global_rate * factor - 1) < 0.005)
            doubt("Local timestamps count " + std::to_string(factor) + " times as fast as the global ones say.",
                  "Is timestamp_prescaler " + std::to_string(spec.timestamp_prescaler / factor) + " rather than " +
                      std::to_string(spec.timestamp_prescaler) + "?",
                  prescaler(spec.timestamp_prescaler / factor));
    doubt_pace(journal_of, trail.cores[recording.streams[index].core].end, s.core, "clock_hz or timestamp_prescaler",
               {{"core", core_in_file, "clock_hz", recording.target.cores[core_in_file].clock_hz}}, trail);
    if (s.clock_changes > 1 ||
        (s.clock_changes == 1 && s.counts[static_cast<std::size_t>(ItmKind::global_time_1)] == 1))
        doubt("Global timestamps report " + plural(s.clock_changes, "change", "changes") + " of the clock.",
              "Times assume one clock throughout; check what changed it.");
    if (spec.swo_baud > 0 && trail.end.ps > 0) {
        const double bits = static_cast<double>(s.raw_bytes) * 10, seconds = trail.end.seconds();
        if (bits / seconds > 1.05 * static_cast<double>(spec.swo_baud) && spec.framing == Framing::none)
            doubt("The stream is " + bytes_text(s.raw_bytes) + " in " + duration_text(trail.end) +
                      ", more than a line of " + std::to_string(spec.swo_baud) + " baud carries.",
                  "Is clock_hz or timestamp_prescaler wrong, or swo_baud?",
                  {{"State another clock_hz…", {{"core", core_in_file, "clock_hz", ""}}, Mend::Asks::number},
                   {"State another swo_baud…", {{"stream.itm", in_file, "swo_baud", ""}}, Mend::Asks::number}});
    }
    for (std::size_t p = 0; p < recording.target.ports.size() && recording.streams.size() == 1; ++p) {
        const PortSpec& port = recording.target.ports[p];
        if (port.number >= 256 || s.ports[port.number] != 0) continue;
        // The same port on another page of 32 (Armv7-M ARM, D4.2.6), if that was written and nobody asks for it.
        std::optional<unsigned> elsewhere;
        for (unsigned other = port.number % 32; other < 256; other += 32)
            if (s.ports[other] > 0 && recording.target.port(other) == nullptr && !elsewhere) elsewhere = other;
        doubt("Port " + std::to_string(port.number) + (port.name.empty() ? "" : " (" + port.name + ")") +
                  " is in the target file but was never written.",
              elsewhere ? "Port " + std::to_string(*elsewhere) +
                              " was, which is the same on another page of 32: is that the one?"
                        : "Is it enabled in ITM_TER, and does the firmware reach it?",
              elsewhere ? std::vector{to_set("port", p, "number", std::to_string(*elsewhere))} : std::vector<Mend>());
    }
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
        spoilt += 1 + g.length / (stretch + 1);
        until = g.offset + std::max(stretch, g.length);
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
struct Suspicion {
    std::string advice;
    std::vector<Mend> mends;
};

std::vector<Mend> mends_for(const SuspectParameter& suspect, const StreamSpec& spec, std::size_t stream) {
    const std::string table = "stream." + std::string(protocol_name(spec.protocol));
    const std::string& value = suspect.fits;
    if (const auto with = value.find(" with trace_id "); suspect.name == "framing" && with != std::string::npos) {
        const std::string id = value.substr(with + 15);
        return {{"Read formatter frames, trace ID " + id,
                 {{"stream", stream, "framing", "\"tpiu\""}, {"stream", stream, "trace_id", id}}}};
    }
    if (suspect.name == "framing")
        return {{"Read without formatter frames",
                 {{"stream", stream, "framing", "\"none\""}, {"stream", stream, "trace_id", ""}}}};
    if (const auto with = value.find(" with "); suspect.name == "protocol" && with != std::string::npos) {
        // One parameter of the other protocol goes with it; what no single key states is asked for once it is read so.
        const std::string other = value.substr(1, with - 2), more = value.substr(with + 6);
        const auto gap = more.rfind(' ');
        Mend mend{"Read as " + other + ", " + more, {{"stream", stream, "protocol", value.substr(0, with)}}};
        if (!more.starts_with("trcidr") && !more.starts_with("commopt"))
            mend.changes.push_back({"stream." + other, stream, more.substr(0, gap), more.substr(gap + 1)});
        return {mend};
    }
    if (suspect.name == "trace_id" || suspect.name == "protocol") return {to_set("stream", stream, suspect.name, value)};
    if (suspect.name.starts_with("trcidr2"))  // bits 14:10 are VMIDSIZE in bytes (IHI 0064, 7.3.34)
        return {to_set(table, stream, "trcidr2", std::to_string(std::stoul(value) << 10))};
    return {to_set(table, stream, suspect.name, value)};
}

Suspicion suspicion(const Recording& recording, std::size_t index) {
    const Recording::Stream& s = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[s.spec];
    const auto raw = s.bytes();
    const auto suspect = suspect_parameter(spec, recording.code[s.core], raw.first(std::min(raw.size(), kLookedAt)));
    if (suspect) return {suspect->text(), mends_for(*suspect, spec, s.spec)};
    return {"Is this the image that ran? No parameter of [[stream]], changed alone, makes more of it fit.",
            {to_choose_image(s.core)}};
}

}  // namespace

namespace {

// Packets of harts that no stream of this file asks for.
void doubt_sources(const Recording& recording, Trail& trail, std::size_t index) {
    const StepTrail& t = trail.steps[index];
    const auto asked = [&recording](std::size_t stream) {
        const StreamSpec& spec = recording.target.streams[recording.step_streams[stream].spec];
        return std::pair{spec.protocol == Protocol::ntrace ? spec.ntrace.src_id : spec.etrace.src_id,
                         spec.framing == Framing::tpiu ? spec.trace_id : std::uint8_t{0}};
    };
    std::string ids;
    std::uint64_t packets = 0, bytes = 0;
    for (const auto& [id, n] : t.other_sources) {
        bool wanted = false;
        for (std::size_t i = 0; i < recording.step_streams.size(); ++i)
            wanted = wanted || (recording.step_streams[i].path == recording.step_streams[index].path &&
                                asked(i).second == asked(index).second && asked(i).first == id);
        if (wanted) continue;
        if (packets == 0 || ids.size() < 60) ids += (ids.empty() ? "" : ", ") + std::to_string(id);
        packets += n.packets;
        bytes += n.bytes;
    }
    if (packets == 0) return;
    const auto mine = asked(index).first;
    const Recording::Stream& stream = recording.step_streams[index];
    StreamSpec without = recording.target.streams[stream.spec];
    const bool nexus = without.protocol == Protocol::ntrace;
    const std::string table = "stream." + std::string(protocol_name(without.protocol));
    std::vector<Mend> mends = {{"Take another source ID…", {{table, stream.spec, "src_id", ""}}, Mend::Asks::number}};
    // Where nobody asks for an ID there may be none: other bits look like many.
    (nexus ? without.ntrace.src_bits : without.etrace.src_id_bits) = 0;
    if (!mine &&
        step_fit(without, recording.code[stream.core], stream.bytes().first(std::min(stream.bytes().size(), kLookedAt)))
            .good())
        mends.insert(mends.begin(), to_set(table, stream.spec, nexus ? "src_bits" : "src_id_bits", "0"));
    trail.doubts.push_back(
        {"The stream of " + t.core + " also holds " + plural(packets, "packet", "packets") + " (" + bytes_text(bytes) +
             ") with source ID " + ids + ", which no core asks for.",
         mine ? "Give their core a [[stream]] of its own with src_id, or check the ID."
              : "Only the first ID that was met is taken here: state src_id in [[stream]] for each core.",
         std::move(mends)});
}

}  // namespace

void doubt_steps(const Recording& recording, Trail& trail, std::size_t index) {
    const StepTrail& t = trail.steps[index];
    const Recording::Stream& stream = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[stream.spec];
    const std::string table = "stream." + std::string(protocol_name(spec.protocol));
    const auto doubt = [&](std::string text, std::string advice, std::vector<Mend> mends = {}) {
        trail.doubts.push_back({std::move(text), std::move(advice), std::move(mends)});
    };
    doubt_journal(recording.step_streams[index].journal, t.core, trail);
    if (t.clock == StepClock::timestamps)
        doubt_pace(recording.step_streams[index].journal, t.end, t.core, "timestamp_hz",
                   {{table, stream.spec, "timestamp_hz", spec.timestamp_hz}}, trail);
    if (t.times_back > 0)
        doubt("Timestamps of " + t.core + " run backwards, first at " + moment_text(t.first_back) +
                  (t.times_back > 1 ? ", and in " + plural(t.times_back - 1, "more stretch", "more stretches") + "."
                                    : "."),
              "A timestamp was damaged on the way, or the counter was set back. Times in that stretch may be wrong.");
    const bool nothing = t.steps == 0 && t.bad_bytes * 2 > t.bytes;
    const bool hopeless = nothing || spoilt_stretches(t) * 4 > t.syncs;
    const bool unreadable = hopeless && t.bytes > 0 && t.bad_bytes * 50 > t.bytes;
    Suspicion suspect;
    constexpr std::uint64_t kMoreThanDamage = 8;
    std::optional<SuspectParameter> slight;
    if (!hopeless && t.contradiction && t.contradictions >= kMoreThanDamage && !at_one_place(t))
        slight = suspect_parameter(spec, recording.code[stream.core],
                                   stream.bytes().first(std::min(stream.bytes().size(), kLookedAt / 4)));
    if (unreadable || (hopeless && t.contradiction)) suspect = suspicion(recording, index);
    if (unreadable)
        doubt(share_text(static_cast<double>(t.bad_bytes) / static_cast<double>(t.bytes)) +
                  " of the instruction trace's bytes are no packets.",
              suspect.advice, suspect.mends);
    if (t.contradiction) {
        const std::string where =
            (t.contradiction->gap.address != 0 ? ", first at " + hex_text(t.contradiction->gap.address, 8) : "") +
            " (" + t.contradiction->gap.text() + ", byte " + std::to_string(t.contradiction->gap.offset) + ")" +
            (t.contradictions > 1 ? ", and " + plural(t.contradictions - 1, "more time", "more times") : "") + ".";
        if (hopeless || at_one_place(t))
            doubt("Trace and image of " + t.core + " do not fit together" + where,
                  unreadable ? ""
                  : hopeless ? suspect.advice
                             : "Most of it fits, and this is always the same place: is the code there other than what "
                               "ran, or written by the program itself?",
                  unreadable ? std::vector<Mend>()
                  : hopeless ? suspect.mends
                             : std::vector{to_choose_image(stream.core)});
        else if (slight)
            doubt("Trace and image of " + t.core + " do not quite fit together" + where, slight->text(),
                  mends_for(*slight, spec, stream.spec));
        else
            doubt(
                "The instruction trace of " + t.core + " is damaged" + where,
                "Long stretches before and behind it fit the program, so bytes were changed or lost on the way: check "
                "the line and its rate. What cannot be trusted is marked as a gap.");
    }
    doubt_sources(recording, trail, index);
    std::uint64_t no_vector = 0;
    for (std::size_t i = 0; i < t.gaps.size(); ++i) no_vector += t.gaps[i].gap.kind == StepGapKind::no_vector ? 1u : 0u;
    if (no_vector > 0)
        doubt(plural(no_vector, "exception of ", "exceptions of ") + t.core +
                  (no_vector == 1 ? " leaves its" : " leave their") +
                  " handler's address out, and nothing tells the trap vector: what follows each is a gap.",
              "State mtvec (and stvec, if there is a supervisor mode) with the mode bits in [stream.etrace].",
              {{"State mtvec…", {{"stream.etrace", stream.spec, "mtvec", ""}}, Mend::Asks::number}});
    if (t.clock == StepClock::none && t.steps > 0)
        doubt("The instruction trace of " + t.core + " tells no time: each instruction is drawn as one cycle.",
              "Lengths compare instructions, not time.");
}

void doubt_events(const Recording& recording, Trail& trail) {
    if (recording.events) {
        const std::string& core = recording.target.streams[recording.events->spec].core;
        doubt_journal(recording.events->journal, core.empty() ? "the event trace" : core, trail);
        const StreamSpec& spec = recording.target.streams[recording.events->spec];
        Time last{};
        for (const CoreTasks& c : trail.tasks.cores)
            if (!c.runs.empty()) last = std::max(last, c.runs.back().begin);
        doubt_pace(recording.events->journal, last, core.empty() ? "the event trace" : core,
                   spec.recorder_hz > 0 ? "recorder_hz" : "the clock's frequency in the metadata",
                   spec.recorder_hz > 0
                       ? std::vector<Rate>{{"stream.ctf", recording.events->spec, "recorder_hz", spec.recorder_hz}}
                       : std::vector<Rate>(),
                   trail);
    }
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
    if (trail.tasks.contradictions > 0) {
        std::string where = ".";
        if (const auto& c = trail.tasks.first_contradiction)
            where = std::string(trail.tasks.contradictions == 1 ? ":" : ", first:") + " at " + moment_text(c->time) +
                    ", byte " + std::to_string(c->offset) + " of core " +
                    (c->core < trail.cores.size() ? trail.cores[c->core].name : std::string("?")) + ", " + c->what +
                    ".";
        doubt(
            plural(trail.tasks.contradictions, "event contradicts", "events contradict") + " what came before" + where,
            "Is a hook missing in the firmware, or called twice, or are bytes damaged there?");
    }
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
