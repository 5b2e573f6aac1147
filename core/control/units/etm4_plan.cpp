// Instruction trace of Arm cores: the Embedded Trace Macrocell of version 4 (IHI 0064, chapters 4 and 7), and the Micro
// Trace Buffer (DDI 0486, chapter 3).
#include <algorithm>
#include <bit>

#include "base/text.h"
#include "control/units/planner.h"

namespace mt {
namespace {

using Phase = Planner::Phase;

std::string row(const char* name, unsigned n) { return name + std::to_string(n); }

}  // namespace

// What the target file must say of the trace.
void tell_etm4(Planner& p, const Unit& etm, std::uint32_t config, unsigned threshold, unsigned trace_id) {
    const std::size_t stream = p.stream(Protocol::etm4);
    p.key("stream", stream, "framing", toml_quoted(p.plan.framed ? "tpiu" : "none"));
    p.key("stream", stream, "trace_id", p.plan.framed ? std::to_string(trace_id) : "");
    const auto fact = [&](const char* key) {
        const auto* value = etm.find(key);
        return value == nullptr ? std::string() : fact_text(*value);
    };
    for (const char* key : {"trcidr0", "trcidr1", "trcidr2", "trcidr8"}) p.key("stream.etm4", stream, key, fact(key));
    p.key("stream.etm4", stream, "trcconfigr", hex_text(config));
    p.key("stream.etm4", stream, "cycle_threshold", std::to_string(threshold));
    for (const char* told : {"cycle_count", "return_stack", "timestamps", "commopt", "context_id_bytes"})
        if (stream < p.target.streams.size()) p.key("stream.etm4", stream, told, "");
    const bool has_hz = stream < p.target.streams.size() && p.target.streams[stream].timestamp_hz > 0;
    if ((config & etm4::kTs) != 0 && !has_hz && p.core.clock_hz > 0)
        p.key("stream.etm4", stream, "timestamp_hz", std::to_string(p.core.clock_hz));
}

Result<void> plan_etm4(Planner& p, unsigned trace_id, bool& trigger_after) {
    const TraceWish& w = p.wish;
    const TraceWish::Instructions& i = *w.instructions;
    auto found = p.need(UnitKind::etm4, "instruction trace");
    if (!found) return tl::make_unexpected(found.error());
    const Unit& etm = **found;
    const auto reg = [&](const std::string& name, std::uint32_t offset) {
        return Planner::Register{etm, name, offset};
    };
    const auto refuse = [&](bool wanted, const char* feature, const std::string& what,
                            const std::string& key) -> Result<void> {
        if (!wanted || etm.flag(feature)) return {};
        return failure("the " + etm.name + " of core '" + p.core.name + "' has no " + what, "",
                       "leave " + key + " out");
    };
    if (auto ok = refuse(i.return_stack.value_or(false), "return_stack", "return stack", "return_stack"); !ok)
        return ok;
    if (auto ok = refuse(i.cycle_counts.value_or(0) > 0, "cycle_counts", "cycle counts", "cycle_counts"); !ok)
        return ok;
    if (auto ok = refuse(i.context.value_or(false), "context_id", "context IDs", "context"); !ok) return ok;
    if (auto ok =
            refuse(i.branch_broadcast.value_or(false), "branch_broadcast", "branch broadcast", "branch_broadcast");
        !ok)
        return ok;
    if (auto ok = refuse(i.timestamps.value_or(false), "timestamps", "timestamps", "timestamps"); !ok) return ok;

    // TRCCONFIGR, 7.3.15
    std::uint32_t config = 0;
    std::string why;
    const auto with = [&](std::uint32_t bit, bool on, const char* text) {
        if (!on) return;
        config |= bit;
        why += (why.empty() ? "" : ", ") + std::string(text);
    };
    with(etm4::kRs, i.return_stack.value_or(false), "return stack");
    with(etm4::kCci, i.cycle_counts.value_or(0) > 0, "cycle counts");
    with(etm4::kTs, i.timestamps.value_or(etm.flag("timestamps")), "timestamps");
    with(etm4::kCid, i.context.value_or(false), "context IDs");
    with(etm4::kBb, i.branch_broadcast.value_or(false), "branch broadcast");
    p.write(reg("TRCCONFIGR", etm4::kConfig), config, why.empty() ? "nothing but the branches" : why);
    p.plan.instructions = true;
    p.plan.instruction_timestamps = (config & etm4::kTs) != 0;

    unsigned threshold = 0;
    if ((config & etm4::kCci) != 0) {
        const auto least = static_cast<unsigned>(etm.number("least_threshold"));
        threshold = std::clamp(*i.cycle_counts, std::max(least, 1u), 4095u);
        if (threshold != *i.cycle_counts)
            p.note("the threshold of cycle counts is " + std::to_string(threshold) + ", the nearest to " +
                   std::to_string(*i.cycle_counts) + " that the unit has");
        p.write(reg("TRCCCCTLR", etm4::kCcCtl), threshold, "a count after so many cycles at the least", Phase::set,
                0xFFF);
        p.plan.cycle_threshold = threshold;
    }
    p.write(reg("TRCEVENTCTL0R", etm4::kEventCtl0), 0, "no events");
    p.write(reg("TRCEVENTCTL1R", etm4::kEventCtl1), 0, "no events");
    if (etm.flag("stall")) p.write(reg("TRCSTALLCTLR", etm4::kStallCtl), 0, "the core is never held up");
    p.write(reg("TRCTSCTLR", etm4::kTsCtl), 0, "timestamps where the unit thinks fit");
    const std::uint32_t id3 = p.read(reg("TRCIDR3", etm4::kIdr0 + 12));
    if ((id3 & 1u << 25) == 0) {
        // A circular buffer is read from the first synchronisation on: the more often, the less is lost.
        const std::uint32_t period = p.plan.buffer_bytes > 0 && p.plan.buffer_bytes <= 16 * 1024 ? 8 : 10;
        p.write(reg("TRCSYNCPR", etm4::kSyncP), period,
                "a synchronisation each " + std::to_string(1u << period) + " bytes", Phase::set, 0x1F);
    }
    if (etm.flag("branch_broadcast"))
        p.write(reg("TRCBBCTLR", etm4::kBbCtl), 0, "branch broadcast, where it is on, for all code");
    if (p.plan.framed)
        p.write(reg("TRCTRACEIDR", etm4::kTraceId), trace_id, "trace ID " + std::to_string(trace_id), Phase::set, 0x7F);

    // What runs: address ranges, start and stop. Comparators are given to ranges first, in pairs.
    const auto comparators = static_cast<unsigned>(etm.number("address_comparators"));
    const auto core_inputs = static_cast<unsigned>(etm.number("core_comparators"));
    unsigned used = 0;
    std::uint32_t include = 0;
    if (!i.of.empty()) {
        auto ranges = code_ranges(i.of, p.image);
        if (!ranges) return tl::make_unexpected(ranges.error());
        if (ranges->size() * 2 > comparators)
            return failure("this is " + plural(ranges->size(), "range", "ranges") + " of addresses, and the " +
                               etm.name + " of core '" + p.core.name + "' compares with " +
                               (comparators == 0 ? std::string("none") : std::to_string(comparators / 2)),
                           "",
                           comparators == 0 ? "leave `of` out: everything is traced"
                                            : "name fewer functions, or one range around them");
        for (const auto& range : *ranges) {
            p.write(reg(row("TRCACVR", used), etm4::kAcv0 + 8 * used), static_cast<std::uint32_t>(range.first),
                    "first address of a range");
            p.write(reg(row("TRCACATR", used), etm4::kAcat0 + 8 * used), 0, "compares instructions");
            p.write(reg(row("TRCACVR", used + 1), etm4::kAcv0 + 8 * (used + 1)),
                    static_cast<std::uint32_t>(range.second), "last address of it");
            p.write(reg(row("TRCACATR", used + 1), etm4::kAcat0 + 8 * (used + 1)), 0, "compares instructions");
            include |= 1u << (used / 2);
            used += 2;
        }
    }
    std::uint32_t start_at = 0, stop_at = 0, start_core = 0, stop_core = 0;
    unsigned selector = 2;    // resource selectors 0 and 1 are fixed (4.5.1)
    std::uint32_t event = 1;  // always
    // A resource that is on when the trigger is; TRCRSCTLRn, 7.3.62: GROUP 4 single address comparators, 1 the core's.
    struct Hit {
        bool core = false;
        unsigned number = 0;
    };
    const auto comparator_for = [&](const TraceWish::Trigger& t) -> Result<Hit> {
        if (!t.at.empty() && used < comparators) {
            auto at = trigger_place(p, t);
            if (!at) return tl::make_unexpected(at.error());
            p.write(reg(row("TRCACVR", used), etm4::kAcv0 + 8 * used), static_cast<std::uint32_t>(*at), t.at);
            p.write(reg(row("TRCACATR", used), etm4::kAcat0 + 8 * used), 0, "compares instructions");
            return Hit{false, used++};
        }
        if (core_inputs == 0)
            return failure("the " + etm.name + " has no comparator left for the trigger", "core " + p.core.name,
                           "ask for fewer ranges");
        auto n = trigger_comparator(p, t);
        if (!n) return tl::make_unexpected(n.error());
        if (*n >= core_inputs)
            return failure("comparator " + std::to_string(*n) + " of the DWT does not reach the " + etm.name,
                           "core " + p.core.name, "free another with keep = false");
        return Hit{true, *n};
    };
    const auto resource = [&](const Hit& hit, const std::string& text) {
        const unsigned n = selector++;
        p.write(reg(row("TRCRSCTLR", n), etm4::kRsCtl0 + 4 * n), (hit.core ? 1u : 4u) << 16 | 1u << hit.number, text,
                Phase::set, 0x3F'FFFF);
        return n;
    };
    const auto counter = [&](const Hit& hit, std::uint64_t times, bool inverted) -> Result<unsigned> {
        if (etm.number("counters") < 1)
            return failure("the " + etm.name + " has no counter for 'after'", "core " + p.core.name, "leave after out");
        if (times > 0xFFFF)
            return failure("'after' is beyond 65 535, which the unit's counter can count", "core " + p.core.name);
        const unsigned seen = resource(hit, "each hit");
        p.write(reg("TRCCNTRLDVR0", etm4::kCntRldV0), static_cast<std::uint32_t>(times), "hits to count", Phase::set,
                0xFFFF);
        p.write(reg("TRCCNTVR0", etm4::kCntV0), static_cast<std::uint32_t>(times), "from so many down", Phase::set,
                0xFFFF);
        p.write(reg("TRCCNTCTLR0", etm4::kCntCtl0), seen, "counts the hits", Phase::set, 0x3FFFF);
        const unsigned zero = selector++;
        p.write(reg(row("TRCRSCTLR", zero), etm4::kRsCtl0 + 4 * zero), (inverted ? 1u << 20 : 0) | 2u << 16 | 1u,
                inverted ? "until it is zero" : "once it is zero", Phase::set, 0x3F'FFFF);
        return zero;
    };
    // 7.3.18 and 7.3.19: each event is a resource, and a packet in the instruction trace.
    const auto events = [&]() -> Result<void> {
        if (i.events.empty()) return {};
        const bool triggers = w.stop && w.stop->after_bytes.has_value();
        const auto room = static_cast<std::size_t>(etm.number("events", 1)) - (triggers ? 1 : 0);
        if (i.events.size() > room)
            return failure("the " + etm.name + " tells " + plural(room, "event", "events") + ", and " +
                               std::to_string(i.events.size()) + " are wanted" +
                               (triggers ? " besides the trigger" : ""),
                           "core " + p.core.name, "name fewer in events");
        std::uint32_t select = triggers ? p.read(reg("TRCEVENTCTL0R", etm4::kEventCtl0)) : 0, told = 0;
        unsigned n = triggers ? 1 : 0;
        for (const std::string& place : i.events) {
            TraceWish::Trigger at;
            at.at = place;
            auto hit = comparator_for(at);
            if (!hit) return tl::make_unexpected(hit.error());
            select |= resource(*hit, place) << (8 * n);
            told |= 1u << n++;
        }
        p.write(reg("TRCEVENTCTL0R", etm4::kEventCtl0), select, "events are told");
        p.write(reg("TRCEVENTCTL1R", etm4::kEventCtl1), told | (triggers ? 1u << 11 : 0), "… in the instruction trace");
        return {};
    };
    const bool start_counts = w.start && w.start->after > 1, stop_counts = w.stop && w.stop->after > 1;
    if (start_counts && stop_counts)
        return failure("one of start and stop can count, not both", "core " + p.core.name,
                       "leave after out in one of them");
    for (const bool is_start : {true, false}) {
        const auto& t = is_start ? w.start : w.stop;
        if (!t) continue;
        auto hit = comparator_for(*t);
        if (!hit) return tl::make_unexpected(hit.error());
        const bool triggers = !is_start && t->after_bytes.has_value();
        if (triggers) {
            // An event on the trace bus, which the buffer takes for its trigger (7.3.19, TRCEVENTCTL1R.ATB).
            unsigned select = 0;
            if (t->after > 1) {
                auto zero = counter(*hit, t->after, false);
                if (!zero) return tl::make_unexpected(zero.error());
                select = *zero;
            } else {
                select = resource(*hit, "the trigger");
            }
            p.write(reg("TRCEVENTCTL0R", etm4::kEventCtl0), select, "event 0 is the trigger");
            p.write(reg("TRCEVENTCTL1R", etm4::kEventCtl1), 1u << 11, "… and goes along with the trace");
            continue;
        }
        if (t->after > 1) {
            auto zero = counter(*hit, t->after, !is_start);
            if (!zero) return tl::make_unexpected(zero.error());
            event = *zero;
            continue;
        }
        (hit->core ? (is_start ? start_core : stop_core) : (is_start ? start_at : stop_at)) |= 1u << hit->number;
    }
    trigger_after = w.stop && w.stop->after_bytes.has_value();
    if (auto set = events(); !set) return set;
    if (static_cast<std::int64_t>(selector) > std::max<std::int64_t>(etm.number("resource_selectors"), 2))
        return failure("the " + etm.name + " has too few resource selectors for this", "core " + p.core.name,
                       "ask for less");
    if (comparators > 0) {
        p.write(reg("TRCVIIECTLR", etm4::kViIeCtl), include, include == 0 ? "all addresses" : "these ranges alone",
                Phase::set, 0xFF'00FF);
        p.write(reg("TRCVISSCTLR", etm4::kViSsCtl), start_at | stop_at << 16,
                start_at + stop_at == 0 ? "no start and stop by address" : "starts and stops there", Phase::set,
                0xFFFF'FFFF);
    }
    if (core_inputs > 0)
        p.write(reg("TRCVIPCSSCTLR", etm4::kViPcSsCtl), start_core | stop_core << 16,
                start_core + stop_core == 0 ? "no start and stop by the core's comparators"
                                            : "starts and stops with the core's comparators",
                Phase::set, 0xFF'00FF);
    // TRCVICTLR, 7.3.70: SSSTATUS, bit 9, says whether the start-stop logic begins in the started state.
    const bool waits = start_at != 0 || start_core != 0;
    p.write(reg("TRCVICTLR", etm4::kViCtl), event | (waits ? 0 : 1u << 9),
            waits        ? "waits for the start"
            : event == 1 ? "traces at once"
                         : "as the counter says",
            Phase::set, 0xFF);
    p.write(reg("TRCPRGCTLR", etm4::kPrgCtl), 1, "on", Phase::start, 1);
    p.await(reg("TRCSTATR", etm4::kStat), 1, 0, "the trace unit works", Phase::start);

    tell_etm4(p, etm, config, threshold, trace_id);
    return {};
}

// DDI 0486 3.2: the trace is written as packets of eight bytes into 2^(MASK + 4) bytes of RAM.
Result<void> plan_mtb(Planner& p) {
    const TraceWish& w = p.wish;
    auto found = p.need(UnitKind::mtb, "instruction trace");
    if (!found) return tl::make_unexpected(found.error());
    const Unit& unit = **found;
    const TraceWish::Instructions& i = *w.instructions;
    if (!i.of.empty() || i.return_stack || i.cycle_counts.value_or(0) > 0 || i.timestamps.value_or(false) ||
        i.context.value_or(false) || i.branch_broadcast.value_or(false) || !i.events.empty())
        return failure("a micro trace buffer keeps each branch and nothing else", "core " + p.core.name,
                       "write instructions = {}");
    if (w.to != TraceWish::To::unsaid && w.to != TraceWish::To::buffer)
        return failure("a micro trace buffer sends nothing", "core " + p.core.name, "use to = \"buffer\"");
    if (w.stop && w.stop->after_bytes)
        return failure("a micro trace buffer has no trigger", "core " + p.core.name, "leave after_bytes out");
    const Planner::Register master{unit, "MTB_MASTER", mtb::kMaster}, position{unit, "MTB_POSITION", mtb::kPosition},
        flow{unit, "MTB_FLOW", mtb::kFlow};
    const std::uint32_t found_mask = p.read(master) & 0x1F;
    const std::uint64_t bytes = w.memory_size > 0 ? w.memory_size : std::uint64_t{16} << found_mask;
    if (!std::has_single_bit(bytes) || bytes < 16)
        return failure("a micro trace buffer holds a power of two of bytes, not " + count_text(bytes),
                       "core " + p.core.name, "write buffer = { size = 1024 }");
    const auto mask = static_cast<std::uint32_t>(std::countr_zero(bytes) - 4);
    p.write(master, (p.read(master) & ~(mtb::kEnable | 0x1Fu)) | mask, "off while it is set up", Phase::quiet,
            mtb::kEnable);
    p.write(position, 0, "begins at its start", Phase::set, 0);
    p.write(flow, w.until_full ? static_cast<std::uint32_t>(bytes - 8) | 1u : 0,
            w.until_full ? "stops at its end (AUTOSTOP)" : "circular: keeps the newest");
    p.write(master, mtb::kEnable | mask, "on, " + bytes_text(bytes), Phase::start, mtb::kEnable | 0x1F);
    p.plan.instructions = true;
    p.plan.to = TraceWish::To::buffer;
    p.plan.buffer_bytes = bytes;
    p.plan.sink = unit.name;
    if (w.start) p.plan.halt_to_start = w.start;
    if (w.stop) p.plan.halt_to_stop = w.stop;
    (void)p.stream(Protocol::mtb);
    return {};
}

}  // namespace mt
