#include "replay/rv64_machine.h"

#include <optional>

#include "target/riscv_insn.h"

namespace mt {
namespace {

using namespace rv;

using Signed = std::int64_t;
Signed s(std::uint64_t v) { return static_cast<Signed>(v); }
std::uint64_t u(Signed v) { return static_cast<std::uint64_t>(v); }
/// The lower half with its sign: what the instructions on words leave.
std::uint64_t word(std::uint64_t v) { return u(static_cast<std::int32_t>(static_cast<std::uint32_t>(v))); }
/// Immediates are of 32 bits with their sign.
std::uint64_t wide(std::uint32_t immediate) { return word(immediate); }

// M (chapter 7): division by zero and overflow have values of their own.
std::uint64_t multiplied(unsigned f3, std::uint64_t a, std::uint64_t b) {
    using Wide = __int128;
    const bool overflows = b == ~std::uint64_t{0} && a == std::uint64_t{1} << 63;
    switch (f3) {
        case 0:
            return a * b;
        case 1:
            return static_cast<std::uint64_t>(static_cast<unsigned __int128>(Wide{s(a)} * s(b)) >> 64);
        case 2:
            return static_cast<std::uint64_t>(static_cast<unsigned __int128>(Wide{s(a)} * static_cast<Wide>(b)) >> 64);
        case 3:
            return static_cast<std::uint64_t>(static_cast<unsigned __int128>(a) * b >> 64);
        case 4:
            return b == 0 ? ~std::uint64_t{0} : overflows ? a : u(s(a) / s(b));
        case 5:
            return b == 0 ? ~std::uint64_t{0} : a / b;
        case 6:
            return b == 0 ? a : overflows ? 0 : u(s(a) % s(b));
        default:
            return b == 0 ? a : a % b;
    }
}

std::uint64_t combined(unsigned f3, bool other, std::uint64_t a, std::uint64_t b, unsigned shift_mask) {
    switch (f3) {
        case 0:
            return other ? a - b : a + b;
        case 1:
            return a << (b & shift_mask);
        case 2:
            return s(a) < s(b) ? 1 : 0;
        case 3:
            return a < b ? 1 : 0;
        case 4:
            return a ^ b;
        case 5:
            return other ? u(s(a) >> (b & shift_mask)) : a >> (b & shift_mask);
        case 6:
            return a | b;
        default:
            return a & b;
    }
}

// 5.2, 7: on words; the operands as they are taken, the outcome with its sign.
std::uint64_t on_words(unsigned f3, bool other, bool multiplies, std::uint64_t a, std::uint64_t b) {
    const bool plain = multiplies ? f3 == 5 || f3 == 7 : f3 == 5 && !other;
    const std::uint64_t low = 0xFFFF'FFFF;
    const std::uint64_t va = plain ? a & low : word(a), vb = plain ? b & low : word(b);
    return word(multiplies ? multiplied(f3, va, vb) : combined(f3, other, va, f3 == 1 || f3 == 5 ? b : vb, 31));
}

std::optional<std::uint64_t> amo(unsigned op, std::uint64_t old, std::uint64_t b) {
    switch (op) {
        case 0:
            return old + b;
        case 1:
            return b;
        case 4:
            return old ^ b;
        case 8:
            return old | b;
        case 12:
            return old & b;
        case 16:
            return s(old) < s(b) ? old : b;
        case 20:
            return s(old) > s(b) ? old : b;
        case 24:
            return old < b ? old : b;
        case 28:
            return old > b ? old : b;
        default:
            return std::nullopt;
    }
}

}  // namespace

Rv64Machine::Rv64Machine(std::shared_ptr<const Code> code, PastMemory memory, bool shared)
    : code_(std::move(code)),
      words_(std::make_shared<std::vector<std::uint32_t>>(code_->slot_count())),
      memory_(std::move(memory)),
      shared_(shared) {
    x_[0] = {0, true, Known::kNever};
    for (unsigned n = 1; n < x_.size(); ++n) x_[n].origin = Known::origin_of(Known::kNever, kLost, n);
}

void Rv64Machine::resolve() {
    for (Known& x : x_) memory_.resolve(x, kRegister);
    memory_.resolve(scratch_, kRegister);
}

std::uint32_t Rv64Machine::word_of(std::uint32_t slot) {
    std::uint32_t& w = (*words_)[slot];
    if (w != 0) return w;
    const std::uint32_t all = code_->bits(slot);
    return w = (all & 3) == 3 ? all : expanded64(static_cast<std::uint16_t>(all));
}

Known Rv64Machine::load(unsigned base, std::uint64_t offset, unsigned bytes, bool with_its_sign) {
    if (!x_[base].known) return {};
    const std::uint64_t at = x_[base].value + offset;
    if (shared_ && base != 2 && !memory_.is_constant(at, bytes)) return {};
    Known v = bytes == 8 ? memory_.load(at, 8, now_, kExecuted) : memory_.read(at, bytes);
    if (bytes < 8) v.origin = 0;  // with its sign, or without, it is another value
    if (v.known && with_its_sign && bytes < 8) {
        const unsigned up = 64 - 8 * bytes;
        v.value = u(s(v.value << up) >> up);
    }
    return v;
}

void Rv64Machine::store(unsigned base, std::uint64_t offset, unsigned bytes, const Known& value, std::uint64_t step) {
    if (!x_[base].known) return memory_.forget(step);
    if (base == 2) memory_.note_stack(x_[2].value + offset);
    Known stored = value;
    if (bytes < 8) stored.origin = 0;
    memory_.write(x_[base].value + offset, bytes, stored, step);
}

void Rv64Machine::calculate(std::uint32_t i, const Known& a, const Known& b, bool immediate, bool words, std::uint64_t step) {
    const unsigned rd = bits(i, 11, 7), f3 = bits(i, 14, 12), f7 = bits(i, 31, 25), shifts = immediate && !words ? f7 & ~1u : f7;
    const bool multiplies = !immediate && f7 == 1, shift = f3 == 1 || f3 == 5;
    const bool other = shifts == 0x20 && (!immediate || f3 == 5);
    // Of an extension that is not known here: bits of rd alone change.
    if (immediate ? shift && shifts != 0 && shifts != 0x20 : f7 != 0 && f7 != 1 && f7 != 0x20) return unknown(rd, step);
    if (a.known && b.known) {
        if (words) return set(rd, on_words(f3, other, multiplies, a.value, b.value), step);
        return set(rd, multiplies ? multiplied(f3, a.value, b.value) : combined(f3, other, a.value, b.value, 63), step);
    }
    const bool zero = (a.known && a.value == 0) || (b.known && b.value == 0);
    const bool same = !immediate && bits(i, 19, 15) == bits(i, 24, 20);
    if ((zero && ((multiplies && f3 < 4) || (!multiplies && f3 == 7))) || (same && !multiplies && (f3 == 4 || (f3 == 0 && other))))
        return set(rd, 0, step);
    if (!words && !multiplies && f3 == 0 && a.known != b.known && !(other && a.known)) {  // a sum with a number
        Known sum = a.known ? b : a;
        sum.plus += other ? 0 - b.value : (a.known ? a : b).value;
        sum.set_at = step;
        return put(rd, sum);
    }
    unknown(rd, step);
}

// Of two that were equal, one that is known makes the other known.
void Rv64Machine::branch(std::uint32_t i, std::uint32_t slot, std::uint32_t next) {
    const unsigned f3 = bits(i, 14, 12), a = bits(i, 19, 15), b = bits(i, 24, 20);
    const std::uint32_t on = code_->next(slot), to = (*code_)[slot].target;
    if (next == Code::kNowhere || f3 > 1 || on == to || (next != on && next != to) || (next == to) != (f3 == 0)) return;
    for (const auto& [learns, from] : {std::pair(a, b), std::pair(b, a)})
        if (learns != 0 && !x_[learns].known && x_[from].known) {
            memory_.learn(x_[learns], x_[from].value);
            x_[learns].value = x_[from].value;
            x_[learns].known = true;
            resolve();  // copies of it
        }
}

// A (chapter 8). Whether a conditional store was done is not told.
void Rv64Machine::atomic(std::uint32_t i, std::uint64_t step) {
    const unsigned rd = bits(i, 11, 7), base = bits(i, 19, 15), op = bits(i, 31, 27), f3 = bits(i, 14, 12);
    if (f3 != 2 && f3 != 3) {
        memory_.forget(step);
        return unknown(rd, step);
    }
    const unsigned bytes = 1u << f3;
    const Known b = x_[bits(i, 24, 20)];
    Known old = load(base, 0, bytes, true);
    old.set_at = step;
    if (op == 3) {  // SC
        store(base, 0, bytes, {}, step);
        return unknown(rd, step);
    }
    if (op != 2) {  // not LR
        const auto fresh = old.known && b.known ? amo(op, old.value, f3 == 2 ? word(b.value) : b.value) : op == 1 && b.known ? std::optional(b.value) : std::nullopt;
        store(base, 0, bytes, {fresh.value_or(0), fresh.has_value(), step}, step);
    }
    put(rd, old);
}

// Zicsr (chapter 9).
void Rv64Machine::system(std::uint32_t i, std::uint64_t step) {
    const unsigned f3 = bits(i, 14, 12), rd = bits(i, 11, 7), source = bits(i, 19, 15), way = f3 & 3;
    if (way == 0) return;  // traps, returns and waits change no register that is looked at here
    const std::uint32_t number = bits(i, 31, 20);
    if (auto mode = floats_.control(number, way, way == 1 || source != 0, f3 >= 5 ? Known{source, true} : x_[source])) {
        mode->set_at = step;
        return put(rd, *mode);
    }
    Known* const reg = number == 0x340 ? &scratch_ : number == 0x341 ? &epc_ : number == 0x342 ? &cause_ : nullptr;
    if (number == 0xF14) shared_ = true;  // mhartid: a program for several harts, which share its memory
    if ((number == 0x302 || number == 0x303) && way != 3 && source != 0) delegates_ = true;  // 3.1.8: medeleg and mideleg
    const Known operand = f3 >= 5 ? Known{source, true} : x_[source];
    Known old = reg != nullptr ? *reg : Known{};
    old.set_at = step;
    if (reg != nullptr && (way == 1 || source != 0)) {
        Known fresh{0, operand.known && (way == 1 || old.known), step};
        fresh.value = way == 1 ? operand.value : way == 2 ? old.value | operand.value : old.value & ~operand.value;
        if (reg == &epc_) fresh.value &= ~std::uint64_t{1};
        if (reg == &cause_ || !fresh.known) fresh = {0, false, step};
        if (reg == &scratch_ && way == 1) fresh = operand, fresh.set_at = step;
        *reg = fresh;
    }
    put(rd, old);
}

void Rv64Machine::execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    now_ = step;
    const std::uint32_t i = word_of(slot);
    const unsigned rd = bits(i, 11, 7), f3 = bits(i, 14, 12), base = bits(i, 19, 15), from = bits(i, 24, 20);
    switch (i & 0x7F) {
        case 0x37:
            return set(rd, wide(i & 0xFFFF'F000), step);
        case 0x17:
            return set(rd, code_->address(slot) + wide(i & 0xFFFF'F000), step);
        case 0x6F:
        case 0x67:
            return set(rd, code_->address(slot) + 2u * (*code_)[slot].size, step);
        case 0x63:
            return branch(i, slot, next);
        case 0x03: {
            if (f3 == 7) break;
            if (base == 2 && x_[2].known) memory_.note_stack(x_[2].value + wide(imm_i(i)));
            Known v = load(base, wide(imm_i(i)), 1u << (f3 & 3), f3 < 4);
            v.set_at = step;
            return put(rd, v);
        }
        case 0x23:
            if (f3 > 3) break;
            return store(base, wide(imm_s(i)), 1u << f3, x_[from], step);
        case 0x13:
            return calculate(i, x_[base], {f3 == 1 || f3 == 5 ? bits(i, 25, 20) : wide(imm_i(i)), true}, true, false, step);
        case 0x1B:
            return calculate(i, x_[base], {f3 == 1 || f3 == 5 ? from : wide(imm_i(i)), true}, true, true, step);
        case 0x33:
            return calculate(i, x_[base], x_[from], false, false, step);
        case 0x3B:
            return calculate(i, x_[base], x_[from], false, true, step);
        case 0x0F:
            return;  // fences
        case 0x2F:
            return atomic(i, step);
        case 0x73:
            return system(i, step);
        case 0x27:
            if (f3 != 2 && f3 != 3) break;
            return store(base, wide(imm_s(i)), 1u << f3, floats_.stored(from, 1u << f3), step);
        case 0x07:
            if (base == 2 && x_[2].known) memory_.note_stack(x_[2].value + wide(imm_i(i)));
            return floats_.load(rd, 1u << (f3 & 3), f3 == 2 || f3 == 3 ? load(base, wide(imm_i(i)), 1u << f3, false) : Known{}, step);
        case 0x43:
        case 0x47:
        case 0x4B:
        case 0x4F:
        case 0x53:
            if (auto whole = floats_.operate(i, x_[base], 64, step)) {
                whole->set_at = step;
                put(rd, *whole);
            }
            return;
        default:
            break;
    }
    ++strange_;
    lose(step);
}

void Rv64Machine::trap(const StepTrap& trap, std::uint64_t before) {
    const std::uint64_t step = before > 0 ? before - 1 : 0;
    epc_ = {trap.epc, trap.epc_known && !delegates_, step};
    cause_ = {trap.number | (trap.interrupt ? std::uint64_t{1} << 63 : 0), trap.number != StepTrap::kUnknown && !delegates_, step};
}

void Rv64Machine::begin(const std::map<std::string, std::uint64_t>& registers) {
    for (unsigned n = 1; n < 32; ++n)
        if (const auto found = registers.find("x" + std::to_string(n)); found != registers.end()) x_[n] = {found->second & kRegister, true};
    for (unsigned n = 0; n < 32; ++n)
        if (const auto found = registers.find("f" + std::to_string(n)); found != registers.end()) floats_.know(n, found->second);
}

void Rv64Machine::lose(std::uint64_t step) {
    for (unsigned n = 1; n < x_.size(); ++n) {
        x_[n] = {0, false, step};
        x_[n].origin = Known::origin_of(step, kLost, n);
    }
    for (Known* reg : {&scratch_, &epc_, &cause_}) *reg = {0, false, step};
    floats_.lose(step);
    memory_.forget(step);
}

}  // namespace mt
