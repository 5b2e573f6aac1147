// The rules file: what it takes, and what it says of what it does not take.
#include <gtest/gtest.h>

#include <string>

#include "judge/rules_file.h"

namespace mt {
namespace {

Result<RulesFile> parsed(const std::string& rules) {
    return parse_rules("format = \"mindful-trail-rules/1\"\n" + rules, "mount.rules.toml");
}
std::string problem(const std::string& rules) {
    const auto file = parsed(rules);
    return file ? "taken" : file.error().text();
}

// Every key that the format has.
const std::string kEveryKey = R"(
[[rule]]
name = "tracking answers in time"
of   = "track"
core = "main"
what = "response"
max  = "2 ms"
p99_max = "1500 us"
note = "requirement MC-114"

[[rule]]
name = "index pulse to new set-point"
from = { of = "ENC_INDEX", at = "entry" }
to   = { of = "track", at = "end" }
what = "latency"
max  = "15 ms"

[[rule]]
name = "no overload"
core = "main"
what = "load"
within = "100 ms"
max = "80 %"

[[rule]]
name = "error stays small"
of = "axis_error"
what = "value"
abs = true
mask = 0xFFFF
max = 40
optional = true
)";

TEST(RulesFile, TakesEveryKeyThatTheFormatHas) {
    const auto file = parsed(kEveryKey);

    ASSERT_TRUE(file) << file.error().text();
    ASSERT_EQ(file->rules.size(), 4U);
    EXPECT_EQ(file->rules[0].max->value, 2e9);
    EXPECT_EQ(file->rules[0].p99_max->value, 1.5e9);
    EXPECT_EQ(file->rules[0].limit_text(), "at most 2 ms, P99 at most 1500 \u00B5s");
    EXPECT_EQ(file->rules[1].from->of, "ENC_INDEX");
    EXPECT_EQ(file->rules[2].within, Time::from_ms(100));
    EXPECT_EQ(file->rules[2].max->value, 80);
    EXPECT_EQ(file->rules[3].mask, 0xFFFFU);
    EXPECT_TRUE(file->rules[3].optional && file->rules[3].magnitude);
}

TEST(RulesFile, LimitsAreTimesWithTheirUnits) {
    for (const auto& [text, ps] : {std::pair("5 ns", 5e3), {"5us", 5e6}, {"5 \u00B5s", 5e6}, {"0.5 ms", 5e8}, {"2 s", 2e12}})
        EXPECT_EQ(parse_limit(text, RuleUnit::time)->value, ps) << text;
    EXPECT_TRUE(parse_limit("480 cycles", RuleUnit::time)->cycles);
    for (const char* text : {"", "5", "ms", "5 m", "5 %", "nan ms", "inf s", "1e300 s", "5 ms 3"})
        EXPECT_FALSE(parse_limit(text, RuleUnit::time)) << text;
    EXPECT_FALSE(parse_limit("80", RuleUnit::percent));
    EXPECT_FALSE(parse_limit("3 ms", RuleUnit::plain));
}

TEST(RulesFile, SaysWhereSomethingIsWrongAndWhatIsAllowed) {
    EXPECT_EQ(problem("[[rule]]\nname = \"a\"\nof = \"track\"\nwhat = \"respons\"\nmax = \"2 ms\"\n"),
              "key 'what' of the rule 'a' is \"respons\": mount.rules.toml:2: did you mean response?");
    EXPECT_EQ(problem("[[rule]]\nname = \"a\"\nof = \"track\"\nwhat = \"response\"\nmaximum = \"2 ms\"\n"),
              "unknown key 'maximum' in [[rule]]: mount.rules.toml:6: did you mean max?");
    EXPECT_EQ(problem("[[rule]]\nname = \"a\"\nof = \"track\"\nwhat = \"response\"\nmax = 2\n"),
              "key 'max' in [[rule]] is 2: mount.rules.toml:6: it must be a time with its unit, such as \"2 ms\": ns, us, "
              "\u00B5s, ms, s or cycles");
    EXPECT_NE(problem("[[rule]]\nname = \"a\"\nof = \"track\"\nwhat = \"response\"\n").find("missing key 'max'"),
              std::string::npos);
    EXPECT_NE(problem("[[rule]]\nname = \"a\"\nwhat = \"latency\"\nmax = \"1 ms\"\n").find("missing key 'from'"),
              std::string::npos);
    EXPECT_NE(problem("[[rule]]\nname = \"a\"\nof = \"t\"\nwhat = \"period\"\nmin = \"3 ms\"\nmax = \"2 ms\"\n")
                  .find("at least 3 ms and at most 2 ms"),
              std::string::npos);
    const std::string one = "[[rule]]\nname = \"a\"\nof = \"t\"\nwhat = \"count\"\nmax = 3\n";
    EXPECT_NE(problem(one + one).find("two rules are called 'a': mount.rules.toml:7"), std::string::npos);
    EXPECT_NE(parse_rules("format = \"mindful-trail-rules/2\"\n", "x").error().text().find("this version reads"),
              std::string::npos);
}

TEST(RulesFile, WhatIsWrittenIsReadBackTheSame) {
    const std::string more = R"([[rule]]
name = "the \"beat\""
of = "track"
what = "jitter"
nominal = "10 ms"
max = "0.5 ms"

[[rule]]
name = "order"
first = { of = "focus", at = "end" }
then = { of = "track", at = "end" }
per = "track"
what = "order"
)";
    const auto file = parsed(more + kEveryKey);
    ASSERT_TRUE(file) << file.error().text();
    const std::string written = rules_text(file->rules);
    const auto again = parse_rules(written, "x");
    ASSERT_TRUE(again) << again.error().text() << "\n" << written;
    EXPECT_EQ(rules_text(again->rules), written);
    EXPECT_EQ(again->rules[0].name, "the \"beat\"");
    ASSERT_EQ(again->rules.size(), file->rules.size());
    for (std::size_t i = 0; i < file->rules.size(); ++i) {
        EXPECT_EQ(again->rules[i].limit_text(), file->rules[i].limit_text());
        EXPECT_EQ(again->rules[i].note, file->rules[i].note);
        EXPECT_EQ(again->rules[i].optional, file->rules[i].optional);
    }
}

}  // namespace
}  // namespace mt
