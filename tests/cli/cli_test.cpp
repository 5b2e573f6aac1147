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

TEST(CommandLine, WhatAnOptionCannotBeIsRefusedWithWhatIsAllowed) {
    const std::string steps = test::data("steps/rv-etrace-mount/recording.target.toml");
    struct Wrong {
        std::string arguments, said;
    };
    for (const Wrong& w : {Wrong{"events " + kMount + " --from nan", "is no time"},
                           {"events " + kMount + " --from 5parsec", "is no time"},
                           {"events " + kMount + " --from -3", "is no time"},
                           {"events " + kMount + " --from 1e300", "is no time"},
                           {"events " + kMount + " --from 2ms --to 1ms", "--from lies after --to"},
                           {"stats " + kMount + " --of interrupts --csv --json", "excludes"},
                           {"stats " + steps + " --of functions --leave-out interp_fed", "did you mean interp_feed?"},
                           {"find " + kMount + " --fail-if late_respose", "did you mean late_response?"},
                           {"ring " + kMount + " --at 99999999999999999999999", "--at"},
                           {"evnts " + kMount, "did you mean events?"},
                           {"evnt " + kMount, "did you mean events?"},
                           {"instances " + kMount + " --of SysTik", "did you mean SysTick?"}}) {
        const auto r = mtrail(w.arguments);
        EXPECT_EQ(r.code, 2) << w.arguments;
        EXPECT_NE(r.err.find(w.said), std::string::npos) << w.arguments << ": " << r.err;
        EXPECT_TRUE(r.out.empty()) << w.arguments;
    }
}

// Bytes of one protocol read as another: nothing of it is called whole, and what is missing is counted.
TEST(CommandLine, AStreamThatIsNoneOfItsProtocolIsSaidToHoldNothing) {
    const test::Folder folder;
    std::string text = test::read_text(test::data("steps/rv-ntrace-mount-htm/recording.target.toml"));
    text.replace(text.find("../"), 3, test::data("steps/"));
    text.replace(text.find("trace.bin"), 9, test::data("steps/rv-etrace-mount/trace.bin"));
    test::write_file(folder / "x.target.toml", text);
    const auto said = mtrail("summary " + (folder / "x.target.toml"));
    EXPECT_EQ(said.out.find("whole"), std::string::npos) << said.out;
    EXPECT_NE(said.out.find("no instruction of core main could be followed"), std::string::npos) << said.out;
    const auto json = nlohmann::json::parse(mtrail("summary " + (folder / "x.target.toml") + " --json").out);
    EXPECT_GE(json["gaps"]["damaged"].get<int>(), 1) << json["gaps"];
}

TEST(CommandLine, TimesTakeUnits) {
    const auto plain = mtrail("events " + kMount + " --csv --from 90625 --to 2000000").out;
    EXPECT_EQ(mtrail("events " + kMount + " --csv --from 90.625us --to 2ms").out, plain);
    EXPECT_EQ(mtrail("events " + kMount + " --csv --from '90.625 µs' --to 0.002s").out, plain);
    EXPECT_GT(lines(plain).size(), 10U);
}

TEST(CommandLine, AddressesKeepToTheTimesThatAreAskedFor) {
    test::Folder folder;
    const std::string steps = test::data("steps/arm-etm-mount/recording.target.toml");
    ASSERT_EQ(mtrail("steps " + steps + " --from 10ms --to 11ms --pcs " + (folder / "part")).code, 0);
    const auto rows = lines(mtrail("steps " + steps + " --from 10ms --to 11ms --csv").out);
    EXPECT_GT(rows.size(), 1000U);
    EXPECT_EQ(std::filesystem::file_size(folder / "part"), 8 * (rows.size() - 1));
}

TEST(CommandLine, StatsAreSortedCutAndOfACoreAsAsked) {
    const std::string demo = "stats " + test::demo("larkspur.target.toml") + " --of interrupts --csv";
    const auto rows = [&](const std::string& options) { return test::lines(mtrail(demo + " " + options).out); };
    const auto all = rows(""), most = rows("--sort count --top 2"), cop = rows("--core cop");
    ASSERT_EQ(most.size(), 3U);
    EXPECT_EQ(most[0], all[0]);
    EXPECT_EQ(most[1].substr(0, 10), "STEP_TIMER") << "it runs most often";
    EXPECT_LT(cop.size(), all.size());
    EXPECT_GT(cop.size(), 1U);
    EXPECT_EQ(cop.size() + rows("--core main").size(), all.size() + 1);
    EXPECT_EQ(rows("--sort name")[1].substr(0, 8), "BusFault");
    const auto wrong = mtrail(demo + " --sort cuont");
    EXPECT_EQ(wrong.code, 2);
    EXPECT_NE(wrong.err.find("count"), std::string::npos) << wrong.err;
    EXPECT_EQ(mtrail(demo + " --core moon").code, 2);
    EXPECT_EQ(mtrail("stats " + kMount + " --of marks --core main").code, 2) << "marks belong to no core";
}

TEST(CommandLine, TextIsWhatTheFirmwarePrintedLineByLine) {
    const auto csv = mtrail("text " + kMount + " --csv"), plain = mtrail("text " + kMount);
    EXPECT_EQ(csv.code, 0);
    EXPECT_EQ(test::lines(csv.out)[0], "time_ns,core,port,text");
    EXPECT_EQ(test::lines(csv.out)[1], "69722.222,main,console,mount 7 up");
    EXPECT_EQ(test::lines(plain.out)[0], "0.000 069 722 s  mount 7 up");
    EXPECT_EQ(mtrail("text " + kMount + " --csv --of 0").out, csv.out);
    EXPECT_EQ(test::lines(mtrail("text " + kMount + " --csv --to 70us").out).size(), 2U);
    const auto wrong = mtrail("text " + kMount + " --of consle");
    EXPECT_EQ(wrong.code, 2);
    EXPECT_NE(wrong.err.find("console"), std::string::npos) << wrong.err;
}

TEST(CommandLine, ValuesAreEverySampleOfWhatIsNamed) {
    const auto all = lines(mtrail("values " + kMount + " --csv").out);
    EXPECT_EQ(all[0], "time_ns,core,name,value,access,pc");
    EXPECT_GT(all.size(), 6471u);
    for (std::size_t i = 2; i < all.size(); ++i)
        ASSERT_LE(std::stod(all[i - 1]), std::stod(all[i])) << "in the order of time";
    const auto some = lines(mtrail("values " + kMount + " --of axis_error guide_state --csv").out);
    EXPECT_EQ(some.size(), 1u + 476 + 993);
    EXPECT_EQ(some[1].substr(some[1].find(",main,")), ",main,guide_state,0,write,");
    const auto early = lines(mtrail("values " + kMount + " --of guide_state --to 1ms --csv").out);
    EXPECT_LT(early.size(), 20u);
    const auto near_name = mtrail("values " + kMount + " --of axis_eror --csv");
    EXPECT_EQ(near_name.code, 2);
    EXPECT_NE(near_name.err.find("axis_error"), std::string::npos) << near_name.err;
}

TEST(CommandLine, AValueChangeDumpIsWrittenWholeOrNotAtAll) {
    const test::Folder folder;
    const auto r = mtrail("export " + kMount + " --vcd " + (folder / "x.vcd"));
    ASSERT_EQ(r.code, 0) << r.err;
    const std::string text = test::read_text(folder / "x.vcd");
    EXPECT_NE(text.find("$timescale 1 ps $end"), std::string::npos);
    EXPECT_NE(text.find("$enddefinitions $end"), std::string::npos);
    EXPECT_EQ(mtrail("export " + kMount + " --vcd " + kMount).code, 2) << "never over what is being read";
    EXPECT_NE(test::read_text(kMount).find("[[stream]]"), std::string::npos);
    EXPECT_EQ(mtrail("export " + kMount + " --vcd /nowhere/x.vcd").code, 2);
    const auto nothing = mtrail("export " + kMount);
    EXPECT_EQ(nothing.code, 2);
    EXPECT_NE(nothing.err.find("--vcd"), std::string::npos);
}

TEST(CommandLine, UnitsNeedsARecipeThatReachesATarget) {
    const test::Folder folder;
    EXPECT_EQ(mtrail("units --recipe " + (folder / "none.recipe.toml")).code, 2);
    const auto write = [&](const std::string& rest) {
        test::write_file(folder / "r.recipe.toml",
                         "format = \"mindful-trail-recipe/1\"\nname = \"x\"\ntarget = \"" +
                             test::demo("larkspur-live.target.toml") +
                             "\"\n[[connect]]\ncore = \"main\"\ntrace = \"tcp\"\naddress = \"127.0.0.1:9\"\n" + rest);
        return mtrail("units --recipe " + (folder / "r.recipe.toml"));
    };
    EXPECT_NE(write("").err.find("no debug server"), std::string::npos);
    const auto silent = write("debug = \"127.0.0.1:9\"\n");
    EXPECT_EQ(silent.code, 2);
    EXPECT_NE(silent.err.find("127.0.0.1:9"), std::string::npos) << silent.err;
    const auto plan = mtrail("units --plan --recipe " + (folder / "r.recipe.toml"));
    EXPECT_EQ(plan.code, 2);
    EXPECT_NE(plan.err.find("asks for nothing"), std::string::npos) << plan.err;
    const auto set = mtrail("units --recipe " + (folder / "r.recipe.toml") + " --set seconds=3");
    EXPECT_NE(set.err.find("no parameter 'seconds'"), std::string::npos) << set.err;
}

TEST(CommandLine, MutedFindingsAreNotToldAndDoNotMakeTheVerdictBad) {
    const test::Folder folder;
    const std::string muted = folder / "known.toml";
    test::write_file(muted, std::string("format = \"mindful-trail-muted/1\"\n[[muted]]\nkind = \"fault\"\nreason = "
                                        "\"seen\"\n"));
    EXPECT_EQ(mtrail("find " + kMount + " --fail-if fault").code, 1);
    const auto quiet = mtrail("find " + kMount + " --fail-if fault --muted " + muted);
    EXPECT_EQ(quiet.code, 0);
    EXPECT_NE(quiet.out.find("1 finding is muted"), std::string::npos) << quiet.out;
    EXPECT_EQ(quiet.out.find("BusFault"), std::string::npos);
    EXPECT_NE(mtrail("find " + kMount + " --all --muted " + muted).out.find("BusFault"), std::string::npos);
    EXPECT_NE(mtrail("find " + kMount + " --json --muted " + muted).out.find("\"muted\": \"seen\""), std::string::npos);
    test::write_file(muted, std::string("format = \"mindful-trail-muted/1\"\n[[muted]]\nreason = \"all\"\n"));
    EXPECT_EQ(mtrail("find " + kMount + " --muted " + muted).code, 2) << "it would mute everything";
}

TEST(CommandLine, FindingsOfAKindMakeTheVerdictBad) {
    EXPECT_EQ(mtrail("find " + kMount + " --fail-if fault").code, 1);
    EXPECT_EQ(mtrail("find " + kMount + " --fail-if any").code, 1);
    EXPECT_EQ(mtrail("find " + kMount + " --fail-if deadlock").code, 0);
    EXPECT_EQ(mtrail("find " + kMount).code, 0);
}

// A trace without a clock: an instruction is taken for a cycle, and no table calls that time.
TEST(CommandLine, TimesStayEmptyWhereTheTraceTellsNone) {
    const std::string target = test::data("steps/rv-etrace-mount/recording.target.toml");
    const auto functions = lines(mtrail("stats " + target + " --of functions --csv").out);
    ASSERT_GT(functions.size(), 5U);
    for (std::size_t i = 1; i < functions.size(); ++i)
        EXPECT_NE(functions[i].find(",,,,,,,,,,,,,,,"), std::string::npos) << functions[i];
    for (const auto& row : nlohmann::json::parse(mtrail("stats " + target + " --of interrupts --json").out))
        EXPECT_TRUE(row["total"].is_null() && row["mean"].is_null()) << row.dump();
    const auto found = nlohmann::json::parse(mtrail("find " + target + " --json").out);
    for (const auto& f : found) EXPECT_TRUE(f["begin_ns"].is_null()) << f.dump();
}

// From entry to exit, with callees and with what preempted it; own time without both.
TEST(CommandLine, AFunctionsDurationIsTheSameInFiguresAndInInstances) {
    const std::string target = test::data("steps/arm-etm-mount-cc/recording.target.toml");
    const auto stats = nlohmann::json::parse(mtrail("stats " + target + " --of functions --json").out);
    std::size_t looked_at = 0;
    for (const auto& f : stats) {
        if (f["own"].is_null() || f["sampled"].get<bool>()) continue;
        EXPECT_LE(f["own"].get<double>(), f["total"].get<double>() + 0.01) << f["name"];
        if (f["count"].get<int>() < 20 || f["left_out"].get<int>() > 0 || looked_at >= 6) continue;
        const auto rows = lines(mtrail("instances " + target + " --of " + f["name"].get<std::string>() + " --csv").out);
        if (rows[0].find("preempted_ns") == std::string::npos) continue;  // an interrupt of that name
        ++looked_at;
        double longest = 0, shortest = 1e18;
        for (std::size_t i = 1; i < rows.size(); ++i) {
            std::istringstream in(rows[i]);
            std::vector<std::string> cell;
            for (std::string c; std::getline(in, c, ',');) cell.push_back(c);
            ASSERT_GE(cell.size(), 9U) << rows[i];
            const double duration = std::stod(cell[3]), own = std::stod(cell[7]), preempted = std::stod(cell[8]);
            EXPECT_LE(own + preempted, duration + 0.01) << rows[i];
            longest = std::max(longest, duration);
            shortest = std::min(shortest, duration);
        }
        EXPECT_NEAR(f["max"].get<double>(), longest, 0.002) << f["name"];
        EXPECT_NEAR(f["min"].get<double>(), shortest, 0.002) << f["name"];
    }
    EXPECT_GE(looked_at, 5U);
}

TEST(CommandLine, AFullDiskIsSaid) {
    const auto r = mtrail("events " + kMount + " --csv -o /dev/full");
    EXPECT_EQ(r.code, 2);
    EXPECT_NE(r.err.find("/dev/full"), std::string::npos);
}

}  // namespace
}  // namespace mt
