#include "pass/step_pass.h"

#include <algorithm>
#include <chrono>

#include "base/text.h"
#include "doubt/step_fit.h"
#include "pass/growing_steps.h"

namespace mt {
namespace {

constexpr std::size_t kTurnBytes = 64 * 1024;
constexpr std::uint64_t kSurelyTrace = 4 * 1024 * 1024;  // of so many bytes some can be followed, if any can

}  // namespace

Result<void> read_steps(const Recording& recording, std::size_t index, Trail& trail, Progress& progress,
                        const std::function<void(std::uint64_t done)>& between) {
    const Recording::Stream& stream = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[stream.spec];
    GrowingSteps growing(recording, index, trail, stream.journal.after_s);
    const StepTrail& t = trail.steps[index];
    const std::span<const std::uint8_t> raw = stream.bytes();
    auto settled = std::chrono::steady_clock::time_point{};
    const std::vector<StreamJournal::Break>& breaks = stream.journal.breaks;
    std::size_t next_break = 0;
    bool looked = false;  // whether it is noise
    for (std::uint64_t at = std::min<std::uint64_t>(stream.journal.first, raw.size()); at < raw.size();) {
        if (progress.cancelled()) {
            trail.cancelled = true;
            break;
        }
        if (at == stream.journal.first && at > 0) growing.lose(at);
        while (next_break < breaks.size() && breaks[next_break].offset <= at) {
            if (breaks[next_break++].offset == at && at > 0) growing.lose(at);
        }
        std::uint64_t n = std::min<std::uint64_t>(kTurnBytes, raw.size() - at);
        if (next_break < breaks.size()) n = std::min(n, breaks[next_break].offset - at);
        growing.feed(raw.subspan(at, n));
        at += n;
        stream.file->let_go(at);
        const bool look = !looked && at >= kSurelyTrace;
        const auto now = std::chrono::steady_clock::now();
        if (now - settled < std::chrono::milliseconds(100) && at < raw.size() && !look) continue;
        growing.settle();
        settled = now;
        between(at);
        if (!look) continue;
        looked = true;
        if (t.bytes * 4 > at && t.steps * 1000 < t.bytes && is_noise(spec, recording.code[stream.core], raw, at))
            return failure("the bytes are no " + std::string(protocol_title(spec.protocol)) +
                               " stream of this program: " + "neither in the first " + bytes_text(at) +
                               " nor at 32 places behind them is there " + "anything that can be followed",
                           stream.path, "check protocol, framing and image in the target file");
    }
    growing.finish();
    const StepPipe& pipe = growing.pipe();
    if (pipe.deframer() != nullptr && pipe.unframed_bytes() == 0)
        return failure("trace ID " + std::to_string(spec.trace_id) + " is not in the stream", stream.path,
                       "set trace_id to one that is, or framing = \"none\" for a bare stream");
    if (!trail.cancelled && t.steps == 0 && t.packets == 0)
        return failure("the bytes are no " + std::string(protocol_title(spec.protocol)) + " stream: no packet in " +
                           bytes_text(raw.size()),
                       stream.path, "check protocol and framing in the target file");
    return {};
}

}  // namespace mt
