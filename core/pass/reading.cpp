#include "pass/reading.h"

#include <algorithm>
#include <chrono>

#include "base/text.h"
#include "doubt/doubts.h"
#include "pass/event_reading.h"
#include "pass/growing_steps.h"
#include "pass/growing_trail.h"
#include "pass/step_pass.h"
#include "replay/step_window.h"

namespace mt {
namespace {

using Bytes = std::span<const std::uint8_t>;

bool has_sync(Bytes bytes) {
    constexpr std::array<std::uint8_t, 6> mark = {0, 0, 0, 0, 0, 0x80};
    return std::search(bytes.begin(), bytes.end(), mark.begin(), mark.end()) != bytes.end();
}

std::string ids_text(const TpiuCounts& counts) {
    std::string all;
    for (std::size_t id = 1; id <= 111; ++id)
        if (counts.bytes_of_id[id] > 0)
            all += (all.empty() ? "" : ", ") + std::to_string(id) + " (" + bytes_text(counts.bytes_of_id[id]) + ")";
    return all;
}

// The first unframed bytes of the source, at most `most`; stops early once a synchronisation is in them.
std::vector<std::uint8_t> unframed_start(Bytes raw, TpiuDeframer deframer, TpiuCounts& counts) {
    std::vector<std::uint8_t> out;
    std::vector<TpiuDeframer::Break> breaks;
    constexpr std::size_t step = 1 << 20;
    for (std::size_t at = 0; at < raw.size(); at += step) {
        if (out.size() > 64) out.erase(out.begin(), out.end() - 64);
        deframer.feed(raw.subspan(at, std::min(step, raw.size() - at)), out, breaks);
        if (has_sync(out)) break;
    }
    counts = deframer.counts();
    return out;
}

Result<StartPlan> plan_start(const StreamSpec& spec, const std::string& file, Bytes raw) {
    StartPlan plan;
    std::vector<std::uint8_t> unframed;
    Bytes start = raw;

    if (spec.framing == Framing::tpiu) {
        const bool marked = tpiu_has_full_sync(raw);
        TpiuCounts counts;
        unframed = unframed_start(raw, TpiuDeframer(spec.trace_id, !marked), counts);
        if (counts.bytes_of_id[spec.trace_id] == 0) {
            const std::string ids = ids_text(counts);
            if (!marked || ids.empty())
                return failure("no formatter frames found in the stream", file,
                               "check that framing = \"tpiu\" is right; for a bare stream it is \"none\"");
            return failure("trace ID " + std::to_string(spec.trace_id) + " is not in the stream", file,
                           "set trace_id to one that is: " + ids);
        }
        plan.deframer = TpiuDeframer(spec.trace_id, !marked);
        start = unframed;
    }
    if (has_sync(start)) return plan;
    // No synchronisation anywhere: believable only if the bytes decode without trouble from the first on.
    plan.start = ItmDecoder::Start::at_once;
    ItmDecoder trial(plan.start);
    std::vector<ItmPacket> packets;
    trial.feed(start.first(std::min<std::size_t>(start.size(), 64 * 1024)), packets);
    const auto bad =
        std::count_if(packets.begin(), packets.end(), [](const ItmPacket& p) { return p.kind == ItmKind::damage; });
    if (packets.empty() || static_cast<double>(bad) > 0.02 * static_cast<double>(packets.size())) {
        const std::string advice =
            spec.framing == Framing::none && tpiu_has_full_sync(raw)
                ? "it holds formatter synchronisations: set framing = \"tpiu\" and a trace_id"
                : "check protocol and framing in the target file, and the bit rate of the recording";
        return failure("the bytes are no ITM stream (no synchronisation, and " + std::to_string(bad) +
                           " of the first " + std::to_string(packets.size()) + " packets are impossible)",
                       file, advice);
    }
    return plan;
}

// Moments that were marked while a recording without ITM was made: where its streams stood then.
void place_notes(const Recording& recording, Trail& trail) {
    if (!recording.step_streams.empty()) {
        const StepTrail& steps = trail.steps[0];
        for (const auto& note : recording.step_streams[0].journal.notes)
            trail.notes.push_back({time_at_offset(recording, steps, note.offset), note.text, steps.core});
        return;
    }
    if (!recording.events || recording.events->files.empty()) return;
    const auto& packets = recording.events->files[0].packets;
    for (const auto& note : recording.events->journal.notes) {
        const auto behind = std::partition_point(packets.begin(), packets.end(),
                                                 [&](const CtfPacket& p) { return p.offset < note.offset; });
        Time at{};
        std::size_t core = 0;
        if (behind != packets.begin()) {
            const CtfPacket& p = *std::prev(behind);
            at = recording.events->at(p.stream_class, p.has_end ? p.end : p.begin);
            core = recording.events->core_of(p);
        }
        trail.notes.push_back({std::clamp(at, Time{}, trail.end), note.text, trail.cores[core].name});
    }
}

}  // namespace

Result<std::shared_ptr<const Trail>> read_trail(const Recording& recording, Progress& progress,
                                                const Publish& publish) {
    using SteadyClock = std::chrono::steady_clock;
    const auto started = SteadyClock::now();
    auto published = started;
    GrowingTrail growing(recording);
    Trail& trail = growing.trail();
    std::uint64_t total = 0, done = 0;
    for (std::size_t i = 0; i < recording.streams.size(); ++i)
        total += trail.streams[i].raw_bytes = recording.streams[i].bytes().size();
    prepare_steps(recording, trail);
    for (const StepTrail& t : trail.steps) total += t.raw_bytes;
    if (recording.events) total += recording.events->bytes();
    for (std::size_t i = 0; i < recording.streams.size() && !trail.cancelled; ++i) {
        const Recording::Stream& stream = recording.streams[i];
        const StreamJournal& journal = stream.journal;
        const std::size_t first = std::min<std::size_t>(journal.first, stream.bytes().size());
        const Bytes raw = stream.bytes().subspan(first);
        auto plan = plan_start(recording.target.streams[stream.spec], stream.path, raw);
        if (!plan) return tl::make_unexpected(plan.error());
        plan->first = first;
        plan->base = Time::from_ns(std::clamp(journal.after_s, 0.0, 1e6) * 1e9);
        growing.start(i, std::move(*plan));
        std::size_t next_break = 0;
        std::size_t next_note = i == 0 ? 0 : journal.notes.size();  // all streams of a recording hold the same notes
        while (next_break < journal.breaks.size() && journal.breaks[next_break].offset <= first) ++next_break;
        for (std::size_t at = 0; at < raw.size();) {
            if (progress.cancelled()) {
                trail.cancelled = true;
                break;
            }
            std::size_t n = std::min(kCheckpointBytes, raw.size() - at);
            while (next_note < journal.notes.size() && journal.notes[next_note].offset <= first + at)
                trail.notes.push_back(
                    {trail.cores[stream.core].end, journal.notes[next_note++].text, trail.cores[stream.core].name});
            if (next_note < journal.notes.size())
                n = static_cast<std::size_t>(
                    std::min<std::uint64_t>(n, journal.notes[next_note].offset - (first + at)));
            if (next_break < journal.breaks.size()) {
                const std::uint64_t to_break = journal.breaks[next_break].offset - (first + at);
                if (to_break == 0) {
                    growing.lose(i);
                    ++next_break;
                    continue;
                }
                n = static_cast<std::size_t>(std::min<std::uint64_t>(n, to_break));
            }
            growing.feed(i, raw.subspan(at, n));
            at += n;
            stream.file->let_go(first + at);
            progress.report(done + at, total);
            const auto now = SteadyClock::now();
            if (publish && std::chrono::duration<double>(now - published).count() >= kPublishSeconds) {
                published = now;
                publish(growing.snapshot());
            }
        }
        growing.finish(i);
        for (; next_note < journal.notes.size(); ++next_note)
            trail.notes.push_back(
                {trail.cores[stream.core].end, journal.notes[next_note].text, trail.cores[stream.core].name});
        done += raw.size();
        doubt_stream(recording, trail, i);
    }
    for (std::size_t i = 0; i < recording.step_streams.size() && !trail.cancelled; ++i) {
        auto read = read_steps(recording, i, trail, progress, [&](std::uint64_t at) {
            progress.report(done + at, total);
            const auto now = SteadyClock::now();
            if (publish && std::chrono::duration<double>(now - published).count() >= kPublishSeconds) {
                published = now;
                publish(growing.snapshot());
            }
        });
        if (!read) return tl::make_unexpected(read.error());
        done += recording.step_streams[i].bytes().size();
        doubt_steps(recording, trail, i);
    }
    if (recording.events && !trail.cancelled) {
        Progress part;
        read_events(recording, trail, growing.tasks(), part, [&](std::uint64_t at) {
            progress.report(done + at, total);
            if (progress.cancelled()) part.cancel();
            const auto now = SteadyClock::now();
            if (publish && std::chrono::duration<double>(now - published).count() >= kPublishSeconds) {
                published = now;
                publish(growing.snapshot());
            }
        });
        done += recording.events->bytes();
        doubt_events(recording, trail);
    }
    if (growing.has_tasks()) growing.tasks().finish();
    if (recording.streams.empty() && !trail.cancelled) place_notes(recording, trail);
    doubt_cores(trail);
    trail.complete = !trail.cancelled;
    trail.decode_seconds = std::chrono::duration<double>(SteadyClock::now() - started).count();
    return std::make_shared<const Trail>(std::move(trail));
}

}  // namespace mt
