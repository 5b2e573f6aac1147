// How fast an event trace becomes tasks, locks and interrupts: events per second on one thread and on two, and the
// ratio to a plain pass over the stream's bytes in the same run.
#include <benchmark/benchmark.h>

#include <sys/resource.h>

#include <chrono>
#include <cstdlib>
#include <filesystem>

#include "share/ctf_writer.h"
#include "trail/event_reading.h"
#include "trail/growing_trail.h"

namespace {

using namespace mt;
using SteadyClock = std::chrono::steady_clock;

// Eight tasks that take turns under an interrupt each millisecond, with a lock now and then. MT_BENCH_EVENTS sets how
// many events; the folder stays until the run ends.
class LongTrace {
  public:
    LongTrace() : folder_(std::filesystem::temp_directory_path() / ("mtrail-events-" + std::to_string(::getpid()))) {
        const char* wanted = std::getenv("MT_BENCH_EVENTS");
        const std::uint64_t events = wanted != nullptr ? std::strtoull(wanted, nullptr, 10) : 4'000'000;
        auto writer = CtfWriter::create(folder_.string(), {"bench", 100'000'000, 1});
        if (!writer) std::abort();
        OsBlock texts;
        std::int64_t ticks = 0;
        const auto put = [&](OsKind kind, std::uint32_t subject, std::int64_t value = 0, std::uint8_t code = 0) {
            OsEvent e;
            e.kind = kind;
            e.subject = subject;
            e.value = value;
            e.code = code;
            (*writer)->write(e, ticks += 97 + static_cast<std::int64_t>(subject), texts);
        };
        for (std::uint32_t i = 0; i < 9; ++i) {
            texts.texts = {"task" + std::to_string(i)};
            put(OsKind::task_create, i, text_and_priority(0, static_cast<int>(i)));
        }
        put(OsKind::task_switch_in, 0);
        for (std::uint64_t n = 0; n < events; n += 8) {
            const auto id = static_cast<std::uint32_t>(n / 8 % 8 + 1);
            put(OsKind::isr_enter, 15);
            put(OsKind::task_ready, id);
            put(OsKind::isr_exit, 15);
            put(OsKind::task_switch_in, id);
            put(OsKind::mutex_take, 50 + id % 2);
            put(OsKind::mutex_give, 50 + id % 2);
            put(OsKind::task_block, id, 0, 0);
            put(OsKind::task_switch_in, 0);
        }
        if (!(*writer)->finish()) std::abort();
    }
    ~LongTrace() {
        std::error_code ec;
        std::filesystem::remove_all(folder_, ec);
    }
    std::string path() const { return folder_.string(); }

  private:
    std::filesystem::path folder_;
};

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
    double plain = 1e9;
    for (int i = 0; i < 5; ++i) {
        const auto from = SteadyClock::now();
        std::uint64_t sum = 0;
        for (const std::uint8_t b : raw) sum += b;
        benchmark::DoNotOptimize(sum);
        plain = std::min(plain, std::chrono::duration<double>(SteadyClock::now() - from).count());
    }
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
