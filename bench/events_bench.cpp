// How fast an event trace becomes tasks, locks and interrupts: events per second on one thread and on two, and the
// ratio to a plain pass over the stream's bytes in the same run.
#include <benchmark/benchmark.h>

#include <sys/resource.h>

#include <chrono>

#include "long_trace.h"
#include "memory_pass.h"
#include "pass/event_reading.h"
#include "pass/growing_trail.h"

namespace {

using namespace mt;
using bench::LongTrace;
using SteadyClock = std::chrono::steady_clock;

void read(benchmark::State& state) {
    static const LongTrace trace;
    const auto opened_from = SteadyClock::now();
    const auto recording = open_recording(trace.path());
    if (!recording) {
        state.SkipWithError("not opened");
        return;
    }
    const double opened = std::chrono::duration<double>(SteadyClock::now() - opened_from).count();
    const auto raw = (*recording)->events->files[0].file->bytes();
    const double plain = bench::memory_pass_seconds(raw, 5);
    std::uint64_t events = 0;
    double spent = 0, first = 0;
    for (auto _ : state) {
        const auto from = SteadyClock::now();
        GrowingTrail growing(**recording);
        Progress progress;
        first = 0;
        read_events(
            **recording, growing.trail(), growing.tasks(), progress,
            [&](std::uint64_t) {
                if (first == 0) first = std::chrono::duration<double>(SteadyClock::now() - from).count();
            },
            static_cast<unsigned>(state.range(0)));
        growing.tasks().finish();
        events += growing.trail().tasks.streams[0].events;
        spent += std::chrono::duration<double>(SteadyClock::now() - from).count();
    }
    state.SetItemsProcessed(static_cast<std::int64_t>(events));
    state.counters["of_memory_pass"] = plain * static_cast<double>(state.iterations()) / spent;
    state.counters["opening_s"] = opened;
    state.counters["first_s"] = first;
    rusage use{};
    getrusage(RUSAGE_SELF, &use);
    state.counters["peak_MB"] = static_cast<double>(use.ru_maxrss) / 1024;
}

BENCHMARK(read)
    ->Name("events_to_model")
    ->Arg(1)
    ->Arg(2)
    ->ArgName("threads")
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime();

}  // namespace
