// Formulas of signals: how they are read, what they give, and what is said of those that are wrong.
#include <gtest/gtest.h>

#include <cmath>

#include "signals/derive.h"
#include "support.h"

namespace mt {
namespace {

ValueLane lane_of(const std::vector<std::pair<double, double>>& samples) {
    ValueLane lane;
    lane.sort = ValueSort::real;
    for (const auto& [ms, v] : samples) lane.append(Time::from_ms(ms), Value::of(v).bits);
    return lane;
}
ValueLane made(const std::string& text, const std::vector<const ValueLane*>& of) {
    const auto e = SignalExpression::read(text);
    EXPECT_TRUE(e) << e.error().text();
    return e ? derived_lane(*e, of) : ValueLane{};
}
// With x = 6 and y = -2.5.
double value(const std::string& text) {
    const ValueLane x = lane_of({{0, 6}}), y = lane_of({{0, -2.5}});
    const auto e = SignalExpression::read(text);
    EXPECT_TRUE(e) << e.error().text();
    if (!e) return NAN;
    std::vector<const ValueLane*> of;
    for (const std::string& name : e->signals()) of.push_back(name == "x" ? &x : &y);
    const ValueLane out = derived_lane(*e, of);
    return out.samples.empty() ? NAN : out.value(out.samples.size() - 1).number();
}
std::string refusal(const std::string& text) {
    const auto e = SignalExpression::read(text);
    return e ? "" : e.error().what;
}

TEST(AFormula, TakesOperatorsAsCDoes) {
    EXPECT_EQ(value("x + y * 2"), 1);
    EXPECT_EQ(value("(x + y) * 2"), 7);
    EXPECT_EQ(value("x - 1 - 1"), 4) << "from the left";
    EXPECT_EQ(value("-x * -1"), 6);
    EXPECT_EQ(value("x & 3 == 3"), 0) << "== binds tighter than &";
    EXPECT_EQ(value("(x & 3) == 2"), 1);
    EXPECT_EQ(value("x << 2 | 1"), 25);
    EXPECT_EQ(value("x >> 1 ^ 1"), 2);
    EXPECT_EQ(value("~x & 0xF"), 9);
    EXPECT_EQ(value("x % 4"), 2);
    EXPECT_EQ(value("!x || x > 5 && y < 0"), 1);
    EXPECT_EQ(value("x > 7 ? 1 : x > 5 ? 2 : 3"), 2);
    EXPECT_EQ(value("x - .5e1"), 1);
}

TEST(AFormula, HasFunctions) {
    EXPECT_EQ(value("abs(y)"), 2.5);
    EXPECT_EQ(value("sqrt(x + 3)"), 3);
    EXPECT_EQ(value("floor(y)"), -3);
    EXPECT_EQ(value("min(x, y, 3)"), -2.5);
    EXPECT_EQ(value("max(x, y, 3)"), 6);
    EXPECT_EQ(value("bit(x, 1) + bit(x, 0)"), 1);
}

TEST(AFormula, IsNotKnownWhereItsSignalsAreNot) {
    EXPECT_TRUE(std::isnan(value("x / (y + 2.5)"))) << "by zero";
    EXPECT_TRUE(std::isnan(value("sqrt(y)")));
    ValueLane x = lane_of({{0, 1}, {10, 2}});
    x.holes.push_back({Time::from_ms(4), Time::from_ms(10)});
    const ValueLane twice = made("x * 2", {&x});
    ASSERT_EQ(twice.samples.size(), 3U);
    EXPECT_FALSE(twice.known(1)) << "in the hole";
    EXPECT_EQ(twice.samples.time(1), Time::from_ms(4));
    EXPECT_EQ(twice.text(2), "4");
    EXPECT_EQ(made("x > 5 && 0", {&x}).samples.size(), 1U) << "one side suffices";
}

TEST(AFormula, JoinsSignalsOfDifferentTimes) {
    const ValueLane a = lane_of({{0, 1}, {2, 2}}), b = lane_of({{1, 10}, {2, 20}, {3, 30}});
    const ValueLane sum = made("a + b", {&a, &b});
    ASSERT_EQ(sum.samples.size(), 3U) << "nothing as long as one is not known; one sample where both change";
    EXPECT_EQ(sum.text(0), "11");
    EXPECT_EQ(sum.text(1), "22");
    EXPECT_EQ(sum.text(2), "32");
    EXPECT_EQ(sum.samples.time(0), Time::from_ms(1));
}

TEST(AFormula, LooksBackInTime) {
    const ValueLane x = lane_of({{0, 0}, {10, 4}, {20, 0}, {30, 1}, {40, 1.5}});
    const ValueLane mean = made("mean(x, 20 ms)", {&x});
    EXPECT_DOUBLE_EQ(mean.value(mean.at(Time::from_ms(20))).number(), 2) << "10 ms at 0, 10 ms at 4";
    EXPECT_DOUBLE_EQ(mean.value(mean.at(Time::from_ms(40))).number(), 0.5);
    const ValueLane most = made("max(x, 15 ms)", {&x});
    EXPECT_EQ(most.value(most.at(Time::from_ms(30))).number(), 4) << "it held up to 20 ms";
    EXPECT_EQ(most.value(most.at(Time::from_ms(40))).number(), 1.5);
    const ValueLane least = made("min(x, 5 ms)", {&x});
    EXPECT_EQ(least.value(least.at(Time::from_ms(10))).number(), 0) << "it was 0 just before";
    const ValueLane rate = made("rate(x)", {&x});
    EXPECT_DOUBLE_EQ(rate.value(rate.at(Time::from_ms(10))).number(), 400);
    EXPECT_DOUBLE_EQ(rate.value(rate.at(Time::from_ms(40))).number(), 50);
    const ValueLane integral = made("integral(x)", {&x});
    EXPECT_NEAR(integral.value(integral.at(Time::from_ms(40))).number(), 0.05, 1e-12);
}

TEST(AFormula, NamesWhatItIsMadeOf) {
    const auto e = SignalExpression::read("axis[1].error + `board current` * guide::gain + axis[1].error");
    ASSERT_TRUE(e) << e.error().text();
    EXPECT_EQ(e->signals(), (std::vector<std::string>{"axis[1].error", "board current", "guide::gain"}));
}

TEST(AFormula, ThatIsWrongIsSaidWithItsColumn) {
    EXPECT_NE(refusal("x +").find("a value is missing at column 4"), std::string::npos) << refusal("x +");
    EXPECT_NE(refusal("x + )").find("a value is missing at column 5"), std::string::npos);
    EXPECT_NE(refusal("(x").find("')' is missing at column 3"), std::string::npos);
    EXPECT_NE(refusal("x y").find("something unexpected stands at column 3"), std::string::npos);
    EXPECT_NE(refusal("x + mien(x, 3 ms)").find("'mien' is no function at column 5"), std::string::npos);
    EXPECT_NE(refusal("mean(x)").find("mean takes something else"), std::string::npos);
    EXPECT_NE(refusal("mean(x, 3)").find("mean takes something else"), std::string::npos);
    EXPECT_NE(refusal("x + 3 ms").find("a length of time"), std::string::npos);
    EXPECT_NE(refusal("`x").find("the second ` is missing"), std::string::npos);
    EXPECT_NE(refusal("1 + 2").find("no signal is named"), std::string::npos);
    EXPECT_NE(refusal("x ? 1").find("':' is missing"), std::string::npos);
    EXPECT_NE(refusal(std::string(300, '(') + "x").find("nested too deep"), std::string::npos);
    EXPECT_NE(refusal("x" + std::string(1000, '-') + "x").find("nested too deep"), std::string::npos);
    EXPECT_FALSE(refusal(std::string(3000, 'x')).empty());
}

TEST(ADerivedSignal, IsALaneLikeAnyOther) {
    const auto open = [](const std::string& derived) {
        test::Folder folder;
        test::write_file(folder / "t.target.toml",
                         "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"" +
                             test::data("tasks/mount-a/trace") + "\"\n[[signals]]\nfile = \"" +
                             test::data("signals/current-mount.csv") + "\"\noffset_ns = 0\n" + derived);
        return test::decode(folder / "t.target.toml");
    };
    const auto plain = open("");
    const ValueLane* current = nullptr;
    for (const auto& l : plain.trail->tasks.values)
        if (l.name == "supply current") current = &l;
    ASSERT_NE(current, nullptr);
    const auto o = open("[[derived]]\nname = \"power\"\nexpression = \"`" + current->name +
                        "` * 3.3\"\nunit = \"mW\"\n[[derived]]\nname = \"half\"\nexpression = \"power / 2\"\n"
                        "[[derived]]\nname = \"odd\"\nexpression = \"pwer\"\n");
    const ValueLane* power = nullptr;
    const ValueLane* half = nullptr;
    for (const auto& l : o.trail->tasks.values) {
        if (l.name == "power") power = &l;
        if (l.name == "half") half = &l;
    }
    ASSERT_NE(power, nullptr);
    ASSERT_NE(half, nullptr);
    EXPECT_EQ(power->unit, "mW");
    EXPECT_DOUBLE_EQ(half->value(100).number(), power->value(100).number() / 2);
    EXPECT_NEAR(power->value(0).number(), current->value(0).number() * 3.3, 1e-9);
    std::string doubts;
    for (const Doubt& d : o.trail->doubts) doubts += d.text + " " + d.advice + "\n";
    EXPECT_NE(doubts.find("'odd' cannot be made: no value is called 'pwer'"), std::string::npos) << doubts;
    EXPECT_NE(doubts.find("power"), std::string::npos);
}

}  // namespace
}  // namespace mt
