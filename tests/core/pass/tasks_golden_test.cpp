// Traces of operating-system events against their truth: every figure of every task, lock and interrupt, and what was
// made to go wrong.
#include <gtest/gtest.h>

#include <cmath>

#include <nlohmann/json.hpp>

#include "judge/finding.h"
#include "measure/interrupts.h"
#include "measure/tasks.h"
#include "share/tables.h"
#include "support.h"

namespace mt {
namespace {

using Json = nlohmann::json;

std::string folder(const std::string& name) { return test::data("tasks/mount-" + name); }
Json tasks_truth_of(const std::string& name) { return Json::parse(test::read_text(folder(name) + "/truth.json")); }

// Both sides are rounded to a thousandth of a nanosecond.
void expect_ns(const std::optional<Time>& mine, const Json& truth, const std::string& what) {
    if (truth.is_null()) return;
    ASSERT_TRUE(mine) << what;
    EXPECT_NEAR(mine->ns(), truth.get<double>(), 0.0011) << what;
}

void expect_figures(const Figures& mine, const Json& truth, const std::string& what) {
    if (truth.is_null()) {
        EXPECT_EQ(mine.count, 0U) << what;
        return;
    }
    if (truth.contains("n")) {
        EXPECT_EQ(mine.count, truth["n"].get<std::uint64_t>()) << what;
    }
    expect_ns(mine.least, truth["min"], what + " least");
    expect_ns(mine.mean, truth["mean"], what + " mean");
    expect_ns(mine.greatest, truth["max"], what + " greatest");
    if (truth.contains("p95")) expect_ns(mine.p95, truth["p95"], what + " 95 %");
    if (truth.contains("p99")) expect_ns(mine.p99, truth["p99"], what + " 99 %");
    if (truth.contains("stddev")) expect_ns(mine.deviation, truth["stddev"], what + " deviation");
}

class TaskTruth : public testing::TestWithParam<const char*> {
  protected:
    void SetUp() override {
        opened = test::decode(folder(GetParam()) + "/trace");
        truth = tasks_truth_of(GetParam());
    }
    test::Opened opened;
    Json truth;
};

TEST_P(TaskTruth, HoldsForEveryTask) {
    std::size_t seen = 0;
    for (const auto& row : task_rows(*opened.trail)) {
        const Json& t = truth["tasks"][row.name];
        ASSERT_FALSE(t.is_null()) << row.name;
        ++seen;
        EXPECT_EQ(row.id, t["id"].get<unsigned>());
        EXPECT_EQ(row.priority, t["priority"].get<int>()) << row.name;
        expect_ns(row.cpu, t["cpu_ns"], row.name + " processor time");
        EXPECT_NEAR(row.share, t["cpu_share"].get<double>(), 1e-9) << row.name;
        EXPECT_EQ(row.idle, !t.contains("jobs")) << row.name;
        if (row.idle) continue;
        EXPECT_EQ(row.run.count, t["jobs"].get<std::uint64_t>()) << row.name;
        EXPECT_EQ(row.open, t["open_jobs"].get<std::uint64_t>()) << row.name;
        EXPECT_EQ(row.preemptions, t["preemptions"].get<std::uint64_t>()) << row.name;
        expect_figures(row.run, t["execution_ns"], row.name + " execution");
        expect_figures(row.response, t["response_ns"], row.name + " response");
        expect_figures(row.latency, t["start_latency_ns"], row.name + " start");
        expect_figures(row.period, t["period_ready_ns"], row.name + " period");
        expect_figures(row.start_period, t["period_start_ns"], row.name + " period of starts");
    }
    EXPECT_EQ(seen, truth["tasks"].size());
}

TEST_P(TaskTruth, HoldsForEveryLock) {
    const auto rows = lock_rows(*opened.trail);
    EXPECT_EQ(rows.size(), truth["mutexes"].size());
    for (const auto& row : rows) {
        const Json& t = truth["mutexes"][row.name];
        ASSERT_FALSE(t.is_null()) << row.name;
        EXPECT_EQ(row.hold.count, t["holds"].get<std::uint64_t>()) << row.name;
        EXPECT_EQ(row.contention, t["contention"].get<std::uint64_t>()) << row.name;
        EXPECT_EQ(row.never_got, t["never_granted"].size()) << row.name;
        expect_figures(row.hold, t["hold_ns"], row.name + " held");
        expect_figures(row.wait, t["wait_ns"], row.name + " waited for");
        if (t["longest_wait"].is_null()) continue;
        const LockLane& lane = opened.trail->tasks.locks[row.lock];
        bool found = false;
        for (std::size_t i = 0; i < lane.waits.size(); ++i) {
            const LockWait& w = lane.waits[i];
            found = found || (opened.trail->tasks.task_name(w.task) == t["longest_wait"]["task"] &&
                              opened.trail->tasks.task_name(w.holder) == t["longest_wait"]["holder"] &&
                              std::fabs((w.end - w.begin).ns() - t["longest_wait"]["wait_ns"].get<double>()) < 0.0011);
        }
        EXPECT_TRUE(found) << row.name;
    }
}

TEST_P(TaskTruth, HoldsForEveryInterrupt) {
    std::size_t seen = 0;
    for (const auto& row : interrupt_rows(*opened.trail)) {
        const Json& t = truth["isrs"][row.name];
        ASSERT_FALSE(t.is_null()) << row.name;
        ++seen;
        EXPECT_EQ(row.number, t["number"].get<unsigned>());
        EXPECT_EQ(row.count, t["instances"].get<std::uint64_t>()) << row.name;
        expect_ns(row.least, t["duration_ns"]["min"], row.name);
        expect_ns(row.mean, t["duration_ns"]["mean"], row.name);
        expect_ns(row.greatest, t["duration_ns"]["max"], row.name);
        expect_ns(row.own_mean, t["execution_ns"]["mean"], row.name + " own");
        if (!t["period_ns"].is_null()) expect_ns(row.period_mean, t["period_ns"]["mean"], row.name + " period");
    }
    for (const auto& [name, t] : truth["isrs"].items()) seen += t["instances"] == 0 ? 1 : 0;
    EXPECT_EQ(seen, truth["isrs"].size());
}

TEST_P(TaskTruth, HoldsForQueuesAndEventCounts) {
    for (const auto& row : queue_rows(*opened.trail)) {
        const Json& t = truth["queues"][row.name];
        EXPECT_EQ(row.sent, truth["event_counts"].value("queue_send", std::uint64_t{0}));
        EXPECT_EQ(row.failed, t["failed"].get<std::uint64_t>()) << row.name;
        EXPECT_EQ(row.peak, t["peak_fill"].get<unsigned>()) << row.name;
    }
    std::map<std::string, std::uint64_t> counts;
    for (const auto& s : opened.trail->tasks.streams)
        for (const auto& [kind, n] : s.counts) counts[kind] += n;
    for (const auto& [kind, n] : truth["event_counts"].items()) EXPECT_EQ(counts[kind], n.get<std::uint64_t>()) << kind;
    const Json summary = Json::parse(summary_json(*opened.recording, *opened.trail).dump());
    EXPECT_NEAR(summary["origin_ns"].get<double>(), truth["begin_ns"].get<double>(), 0.0011);
    for (const auto& [name, t] : truth["signals"].items())
        for (const auto& v : opened.trail->tasks.values)
            if (v.name == name) {
                EXPECT_EQ(v.samples.size(), t["n"].get<std::uint64_t>()) << name;
                EXPECT_EQ(v.value_of(v.least).number(), t["min"].get<double>()) << name;
                EXPECT_EQ(v.value_of(v.greatest).number(), t["max"].get<double>()) << name;
            }
}

// The kind of finding that each injected wrong must bring about.
const std::map<std::string, std::string> kinds = {{"exec_outlier", "duration_outlier"},
                                                  {"isr_delayed", "late_response"},
                                                  {"priority_inversion", "priority_inversion"},
                                                  {"missed_activation", "missed_activation"},
                                                  {"isr_storm", "interrupt_storm"},
                                                  {"slow_degradation", "slow_growth"},
                                                  {"jitter_burst", "jitter_burst"},
                                                  {"queue_overflow", "queue_overflow"},
                                                  {"unprotected_overlap", "unguarded_overlap"},
                                                  {"starvation", "starvation"},
                                                  {"deadlock", "deadlock"},
                                                  {"lost_packets", "gap"},
                                                  {"lock_convoy", "lock_convoy"},
                                                  {"fault", "fault"}};

TEST_P(TaskTruth, EveryInjectedWrongIsFoundAndNothingElse) {
    const auto findings = find_all(*opened.recording, *opened.trail);
    std::vector<bool> used(findings.size());
    const double origin = truth["begin_ns"].get<double>();
    for (const auto& wrong : truth["anomalies"]) {
        bool found = false;
        for (std::size_t i = 0; i < findings.size(); ++i) {
            const Finding& f = findings[i];
            if (finding_kind_name(f.kind) != kinds.at(wrong["kind"])) continue;
            const double begin = f.begin.ns() + origin, end = f.end.ns() + origin;
            if (begin > wrong["end_ns"].get<double>() + 1e6 || end < wrong["start_ns"].get<double>() - 1e6) continue;
            std::size_t named = 0;
            for (std::string who : wrong["activities"]) {
                if (who.rfind("isr:", 0) == 0) who = who.substr(4);
                named += f.names(who) || f.core == who ? 1 : 0;
            }
            if (named == 0) continue;
            if (wrong["kind"] == "deadlock" || wrong["kind"] == "priority_inversion" ||
                wrong["kind"] == "queue_overflow") {
                EXPECT_EQ(named, wrong["activities"].size()) << f.title;
            }
            found = used[i] = true;
        }
        EXPECT_TRUE(found) << wrong.dump();
    }
    for (std::size_t i = 0; i < findings.size(); ++i) {
        // Inversions beside the injected one are true: the truth lists them apart.
        const bool inversion = findings[i].kind == FindingKind::priority_inversion && !truth["inversions"].empty();
        // And what a wrong did to a value shows as soon as it is over.
        bool follows = false;
        for (const auto& wrong : truth["anomalies"]) {
            const double after = findings[i].begin.ns() + origin - wrong["end_ns"].get<double>();
            follows = follows || (findings[i].kind == FindingKind::value_outlier && after > 0 && after < 2e6);
        }
        EXPECT_TRUE(used[i] || inversion || follows) << findings[i].title << ": " << findings[i].cause;
    }
}

INSTANTIATE_TEST_SUITE_P(Mount, TaskTruth, testing::Values("a", "b", "c", "clean"),
                         [](const auto& info) { return std::string(info.param); });

TEST(TaskFindings, SayWhatLedToAFault) {
    const auto o = test::decode(folder("c") + "/trace");
    const auto findings = find_all(*o.recording, *o.trail);
    ASSERT_FALSE(findings.empty());
    EXPECT_EQ(findings[0].kind, FindingKind::fault);
    EXPECT_NE(findings[0].cause.find("link words overflowed"), std::string::npos) << findings[0].cause;
    bool mode = false;
    for (const auto& e : findings[0].evidence) mode = mode || e.what.find("mode = 99") != std::string::npos;
    EXPECT_TRUE(mode) << "the mark written just before, with a value never seen before";
}

TEST(TaskFindings, AreNotLostWhenPacketsAre) {
    // Every tenth packet of the first core is taken out: no crash, no fault invented, gaps told.
    test::Folder copy;
    std::filesystem::copy(folder("b") + "/trace", copy / "trace", std::filesystem::copy_options::recursive);
    auto bytes = test::read_bytes(copy / "trace/core0");
    std::vector<std::uint8_t> kept;
    const std::size_t packet = bytes.size() / 49;
    for (std::size_t p = 0; p < 49; ++p)
        if (p % 10 != 5)
            kept.insert(kept.end(), bytes.begin() + static_cast<std::ptrdiff_t>(p * packet),
                        bytes.begin() + static_cast<std::ptrdiff_t>((p + 1) * packet));
    test::write_file(copy / "trace/core0", kept);
    const auto o = test::decode(copy / "trace");
    EXPECT_EQ(o.trail->gaps.size(), 5U);
    EXPECT_EQ(o.trail->tasks.streams[0].lost_packets, 5U);
    bool gap = false;
    for (const auto& f : find_all(*o.recording, *o.trail)) {
        EXPECT_NE(f.kind, FindingKind::fault);
        gap = gap || f.kind == FindingKind::gap;
    }
    EXPECT_TRUE(gap);
}

}  // namespace
}  // namespace mt
