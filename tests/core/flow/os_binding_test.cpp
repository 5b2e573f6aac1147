// Events of other vocabularies: which of their names and fields mean what, as a mapping file says, and what is said
// where something is missing.
#include "flow/os_binding.h"

#include <gtest/gtest.h>

#include "wire/ctf_metadata.h"

namespace mt {
namespace {

// Metadata with events, each with its payload's fields.
std::shared_ptr<const CtfMetadata> metadata(const std::vector<std::pair<std::string, std::string>>& events) {
    std::string text =
        "/* CTF 1.8 */\ntrace { major = 1; minor = 8; byte_order = le; packet.header := struct { integer { size = 32; "
        "} "
        "magic; }; };\nclock { name = c; freq = 1000000; };\nstream { packet.context := struct { integer { size = 32; "
        "} "
        "content_size; integer { size = 32; } packet_size; }; event.header := struct { integer { size = 8; } id; "
        "integer "
        "{ size = 32; map = clock.c.value; } timestamp; }; };\n";
    int id = 0;
    for (const auto& [name, fields] : events)
        text += "event { name = \"" + name + "\"; id = " + std::to_string(id++) + "; fields := struct { " + fields +
                " }; };\n";
    auto parsed = parse_ctf_text(text, "metadata");
    EXPECT_TRUE(parsed) << (parsed ? "" : parsed.error().text());
    return parsed ? std::make_shared<const CtfMetadata>(std::move(*parsed)) : nullptr;
}
OsMapping mapping(const std::string& text) {
    auto parsed = parse_os_mapping("format = \"mindful-trail-mapping/1\"\n" + text, "a.mapping.toml");
    EXPECT_TRUE(parsed) << (parsed ? "" : parsed.error().text());
    return parsed.value_or(OsMapping{});
}
std::string refused(const std::string& text) {
    const auto parsed = parse_os_mapping(text, "a.mapping.toml");
    EXPECT_FALSE(parsed) << text;
    if (parsed) return {};
    EXPECT_NE(parsed.error().where.find("a.mapping.toml"), std::string::npos) << parsed.error().text();
    EXPECT_FALSE(parsed.error().advice.empty());
    return parsed.error().text();
}
constexpr const char* kTask = "integer { size = 32; } task;";

TEST(Events, OfTheVocabularyAreKnownByTheirNames) {
    const auto m = metadata({{"task_switch_in", kTask},
                             {"task_block", std::string(kTask) + " integer { size = 8; } reason;"},
                             {"isr_enter", "integer { size = 16; } number;"},
                             {"coffee", "integer { size = 8; } cups;"}});
    ASSERT_NE(m, nullptr);
    const OsBinding binding(m);
    EXPECT_EQ(binding.known(), 3U);
    EXPECT_EQ(binding.kind_of(0), OsKind::task_switch_in);
    EXPECT_EQ(binding.kind_of(1), OsKind::task_block);
    EXPECT_EQ(binding.kind_of(2), OsKind::isr_enter);
    EXPECT_EQ(binding.kind_of(3), OsKind::other) << "a mark of that name";
    EXPECT_TRUE(binding.warnings().empty());
}

TEST(Events, ThatLackAFieldAreMarksAndItIsSaid) {
    const auto m = metadata({{"task_switch_in", "integer { size = 32; } process;"},
                             {"queue_send", "integer { size = 32; } object;"},
                             {"mutex_take", "floating_point { exp_dig = 8; mant_dig = 24; } object;"}});
    ASSERT_NE(m, nullptr);
    const OsBinding binding(m);
    EXPECT_EQ(binding.kind_of(0), OsKind::other);
    EXPECT_EQ(binding.kind_of(1), OsKind::queue_send) << "how full it is may be left out";
    EXPECT_EQ(binding.kind_of(2), OsKind::other) << "a number is wanted, not a fraction";
    ASSERT_EQ(binding.warnings().size(), 2U);
    EXPECT_NE(binding.warnings()[0].find("'task_switch_in' has no usable field 'task'"), std::string::npos)
        << binding.warnings()[0];
}

TEST(AMapping, SaysWhichEventsAndFieldsMeanWhat) {
    const auto m = metadata({{"sched_in", "integer { size = 32; } pid;"},
                             {"irq", "integer { size = 8; } line;"},
                             {"note", "string text;"}});
    ASSERT_NE(m, nullptr);
    const OsMapping map = mapping(
        "idle = [\"rest\"]\n[[event]]\nname = \"sched_in\"\nis = \"task_switch_in\"\ntask = \"pid\"\n"
        "[[event]]\nname = \"irq\"\nis = \"isr_enter\"\nnumber = \"line\"\n");
    const OsBinding binding(m, &map);
    EXPECT_EQ(binding.known(), 2U);
    EXPECT_EQ(binding.kind_of(0), OsKind::task_switch_in);
    EXPECT_EQ(binding.kind_of(1), OsKind::isr_enter);
    EXPECT_EQ(binding.kind_of(2), OsKind::other);
    EXPECT_TRUE(binding.idle_name("rest"));
    EXPECT_FALSE(binding.idle_name("idle"));
}

TEST(AMapping, MayGiveConstantsLabelsAndWords) {
    const OsMapping map = mapping(
        "[[event]]\nname = \"a\"\nis = \"isr_enter\"\nnumber = 7\n"
        "[[event]]\nname = \"b\"\nis = \"task_block\"\ntask = \"who\"\nreason = \"=delay\"\n"
        "[[event]]\nname = \"c\"\nis = \"task_block\"\ntask = \"who\"\nreason = \"why\"\n[event.labels]\n"
        "2 = \"mutex\"\nSLEEPS = \"delay\"\n");
    ASSERT_EQ(map.events.size(), 3U);
    EXPECT_EQ(map.events[0].constants.at("number"), 7);
    EXPECT_EQ(map.events[1].word, "delay");
    EXPECT_TRUE(map.events[1].fields.count("reason") == 0);
    EXPECT_EQ(map.events[2].fields.at("reason"), "why");
    EXPECT_EQ(map.events[2].labels.at("2"), "mutex");
    EXPECT_EQ(map.events[2].labels.at("SLEEPS"), "delay");
    const auto m = metadata({{"a", "integer { size = 8; } x;"}, {"b", "integer { size = 8; } who;"}});
    ASSERT_NE(m, nullptr);
    EXPECT_EQ(OsBinding(m, &map).known(), 2U) << "a constant needs no field";
}

TEST(AMapping, ThatIsWrongSaysWhereAndWhatToDo) {
    EXPECT_NE(refused("").find("format"), std::string::npos);
    EXPECT_NE(refused("format = \"mindful-trail-mapping/9\"\n").find("format"), std::string::npos);
    EXPECT_NE(refused("format = \"mindful-trail-mapping/1\"\n[[event]]\nname = \"a\"\nis = \"tea_time\"\n")
                  .find("'tea_time', which the vocabulary does not have"),
              std::string::npos);
    EXPECT_NE(refused("format = \"mindful-trail-mapping/1\"\n[[event]]\nis = \"isr_enter\"\n").find("name"),
              std::string::npos);
    EXPECT_NE(
        refused("format = \"mindful-trail-mapping/1\"\n[[event]]\nname = \"a\"\nis = \"isr_enter\"\nnumber = 1.5\n")
            .find("neither a field's name nor a number"),
        std::string::npos);
    refused("format = \"mindful-trail-mapping/1\"\n[[event]\n");
    refused(std::string("\0\0\0", 3));
}

TEST(Kinds, OfEventsReasonsAndObjectsHaveNamesOfTheirOwn) {
    std::map<std::string, int> seen;
    for (std::size_t i = 0; i < kOsKinds; ++i) ++seen[std::string(os_kind_name(static_cast<OsKind>(i)))];
    for (const auto& [name, times] : seen) {
        EXPECT_EQ(times, 1) << name;
        EXPECT_FALSE(name.empty());
    }
    seen.clear();
    for (unsigned i = 0; i < 8; ++i) ++seen[std::string(block_reason_name(static_cast<BlockReason>(i)))];
    EXPECT_EQ(seen.size(), 8U);
    seen.clear();
    for (unsigned i = 0; i < 8; ++i) ++seen[std::string(object_kind_name(static_cast<ObjectKind>(i)))];
    EXPECT_EQ(seen.size(), 8U);
}

TEST(TextsAndPriorities, ShareANumberWithoutLoss) {
    for (const std::size_t text : {std::size_t{0}, std::size_t{1}, std::size_t{1} << 30})
        for (const std::int32_t priority : {0, 1, -1, 255, kNoPriority, std::numeric_limits<std::int32_t>::max()}) {
            const std::int64_t both = text_and_priority(text, priority);
            EXPECT_EQ(text_of(both), text);
            EXPECT_EQ(priority_of(both), priority);
        }
}

}  // namespace
}  // namespace mt
