#include "flow/etrace_flow.h"

#include "target/trap_vectors.h"

namespace mt {

EtraceFlow::EtraceFlow(std::shared_ptr<const Code> code, const EtraceParameters& parameters)
    : code_(std::move(code)), parameters_(parameters) {
    options_[static_cast<std::size_t>(Option::implicit_return)] = parameters.implicit_return;
    options_[static_cast<std::size_t>(Option::full_address)] = parameters.full_address;
    const unsigned bits =
        parameters.return_stack_size > 0 ? parameters.return_stack_size : parameters.call_counter_size;
    stack_most_ = bits == 0 ? 0 : std::size_t{1} << bits;
    may_hop_ = parameters.bpred_size == 0;
    const TrapVectors found = parameters.mtvec && parameters.stvec ? TrapVectors{} : trap_vectors(*code_);
    const auto fix = [](Vector& v, std::optional<std::uint64_t> value) {
        if (value) v = {*value & ~std::uint64_t{3}, (*value & 3) == 1, true};
    };
    fix(vectors_[0], parameters.stvec ? parameters.stvec : found.stvec);
    fix(vectors_[1], parameters.mtvec ? parameters.mtvec : found.mtvec);
    if (parameters.bpred_size > 0) predictor_.assign(std::size_t{1} << parameters.bpred_size, 1);
    if (parameters.cache_size > 0) cache_.assign(std::size_t{1} << parameters.cache_size, 0);
}

bool EtraceFlow::agrees(const EtraceFlow& g, const EtraceFlow&) const {
    // What ran before is asked for by one option only, and at jumps.
    const bool before = before_ == g.before_ || !on(Option::sequentially_inferred_jump) ||
                        (*code_)[pc_].flow < Flow::indirect || (*code_)[pc_].flow > Flow::ret;
    return before && options_ == g.options_ && pc_ == g.pc_ && address_ == g.address_ && map_ == g.map_ &&
           branches_ == g.branches_ && predictions_ == g.predictions_ && stop_at_branch_ == g.stop_at_branch_ &&
           inferred_ == g.inferred_ && waiting_ == g.waiting_ && trap_pending_ == g.trap_pending_ && any_ == g.any_ &&
           privilege_ == g.privilege_ && stack_ == g.stack_ && predictor_ == g.predictor_ && cache_ == g.cache_ &&
           vectors_ == g.vectors_ && contexts_ == g.contexts_;
}

// An exception goes to the base, whatever the mode; an interrupt in vectored mode to four bytes a cause behind it
// (privileged ISA, 3.1.7).
void EtraceFlow::learn_vector(const EtracePacket& p) {
    Vector& v = vector_of(p.privilege);
    if (v.fixed) return;
    if (!p.interrupt || p.ecause == 0)
        v.base = p.address;
    else if (v.base && (p.address == *v.base || p.address == *v.base + 4 * std::uint64_t{p.ecause}))
        v.vectored = p.address != *v.base;
}

bool EtraceFlow::handler_of(const EtracePacket& p, std::uint64_t& at) const {
    const Vector& v = vectors_[p.privilege == 1 ? 0 : 1];
    if (!v.base || (p.interrupt && !v.vectored)) return false;
    at = *v.base + (p.interrupt && *v.vectored ? 4 * std::uint64_t{p.ecause} : 0);
    if (code_->xlen() == 32) at &= 0xFFFF'FFFF;
    return true;
}

// Two bits each: the upper predicts, the lower says how surely (4.2.5).
bool EtraceFlow::predicted(std::uint32_t slot) const {
    if (predictor_.empty()) return false;
    const std::uint64_t index = (code_->address(slot) >> parameters_.iaddress_lsb) & (predictor_.size() - 1);
    return predictor_[index] >= 2;
}

void EtraceFlow::learn_branch(std::uint32_t slot, bool taken) {
    if (predictor_.empty()) return;
    std::uint8_t& state = predictor_[(code_->address(slot) >> parameters_.iaddress_lsb) & (predictor_.size() - 1)];
    // 0 and 1 predict "not taken", 2 and 3 "taken"; 0 and 3 are sure.
    const bool says_taken = state >= 2;
    if (says_taken == taken)
        state = taken ? 3 : 0;
    else
        state = state == 0 ? 1 : state == 3 ? 2 : taken ? 3 : 0;
}

// Where lui or auipc and the jump behind it lead to, if they do (4.2.3).
std::uint32_t EtraceFlow::sequential_target(std::uint32_t slot) const {
    const Code& code = *code_;
    if (before_ == Code::kNowhere || code.next(before_) != slot || (code[before_].flags & FlowInsn::kUpper) == 0)
        return Code::kNowhere;
    const std::uint32_t jump = code.bits(slot), upper = code.bits(before_);
    const bool wide = code[slot].size == 2;
    const unsigned base = wide ? jump >> 15 & 31 : jump >> 7 & 31;
    if ((upper >> 7 & 31) != base) return Code::kNowhere;
    std::int64_t value = 0;
    if (code[before_].size == 1) {  // c.lui
        const std::uint32_t bits = (upper >> 12 & 1) << 5 | (upper >> 2 & 31);
        value = ((static_cast<std::int64_t>(bits) ^ 32) - 32) * 4096;
    } else {
        value = static_cast<std::int32_t>(upper & 0xFFFF'F000);
        if ((upper & 0x7F) == 0x17) value += static_cast<std::int64_t>(code.address(before_));
    }
    if (wide) value += static_cast<std::int32_t>(jump) >> 20;
    auto target = static_cast<std::uint64_t>(value) & ~std::uint64_t{1};
    if (code.xlen() == 32) target &= 0xFFFF'FFFF;
    return code.slot_of(target);
}

// Where the program was interrupted (11.2.3). False: the trace does not tell.
bool EtraceFlow::epc(const EtracePacket& p, std::uint64_t& at) const {
    if (waiting_ || trap_pending_ || pc_ == Code::kNowhere) {
        at = p.address;
        return !p.thaddr;
    }
    const Code::Slot& s = (*code_)[pc_];
    std::uint32_t slot = pc_;
    switch (s.flow) {
        case Flow::trap:
            break;
        case Flow::jump:
        case Flow::call:
            slot = s.target;
            break;
        case Flow::branch:
            slot = branches_ > 0 && (map_ & 1) == 0 ? s.target : code_->next(slot);
            break;
        case Flow::indirect:
        case Flow::indirect_call:
        case Flow::ret:
        case Flow::trap_return: {
            if (!p.thaddr) {
                at = p.address;
                return true;
            }
            const std::uint32_t inferred =
                on(Option::sequentially_inferred_jump) ? sequential_target(slot) : Code::kNowhere;
            if (inferred != Code::kNowhere)
                slot = inferred;
            else if (s.flow == Flow::ret && on(Option::implicit_return) && !stack_.empty())
                slot = stack_.back();
            else
                return false;
            break;
        }
        default:
            slot = code_->next(slot);
            break;
    }
    at = slot == Code::kNowhere ? 0 : code_->address(slot);
    return slot != Code::kNowhere;
}

}  // namespace mt
