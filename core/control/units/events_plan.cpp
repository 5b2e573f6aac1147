// DWT and ITM: exceptions, samples, counters, variables, times, ports. DDI 0403E C1.7 and C1.8; DDI 0553 D1.2.
#include <algorithm>
#include <bit>

#include "base/text.h"
#include "control/units/planner.h"
#include "target/data_place.h"

namespace mt {
namespace {

using Phase = Planner::Phase;

struct Comparators {
    const Unit* unit = nullptr;
    bool v8 = false;
    std::vector<DwtComparator> all;
};

Comparators comparators_of(Planner& p, const Unit& dwt_unit) {
    Comparators c;
    c.unit = &dwt_unit;
    c.v8 = dwt_unit.architecture == 0x1A02;
    const auto count = static_cast<unsigned>(dwt_unit.number("comparators"));
    for (unsigned n = 0; n < count; ++n) {
        DwtComparator one;
        one.function = p.read({dwt_unit, "", dwt::kFunction0 + n * dwt::kStride});
        one.address = p.read({dwt_unit, "", dwt::kComp0 + n * dwt::kStride});
        const std::uint32_t match = one.function & 0xF;
        using Use = DwtComparator::Use;
        if (match == 0)
            one.use = Use::none;
        else if (c.v8)
            one.use = bits_of(one.function, 5, 4) == 1   ? Use::debug
                      : bits_of(one.function, 5, 4) == 0 ? Use::trigger
                                                         : Use::trace;
        else
            one.use = match >= 4 && match <= 7 ? Use::debug : match >= 8 && match <= 0xB ? Use::trigger : Use::trace;
        c.all.push_back(one);
    }
    return c;
}

std::string named(const char* name, unsigned n) { return std::string("DWT_") + name + std::to_string(n); }

tl::unexpected<Problem> no_comparator(const Planner& p, const Comparators& c, const std::string& for_what) {
    std::string who;
    for (std::size_t n = 0; n < c.all.size(); ++n) {
        const UnitFact::Value* text = c.unit->find("comparator_" + std::to_string(n));
        who += (n == 0 ? "" : "; ") + std::to_string(n) + ": " +
               (c.all[n].use == DwtComparator::Use::debug       ? "a breakpoint or watchpoint of the debugger"
                : text == nullptr || fact_text(*text) == "free" ? "this wish"
                                                                : fact_text(*text));
    }
    return failure(
        for_what + " needs a comparator, and all " + std::to_string(c.all.size()) + " are in use (" + who + ")",
        "core " + p.core.name, "ask for fewer, or use keep = false to free what the firmware set");
}

void set_comparator(Planner& p, const Unit& unit, unsigned n, std::uint32_t address, std::optional<std::uint32_t> mask,
                    std::uint32_t function, const std::string& why) {
    const Planner::Register function_register{unit, named("FUNCTION", n), dwt::kFunction0 + n * dwt::kStride};
    if ((p.read(function_register) & 0xF) != 0)
        p.write(function_register, 0, "off while it is set up", Phase::quiet, 0xF);
    p.write({unit, named("COMP", n), dwt::kComp0 + n * dwt::kStride}, address, why);
    if (mask)
        p.write({unit, named("MASK", n), dwt::kMask0 + n * dwt::kStride}, *mask,
                *mask == 0 ? "every bit of the address counts"
                           : plural(std::uint64_t{1} << *mask, "byte", "bytes") + " from there",
                Phase::set, 0x1F);
    p.write(function_register, function, why, Phase::start, 0x000F'0FEF);
}

/// [[watch]] says which comparator looks at what.
void tell_watch(Planner& p, unsigned n, const DataPlace& place) {
    const auto& watches = p.target.watches;
    std::size_t index = watches.size();
    for (const KeyChange& c : p.plan.target)
        if (c.table == "watch" && c.index >= index) index = c.index + 1;
    for (std::size_t i = 0; i < watches.size(); ++i)
        if (watches[i].comparator == n) index = i;
    const bool there = index < watches.size();
    const bool plain = place.text.find_first_of(".[*&>(") == std::string::npos;
    if (there && watches[index].symbol == place.text && watches[index].expression == !plain) return;
    p.key("watch", index, "comparator", std::to_string(n));
    // What it is made of is asked of the image each time: a variable may move, a type may change.
    if (plain) {
        p.key("watch", index, "symbol", toml_quoted(place.text));
        p.key("watch", index, "type", toml_quoted(place.type.empty() ? "u32" : place.type));
    } else {
        p.key("watch", index, "expression", toml_quoted(place.text));
        if (place.type.empty()) p.key("watch", index, "type", "\"u32\"");
    }
    if (there)
        for (const char* stale : {plain ? "expression" : "symbol", "address", "role", "mask", "shift"})
            p.key("watch", index, stale, "");
    if (there && !plain && !place.type.empty()) p.key("watch", index, "type", "");
    std::string names;
    for (const auto& [value, name] : place.names)
        if (plain) names += (names.empty() ? "{ " : ", ") + std::to_string(value) + " = " + toml_quoted(name);
    if (there || !names.empty()) p.key("watch", index, "names", names.empty() ? "" : names + " }");
}

Result<void> plan_variables(Planner& p, Comparators& c) {
    using Use = DwtComparator::Use;
    std::vector<bool> taken(c.all.size());
    for (const TraceWish::Variable& v : p.wish.variables) {
        auto place = find_data(p.core, v.of);
        if (!place) return tl::make_unexpected(place.error());
        const auto address = static_cast<std::uint32_t>(place->address);
        const bool one = place->size <= 4 && std::has_single_bit(place->size) && place->address % place->size == 0;
        const std::string what =
            "'" + v.of + "' (" + plural(place->size, "byte", "bytes") + " at " + hex_text(place->address) + ")";
        if (!c.v8 && (!std::has_single_bit(place->size) || place->address % place->size != 0))
            return failure(
                what +
                    " cannot be watched: a comparator watches 1, 2, 4, 8, … bytes that begin at a multiple of "
                    "their number",
                "core " + p.core.name, "name a part of it that does");
        const std::size_t needs = c.v8 && (!one || v.tell == Tell::address) ? 2 : 1;
        std::optional<unsigned> free;
        for (unsigned n = 0; n + needs <= c.all.size() && !free; ++n) {
            if (needs == 2 && n % 2 != 0) continue;
            bool good = true;
            for (unsigned k = n; k < n + needs; ++k) {
                const bool same = needs == 1 && c.all[k].use == Use::trace && c.all[k].address == address;
                good = good && !taken[k] &&
                       (c.all[k].use == Use::none || same || (!p.wish.keep && c.all[k].use == Use::trace));
            }
            if (good) free = n;
        }
        // What the firmware watches already keeps its comparator.
        for (unsigned n = 0; n < c.all.size() && needs == 1; ++n)
            if (!taken[n] && c.all[n].use == Use::trace && c.all[n].address == address) free = n;
        if (!free) return no_comparator(p, c, what);
        const unsigned n = *free;
        constexpr const char* on[] = {"written", "read", "accessed"};
        const std::string why = v.of + " is " + on[static_cast<int>(v.on)];
        if (c.v8) {
            const auto function = dwt8_function(v.on, v.tell, static_cast<unsigned>(place->size));
            if (!function)
                return failure("the DWT of Armv8-M does not tell value and address together", what,
                               "use tell = \"value+pc\"");
            set_comparator(p, *c.unit, n, address, std::nullopt, *function, why);
            if (needs == 2) {
                const auto last = static_cast<std::uint32_t>(place->address + place->size - 1);
                const std::uint32_t action = v.tell == Tell::address ? 3u << 4 : 0;
                set_comparator(p, *c.unit, n + 1, last, std::nullopt, 0x7u | action | 0u << 10, "… up to here");
            }
        } else {
            const DwtFunction function = dwt7_function(v.on, v.tell);
            if (function.with_value)
                p.note("the program counter of " + std::string(v.on == Access::read ? "reads" : "writes") + " of " +
                       v.of + " comes with the value: alone it is told of reads and writes alike only");
            set_comparator(p, *c.unit, n, address, static_cast<std::uint32_t>(std::countr_zero(place->size)),
                           function.bits, why);
        }
        for (unsigned k = n; k < n + needs; ++k) taken[k] = true;
        tell_watch(p, n, *place);
        const unsigned value = 1 + static_cast<unsigned>(std::min<std::uint64_t>(place->size, 4));
        p.plan.variables.emplace_back(v.of, v.tell == Tell::value           ? value
                                            : v.tell == Tell::pc            ? 5u
                                            : v.tell == Tell::address       ? 3u
                                            : v.tell == Tell::value_address ? value + 3
                                                                            : value + 5);
    }
    if (p.wish.keep) return {};
    for (unsigned n = 0; n < c.all.size(); ++n)
        if (!taken[n] && c.all[n].use == Use::trace)
            p.write({*c.unit, named("FUNCTION", n), dwt::kFunction0 + n * dwt::kStride}, 0, "not asked for", Phase::set,
                    0xF);
    return {};
}

Result<void> plan_dwt(Planner& p) {
    const TraceWish& w = p.wish;
    auto found = p.need(UnitKind::dwt, "this wish");
    if (!found) return tl::make_unexpected(found.error());
    const Unit& unit = **found;
    const bool packets = w.exceptions.value_or(false) || w.sleep.value_or(false) || w.pc_samples.value_or(0) > 0 ||
                         !w.variables.empty() || (w.counters && !w.counters->empty());
    if (packets && !unit.flag("trace"))
        return failure("the DWT of core '" + p.core.name + "' sends no trace (DWT_CTRL.NOTRCPKT)", "",
                       "leave exceptions, samples, counters and variables out");
    const Planner::Register control{unit, "DWT_CTRL", dwt::kCtrl};
    const std::uint32_t before = p.read(control);
    std::uint32_t ctrl = before;
    std::string why;
    const auto say = [&](const std::string& text) { why += (why.empty() ? "" : ", ") + text; };
    const auto flag = [&](std::uint32_t bit, std::optional<bool> wanted, const std::string& text) {
        const bool on = wanted ? *wanted : w.keep && (ctrl & bit) != 0;
        if (on != ((ctrl & bit) != 0)) say(text + (on ? " on" : " off"));
        ctrl = on ? ctrl | bit : ctrl & ~bit;
    };
    flag(dwt::kExcTrcEna, w.exceptions, "exceptions");
    p.plan.exceptions = (ctrl & dwt::kExcTrcEna) != 0;

    std::optional<std::uint64_t> samples = w.pc_samples;
    if (w.sleep.value_or(false) && samples.value_or(0) == 0 && (ctrl & dwt::kPcSamplEna) == 0) {
        samples = 16'384;
        p.note("sleep comes with samples of the program counter: one each 16 384 cycles is taken");
    }
    if (samples.value_or(0) > 0) {
        const PcSampling nearest = nearest_pc_sampling(*samples);
        if (nearest.cycles != *samples)
            p.note("program-counter samples come each " + count_text(nearest.cycles) + " cycles, which is nearest to " +
                   count_text(*samples));
        ctrl = (ctrl & ~kPcSamplingMask) | nearest.bits;
        say("a sample of the program counter each " + count_text(nearest.cycles) + " cycles");
    }
    flag(dwt::kPcSamplEna, samples ? std::optional<bool>(*samples > 0) : std::nullopt, "samples");
    if ((ctrl & dwt::kPcSamplEna) != 0) p.plan.pc_sample_cycles = pc_sampling_of(ctrl);

    const bool choose = w.counters.has_value() || !w.keep;
    const std::vector<std::string> counters = w.counters.value_or(std::vector<std::string>());
    for (const auto& [bit, name] :
         {std::pair{dwt::kCpiEvtEna, "cpi"}, std::pair{dwt::kExcEvtEna, "exc"}, std::pair{dwt::kSleepEvtEna, "sleep"},
          std::pair{dwt::kLsuEvtEna, "lsu"}, std::pair{dwt::kFoldEvtEna, "fold"}}) {
        const bool named_it = std::find(counters.begin(), counters.end(), name) != counters.end();
        flag(bit, choose ? std::optional<bool>(named_it) : std::nullopt, std::string("counter ") + name);
        if ((ctrl & bit) != 0) ++p.plan.counters;
    }
    if (p.plan.counters > 0 && !unit.flag("event_counters"))
        return failure("the DWT of core '" + p.core.name + "' has no event counters (DWT_CTRL.NOPRFCNT)", "",
                       "leave counters out");

    const bool fresh = p.units.first(UnitKind::itm) != nullptr && !p.units.first(UnitKind::itm)->flag("enabled");
    if (w.sync || fresh || !w.keep) {
        const std::uint64_t cycles = w.sync.value_or(std::uint64_t{1} << 24);
        const SyncTap tap = nearest_sync_tap(cycles);
        if (w.sync && cycles > 0 && tap.cycles != cycles)
            p.note("synchronisation comes each " + count_text(tap.cycles) + " cycles, which is nearest to " +
                   count_text(cycles));
        ctrl = with_bits(ctrl, 11, 10, cycles == 0 ? 0 : tap.field);
        if (cycles > 0) say("synchronisation each " + count_text(tap.cycles) + " cycles");
    }
    const bool counts = (ctrl & dwt::kPcSamplEna) != 0 || bits_of(ctrl, 11, 10) != 0;
    if (counts) {
        if (!unit.flag("cycle_counter"))
            return failure("the DWT of core '" + p.core.name +
                               "' has no cycle counter (DWT_CTRL.NOCYCCNT), which samples "
                               "and synchronisation need",
                           "", "leave pc_samples and sync out");
        if ((ctrl & dwt::kCycCntEna) == 0) say("cycles are counted");
        ctrl |= dwt::kCycCntEna;
    }
    Comparators c = comparators_of(p, unit);
    if (auto done = plan_variables(p, c); !done) return done;
    const bool named_any = w.exceptions || w.pc_samples || w.sleep || w.counters || w.sync || !w.keep;
    if (why.empty()) why = "as asked for";
    if (ctrl != before || named_any) p.write(control, ctrl, why, Phase::start, 0x00FF'FFFF & ~(1u << 23));
    return {};
}

}  // namespace

Result<unsigned> trigger_comparator(Planner& p, const TraceWish::Trigger& t) {
    using Use = DwtComparator::Use;
    auto found = p.need(UnitKind::dwt, "a trigger");
    if (!found) return tl::make_unexpected(found.error());
    Comparators c = comparators_of(p, **found);
    const std::string what =
        "the trigger " + (t.at.empty() ? "on an access of '" + t.access + "'" : "at '" + t.at + "'");
    // DDI 0403E C1.8.17: a value is compared by comparator 1 alone, linked to the one that has the address.
    const auto free = [&](unsigned n) { return c.all[n].use == Use::none; };
    std::optional<unsigned> chosen;
    for (unsigned n = static_cast<unsigned>(c.all.size()); n-- > 0;)
        if (free(n) && !(t.value && n == 1)) chosen = n;
    if (!chosen || (t.value && (c.all.size() < 2 || !free(1)))) return no_comparator(p, c, what);
    const unsigned n = *chosen;
    if (!t.at.empty()) {
        auto at = trigger_place(p, t);
        if (!at) return tl::make_unexpected(at.error());
        const std::uint32_t function = c.v8 ? 0x2u | 1u << 10 : 0x8u;
        set_comparator(p, **found, n, static_cast<std::uint32_t>(*at), c.v8 ? std::nullopt : std::optional(0u),
                       function, "trigger at " + t.at);
        return n;
    }
    auto place = find_data(p.core, t.access);
    if (!place) return tl::make_unexpected(place.error());
    if (!std::has_single_bit(place->size) || place->address % place->size != 0 ||
        (place->size > 4 && (c.v8 || t.value)))
        return failure("'" + t.access + "' (" + plural(place->size, "byte", "bytes") + ") does not fit one comparator",
                       "core " + p.core.name, "name a part of 1, 2 or 4 bytes");
    const auto address = static_cast<std::uint32_t>(place->address);
    const auto mask = static_cast<std::uint32_t>(std::countr_zero(place->size));
    const std::uint32_t size_field = std::min(mask, 2u) << 10;
    constexpr std::uint32_t on7[] = {0xA, 0x9, 0xB}, on8[] = {0x5, 0x6, 0x4};
    const auto k = static_cast<std::size_t>(t.on);
    constexpr const char* on[] = {"written", "read", "accessed"};
    const std::string why = "trigger when " + t.access + " is " + on[k];
    if (!t.value) {
        set_comparator(p, **found, n, address, c.v8 ? std::nullopt : std::optional(mask),
                       c.v8 ? on8[k] | size_field : on7[k], why);
        return n;
    }
    if (c.v8) return failure("a value cannot be waited for with this DWT", "core " + p.core.name, "leave value out");
    set_comparator(p, **found, n, address, mask, 0, "the address that the value is compared at");
    std::uint32_t value = static_cast<std::uint32_t>(*t.value);
    if (place->size == 1) value = (value & 0xFF) * 0x0101'0101u;
    if (place->size == 2) value = (value & 0xFFFF) * 0x0001'0001u;
    set_comparator(p, **found, 1, value, 0u, on7[k] | 1u << 8 | size_field | n << 12 | n << 16,
                   why + ", to " + std::to_string(*t.value));
    return 1u;
}

Result<void> plan_events(Planner& p, bool framed, unsigned trace_id) {
    const TraceWish& w = p.wish;
    auto found = p.need(UnitKind::itm, "this wish");
    if (!found) return tl::make_unexpected(found.error());
    const Unit& unit = **found;
    const Planner::Register control{unit, "ITM_TCR", itm::kTcr};
    const std::uint32_t before = p.read(control);
    const bool fresh = (before & itm::kItmEna) == 0;
    if (!fresh) {
        p.write(control, before & ~itm::kItmEna, "off while it is set up", Phase::quiet, itm::kItmEna);
        p.await(control, itm::kBusy, 0, "nothing is on its way out");
    }
    if (w.ports || !w.keep) {
        std::uint32_t enabled = 0;
        std::string list;
        for (const unsigned n : w.ports.value_or(std::vector<unsigned>{})) {
            enabled |= 1u << (n & 31);
            list += (list.empty() ? "" : ", ") + std::to_string(n);
        }
        p.write({unit, "ITM_TER0", itm::kTer}, enabled, list.empty() ? "no stimulus ports" : "stimulus ports " + list);
    }
    if (w.privileged_ports) {
        std::uint32_t groups = 0;
        for (const unsigned n : *w.privileged_ports) groups |= 1u << ((n & 31) / 8);
        p.write({unit, "ITM_TPR", itm::kTpr}, groups, "which groups of eight ports only privileged code may write",
                Phase::set, 0xF);
    }
    if (auto done = plan_dwt(p); !done) return done;

    std::uint32_t tcr = before;
    std::string why = fresh ? "on" : "on again";
    const auto flag = [&](std::uint32_t bit, bool on, const char* text) {
        if (on != ((tcr & bit) != 0)) why += std::string(", ") + text + (on ? " on" : " off");
        tcr = on ? tcr | bit : tcr & ~bit;
    };
    if (!w.keep && !w.wants_events()) {  // nothing of it is asked for
        p.write(control, before & ~itm::kItmEna, "not asked for", Phase::start, itm::kItmEna);
        return {};
    }
    tcr |= itm::kItmEna;
    const bool dwt_tells =
        p.plan.exceptions || p.plan.pc_sample_cycles > 0 || p.plan.counters > 0 || !p.plan.variables.empty();
    flag(itm::kTxEna, dwt_tells || (w.keep && (before & itm::kTxEna) != 0), "what the DWT tells");
    // Packets without times are of little use: a unit that was off gets them unless they are refused.
    const bool times = w.local_timestamps.value_or(fresh || !w.keep || (before & itm::kTsEna) != 0);
    const bool syncs = w.sync ? *w.sync > 0 : fresh || !w.keep || (before & itm::kSyncEna) != 0;
    flag(itm::kTsEna, times, "local timestamps");
    flag(itm::kSyncEna, syncs, "synchronisation");
    if ((times && !w.local_timestamps && !w.keep) || (syncs && !w.sync && !w.keep))
        p.note("local timestamps and synchronisation are on though not named: without them nothing has a time");
    if (w.prescaler) {
        tcr = with_bits(tcr, 9, 8, static_cast<std::uint32_t>(std::countr_zero(*w.prescaler) / 2));
        why += ", a tick each " + plural(*w.prescaler, "cycle", "cycles");
    }
    if (w.global_timestamps || (!w.keep && bits_of(tcr, 11, 10) != 0)) {
        tcr = with_bits(tcr, 11, 10, w.global_timestamps.value_or(false) ? 2 : 0);
        why += w.global_timestamps.value_or(false) ? ", global timestamps each 8192 cycles" : ", global timestamps off";
    }
    if (bits_of(tcr, 9, 8) != 0 && w.prescaler.value_or(0) == 0 && fresh) tcr = with_bits(tcr, 9, 8, 0);
    if (framed && bits_of(tcr, 22, 16) != trace_id) {
        tcr = with_bits(tcr, 22, 16, trace_id);
        why += ", trace ID " + std::to_string(trace_id);
    }
    p.plan.local_timestamps = (tcr & itm::kTsEna) != 0;
    p.plan.global_timestamps = bits_of(tcr, 11, 10) != 0;
    p.write(control, tcr, why, Phase::start, 0x007F'0F1F);

    const std::size_t stream = p.stream(Protocol::itm);
    p.key("stream", stream, "framing", toml_quoted(framed ? "tpiu" : "none"));
    p.key("stream", stream, "trace_id", framed ? std::to_string(trace_id) : "");
    p.key("stream.itm", stream, "timestamp_prescaler", std::to_string(1u << (2 * bits_of(tcr, 9, 8))));
    if (p.plan.to == TraceWish::To::swo && p.plan.bits_per_s > 0)
        p.key("stream.itm", stream, "swo_baud", std::to_string(p.plan.bits_per_s));
    return {};
}

}  // namespace mt
