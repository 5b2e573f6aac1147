// mtrail as a build server calls it: output, exit codes, messages.
#include <gtest/gtest.h>
#include <sys/wait.h>

#include <nlohmann/json.hpp>

#include "support.h"

namespace mt {
namespace {

using test::lines;

struct Ran {
    int code;
    std::string out, err;
};

Ran mtrail(const std::string& arguments) {
    test::Folder folder;
    const int status = std::system(
        (std::string(MT_CLI) + " " + arguments + " >" + (folder / "out") + " 2>" + (folder / "err")).c_str());
    return {WEXITSTATUS(status), test::read_text(folder / "out"), test::read_text(folder / "err")};
}

const std::string kMount = test::data("mount/mount.target.toml");

TEST(CommandLine, EventsAreCsvInTimeOrder) {
    const auto r = mtrail("events " + kMount + " --csv");
    ASSERT_EQ(r.code, 0) << r.err;
    const auto all = lines(r.out);
    EXPECT_EQ(all[0], "time_ns,core,kind,name,number,value,offset");
    EXPECT_EQ(all.size(), 1 + 44'838U);
    EXPECT_EQ(all[1], "19888.889,main,counter,,,8,6");
    EXPECT_EQ(all[6], "69541.667,main,port,boot marks,31,1,37");
    EXPECT_EQ(all[23], "90625.000,main,exc_enter,SVCall,11,,111");
}

TEST(CommandLine, TimesLimitWhatIsPrinted) {
    const auto r = mtrail("packets " + kMount + " --from 90625 --to 91111.2 --csv");
    const auto all = lines(r.out);
    ASSERT_EQ(all.size(), 5U) << r.out;
    EXPECT_EQ(all[0], "offset,time_ns,kind,detail");
    EXPECT_EQ(all[1], "111,90625.000,exc_enter,exception 11 entered");
    EXPECT_EQ(all[4].substr(0, 18), "121,91097.222,lts1");
}

TEST(CommandLine, StatsHaveTheAgreedColumns) {
    const auto all = lines(mtrail("stats " + kMount + " --of interrupts --csv").out);
    EXPECT_EQ(all[0],
              "name,number,count,left_out,total,own,min,mean,max,stddev,p95,p99,period_min,period_mean,period_max,"
              "response_min,response_mean,response_max,share");
    EXPECT_EQ(all.size(), 10U);
    EXPECT_EQ(all[1].substr(0, 15), "BusFault,5,0,1,");
}

TEST(CommandLine, JsonIsWellFormed) {
    const auto summary = nlohmann::json::parse(mtrail("summary " + kMount + " --json").out);
    EXPECT_EQ(summary["streams"][0]["packets"]["exc_enter"], 6435);
    EXPECT_EQ(summary["gaps"]["count"], 0);
    EXPECT_NEAR(summary["span_ns"].get<double>(), 34'209'805 / 0.072, 1);
    const auto stats = nlohmann::json::parse(mtrail("stats " + kMount + " --of interrupts --json").out);
    EXPECT_EQ(stats.size(), 9U);
    const auto found = nlohmann::json::parse(mtrail("find " + kMount + " --json").out);
    EXPECT_EQ(found[0]["kind"], "fault");
    for (const auto key :
         {"kind", "severity", "title", "cause", "begin_ns", "end_ns", "activities", "core", "evidence"})
        EXPECT_TRUE(found[0].contains(key)) << key;
}

TEST(CommandLine, InstancesByNameOrNumber) {
    const auto by_name = mtrail("instances " + kMount + " --of SysTick --csv"),
               by_number = mtrail("instances " + kMount + " --of 15 --csv");
    EXPECT_EQ(by_name.out, by_number.out);
    EXPECT_EQ(lines(by_name.out).size(), 1 + 476U);
    const auto unknown = mtrail("instances " + kMount + " --of moon");
    EXPECT_EQ(unknown.code, 2);
    EXPECT_NE(unknown.err.find("step_handler"), std::string::npos) << "it lists those that ran";
}

TEST(CommandLine, ReadSavesARecordingThatSaysTheSame) {
    test::Folder folder;
    ASSERT_EQ(mtrail("read " + kMount + " -o " + (folder / "x.mtrail")).code, 0);
    EXPECT_EQ(mtrail("events " + (folder / "x.mtrail") + " --csv").out, mtrail("events " + kMount + " --csv").out);
    EXPECT_EQ(mtrail("read " + kMount + " -o " + (folder / "x.mtrail")).code, 2) << "not over what is there";
    EXPECT_EQ(mtrail("read " + kMount + " --replace -o " + (folder / "x.mtrail")).code, 0);
}

TEST(CommandLine, ErrorsGoToStandardErrorWithPlaceAndAdvice) {
    for (const std::string& arguments :
         {std::string("find /nowhere.target.toml"), std::string("find"), std::string("stats ") + kMount + " --of locks",
          std::string("fly"), std::string("find ") + test::data("mount/capture.bin")}) {
        const auto r = mtrail(arguments);
        EXPECT_EQ(r.code, 2) << arguments;
        EXPECT_TRUE(r.out.empty()) << arguments;
        EXPECT_EQ(r.err.rfind("mtrail: ", 0), 0U) << r.err;
    }
    EXPECT_EQ(mtrail("--help").code, 0);
    EXPECT_EQ(mtrail("stats --help").code, 0);
}

TEST(CommandLine, AFullDiskIsSaid) {
    const auto r = mtrail("events " + kMount + " --csv -o /dev/full");
    EXPECT_EQ(r.code, 2);
    EXPECT_NE(r.err.find("/dev/full"), std::string::npos);
}

}  // namespace
}  // namespace mt
