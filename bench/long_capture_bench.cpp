// A capture of a thousand million instructions, as bench/make-long-capture.sh and bench/make-long-etm.sh make it: how
// fast the whole pass is on one core and on all, when there is something to see, how long a window of 10 000
// instructions takes, and the memory; and whether it tells what was executed, where that is known.
#include <sched.h>
#include <sys/resource.h>

#include <chrono>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <map>
#include <random>
#include <sstream>

#include "memory_pass.h"
#include "pass/reading.h"
#include "replay/step_window.h"

namespace {

using namespace mt;
using Steady = std::chrono::steady_clock;

double seconds_since(Steady::time_point t) { return std::chrono::duration<double>(Steady::now() - t).count(); }

double peak_mb() {
    rusage usage{};
    ::getrusage(RUSAGE_SELF, &usage);
    return static_cast<double>(usage.ru_maxrss) / 1024;
}

// Holds the figures of functions against those that stand beside the stream, if any do: a line each, its name, how
// often it was entered, and its instructions.
void compare(const StepTrail& t) {
    std::ifstream in(std::filesystem::path(t.file).replace_extension(".executed"));
    if (!in) return;
    std::map<std::string, const FunctionTally*> tallies;
    for (std::uint32_t i = 0; i < t.functions->size(); ++i) tallies[(*t.functions)[i].name] = &t.tallies[i];
    std::size_t agree = 0, differ = 0;
    std::uint64_t calls = 0;
    for (std::string line, name; std::getline(in, line);) {
        std::istringstream words(line);
        std::uint64_t entered = 0, executed = 0;
        char comma = 0;
        std::getline(words, name, ',');
        words >> entered;
        bool same = true;
        if (name == "instructions") {
            same = entered == t.steps;
        } else if (name == "exceptions") {
            same = entered == t.traps.size();
        } else {
            words >> comma >> executed;
            const FunctionTally& f = *tallies.at(name);
            // The one that the program began in was not entered.
            same = (entered == f.calls + f.left_out || entered == 0) && executed == f.steps;
            calls += entered;
        }
        ++(same ? agree : differ);
        if (!same) std::printf("NOT as executed: %s\n", line.c_str());
    }
    std::printf("%zu figures as executed (%.1f million calls), %zu not\n", agree, static_cast<double>(calls) / 1e6,
                differ);
}

}  // namespace

int main(int argc, char** argv) {
    if (argc != 2) {
        std::fprintf(stderr, "usage: mtrail-long-bench X.target.toml\n");
        return 2;
    }
    const auto recording = open_recording(argv[1]);
    if (!recording || (*recording)->step_streams.empty()) {
        std::fprintf(stderr, "%s: no instruction trace can be opened\n", argv[1]);
        return 2;
    }
    const auto raw = (*recording)->step_streams[0].bytes();
    const double plain = bench::memory_pass_seconds(raw);
    std::printf("%.1f MB, plain memory pass %.4f s\n", static_cast<double>(raw.size()) / 1e6, plain);
    cpu_set_t all;
    ::sched_getaffinity(0, sizeof all, &all);
    std::shared_ptr<const Trail> trail;
    for (const bool one : {false, true}) {
        cpu_set_t use = all;
        if (one) {
            int last = 0;  // the first serves interrupts
            for (int c = 0; c < CPU_SETSIZE; ++c)
                if (CPU_ISSET(c, &all)) last = c;
            CPU_ZERO(&use);
            CPU_SET(last, &use);
        }
        ::sched_setaffinity(0, sizeof use, &use);
        trail.reset();
        Progress progress;
        double first = 0;
        const auto from = Steady::now();
        const auto read = read_trail(**recording, progress, [&](std::shared_ptr<const Trail> t) {
            if (first == 0 && t->steps[0].steps > 0) first = seconds_since(from);
        });
        const double spent = seconds_since(from);
        trail = *read;
        std::printf(
            "%s: %.0f million instructions in %.2f s, %.0f million/s, %.5f of the memory pass; first picture "
            "after %.2f s; peak memory so far %.0f MB\n",
            one ? "one core" : "all cores", static_cast<double>(trail->steps[0].steps) / 1e6, spent,
            static_cast<double>(trail->steps[0].steps) / spent / 1e6, plain / spent, first, peak_mb());
    }
    ::sched_setaffinity(0, sizeof all, &all);
    compare(trail->steps[0]);
    std::mt19937_64 random(1);
    double worst = 0, sum = 0;
    constexpr int kWindows = 200;
    for (int i = 0; i < kWindows; ++i) {
        const auto from = Steady::now();
        const StepWindow w =
            step_window(**recording, trail->steps[0], random() % (trail->steps[0].steps - 10'000), 10'000);
        if (w.end - w.first != 10'000) std::printf("a window was cut short\n");
        const double ms = seconds_since(from) * 1e3;
        worst = std::max(worst, ms);
        sum += ms;
    }
    std::printf("window of 10 000 instructions anywhere: mean %.1f ms, worst of %d: %.1f ms\n", sum / kWindows,
                kWindows, worst);
    return 0;
}
