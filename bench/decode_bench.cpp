// How fast bytes become packets, a model, figures and findings: as a rate, and as a ratio to a plain pass
// over the same bytes in the same run (counter "of_memory_pass": 1 would be as fast as reading them).
#include <benchmark/benchmark.h>

#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <numeric>

#include "memory_pass.h"
#include "flow/itm_pipe.h"
#include "judge/finding.h"
#include "measure/interrupts.h"
#include "pass/reading.h"

namespace {

using namespace mt;

// The demonstration over and over: 64 MB unless MTRAIL_BENCH_MB says otherwise.
const std::vector<std::uint8_t>& bytes() {
    static const std::vector<std::uint8_t> all = [] {
        std::ifstream in(std::string(MT_DEMO) + "/larkspur-night.swo", std::ios::binary);
        const std::vector<std::uint8_t> once{std::istreambuf_iterator<char>(in), {}};
        const char* wanted = std::getenv("MTRAIL_BENCH_MB");
        const std::size_t size = (wanted != nullptr ? std::strtoull(wanted, nullptr, 10) : 64) * 1'000'000;
        std::vector<std::uint8_t> many;
        while (many.size() < size) many.insert(many.end(), once.begin(), once.end());
        return many;
    }();
    return all;
}

std::uint64_t pass_over(const std::vector<std::uint8_t>& b) {
    std::uint64_t sum = 0;
    const auto* words = reinterpret_cast<const std::uint64_t*>(b.data());
    for (std::size_t i = 0; i < b.size() / 8; ++i) sum += words[i];
    return sum;
}

template <class F>
void measured(benchmark::State& state, F work) {
    const double plain = bench::memory_pass_seconds(bytes());
    double spent = 0;
    for (auto _ : state) {
        const auto from = std::chrono::steady_clock::now();
        work();
        spent += std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    }
    state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations() * bytes().size()));
    state.counters["of_memory_pass"] = plain / (spent / static_cast<double>(state.iterations()));
}

void MemoryPass(benchmark::State& state) {
    measured(state, [] { benchmark::DoNotOptimize(pass_over(bytes())); });
}

void Packets(benchmark::State& state) {
    std::vector<ItmPacket> out;
    measured(state, [&] {
        ItmDecoder decoder;
        for (std::size_t at = 0; at < bytes().size(); at += kCheckpointBytes) {
            out.clear();
            decoder.feed(std::span(bytes()).subspan(at, std::min(kCheckpointBytes, bytes().size() - at)), out);
            benchmark::DoNotOptimize(out.data());
        }
    });
}

void TimedPackets(benchmark::State& state) {
    std::vector<TimedPacket> out;
    measured(state, [&] {
        ItmPipe pipe(std::nullopt, ItmDecoder::Start::at_sync, Clock{120'000'000}, 1);
        for (std::size_t at = 0; at < bytes().size(); at += kCheckpointBytes) {
            out.clear();
            pipe.feed(std::span(bytes()).subspan(at, std::min(kCheckpointBytes, bytes().size() - at)), out);
            benchmark::DoNotOptimize(out.data());
        }
    });
}

struct OnDisk {
    std::string folder = "/tmp/mtrail-bench";
    std::shared_ptr<const Recording> recording;
    OnDisk() {
        std::filesystem::create_directories(folder);
        std::ofstream(folder + "/b.bin", std::ios::binary)
            .write(reinterpret_cast<const char*>(bytes().data()), static_cast<std::streamsize>(bytes().size()));
        std::ofstream(folder + "/b.target.toml")
            << "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = "
               "120_000_000\nimage = \""
            << MT_DEMO << "/larkspur.elf\"\n[[stream]]\nfile = \"b.bin\"\nprotocol = \"itm\"\ncore = \"main\"\n";
        recording = *open_recording(folder + "/b.target.toml");
    }
    ~OnDisk() { std::filesystem::remove_all(folder); }
};

std::shared_ptr<const Trail> model(const OnDisk& disk) {
    Progress progress;
    return *read_trail(*disk.recording, progress);
}

void WholeModel(benchmark::State& state) {
    const OnDisk disk;
    measured(state, [&] { benchmark::DoNotOptimize(model(disk)); });
}

void Measures(benchmark::State& state) {
    const OnDisk disk;
    const auto trail = model(disk);
    measured(state, [&] { benchmark::DoNotOptimize(interrupt_rows(*trail)); });
}

void Findings(benchmark::State& state) {
    const OnDisk disk;
    const auto trail = model(disk);
    measured(state, [&] { benchmark::DoNotOptimize(find_all(*disk.recording, *trail)); });
}

BENCHMARK(MemoryPass)->Unit(benchmark::kMillisecond);
BENCHMARK(Packets)->Unit(benchmark::kMillisecond);
BENCHMARK(TimedPackets)->Unit(benchmark::kMillisecond);
BENCHMARK(WholeModel)->Unit(benchmark::kMillisecond);
BENCHMARK(Measures)->Unit(benchmark::kMillisecond);
BENCHMARK(Findings)->Unit(benchmark::kMillisecond);

}  // namespace

BENCHMARK_MAIN();
