#include "thumb_core.h"

#include <algorithm>
#include <cstring>

namespace board {
namespace {
constexpr std::uint32_t kEntryCycles = 12, kChainCycles = 6;
}  // namespace

ThumbCore::ThumbCore(ThumbSurroundings& surroundings)
    : around_(surroundings), flash_(kFlashBytes, 0xFF), ram_(kRamBytes), marks_(kRamBytes / 32 + 1) {}

void ThumbCore::program(std::uint32_t address, std::span<const std::uint8_t> bytes) {
    const std::uint32_t at = address & ~kFlash;
    if (at <= kFlashBytes && bytes.size() <= kFlashBytes - at) std::copy(bytes.begin(), bytes.end(), flash_.begin() + at);
}

void ThumbCore::reset() {
    std::fill(ram_.begin(), ram_.end(), std::uint8_t{0});
    system_.reset(0);
    r_.fill(0);
    std::memcpy(&r_[13], flash_.data(), 4);
    std::memcpy(&r_[15], flash_.data() + 4, 4);
    r_[13] &= ~3u;
    r_[15] &= ~1u;
    r_[14] = 0xFFFFFFFF;
    other_sp_ = 0;
    n_ = z_ = c_ = v_ = q_ = primask_ = faultmask_ = asleep_ = locked_up_ = event_ = attention_ = stopped_ = false;
    ge_ = it_ = ipsr_ = 0;
    basepri_ = control_ = 0;
    exclusive_.reset();
    cycle_ = instructions_ = extra_ = memory_extra_ = slept_ = 0;
    begin_run();
}

std::uint32_t ThumbCore::xpsr() const {
    return (n_ ? 1u << 31 : 0) | (z_ ? 1u << 30 : 0) | (c_ ? 1u << 29 : 0) | (v_ ? 1u << 28 : 0) | (q_ ? 1u << 27 : 0) |
           (it_ & 3) << 25 | 1u << 24 | ge_ << 16 | (it_ >> 2 & 63) << 10 | ipsr_;
}

void ThumbCore::set_flags(std::uint32_t x) {
    n_ = (x >> 31 & 1) != 0;
    z_ = (x >> 30 & 1) != 0;
    c_ = (x >> 29 & 1) != 0;
    v_ = (x >> 28 & 1) != 0;
    q_ = (x >> 27 & 1) != 0;
    ge_ = x >> 16 & 15;
}

// In a handler the main stack stays in use (B1.4.4).
void ThumbCore::set_control(std::uint32_t value) {
    if (ipsr_ == 0 && (value & 2) != (control_ & 2)) std::swap(r_[13], other_sp_);
    control_ = (ipsr_ == 0 ? value & 2 : control_ & 2) | (value & 1);
}

std::uint32_t ThumbCore::read_register(std::size_t n) const {
    if (n < 16) return r_[n];
    switch (n) {
        case 16:
            return xpsr();
        case 17:
            return uses_process_stack() ? other_sp_ : r_[13];
        case 18:
            return uses_process_stack() ? r_[13] : other_sp_;
        case 19:
            return primask_ ? 1 : 0;
        case 20:
            return control_;
        case 21:
            return basepri_;
        case 22:
            return faultmask_ ? 1 : 0;
        default:
            return 0;
    }
}

void ThumbCore::write_register(std::size_t n, std::uint32_t value) {
    attention_ = true;
    switch (n) {
        case 13:
            r_[13] = value & ~3u;
            break;
        case 15:
            r_[15] = value & ~1u;
            it_ = 0;
            asleep_ = false;
            begin_run();
            break;
        case 16:
            set_flags(value);
            it_ = (value >> 25 & 3) | (value >> 10 & 63) << 2;
            break;
        case 17:
            main_stack() = value & ~3u;
            break;
        case 18:
            process_stack() = value & ~3u;
            break;
        case 19:
            primask_ = (value & 1) != 0;
            break;
        case 20:
            set_control(value);
            break;
        case 21:
            basepri_ = value & 0xF0;
            break;
        case 22:
            faultmask_ = (value & 1) != 0;
            break;
        default:
            if (n < 16) r_[n] = value;
    }
}

bool ThumbCore::read(std::uint32_t address, std::span<std::uint8_t> into) const {
    const auto from = [&](std::uint32_t base, const std::vector<std::uint8_t>& memory) {
        if (address < base || address - base > memory.size() || into.size() > memory.size() - (address - base)) return false;
        std::copy_n(memory.begin() + (address - base), into.size(), into.begin());
        return true;
    };
    return from(kFlash, flash_) || from(0, flash_) || from(kRam, ram_);
}

bool ThumbCore::write(std::uint32_t address, std::span<const std::uint8_t> bytes) {
    if (address < kRam || address - kRam > ram_.size() || bytes.size() > ram_.size() - (address - kRam)) return false;
    std::copy(bytes.begin(), bytes.end(), ram_.begin() + (address - kRam));
    return true;
}

void ThumbCore::mark(std::uint32_t address, std::uint32_t length) {
    const std::uint64_t begin = std::max<std::uint64_t>(address, kRam), end = std::min<std::uint64_t>(std::uint64_t{address} + length, std::uint64_t{kRam} + kRamBytes);
    for (std::uint64_t at = begin; at < end; at = (at / 32 + 1) * 32) marks_[(at - kRam) / 32] = 1;
}

// Memory (A3.2: what is not aligned is done byte by byte) --------------------------------------------------------------

std::uint32_t ThumbCore::fetch(std::uint32_t address) const {
    std::uint16_t half = 0;
    if (const std::uint32_t at = address & ~kFlash; at <= kFlashBytes - 2)
        std::memcpy(&half, flash_.data() + at, 2);
    else if (address - kRam <= kRamBytes - 2)
        std::memcpy(&half, ram_.data() + (address - kRam), 2);
    else
        throw Fault{SystemControl::kBusFault, 1u << 8, {}};  // IBUSERR
    return half;
}

std::uint32_t ThumbCore::load_aligned(std::uint32_t address, unsigned size) {
    std::uint32_t value = 0;
    if (const std::uint32_t at = address - kRam; at <= kRamBytes - size) {
        std::memcpy(&value, ram_.data() + at, size);
        if (marked(at, size)) around_.accessed(address, size, false, value, r_[15]);
        return value;
    }
    if (const std::uint32_t at = address & ~kFlash; at <= kFlashBytes - size) {
        std::memcpy(&value, flash_.data() + at, size);
        return value;
    }
    return load_elsewhere(address, size);
}

std::uint32_t ThumbCore::load_elsewhere(std::uint32_t address, unsigned size) {
    if (const auto told = around_.load(address, size)) return *told;
    throw Fault{SystemControl::kBusFault, 1u << 9, address};  // PRECISERR
}

void ThumbCore::store_aligned(std::uint32_t address, unsigned size, std::uint32_t value) {
    if (const std::uint32_t at = address - kRam; at <= kRamBytes - size) {
        std::memcpy(ram_.data() + at, &value, size);
        if (marked(at, size)) around_.accessed(address, size, true, value, r_[15]);
        return;
    }
    if (!around_.store(address, size, value)) throw Fault{SystemControl::kBusFault, 1u << 9, address};
    attention_ = true;
}

std::uint32_t ThumbCore::load(std::uint32_t address, unsigned size) {
    ++cost_;
    ++memory_cost_;
    if (address % size == 0) return load_aligned(address, size);
    if (system_.unaligned_faults()) throw usage(8);
    std::uint32_t value = 0;
    for (unsigned i = 0; i < size; ++i) value |= load_aligned(address + i, 1) << (8 * i);
    return value;
}

void ThumbCore::store(std::uint32_t address, unsigned size, std::uint32_t value) {
    ++cost_;
    ++memory_cost_;
    if (address % size == 0) return store_aligned(address, size, value);
    if (system_.unaligned_faults()) throw usage(8);
    for (unsigned i = 0; i < size; ++i) store_aligned(address + i, 1, value >> (8 * i) & 0xFF);
}

// Exceptions (B1.5) ------------------------------------------------------------------------------------------------------

int ThumbCore::level() const {
    int level = std::min(system_.level(), system_.masking(basepri_));
    if (primask_) level = std::min(level, 0);
    if (faultmask_) level = std::min(level, -1);
    return level;
}

void ThumbCore::raise(unsigned interrupt) {
    if (16 + interrupt >= SystemControl::kExceptions) return;
    system_.pend(16 + interrupt);
    attention_ = true;
}

void ThumbCore::tick() {
    system_.tick();
    attention_ = true;
}

// WFI ends with what would be taken but for PRIMASK (B1.5.17).
bool ThumbCore::wakes() const {
    int level = std::min(system_.level(), system_.masking(basepri_));
    if (faultmask_) level = std::min(level, -1);
    return system_.next(level).has_value();
}

bool ThumbCore::take_pending() {
    if (locked_up_) return false;
    if (asleep_ && wakes()) asleep_ = false;
    const auto number = system_.next(level());
    if (!number) return false;
    enter(*number, r_[15], false, ipsr_ != 0 ? 0xFFFFFFF1 : (control_ & 2) != 0 ? 0xFFFFFFFD : 0xFFFFFFF9);
    return true;
}

// B1.5.6; a chained one finds its frame on the stack already.
void ThumbCore::enter(unsigned number, std::uint32_t back, bool chained, std::uint32_t exc_return) {
    asleep_ = false;
    if (!chained) {
        const std::uint32_t aligned = (r_[13] & 4) != 0 ? 1u << 9 : 0, frame = (r_[13] - 0x20) & ~7u;
        const std::uint32_t words[8] = {r_[0], r_[1], r_[2], r_[3], r_[12], r_[14], back, xpsr() | aligned};
        try {
            for (unsigned n = 0; n < 8; ++n) store_aligned(frame + 4 * n, 4, words[n]);
        } catch (const Fault&) {  // there is no stack to tell it on
            system_.tell_fault(1u << 12, {});
            locked_up_ = true;
            return;
        }
        r_[13] = frame;
        if ((exc_return & 4) != 0) {  // from the process stack to the main one
            std::swap(r_[13], other_sp_);
            control_ &= ~2u;
        }
    }
    r_[14] = exc_return;
    it_ = 0;
    ipsr_ = number;
    exclusive_.reset();
    system_.begin(number);
    system_.running(number);
    std::uint32_t handler = 0;
    std::array<std::uint8_t, 4> entry{};
    if (read(system_.vectors() + 4 * number, entry)) std::memcpy(&handler, entry.data(), 4);
    cycle_ += chained ? kChainCycles : kEntryCycles;
    around_.entered(number, run_first_, run_last_, back, handler & ~1u, chained);
    r_[15] = handler & ~1u;
    begin_run();
    attention_ = true;
}

// B1.5.8. What is pending and more urgent than what would go on is entered at once (B1.5.12).
void ThumbCore::exception_return(std::uint32_t code) {
    const unsigned how = code & 15, number = ipsr_;
    const bool thread = how != 1;
    if ((how != 1 && how != 9 && how != 13) || (code & 0x0FFFFFF0) != 0x0FFFFFF0) throw usage(2);
    system_.end(number);
    if (number != SystemControl::kNmi) faultmask_ = false;
    around_.left(number);
    if (const auto next = system_.next(level())) {
        enter(*next, code, true, code);
        return;
    }
    if (how == 13) {
        std::swap(r_[13], other_sp_);
        control_ |= 2;
    }
    const std::uint32_t frame = r_[13];
    std::uint32_t words[8];
    for (unsigned n = 0; n < 8; ++n) words[n] = load_aligned(frame + 4 * n, 4);
    for (unsigned n = 0; n < 4; ++n) r_[n] = words[n];
    r_[12] = words[4];
    r_[14] = words[5];
    r_[15] = words[6] & ~1u;
    r_[13] = (frame + 0x20) | ((words[7] & 1u << 9) != 0 ? 4 : 0);
    set_flags(words[7]);
    it_ = (words[7] >> 25 & 3) | (words[7] >> 10 & 63) << 2;
    ipsr_ = thread ? 0 : words[7] & 0x1FF;
    system_.running(ipsr_);
    cycle_ += kEntryCycles;
    begin_run();
    around_.returned(ipsr_, r_[15]);
    attention_ = true;
    if (thread && system_.sleeps_on_exit()) asleep_ = true;
}

// The instruction at the program counter was not executed. What has no handler of its own, or one that is not urgent
// enough, is a HardFault (B1.5.9); one within that locks the core up.
void ThumbCore::fault(const Fault& f) {
    system_.tell_fault(f.cfsr, f.address);
    unsigned number = f.number;
    if (!system_.enabled(number) || system_.priority(number) >= level()) {
        if (level() <= -1) {
            locked_up_ = true;
            return;
        }
        system_.tell_forced();
        number = SystemControl::kHardFault;
    }
    enter(number, r_[15], false, ipsr_ != 0 ? 0xFFFFFFF1 : (control_ & 2) != 0 ? 0xFFFFFFFD : 0xFFFFFFF9);
}

// Running ----------------------------------------------------------------------------------------------------------------

bool ThumbCore::run_until(std::uint64_t until, const std::set<std::uint32_t>& points, bool over_first) {
    stopped_ = false;
    const bool looks = !points.empty();
    while (cycle_ < until) {
        if (cycle_ >= system_.next_tick()) tick();
        if (attention_) {
            attention_ = false;
            if (take_pending()) over_first = false;
        }
        if (asleep()) {
            wait_until(std::max(cycle_ + 1, std::min(until, system_.next_tick())));
            over_first = false;
            continue;
        }
        if (looks && !over_first && points.count(r_[15]) != 0) return true;
        over_first = false;
        const std::uint32_t at = r_[15];
        execute_next();
        if (stopped_) return false;
        if (r_[15] == at && leaps_ && !attention_) leap(until);
    }
    return false;
}

// A jump to itself was executed: it is, over and over, until something happens.
void ThumbCore::leap(std::uint64_t until) {
    const std::uint64_t end = std::min(until, system_.next_tick());
    if (branched_ != Kind::jump || !taken_ || end <= cycle_) return;
    const std::uint64_t times = (end - cycle_) / cost_;
    cycle_ += times * cost_;
    instructions_ += times;
    extra_ += times * (cost_ - 1);
}

bool ThumbCore::step() {
    stopped_ = false;
    if (cycle_ >= system_.next_tick()) tick();
    if (attention_) {
        attention_ = false;
        if (take_pending()) return true;
    }
    if (asleep()) return false;
    execute_next();
    return true;
}

void ThumbCore::execute_next() {
    cost_ = 1;
    memory_cost_ = 0;
    branched_.reset();
    taken_ = true;
    fresh_it_ = false;
    const std::uint32_t at = r_[15];
    try {
        const std::uint32_t i = fetch(at);
        const bool wide = i >= 0xE800;
        const std::uint32_t j = wide ? fetch(at + 2) : 0, behind = at + (wide ? 4 : 2);
        next_ = behind;
        const unsigned it = it_;
        if ((it & 15) != 0 && !passes(it >> 4)) {
            branched_ = kind_of(i, j);
            taken_ = false;
        } else if (wide) {
            execute32(i, j);
        } else {
            execute16(i);
        }
        ++instructions_;
        run_last_ = at;
        if ((it & 15) != 0 && !fresh_it_) it_ = (it & 7) == 0 ? 0 : (it & 0xE0) | (it << 1 & 0x1F);
        if (branched_ && taken_) cost_ += 2;
        cycle_ += cost_;
        memory_extra_ += memory_cost_;
        extra_ += cost_ - 1 - memory_cost_;
        r_[15] = next_;
        if (!branched_) return;
        around_.branched({run_first_, at, *branched_, taken_, next_, behind});
        begin_run();
        if (*branched_ == Kind::exception_return && taken_) exception_return(exc_return_);
    } catch (const Fault& f) {
        cycle_ += cost_;
        fault(f);
    }
}

}  // namespace board
