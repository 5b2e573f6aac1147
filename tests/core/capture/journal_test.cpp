// The journal of a recorded stream, and followed files.
#include <gtest/gtest.h>

#include "base/mapped_file.h"
#include "capture/journal.h"
#include "capture/receiver.h"
#include "support.h"

namespace mt {
namespace {

TEST(Journal, SaysWhatItWasTold) {
    test::Folder folder;
    {
        JournalWriter w;
        ASSERT_TRUE(w.open(folder / "j"));
        w.started("tcp 127.0.0.1:3344", "2026-11-23T20:00:00Z");
        w.first_byte(0.000318, 0.0001);
        w.note(100, "the mount \"hums\"\n now");
        w.lost(5000, "the other end closed the connection");
        w.resumed(5000, 2.5);
        w.halted(12, 0.25);
        w.ended(9000, "stopped by hand", 17, 2.5);
    }
    const StreamJournal j = read_journal(folder / "j");
    EXPECT_TRUE(j.present);
    EXPECT_TRUE(j.ended);
    EXPECT_EQ(j.source, "tcp 127.0.0.1:3344");
    EXPECT_DOUBLE_EQ(j.after_s, 0.000318);
    ASSERT_EQ(j.breaks.size(), 1U);
    EXPECT_EQ(j.breaks[0].offset, 5000U);
    EXPECT_DOUBLE_EQ(j.breaks[0].missing_s, 2.5);
    ASSERT_EQ(j.notes.size(), 1U);
    EXPECT_EQ(j.notes[0].text, "the mount \"hums\"\n now");
    EXPECT_EQ(j.halts, 12U);
    EXPECT_EQ(j.unsaved, 17U);
    EXPECT_EQ(test::lines(test::read_text(folder / "j")).size(), 7U) << "the room set aside is given back";
}

TEST(Journal, PassesOverWhatIsTornOrWrong) {
    test::Folder folder;
    test::write_file(folder / "j",
                     "{\"what\":\"started\",\"source\":7}\n"
                     "not json\n"
                     "[1,2,3]\n"
                     "{\"what\":\"lost\",\"offset\":500,\"reason\":\"a\"}\n"
                     "{\"what\":\"lost\",\"offset\":400,\"reason\":\"goes back\"}\n"
                     "{\"what\":\"lost\",\"offset\":-5}\n"
                     "{\"what\":\"resumed\",\"offset\":499,\"missing_s\":1}\n"
                     "{\"what\":\"first_byte\",\"after_s\":\"soon\"}\n"
                     "{\"what\":\"dropped\",\"offset\":65536}\n"
                     "{\"what\":\"ended\",\"offs");
    const StreamJournal j = read_journal(folder / "j");
    EXPECT_TRUE(j.present);
    EXPECT_FALSE(j.ended) << "its last line is torn";
    EXPECT_EQ(j.source, "");
    ASSERT_EQ(j.breaks.size(), 1U) << "offsets ascend";
    EXPECT_LT(j.breaks[0].missing_s, 0) << "nothing came after it, as far as is told";
    EXPECT_EQ(j.first, 65536U);
    EXPECT_DOUBLE_EQ(j.after_s, 0);
    EXPECT_FALSE(read_journal(folder / "none").present);
}

TEST(FollowedFile, GrowsWithoutMovingAndCanBeLetGo) {
    test::Folder folder;
    test::write_file(folder / "f", std::string());
    const auto file = MappedFile::follow(folder / "f");
    ASSERT_TRUE(file) << file.error().text();
    EXPECT_TRUE((*file)->bytes().empty());
    std::string text(40 << 20, 'a');
    test::write_file(folder / "f", text);
    EXPECT_TRUE((*file)->bytes().empty()) << "not before it is told";
    (*file)->renew(text.size());
    const auto view = (*file)->bytes();
    ASSERT_EQ(view.size(), text.size());
    EXPECT_EQ(view.back(), 'a');
    (*file)->let_go(view.size());
    EXPECT_EQ(view[5], 'a') << "let go, and still readable";
    EXPECT_FALSE(MappedFile::follow(folder / "none"));
}

// A source that hands out what a test lines up.
class Lined : public Source {
  public:
    explicit Lined(std::vector<Result<std::string>>& line) : line_(line) {}
    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds) override {
        if (line_.empty()) return std::size_t{0};
        auto next = line_.front();
        line_.erase(line_.begin());
        if (!next) return tl::make_unexpected(next.error());
        std::copy(next->begin(), next->end(), into.begin());
        return next->size();
    }

  private:
    std::vector<Result<std::string>>& line_;
};

class Receiving : public ::testing::Test {
  protected:
    std::unique_ptr<Receiver> receiver(Receiver::Limits limits = {}) {
        auto r = Receiver::create(
            folder / "s", "test", std::make_unique<Lined>(line),
            [this]() -> Result<std::unique_ptr<Source>> {
                ++reopened;
                if (gone) return failure("still gone", "");
                return std::unique_ptr<Source>(new Lined(line));
            },
            limits);
        EXPECT_TRUE(r) << r.error().text();
        (*r)->begin(Receiver::Steady::now());
        return std::move(*r);
    }
    test::Folder folder;
    std::vector<Result<std::string>> line;
    bool gone = false;
    int reopened = 0;
};

TEST_F(Receiving, BytesAreInTheFileAsTheyCome) {
    auto r = receiver();
    line = {std::string("abc"), std::string("def")};
    EXPECT_TRUE(r->pump(Source::Milliseconds(0)));
    EXPECT_EQ(test::read_text(folder / "s"), "abc");
    EXPECT_TRUE(r->pump(Source::Milliseconds(0)));
    EXPECT_EQ(test::read_text(folder / "s"), "abcdef");
    EXPECT_FALSE(r->pump(Source::Milliseconds(0)));
}

TEST_F(Receiving, ALostSourceIsOpenedAnewAndTheBreakIsKept) {
    auto r = receiver();
    line = {std::string("abc"), failure("pulled", "")};
    r->pump(Source::Milliseconds(0));
    EXPECT_FALSE(r->pump(Source::Milliseconds(0)));
    EXPECT_FALSE(r->state().connected);
    EXPECT_EQ(r->state().trouble, "pulled");
    gone = true;
    r->pump(Source::Milliseconds(0));
    EXPECT_EQ(reopened, 1);
    r->pump(Source::Milliseconds(0));
    EXPECT_EQ(reopened, 1) << "not more than twice a second";
    gone = false;
    line = {std::string("def")};
    for (int i = 0; i < 200 && r->state().bytes < 6; ++i) r->pump(Source::Milliseconds(5));
    r->end("enough");
    const StreamJournal j = read_journal(folder / "s.journal");
    ASSERT_EQ(j.breaks.size(), 1U);
    EXPECT_EQ(j.breaks[0].offset, 3U);
    EXPECT_EQ(j.breaks[0].reason, "pulled");
    EXPECT_GT(j.breaks[0].missing_s, 0.3);
    EXPECT_EQ(j.end_reason, "enough");
}

TEST_F(Receiving, TheOldestIsKeptUpToTheLimit) {
    auto r = receiver({false, 4});
    line = {std::string("abc"), std::string("def")};
    r->pump(Source::Milliseconds(0));
    r->pump(Source::Milliseconds(0));
    EXPECT_EQ(test::read_text(folder / "s"), "abcd");
    EXPECT_TRUE(r->state().exhausted);
}

TEST_F(Receiving, ARecordingIsNeverWrittenOver) {
    test::write_file(folder / "s", std::string("precious"));
    EXPECT_FALSE(Receiver::create(folder / "s", "test", nullptr, {}, {}));
    EXPECT_EQ(test::read_text(folder / "s"), "precious");
}

}  // namespace
}  // namespace mt
