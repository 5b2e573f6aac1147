#include "replay/a64_machine.h"

#include <algorithm>
#include <bit>
#include <utility>

#include "base/bits.h"

namespace mt {
namespace {

constexpr std::uint64_t kLow = 0xFFFF'FFFF, kEvery = ~std::uint64_t{0};

Known certain(std::uint64_t v) { return {v, true}; }
/// The lowest `width` bits with their sign. REQUIRES: 0 < width <= 64.
constexpr std::uint64_t with_sign(std::uint64_t v, unsigned width) {
    return static_cast<std::uint64_t>(static_cast<std::int64_t>(v << (64 - width)) >> (64 - width));
}
constexpr std::uint64_t low_bits(unsigned count) { return count >= 64 ? kEvery : (std::uint64_t{1} << count) - 1; }
std::uint64_t turned(std::uint64_t v, unsigned by, unsigned width) {
    by %= width;
    return by == 0 ? v : (v >> by | v << (width - by)) & low_bits(width);
}
Known between(std::uint64_t low, std::uint64_t high) { return high < Known::kAnyWord ? Known::between(low, high) : Known{}; }
/// Of what is not known: bounds that say nothing, for of 64 bits they are not these.
void open_bounds(Known& k) { k.low = 0, k.high = Known::kAnyWord; }
Known moved(const Known& base, std::uint64_t by) {
    Known k = base;
    (k.known ? k.value : k.plus) += by;
    if (k.known || !k.bounded()) return k;
    k.low += by;
    k.high += by;
    if (k.low > k.high) open_bounds(k);
    return k;
}
/// A sum of two that are not known: its bounds.
Known sum_of_bounds(const Known& a, const Known& b) {
    if (!a.bounded() || !b.bounded() || a.high + b.high < a.high) return {};
    return Known::between(a.low + b.low, a.high + b.high);
}
/// `k` where it is not known, to the left.
Known bounds_shifted(const Known& k, unsigned by) {
    return k.bounded() && k.high <= Known::kAnyWord && by < 32 ? Known::between(k.low << by, k.high << by) : Known{};
}
/// … and cut to a width without a sign.
Known bounds_cut(const Known& k, unsigned width) {
    const std::uint64_t most = width >= 32 ? Known::kAnyWord : (std::uint64_t{1} << width) - 1;
    return k.bounded() && k.high <= most ? Known::between(k.low, k.high) : between(0, most);
}

struct Masks {
    std::uint64_t insert = 0, top = 0;
};
// Shared pseudocode, DecodeBitMasks(): of logical immediates and bit fields.
std::optional<Masks> bit_masks(unsigned n, unsigned imms, unsigned immr, bool immediate, unsigned width) {
    const unsigned combined = n << 6 | (~imms & 0x3F);
    if (combined == 0) return std::nullopt;
    const unsigned length = static_cast<unsigned>(std::bit_width(combined)) - 1;
    if (length < 1) return std::nullopt;
    const unsigned size = 1u << length, levels = size - 1;
    if (size > width || (immediate && (imms & levels) == levels)) return std::nullopt;
    const unsigned s = imms & levels, r = immr & levels, d = (s - r) & levels;
    std::uint64_t insert = turned(low_bits(s + 1), r, size), top = low_bits(d + 1);
    for (unsigned filled = size; filled < 64; filled *= 2) insert |= insert << filled, top |= top << filled;
    return Masks{insert & low_bits(width), top & low_bits(width)};
}

std::uint64_t shifted(std::uint64_t v, unsigned type, unsigned by, unsigned width) {
    v &= low_bits(width);
    switch (type) {
        case 0:
            return v << by & low_bits(width);
        case 1:
            return v >> by;
        case 2:
            return static_cast<std::uint64_t>(static_cast<std::int64_t>(with_sign(v, width)) >> by) & low_bits(width);
        default:
            return turned(v, by, width);
    }
}
// C6.2, ExtendReg(): bytes, halfwords, words, doublewords, with their sign or without, and then to the left.
std::uint64_t extended(std::uint64_t v, unsigned option, unsigned by) {
    const unsigned width = 8u << (option & 3);
    return ((option & 4) != 0 ? with_sign(v, width) : v & low_bits(width)) << by;
}

/// ExtendReg() of what is not known.
Known bounds_extended(const Known& k, unsigned option, unsigned by) {
    const unsigned width = 8u << (option & 3);
    if ((option & 4) == 0) return width == 64 ? bounds_shifted(k, by) : bounds_shifted(bounds_cut(k, width), by);
    return k.bounded() && k.high < std::uint64_t{1} << (width - 1) ? bounds_shifted(k, by) : Known{};
}

}  // namespace

A64Machine::A64Machine(std::shared_ptr<const Code> code, PastMemory memory, bool at_reset, bool shared)
    : code_(std::move(code)), memory_(std::move(memory)), shared_(shared) {
    for (unsigned n = 0; n < x_.size(); ++n) x_[n].origin = Known::origin_of(Known::kNever, kLost, n);
    if (at_reset) own_stack_ = true;
}

void A64Machine::resolve() {
    for (Known& x : x_) memory_.resolve(x, kRegister);
    for (Known& sp : sp_) memory_.resolve(sp, kRegister);
}

unsigned A64Machine::stack_in_use() const {
    if (!level_) return kLoose;
    if (*level_ == 0) return 0;
    return !own_stack_ ? kLoose : *own_stack_ ? *level_ : 0;
}

// It turns out which stack pointer has been in use.
void A64Machine::tell_own_stack(bool own) {
    if (!level_ || *level_ == 0 || own_stack_) return;
    sp_[own ? *level_ : 0] = sp_[kLoose];
    own_stack_ = own;
}

// A status is a value that is not known as a whole; what of it counts here is written into the number that its copies have.
Known A64Machine::saved_status(const Before& before, std::uint64_t step) {
    Known saved{0, false, step};
    if (!before.level || (*before.level > 0 && !before.own_stack)) {
        saved.origin = Known::origin_of(step, kLost, 63);
        return saved;
    }
    const unsigned flags = before.flags.whole() ? 16u | before.flags.value : 0;
    const unsigned all = *before.level << 6 | (before.own_stack.value_or(false) ? 32u : 0) | flags;
    saved.origin = Known::origin_of(step, kStatus + (all >> 6), all & 63);
    return saved;
}

A64Machine::Before A64Machine::status_of(const Known& saved) {
    Before b;
    if (saved.known) {  // C5.2.18: M[4]: AArch32
        if ((saved.value & 16) != 0) return b;
        b.level = static_cast<unsigned>(saved.value >> 2 & 3);
        b.own_stack = (saved.value & 1) != 0;
        b.flags = ConditionFlags::of(static_cast<unsigned>(saved.value >> 28 & 15));
        return b;
    }
    const std::uint64_t kind = saved.origin / Known::kPlaces % Known::kKinds, place = saved.origin % Known::kPlaces;
    if (saved.origin == 0 || saved.plus != 0 || kind < kStatus) return b;
    b.level = static_cast<unsigned>(kind - kStatus);
    b.own_stack = (place & 32) != 0;
    if ((place & 16) != 0) b.flags = ConditionFlags::of(static_cast<unsigned>(place & 15));
    return b;
}

void A64Machine::level(unsigned level) {
    if (level_ == level || level > 3) return;
    const bool first = !level_;
    level_ = level;
    if (first || entered_ || returned_) return;  // what comes then knows which stack pointer it is
    own_stack_.reset();
    sp_[kLoose] = {};
}

// D1.10: what changes with an exception or a return, once its level is known. `address`: of the first instruction behind it.
void A64Machine::arrive(std::uint64_t before, std::optional<std::uint64_t> address) {
    const std::uint64_t step = before > 0 ? before - 1 : 0;
    if (returned_) {
        const Before back = *std::exchange(returned_, std::nullopt);
        const bool as_told = back.level && level_ && *back.level == *level_;
        flags_ = as_told ? back.flags : ConditionFlags{};
        own_stack_ = as_told ? back.own_stack : std::nullopt;
        sp_[kLoose] = {0, false, step};
    }
    if (!entered_) return;
    Entry e = *std::exchange(entered_, std::nullopt);
    const bool same_level = e.before.level && level_ == e.before.level;
    // D1.10.2: vectors of the same level tell which stack pointer was in use.
    if (address && same_level && *level_ > 0 && !e.before.own_stack && (*address & 0x7FF) < 0x400) {
        e.before.own_stack = (*address & 0x7FF) >= 0x200;
        sp_[*e.before.own_stack ? *level_ : 0] = sp_[kLoose];
    }
    if (level_ && *level_ == 0) level_.reset();  // trace did not tell
    own_stack_ = true;
    sp_[kLoose] = {0, false, step};
    if (!level_) {
        for (Known& sp : sp_) sp = {0, false, step};
        for (unsigned l = 0; l < 4; ++l) elr_[l] = spsr_[l] = {0, false, step};
        return;
    }
    elr_[*level_] = e.back;
    elr_[*level_].set_at = step;
    spsr_[*level_] = saved_status(e.before, step);
}

void A64Machine::trap(const StepTrap& trap, std::uint64_t before) {
    const std::uint64_t step = before > 0 ? before - 1 : 0;
    arrive(before, std::nullopt);
    const unsigned type = trap.number - ExceptionId::kEtm4Types;
    if (trap.number == StepTrap::kUnknown || type < 2) {  // a reset; a debugger, who may change anything
        lose(step);
        if (type == 0) own_stack_ = true;
        return;
    }
    Known back = trap.epc_known ? Known{trap.epc, true, step} : Known{0, false, step};
    if (!back.known) back.origin = Known::origin_of(step, kLost, 62);
    entered_ = Entry{{level_, level_ == 0u ? std::optional(false) : own_stack_, flags_}, back};
}

void A64Machine::lose(std::uint64_t step) {
    for (unsigned n = 0; n < x_.size(); ++n) {
        x_[n] = {0, false, step};
        x_[n].origin = Known::origin_of(step, kLost, n);
    }
    for (Known& sp : sp_) sp = {0, false, step};
    for (auto* of : {&elr_, &spsr_, &thread_})
        for (Known& k : *of) k = {0, false, step};
    flags_ = {};
    own_stack_.reset();
    entered_.reset();
    returned_.reset();
    memory_.forget(step);
}

// A register of 32 bits takes the others along: they become 0 (C6.1).
void A64Machine::put(unsigned rd, const Known& value, bool wide, std::uint64_t step) {
    if (rd == 31) return;
    Known v = value;
    v.set_at = step;
    if (v.known) {
        if (!wide) v.value &= kLow;
    } else {
        v.value = 0;
        if (!wide || v.origin == 0) v.origin = Known::origin_of(now_, kExecuted, rd), v.plus = 0;
        if (!wide && v.high > Known::kAnyWord) open_bounds(v);
        memory_.resolve(v, kRegister);
    }
    x_[rd] = v;
}

void A64Machine::put_or_stack(unsigned rd, const Known& value, bool wide, std::uint64_t step) {
    if (rd != 31) return put(rd, value, wide, step);
    Known v = value;
    v.set_at = step;
    if (!wide) v = v.known ? Known{v.value & kLow, true, step} : Known{0, false, step};
    sp_[stack_in_use()] = v;
}

void A64Machine::set_flags_of(const Known& value, bool wide) {
    flags_ = {};
    if (!value.known) return;
    const std::uint64_t v = wide ? value.value : value.value & kLow;
    flags_ = ConditionFlags::of((wide ? v >> 63 : v >> 31 & 1) != 0 ? 8 : v == 0 ? 4 : 0);  // C and V are 0
}

// Shared pseudocode, AddWithCarry(). A carry that is not known: neither is the sum.
Known A64Machine::sum(const Known& a, const Known& b, std::optional<unsigned> carry, bool wide, bool set_flags) {
    if (set_flags) flags_ = {};
    if (!carry) return {};
    if (!a.known || !b.known) {
        if (a.known == b.known) return *carry == 0 ? sum_of_bounds(a, b) : Known{};
        const Known &number = a.known ? a : b, &other = a.known ? b : a;
        const Known out = moved(other, number.value + *carry);
        if (wide) return out;
        return out.bounded() && out.high < Known::kAnyWord ? Known::between(out.low, out.high) : Known{};
    }
    const std::uint64_t mask = wide ? kEvery : kLow, x = a.value & mask, y = b.value & mask, out = (x + y + *carry) & mask;
    if (set_flags) {
        const std::uint64_t top = mask ^ mask >> 1;
        const bool carries = out < x || (*carry != 0 && out == x), overflows = (~(x ^ y) & (x ^ out) & top) != 0;
        flags_ = ConditionFlags::of(((out & top) != 0 ? 8u : 0u) | (out == 0 ? 4u : 0u) | (carries ? 2u : 0u) | (overflows ? 1u : 0u));
    }
    return certain(out);
}

Known A64Machine::load(const Known& address, unsigned bytes, unsigned sign_to, bool by_stack) {
    if (!address.known || (shared_ && !by_stack && !memory_.is_constant(address.value, bytes))) return {};
    if (by_stack) memory_.note_stack(address.value);
    Known v = bytes == 8 ? memory_.load(address.value, 8, now_, kExecuted) : memory_.read(address.value, bytes);
    if (bytes < 8) v.origin = 0;  // it is another value in a register
    if (!v.known) {
        open_bounds(v);
        if (bytes < 4 && sign_to == 0) v.high = low_bits(8 * bytes);
    }
    if (v.known && sign_to != 0) v.value = with_sign(v.value, 8 * bytes) & low_bits(sign_to);
    return v;
}

void A64Machine::store(const Known& address, unsigned bytes, const Known& value, bool by_stack, std::uint64_t step) {
    if (!address.known) return address.bounded() ? memory_.forget(address, bytes, step) : memory_.forget(step);
    if (by_stack) memory_.note_stack(address.value);
    Known v = value;
    if (bytes < 8) v.origin = 0;
    memory_.write(address.value, bytes, v, step);
}

void A64Machine::store_unknown(const Known& address, unsigned count, bool by_stack, std::uint64_t step) {
    for (unsigned k = 0; k < count; k += 8)
        store(moved(address, k), std::min(8u, count - k), {0, false, step}, by_stack, step);
}

// What a branch told of a register, of 64 bits.
void A64Machine::learn(unsigned n, std::uint64_t value) {
    if (n == 31 || x_[n].known) return;
    memory_.learn(x_[n], value);
    x_[n].value = value;
    x_[n].known = true;
    resolve();  // copies of it
}

void A64Machine::execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    const std::uint64_t pc = code_->address(slot);
    arrive(step, pc);
    now_ = step;
    const std::uint32_t i = code_->bits(slot);
    bool good = false;
    switch (bits(i, 28, 25)) {  // C4.1
        case 8:
        case 9:
            good = immediate(i, pc, step);
            break;
        case 10:
        case 11:
            good = branch(i, pc, slot, step, next);
            break;
        case 4:
        case 6:
        case 12:
        case 14:
            good = memory_access(i, pc, step);
            break;
        case 5:
        case 13:
            good = registers(i, step);
            break;
        case 7:
        case 15:
            vectors(i, step);
            good = true;
            break;
        default:
            break;
    }
    if (good) return;
    ++strange_;
    lose(step);
}

// C4.1.65, data processing with an immediate.
bool A64Machine::immediate(std::uint32_t i, std::uint64_t pc, std::uint64_t step) {
    const unsigned rd = bits(i, 4, 0), rn = bits(i, 9, 5), opc = bits(i, 30, 29);
    const bool wide = bit(i, 31);
    const unsigned width = wide ? 64 : 32;
    switch (bits(i, 25, 23)) {
        case 0:
        case 1: {  // ADR, ADRP
            const std::uint64_t by = with_sign(bits(i, 23, 5) << 2 | opc, 21);
            put(rd, certain(wide ? (pc & ~std::uint64_t{0xFFF}) + (by << 12) : pc + by), true, step);
            return true;
        }
        case 2: {
            const std::uint64_t by = std::uint64_t{bits(i, 21, 10)} << (bit(i, 22) ? 12 : 0);
            const bool minus = bit(i, 30), flags = bit(i, 29);
            const Known a = reg_or_stack(rn);
            Known out = sum(a, certain(minus ? ~by : by), minus ? 1 : 0, wide, flags);
            if (flags)
                put(rd, out, wide, step);
            else
                put_or_stack(rd, out, wide, step);
            return true;
        }
        case 3:  // ADDG, SUBG: tags
            put_or_stack(rd, {}, true, step);
            return true;
        case 4: {
            const auto masks = bit_masks(bits(i, 22, 22), bits(i, 15, 10), bits(i, 21, 16), true, width);
            if (!masks) return false;
            const Known a = reg(rn);
            const std::uint64_t b = masks->insert;
            Known out;
            if (a.known) out = certain(opc == 1 ? a.value | b : opc == 2 ? a.value ^ b : a.value & b);
            if (!a.known && (opc == 0 || opc == 3)) out = between(0, a.bounded() ? std::min(a.high, b) : b);
            if (opc == 3) {
                set_flags_of(out, wide);
                put(rd, out, wide, step);
            } else {
                put_or_stack(rd, out, wide, step);
            }
            return true;
        }
        case 5: {
            const unsigned by = 16 * bits(i, 22, 21);
            const std::uint64_t imm = std::uint64_t{bits(i, 20, 5)} << by;
            if (opc == 1 || by >= width) return false;
            const Known old = reg(rd);
            if (opc == 3)
                put(rd, old.known ? certain((old.value & ~(std::uint64_t{0xFFFF} << by)) | imm) : Known{}, wide, step);
            else
                put(rd, certain(opc == 0 ? ~imm : imm), wide, step);
            return true;
        }
        case 6: {  // SBFM, BFM, UBFM
            const unsigned immr = bits(i, 21, 16), imms = bits(i, 15, 10);
            const auto masks = bit_masks(bits(i, 22, 22), imms, immr, false, width);
            if (!masks || opc == 3 || bit(i, 22) != wide) return false;
            const Known a = reg(rn), old = opc == 1 ? reg(rd) : certain(0);
            if (!a.known && opc == 2) {  // what is cut out, and where it goes
                const Known out = imms >= immr ? between(0, low_bits(imms - immr + 1)) : bounds_shifted(bounds_cut(a, imms + 1), width - immr);
                const bool same = immr == 0 && a.bounded() && a.high <= low_bits(imms + 1);
                return put(rd, same ? Known::between(a.low, a.high) : out, wide, step), true;
            }
            if (!a.known || !old.known) return put(rd, {}, wide, step), true;
            const std::uint64_t from = a.value & low_bits(width);
            const std::uint64_t low = (old.value & ~masks->insert) | (turned(from, immr, width) & masks->insert);
            const std::uint64_t high = opc == 0 ? ((from >> imms & 1) != 0 ? kEvery : 0) : old.value;
            put(rd, certain((high & ~masks->top) | (low & masks->top)), wide, step);
            return true;
        }
        default: {  // EXTR
            const unsigned rm = bits(i, 20, 16), lsb = bits(i, 15, 10);
            if (opc != 0 || lsb >= width) return false;
            const Known high = reg(rn), low = reg(rm);
            if (!high.known || !low.known) return put(rd, {}, wide, step), true;
            const std::uint64_t h = high.value & low_bits(width), l = low.value & low_bits(width);
            put(rd, certain(lsb == 0 ? l : l >> lsb | h << (width - lsb)), wide, step);
            return true;
        }
    }
}

// C4.1.66, branches, exceptions and system instructions.
bool A64Machine::branch(std::uint32_t i, std::uint64_t pc, std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    const std::uint32_t on = code_->next(slot), to = (*code_)[slot].target;
    // Which way it went, where that says something.
    const auto went = [&]() -> std::optional<bool> {
        if (next == Code::kNowhere || on == to || (next != on && next != to)) return std::nullopt;
        return next == to;
    };
    if (bits(i, 30, 26) == 5) {  // B, BL
        if (bit(i, 31)) put(30, certain(pc + 4), true, step);
        return true;
    }
    if (bits(i, 31, 25) == 0x2A) {  // B.cond
        if (const auto taken = went()) flags_.learn(bits(i, 3, 0), *taken);
        return true;
    }
    if (bits(i, 30, 25) == 0x1A) {  // CBZ, CBNZ
        const auto taken = went();
        if (taken && *taken != bit(i, 24) && bit(i, 31)) learn(bits(i, 4, 0), 0);
        return true;
    }
    if (bits(i, 30, 25) == 0x1B) return true;  // TBZ, TBNZ
    if (bits(i, 31, 24) == 0xD4) return true;  // SVC and others: an exception follows
    if (bits(i, 31, 24) == 0xD5) return system(i, step);
    if (bits(i, 31, 25) != 0x6B) return false;
    const unsigned opc = bits(i, 24, 21), rn = bits(i, 9, 5);
    const bool plain = bits(i, 15, 10) == 0;  // without a code within the pointer
    if (opc == 4) {  // ERET
        returned_ = level_ ? status_of(spsr_[*level_]) : Before{};
        return true;
    }
    if (opc > 2 && opc != 8 && opc != 9) return false;
    if (plain && opc < 3 && next != Code::kNowhere) learn(rn, code_->address(next));
    if ((opc & 7) == 1) put(30, certain(pc + 4), true, step);
    return true;
}

// C5.2: the registers that are followed.
Known* A64Machine::system_register(std::uint32_t i) {
    const unsigned op1 = bits(i, 18, 16), key = bits(i, 15, 12) << 8 | bits(i, 11, 8) << 4 | bits(i, 7, 5);  // CRn, CRm, op2
    if (!bit(i, 19)) return nullptr;
    const bool redirected = !level_ || *level_ == 2;  // D5.6: a host at EL2 means its own where it names those of EL1
    const std::optional<unsigned> of = op1 == 0 ? std::optional(1u) : op1 == 4 ? std::optional(2u) : op1 == 6 ? std::optional(3u) : std::nullopt;
    if (key == 0xD02 && op1 == 3) return &thread_[0];
    if (key == 0xD03 && op1 == 3) return &thread_[3];
    if (!of || (*of == 1 && redirected)) return nullptr;
    switch (key) {
        case 0x400:
            return &spsr_[*of];
        case 0x401:
            return &elr_[*of];
        case 0x410:  // SP_EL0 to SP_EL2, each named at the level above
            return &sp_[*of - 1];
        case 0xD04:
            return *of == 1 ? &thread_[1] : nullptr;
        case 0xD02:
            return *of == 2 ? &thread_[2] : nullptr;
        default:
            return nullptr;
    }
}

bool A64Machine::system(std::uint32_t i, std::uint64_t step) {
    const unsigned op1 = bits(i, 18, 16), crn = bits(i, 15, 12), crm = bits(i, 11, 8), op2 = bits(i, 7, 5), rt = bits(i, 4, 0);
    const bool reads = bit(i, 21);
    if (bits(i, 20, 19) == 0) {
        if (crn == 2 && op1 == 3) {  // hints; some put a code into a pointer, or take it out
            const unsigned hint = crm << 3 | op2;
            if (hint == 7 || (hint >= 24 && hint < 32)) put(30, {}, true, step);
            if (hint == 8 || hint == 10 || hint == 12 || hint == 14) put(17, {}, true, step);
            return true;
        }
        if (crn != 4) return true;  // barriers
        if (op1 == 0 && op2 == 5) {  // MSR SPSel
            if (!own_stack_) {
                // Which one was in use is not known: after this it matters no more.
                for (Known& sp : sp_) sp = {0, false, step};
            }
            own_stack_ = (crm & 1) != 0;
        }
        if (op1 == 0 && op2 < 3) flags_ = {};  // CFINV and others
        return true;
    }
    if (bits(i, 20, 19) == 1) {
        if (reads) put(rt, {}, true, step);  // SYSL
        // DC ZVA and relatives clear a block of a size that is not known here: of 2048 bytes at most (D13.2.36).
        if (!reads && op1 == 3 && crn == 7 && crm == 4 && op2 != 0) {
            const Known at = reg(rt);
            if (!at.known) return memory_.forget(step), true;
            store_unknown(certain(at.value & ~std::uint64_t{2047}), 2048, false, step);
        }
        return true;
    }
    const unsigned key = crn << 8 | crm << 4 | op2;
    if (key == 0x410 && op1 == 0 && bit(i, 19)) tell_own_stack(true);  // C5.2.17: SP_EL0 has no name while it is in use
    Known* const place = system_register(i);
    const bool nzcv = op1 == 3 && key == 0x420 && bit(i, 19), spsel = op1 == 0 && key == 0x420 && bit(i, 19);
    if (reads) {
        Known v = place != nullptr ? *place : Known{};
        if (nzcv && flags_.whole()) v = certain(std::uint64_t{flags_.value} << 28);
        if (spsel && own_stack_) v = certain(*own_stack_ ? 1 : 0);
        if (op1 == 0 && key == 0x422 && level_) v = certain(*level_ << 2);  // CurrentEL
        put(rt, v, true, step);
        return true;
    }
    const Known v = reg(rt);
    if (place != nullptr) {
        *place = v;
        place->set_at = step;
    } else if (!level_ || *level_ == 2) {  // it may be one of another name
        if (key == 0x400 || key == 0x401)
            for (auto* of : {&spsr_, &elr_}) (*of)[1] = (*of)[2] = {0, false, step};
        if (key == 0x410) sp_[0] = sp_[1] = {0, false, step};
        if (key == 0xD04) thread_[1] = thread_[2] = {0, false, step};
    }
    if (nzcv) flags_ = v.known ? ConditionFlags::of(static_cast<unsigned>(v.value >> 28 & 15)) : ConditionFlags{};
    if (spsel) {
        if (!own_stack_ || !v.known)
            for (Known& sp : sp_) sp = {0, false, step};
        own_stack_ = v.known ? std::optional((v.value & 1) != 0) : std::nullopt;
    }
    return true;
}

// C4.1.68, loads and stores.
bool A64Machine::memory_access(std::uint32_t i, std::uint64_t pc, std::uint64_t step) {
    switch (bits(i, 29, 28)) {
        case 0:
            return bit(i, 26) ? structures(i, step) : !bit(i, 24) && exclusive(i, step);
        case 1: {
            const unsigned rt = bits(i, 4, 0), opc = bits(i, 31, 30);
            if (!bit(i, 24)) {  // LDR of a literal
                if (bit(i, 26) || opc == 3) return true;
                const Known at = certain(pc + with_sign(bits(i, 23, 5) << 2, 21));
                put(rt, load(at, opc == 1 ? 8 : 4, opc == 2 ? 64 : 0, false), opc != 0, step);
                return true;
            }
            if (bit(i, 21) || bits(i, 11, 10) != 0 || bit(i, 26)) return false;  // tags of memory, copies of it
            const unsigned rn = bits(i, 9, 5), way = bits(i, 23, 22), bytes = 1u << opc;  // LDAPUR, STLUR
            const Known at = moved(reg_or_stack(rn), with_sign(bits(i, 20, 12), 9));
            if (way == 0)
                store(at, bytes, reg(rt), rn == 31, step);
            else
                put(rt, load(at, bytes, way == 2 ? 64 : way == 3 ? 32 : 0, rn == 31), way == 2 || bytes == 8, step);
            return true;
        }
        case 2:
            return pair(i, step);
        default:
            return single(i, step);
    }
}

bool A64Machine::pair(std::uint32_t i, std::uint64_t step) {
    const unsigned opc = bits(i, 31, 30), way = bits(i, 24, 23), rt2 = bits(i, 14, 10), rn = bits(i, 9, 5), rt = bits(i, 4, 0);
    const bool vector = bit(i, 26), loads = bit(i, 22), by_stack = rn == 31;
    if (opc == 3 || (!vector && opc == 1 && !loads)) return false;  // STGP: tags
    const unsigned bytes = vector ? 4u << opc : opc == 2 ? 8 : 4;
    const Known base = reg_or_stack(rn), there = moved(base, with_sign(bits(i, 21, 15), 7) * bytes);
    const Known at = way == 1 ? base : there;
    const bool is_signed = !vector && opc == 1;
    if (loads && !vector) {
        const Known first = load(at, bytes, is_signed ? 64 : 0, by_stack), second = load(moved(at, bytes), bytes, is_signed ? 64 : 0, by_stack);
        if (way == 1 || way == 3) put_or_stack(rn, there, true, step);
        put(rt, first, bytes == 8 || is_signed, step);
        put(rt2, second, bytes == 8 || is_signed, step);
        return true;
    }
    if (!loads && vector) store_unknown(at, 2 * bytes, by_stack, step);
    if (!loads && !vector) {
        store(at, bytes, reg(rt), by_stack, step);
        store(moved(at, bytes), bytes, reg(rt2), by_stack, step);
    }
    if (way == 1 || way == 3) put_or_stack(rn, there, true, step);
    return true;
}

bool A64Machine::single(std::uint32_t i, std::uint64_t step) {
    const unsigned size = bits(i, 31, 30), opc = bits(i, 23, 22), rn = bits(i, 9, 5), rt = bits(i, 4, 0);
    const bool vector = bit(i, 26), by_stack = rn == 31;
    const unsigned bytes = vector && opc > 1 ? 16 : 1u << size;
    const Known base = reg_or_stack(rn);
    Known at = base, after = base;
    bool writes_back = false;
    if (bit(i, 24)) {
        at = moved(base, std::uint64_t{bits(i, 21, 10)} * bytes);
    } else if (!bit(i, 21)) {
        const unsigned way = bits(i, 11, 10);
        after = moved(base, with_sign(bits(i, 20, 12), 9));
        if (way != 1) at = after;
        writes_back = (way & 1) != 0;
    } else if (bits(i, 11, 10) == 2) {
        const Known index = reg(bits(i, 20, 16));
        const unsigned by = bit(i, 12) ? static_cast<unsigned>(std::countr_zero(bytes)) : 0;
        at = index.known ? moved(base, extended(index.value, bits(i, 15, 13), by)) : Known{};
        if (!index.known && base.known) at = moved(bounds_extended(index, bits(i, 15, 13), by), base.value);
    } else if (bits(i, 11, 10) == 0) {
        return !vector && atomic(i, step);
    } else {  // LDRAA, LDRAB: by a pointer with a code within
        if (vector || size != 3) return false;
        if (bit(i, 11)) put_or_stack(rn, {}, true, step);
        put(rt, {}, true, step);
        return true;
    }
    if (vector) {
        if ((opc & 1) == 0) store_unknown(at, bytes, by_stack, step);
        if (writes_back) put_or_stack(rn, after, true, step);
        return true;
    }
    if (size == 3 && opc == 2) return true;  // PRFM
    if (size > 1 && opc == 3) return false;
    if (opc == 0) {
        const Known v = reg(rt);
        store(at, bytes, v, by_stack, step);
        if (writes_back) put_or_stack(rn, after, true, step);
        return true;
    }
    const Known v = load(at, bytes, opc == 2 ? 64 : opc == 3 ? 32 : 0, by_stack);
    if (writes_back) put_or_stack(rn, after, true, step);
    put(rt, v, bytes == 8 || opc == 2, step);
    return true;
}

// Exclusive and ordered ones, compare and swap. Whether a conditional store was done is not told.
bool A64Machine::exclusive(std::uint32_t i, std::uint64_t step) {
    const unsigned bytes = 1u << bits(i, 31, 30), rs = bits(i, 20, 16), rt2 = bits(i, 14, 10), rn = bits(i, 9, 5), rt = bits(i, 4, 0);
    const bool loads = bit(i, 22), plain = bit(i, 23), two = bit(i, 21), by_stack = rn == 31;
    const Known at = reg_or_stack(rn);
    if (plain && !two) {  // LDAR, STLR
        if (loads)
            put(rt, load(at, bytes, 0, by_stack), bytes == 8, step);
        else
            store(at, bytes, reg(rt), by_stack, step);
        return true;
    }
    const bool swaps = two && (plain || bytes < 4);
    if (swaps) {  // CAS, CASP
        const unsigned each = plain ? bytes : bit(i, 30) ? 8 : 4, count = plain ? 1 : 2;
        for (unsigned k = 0; k < count; ++k) {
            const Known where = moved(at, each * k), old = load(where, each, 0, by_stack), as = reg(rs + k), fresh = reg(rt + k);
            const std::uint64_t mask = low_bits(8 * each);
            const bool decided = count == 1 && old.known && as.known;
            if (!decided)
                store(where, each, {0, false, step}, by_stack, step);
            else if ((old.value & mask) == (as.value & mask))
                store(where, each, fresh, by_stack, step);
            put(rs + k, old, each == 8, step);
        }
        return true;
    }
    if (loads) {
        const Known first = load(at, bytes, 0, by_stack);
        const Known second = two ? load(moved(at, bytes), bytes, 0, by_stack) : Known{};
        put(rt, first, bytes == 8, step);
        if (two) put(rt2, second, bytes == 8, step);
        return true;
    }
    store_unknown(at, two ? 2 * bytes : bytes, by_stack, step);
    put(rs, {}, false, step);
    return true;
}

// LD1 to LD4, ST1 to ST4.
bool A64Machine::structures(std::uint32_t i, std::uint64_t step) {
    const unsigned rm = bits(i, 20, 16), rn = bits(i, 9, 5), size = bits(i, 11, 10);
    const bool loads = bit(i, 22), post = bit(i, 23);
    unsigned bytes = 0;
    if (!bit(i, 24)) {
        constexpr std::array<unsigned, 16> registers{4, 0, 4, 0, 3, 0, 3, 1, 2, 0, 2};
        bytes = registers[bits(i, 15, 12)] * (bit(i, 30) ? 16 : 8);
    } else {
        const unsigned opcode = bits(i, 15, 13), elements = ((opcode & 1) << 1 | bits(i, 21, 21)) + 1;
        const unsigned scale = opcode >> 1;
        bytes = elements * (scale == 3 ? 1u << size : scale == 2 && (size & 1) != 0 ? 8 : 1u << scale);
    }
    if (bytes == 0) return false;
    const Known base = reg_or_stack(rn);
    if (!loads) store_unknown(base, bytes, rn == 31, step);
    if (post) {
        const Known by = rm == 31 ? certain(bytes) : reg(rm);
        put_or_stack(rn, by.known ? moved(base, by.value) : Known{}, true, step);
    }
    return true;
}

// LDADD and others, SWP, LDAPR.
bool A64Machine::atomic(std::uint32_t i, std::uint64_t step) {
    const unsigned bytes = 1u << bits(i, 31, 30), width = 8 * bytes, rs = bits(i, 20, 16), rn = bits(i, 9, 5), rt = bits(i, 4, 0), opc = bits(i, 14, 12);
    const bool by_stack = rn == 31, other = bit(i, 15);
    if (other && opc != 0 && opc != 4) return false;
    const Known at = reg_or_stack(rn), by = reg(rs), old = load(at, bytes, 0, by_stack);
    if (other && opc == 4) {  // LDAPR
        put(rt, old, bytes == 8, step);
        return true;
    }
    Known fresh;
    if (other) {
        fresh = by;
    } else if (old.known && by.known) {
        const std::uint64_t a = old.value, b = by.value & low_bits(width);
        const auto sa = static_cast<std::int64_t>(with_sign(a, width)), sb = static_cast<std::int64_t>(with_sign(b, width));
        const std::uint64_t all[] = {a + b, a & ~b, a ^ b, a | b, sa > sb ? a : b, sa < sb ? a : b, a > b ? a : b, a < b ? a : b};
        fresh = certain(all[opc] & low_bits(width));
    }
    store(at, bytes, fresh, by_stack, step);
    put(rt, old, bytes == 8, step);
    return true;
}

// C4.1.69, data processing with registers.
bool A64Machine::registers(std::uint32_t i, std::uint64_t step) {
    const unsigned rd = bits(i, 4, 0), rn = bits(i, 9, 5), rm = bits(i, 20, 16), opc = bits(i, 30, 29), op2 = bits(i, 24, 21);
    const bool wide = bit(i, 31);
    const unsigned width = wide ? 64 : 32;
    const auto inverse = [](const Known& k) { return k.known ? certain(~k.value) : Known{}; };
    if (!bit(i, 28)) {
        if ((op2 & 8) == 0) {  // logical
            const unsigned by = bits(i, 15, 10);
            if (by >= width) return false;
            const Known a = reg(rn), m = reg(rm);
            Known b = m;
            if (m.known) b.value = shifted(m.value, bits(i, 23, 22), by, width);
            if (!m.known && by != 0) b = bits(i, 23, 22) == 0 ? bounds_shifted(m, by) : Known{};
            const bool inverted = bit(i, 21);
            if (opc == 1 && !inverted && rn == 31) return put(rd, b, wide, step), true;  // MOV
            if (inverted) b = inverse(b);
            Known out;
            const bool zero = (a.known && (a.value & low_bits(width)) == 0) || (b.known && (b.value & low_bits(width)) == 0);
            if (a.known && b.known)
                out = certain((opc == 1 ? a.value | b.value : opc == 2 ? a.value ^ b.value : a.value & b.value) & low_bits(width));
            else if ((opc == 0 || opc == 3) && zero)
                out = certain(0);
            else if (opc == 2 && !inverted && rn == rm && by == 0)
                out = certain(0);
            if (opc == 3) set_flags_of(out, wide);
            put(rd, out, wide, step);
            return true;
        }
        const bool minus = bit(i, 30), flags = bit(i, 29), extends = (op2 & 1) != 0;
        const Known m = reg(rm);
        Known b = m;
        if (extends) {
            const unsigned option = bits(i, 15, 13), by = bits(i, 12, 10);
            if (by > 4) return false;
            b = m.known ? certain(extended(m.value, option, by)) : (option & 3) == 3 && by == 0 ? m : bounds_extended(m, option, by);
        } else {
            const unsigned by = bits(i, 15, 10);
            if (by >= width || bits(i, 23, 22) == 3) return false;
            b = m.known ? certain(shifted(m.value, bits(i, 23, 22), by, width)) : by == 0 ? m : bits(i, 23, 22) == 0 ? bounds_shifted(m, by) : Known{};
        }
        const Known a = extends ? reg_or_stack(rn) : reg(rn);
        if (minus && !b.known && rn == rm && !extends && bits(i, 15, 10) == 0) {  // a difference with itself
            if (flags) flags_ = ConditionFlags::of(6);
            return put(rd, certain(0), wide, step), true;
        }
        const Known out = sum(a, minus ? inverse(b) : b, minus ? 1 : 0, wide, flags);
        if (extends && !flags)
            put_or_stack(rd, out, wide, step);
        else
            put(rd, out, wide, step);
        return true;
    }
    if ((op2 & 8) != 0) {  // of three
        const unsigned op31 = bits(i, 23, 21), ra = bits(i, 14, 10);
        const bool minus = bit(i, 15);
        const Known n = reg(rn), m = reg(rm), a = reg(ra);
        if (opc != 0 || (op31 != 0 && !wide)) return false;
        if (op31 == 2 || op31 == 6) {  // SMULH, UMULH
            if (!n.known || !m.known) return put(rd, {}, true, step), true;
            using Wide = __int128;
            const auto sn = static_cast<std::int64_t>(n.value), sm = static_cast<std::int64_t>(m.value);
            const std::uint64_t out = op31 == 2 ? static_cast<std::uint64_t>(static_cast<unsigned __int128>(Wide{sn} * sm) >> 64)
                                                : static_cast<std::uint64_t>(static_cast<unsigned __int128>(n.value) * m.value >> 64);
            return put(rd, certain(out), true, step), true;
        }
        if (op31 != 0 && op31 != 1 && op31 != 5) return false;
        if (!n.known || !m.known || !a.known) return put(rd, {}, wide, step), true;
        std::uint64_t x = n.value, y = m.value;
        if (op31 == 1) x = with_sign(x, 32), y = with_sign(y, 32);
        if (op31 == 5) x &= kLow, y &= kLow;
        put(rd, certain(minus ? a.value - x * y : a.value + x * y), wide, step);
        return true;
    }
    switch (op2) {
        case 0: {
            if (bits(i, 15, 10) != 0) return flags_ = {}, true;  // RMIF, SETF
            const bool minus = bit(i, 30);
            const std::optional<unsigned> carry = (flags_.known & 2) != 0 ? std::optional(flags_.value >> 1 & 1u) : std::nullopt;
            const Known b = minus ? inverse(reg(rm)) : reg(rm);
            put(rd, sum(reg(rn), b, carry, wide, bit(i, 29)), wide, step);
            return true;
        }
        case 2: {  // CCMN, CCMP
            const Known b = bit(i, 11) ? certain(rm) : reg(rm);
            const bool minus = bit(i, 30);
            const auto runs = flags_.passes(bits(i, 15, 12));
            const ConditionFlags other = ConditionFlags::of(bits(i, 3, 0));
            if (runs != false) (void)sum(reg(rn), minus ? inverse(b) : b, minus ? 1 : 0, wide, true);
            if (runs == false) flags_ = other;
            if (!runs) flags_ = ConditionFlags::merged(flags_, other);
            return true;
        }
        case 4: {  // CSEL and others
            const unsigned op = bits(i, 11, 10);
            if (op > 1 || bit(i, 29)) return false;
            Known n = reg(rn), m = reg(rm);
            if (bit(i, 30)) m = inverse(m);
            if (op == 1) m = m.known ? certain(m.value + 1) : !bit(i, 30) && wide ? moved(m, 1) : Known{};
            const auto holds = flags_.passes(bits(i, 15, 12));
            Known out;
            if (holds)
                out = *holds ? n : m;
            else if (n.known && m.known && ((n.value ^ m.value) & low_bits(width)) == 0)
                out = n;
            else if ((n.known || n.bounded()) && (m.known || m.bounded()))
                out = wide ? either(n, m) : between(std::min(n.least(), m.least()), std::max(n.most(), m.most()));
            put(rd, out, wide, step);
            return true;
        }
        case 6:
            return of_one_or_two(i, step);
        default:
            return false;
    }
}

bool A64Machine::of_one_or_two(std::uint32_t i, std::uint64_t step) {
    const unsigned rd = bits(i, 4, 0), rn = bits(i, 9, 5), rm = bits(i, 20, 16), opcode = bits(i, 15, 10);
    const bool wide = bit(i, 31);
    const unsigned width = wide ? 64 : 32;
    const std::uint64_t mask = low_bits(width);
    const Known n = reg(rn), m = reg(rm);
    if (bit(i, 29)) flags_ = {};  // SUBPS
    if (!bit(i, 30)) {
        Known out;
        if (n.known && m.known) {
            const std::uint64_t a = n.value & mask, b = m.value & mask;
            if (opcode == 2) out = certain(b == 0 ? 0 : a / b);
            if (opcode == 3) {
                const auto sa = static_cast<std::int64_t>(with_sign(a, width)), sb = static_cast<std::int64_t>(with_sign(b, width));
                out = certain(b == 0 ? 0 : sb == -1 ? 0 - a : static_cast<std::uint64_t>(sa / sb));
            }
            if (opcode >= 8 && opcode < 12) out = certain(shifted(a, opcode & 3, static_cast<unsigned>(b % width), width));
        } else if ((opcode == 2 || opcode == 3) && n.known && (n.value & mask) == 0) {
            out = certain(0);
        }
        if (opcode == 4)  // IRG
            put_or_stack(rd, out, true, step);
        else
            put(rd, out, wide || opcode == 0 || opcode == 12, step);
        return true;
    }
    if (rm != 0) return put(rd, {}, true, step), true;  // codes in pointers
    if (opcode > 5) return put(rd, {}, wide, step), true;
    if (!n.known) return put(rd, opcode > 3 ? between(0, width) : Known{}, wide, step), true;
    const std::uint64_t a = n.value & mask;
    std::uint64_t out = 0;
    const unsigned group = opcode == 1 ? 2 : opcode == 2 ? 4 : 8;  // bytes that change places with each other
    switch (opcode) {
        case 0:
            for (unsigned k = 0; k < width; ++k) out |= (a >> k & 1) << (width - 1 - k);
            break;
        case 1:
        case 2:
        case 3:
            for (unsigned k = 0; k < width / 8; ++k) out |= (a >> 8 * k & 0xFF) << 8 * (k / group * group + group - 1 - k % group);
            break;
        case 4:
            out = static_cast<std::uint64_t>(std::countl_zero(a)) - (64 - width);
            break;
        default: {
            const std::uint64_t s = with_sign(a, width);
            out = static_cast<std::uint64_t>(std::countl_zero(s >> 63 != 0 ? ~s : s)) - (64 - width) - 1;
            break;
        }
    }
    put(rd, certain(out), wide, step);
    return true;
}

// C4.1.71: what of vectors and floating point touches integer registers and flags.
void A64Machine::vectors(std::uint32_t i, std::uint64_t step) {
    const unsigned rd = bits(i, 4, 0);
    if ((i & 0xBFE0'FC00) == 0x0E00'3C00 || (i & 0xBFE0'FC00) == 0x0E00'2C00) return put(rd, {}, true, step);  // UMOV, SMOV
    if (bits(i, 30, 24) != 0x1E) return;
    const unsigned opcode = bits(i, 18, 16);
    const bool to_integer = opcode < 2 || opcode == 4 || opcode == 5 || opcode == 6;
    if (!bit(i, 21)) {
        if (opcode < 2) put(rd, {}, true, step);  // to fixed point
        return;
    }
    if (bits(i, 15, 10) == 0) {
        if (to_integer) put(rd, {}, true, step);
        if (opcode == 6 && bits(i, 20, 19) == 3) flags_ = {};  // FJCVTZS
        return;
    }
    if (bits(i, 13, 10) == 8 || bits(i, 11, 10) == 1) flags_ = {};  // FCMP, FCCMP
}

}  // namespace mt
