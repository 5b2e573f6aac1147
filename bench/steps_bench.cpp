// How fast instruction trace becomes a model: instructions per second on one core and on all, and the ratio to a plain
// pass over the stream's bytes in the same run. Captures are short: each is repeated until it has some 25 million
// instructions, as if tracing had been switched off and on again.
#include <benchmark/benchmark.h>
#include <sched.h>

#include <chrono>
#include <filesystem>
#include <fstream>

#include "memory_pass.h"
#include "pass/reading.h"

namespace {

using namespace mt;
using SteadyClock = std::chrono::steady_clock;
namespace fs = std::filesystem;

// A capture many times over, in a folder of its own.
class Repeated {
  public:
    Repeated(const std::string& name, const std::string& stream, std::uint64_t times)
        : folder_(fs::temp_directory_path() / ("mtrail-steps-" + std::to_string(::getpid()))) {
        const fs::path from = fs::path(MT_DATA) / "steps";
        fs::create_directories(folder_ / name);
        for (const auto& entry : fs::directory_iterator(from))
            if (entry.path().extension() == ".elf")
                fs::copy_file(entry.path(), folder_ / entry.path().filename(), fs::copy_options::overwrite_existing);
        fs::copy_file(from / name / "recording.target.toml", path(name), fs::copy_options::overwrite_existing);
        std::ifstream in(from / name / stream, std::ios::binary);
        const std::string once((std::istreambuf_iterator<char>(in)), {});
        std::ofstream out(folder_ / name / stream, std::ios::binary);
        for (std::uint64_t i = 0; i < times; ++i) out << once;
    }
    ~Repeated() {
        std::error_code ec;
        fs::remove_all(folder_, ec);
    }
    fs::path path(const std::string& name) const { return folder_ / name / "recording.target.toml"; }

  private:
    fs::path folder_;
};

void followed(benchmark::State& state, const char* name, const char* stream, bool one) {
    std::uint64_t once = 0;
    {
        const auto recording = open_recording(std::string(MT_DATA "/steps/") + name + "/recording.target.toml");
        Progress progress;
        if (recording) once = (*read_trail(**recording, progress))->steps[0].steps;
    }
    if (once == 0) {
        state.SkipWithError("not opened");
        return;
    }
    const Repeated repeated(name, stream, 25'000'000 / once + 1);
    const auto recording = open_recording(repeated.path(name).string());
    const auto raw = (*recording)->step_streams[0].bytes();
    const double plain = bench::memory_pass_seconds(raw, 9);
    cpu_set_t all, use;
    ::sched_getaffinity(0, sizeof all, &all);
    use = all;
    if (one) {
        int last = 0;
        for (int c = 0; c < CPU_SETSIZE; ++c)
            if (CPU_ISSET(c, &all)) last = c;
        CPU_ZERO(&use);
        CPU_SET(last, &use);
    }
    ::sched_setaffinity(0, sizeof use, &use);
    std::uint64_t instructions = 0;
    double spent = 0;
    for (auto _ : state) {
        const auto from = SteadyClock::now();
        Progress progress;
        const auto trail = read_trail(**recording, progress);
        instructions += (*trail)->steps[0].steps;
        spent += std::chrono::duration<double>(SteadyClock::now() - from).count();
    }
    ::sched_setaffinity(0, sizeof all, &all);
    state.SetItemsProcessed(static_cast<std::int64_t>(instructions));
    state.counters["bytes_each"] =
        static_cast<double>(raw.size()) * static_cast<double>(state.iterations()) / static_cast<double>(instructions);
    state.counters["of_memory_pass"] = plain * static_cast<double>(state.iterations()) / spent;
}

#define FOLLOWED(what, name, stream)                                                                                \
    BENCHMARK_CAPTURE(followed, what##_one_core, name, stream, true)->Unit(benchmark::kMillisecond)->UseRealTime(); \
    BENCHMARK_CAPTURE(followed, what##_all_cores, name, stream, false)->Unit(benchmark::kMillisecond)->UseRealTime()

FOLLOWED(etrace, "rv-etrace-mount", "trace.bin");
FOLLOWED(etrace_implicit_return, "rv-etrace-mount-return", "trace.bin");
FOLLOWED(ntrace_history, "rv-ntrace-mount-htm", "trace.bin");
FOLLOWED(etm4, "arm-etm-mount", "capture.bin");
FOLLOWED(etm4_return_stack, "arm-etm-mount-rs", "capture.bin");
FOLLOWED(etm4_cycles, "arm-etm-mount-cc", "capture.bin");
FOLLOWED(etm4_a64, "arm-etm-a-mount", "capture.bin");
FOLLOWED(pft, "arm-pft-mount", "capture.bin");
FOLLOWED(pft_broadcast, "arm-pft-mount-bb", "capture.bin");
FOLLOWED(pft_cycles, "arm-pft-mount-cc", "capture.bin");
FOLLOWED(etm3, "arm-etm3-mount", "capture.bin");
FOLLOWED(etm3_cycles, "arm-etm3-mount-cc", "capture.bin");

}  // namespace
