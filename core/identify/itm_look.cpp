#include <algorithm>
#include <array>
#include <cmath>
#include <map>

#include "base/text.h"
#include "identify/looks.h"
#include "wire/itm.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostSysTicks = 4096;
constexpr std::uint64_t kLost = ~std::uint64_t{0};  // in place of ticks: packets were lost here

// What packets tell when they are taken for what they say.
struct Tally {
    std::array<std::uint64_t, kItmKinds> kinds{};
    std::array<std::uint64_t, 256> ports{};
    std::map<unsigned, std::uint64_t> exceptions;
    std::uint64_t packets = 0, bad = 0, lead_in = 0, outside = 0, inside = 0;
    std::uint64_t ticks = 0;                                       // of local timestamps
    std::vector<std::uint64_t> sys_ticks;                          // times of SysTick's entries
    std::vector<std::pair<std::uint64_t, std::uint64_t>> globals;  // (ticks, global time) where both are whole

    std::uint64_t of(ItmKind k) const { return kinds[static_cast<std::size_t>(k)]; }
};

Tally tally_of(const std::vector<ItmPacket>& packets, const Image* image) {
    Tally t;
    bool any = false, sys_tick = false;
    std::uint64_t upper = 0;
    for (const ItmPacket& p : packets) {
        ++t.kinds[static_cast<std::size_t>(p.kind)];
        if (p.kind == ItmKind::damage) {
            (any ? t.bad : t.lead_in) += p.length;
            continue;
        }
        any = true;
        ++t.packets;
        switch (p.kind) {
            case ItmKind::local_time_1:
            case ItmKind::local_time_2:
                t.ticks += p.value;
                if (sys_tick && t.sys_ticks.size() < kMostSysTicks) t.sys_ticks.push_back(t.ticks);
                sys_tick = false;
                break;
            case ItmKind::overflow:  // time goes on unseen
                t.globals.emplace_back(kLost, 0);
                t.sys_ticks.push_back(kLost);
                break;
            case ItmKind::global_time_2:
                upper = p.value << 26;
                break;
            case ItmKind::global_time_1:
                if (p.size == 4) t.globals.emplace_back(t.ticks, upper | (p.value & 0x3FF'FFFF));
                break;
            case ItmKind::exc_enter:
                ++t.exceptions[p.number];
                sys_tick = sys_tick || p.number == 15;
                break;
            case ItmKind::pc:
                if (image != nullptr) ++(image->is_code(p.value & ~std::uint64_t{1}) ? t.inside : t.outside);
                break;
            case ItmKind::data_pc:
                if (image != nullptr && p.size == 4)
                    ++(image->is_code(p.value & ~std::uint64_t{1}) ? t.inside : t.outside);
                break;
            case ItmKind::port:
                ++t.ports[p.number & 0xFF];
                break;
            default:
                break;
        }
    }
    return t;
}

// Exceptions that the image's vector table has no handler for; nothing without a table.
std::optional<std::pair<std::uint64_t, std::uint64_t>> in_vector_table(const Tally& t, const Image* image) {
    const auto table = image != nullptr ? image->vector_table() : std::nullopt;
    if (!table) return std::nullopt;
    std::uint64_t in = 0, out = 0;
    for (const auto& [number, count] : t.exceptions) {
        const auto word = image->word_at(*table + 4 * number);
        const bool handler = number > 0 && word && (*word & 1) != 0 && image->is_code(*word & ~1u);
        (handler ? in : out) += count;
    }
    return std::pair(in, out);
}

// Of 1, 4, 16, 64: how many of the global clock's cycles fall on a tick of the local one (D4.2.4, D4.2.5). Where
// packets were lost, ticks are missing: then the ratio is too great, but not by much.
std::optional<unsigned> prescaler_of(const Tally& t) {
    constexpr std::array<unsigned, 4> kScales = {1, 4, 16, 64};
    std::optional<double> least;
    std::pair<std::uint64_t, std::uint64_t> before{};
    bool known = false;
    for (const auto& [ticks, global] : t.globals) {
        if (ticks == kLost) continue;
        if (known && ticks > before.first + 64 && global > before.second) {
            const double ratio =
                static_cast<double>(global - before.second) / static_cast<double>(ticks - before.first);
            least = std::min(least.value_or(ratio), ratio);
        }
        before = {ticks, global};
        known = true;
    }
    if (!least) return std::nullopt;
    for (const unsigned scale : kScales)
        if (*least > scale * 0.9 && *least < scale * 1.9) return scale;
    return std::nullopt;
}

// Clocks that make the usual distance of SysTick's entries a round time.
std::vector<ClockGuess> clocks_of(const Tally& t, unsigned prescaler) {
    std::vector<std::uint64_t> periods;
    for (std::size_t i = 1; i < t.sys_ticks.size(); ++i)
        if (t.sys_ticks[i] != kLost && t.sys_ticks[i - 1] != kLost && t.sys_ticks[i] > t.sys_ticks[i - 1])
            periods.push_back(t.sys_ticks[i] - t.sys_ticks[i - 1]);
    if (periods.size() < 4) return {};
    std::nth_element(periods.begin(), periods.begin() + static_cast<std::ptrdiff_t>(periods.size() / 2), periods.end());
    const double cycles = static_cast<double>(periods[periods.size() / 2]) * prescaler;
    std::vector<ClockGuess> all;
    constexpr std::pair<double, const char*> kTicks[] = {{1e-3, "1 ms"},    {10e-3, "10 ms"}, {5e-3, "5 ms"},
                                                         {2e-3, "2 ms"},    {20e-3, "20 ms"}, {100e-6, "100 µs"},
                                                         {0.5e-3, "0.5 ms"}};
    for (const double step : {1e6, 250e3})  // whole megahertz first
        for (const auto& [seconds, text] : kTicks) {
            const double hz = cycles / seconds, round = std::round(hz / step) * step;
            if (hz < 1e6 || hz > 1.2e9 || std::fabs(hz - round) > round * 0.002) continue;
            const auto whole = static_cast<std::uint64_t>(round);
            if (std::none_of(all.begin(), all.end(), [whole](const ClockGuess& c) { return c.hz == whole; }))
                all.push_back({whole, std::string("SysTick would come every ") + text});
        }
    return all;
}

}  // namespace

std::vector<Guess> look_itm(const StreamSpec& spec, std::span<const std::uint8_t> bytes, const LookedWith& with) {
    std::vector<ItmPacket> packets;
    ItmDecoder decoder;
    decoder.feed(bytes, packets);
    Tally t = tally_of(packets, with.image.get());
    bool synced = t.of(ItmKind::sync) > 0;
    if (!synced) {  // perhaps too short for one
        packets.clear();
        ItmDecoder trusting(ItmDecoder::Start::at_once);
        trusting.feed(bytes, packets);
        t = tally_of(packets, with.image.get());
    }
    if (t.packets < 4) return {};
    // What no firmware does: many ports of which each is used now and then, exceptions without handlers, code outside
    // of the image, and everything without a timestamp ever.
    std::uint64_t used = 0, rare = 0, through_ports = 0;
    for (const std::uint64_t n : t.ports) through_ports += n;
    for (const std::uint64_t n : t.ports) {
        used += n > 0 ? 1 : 0;
        if (n > 0 && n * 200 < through_ports) rare += n;
    }
    const auto handlers = in_vector_table(t, with.image.get());
    const std::uint64_t odd = (used > 24 ? rare : 0) + (handlers ? handlers->second : 0) + t.outside +
                              t.of(ItmKind::extension) * (t.of(ItmKind::extension) * 20 > t.packets ? 1 : 0);
    const double packet_count = static_cast<double>(t.packets);
    const double good =
        1 - static_cast<double>(t.bad) / static_cast<double>(std::max<std::size_t>(1, bytes.size() - t.lead_in));
    double fit = std::max(0.0, good) * std::max(0.0, 1 - 4 * static_cast<double>(odd) / packet_count);
    if (used > 40) fit *= 0.5;  // of 256 possible ones
    if (!synced) fit *= 0.5;
    if (t.packets < 200) fit *= 0.5 + static_cast<double>(t.packets) / 400;
    if (static_cast<double>(t.lead_in) > 0.5 * static_cast<double>(bytes.size())) fit *= 0.4;
    const bool known = with.isa.empty() || isa_of(with.isa) == Isa::thumb;
    if (!known) fit *= 0.7;  // software of any core may write such packets; hardware is M-profile only

    Guess g;
    g.stream = spec;
    g.stream.protocol = Protocol::itm;
    g.isa = with.isa;
    g.fit = fit;
    g.why = plural(t.of(ItmKind::sync), "synchronisation", "synchronisations") + ", " +
            (t.bad == 0 ? std::string("no bad bytes") : plural(t.bad, "bad byte", "bad bytes"));
    if (handlers && handlers->first > 0)
        g.why += handlers->second == 0
                     ? ", exception numbers all in the vector table"
                     : ", " + plural(handlers->second, "exception", "exceptions") + " without a handler";
    if (t.inside + t.outside > 0)
        g.why += t.outside == 0 ? ", sampled addresses all in the image's code"
                                : ", " + count_text(t.outside) + " sampled addresses outside the image's code";
    const auto prescaler = prescaler_of(t);
    g.stream.timestamp_prescaler = prescaler.value_or(1);
    if (prescaler && t.globals.size() > 1)
        g.why += ", global timestamps count " + std::to_string(*prescaler) + " to each local tick";
    else if (t.ticks > 0)
        g.questions.push_back(
            "Which prescaler do local timestamps have (ITM_TCR.TSPrescale: 1, 4, 16 or 64)? Without global timestamps "
            "the bytes do not tell: 1 is assumed.");
    g.clocks = clocks_of(t, g.stream.timestamp_prescaler);
    if (!g.clocks.empty())
        g.why += "; " + g.clocks[0].why + " if the clock is " + count_text(g.clocks[0].hz / 1'000) + " kHz";
    g.questions.push_back("How fast is the core clock (in Hz)?");
    return {g};
}

}  // namespace mt
