#include "judge/trace_rates.h"

#include <algorithm>

namespace mt {
namespace {

constexpr double kLeast = 0.1;

double seconds_of(const Trail& trail) { return trail.end.ns() * 1e-9; }

}  // namespace

std::optional<TraceRates> rates_of(const Trail& trail, const std::string& core) {
    const double seconds = seconds_of(trail);
    if (seconds < kLeast) return std::nullopt;
    TraceRates rates;
    bool any = false;
    for (const StreamTrail& s : trail.streams) {
        if (s.core != core) continue;
        const auto count = [&](ItmKind kind) { return static_cast<double>(s.counts[static_cast<std::size_t>(kind)]); };
        if (count(ItmKind::exc_enter) > 0) {
            rates.exceptions_per_s = count(ItmKind::exc_enter) / seconds;
            any = true;
        }
        double watched = 0;
        for (const std::uint64_t n : s.comparators) watched += n > 0 ? 1 : 0;
        if (watched > 0) {
            rates.accesses_per_s =
                std::max(count(ItmKind::data_read) + count(ItmKind::data_write), count(ItmKind::data_pc)) / watched /
                seconds;
            any = true;
        }
        const double samples = count(ItmKind::pc) + count(ItmKind::sleep);
        if (samples > 100) rates.busy = std::clamp(count(ItmKind::pc) / samples, 0.01, 1.0);
    }
    for (const StepTrail& s : trail.steps) {
        if (s.core != core || s.steps < 1000) continue;
        rates.bytes_per_instruction = static_cast<double>(s.raw_bytes) / static_cast<double>(s.steps);
        any = true;
    }
    rates.measured = any;
    return any ? std::optional(rates) : std::nullopt;
}

std::vector<CostLine> measured_cost(const Trail& trail, const std::string& core) {
    const double seconds = seconds_of(trail);
    std::vector<CostLine> lines;
    if (seconds < kLeast) return lines;
    const auto add = [&](const std::string& what, double bytes) {
        if (bytes > 0) lines.push_back({what, bytes / seconds, ""});
    };
    for (const StreamTrail& s : trail.streams) {
        if (s.core != core) continue;
        const auto count = [&](ItmKind kind) { return static_cast<double>(s.counts[static_cast<std::size_t>(kind)]); };
        const double exceptions =
            3 * (count(ItmKind::exc_enter) + count(ItmKind::exc_exit) + count(ItmKind::exc_return));
        const double samples = 5 * count(ItmKind::pc) + 2 * count(ItmKind::sleep);
        const double variables = 4 * (count(ItmKind::data_read) + count(ItmKind::data_write)) +
                                 5 * count(ItmKind::data_pc) + 3 * count(ItmKind::data_offset);
        const double ports = 3 * count(ItmKind::port), counters = 2 * count(ItmKind::counter);
        const double global = 5 * (count(ItmKind::global_time_1) + count(ItmKind::global_time_2));
        const double sync = 6 * count(ItmKind::sync);
        add("exceptions", exceptions);
        add("samples of the program counter", samples);
        add("variables", variables);
        add("ports", ports);
        add("event counters", counters);
        add("global timestamps", global);
        add("synchronisation", sync);
        const double rest = static_cast<double>(s.bytes) - exceptions - samples - variables - ports - counters -
                            global - sync - static_cast<double>(s.bad_bytes);
        add("local timestamps", rest);
        add("frames", static_cast<double>(s.raw_bytes) - static_cast<double>(s.bytes));
    }
    for (const StepTrail& s : trail.steps)
        if (s.core == core) add("instructions", static_cast<double>(s.raw_bytes));
    std::stable_sort(lines.begin(), lines.end(),
                     [](const CostLine& a, const CostLine& b) { return a.bytes_per_s > b.bytes_per_s; });
    return lines;
}

}  // namespace mt
