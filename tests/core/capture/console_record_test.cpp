// A target's console is recorded: semihosting of real emulators through their debug servers, plain text over TCP, and a
// debug server that wants more than a console.
#include <gtest/gtest.h>

#include <arpa/inet.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cstdlib>
#include <filesystem>
#include <thread>

#include "capture/console_source.h"
#include "control/link.h"
#include "recorder_fixture.h"

namespace mt {
namespace {

using namespace std::chrono_literals;

struct Emulated {
    const char *name, *program, *isa, *line;
    std::vector<std::string> command;
};
std::ostream& operator<<(std::ostream& out, const Emulated& e) { return out << e.name; }

class PrintingTarget : public test::RecorderFixture, public testing::WithParamInterface<Emulated> {
  protected:
    void start(const std::string& semihosting) {
        const std::string program = std::string(MT_FIRMWARE "/") + GetParam().program;
        if (!std::filesystem::exists(program)) {
            if (std::getenv("CI") != nullptr) FAIL() << "clang-14 and lld-14 are needed to build the programs";
            GTEST_SKIP() << "clang-14 and lld-14 are not installed: the programs were not built";
        }
        server = "127.0.0.1:" + std::to_string(test::free_port());
        auto command = GetParam().command;
        for (const std::string& more : std::vector<std::string>{"-display", "none", "-monitor", "none", "-serial", "none", "-S",
                                                                "-kernel", program, "-gdb", "tcp:" + server,
                                                                "-semihosting-config", semihosting})
            command.push_back(more);
        qemu = std::make_unique<test::Process>(command);
        ASSERT_TRUE(test::wait_until([&] { return Link::connect_tcp(server, 200ms).has_value(); }));
        test::write_file(folder / "m.target.toml",
                         "format = \"mindful-trail-target/1\"\nname = \"printer\"\n[[core]]\nname = \"main\"\nisa = \"" +
                             std::string(GetParam().isa) + "\"\nclock_hz = 25_000_000\nimage = \"" + program +
                             "\"\n[[stream]]\nprotocol = \"console\"\ncore = \"main\"\n");
    }
    test::Outcome record_console(const std::string& more) {
        return record("format = \"mindful-trail-recipe/1\"\nname = \"prints\"\ntarget = \"m.target.toml\"\nsave = "
                      "\"x.mtrail\"\npatience_ms = 20000\n[[connect]]\ncore = \"main\"\ndebug = \"" +
                      server + "\"\n[[connect]]\ncore = \"main\"\nprotocol = \"console\"\ntrace = \"debug\"\n" + more);
    }
    /// The line's times, in order; the text of all of them.
    std::vector<Time> times_of(const std::string& line) {
        const auto o = test::decode(folder / "x.mtrail");
        std::vector<Time> times;
        for (const TextLog& log : o.trail->texts)
            for (std::size_t i = 0; i < log.size(); ++i)
                if (log.raw(i) == line) times.push_back(log.line(i).begin);
        return times;
    }
    std::string server;
    std::unique_ptr<test::Process> qemu;
};

TEST_P(PrintingTarget, IsHeardThroughItsDebugServerAndCanBeHaltedMeanwhile) {
    start("enable=on,target=gdb");
    if (HasFatalFailure() || IsSkipped()) return;
    const auto r = record_console("[record]\nuntil = { place = \"printed\", times = 12 }\nseconds = 40\n[after]\nleave = \"halted\"\n");
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("printed was reached 12 times"), std::string::npos) << r.said;
    const auto times = times_of(GetParam().line);
    EXPECT_GE(times.size(), 11U);
    EXPECT_TRUE(std::is_sorted(times.begin(), times.end()));
}

INSTANTIATE_TEST_SUITE_P(
    Emulators, PrintingTarget,
    testing::Values(Emulated{"cortex_m4", "printing-arm.elf", "armv7e-m", "guide star found", {"qemu-system-arm", "-M", "mps2-an386"}},
                    Emulated{"rv32", "printing-riscv.elf", "rv32imac", "grating read", {"qemu-system-riscv32", "-M", "virt", "-bios", "none"}}),
    [](const auto& info) { return std::string(info.param.name); });

/// A listener that sends plain text to whoever connects.
class TextLine : public test::RecorderFixture {};

TEST_F(TextLine, OverTcpIsRecordedWithWhenItCameWhateverItsTargetFileSays) {
    test::Board board;
    std::atomic<bool> done{false};
    const auto port = test::free_port();
    const int listener = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_port = htons(static_cast<std::uint16_t>(port));
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    ASSERT_EQ(::bind(listener, reinterpret_cast<sockaddr*>(&at), sizeof at), 0);
    ASSERT_EQ(::listen(listener, 1), 0);
    std::thread writer([&] {
        const int peer = ::accept(listener, nullptr, nullptr);
        for (int i = 0; !done; ++i) {
            const std::string line = "dome at " + std::to_string(i) + " degrees\n";
            if (::send(peer, line.data(), line.size(), MSG_NOSIGNAL) < 0) break;
            std::this_thread::sleep_for(10ms);
        }
        ::close(peer);
    });
    const auto r = record(test::recipe_text_for(
        test::tcp(board.trace()) + "[[connect]]\ncore = \"main\"\nprotocol = \"console\"\n" + test::tcp("127.0.0.1:" + std::to_string(port)),
        "[record]\nseconds = 1\n"));
    done = true;
    writer.join();
    ::close(listener);
    ASSERT_EQ(r.code, 0) << r.said;
    const auto o = test::decode(folder / "x.mtrail");
    std::size_t lines = 0;
    for (const TextLog& log : o.trail->texts)
        for (std::size_t i = 0; log.name == "console" && i < log.size(); ++i)
            lines += log.raw(i).find("degrees") != std::string::npos ? 1 : 0;
    EXPECT_GT(lines, 10U);
    EXPECT_GT(o.trail->end.seconds(), 0.1) << "the trace beside it is there too";
}

TEST_F(TextLine, ARecipeWhoseConsoleCannotBeIsRefusedWithTheReason) {
    const auto ring = record(test::recipe_text_for("protocol = \"console\"\ntrace = \"ring\"\nsymbol = \"x\"\ndebug = \"127.0.0.1:1\"\n"));
    EXPECT_EQ(ring.code, 2);
    EXPECT_NE(ring.said.find("a console cannot come by trace = \"ring\""), std::string::npos) << ring.said;
    const auto other = record(test::recipe_text_for("trace = \"debug\"\ndebug = \"127.0.0.1:1\"\n"));
    EXPECT_NE(other.said.find("trace = \"debug\" is for a console"), std::string::npos) << other.said;
    const auto no_server = record(test::recipe_text_for("protocol = \"console\"\ntrace = \"debug\"\n"));
    EXPECT_NE(no_server.said.find("needs a debug server"), std::string::npos) << no_server.said;
}

TEST(AConsole, OnALineTakesWhatIsTypedBeforeItIsReadNext) {
    int ends[2];
    ASSERT_EQ(::socketpair(AF_UNIX, SOCK_STREAM, 0, ends), 0);
    class OnLink : public Source {
      public:
        explicit OnLink(int fd) : link_(Link::over(fd, "line")) {}
        Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience) override { return link_->read(into, patience); }
        bool writable() const override { return true; }
        Result<void> write(std::span<const std::uint8_t> bytes) override { return link_->write(bytes, 1000ms); }

      private:
        std::unique_ptr<Link> link_;
    };
    ConsoleSource console(std::make_unique<OnLink>(ends[0]));
    console.begin(std::chrono::steady_clock::now());
    ASSERT_TRUE(console.type("park\n"));
    std::array<std::uint8_t, 64> bytes{};
    ASSERT_TRUE(console.read(bytes, 10ms));
    char got[16] = {};
    EXPECT_EQ(::read(ends[1], got, sizeof got), 5);
    EXPECT_EQ(std::string(got), "park\n");
    ::close(ends[1]);
}

TEST(AConsole, OutOfAFileTakesNothing) {
    test::Folder folder;
    test::write_file(folder / "log.txt", "dome open\n");
    SourceSpec spec;
    spec.kind = SourceSpec::Kind::file;
    spec.address = folder / "log.txt";
    auto file = open_source(spec, 100ms);
    ASSERT_TRUE(file);
    ConsoleSource console(std::move(*file));
    const auto typed = console.type("park\n");
    ASSERT_FALSE(typed);
    EXPECT_NE(typed.error().text().find("it comes from a file"), std::string::npos) << typed.error().text();
}

}  // namespace
}  // namespace mt
