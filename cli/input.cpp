#include "input.h"

#include <unistd.h>

#include <atomic>
#include <cmath>
#include <csignal>
#include <cstdio>
#include <mutex>
#include <thread>
#include <vector>

#include <CLI/CLI.hpp>

#include "base/cores.h"
#include "output.h"
#include "pass/reading.h"

namespace mt::cli {
namespace {

std::atomic<Progress*> interrupted = nullptr;  // set while a pass runs, for SIGINT

}  // namespace

Result<std::optional<Time>> time_of(const std::string& option, const std::string& text) {
    if (text.empty()) return std::optional<Time>();
    std::size_t used = 0;
    double value = 0;
    try {
        value = std::stod(text, &used);
    } catch (const std::exception&) {
        used = 0;
    }
    std::string unit = text.substr(used);
    unit.erase(0, unit.find_first_not_of(' ') == std::string::npos ? unit.size() : unit.find_first_not_of(' '));
    const double factor = unit.empty() || unit == "ns"                             ? 1
                          : unit == "us" || unit == "\u00b5s" || unit == "\u03bcs" ? 1e3
                          : unit == "ms"                                           ? 1e6
                          : unit == "s"                                            ? 1e9
                                                                                   : 0;
    constexpr double kMostNs = 9e15;  // a hundred days
    if (used == 0 || factor == 0 || !std::isfinite(value) || value < 0 || value * factor > kMostNs)
        return failure("'" + text + "' is no time", option, "give a number from 0, with ns (or nothing), us, ms or s");
    return std::optional(Time::from_ns(value * factor));
}

Result<const StepTrail*> steps_of(const Opened& opened, const std::string& core) {
    std::string known;
    const StepTrail* found = nullptr;
    for (const auto& t : opened.trail->steps) {
        known += (known.empty() ? "" : ", ") + t.core;
        if (core.empty() ? found == nullptr : t.core == core) found = &t;
    }
    if (found == nullptr)
        return failure(
            known.empty() ? "the recording holds no instruction trace" : "no instructions of core '" + core + "'",
            opened.recording->input,
            known.empty() ? "give one with an etm4, pft, etm3, etrace, ntrace or mtb stream" : "there are: " + known);
    if (core.empty() && opened.trail->steps.size() > 1)
        return failure("the recording holds instructions of several cores", opened.recording->input,
                       "name one with --core: " + known);
    return found;
}

Result<Opened> open_and_read(const std::string& input) {
    auto recording = open_recording(input);
    if (!recording) return tl::make_unexpected(recording.error());
    Progress progress;
    interrupted = &progress;
    std::signal(SIGINT, [](int) {
        if (Progress* p = interrupted) p->cancel();
    });
    std::atomic<bool> done{false};
    std::thread reporter;
    if (::isatty(STDERR_FILENO) != 0)
        reporter = std::thread([&] {
            while (!done) {
                std::this_thread::sleep_for(std::chrono::milliseconds(100));
                if (progress.share() > 0) std::fprintf(stderr, "\rdecoding %3.0f %%", progress.share() * 100);
            }
            std::fprintf(stderr, "\r              \r");
        });
    auto trail = read_trail(**recording, progress);
    done = true;
    if (reporter.joinable()) reporter.join();
    std::signal(SIGINT, SIG_DFL);
    interrupted = nullptr;
    if (!trail) return tl::make_unexpected(trail.error());
    if ((*trail)->cancelled) return failure("interrupted", input, "run it again to the end");
    return Opened{*recording, *trail};
}

Result<void> read_each(const std::vector<std::string>& inputs,
                       const std::function<Result<void>(std::size_t index, const Opened& opened)>& each) {
    if (inputs.size() == 1) {
        const auto opened = open_and_read(inputs[0]);
        if (!opened) return tl::make_unexpected(opened.error());
        return each(0, *opened);
    }
    Progress progress;
    interrupted = &progress;
    std::signal(SIGINT, [](int) {
        if (Progress* p = interrupted) p->cancel();
    });
    std::atomic<std::size_t> next{0};
    std::mutex lock;
    std::optional<std::pair<std::size_t, Problem>> first;  // of the inputs in their order
    const auto work = [&] {
        for (std::size_t i; (i = next++) < inputs.size() && !progress.cancelled();) {
            const auto outcome = [&]() -> Result<void> {
                const auto recording = open_recording(inputs[i]);
                if (!recording) return tl::make_unexpected(recording.error());
                const auto trail = read_trail(**recording, progress);
                if (!trail) return tl::make_unexpected(trail.error());
                if ((*trail)->cancelled) return failure("interrupted", inputs[i], "run it again to the end");
                return each(i, Opened{*recording, *trail});
            }();
            if (outcome) continue;
            const std::lock_guard guard(lock);
            if (!first || i < first->first) first = {i, outcome.error()};
            progress.cancel();
        }
    };
    std::vector<std::thread> threads;
    for (unsigned t = 1; t < std::min<std::size_t>(usable_cores(), inputs.size()); ++t) threads.emplace_back(work);
    work();
    for (std::thread& t : threads) t.join();
    std::signal(SIGINT, SIG_DFL);
    interrupted = nullptr;
    if (first) return tl::make_unexpected(first->second);
    if (progress.cancelled()) return failure("interrupted", "", "run it again to the end");
    return {};
}

void Reading::add_input(CLI::App& command) {
    command.add_option("INPUT", input, "a *.target.toml, a *.mtrail folder, the folder of a CTF trace, or one of these as tar")->required();
}

void Reading::add_output(CLI::App& command) {
    command.add_option("-o,--output", output, "file to write; - for standard output");
}

int Reading::write(const Opened& opened, bool for_people, const std::function<void(std::ostream&)>& how) const {
    return write_to(output, Inputs(*opened.recording), for_people, how);
}

void Between::add(CLI::App& command) {
    command.add_option("--from", from_text, "first time from the start: 1500 (ns), 1.5us, 2ms, 3s");
    command.add_option("--to", to_text, "last time from the start");
}

Result<void> Between::read() {
    const auto first = time_of("--from", from_text), last = time_of("--to", to_text);
    if (!first) return tl::make_unexpected(first.error());
    if (!last) return tl::make_unexpected(last.error());
    from = *first;
    to = *last;
    if (from && to && *to < *from)
        return failure("--from lies after --to", from_text + " and " + to_text, "exchange them");
    return {};
}

}  // namespace mt::cli
