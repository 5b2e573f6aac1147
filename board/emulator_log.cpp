#include "emulator_log.h"

#include <charconv>
#include <stdexcept>
#include <string>

namespace board {

using mt::Code;
using mt::Flow;
using mt::FlowInsn;

namespace {

std::uint32_t hex(std::string_view text) {
    std::uint32_t value = 0;
    std::from_chars(text.data(), text.data() + std::min<std::size_t>(8, text.size()), value, 16);
    return value;
}

}  // namespace

EmulatorLog::EmulatorLog(const mt::Image& image, Etm4Encoder& encoder, Ran ran)
    : code_(Code::of(image, "armv7e-m")),
      functions_(mt::FunctionTable::of(image, *code_)),
      encoder_(encoder),
      ran_(std::move(ran)),
      entered_(functions_->size()),
      executed_(functions_->size()) {}

void EmulatorLog::line(std::string_view text) {
    if (text.starts_with("Trace ")) {
        // Trace 0: HOST [cs_base/pc/flags/cflags] symbol
        const std::size_t bracket = text.find('[');
        if (bracket == std::string_view::npos || text.size() < bracket + 36)
            throw std::runtime_error("a line of the log is cut short");
        Block b;
        b.pc = hex(text.substr(bracket + 10));
        const std::uint64_t key = std::uint64_t{b.pc} << 32 | hex(text.substr(bracket + 28));
        if (translated_ > 0) blocks_[key] = translated_;
        translated_ = 0;
        b.count = blocks_[key];
        if (b.count == 0) throw std::runtime_error("the log has a block whose translation it does not list");
        begin(b);
    } else if (text.starts_with("0x")) {
        ++translated_;
    } else if (text.starts_with("IN:")) {
        translated_ = 0;
    } else if (text.starts_with("Stopped ")) {
        if (last_) stopped(last_->pc);
    } else if (text.starts_with("cpu_io_recompile: rewound execution of TB to ")) {
        stopped(hex(text.substr(text.find_last_of(' ') + 1)));
    } else if (text.starts_with("...taking pending")) {
        const std::string_view number = text.substr(text.find_last_of(' ') + 1);
        std::from_chars(number.data(), number.data() + number.size(), number_);
    } else if (text.starts_with("...loaded new PC 0x")) {
        exception(hex(text.substr(19)) & ~1u);
    } else if (text.starts_with("Exception return: ")) {
        exception_return();
    }
}

void EmulatorLog::begin(const Block& b) {
    if (!begun_) {
        encoder_.begin(b.pc, 0);
        begun_ = true;
    } else if (returning_) {
        encoder_.exception_return(b.pc, steps_);
        encoder_.stand_at(b.pc);
        returning_ = false;
    } else if (last_) {
        settle(b.pc);
    } else if (stands_ != b.pc) {
        throw std::runtime_error("the log jumps");
    }
    last_ = b;
}

// The block told last was executed up to `pc` only.
void EmulatorLog::stopped(std::uint32_t pc) {
    if (!last_) throw std::runtime_error("the log stops a block that it does not have");
    Block ran{last_->pc, 0};
    std::uint32_t at = slot(ran.pc);
    for (const std::uint32_t end = slot(pc); at < end && ran.count < last_->count; at = code_->next(at)) ++ran.count;
    if (at != slot(pc)) throw std::runtime_error("the log stops a block where it does not come");
    last_.reset();
    stands_ = pc;
    if (ran.count > 0) execute(ran);
}

void EmulatorLog::exception(std::uint32_t handler) {
    std::uint32_t back = 0xFFFF'FFF8;  // Armv7-M B1.5.8, as an address carries it
    if (!returning_) {
        if (last_) {  // a service call: it has been executed
            if ((*code_)[last_of(*last_)].flow != Flow::next)
                throw std::runtime_error("an exception comes before it is told where a branch went");
            stands_ = behind(*last_);
            settle(stands_);
        }
        back = stands_;
    }
    tell();
    returning_ = false;
    encoder_.exception(number_, back, handler, steps_);
    ++entered_[functions_->at(slot(handler))];
    if (ran_) ran_(handler, 0);
    stands_ = handler;
    ++exceptions_;
}

void EmulatorLog::exception_return() {
    if (!last_) throw std::runtime_error("a handler returns that has not run");
    execute(*last_);
    tell();
    encoder_.atom(true, steps_);
    last_.reset();
    returning_ = true;
}

std::uint32_t EmulatorLog::slot(std::uint32_t pc) const {
    const std::uint32_t s = code_->slot_of(pc);
    if (s == Code::kNowhere) throw std::runtime_error("executed outside the image");
    return s;
}

std::uint32_t EmulatorLog::last_of(const Block& b) const {
    std::uint32_t s = slot(b.pc);
    for (std::uint32_t i = 1; i < b.count; ++i) s = code_->next(s);
    return s;
}

std::uint32_t EmulatorLog::behind(const Block& b) const {
    return static_cast<std::uint32_t>(code_->address(code_->next(last_of(b))));
}

void EmulatorLog::execute(const Block& b) {
    steps_ += b.count;
    untold_.push_back(b);
}

// A branch or an exception shows that all this ran.
void EmulatorLog::tell() {
    for (const Block& b : untold_) {
        told_ += b.count;
        executed_[functions_->at(slot(b.pc))] += b.count;
        if (ran_) ran_(b.pc, b.count);
    }
    untold_.clear();
}

void EmulatorLog::settle(std::uint32_t next) {
    const Block b = *last_;
    last_.reset();
    execute(b);
    const std::uint32_t last = last_of(b), to = slot(next), straight = behind(b);
    const Code::Slot& s = (*code_)[last];
    if (s.flow == Flow::next) {
        if (next != straight) throw std::runtime_error("the log leaves a straight run");
        return;
    }
    const bool taken = next != straight || (s.flags & FlowInsn::kConditional) == 0;
    tell();
    encoder_.atom(taken, steps_);
    if (taken) {
        const bool call = s.flow == Flow::call || s.flow == Flow::indirect_call;
        if (call) encoder_.called(straight);
        if (s.target == Code::kNowhere && s.flow != Flow::barrier) encoder_.target(next, s.flow == Flow::ret);
        const std::uint32_t f = functions_->at(to);
        if ((*functions_)[f].entry == to && (call || f != functions_->at(last))) ++entered_[f];
    }
    encoder_.stand_at(next);
}

}  // namespace board
