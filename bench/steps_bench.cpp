// How fast instruction trace becomes a model: instructions per second, and the ratio to a plain pass over the stream's
// bytes in the same run.
#include <benchmark/benchmark.h>

#include <chrono>

#include "trail/reading.h"

namespace {

using namespace mt;
using SteadyClock = std::chrono::steady_clock;

void followed(benchmark::State& state, const char* name) {
    const auto recording = open_recording(std::string(MT_DATA "/steps/") + name + "/recording.target.toml");
    if (!recording) {
        state.SkipWithError("not opened");
        return;
    }
    const auto raw = (*recording)->step_streams[0].bytes();
    double plain = 1e9;
    for (int i = 0; i < 9; ++i) {
        const auto from = SteadyClock::now();
        std::uint64_t sum = 0;
        for (const std::uint8_t b : raw) sum += b;
        benchmark::DoNotOptimize(sum);
        plain = std::min(plain, std::chrono::duration<double>(SteadyClock::now() - from).count());
    }
    std::uint64_t instructions = 0;
    double spent = 0;
    for (auto _ : state) {
        const auto from = SteadyClock::now();
        Progress progress;
        const auto trail = read_trail(**recording, progress);
        instructions += (*trail)->steps[0].steps;
        spent += std::chrono::duration<double>(SteadyClock::now() - from).count();
    }
    state.SetItemsProcessed(static_cast<std::int64_t>(instructions));
    state.counters["of_memory_pass"] = plain * static_cast<double>(state.iterations()) / spent;
}

BENCHMARK_CAPTURE(followed, etrace, "rv-etrace-mount")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(followed, etrace_implicit_return, "rv-etrace-mount-return")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(followed, ntrace_history, "rv-ntrace-mount-htm")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(followed, etm4, "arm-etm-mount")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(followed, etm4_cycles, "arm-etm-mount-cc")->Unit(benchmark::kMillisecond);

}  // namespace
