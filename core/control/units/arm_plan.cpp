// The way of the trace on an Arm core: who tells, what joins, where it goes.
#include <algorithm>
#include <bit>

#include "base/text.h"
#include "control/units/planner.h"

namespace mt {
namespace {

using To = TraceWish::To;
using Phase = Planner::Phase;
constexpr std::uint64_t kUsualBaud = 2'000'000;

/// What leads from the sources to the sink.
struct Way {
    const Unit* port = nullptr;    ///< TPIU or SWO
    const Unit* buffer = nullptr;  ///< TMC or ETB that keeps
    const Unit* fifo = nullptr;    ///< TMC that passes on
    std::vector<const Unit*> funnels;
};

std::string form_of(const Unit& u) { return u.find("form") == nullptr ? std::string() : fact_text(*u.find("form")); }

Result<Way> way_to(Planner& p, To to) {
    Way way;
    for (const Unit& u : p.units.units) {
        if (!u.trouble.empty()) continue;
        if (u.kind == UnitKind::funnel) way.funnels.push_back(&u);
        if (u.kind == UnitKind::tmc && form_of(u) == "fifo" && way.fifo == nullptr) way.fifo = &u;
    }
    if (to == To::swo) {
        for (const Unit& u : p.units.units)
            if (u.trouble.empty() &&
                (u.kind == UnitKind::swo || (u.kind == UnitKind::tpiu && (u.flag("nrz") || u.flag("manchester")))) &&
                way.port == nullptr)
                way.port = &u;
        if (way.port == nullptr)
            return failure("no unit of core '" + p.core.name + "' has a serial wire output" + p.dark(), "",
                           p.has(UnitKind::tpiu) ? "use to = \"port\" or \"buffer\"" : "use to = \"buffer\"");
    } else if (to == To::port) {
        auto port = p.need(UnitKind::tpiu, "to = \"port\"");
        if (!port) return tl::make_unexpected(port.error());
        if (!(*port)->flag("parallel"))
            return failure("the " + (*port)->name + " has no parallel port", "core " + p.core.name, "use to = \"swo\"");
        way.port = *port;
    } else if (to == To::buffer || to == To::memory) {
        way.fifo = nullptr;
        for (const Unit& u : p.units.units) {
            if (!u.trouble.empty() || way.buffer != nullptr) continue;
            const bool router = u.kind == UnitKind::tmc && form_of(u) == "router to memory";
            if (to == To::memory ? router : (u.kind == UnitKind::etb || (u.kind == UnitKind::tmc && !router)))
                way.buffer = &u;
        }
        if (way.buffer == nullptr) {
            for (const Unit& u : p.units.units)
                if ((u.kind == UnitKind::tmc || u.kind == UnitKind::etb) && !u.trouble.empty())
                    return failure("the " + u.name + " " + u.trouble, "core " + p.core.name, "use to = \"swo\"");
            return failure((to == To::memory ? "no unit of core '" + p.core.name + "' writes trace to system memory"
                                             : "core '" + p.core.name + "' has no buffer for trace") +
                               p.dark(),
                           "", "use to = \"swo\" or \"port\"");
        }
    }
    return way;
}

// DDI 0403E C1.10.5 (TPIU_ACPR): the rate is the trace clock divided by ACPR + 1; Manchester has two edges a bit.
Result<void> plan_serial(Planner& p, const Unit& unit, bool framed) {
    const bool micro = unit.kind == UnitKind::tpiu;
    const Planner::Register protocol{unit, micro ? "TPIU_SPPR" : "SWO_SPPR", tpiu::kSppr},
        divider{unit, micro ? "TPIU_ACPR" : "SWO_CODR", tpiu::kAcpr};
    const std::uint32_t coding = p.wish.manchester ? tpiu::kManchester : tpiu::kNrz;
    const char* name = p.wish.manchester ? "manchester" : "nrz";
    if (!unit.flag(name))
        return failure("the " + unit.name + " does not speak " + std::string(p.wish.manchester ? "Manchester" : "NRZ"),
                       "core " + p.core.name,
                       std::string("use coding = \"") + (p.wish.manchester ? "nrz" : "manchester") + "\"");
    std::uint64_t baud = p.wish.baud.value_or(0);
    const bool as_found = baud == 0 && (p.read(protocol) & 3) == coding && p.wish.to == To::unsaid;
    const std::uint64_t edges = p.wish.manchester ? 2 : 1, clock = p.core.clock_hz;
    if (as_found) {
        baud = clock / ((p.read(divider) & 0x1FFF) + 1) / edges;
    } else {
        if (baud == 0)
            for (const StreamSpec& s : p.target.streams)
                if (s.core == p.core.name && s.protocol == Protocol::itm) baud = s.swo_baud;
        if (baud == 0) {
            baud = kUsualBaud;
            p.note("no baud was named: " + count_text(baud) + " are used");
        }
        if (clock == 0)
            return failure(
                "the clock of core '" + p.core.name + "' is not known, from which the line's rate is divided",
                p.target.path, "give clock_hz in its [[core]]");
        const std::uint64_t ratio = std::max<std::uint64_t>(1, (clock + baud * edges / 2) / (baud * edges));
        const double got = static_cast<double>(clock) / static_cast<double>(ratio * edges);
        const double off = got / static_cast<double>(baud) - 1;
        if (ratio > 0x2000 || off > 0.03 || off < -0.03)
            return failure("a line of " + count_text(baud) + " baud cannot be had from " + count_text(clock) +
                               " Hz: the nearest is " + count_text(static_cast<std::uint64_t>(got)),
                           "core " + p.core.name, "use a rate that divides the clock");
        if (off > 0.005 || off < -0.005)
            p.note("the line runs at " + count_text(static_cast<std::uint64_t>(got)) + " baud, " +
                   share_text(off < 0 ? -off : off) + (off < 0 ? " below" : " above") + " what was asked for");
        p.write(protocol, coding, std::string("serial wire, ") + name, Phase::set, 3);
        p.write(divider, static_cast<std::uint32_t>(ratio - 1),
                count_text(clock) + " Hz / " + count_text(ratio * edges) + " = " +
                    count_text(static_cast<std::uint64_t>(got)) + " baud",
                Phase::set, 0x1FFF);
        baud = static_cast<std::uint64_t>(got);
    }
    p.plan.bits_per_s = baud;
    if (micro) {
        const Planner::Register formatter{unit, "TPIU_FFCR", tpiu::kFfcr};
        const std::uint32_t now = p.read(formatter);
        p.write(formatter, framed ? now | tpiu::kEnFCont | tpiu::kTrigIn : (now & ~tpiu::kEnFCont) | tpiu::kTrigIn,
                framed ? "frames: several sources share the line" : "no frames: one source alone", Phase::set,
                tpiu::kEnFCont);
    } else if (framed) {
        return failure("the " + unit.name + " sends one source without frames, and two are wanted",
                       "core " + p.core.name, "leave out the instructions, or use to = \"port\" or \"buffer\"");
    }
    return {};
}

Result<void> plan_port(Planner& p, const Unit& unit) {
    const unsigned width = p.wish.width.value_or(4);
    const Planner::Register sizes{unit, "TPIU_SSPSR", tpiu::kSspsr}, size{unit, "TPIU_CSPSR", tpiu::kCspsr},
        protocol{unit, "TPIU_SPPR", tpiu::kSppr}, formatter{unit, "TPIU_FFCR", tpiu::kFfcr};
    if (width == 0 || width > 32 || (p.read(sizes) >> (width - 1) & 1) == 0)
        return failure("the " + unit.name + " has no port of " + plural(width, "line", "lines") + ", but of " +
                           fact_text(*unit.find("widths")),
                       "core " + p.core.name, "use one of these widths");
    if (unit.flag("nrz") || unit.flag("manchester")) p.write(protocol, tpiu::kParallel, "parallel port", Phase::set, 3);
    p.write(size, 1u << (width - 1), plural(width, "line", "lines"), Phase::set);
    p.write(formatter, p.read(formatter) | tpiu::kEnFCont | tpiu::kTrigIn, "frames, which a parallel port needs",
            Phase::set, tpiu::kEnFCont);
    // Both edges of a trace clock that is half the core's carry data.
    p.plan.bits_per_s = p.core.clock_hz * width;
    return {};
}

// DDI 0461 2.4: the mode may be changed while trace capture is off and the unit is ready.
Result<void> plan_buffer(Planner& p, const Unit& unit, bool framed, bool trigger) {
    const bool old = unit.kind == UnitKind::etb;
    const bool memory = form_of(unit) == "router to memory";
    const auto reg = [&](const char* tmc_name, const char* etb_name, std::uint32_t offset) {
        return Planner::Register{unit, old ? etb_name : tmc_name, offset};
    };
    const auto control = reg("TMC_CTL", "ETB_CTL", tmc::kCtl), formatter = reg("TMC_FFCR", "ETB_FFCR", tmc::kFfcr);
    p.write(control, 0, "capture is off while the buffer is set up", Phase::quiet, 1);
    if (old)
        p.await({unit, "ETB_FFSR", tmc::kFfsr}, 2, 2, "the formatter has stopped");
    else
        p.await({unit, "TMC_STS", tmc::kSts}, tmc::kReady, tmc::kReady, "the buffer is ready");
    if (p.wish.until_full && old && !trigger)
        return failure("the " + unit.name + " overwrites its oldest trace and cannot stop when it is full",
                       "core " + p.core.name, "use mode = \"circular\", or stop = { at = …, after_bytes = … }");
    std::uint64_t bytes = static_cast<std::uint64_t>(unit.number("bytes")), begin = 0;
    if (memory) {
        auto place = p.trace_memory(16);
        if (!place) return tl::make_unexpected(place.error());
        const auto [at, size] = *place;
        begin = at;
        bytes = size;
        p.write({unit, "TMC_RSZ", tmc::kRsz}, static_cast<std::uint32_t>(size / 4), bytes_text(size) + " of memory");
        p.write({unit, "TMC_DBALO", tmc::kDbaLo}, static_cast<std::uint32_t>(at), "… from " + hex_text(at));
        p.write({unit, "TMC_DBAHI", tmc::kDbaHi}, static_cast<std::uint32_t>(at >> 32), "the same, bits 63 to 32",
                Phase::set, 0xFF);
        const Planner::Register axi{unit, "TMC_AXICTL", tmc::kAxiCtl};
        p.write(axi, p.read(axi) & ~tmc::kScatter, "one piece, no scatter list", Phase::set, tmc::kScatter);
    }
    if (!old)
        p.write({unit, "TMC_MODE", tmc::kMode}, p.wish.until_full && !trigger ? tmc::kSoftwareFifo : tmc::kCircular,
                p.wish.until_full && !trigger ? "keeps the oldest: stops taking when it is full"
                                              : "circular: keeps the newest",
                Phase::set, 3);
    // The pointers of the last capture would begin this one in the middle of the buffer.
    p.write(reg("TMC_RWP", "ETB_RWP", tmc::kRwp), static_cast<std::uint32_t>(begin), "begins at its start", Phase::set,
            0);
    if (old) p.write({unit, "ETB_RRP", tmc::kRrp}, 0, "reading too", Phase::set, 0);
    std::uint32_t format = framed ? tmc::kEnFt : 0;
    if (trigger) {
        const std::uint64_t words = (*p.wish.stop->after_bytes + 3) / 4;
        if (words * 4 > bytes)
            return failure("the " + unit.name + " holds " + bytes_text(bytes) + ", less than the " +
                               bytes_text(words * 4) + " that are to follow the trigger",
                           "core " + p.core.name, "ask for fewer");
        p.write(reg("TMC_TRG", "ETB_TRG", tmc::kTrg), static_cast<std::uint32_t>(words),
                bytes_text(words * 4) + " follow the trigger", Phase::set, 0);
        format |= tmc::kEnTi | tmc::kTrigOnTrigIn | tmc::kStopOnTrig;
    }
    const std::uint32_t mask = tmc::kEnFt | tmc::kEnTi | tmc::kTrigOnTrigIn | tmc::kStopOnTrig | tmc::kStopOnFl;
    p.write(formatter, format, framed ? "frames tell the sources apart" : "one source, without frames", Phase::set,
            mask);
    p.write(control, 1, "capture is on", Phase::start, 1);
    p.plan.buffer_bytes = bytes;
    p.plan.sink = unit.name;
    return {};
}

// A buffer on the way to the pins passes trace on in its hardware FIFO mode (DDI 0461 2.4.3).
void plan_fifo(Planner& p, const Unit& unit) {
    const Planner::Register control{unit, "TMC_CTL", tmc::kCtl}, mode{unit, "TMC_MODE", tmc::kMode};
    if ((p.read(control) & 1) != 0 && (p.read(mode) & 3) == tmc::kHardwareFifo) return;
    p.write(control, 0, "off while it is set up", Phase::quiet, 1);
    p.await({unit, "TMC_STS", tmc::kSts}, tmc::kReady, tmc::kReady, "the buffer is ready");
    p.write(mode, tmc::kHardwareFifo, "passes trace on", Phase::set, 3);
    p.write({unit, "TMC_FFCR", tmc::kFfcr}, tmc::kEnFt | tmc::kEnTi, "frames inside", Phase::set,
            tmc::kEnFt | tmc::kEnTi);
    p.write(control, 1, "on", Phase::start, 1);
}

}  // namespace

Result<void> plan_arm(Planner& p) {
    const TraceWish& w = p.wish;
    const bool mtb = !p.has(UnitKind::etm4) && p.has(UnitKind::mtb);
    if (w.instructions && mtb) {
        if (w.wants_events())
            return failure("core '" + p.core.name + "' has a micro trace buffer and no ITM", "",
                           "leave out all but the instructions");
        return plan_mtb(p);
    }
    const Unit* itm_unit = p.units.first(UnitKind::itm);
    const bool itm_runs = itm_unit != nullptr && itm_unit->flag("enabled");
    const Unit* etm = p.units.first(UnitKind::etm4);
    const bool etm_runs = etm != nullptr && etm->flag("enabled");
    const bool events = w.wants_events() || (w.keep && itm_runs);
    const bool instructions = w.instructions.has_value() || (w.keep && etm_runs && !w.no_instructions);

    // DDI 0403E C1.6.5: without TRCENA, DWT and ITM do nothing.
    static const Unit core_debug = [] {
        Unit u;
        u.name = "core debug";
        return u;
    }();
    const Planner::Register demcr_register{core_debug, "DEMCR", static_cast<std::uint32_t>(demcr::kAddress)};
    if (const std::uint32_t now = p.read(demcr_register); (now & demcr::kTrcEna) == 0)
        p.write(demcr_register, now | demcr::kTrcEna, "DWT and ITM are on (TRCENA)", Phase::open, demcr::kTrcEna);

    To to = w.to;
    if (to == To::unsaid)
        to = w.instructions && (p.has(UnitKind::tmc) || p.has(UnitKind::etb)) && !w.wants_events() ? To::buffer
                                                                                                   : To::swo;
    p.plan.to = to;
    auto way = way_to(p, to);
    if (!way) return tl::make_unexpected(way.error());
    if (auto lit = p.nothing_dark_on_the_way(); !lit) return lit;

    // Two sources need frames; so do a parallel port and instructions.
    bool framed = instructions || to == To::port || to == To::buffer || to == To::memory;
    if (w.formatter) {
        if (!*w.formatter && to == To::port)
            return failure("a parallel port needs the formatter", "core " + p.core.name, "leave formatter = false out");
        if (!*w.formatter && events && instructions)
            return failure("two sources on one way need the formatter to be told apart", "core " + p.core.name,
                           "leave formatter = false out");
        framed = *w.formatter;
    }
    p.plan.framed = framed;
    const unsigned itm_id = itm_unit != nullptr && itm_unit->number("trace_id") > 0
                                ? static_cast<unsigned>(itm_unit->number("trace_id"))
                                : 1;
    const auto found_id = etm != nullptr ? static_cast<unsigned>(etm->number("trace_id")) : 0;
    const unsigned etm_id = found_id > 0 && found_id != itm_id && found_id < 0x70 ? found_id : itm_id == 2 ? 3 : 2;

    // Sources are quiet while the way is set up.
    bool trigger = w.stop && w.stop->after_bytes.has_value();
    if (trigger && to != To::buffer && to != To::memory)
        return failure("bytes behind a trigger can only be counted by a buffer", "core " + p.core.name,
                       "use to = \"buffer\", or leave after_bytes out");
    if (trigger && !w.instructions)
        return failure("the trigger of after_bytes comes from the instruction trace", "core " + p.core.name,
                       "add instructions = {} to [trace]");
    if (etm != nullptr && etm->trouble.empty() && (w.instructions || ((!w.keep || w.no_instructions) && etm_runs))) {
        p.unlock(*etm);
        const Planner::Register os_status{*etm, "TRCOSLSR", etm4::kOsLockStatus},
            program{*etm, "TRCPRGCTLR", etm4::kPrgCtl};
        if ((p.read(os_status) & 2) != 0) {  // IHI 0064 7.3.46: TRCOSLAR 0 unlocks
            p.write({*etm, "TRCOSLAR", etm4::kOsLock}, 0, "the OS lock opens", Phase::open, 0);
            p.plan.steps.back().put_back = 1;
            p.await(os_status, 2, 0, "the OS lock is open", Phase::open);
        }
        if (p.read(program) != 0 || w.instructions)
            p.write(program, 0, "may be programmed once it is idle", Phase::quiet, 1);
        p.await({*etm, "TRCSTATR", etm4::kStat}, 1, 1, "the trace unit is idle");
        if (!w.instructions && etm_runs) p.note("instruction trace is switched off");
    }

    if (way->port != nullptr) {
        auto set = to == To::port ? plan_port(p, *way->port) : plan_serial(p, *way->port, framed);
        if (!set) return set;
        if (way->fifo != nullptr) plan_fifo(p, *way->fifo);
    } else if (auto set = plan_buffer(p, *way->buffer, framed, trigger); !set) {
        return set;
    }
    for (const Unit* u : way->funnels) {
        const auto inputs = static_cast<unsigned>(std::clamp<std::int64_t>(u->number("inputs"), 1, 8));
        const Planner::Register control{*u, "FUNCTL", funnel::kCtrl};
        p.write(control, p.read(control) | ((1u << inputs) - 1),
                "all inputs are open: the unit does not tell which source comes by which", Phase::set, 0xFF);
    }

    if (w.wants_events() || w.local_timestamps || w.global_timestamps || w.prescaler || w.sync || w.pc_samples ||
        w.exceptions || w.counters || w.ports || (!w.keep && itm_runs) || (framed && itm_runs))
        if (auto set = plan_events(p, framed, itm_id); !set) return set;
    if (w.instructions) {
        bool after = trigger;
        if (auto set = plan_etm4(p, etm_id, after); !set) return set;
    } else {
        // Nothing on the chip starts and stops the other sources: the core is halted for it.
        if (w.start) p.plan.halt_to_start = w.start;
        if (w.stop) p.plan.halt_to_stop = w.stop;
        for (const auto& t : {w.start, w.stop})
            if (t && t->value)
                return failure("no unit can wait for a value of '" + t->access + "' without instruction trace",
                               "core " + p.core.name, "leave value out, or add instructions = {}");
        if (w.start || w.stop)
            p.note("start and stop are done by halting the core: only instruction trace can be switched by a unit");
    }
    if (w.keep && etm_runs && !w.instructions && !w.no_instructions)
        p.note("instruction trace is on already and stays so: instructions = false switches it off");
    if (w.keep && itm_runs && w.instructions && !w.wants_events() && to != To::swo)
        p.note("the ITM is on already and shares the way: keep = false leaves the instructions alone");
    return {};
}

}  // namespace mt
