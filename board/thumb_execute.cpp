// What each instruction does (DDI 0403E, A5: encodings; A7: operation).
#include <algorithm>
#include <bit>

#include "base/bits.h"
#include "replay/condition_flags.h"
#include "thumb_core.h"

namespace board {
namespace {

using std::int16_t, std::int32_t, std::int64_t, std::int8_t, std::uint16_t, std::uint32_t, std::uint64_t, std::uint8_t;

using mt::bit, mt::bits;

constexpr int32_t as_signed(uint32_t value) { return static_cast<int32_t>(value); }
constexpr int32_t half(uint32_t value, bool top) { return static_cast<int16_t>(top ? value >> 16 : value); }

constexpr int32_t signed_of(uint32_t value, unsigned wide) { return as_signed(value << (32 - wide)) >> (32 - wide); }

// ThumbExpandImm_C (A5.3.2): the carry is that of the rotation, or stays.
uint32_t expanded(uint32_t i, uint32_t j, bool& carry) {
    const uint32_t imm12 = bits(i, 10, 10) << 11 | bits(j, 14, 12) << 8 | (j & 0xFF), byte = imm12 & 0xFF;
    switch (imm12 >> 8) {
        case 0:
            return byte;
        case 1:
            return byte << 16 | byte;
        case 2:
            return byte << 24 | byte << 8;
        case 3:
            return byte * 0x01010101;
        default: {
            const uint32_t value = std::rotr(0x80u | (imm12 & 0x7F), static_cast<int>(imm12 >> 7));
            carry = bit(value, 31);
            return value;
        }
    }
}

int64_t saturated(int64_t value, int64_t low, int64_t high, bool& did) {
    did = did || value < low || value > high;
    return std::clamp(value, low, high);
}
uint32_t saturated32(int64_t value, bool& did) { return static_cast<uint32_t>(saturated(value, INT32_MIN, INT32_MAX, did)); }

}  // namespace

bool ThumbCore::passes(unsigned condition) const {
    return mt::condition_holds(condition, (n_ ? 8u : 0) | (z_ ? 4u : 0) | (c_ ? 2u : 0) | (v_ ? 1u : 0));
}

uint32_t ThumbCore::add(uint32_t a, uint32_t b, bool carry, bool s) {
    const uint64_t wide = uint64_t{a} + b + (carry ? 1 : 0);
    const auto result = static_cast<uint32_t>(wide);
    if (s) {
        flags(result);
        c_ = wide >> 32 != 0;
        v_ = bit((a ^ result) & (b ^ result), 31);
    }
    return result;
}

// Types 0 to 3 are LSL, LSR, ASR, ROR; 4 is RRX (A2.2.1).
uint32_t ThumbCore::shift(uint32_t value, unsigned type, unsigned amount, bool& carry) const {
    if (type == 4) {
        const uint32_t result = value >> 1 | (carry ? 1u << 31 : 0);
        carry = bit(value, 0);
        return result;
    }
    if (amount == 0) return value;
    switch (type) {
        case 0:
            carry = amount <= 32 && bit(value, 32 - amount);
            return amount < 32 ? value << amount : 0;
        case 1:
            carry = amount <= 32 && bit(value, amount - 1);
            return amount < 32 ? value >> amount : 0;
        case 2:
            carry = bit(value, std::min(amount, 32u) - 1);
            return static_cast<uint32_t>(as_signed(value) >> std::min(amount, 31u));
        default: {
            const uint32_t result = std::rotr(value, static_cast<int>(amount & 31));
            carry = bit(result, 31);
            return result;
        }
    }
}

void ThumbCore::branch(uint32_t target, Kind kind) {
    branched_ = kind;
    next_ = target & ~1u;
}

// BXWritePC and LoadWritePC (A2.3.1): in a handler an EXC_RETURN ends it.
void ThumbCore::branch_exchange(uint32_t target, Kind kind) {
    if (ipsr_ != 0 && target >> 28 == 0xF) {
        exc_return_ = target;
        branched_ = Kind::exception_return;
        return;
    }
    if (!bit(target, 0)) throw usage(1);  // INVSTATE
    branch(target, kind);
}

// Of an instruction whose condition failed: whether it counts as a branch that was not taken.
std::optional<ThumbBranch::Kind> ThumbCore::kind_of(uint32_t i, uint32_t j) const {
    if (i < 0xE800) {
        if ((i & 0xF800) == 0xE000) return Kind::jump;
        if ((i & 0xFF80) == 0x4700) return Kind::indirect;
        if ((i & 0xFF80) == 0x4780) return Kind::indirect_call;
        if ((i & 0xFF00) == 0xBD00) return Kind::indirect;
        if ((i & 0xFD87) == 0x4487) return Kind::indirect;  // ADD and MOV to the program counter
        return std::nullopt;
    }
    if ((i & 0xF800) == 0xF000 && (j & 0xD000) == 0xD000) return Kind::call;
    if ((i & 0xF800) == 0xF000 && (j & 0xD000) == 0x9000) return Kind::jump;
    if ((i & 0xFFF0) == 0xF3B0 && (j & 0xD0F0) == 0x8060) return Kind::barrier;
    if ((i & 0xFFF0) == 0xE8D0 && (j & 0x00E0) == 0) return Kind::indirect;
    if ((i & 0xFE50) == 0xE810 && bit(j, 15)) return Kind::indirect;
    if ((i & 0xFF70) == 0xF850 && (j & 0xF000) == 0xF000) return Kind::indirect;
    return std::nullopt;
}

// 16 bits (A5.2) -------------------------------------------------------------------------------------------------------

void ThumbCore::execute16(uint32_t i) {
    const bool s = (it_ & 15) == 0;  // within an IT block they leave the flags alone
    const uint32_t d = bits(i, 2, 0), n = bits(i, 5, 3), m = bits(i, 8, 6), d8 = bits(i, 10, 8), imm5 = bits(i, 10, 6), imm8 = i & 0xFF;
    bool carry = c_;
    const auto logic = [&](uint32_t into, uint32_t result, bool with_carry) {
        r_[into] = result;
        if (!s) return;
        flags(result);
        if (with_carry) c_ = carry;
    };
    switch (i >> 11) {
        case 0:
        case 1:
        case 2: {
            const unsigned type = i >> 11, amount = type != 0 && imm5 == 0 ? 32 : imm5;
            logic(d, shift(r_[n], type, amount, carry), true);
            return;
        }
        case 3: {
            const uint32_t operand = bit(i, 10) ? m : r_[m];
            r_[d] = bit(i, 9) ? add(r_[n], ~operand, true, s) : add(r_[n], operand, false, s);
            return;
        }
        case 4:
            logic(d8, imm8, false);
            return;
        case 5:
            (void)add(r_[d8], ~imm8, true, true);
            return;
        case 6:
            r_[d8] = add(r_[d8], imm8, false, s);
            return;
        case 7:
            r_[d8] = add(r_[d8], ~imm8, true, s);
            return;
        case 8:
            if (!bit(i, 10)) {  // on two low registers (A5.2.2)
                const uint32_t a = r_[d], b = r_[n];
                switch (bits(i, 9, 6)) {
                    case 0:
                        return logic(d, a & b, false);
                    case 1:
                        return logic(d, a ^ b, false);
                    case 2:
                        return logic(d, shift(a, 0, b & 0xFF, carry), true);
                    case 3:
                        return logic(d, shift(a, 1, b & 0xFF, carry), true);
                    case 4:
                        return logic(d, shift(a, 2, b & 0xFF, carry), true);
                    case 5:
                        r_[d] = add(a, b, c_, s);
                        return;
                    case 6:
                        r_[d] = add(a, ~b, c_, s);
                        return;
                    case 7:
                        return logic(d, shift(a, 3, b & 0xFF, carry), true);
                    case 8:
                        flags(a & b);
                        return;
                    case 9:
                        r_[d] = add(~b, 0, true, s);
                        return;
                    case 10:
                        (void)add(a, ~b, true, true);
                        return;
                    case 11:
                        (void)add(a, b, false, true);
                        return;
                    case 12:
                        return logic(d, a | b, false);
                    case 13:
                        return logic(d, a * b, false);
                    case 14:
                        return logic(d, a & ~b, false);
                    default:
                        return logic(d, ~b, false);
                }
            } else {  // on any two, and exchanging branches (A5.2.3)
                const uint32_t dn = d | bits(i, 7, 7) << 3, rm = bits(i, 6, 3), value = reg(rm);
                switch (bits(i, 9, 8)) {
                    case 0:
                        if (dn == 15) return branch(reg(15) + value, Kind::indirect);
                        return put(dn, reg(dn) + value);
                    case 1:
                        (void)add(reg(dn), ~value, true, true);
                        return;
                    case 2:
                        if (dn == 15) return branch(value, Kind::indirect);
                        return put(dn, value);
                    default:
                        if (bit(i, 7)) {
                            const uint32_t back = next_ | 1;
                            branch_exchange(value, Kind::indirect_call);
                            r_[14] = back;
                            return;
                        }
                        return branch_exchange(value, Kind::indirect);
                }
            }
        case 9:
            r_[d8] = load((reg(15) & ~3u) + 4 * imm8, 4);
            return;
        case 10:
        case 11: {
            const uint32_t address = r_[n] + r_[m];
            switch (bits(i, 11, 9)) {
                case 0:
                    return store(address, 4, r_[d]);
                case 1:
                    return store(address, 2, r_[d] & 0xFFFF);
                case 2:
                    return store(address, 1, r_[d] & 0xFF);
                case 3:
                    r_[d] = static_cast<uint32_t>(signed_of(load(address, 1), 8));
                    return;
                case 4:
                    r_[d] = load(address, 4);
                    return;
                case 5:
                    r_[d] = load(address, 2);
                    return;
                case 6:
                    r_[d] = load(address, 1);
                    return;
                default:
                    r_[d] = static_cast<uint32_t>(signed_of(load(address, 2), 16));
                    return;
            }
        }
        case 12:
            return store(r_[n] + 4 * imm5, 4, r_[d]);
        case 13:
            r_[d] = load(r_[n] + 4 * imm5, 4);
            return;
        case 14:
            return store(r_[n] + imm5, 1, r_[d] & 0xFF);
        case 15:
            r_[d] = load(r_[n] + imm5, 1);
            return;
        case 16:
            return store(r_[n] + 2 * imm5, 2, r_[d] & 0xFFFF);
        case 17:
            r_[d] = load(r_[n] + 2 * imm5, 2);
            return;
        case 18:
            return store(r_[13] + 4 * imm8, 4, r_[d8]);
        case 19:
            r_[d8] = load(r_[13] + 4 * imm8, 4);
            return;
        case 20:
            r_[d8] = (reg(15) & ~3u) + 4 * imm8;
            return;
        case 21:
            r_[d8] = r_[13] + 4 * imm8;
            return;
        case 22:
        case 23:
            return miscellaneous(i);
        case 24: {
            uint32_t address = r_[d8];
            for (unsigned k = 0; k < 8; ++k)
                if (bit(i, k)) store(std::exchange(address, address + 4), 4, r_[k]);
            r_[d8] = address;
            return;
        }
        case 25: {
            uint32_t address = r_[d8];
            std::array<uint32_t, 8> values{};
            for (unsigned k = 0; k < 8; ++k)
                if (bit(i, k)) values[k] = load(std::exchange(address, address + 4), 4);
            if (!bit(i, d8)) r_[d8] = address;
            for (unsigned k = 0; k < 8; ++k)
                if (bit(i, k)) r_[k] = values[k];
            return;
        }
        case 26:
        case 27: {
            const unsigned condition = bits(i, 11, 8);
            if (condition == 14) throw usage(0);
            if (condition == 15) {
                if (system_.priority(SystemControl::kSvCall) >= level()) throw Fault{SystemControl::kHardFault, 0, {}};
                system_.pend(SystemControl::kSvCall);
                attention_ = true;
                return;
            }
            branched_ = Kind::jump;
            taken_ = passes(condition);
            if (taken_) next_ = reg(15) + static_cast<uint32_t>(signed_of(imm8, 8) * 2);
            return;
        }
        case 28:
            return branch(reg(15) + static_cast<uint32_t>(signed_of(i & 0x7FF, 11) * 2), Kind::jump);
        default:
            throw usage(0);
    }
}

// A5.2.5.
void ThumbCore::miscellaneous(uint32_t i) {
    const uint32_t d = bits(i, 2, 0), n = bits(i, 5, 3);
    switch (bits(i, 11, 8)) {
        case 0:
            r_[13] = bit(i, 7) ? r_[13] - 4 * (i & 0x7F) : r_[13] + 4 * (i & 0x7F);
            return;
        case 1:
        case 3:
        case 9:
        case 11: {
            branched_ = Kind::jump;
            taken_ = (r_[d] == 0) != bit(i, 11);
            if (taken_) next_ = reg(15) + (bits(i, 9, 9) << 6 | bits(i, 7, 3) << 1);
            return;
        }
        case 2:
            switch (bits(i, 7, 6)) {
                case 0:
                    r_[d] = static_cast<uint32_t>(half(r_[n], false));
                    return;
                case 1:
                    r_[d] = static_cast<uint32_t>(signed_of(r_[n], 8));
                    return;
                case 2:
                    r_[d] = r_[n] & 0xFFFF;
                    return;
                default:
                    r_[d] = r_[n] & 0xFF;
                    return;
            }
        case 4:
        case 5: {
            const uint32_t list = (i & 0xFF) | bits(i, 8, 8) << 14;
            uint32_t address = r_[13] - 4 * static_cast<uint32_t>(std::popcount(list));
            const uint32_t sp = address;
            for (unsigned k = 0; k < 15; ++k)
                if (bit(list, k)) store(std::exchange(address, address + 4), 4, r_[k]);
            r_[13] = sp;
            return;
        }
        case 6:
            if (bits(i, 7, 5) != 3) throw usage(0);
            if (!privileged()) return;
            if (bit(i, 1)) set_primask(bit(i, 4));
            if (bit(i, 0)) faultmask_ = bit(i, 4);
            attention_ = true;
            return;
        case 10: {
            const uint32_t v = r_[n];
            switch (bits(i, 7, 6)) {
                case 0:
                    r_[d] = __builtin_bswap32(v);
                    return;
                case 1:
                    r_[d] = (v & 0x00FF00FF) << 8 | (v >> 8 & 0x00FF00FF);
                    return;
                case 3:
                    r_[d] = static_cast<uint32_t>(half((v & 0xFF) << 8 | (v >> 8 & 0xFF), false));
                    return;
                default:
                    throw usage(0);
            }
        }
        case 12:
        case 13: {
            uint32_t address = r_[13];
            std::array<uint32_t, 8> values{};
            for (unsigned k = 0; k < 8; ++k)
                if (bit(i, k)) values[k] = load(std::exchange(address, address + 4), 4);
            const uint32_t to = bit(i, 8) ? load(std::exchange(address, address + 4), 4) : 0;
            if (bit(i, 8)) branch_exchange(to, Kind::indirect);
            r_[13] = address;
            for (unsigned k = 0; k < 8; ++k)
                if (bit(i, k)) r_[k] = values[k];
            return;
        }
        case 15:
            if ((i & 15) != 0) {
                it_ = i & 0xFF;
                fresh_it_ = true;
                return;
            }
            return hint(bits(i, 7, 4));
        default:
            throw i >> 8 == 0xBE ? Fault{SystemControl::kHardFault, 0, {}} : usage(0);
    }
}

void ThumbCore::hint(uint32_t which) {
    switch (which) {
        case 2:
            if (!std::exchange(event_, false)) asleep_ = true;
            break;
        case 3:
            asleep_ = true;
            break;
        case 4:
            event_ = true;
            break;
        default:
            break;
    }
    attention_ = true;
}

// 32 bits (A5.3) -------------------------------------------------------------------------------------------------------

void ThumbCore::execute32(uint32_t i, uint32_t j) {
    const uint32_t op2 = bits(i, 10, 4);
    switch (i >> 11 & 3) {
        case 1:
            if ((op2 & 0x64) == 0) return load_store_multiple(i, j);
            if ((op2 & 0x64) == 4) return load_store_double(i, j);
            if ((op2 & 0x60) == 0x20) {
                const uint32_t op = bits(i, 8, 5), n = bits(i, 3, 0), d = bits(j, 11, 8), m = bits(j, 3, 0);
                const unsigned amount = bits(j, 14, 12) << 2 | bits(j, 7, 6);
                unsigned type = bits(j, 5, 4);
                bool carry = c_;
                if (type == 3 && amount == 0) type = 4;
                const uint32_t operand = shift(r_[m], type, (type == 1 || type == 2) && amount == 0 ? 32 : amount, carry);
                if (op == 6) {  // PKHBT, PKHTB
                    if (bit(i, 4) || bit(j, 4)) throw usage(0);
                    r_[d] = bit(j, 5) ? (r_[n] & 0xFFFF0000) | (operand & 0xFFFF) : (operand & 0xFFFF0000) | (r_[n] & 0xFFFF);
                    return;
                }
                return data_processing(op, bit(i, 4), n, d, operand, carry);
            }
            throw usage(3);  // NOCP
        case 2:
            if (bit(j, 15)) return branches_and_control(i, j);
            if (!bit(i, 9)) {
                bool carry = c_;
                const uint32_t operand = expanded(i, j, carry);
                return data_processing(bits(i, 8, 5), bit(i, 4), bits(i, 3, 0), bits(j, 11, 8), operand, carry);
            }
            return plain_immediate(i, j);
        default:
            if ((op2 & 0x71) == 0 || (op2 & 0x61) == 1) return load_store_single(i, j);
            if ((op2 & 0x70) == 0x20) return data_register(i, j);
            if ((op2 & 0x78) == 0x30) return multiply(i, j);
            if ((op2 & 0x78) == 0x38) return long_multiply(i, j);
            throw bit(op2, 6) ? usage(3) : usage(0);
    }
}

void ThumbCore::data_processing(uint32_t op, bool s, uint32_t n, uint32_t d, uint32_t operand, bool carry) {
    const uint32_t a = n == 15 ? 0 : r_[n];
    uint32_t result = 0;
    const bool compares = d == 15 && s && (op == 0 || op == 4 || op == 8 || op == 13);
    if (d == 15 && !compares) throw usage(0);
    switch (op) {
        case 0:
            result = a & operand;
            break;
        case 1:
            result = a & ~operand;
            break;
        case 2:
            result = a | operand;  // MOV, where there is no first operand
            break;
        case 3:
            result = a | ~operand;
            break;
        case 4:
            result = a ^ operand;
            break;
        case 8:
            result = add(a, operand, false, s);
            break;
        case 10:
            result = add(a, operand, c_, s);
            break;
        case 11:
            result = add(a, ~operand, c_, s);
            break;
        case 13:
            result = add(a, ~operand, true, s);
            break;
        case 14:
            result = add(~a, operand, true, s);
            break;
        default:
            throw usage(0);
    }
    if (s && op <= 4) {
        flags(result);
        c_ = carry;
    }
    if (!compares) put(d, result);
}

// A5.3.3.
void ThumbCore::plain_immediate(uint32_t i, uint32_t j) {
    const uint32_t n = bits(i, 3, 0), d = bits(j, 11, 8), imm12 = bits(i, 10, 10) << 11 | bits(j, 14, 12) << 8 | (j & 0xFF);
    const uint32_t low = bits(j, 14, 12) << 2 | bits(j, 7, 6), width = bits(j, 4, 0);
    if (d == 15) throw usage(0);
    switch (bits(i, 8, 4)) {
        case 0x00:
            return put(d, (n == 15 ? reg(15) & ~3u : r_[n]) + imm12);
        case 0x0A:
            return put(d, (n == 15 ? reg(15) & ~3u : r_[n]) - imm12);
        case 0x04:
            return put(d, n << 12 | imm12);
        case 0x0C:
            return put(d, (r_[d] & 0xFFFF) | (n << 12 | imm12) << 16);
        case 0x10:
        case 0x12:
        case 0x18:
        case 0x1A: {
            const bool is_signed = !bit(i, 7), halves = bit(i, 5) && low == 0;
            const unsigned wide = is_signed ? width + 1 : width;
            const int64_t high = (int64_t{1} << (is_signed ? wide - 1 : wide)) - 1, least = is_signed ? -high - 1 : 0;
            bool did = false, carry = c_;
            if (halves) {  // SSAT16, USAT16
                const auto a = static_cast<uint32_t>(saturated(half(r_[n], false), least, high, did)),
                           b = static_cast<uint32_t>(saturated(half(r_[n], true), least, high, did));
                put(d, (a & 0xFFFF) | b << 16);
            } else {
                const uint32_t operand = shift(r_[n], bit(i, 5) ? 2 : 0, low, carry);
                put(d, static_cast<uint32_t>(saturated(as_signed(operand), least, high, did)));
            }
            q_ = q_ || did;
            return;
        }
        case 0x14:
            if (low + width > 31) throw usage(0);
            return put(d, static_cast<uint32_t>(signed_of(r_[n] >> low, width + 1)));
        case 0x1C:
            if (low + width > 31) throw usage(0);
            return put(d, bits(r_[n], low + width, low));
        case 0x16: {
            if (width < low) throw usage(0);
            const uint32_t mask = ((2u << (width - low)) - 1) << low;
            return put(d, (r_[d] & ~mask) | ((n == 15 ? 0 : r_[n]) << low & mask));
        }
        default:
            throw usage(0);
    }
}

// A5.3.4.
void ThumbCore::branches_and_control(uint32_t i, uint32_t j) {
    const uint32_t op1 = bits(j, 14, 12), op = bits(i, 10, 4), s = bits(i, 10, 10);
    if ((op1 & 5) == 0) {
        if ((op & 0x38) != 0x38) {
            branched_ = Kind::jump;
            taken_ = passes(bits(i, 9, 6));
            const uint32_t offset = s << 20 | bits(j, 11, 11) << 19 | bits(j, 13, 13) << 18 | bits(i, 5, 0) << 12 | bits(j, 10, 0) << 1;
            if (taken_) next_ = reg(15) + static_cast<uint32_t>(signed_of(offset, 21));
            return;
        }
        if (op == 0x38) return special_write(r_[bits(i, 3, 0)], j & 0xFF, bits(j, 11, 10));
        if (op == 0x3A) return hint(bits(j, 10, 8) == 0 ? j & 0xFF : 0);
        if (op == 0x3B) {
            switch (bits(j, 7, 4)) {
                case 2:
                    exclusive_.reset();
                    return;
                case 4:
                case 5:
                    return;
                case 6:
                    branched_ = Kind::barrier;
                    return;
                default:
                    throw usage(0);
            }
        }
        if (op == 0x3E) return special_read(bits(j, 11, 8), j & 0xFF);
        throw usage(0);
    }
    const uint32_t i1 = bits(j, 13, 13) == s, i2 = bits(j, 11, 11) == s;
    const uint32_t target = reg(15) + static_cast<uint32_t>(signed_of(s << 24 | i1 << 23 | i2 << 22 | bits(i, 9, 0) << 12 | bits(j, 10, 0) << 1, 25));
    if ((op1 & 5) == 1) return branch(target, Kind::jump);
    if ((op1 & 5) != 5) throw usage(0);
    r_[14] = next_ | 1;
    branch(target, Kind::call);
}

// B5.2.2 and B5.2.3.
void ThumbCore::special_read(uint32_t d, uint32_t sysm) {
    uint32_t value = 0;
    const uint32_t x = xpsr();
    switch (sysm) {
        case 0:
        case 1:
        case 2:
        case 3:
            value = (sysm & 1) != 0 ? x & 0x1FF : 0;
            if ((sysm & 4) == 0) value |= x & 0xF80F0000;
            break;
        case 5:
            value = x & 0x1FF;
            break;
        case 8:
            value = read_register(17);
            break;
        case 9:
            value = read_register(18);
            break;
        case 16:
            value = primask_ ? 1 : 0;
            break;
        case 17:
        case 18:
            value = basepri_;
            break;
        case 19:
            value = faultmask_ ? 1 : 0;
            break;
        case 20:
            value = control_;
            break;
        default:
            break;
    }
    if (!privileged() && sysm >= 8 && sysm != 20) value = 0;
    put(d, value);
}

void ThumbCore::special_write(uint32_t value, uint32_t sysm, uint32_t mask) {
    attention_ = true;
    if (sysm <= 3) {
        const uint32_t x = xpsr();
        set_flags(((mask & 2) != 0 ? value & 0xF8000000 : x & 0xF8000000) | ((mask & 1) != 0 ? value & 0x000F0000 : x & 0x000F0000));
        return;
    }
    if (!privileged()) return;
    switch (sysm) {
        case 8:
            main_stack() = value & ~3u;
            break;
        case 9:
            process_stack() = value & ~3u;
            break;
        case 16:
            set_primask((value & 1) != 0);
            break;
        case 17:
            basepri_ = value & 0xF0;
            break;
        case 18:
            if ((value & 0xF0) != 0 && (basepri_ == 0 || (value & 0xF0) < basepri_)) basepri_ = value & 0xF0;
            break;
        case 19:
            if (level() > -1) faultmask_ = (value & 1) != 0;
            break;
        case 20:
            set_control(value);
            break;
        default:
            break;
    }
}

void ThumbCore::set_primask(bool is) {
    if (primask_ == is) return;
    primask_ = is;
    around_.masked(is);
}

// Loads and stores (A5.3.5 to A5.3.10) -----------------------------------------------------------------------------------

void ThumbCore::load_store_single(uint32_t i, uint32_t j) {
    const uint32_t n = bits(i, 3, 0), t = bits(j, 15, 12);
    const unsigned size = 1u << bits(i, 6, 5);
    const bool loads = bit(i, 4), is_signed = bit(i, 8);
    if (size == 8 || (!loads && (n == 15 || t == 15))) throw usage(0);
    uint32_t address = 0, base = 0;
    bool back = false;
    if (n == 15) {
        const uint32_t pc = reg(15) & ~3u, imm12 = j & 0xFFF;
        address = bit(i, 7) ? pc + imm12 : pc - imm12;
    } else if (bit(i, 7)) {
        address = r_[n] + (j & 0xFFF);
    } else if (bit(j, 11)) {
        const bool index = bit(j, 10), up = bit(j, 9);
        back = bit(j, 8);
        if (!index && !back) throw usage(0);
        base = up ? r_[n] + (j & 0xFF) : r_[n] - (j & 0xFF);
        address = index ? base : r_[n];
    } else if (bits(j, 10, 6) == 0) {
        address = r_[n] + (r_[bits(j, 3, 0)] << bits(j, 5, 4));
    } else {
        throw usage(0);
    }
    if (loads && t == 15 && size != 4) return;  // PLD, PLI and other hints
    if (!loads) {
        store(address, size, size == 4 ? r_[t] : r_[t] & ((1u << (8 * size)) - 1));
        if (back) put(n, base);
        return;
    }
    uint32_t value = load(address, size);
    if (is_signed) value = static_cast<uint32_t>(signed_of(value, 8 * size));
    if (t == 15) {
        branch_exchange(value, Kind::indirect);
        if (back) put(n, base);
        return;
    }
    if (back) put(n, base);
    put(t, value);
}

void ThumbCore::load_store_double(uint32_t i, uint32_t j) {
    const uint32_t n = bits(i, 3, 0), t = bits(j, 15, 12), t2 = bits(j, 11, 8), d = bits(j, 3, 0);
    const bool index = bit(i, 8), up = bit(i, 7), back = bit(i, 5), loads = bit(i, 4);
    const auto aligned = [](uint32_t address, unsigned size) {
        if (address % size != 0) throw usage(8);
        return address;
    };
    const auto exclusive = [&](unsigned size, uint32_t address, uint32_t into) {
        (void)aligned(address, size);
        if (loads) {
            r_[t] = load(address, size);
            exclusive_ = address;
            return;
        }
        const bool may = exclusive_ == address;
        exclusive_.reset();
        if (may) store(address, size, size == 4 ? r_[t] : r_[t] & ((1u << (8 * size)) - 1));
        r_[into] = may ? 0 : 1;
    };
    if (!index && !back) {
        if (!up) return exclusive(4, r_[n] + 4 * (j & 0xFF), t2);
        switch (bits(j, 7, 4)) {
            case 0:
            case 1: {
                if (!loads) throw usage(0);
                const bool wide = bit(j, 4);
                const uint32_t table = n == 15 ? reg(15) : r_[n];
                const uint32_t offset = load(wide ? table + 2 * r_[d] : table + r_[d], wide ? 2 : 1);
                return branch(reg(15) + 2 * offset, Kind::indirect);
            }
            case 4:
                return exclusive(1, r_[n], d);
            case 5:
                return exclusive(2, r_[n], d);
            default:
                throw usage(0);
        }
    }
    const uint32_t from = n == 15 ? reg(15) & ~3u : r_[n], base = up ? from + 4 * (j & 0xFF) : from - 4 * (j & 0xFF);
    const uint32_t address = aligned(index ? base : from, 4);
    if (loads) {
        const uint32_t first = load(address, 4), second = load(address + 4, 4);
        if (back) put(n, base);
        r_[t] = first;
        r_[t2] = second;
    } else {
        store(address, 4, r_[t]);
        store(address + 4, 4, r_[t2]);
        if (back) put(n, base);
    }
}

void ThumbCore::load_store_multiple(uint32_t i, uint32_t j) {
    const uint32_t n = bits(i, 3, 0), op = bits(i, 8, 7);
    const auto count = static_cast<uint32_t>(std::popcount(j & 0xFFFF));
    const bool loads = bit(i, 4), back = bit(i, 5);
    if ((op != 1 && op != 2) || n == 15 || count == 0) throw usage(0);
    const uint32_t from = op == 1 ? r_[n] : r_[n] - 4 * count, after = op == 1 ? r_[n] + 4 * count : from;
    if (from % 4 != 0) throw usage(8);
    uint32_t address = from;
    if (!loads) {
        for (unsigned k = 0; k < 15; ++k)
            if (bit(j, k)) store(std::exchange(address, address + 4), 4, r_[k]);
        if (back) put(n, after);
        return;
    }
    std::array<uint32_t, 16> values{};
    for (unsigned k = 0; k < 16; ++k)
        if (bit(j, k)) values[k] = load(std::exchange(address, address + 4), 4);
    if (bit(j, 15)) branch_exchange(values[15], Kind::indirect);
    if (back && !bit(j, n)) put(n, after);
    for (unsigned k = 0; k < 15; ++k)
        if (bit(j, k)) put(k, values[k]);
}

// Registers alone (A5.3.11 to A5.3.17) ---------------------------------------------------------------------------------

void ThumbCore::data_register(uint32_t i, uint32_t j) {
    const uint32_t op1 = bits(i, 7, 4), op2 = bits(j, 7, 4), n = bits(i, 3, 0), d = bits(j, 11, 8), m = bits(j, 3, 0);
    if (bits(j, 15, 12) != 15 || d == 15) throw usage(0);
    if (op1 < 8 && op2 == 0) {
        bool carry = c_;
        const uint32_t result = shift(r_[n], op1 >> 1, r_[m] & 0xFF, carry);
        if (bit(op1, 0)) {
            flags(result);
            c_ = carry;
        }
        return put(d, result);
    }
    if (op1 < 6 && op2 >= 8 && op2 < 12) {  // extend, and add
        const uint32_t v = std::rotr(r_[m], static_cast<int>(8 * bits(op2, 1, 0))), base = n == 15 ? 0 : r_[n];
        uint32_t result = 0;
        switch (op1) {
            case 0:
                result = base + static_cast<uint32_t>(half(v, false));
                break;
            case 1:
                result = base + (v & 0xFFFF);
                break;
            case 2:
            case 3: {
                const bool is_signed = op1 == 2;
                const uint32_t low = is_signed ? static_cast<uint32_t>(signed_of(v, 8)) : v & 0xFF,
                               high = is_signed ? static_cast<uint32_t>(signed_of(v >> 16, 8)) : v >> 16 & 0xFF;
                result = ((base + low) & 0xFFFF) | ((base >> 16) + high) << 16;
                break;
            }
            case 4:
                result = base + static_cast<uint32_t>(signed_of(v, 8));
                break;
            default:
                result = base + (v & 0xFF);
        }
        return put(d, result);
    }
    if (op1 < 8) throw usage(0);
    if (op2 < 8) return parallel(i, j);
    if (op2 >= 12) throw usage(0);
    const uint32_t a = r_[n], b = r_[m];
    bool did = false;
    switch (op1) {
        case 8: {  // QADD, QDADD, QSUB, QDSUB: the second operand comes first
            const int64_t twice = bit(op2, 0) ? as_signed(saturated32(int64_t{2} * as_signed(a), did)) : as_signed(a);
            put(d, saturated32(bit(op2, 1) ? as_signed(b) - twice : as_signed(b) + twice, did));
            q_ = q_ || did;
            return;
        }
        case 9:
            switch (op2) {
                case 8:
                    return put(d, __builtin_bswap32(b));
                case 9:
                    return put(d, (b & 0x00FF00FF) << 8 | (b >> 8 & 0x00FF00FF));
                case 10: {
                    uint32_t turned = 0;
                    for (unsigned k = 0; k < 32; ++k) turned |= (b >> k & 1) << (31 - k);
                    return put(d, turned);
                }
                default:
                    return put(d, static_cast<uint32_t>(half((b & 0xFF) << 8 | (b >> 8 & 0xFF), false)));
            }
        case 10: {  // SEL
            if (op2 != 8) throw usage(0);
            uint32_t result = 0;
            for (unsigned k = 0; k < 4; ++k) result |= (bit(ge_, k) ? a : b) & 0xFFu << (8 * k);
            return put(d, result);
        }
        case 11:
            if (op2 != 8) throw usage(0);
            return put(d, static_cast<uint32_t>(std::countl_zero(b)));
        default:
            throw usage(0);
    }
}

// A5.3.13 and A5.3.14: sums and differences of two halves or four bytes. Plain ones leave in GE which were not negative,
// or carried; saturating and halving ones do not.
void ThumbCore::parallel(uint32_t i, uint32_t j) {
    const uint32_t what = bits(i, 6, 4), how = bits(j, 5, 4), a = r_[bits(i, 3, 0)], b = r_[bits(j, 3, 0)];
    const bool is_unsigned = bit(j, 6);
    if (what == 3 || what == 7 || how == 3) throw usage(0);
    const bool bytes = (what & 3) == 0, crosswise = (what & 3) == 2;
    const unsigned wide = bytes ? 8 : 16, lanes = 32 / wide;
    const uint32_t mask = (1u << wide) - 1;
    const auto lane = [&](uint32_t value, unsigned k) {
        const uint32_t raw = value >> (wide * k) & mask;
        return is_unsigned ? static_cast<int32_t>(raw) : signed_of(raw, wide);
    };
    uint32_t result = 0;
    unsigned ge = 0;
    for (unsigned k = 0; k < lanes; ++k) {
        // ASX: the difference below, the sum above; SAX the other way about.
        const bool subtracts = crosswise ? (what == 2) == (k == 0) : what >= 4;
        const int32_t x = lane(a, k), y = lane(b, crosswise ? 1 - k : k), sum = subtracts ? x - y : x + y;
        int64_t out = sum;
        bool did = false;
        if (how == 1)
            out = is_unsigned ? saturated(sum, 0, mask, did) : saturated(sum, -(int64_t{1} << (wide - 1)), (int64_t{1} << (wide - 1)) - 1, did);
        else if (how == 2)
            out = sum >> 1;
        result |= (static_cast<uint32_t>(out) & mask) << (wide * k);
        const bool set = is_unsigned && !subtracts ? sum > static_cast<int32_t>(mask) : sum >= 0;
        if (set) ge |= (bytes ? 1u : 3u) << (bytes ? k : 2 * k);
    }
    if (how == 0) ge_ = ge;
    put(bits(j, 11, 8), result);
}

// A5.3.16.
void ThumbCore::multiply(uint32_t i, uint32_t j) {
    const uint32_t a = r_[bits(i, 3, 0)], b = r_[bits(j, 3, 0)], d = bits(j, 11, 8), c = bits(j, 15, 12);
    const bool n_top = bit(j, 5), m_top = bit(j, 4);
    const int64_t acc = c == 15 ? 0 : as_signed(r_[c]);
    const bool subtracts = bits(i, 6, 4) == 6 || (bits(i, 6, 4) == 0 && m_top);
    if (d == 15 || (subtracts && c == 15) || (n_top && bits(i, 6, 4) != 1) || (m_top && bits(i, 6, 4) == 7)) throw usage(0);
    const auto sum = [&](int64_t value) {  // into Q goes that it did not fit
        const int64_t all = value + acc;
        if (all != static_cast<int32_t>(all)) q_ = true;
        put(d, static_cast<uint32_t>(all));
    };
    switch (bits(i, 6, 4)) {
        case 0:
            if (m_top) return put(d, static_cast<uint32_t>(acc) - a * b);
            return put(d, a * b + static_cast<uint32_t>(acc));
        case 1:
            return sum(int64_t{half(a, n_top)} * half(b, m_top));
        case 2:
        case 4: {
            const int64_t low = int64_t{half(a, false)} * half(b, m_top), high = int64_t{half(a, true)} * half(b, !m_top);
            return sum(bits(i, 6, 4) == 2 ? low + high : low - high);
        }
        case 3:
            return sum(int64_t{as_signed(a)} * half(b, m_top) >> 16);
        case 5:
        case 6: {
            const int64_t product = int64_t{as_signed(a)} * as_signed(b);
            const uint64_t all = static_cast<uint64_t>(acc) * (uint64_t{1} << 32) + (bits(i, 6, 4) == 5 ? static_cast<uint64_t>(product) : ~static_cast<uint64_t>(product) + 1) + (m_top ? 0x80000000u : 0u);
            return put(d, static_cast<uint32_t>(all >> 32));
        }
        default: {
            uint32_t all = static_cast<uint32_t>(acc);
            for (unsigned k = 0; k < 4; ++k) {
                const int32_t x = static_cast<int32_t>(a >> (8 * k) & 0xFF), y = static_cast<int32_t>(b >> (8 * k) & 0xFF);
                all += static_cast<uint32_t>(x < y ? y - x : x - y);
            }
            return put(d, all);
        }
    }
}

// A5.3.17.
void ThumbCore::long_multiply(uint32_t i, uint32_t j) {
    const uint32_t a = r_[bits(i, 3, 0)], b = r_[bits(j, 3, 0)], low = bits(j, 15, 12), high = bits(j, 11, 8), op2 = bits(j, 7, 4);
    const uint64_t acc = uint64_t{r_[high]} << 32 | r_[low];
    const auto pair = [&](uint64_t value) {
        r_[low] = static_cast<uint32_t>(value);
        r_[high] = static_cast<uint32_t>(value >> 32);
    };
    const auto product = static_cast<uint64_t>(int64_t{as_signed(a)} * as_signed(b));
    switch (bits(i, 6, 4) << 4 | op2) {
        case 0x00:
            return pair(product);
        case 0x1F:
        case 0x3F: {
            if (low != 15) throw usage(0);
            cost_ += 5;
            if (b == 0 && system_.divide_by_zero_faults()) throw usage(9);
            if (bits(i, 6, 4) == 3) return put(high, b == 0 ? 0 : a / b);
            return put(high, b == 0 ? 0 : static_cast<uint32_t>(int64_t{as_signed(a)} / as_signed(b)));
        }
        case 0x20:
            return pair(uint64_t{a} * b);
        case 0x40:
            return pair(acc + product);
        case 0x48:
        case 0x49:
        case 0x4A:
        case 0x4B:
            return pair(acc + static_cast<uint64_t>(int64_t{half(a, bit(op2, 1))} * half(b, bit(op2, 0))));
        case 0x4C:
        case 0x4D:
        case 0x5C:
        case 0x5D: {
            const bool crossed = bit(op2, 0);
            const int64_t first = int64_t{half(a, false)} * half(b, crossed), second = int64_t{half(a, true)} * half(b, !crossed);
            return pair(acc + static_cast<uint64_t>(bit(i, 4) ? first - second : first + second));
        }
        case 0x60:
            return pair(acc + uint64_t{a} * b);
        case 0x66:
            return pair(uint64_t{a} * b + r_[low] + r_[high]);
        default:
            throw usage(0);
    }
}

}  // namespace board
