#include "system_control.h"

#include <algorithm>

namespace board {
namespace {
constexpr std::uint32_t kCpuId = 0x410FC241;  // Cortex-M4 r0p1 (DDI 0439 4.1)
constexpr std::uint64_t kNever = ~std::uint64_t{0};
}  // namespace

void SystemControl::reset(std::uint32_t vectors) {
    *this = {};
    vtor_ = vectors;
    ccr_ = 1u << 9;  // STKALIGN
}

bool SystemControl::any_active() const { return std::find(active_.begin(), active_.end(), true) != active_.end(); }

int SystemControl::priority(unsigned exception) const {
    if (exception == kNmi) return -2;
    if (exception == kHardFault) return -1;
    return priorities_[exception];
}

// Of the active ones the most urgent, by the group that PRIGROUP leaves of its priority (B1.5.4).
int SystemControl::level() const {
    int level = 256;
    for (unsigned n = 2; n < kExceptions; ++n)
        if (active_[n]) level = std::min(level, priority(n) < 0 ? priority(n) : static_cast<int>(priorities_[n] & group_mask()));
    return level;
}

bool SystemControl::enabled(unsigned exception) const {
    switch (exception) {
        case kMemManage:
            return (shcsr_ & 1u << 16) != 0;
        case kBusFault:
            return (shcsr_ & 1u << 17) != 0;
        case kUsageFault:
            return (shcsr_ & 1u << 18) != 0;
        case kDebugMonitor:
            return false;
        default:
            return exception < 16 || enabled_[exception];
    }
}

std::optional<unsigned> SystemControl::next(int level) const {
    std::optional<unsigned> best;
    for (unsigned n = 2; n < kExceptions; ++n)
        if (pending_[n] && enabled(n) && (!best || priority(n) < priority(*best))) best = n;
    if (!best) return std::nullopt;
    const int its = priority(*best) < 0 ? priority(*best) : static_cast<int>(priorities_[*best] & group_mask());
    return its < level ? best : std::nullopt;
}

void SystemControl::tell_fault(std::uint32_t cfsr, std::optional<std::uint32_t> address) {
    cfsr_ |= cfsr;
    if (!address) return;
    bfar_ = *address;
    cfsr_ |= 1u << 15;  // BFARVALID
}

// SysTick (B3.3) ----------------------------------------------------------------------------------------------------

void SystemControl::start_tick(std::uint64_t cycle, std::uint32_t from) {
    next_tick_ = (tick_control_ & 1) == 0 || tick_reload_ == 0 ? kNever : cycle + from + 1;
}

void SystemControl::tick() {
    tick_control_ |= 1u << 16;  // COUNTFLAG
    if ((tick_control_ & 2) != 0) pend(kSysTick);
    start_tick(next_tick_, tick_reload_);
}

// Registers -----------------------------------------------------------------------------------------------------------

std::uint32_t SystemControl::read(std::uint32_t address, unsigned size, std::uint64_t cycle) {
    const std::uint32_t shift = 8 * (address & 3), value = word(address & 0xFFC, cycle) >> shift;
    return size == 4 ? value : value & ((1u << (8 * size)) - 1);
}

void SystemControl::write(std::uint32_t address, unsigned size, std::uint32_t value, std::uint64_t cycle) {
    const std::uint32_t shift = 8 * (address & 3), changed = size == 4 ? ~0u : ((1u << (8 * size)) - 1) << shift;
    set_word(address & 0xFFC, value << shift, changed, cycle);
}

std::uint32_t SystemControl::word(std::uint32_t offset, std::uint64_t cycle) {
    const auto bits = [](const std::array<bool, kExceptions>& of) {
        std::uint32_t all = 0;
        for (unsigned n = 0; n < 32; ++n) all |= static_cast<std::uint32_t>(of[16 + n]) << n;
        return all;
    };
    const auto priorities = [this](unsigned first) {
        std::uint32_t all = 0;
        for (unsigned n = 0; n < 4; ++n) all |= static_cast<std::uint32_t>(priorities_[first + n]) << (8 * n);
        return all;
    };
    switch (offset) {
        case 0x010: {
            const std::uint32_t was = tick_control_ | 4;
            tick_control_ &= ~(1u << 16);  // cleared by reading
            return was;
        }
        case 0x014:
            return tick_reload_;
        case 0x018:
            return next_tick_ == kNever ? tick_stood_ : static_cast<std::uint32_t>(next_tick_ - cycle - 1) & 0xFFFFFF;
        case 0x100:
        case 0x180:
            return bits(enabled_);
        case 0x200:
        case 0x280:
            return bits(pending_);
        case 0x300:
            return bits(active_);
        case 0xD00:
            return kCpuId;
        case 0xD04: {
            const auto waits = next(256);
            std::uint32_t icsr = now_ | (waits ? *waits << 12 : 0);
            if (static_cast<std::size_t>(std::count(active_.begin(), active_.end(), true)) <= 1) icsr |= 1u << 11;  // RETTOBASE
            if (bits(pending_) != 0) icsr |= 1u << 22;
            if (pending_[kSysTick]) icsr |= 1u << 26;
            if (pending_[kPendSv]) icsr |= 1u << 28;
            return icsr;
        }
        case 0xD08:
            return vtor_;
        case 0xD0C:
            return 0xFA050000 | aircr_;
        case 0xD10:
            return scr_;
        case 0xD14:
            return ccr_;
        case 0xD18:
        case 0xD1C:
        case 0xD20:
            return priorities(offset - 0xD14);
        case 0xD24: {
            std::uint32_t all = shcsr_;
            for (const auto& [n, bit] : {std::pair{4u, 0u}, {5u, 1u}, {6u, 3u}, {11u, 7u}, {14u, 10u}, {15u, 11u}})
                if (active_[n]) all |= 1u << bit;
            for (const auto& [n, bit] : {std::pair{6u, 12u}, {4u, 13u}, {5u, 14u}, {11u, 15u}})
                if (pending_[n]) all |= 1u << bit;
            return all;
        }
        case 0xD28:
            return cfsr_;
        case 0xD2C:
            return hfsr_;
        case 0xD38:
            return bfar_;
        default:
            return offset >= 0x400 && offset < 0x420 ? priorities(16 + offset - 0x400) : 0;
    }
}

void SystemControl::set_word(std::uint32_t offset, std::uint32_t value, std::uint32_t changed, std::uint64_t cycle) {
    const auto set_priorities = [&](unsigned first) {
        for (unsigned n = 0; n < 4; ++n)
            if ((changed >> (8 * n) & 0xFF) != 0) priorities_[first + n] = value >> (8 * n) & 0xF0;
    };
    const auto put = [&](std::uint32_t& into, std::uint32_t may) { into = (into & ~(changed & may)) | (value & changed & may); };
    switch (offset) {
        case 0x010: {
            const bool was = (tick_control_ & 1) != 0;
            put(tick_control_, 7);
            const bool is = (tick_control_ & 1) != 0;
            if (is && !was) start_tick(cycle, tick_stood_ != 0 ? tick_stood_ : tick_reload_);
            if (!is && was) {
                tick_stood_ = next_tick_ == kNever ? 0 : static_cast<std::uint32_t>(next_tick_ - cycle - 1) & 0xFFFFFF;
                next_tick_ = kNever;
            }
            break;
        }
        case 0x014:
            put(tick_reload_, 0xFFFFFF);
            if (next_tick_ == kNever) start_tick(cycle, tick_reload_);
            break;
        case 0x018:  // a write of anything clears it
            tick_stood_ = 0;
            tick_control_ &= ~(1u << 16);
            start_tick(cycle, tick_reload_);
            break;
        case 0x100:
        case 0x180:
        case 0x200:
        case 0x280:  // set and clear enable, set and clear pending
            for (unsigned n = 0; n < 32; ++n)
                if (((value & changed) >> n & 1) != 0) (offset < 0x200 ? enabled_ : pending_)[16 + n] = (offset & 0x80) == 0;
            break;
        case 0xD04:
            value &= changed;
            if ((value & 1u << 28) != 0) pending_[kPendSv] = true;
            if ((value & 1u << 27) != 0) pending_[kPendSv] = false;
            if ((value & 1u << 26) != 0) pending_[kSysTick] = true;
            if ((value & 1u << 25) != 0) pending_[kSysTick] = false;
            if ((value & 1u << 31) != 0) pending_[kNmi] = true;
            break;
        case 0xD08:
            put(vtor_, 0xFFFFFF80);
            break;
        case 0xD0C:
            if (value >> 16 == 0x05FA) aircr_ = value & 0x700;
            break;
        case 0xD10:
            put(scr_, 0x16);
            break;
        case 0xD14:
            put(ccr_, 0x31B);
            break;
        case 0xD18:
        case 0xD1C:
        case 0xD20:
            set_priorities(offset - 0xD14);
            break;
        case 0xD24:
            put(shcsr_, 7u << 16);
            break;
        case 0xD28:
            cfsr_ &= ~(value & changed);
            break;
        case 0xD2C:
            hfsr_ &= ~(value & changed);
            break;
        case 0xD38:
            put(bfar_, ~0u);
            break;
        case 0xF00:
            if ((value & 0x1FF) < 32) pending_[16 + (value & 0x1F)] = true;
            break;
        default:
            if (offset >= 0x400 && offset < 0x420) set_priorities(16 + offset - 0x400);
    }
}

}  // namespace board
