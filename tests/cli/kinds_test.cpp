// The command line on every kind of lane: tables as text, CSV and JSON that agree, instances of every name, errors that
// say what to do.
#include <gtest/gtest.h>
#include <sys/wait.h>

#include <nlohmann/json.hpp>

#include <algorithm>
#include <set>
#include <utility>

#include "measure/lane_kind.h"
#include "support.h"

namespace mt {
namespace {

struct KindsRan {
    int code;
    std::string out, err;
};

KindsRan run_mtrail(const std::vector<std::string>& arguments) {
    const test::Folder folder;
    std::string command = MT_CLI;
    for (const std::string& a : arguments) command += " '" + a + "'";
    const int status = std::system((command + " >" + (folder / "out") + " 2>" + (folder / "err")).c_str());
    return {WEXITSTATUS(status), test::read_text(folder / "out"), test::read_text(folder / "err")};
}

class CommandsOnEveryKind : public testing::TestWithParam<const char*> {
  protected:
    static KindsRan run(std::vector<std::string> arguments) {
        arguments.insert(arguments.begin() + 1, test::data(GetParam()));
        return run_mtrail(arguments);
    }
};

TEST_P(CommandsOnEveryKind, PrintTheSameActivitiesAsTextCsvAndJson) {
    const auto o = test::decode(test::data(GetParam()));
    bool asked = false;  // for one that is not told of
    for (const LaneKind* kind : LaneKinds::all()) {
        const std::string id(kind->id());
        SCOPED_TRACE(id);
        if (!kind->told(*o.trail) && std::exchange(asked, true)) continue;
        const auto csv = run({"stats", "--of", id, "--csv"}), json = run({"stats", "--of", id, "--json"}),
                   text = run({"stats", "--of", id});
        EXPECT_EQ(csv.code, json.code);
        EXPECT_EQ(csv.code, text.code);
        if (csv.code != 0) {
            EXPECT_EQ(csv.code, 2);
            EXPECT_NE(csv.err.find("the recording contains no " + id), std::string::npos) << csv.err;
            EXPECT_EQ(csv.out, "");
            continue;
        }
        const auto rows = test::lines(csv.out);
        const auto parsed = nlohmann::json::parse(json.out);
        ASSERT_EQ(parsed.size() + 1, rows.size());
        EXPECT_EQ(test::lines(text.out).size(), rows.size());
        const std::size_t columns = static_cast<std::size_t>(std::count(rows[0].begin(), rows[0].end(), ',')) + 1;
        EXPECT_EQ(columns, kind->columns().size());
        std::set<std::string> keys;
        const auto first = parsed.empty() ? nlohmann::json::object() : parsed[0];
        for (const auto& [key, value] : first.items()) keys.insert(key);
        for (const auto& row : parsed) EXPECT_EQ(row.size(), keys.size()) << "every row has every key";
    }
}

TEST_P(CommandsOnEveryKind, ListTheInstancesOfEachNameOnce) {
    std::set<std::string> done;
    const auto o = test::decode(test::data(GetParam()));
    int left = 8;
    for (const LaneKind* kind : LaneKinds::all())
        for (const auto& name : kind->names(*o.trail)) {
            if (!done.insert(name.name).second || left-- <= 0) continue;
            SCOPED_TRACE(name.name);
            const auto listed = run({"instances", "--of", name.name});
            ASSERT_EQ(listed.code, 0) << listed.err;
            const auto rows = test::lines(listed.out);
            ASSERT_GE(rows.size(), 1U);
            const auto commas = std::count(rows[0].begin(), rows[0].end(), ',');
            std::uint64_t instances = 0;
            kind->each_instance(*o.trail, name.index, [&](std::span<const Cell>) {
                ++instances;
                return true;
            });
            EXPECT_EQ(rows.size(), instances + 1);
            EXPECT_GE(commas, 3);
        }
}

INSTANTIATE_TEST_SUITE_P(Recordings, CommandsOnEveryKind,
                         testing::Values("tasks/mount-b/trace", "steps/rv-ntrace-mount-htm/recording.target.toml"));

TEST(TheCommandLine, NamesTheKindsThatThereAre) {
    const auto help = run_mtrail({"stats", "--help"});
    for (const LaneKind* kind : LaneKinds::all())
        EXPECT_NE(help.out.find(std::string(kind->id())), std::string::npos) << kind->id();
    const auto wrong = run_mtrail({"stats", test::data("mount/mount.target.toml"), "--of", "dragons"});
    EXPECT_EQ(wrong.code, 2);
    EXPECT_NE(wrong.err.find("dragons"), std::string::npos) << wrong.err;
}

TEST(TheCommandLine, OffersNamesNearOneThatIsNotThere) {
    const auto near = run_mtrail({"instances", test::data("tasks/mount-a/trace"), "--of", "axis_rb"});
    EXPECT_EQ(near.code, 2);
    EXPECT_NE(near.err.find("axis_ra"), std::string::npos) << near.err;
}

}  // namespace
}  // namespace mt
