#include "replay/arm_core.h"

#include <algorithm>
#include <bit>
#include <utility>

#include "base/bits.h"

namespace mt {

using namespace arm;

namespace {

constexpr std::uint32_t kAll = 0xFFFF'FFFF;

}  // namespace

ArmCore::ArmCore(std::shared_ptr<const Code> code, PastMemory memory, bool shared)
    : code_(std::move(code)),
      fetched_(std::make_shared<std::vector<Fetched>>(code_->slot_count())),
      conditions_(std::make_shared<std::vector<std::uint8_t>>(code_->slot_count())),
      memory_(std::move(memory)),
      shared_(shared) {
    for (unsigned n = 0; n < r_.size(); ++n) r_[n].origin = Known::origin_of(Known::kNever, kLost, n);
}

void ArmCore::resolve_registers() {
    for (Known& r : r_) memory_.resolve(r, kAll);
}

void ArmCore::set(unsigned rd, const Known& value, std::uint64_t step) {
    Known v = value;
    v.value = v.known ? v.value & kAll : 0;
    v.set_at = step;
    if (rd == 13) return set_sp(v);
    if (!v.known && v.origin == 0) v.origin = Known::origin_of(step, kind_, rd);
    memory_.resolve(v, kAll);
    r_[rd] = v;
}

Known ArmCore::read(unsigned n, std::uint32_t pc) const {
    if (n == 15) return known(pc + 4);
    return n == 13 ? sp() : r_[n];
}

void ArmCore::set_nz(const Known& value) {
    flags_.put(ConditionFlags::kN, value.known ? std::optional((value.value >> 31 & 1) != 0) : std::nullopt);
    flags_.put(ConditionFlags::kZ, value.known ? std::optional((value.value & kAll) == 0) : std::nullopt);
}

void ArmCore::set_carry(const Known& carry) {
    flags_.put(ConditionFlags::kC, carry.known ? std::optional(carry.value != 0) : std::nullopt);
}

void ArmCore::lose_registers(std::uint64_t step) {
    for (unsigned n = 0; n < r_.size(); ++n) {
        r_[n] = {0, false, step};
        r_[n].origin = Known::origin_of(step, kLost, n);
    }
    flags_ = {};
    unsure_ = 4;
    fork_.condition = Fork::kNone;
    memory_.forget(step);
}

Known ArmCore::load(const Known& address, unsigned bytes, bool with_its_sign, bool by_stack) {
    const Known any = with_its_sign || bytes > 2 ? Known{} : Known::between(0, bytes == 1 ? 0xFF : 0xFFFF);
    if (!address.known || (shared_ && !by_stack && !memory_.is_constant(address.value, bytes))) return any;
    Known v = bytes == 4 ? memory_.load(address.value, 4, now_, kind_) : memory_.read(address.value, bytes);
    if (!v.known) return bytes == 4 ? v : any;
    if (with_its_sign) v.value = extended(v.value, bytes);
    return v;
}

void ArmCore::store(const Known& address, unsigned bytes, const Known& value, bool by_stack, std::uint64_t step) {
    if (!address.known) {
        const bool may_be_bits = bit_bands_ && address.low < 0x2400'0000 && address.high >= 0x2200'0000;
        return may_be_bits ? memory_.forget(step) : memory_.forget(address, bytes, step);
    }
    if (by_stack) memory_.note_stack(address.value);
    constexpr std::uint64_t kFpContextControl = 0xE000'EF34;
    if (address.value == kFpContextControl) fp_automatic_ = value.known && bytes == 4 && !doubtful_ ? std::optional((value.value >> 31 & 1) != 0) : std::nullopt;
    if (bit_bands_ && (address.value & 0xFE00'0000) == 0x2200'0000) {  // B3.1: bits of the memory below, where there is bit-banding
        const std::uint64_t byte = 0x2000'0000 + (address.value & 0x01FF'FFFF) / 32;
        return memory_.forget(Known::between(byte, byte), 1, step);
    }
    if (doubtful_) return memory_.forget(Known::between(address.value, address.value), bytes, step);
    memory_.write(address.value, bytes, value, step);
}

// A2.2.1 AddWithCarry.
Known ArmCore::add(const Known& a, const Known& b, const Known& carry, bool set_flags) {
    if (!a.known || !b.known || !carry.known) {
        if (set_flags) flags_ = {};
        return carry.known ? bounds_of_sum(a, b, carry.value) : Known{};
    }
    const std::uint64_t sum = (a.value & kAll) + (b.value & kAll) + carry.value;
    const Known out = known(sum);
    if (set_flags) {
        set_nz(out);
        set_carry(flag(sum > kAll));
        const std::uint64_t overflow = ~(a.value ^ b.value) & (a.value ^ out.value);
        flags_.put(ConditionFlags::kV, (overflow >> 31 & 1) != 0);
    }
    return out;
}

// A7.4.2; type 0 LSL, 1 LSR, 2 ASR, 3 ROR, 4 RRX. An amount of 0 leaves value and carry.
ArmCore::Shifted ArmCore::shift(const Known& value, unsigned type, const Known& amount, const Known& carry) {
    if (!amount.known) return {};
    const unsigned n = static_cast<unsigned>(amount.value);
    if (type == 4)
        return {value.known && carry.known ? known(carry.value << 31 | value.value >> 1) : Known{},
                value.known ? flag((value.value & 1) != 0) : Known{}};
    if (n == 0) return {value, carry};
    if (!value.known) {
        if (type < 2 && n > 32) return {known(0), flag(false)};
        if (type < 2 && n == 32) return {known(0), {}};
        if (type == 1) return {Known::between(value.least() >> n, value.most() >> n), {}};
        if (type == 0 && n < 32 && value.most() << n >> 32 == 0)
            return {Known::between(value.least() << n, value.most() << n), {}};
        return {};
    }
    const std::uint64_t v = value.value & kAll;
    switch (type) {
        case 0:
            return {n < 32 ? known(v << n) : known(0), flag(n <= 32 && (v >> (32 - n) & 1) != 0)};
        case 1:
            return {n < 32 ? known(v >> n) : known(0), flag(n <= 32 && (v >> (n - 1) & 1) != 0)};
        case 2: {
            const auto s = static_cast<std::int64_t>(static_cast<std::int32_t>(static_cast<std::uint32_t>(v)));
            const unsigned by = n < 32 ? n : 32;
            return {known(static_cast<std::uint64_t>(s >> by)), flag((s >> (by - 1) & 1) != 0)};
        }
        default: {
            const std::uint32_t turned = std::rotr(static_cast<std::uint32_t>(v), static_cast<int>(n % 32));
            return {known(turned), flag((turned >> 31) != 0)};
        }
    }
}

// op 0 AND, 1 EOR, 2 ORR, 3 ORN, 4 BIC, 5 MOV, 6 MVN; rd 16: for its flags alone.
void ArmCore::logic(unsigned op, unsigned rd, const Known& a, const Shifted& b, bool set_flags, std::uint64_t step) {
    Known out;
    const Known& y = b.value;
    if (op == 5 || op == 6) {
        if (y.known) out = known(op == 5 ? y.value : ~y.value);
        if (!y.known && op == 5) {
            out = y;
            out.set_at = Known::kNever;
        }
    } else if (a.known && y.known) {
        const std::uint64_t v[] = {a.value & y.value, a.value ^ y.value, a.value | y.value, a.value | ~y.value, a.value & ~y.value};
        out = known(v[op]);
    } else if (op == 0 && ((a.known && a.value == 0) || (y.known && y.value == 0))) {
        out = known(0);
    } else if (op == 4 && ((a.known && a.value == 0) || (y.known && y.value == kAll))) {
        out = known(0);
    } else if (op == 0) {
        out = Known::between(0, std::min(a.most(), y.most()));
    } else if (op == 2 && ((a.known && a.value == kAll) || (y.known && y.value == kAll))) {
        out = known(kAll);
    }
    if (set_flags) {
        set_nz(out);
        set_carry(b.carry);
    }
    if (rd < 15) set(rd, out, step);
}

bool ArmCore::calculate(unsigned op, unsigned rd, unsigned rn, const Shifted& b, bool set_flags, std::uint32_t pc,
                             std::uint64_t step) {
    const Known a = rn == 15 && op != 2 && op != 3 ? known(pc + 4) : read(rn, pc);
    const Known inverse = b.value.known ? known(~b.value.value) : Known{};
    const unsigned to = rd == 15 ? 16 : rd;
    const auto sum = [&](const Known& x, const Known& y, const Known& carry) {
        const Known out = add(x, y, carry, set_flags);
        if (to < 15) set(to, out, step);
    };
    switch (op) {
        case 0:
            logic(0, to, a, b, set_flags, step);
            return true;
        case 1:
            logic(4, to, a, b, set_flags, step);
            return true;
        case 2:
            logic(rn == 15 ? 5 : 2, to, a, b, set_flags, step);
            return true;
        case 3:
            logic(rn == 15 ? 6 : 3, to, a, b, set_flags, step);
            return true;
        case 4:
            logic(1, to, a, b, set_flags, step);
            return true;
        case 8:
            sum(a, b.value, known(0));
            return true;
        case 10:
            sum(a, b.value, carry());
            return true;
        case 11:
            sum(a, inverse, carry());
            return true;
        case 13:
            if (rn == rd && !b.value.known) break;
            sum(a, inverse, known(1));
            return true;
        case 14:
            sum(a.known ? known(~a.value) : Known{}, b.value, known(1));
            return true;
        default:
            break;
    }
    if (op == 13) {
        sum(a, inverse, known(1));
        return true;
    }
    return false;
}

void ArmCore::take_registers(Registers& into) {
    into.r = r_;
    const auto stacks = stack_pointers();
    for (std::size_t s = 0; s < stacks.size(); ++s)
        if (stacks[s] != nullptr) into.stacks[s] = *stacks[s];
}

void ArmCore::put_registers(const Registers& all) {
    r_ = all.r;
    const auto stacks = stack_pointers();
    for (std::size_t s = 0; s < stacks.size(); ++s)
        if (stacks[s] != nullptr) *stacks[s] = all.stacks[s];
}

// What is the same in both stays known.
void ArmCore::merge(const Registers& one, const Registers& other, std::uint64_t step) {
    const auto merged = [step](const Known& a, const Known& b) {
        if (a.known == b.known && a.value == b.value && (a.known || a.set_at == b.set_at)) {
            Known same = a;
            if (b.set_at == Known::kNever || (a.set_at != Known::kNever && b.set_at < a.set_at)) same.set_at = b.set_at;
            return same;
        }
        Known k = either(a, b);
        k.set_at = step;
        return k;
    };
    for (unsigned n = 0; n < r_.size(); ++n) {
        r_[n] = merged(one.r[n], other.r[n]);
        if (!r_[n].known && r_[n].origin == 0) r_[n].origin = Known::origin_of(step, kMerged, n);
    }
    const auto stacks = stack_pointers();
    for (std::size_t s = 0; s < stacks.size(); ++s)
        if (stacks[s] != nullptr) *stacks[s] = merged(one.stacks[s], other.stacks[s]);
}

// One instruction, under its condition.
void ArmCore::execute_one(std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    now_ = step;
    kind_ = kExecuted;
    last_ = slot;
    Fetched& f = (*fetched_)[slot];
    if (f.size == 0) {
        const std::uint32_t word = code_->bits(slot);
        const bool arm = code_->isa(slot) == Isa::arm, wide = (*code_)[slot].size == 2;
        f = {arm ? word : wide ? word << 16 | word >> 16 : word & 0xFFFF, static_cast<std::uint32_t>(code_->address(slot)),
             (*code_)[slot].size, arm, decides((*code_)[slot].flow, (*code_)[slot].flags)};
    }
    const std::uint32_t i = f.word;
    // IT (A7.7.38): the instructions behind it, and under which condition each runs.
    if (f.size == 1 && (i & 0xFF00) == 0xBF00 && (i & 0xF) != 0) {
        std::uint32_t at = code_->next(slot);
        for (unsigned it = i & 0xFF; at < code_->slot_count(); it = (it & 0xE0) | (it << 1 & 0x1F)) {
            (*conditions_)[at] = static_cast<std::uint8_t>(1 + (it >> 4));
            at = code_->next(at);
            if ((it & 7) == 0) break;
        }
        unsure_ = 0;
        return;
    }
    const std::uint8_t in_it = f.arm ? 0 : (*conditions_)[slot];
    const unsigned condition = f.arm ? i >> 28 : in_it != 0 ? in_it - 1u : 14;
    std::optional<bool> runs = condition < 14 ? flags_.passes(condition) : std::optional(true);
    if (f.arm) {
        unsure_ = 0;
    } else if (in_it == 0 && unsure_ > 0) {
        --unsure_;
        runs.reset();
    }
    // Whether one that goes elsewhere did so is told by what ran next.
    if (condition < 14 && f.decides && next != Code::kNowhere) {
        const std::uint32_t on = code_->next(slot), to = (*code_)[slot].target;
        if (on != to) {
            runs = next != on;
            flags_.learn(condition, *runs);
        }
    }
    const auto body = [&] { return f.arm ? a32(i, f.pc + 4, slot, step, next) : f.size == 2 ? wide(i, f.pc, step, next) : narrow(i, f.pc, slot, step, next, in_it != 0); };
    if (runs == false) return;
    bool good = true;
    if (runs) {
        fork_.condition = Fork::kNone;
        good = body();
    } else {
        // Done or not: what is the same either way stays known. A jump that was not taken went on straight.
        const unsigned holds = condition & ~1u;
        const bool apart = fork_.condition == holds && condition < 14;
        if (!apart) {
            fork_.condition = holds;
            take_registers(fork_.held);
            fork_.failed = fork_.held;
        }
        Registers& side = (condition & 1) == 0 ? fork_.held : fork_.failed;
        if (apart) put_registers(side);
        const ConditionFlags flags = flags_;
        flags_.untouched = true;
        doubtful_ = true;
        good = body();
        doubtful_ = false;
        if (good && fork_.condition == Fork::kNone) return;  // all is lost already
        if (good && changed_mode()) return lose(step);
        if (good) {
            take_registers(side);
            merge(fork_.held, fork_.failed, step);
            if (!flags_.untouched || condition >= 14) fork_.condition = Fork::kNone;
            flags_ = ConditionFlags::merged(flags_, flags);
        }
    }
    if (good) return;
    ++strange_;
    lose(step);
}

// A5.2
bool ArmCore::narrow(std::uint32_t i, std::uint32_t pc, std::uint32_t slot, std::uint64_t step, std::uint32_t next,
                          bool in_it) {
    const unsigned low = i & 7, mid = bits(i, 5, 3), up = bits(i, 10, 8);
    const bool flags = !in_it;
    const auto immediate = [](std::uint32_t v) { return known(v); };
    switch (i >> 11) {
        case 0:
        case 1:
        case 2: {  // shifts by a number; by 0: LSR and ASR by 32, LSL a move
            const unsigned type = i >> 11, n = bits(i, 10, 6);
            const Shifted s = shift(r_[mid], type, known(type != 0 && n == 0 ? 32 : n), carry());
            logic(5, low, {}, s, flags, step);
            return true;
        }
        case 3: {  // ADD, SUB of three
            const Known b = (i >> 10 & 1) != 0 ? immediate(bits(i, 8, 6)) : r_[bits(i, 8, 6)];
            const bool minus = (i >> 9 & 1) != 0;
            const Known y = !minus ? b : b.known ? known(~b.value) : Known{};
            set(low, add(r_[mid], y, known(minus ? 1 : 0), flags), step);
            return true;
        }
        case 4:
            logic(5, up, {}, {immediate(i & 0xFF), carry()}, flags, step);
            return true;
        case 5:
            (void)add(r_[up], known(~(i & 0xFF)), known(1), true);
            return true;
        case 6:
            set(up, add(r_[up], immediate(i & 0xFF), known(0), flags), step);
            return true;
        case 7:
            set(up, add(r_[up], known(~(i & 0xFF)), known(1), flags), step);
            return true;
        case 8: {
            if ((i >> 10 & 1) == 0) {  // A5.2.2
                const Known a = r_[low], b = r_[mid];
                const auto inverse = [](const Known& v) { return v.known ? known(~v.value) : Known{}; };
                const auto by = [&](unsigned type) {
                    const Known amount = b.known ? known(b.value & 0xFF) : Known{};
                    logic(5, low, {}, shift(a, type, amount, carry()), flags, step);
                };
                switch (bits(i, 9, 6)) {
                    case 0:
                        logic(0, low, a, {b, carry()}, flags, step);
                        return true;
                    case 1:
                        logic(1, low, a, {low == mid ? a : b, carry()}, flags, step);
                        return true;
                    case 2:
                        by(0);
                        return true;
                    case 3:
                        by(1);
                        return true;
                    case 4:
                        by(2);
                        return true;
                    case 5:
                        set(low, add(a, b, carry(), flags), step);
                        return true;
                    case 6:
                        set(low, add(a, inverse(b), carry(), flags), step);
                        return true;
                    case 7:
                        by(3);
                        return true;
                    case 8:
                        logic(0, 16, a, {b, carry()}, true, step);
                        return true;
                    case 9:
                        set(low, add(inverse(b), known(0), known(1), flags), step);
                        return true;
                    case 10:
                        (void)add(a, inverse(b), known(1), true);
                        return true;
                    case 11:
                        (void)add(a, b, known(0), true);
                        return true;
                    case 12:
                        logic(2, low, a, {b, carry()}, flags, step);
                        return true;
                    case 13: {
                        const Known out = a.known && b.known ? known(a.value * b.value) : Known{};
                        if (flags) set_nz(out);
                        set(low, out, step);
                        return true;
                    }
                    case 14:
                        logic(4, low, a, {b, carry()}, flags, step);
                        return true;
                    default:
                        logic(6, low, a, {b, carry()}, flags, step);
                        return true;
                }
            }
            // A5.2.3: high registers
            const unsigned rd = (i >> 4 & 8) | low, rm = bits(i, 6, 3);
            const Known b = read(rm, pc);
            switch (bits(i, 9, 8)) {
                case 0:
                    if (rd == 15) return true;
                    set(rd, add(read(rd, pc), b, known(0), false), step);
                    return true;
                case 1:
                    (void)add(read(rd, pc), b.known ? known(~b.value) : Known{}, known(1), true);
                    return true;
                case 2:
                    if (rd == 15)
                        jump(b, step, next);
                    else
                        set(rd, b, step);
                    return true;
                default:
                    if ((i >> 7 & 1) != 0)
                        set(14, known((pc + 2) | 1), step);
                    else
                        jump(b, step, next);
                    return true;
            }
        }
        case 9:
            set(up, load(known(((pc + 4) & ~3u) + 4 * (i & 0xFF)), 4, false, false), step);
            return true;
        case 10:
        case 11: {  // by a register
            const Known at = add(r_[mid], r_[bits(i, 8, 6)], known(0), false);
            static constexpr struct {
                unsigned bytes;
                bool store, sign;
            } kOf[] = {{4, true, false}, {2, true, false},  {1, true, false},  {1, false, true},
                       {4, false, false}, {2, false, false}, {1, false, false}, {2, false, true}};
            const auto& of = kOf[bits(i, 11, 9)];
            if (of.store)
                store(at, of.bytes, r_[low], false, step);
            else
                set(low, load(at, of.bytes, of.sign, false), step);
            return true;
        }
        case 12:
        case 13:
        case 14:
        case 15:
        case 16:
        case 17: {
            const unsigned kind = (i >> 12) - 6, bytes = kind == 0 ? 4 : kind == 1 ? 1 : 2;
            const Known at = offset(r_[mid], bits(i, 10, 6) * bytes);
            if ((i >> 11 & 1) == 0)
                store(at, bytes, r_[low], false, step);
            else
                set(low, load(at, bytes, false, false), step);
            return true;
        }
        case 18:
            store(offset(sp(), 4 * (i & 0xFF)), 4, r_[up], true, step);
            return true;
        case 19:
            set(up, load(offset(sp(), 4 * (i & 0xFF)), 4, false, true), step);
            return true;
        case 20:
            set(up, known(((pc + 4) & ~3u) + 4 * (i & 0xFF)), step);
            return true;
        case 21:
            set(up, offset(sp(), 4 * (i & 0xFF)), step);
            return true;
        case 22:
        case 23: {  // A5.2.5
            if ((i & 0xFF00) == 0xB000) {
                const std::int64_t by = 4 * static_cast<std::int64_t>(i & 0x7F);
                set(13, offset(sp(), (i >> 7 & 1) != 0 ? -by : by), step);
                return true;
            }
            if ((i & 0xF500) == 0xB100) {  // CBZ, CBNZ
                const std::uint32_t on = code_->next(slot), to = (*code_)[slot].target;
                if (next == Code::kNowhere || on == to || (next != on && next != to)) return true;
                if ((next == to) == ((i >> 11 & 1) == 0) && !r_[low].known) {
                    memory_.learn(r_[low], 0);
                    r_[low].value = 0;
                    r_[low].known = true;
                    resolve_registers();  // copies of it
                }
                return true;
            }
            if ((i & 0xFF00) == 0xB200) {  // SXTH, SXTB, UXTH, UXTB
                const unsigned kind = bits(i, 7, 6), bytes = (kind & 1) == 0 ? 2 : 1;
                const Known v = r_[mid];
                const std::uint32_t mask = bytes == 2 ? 0xFFFF : 0xFF;
                const Known any = kind < 2 ? Known{} : Known::between(0, std::min<std::uint64_t>(mask, v.most()));
                set(low, v.known ? known(kind < 2 ? extended(v.value & mask, bytes) : v.value & mask)
                         : v.most() <= mask && kind >= 2 ? Known::between(v.least(), v.most()) : any, step);
                return true;
            }
            if ((i & 0xFE00) == 0xB400) return multiple((i & 0xFF) | (i >> 8 & 1) << 14, 13, false, true, false, true, step, next);
            if ((i & 0xFE00) == 0xBC00) return multiple((i & 0xFF) | (i >> 8 & 1) << 15, 13, true, false, true, true, step, next);
            if ((i & 0xFF00) == 0xBA00) {  // REV, REV16, REVSH
                const Known v = r_[mid];
                const auto x = static_cast<std::uint32_t>(v.value);
                const std::uint32_t halves = (x >> 8 & 0x00FF'00FF) | (x & 0x00FF'00FF) << 8;
                const unsigned kind = bits(i, 7, 6);
                if (kind == 2) return false;
                set(low, !v.known ? Known{} : known(kind == 0 ? std::rotr(halves, 16) : kind == 1 ? halves : extended(halves & 0xFFFF, 2)), step);
                return true;
            }
            if ((i & 0xFFE0) == 0xB660 || (i & 0xFFE0) == 0xB640) return change_state(i, step);  // CPS, SETEND
            if ((i & 0xFF00) == 0xBF00 || (i & 0xFF00) == 0xBE00) return true;  // hints, BKPT
            return false;
        }
        case 24:
            return multiple(i & 0xFF, up, false, false, true, true, step, next);
        case 25:
            return multiple(i & 0xFF, up, true, false, true, (i >> up & 1) == 0, step, next);
        case 26:
        case 27: {  // B<c>, SVC
            const unsigned condition = bits(i, 11, 8);
            if (condition >= 14) return condition == 15;
            const std::uint32_t on = code_->next(slot), to = (*code_)[slot].target;
            if (next != Code::kNowhere && on != to && (next == on || next == to)) flags_.learn(condition, next == to);
            return true;
        }
        case 28:
            return true;
        default:
            return false;
    }
}

// LDM, STM, PUSH, POP. `list`: bit n for register n.
bool ArmCore::multiple(std::uint32_t list, unsigned rn, bool loads, bool before, bool up, bool writes_back,
                            std::uint64_t step, std::uint32_t next) {
    const bool by_stack = rn == 13;
    const Known base = read(rn, 0);
    const int n = std::popcount(list);
    Known at = up ? offset(base, before ? 4 : 0) : offset(base, -4 * n + (before ? 0 : 4));
    const Known after = offset(base, up ? 4 * n : -4 * n);
    if (!loads && !base.known) memory_.forget(at, static_cast<unsigned>(4 * n), step);
    std::optional<Known> to;
    if (loads && writes_back) set(rn, after, step);
    for (unsigned r = 0; r < 16; ++r) {
        if ((list >> r & 1) == 0) continue;
        if (loads) {
            if (by_stack && at.known) memory_.note_stack(at.value);
            const Known v = load(at, 4, false, by_stack);
            if (r == 15)
                to = v;
            else
                set(r, v, step);
        } else if (base.known) {
            store(at, 4, r == 15 ? Known{} : read(r, 0), by_stack, step);
        }
        at = offset(at, 4);
    }
    if (!loads && writes_back) set(rn, after, step);
    if (to) jump(*to, step, next);
    return true;
}

// A5.3. The first halfword stands on top.
bool ArmCore::wide(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next) {
    const unsigned op1 = bits(i, 28, 27), op2 = bits(i, 26, 20), rn = bits(i, 19, 16), rd = bits(i, 11, 8), rm = i & 15;
    if (op1 == 1) {
        if ((op2 & 0x64) == 0) {  // LDM, STM
            const unsigned kind = bits(i, 24, 23);
            if (kind != 1 && kind != 2) return frames(i, step);
            return multiple(i & 0xFFFF, rn, (i >> 20 & 1) != 0, kind == 2, kind == 1, (i >> 21 & 1) != 0, step, next);
        }
        if ((op2 & 0x64) == 4) return dual(i, pc, step);
        if ((op2 & 0x60) == 0x20) {  // A5.3.11: a register, shifted
            const unsigned amount = bits(i, 14, 12) << 2 | bits(i, 7, 6), type = bits(i, 5, 4);
            const Known v = read(rm, pc);
            const Shifted b = type == 3 && amount == 0 ? shift(v, 4, known(1), carry())
                                                       : shift(v, type, known((type == 1 || type == 2) && amount == 0 ? 32 : amount), carry());
            const unsigned op = bits(i, 24, 21);
            if (op == 6) {  // PKH
                const Known a = read(rn, pc);
                const std::uint64_t x = b.value.value, y = a.value;
                const bool top_first = (i >> 5 & 1) != 0;
                set(rd, a.known && b.value.known ? known(top_first ? (y & 0xFFFF0000) | (x & 0xFFFF) : (x & 0xFFFF0000) | (y & 0xFFFF)) : Known{}, step);
                return true;
            }
            return calculate(op, rd, rn, b, (i >> 20 & 1) != 0, pc, step);
        }
        return coprocessor(i, step);
    }
    if (op1 == 2) {
        if ((i >> 15 & 1) != 0) {  // A5.3.4
            if ((i >> 14 & 1) != 0) {  // BL, BLX
                set(14, known((pc + 4) | 1), step);
                return true;
            }
            if ((i >> 12 & 1) != 0) return true;                   // B
            if ((op2 & 0x38) != 0x38) {                            // B<c>: its way is told by what runs next
                return true;
            }
            return special(i, pc, step);
        }
        const std::uint32_t imm12 = bits(i, 26, 26) << 11 | bits(i, 14, 12) << 8 | (i & 0xFF);
        if ((op2 & 0x20) == 0) {  // A5.3.1: an immediate, modified (A5.3.2)
            Shifted b;
            if ((imm12 >> 10) == 0) {
                const std::uint32_t v = imm12 & 0xFF;
                const std::uint32_t spread[] = {v, v << 16 | v, v << 24 | v << 8, v << 24 | v << 16 | v << 8 | v};
                b = {known(spread[imm12 >> 8 & 3]), carry()};
            } else {
                const std::uint32_t v = std::rotr(0x80u | (imm12 & 0x7F), static_cast<int>(imm12 >> 7));
                b = {known(v), flag((v >> 31) != 0)};
            }
            return calculate(bits(i, 24, 21), rd, rn, b, (i >> 20 & 1) != 0, pc, step);
        }
        const std::uint32_t imm16 = rn << 12 | imm12;
        const unsigned lsb = bits(i, 14, 12) << 2 | bits(i, 7, 6), width = (i & 31);
        const Known a = read(rn, pc);
        switch (op2 & 0x1F) {  // A5.3.3
            case 0:
                set(rd, rn == 15 ? known(((pc + 4) & ~3u) + imm12) : offset(a, imm12), step);
                return true;
            case 4:
                set(rd, known(imm16), step);
                return true;
            case 10:
                set(rd, rn == 15 ? known(((pc + 4) & ~3u) - imm12) : offset(a, -static_cast<std::int64_t>(imm12)), step);
                return true;
            case 12: {
                const Known old = read(rd, pc);
                set(rd, old.known ? known((old.value & 0xFFFF) | std::uint64_t{imm16} << 16) : Known{}, step);
                return true;
            }
            case 20: {  // SBFX
                if (!a.known) return set(rd, {}, step), true;
                const std::uint64_t v = a.value >> lsb & ((std::uint64_t{2} << width) - 1);
                set(rd, known((v >> width & 1) != 0 ? v | ~((std::uint64_t{2} << width) - 1) : v), step);
                return true;
            }
            case 28:  // UBFX
                set(rd, a.known ? known(a.value >> lsb & ((std::uint64_t{2} << width) - 1)) : Known::between(0, (std::uint64_t{2} << width) - 1), step);
                return true;
            case 22: {  // BFI, BFC
                if (width < lsb) return false;
                const std::uint64_t mask = ((std::uint64_t{2} << (width - lsb)) - 1) << lsb;
                const Known old = read(rd, pc), from = rn == 15 ? known(0) : a;
                set(rd, old.known && from.known ? known((old.value & ~mask) | (from.value << lsb & mask)) : Known{}, step);
                return true;
            }
            case 16:
            case 18:  // SSAT: the value alone
                set(rd, {}, step);
                return true;
            case 24:
            case 26: {  // USAT; USAT16 of two halves
                const bool halves = (op2 & 0x1F) == 26 && lsb == 0;
                const std::uint64_t most = (std::uint64_t{1} << (halves ? i & 15 : width)) - 1;
                set(rd, Known::between(0, halves ? most << 16 | most : most), step);
                return true;
            }
            default:
                return false;
        }
    }
    if (op1 != 3) return false;
    if (i >> 24 == 0xF9 && !bit(i, 20)) return structures(i, step);
    if ((op2 & 0x71) == 0 || (op2 & 0x67) == 1 || (op2 & 0x67) == 3 || (op2 & 0x67) == 5) return single(i, pc, step, next);
    if ((op2 & 0x70) == 0x20) {  // A5.3.12
        const Known a = read(rn, pc), b = read(rm, pc);
        if ((i >> 7 & 1) == 0 && (i >> 23 & 1) == 0) {  // shifts by a register
            const Known amount = b.known ? known(b.value & 0xFF) : Known{};
            logic(5, rd, {}, shift(a, bits(i, 22, 21), amount, carry()), (i >> 20 & 1) != 0, step);
            return true;
        }
        if ((i >> 7 & 1) != 0 && (i >> 23 & 1) == 0) {  // extensions, perhaps added
            const unsigned kind = bits(i, 22, 20), turn = 8 * bits(i, 5, 4);
            if (kind > 5) return false;
            if (kind == 2 || kind == 3) return set(rd, {}, step), true;  // of two halves
            const std::uint32_t v = std::rotr(static_cast<std::uint32_t>(b.value), static_cast<int>(turn));
            const unsigned bytes = kind < 2 ? 2 : 1;
            const std::uint32_t mask = bytes == 2 ? 0xFFFF : 0xFF;
            const Known any = (kind & 1) == 0 ? Known{} : Known::between(0, mask);
            const Known out = b.known ? known((kind & 1) == 0 ? extended(v & mask, bytes) : v & mask) : any;
            set(rd, rn == 15 ? out : add(a, out, known(0), false), step);
            return true;
        }
        if (bits(i, 23, 22) == 2 && bits(i, 7, 6) == 2) {  // A5.3.15
            const auto x = static_cast<std::uint32_t>(b.value);
            const std::uint32_t halves = (x >> 8 & 0x00FF'00FF) | (x & 0x00FF'00FF) << 8;
            std::uint32_t turned = 0;
            for (unsigned k = 0; k < 32; ++k) turned |= (x >> k & 1) << (31 - k);
            switch (bits(i, 21, 20) << 2 | bits(i, 5, 4)) {
                case 4:
                    set(rd, b.known ? known(std::rotr(halves, 16)) : Known{}, step);
                    return true;
                case 5:
                    set(rd, b.known ? known(halves) : Known{}, step);
                    return true;
                case 6:
                    set(rd, b.known ? known(turned) : Known{}, step);
                    return true;
                case 7:
                    set(rd, b.known ? known(extended(halves & 0xFFFF, 2)) : Known{}, step);
                    return true;
                case 12:
                    set(rd, b.known ? known(static_cast<std::uint64_t>(std::countl_zero(x))) : Known{}, step);
                    return true;
                default:
                    set(rd, {}, step);
                    return true;
            }
        }
        set(rd, {}, step);  // on parts of a register side by side
        return true;
    }
    if ((op2 & 0x78) == 0x30) {  // A5.3.16
        const Known a = read(rn, pc), b = read(rm, pc), c = read(bits(i, 15, 12), pc);
        const bool plain = bits(i, 22, 20) == 0 && bits(i, 7, 4) < 2;
        if (!plain || !a.known || !b.known || (bits(i, 15, 12) != 15 && !c.known)) return set(rd, {}, step), true;
        const std::uint64_t product = a.value * b.value;
        set(rd, known(bits(i, 15, 12) == 15 ? product : bits(i, 7, 4) == 1 ? c.value - product : c.value + product), step);
        return true;
    }
    if ((op2 & 0x78) == 0x38) {  // A5.3.17
        const Known a = read(rn, pc), b = read(rm, pc);
        const unsigned lo = bits(i, 15, 12), kind = bits(i, 22, 20);
        const bool both = a.known && b.known;
        const auto sa = static_cast<std::int64_t>(static_cast<std::int32_t>(static_cast<std::uint32_t>(a.value))),
                   sb = static_cast<std::int64_t>(static_cast<std::int32_t>(static_cast<std::uint32_t>(b.value)));
        if ((kind == 1 || kind == 3) && bits(i, 7, 4) == 15) {  // SDIV, UDIV
            if (!both) return set(rd, {}, step), true;
            if (b.value == 0) return set(rd, {}, step), true;  // 0, or a fault where that is asked for
            set(rd, known(kind == 3 ? a.value / b.value : static_cast<std::uint64_t>(sa / sb)), step);
            return true;
        }
        const Known low = read(lo, pc), high = read(rd, pc);
        const bool plain = bits(i, 7, 4) == 0, adds = kind == 4 || kind == 6;
        if (!both || !plain || (adds && (!low.known || !high.known))) {
            set(lo, {}, step);
            set(rd, {}, step);
            return true;
        }
        std::uint64_t out = kind == 0 || kind == 4 ? static_cast<std::uint64_t>(sa * sb) : a.value * b.value;
        if (adds) out += high.value << 32 | low.value;
        set(lo, known(out), step);
        set(rd, known(out >> 32), step);
        return true;
    }
    return coprocessor(i, step);
}

// A5.3.7 to A5.3.10
bool ArmCore::single(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next) {
    const unsigned rn = bits(i, 19, 16), rt = bits(i, 15, 12);
    const bool loads = (i >> 20 & 1) != 0, is_signed = (i >> 24 & 1) != 0;
    const unsigned bytes = 1u << bits(i, 22, 21);
    if (bytes > 4) return false;
    const Known base = rn == 15 ? known((pc + 4) & ~3u) : read(rn, pc);
    Known at;
    bool writes_back = false;
    Known after;
    if (rn == 15) {
        at = offset(base, (i >> 23 & 1) != 0 ? std::int64_t{i & 0xFFF} : -std::int64_t{i & 0xFFF});
    } else if ((i >> 23 & 1) != 0) {
        at = offset(base, i & 0xFFF);
    } else if ((i >> 11 & 1) != 0) {
        const std::int64_t by = (i >> 9 & 1) != 0 ? std::int64_t{i & 0xFF} : -std::int64_t{i & 0xFF};
        after = offset(base, by);
        at = (i >> 10 & 1) != 0 ? after : base;
        writes_back = (i >> 8 & 1) != 0;
    } else {
        if (bits(i, 11, 6) != 0) return false;
        const Known index = shift(read(i & 15, pc), 0, known(bits(i, 5, 4)), carry()).value;
        at = add(base, index, known(0), false);
    }
    const bool by_stack = rn == 13;
    if (by_stack && at.known) memory_.note_stack(at.value);
    if (!loads) {
        const Known v = read(rt, pc);
        if (writes_back) set(rn, after, step);
        store(at, bytes, v, by_stack, step);
        return true;
    }
    if (rt == 15 && bytes < 4) return true;  // PLD and others
    const Known v = load(at, bytes, is_signed, by_stack);
    if (writes_back) set(rn, after, step);
    if (rt == 15)
        jump(v, step, next);
    else
        set(rt, v, step);
    return true;
}

// A5.3.6: two words, exclusive ones, table branches.
bool ArmCore::dual(std::uint32_t i, std::uint32_t pc, std::uint64_t step) {
    const unsigned rn = bits(i, 19, 16), rt = bits(i, 15, 12), rt2 = bits(i, 11, 8);
    const bool loads = (i >> 20 & 1) != 0, indexed = (i >> 24 & 1) != 0, writes_back = (i >> 21 & 1) != 0;
    const Known base = rn == 15 ? known((pc + 4) & ~3u) : read(rn, pc);
    const bool by_stack = rn == 13;
    if (indexed || writes_back) {
        const std::int64_t by = 4 * std::int64_t{i & 0xFF} * ((i >> 23 & 1) != 0 ? 1 : -1);
        const Known moved = offset(base, by), at = indexed ? moved : base;
        if (by_stack && at.known) memory_.note_stack(at.value);
        if (loads) {
            const Known first = load(at, 4, false, by_stack), second = load(offset(at, 4), 4, false, by_stack);
            if (writes_back) set(rn, moved, step);
            set(rt, first, step);
            set(rt2, second, step);
        } else {
            const Known first = read(rt, pc), second = read(rt2, pc);
            if (writes_back) set(rn, moved, step);
            store(at, 4, first, by_stack, step);
            store(offset(at, 4), 4, second, by_stack, step);
        }
        return true;
    }
    if ((i >> 23 & 1) == 0) {  // LDREX, STREX
        const Known at = offset(base, 4 * std::int64_t{i & 0xFF});
        if (loads) {
            set(rt, load(at, 4, false, by_stack), step);
        } else {
            store(at, 4, {}, by_stack, step);  // whether it was done is not told
            set(rt2, {}, step);
        }
        return true;
    }
    const unsigned kind = bits(i, 7, 4);
    if (loads && kind < 2) return true;  // TBB, TBH
    if (kind == 4 || kind == 5) {
        const unsigned bytes = kind == 4 ? 1 : 2;
        if (loads) {
            set(rt, load(base, bytes, false, by_stack), step);
        } else {
            store(base, bytes, {}, by_stack, step);
            set(i & 15, {}, step);
        }
        return true;
    }
    return false;
}

void ArmCore::store_unknown(const Known& address, unsigned count, bool by_stack, std::uint64_t step) {
    if (!address.known) return memory_.forget(address, count, step);
    for (unsigned k = 0; k < count; k += 4) store(offset(address, k), std::min(4u, count - k), {}, by_stack, step);
}

bool ArmCore::structures(std::uint32_t i, std::uint64_t step) {
    const unsigned rn = bits(i, 19, 16), rm = i & 15, type = bits(i, 11, 8);
    unsigned bytes = 0;
    if (!bit(i, 23)) {
        constexpr std::array<unsigned, 11> sizes{32, 32, 32, 32, 24, 24, 24, 8, 16, 16, 16};
        if (type >= sizes.size()) return false;
        bytes = sizes[type];
    } else {
        const unsigned size = bits(i, 11, 10) == 3 ? std::min(bits(i, 7, 6), 2u) : bits(i, 11, 10);
        bytes = (bits(i, 9, 8) + 1) << size;
    }
    const Known base = read(rn, 0);
    if (!bit(i, 21)) store_unknown(base, bytes, rn == 13, step);
    if (rm == 13) set(rn, offset(base, bytes), step);
    if (rm != 13 && rm != 15) set(rn, add(base, read(rm, 0), known(0), false), step);
    return true;
}

// A5.3.18, A6: what touches core registers, the stack and memory; the rest stays among floating-point registers.
bool ArmCore::coprocessor(std::uint32_t i, std::uint64_t step) {
    if ((i >> 24 & 0xEF) == 0xEF) return true;  // vectors (DDI 0406C, A7.4)
    const unsigned which = bits(i, 11, 8);
    if (which != 10 && which != 11) {
        const unsigned to = bits(i, 25, 20), r = bits(i, 15, 12), second = bits(i, 19, 16);
        if ((to & 0x3E) == 4) {  // MCRR, MRRC
            if (bit(i, 20)) set(r, {}, step), set(second, {}, step);
            return true;
        }
        if ((to & 0x30) == 0x20) {  // MCR, MRC, CDP
            if (!bit(i, 4) || !bit(i, 20)) return true;
            if (r == 15)
                flags_ = {};
            else
                set(r, {}, step);
            return true;
        }
        return false;
    }
    // B1.5.7, ExecuteFPCheck: with automatic state preservation each of these makes the context active.
    if (fp_active_ != true && fp_automatic_ != false) fp_active_ = fp_automatic_ && !doubtful_ ? std::optional(true) : std::nullopt;
    const unsigned op = bits(i, 25, 20), rn = bits(i, 19, 16), rt = bits(i, 15, 12);
    if ((op & 0x20) == 0 && (op & 0x3A) != 0) {  // loads and stores, A6.5
        const bool loads = (op & 1) != 0, adds = (op & 8) != 0, writes_back = (op & 2) != 0;
        const std::int64_t by = 4 * std::int64_t{i & 0xFF};
        const Known base = rn == 15 ? Known{} : read(rn, 0);
        const bool several = (op & 0x12) != 0x10;
        const unsigned words = several ? i & 0xFF : which == 11 ? 2 : 1;
        Known at = several ? (adds ? base : offset(base, -by)) : offset(base, adds ? by : -by);
        if (writes_back && several) set(rn, offset(base, adds ? by : -by), step);
        if (loads) return true;
        if (!base.known) return memory_.forget(at, 4 * words, step), true;
        for (unsigned k = 0; k < words; ++k) store(offset(at, 4 * k), 4, {}, rn == 13, step);
        return true;
    }
    if ((op & 0x3E) == 4) {  // two core registers, A6.7
        if ((op & 1) != 0) {
            set(rt, {}, step);
            set(rn, {}, step);
        }
        return true;
    }
    if ((op & 0x30) == 0x20 && (i >> 4 & 1) != 0) {  // one core register, A6.6
        if ((op & 1) == 0) return true;
        if (rt == 15)
            flags_ = {};  // VMRS APSR_nzcv, FPSCR
        else
            set(rt, {}, step);
        return true;
    }
    return (op & 0x30) == 0x20;  // data processing
}

}  // namespace mt
