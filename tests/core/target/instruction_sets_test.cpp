// What A64 and A32 instructions do to the flow of a program, held against the text that a disassembler gives them: 400 000
// words of each, and other ones in each of MT_ROUNDS rounds.
#include <gtest/gtest.h>

#include <cstring>
#include <map>
#include <random>
#include <regex>

#include "rounds.h"
#include "target/code.h"
#include "target/disassembly.h"

namespace mt {
namespace {

struct Listing {
    std::vector<std::uint8_t> bytes;
    std::shared_ptr<const Code> code;
    std::unique_ptr<Disassembler> text;
    static constexpr std::uint64_t kBase = 0x4000'0000;

    void word(std::uint32_t w) {
        for (int i = 0; i < 4; ++i) bytes.push_back(static_cast<std::uint8_t>(w >> 8 * i));
    }
    void read(const std::string& isa) {
        const Image::Piece piece{kBase, kBase, bytes, false};
        code = Code::of(std::span(&piece, 1), isa);
        text = std::make_unique<Disassembler>(*code);
    }
};

const std::regex& compiled(const std::string& pattern) {
    static std::map<std::string, std::regex> all;
    return all.try_emplace(pattern, pattern).first->second;
}
bool is(const std::string& text, const char* pattern) { return std::regex_search(text, compiled(pattern)); }

// The flow that an A64 text says; nothing where the disassembler knows no such instruction.
std::optional<Flow> a64_says(const std::string& text) {
    if (text.rfind(".insn", 0) == 0) return std::nullopt;
    if (is(text, "^b (#|0x)")) return Flow::jump;
    if (is(text, "^bl (#|0x)")) return Flow::call;
    if (is(text, "^(b\\.|bc\\.|cbn?z |tbn?z )")) return Flow::branch;
    if (is(text, "^(br |braaz? |brabz? )")) return Flow::indirect;
    if (is(text, "^(blr |blraaz? |blrabz? )")) return Flow::indirect_call;
    if (is(text, "^(ret|retaa|retab)( |$)")) return Flow::ret;
    if (is(text, "^(eret|eretaa|eretab|drps)$")) return Flow::trap_return;
    if (is(text, "^isb")) return Flow::barrier;
    return Flow::next;
}

void hold_a64(unsigned round) {
    Listing l;
    std::mt19937 random(1 + 2 * round);
    for (int i = 0; i < 200'000; ++i) l.word(static_cast<std::uint32_t>(random()));
    // Where branches and system instructions are, more of them.
    for (int i = 0; i < 200'000; ++i) {
        constexpr std::uint32_t kinds[] = {0x1400'0000, 0x9400'0000, 0x5400'0000, 0x3400'0000, 0xB500'0000, 0x3600'0000, 0xD61F'0000, 0xD500'0000};
        const std::uint32_t kind = kinds[random() % 8];
        l.word(kind | (static_cast<std::uint32_t>(random()) & (kind >= 0xD600'0000 ? 0x00FF'0FFF : kind >= 0xD500'0000 ? 0x0007'FFFF : 0x00FF'FFFF)));
    }
    l.read("armv8-a");
    std::size_t known = 0, others = 0;
    for (std::uint32_t i = 0; i < l.bytes.size() / 4; ++i) {
        const std::uint32_t slot = 1 + 2 * i;
        const std::string text = l.text->text(slot);
        const auto says = a64_says(text);
        if (!says) continue;
        ++known;
        others += *says != Flow::next ? 1 : 0;
        ASSERT_EQ((*l.code)[slot].flow, *says) << text << " " << std::hex << l.code->bits(slot);
        ASSERT_EQ((*l.code)[slot].size, 2);
    }
    EXPECT_GT(known, 150'000U);
    EXPECT_GT(others, 100'000U);
}

// The flow that an A32 text says, and whether it depends on a condition.
struct Says {
    Flow flow = Flow::next;
    bool conditional = false;
};
std::optional<Says> arm_says(const std::string& text) {
    if (text.rfind(".insn", 0) == 0) return std::nullopt;
    Says s;
    // Most of them: neither branches nor anything with the program counter.
    if (std::strchr("bceirst", text[0]) == nullptr && text.find("pc") == std::string::npos) return s;
    std::smatch m;
    const std::string cond = "(eq|ne|hs|lo|mi|pl|vs|vc|hi|ls|ge|lt|gt|le)?";
    const auto match = [&](const std::string& pattern) { return std::regex_search(text, m, compiled(pattern)); };
    const auto may = [&](Flow flow, std::size_t group = 1) {
        s.flow = flow;
        s.conditional = m[group].matched;
        return s;
    };
    if (match("^b" + cond + " (#|0x)")) return m[1].matched ? Says{Flow::branch, true} : Says{Flow::jump, false};
    if (match("^cbn?z ")) return Says{Flow::branch, true};
    if (match("^blx?" + cond + " (#|0x)")) return may(Flow::call);
    if (match("^bx" + cond + " lr")) return may(Flow::ret);
    if (match("^(?:bx|bxj)" + cond + " ")) return may(Flow::indirect);
    if (match("^blx" + cond + " ")) return may(Flow::indirect_call);
    if (match("^(?:eret|rfe(?:da|db|ia|ib)?)" + cond + "( |$)")) return may(Flow::trap_return);
    if (match("^subs" + cond + " pc, lr")) return may(Flow::trap_return);
    if (match("^isb")) return Says{Flow::barrier, false};
    if (match("^mcr2? p15, #0, \\w+, c7, c5, #4$")) return std::nullopt;  // the old name of a barrier: a question of the core
    if (match("^tb[bh] ")) return Says{Flow::indirect, false};
    // What is written to the program counter: by moves, loads, arithmetic.
    if (match("^pop" + cond + " .*pc")) return may(Flow::ret);
    if (match("^ldm(?:da|db|ib)?" + cond + " (\\w+)!?, \\{.*pc\\}( \\^)?$")) {
        if (m[m.size() - 1].matched) return may(Flow::trap_return);
        s.conditional = m[1].matched;
        const std::string base = m[m.size() - 2];
        s.flow = base == "sp" ? Flow::ret : Flow::indirect;
        if (base == "r11") return std::nullopt;  // a return, or not: by whether it goes down
        return s;
    }
    if (match("^ldrt" + cond + " pc, ")) return std::nullopt;  // unpredictable
    if (match("^ldr" + cond + " pc, ")) {
        s = may(Flow::indirect);
        if (is(text, "pc, \\[sp\\], #4$")) s.flow = Flow::ret;
        return s;
    }
    if (match("^mov" + cond + " pc, lr$")) return may(Flow::ret);
    if (match("^(?:mov|mvn|and|eor|sub|rsb|add|adc|sbc|rsc|orr|bic|lsl|lsr|asr|ror|rrx|adr)" + cond + " pc(,|$)")) return may(Flow::indirect);
    if (match("^(?:mov|mvn|and|eor|sub|rsb|add|adc|sbc|rsc|orr|bic|lsl|lsr|asr|ror|rrx)s" + cond + " pc(,|$)")) return may(Flow::trap_return);
    return s;
}

TEST(A64Instructions, DoWhatTheDisassemblerSays) {
    for (unsigned round = 0; round < test::rounds() && !HasFatalFailure(); ++round) hold_a64(round);
}

void hold_a32(unsigned round) {
    Listing l;
    std::mt19937 random(2 + 2 * round);
    for (int i = 0; i < 200'000; ++i) l.word(static_cast<std::uint32_t>(random()));
    for (int i = 0; i < 200'000; ++i) {  // branches, and what has the program counter as destination
        std::uint32_t w = static_cast<std::uint32_t>(random());
        switch (random() % 5) {
            case 0:
                w = (w & 0xF1FF'FFFF) | 0x0A00'0000;
                break;
            case 1:
                w = (w & 0xF000'000F) | 0x012F'FF00 | (static_cast<std::uint32_t>(random()) & 0x30);
                break;
            case 2:
                w = (w & 0xF1FF'FFFF) | 0x0810'8000;
                break;
            default:
                w |= 0xF000;
                break;
        }
        l.word(w);
    }
    l.read("armv7-a");
    std::size_t known = 0, others = 0;
    for (std::uint32_t i = 0; i < l.bytes.size() / 4; ++i) {
        const std::uint32_t slot = 1 + 2 * i;
        const std::string text = l.text->text(slot);
        const auto says = arm_says(text);
        if (!says) continue;
        ++known;
        others += says->flow != Flow::next ? 1 : 0;
        const Code::Slot& s = (*l.code)[slot];
        ASSERT_EQ(s.flow, says->flow) << text << " " << std::hex << l.code->bits(slot);
        if (s.flow != Flow::next) ASSERT_EQ((s.flags & FlowInsn::kConditional) != 0, says->conditional) << text;
    }
    EXPECT_GT(known, 150'000U);
    EXPECT_GT(others, 50'000U);
}

TEST(A32Instructions, DoWhatTheDisassemblerSays) {
    for (unsigned round = 0; round < test::rounds() && !HasFatalFailure(); ++round) hold_a32(round);
}

}  // namespace
}  // namespace mt
