#include "replay/arm_machine.h"

#include <algorithm>
#include <bit>
#include <utility>

#include "base/bits.h"

namespace mt {

using namespace arm;

namespace {

constexpr unsigned kStatus = 8;  ///< kind of origins: from it on they hold a status

Known inverted(const Known& k) { return k.known ? known(~k.value) : Known{}; }

}  // namespace

ArmMachine::ArmMachine(std::shared_ptr<const Code> code, PastMemory memory, bool at_reset, bool shared)
    : ArmCore(std::move(code), std::move(memory), shared) {
    unsure_ = at_reset ? 0 : 4;
    if (at_reset) mode_ = Mode::supervisor;
}

void ArmMachine::resolve() {
    resolve_registers();
    for (Bank& b : banks_)
        for (Known* k : {&b.sp, &b.lr}) memory_.resolve(*k, 0xFFFF'FFFF);
}

// B1.3.1, table B1-1
ArmMachine::MaybeMode ArmMachine::mode_of(std::uint64_t status) {
    switch (status & 0x1F) {
        case 0x10:
            return Mode::user;
        case 0x11:
            return Mode::fiq;
        case 0x12:
            return Mode::irq;
        case 0x13:
            return Mode::supervisor;
        case 0x16:
            return Mode::monitor;
        case 0x17:
            return Mode::abort;
        case 0x1B:
            return Mode::undefined;
        case 0x1F:
            return Mode::system;
        default:
            return std::nullopt;
    }
}

void ArmMachine::set_sp(const Known& value) {
    Known v = value;
    if (!v.known && v.origin == 0) v.origin = Known::origin_of(now_, kind_, 13);
    memory_.resolve(v, 0xFFFF'FFFF);
    r_[13] = v;
}

// Registers of another mode come into use. Of one that is not known nobody can say which they are: then all are lost that
// belong to modes, for they may have been written.
void ArmMachine::enter(MaybeMode mode, std::uint64_t step) {
    if (doubtful_ && mode != mode_) mode_changed_ = true;
    if (!mode_ || !mode) {
        for (unsigned n = 8; n < 15; ++n) {
            r_[n] = {0, false, step};
            r_[n].origin = Known::origin_of(step, kLost, n);
        }
        for (Bank& b : banks_) b = {};
        others_ = {};
    } else if (bank_of(*mode_) != bank_of(*mode)) {
        Bank &from = banks_[bank_of(*mode_)], &to = banks_[bank_of(*mode)];
        from.sp = r_[13];
        from.lr = r_[14];
        r_[13] = to.sp;
        r_[14] = to.lr;
        if ((mode_ == Mode::fiq) != (mode == Mode::fiq))
            for (unsigned k = 0; k < 5; ++k) std::swap(r_[8 + k], others_[k]);
    }
    mode_ = mode;
}

Known ArmMachine::status(std::uint64_t step) const {
    Known s{0, false, step};
    if (!mode_) {
        s.origin = Known::origin_of(step, kLost, 63);
        return s;
    }
    const unsigned all = static_cast<unsigned>(*mode_) << 5 | (flags_.whole() ? 16u | flags_.value : 0);
    s.origin = Known::origin_of(step, kStatus + (all >> 6), all & 63);
    return s;
}

std::pair<ArmMachine::MaybeMode, ConditionFlags> ArmMachine::told_by(const Known& status) const {
    if (status.known) return {mode_of(status.value), ConditionFlags::of(static_cast<unsigned>(status.value >> 28 & 15))};
    const std::uint64_t kind = status.origin / Known::kPlaces % Known::kKinds, place = status.origin % Known::kPlaces;
    if (status.origin == 0 || status.plus != 0 || kind < kStatus) return {};
    const auto all = static_cast<unsigned>((kind - kStatus) << 6 | place);
    return {static_cast<Mode>(all >> 5 & 7), (all & 16) != 0 ? ConditionFlags::of(all & 15) : ConditionFlags{}};
}

// MSR, B9.3.11; `fields`: bit 0 for the mode, bit 3 for the flags. Without privilege the mode stays.
void ArmMachine::set_status(const Known& value, unsigned fields, std::uint64_t step) {
    const auto [mode, flags] = told_by(value);
    if ((fields & 8) != 0) flags_ = flags;
    if ((fields & 1) != 0 && mode_ != Mode::user) enter(mode_ ? mode : std::nullopt, step);
}

void ArmMachine::come_back(const Known& status, std::uint64_t step) {
    const auto [mode, flags] = told_by(status);
    flags_ = flags;
    enter(mode, step);
}

// A register as another mode has it; null: it is not known which that is.
Known* ArmMachine::banked(MaybeMode mode, unsigned n) {
    if (!mode_ || !mode) return nullptr;
    if (n < 8 || (n < 13 && (mode == Mode::fiq) == (mode_ == Mode::fiq))) return &r_[n];
    if (n < 13) return &others_[n - 8];
    if (bank_of(*mode) == bank_of(*mode_)) return &r_[n];
    Bank& b = banks_[bank_of(*mode)];
    return n == 13 ? &b.sp : &b.lr;
}

void ArmMachine::lose(std::uint64_t step) {
    lose_registers(step);
    enter(std::nullopt, step);
    doubtful_ = mode_changed_ = false;
}

// B1.8.3, table B1-7: where exceptions go, and what the link register holds then. With routing to Monitor or Hyp mode that
// trace does not tell, they would go there.
void ArmMachine::trap(const StepTrap& trap, std::uint64_t before) {
    const std::uint64_t step = before > 0 ? before - 1 : 0;
    const bool etm4 = trap.number >= ExceptionId::kEtm4Types;
    const unsigned type = trap.number - (etm4 ? ExceptionId::kEtm4Types : ExceptionId::kPftTypes);
    const std::uint32_t slot = trap.slot(*code_);
    const bool thumb = slot != Code::kNowhere && code_->isa(slot) == Isa::thumb;
    MaybeMode to;
    unsigned behind = 0;
    const auto call = [&] {  // which one it was: the instruction says
        const std::uint32_t i = code_->bits(last_);
        if (code_->isa(last_) == Isa::arm ? bits(i, 27, 24) == 15 : (i & 0xFF00) == 0xDF00) to = Mode::supervisor;
    };
    if (trap.number == StepTrap::kUnknown || type == 1 || type == (etm4 ? 0 : 8)) {
        lose(step);
        if (trap.number != StepTrap::kUnknown && type != 1) mode_ = Mode::supervisor;
        return;
    }
    switch (type) {
        case 2:
            if (etm4)
                call();
            else
                to = Mode::monitor;
            break;
        case 3:
            if (etm4) to = Mode::undefined, behind = thumb ? 2 : 4;
            break;
        case 4:
        case 12:
            to = Mode::abort;
            behind = 8;
            break;
        case 9:
            if (!etm4) to = Mode::undefined, behind = thumb ? 2 : 4;
            break;
        case 10:
            if (!etm4) to = Mode::supervisor;
            break;
        case 11:
            to = Mode::abort;
            behind = 4;
            break;
        case 14:
        case 15:
            to = type == 14 ? Mode::irq : Mode::fiq;
            behind = 4;
            break;
        default:
            break;
    }
    if (level_ && *level_ > 1) to.reset();
    const Known saved = status(step);
    enter(to, step);
    if (!to) return;
    banks_[bank_of(*to)].spsr = saved;
    r_[14] = trap.epc_known ? known(trap.epc + behind) : Known{};
    r_[14].set_at = step;
    if (!trap.epc_known) r_[14].origin = Known::origin_of(step, kLost, 14);
}

void ArmMachine::execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    mode_changed_ = false;
    execute_one(slot, step, next);
}

void ArmMachine::jump(const Known&, std::uint64_t, std::uint32_t) {}

// SRS, B9.3.16.
bool ArmMachine::store_return(unsigned mode, bool before, bool up, bool writes_back, std::uint64_t step) {
    Known* const sp = banked(mode_of(mode), 13);
    const Known lr = r_[14], saved = saved_status();
    if (sp == nullptr) {
        memory_.forget(step);
        r_[13] = {0, false, step};
        return true;
    }
    const Known base = *sp, at = offset(base, up ? (before ? 4 : 0) : before ? -8 : -4);
    store(at, 4, lr, true, step);
    store(offset(at, 4), 4, saved, true, step);
    if (writes_back) {
        *sp = offset(base, up ? 8 : -8);
        sp->set_at = step;
    }
    return true;
}

// RFE, B9.3.13.
bool ArmMachine::return_from(unsigned rn, bool before, bool up, bool writes_back, std::uint64_t step) {
    const Known base = read(rn, 0), at = offset(base, up ? (before ? 4 : 0) : before ? -8 : -4);
    const Known status = load(offset(at, 4), 4, false, rn == 13);
    if (writes_back) set(rn, offset(base, up ? 8 : -8), step);
    come_back(status, step);
    return true;
}

bool ArmMachine::frames(std::uint32_t i, std::uint64_t step) {
    const bool up = bit(i, 24), writes_back = bit(i, 21);
    return bit(i, 20) ? return_from(bits(i, 19, 16), !up, up, writes_back, step) : store_return(i & 31, !up, up, writes_back, step);
}

bool ArmMachine::change_state(std::uint32_t, std::uint64_t) { return true; }  // of 16 bits: interrupts and endianness alone

// B9.2.3: registers of another mode by number.
Known* ArmMachine::banked_by_number(unsigned number, bool of_spsr) {
    constexpr std::array<Mode, 4> modes{Mode::irq, Mode::supervisor, Mode::abort, Mode::undefined};
    if (of_spsr) {
        if (number == 14) return &banks_[bank_of(Mode::fiq)].spsr;
        if (number == 28) return &banks_[bank_of(Mode::monitor)].spsr;
        return number >= 16 && number < 24 && number % 2 == 0 ? &banks_[bank_of(modes[(number - 16) / 2])].spsr : nullptr;
    }
    if (number < 7) return banked(Mode::user, 8 + number);
    if (number >= 8 && number < 15) return banked(Mode::fiq, number);
    if (number >= 16 && number < 24) return banked(modes[(number - 16) / 2], number % 2 == 0 ? 14 : 13);
    if (number == 28 || number == 29) return banked(Mode::monitor, number == 28 ? 14 : 13);
    return nullptr;
}

void ArmMachine::move_banked(bool to_bank, unsigned number, bool of_spsr, unsigned r, std::uint64_t step) {
    Known* const place = banked_by_number(number, of_spsr);
    if (!to_bank) return set(r, place != nullptr ? *place : Known{}, step);
    if (place != nullptr) {
        *place = read(r, 0);
        place->set_at = step;
    } else if (!mode_) {
        enter(std::nullopt, step);
    }
}

// DDI 0406C, A6.3.4
bool ArmMachine::special(std::uint32_t i, std::uint32_t, std::uint64_t step) {
    const unsigned op = bits(i, 26, 20), rn = bits(i, 19, 16), rd = bits(i, 11, 8);
    const bool of_spsr = bit(i, 20), of_bank = bit(i, 5);
    if ((op & 0x7E) == 0x38) {
        if (of_bank) return move_banked(true, bits(i, 4, 4) << 4 | rd, of_spsr, rn, step), true;
        if (!of_spsr) return set_status(read(rn, 0), rd, step), true;
        if (mode_) banks_[bank_of(*mode_)].spsr = (rd & 9) == 9 ? read(rn, 0) : Known{};
        return true;
    }
    if ((op & 0x7E) == 0x3E) {
        if (of_bank)
            move_banked(false, bits(i, 4, 4) << 4 | rn, of_spsr, rd, step);
        else
            set(rd, of_spsr ? saved_status() : status(step), step);
        return true;
    }
    if (op == 0x3A) {  // CPS and hints
        if (bit(i, 8) && bits(i, 10, 8) != 0 && mode_ != Mode::user) enter(mode_ ? mode_of(i & 31) : std::nullopt, step);
        return true;
    }
    if (op == 0x3D) return come_back(saved_status(), step), true;  // SUBS PC, LR; ERET
    return op == 0x3B || op == 0x3C || op == 0x7E || op == 0x7F;
}

// A5.1: `pc` is four bytes behind the instruction, as T32 would have it.
bool ArmMachine::a32(std::uint32_t i, std::uint32_t pc, std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    (void)slot;
    if (i >> 28 == 15) return unconditional(i, pc, step);
    switch (bits(i, 27, 25)) {
        case 0:
            if ((i & 0x90) == 0x90) {
                if (bits(i, 6, 5) != 0) return halfwords(i, pc, step);
                return bit(i, 24) ? exclusives(i, step) : multiplies(i, step);
            }
            if (bits(i, 24, 23) == 2 && !bit(i, 20)) return various(i, pc, step, next);
            return data_processing(i, pc, step, next);
        case 1:
            if (bits(i, 24, 23) == 2 && !bit(i, 20)) return immediates(i, pc, step, next);
            return data_processing(i, pc, step, next);
        case 2:
            return words(i, pc, step, next);
        case 3:
            return bit(i, 4) ? media(i, step) : words(i, pc, step, next);
        case 4:
            return block(i, step, next);
        case 5:
            if (bit(i, 24)) set(14, known(pc), step);  // BL
            return true;
        case 6:
            return coprocessor(i, step);
        default:
            return bit(i, 24) || coprocessor(i, step);  // SVC
    }
}

// A5.7
bool ArmMachine::unconditional(std::uint32_t i, std::uint32_t pc, std::uint64_t step) {
    switch (bits(i, 27, 25)) {
        case 0:
            if (bits(i, 24, 20) != 16) return false;
            if (!bit(i, 16) && bit(i, 17) && mode_ != Mode::user) enter(mode_ ? mode_of(i & 31) : std::nullopt, step);  // CPS
            return true;
        case 1:
            return true;  // vectors
        case 2:
        case 3:
            if (bits(i, 27, 24) == 4 && !bit(i, 20)) return structures(i, step);
            return true;  // hints for memory, barriers
        case 4:
            if (bit(i, 22) == bit(i, 20)) return false;
            return bit(i, 22) ? store_return(i & 31, bit(i, 24), bit(i, 23), bit(i, 21), step)
                              : return_from(bits(i, 19, 16), bit(i, 24), bit(i, 23), bit(i, 21), step);
        case 5:
            set(14, known(pc), step);  // BLX to T32
            return true;
        default:
            return coprocessor(i, step);
    }
}

// A5.2.1, A5.2.3; A8.4: the shifted operand.
ArmCore::Shifted ArmMachine::operand(std::uint32_t i, std::uint32_t pc) {
    if (bit(i, 25)) {
        const unsigned by = 2 * bits(i, 11, 8);
        const std::uint32_t v = std::rotr(i & 0xFF, static_cast<int>(by));
        return {known(v), by == 0 ? carry() : flag((v >> 31) != 0)};
    }
    const Known v = read(i & 15, pc);
    const unsigned type = bits(i, 6, 5);
    if (bit(i, 4)) {
        const Known by = read(bits(i, 11, 8), pc);
        return shift(v, type, by.known ? known(by.value & 0xFF) : Known{}, carry());
    }
    const unsigned by = bits(i, 11, 7);
    if (type == 3 && by == 0) return shift(v, 4, known(1), carry());
    return shift(v, type, known((type == 1 || type == 2) && by == 0 ? 32 : by), carry());
}

bool ArmMachine::data_processing(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next) {
    const unsigned op = bits(i, 24, 21), rd = bits(i, 15, 12);
    const bool to_pc = rd == 15 && (op < 8 || op > 11), flags = bit(i, 20) && !to_pc;
    const Known a = read(bits(i, 19, 16), pc);
    const Shifted b = operand(i, pc);
    const unsigned to = rd == 15 ? 16 : rd;
    const auto sum = [&](const Known& x, const Known& y, const Known& with) {
        const Known out = add(x, y, with, flags);
        if (to < 15) set(to, out, step);
    };
    switch (op) {
        case 0:
            logic(0, to, a, b, flags, step);
            break;
        case 1:
            logic(1, to, a, b, flags, step);
            break;
        case 2:
            sum(a, inverted(b.value), known(1));
            break;
        case 3:
            sum(inverted(a), b.value, known(1));
            break;
        case 4:
            sum(a, b.value, known(0));
            break;
        case 5:
            sum(a, b.value, carry());
            break;
        case 6:
            sum(a, inverted(b.value), carry());
            break;
        case 7:
            sum(inverted(a), b.value, carry());
            break;
        case 8:
            logic(0, 16, a, b, true, step);
            break;
        case 9:
            logic(1, 16, a, b, true, step);
            break;
        case 10:
            (void)add(a, inverted(b.value), known(1), true);
            break;
        case 11:
            (void)add(a, b.value, known(0), true);
            break;
        case 12:
            logic(2, to, a, b, flags, step);
            break;
        case 13:
            logic(5, to, {}, b, flags, step);
            break;
        case 14:
            logic(4, to, a, b, flags, step);
            break;
        default:
            logic(6, to, a, b, flags, step);
            break;
    }
    if (to_pc && bit(i, 20))
        come_back(saved_status(), step);  // B9.3.20: SUBS PC, LR and relatives
    else if (to_pc)
        jump({}, step, next);
    return true;
}

// A5.2.11 and 16-bit immediates.
bool ArmMachine::immediates(std::uint32_t i, std::uint32_t, std::uint64_t step, std::uint32_t) {
    const unsigned rd = bits(i, 15, 12), fields = bits(i, 19, 16);
    const std::uint32_t imm = bits(i, 19, 16) << 12 | bits(i, 11, 0);
    if (bits(i, 22, 21) == 0) return set(rd, known(imm), step), true;  // MOVW
    if (bits(i, 22, 21) == 2) {                                         // MOVT
        const Known old = read(rd, 0);
        set(rd, old.known ? known((old.value & 0xFFFF) | std::uint64_t{imm} << 16) : Known{}, step);
        return true;
    }
    if (!bit(i, 22) && fields == 0) return true;  // hints
    const Known v = known(std::rotr(i & 0xFF, static_cast<int>(2 * bits(i, 11, 8))));
    if (!bit(i, 22))
        set_status(v, fields, step);
    else if (mode_)
        banks_[bank_of(*mode_)].spsr = (fields & 9) == 9 ? v : Known{};
    return true;
}

// A5.2.12, and A5.2.7 where bit 7 is set.
bool ArmMachine::various(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next) {
    const unsigned op = bits(i, 22, 21), rd = bits(i, 15, 12), rm = i & 15;
    if (bit(i, 7)) {  // halfwords multiplied
        if (op == 2) set(rd, {}, step);
        set(bits(i, 19, 16), {}, step);
        return true;
    }
    switch (bits(i, 6, 4)) {
        case 0: {
            const bool of_spsr = bit(i, 22), to_status = bit(i, 21);
            if (bit(i, 9)) {
                const unsigned number = bits(i, 8, 8) << 4 | bits(i, 19, 16);
                move_banked(to_status, number, of_spsr, to_status ? rm : rd, step);
            } else if (!to_status) {
                set(rd, of_spsr ? saved_status() : status(step), step);
            } else if (!of_spsr) {
                set_status(read(rm, 0), bits(i, 19, 16), step);
            } else if (mode_) {
                banks_[bank_of(*mode_)].spsr = (bits(i, 19, 16) & 9) == 9 ? read(rm, 0) : Known{};
            }
            return true;
        }
        case 1:
            if (op == 3) {  // CLZ
                const Known v = read(rm, pc);
                set(rd, v.known ? known(static_cast<std::uint64_t>(std::countl_zero(static_cast<std::uint32_t>(v.value)))) : Known::between(0, 32), step);
                return true;
            }
            jump(read(rm, pc), step, next);
            return true;
        case 2:
            return true;  // BXJ
        case 3:
            set(14, known(pc), step);  // BLX
            return true;
        case 4:  // CRC32
        case 5:  // QADD and others
            set(rd, {}, step);
            return true;
        case 6:
            come_back(saved_status(), step);  // ERET
            return true;
        default:
            return true;  // BKPT, HVC, SMC
    }
}

// A5.2.5
bool ArmMachine::multiplies(std::uint32_t i, std::uint64_t step) {
    const unsigned op = bits(i, 23, 21), hi = bits(i, 19, 16), lo = bits(i, 15, 12);
    const bool flags = bit(i, 20);
    const Known m = read(bits(i, 11, 8), 0), n = read(i & 15, 0), a = read(lo, 0), up = read(hi, 0);
    const bool both = m.known && n.known;
    if (op < 2 || op == 3) {
        const bool adds = op != 0;
        Known out;
        if (both && (!adds || a.known)) out = known(op == 0 ? n.value * m.value : op == 1 ? a.value + n.value * m.value : a.value - n.value * m.value);
        if (flags) set_nz(out);
        set(hi, out, step);
        return true;
    }
    const bool adds = op == 5 || op == 7, is_signed = op > 5;
    if (!both || (adds && (!a.known || !up.known)) || (op == 2 && (!a.known || !up.known))) {
        if (flags) set_nz({});
        set(lo, {}, step);
        set(hi, {}, step);
        return true;
    }
    const auto wide = [](const Known& k) { return static_cast<std::int64_t>(static_cast<std::int32_t>(static_cast<std::uint32_t>(k.value))); };
    std::uint64_t out = is_signed ? static_cast<std::uint64_t>(wide(m) * wide(n)) : m.value * n.value;
    if (adds) out += up.value << 32 | a.value;
    if (op == 2) out += up.value + a.value;  // UMAAL
    if (flags) {
        flags_.put(ConditionFlags::kN, out >> 63 != 0);
        flags_.put(ConditionFlags::kZ, out == 0);
    }
    set(lo, known(out), step);
    set(hi, known(out >> 32), step);
    return true;
}

// A5.2.10. Whether a conditional store was done is not told.
bool ArmMachine::exclusives(std::uint32_t i, std::uint64_t step) {
    const unsigned op = bits(i, 23, 20), rn = bits(i, 19, 16), rd = bits(i, 15, 12), rt = i & 15;
    const Known at = read(rn, 0);
    const bool by_stack = rn == 13;
    if (op == 0 || op == 4) {  // SWP
        const unsigned bytes = op == 0 ? 4 : 1;
        const Known v = read(rt, 0), old = load(at, bytes, false, by_stack);
        store(at, bytes, v, by_stack, step);
        set(rd, old, step);
        return true;
    }
    if (op < 8) return false;
    constexpr std::array<unsigned, 4> sizes{4, 8, 1, 2};
    const unsigned bytes = sizes[op >> 1 & 3];
    const bool plain = bits(i, 9, 8) == 0;  // of Armv8: LDA, STL
    if (bit(i, 20)) {
        const Known first = load(at, std::min(bytes, 4u), false, by_stack);
        const Known second = bytes == 8 ? load(offset(at, 4), 4, false, by_stack) : Known{};
        set(rd, first, step);
        if (bytes == 8) set(rd + 1, second, step);
        return true;
    }
    if (plain) {
        store(at, bytes, read(rt, 0), by_stack, step);
        return true;
    }
    store_unknown(at, bytes, by_stack, step);
    set(rd, {}, step);
    return true;
}

// A5.2.8
bool ArmMachine::halfwords(std::uint32_t i, std::uint32_t pc, std::uint64_t step) {
    const unsigned rn = bits(i, 19, 16), rt = bits(i, 15, 12), kind = bits(i, 6, 5);
    const bool before = bit(i, 24), up = bit(i, 23), loads = bit(i, 20), writes_back = !before || bit(i, 21);
    const Known base = read(rn, pc), index = bit(i, 22) ? known(bits(i, 11, 8) << 4 | (i & 15)) : read(i & 15, pc);
    const Known there = up ? add(base, index, known(0), false) : add(base, inverted(index), known(1), false);
    const Known at = before ? there : base;
    const bool by_stack = rn == 13, two = !loads && kind > 1;
    if (by_stack && at.known) memory_.note_stack(at.value);
    if (loads || kind == 2) {
        const unsigned bytes = two ? 4 : kind == 2 ? 1 : 2;
        const Known first = load(at, bytes, loads && kind > 1, by_stack), second = two ? load(offset(at, 4), 4, false, by_stack) : Known{};
        if (writes_back) set(rn, there, step);
        set(rt, first, step);
        if (two) set(rt + 1, second, step);
        return true;
    }
    const Known first = read(rt, pc), second = two ? read(rt + 1, pc) : Known{};
    if (writes_back) set(rn, there, step);
    store(at, two ? 4 : 2, first, by_stack, step);
    if (two) store(offset(at, 4), 4, second, by_stack, step);
    return true;
}

// A5.3
bool ArmMachine::words(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next) {
    const unsigned rn = bits(i, 19, 16), rt = bits(i, 15, 12), bytes = bit(i, 22) ? 1 : 4;
    const bool before = bit(i, 24), up = bit(i, 23), loads = bit(i, 20), writes_back = !before || bit(i, 21);
    Known index = known(i & 0xFFF);
    if (bit(i, 25)) {
        const unsigned type = bits(i, 6, 5), by = bits(i, 11, 7);
        const Known m = read(i & 15, pc);
        index = type == 3 && by == 0 ? shift(m, 4, known(1), carry()).value
                                     : shift(m, type, known((type == 1 || type == 2) && by == 0 ? 32 : by), carry()).value;
    }
    const Known base = read(rn, pc);
    const Known there = up ? add(base, index, known(0), false) : add(base, inverted(index), known(1), false);
    const Known at = before ? there : base;
    const bool by_stack = rn == 13;
    if (by_stack && at.known) memory_.note_stack(at.value);
    if (!loads) {
        const Known v = read(rt, pc);
        if (writes_back) set(rn, there, step);
        store(at, bytes, v, by_stack, step);
        return true;
    }
    const Known v = load(at, bytes, false, by_stack);
    if (writes_back) set(rn, there, step);
    if (rt == 15)
        jump(v, step, next);
    else
        set(rt, v, step);
    return true;
}

// A5.4
bool ArmMachine::media(std::uint32_t i, std::uint64_t step) {
    const unsigned op = bits(i, 24, 20), rd = bits(i, 15, 12), hi = bits(i, 19, 16), op2 = bits(i, 7, 5);
    const Known m = read(i & 15, 0);
    const auto x = static_cast<std::uint32_t>(m.value);
    if (op < 8) return set(rd, {}, step), true;  // of parts side by side
    if (op < 16) {                               // A5.4.3
        const unsigned kind = op & 7;
        const std::uint32_t halves = (x >> 8 & 0x00FF'00FF) | (x & 0x00FF'00FF) << 8;
        if (op2 == 3 && (kind & 3) != 0 && kind != 1 && kind != 5) {  // SXTB, SXTH, UXTB, UXTH, perhaps added
            const unsigned bytes = (kind & 1) == 0 ? 1 : 2;
            const std::uint32_t v = std::rotr(x, static_cast<int>(8 * bits(i, 11, 10))), mask = bytes == 1 ? 0xFF : 0xFFFF;
            const bool is_signed = kind < 4;
            const Known out = m.known ? known(is_signed ? extended(v & mask, bytes) : v & mask) : is_signed ? Known{} : Known::between(0, mask);
            set(rd, hi == 15 ? out : add(read(hi, 0), out, known(0), false), step);
            return true;
        }
        if (!m.known) return set(rd, {}, step), true;
        if (kind == 3 && op2 == 1) return set(rd, known(std::rotr(halves, 16)), step), true;
        if (kind == 3 && op2 == 5) return set(rd, known(halves), step), true;
        if (kind == 7 && op2 == 5) return set(rd, known(extended(halves & 0xFFFF, 2)), step), true;
        if (kind == 7 && op2 == 1) {
            std::uint32_t turned = 0;
            for (unsigned k = 0; k < 32; ++k) turned |= (x >> k & 1) << (31 - k);
            return set(rd, known(turned), step), true;
        }
        return set(rd, {}, step), true;  // PKH, SSAT, USAT, SEL, of two halves
    }
    if (op < 24) {  // A5.4.4
        const Known b = read(bits(i, 11, 8), 0);
        const unsigned kind = op & 7;
        if ((kind == 1 || kind == 3) && op2 == 0) {  // SDIV, UDIV; by 0: 0 (A8.8.165)
            if (!m.known || !b.known) return set(hi, {}, step), true;
            const auto sa = static_cast<std::int64_t>(static_cast<std::int32_t>(x)), sb = static_cast<std::int64_t>(static_cast<std::int32_t>(static_cast<std::uint32_t>(b.value)));
            set(hi, known(b.value == 0 ? 0 : kind == 3 ? m.value / b.value : static_cast<std::uint64_t>(sa / sb)), step);
            return true;
        }
        if (kind == 4) set(rd, {}, step);
        set(hi, {}, step);
        return true;
    }
    const unsigned lsb = bits(i, 11, 7), last = bits(i, 20, 16);
    if (op == 24) return set(hi, {}, step), true;  // USAD8
    if ((op & 0x1E) == 0x1C) {                     // BFI, BFC
        if (last < lsb) return false;
        const std::uint64_t mask = ((std::uint64_t{2} << (last - lsb)) - 1) << lsb;
        const Known old = read(rd, 0), from = (i & 15) == 15 ? known(0) : m;
        set(rd, old.known && from.known ? known((old.value & ~mask) | (from.value << lsb & mask)) : Known{}, step);
        return true;
    }
    if ((op & 0x1E) == 0x1A || (op & 0x1E) == 0x1E) {  // SBFX, UBFX
        if (op2 == 7) return false;
        const std::uint64_t mask = (std::uint64_t{2} << last) - 1;
        const bool is_signed = (op & 4) == 0;
        if (!m.known) return set(rd, is_signed ? Known{} : Known::between(0, mask), step), true;
        const std::uint64_t v = m.value >> lsb & mask;
        set(rd, known(is_signed && (v >> last & 1) != 0 ? v | ~mask : v), step);
        return true;
    }
    return false;
}

// A5.5
bool ArmMachine::block(std::uint32_t i, std::uint64_t step, std::uint32_t next) {
    const unsigned rn = bits(i, 19, 16);
    const std::uint32_t list = i & 0xFFFF;
    const bool before = bit(i, 24), up = bit(i, 23), others = bit(i, 22), writes_back = bit(i, 21), loads = bit(i, 20);
    if (!others) return multiple(list, rn, loads, before, up, writes_back, step, next);
    if (loads && bit(list, 15)) {  // B9.3.5: the end of an exception
        const Known saved = saved_status();
        if (!multiple(list, rn, true, before, up, writes_back, step, next)) return false;
        come_back(saved, step);
        return true;
    }
    // B9.3.6, B9.3.17: registers of User mode
    const int n = std::popcount(list);
    Known at = up ? offset(read(rn, 0), before ? 4 : 0) : offset(read(rn, 0), -4 * n + (before ? 0 : 4));
    for (unsigned r = 0; r < 15; ++r) {
        if (!bit(list, r)) continue;
        Known* const place = banked(Mode::user, r);
        if (loads) {
            Known v = load(at, 4, false, rn == 13);
            v.set_at = step;
            if (!v.known && v.origin == 0) v.origin = Known::origin_of(step, kind_, r);
            if (place != nullptr)
                *place = v;
            else
                r_[r] = {0, false, step};
        } else {
            store(at, 4, place != nullptr ? *place : Known{}, rn == 13, step);
        }
        at = offset(at, 4);
    }
    if (!loads && bit(list, 15)) store(at, 4, {}, rn == 13, step);
    if (writes_back) set(rn, offset(read(rn, 0), up ? 4 * n : -4 * n), step);
    return true;
}

}  // namespace mt
