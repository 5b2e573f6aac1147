// Detectors are asked one after the other, whoever wrote them; a finding says what it is about and who plays which
// part.
#include "judge/detector.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include <set>

#include "measure/lane_book.h"
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

}  // namespace
}  // namespace mt
