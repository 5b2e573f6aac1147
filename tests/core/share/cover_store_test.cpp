// A store of coverage: what recordings add up to, over builds; and files that are none, or damaged, or in use.
#include <gtest/gtest.h>

#include <sqlite3.h>

#include <filesystem>
#include <random>

#include "share/cover_store.h"
#include "small_build.h"
#include "support.h"

namespace mt {
namespace {

using test::kAddCode, test::kSubCode, test::small_build;

class CoverStoreFile : public ::testing::Test {
  protected:
    CoverStore open(const std::string& name = "board.mtcover") {
        auto store = CoverStore::open(folder / name);
        EXPECT_TRUE(store) << store.error().text();
        return std::move(*store);
    }
    // The store keeps what another sees.
    static void keep(CoverStore& store) {
        const auto kept = store.keep();
        ASSERT_TRUE(kept) << kept.error().text();
    }
    static CoverOf ran(CoverOf build, const std::vector<std::pair<std::uint64_t, std::uint64_t>>& counts) {
        for (const auto& [address, n] : counts) build.counts.executions[build.code->slot_of(address)] = n;
        return build;
    }
    static std::uint64_t count_at(const CoverOf& of, std::uint64_t address) { return of.counts.executions[of.code->slot_of(address)]; }
    void add(CoverStore& store, const std::string& input, const CoverOf& of, const std::string& core = "main") {
        const auto added = store.add(input, "2026-03-01", core, of);
        ASSERT_TRUE(added) << added.error().text();
    }
    // What the sqlite3 shell would do to it.
    void run(const std::string& name, const std::string& sql) {
        sqlite3* db = nullptr;
        ASSERT_EQ(sqlite3_open((folder / name).c_str(), &db), SQLITE_OK);
        char* error = nullptr;
        EXPECT_EQ(sqlite3_exec(db, sql.c_str(), nullptr, nullptr, &error), SQLITE_OK) << (error != nullptr ? error : "");
        sqlite3_free(error);
        sqlite3_close(db);
    }

    test::Folder folder;
    const CoverOf build = small_build({{"plus", kAddCode}, {"minus", kSubCode}});
};

TEST_F(CoverStoreFile, CountsOfAllRecordingsAddUp) {
    {
        CoverStore store = open();
        add(store, "a", ran(build, {{0x100, 3}, {0x102, 3}}));
        add(store, "b", ran(build, {{0x100, 1'000'000'000'000}, {0x104, 2}}));
        keep(store);
    }
    CoverOf sum = build;
    const auto moved = open().sum_into("main", sum);
    ASSERT_TRUE(moved) << moved.error().text();
    EXPECT_EQ(count_at(sum, 0x100), 1'000'000'000'003U);
    EXPECT_EQ(count_at(sum, 0x102), 3U);
    EXPECT_EQ(count_at(sum, 0x104), 2U);
    EXPECT_EQ(count_at(sum, 0x106), 0U);
    EXPECT_EQ(moved->kept, (std::vector<std::string>{"minus", "plus"}));
}

TEST_F(CoverStoreFile, BranchesKeepHowOftenTheyWereTakenAndLeftOpen) {
    CoverOf one = ran(build, {{0x100, 9}});
    const std::uint32_t slot = build.code->slot_of(0x100);
    one.counts.taken[slot] = 4;
    one.counts.undecided[slot] = 200;
    CoverStore store = open();
    add(store, "a", one);
    add(store, "b", one);
    CoverOf sum = build;
    ASSERT_TRUE(store.sum_into("main", sum));
    EXPECT_EQ(sum.counts.taken[slot], 8U);
    EXPECT_EQ(sum.counts.undecided[slot], 400U);
}

TEST_F(CoverStoreFile, TheSameInputAgainReplacesWhatItGaveBefore) {
    CoverStore store = open();
    add(store, "a", ran(build, {{0x100, 3}}));
    add(store, "a", ran(build, {{0x104, 5}}));
    add(store, "a", ran(build, {{0x104, 7}}), "cop");
    CoverOf sum = build;
    ASSERT_TRUE(store.sum_into("main", sum));
    EXPECT_EQ(count_at(sum, 0x100), 0U);
    EXPECT_EQ(count_at(sum, 0x104), 5U) << "another core's counts are its own";
    EXPECT_EQ(store.contributions()->size(), 2U);
}

TEST_F(CoverStoreFile, WhatIsNotKeptIsNotThere) {
    {
        CoverStore store = open();
        add(store, "a", ran(build, {{0x100, 3}}));
        keep(store);
        add(store, "b", ran(build, {{0x102, 3}}));
    }
    const auto all = open().contributions();
    ASSERT_TRUE(all);
    ASSERT_EQ(all->size(), 1U);
    EXPECT_EQ((*all)[0].input, "a");
}

TEST_F(CoverStoreFile, EachContributionSaysWhatItRanAndWhatNoOneBeforeIt) {
    CoverStore store = open();
    add(store, "first", ran(build, {{0x100, 10}, {0x102, 10}}));
    add(store, "again", ran(build, {{0x100, 5}, {0x102, 5}}));
    add(store, "more", ran(build, {{0x102, 1}, {0x104, 1}}));
    const auto all = store.contributions();
    ASSERT_TRUE(all) << all.error().text();
    ASSERT_EQ(all->size(), 3U);
    EXPECT_EQ((*all)[0].instructions, 20U);
    EXPECT_EQ((*all)[0].fresh, 2U);
    EXPECT_EQ((*all)[1].fresh, 0U);
    EXPECT_EQ((*all)[2].instructions, 2U);
    EXPECT_EQ((*all)[2].fresh, 1U);
    EXPECT_EQ((*all)[2].made, "2026-03-01");
}

TEST_F(CoverStoreFile, OfAnotherBuildTheFunctionsThatAreTheSameByteForByteCount) {
    CoverStore store = open();
    add(store, "old", ran(build, {{0x100, 3}, {0x104, 4}}));
    // plus has moved, minus is another one now, and one is new.
    CoverOf next = small_build({{"fresh", kSubCode}, {"minus", kAddCode}, {"plus", kAddCode}});
    const auto moved = store.sum_into("main", next);
    ASSERT_TRUE(moved);
    EXPECT_EQ(moved->kept, std::vector<std::string>{"plus"});
    EXPECT_EQ(moved->changed, std::vector<std::string>{"minus"});
    EXPECT_TRUE(moved->gone.empty());
    EXPECT_EQ(count_at(next, 0x108), 3U);
    EXPECT_EQ(count_at(next, 0x104), 0U);
    // Back to the old bytes: what was run then counts again.
    CoverOf back = build;
    ASSERT_TRUE(store.sum_into("main", back));
    EXPECT_EQ(count_at(back, 0x104), 4U);
    CoverOf other = small_build({{"other", kAddCode}});
    EXPECT_EQ(store.sum_into("main", other)->gone, (std::vector<std::string>{"minus", "plus"}));
}

TEST_F(CoverStoreFile, OfTwoFunctionsWithOneNameAndOneBodyTheFirstCounts) {
    const CoverOf twins = small_build({{"helper", kAddCode}, {"helper", kAddCode}});
    CoverStore store = open();
    add(store, "a", ran(twins, {{0x100, 3}, {0x104, 5}}));
    CoverOf sum = twins;
    ASSERT_TRUE(store.sum_into("main", sum));
    EXPECT_EQ(count_at(sum, 0x100), 3U);
}

TEST_F(CoverStoreFile, ReasonsAreReplacedAndTakenAway) {
    CoverStore store = open();
    ASSERT_TRUE(store.justify({"minus", "only for the old board", "MC-9"}));
    ASSERT_TRUE(store.justify({"guide.c:41", "cannot happen", ""}));
    ASSERT_TRUE(store.justify({"minus", "test only", ""}));
    auto all = store.reasons();
    ASSERT_TRUE(all);
    ASSERT_EQ(all->size(), 2U);
    EXPECT_EQ((*all)[1].place, "minus");
    EXPECT_EQ((*all)[1].reason, "test only");
    EXPECT_EQ((*all)[1].note, "");
    ASSERT_TRUE(store.justify({"minus", "", ""}));
    ASSERT_TRUE(store.justify({"never.c:1", "", ""})) << "none there: nothing is wrong";
    EXPECT_EQ(store.reasons()->size(), 1U);
}

TEST_F(CoverStoreFile, NamesAreTextWhateverStandsInThem) {
    const std::string name = "x'); DROP TABLE recording; --\"\n\xFF";
    CoverStore store = open();
    add(store, name, ran(build, {{0x100, 3}}), name);
    ASSERT_TRUE(store.justify({name, name, name}));
    EXPECT_EQ((*store.contributions())[0].input, name);
    CoverOf sum = build;
    ASSERT_TRUE(store.sum_into(name, sum));
    EXPECT_EQ(count_at(sum, 0x100), 3U);
    EXPECT_EQ((*store.reasons())[0].note, name);
}

TEST_F(CoverStoreFile, APlaceThatIsJustifiedAndRanAllTheSameIsTold) {
    Coverage coverage;
    CoverFunction ran_all, never;
    ran_all.name = "park";
    ran_all.sums.instructions_run = 4;
    never.name = "panic";
    coverage.functions = {ran_all, never};
    CoverFile file;
    file.name = "mount/guide.c";
    file.lines = {{41, 3, false, 0, 0}, {42, 0, false, 0, 0}};
    coverage.files = {file};
    const auto told = justified_but_run({{"park", "by hand only", ""},
                                         {"panic", "hardware fault", ""},
                                         {"guide.c:41", "cannot happen", ""},
                                         {"guide.c:42", "cannot happen", ""},
                                         {"mount/guide.c:41", "whole path", ""},
                                         {"uide.c:41", "no such file", ""},
                                         {"nowhere", "not there", ""}},
                                        coverage);
    EXPECT_EQ(told, (std::vector<std::string>{"park ran, though it is justified: by hand only",
                                              "guide.c:41 ran 3 times, though it is justified: cannot happen",
                                              "mount/guide.c:41 ran 3 times, though it is justified: whole path"}));
}

TEST_F(CoverStoreFile, AFileThatIsNoStoreIsLeftAsItIs) {
    const std::string text(5000, 'x');
    test::write_file(folder / "notes.txt", text);
    const auto no_database = CoverStore::open(folder / "notes.txt");
    ASSERT_FALSE(no_database);
    EXPECT_NE(no_database.error().text().find("is no store of coverage"), std::string::npos) << no_database.error().text();
    EXPECT_EQ(test::read_text(folder / "notes.txt"), text);
    run("other.db", "CREATE TABLE mine(x); INSERT INTO mine VALUES(7);");
    const auto before = test::read_bytes(folder / "other.db");
    const auto other = CoverStore::open(folder / "other.db");
    ASSERT_FALSE(other);
    EXPECT_NE(other.error().text().find("a database, but no store of coverage"), std::string::npos);
    EXPECT_EQ(test::read_bytes(folder / "other.db"), before);
    std::filesystem::create_directories(folder / "a_folder");
    EXPECT_FALSE(CoverStore::open(folder / "a_folder"));
    EXPECT_FALSE(CoverStore::open(folder / "no/such/folder/x.mtcover"));
}

TEST_F(CoverStoreFile, OfALaterVersionIsSaidToBeOne) {
    {
        CoverStore store = open();
        keep(store);
    }
    run("board.mtcover", "PRAGMA user_version = 2");
    const auto later = CoverStore::open(folder / "board.mtcover");
    ASSERT_FALSE(later);
    EXPECT_NE(later.error().text().find("is of version 2"), std::string::npos) << later.error().text();
}

TEST_F(CoverStoreFile, CountsThatMakeNoSenseAreAnErrorThatNamesTheFunction) {
    {
        CoverStore store = open();
        add(store, "a", ran(build, {{0x100, 3}}));
        keep(store);
    }
    for (const char* data : {"x'FF'", "x'7F010000'", "x'0001'", "x'FFFFFFFFFFFFFFFFFFFFFF010000'", "x'00010000000100'"}) {
        run("board.mtcover", std::string("UPDATE count SET data = ") + data);
        CoverStore store = open();
        CoverOf sum = build;
        const auto moved = store.sum_into("main", sum);
        ASSERT_FALSE(moved) << data;
        EXPECT_NE(moved.error().text().find("plus"), std::string::npos) << moved.error().text();
        (void)store.contributions();  // ends
    }
}

TEST_F(CoverStoreFile, DamagedAnywhereItIsReadOrRefusedAndNothingElse) {
    {
        CoverStore store = open();
        for (int i = 0; i < 20; ++i) add(store, "night " + std::to_string(i), ran(build, {{0x100, 3}, {0x104, 4}}));
        keep(store);
    }
    const auto whole = test::read_bytes(folder / "board.mtcover");
    std::mt19937 random(3);
    for (int round = 0; round < 150; ++round) {
        auto bytes = whole;
        if (round % 3 == 0)
            bytes.resize(random() % bytes.size());
        else
            for (int i = 0; i < 1 + round % 40; ++i) bytes[random() % bytes.size()] = static_cast<std::uint8_t>(random());
        test::write_file(folder / "damaged.mtcover", bytes);
        auto store = CoverStore::open(folder / "damaged.mtcover");
        if (!store) {
            EXPECT_FALSE(store.error().what.empty());
            continue;
        }
        CoverOf sum = build;
        for (const bool good : {store->sum_into("main", sum).has_value(), store->contributions().has_value(),
                                store->reasons().has_value(), store->add("x", "now", "main", build).has_value()})
            (void)good;
    }
}

TEST_F(CoverStoreFile, OneThatAnotherProgramWritesIntoIsSaidToBeInUse) {
    CoverStore first = open();
    add(first, "a", build);
    const auto second = CoverStore::open(folder / "board.mtcover");  // waits for it, but not for ever
    ASSERT_FALSE(second);
    EXPECT_NE(second.error().text().find("another program writes into it"), std::string::npos) << second.error().text();
}

}  // namespace
}  // namespace mt
