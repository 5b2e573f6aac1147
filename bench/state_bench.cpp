// How fast recorded instructions are executed again with what is known: instructions per second on one thread, and the
// ratio to a plain pass over eight bytes for each (their addresses) in the same run.
#include <benchmark/benchmark.h>

#include <chrono>
#include <vector>

#include "memory_pass.h"
#include "pass/reading.h"
#include "recording/recording.h"
#include "replay/past_state.h"

namespace {

using namespace mt;
using SteadyClock = std::chrono::steady_clock;

void execute(benchmark::State& state, const char* recording_path) {
    const auto recording = open_recording(recording_path);
    Progress progress;
    const auto trail = recording ? read_trail(**recording, progress) : tl::make_unexpected(recording.error());
    if (!trail) return state.SkipWithError("cannot be read");
    const StepTrail& steps = (*trail)->steps[0];
    const std::vector<std::uint8_t> addresses(steps.steps * 8, 1);
    const double plain = bench::memory_pass_seconds(addresses);
    double best = 1e9;
    for (auto _ : state) {
        auto states = PastStates::of(**recording, steps);
        if (!states) return state.SkipWithError("cannot be executed");
        const auto begin = SteadyClock::now();
        benchmark::DoNotOptimize(states->before(steps.steps - 1, progress));
        best = std::min(best, std::chrono::duration<double>(SteadyClock::now() - begin).count());
        // A click beside it then: what is kept is near.
        const auto click = SteadyClock::now();
        benchmark::DoNotOptimize(states->before(steps.steps * 2 / 3, progress));
        state.counters["click_ms"] = std::chrono::duration<double>(SteadyClock::now() - click).count() * 1e3;
    }
    state.counters["steps_per_s"] = static_cast<double>(steps.steps) / best;
    state.counters["ratio"] = best / plain;
}
BENCHMARK_CAPTURE(execute, rv32, MT_DATA "/steps/rv-etrace-mount/recording.target.toml")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(execute, armv7, MT_DATA "/steps/arm-etm-mount/recording.target.toml")->Unit(benchmark::kMillisecond);

}  // namespace
