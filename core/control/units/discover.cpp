#include "control/units/discover.h"

#include <algorithm>
#include <set>

#include "base/text.h"
#include "control/units/registers.h"
#include "target/svd_units.h"

namespace mt {
namespace {

constexpr std::uint64_t kRootOfArmM = 0xE00FF000;  // DDI 0403E table C1-3
constexpr std::size_t kMostTables = 16, kMostUnits = 128;
constexpr unsigned kArm = 0x43B;  // JEP106: continuation code 4, identity 0x3B

struct PartOf {
    unsigned part;
    UnitKind kind;
    const char* name;
};
// Component identities as the Technical Reference Manuals give them; Armv8-M and newer components are told by DEVARCH.
constexpr PartOf kParts[] = {
    {0x000, UnitKind::unknown, "system control"},
    {0x008, UnitKind::unknown, "system control"},
    {0x00C, UnitKind::unknown, "system control"},
    {0x001, UnitKind::itm, "ITM"},
    {0x002, UnitKind::dwt, "DWT"},
    {0x00A, UnitKind::dwt, "DWT"},
    {0x003, UnitKind::unknown, "breakpoints"},
    {0x00B, UnitKind::unknown, "breakpoints"},
    {0x00E, UnitKind::unknown, "breakpoints"},
    {0x923, UnitKind::tpiu, "TPIU"},
    {0x9A1, UnitKind::tpiu, "TPIU"},
    {0x912, UnitKind::tpiu, "TPIU"},
    {0x9E7, UnitKind::tpiu, "TPIU"},
    {0x914, UnitKind::swo, "SWO"},
    {0x975, UnitKind::etm4, "ETM"},
    {0x932, UnitKind::mtb, "MTB"},
    {0x908, UnitKind::funnel, "funnel"},
    {0x9EB, UnitKind::funnel, "funnel"},
    {0x909, UnitKind::replicator, "replicator"},
    {0x9EC, UnitKind::replicator, "replicator"},
    {0x907, UnitKind::etb, "ETB"},
    {0x961, UnitKind::tmc, "TMC"},
    {0x9E8, UnitKind::tmc, "TMC"},
    {0x9E9, UnitKind::tmc, "TMC"},
    {0x9EA, UnitKind::tmc, "TMC"},
    {0x906, UnitKind::cti, "CTI"},
    {0x924, UnitKind::unknown, "ETM (version 3)"},
    {0x925, UnitKind::unknown, "ETM (version 3)"},
};
// DEVARCH.ARCHID of components that Arm designed.
constexpr PartOf kArchitectures[] = {
    {0x1A01, UnitKind::itm, "ITM"},
    {0x1A02, UnitKind::dwt, "DWT"},
    {0x1A03, UnitKind::unknown, "breakpoints"},
    {0x2A04, UnitKind::unknown, "system control"},
    {0x1A14, UnitKind::cti, "CTI"},
    {0x0A31, UnitKind::mtb, "MTB"},
    {0x0AF7, UnitKind::rom_table, "ROM table"},
};

struct Seen {
    std::set<std::uint64_t> tables, units;
};

class Discovery {
  public:
    Discovery(TargetMemory& memory, CoreUnits& out, Progress* progress)
        : memory_(memory), out_(out), progress_(progress) {}

    void coresight(std::uint64_t base, int depth);
    void riscv(std::uint64_t base);
    bool anything_read() const { return anything_; }

  private:
    bool identify(std::uint64_t base, Unit& unit, unsigned& component_class);
    void table(std::uint64_t base, bool wide, int depth);
    void look(Unit unit);
    std::string free_name(const std::string& name) const;
    bool cancelled() const { return progress_ != nullptr && progress_->cancelled(); }

    TargetMemory& memory_;
    CoreUnits& out_;
    Progress* progress_;
    Seen seen_;
    bool anything_ = false;
};

std::string Discovery::free_name(const std::string& name) const {
    std::string chosen = name;
    for (unsigned n = 2; out_.named(chosen) != nullptr; ++n) chosen = name + " " + std::to_string(n);
    return chosen;
}

// IHI 0029, B2.2: CIDR0 to CIDR3 are 0x0D, class << 4, 0x05, 0xB1; anything else is no component, or one without power.
bool Discovery::identify(std::uint64_t base, Unit& unit, unsigned& component_class) {
    UnitReader read(memory_, base);
    std::uint32_t cidr = 0;
    for (unsigned n = 0; n < 4; ++n) cidr |= (read(coresight::kCidr0 + 4 * n) & 0xFF) << (8 * n);
    if (read.bad()) {
        unit.powered = false;
        unit.trouble = "cannot be read: " + read.why();
        return false;
    }
    anything_ = true;
    if ((cidr & 0xFFFF'0FFF) != 0xB105'000D) {
        unit.powered = false;
        unit.trouble = cidr == 0 ? "answers nothing but zeros: without power?"
                                 : "its component identification is " + hex_text(cidr) + ", which is none";
        return false;
    }
    component_class = bits_of(cidr, 15, 12);
    std::uint32_t p[5] = {};
    for (unsigned n = 0; n < 4; ++n) p[n] = read(coresight::kPidr0 + 4 * n) & 0xFF;
    p[4] = read(coresight::kPidr4) & 0xFF;
    unit.part = p[0] | (p[1] & 0xF) << 8;
    unit.designer = (p[1] >> 4) | (p[2] & 7) << 4 | (p[4] & 0xF) << 8;
    if (component_class == 9) {
        const std::uint32_t arch = read(coresight::kDevArch);
        if ((arch & 1u << 20) != 0) unit.architecture = arch & 0xFFFF;
    }
    return true;
}

void Discovery::coresight(std::uint64_t base, int depth) {
    if (cancelled() || out_.units.size() >= kMostUnits) return;
    if (!seen_.units.insert(base).second) {
        out_.notes.push_back("a ROM table lists what stands at " + hex_text(base) +
                             " again: it was looked at once, and circles are not followed");
        return;
    }
    Unit unit;
    unit.address = base;
    unsigned component_class = 0;
    if (!identify(base, unit, component_class)) {
        unit.name = free_name("unit at " + hex_text(base));
        out_.notes.push_back(unit.name + " " + unit.trouble);
        out_.units.push_back(unit);
        return;
    }
    const bool arm = unit.designer == kArm;
    const bool table9 = component_class == 9 && unit.architecture == 0x0AF7;
    if (component_class == 1 || table9) {
        unit.kind = UnitKind::rom_table;
        unit.name = free_name("ROM table");
        out_.units.push_back(unit);
        bool wide = false;
        if (table9) wide = (UnitReader(memory_, base)(coresight::kDevId) & 1) != 0;
        table(base, wide, depth);
        return;
    }
    std::string name;
    if (unit.architecture != 0) {
        if ((unit.architecture & 0xFFF) == 0xA13 && unit.architecture >> 12 >= 4) {  // IHI 0064: major version 4 and on
            unit.kind = UnitKind::etm4;
            name = "ETM";
        }
        for (const PartOf& known : kArchitectures)
            if (known.part == unit.architecture) unit.kind = known.kind, name = known.name;
    }
    if (name.empty() && arm)
        for (const PartOf& known : kParts)
            if (known.part == unit.part) unit.kind = known.kind, name = known.name;
    if (name.empty() && component_class == 9) {
        // IHI 0029, B2.3.8: DEVTYPE says sink, link or source, of whoever made it.
        const std::uint32_t type = UnitReader(memory_, base)(coresight::kDevType) & 0xFF;
        // Cores of Armv8-M give all their units one part number: what drives pins is told by its type alone.
        if (arm && type == 0x11)
            unit.kind = UnitKind::tpiu, name = "TPIU";
        else
            name = (type & 0xF) == 1   ? "unknown sink"
                   : (type & 0xF) == 2 ? "unknown link"
                   : (type & 0xF) == 3 ? "unknown source"
                                       : "";
    }
    unit.name = free_name(name.empty() ? "unit at " + hex_text(base) : name);
    look(std::move(unit));
}

// IHI 0029, D1 and D2: entries up to the first that is 0; offsets are signed and wrap around.
void Discovery::table(std::uint64_t base, bool wide, int depth) {
    if (depth >= 8 || seen_.tables.size() >= kMostTables) {
        out_.notes.push_back("the ROM table at " + hex_text(base) + " stands too deep in others: not followed");
        return;
    }
    seen_.tables.insert(base);
    UnitReader read(memory_, base);
    const unsigned size = wide ? 8 : 4;
    for (std::uint32_t at = 0; at < (wide ? 0x800u : 0xF00u); at += size) {
        if (cancelled() || out_.units.size() >= kMostUnits) return;
        std::uint64_t entry = read(at);
        const std::uint64_t high = wide ? read(at + 4) : 0;
        if (read.bad()) {
            out_.notes.push_back("the ROM table at " + hex_text(base) + " cannot be read to its end: " + read.why());
            return;
        }
        if (entry == 0 && high == 0) return;
        if ((entry & 1) == 0) continue;  // PRESENT
        std::uint64_t offset = entry & 0xFFFF'F000;
        if (wide)
            offset |= high << 32;
        else if ((offset & 0x8000'0000) != 0)
            offset |= 0xFFFF'FFFF'0000'0000;
        std::uint64_t place = base + offset;
        if (!wide) place &= 0xFFFF'FFFF;
        if (place == base) {
            out_.notes.push_back("the ROM table at " + hex_text(base) + " lists itself: not followed");
            continue;
        }
        coresight(place, depth + 1);
    }
}

void Discovery::look(Unit unit) {
    UnitReader read(memory_, unit.address);
    const bool riscv = unit.kind >= UnitKind::trace_encoder && unit.kind <= UnitKind::pin_sink;
    if (!riscv && unit.kind != UnitKind::unknown) {
        // LSR: SLI, bit 0: there is a lock; SLK, bit 1: it is on (IHI 0029 B2.3.10).
        const std::uint32_t lock = read(coresight::kLockStatus);
        unit.locked = (lock & 3) == 3;
    }
    using Look = void (*)(UnitReader&, Unit&);
    const auto how = [&]() -> Look {
        switch (unit.kind) {
            case UnitKind::dwt:
                return look_at_dwt;
            case UnitKind::itm:
                return look_at_itm;
            case UnitKind::tpiu:
                return look_at_tpiu;
            case UnitKind::swo:
                return look_at_swo;
            case UnitKind::etm4:
                return look_at_etm4;
            case UnitKind::mtb:
                return look_at_mtb;
            case UnitKind::funnel:
                return look_at_funnel;
            case UnitKind::replicator:
                return look_at_replicator;
            case UnitKind::tmc:
                return look_at_tmc;
            case UnitKind::etb:
                return look_at_etb;
            case UnitKind::trace_encoder:
                return look_at_trace_encoder;
            case UnitKind::trace_funnel:
                return look_at_trace_funnel;
            case UnitKind::ram_sink:
                return look_at_ram_sink;
            case UnitKind::pin_sink:
                return look_at_pin_sink;
            case UnitKind::rom_table:
            case UnitKind::cti:
            case UnitKind::unknown:
                break;
        }
        return nullptr;
    }();
    if (how != nullptr) how(read, unit);
    if (read.bad()) {
        unit.powered = false;
        unit.trouble = "cannot be read: " + read.why();
    }
    if (!unit.trouble.empty()) out_.notes.push_back(unit.name + " " + unit.trouble);
    out_.units.push_back(std::move(unit));
}

// RISC-V Trace Control Interface 1.0, chapter 3: tr??Impl stands at 0x004 of each component; bits 11:8 say which it is.
void Discovery::riscv(std::uint64_t base) {
    if (!seen_.units.insert(base).second) return;
    Unit unit;
    unit.address = base;
    UnitReader read(memory_, base);
    const std::uint32_t impl = read(trace_control::kImpl);
    if (!read.bad()) anything_ = true;
    unit.part = bits_of(impl, 11, 8);
    struct Component {
        unsigned type;
        UnitKind kind;
        const char* name;
    };
    constexpr Component kinds[] = {{0x1, UnitKind::trace_encoder, "trace encoder"},
                                   {0x8, UnitKind::trace_funnel, "trace funnel"},
                                   {0x9, UnitKind::ram_sink, "RAM sink"},
                                   {0xA, UnitKind::pin_sink, "pin sink"},
                                   {0xE, UnitKind::unknown, "ATB bridge"}};
    std::string name;
    if (bits_of(impl, 3, 0) == 1)  // the major version
        for (const Component& known : kinds)
            if (known.type == unit.part) unit.kind = known.kind, name = known.name;
    if (name.empty()) {
        unit.name = free_name("unit at " + hex_text(base));
        unit.powered = false;
        unit.trouble = read.bad()  ? "cannot be read: " + read.why()
                       : impl == 0 ? "answers nothing but zeros: without power?"
                                   : "is none of the trace units of RISC-V: it says " + hex_text(impl);
        out_.notes.push_back(unit.name + " " + unit.trouble);
        out_.units.push_back(std::move(unit));
        return;
    }
    unit.name = free_name(name);
    look(std::move(unit));
}

}  // namespace

const Unit* CoreUnits::first(UnitKind kind) const {
    for (const Unit& u : units)
        if (u.kind == kind) return &u;
    return nullptr;
}

const Unit* CoreUnits::named(std::string_view name) const {
    for (const Unit& u : units)
        if (u.name == name) return &u;
    return nullptr;
}

Result<CoreUnits> discover_units(TargetMemory& memory, const CoreSpec& core, Progress* progress) {
    CoreUnits out;
    out.core = core.name;
    Discovery walk(memory, out, progress);
    const bool arm_m = core.isa.rfind("armv6-m", 0) == 0 || core.isa.rfind("armv7-m", 0) == 0 ||
                       core.isa.rfind("armv7e-m", 0) == 0 || core.isa.rfind("armv8-m", 0) == 0;
    const bool riscv = core.isa.rfind("rv", 0) == 0;
    if (core.rom_table || arm_m) walk.coresight(core.rom_table.value_or(kRootOfArmM), 0);
    std::vector<std::uint64_t> named = core.units;
    if (riscv && named.empty() && !core.svd.empty()) named = trace_units_of_svd(core.svd);
    for (const std::uint64_t base : named) {
        if (riscv)
            walk.riscv(base);
        else
            walk.coresight(base, 0);
    }
    if (progress != nullptr && progress->cancelled())
        return failure("looking at the trace units was cancelled", core.name);
    if (riscv && named.empty())
        return failure("where the trace units of core '" + core.name + "' are is not known", "",
                       "name their base addresses in the target file: units = [\"0x…\"]");
    if (!walk.anything_read())
        return failure("the trace units of core '" + core.name + "' cannot be read",
                       out.notes.empty() ? "" : out.notes.front(),
                       "is the target powered, and may the debug server read there?");
    join_units(out);
    return out;
}

void join_units(CoreUnits& units) {
    const auto is = [](const Unit& u, std::initializer_list<UnitKind> kinds) {
        return u.trouble.empty() && std::find(kinds.begin(), kinds.end(), u.kind) != kinds.end();
    };
    const auto names = [&](std::initializer_list<UnitKind> kinds) {
        std::vector<std::string> all;
        for (const Unit& u : units.units)
            if (is(u, kinds)) all.push_back(u.name);
        return all;
    };
    const auto or_else = [](std::vector<std::string> a, const std::vector<std::string>& b) {
        return a.empty() ? b : a;
    };
    const auto outs = names({UnitKind::tpiu, UnitKind::swo, UnitKind::etb});
    const auto buffers = names({UnitKind::tmc});
    const auto splits = names({UnitKind::replicator});
    const auto funnels = names({UnitKind::funnel});
    const auto behind_buffer = or_else(splits, outs);
    const auto behind_funnel = or_else(buffers, behind_buffer);
    const auto behind_source = or_else(funnels, behind_funnel);
    const auto risc_sinks = names({UnitKind::ram_sink, UnitKind::pin_sink});
    for (Unit& u : units.units) {
        if (!u.trouble.empty()) continue;
        switch (u.kind) {
            case UnitKind::dwt:
                u.feeds = names({UnitKind::itm});
                break;
            case UnitKind::itm:
            case UnitKind::etm4:
                u.feeds = behind_source;
                break;
            case UnitKind::funnel:
                u.feeds = behind_funnel;
                break;
            case UnitKind::tmc:
                u.feeds = u.find("form") != nullptr && fact_text(*u.find("form")) == "fifo"
                              ? behind_buffer
                              : std::vector<std::string>();
                break;
            case UnitKind::replicator:
                u.feeds = outs;
                break;
            case UnitKind::trace_encoder:
                u.feeds = or_else(names({UnitKind::trace_funnel}), risc_sinks);
                break;
            case UnitKind::trace_funnel:
                u.feeds = risc_sinks;
                break;
            default:
                break;
        }
    }
}

}  // namespace mt
