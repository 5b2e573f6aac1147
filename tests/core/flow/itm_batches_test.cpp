// The short way from bytes to the model, in batches, tells the same as the long one, packet by packet: random streams
// of every kind of packet, in order and out of it.
#include <gtest/gtest.h>

#include <random>
#include <sstream>

#include "pass/growing_trail.h"
#include "support.h"

namespace mt {
namespace {

// A program's handlers as they nest, with packets in between, some lost, some late, and bytes that are none.
class RandomStream {
  public:
    explicit RandomStream(unsigned seed) : random_(seed) {}

    std::vector<std::uint8_t> bytes(std::size_t wanted) {
        sync();
        while (out_.size() < wanted) {
            const unsigned what = below(100);
            if (what < 45)
                handler(0);
            else if (what < 60)
                put({0x15, 0x00}), stamp();  // asleep
            else if (what < 68)
                sample();
            else if (what < 78)
                data();
            else if (what < 86)
                port();
            else if (what < 88)
                put({0x70});  // overflow
            else if (what < 90)
                sync();
            else if (what < 92)
                put({0x94, byte(0x80), byte(0x80), byte(0x80), byte(0)}), stamp();  // global timestamp
            else if (what == 92)
                put({byte(0), byte(0), byte(0)});  // anything
            else if (what == 93)
                put({0x05, byte(0)}), stamp();  // event counters
            else if (what == 94)
                exception(16 + below(4), 1 + below(3));  // out of order
            else if (what == 95)
                put({0x08 | 0x10});  // port page
            else
                stamp();
        }
        return out_;
    }

  private:
    unsigned below(unsigned n) { return static_cast<unsigned>(random_() % n); }
    std::uint8_t byte(unsigned set) { return static_cast<std::uint8_t>(random_() | set); }
    void put(std::initializer_list<int> bytes) {
        for (const int b : bytes) out_.push_back(static_cast<std::uint8_t>(b));
    }
    void sync() { put({0, 0, 0, 0, 0, 0x80}); }
    void stamp() {
        const unsigned how = below(20);
        if (how == 0) return;  // none: the next one dates this, too
        if (how < 4) {
            put({static_cast<int>(1 + below(6)) << 4});
            return;
        }
        put({0xC0 | (how < 7 ? static_cast<int>(below(4)) << 4 : 0)});
        std::uint32_t ticks = below(how == 19 ? 0x0FFF'FFFF : how > 15 ? 100'000 : how > 10 ? 2'000 : 120);
        for (; ticks > 0x7F; ticks >>= 7) put({static_cast<int>(ticks & 0x7F) | 0x80});
        put({static_cast<int>(ticks)});
    }
    void exception(unsigned number, unsigned function) {
        put({0x0E, static_cast<int>(number & 0xFF), static_cast<int>(number >> 8 | function << 4)});
        stamp();
    }
    void handler(unsigned depth) {
        const unsigned number = below(9) == 0 ? 11 : 15 + depth * 8 + below(8);
        exception(number, 1);
        if (depth < 3 && below(4) == 0) handler(depth + 1);
        if (below(5) == 0) data();
        exception(number, 2);
        if (below(7) == 0) {  // tail chain
            const unsigned next = 200 + depth * 8 + below(8);
            exception(next, 1);
            exception(next, 2);
        }
        if (depth == 0) exception(0, 3);
    }
    void sample() {
        put({0x17, byte(0) & 0xFE, byte(0), 0, 8});
        stamp();
    }
    void data() {
        put({0x85 | static_cast<int>(below(4)) << 4 | static_cast<int>(below(2)) << 3, byte(0)});
        if (below(3) == 0) put({0x47 | static_cast<int>(below(4)) << 4, byte(0), byte(0), byte(0), byte(0)});
        stamp();
    }
    void port() {
        const unsigned size = below(3);
        put({static_cast<int>(below(32)) << 3 | static_cast<int>(size + 1)});
        for (unsigned i = 0; i < 1u << size; ++i) put({byte(0)});
        stamp();
    }

    std::mt19937_64 random_;
    std::vector<std::uint8_t> out_;
};

// All that the model holds, as text.
std::string all_of(const Trail& t) {
    std::ostringstream s;
    const CoreTrail& c = t.cores[0];
    s << "end " << t.end.ps << ' ' << c.end.ps << " contradictions " << c.contradictions << " thread " << c.thread_seen
      << " asleep " << c.samples_asleep << " handlers " << c.handlers.ps << '\n';
    for (const auto& [who, n] : c.cuts) s << "cut " << who.first << ' ' << who.second << ' ' << n << '\n';
    for (const ExceptionLane& l : c.lanes)
        for (std::size_t i = 0; i < l.size(); ++i) {
            const ExceptionInstance x = l.instance(i);
            s << x.number << ' ' << x.begin.ps << ' ' << x.end.ps << ' ' << x.own.ps << ' ' << x.begin_slack.ps << ' '
              << x.end_slack.ps << ' ' << x.offset << ' ' << int{x.depth} << ' ' << int{x.flags} << '\n';
        }
    for (std::size_t i = 0; i < c.change_time.size(); ++i)
        s << c.change_time[i].ps << ' ' << c.change_running[i] << ' ' << c.handlers_until(c.change_time[i]).ps << '\n';
    for (const auto& b : c.density.buckets()) s << b.events << ' ' << b.awake << ' ' << b.asleep << '\n';
    for (std::size_t i = 0; i < t.gaps.size(); ++i)
        s << "gap " << t.gaps[i].begin.ps << ' ' << t.gaps[i].end.ps << ' ' << t.gaps[i].offset << '\n';
    const StreamTrail& stream = t.streams[0];
    s << "packets " << stream.packets << " events " << stream.events << " stamps " << stream.timestamps << " undated "
      << stream.undated << " bad " << stream.bad_bytes << '\n';
    for (const auto n : stream.counts) s << n << ' ';
    for (const auto n : stream.ports) s << n << ' ';
    for (const auto n : stream.comparators) s << n << ' ';
    return s.str();
}

struct Pace {
    const char* clock;
    const char* prescaler;
};

TEST(ItmInBatches, TellsTheSameAsByteByByteWhateverTheClock) {
    for (const Pace pace : {Pace{"120_000_000", "1"}, Pace{"100_000_000", "1"}, Pace{"72_000_000", "16"},
                            Pace{"999_999_937", "64"}, Pace{"32_768", "4"}, Pace{"7", "1"}}) {
        for (unsigned seed = 1; seed <= 4; ++seed) {
            const test::Folder folder;
            const auto bytes = RandomStream(seed).bytes(30'000);
            const auto opened = test::decode_bytes(
                folder, bytes, pace.clock, std::string("[stream.itm]\ntimestamp_prescaler = ") + pace.prescaler + "\n");
            const auto fed_by = [&](std::size_t step) {
                GrowingTrail growing(*opened.recording);
                growing.start(0, {});
                for (std::size_t at = 0; at < bytes.size(); at += step)
                    growing.feed(0, std::span(bytes).subspan(at, std::min(step, bytes.size() - at)));
                growing.finish(0);
                return all_of(*growing.snapshot());
            };
            const std::string slowly = fed_by(1);
            ASSERT_GT(slowly.size(), 50'000u) << "the stream tells enough";
            ASSERT_EQ(fed_by(bytes.size()), slowly) << pace.clock << " Hz, seed " << seed;
            ASSERT_EQ(fed_by(1000), slowly) << pace.clock << " Hz, seed " << seed << ", in pieces";
        }
    }
}

TEST(CoreTrail, AVisitOfAHandlerIsThreeChanges) {
    CoreTrail in_one, in_three;
    std::mt19937_64 random(3);
    std::int64_t t = 0;
    const auto next = [&] { return Time{t += static_cast<std::int64_t>(random() % 3'000'000)}; };
    for (int i = 0; i < 40'000; ++i) {
        const auto number = static_cast<std::uint16_t>(16 + random() % 5);
        if (random() % 10 == 0) {  // so that they begin anywhere in a block
            const Time at = next();
            for (CoreTrail* c : {&in_one, &in_three}) c->add_change(at, number);
        }
        const Time a = next(), b = next(), c = next();
        in_one.add_visit(number, a, b, c);
        in_three.add_change(a, number);
        in_three.add_change(b, ContextChange::kBetween);
        in_three.add_change(c, 0);
    }
    ASSERT_EQ(in_one.change_time.size(), in_three.change_time.size());
    for (std::size_t i = 0; i < in_one.change_time.size(); ++i) {
        ASSERT_EQ(in_one.change_time[i], in_three.change_time[i]) << i;
        ASSERT_EQ(in_one.change_running[i], in_three.change_running[i]) << i;
    }
    EXPECT_EQ(in_one.handlers, in_three.handlers);
    for (std::int64_t at = 0; at < t; at += t / 997)
        ASSERT_EQ(in_one.handlers_until({at}), in_three.handlers_until({at})) << at;
}

}  // namespace
}  // namespace mt
