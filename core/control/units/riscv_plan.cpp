// The way of the trace on a RISC-V core. RISC-V Trace Control Interface Specification 1.0.
#include <algorithm>
#include <bit>

#include "base/text.h"
#include "control/units/planner.h"

namespace mt {
namespace {

namespace tc = trace_control;
using To = TraceWish::To;
using Phase = Planner::Phase;

std::string row(const char* before, unsigned n, const char* after) { return before + std::to_string(n) + after; }

/// Chapter 3: a component answers once tr??Active reads 1.
void wake(Planner& p, const Planner::Register& control) {
    if ((p.read(control) & tc::kActive) == 0) {
        p.write(control, tc::kActive, "awake", Phase::open, tc::kActive);
        p.await(control, tc::kActive, tc::kActive, "it is awake", Phase::open);
    }
}

Result<void> plan_ram(Planner& p, const Unit& unit, bool system) {
    const Planner::Register control{unit, "trRamControl", tc::kControl};
    if (!unit.flag(system ? "system_memory" : "own_memory"))
        return failure("the " + unit.name + " has no " + (system ? "way to system memory" : "memory of its own"),
                       "core " + p.core.name, system ? "use to = \"buffer\"" : "use to = \"memory\"");
    wake(p, control);
    p.write(control, p.read(control) & ~tc::kEnable, "off while it is set up", Phase::quiet, tc::kEnable);
    p.await(control, tc::kEmpty, tc::kEmpty, "nothing is on its way");
    std::uint64_t bytes = static_cast<std::uint64_t>(unit.number("bytes"));
    std::uint64_t start = 0;
    if (system) {
        auto place = p.trace_memory(4);
        if (!place) return tl::make_unexpected(place.error());
        start = place->first;
        bytes = place->second;
        p.write({unit, "trRamStartLow", tc::kRamStartLow}, static_cast<std::uint32_t>(start), "first word");
        p.write({unit, "trRamStartHigh", tc::kRamStartHigh}, static_cast<std::uint32_t>(start >> 32),
                "the same, bits 63 to 32");
        p.write({unit, "trRamLimitLow", tc::kRamLimitLow}, static_cast<std::uint32_t>(start + bytes - 4), "last word");
        p.write({unit, "trRamLimitHigh", tc::kRamLimitHigh}, static_cast<std::uint32_t>((start + bytes - 4) >> 32),
                "the same, bits 63 to 32");
    } else {
        start = std::uint64_t{p.read({unit, "", tc::kRamStartHigh})} << 32 | p.read({unit, "", tc::kRamStartLow});
    }
    p.write({unit, "trRamWPLow", tc::kRamWpLow}, static_cast<std::uint32_t>(start), "begins at its start", Phase::set,
            0);
    p.write({unit, "trRamRPLow", tc::kRamRpLow}, static_cast<std::uint32_t>(start), "reading too", Phase::set, 0);
    std::uint32_t on = tc::kActive | tc::kEnable;
    if (system) on |= tc::kRamSystemMemory;
    if (p.wish.until_full) on |= tc::kRamStopOnWrap;
    p.write(control, on, p.wish.until_full ? "on, until it is full" : "on, keeps the newest", Phase::start,
            tc::kActive | tc::kEnable | tc::kRamSystemMemory | tc::kRamStopOnWrap);
    p.plan.buffer_bytes = bytes;
    p.plan.sink = unit.name;
    return {};
}

// Chapter 7: trPibMode 4 and 5 are a serial wire, 8 to 12 a port of 1, 2, 4, 8, 16 lines; trPibDivider divides the
// clock.
Result<void> plan_pins(Planner& p, const Unit& unit, To to) {
    const Planner::Register control{unit, "trPibControl", tc::kControl};
    wake(p, control);
    p.write(control, p.read(control) & ~tc::kEnable, "off while it is set up", Phase::quiet, tc::kEnable);
    std::uint32_t mode = 0, divider = 0;
    std::string why;
    if (to == To::port) {
        const unsigned width = p.wish.width.value_or(4);
        if (!std::has_single_bit(width) || width > 16)
            return failure("the " + unit.name + " has no port of " + plural(width, "line", "lines"),
                           "core " + p.core.name, "use 1, 2, 4, 8 or 16");
        mode = 8 + static_cast<std::uint32_t>(std::countr_zero(width));
        why = plural(width, "line", "lines");
        p.plan.bits_per_s = p.core.clock_hz * width;
    } else {
        const std::uint64_t baud = p.wish.baud.value_or(2'000'000);
        const std::uint64_t clock = p.core.clock_hz;
        if (clock == 0)
            return failure("the clock of core '" + p.core.name + "' is not known", p.target.path, "give clock_hz");
        const std::uint64_t ratio = std::max<std::uint64_t>(1, (clock + baud / 2) / baud);
        const double off = static_cast<double>(clock) / static_cast<double>(ratio) / static_cast<double>(baud) - 1;
        if (off > 0.03 || off < -0.03 || ratio > 0xFFFF)
            return failure("a line of " + count_text(baud) + " baud cannot be had from " + count_text(clock) + " Hz",
                           "core " + p.core.name, "use a rate that divides the clock");
        mode = p.wish.manchester ? 4 : 5;
        divider = static_cast<std::uint32_t>(ratio - 1);
        why = count_text(clock / ratio) + " baud, " + (p.wish.manchester ? "Manchester" : "NRZ");
        p.plan.bits_per_s = clock / ratio;
    }
    p.write(control, tc::kActive | tc::kEnable | mode << 4 | divider << 16, "on, " + why, Phase::start,
            tc::kActive | tc::kEnable | 0xF0u);
    return {};
}

}  // namespace

// What the target file must say of the trace: `control` is trTeControl, `can` trTeInstFeatures.
void tell_encoder(Planner& p, const Unit& encoder, std::uint32_t control, std::uint32_t can) {
    const bool ntrace = bits_of(control, 26, 24) == 1;
    const std::size_t stream = p.stream(ntrace ? Protocol::ntrace : Protocol::etrace);
    const char* table = ntrace ? "stream.ntrace" : "stream.etrace";
    if (encoder.number("source_bits") > 0) {
        p.key(table, stream, ntrace ? "src_bits" : "src_id_bits", std::to_string(encoder.number("source_bits")));
        p.key(table, stream, "src_id", std::to_string(encoder.number("source_id")));
    }
    const bool returns = (can & 1u << 3) != 0;
    const bool known = stream < p.target.streams.size();
    if (!ntrace) {
        p.key(table, stream, "full_address", (can & 1) != 0 ? "true" : "false");
        p.key(table, stream, "implicit_return", returns ? "true" : "false");
        p.key(table, stream, "time_width",
              p.plan.instruction_timestamps ? std::to_string(encoder.number("timestamp_bits")) : "0");
        if (returns && (!known || p.target.streams[stream].etrace.return_stack_size == 0)) {
            p.key(table, stream, "return_stack_size", "4");
            p.note("how deep the encoder's return stack is is not told by its registers: 2^4 = 16 is assumed");
        }
    } else {
        p.key(table, stream, "timestamps", p.plan.instruction_timestamps ? "true" : "false");
        p.key(table, stream, "implicit_return", returns ? "true" : "false");
    }
    if (p.plan.instruction_timestamps && (!known || p.target.streams[stream].timestamp_hz == 0) && p.core.clock_hz > 0)
        p.key(table, stream, "timestamp_hz", std::to_string(p.core.clock_hz));
}

Result<void> plan_riscv(Planner& p) {
    const TraceWish& w = p.wish;
    if (w.wants_events() || w.local_timestamps || w.global_timestamps)
        return failure("core '" + p.core.name +
                           "' is RISC-V: it has instruction trace, and none of the units for exceptions "
                           "alone, samples, counters, variables and ports",
                       "", "use instructions = { … }, which tells its exceptions too");
    auto found = p.need(UnitKind::trace_encoder, "instruction trace");
    if (!found) return tl::make_unexpected(found.error());
    const Unit& encoder = **found;
    const Planner::Register control{encoder, "trTeControl", tc::kControl},
        features{encoder, "trTeInstFeatures", tc::kInstFeatures}, filters{encoder, "trTeInstFilters", tc::kInstFilters},
        ts{encoder, "trTsControl", tc::kTsControl};
    const bool off = w.no_instructions || (!w.keep && !w.instructions);
    if (!w.instructions && !off)
        return failure("[trace] asks for nothing of core '" + p.core.name + "'", "", "add instructions = {}");
    wake(p, control);
    const std::uint32_t before = p.read(control);
    // 4.1: tracing off, then the rest of what was on its way comes out.
    p.write(control, before & ~(tc::kEnable | tc::kInstTracing), "off while it is set up", Phase::quiet,
            tc::kEnable | tc::kInstTracing);
    p.await(control, tc::kEmpty, tc::kEmpty, "nothing is on its way");
    if (off) return {};
    const TraceWish::Instructions& i = *w.instructions;
    if (i.branch_broadcast.value_or(false) || i.cycle_counts.value_or(0) > 0)
        return failure(std::string("this encoder has no ") +
                           (i.branch_broadcast.value_or(false) ? "branch broadcast" : "cycle counts"),
                       "core " + p.core.name, "leave it out: timestamps = true gives times");

    if (!i.events.empty())
        return failure("this encoder tells no events", "core " + p.core.name, "leave events out of instructions");
    if (auto lit = p.nothing_dark_on_the_way(); !lit) return lit;

    const bool funnel_there = p.has(UnitKind::trace_funnel);
    To to = w.to;
    if (to == To::unsaid) to = p.has(UnitKind::ram_sink) ? To::buffer : To::port;
    p.plan.to = to;
    const bool pins = to == To::swo || to == To::port;
    auto sink = p.need(pins ? UnitKind::pin_sink : UnitKind::ram_sink, to == To::swo      ? "to = \"swo\""
                                                                       : to == To::port   ? "to = \"port\""
                                                                       : to == To::memory ? "to = \"memory\""
                                                                                          : "to = \"buffer\"");
    if (!sink) return tl::make_unexpected(sink.error());
    auto set = pins ? plan_pins(p, **sink, to) : plan_ram(p, **sink, to == To::memory);
    if (!set) return set;
    // The other sink would take the same trace away or beside it.
    for (const Unit& u : p.units.units) {
        if (!u.trouble.empty() || u.address == (*sink)->address ||
            (u.kind != UnitKind::pin_sink && u.kind != UnitKind::ram_sink))
            continue;
        const Planner::Register other{u, u.kind == UnitKind::pin_sink ? "trPibControl" : "trRamControl", tc::kControl};
        if ((p.read(other) & tc::kEnable) != 0)
            p.write(other, p.read(other) & ~tc::kEnable, "trace goes elsewhere", Phase::set, tc::kEnable);
    }
    if (funnel_there)
        for (const Unit& u : p.units.units) {
            if (u.kind != UnitKind::trace_funnel || !u.trouble.empty()) continue;
            const Planner::Register funnel_control{u, "trFunnelControl", tc::kControl};
            wake(p, funnel_control);
            p.write({u, "trFunnelDisInput", tc::kDisInput}, 0,
                    "all inputs are open: the unit does not tell which source comes by which", Phase::set, 0xFFFF);
            p.write(funnel_control, tc::kActive | tc::kEnable, "on", Phase::start, tc::kActive | tc::kEnable);
        }

    std::uint32_t can = p.read(features);
    if (i.return_stack) can = with_bits(can, 3, 3, *i.return_stack ? 1 : 0);
    if (i.return_stack)
        p.write(features, can, *i.return_stack ? "returns are implied by the calls" : "returns are told", Phase::set,
                0x3FF);
    if (i.return_stack.value_or(false) && (can & 1u << 3) == 0)
        return failure("this encoder implies no returns", "core " + p.core.name, "leave return_stack out");
    if (i.timestamps) {
        if (*i.timestamps && encoder.number("timestamp_bits") == 0)
            return failure("this encoder has no timestamps", "core " + p.core.name, "leave timestamps out");
        const std::uint32_t now = p.read(ts);
        p.write(ts, *i.timestamps ? now | tc::kTsActive | tc::kTsEnable : now & ~tc::kTsEnable,
                *i.timestamps ? "timestamps" : "no timestamps", Phase::set, tc::kTsActive | tc::kTsEnable);
    }
    p.plan.instruction_timestamps = (p.read(ts) & tc::kTsEnable) != 0;

    // Chapter 6: filter n takes what comparator n says; P and S are the bounds of a range, or where it starts and
    // stops.
    std::uint32_t used = 0;
    unsigned n = 0;
    const auto compare = [&](unsigned k, std::uint64_t first, std::uint64_t last, std::uint32_t how,
                             const std::string& why) {
        const std::uint32_t at = tc::kComp0 + tc::kCompStride * k;
        p.write({encoder, row("trTeComp", k, "PMatchLow"), at + 0x10}, static_cast<std::uint32_t>(first), why);
        p.write({encoder, row("trTeComp", k, "PMatchHigh"), at + 0x14}, static_cast<std::uint32_t>(first >> 32),
                "bits 63 to 32");
        p.write({encoder, row("trTeComp", k, "SMatchLow"), at + 0x18}, static_cast<std::uint32_t>(last), "… and here");
        p.write({encoder, row("trTeComp", k, "SMatchHigh"), at + 0x1C}, static_cast<std::uint32_t>(last >> 32),
                "bits 63 to 32");
        p.write({encoder, row("trTeComp", k, "Control"), at}, how, why, Phase::set, 0x3'7377);
        const std::uint32_t filter = tc::kFilter0 + tc::kFilterStride * k;
        p.write({encoder, row("trTeFilter", k, "Control"), filter}, 1u | 1u << 4 | k << 5,
                "takes what comparator " + std::to_string(k) + " says");
        used |= 1u << k;
    };
    if (!i.of.empty()) {
        auto ranges = code_ranges(i.of, p.image);
        if (!ranges) return tl::make_unexpected(ranges.error());
        if (ranges->size() > 8)
            return failure("this is " + std::to_string(ranges->size()) +
                               " ranges of addresses, and an encoder compares with 8 at the most",
                           "core " + p.core.name, "name fewer functions, or one range around them");
        // PFunction 5: greater or equal; SFunction 3: less or equal; match mode 1: both (6.3).
        for (const auto& r : *ranges)
            compare(n++, r.first, r.second, 5u << 4 | 3u << 12 | 1u << 16, "range of addresses");
    }
    for (const auto& t : {w.start, w.stop})
        if (t && (!t->access.empty() || t->after > 1 || t->after_bytes))
            return failure("this encoder starts and stops at places, at once: not on accesses, nor after several hits",
                           "core " + p.core.name, "use start = { at = … } and stop = { at = … } alone");
    if (w.start && w.stop && i.of.empty()) {
        auto from = trigger_place(p, *w.start), until = trigger_place(p, *w.stop);
        if (!from) return tl::make_unexpected(from.error());
        if (!until) return tl::make_unexpected(until.error());
        compare(n++, *from, *until, 0u << 4 | 0u << 12 | 3u << 16, "from " + w.start->at + " to " + w.stop->at);
    } else if (w.start || w.stop) {
        p.plan.halt_to_start = w.start;
        p.plan.halt_to_stop = w.stop;
        p.note(
            "start and stop are done by halting the core: the encoder takes both together, and no ranges beside them");
    }
    p.write(filters, used, used == 0 ? "everything is traced" : "only what the filters take", Phase::set, 0xFFFF);

    std::uint32_t on = before & ~0x00F3'0270u;
    on = with_bits(on, 6, 4, 6);  // trTeInstMode 6: branch history (4.1)
    if (i.context.value_or(false)) on |= 1u << 9;
    // A circular buffer is read from the first synchronisation on.
    const std::uint64_t sync = w.sync.value_or(p.plan.buffer_bytes > 0 && p.plan.buffer_bytes <= 16 * 1024 ? 64 : 1024);
    if (sync > 0) {  // trTeInstSyncMode 1: each 2^(SyncMax + 4) packets; 2: cycles
        const int power = std::clamp(static_cast<int>(std::bit_width(sync)) - 1, 4, 19);
        on = with_bits(on, 17, 16, w.sync ? 2 : 1);
        on = with_bits(on, 23, 20, static_cast<std::uint32_t>(power - 4));
    }
    on |= tc::kActive | tc::kEnable | tc::kInstTracing;
    p.write(control, on, "on", Phase::start, tc::kActive | tc::kEnable | 0x70u);
    p.plan.instructions = true;

    tell_encoder(p, encoder, before, can);
    return {};
}

}  // namespace mt
