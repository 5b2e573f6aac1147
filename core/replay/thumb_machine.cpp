#include "replay/thumb_machine.h"

#include "base/bits.h"

namespace mt {

using namespace arm;

namespace {

constexpr std::uint32_t kBasicFrame = 0x20, kWithFloats = 0x68;  // B1.5.7

// A5.3.18: coprocessors 10 and 11.
bool has_floats(const Code& code) {
    for (std::uint32_t s = 0; s < code.slot_count(); ++s) {
        if (code[s].flow == Flow::none || code[s].size != 2) continue;
        const std::uint32_t i = code.bits(s), first = i & 0xFFFF;  // the first halfword stands lowest
        if ((first & 0xEC00) == 0xEC00 && (i >> 24 & 0xE) == 0xA) return true;
    }
    return false;
}

}  // namespace

ThumbMachine::ThumbMachine(std::shared_ptr<const Code> code, PastMemory memory, bool at_reset,
                           std::optional<std::uint32_t> stack, bool shared)
    : ArmCore(std::move(code), std::move(memory), shared) {
    bit_bands_ = true;
    has_fp_ = has_floats(*code_);
    if (!at_reset) {
        unsure_ = 4;
        if (has_fp_) fp_active_.reset();
        return;
    }
    handler_ = false;
    uses_process_ = known(0);
    if (stack) main_ = known(*stack & ~3u);
    unprivileged_ = known(0);
}

void ThumbMachine::begin(const std::map<std::string, std::uint64_t>& registers) {
    const auto value = [&](const std::string& name) -> std::optional<std::uint64_t> {
        const auto found = registers.find(name);
        return found == registers.end() ? std::nullopt : std::optional(found->second & 0xFFFF'FFFF);
    };
    for (unsigned n = 0; n < 15; ++n)
        if (const auto v = value(n == 14 ? "lr" : "r" + std::to_string(n)); v && n != 13) r_[n] = known(*v);
    if (const auto v = value("msp")) main_ = known(*v);
    if (const auto v = value("psp")) process_ = known(*v);
    if (const auto v = value("control")) {
        uses_process_ = known(*v >> 1 & 1);
        unprivileged_ = known(*v & 1);
        if (has_fp_) fp_active_ = (*v & 4) != 0;
    }
    if (const auto v = value("xpsr")) {
        handler_ = (*v & 0x1FF) != 0;
        flags_ = ConditionFlags::of(static_cast<unsigned>(*v >> 28));
        unsure_ = (*v & 0x0600'FC00) != 0 ? 4 : 0;  // within an IT block, of which nothing else tells
    }
    const auto in_use = value("sp");
    if (in_use && handler_ && (*handler_ || uses_process_.known)) set_sp(known(*in_use));
}

const Known& ThumbMachine::sp() const {
    static const Known nothing;
    if (!handler_) return nothing;
    if (*handler_) return main_;
    if (!uses_process_.known) return nothing;
    return uses_process_.value != 0 ? process_ : main_;
}

void ThumbMachine::set_sp(const Known& value) {
    Known v = value;
    v.value &= ~std::uint64_t{3};
    v.origin = 0;  // without its lowest bits it is another value
    if (!handler_ || (!*handler_ && !uses_process_.known)) {
        main_ = process_ = Known{0, false, v.set_at};
        return;
    }
    (*handler_ || uses_process_.value == 0 ? main_ : process_) = v;
}

void ThumbMachine::jump(const Known& target, std::uint64_t step, std::uint32_t next) {
    // B1.5.8: 0xF….… in handler mode ends it.
    if (target.known && (target.value & 0xF000'0000) == 0xF000'0000) {
        if (handler_ && *handler_) {
            // B1.5.7 and B1.5.8. With another exception waiting, nothing is taken from the stack: the next trap tells that.
            leaving_ = static_cast<std::uint32_t>(target.value);
            return;
        }
        return lose(step);
    }
    // Of a value that is not known nobody can say whether it ended a handler.
    if (!target.known && (!handler_ || *handler_) && next == Code::kNowhere) return lose(step);
    if (!target.known && (!handler_ || *handler_)) may_have_left(step);
}

// B1.5.8: of the registers, those that the frame holds and the stack pointers are then others. Memory is as it was.
void ThumbMachine::may_have_left(std::uint64_t step) {
    if (doubtful_) return lose(step);  // nor whether what led there ran at all
    for (const unsigned n : {0u, 1u, 2u, 3u, 12u, 14u}) r_[n] = {0, false, step};
    flags_ = {};
    unsure_ = 4;  // it may go on in the middle of an IT block
    fork_.condition = Fork::kNone;
    main_ = process_ = {0, false, step};
    uses_process_ = unprivileged_ = {};
    handler_.reset();
    if (has_fp_) fp_active_.reset();
}

void ThumbMachine::lose(std::uint64_t step) {
    lose_registers(step);
    main_ = process_ = {0, false, step};
    uses_process_ = unprivileged_ = {};
    handler_.reset();
    saved_.clear();
    leaving_.reset();
    if (has_fp_) fp_active_.reset();
}

// B1.5.6: eight words go to the stack in use; r0 to r3, r12 and the flags are then not defined. If floating point was used,
// there is room for 18 more, whether or not they are ever written (B1.5.7, lazy state preservation).
void ThumbMachine::trap(const StepTrap& trap, std::uint64_t before) {
    const std::uint64_t step = before > 0 ? before - 1 : 0;
    const auto undefined = [&] {
        for (const unsigned n : {0u, 1u, 2u, 3u, 12u}) r_[n] = {0, false, step};
        flags_ = {};
    };
    if (trap.tail_chained) {
        if (!leaving_) return lose(step);
        const std::uint32_t how = *leaving_;
        leaving_.reset();
        handler_ = true;
        fp_active_ = false;
        undefined();
        r_[14] = {how, true, step};
        return;
    }
    if (leaving_) lose(step);  // it was one, and nothing was told of it
    if (!handler_ || (!*handler_ && !uses_process_.known) || !fp_active_) {  // to a stack that nobody knows
        may_have_left(step);
        memory_.forget(step);
        saved_.clear();
        unsure_ = 0;
        handler_ = true;
        fp_active_ = false;
        return;
    }
    const Known stack = sp();
    const bool process = !*handler_ && uses_process_.value != 0;
    const bool floats = *fp_active_;
    const std::uint32_t how = (*handler_ ? 0xFFFFFFE1 : process ? 0xFFFFFFED : 0xFFFFFFE9) | (floats ? 0u : 0x10u);
    if (!stack.known) {
        memory_.forget(step);
    } else {
        const bool padded = (stack.value & 4) != 0;
        const Known frame = known((stack.value - (floats ? kWithFloats : kBasicFrame)) & ~std::uint64_t{7});
        const unsigned which[] = {0, 1, 2, 3, 12, 14};
        for (unsigned k = 0; k < 6; ++k) store(offset(frame, 4 * k), 4, r_[which[k]], true, step);
        store(offset(frame, 24), 4, trap.epc_known ? known(trap.epc & ~std::uint64_t{1}) : Known{}, true, step);
        store(offset(frame, 28), 4, {}, true, step);
        for (std::uint32_t at = kBasicFrame; floats && at < kWithFloats; at += 4) store(offset(frame, at), 4, {}, true, step);
        saved_[static_cast<std::uint32_t>(frame.value + 28)] = {step, padded, flags_};
        (process ? process_ : main_) = {frame.value, true, step};
    }
    if (!stack.known) (process ? process_ : main_) = {0, false, step};
    handler_ = true;
    fp_active_ = false;
    undefined();
    r_[14] = {how, true, step};
}

// B1.5.8: no other exception followed the end of a handler, so the frame comes back.
void ThumbMachine::settle(std::uint64_t before) {
    if (!leaving_) return;
    const std::uint64_t step = before > 0 ? before - 1 : 0;  // of the instruction that ended it
    now_ = step;
    kind_ = kReturned;
    const std::uint32_t how = *leaving_;
    leaving_.reset();
    const unsigned kind = how & 0xF;
    if ((how & 0xFFFF'FF00) != 0xFFFF'FF00 || (kind != 1 && kind != 9 && kind != 13)) {
        lose(step);
    } else {
        handler_ = kind == 1;
        fp_active_ = (how & 0x10) == 0;
        if (kind != 1) uses_process_ = known(kind == 13 ? 1 : 0);
        const Known frame = sp();
        bool padded_known = false;
        std::uint64_t padded = 0;
        if (frame.known) {
            const unsigned which[] = {0, 1, 2, 3, 12, 14};
            for (unsigned k = 0; k < 6; ++k) set(which[k], load(offset(frame, 4 * k), 4, false, true), step);
            const auto at = saved_.find(static_cast<std::uint32_t>(frame.value + 28));
            const Known word = memory_.read(frame.value + 28, 4);
            if (at != saved_.end() && word.set_at == at->second.step && !word.known) {
                flags_ = at->second.flags;
                padded = at->second.padded ? 1 : 0;
                padded_known = true;
                saved_.erase(at);
            } else {
                flags_ = {};
                if (word.known) {
                    padded = word.value >> 9 & 1;
                    padded_known = true;
                    flags_ = ConditionFlags::of(static_cast<unsigned>(word.value >> 28 & 15));
                }
            }
        } else {
            for (const unsigned n : {0u, 1u, 2u, 3u, 12u, 14u}) r_[n] = {0, false, step};
            flags_ = {};
        }
        set(13, frame.known && padded_known ? known(frame.value + (*fp_active_ ? kWithFloats : kBasicFrame) + 4 * padded) : Known{}, step);
    }
}

void ThumbMachine::execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next) {
    settle(step);
    execute_one(slot, step, next);
}

// A5.3.5: MSR, MRS, barriers, hints.
bool ThumbMachine::special(std::uint32_t i, std::uint32_t, std::uint64_t step) {
    const unsigned op = bits(i, 26, 20), number = i & 0xFF, rn = bits(i, 19, 16), rd = bits(i, 11, 8);
    if ((op & 0x7E) == 0x38) {  // MSR
        const Known v = r_[rn];
        const bool thread = !handler_ || !*handler_;
        // B5.2.3: without privilege only the flags are written.
        if (thread && number > 3 && unprivileged_.known && unprivileged_.value != 0) return true;
        if (thread && number > 3 && !unprivileged_.known) {
            if (number == 8 || number == 9) (number == 8 ? main_ : process_) = {0, false, step};
            if (number == 20) uses_process_ = {};
            return true;
        }
        switch (number) {
            case 0:
            case 1:
            case 2:
            case 3:
                if (!v.known)
                    flags_ = {};
                else if ((i >> 11 & 1) != 0)
                    flags_ = ConditionFlags::of(static_cast<unsigned>(v.value >> 28 & 15));
                return true;
            case 8:
                main_ = v.known ? Known{v.value & ~std::uint64_t{3}, true, step} : Known{0, false, step};
                return true;
            case 9:
                process_ = v.known ? Known{v.value & ~std::uint64_t{3}, true, step} : Known{0, false, step};
                return true;
            case 20:
                // B1.4.4: in handler mode SPSEL is not written.
                if (thread) uses_process_ = v.known ? known(v.value >> 1 & 1) : Known{};
                unprivileged_ = v.known ? known(v.value & 1) : Known{};
                if (has_fp_) fp_active_ = v.known ? std::optional((v.value >> 2 & 1) != 0) : std::nullopt;
                return true;
            default:
                return true;
        }
    }
    if ((op & 0x7E) == 0x3E) {  // MRS
        Known v;
        if (number == 8) v = main_;
        if (number == 9) v = process_;
        set(rd, v, step);
        return true;
    }
    return op == 0x3A || op == 0x3B;
}

}  // namespace mt
