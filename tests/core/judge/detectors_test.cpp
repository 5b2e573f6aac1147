// Detectors are asked one after the other, whoever wrote them; a finding says what it is about and who plays which
// part.
#include "judge/detector.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include <set>

#include "judge/sentences.h"
#include "measure/lane_book.h"
#include "base/text.h"
#include "share/tables.h"
#include "support.h"

namespace mt {
namespace {

TEST(Detectors, HaveNamesOfTheirOwnAndAnOrder) {
    std::set<std::string_view> names;
    int before = 0;
    for (const Detector* d : detectors()) {
        EXPECT_TRUE(names.insert(d->name).second) << d->name;
        EXPECT_GE(d->order, before);
        before = d->order;
        ASSERT_NE(d->find, nullptr);
    }
    for (const char* name :
         {"health", "lateness", "durations", "odd calls", "odd jobs", "lock trouble", "load trouble"})
        EXPECT_EQ(names.count(name), 1U) << name;
}

// Somebody's own: the first interrupt of each core.
TEST(ADetector, ThatIsAddedIsAskedLikeTheOthersAndItsFindingsAreRanked) {
    static constexpr Detector kFirsts{"firsts", 900, [](const Judged& judged, std::vector<Finding>& out) {
                                          judged.each_lane([&](std::size_t core, std::size_t lane) {
                                              if (lane > 0) return;
                                              Finding f = about_instance(FindingKind::jitter_burst, judged.trail, core,
                                                                         lane, 0);
                                              f.title = "the first of " + f.involved[0].name;
                                              f.severity = 0.99;
                                              out.push_back(std::move(f));
                                          });
                                      }};
    const auto o = test::decode(test::data("mount/mount.target.toml"));
    const auto before = find_all(*o.recording, *o.trail);
    detectors().push_back(&kFirsts);
    const auto with = find_all(*o.recording, *o.trail);
    detectors().pop_back();
    ASSERT_EQ(with.size(), before.size() + 1);
    const auto own =
        std::find_if(with.begin(), with.end(), [](const Finding& f) { return f.title.rfind("the first of ", 0) == 0; });
    ASSERT_NE(own, with.end());
    EXPECT_EQ(own->lane, interrupt_lane(0, 0));
    EXPECT_EQ(own->about, execution_ref(0, 0, 0));
    for (std::size_t i = 1; i < with.size(); ++i) EXPECT_GE(with[i - 1].severity, with[i].severity);
}

TEST(ADetector, IsNotAskedOnceALookWasCancelled) {
    const auto o = test::decode(test::data("tasks/mount-a/trace"));
    Progress stopped;
    stopped.cancel();
    EXPECT_TRUE(find_all(*o.recording, *o.trail, &stopped).empty());
}

class FindingsOf : public testing::TestWithParam<const char*> {};

TEST_P(FindingsOf, LeadToLanesAndSpansThatAreThere) {
    const auto o = test::decode(GetParam()[0] == '/' ? std::string(GetParam()) : test::data(GetParam()));
    const LaneBook book(o.trail);
    for (const Finding& f : find_all(*o.recording, *o.trail)) {
        SCOPED_TRACE(f.title);
        if (f.lane) {
            EXPECT_NE(book.find(f.lane), nullptr);
        }
        if (f.about) {
            EXPECT_EQ(f.about->lane, f.lane);
            if (f.kind != FindingKind::deadlock) {  // that is about a job which never ended
                EXPECT_NE(book.find(*f.about), nullptr);
            }
        }
        for (const Involved& i : f.involved) {
            EXPECT_FALSE(i.name.empty());
            if (!i.lane) continue;
            const Lane* lane = book.find(i.lane);
            ASSERT_NE(lane, nullptr) << i.name;
            if (i.lane.kind != &functions_kind()) {
                EXPECT_EQ(lane->name(), i.name);
            }
        }
        if (const Involved* subject = f.with(Role::subject)) {
            EXPECT_TRUE(f.names(subject->name));
        }
    }
}

INSTANTIATE_TEST_SUITE_P(Recordings, FindingsOf,
                         testing::Values("tasks/mount-a/trace", "tasks/mount-b/trace", "tasks/mount-c/trace",
                                         "mount/mount.target.toml", MT_DEMO "/larkspur.target.toml"));

TEST(Findings, SayWhoPlaysWhichPart) {
    const auto o = test::decode(test::data("tasks/mount-a/trace"));
    const auto all = find_all(*o.recording, *o.trail);
    const auto inversion = std::find_if(all.begin(), all.end(),
                                        [](const Finding& f) { return f.kind == FindingKind::priority_inversion; });
    ASSERT_NE(inversion, all.end());
    const auto name_of = [&](Role role) {
        const Involved* found = inversion->with(role);
        return found == nullptr ? std::string("nobody") : found->name;
    };
    EXPECT_EQ(name_of(Role::subject), "axis_dec");
    EXPECT_EQ(name_of(Role::holder), "weather");
    EXPECT_EQ(name_of(Role::runner), "hand_pad");
    EXPECT_EQ(name_of(Role::lock), "axis state");
    EXPECT_EQ(name_of(Role::queue), "nobody");
    const auto json = findings_json(all)[static_cast<std::size_t>(inversion - all.begin())];
    ASSERT_EQ(json["involved"].size(), json["activities"].size());
    std::set<std::string> roles;
    for (std::size_t i = 0; i < json["involved"].size(); ++i) {
        EXPECT_EQ(json["involved"][i]["name"], json["activities"][i]);
        roles.insert(json["involved"][i]["role"].get<std::string>());
    }
    EXPECT_TRUE(roles.count("subject") && roles.count("holder") && roles.count("lock"));
}

std::size_t count_of(const std::vector<Finding>& all, FindingKind kind) {
    return static_cast<std::size_t>(
        std::count_if(all.begin(), all.end(), [kind](const Finding& f) { return f.kind == kind; }));
}

TEST(Findings, AreDataOfWhichTheirSentencesAreMade) {
    for (const char* recording : {"tasks/mount-a/trace", "tasks/mount-b/trace", "tasks/mount-c/trace",
                                  "mount/mount.target.toml", "steps/rv-etrace-mount/recording.target.toml"}) {
        const auto o = test::decode(test::data(recording));
        for (const Finding& f : find_all(*o.recording, *o.trail)) {
            SCOPED_TRACE(f.title);
            EXPECT_FALSE(f.facts.empty());
            EXPECT_EQ(title_of(f), f.title);
            EXPECT_EQ(cause_of(f), f.cause);
            EXPECT_TRUE(f.cause.back() == '.' || f.cause.back() == '?') << f.cause;
            EXPECT_EQ(f.cause.find("  "), std::string::npos) << "a part is missing: " << f.cause;
            for (const Fact& fact : f.facts) EXPECT_FALSE(fact.text().empty()) << fact.key;
        }
    }
}

TEST(AFinding, GivesItsNumbersWithTheirUnits) {
    const auto o = test::decode(test::data("tasks/mount-a/trace"));
    const auto all = find_all(*o.recording, *o.trail);
    const auto found = std::find_if(all.begin(), all.end(),
                                    [](const Finding& f) { return f.kind == FindingKind::priority_inversion; });
    ASSERT_NE(found, all.end());
    EXPECT_EQ(std::get<Time>(found->known("waited")->value), found->end - found->begin);
    EXPECT_EQ(found->known("nobody said so"), nullptr);
    EXPECT_EQ(found->told("nobody said so"), "");
    const auto json = findings_json(all)[static_cast<std::size_t>(found - all.begin())];
    const auto waited = std::find_if(json["facts"].begin(), json["facts"].end(),
                                     [](const auto& fact) { return fact["key"] == "waited"; });
    ASSERT_NE(waited, json["facts"].end());
    EXPECT_EQ((*waited)["unit"], "ns");
    EXPECT_EQ((*waited)["value"], json["end_ns"].get<double>() - json["begin_ns"].get<double>());
}

TEST(AFact, IsReadWithItsUnit) {
    const auto read = [](Fact::Value value) {
        const Fact fact{"x", std::move(value), ""};
        return fact.text() + "|" + std::string(fact.unit());
    };
    EXPECT_EQ(read(Time::from_us(64)), "64.0 µs|ns");
    EXPECT_EQ(read(std::uint64_t{1234}), count_text(1234) + "|1");
    EXPECT_EQ(read(Share{0.25}), "25.0 %|1");
    EXPECT_EQ(read(Factor{4.27}), "4.3|1");
    EXPECT_EQ(read(Factor{40.7}), "41|1");
    EXPECT_EQ(read(Bytes{3}), "3 B|B");
    EXPECT_EQ(read(Address{0x8000106}), "0x08000106|");
    EXPECT_EQ(read(Hertz{72e6}), "72 MHz|Hz");
    EXPECT_EQ(read(std::string("here")), "here|");
    EXPECT_EQ(read(true), "yes|");
}

TEST(Thresholds, DecideWhatIsTold) {
    const auto tasks = test::decode(test::data("tasks/mount-a/trace"));
    const auto told = [](const test::Opened& o, const Thresholds& limits, FindingKind kind) {
        return count_of(find_all(*o.recording, *o.trail, nullptr, limits), kind);
    };
    ASSERT_GT(told(tasks, {}, FindingKind::priority_inversion), 0U);
    Thresholds limits;
    limits.lock.inversion = 1.1;  // more than the whole wait
    EXPECT_EQ(told(tasks, limits, FindingKind::priority_inversion), 0U);

    const auto mount = test::decode(test::demo("larkspur.target.toml"));
    ASSERT_GT(told(mount, {}, FindingKind::late_response), 0U);
    limits = {};
    limits.lateness.least = Time::from_ms(100);
    EXPECT_EQ(told(mount, limits, FindingKind::late_response), 0U);
    limits = {};
    const std::size_t usual = told(mount, {}, FindingKind::duration_outlier);
    limits.execution = {10, 1, 0, Time{1}, 1};
    EXPECT_GT(told(mount, limits, FindingKind::duration_outlier), usual);
}

}  // namespace
}  // namespace mt
