// The pointer that a faulting instruction went by: which registers, what they held, who had set and written it.
#include "judge/fault_values.h"

#include <gtest/gtest.h>

#include "judge/finding.h"
#include "judge/sentences.h"
#include "support.h"

namespace mt {
namespace {

std::string told(const std::string& instruction) {
    const auto a = accessed_by(instruction);
    if (!a) return "none";
    return a->base + (a->index.empty() ? "" : " + " + a->index + " << " + std::to_string(a->shift)) +
           (a->offset == 0 ? "" : " + " + std::to_string(a->offset));
}

TEST(AnAccess, IsReadOutOfTheTextOfAnInstruction) {
    EXPECT_EQ(told("ldr r0, [r3]"), "r3");
    EXPECT_EQ(told("ldr.w r0, [r3, r0, lsl #2]"), "r3 + r0 << 2");
    EXPECT_EQ(told("ldrsh.w r1, [r0, r2]"), "r0 + r2 << 0");
    EXPECT_EQ(told("strb r1, [sp, #-8]!"), "sp + -8");
    EXPECT_EQ(told("str r1, [r4], #4"), "r4") << "what is added afterwards is not part of the address";
    EXPECT_EQ(told("ldrd r0, r1, [r6, #0x10]"), "r6 + 16");
    EXPECT_EQ(told("ldr r2, [pc, #12]"), "pc + 12");
    EXPECT_EQ(told("lw a0, 4(a1)"), "x11 + 4");
    EXPECT_EQ(told("sb zero, -1(s0)"), "x8 + -1");
    EXPECT_EQ(told("lr.w t0, (a2)"), "x12");
    EXPECT_EQ(told("amoadd.w a0, a1, (sp)"), "sp");
    EXPECT_EQ(told("c.lwsp ra, 12(sp)"), "sp + 12");
}

TEST(AnAccess, IsNoneOfWhatGoesByNoRegister) {
    for (const char* text : {"", "add r0, r1, r2", "mul a0, a1, a2", "udf #0", "(", ")(", "[]", "[", "x [r1", "lw a0, (", "lw a0, 4()",
                             "ldr r0, [r1, lsl #99]", "ldr r0, [r1, r2, ror #2]", "ldr r0, [#4]", "lw a0, four(a1)", "vld1.8 {d0}, [R!]"})
        EXPECT_EQ(told(text), "none") << text;
}

TEST(AFault, TellsItsPointerWhereItWasLoadedAndWhoHadWrittenIt) {
    const auto o = test::decode(MT_DATA "/steps/arm-etm-mount/recording.target.toml");
    const auto findings = find_all(*o.recording, *o.trail);
    const Finding* fault = nullptr;
    for (const Finding& f : findings)
        if (f.kind == FindingKind::fault && f.known("raised_by") != nullptr) fault = &f;
    ASSERT_NE(fault, nullptr);
    const Fact* pointer = fault->known("pointer");
    ASSERT_NE(pointer, nullptr);
    EXPECT_EQ(pointer->of, "r3");
    EXPECT_EQ(pointer->text(), "0xa0001230");
    EXPECT_NE(fault->told("pointer_set_by").find("ldr r3, [r5, #16]"), std::string::npos) << fault->told("pointer_set_by");
    EXPECT_NE(fault->told("pointer_set_by").find("focuser.c:21"), std::string::npos);
    EXPECT_EQ(fault->told("pointer_from"), "active");
    EXPECT_NE(fault->told("pointer_written_by").find("str.w r8, [r5, #16]"), std::string::npos)
        << fault->told("pointer_written_by");
    EXPECT_NE(fault->cause.find("r3 was 0xa0001230, loaded from active "), std::string::npos) << fault->cause;
    EXPECT_NE(fault->cause.find("where it had been written 27.9 ms before by str.w r8"), std::string::npos) << fault->cause;
    for (std::size_t i = 1; i < fault->evidence.size(); ++i)
        EXPECT_LE(fault->evidence[i - 1].time, fault->evidence[i].time) << "what led to it stands in the order of time";
}

TEST(AFault, SaysNothingOfAPointerThatIsNotKnown) {
    const auto o = test::decode(MT_DEMO "/larkspur.target.toml");
    for (const Finding& f : find_all(*o.recording, *o.trail)) {
        if (f.kind != FindingKind::fault) continue;
        for (const Fact& fact : f.facts)
            if (fact.key == "pointer") EXPECT_NE(fact.text(), "0x0a4011f8") << "it was never seen in a register";
    }
}

}  // namespace
}  // namespace mt
