// Which registers a program reads before it writes them, from some instruction on: told by the text of its instructions,
// so that it depends on nothing that states are made with.
#pragma once

#include <algorithm>
#include <array>
#include <cctype>
#include <map>
#include <set>
#include <string>
#include <unordered_map>
#include <vector>

#include "replay/step_window.h"
#include "target/disassembly.h"

namespace mt::test {

class RegistersUsed {
  public:
    RegistersUsed(const Recording& recording, const StepTrail& steps) : code_(*steps.code), text_(*steps.code) {
        slots_.reserve(steps.steps);
        each_step_piece(recording, steps, 0, [&](const StepPiece& p) {
            std::uint32_t slot = p.run.first;
            for (std::uint32_t i = 0; i < p.run.count; ++i, slot = code_.next(slot)) slots_.push_back(slot);
            return true;
        });
        for (std::size_t i = 0; i < steps.traps.size(); ++i) traps_.insert(steps.traps[i].step);
    }
    /// Names as states have them. An exception on Arm saves what it takes from registers itself: what it is for, nobody sees.
    std::set<std::string> read_from(std::uint64_t step) {
        constexpr std::uint64_t kFar = 20'000;
        std::set<std::string> read, decided;
        unsigned conditional = 0;
        for (std::uint64_t s = step; s < std::min<std::uint64_t>(slots_.size(), step + kFar); ++s) {
            if (s > step && !is_riscv(code_.isa()) && traps_.count(s) > 0)
                for (const char* name : {"r0", "r1", "r2", "r3", "r12", "lr"}) decided.insert(name);
            const Use& use = of(slots_[s]);
            for (const std::string& name : use.reads)
                if (decided.insert(name).second) read.insert(name);
            if (conditional == 0)
                for (const std::string& name : use.writes) decided.insert(name);
            conditional = use.makes_conditional > 0 ? use.makes_conditional : conditional > 0 ? conditional - 1 : 0;
        }
        return read;
    }

  private:
    struct Use {
        std::vector<std::string> reads, writes;
        unsigned makes_conditional = 0;  ///< so many instructions behind it
    };
    const Use& of(std::uint32_t slot) {
        const auto [found, fresh] = uses_.try_emplace(slot);
        if (fresh) found->second = is_riscv(code_.isa()) ? riscv(text_.text(slot)) : arm(text_.text(slot));
        return found->second;
    }
    static std::vector<std::string> words(const std::string& text) {
        std::vector<std::string> all(1);
        for (const char c : text)
            if (std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '.' || c == '_')
                all.back() += c;
            else if (!all.back().empty())
                all.emplace_back();
        if (all.back().empty()) all.pop_back();
        return all;
    }
    static bool begins(const std::string& text, std::initializer_list<const char*> with) {
        return std::any_of(with.begin(), with.end(), [&](const char* w) { return text.rfind(w, 0) == 0; });
    }
    static Use arm(const std::string& text) {
        Use use;
        std::vector<std::string> registers, all = words(text);
        if (all.empty()) return use;
        const std::string op = all[0];
        for (std::size_t i = 1; i < all.size(); ++i)
            if (all[i] == "sp" || all[i] == "lr" || (all[i][0] == 'r' && all[i].size() > 1 && std::isdigit(static_cast<unsigned char>(all[i][1])) != 0))
                registers.push_back(all[i]);
        if (begins(op, {"it"}) && op.find_first_not_of("te", 2) == std::string::npos) {
            use.makes_conditional = static_cast<unsigned>(op.size()) - 1;
            return use;
        }
        std::size_t written = 1;  // so many of the first ones
        if (begins(op, {"str", "cmp", "cmn", "tst", "teq", "push", "stm", "cb", "bx", "msr", "tb"}))
            written = 0;
        else if (begins(op, {"pop"}))
            written = registers.size();
        else if (begins(op, {"ldrd", "umull", "smull"}))
            written = 2;
        if (begins(op, {"ldm"})) {
            use.reads = {registers.at(0)};
            use.writes.assign(registers.begin() + 1, registers.end());
            return use;
        }
        if (begins(op, {"blx", "bl "}) || op == "bl") {
            use.reads = registers;
            use.writes = {"lr"};
            return use;
        }
        if (op[0] == 'b' && !begins(op, {"bic", "bfi", "bfc"})) written = 0;
        if (begins(op, {"bfi", "bfc", "movt", "umlal", "smlal"})) use.reads = {registers.at(0)};
        written = std::min(written, registers.size());
        use.reads.insert(use.reads.end(), registers.begin() + static_cast<std::ptrdiff_t>(written), registers.end());
        use.writes.assign(registers.begin(), registers.begin() + static_cast<std::ptrdiff_t>(written));
        // Of two operands the first is read, too: "adds r0, #1".
        if (begins(op, {"add", "sub", "and", "orr", "eor", "bic", "mul", "adc", "sbc", "lsl", "lsr", "asr", "ror"}) &&
            std::count(text.begin(), text.end(), ',') == 1)
            use.reads.push_back(registers.at(0));
        if (begins(op, {"push", "pop"})) use.reads.push_back("sp");
        return use;
    }
    static Use riscv(const std::string& text) {
        static const std::map<std::string, std::string> numbers = [] {
            std::map<std::string, std::string> n;
            const std::array<const char*, 32> names = {"zero", "ra", "sp", "gp", "tp", "t0", "t1", "t2", "s0", "s1", "a0",
                                                       "a1",   "a2", "a3", "a4", "a5", "a6", "a7", "s2", "s3", "s4", "s5",
                                                       "s6",   "s7", "s8", "s9", "s10", "s11", "t3", "t4", "t5", "t6"};
            for (std::size_t i = 1; i < names.size(); ++i) n[names[i]] = "x" + std::to_string(i);
            return n;
        }();
        Use use;
        std::vector<std::string> registers, all = words(text);
        if (all.empty()) return use;
        const std::string op = all[0];
        for (std::size_t i = 1; i < all.size(); ++i)
            if (const auto found = numbers.find(all[i]); found != numbers.end() || all[i] == "zero")
                registers.push_back(found != numbers.end() ? found->second : "x0");
        if (op == "ret") registers = {"x1"};
        std::size_t written = 1;
        if (op == "sb" || op == "sh" || op == "sw" || op == "sd" || op[0] == 'b' || op == "csrw" || op == "csrs" || op == "csrc" ||
            op == "jr" || op == "ret")
            written = 0;
        if ((op == "jal" || op == "jalr") && registers.size() < 2) {
            use.reads = op == "jalr" ? registers : std::vector<std::string>();
            use.writes = {"x1"};
            return use;
        }
        written = std::min(written, registers.size());
        use.reads.assign(registers.begin() + static_cast<std::ptrdiff_t>(written), registers.end());
        use.writes.assign(registers.begin(), registers.begin() + static_cast<std::ptrdiff_t>(written));
        return use;
    }

    const Code& code_;
    Disassembler text_;
    std::vector<std::uint32_t> slots_;
    std::set<std::uint64_t> traps_;
    std::unordered_map<std::uint32_t, Use> uses_;
};

}  // namespace mt::test
