// How a core stands while it is recorded: what a debugger reads then tells the states before it, at once and afterwards, and
// what somebody changes then is never taken for what the program left.
#include <gtest/gtest.h>

#include <atomic>
#include <mutex>

#include "pass/live_recording.h"
#include "recorder_fixture.h"
#include "replay/past_state.h"
#include "support.h"

namespace mt {
namespace {

using test::Board;
using test::recipe_text_for;
using test::tcp;
using test::wait_until;

struct Which {
    const char *core, *place, *variable;
};

class LiveStand : public test::RecorderFixture, public ::testing::WithParamInterface<Which> {
  protected:
    void start(const std::string& text) {
        test::write_file(folder / "r.recipe.toml", text);
        auto recipe = read_recipe(folder / "r.recipe.toml");
        ASSERT_TRUE(recipe) << recipe.error().text();
        auto prepared = LiveRecording::prepare(*recipe, folder / "x.mtrail");
        ASSERT_TRUE(prepared) << prepared.error().text();
        live = std::move(*prepared);
        live->on_end = [this](const Result<void>& outcome) { ended = outcome ? "well" : outcome.error().text(); };
        live->start();
        ASSERT_TRUE(wait_until([&] { return live->trail() && !live->trail()->steps.empty() && live->trail()->steps[0].steps > 5'000; }));
    }
    void ask(const std::string& text) {
        auto command = parse_hand_command(std::string(GetParam().core) + ": " + text);
        ASSERT_TRUE(command) << command.error().text();
        std::mutex lock;
        std::optional<std::string> answer;
        live->run().ask(*command, [&](const Result<std::vector<HandAnswer>>& answers) {
            const std::lock_guard guard(lock);
            answer = answers ? std::string() : answers.error().text();
        });
        ASSERT_TRUE(wait_until([&] {
            const std::lock_guard guard(lock);
            return answer.has_value();
        })) << text;
        EXPECT_EQ(*answer, "") << text;
    }
    /// The trail once the core stands anew, has been read, and what it executed until then is decoded.
    std::shared_ptr<const Trail> standing(std::uint64_t at_least) {
        std::shared_ptr<const Trail> trail;
        const std::shared_ptr<const CoreState> before = stand;
        EXPECT_TRUE(wait_until([&] {
            trail = live->trail();
            if (!trail) return false;
            const StepTrail& s = trail->steps[0];
            return s.stands != nullptr && s.stands != before && s.steps >= at_least && s.gaps.size() > 0 && s.gaps[s.gaps.size() - 1].step == s.steps;
        })) << (trail ? std::string(trail->steps[0].stands ? "read" : "not read") + ", " + std::to_string(trail->steps[0].steps) + " steps of " +
                            std::to_string(at_least) + ", " + std::to_string(trail->steps[0].gaps.size()) + " gaps"
                      : "no trail");
        if (trail) stand = trail->steps[0].stands;
        return trail;
    }
    static unsigned known(const PastState& state) {
        unsigned n = 0;
        for (const auto& [name, value] : state.registers) n += value.known && name[0] != 'f' ? 1U : 0U;
        return n;
    }
    /// What is known of the state before `step` is as the core stood then.
    void expect_as_it_stood(const Recording& recording, const StepTrail& steps, std::uint64_t step, const CoreState& stood, unsigned at_least) {
        auto states = PastStates::of(recording, steps);
        ASSERT_TRUE(states) << states.error().text();
        Progress progress;
        const auto state = states->before(step, progress);
        ASSERT_TRUE(state);
        EXPECT_EQ(state->pc & ~std::uint64_t{1}, stood.registers.at("pc") & ~std::uint64_t{1});
        for (const auto& [name, value] : state->registers)
            if (value.known && name[0] != 'f') EXPECT_EQ(value.value, stood.registers.at(name)) << name << " before " << step;
        EXPECT_GE(known(*state), at_least);
        const auto variable = static_cast<std::uint64_t>(recording.images[steps.core_index]->symbol_named(GetParam().variable)->address);
        const Known is = state->memory->read(variable, 4);
        for (const auto& [address, bytes] : stood.memory)
            if (is.known && address <= variable && variable + 4 <= address + bytes.size()) {
                std::uint64_t was = 0;
                for (std::size_t i = 4; i-- > 0;) was = was << 8 | bytes[variable - address + i];
                EXPECT_EQ(is.value, was) << GetParam().variable << " before " << step;
            }
    }

    std::unique_ptr<LiveRecording> live;
    std::shared_ptr<const CoreState> stand;  ///< Of the last halt that was waited for.
    std::string ended;
};

TEST_P(LiveStand, TellsTheStatesBeforeItAtOnceAndAfterwardsWhateverIsChangedThen) {
    const bool main = std::string(GetParam().core) == "main";
    Board board(main ? std::vector<std::string>{"--bare"} : std::vector<std::string>{});
    start(main ? recipe_text_for("debug = \"" + board.gdb() + "\"\n" + tcp(board.trace()),
                                 "[trace]\ninstructions = {}\nto = \"port\"\nport = { width = 4 }\n[record]\nseconds = 100\n[after]\nleave = \"halted\"\n",
                                 MT_DEMO "/larkspur-live.target.toml")
               : recipe_text_for("debug = \"" + board.gdb_cop() + "\"\nprotocol = \"etrace\"\n" + tcp(board.trace_cop()),
                                 "[record]\nseconds = 100\n[after]\nleave = \"halted\"\n", MT_DEMO "/larkspur-live.target.toml", "cop"));
    if (HasFatalFailure()) return;
    ask(std::string("break ") + GetParam().place);
    const auto first = standing(1);
    const StepTrail& at_first = first->steps[0];
    const std::shared_ptr<const CoreState> stood = at_first.stands;
    const std::uint64_t a = at_first.steps;
    const unsigned all = main ? 13 : 30;
    // Backwards from where it stands, with what only that tells: as if nobody had read how it stood when the recording began.
    Recording from_nothing = *live->recording();
    for (CoreSpec& core : from_nothing.target.cores) core.began = {};
    StepTrail without = at_first;
    without.stands.reset();
    Progress progress;
    auto with_end = PastStates::of(from_nothing, at_first), alone = PastStates::of(from_nothing, without);
    ASSERT_TRUE(with_end && alone);
    EXPECT_GE(known(*with_end->before(a - 1, progress)), all);
    EXPECT_GT(known(*with_end->before(a - 1, progress)), known(*alone->before(a - 1, progress)));
    // On, step by step: what was known stays known over each halt.
    ask("step 20");
    const auto second = standing(a + 20);
    EXPECT_EQ(second->steps[0].steps, a + 20);
    expect_as_it_stood(*live->recording(), second->steps[0], a, *stood, all - 4);
    const std::shared_ptr<const CoreState> stood_again = second->steps[0].stands;
    // Changed by hand: that is not what the program left.
    live->run().allow_writing(true);
    ask(std::string("write ") + GetParam().variable + " 77");
    ask("step 30");
    const auto third = standing(a + 50);
    expect_as_it_stood(*live->recording(), third->steps[0], a, *stood, 1);
    expect_as_it_stood(*live->recording(), third->steps[0], a + 20, *stood_again, 0);
    ask(std::string("write ") + GetParam().variable + " 78");
    live->run().stop("enough");
    live->wait();
    EXPECT_EQ(ended, "well");

    const auto opened = test::decode(folder / "x.mtrail");
    const StepTrail& steps = opened.trail->steps.at(0);
    ASSERT_GE(steps.steps, a + 50);
    EXPECT_NE(opened.recording->target.cores[steps.core_index].stood, "");
    expect_as_it_stood(*opened.recording, steps, a, *stood, 1);
    expect_as_it_stood(*opened.recording, steps, a + 20, *stood_again, 0);
    // The end is as it was before the last change: what was read then is kept.
    auto states = PastStates::of(*opened.recording, steps);
    ASSERT_TRUE(states);
    const auto last = states->before(steps.steps - 1, progress);
    ASSERT_TRUE(last);
    EXPECT_GE(known(*last), all);
    const Known variable = last->memory->read(opened.recording->images[steps.core_index]->symbol_named(GetParam().variable)->address, 4);
    EXPECT_TRUE(!variable.known || variable.value != 78) << "written by hand behind it";
}

INSTANTIATE_TEST_SUITE_P(Of, LiveStand, ::testing::Values(Which{"main", "refraction", "now_ms"}, Which{"cop", "interpolate", "axis_angle"}),
                         [](const auto& info) { return std::string(info.param.core); });

}  // namespace
}  // namespace mt
