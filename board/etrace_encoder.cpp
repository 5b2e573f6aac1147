#include "etrace_encoder.h"

#include <algorithm>

namespace board {
namespace {

unsigned opcode(const RvRetired& x) { return x.word & 0x7F; }
unsigned rd(const RvRetired& x) { return x.word >> 7 & 31; }
unsigned rs1(const RvRetired& x) { return x.word >> 15 & 31; }
bool is_link(unsigned reg) { return reg == 1 || reg == 5; }
bool is_branch(const RvRetired& x) { return opcode(x) == 0x63; }
bool is_indirect(const RvRetired& x) { return opcode(x) == 0x67 && rs1(x) != 0; }
bool is_return(const RvRetired& x) { return is_indirect(x) && is_link(rs1(x)) && !is_link(rd(x)); }
bool is_call(const RvRetired& x) { return (opcode(x) == 0x6F || opcode(x) == 0x67) && is_link(rd(x)); }
bool is_trap_return(const RvRetired& x) { return x.word == 0x3020'0073 || x.word == 0x1020'0073; }
bool is_trap_call(const RvRetired& x) { return x.word == 0x73 || x.word == 0x0010'0073; }
bool goes_on(const RvRetired& x) { return x.next == x.pc + x.length; }

}  // namespace

namespace cop_mode {
namespace {

struct Mode {
    const char* name;
    std::uint32_t bit;
    mt::EtraceParameters::Option option;
};
using Option = mt::EtraceParameters::Option;
constexpr std::array<Mode, 6> kModes{{{"sequentially_inferred_jump", kSequentialJump, Option::sequentially_inferred_jump},
                                      {"implicit_return", kImplicitReturn, Option::implicit_return},
                                      {"implicit_exception", kImplicitException, Option::implicit_exception},
                                      {"branch_prediction", kBranchPrediction, Option::branch_prediction},
                                      {"jump_target_cache", kJumpTargetCache, Option::jump_target_cache},
                                      {"full_address", kFullAddress, Option::full_address}}};

}  // namespace

std::optional<std::uint32_t> named(const std::string& names) {
    if (names == "all") return kAll;
    if (names == "none") return 0;
    std::uint32_t modes = 0;
    for (std::size_t at = 0; at <= names.size();) {
        const std::size_t end = std::min(names.find(',', at), names.size());
        const auto found = std::find_if(kModes.begin(), kModes.end(), [&](const Mode& m) { return names.compare(at, end - at, m.name) == 0; });
        if (found == kModes.end()) return std::nullopt;
        modes |= found->bit;
        at = end + 1;
    }
    return modes;
}

std::string target_keys(std::uint32_t modes) {
    std::string keys;
    const auto key = [&](std::uint32_t mode, const char* name, unsigned value) {
        if ((modes & mode) != 0) keys += std::string(name) + " = " + std::to_string(value) + "\n";
    };
    key(kImplicitReturn, "return_stack_size", kReturnStack);
    key(kBranchPrediction, "bpred_size", kPredictor);
    key(kJumpTargetCache, "cache_size", kCache);
    return keys;
}

}  // namespace cop_mode

EtraceEncoder cop_encoder(std::uint32_t modes, bool timed, std::uint64_t sync_each) {
    mt::EtraceParameters parameters;
    if ((modes & cop_mode::kImplicitReturn) != 0) parameters.return_stack_size = cop_mode::kReturnStack;
    if ((modes & cop_mode::kBranchPrediction) != 0) parameters.bpred_size = cop_mode::kPredictor;
    if ((modes & cop_mode::kJumpTargetCache) != 0) parameters.cache_size = cop_mode::kCache;
    if (timed) parameters.time_width = cop_mode::kTimeBits;
    mt::EtraceOptions options{};
    for (const auto& mode : cop_mode::kModes) options[static_cast<std::size_t>(mode.option)] = (modes & mode.bit) != 0;
    return EtraceEncoder(parameters, options, sync_each);
}

// A packet's payload, least significant bit first.
struct EtraceEncoder::Bits {
    std::vector<bool> bits;
    void put(std::uint64_t value, unsigned width) {
        for (unsigned i = 0; i < width; ++i) bits.push_back(i < 64 && (value >> i & 1) != 0);
    }
    bool last() const { return !bits.empty() && bits.back(); }
};

EtraceEncoder::EtraceEncoder(const mt::EtraceParameters& parameters, const mt::EtraceOptions& options,
                             std::uint64_t sync_each)
    : parameters_(parameters), options_(options), sync_each_(sync_each) {
    const unsigned bits =
        parameters.return_stack_size > 0 ? parameters.return_stack_size : parameters.call_counter_size;
    stack_most_ = bits == 0 ? 0 : std::size_t{1} << bits;
    if (parameters.bpred_size > 0) predictor_.assign(std::size_t{1} << parameters.bpred_size, 1);
    if (parameters.cache_size > 0) cache_.assign(std::size_t{1} << parameters.cache_size, 0);
}

void EtraceEncoder::retired(const RvRetired& insn) {
    if (!started_) {
        started_ = true;
        halted_ = false;
        put_support(0);
    }
    if (held_)
        settle(insn.pc == held_->pc || seen_before(insn.pc)      ? Then::repeats
               : since_sync_ >= sync_each_ && !afresh_ && !trap_ ? Then::sync
                                                                 : Then::goes_on);
    held_ = insn;
}

void EtraceEncoder::restarted() {
    stop();
    halted_ = false;
    trap_.reset();
}

void EtraceEncoder::halted() {
    halted_ = halted_ || started_;
    if (!started_ && trap_) {  // all that happened since the last halt
        started_ = true;
        put_support(0);
    }
    stop();
}

void EtraceEncoder::trapped(const RvTrapped& trap) {
    if (!started_) {
        if (halted_) trap_ = trap;
        return;
    }
    if (held_) {
        const RvRetired last = *held_;
        settle(Then::trap);
        if (updiscon_ && !is_trap_call(last)) {
            // Taken at the target of a jump: only this packet tells where that was (7.3.2, thaddr).
            put_trap(trap, false, trap.epc, true);
            afresh_ = true;
            before_.reset();
            return;
        }
    } else if (trap_) {
        // A second one before the handler of the first ran.
        put_trap(*trap_, false, trap_->epc, true);
        trap_ = trap;
        put_trap(trap, false, trap.epc, true);
        trap_.reset();
        afresh_ = true;
        return;
    }
    if (!started_ || afresh_) return;  // nothing was traced before: the next instruction begins
    trap_ = trap;
}

void EtraceEncoder::stop() {
    if (!started_) return;
    if (held_) settle(Then::end);
    if (trap_) put_trap(*trap_, false, trap_->epc, true);  // its handler has executed nothing yet (7.3.2, thaddr)
    put_support(1);
    started_ = false;
    afresh_ = true;
    trap_.reset();
}

void EtraceEncoder::drain(std::vector<std::uint8_t>& out) {
    out.insert(out.end(), out_.begin(), out_.end());
    out_.clear();
}

// Whether `pc` was passed since the last branch or packet: by its address alone it could not be told from then.
bool EtraceEncoder::seen_before(std::uint32_t pc) const {
    return std::any_of(walked_.begin(), walked_.end(),
                       [pc](const auto& piece) { return pc >= piece.first && pc <= piece.second; });
}

bool EtraceEncoder::predicted(std::uint32_t pc) const {
    return predictor_[(pc >> parameters_.iaddress_lsb) & (predictor_.size() - 1)] >= 2;
}

// A two-bit state: the upper bit predicts; a wrong prediction first makes it unsure, the second turns it (4.2.5).
void EtraceEncoder::learn(std::uint32_t pc, bool taken) {
    std::uint8_t& state = predictor_[(pc >> parameters_.iaddress_lsb) & (predictor_.size() - 1)];
    constexpr std::uint8_t next_taken[] = {1, 3, 3, 3}, next_not[] = {0, 0, 0, 2};
    state = taken ? next_taken[state] : next_not[state];
}

void EtraceEncoder::count_branch(const RvRetired& x) {
    const bool taken = !goes_on(x);
    const bool right = !predictor_.empty() && predicted(x.pc) == taken;
    if (!predictor_.empty()) learn(x.pc, taken);
    if (predictions_ > 0) {
        ++predictions_;
        mispredicted_ = !right;
        return;
    }
    map_ |= static_cast<std::uint32_t>(!taken) << branches_;
    ++branches_;
    as_predicted_ = as_predicted_ && right;
}

// Whether the target must be told; follows calls and returns on the way (4.2.1 to 4.2.3).
bool EtraceEncoder::leaves_unknown(const RvRetired& x) {
    bool unknown = is_indirect(x) || is_trap_return(x) || is_trap_call(x);
    if (is_indirect(x) && on(Option::sequentially_inferred_jump) && before_ && before_->next == x.pc &&
        (opcode(*before_) == 0x37 || opcode(*before_) == 0x17) && rd(*before_) == rs1(x))
        unknown = false;
    const bool stacked = on(Option::implicit_return) && stack_most_ > 0;
    if (unknown && stacked && is_return(x) && !stack_.empty()) {
        if (stack_.back() == x.next) {
            stack_.pop_back();
            unknown = false;
        } else {
            failed_ = stack_.size();
        }
    }
    if (stacked && is_call(x)) {
        if (stack_.size() == stack_most_) stack_.erase(stack_.begin());
        stack_.push_back(x.pc + x.length);
    }
    return unknown;
}

// What follows the held instruction is known: tells of it what has to be told.
void EtraceEncoder::settle(Then then) {
    const RvRetired x = *held_;
    held_.reset();
    time_ = x.cycle;
    ++since_sync_;
    if (trap_) {
        put_trap(*trap_, true, x.pc, !is_branch(x) || goes_on(x));
        trap_.reset();
        begin(x);
    } else if (afresh_) {
        const auto before = before_;
        put_sync(x.pc, !is_branch(x) || goes_on(x));
        begin(x);
        before_ = before;
    } else {
        if (is_branch(x)) {
            count_branch(x);
            walked_.clear();
        }
        const bool breaks = then == Then::trap || then == Then::sync || then == Then::end;
        const bool pending = branches_ > 0 || predictions_ > 0;
        if (updiscon_)
            report(x.pc, breaks, false, is_branch(x));
        else if (then == Then::trap || then == Then::end || (then == Then::sync && pending))
            report(x.pc, false, false, is_branch(x));
        else if (then == Then::repeats)
            report(x.pc, false, true, is_branch(x));
        else if (mispredicted_)
            report(0, false, false, true);
        else if (branches_ == 31) {
            if (on(Option::branch_prediction) && as_predicted_) {
                predictions_ = 31;
                map_ = branches_ = 0;
            } else {
                Bits b;
                b.put(0, parameters_.src_id_bits);
                b.put(1, 2);
                b.put(0, 5);
                b.put(map_, 31);
                send(b);
                map_ = branches_ = 0;
                as_predicted_ = true;
            }
        }
    }
    updiscon_ = leaves_unknown(x);
    if (walked_.empty() || walked_.back().second + 1 != x.pc)
        walked_.emplace_back(x.pc, x.pc + x.length - 1);
    else
        walked_.back().second = x.pc + x.length - 1;
    before_ = then == Then::trap ? std::nullopt : std::optional(x);
    if (then == Then::sync) afresh_ = true;
}

// Behind a packet with a full address: nothing before it matters.
void EtraceEncoder::begin(const RvRetired& x) {
    if (!predictor_.empty() && is_branch(x)) learn(x.pc, !goes_on(x));
    afresh_ = updiscon_ = mispredicted_ = false;
    map_ = branches_ = 0;
    predictions_ = 0;
    as_predicted_ = true;
    failed_.reset();
    stack_.clear();
    walked_.clear();
    before_.reset();
    last_address_ = x.pc;
}

void EtraceEncoder::put_map(Bits& b) const {
    const unsigned width = branches_ <= 1    ? branches_
                           : branches_ <= 3  ? 3
                           : branches_ <= 7  ? 7
                           : branches_ <= 15 ? 15
                                             : 31;
    b.put(branches_, 5);
    b.put(map_, width);
}

// Each bit is sent as its difference from the one before (7.5).
void EtraceEncoder::put_ends(Bits& b, bool before, bool notify, bool updiscon) {
    const bool n = before != notify, u = n != updiscon, r = u != failed_.has_value();
    b.put(n, 1);
    b.put(u, 1);
    b.put(r, 1);
    const unsigned width =
        parameters_.return_stack_size + (parameters_.return_stack_size > 0 ? 1 : 0) + parameters_.call_counter_size;
    b.put(failed_ ? *failed_ : u ? ~std::uint64_t{0} : 0, width);
}

void EtraceEncoder::put_difference(Bits& b, std::uint32_t address, bool notify, bool updiscon) {
    // A difference of 64-bit addresses is one of 32 bits with its sign.
    const auto difference = static_cast<std::uint64_t>(static_cast<std::int64_t>(static_cast<std::int32_t>(address - last_address_)));
    const std::uint64_t value = on(Option::full_address) ? address + above_ : difference;
    last_address_ = address;
    b.put(value >> parameters_.iaddress_lsb, parameters_.iaddress_width - parameters_.iaddress_lsb);
    put_ends(b, (value >> (parameters_.iaddress_width - 1) & 1) != 0, notify, updiscon);
}

// Formats 0, 1 and 2. Without a target to name (a branch that was not predicted ends the count): address 0.
void EtraceEncoder::report(std::uint32_t address, bool discontinuity_then_break, bool notify, bool branch) {
    const unsigned subformat = parameters_.f0s_width != 0                                 ? parameters_.f0s_width
                               : parameters_.bpred_size > 0 && parameters_.cache_size > 0 ? 1
                                                                                          : 0;
    Bits b;
    b.put(0, parameters_.src_id_bits);
    if (predictions_ > 0) {
        b.put(0, 2);
        b.put(0, subformat);
        const bool wrong = mispredicted_ && branch;
        b.put(predictions_ - (wrong ? 1 : 0) - 31, 32);
        b.put(address == 0 ? 0 : wrong ? 3 : 2, 2);
        if (address != 0) put_difference(b, address, notify, discontinuity_then_break);
    } else if (updiscon_ && on(Option::jump_target_cache) && !notify && !discontinuity_then_break &&
               cache_[(address >> parameters_.iaddress_lsb) & (cache_.size() - 1)] == address) {
        b.put(0, 2);
        b.put(1, subformat);
        b.put((address >> parameters_.iaddress_lsb) & (cache_.size() - 1), parameters_.cache_size);
        put_map(b);
        const bool before = branches_ > 0 && b.last(), r = before != failed_.has_value();
        b.put(r, 1);
        const unsigned width =
            parameters_.return_stack_size + (parameters_.return_stack_size > 0 ? 1 : 0) + parameters_.call_counter_size;
        b.put(failed_ ? *failed_ : r ? ~std::uint64_t{0} : 0, width);
        last_address_ = address;
    } else {
        b.put(branches_ > 0 ? 1 : 2, 2);
        if (branches_ > 0) put_map(b);
        put_difference(b, address, notify, discontinuity_then_break);
    }
    send(b);
    if (updiscon_ && !cache_.empty()) cache_[(address >> parameters_.iaddress_lsb) & (cache_.size() - 1)] = address;
    map_ = branches_ = 0;
    predictions_ = 0;
    mispredicted_ = false;
    as_predicted_ = true;
    failed_.reset();
    walked_.clear();
}

// What packets of format 3 with an address begin with.
EtraceEncoder::Bits EtraceEncoder::full(unsigned subformat, bool branch_bit, std::uint64_t time) const {
    Bits b;
    b.put(0, parameters_.src_id_bits);
    b.put(3, 2);
    b.put(subformat, 2);
    b.put(branch_bit, 1);
    b.put(3, parameters_.privilege_width);
    b.put(time, parameters_.time_width);
    b.put(0, parameters_.context_width);
    return b;
}

void EtraceEncoder::put_sync(std::uint32_t address, bool branch_bit) {
    Bits b = full(0, branch_bit, time_);
    b.put((address + above_) >> parameters_.iaddress_lsb, parameters_.iaddress_width - parameters_.iaddress_lsb);
    send(b);
    since_sync_ = 0;
    forget();
}

// Each synchronisation, trap or not, begins predictor and cache afresh (4.2.5, 4.2.6).
void EtraceEncoder::forget() {
    predictor_.assign(predictor_.size(), 1);
    cache_.assign(cache_.size(), 0);
}

void EtraceEncoder::put_trap(const RvTrapped& trap, bool handler, std::uint32_t address, bool branch_bit) {
    Bits b = full(1, branch_bit, trap.cycle);
    b.put(trap.cause, parameters_.ecause_width);
    b.put(trap.interrupt, 1);
    b.put(handler, 1);
    if (!handler || !on(Option::implicit_exception))  // else it follows from the trap vector (4.2.4)
        b.put((address + above_) >> parameters_.iaddress_lsb, parameters_.iaddress_width - parameters_.iaddress_lsb);
    if (!trap.interrupt) b.put(trap.value, parameters_.iaddress_width);
    send(b);
    forget();
}

void EtraceEncoder::put_support(unsigned qual) {
    Bits b;
    b.put(0, parameters_.src_id_bits);
    b.put(3, 2);
    b.put(3, 2);
    b.put(qual == 0, 1);
    b.put(0, parameters_.encoder_mode_width);
    b.put(qual, 2);
    for (const auto option : parameters_.ioptions) b.put(on(option), 1);
    send(b);
}

// Whole bytes at the end that only repeat the sign are left out (7.1); a byte ahead says how many there are.
void EtraceEncoder::send(const Bits& b) {
    std::vector<std::uint8_t> bytes((b.bits.size() + 7) / 8);
    for (std::size_t i = 0; i < bytes.size() * 8; ++i)
        if (i < b.bits.size() ? b.bits[i] : b.last()) bytes[i / 8] |= static_cast<std::uint8_t>(1u << (i % 8));
    while (bytes.size() > 1 && bytes.back() == ((bytes[bytes.size() - 2] & 0x80) != 0 ? 0xFF : 0)) bytes.pop_back();
    out_.push_back(static_cast<std::uint8_t>(bytes.size()));
    out_.insert(out_.end(), bytes.begin(), bytes.end());
}

}  // namespace board
