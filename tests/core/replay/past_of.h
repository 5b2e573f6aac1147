// A recording of the tests with the states of its first stream.
#pragma once

#include <optional>
#include <stdexcept>
#include <string>
#include <utility>

#include "replay/past_state.h"
#include "support.h"

namespace mt::test {

/// Opened, decoded and ready to be executed; the test fails if that does not work.
struct PastOf {
    /// `file`: its target file; `draft`: what that shall say.
    explicit PastOf(const std::string& file, const std::optional<std::string>& draft = std::nullopt)
        : opened(decode(file, draft)), steps(opened.trail->steps.at(0)), states(states_of(opened)) {}
    PastOf(const PastOf&) = delete;
    PastOf& operator=(const PastOf&) = delete;

    Opened opened;
    const StepTrail& steps;
    PastStates states;
    Progress progress;

  private:
    static PastStates states_of(const Opened& opened) {
        auto of = PastStates::of(*opened.recording, opened.trail->steps.at(0));
        EXPECT_TRUE(of) << of.error().text();
        if (!of) throw std::runtime_error("no states");
        return std::move(*of);
    }
};

/// The target file of a recording among the steps.
inline std::string steps_target(const std::string& folder) { return data("steps/" + folder + "/recording.target.toml"); }

}  // namespace mt::test
