// A value change dump of a recording, read again by a reader of its own: what rose and fell is what ran.
#include <gtest/gtest.h>

#include <map>
#include <sstream>

#include "measure/lane_kind.h"
#include "share/vcd_export.h"
#include "support.h"

namespace mt {
namespace {

struct Dump {
    struct Signal {
        std::string type, name, scope;
        std::size_t rises = 0, falls = 0, changes = 0;
        std::string last;
    };
    std::map<std::string, Signal> signals;
    bool ordered = true;
    std::string timescale;

    const Signal* named(const std::string& name) const {
        for (const auto& [id, s] : signals)
            if (s.name == name) return &s;
        return nullptr;
    }
};

Dump parsed(const std::string& text) {
    Dump d;
    std::vector<std::string> scopes;
    long long time = -1;
    for (const std::string& line : test::lines(text)) {
        std::istringstream in(line);
        std::string word;
        in >> word;
        if (word == "$timescale") {
            std::getline(in, d.timescale);
        } else if (word == "$scope") {
            std::string kind, name;
            in >> kind >> name;
            scopes.push_back(name);
        } else if (word == "$upscope") {
            scopes.pop_back();
        } else if (word == "$var") {
            std::string type, width, id, name;
            in >> type >> width >> id >> name;
            EXPECT_EQ(d.signals.count(id), 0U) << id;
            d.signals[id] = {type, name, scopes.empty() ? "" : scopes.back(), 0, 0, 0, {}};
        } else if (word[0] == '#') {
            const long long t = std::stoll(word.substr(1));
            d.ordered = d.ordered && t >= time;
            time = t;
        } else if (word[0] == 'r' || word[0] == 'b') {
            std::string id;
            in >> id;
            EXPECT_EQ(d.signals.count(id), 1U) << line;
            ++d.signals[id].changes;
            d.signals[id].last = word.substr(1);
        } else if (word[0] == '0' || word[0] == '1') {
            auto& s = d.signals[word.substr(1)];
            ++(word[0] == '1' ? s.rises : s.falls);
        }
    }
    EXPECT_TRUE(scopes.empty()) << "each scope is closed";
    return d;
}

/// Writes a recording as a dump and reads that again.
Dump dump_of(const Trail& trail) {
    std::ostringstream out;
    Progress progress;
    const auto written = write_vcd(trail, out, progress);
    EXPECT_TRUE(written) << (written ? "" : written.error().text());
    Dump d = parsed(out.str());
    EXPECT_TRUE(d.ordered);
    return d;
}

TEST(AValueChangeDump, HoldsInterruptsTasksAndValuesAsTheyWere) {
    const auto opened = test::decode(test::data("mount/mount.target.toml"));
    const Dump d = dump_of(*opened.trail);
    EXPECT_EQ(d.timescale, " 1 ps $end");
    std::size_t interrupts = 0;
    for (const ExceptionLane& lane : opened.trail->cores[0].lanes) {
        const Dump::Signal* s = d.named(lane.name());
        if (s == nullptr || lane.size() == 0) continue;
        ++interrupts;
        EXPECT_EQ(s->type, "wire");
        EXPECT_LE(s->rises, lane.size()) << lane.name();
        EXPECT_GE(s->rises + 2, lane.size()) << lane.name() << ": executions that touch are one";
    }
    EXPECT_GT(interrupts, 3U);
    for (const ValueLane& lane : opened.trail->tasks.values) {
        const Dump::Signal* s = d.named(lane.name);
        ASSERT_NE(s, nullptr) << lane.name;
        EXPECT_EQ(s->type, "real");
        EXPECT_EQ(s->changes, lane.samples.size()) << lane.name;
    }
}

TEST(AValueChangeDump, OfAnOperatingSystemHasTheStatesOfItsTasks) {
    const auto opened = test::decode(test::data("tasks/mount-a/trace"));
    const Dump d = dump_of(*opened.trail);
    std::size_t tasks = 0;
    for (const auto& [id, s] : d.signals)
        if (s.type == "reg") {
            ++tasks;
            EXPECT_GT(s.changes, 1U) << s.name;
        }
    EXPECT_GE(tasks, 4U);
}

TEST(AValueChangeDump, CanBeCancelled) {
    const auto opened = test::decode(test::data("mount/mount.target.toml"));
    std::ostringstream out;
    Progress progress;
    progress.cancel();
    EXPECT_FALSE(write_vcd(*opened.trail, out, progress));
}

}  // namespace
}  // namespace mt
