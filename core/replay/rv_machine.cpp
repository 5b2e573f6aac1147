#include "replay/rv_machine.h"

#include <algorithm>

#include "target/riscv_insn.h"

namespace mt {
namespace {

using namespace rv;

std::int32_t s32(std::uint64_t v) { return static_cast<std::int32_t>(static_cast<std::uint32_t>(v)); }
std::uint32_t u32(std::uint64_t v) { return static_cast<std::uint32_t>(v); }

// M (chapter 7): division by zero and overflow have values of their own.
std::uint32_t multiplied(unsigned f3, std::uint32_t a, std::uint32_t b) {
    const std::int64_t sa = s32(a), sb = s32(b);
    switch (f3) {
        case 0:
            return a * b;
        case 1:
            return u32(static_cast<std::uint64_t>(sa * sb) >> 32);
        case 2:
            return u32(static_cast<std::uint64_t>(sa * static_cast<std::int64_t>(b)) >> 32);
        case 3:
            return u32(std::uint64_t{a} * b >> 32);
        case 4:
            return b == 0 ? ~0u : a == 0x80000000 && b == ~0u ? a : u32(static_cast<std::uint64_t>(sa / sb));
        case 5:
            return b == 0 ? ~0u : a / b;
        case 6:
            return b == 0 ? a : a == 0x80000000 && b == ~0u ? 0 : u32(static_cast<std::uint64_t>(sa % sb));
        default:
            return b == 0 ? a : a % b;
    }
}

// 2.4: `f7`'s bit 5 is subtraction, or an arithmetic shift.
std::uint32_t combined(unsigned f3, bool other, std::uint32_t a, std::uint32_t b) {
    switch (f3) {
        case 0:
            return other ? a - b : a + b;
        case 1:
            return a << (b & 31);
        case 2:
            return s32(a) < s32(b) ? 1 : 0;
        case 3:
            return a < b ? 1 : 0;
        case 4:
            return a ^ b;
        case 5:
            return other ? u32(static_cast<std::uint64_t>(s32(a) >> (b & 31))) : a >> (b & 31);
        case 6:
            return a | b;
        default:
            return a & b;
    }
}

}  // namespace

RvMachine::RvMachine(std::shared_ptr<const Code> code, PastMemory memory, bool shared)
    : code_(std::move(code)),
      words_(std::make_shared<std::vector<std::uint32_t>>(code_->slot_count())),
      memory_(std::move(memory)),
      shared_(shared) {
    x_[0] = {0, true, Known::kNever};
    for (unsigned n = 1; n < x_.size(); ++n) x_[n].origin = Known::origin_of(Known::kNever, kLost, n);
}

void RvMachine::resolve() {
    for (Known& x : x_) memory_.resolve(x, kRegister);
    memory_.resolve(scratch_, kRegister);
}

void RvMachine::set(unsigned rd, const Known& value, std::uint64_t step) {
    if (rd == 0) return;
    x_[rd] = value;
    x_[rd].set_at = step;
    if (value.known) return;
    x_[rd].value = 0;
    if (value.origin == 0) x_[rd].origin = Known::origin_of(step, kExecuted, rd);
    memory_.resolve(x_[rd], kRegister);
}

std::uint32_t RvMachine::word_of(std::uint32_t slot) {
    std::uint32_t& word = (*words_)[slot];
    if (word != 0) return word;
    const std::uint32_t bits = code_->bits(slot);
    return word = (bits & 3) == 3 ? bits : expanded(static_cast<std::uint16_t>(bits));
}

// What the stack pointer leads to is memory.
void RvMachine::note_base(unsigned base, std::uint32_t offset) {
    if (base == 2 && x_[2].known) memory_.note_stack(u32(x_[2].value + offset));
}

Known RvMachine::load(unsigned base, std::uint32_t offset, unsigned bytes, bool with_its_sign) {
    const Known any = with_its_sign || bytes > 2 ? Known{} : Known::between(0, bytes == 1 ? 0xFF : 0xFFFF);
    if (!x_[base].known || (shared_ && base != 2)) return any;
    const std::uint32_t at = u32(x_[base].value + offset);
    Known v = bytes == 4 ? memory_.load(at, 4, now_, kExecuted) : memory_.read(at, bytes);
    if (!v.known) return bytes == 4 ? v : any;
    if (with_its_sign && bytes < 4) v.value = with_sign(u32(v.value), 8 * bytes);
    return v;
}

Known RvMachine::load_double(unsigned base, std::uint32_t offset) const {
    if (!x_[base].known || (shared_ && base != 2)) return {};
    return memory_.read(u32(x_[base].value + offset), 8);
}

void RvMachine::store(unsigned base, std::uint32_t offset, unsigned bytes, const Known& value, std::uint64_t step) {
    if (!x_[base].known)
        return memory_.forget(bounds_of_sum(x_[base], Known{offset, true}, 0), bytes, step);
    note_base(base, offset);
    memory_.write(u32(x_[base].value + offset), bytes, value, step);
}

void RvMachine::calculate(unsigned rd, std::uint32_t i, const Known& a, const Known& b, bool immediate,
                          std::uint64_t step) {
    const unsigned f3 = bits(i, 14, 12), f7 = bits(i, 31, 25);
    const bool multiplies = !immediate && f7 == 1, shift = f3 == 1 || f3 == 5;
    const bool other = f7 == 0x20 && (!immediate || f3 == 5);
    if (!immediate && f7 != 0 && f7 != 1 && f7 != 0x20) return unknown(rd, step);  // of an extension: bits alone change
    if (immediate && shift && f7 != 0 && f7 != 0x20) return unknown(rd, step);
    const std::uint32_t va = u32(a.value), vb = u32(b.value);
    if (a.known && b.known) return set(rd, multiplies ? multiplied(f3, va, vb) : combined(f3, other, va, vb), step);
    // What comes out whatever the other is, or between which bounds.
    const bool zero = (a.known && va == 0) || (b.known && vb == 0);
    if (zero && ((multiplies && f3 < 4) || (!multiplies && f3 == 7))) return set(rd, 0u, step);
    if (!multiplies && f3 == 6 && ((a.known && va == ~0u) || (b.known && vb == ~0u))) return set(rd, ~0u, step);
    const bool same = !immediate && bits(i, 19, 15) == bits(i, 24, 20);
    if (same && !multiplies && (f3 == 4 || (f3 == 0 && other))) return set(rd, 0u, step);
    if (!multiplies && (f3 == 2 || f3 == 3)) return set(rd, Known::between(0, 1), step);
    if (!multiplies && f3 == 7) return set(rd, Known::between(0, std::min(a.most(), b.most())), step);
    if (!multiplies && f3 == 0 && !other) return set(rd, bounds_of_sum(a, b, 0), step);
    if (!multiplies && f3 == 0 && b.known) return set(rd, bounds_of_sum(a, Known{u32(~b.value), true}, 1), step);
    if (!multiplies && f3 == 5 && !other && b.known)
        return set(rd, Known::between(a.least() >> (vb & 31), a.most() >> (vb & 31)), step);
    if (!multiplies && f3 == 1 && b.known && (a.most() << (vb & 31)) >> 32 == 0)
        return set(rd, Known::between(a.least() << (vb & 31), a.most() << (vb & 31)), step);
    if (multiplies && f3 == 7 && b.known && vb != 0) return set(rd, Known::between(0, vb - 1), step);
    unknown(rd, step);
}

// A branch tells, too: of two that were equal, one that is known makes the other known.
void RvMachine::branch(std::uint32_t i, std::uint32_t slot, std::uint32_t next) {
    const unsigned f3 = bits(i, 14, 12), a = bits(i, 19, 15), b = bits(i, 24, 20);
    if (next == Code::kNowhere || f3 > 1) return;
    const std::uint32_t on = code_->next(slot), to = (*code_)[slot].target;
    if (on == to || (next != on && next != to)) return;
    const bool taken = next == to;
    if (taken != (f3 == 0)) return;  // they differ
    const auto learn = [this](unsigned to_learn, unsigned from) {
        if (to_learn == 0 || x_[to_learn].known || !x_[from].known) return;
        memory_.learn(x_[to_learn], x_[from].value);
        x_[to_learn].value = x_[from].value;
        x_[to_learn].known = true;
        resolve();  // copies of it
    };
    learn(a, b);
    learn(b, a);
}

// A (chapter 8). Whether a conditional store was done is not told.
void RvMachine::atomic(std::uint32_t i, std::uint64_t step) {
    const unsigned rd = bits(i, 11, 7), base = bits(i, 19, 15), op = bits(i, 31, 27);
    const Known b = x_[bits(i, 24, 20)], old = load(base, 0, 4, false);
    if (bits(i, 14, 12) != 2) {
        memory_.forget(step);
        return unknown(rd, step);
    }
    if (op == 2) return set(rd, old, step);  // LR
    if (op == 3) {                           // SC
        store(base, 0, 4, {}, step);
        return unknown(rd, step);
    }
    Known fresh{0, old.known && b.known};
    const std::uint32_t va = u32(old.value), vb = u32(b.value);
    switch (op) {
        case 0:
            fresh.value = va + vb;
            break;
        case 1:
            fresh = b;
            break;
        case 4:
            fresh.value = va ^ vb;
            break;
        case 8:
            fresh.value = va | vb;
            break;
        case 12:
            fresh.value = va & vb;
            break;
        case 16:
            fresh.value = s32(va) < s32(vb) ? va : vb;
            break;
        case 20:
            fresh.value = s32(va) > s32(vb) ? va : vb;
            break;
        case 24:
            fresh.value = va < vb ? va : vb;
            break;
        case 28:
            fresh.value = va > vb ? va : vb;
            break;
        default:
            fresh.known = false;
    }
    fresh.value = u32(fresh.value);
    store(base, 0, 4, fresh, step);
    set(rd, old, step);
}

Known* RvMachine::csr(std::uint32_t number) {
    switch (number) {
        case 0x340:
            return &scratch_;
        case 0x341:
            return &epc_;
        case 0x342:
            return &cause_;
        case 0x343:
            return &value_;
        default:
            return nullptr;  // what these hold, hardware has a say in
    }
}

// Zicsr (chapter 9).
void RvMachine::system(std::uint32_t i, std::uint64_t step) {
    const unsigned f3 = bits(i, 14, 12), rd = bits(i, 11, 7), source = bits(i, 19, 15);
    if (f3 == 0 || f3 == 4) return;  // traps, returns and waits change no register that is looked at here
    const std::uint32_t number = bits(i, 31, 20);
    if (const auto old = floats_.control(number, f3 & 3, (f3 & 3) == 1 || source != 0, f3 >= 5 ? Known{source, true} : x_[source]))
        return set(rd, *old, step);
    Known* const reg = csr(number);
    if (number == 0xF14) shared_ = true;  // mhartid: a program for several harts, which share its memory
    // 3.1.8: medeleg and mideleg.
    if ((number == 0x302 || number == 0x303) && (f3 & 3) != 3 && (!x_[source].known || f3 >= 5 || x_[source].value != 0))
        delegates_ = delegates_ || f3 < 5 || source != 0;
    const Known operand = f3 >= 5 ? Known{source, true} : x_[source];
    const Known old = reg != nullptr ? *reg : Known{};
    const unsigned way = f3 & 3;
    if (reg != nullptr && (way == 1 || source != 0)) {
        Known fresh{0, operand.known && (way == 1 || old.known)};
        if (way == 1) fresh = operand;
        if (way == 2) fresh.value = old.value | operand.value;
        if (way == 3) fresh.value = u32(old.value & ~operand.value);
        if (reg == &epc_) fresh.value &= ~std::uint64_t{1};      // 3.1.14: IALIGN may be 16
        if (reg == &cause_ || reg == &value_) fresh.known = false;  // legal values alone
        fresh.set_at = step;
        *reg = fresh;
    }
    set(rd, old, step);
}

void RvMachine::execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    now_ = step;
    const std::uint32_t i = word_of(slot);
    const unsigned rd = bits(i, 11, 7), f3 = bits(i, 14, 12), base = bits(i, 19, 15), from = bits(i, 24, 20);
    const auto pc = [&] { return u32(code_->address(slot)); };
    switch (i & 0x7F) {
        case 0x37:
            return set(rd, i & 0xFFFFF000, step);
        case 0x17:
            return set(rd, pc() + (i & 0xFFFFF000), step);
        case 0x6F:
            return set(rd, pc() + 2u * (*code_)[slot].size, step);
        case 0x67:
            return set(rd, pc() + 2u * (*code_)[slot].size, step);
        case 0x63:
            return branch(i, slot, next);
        case 0x03: {
            static constexpr unsigned kBytes[] = {1, 2, 4, 0, 1, 2, 0, 0};
            const unsigned bytes = kBytes[f3];
            if (bytes == 0) break;
            note_base(base, imm_i(i));
            return set(rd, load(base, imm_i(i), bytes, f3 < 4), step);
        }
        case 0x23:
            if (f3 > 2) break;
            return store(base, imm_s(i), 1u << f3, x_[from], step);
        case 0x13:
            return calculate(rd, i, x_[base], {f3 == 1 || f3 == 5 ? from : imm_i(i), true}, true, step);
        case 0x33:
            return calculate(rd, i, x_[base], x_[from], false, step);
        case 0x0F:
            return;  // fences
        case 0x2F:
            return atomic(i, step);
        case 0x73:
            return system(i, step);
        case 0x07:
            note_base(base, imm_i(i));
            return floats_.load(rd, 1u << (f3 & 3), f3 == 2 ? load(base, imm_i(i), 4, false) : f3 == 3 ? load_double(base, imm_i(i)) : Known{}, step);
        case 0x27:
            if (f3 == 2) return store(base, imm_s(i), 4, floats_.stored(from, 4), step);
            if (f3 != 3) break;
            return store(base, imm_s(i), 8, floats_.stored(from, 8), step);
        case 0x43:
        case 0x47:
        case 0x4B:
        case 0x4F:
        case 0x53:
            if (const auto whole = floats_.operate(i, x_[base], 32, step)) set(rd, *whole, step);
            return;
        default:
            break;
    }
    ++strange_;
    lose(step);
}

void RvMachine::trap(const StepTrap& trap, std::uint64_t before) {
    const std::uint64_t step = before > 0 ? before - 1 : 0;
    if (delegates_) {
        for (Known* reg : {&epc_, &cause_, &value_}) *reg = {0, false, step};
        return;
    }
    epc_ = {u32(trap.epc), trap.epc_known, step};
    cause_ = {trap.number | (trap.interrupt ? 0x80000000u : 0u), trap.number != StepTrap::kUnknown, step};
    value_ = {u32(trap.tval), trap.tval_known && !trap.interrupt, step};
}

void RvMachine::begin(const std::map<std::string, std::uint64_t>& registers) {
    for (unsigned n = 1; n < 32; ++n)
        if (const auto found = registers.find("x" + std::to_string(n)); found != registers.end()) x_[n] = {found->second & kRegister, true};
    for (unsigned n = 0; n < 32; ++n)
        if (const auto found = registers.find("f" + std::to_string(n)); found != registers.end()) floats_.know(n, found->second);
}

void RvMachine::lose(std::uint64_t step) {
    for (unsigned n = 1; n < x_.size(); ++n) {
        x_[n] = {0, false, step};
        x_[n].origin = Known::origin_of(step, kLost, n);
    }
    for (Known* reg : {&scratch_, &epc_, &cause_, &value_}) *reg = {0, false, step};
    floats_.lose(step);
    memory_.forget(step);
}

}  // namespace mt
