#include "pass/stream_decoder.h"

#include <algorithm>
#include <array>
#include <chrono>

#include "pass/stream_sorts.h"

namespace mt {
namespace {

struct Row {
    Protocol protocol;
    std::unique_ptr<StreamDecoder> (*make)(const StreamDecoder::Place&);
};
constexpr std::array<Row, 11> kRows = {{
    {Protocol::itm, make_itm_stream},
    {Protocol::etm4, make_step_stream},
    {Protocol::etrace, make_step_stream},
    {Protocol::ntrace, make_step_stream},
    {Protocol::pft, make_step_stream},
    {Protocol::etm3, make_step_stream},
    {Protocol::mtb, make_step_stream},
    {Protocol::ctf, make_event_stream},
    {Protocol::samples, make_sample_stream},
    {Protocol::polled, make_polled_stream},
    {Protocol::console, make_console_stream},
}};

std::unique_ptr<StreamDecoder> make(const Recording& recording, GrowingTrail& growing, std::size_t index,
                                    std::size_t spec, bool through_port = false) {
    // Events that come through a port of a stream are packets of their own, whatever that stream is.
    const Protocol protocol = through_port ? Protocol::ctf : recording.target.streams[spec].protocol;
    const auto row =
        std::find_if(kRows.begin(), kRows.end(), [protocol](const Row& r) { return r.protocol == protocol; });
    return row->make({recording, growing, index, spec});
}

}  // namespace

std::vector<std::unique_ptr<StreamDecoder>> make_decoders(const Recording& recording, GrowingTrail& growing) {
    std::vector<std::unique_ptr<StreamDecoder>> all;
    for (std::size_t i = 0; i < recording.streams.size(); ++i)
        all.push_back(make(recording, growing, i, recording.streams[i].spec));
    for (std::size_t i = 0; i < recording.step_streams.size(); ++i)
        all.push_back(make(recording, growing, i, recording.step_streams[i].spec));
    for (std::size_t i = 0; i < recording.sample_streams.size(); ++i)
        all.push_back(make(recording, growing, i, recording.sample_streams[i].spec));
    const EventSource* events = recording.live_events ? recording.live_events.get() : recording.events.get();
    if (events != nullptr) all.push_back(make(recording, growing, 0, events->spec, true));
    return all;
}

void StreamDecoder::note(const StreamJournal::Note& note, Time at) {
    trail().notes.push_back({at, note.text, trail().cores[core()].name});
}

Result<void> StreamDecoder::read(Progress& progress, bool notes, const std::function<void(std::uint64_t)>& between) {
    const Recording::Stream& s = *stream();
    const StreamJournal& journal = s.journal;
    const Bytes whole = s.bytes();
    const std::uint64_t first = std::min<std::uint64_t>(journal.first, whole.size());
    const auto after = [&journal](std::uint64_t) { return journal.after_s; };
    if (auto started = start(whole.subspan(first), first, after, true); !started)
        return tl::make_unexpected(started.error());
    auto next_break = std::find_if(journal.breaks.begin(), journal.breaks.end(),
                                   [first](const StreamJournal::Break& b) { return b.offset > first; });
    using Steady = std::chrono::steady_clock;
    constexpr std::chrono::milliseconds kTell{100};  // settling costs a little
    Steady::time_point told{};
    auto next_note = notes ? journal.notes.begin() : journal.notes.end();
    for (std::uint64_t at = first; at < whole.size();) {
        if (progress.cancelled()) {
            trail().cancelled = true;
            break;
        }
        for (; next_note != journal.notes.end() && next_note->offset <= at; ++next_note) {
            settle();
            note(*next_note, reached());
        }
        for (; next_break != journal.breaks.end() && next_break->offset <= at; ++next_break) lose(at);
        std::uint64_t until = std::min<std::uint64_t>(whole.size(), at + turn());
        if (next_note != journal.notes.end()) until = std::min(until, next_note->offset);
        if (next_break != journal.breaks.end()) until = std::min(until, next_break->offset);
        const auto taken = feed(whole.subspan(at, until - at), until == whole.size());
        if (!taken) return tl::make_unexpected(taken.error());
        at += *taken;
        s.file->let_go(at);
        if (const auto now = Steady::now(); now - told >= kTell || at == whole.size()) {
            told = now;
            settle();
            between(at);
        }
    }
    if (auto finished = finish(); !finished) return finished;
    for (; next_note != journal.notes.end(); ++next_note) note(*next_note, reached());
    return {};
}

}  // namespace mt
