// Charge by what ran, integrals, and figures of values between two moments.
#include <gtest/gtest.h>

#include <cmath>

#include "measure/charge.h"
#include "measure/kinds/kinds.h"
#include "measure/value_figures.h"
#include "model/trail.h"

namespace mt {
namespace {

// Sampled each microsecond: `current(us)` in mA.
template <class Current>
ValueLane sampled(std::size_t n, Current current) {
    ValueLane lane;
    lane.name = "supply";
    lane.unit = "mA";
    lane.source = "probe";
    lane.core = ValueLane::kNoCore;
    EvenReading reading;
    reading.word = EvenReading::Word::real32;
    lane.sort = ValueSort::real;
    reading.raw = false;
    lane.samples.make_even(1e6L, reading);
    lane.samples.begin_stretch(Time{});
    for (std::size_t i = 0; i < n; ++i) lane.append_word(std::bit_cast<std::uint32_t>(static_cast<float>(current(i))));
    return lane;
}

// A handler of 100 us each millisecond; it draws 30 mA, thread mode 10.
Trail handlers(std::size_t count) {
    Trail t;
    CoreTrail core;
    core.name = "main";
    core.lanes.emplace_back(std::uint16_t{16}, "TICK");
    core.add_change(Time{}, 0);
    for (std::size_t i = 0; i < count; ++i) {
        const Time begin = Time::from_us(1000.0 * static_cast<double>(i) + 400), end = begin + Time::from_us(100);
        core.add_change(begin, 16);
        core.add_change(end, 0);
        ExceptionInstance e;
        e.begin = begin;
        e.end = end;
        e.own = end - begin;
        core.lanes[0].append(e);
    }
    core.end = t.end = Time::from_us(1000.0 * static_cast<double>(count));
    t.cores.push_back(std::move(core));
    t.tasks.values.push_back(
        sampled(1000 * count + 1, [](std::size_t us) { return us % 1000 >= 400 && us % 1000 < 500 ? 30 : 10; }));
    t.complete = true;
    return t;
}
const ChargeRow* row(const std::vector<ChargeRow>& rows, const std::string& name) {
    for (const ChargeRow& r : rows)
        if (r.name == name) return &r;
    return nullptr;
}

TEST(ACharge, IsOfWhatRanItself) {
    const Trail t = handlers(50);
    const auto rows = charge_rows(t, t.tasks.values[0], nullptr);
    const ChargeRow *tick = row(rows, "TICK"), *thread = row(rows, "thread mode on main");
    ASSERT_NE(tick, nullptr);
    ASSERT_NE(thread, nullptr);
    EXPECT_EQ(tick->count, 50U);
    EXPECT_EQ(tick->ran, Time::from_ms(5));
    EXPECT_NEAR(tick->charge * 1e6, 50 * 3.0, 1.5) << "30 mA for 100 us, fifty times, in uC";
    EXPECT_NEAR(thread->charge * 1e6, 45 * 10.0, 5);
    EXPECT_NEAR(tick->greatest * 1e6, 3.0, 0.05);
    EXPECT_LE(tick->low, tick->charge);
    EXPECT_GE(tick->high, tick->charge);
    EXPECT_LT(tick->high - tick->low, 0.1 * tick->charge) << "samples are far shorter than the handler";
    const auto each = drawn_by(t, t.tasks.values[0], *tick);
    ASSERT_EQ(each.size(), 50U);
    EXPECT_NEAR(each[7].charge * 1e6, 3.0, 0.05);
    EXPECT_EQ(each[7].span.lane.kind, &interrupts_kind());
}

TEST(ACharge, OfStretchesThatTheProbeCannotResolveIsBoundedWidely) {
    Trail t = handlers(50);
    // The input smears each pulse over ten times its length.
    t.tasks.values[0] = sampled(50'001, [](std::size_t us) {
        const double at = static_cast<double>(us % 1000) - 400;
        return at < 0 ? 10.0 : 10 + 20 * (std::min(1.0, at / 100) - std::clamp((at - 100) / 100, 0.0, 1.0));
    });
    const auto rows = charge_rows(t, t.tasks.values[0], nullptr);
    const ChargeRow* tick = row(rows, "TICK");
    ASSERT_NE(tick, nullptr);
    EXPECT_LT(tick->low, tick->high);
}

TEST(ACharge, LeavesOutGapsAndWhatIsNotKnown) {
    Trail t = handlers(50);
    Gap gap;
    gap.begin = Time::from_us(10'390);
    gap.end = Time::from_us(10'450);
    gap.core = 0;
    t.gaps.push_back(gap);
    t.tasks.values[0].holes.push_back({Time::from_us(20'000), Time::from_us(30'000)});
    const auto rows = charge_rows(t, t.tasks.values[0], nullptr);
    const ChargeRow* tick = row(rows, "TICK");
    ASSERT_NE(tick, nullptr);
    EXPECT_NEAR(tick->charge * 1e6, 39 * 3.0, 1.5) << "one touches the gap, ten lie in the hole";
}

TEST(ACharge, HasEnergyWhereTheSameDeviceMeasuredAVoltage) {
    Trail t = handlers(10);
    ValueLane volts = sampled(10'001, [](std::size_t) { return 3.3; });
    volts.name = "supply voltage";
    volts.unit = "V";
    t.tasks.values.push_back(volts);
    const auto rows = charge_kind().rows({t});
    for (const MeasuredRow& r : rows) {
        const Cell *charge = cell_of(charge_kind(), r, "charge_uc"), *energy = cell_of(charge_kind(), r, "energy_uj");
        ASSERT_TRUE(energy->known());
        EXPECT_NEAR(std::get<double>(energy->value), 3.3 * std::get<double>(charge->value), 1e-3);
    }
    EXPECT_FALSE(charge_kind().names(t).empty());
}

// outer() for 300 us each millisecond, in its middle inner() for 100 us; outer draws 20 mA, inner 50, the rest 10. The
// samples are so many microseconds late.
Trail calls(std::size_t count, std::size_t late_us) {
    Trail t;
    CoreTrail core;
    core.name = "main";
    core.end = t.end = Time::from_us(1000.0 * static_cast<double>(count));
    t.cores.push_back(std::move(core));
    StepTrail steps;
    steps.clock = StepClock::cycles;
    steps.levels.resize(2);
    for (std::size_t i = 0; i < count; ++i) {
        const Time outer = Time::from_us(1000.0 * static_cast<double>(i) + 400);
        steps.levels[0].append(outer, Time::from_us(300), 10 * i, 0, 0);
        steps.levels[1].append(outer + Time::from_us(100), Time::from_us(100), 10 * i + 3, 1, 0);
    }
    t.steps.push_back(std::move(steps));
    t.tasks.values.push_back(sampled(1000 * count + 1, [late_us](std::size_t us) {
        const std::size_t at = (us + 1000 - late_us) % 1000;
        return at >= 500 && at < 600 ? 50 : at >= 400 && at < 700 ? 20 : 10;
    }));
    t.complete = true;
    return t;
}

TEST(ACharge, OfFunctionsIsBoundedByWhatSurelyFlowedInThemAndWhatMayHave) {
    constexpr double kOuter = 50 * 200 * 20e-3, kInner = 50 * 100 * 50e-3;  // uC, of fifty calls
    for (const std::size_t late_us : {0, 1}) {
        const Trail t = calls(50, late_us);  // a sample is one microsecond: so far its times may be off
        const auto rows = charge_rows(t, t.tasks.values[0], nullptr);
        ASSERT_EQ(rows.size(), 2U);
        const double truth[] = {kOuter, kInner};
        for (const ChargeRow& r : rows) {
            const double of = truth[r.owner.index & 1];
            EXPECT_EQ(r.count, 50U);
            EXPECT_LE(r.low * 1e6, of) << late_us;
            EXPECT_GE(r.high * 1e6, of) << late_us;
            EXPECT_LE(r.low, r.charge);
            EXPECT_GE(r.high, r.charge);
            EXPECT_LT(r.high - r.low, 0.15 * r.charge) << "a hundred samples lie in each call";
        }
    }
}

TEST(ACharge, OfFunctionsThatAreShorterThanASampleMayBeNothingOrAllThatFlowedAroundThem) {
    Trail t = calls(50, 0);
    std::vector<ValueLane> slow;
    ValueLane lane = t.tasks.values[0];
    lane.samples = {};
    EvenReading reading;
    reading.word = EvenReading::Word::real32;
    reading.raw = false;
    lane.samples.make_even(200e6L, reading);  // each 200 us
    lane.samples.begin_stretch(Time{});
    for (std::size_t i = 0; i < 251; ++i) lane.append_word(std::bit_cast<std::uint32_t>(i % 5 == 2 || i % 5 == 3 ? 30.0f : 10.0f));
    t.tasks.values[0] = lane;
    for (const ChargeRow& r : charge_rows(t, t.tasks.values[0], nullptr)) {
        EXPECT_EQ(r.low, 0) << "no call is longer than two samples";
        EXPECT_GT(r.high, 1.5 * r.charge);
        EXPECT_LT(r.high * 1e6, 50 * 1000 * 30e-3) << "no moment is counted twice";
    }
}

TEST(AnIntegral, IsTheSameWhereverItIsAsked) {
    const ValueLane lane = sampled(5000, [](std::size_t us) { return std::sin(static_cast<double>(us) / 50) + 2; });
    Integral forwards(lane), jumping(lane);
    double worst = 0;
    for (int us = 0; us < 5000; us += 3) {
        const double a = forwards.until(Time::from_us(us + 0.5)).value;
        const int other = (us * 7919) % 5000;
        (void)jumping.until(Time::from_us(other));
        worst = std::max(worst, std::fabs(a - jumping.until(Time::from_us(us + 0.5)).value));
    }
    EXPECT_LT(worst, 1e-12);
    EXPECT_NEAR(forwards.over(Time::from_us(100), Time::from_us(400)).value,
                (2 * 300 + 50 * (std::cos(2.0) - std::cos(8.0))) * 1e-6, 1e-7);
    EXPECT_EQ(forwards.until(Time::from_ms(-1)).value, 0) << "before the first nothing is known";
    EXPECT_NEAR(forwards.until(Time::from_ms(50)).known_s, 4999e-6, 1e-12) << "nor behind the last";
}

TEST(BetweenAAndB, AValueHasItsFigures) {
    ValueLane lane;
    lane.sort = ValueSort::real;
    for (const auto& [ms, v] : {std::pair{0, 1.0}, {10, 3.0}, {20, -1.0}, {30, 1.0}})
        lane.append(Time::from_ms(ms), Value::of(v).bits);
    const auto b = value_between(lane, Time::from_ms(5), Time::from_ms(25));
    ASSERT_TRUE(b);
    EXPECT_DOUBLE_EQ(b->first, 1);
    EXPECT_DOUBLE_EQ(b->last, -1);
    EXPECT_DOUBLE_EQ(b->difference(), -2);
    EXPECT_DOUBLE_EQ(b->mean, (5 * 1 + 10 * 3 - 5 * 1) / 20.0);
    EXPECT_DOUBLE_EQ(b->rms, std::sqrt((5 * 1 + 10 * 9 + 5 * 1) / 20.0));
    EXPECT_DOUBLE_EQ(b->least, -1);
    EXPECT_DOUBLE_EQ(b->greatest, 3);
    EXPECT_DOUBLE_EQ(b->integral, 0.030);
    EXPECT_FALSE(value_between(lane, Time::from_ms(-5), Time::from_ms(-1)));
    EXPECT_DOUBLE_EQ(value_between(lane, Time::from_ms(-5), Time::from_ms(5))->known_s, 0.005);
    const ValueLane ramp = sampled(1000, [](std::size_t us) { return static_cast<double>(us); });
    const auto line = value_between(ramp, Time::from_us(100.5), Time::from_us(200.5));
    EXPECT_NEAR(line->mean, 150.5, 1e-6) << "straight lines between even samples";
    EXPECT_NEAR(line->difference(), 100, 1e-6);
    EXPECT_EQ(integral_unit("mA"), "mC");
    EXPECT_EQ(integral_unit("V"), "V·s");
}

TEST(InAValue, ChangesCrossingsAndWhatIsUnusualAreFound) {
    const ValueLane lane = sampled(20'000, [](std::size_t us) { return us == 15'000 ? 90.0 : us < 7000 ? 5.0 : 6.0; });
    EXPECT_EQ(next_change(lane, 0, 1), 7000U);
    EXPECT_EQ(next_change(lane, 7000, 1), 15'000U);
    EXPECT_EQ(next_change(lane, 19'000, -1), 15'001U);
    EXPECT_EQ(next_crossing(lane, 0, 5.5, 1), 7000U);
    EXPECT_EQ(next_crossing(lane, 7000, 50, 1), 15'000U);
    EXPECT_EQ(next_crossing(lane, 19'999, 5.5, -1), 7000U);
    EXPECT_FALSE(next_crossing(lane, 0, 500, 1));
    const auto usual = usual_range(lane);
    ASSERT_TRUE(usual);
    EXPECT_EQ(next_outside(lane, *usual, 0, 1), 15'000U);
    EXPECT_EQ(next_outside(lane, *usual, 19'999, -1), 15'000U);
    EXPECT_FALSE(next_outside(lane, *usual, 15'000, 1));
}

}  // namespace
}  // namespace mt
