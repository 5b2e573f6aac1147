// Arguments and local variables of the past: where the compiler kept them, in the functions that were on the stack.
#include <gtest/gtest.h>

#include <algorithm>

#include "replay/backtrace.h"
#include "replay/past_frame.h"
#include "share/state_tables.h"
#include "past_of.h"
#include "support.h"
#include "target/locals.h"

namespace mt {
namespace {

class PastLocals : public testing::Test {
  protected:
    void open(const std::string& capture) {
        whole = std::make_unique<test::PastOf>(test::steps_target(capture));
        const CoreSpec& core = whole->opened.recording->target.cores[0];
        kind = *isa_of(core.isa);
        locals = std::make_unique<Locals>(core.images());
    }
    void at(std::uint64_t step) {
        const auto found = whole->states.before(step, whole->progress);
        ASSERT_TRUE(found);
        past = *found;
        frame = frame_of(past, kind, whole->states, *whole->opened.recording, whole->steps, whole->progress);
        frames = locals->frames(past.pc, frame, 16);
    }
    const LocalValue* value(std::size_t frame_number, const std::string& name) const {
        if (frame_number >= frames.size()) return nullptr;
        const auto& all = frames[frame_number].values;
        const auto found = std::find_if(all.begin(), all.end(), [&](const LocalValue& v) { return v.name == name; });
        return found == all.end() ? nullptr : &*found;
    }
    LocalValue named(const std::string& path) {
        const auto v = locals->named(path, past.pc, frame);
        EXPECT_TRUE(v && *v) << path << (v ? ": " + v->error().text() : "");
        return v && *v ? **v : LocalValue{};
    }
    std::string refused(const std::string& path) {
        const auto v = locals->named(path, past.pc, frame);
        return v && !*v ? v->error().text() : "";
    }
    std::unique_ptr<test::PastOf> whole;
    std::unique_ptr<Locals> locals;
    PastState past;
    FrameState frame;
    std::vector<LocalFrame> frames;
    Isa kind = Isa::thumb;
};

TEST_F(PastLocals, OfARecursionCountItsDepthInEachFrame) {
    open("arm-etm-mount");
    at(77'700);
    ASSERT_GE(frames.size(), 7U);
    EXPECT_EQ(frames[0].function, "refraction");
    for (unsigned depth = 1; depth <= 5; ++depth) {
        EXPECT_EQ(frames[depth].function, "dither");
        const LocalValue* v = value(depth, "depth");
        ASSERT_NE(v, nullptr);
        EXPECT_TRUE(v->argument);
        EXPECT_EQ(v->text(), std::to_string(depth)) << "each was called with one less by the one below";
    }
    EXPECT_EQ(frames[6].function, "axis_task") << "over the place where trace began, too";
    EXPECT_EQ(frames.size(), 7U) << "what a kernel puts into a task's first frame is no call";
    // An argument whose register was overwritten since: as it was when the function was entered.
    const LocalValue *seed = value(5, "seed"), *of_task = value(6, "seed");
    ASSERT_TRUE(seed != nullptr && of_task != nullptr);
    EXPECT_TRUE(seed->known());
}

TEST_F(PastLocals, TellWhoWroteThemAndWhichTypeTheyHave) {
    open("rv-etrace-mount");
    at(77'777);
    ASSERT_GE(frames.size(), 4U);
    EXPECT_EQ(frames[0].function, "median_push");
    EXPECT_EQ(frames[1].function, "mount_round");
    EXPECT_EQ(frames[2].function, "main");
    const LocalValue* s = value(0, "s");
    ASSERT_NE(s, nullptr);
    EXPECT_EQ(s->kind, LocalValue::Kind::array);
    EXPECT_EQ(s->set_at(), 77'775U);
    const auto elements = locals->parts(*s, frame);
    ASSERT_EQ(elements.size(), 9U);
    EXPECT_EQ(named("s[2]").text(), elements[2].text());
    EXPECT_EQ(named("i").text(), "2");
    EXPECT_EQ(value(1, "r")->text(), value(2, "r")->text()) << "handed on from main to mount_round";
    // A pointer leads to what the image calls by another name.
    const LocalValue a = named("a");
    EXPECT_EQ(a.kind, LocalValue::Kind::pointer);
    const auto members = locals->parts(a, frame);
    ASSERT_FALSE(members.empty());
    EXPECT_EQ(named("a->" + members[0].name).text(), members[0].text());
}

TEST_F(PastLocals, ThatAreNotThereAreToldSo) {
    open("rv-etrace-mount");
    at(77'777);
    EXPECT_FALSE(locals->named("no_such_thing", past.pc, frame)) << "then it may be a variable of the program";
    EXPECT_FALSE(locals->named("", past.pc, frame));
    EXPECT_FALSE(locals->named("0x20", past.pc, frame));
    EXPECT_NE(refused("i.x").find("leads to is not known"), std::string::npos) << refused("i.x");
    EXPECT_NE(refused("s[77]").find("'s' has no [77]"), std::string::npos) << refused("s[77]");
    EXPECT_NE(refused("s[").find("missing at column"), std::string::npos);
    EXPECT_NE(refused("i + 1").find("unexpected stands at column"), std::string::npos) << refused("i + 1");
    EXPECT_NE(refused("*i"), "");
}

// Trace knows who called whom without looking at the stack: both tell the same, up to what an exception entered.
TEST_F(PastLocals, FramesOnTheStackAreTheCallsThatWereTraced) {
    for (const char* capture : {"rv-etrace-mount", "arm-etm-mount", "rv64-etrace-mount", "arm-pft-mount-bb"}) {
        open(capture);
        std::uint64_t compared = 0;
        for (std::uint64_t step = 20'000; step < 120'000; step += 1'997) {
            at(step);
            std::size_t i = 0;
            for (const TraceFrame& traced : backtrace(*whole->opened.recording, whole->steps, step)) {
                if (traced.inlined) continue;
                if (i == frames.size() || !traced.seen) break;
                EXPECT_EQ(frames[i].function, traced.name.substr(0, traced.name.find('.'))) << capture << ", instruction " << step << ", frame " << i;
                ++compared;
                ++i;
                if (traced.handler) break;
            }
        }
        EXPECT_GT(compared, 80U) << capture;
    }
}

// x0 is nothing but zero on RISC-V, and the first argument of A64.
TEST_F(PastLocals, TheFirstArgumentOfAnA64FunctionStandsInX0WhereItBegins) {
    open("arm-etm-a-mount");
    const StepTrail& steps = whole->steps;
    unsigned looked = 0;
    for (const CallLevel& level : steps.levels)
        for (std::size_t i = 0; i < level.size() && looked < 20; ++i) {
            const CallSpan call = level[i];
            if ((*steps.functions)[call.function].name != "on_service" || !call.whole() || call.step < 10'000) continue;
            at(call.step);
            const auto x0 = std::find_if(past.registers.begin(), past.registers.end(), [](const auto& r) { return r.first == "x0"; });
            ASSERT_TRUE(x0 != past.registers.end() && x0->second.known) << call.step;
            ASSERT_FALSE(frames.empty());
            const LocalValue* f = value(0, "f");
            ASSERT_NE(f, nullptr);
            ASSERT_TRUE(f->known()) << call.step;
            EXPECT_EQ(f->raw(), x0->second.value) << call.step;
            EXPECT_GT(f->raw(), 0x12'4040'0000U) << "a frame on a task's stack";
            ++looked;
        }
    EXPECT_EQ(looked, 20U);
}

TEST_F(PastLocals, TheWayThroughAPointerOfTheProgramsOwnVariablesIsFollowed) {
    open("arm-etm-a-mount");
    at(460'690);
    const LocalValue pc = named("tasks[1].sp->pc");
    ASSERT_TRUE(pc.known());
    const Known sp = past.memory->read(pc.place.address - 256, 8);  // where the pointer leads: r[31], usp before it
    EXPECT_GT(pc.raw(), 0x12'4020'0000U) << "a task's own code";
    EXPECT_EQ(pc.raw(), past.memory->read(pc.place.address, 8).value);
    EXPECT_TRUE(sp.known);
    EXPECT_EQ(named("*tasks[1].sp").place.address, pc.place.address - 256);
    EXPECT_NE(refused("tasks[1].sp->gone").find("has no gone"), std::string::npos);
    EXPECT_FALSE(locals->named("tasks[1].wake", past.pc, frame)) << "without a pointer it is one of fixed place, as ever";
    EXPECT_FALSE(locals->named("nothing->at_all", past.pc, frame));
}

TEST_F(PastLocals, AreToldAsText) {
    open("rv-etrace-mount");
    at(77'777);
    const std::string text = state_text(past, {}, &frames);
    EXPECT_NE(text.find("in median_push at 0x800003ca"), std::string::npos) << text;
    EXPECT_NE(text.find("called by mount_round at 0x80000674"), std::string::npos);
    EXPECT_NE(text.find("  i = 2, since instruction 77"), std::string::npos) << text;
    EXPECT_NE(text.find("  m = not kept here"), std::string::npos);
    const auto json = state_json(past, {}, &frames);
    EXPECT_EQ(json["frames"][0]["function"], "median_push");
    EXPECT_EQ(json["frames"][0]["variables"][0]["known"], true);
}

}  // namespace
}  // namespace mt
