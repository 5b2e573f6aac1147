// `mtrail state`: registers and variables before an instruction, as text and as JSON.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "process.h"
#include "support.h"

namespace mt {
namespace {

class StateCommand : public ::testing::Test {
  protected:
    test::Outcome state(std::vector<std::string> more) {
        more.insert(more.begin(), {"state", test::data("steps/rv-etrace-mount/recording.target.toml")});
        return test::mtrail(folder, more);
    }
    test::Folder folder;
};

TEST_F(StateCommand, GivesWhatIsKnownAndNoValueWhereNothingIs) {
    const auto r = state({"--index", "2201", "--of", "outcome", "--json"});
    ASSERT_EQ(r.code, 0) << r.said;
    const auto json = nlohmann::json::parse(r.said, nullptr, false);
    ASSERT_TRUE(json.is_object()) << r.said;
    EXPECT_EQ(json["index"], 2201);
    EXPECT_EQ(json["registers"]["x3"]["value"], "0x80001200");
    EXPECT_EQ(json["registers"]["x3"]["known"], true);
    EXPECT_EQ(json["registers"]["x25"]["known"], false);
    EXPECT_FALSE(json["registers"]["x25"].contains("value"));
    EXPECT_EQ(json["variables"]["outcome"]["value"], "0x00000000");
    EXPECT_EQ(json["variables"]["outcome"]["set_at"], 2199);
    const auto text = state({"--index", "2201", "--of", "outcome"});
    EXPECT_NE(text.said.find("x25  not known"), std::string::npos) << text.said;
    EXPECT_NE(text.said.find("outcome: 0, since instruction 2"), std::string::npos) << text.said;
}

TEST_F(StateCommand, SaysWhatIsWrongWithWhatItIsAsked) {
    EXPECT_NE(state({}).said.find("--index"), std::string::npos);
    EXPECT_EQ(state({}).code, 2);
    const auto far = state({"--index", "99999999999"});
    EXPECT_EQ(far.code, 2);
    EXPECT_NE(far.said.find("they go from 0 to 3052917"), std::string::npos) << far.said;
    const auto none = state({"--index", "5", "--of", "outcom"});
    EXPECT_EQ(none.code, 2);
    EXPECT_NE(none.said.find("outcome"), std::string::npos) << none.said;
    const auto events = test::mtrail(folder, {"state", test::data("tasks/mount-a/trace"), "--index", "5"});
    EXPECT_EQ(events.code, 2);
    EXPECT_NE(events.said.find("no instruction trace"), std::string::npos) << events.said;
}

}  // namespace
}  // namespace mt
