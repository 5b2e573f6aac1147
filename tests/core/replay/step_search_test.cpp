// Executions found forwards and backwards in a real capture, against a walk over all of it; the call tree's sums.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>

#include "measure/call_paths.h"
#include "pass/reading.h"
#include "replay/step_search.h"
#include "support.h"

namespace mt {
namespace {

struct Capture {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
    const StepTrail& steps() const { return trail->steps[0]; }
    std::uint32_t function(const std::string& name) const {
        for (std::uint32_t f = 0; f < steps().functions->size(); ++f)
            if ((*steps().functions)[f].name == name) return f;
        return 0;
    }
    /// All steps that execute an instruction, by walking everything.
    std::vector<std::uint64_t> executions(std::uint32_t slot) const {
        std::vector<std::uint64_t> all;
        each_step_piece(*recording, steps(), 0, [&](const StepPiece& p) {
            std::uint32_t at = p.run.first;
            for (std::uint32_t i = 0; i < p.run.count; ++i, at = steps().code->next(at))
                if (at == slot) all.push_back(p.step + i);
            return true;
        });
        return all;
    }
};

Capture capture(const std::string& name) {
    Capture c;
    c.recording = *open_recording(test::data("steps/" + name + "/recording.target.toml"));
    Progress progress;
    c.trail = *read_trail(*c.recording, progress);
    return c;
}

TEST(StepSearch, FindsTheNextAndThePreviousExecutionFromAnywhere) {
    for (const auto& [name, function] :
         {std::pair("rv-etrace-mount-return", "backlash_chain"), std::pair("arm-etm-mount", "refraction")}) {
        const Capture c = capture(name);
        const std::uint32_t f = c.function(function);
        ASSERT_NE(f, 0U) << name;
        const std::uint32_t slot = (*c.steps().functions)[f].entry;
        const auto all = c.executions(slot);
        ASSERT_GT(all.size(), 20U);
        EXPECT_EQ(c.steps().counters->executions(*c.steps().code)[slot], all.size());
        const Progress progress;
        for (std::uint64_t from :
             {std::uint64_t{0}, all[3], all[3] + 1, all[10] - 1, c.steps().steps / 2, all.back()}) {
            const auto next = std::upper_bound(all.begin(), all.end(), from);
            const auto found = next_execution(*c.recording, c.steps(), {slot}, from, progress);
            EXPECT_EQ(found.has_value(), next != all.end()) << name << " from " << from;
            if (found) EXPECT_EQ(*found, *next) << name << " from " << from;
            const auto before = std::lower_bound(all.begin(), all.end(), from);
            const auto last = previous_execution(*c.recording, c.steps(), {slot}, from, progress);
            EXPECT_EQ(last.has_value(), before != all.begin()) << name << " before " << from;
            if (last) EXPECT_EQ(*last, *std::prev(before)) << name << " before " << from;
        }
        Progress cancelled;
        cancelled.cancel();
        EXPECT_FALSE(next_execution(*c.recording, c.steps(), {slot}, all.back(), cancelled));
    }
}

TEST(CallPaths, RootsCalleesAndCallersAddUpToTheTallies) {
    const Capture c = capture("arm-etm-mount-cc");
    const CallPaths paths(c.steps());
    // Walked down from the roots, every function comes to its own time and its calls.
    std::vector<std::uint64_t> calls(c.steps().functions->size());
    std::vector<Time> own(c.steps().functions->size());
    std::vector<CallPaths::Item> open = paths.roots();
    while (!open.empty()) {
        const CallPaths::Item item = open.back();
        open.pop_back();
        calls[item.function] += item.calls;
        own[item.function] += item.own;
        for (auto& callee : paths.callees(item)) open.push_back(std::move(callee));
    }
    for (std::uint32_t f = 0; f < calls.size(); ++f) {
        EXPECT_EQ(calls[f], c.steps().tallies[f].calls) << (*c.steps().functions)[f].name;
        EXPECT_EQ(own[f], c.steps().tallies[f].own) << (*c.steps().functions)[f].name;
    }
    const CallPaths::Item refraction = paths.of(c.function("refraction"));
    EXPECT_EQ(refraction.calls, c.steps().tallies[refraction.function].calls);
    const FunctionTally& tally = c.steps().tallies[refraction.function];
    EXPECT_EQ(refraction.inclusive, tally.inclusive - tally.preempted) << "handlers are roots of their own";
    std::uint64_t from_callers = 0;
    for (const auto& caller : paths.callers(refraction)) from_callers += caller.calls;
    EXPECT_EQ(from_callers, refraction.calls) << "somebody called it each time";
    EXPECT_TRUE(paths.of(0xFFFF).nodes.empty());
}

TEST(StepSearch, FindsTheFirstLineThatNeverRanBefore) {
    const Capture c = capture("rv-etrace-mount");
    const Image& image = *c.recording->images[0];
    // By walking everything: when each line ran first.
    std::map<std::string, std::uint64_t> first;
    each_step_piece(*c.recording, c.steps(), 0, [&](const StepPiece& p) {
        std::uint32_t at = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count && p.step < 60'000; ++i, at = c.steps().code->next(at))
            if (const auto line = image.line_at(c.steps().code->address(at))) first.try_emplace(line->file + std::to_string(line->line), p.step + i);
        return p.step < 60'000;
    });
    std::vector<std::uint64_t> all;
    for (const auto& [line, step] : first) all.push_back(step);
    std::sort(all.begin(), all.end());
    const Progress progress;
    for (const std::uint64_t from : {std::uint64_t{0}, std::uint64_t{100}, all[all.size() / 2], all[all.size() / 2] - 1}) {
        const auto found = next_new_line(*c.recording, c.steps(), from, progress);
        ASSERT_TRUE(found) << from;
        EXPECT_EQ(*found, *std::upper_bound(all.begin(), all.end(), from)) << from;
    }
    EXPECT_FALSE(next_new_line(*c.recording, c.steps(), c.steps().steps - 1, progress));
}

}  // namespace
}  // namespace mt
