#include "recording/step_setup.h"

#include <algorithm>

namespace mt {
namespace {

// Exception numbers by handler, where a handler serves one vector only (Armv7-M B1.5.3).
std::map<std::uint64_t, unsigned> handlers_of(const Image& image) {
    std::map<std::uint64_t, unsigned> numbers;
    std::map<std::uint64_t, unsigned> uses;
    const auto table = image.vector_table();
    if (!table) return numbers;
    for (unsigned i = 1; i < 512; ++i) {
        const auto word = image.word_at(*table + 4 * std::uint64_t{i});
        if (!word || ((*word & 1) == 0 && *word != 0) || (*word != 0 && !image.is_code(*word & ~1u))) break;
        if (*word == 0) continue;
        numbers[*word & ~1u] = i;
        ++uses[*word & ~1u];
    }
    for (const auto& [address, count] : uses)
        if (count > 1) numbers.erase(address);
    return numbers;
}

}  // namespace

StepTimer make_step_timer(const Recording& recording, std::size_t index, double after_s) {
    const Recording::Stream& s = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[s.spec];
    Clock core{recording.target.cores[s.core].clock_hz}, stamps{spec.timestamp_hz};
    if (core.hz == 0) core.hz = 1'000'000'000;
    StepClock kind = StepClock::none;
    const bool arm = spec.protocol == Protocol::etm4 || spec.protocol == Protocol::pft || spec.protocol == Protocol::etm3;
    if ((spec.protocol == Protocol::etm4 && spec.etm4.cycle_count) || (spec.protocol == Protocol::pft && spec.pft.cycle_accurate) ||
        (spec.protocol == Protocol::etm3 && spec.etm3.cycle_accurate))
        kind = StepClock::cycles;
    else if ((arm || (spec.protocol == Protocol::ntrace && spec.ntrace.timestamps) ||
              (spec.protocol == Protocol::etrace && spec.etrace.time_width > 0)) &&
             stamps.hz != 0)
        kind = StepClock::timestamps;
    std::optional<std::uint64_t> zero;
    if (spec.zero_ticks) zero = static_cast<std::uint64_t>(*spec.zero_ticks);
    return StepTimer(kind, core, stamps, zero, Time::from_ns(std::clamp(after_s, 0.0, 1e6) * 1e9));
}

StepPipe make_step_pipe(const Recording& recording, std::size_t index) {
    const Recording::Stream& s = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[s.spec];
    const bool aligned = spec.framing == Framing::tpiu && !tpiu_has_full_sync(s.bytes());
    return StepPipe(
        spec, recording.code[s.core],
        spec.protocol == Protocol::mtb ? handlers_of(*recording.images[s.core]) : std::map<std::uint64_t, unsigned>{},
        aligned);
}

}  // namespace mt
