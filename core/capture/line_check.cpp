#include "base/read_file.h"
#include "capture/line_check.h"

#include <unistd.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <sstream>

namespace mt {
namespace {

using Steady = std::chrono::steady_clock;
constexpr std::size_t kBytesPerPhase = 8 * 1024;
constexpr unsigned kMostAttempts = 6;
constexpr auto kPatience = std::chrono::seconds(2);     ///< for the bytes of one phase
constexpr auto kQuiet = std::chrono::milliseconds(80);  ///< a held line that says nothing for so long is empty
constexpr unsigned kMostPhases = 1024;

Result<std::vector<std::uint8_t>> hear(Source& source, std::size_t most) {
    std::vector<std::uint8_t> bytes(most);
    std::size_t n = 0;
    const auto until = Steady::now() + kPatience;
    while (n < most && Steady::now() < until) {
        auto got = source.read(std::span(bytes).subspan(n), std::chrono::milliseconds(100));
        if (!got) return tl::make_unexpected(got.error());
        n += *got;
    }
    bytes.resize(n);
    return bytes;
}

// The pattern at the phase that was just set. A probe slow to hold the line may still send bytes of the phase
// before: measured again until two measurements in a row agree.
Result<LinePhase> measure_phase(Source& source) {
    LinePhase last;
    for (unsigned attempt = 0; attempt < kMostAttempts; ++attempt) {
        auto heard = hear(source, kBytesPerPhase);
        if (!heard) return tl::make_unexpected(heard.error());
        const LinePhase now = compare_with_pattern(*heard);
        const bool agree = attempt > 0 && now.bits > 0 && last.bits > 0 && now.clean() == last.clean() &&
                           std::abs(now.error() - last.error()) <= 0.25 * std::max(now.error(), last.error());
        last = now;
        if (agree || now.bits == 0) break;
    }
    return last;
}

// What was on its way when the line was held: read until nothing more comes.
Result<void> drain(Source& source) {
    std::vector<std::uint8_t> bytes(64 * 1024);
    const auto until = Steady::now() + kPatience;
    while (Steady::now() < until) {
        auto got = source.read(bytes, kQuiet);
        if (!got) return tl::make_unexpected(got.error());
        if (*got == 0) break;
    }
    return {};
}

}  // namespace

std::vector<std::uint8_t> line_pattern() {
    std::vector<std::uint8_t> p;
    for (unsigned i = 0; i < 64; ++i) p.push_back(static_cast<std::uint8_t>(1u << i % 8));
    for (unsigned i = 0; i < 64; ++i) p.push_back(static_cast<std::uint8_t>(~(1u << i % 8)));
    for (unsigned i = 0; i < 64; ++i) p.push_back(i % 2 == 0 ? 0xAA : 0x55);
    for (unsigned i = 0; i < 64; ++i) p.push_back(i % 2 == 0 ? 0xFF : 0x00);
    return p;
}

LinePhase compare_with_pattern(std::span<const std::uint8_t> heard) {
    static const auto pattern = line_pattern();
    LinePhase best;
    if (heard.size() < pattern.size()) return best;
    for (std::size_t shift = 0; shift < pattern.size(); ++shift) {
        std::uint64_t wrong = 0;
        for (std::size_t i = 0; i < heard.size(); ++i)
            wrong += static_cast<unsigned>(
                std::popcount(static_cast<unsigned>(heard[i] ^ pattern[(i + shift) % pattern.size()])));
        if (shift == 0 || wrong < best.wrong) best.wrong = wrong;
    }
    best.bits = heard.size() * 8;
    return best;
}

LineCheck choose_phase(std::vector<LinePhase> phases) {
    LineCheck check;
    check.phases = std::move(phases);
    const std::size_t n = check.phases.size();
    for (std::size_t from = 0; from < n; ++from) {
        unsigned width = 0;
        while (width < n && check.phases[(from + width) % n].clean()) ++width;
        if (width > check.window) {
            check.window = width;
            check.first = static_cast<unsigned>(from);
        }
    }
    if (check.window > 0) check.best = static_cast<int>((check.first + (check.window - 1) / 2) % n);
    return check;
}

Result<LineCheck> check_line(DebugServer& server, Source& source, const std::function<void(const LinePhase&)>& seen,
                             Progress& progress) {
    auto count = server.monitor("line phases");
    if (!count) return tl::make_unexpected(count.error());
    const unsigned phases = static_cast<unsigned>(std::strtoul(count->c_str(), nullptr, 10));
    if (count->find("unknown") != std::string::npos || phases < 2 || phases > kMostPhases)
        return failure("this probe offers no line check", "",
                       "it must know the commands of docs/formats/line-check.md; set its phase by its own means");
    struct PatternOff {
        DebugServer& server;
        ~PatternOff() { (void)server.monitor("line pattern off"); }
    } off{server};
    std::vector<LinePhase> measured;
    for (unsigned p = 0; p < phases; ++p) {
        if (progress.cancelled()) return failure("the line check was stopped", "");
        if (auto hold = server.monitor("line pattern hold"); !hold) return tl::make_unexpected(hold.error());
        if (auto ok = drain(source); !ok) return tl::make_unexpected(ok.error());
        if (auto set = server.monitor("line phase " + std::to_string(p)); !set) return tl::make_unexpected(set.error());
        if (auto on = server.monitor("line pattern on"); !on) return tl::make_unexpected(on.error());
        auto heard = measure_phase(source);
        if (!heard) return tl::make_unexpected(heard.error());
        LinePhase one = *heard;
        one.phase = p;
        measured.push_back(one);
        if (seen) seen(one);
        progress.report(p + 1, phases);
    }
    if (std::all_of(measured.begin(), measured.end(), [](const LinePhase& p) { return p.bits == 0; }))
        return failure("no pattern arrives on the trace line", "", "is the trace source the one of this probe?");
    LineCheck check = choose_phase(std::move(measured));
    unsigned use = static_cast<unsigned>(std::max(0, check.best));
    if (check.best < 0)
        use = static_cast<unsigned>(
            std::min_element(check.phases.begin(), check.phases.end(),
                             [](const LinePhase& a, const LinePhase& b) { return a.error() < b.error(); }) -
            check.phases.begin());
    if (auto set = server.monitor("line phase " + std::to_string(use)); !set) return tl::make_unexpected(set.error());
    return check;
}

Result<void> store_phase(const std::string& target_path, unsigned stream_line, const LineCheck& check) {
    const auto text = read_small_file(target_path, 4'000'000, "target file");
    if (!text) return tl::make_unexpected(text.error());
    std::istringstream in(*text);
    const std::string table = "[stream.line]\nphase  = " + std::to_string(std::max(0, check.best)) +
                              "\nphases = " + std::to_string(check.phases.size()) +
                              "\nwindow = " + std::to_string(check.window) + "\n";
    // The stream's own tables reach to the next [[…]]; an earlier [stream.line] among them is replaced.
    std::vector<std::string> lines;
    for (std::string line; std::getline(in, line);) lines.push_back(line);
    const auto starts = [](const std::string& line, const char* with) {
        const auto first = line.find_first_not_of(" \t");
        return first != std::string::npos && line.compare(first, std::string(with).size(), with) == 0;
    };
    std::size_t end = std::min<std::size_t>(stream_line, lines.size());
    while (end < lines.size() && !starts(lines[end], "[[")) ++end;
    std::ostringstream out;
    bool in_old = false;
    std::vector<std::string> kept;
    for (std::size_t i = stream_line; i < end; ++i) {
        if (starts(lines[i], "[")) in_old = starts(lines[i], "[stream.line]");
        if (!in_old) kept.push_back(lines[i]);
    }
    while (!kept.empty() && kept.back().find_first_not_of(" \t\r") == std::string::npos) kept.pop_back();
    for (std::size_t i = 0; i < std::min<std::size_t>(stream_line, lines.size()); ++i) out << lines[i] << "\n";
    for (const auto& l : kept) out << l << "\n";
    out << "\n" << table;
    if (end < lines.size()) out << "\n";
    for (std::size_t i = end; i < lines.size(); ++i) out << lines[i] << "\n";
    const std::string part = target_path + ".part-" + std::to_string(::getpid());
    std::ofstream file(part, std::ios::binary);
    file << out.str();
    file.close();
    if (!file || std::rename(part.c_str(), target_path.c_str()) != 0) {
        std::remove(part.c_str());
        return failure("cannot write", target_path, "check free space and permissions");
    }
    return {};
}

}  // namespace mt
