#include "pass/reading.h"

#include <chrono>

#include "doubt/doubts.h"
#include "pass/growing_steps.h"
#include "measure/moments.h"
#include "pass/stream_decoder.h"
#include "recording/waymarks.h"
#include "signals/derive.h"
#include "signals/lay_beside.h"

namespace mt {

Result<std::shared_ptr<const Trail>> read_trail(const Recording& recording, Progress& progress,
                                                const Publish& publish) {
    using SteadyClock = std::chrono::steady_clock;
    const auto started = SteadyClock::now();
    auto published = started;
    GrowingTrail growing(recording);
    Trail& trail = growing.trail();
    prepare_steps(recording, trail);
    const auto decoders = make_decoders(recording, growing);
    std::uint64_t total = 0, done = 0;
    for (const auto& decoder : decoders) total += decoder->bytes();
    bool notes = true;  // all streams of a recording hold the same
    for (const auto& decoder : decoders) {
        if (trail.cancelled) break;
        auto read = decoder->read(progress, std::exchange(notes, false), [&](std::uint64_t at) {
            progress.report(done + at, total);
            const auto now = SteadyClock::now();
            if (!publish || std::chrono::duration<double>(now - published).count() < 0.9 * kPublishSeconds) return;
            published = now;
            publish(growing.snapshot());
        });
        if (!read) return tl::make_unexpected(read.error());
        done += decoder->bytes();
        decoder->doubt();
    }
    if (growing.has_tasks()) growing.tasks().finish();
    doubt_cores(trail);
    if (auto waymarks = read_waymarks(recording.input))
        trail.waymarks = std::move(*waymarks);
    else
        trail.doubts.push_back({"The waymarks cannot be read: " + waymarks.error().what + " (" +
                                    waymarks.error().where + ")",
                                waymarks.error().advice});
    if (!trail.cancelled) {
        lay_beside(recording.target, trail, &progress);
        derive_signals(recording.target, trail, &progress);
        lay_stopwatches(recording.target, trail);
    }
    trail.complete = !trail.cancelled;
    trail.decode_seconds = std::chrono::duration<double>(SteadyClock::now() - started).count();
    return std::make_shared<const Trail>(std::move(trail));
}

}  // namespace mt
