#include "control/units/dwt.h"

#include <bit>

#include "base/text.h"
#include "control/units/registers.h"

namespace mt {

DwtFunction dwt7_function(Access on, Tell tell) {
    switch (tell) {
        case Tell::value:
            return {on == Access::any ? 0x2u : on == Access::read ? 0xCu : 0xDu, false};
        case Tell::pc:
            if (on == Access::any) return {0x1u, false};
            return {on == Access::read ? 0xEu : 0xFu, true};
        case Tell::value_pc:
            return {on == Access::any ? 0x3u : on == Access::read ? 0xEu : 0xFu, false};
        case Tell::address:
            return {dwt::kEmitRange | (on == Access::any ? 0x1u : on == Access::read ? 0xCu : 0xDu), false};
        case Tell::value_address:
            return {dwt::kEmitRange | (on == Access::any ? 0x2u : on == Access::read ? 0xEu : 0xFu), false};
    }
    return {};
}

std::optional<std::uint32_t> dwt8_function(Access on, Tell tell, unsigned bytes) {
    constexpr std::uint32_t kMatchPacket = 2u << 4, kMore = 3u << 4;
    const std::uint32_t size = (bytes == 1 ? 0u : bytes == 2 ? 1u : 2u) << 10;
    const std::uint32_t address = on == Access::any ? 0x4u : on == Access::write ? 0x5u : 0x6u;
    const std::uint32_t with_value = address + 8;
    switch (tell) {
        case Tell::value:
            return with_value | kMatchPacket | size;
        case Tell::pc:
            return address | kMore | size;
        case Tell::value_pc:
            return with_value | kMore | size;
        case Tell::address:  // the limit's comparator tells it: a range of two
            return address | size;
        case Tell::value_address:
            return std::nullopt;
    }
    return std::nullopt;
}

namespace {

constexpr const char* kOn[] = {"write", "read", "access"};

// Armv7-M, DDI 0403E table C1-14.
void say7(DwtComparator& c) {
    using Use = DwtComparator::Use;
    const std::uint32_t f = c.function & 0xF;
    const bool range = (c.function & dwt::kEmitRange) != 0;
    const std::string place =
        hex_text(c.address) +
        (c.mask > 0 ? " and " + std::to_string((1u << (c.mask & 31)) - 1) + " bytes behind it" : "");
    if (f == 0) return;
    if (f >= 4 && f <= 7) {
        c.use = Use::debug;
        c.text = (f == 4 ? "stops at " : "stops on an access of ") + place;
        return;
    }
    if (f >= 8 && f <= 0xB) {
        c.use = Use::trigger;
        c.text = (f == 8 ? "trigger at " : "trigger on an access of ") + place;
        return;
    }
    c.use = Use::trace;
    c.on = f <= 3 ? Access::any : (f & 1) != 0 ? Access::write : Access::read;
    const char* tells = f == 1                 ? range ? "address" : "pc"
                        : f == 2               ? range ? "value+address" : "value"
                        : f == 3               ? range ? "value+address" : "value+pc"
                        : f == 0xC || f == 0xD ? range ? "address" : "value"
                        : range                ? "value+address"
                                               : "value+pc";
    c.text = std::string(kOn[static_cast<int>(c.on)]) + " of " + place + ": " + tells;
}

// Armv8-M, DDI 0553 DWT_FUNCTIONn.
void say8(DwtComparator& c) {
    using Use = DwtComparator::Use;
    const std::uint32_t match = c.function & 0xF, action = bits_of(c.function, 5, 4);
    if (match == 0) return;
    c.use = action == 1 ? Use::debug : action == 0 ? Use::trigger : Use::trace;
    const std::uint32_t way = match & 3;
    c.on = way == 0 ? Access::any : way == 1 ? Access::write : Access::read;
    const bool data = match >= 4;
    c.text = (data ? std::string(kOn[static_cast<int>(c.on)]) + " of " : std::string("execution of ")) +
             hex_text(c.address) +
             (c.use == Use::debug     ? ": stops"
              : c.use == Use::trigger ? ": trigger"
                                      : "");
    if (c.use == Use::trace) c.text += match >= 0xC ? (action == 3 ? ": value+pc" : ": value") : ": pc";
}

}  // namespace

DwtComparator dwt_comparator(UnitReader& read, unsigned n, bool v8) {
    DwtComparator c;
    c.function = read(dwt::kFunction0 + n * dwt::kStride);
    c.address = read(dwt::kComp0 + n * dwt::kStride);
    if (!v8) c.mask = read(dwt::kMask0 + n * dwt::kStride) & 0x1F;
    if (v8)
        say8(c);
    else
        say7(c);
    return c;
}

PcSampling nearest_pc_sampling(std::uint64_t cycles) {
    PcSampling best;
    for (std::uint32_t tap = 0; tap < 2; ++tap)
        for (std::uint32_t preset = 0; preset < 16; ++preset) {
            const std::uint64_t period = (tap == 0 ? 64u : 1024u) * (preset + 1);
            const auto away = [&](std::uint64_t p) { return p > cycles ? p - cycles : cycles - p; };
            if (best.cycles == 0 || away(period) < away(best.cycles))
                best = {tap << 9 | preset << 5 | preset << 1, period};
        }
    return best;
}

std::uint64_t pc_sampling_of(std::uint32_t ctrl) {
    return std::uint64_t{(ctrl & 1u << 9) != 0 ? 1024u : 64u} * (bits_of(ctrl, 4, 1) + 1);
}

SyncTap nearest_sync_tap(std::uint64_t cycles) {
    SyncTap best;
    for (std::uint32_t field = 1; field <= 3; ++field) {
        const std::uint64_t period = std::uint64_t{1} << (22 + 2 * field);
        const auto away = [&](std::uint64_t p) { return p > cycles ? p - cycles : cycles - p; };
        if (away(period) < away(best.cycles)) best = {field, period};
    }
    return best;
}

void look_at_dwt(UnitReader& read, Unit& unit) {
    const std::uint32_t ctrl = read(dwt::kCtrl);
    const bool v8 = unit.architecture == 0x1A02;
    const unsigned comparators = bits_of(ctrl, 31, 28);
    unit.feature("form", std::string(v8 ? "Armv8-M" : "Armv7-M"));
    unit.feature("comparators", std::int64_t{comparators});
    unit.feature("trace", (ctrl & dwt::kNoTrcPkt) == 0);
    unit.feature("cycle_counter", (ctrl & dwt::kNoCycCnt) == 0);
    unit.feature("event_counters", (ctrl & dwt::kNoPrfCnt) == 0);
    unit.setting("exceptions", (ctrl & dwt::kExcTrcEna) != 0);
    unit.setting("cycles_counted", (ctrl & dwt::kCycCntEna) != 0);
    unit.setting("pc_samples", (ctrl & dwt::kPcSamplEna) != 0 ? std::to_string(pc_sampling_of(ctrl)) + " cycles"
                                                              : std::string("off"));
    std::vector<std::string> counters;
    for (const auto& [bit, name] :
         {std::pair{dwt::kCpiEvtEna, "cpi"}, std::pair{dwt::kExcEvtEna, "exc"}, std::pair{dwt::kSleepEvtEna, "sleep"},
          std::pair{dwt::kLsuEvtEna, "lsu"}, std::pair{dwt::kFoldEvtEna, "fold"}})
        if ((ctrl & bit) != 0) counters.emplace_back(name);
    unit.setting("counters", counters);
    const std::uint32_t tap = bits_of(ctrl, 11, 10);
    unit.setting("sync",
                 tap == 0 ? std::string("off") : std::to_string(std::uint64_t{1} << (22 + 2 * tap)) + " cycles");
    for (unsigned n = 0; n < comparators && !read.bad(); ++n) {
        const DwtComparator c = dwt_comparator(read, n, v8);
        unit.setting("comparator_" + std::to_string(n), c.text.empty() ? std::string("free") : c.text);
    }
}

}  // namespace mt
