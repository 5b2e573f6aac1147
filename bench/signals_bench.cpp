// How fast files of measuring devices become lanes: bytes per second on one thread, and the ratio to a plain pass over
// the same bytes in the same run.
#include <benchmark/benchmark.h>

#include <chrono>
#include <random>
#include <sstream>

#include "memory_pass.h"
#include "share/mdf_export.h"
#include "signals/signal_file.h"

namespace {

using namespace mt;
using SteadyClock = std::chrono::steady_clock;
constexpr std::size_t kBytes = 64 << 20;

// Sixteen lines and two words of a bus, a few changes at each moment.
std::string a_dump() {
    std::mt19937 random(1);
    std::string out = "$timescale 1ns $end\n";
    for (int i = 0; i < 16; ++i)
        out += std::string("$var wire 1 ") + static_cast<char>('!' + i) + " line" + std::to_string(i) + " $end\n";
    out += "$var wire 16 aa word $end\n$var real 64 bb level $end\n$enddefinitions $end\n";
    for (std::uint64_t t = 0; out.size() < kBytes; t += 1 + random() % 200) {
        out += "#" + std::to_string(t) + "\n";
        for (unsigned i = 0, n = 1 + random() % 4; i < n; ++i) {
            out += random() % 2 != 0 ? '1' : '0';
            out += static_cast<char>('!' + random() % 16);
            out += '\n';
        }
        if (random() % 8 == 0) {
            out += "b";
            for (int i = 0; i < 16; ++i) out += random() % 2 != 0 ? '1' : '0';
            out += " aa\n";
        }
        if (random() % 32 == 0) out += "r" + std::to_string(static_cast<double>(random() % 100'000) / 1000) + " bb\n";
    }
    return out;
}

std::string a_table() {
    std::mt19937 random(1);
    std::string out = "time [us];current [mA];voltage [V];pin\n";
    char row[96];
    for (std::uint64_t t = 0; out.size() < kBytes; t += 20) {
        std::snprintf(row, sizeof row, "%llu;%.3f;%.4f;%u\n", static_cast<unsigned long long>(t),
                      static_cast<double>(random() % 100'000) / 1000, 3.3 + static_cast<double>(random() % 1000) / 1e5,
                      static_cast<unsigned>(random() % 2));
        out += row;
    }
    return out;
}

// As this program writes it: groups of a time and a value, 64-bit reals.
std::string an_mdf() {
    std::mt19937 random(1);
    Trail trail;
    trail.complete = true;
    for (int k = 0; k < 2; ++k) {
        ValueLane lane;
        lane.name = "level " + std::to_string(k);
        lane.core = ValueLane::kNoCore;
        lane.sort = ValueSort::real;
        for (std::size_t i = 0; i < kBytes / 32; ++i)
            lane.append(Time{static_cast<std::int64_t>(i) * 1'000'000},
                        Value::of(static_cast<double>(random() % 100'000)).bits);
        trail.end = lane.samples.back().time;
        trail.tasks.values.push_back(std::move(lane));
    }
    std::stringstream out;
    Progress progress;
    if (!write_mdf(trail, "", out, progress)) return {};
    return out.str();
}

void read(benchmark::State& state, const std::string& text) {
    const std::span<const std::uint8_t> bytes(reinterpret_cast<const std::uint8_t*>(text.data()), text.size());
    const double plain = bench::memory_pass_seconds(bytes);
    double spent = 0;
    const std::string format = signal_format_of(bytes);
    for (auto _ : state) {
        const auto from = SteadyClock::now();
        const auto file = format == "VCD"   ? read_vcd(bytes, "bench", {})
                          : format == "MDF" ? read_mdf(bytes, "bench", {})
                                            : read_csv_signals(bytes, "bench", {});
        if (!file) state.SkipWithError("not read");
        benchmark::DoNotOptimize(file);
        spent += std::chrono::duration<double>(SteadyClock::now() - from).count();
    }
    state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations() * text.size()));
    state.counters["of_memory_pass"] = plain * static_cast<double>(state.iterations()) / spent;
}

void SignalsVcd(benchmark::State& state) {
    static const std::string text = a_dump();
    read(state, text);
}
void SignalsCsv(benchmark::State& state) {
    static const std::string text = a_table();
    read(state, text);
}
void SignalsMdf(benchmark::State& state) {
    static const std::string text = an_mdf();
    read(state, text);
}

}  // namespace

BENCHMARK(SignalsVcd)->Unit(benchmark::kMillisecond);
BENCHMARK(SignalsCsv)->Unit(benchmark::kMillisecond);
BENCHMARK(SignalsMdf)->Unit(benchmark::kMillisecond);
