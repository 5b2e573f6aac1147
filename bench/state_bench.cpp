// How fast recorded instructions are executed again with what is known: instructions per second on one thread, and the
// ratio to a plain pass over eight bytes for each (their addresses) in the same run. Then clicks: before anything was
// executed (glimpse_ms), and the mean and the longest of fifty when all was. MT_BENCH_STATE names another recording.
#include <benchmark/benchmark.h>

#include <chrono>
#include <cstdlib>
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
        const auto seconds_since = [](SteadyClock::time_point t) { return std::chrono::duration<double>(SteadyClock::now() - t).count(); };
        const auto first = SteadyClock::now();
        benchmark::DoNotOptimize(states->glimpse(steps.steps * 2 / 3, 200'000, progress));
        state.counters["glimpse_ms"] = seconds_since(first) * 1e3;
        const auto begin = SteadyClock::now();
        benchmark::DoNotOptimize(states->execute_all(progress));
        best = std::min(best, seconds_since(begin));
        double sum = 0, longest = 0;
        for (std::uint64_t click = 1; click <= 50; ++click) {
            const auto clicked = SteadyClock::now();
            benchmark::DoNotOptimize(states->before(steps.steps / 51 * click, progress));
            sum += seconds_since(clicked);
            longest = std::max(longest, seconds_since(clicked));
        }
        state.counters["click_ms"] = sum / 50 * 1e3;
        state.counters["longest_click_ms"] = longest * 1e3;
    }
    state.counters["steps_per_s"] = static_cast<double>(steps.steps) / best;
    state.counters["ratio"] = best / plain;
}
BENCHMARK_CAPTURE(execute, rv32, MT_DATA "/steps/rv-etrace-mount/recording.target.toml")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(execute, armv7, MT_DATA "/steps/arm-etm-mount/recording.target.toml")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(execute, armv7_a, MT_DATA "/steps/arm-pft-mount-bb/recording.target.toml")->Unit(benchmark::kMillisecond);
[[maybe_unused]] const auto* const another =
    std::getenv("MT_BENCH_STATE") == nullptr
        ? nullptr
        : benchmark::RegisterBenchmark("execute/another", [](benchmark::State& state) { execute(state, std::getenv("MT_BENCH_STATE")); })->Iterations(1)->Unit(benchmark::kMillisecond);

}  // namespace
