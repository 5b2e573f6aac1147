#include "rv_units.h"

#include <algorithm>

namespace board {
namespace {

constexpr std::uint32_t kControl = 0x000, kImpl = 0x004, kFeatures = 0x008, kFilters = 0x00C, kTsControl = 0x040,
                        kFilter0 = 0x400, kComp0 = 0x600, kStartLow = 0x010, kStartHigh = 0x014, kLimitLow = 0x018,
                        kLimitHigh = 0x01C, kWpLow = 0x020, kWpHigh = 0x024, kRpLow = 0x028, kRamData = 0x040;
constexpr std::uint32_t kComparators = 4;

constexpr std::uint32_t bits_in(std::uint32_t value, unsigned high, unsigned low) {
    return value >> low & ((1u << (high - low + 1)) - 1);
}

}  // namespace

RvUnits::RvUnits(RvCore& core, UnitTroubles troubles)
    : core_(core), troubles_(std::move(troubles)), sram_(kSramBytes), latched_(kComparators) {
    registers_[kRamSink + kLimitLow] = kSramBytes - 4;
    registers_[kEncoder + kControl] = 0;
}

const char* RvUnits::name_of(std::uint32_t base) const {
    return base == kEncoder ? "encoder" : base == kFunnel ? "trace-funnel" : base == kRamSink ? "ram-sink" : "pin-sink";
}

void RvUnits::set_by_firmware(std::uint32_t modes) {
    registers_[kFunnel] = registers_[kPinSink] = 3;
    registers_[kPinSink] |= 5u << 4;
    registers_[kEncoder + kFeatures] = modes;
    registers_[kEncoder + kTsControl] = 1u | 1u << 15;
    registers_[kEncoder] = 7u | 6u << 4 | 1u << 16 | 8u << 20;
    look_at_listening();
}

bool RvUnits::read(std::uint32_t address, std::uint32_t& value) {
    const std::uint32_t base = address & 0xFFFFF000, offset = address & 0xFFF;
    if (!holds(address) || address % 4 != 0) return false;
    if (troubles_.off == name_of(base)) {
        value = 0;
        return true;
    }
    if (offset == kImpl) {  // version 1.0, what it is, and of the RAM sink which memories (chapter 3 to 7)
        const std::uint32_t type = base == kEncoder ? 1 : base == kFunnel ? 8 : base == kRamSink ? 9 : 0xA;
        value = troubles_.wrong_id == name_of(base) ? 0x00005F0F : 1u | type << 8 | (base == kRamSink ? 3u << 12 : 0);
        return true;
    }
    if (base == kRamSink) collect();
    if (offset == kControl) {
        value = reg(base) | 8u;  // tr??Empty: nothing is ever on its way for long
        if (base == kRamSink && (reg(base) & 1u << 8) != 0 && (reg(base + kWpLow) & 1) != 0) value &= ~2u;
        return true;
    }
    if (base == kEncoder && offset == kTsControl) {
        value = (reg(address) & ~0x3F00'0000u) | cop_mode::kTimeBits << 24;
        return true;
    }
    if (base == kRamSink && offset == kRamData) {
        std::uint32_t at = reg(base + kRpLow) & ~3u;
        value = 0;
        for (unsigned i = 4; i-- > 0;) value = value << 8 | sram_[(at + i) % kSramBytes];
        at += 4;
        registers_[base + kRpLow] = at > reg(base + kLimitLow) ? reg(base + kStartLow) : at;
        return true;
    }
    value = reg(address);
    return true;
}

bool RvUnits::write(std::uint32_t address, std::uint32_t value) {
    const std::uint32_t base = address & 0xFFFFF000, offset = address & 0xFFF;
    if (!holds(address) || address % 4 != 0) return false;
    if (troubles_.off == name_of(base) || troubles_.write_lost == name_of(base) || offset == kImpl) return true;
    collect();
    if (offset == kControl) {
        if ((value & 1) == 0) value = 0;  // asleep: it forgets
        if (base == kEncoder && (value & 6) != 6) end_trace();
        if (base == kRamSink && (value & 2) == 0)
            while (!partial_.empty()) store({0});  // filled up with idle bytes
        registers_[base] = value & ~8u;
        look_at_listening();
        return true;
    }
    if (!awake(base)) return true;                                  // chapter 3: only tr??Active answers
    if (base == kEncoder && offset == kFeatures) value &= cop_mode::kAll;
    if (base == kEncoder && offset >= kComp0 + 0x20 * kComparators) return true;
    if (base == kEncoder && offset >= kFilter0 + 0x20 * kComparators && offset < kComp0) return true;
    if (base == kEncoder && offset == kFilters) value &= (1u << kComparators) - 1;
    if (base == kRamSink && (offset == kStartLow || offset == kLimitLow)) value &= ~3u;
    if (base == kRamSink && (reg(base) & 1u << 4) == 0 &&
        (offset == kStartHigh || offset == kLimitHigh || offset == kWpHigh)) {
        if ((reg(base) & 2) != 0) return true;
    }
    registers_[address] = value;
    return true;
}

bool RvUnits::tracing() const {
    const bool sinks = on(kRamSink) || (on(kPinSink) && listened_);
    return on(kEncoder) && (reg(kEncoder) & 4) != 0 && bits_in(reg(kEncoder), 6, 4) == 6 && on(kFunnel) && sinks;
}

void RvUnits::look_at_listening() {
    if (!tracing()) {
        if (encoder_) end_trace();
        core_.listen(nullptr);
        return;
    }
    core_.listen(this);
}

// Chapter 6: a filter takes what its comparator says; no filter takes everything.
bool RvUnits::taken(std::uint32_t pc) {
    const std::uint32_t filters = reg(kEncoder + kFilters);
    if (filters == 0) return true;
    bool any = false;
    for (std::uint32_t n = 0; n < kComparators; ++n) {
        if ((filters >> n & 1) == 0) continue;
        const std::uint32_t filter = reg(kEncoder + kFilter0 + 0x20 * n);
        if ((filter & 1) == 0) continue;
        const std::uint32_t k = bits_in(filter, 7, 5) % kComparators, comp = kEncoder + kComp0 + 0x20 * k,
                            how = reg(comp);
        const auto compares = [&](std::uint32_t function, std::uint32_t with) {
            switch (function) {
                case 0:
                    return pc == with;
                case 1:
                    return pc != with;
                case 2:
                    return pc < with;
                case 3:
                    return pc <= with;
                case 4:
                    return pc > with;
                case 5:
                    return pc >= with;
                default:
                    return true;
            }
        };
        const bool p = compares(bits_in(how, 6, 4), reg(comp + 0x10)),
                   s = compares(bits_in(how, 14, 12), reg(comp + 0x18));
        switch (bits_in(how, 17, 16)) {
            case 0:
                any = any || p;
                break;
            case 1:
                any = any || (p && s);
                break;
            case 2:
                any = any || !(p && s);
                break;
            default:  // from the first until the second
                if (p) latched_[k] = true;
                any = any || latched_[k];
                if (s) latched_[k] = false;
        }
    }
    return any;
}

void RvUnits::begin_trace() {
    // trTeInstSyncMax counts packets of some 32 instructions here (4.1).
    const std::uint32_t power = bits_in(reg(kEncoder), 23, 20);
    encoder_ = std::make_unique<EtraceEncoder>(cop_encoder(reg(kEncoder + kFeatures), (reg(kEncoder + kTsControl) & 1u << 15) != 0,
                                                           std::uint64_t{32} << (power + 4)));
}

void RvUnits::end_trace() {
    if (!encoder_) return;
    encoder_->stop();
    collect();
    encoder_.reset();
}

void RvUnits::retired(const RvRetired& insn) {
    if (!taken(insn.pc)) {
        if (encoder_) end_trace();
        return;
    }
    if (!encoder_) begin_trace();
    encoder_->retired(insn);
}

void RvUnits::trapped(const RvTrapped& trap) {
    if (encoder_) encoder_->trapped(trap);
}

void RvUnits::restarted() { end_trace(); }

// The encoder tells the last instruction, and begins afresh behind it.
void RvUnits::halted() {
    if (!encoder_) return;
    encoder_->halted();
    collect();
}

void RvUnits::collect() {
    if (!encoder_) return;
    std::vector<std::uint8_t> bytes;
    encoder_->drain(bytes);
    if (!on(kFunnel)) return;
    if (on(kPinSink) && listened_) out_.insert(out_.end(), bytes.begin(), bytes.end());
    if (on(kRamSink)) store(bytes);
}

void RvUnits::store(const std::vector<std::uint8_t>& bytes) {
    const bool system = (reg(kRamSink) & 1u << 4) != 0, stops = (reg(kRamSink) & 1u << 8) != 0;
    for (const std::uint8_t b : bytes) {
        std::uint32_t& wp = registers_[kRamSink + kWpLow];
        if (stops && (wp & 1) != 0) return;
        partial_.push_back(b);
        if (partial_.size() < 4) continue;
        const std::uint32_t at = wp & ~3u;
        if (system)
            (void)core_.write(at, partial_);
        else
            std::copy(partial_.begin(), partial_.end(), sram_.begin() + at % kSramBytes);
        partial_.clear();
        wp = at >= reg(kRamSink + kLimitLow) ? (reg(kRamSink + kStartLow) | 1u) : ((at + 4) | (wp & 1));
    }
}

void RvUnits::drain(std::vector<std::uint8_t>& out) {
    look_at_listening();
    collect();
    out.insert(out.end(), out_.begin(), out_.end());
    out_.clear();
}

}  // namespace board
