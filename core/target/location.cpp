#include "target/location.h"

#include <dwarf.h>

#include <algorithm>

namespace mt::dwarf {
namespace {

constexpr unsigned kMostOperations = 4096;
constexpr std::size_t kDeepest = 256, kMostPieces = 256;
constexpr std::uint64_t kMostValue = 4096;

std::uint64_t newest(std::uint64_t a, std::uint64_t b) {
    if (a == FrameWord::kNever || b == FrameWord::kNever) return std::min(a, b);
    return std::max(a, b);
}

std::int64_t as_signed(std::uint64_t v, unsigned bytes) {
    return bytes == 4 ? static_cast<std::int32_t>(static_cast<std::uint32_t>(v)) : static_cast<std::int64_t>(v);
}

// DWARF 5, 2.5.1.4: arithmetic is that of addresses, modulo their size.
std::optional<std::uint64_t> calculated(unsigned op, std::uint64_t a, std::uint64_t b, unsigned bytes) {
    const std::int64_t sa = as_signed(a, bytes), sb = as_signed(b, bytes);
    const unsigned bits = bytes * 8;
    switch (op) {
        case DW_OP_and:
            return a & b;
        case DW_OP_or:
            return a | b;
        case DW_OP_xor:
            return a ^ b;
        case DW_OP_plus:
            return a + b;
        case DW_OP_minus:
            return a - b;
        case DW_OP_mul:
            return a * b;
        case DW_OP_div:
            if (sb == 0) return std::nullopt;
            return sb == -1 ? std::uint64_t{0} - a : static_cast<std::uint64_t>(sa / sb);
        case DW_OP_mod:
            return b == 0 ? std::nullopt : std::optional(a % b);
        case DW_OP_shl:
            return b >= bits ? 0 : a << b;
        case DW_OP_shr:
            return b >= bits ? 0 : a >> b;
        case DW_OP_shra:
            return static_cast<std::uint64_t>(sa >> std::min<std::uint64_t>(b, bits - 1));
        case DW_OP_eq:
            return sa == sb ? 1 : 0;
        case DW_OP_ne:
            return sa != sb ? 1 : 0;
        case DW_OP_lt:
            return sa < sb ? 1 : 0;
        case DW_OP_le:
            return sa <= sb ? 1 : 0;
        case DW_OP_gt:
            return sa > sb ? 1 : 0;
        case DW_OP_ge:
            return sa >= sb ? 1 : 0;
        default:
            return std::nullopt;
    }
}

// Where a branch of an expression leads (DWARF 5, 2.5.1.5): an operation of it, or its end.
std::optional<std::size_t> branched(std::span<const Dwarf_Op> ops, std::size_t at) {
    const auto from = static_cast<std::int64_t>(ops[at].offset) + 3;
    const auto to = from + static_cast<std::int16_t>(ops[at].number);
    for (std::size_t i = 0; i < ops.size(); ++i)
        if (static_cast<std::int64_t>(ops[i].offset) == to) return i;
    return std::nullopt;
}

std::vector<FrameWord> bytes_of(const FrameWord& word, unsigned count) {
    std::vector<FrameWord> all(count);
    for (unsigned i = 0; i < count; ++i) all[i] = {i < 8 ? word.value >> (8 * i) & 0xFF : 0, word.known, word.set_at};
    return all;
}

}  // namespace

FrameWord LocationReader::pop() {
    if (stack_.empty()) return {};
    const FrameWord w = stack_.back();
    stack_.pop_back();
    return w;
}

FrameWord LocationReader::memory(const FrameWord& address, unsigned bytes) const {
    FrameWord out{0, address.known && bytes > 0 && bytes <= 8, FrameWord::kNever};
    for (unsigned i = 0; out.known && i < bytes; ++i) {
        const FrameWord b = state_.byte(address.value + i);
        out.value |= (b.value & 0xFF) << (8 * i);
        out.known = b.known;
        out.set_at = newest(out.set_at, b.set_at);
    }
    return out;
}

void LocationReader::finish_piece(std::uint64_t size) {
    if (!described_ && !stack_.empty()) {
        simple_.in = LocationPiece::In::memory;
        simple_.address = pop();
    }
    simple_.size = size;
    if (pieces_.size() < kMostPieces) pieces_.push_back(std::move(simple_));
    simple_ = {};
    described_ = false;
}

bool LocationReader::step(Dwarf_Attribute* attribute, std::span<const Dwarf_Op> ops, std::size_t& at) {
    const Dwarf_Op& op = ops[at++];
    const unsigned atom = op.atom;
    const std::uint64_t all = state_.address_bytes == 4 ? 0xFFFF'FFFFU : ~std::uint64_t{0};
    const auto push = [&](FrameWord w) {
        w.value &= all;
        if (stack_.size() < kDeepest) stack_.push_back(w);
    };
    const auto based = [&](unsigned number, std::uint64_t offset) {
        FrameWord w = state_.reg(number);
        w.value += offset;
        push(w);
    };
    const auto in_register = [&](unsigned number) {
        simple_.in = LocationPiece::In::reg;
        simple_.number = number;
        described_ = true;
    };
    if (atom >= DW_OP_lit0 && atom <= DW_OP_lit31) return push(FrameWord::of(atom - DW_OP_lit0)), true;
    if (atom >= DW_OP_reg0 && atom <= DW_OP_reg31) return in_register(atom - DW_OP_reg0), true;
    if (atom >= DW_OP_breg0 && atom <= DW_OP_breg31) return based(atom - DW_OP_breg0, op.number), true;
    switch (atom) {
        case DW_OP_addr:
        case DW_OP_const1u:
        case DW_OP_const2u:
        case DW_OP_const4u:
        case DW_OP_const8u:
        case DW_OP_constu:
        case DW_OP_const1s:
        case DW_OP_const2s:
        case DW_OP_const4s:
        case DW_OP_const8s:
        case DW_OP_consts:
            push(FrameWord::of(op.number));
            return true;
        case DW_OP_addrx:
        case DW_OP_constx: {
            Dwarf_Attribute in_table;
            Dwarf_Addr address = 0;
            Dwarf_Word number = 0;
            if (attribute == nullptr || dwarf_getlocation_attr(attribute, &op, &in_table) != 0) return false;
            if (atom == DW_OP_addrx ? dwarf_formaddr(&in_table, &address) != 0 : dwarf_formudata(&in_table, &number) != 0) return false;
            push(FrameWord::of(atom == DW_OP_addrx ? address : number));
            return true;
        }
        case DW_OP_regx:
            in_register(static_cast<unsigned>(op.number));
            return true;
        case DW_OP_bregx:
            based(static_cast<unsigned>(op.number), op.number2);
            return true;
        case DW_OP_fbreg: {
            FrameWord w = frame_base_ ? frame_base_() : FrameWord{};
            w.value += op.number;
            push(w);
            return true;
        }
        case DW_OP_call_frame_cfa:
            push(cfa_ ? cfa_() : FrameWord{});
            return true;
        case DW_OP_dup:
            if (stack_.empty()) return false;
            push(stack_.back());
            return true;
        case DW_OP_drop:
            pop();
            return true;
        case DW_OP_over:
        case DW_OP_pick: {
            const std::uint64_t deep = atom == DW_OP_over ? 1 : op.number;
            if (deep >= stack_.size()) return false;
            push(stack_[stack_.size() - 1 - deep]);
            return true;
        }
        case DW_OP_swap:
            if (stack_.size() < 2) return false;
            std::swap(stack_[stack_.size() - 1], stack_[stack_.size() - 2]);
            return true;
        case DW_OP_rot:
            if (stack_.size() < 3) return false;
            std::rotate(stack_.end() - 3, stack_.end() - 1, stack_.end());
            return true;
        case DW_OP_deref:
        case DW_OP_deref_size:
            push(memory(pop(), atom == DW_OP_deref ? state_.address_bytes : static_cast<unsigned>(std::min<std::uint64_t>(op.number, 9))));
            return true;
        case DW_OP_abs:
        case DW_OP_neg:
        case DW_OP_not: {
            FrameWord w = pop();
            if (atom == DW_OP_not) w.value = ~w.value;
            if (atom == DW_OP_neg || (atom == DW_OP_abs && as_signed(w.value, state_.address_bytes) < 0)) w.value = 0 - w.value;
            push(w);
            return true;
        }
        case DW_OP_plus_uconst: {
            FrameWord w = pop();
            w.value += op.number;
            push(w);
            return true;
        }
        case DW_OP_skip:
        case DW_OP_bra: {
            const FrameWord decides = atom == DW_OP_bra ? pop() : FrameWord::of(1);
            if (!decides.known) return false;  // which way it goes is not known
            if (decides.value == 0) return true;
            const auto to = branched(ops, at - 1);
            if (!to) return false;
            at = *to;
            return true;
        }
        case DW_OP_nop:
            return true;
        case DW_OP_piece:
            finish_piece(op.number);
            return true;
        case DW_OP_bit_piece:  // of whole bytes only; others are not known
            if (op.number % 8 != 0 || op.number2 != 0) {
                simple_ = {};
                described_ = true;
                stack_.clear();
            }
            finish_piece((op.number + 7) / 8);
            return true;
        case DW_OP_implicit_value: {
            Dwarf_Block block;
            if (attribute == nullptr || dwarf_getlocation_implicit_value(attribute, &op, &block) != 0) return false;
            simple_.in = LocationPiece::In::value;
            for (Dwarf_Word i = 0; i < std::min<std::uint64_t>(block.length, kMostValue); ++i)
                simple_.bytes.push_back(FrameWord::of(block.data[i]));
            described_ = true;
            return true;
        }
        case DW_OP_stack_value:
            simple_.in = LocationPiece::In::value;
            simple_.bytes = bytes_of(pop(), state_.address_bytes);
            described_ = true;
            return true;
        case DW_OP_entry_value:
        case DW_OP_GNU_entry_value: {
            // Its operand is an expression: that of a register alone is what compilers write.
            Dwarf_Attribute inner;
            Dwarf_Op* its = nullptr;
            std::size_t count = 0;
            FrameWord w;
            if (attribute != nullptr && dwarf_getlocation_attr(attribute, &op, &inner) == 0 &&
                dwarf_getlocation(&inner, &its, &count) == 0 && count == 1 && state_.at_entry) {
                if (its[0].atom >= DW_OP_reg0 && its[0].atom <= DW_OP_reg31)
                    w = state_.at_entry(state_.frame, state_.pc, its[0].atom - DW_OP_reg0);
                else if (its[0].atom == DW_OP_regx)
                    w = state_.at_entry(state_.frame, state_.pc, static_cast<unsigned>(its[0].number));
            }
            push(w);
            return true;
        }
        case DW_OP_implicit_pointer:
        case DW_OP_GNU_implicit_pointer:  // what it points to has no address
            simple_ = {};
            described_ = true;
            return true;
        default:
            break;
    }
    if (stack_.size() >= 2 && ((atom >= DW_OP_and && atom <= DW_OP_xor) || (atom >= DW_OP_eq && atom <= DW_OP_ne))) {
        const FrameWord b = pop(), a = pop();
        const auto value = a.known && b.known ? calculated(atom, a.value, b.value, state_.address_bytes) : std::nullopt;
        push({value.value_or(0), value.has_value(), newest(a.set_at, b.set_at)});
        return true;
    }
    return false;  // typed operations, thread-local storage, calls: not known
}

std::vector<LocationPiece> LocationReader::read(Dwarf_Attribute* attribute, std::span<const Dwarf_Op> ops) {
    stack_.clear();
    pieces_.clear();
    simple_ = {};
    described_ = false;
    unsigned done = 0;
    for (std::size_t at = 0; at < ops.size();)
        if (++done > kMostOperations || !step(attribute, ops, at)) return {};
    if (pieces_.empty() || described_ || !stack_.empty()) finish_piece(0);
    return std::move(pieces_);
}

FrameWord LocationReader::number(std::span<const Dwarf_Op> ops, const FrameWord* began) {
    stack_.clear();
    simple_ = {};
    described_ = false;
    if (began != nullptr) stack_.push_back(*began);
    unsigned done = 0;
    for (std::size_t at = 0; at < ops.size();)
        if (++done > kMostOperations || !step(nullptr, ops, at)) return {};
    if (described_ && simple_.in == LocationPiece::In::reg) return state_.reg(simple_.number);
    return pop();
}

std::vector<FrameWord> bytes_in(const std::vector<LocationPiece>& pieces, std::uint64_t size, const FrameState& state) {
    std::vector<FrameWord> all;
    for (const LocationPiece& p : pieces) {
        const std::uint64_t wanted = std::min(p.size == 0 ? size : p.size, size - std::min<std::uint64_t>(size, all.size()));
        const FrameWord reg = p.in == LocationPiece::In::reg ? state.reg(p.number) : FrameWord{};
        const bool real = is_riscv(state.isa) && p.number >= 32;  // psABI: f0 to f31, which may be wider
        const unsigned bytes = real ? 8 : state.address_bytes;
        for (std::uint64_t i = 0; i < wanted; ++i) {
            FrameWord b;
            if (p.in == LocationPiece::In::memory && p.address.known) b = state.byte(p.address.value + i);
            if (p.in == LocationPiece::In::reg && i < bytes) b = {reg.value >> (8 * i) & 0xFF, reg.known, reg.set_at};
            if (p.in == LocationPiece::In::value) b = i < p.bytes.size() ? p.bytes[i] : FrameWord{};
            all.push_back(b);
        }
    }
    all.resize(size);
    return all;
}

}  // namespace mt::dwarf
