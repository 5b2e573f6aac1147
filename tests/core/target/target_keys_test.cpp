// The keys that a person is asked for are those that a target file may have, and are described.
#include "target/target_keys.h"

#include <gtest/gtest.h>

#include <regex>
#include <set>

#include "support.h"
#include "target/target_edit.h"
#include "target/target_file.h"

namespace mt {
namespace {

std::string some_value(const TargetKey& k) {
    switch (k.kind) {
        case TargetKey::Kind::number:
            return std::to_string(
                std::max<std::int64_t>(k.least, k.key == "address" ? 16 : std::min<std::int64_t>(1, k.most)));
        case TargetKey::Kind::flag:
            return "true";
        case TargetKey::Kind::choice: {
            const std::string first(k.choices.substr(0, k.choices.find(' ')));
            return k.key == "timestamp_prescaler" ? first : "\"" + first + "\"";
        }
        case TargetKey::Kind::list:
            return k.key == "units" ? "[\"0x20000000\"]" : "[\"implicit_return\"]";
        case TargetKey::Kind::names:
            return "{ 1 = \"one\" }";
        case TargetKey::Kind::mark:
            return "{ port = 1, value = 2 }";
        case TargetKey::Kind::event:
            return "{ of = \"ENC_INDEX\", at = \"entry\" }";
        case TargetKey::Kind::real:
            return k.key == "rate_hz" ? "1.5" : "-1.5";
        case TargetKey::Kind::tables:
            if (k.key == "values") return "[{ name = \"x\", address = 0x20000010, type = \"i16\", rate_hz = 100 }]";
            if (k.key == "memory") return "[{ file = \"ram.bin\", address = 0x20000000 }]";
            return k.key == "channels" ? "[{ name = \"board current\", scale = 0.5, offset = 1, unit = \"mA\" }]"
                                       : "[{ mark = \"sync\", edge = \"SYNC rising\" }]";
        default:
            return k.key == "images" ? "[\"a\", \"b\"]" : "\"main\"";
    }
}

TEST(TargetKeys, EachIsTakenByTheReader) {
    for (const TargetKey& k : target_keys()) {
        const std::string protocol =
            k.table.starts_with("stream.") && k.table != "stream.line" ? std::string(k.table.substr(7)) : "itm";
        std::string text =
            "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = "
            "1000\n[[stream]]\nfile = \"a\"\nprotocol = \"" +
            protocol + "\"\ncore = \"main\"\n";
        std::vector<KeyChange> changes;
        const std::string table(k.table);
        if (table == "watch")
            changes = {
                {"watch", 0, "comparator", "1"}, {"watch", 0, "symbol", "\"x\""}, {"watch", 0, "type", "\"u8\""}};
        if (table == "watch" && k.key == "expression") changes[1] = {"watch", 0, "type", "\"u8\""};
        if (table == "port") changes = {{"port", 0, "number", "1"}};
        if (table == "process") changes = {{table, 0, "context", "1"}, {table, 0, "name", "\"x\""}};
        if (table == "task") changes = {{"task", 0, "name", "\"x\""}};
        if (table == "stopwatch")
            changes = {{table, 0, "name", "\"x\""}, {table, 0, "from", "{ of = \"a\" }"}, {table, 0, "to", "{ of = \"b\" }"}};
        if (table == "derived") changes = {{table, 0, "name", "\"x\""}, {table, 0, "expression", "\"a + b\""}};
        if (table == "signals") changes = {{"signals", 0, "file", "\"x.vcd\""}};
        if (table == "stream.samples")
            changes = {{table, 0, "type", "\"i16\""},
                       {table, 0, "rate_hz", "1000"},
                       {table, 0, "channels", "[{ name = \"supply\" }]"}};
        if (table == "stream.line") changes = {{table, 0, "phase", "1"}};
        if (k.key == "src_id") changes = {{table, 0, protocol == "ntrace" ? "src_bits" : "src_id_bits", "4"}};
        changes.push_back({table, 0, std::string(k.key), some_value(k)});
        const auto changed = changed_target(text, changes);
        ASSERT_TRUE(changed) << k.table << '.' << k.key << ": " << changed.error().text();
        const auto read = parse_target_file(*changed, "x.target.toml");
        ASSERT_TRUE(read) << k.table << '.' << k.key << ": " << read.error().text() << *changed;
        EXPECT_TRUE(read->warnings.empty()) << read->warnings[0];
        EXPECT_FALSE(k.meaning.empty());
        if (k.kind != TargetKey::Kind::number || k.most == std::numeric_limits<std::int64_t>::max()) continue;
        changes.back().value = std::to_string(k.most + 1);
        const auto beyond = changed_target(text, changes);
        ASSERT_TRUE(beyond);
        EXPECT_FALSE(parse_target_file(*beyond, "x.target.toml") && k.key != "timestamp_hz") << k.table << '.' << k.key;
    }
}

// The documentation's tables of keys, and this list, say the same.
TEST(TargetKeys, AreThoseOfTheDocumentation) {
    const std::string text = test::read_text(std::string(MT_DOCS) + "/formats/target-file.md");
    std::set<std::string> described, known = {"format"};
    const std::regex word("`([a-z_0-9]+)`");
    for (const std::string& line : test::lines(text)) {
        if (!line.starts_with("|")) continue;
        const auto first = line.find('|', 1), second = line.find('|', first + 1);
        if (second == std::string::npos) continue;
        const std::string column = line.substr(first, second - first);
        for (auto it = std::sregex_iterator(column.begin(), column.end(), word); it != std::sregex_iterator(); ++it)
            described.insert((*it)[1]);
    }
    for (const TargetKey& k : target_keys()) known.insert(std::string(k.key));
    EXPECT_EQ(described, known);
}

}  // namespace
}  // namespace mt
