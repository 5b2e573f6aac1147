// A trace unit of the target: what it is, what it can, how it is set. A file for each kind of unit says what its
// registers mean; they are named as in the architecture documents.
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "base/problem.h"
#include "control/units/target_memory.h"

namespace mt {

enum class UnitKind : std::uint8_t {
    rom_table,
    dwt,
    itm,
    tpiu,
    swo,
    etm4,
    mtb,
    funnel,
    replicator,
    tmc,
    etb,
    cti,
    trace_encoder,
    trace_funnel,
    ram_sink,
    pin_sink,
    unknown
};
/// "rom-table", "etm4", "trace-encoder", …
std::string_view unit_kind_name(UnitKind kind);
/// What a unit of the kind is there for, in a few words.
std::string_view unit_kind_purpose(UnitKind kind);

/// One thing that a unit can or is set to.
struct UnitFact {
    using Value = std::variant<bool, std::int64_t, std::string, std::vector<std::string>>;
    std::string key;
    Value value;
};
/// As people read it: "yes", "4", "0, 8, 31".
std::string fact_text(const UnitFact::Value& value);

/// Plain data.
struct Unit {
    std::string name;  ///< of its own on this core: "DWT", "funnel 2"
    UnitKind kind = UnitKind::unknown;
    std::uint64_t address = 0;
    unsigned part = 0;          ///< of its peripheral identification; RISC-V: the component's type
    unsigned designer = 0;      ///< JEP106: continuation code and identity; 0x43B is Arm
    unsigned architecture = 0;  ///< DEVARCH.ARCHID, where it has one
    bool locked = false;        ///< writes need the lock access register first
    bool powered = true;
    std::string trouble;  ///< why nothing is known of it; empty if all is
    std::vector<UnitFact> features, settings;
    std::vector<std::string> feeds;  ///< names of the units that its trace goes to

    void feature(std::string key, UnitFact::Value value) { features.push_back({std::move(key), std::move(value)}); }
    void setting(std::string key, UnitFact::Value value) { settings.push_back({std::move(key), std::move(value)}); }
    const UnitFact::Value* find(std::string_view key) const;
    std::int64_t number(std::string_view key, std::int64_t otherwise = 0) const;
    bool flag(std::string_view key) const;
};

/// CoreSight management registers (Arm CoreSight Architecture Specification 3.0, IHI 0029, chapter B2).
namespace coresight {
constexpr std::uint32_t kClaimSet = 0xFA0, kClaimClear = 0xFA4, kLockAccess = 0xFB0, kLockStatus = 0xFB4,
                        kDevArch = 0xFBC, kDevId = 0xFC8, kDevType = 0xFCC, kPidr4 = 0xFD0, kPidr0 = 0xFE0,
                        kCidr0 = 0xFF0, kUnlockKey = 0xC5ACCE55;
}  // namespace coresight

/// Bits `high` to `low` of a register.
constexpr std::uint32_t bits_of(std::uint32_t value, unsigned high, unsigned low) {
    return value >> low & (high - low == 31 ? 0xFFFF'FFFFu : (1u << (high - low + 1)) - 1);
}
constexpr std::uint32_t with_bits(std::uint32_t value, unsigned high, unsigned low, std::uint32_t field) {
    const std::uint32_t mask = (high - low == 31 ? 0xFFFF'FFFFu : (1u << (high - low + 1)) - 1) << low;
    return (value & ~mask) | (field << low & mask);
}

/// Reads registers of one unit; the first that cannot be read makes `bad`, and all later ones are 0.
class UnitReader {
  public:
    UnitReader(TargetMemory& memory, std::uint64_t base) : memory_(memory), base_(base) {}
    std::uint32_t operator()(std::uint32_t offset) {
        if (problem_) return 0;
        auto value = memory_.read(base_ + offset);
        if (value) return *value;
        problem_ = true;
        why_ = value.error().what;
        return 0;
    }
    bool bad() const { return problem_; }
    const std::string& why() const { return why_; }

  private:
    TargetMemory& memory_;
    std::uint64_t base_;
    bool problem_ = false;
    std::string why_;
};

// What each kind's file knows: fills in features and settings. Nothing is written, and no register is read whose
// reading changes something.
void look_at_dwt(UnitReader& read, Unit& unit);
void look_at_itm(UnitReader& read, Unit& unit);
void look_at_tpiu(UnitReader& read, Unit& unit);
void look_at_swo(UnitReader& read, Unit& unit);
void look_at_etm4(UnitReader& read, Unit& unit);
void look_at_mtb(UnitReader& read, Unit& unit);
void look_at_funnel(UnitReader& read, Unit& unit);
void look_at_replicator(UnitReader& read, Unit& unit);
void look_at_tmc(UnitReader& read, Unit& unit);
void look_at_etb(UnitReader& read, Unit& unit);
void look_at_trace_encoder(UnitReader& read, Unit& unit);
void look_at_trace_funnel(UnitReader& read, Unit& unit);
void look_at_ram_sink(UnitReader& read, Unit& unit);
void look_at_pin_sink(UnitReader& read, Unit& unit);

}  // namespace mt
