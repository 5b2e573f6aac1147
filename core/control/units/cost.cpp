#include "control/units/cost.h"

#include <algorithm>
#include <cmath>
#include <cstdio>

#include "base/text.h"

namespace mt {
namespace {

std::string per_second(double n, const char* what) {
    return count_text(static_cast<std::uint64_t>(std::llround(n))) + " " + what;
}

std::vector<CostLine> cost_lines(const TracePlan& plan, double hz, const TraceRates& rates) {
    std::vector<CostLine> lines;
    const std::string says = rates.measured ? " (measured)" : " (assumed)";
    double groups = 0;  // packets that come together share a timestamp
    const auto add = [&](const std::string& what, double times, double bytes, const std::string& assumption) {
        if (times <= 0) return;
        lines.push_back({what, times * bytes, assumption});
        groups += times;
    };
    // DDI 0403E appendix D4: sizes of the packets.
    if (plan.exceptions)
        add("exceptions", rates.exceptions_per_s * 3, 3, per_second(rates.exceptions_per_s, "entries a second") + says);
    if (plan.pc_sample_cycles > 0)
        add("samples of the program counter", hz / static_cast<double>(plan.pc_sample_cycles), 5, "");
    for (const auto& [name, bytes] : plan.variables)
        add("variable " + name, rates.accesses_per_s, bytes,
            per_second(rates.accesses_per_s, "accesses a second") + says);
    if (plan.counters > 0)
        add("event counters", hz / 256 * 0.1 * plan.counters, 2, "each counter runs a tenth of the time (assumed)");
    if (plan.local_timestamps && groups > 0)
        lines.push_back({"local timestamps", groups * 2.2, "2.2 bytes each (assumed)"});
    if (plan.global_timestamps) lines.push_back({"global timestamps", hz / 8192 * 5, ""});
    if (plan.instructions) {
        char text[80];
        std::snprintf(text, sizeof text, "busy %.0f %% of the time, %.2f bytes an instruction", rates.busy * 100,
                      rates.bytes_per_instruction);
        lines.push_back({"instructions", hz * rates.busy * rates.bytes_per_instruction, text + says});
    }
    double total = 0;
    for (const CostLine& line : lines) total += line.bytes_per_s;
    if (plan.framed) lines.push_back({"frames", total / 12, ""});  // IHI 0029 D4: 15 bytes of 16, and IDs
    return lines;
}

}  // namespace

CostEstimate estimate_cost(const TracePlan& plan, std::uint64_t clock_hz, const TraceRates& rates) {
    CostEstimate out;
    const auto hz = static_cast<double>(clock_hz);
    out.lines = cost_lines(plan, hz, rates);
    for (const CostLine& line : out.lines) out.bytes_per_s += line.bytes_per_s;
    std::stable_sort(out.lines.begin(), out.lines.end(),
                     [](const CostLine& a, const CostLine& b) { return a.bytes_per_s > b.bytes_per_s; });
    using To = TraceWish::To;
    if (plan.to == To::swo)
        out.carries = static_cast<double>(plan.bits_per_s) / 10;  // a start and a stop bit
    else if (plan.to == To::port)
        out.carries = static_cast<double>(plan.bits_per_s) / 8;
    else if (plan.buffer_bytes > 0 && out.bytes_per_s > 0)
        out.reaches_back_s = static_cast<double>(plan.buffer_bytes) / out.bytes_per_s;

    // What each thinning would leave.
    struct Way {
        std::string text;
        double left;
    };
    std::vector<Way> ways;
    const auto try_plan = [&](const std::string& text, auto change) {
        TracePlan other = plan;
        change(other);
        const auto lines = cost_lines(other, hz, rates);
        double left = 0;
        for (const CostLine& line : lines) left += line.bytes_per_s;
        ways.push_back({text, left});
    };
    if (plan.pc_sample_cycles > 0 && plan.pc_sample_cycles * 4 <= 16'384)
        try_plan("samples every " + count_text(plan.pc_sample_cycles * 4) + " cycles instead of " +
                     count_text(plan.pc_sample_cycles),
                 [](TracePlan& p) { p.pc_sample_cycles *= 4; });
    else if (plan.pc_sample_cycles > 0)
        try_plan("no samples of the program counter", [](TracePlan& p) { p.pc_sample_cycles = 0; });
    if (plan.global_timestamps) try_plan("no global timestamps", [](TracePlan& p) { p.global_timestamps = false; });
    if (plan.counters > 0) try_plan("no event counters", [](TracePlan& p) { p.counters = 0; });
    for (std::size_t i = 0; i < plan.variables.size(); ++i) {
        if (plan.variables[i].second > 5)
            try_plan(plan.variables[i].first + " without the instruction's address",
                     [i](TracePlan& p) { p.variables[i].second -= 5; });
        else if (plan.variables.size() > 1)
            try_plan("without " + plan.variables[i].first,
                     [i](TracePlan& p) { p.variables.erase(p.variables.begin() + static_cast<std::ptrdiff_t>(i)); });
    }
    std::stable_sort(ways.begin(), ways.end(), [](const Way& a, const Way& b) { return a.left < b.left; });
    for (const Way& way : ways) {
        const double gain = out.bytes_per_s > 0 ? 1 - way.left / out.bytes_per_s : 0;
        if (gain >= 0.05 && out.advice.size() < 4)
            out.advice.push_back(way.text + ": " + std::to_string(std::lround(gain * 100)) + " % less");
    }
    return out;
}

}  // namespace mt
