// Recordings of real firmware against their truth, whole and damaged.
#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <set>

#include "measure/interrupts.h"
#include "replay/packet_block.h"
#include "support.h"

namespace mt {
namespace {

using test::decode;

struct TrueEvent {
    std::uint64_t offset;
    std::int64_t stream_cycle, true_cycle;
    unsigned relation;
    std::string kind;
    std::vector<std::string> operands;
};

std::vector<TrueEvent> truth_of(const std::string& folder) {
    std::istringstream in(test::read_text(test::data(folder + "/truth.csv")));
    std::vector<TrueEvent> events;
    for (std::string line; std::getline(in, line);) {
        std::vector<std::string> f(1);
        for (const char c : line)
            if (c == ',')
                f.emplace_back();
            else
                f.back() += c;
        events.push_back({std::stoull(f[0]),
                          std::stoll(f[1]),
                          std::stoll(f[3]),
                          f[2].empty() ? 0 : static_cast<unsigned>(std::stoul(f[2])),
                          f[4],
                          {f[5], f[6], f[7]}});
    }
    return events;
}

struct Event {
    TimedPacket timed;
    EventText text;
};

std::vector<Event> events_of(const test::Opened& o) {
    std::vector<Event> events;
    for (std::size_t b = 0; b < o.trail->streams[0].checkpoints.size(); ++b)
        for (const auto& p : decode_block(*o.recording, *o.trail, 0, b).packets)
            if (itm_is_event(p.packet.kind)) events.push_back({p, event_text(*o.recording, 0, p.packet)});
    return events;
}

std::string kind_in_truth(const ItmPacket& p) {
    return p.kind == ItmKind::extension ? "ext_other" : std::string(itm_kind_name(p.kind));
}

// The operands as the truth writes them: port,size,value; exception; pc; comparator,size,value.
std::vector<std::string> operands_in_truth(const ItmPacket& p) {
    const std::string n = std::to_string(p.number), size = std::to_string(p.size), value = std::to_string(p.value);
    switch (p.kind) {
        case ItmKind::exc_enter:
        case ItmKind::exc_exit:
        case ItmKind::exc_return:
            return {n, "", ""};
        case ItmKind::pc:
        case ItmKind::counter:
            return {value, "", ""};
        case ItmKind::port:
        case ItmKind::data_read:
        case ItmKind::data_write:
        case ItmKind::data_offset:
        case ItmKind::data_pc:
            return {n, size, value};
        case ItmKind::extension:
            return {std::to_string(p.value & 7), "", std::to_string(p.value >> 3)};
        default:
            return {"", "", ""};
    }
}

void expect_truth(const std::string& folder) {
    const auto events = events_of(decode(test::data(folder + "/mount.target.toml")));
    const auto truth = truth_of(folder);
    ASSERT_EQ(events.size(), truth.size());
    const Clock clock{72'000'000};
    for (std::size_t i = 0; i < truth.size(); ++i) {
        const auto& p = events[i].timed;
        ASSERT_EQ(p.packet.offset, truth[i].offset) << i;
        ASSERT_EQ(kind_in_truth(p.packet), truth[i].kind) << i;
        ASSERT_EQ(p.latest, clock.at(truth[i].stream_cycle)) << i;
        ASSERT_EQ(operands_in_truth(p.packet), truth[i].operands) << i << " " << truth[i].kind;
    }
}

TEST(RealRecording, EveryEventOfTheBareStreamIsAsItWas) { expect_truth("mount"); }
TEST(RealRecording, EveryEventInFormatterFramesIsAsItWas) { expect_truth("mount-framed"); }

TEST(RealRecording, TheTrueTimeLiesWithinTheBounds) {
    for (const auto& [folder, prescaler] : {std::pair<std::string, std::int64_t>{"mount", 1}, {"mount-framed", 4}}) {
        const auto events = events_of(decode(test::data(folder + "/mount.target.toml")));
        const auto truth = truth_of(folder);
        const Clock clock{72'000'000};
        std::size_t bounded = 0;
        for (std::size_t i = 0; i < truth.size(); ++i) {
            const auto& p = events[i].timed;
            // A tick that is `prescaler` cycles long says no more than that.
            EXPECT_LE(clock.cycles(p.earliest), truth[i].true_cycle) << i;
            EXPECT_GT(clock.cycles(p.latest) + prescaler, truth[i].true_cycle) << i;
            bounded += p.earliest != p.latest ? 1 : 0;
        }
        EXPECT_GT(bounded, 500U) << "late timestamps do occur in " << folder;
    }
}

TEST(RealRecording, FormatterFramesAreCountedRight) {
    const auto o = decode(test::data("mount-framed/mount.target.toml"));
    const auto& f = *o.trail->streams[0].formatter;
    EXPECT_EQ(f.frames, 9219U);
    EXPECT_EQ(f.full_syncs, 101U);
    EXPECT_EQ(f.half_syncs, 151U);
    EXPECT_EQ(f.delayed_id_changes, 827U);
    EXPECT_EQ(f.bytes_of_id[1], 118'666U);
    EXPECT_EQ(f.bytes_of_id[2], 17'796U);
    EXPECT_EQ(o.trail->gaps.size(), 522U) << "one for each overflow";
}

TEST(RealRecording, MeasuresAreThoseOfTheTruth) {
    const auto o = decode(test::data("mount/mount.target.toml"));
    std::map<unsigned, InterruptRow> rows;
    for (const auto& r : interrupt_rows(*o.trail)) rows[r.number] = r;
    std::istringstream in(test::read_text(test::data("mount/truth_stats.csv")));
    std::size_t seen = 0;
    const double ps_per_cycle = 1e12 / 72e6;
    for (std::string line; std::getline(in, line); ++seen) {
        std::vector<double> f;
        std::istringstream fields(line);
        for (std::string field; std::getline(fields, field, ',');) f.push_back(std::stod(field));
        const InterruptRow& r = rows.at(static_cast<unsigned>(f[0]));
        const auto cycles = [&](std::optional<Time> t) { return t ? static_cast<double>(t->ps) / ps_per_cycle : 0.0; };
        EXPECT_EQ(static_cast<double>(r.count + r.left_out), f[1]) << line;
        EXPECT_EQ(static_cast<double>(r.count), f[2]) << line;
        EXPECT_NEAR(cycles(r.own), f[3], 0.5) << line;
        EXPECT_NEAR(cycles(r.total), f[4], 0.5) << line;
        EXPECT_NEAR(cycles(r.least), f[5], 0.01) << line;
        EXPECT_NEAR(cycles(r.mean), f[6], 0.01) << line;
        EXPECT_NEAR(cycles(r.greatest), f[7], 0.01) << line;
        EXPECT_NEAR(cycles(r.period_least), f[8], 0.01) << line;
        EXPECT_NEAR(cycles(r.period_mean), f[9], 0.01) << line;
        EXPECT_NEAR(cycles(r.period_greatest), f[10], 0.01) << line;
    }
    EXPECT_EQ(seen, rows.size());
}

TEST(RealRecording, TheTrueMeanLiesWithinTheBoundsOfTheMean) {
    const auto o = decode(test::data("mount/mount.target.toml"));
    for (const auto& r : interrupt_rows(*o.trail)) {
        if (r.count == 0) continue;
        EXPECT_LE(r.mean_range.low, *r.mean);
        EXPECT_GE(r.mean_range.high, *r.mean);
        if (r.number == 24) EXPECT_LE(r.mean_range.low.us(), 57.24375 / 72);  // the mean of the true cycles
        if (r.number == 24) EXPECT_GE(r.mean_range.high.us(), 57.24375 / 72);
        EXPECT_LE(r.least_range.low, *r.least);
        EXPECT_GE(r.greatest_range.high, *r.greatest);
    }
}

TEST(RealRecording, InterruptsAreNamedFromTheVectorTableAndOrderedByPriority) {
    const auto o = decode(test::data("mount/mount.target.toml"));
    const CoreTrail& core = o.trail->cores[0];
    std::vector<std::string> names;
    for (const auto i : core.by_priority) names.push_back(core.lanes[i].name());
    const auto place = [&](const std::string& n) { return std::find(names.begin(), names.end(), n) - names.begin(); };
    EXPECT_EQ(place("BusFault"), 0);
    EXPECT_LT(place("step_handler"), place("index_handler"));
    EXPECT_LT(place("index_handler"), place("guide_handler"));
    EXPECT_LT(place("guide_handler"), place("SVCall"));
    EXPECT_LT(place("SVCall"), place("PendSV"));
}

// --- damage ---------------------------------------------------------------------------------------

struct Damaged {
    test::Folder folder;
    test::Opened opened;
};

std::unique_ptr<Damaged> damaged(const std::function<void(std::vector<std::uint8_t>&)>& change) {
    auto d = std::make_unique<Damaged>();
    auto bytes = test::read_bytes(test::data("mount/capture.bin"));
    change(bytes);
    test::write_file(d->folder / "capture.bin", bytes);
    test::write_file(d->folder / "mount.target.toml", test::itm_target("capture.bin", false, "72_000_000"));
    d->opened = decode(d->folder / "mount.target.toml");
    return d;
}

std::vector<std::uint64_t> syncs() {
    static const auto found = [] {
        const auto o = decode(test::data("mount/mount.target.toml"));
        std::vector<std::uint64_t> at;
        for (std::size_t b = 0; b < o.trail->streams[0].checkpoints.size(); ++b)
            for (const auto& p : decode_block(*o.recording, *o.trail, 0, b).packets)
                if (p.packet.kind == ItmKind::sync) at.push_back(p.packet.offset);
        return at;
    }();
    return found;
}

// Events outside the stretch [from, to) of the original must all be there; behind it they are moved by
// `shift` bytes.
void expect_rest(const Damaged& d, std::uint64_t from, std::uint64_t to, std::int64_t shift) {
    std::map<std::uint64_t, std::pair<std::string, std::vector<std::string>>> got;
    for (const auto& e : events_of(d.opened))
        got[e.timed.packet.offset] = {kind_in_truth(e.timed.packet), operands_in_truth(e.timed.packet)};
    for (const auto& t : truth_of("mount")) {
        if (t.offset >= from && t.offset < to) continue;
        const auto at =
            t.offset < from ? t.offset : static_cast<std::uint64_t>(static_cast<std::int64_t>(t.offset) + shift);
        const auto found = got.find(at);
        ASSERT_NE(found, got.end()) << t.kind << " at " << t.offset;
        EXPECT_EQ(found->second.first, t.kind) << t.offset;
        EXPECT_EQ(found->second.second, t.operands) << t.offset;
    }
}

TEST(DamagedRecording, AFlippedByteLosesNothingOutsideItsStretch) {
    const auto at = syncs();
    ASSERT_GT(at.size(), 10U);
    for (const std::uint64_t where : {at[3] + 1000, at[5] + 17, at[8] + 4242}) {
        const auto d = damaged([&](auto& bytes) { bytes[where] ^= 0xFF; });
        const auto next = *std::upper_bound(at.begin(), at.end(), where);
        expect_rest(*d, where - 8, next, 0);
    }
}

TEST(DamagedRecording, MissingBytesLoseNothingOutsideTheirStretch) {
    const auto at = syncs();
    int noticed = 0;
    for (std::uint64_t where = at[4] + 777; where < at[4] + 800; where += 2) {
        const auto d = damaged([&](auto& bytes) {
            bytes.erase(bytes.begin() + static_cast<std::ptrdiff_t>(where),
                        bytes.begin() + static_cast<std::ptrdiff_t>(where + 31));
        });
        expect_rest(*d, where - 8, at[5], -31);
        if (d->opened.trail->gaps.empty() && d->opened.trail->cores[0].contradictions == 0) continue;
        ++noticed;
        if (d->opened.trail->gaps.empty()) continue;
        const Gap g = d->opened.trail->gaps[0];
        EXPECT_EQ(g.kind, GapKind::damage);
        EXPECT_LE(g.offset + g.length, at[5] - 31) << "it ends at the next synchronisation";
    }
    EXPECT_GE(noticed, 6) << "what is left may happen to read as packets, but mostly it does not";
}

TEST(DamagedRecording, TheTimeThatDamageSwallowedIsRestoredFromGlobalTimestamps) {
    const auto at = syncs();
    const auto truth = truth_of("mount");
    const auto hit =
        std::find_if(truth.begin(), truth.end(), [&](const TrueEvent& e) { return e.offset > at[4] + 500; });
    const auto d =
        damaged([&](auto& bytes) { bytes[hit->offset] = 0x04; });  // a reserved header: all to the next sync is lost
    EXPECT_EQ(d->opened.trail->streams[0].restored_lengths, 1U);
    const auto whole = decode(test::data("mount/mount.target.toml"));
    // A global timestamp is read a little before the local one behind it: within 2048 cycles.
    EXPECT_NEAR(d->opened.trail->end.us(), whole.trail->end.us(), 2048 / 72.0);
}

TEST(DamagedRecording, GarbageInFrontIsAGap) {
    const auto d = damaged([](auto& bytes) { bytes.insert(bytes.begin(), {0x37, 0x99, 0x01, 0xC5, 0xFE}); });
    expect_rest(*d, 0, 0, 5);
    EXPECT_EQ(d->opened.trail->gaps[0].length, 5U);
}

TEST(DamagedRecording, ATruncatedEndKeepsEverythingBefore) {
    const auto d = damaged([](auto& bytes) { bytes.resize(100'001); });
    expect_rest(*d, 99'990, ~std::uint64_t{0}, 0);
    EXPECT_TRUE(d->opened.trail->complete);
}

TEST(DamagedRecording, RandomDamageNeverBreaksTheModel) {
    for (unsigned seed = 1; seed <= 12; ++seed) {
        const auto d = damaged([&](auto& bytes) {
            std::uint32_t x = seed * 2654435761u;
            for (unsigned i = 0; i < 40 * seed; ++i) {
                x = x * 1664525u + 1013904223u;
                bytes[x % bytes.size()] ^= static_cast<std::uint8_t>(1u << (x >> 27 & 7));
            }
        });
        const Trail& trail = *d->opened.trail;
        std::uint64_t covered = 0;
        for (std::size_t b = 0; b < trail.streams[0].checkpoints.size(); ++b)
            for (const auto& p : decode_block(*d->opened.recording, trail, 0, b).packets) {
                EXPECT_EQ(p.packet.offset, covered);
                covered += p.packet.length;
            }
        EXPECT_EQ(covered, trail.streams[0].bytes) << "every byte is in a packet or in a gap";
        for (const auto& lane : trail.cores[0].lanes)
            for (std::size_t i = 1; i < lane.size(); ++i)
                ASSERT_GE(lane.begin(i), lane.end(i - 1)) << "instances never overlap";
    }
}

TEST(DamagedRecording, LostFormatterFramesLoseNothingBehindTheNextSynchronisations) {
    test::Folder folder;
    auto bytes = test::read_bytes(test::data("mount-framed/capture.bin"));
    bytes.erase(bytes.begin() + 60'003, bytes.begin() + 60'010);
    test::write_file(folder / "capture.bin", bytes);
    test::write_file(folder / "x.target.toml",
                     test::itm_target("capture.bin", false, "72_000_000",
                                      "framing = \"tpiu\"\ntrace_id = 1\n[stream.itm]\ntimestamp_prescaler = 4\n"));
    const auto o = decode(folder / "x.target.toml");
    const auto truth = truth_of("mount-framed");
    std::multiset<std::string> last_true, last_got;
    for (std::size_t i = truth.size() - 8000; i < truth.size(); ++i)
        last_true.insert(truth[i].kind + truth[i].operands[0] + "," + truth[i].operands[2]);
    const auto events = events_of(o);
    for (std::size_t i = events.size() - 8000; i < events.size(); ++i) {
        const auto operands = operands_in_truth(events[i].timed.packet);
        last_got.insert(kind_in_truth(events[i].timed.packet) + operands[0] + "," + operands[2]);
    }
    EXPECT_EQ(last_true, last_got);
    EXPECT_GT(o.trail->streams[0].bad_bytes, 0U);
}

}  // namespace
}  // namespace mt
