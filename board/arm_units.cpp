#include "arm_units.h"

#include <algorithm>

#include "base/bits.h"

namespace board {
namespace {

using mt::bits;

}  // namespace

// Class, part, DEVTYPE, DEVID and DEVARCH as the units' manuals give them; designer is Arm (JEP106 0x43B).
const std::vector<ArmUnits::Identity>& ArmUnits::identities() {
    static const std::vector<Identity> all = {
        {"itm", kItm, 0xE, 0x001, 0, 0, 0, true},
        {"dwt", kDwt, 0xE, 0x002, 0, 0, 0, true},
        {"breakpoints", kFpb, 0xE, 0x00E, 0, 0, 0, true},
        {"system control", kScs, 0xE, 0x00C, 0, 0, 0, false},
        {"tpiu", kTpiu, 0x9, 0x9A1, 0x11, 0xCA1, 0, false},
        {"etm", kEtm, 0x9, 0x975, 0x13, 0, 0x47704A13, true},
        {"cti", kCti, 0x9, 0x906, 0x14, 0x00040800, 0, true},
        {"funnel", kFunnel, 0x9, 0x908, 0x12, 0x22, 0, true},
        {"tmc", kTmc, 0x9, 0x961, 0x32, 0x280, 0, true},  // CONFIGTYPE 2: a trace FIFO
        {"rom-table", kRom2, 0x1, 0x4C8, 0, 0, 0, false},
        {"rom-table", kRom, 0x1, 0x4C7, 0, 0, 0, false},
    };
    return all;
}

ArmUnits::ArmUnits(UnitTroubles troubles) : troubles_(std::move(troubles)), tmc_(kTmcWords * 4) {
    for (const Identity& unit : identities()) locked_[unit.base] = unit.lock;
    registers_[kTpiu + 0x004] = 1;      // one line
    registers_[kTpiu + 0x0F0] = 1;      // Manchester out of reset (DDI 0403E C1.10.7)
    registers_[kTpiu + 0x304] = 0x102;  // formatter on
    registers_[kTmc + 0x304] = 0;
}

const ArmUnits::Identity* ArmUnits::identity(std::uint32_t address) const {
    for (const Identity& unit : identities())
        if ((address & 0xFFFFF000) == unit.base) return &unit;
    return nullptr;
}

bool ArmUnits::holds(std::uint32_t address) const { return identity(address) != nullptr; }

void ArmUnits::set_by_firmware(std::uint64_t clock_hz, std::uint64_t baud, std::array<std::uint32_t, 2> watched) {
    for (auto& [base, on] : locked_) on = false;
    demcr_ |= 1u << 24;
    for (unsigned n = 0; n < 2; ++n) {
        registers_[kDwt + 0x020 + 16 * n] = watched[n];
        registers_[kDwt + 0x024 + 16 * n] = n == 0 ? 2 : 1;
        registers_[kDwt + 0x028 + 16 * n] = watched[n] == 0 ? 0 : 0xD;
    }
    dwt_ctrl_ = 0x40000000 | 1u << 16 | 1u << 12 | 1u << 10 | 1u << 9 | 15u << 1 | 1;  // a sample each 16 384 cycles
    itm_ter_ = 1u << 0 | 1u << 9 | 1u << 31;
    itm_tcr_ = 1u << 16 | 0xF;
    registers_[kTpiu + 0x0F0] = 2;
    registers_[kTpiu + 0x010] =
        static_cast<std::uint32_t>(std::max<std::uint64_t>(clock_hz / std::max<std::uint64_t>(baud, 1), 1) - 1);
    registers_[kTpiu + 0x304] = 0x100;
    registers_[kFunnel] = 0x303;
    registers_[kTmc + 0x028] = 2;
    registers_[kTmc + 0x304] = 3;
    tmc_ctl_ = 1;
    tmc_stopped_ = false;
}

void ArmUnits::silence() {
    itm_tcr_ = itm_ter_ = 0;
    dwt_ctrl_ = 0x40000000;
}

// IHI 0029 B2.3.
bool ArmUnits::read_management(const Identity& unit, std::uint32_t offset, std::uint32_t& value) const {
    const auto byte = [](unsigned v) { return v & 0xFF; };
    switch (offset) {
        case 0xFF0:
            value = troubles_.wrong_id == unit.name ? 0x55 : 0x0D;
            return true;
        case 0xFF4:
            value = unit.component_class << 4;
            return true;
        case 0xFF8:
            value = 0x05;
            return true;
        case 0xFFC:
            value = 0xB1;
            return true;
        case 0xFE0:
            value = byte(unit.part);
            return true;
        case 0xFE4:
            value = 0xB0 | unit.part >> 8;
            return true;
        case 0xFE8:
            value = 0x0B;
            return true;
        case 0xFEC:
            value = 0;
            return true;
        case 0xFD0:
            value = 0x04;
            return true;
        case 0xFCC:
            value = unit.component_class == 1 ? 1 : unit.device_type;
            return true;
        case 0xFC8:
            value = unit.device_id;
            return true;
        case 0xFBC:
            value = unit.device_architecture;
            return true;
        case 0xFB4:
            value = !unit.lock ? 0 : locked_.at(unit.base) ? 3 : 1;
            return true;
        default:
            return false;
    }
}

// DDI 0403E table C1-3: offsets from the table, bit 0 present, bit 1 a 32-bit table.
std::uint32_t ArmUnits::read_rom(std::uint32_t base, std::uint32_t offset) const {
    static const std::vector<std::uint32_t> root = {kScs, kDwt, kFpb, kItm, kTpiu, kEtm, kRom2},
                                            second = {kCti, kFunnel, kTmc};
    const auto& list = base == kRom ? root : second;
    if (offset / 4 >= list.size()) return 0;
    return ((list[offset / 4] - base) & 0xFFFFF000) | 3;
}

std::uint32_t ArmUnits::read_etm(std::uint32_t offset) const {
    switch (offset) {
        case 0x004:
            return etm_prgctl_;
        case 0x00C:
            return etm_on() ? 0 : 3;  // idle and stable
        case 0x160:
            return counter_;
        case 0x180:
            return 0;  // TRCIDR8: no speculation
        // 7.3.25 to 7.3.30: return stack, no cycle counts, 64-bit timestamps, two events; no cancelling; 32-bit
        // addresses; two pairs of address comparators, four inputs from the core, four pairs of resource selectors; one
        // counter.
        case 0x1E0:
            return 0x28000001 | 1u << 9 | 1u << 10 | 1u << 29;
        case 0x1E4:
            return 0x41000420;
        case 0x1E8:
            return 0x00000004;
        case 0x1EC:
            return 0x04090004;
        case 0x1F0:
            return 0x00034002 | 0u << 20;
        case 0x1F4:
            return 0x18070000 | 2u << 0;
        case 0x304:
            return etm_os_locked_ ? 0xA : 0x8;  // OSLM: there is an OS lock
        case 0x310:
            return etm_power_;
        case 0x314:
            return 1 | (etm_os_locked_ ? 1u << 5 : 0);
        case 0x300:
            return 0;  // write only
        default:
            return reg(kEtm + offset);
    }
}

std::uint32_t ArmUnits::read_tmc(std::uint32_t offset) {
    switch (offset) {
        case 0x004:
            return kTmcWords;
        case 0x00C:
            return (tmc_full_ ? 1u : 0u) | (tmc_triggered_ ? 2u : 0u) | (tmc_stopped() ? 4u : 0u) | 8u |
                   (tmc_stopped() && tmc_unread_ == 0 ? 16u : 0u);
        case 0x010: {
            if (!tmc_stopped() || tmc_unread_ == 0) return 0xFFFFFFFF;
            std::uint32_t word = 0;
            for (unsigned i = 4; i-- > 0;) word = word << 8 | tmc_[(tmc_rrp_ + i) % tmc_.size()];
            tmc_rrp_ = (tmc_rrp_ + 4) % static_cast<std::uint32_t>(tmc_.size());
            --tmc_unread_;
            return word;
        }
        case 0x014:
            return tmc_rrp_;
        case 0x018:
            return tmc_rwp_;
        case 0x020:
            return tmc_ctl_;
        case 0x02C:
        case 0x030:
            return tmc_full_ ? kTmcWords : tmc_rwp_ / 4;
        case 0x300:
            return tmc_stopped() ? 2 : 0;
        default:
            return reg(kTmc + offset);
    }
}

bool ArmUnits::read(std::uint32_t address, std::uint32_t& value) {
    const Identity* unit = identity(address);
    if (unit == nullptr || address % 4 != 0) return false;
    const std::uint32_t offset = address & 0xFFF;
    const bool asleep =
        troubles_.asleep == unit->name && (unit->base == kEtm ? (etm_power_ & 8) == 0 : (demcr_ & 1u << 24) == 0);
    if (asleep && unit->base != kEtm) {
        value = 0;
        return true;
    }
    const bool off = troubles_.off == unit->name || asleep;
    if (off && unit->base != kEtm) return false;
    if (read_management(*unit, offset, value)) return true;
    if (off) {  // its identification and power status stay readable (IHI 0029 B2.5; IHI 0064 7.3.50)
        value = 0;
        if (asleep && offset == 0x310) return true;
        return offset == 0x314 || offset == 0x304;
    }
    switch (unit->base) {
        case kRom:
        case kRom2:
            value = read_rom(unit->base, offset);
            return true;
        case kScs:
            value = offset == 0xDFC ? demcr_ : system_read && offset < 0xD90 ? system_read(address) : reg(address);
            return true;
        case kDwt:
            value = offset == 0 ? dwt_ctrl_ : reg(address);
            // MATCHED is cleared by reading (C1.8.17).
            if (offset >= 0x28 && offset % 16 == 8) registers_[address] = reg(address) & ~(1u << 24);
            return true;
        case kItm:
            value = offset == 0xE80 ? itm_tcr_ : offset == 0xE00 ? itm_ter_ : reg(address);
            return true;
        case kTpiu:
            value = offset == 0 ? 0xB : reg(address);  // one, two or four lines
            return true;
        case kEtm:
            value = read_etm(offset);
            return true;
        case kTmc:
            if (collect) collect(false);
            value = read_tmc(offset);
            return true;
        default:
            value = reg(address);
            return true;
    }
}

void ArmUnits::write_dwt(std::uint32_t offset, std::uint32_t value) {
    if (offset == 0) {  // what it can is read-only
        dwt_ctrl_ = (dwt_ctrl_ & 0xFF000000) | (value & 0x007FFFFF);
        return;
    }
    if (offset >= 0x060) return;  // four comparators
    if (offset % 16 == 4 && offset >= 0x24) value &= 0x1F;
    if (offset % 16 == 8 && offset >= 0x28) value &= 0x000FFFAF;
    if (offset >= 0x20) registers_[kDwt + offset] = value;
}

void ArmUnits::write_etm(std::uint32_t offset, std::uint32_t value) {
    if (offset == 0x300) {
        if (troubles_.lock_stays != "etm") etm_os_locked_ = (value & 1) != 0;
        return;
    }
    if (offset == 0x310) {
        etm_power_ = value & 8;
        return;
    }
    if (etm_os_locked_) return;
    if (offset == 0x004) {
        const bool was = etm_on();
        etm_prgctl_ = value & 1;
        if (etm_on() && !was) {
            ++etm_starts_;
            started_ = (reg(kEtm + 0x080) & 1u << 9) != 0;
        }
        return;
    }
    if (etm_on()) return;  // 7.1: registers may be programmed only while the trace unit is disabled
    switch (offset) {
        case 0x010:
            value &= 1u << 11 | 1u << 12;
            break;
        case 0x034:
            value &= 0x1F;
            break;
        case 0x040:
            value &= 0x7F;
            break;
        case 0x160:
            counter_ = value & 0xFFFF;
            return;
        default:
            break;
    }
    if (offset >= 0x1E0 && offset < 0x200) return;  // identification
    registers_[kEtm + offset] = value;
}

void ArmUnits::write_tmc(std::uint32_t offset, std::uint32_t value) {
    if (collect) collect((value & 1u << 6) != 0 && offset == 0x304);
    const auto stop = [this] {
        std::vector<std::uint8_t> rest;
        in_buffer_.frames(rest, true);
        store(rest);
        while (!tmc_partial_.empty()) store({0});
        tmc_stopped_ = true;
        tmc_rrp_ = tmc_full_ ? tmc_rwp_ : 0;
        tmc_unread_ = tmc_full_ ? kTmcWords : tmc_rwp_ / 4;
    };
    switch (offset) {
        case 0x004:
        case 0x00C:
        case 0x010:
            return;
        case 0x014:
            tmc_rrp_ = value % static_cast<std::uint32_t>(tmc_.size());
            return;
        case 0x018:
            if ((tmc_ctl_ & 1) == 0) tmc_rwp_ = value & (kTmcWords * 4 - 4);
            return;
        case 0x01C:
            registers_[kTmc + offset] = value;
            return;
        case 0x020:
            if ((value & 1) != 0 && (tmc_ctl_ & 1) == 0) {
                tmc_full_ = tmc_stopped_ = tmc_triggered_ = false;
                tmc_partial_.clear();
                in_buffer_.clear();
                tmc_unread_ = 0;
            }
            tmc_ctl_ = value & 1;
            return;
        case 0x028:  // mode: only while capture is off (DDI 0461 3.3.11)
            if ((tmc_ctl_ & 1) == 0) registers_[kTmc + offset] = value & 3;
            return;
        case 0x304:
            registers_[kTmc + offset] = value & ~(1u << 6);
            if ((value & 1u << 6) != 0 && (value & 1u << 12) != 0 && (tmc_ctl_ & 1) != 0 && !tmc_stopped_) stop();
            return;
        default:
            registers_[kTmc + offset] = value;
    }
}

bool ArmUnits::write(std::uint32_t address, std::uint32_t value) {
    const Identity* unit = identity(address);
    if (unit == nullptr || address % 4 != 0 || troubles_.off == unit->name) return false;
    const std::uint32_t offset = address & 0xFFF;
    if (offset == 0xFB0) {  // lock access (IHI 0029 B2.3.9)
        if (unit->lock && (troubles_.lock_stays != unit->name || unit->base == kEtm))
            locked_[unit->base] = value != 0xC5ACCE55;
        return true;
    }
    if (locked_[unit->base] || offset >= 0xFB4) return true;  // ignored
    if (troubles_.write_lost == unit->name) return true;
    switch (unit->base) {
        case kRom:
        case kRom2:
            return true;
        case kScs:
            if (offset == 0xDFC)
                demcr_ = value & 0x010F07F1;
            else if (system_write && offset < 0xD90)
                system_write(address, value);
            else
                registers_[address] = value;
            return true;
        case kDwt:
            write_dwt(offset, value);
            return true;
        case kItm:
            if (offset == 0xE80)
                itm_tcr_ = value & 0x007F0F1F;
            else if (offset == 0xE00)
                itm_ter_ = value;
            else if (offset == 0xE40)
                registers_[address] = value & 0xF;
            return true;
        case kTpiu:
            frames_ = 0;  // what comes next begins with a synchronisation
            on_port_.clear();
            if (offset == 0x004 && value != 1 && value != 2 && value != 8) return true;
            if (offset == 0x0F0 && value > 2) return true;
            if (offset == 0x010) value &= 0x1FFF;
            if (offset == 0x304) value &= 0x102;
            if (offset != 0) registers_[address] = value;
            return true;
        case kEtm:
            write_etm(offset, value);
            return true;
        case kTmc:
            write_tmc(offset, value);
            return true;
        default:
            registers_[address] = value;
            return true;
    }
}

std::uint64_t ArmUnits::sample_period() const {
    if (!dwt_sends() || (dwt_ctrl_ & (1u << 12 | 1)) != (1u << 12 | 1)) return 0;
    return std::uint64_t{(dwt_ctrl_ & 1u << 9) != 0 ? 1024u : 64u} * (bits(dwt_ctrl_, 4, 1) + 1);
}

std::uint64_t ArmUnits::sync_period() const {
    const std::uint32_t tap = bits(dwt_ctrl_, 11, 10);
    if (!itm_on() || (itm_tcr_ & 4) == 0 || tap == 0 || (dwt_ctrl_ & 1) == 0) return 0;
    return std::uint64_t{1} << (22 + 2 * tap);
}

std::uint64_t ArmUnits::global_period() const {
    const std::uint32_t often = bits(itm_tcr_, 11, 10);
    return !itm_on() || often == 0 ? 0 : often == 2 ? 8192 : 128;
}

// A comparator of a value tells what the one that it is linked to looks at.
std::vector<std::pair<std::uint32_t, std::uint32_t>> ArmUnits::watched() const {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> all;
    for (unsigned n = 0; n < 4; ++n) {
        const std::uint32_t function = reg(kDwt + 0x28 + 16 * n);
        if ((function & 0xF) == 0 || (function & 0xF) == 8) continue;
        const unsigned at = (function & 1u << 8) != 0 ? bits(function, 15, 12) & 3 : n;
        const std::uint32_t mask = reg(kDwt + 0x24 + 16 * at) & 31;
        all.emplace_back(reg(kDwt + 0x20 + 16 * at) >> mask << mask, 1u << mask);
    }
    return all;
}

// DDI 0403E C1.8.17, table C1-14.
std::vector<ArmUnits::Told> ArmUnits::accessed(std::uint32_t address, unsigned size, bool is_write,
                                               std::uint32_t value) {
    std::vector<Told> told;
    for (unsigned n = 0; n < 4; ++n) {
        const std::uint32_t comp = reg(kDwt + 0x20 + 16 * n), mask = reg(kDwt + 0x24 + 16 * n) & 31,
                            function = reg(kDwt + 0x28 + 16 * n), f = function & 0xF;
        const bool value_match = (function & 1u << 8) != 0;
        if (f == 0) continue;
        const bool reads = f <= 3 || f == 0xC || f == 0xE || f == 0x9 || f == 0xB;
        const bool writes = f <= 3 || f == 0xD || f == 0xF || f == 0xA || f == 0xB;
        if (is_write ? !writes : !reads) continue;
        if (value_match) {  // linked to the comparator that has the address
            const unsigned linked = bits(function, 15, 12) & 3;
            const std::uint32_t at = reg(kDwt + 0x20 + 16 * linked), its_mask = reg(kDwt + 0x24 + 16 * linked) & 31;
            const unsigned wide = 8u << bits(function, 11, 10);
            const std::uint32_t keep = wide >= 32 ? ~0u : (1u << wide) - 1;
            if ((address >> its_mask) == (at >> its_mask) && ((value ^ comp) & keep) == 0) hit(1, n);
            continue;
        }
        if ((address >> mask) != (comp >> mask)) continue;
        registers_[kDwt + 0x28 + 16 * n] |= 1u << 24;  // MATCHED
        if (f >= 8 && f <= 0xB) {
            hit(1, n);
            continue;
        }
        if (!dwt_sends()) continue;
        const bool range = (function & 1u << 5) != 0;
        const bool with_value = range ? f == 2 || f == 3 || f >= 0xE : f != 1;
        const bool with_pc = !range && (f == 1 || f == 3 || f >= 0xE);
        told.push_back({n, with_pc, with_value, range});
    }
    (void)size;
    return told;
}

std::uint64_t ArmUnits::bytes_per_s(std::uint64_t clock_hz) const {
    const std::uint32_t protocol = reg(kTpiu + 0x0F0);
    const std::uint32_t mode = reg(kTmc + 0x028);
    if ((tmc_ctl_ & 1) != 0 && mode != 2) return clock_hz;  // into the buffer
    if (protocol == 0) {
        unsigned width = 1;
        while (width < 4 && reg(kTpiu + 0x004) != 1u << (width - 1)) ++width;
        return clock_hz * width / 8;
    }
    const std::uint64_t divided = clock_hz / ((reg(kTpiu + 0x010) & 0x1FFF) + 1);
    return std::max<std::uint64_t>(protocol == 1 ? divided / 2 / 8 : divided / 10, 1);
}

unsigned ArmUnits::etm_sync_bytes() const {
    const std::uint32_t period = reg(kEtm + 0x034);
    return period == 0 ? 0 : 1u << std::min(period, 20u);
}

// A resource selector picks inputs of one group (7.3.62).
bool ArmUnits::resource(unsigned selector, unsigned group, unsigned number) const {
    if (selector < 2) return false;
    const std::uint32_t r = reg(kEtm + 0x200 + 4 * selector);
    return bits(r, 19, 16) == group && (r >> number & 1) != 0;
}

bool ArmUnits::counter_resource(unsigned selector) const {
    if (selector == 1) return true;
    if (selector == 0) return false;
    const std::uint32_t r = reg(kEtm + 0x200 + 4 * selector);
    if (bits(r, 19, 16) != 2 || (r & 1) == 0) return false;
    return (counter_ == 0) != ((r & 1u << 20) != 0);
}

void ArmUnits::hit(unsigned group, unsigned number) {
    if (!etm_on()) return;
    const std::uint32_t ss = reg(kEtm + (group == 1 ? 0x08C : 0x088));
    if ((ss >> number & 1) != 0) started_ = true;
    if ((ss >> (16 + number) & 1) != 0) started_ = false;
    const bool counts = resource(reg(kEtm + 0x150) & 0x7F, group, number);
    const bool was_zero = counter_ == 0;
    if (counts && counter_ > 0) --counter_;
    // TRCEVENTCTL1R.INSTEN: an event packet in the instruction trace (IHI 0064 7.3.19).
    for (unsigned n = 0; n < 2; ++n)
        if ((reg(kEtm + 0x024) >> n & 1) != 0 && resource(reg(kEtm + 0x020) >> (8 * n) & 0x1F, group, number))
            events_ |= 1u << n;
    const unsigned event = reg(kEtm + 0x020) & 0x7F;
    if (event == 0 || (reg(kEtm + 0x024) & 1u << 11) == 0) return;
    const bool happens =
        resource(event, group, number) || (counts && !was_zero && counter_ == 0 && counter_resource(event));
    if (happens && !tmc_triggered_ && (reg(kTmc + 0x304) & 1u << 8) != 0) {
        if (collect) collect(true);
        tmc_triggered_ = true;
        tmc_left_ = reg(kTmc + 0x01C);
    }
}

bool ArmUnits::view(std::uint32_t first, std::uint32_t last) {
    const auto in = [&](std::uint32_t address) { return address >= first && address <= last; };
    for (unsigned n = 0; n < 4; ++n)
        if ((reg(kDwt + 0x28 + 16 * n) & 0xF) == 8 && in(reg(kDwt + 0x20 + 16 * n))) hit(1, n);
    const std::uint32_t include = reg(kEtm + 0x084) & 0xFF;
    for (unsigned n = 0; n < 4; ++n)
        if ((include >> (n / 2) & 1) == 0 && reg(kEtm + 0x400 + 8 * n) != 0 && in(reg(kEtm + 0x400 + 8 * n))) hit(4, n);
    bool included = include == 0;
    for (unsigned pair = 0; pair < 2; ++pair)
        if ((include >> pair & 1) != 0)
            included = included || (last >= reg(kEtm + 0x400 + 16 * pair) && first <= reg(kEtm + 0x408 + 16 * pair));
    return included && started_ && counter_resource(reg(kEtm + 0x080) & 0x7F);
}

void ArmUnits::itm_bytes(const std::vector<std::uint8_t>& bytes) {
    if ((reg(kFunnel) & 1) != 0) route(static_cast<std::uint8_t>(itm_tcr_ >> 16 & 0x7F), bytes);
}
void ArmUnits::etm_bytes(const std::vector<std::uint8_t>& bytes) {
    if ((reg(kFunnel) & 2) != 0) route(static_cast<std::uint8_t>(reg(kEtm + 0x040)), bytes);
}

void ArmUnits::put_frames(bool all) {
    std::vector<std::uint8_t> frames;
    on_port_.frames(frames, all);
    for (std::size_t i = 0; i < frames.size(); i += 16) {
        if (frames_++ % 16 == 0)  // full synchronisation (IHI 0029 D4.2.2)
            for (const int b : {0xFF, 0xFF, 0xFF, 0x7F}) out_.push_back(static_cast<std::uint8_t>(b));
        out_.insert(out_.end(), frames.begin() + static_cast<std::ptrdiff_t>(i), frames.begin() + static_cast<std::ptrdiff_t>(i + 16));
    }
}

void ArmUnits::route(std::uint8_t id, const std::vector<std::uint8_t>& bytes) {
    if ((tmc_ctl_ & 1) == 0 || bytes.empty()) return;  // a buffer that is off lets nothing through
    if (reg(kTmc + 0x028) == 2) {
        if ((reg(kTpiu + 0x304) & 2) == 0) {
            if (id == (itm_tcr_ >> 16 & 0x7F)) out_.insert(out_.end(), bytes.begin(), bytes.end());
            return;
        }
        for (const std::uint8_t b : bytes) on_port_.put(id, b);
        put_frames(false);
        return;
    }
    if ((reg(kTmc + 0x304) & 1) != 0) {
        for (const std::uint8_t b : bytes) in_buffer_.put(id, b);
        std::vector<std::uint8_t> frames;
        in_buffer_.frames(frames, false);
        store(frames);
    } else {
        store(bytes);
    }
}

void ArmUnits::store(const std::vector<std::uint8_t>& bytes) {
    for (const std::uint8_t b : bytes) {
        if (tmc_stopped_) return;
        if (reg(kTmc + 0x028) == 1 && tmc_full_) return;  // a software FIFO takes no more
        tmc_partial_.push_back(b);
        if (tmc_partial_.size() < 4) continue;
        std::copy(tmc_partial_.begin(), tmc_partial_.end(), tmc_.begin() + tmc_rwp_);
        tmc_partial_.clear();
        tmc_rwp_ += 4;
        if (tmc_rwp_ == tmc_.size()) {
            tmc_rwp_ = 0;
            tmc_full_ = true;
        }
        if (tmc_triggered_ && (reg(kTmc + 0x304) & 1u << 13) != 0 && (tmc_left_ == 0 || --tmc_left_ == 0)) {
            tmc_stopped_ = true;
            tmc_rrp_ = tmc_full_ ? tmc_rwp_ : 0;
            tmc_unread_ = tmc_full_ ? kTmcWords : tmc_rwp_ / 4;
        }
    }
}

void ArmUnits::drain(std::vector<std::uint8_t>& out) {
    out.insert(out.end(), out_.begin(), out_.end());
    out_.clear();
}

}  // namespace board
