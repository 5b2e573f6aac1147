// The debug-server client against the board, against QEMU, and against servers that mean no good.
#include <gtest/gtest.h>

#include <netinet/tcp.h>

#include <atomic>

#include "capture/ring.h"
#include "control/debug_server.h"
#include "control/hand.h"
#include "control/image_check.h"
#include "core_peer.h"
#include "process.h"
#include "target/image.h"

namespace mt {
namespace {

using namespace std::chrono_literals;
using test::Board;
using Why = DebugStop::Why;

std::shared_ptr<const Image> image(const char* name) { return *Image::open(std::string(MT_DEMO "/") + name); }

std::unique_ptr<DebugServer> connected(const std::string& address) {
    std::unique_ptr<DebugServer> server;
    test::wait_until([&] {
        auto s = DebugServer::connect(address, 10000ms);
        if (s) server = std::move(*s);
        return server != nullptr;
    });
    return server;
}

// The same walk for every server that serves the co-processor's program.
void walk_the_coprocessor(DebugServer& server, const std::string& reset_command) {
    const auto elf = image("larkspur-cop.elf");
    EXPECT_NE(server.architecture().find("riscv"), std::string::npos);
    const auto check = check_image(server, *elf);
    ASSERT_TRUE(check) << check.error().text();
    EXPECT_TRUE(check->matches());
    EXPECT_GT(check->compared, 1000U);
    ASSERT_TRUE(server.reset(reset_command));
    const auto interpolate = *elf->address_of("interpolate");
    ASSERT_TRUE(server.set_point(DebugServer::Point::software, interpolate, 2));
    ASSERT_TRUE(server.resume());
    const auto stop = server.wait(5000ms);
    ASSERT_TRUE(stop && *stop);
    EXPECT_EQ((*stop)->why, Why::breakpoint);
    EXPECT_EQ(*server.pc(), interpolate);
    EXPECT_EQ(*server.read_register(10), 1U) << "a0: the first millisecond";
    ASSERT_TRUE(server.clear_point(DebugServer::Point::software, interpolate, 2));
    ASSERT_TRUE(server.step());
    EXPECT_NE(*server.pc(), interpolate);
    // A watchpoint on the angle: the very instruction that writes it.
    const Symbol* angle = elf->symbol_named("axis_angle");
    ASSERT_TRUE(server.set_point(DebugServer::Point::write, angle->address, 4));
    ASSERT_TRUE(server.resume());
    const auto watched = server.wait(5000ms);
    ASSERT_TRUE(watched && *watched);
    EXPECT_EQ((*watched)->why, Why::watchpoint);
    EXPECT_EQ((*watched)->watched, angle->address);
    ASSERT_TRUE(server.clear_point(DebugServer::Point::write, angle->address, 4));
    // Memory reads while it runs, however the server does it.
    ASSERT_TRUE(server.resume());
    auto ring = ring_source(server, elf->symbol_named("trail_ring")->address);
    std::vector<std::uint8_t> bytes(65536);
    std::size_t n = 0;
    test::wait_until([&] {
        const auto got = ring->read(std::span(bytes).subspan(n), 0ms);
        EXPECT_TRUE(got) << got.error().text();
        n += got ? *got : 0;
        return n > 300;
    });
    ASSERT_GT(n, 300U);
    const std::vector<std::uint8_t> begin(bytes.begin(), bytes.begin() + 6);
    EXPECT_EQ(begin, (std::vector<std::uint8_t>{0, 0, 0, 0, 0, 0x80}))
        << "the firmware's first packet is a synchronisation";
    ASSERT_TRUE(server.halt());
    const std::array<std::uint8_t, 4> value = {0x78, 0x56, 0x34, 0x12};
    ASSERT_TRUE(server.write_memory(angle->address, value));
    std::array<std::uint8_t, 4> back{};
    ASSERT_TRUE(server.read_memory(angle->address, back));
    EXPECT_EQ(back, value);
    EXPECT_FALSE(server.read_memory(0x10, back)) << "no memory there";
}

TEST(DebugServerOfTheBoard, RunsTheCoprocessor) {
    Board board;
    ASSERT_TRUE(board.listening());
    auto server = connected(board.gdb_cop());
    ASSERT_TRUE(server);
    EXPECT_TRUE(server->reads_while_running());
    walk_the_coprocessor(*server, "");
    EXPECT_EQ(server->brief_halts(), 0U);
}

TEST(DebugServerOfQemu, RunsTheCoprocessorsProgramOnRiscV) {
    const std::string port = std::to_string(test::free_port());
    test::Process qemu({"qemu-system-riscv32", "-M", "virt", "-bios", "none", "-kernel", MT_DEMO "/larkspur-cop.elf",
                        "-S", "-gdb", "tcp:127.0.0.1:" + port, "-display", "none", "-monitor", "none", "-serial",
                        "none"});
    auto server = connected("127.0.0.1:" + port);
    ASSERT_TRUE(server);
    EXPECT_FALSE(server->reads_while_running());
    walk_the_coprocessor(*server, "system_reset");
    EXPECT_GT(server->brief_halts(), 0U) << "this server cannot read memory while the core runs";
}

// Harts of one cluster are threads of a process; those of several clusters, of several processes.
TEST(DebugServerOfQemu, ReachesEachOfItsHartsAlsoThoseOfAnotherProcess) {
    for (const char* machine : {"virt", "sifive_u"}) {
        const std::string port = std::to_string(test::free_port());
        test::Process qemu({"qemu-system-riscv32", "-M", machine, "-smp", "2", "-bios", "none", "-kernel", MT_DEMO "/larkspur-cop.elf", "-S",
                            "-gdb", "tcp:127.0.0.1:" + port, "-display", "none", "-monitor", "none", "-serial", "none"});
        for (unsigned thread = 1; thread <= 2; ++thread) {
            std::unique_ptr<DebugServer> server;
            ASSERT_TRUE(test::wait_until([&] {
                auto s = DebugServer::connect("127.0.0.1:" + port, 5000ms, thread);
                if (s) server = std::move(*s);
                return server != nullptr;
            })) << machine << ", thread " << thread;
            server->leave(false);
            const auto hart = server->register_named("mhartid");
            ASSERT_TRUE(hart) << machine;
            EXPECT_EQ(*server->read_register(*hart), thread - 1) << machine;
            const auto before = *server->pc();
            ASSERT_TRUE(server->step()) << machine;
            EXPECT_NE(*server->pc(), before) << machine;
            EXPECT_EQ(*server->read_register(*hart), thread - 1) << machine << ": still the same hart behind a step";
            ASSERT_TRUE(server->write_register(10, 0x1234'5678));
            EXPECT_EQ(*server->read_register(10), 0x1234'5678U);
        }
        auto none = DebugServer::connect("127.0.0.1:" + port, 5000ms, 3);
        ASSERT_FALSE(none) << machine;
        EXPECT_NE(none.error().text().find("has 2 threads, not 3"), std::string::npos) << none.error().text();
    }
}

// Both harts at once, over the one connection that the server takes.
TEST(DebugServerOfQemu, HasBothOfItsHartsInHandAtOnce) {
    for (const char* machine : {"virt", "sifive_u"}) {
        const std::string port = std::to_string(test::free_port());
        test::Process qemu({"qemu-system-riscv32", "-M", machine, "-smp", "2", "-bios", "none", "-kernel", MT_DEMO "/larkspur-cop.elf", "-S",
                            "-gdb", "tcp:127.0.0.1:" + port, "-display", "none", "-monitor", "none", "-serial", "none"});
        std::vector<std::unique_ptr<DebugServer>> servers;
        std::vector<Hand::Core> cores;
        for (unsigned thread = 1; thread <= 2; ++thread) {
            std::vector<DebugServer*> open;
            for (const auto& s : servers) open.push_back(s.get());
            ASSERT_TRUE(test::wait_until([&] {
                auto s = DebugServer::connect("127.0.0.1:" + port, 5000ms, thread, open);
                if (s) servers.push_back(std::move(*s));
                return servers.size() == thread;
            })) << machine << ", thread " << thread;
            Hand::Core core;
            core.spec.name = thread == 1 ? "hart0" : "hart1";
            core.spec.isa = "rv32imac";
            core.image = image("larkspur-cop.elf");
            core.server = servers.back().get();
            cores.push_back(core);
        }
        EXPECT_TRUE(servers[0]->shares_with(*servers[1]));
        EXPECT_NE(servers[0]->another(1).error().text().find("is another core already"), std::string::npos);
        EXPECT_NE(servers[0]->another(3).error().text().find("has 2 threads, not 3"), std::string::npos);
        Hand::Options options;
        options.may_write = true;
        Hand hand(std::move(cores), options);
        const auto tell = [&](const std::string& text) {
            const auto command = parse_hand_command(text);
            EXPECT_TRUE(command) << text;
            auto answers = hand.run(*command);
            EXPECT_TRUE(answers) << machine << ", " << text << ": " << answers.error().text();
            return answers ? *answers : std::vector<HandAnswer>(2);
        };
        // A loop for each: addi a0, a0, 1; nop; back to the first.
        const std::vector<std::uint8_t> loop{0x13, 0x05, 0x15, 0, 0x13, 0, 0, 0, 0x6F, 0xF0, 0x9F, 0xFF};
        for (const std::uint64_t at : {0x8010'0000U, 0x8010'0100U}) ASSERT_TRUE(servers[0]->write_memory(at, loop));
        tell("hart0: set pc 0x80100000");
        tell("hart1: set pc 0x80100100");
        tell("hart0: set a0 17");
        tell("hart1: set a0 34");
        tell("hart0: step 4");
        EXPECT_EQ(tell("hart0: registers a0 pc")[0].values[0].text, "0x00000013");
        EXPECT_EQ(*servers[0]->pc(), 0x8010'0004U) << machine;
        EXPECT_EQ(*servers[1]->pc(), 0x8010'0100U) << machine << ": a step is its core's alone";
        EXPECT_EQ(tell("hart1: registers a0")[0].values[0].text, "0x00000022");
        tell("hart1: break 0x80100104");
        const auto gone = tell("hart0: go");
        ASSERT_EQ(gone.size(), 2U) << "the server lets both run";
        EXPECT_TRUE(gone[0].running && gone[1].running);
        const auto there = tell("hart0: wait 20");
        ASSERT_EQ(there.size(), 2U);
        EXPECT_FALSE(there[0].running || there[1].running) << machine;
        EXPECT_EQ(there[1].reason, "breakpoint at 0x80100104") << machine;
        EXPECT_EQ(there[1].pc, 0x8010'0104U) << machine;
        EXPECT_EQ(there[0].reason, "stopped with hart1: one debug server has both") << machine;
        // From where it stands it goes on, and comes again.
        tell("all: go");
        EXPECT_EQ(tell("hart1: wait 20")[0].reason, "breakpoint at 0x80100104, hit 2") << machine;
        tell("hart1: clear");
        // The server stops whoever comes there: hart1, for which it is not meant, goes on.
        tell("hart0: break 0x80100108");
        tell("hart0: break 0x80100008 count 3");
        tell("hart1: set pc 0x80100100");
        tell("hart0: go");
        const auto third = tell("hart0: wait 20");
        EXPECT_EQ(third[0].reason, "breakpoint at 0x80100008, hit 3") << machine;
        ASSERT_EQ(third.size(), 2U);
        tell("hart0: clear");
        tell("hart1: go");
        const auto halted = tell("hart0: halt");
        ASSERT_EQ(halted.size(), 2U);
        EXPECT_FALSE(halted[0].running || halted[1].running);
    }
}

TEST(DebugServerOfQemu, RunsTheMainFirmwareOnArm) {
    const std::string port = std::to_string(test::free_port());
    test::Process qemu({"qemu-system-arm", "-M", "netduinoplus2", "-kernel", MT_DEMO "/larkspur.elf", "-S", "-gdb",
                        "tcp:127.0.0.1:" + port, "-display", "none", "-monitor", "none", "-serial", "none"});
    auto server = connected("127.0.0.1:" + port);
    ASSERT_TRUE(server);
    EXPECT_NE(server->architecture().find("arm"), std::string::npos);
    const auto elf = image("larkspur.elf");
    const auto check = check_image(*server, *elf);
    ASSERT_TRUE(check) << check.error().text();
    EXPECT_TRUE(check->matches());
    ASSERT_TRUE(server->reset("system_reset"));
    for (const std::string place : {"main", "task_add", "main.c:14"}) {
        const auto at = elf->address_of(place);
        ASSERT_TRUE(at) << at.error().text();
        ASSERT_TRUE(server->set_point(DebugServer::Point::software, *at, 2));
        ASSERT_TRUE(server->resume());
        const auto stop = server->wait(5000ms);
        ASSERT_TRUE(stop && *stop) << place;
        EXPECT_EQ(*server->pc(), *at) << place;
        ASSERT_TRUE(server->clear_point(DebugServer::Point::software, *at, 2));
    }
}

// An image that runs from RAM: its one segment may be written, and yet its code must be the target's.
TEST(DebugServerOfQemu, CodeInAWritableSegmentIsComparedToo) {
    std::vector<std::uint8_t> bytes = test::read_bytes(MT_DEMO "/larkspur-cop.elf");
    ASSERT_EQ(bytes[4], 1) << "32 bits";
    const auto word = [&](std::size_t at) {
        return bytes[at] | bytes[at + 1] << 8 | bytes[at + 2] << 16 | bytes[at + 3] << 24;
    };
    for (std::size_t i = 0, at = static_cast<std::size_t>(word(28)); i < bytes[44]; ++i, at += 32)
        bytes[at + 24] |= 2;  // p_flags: W
    const test::Folder folder;
    test::write_file(folder / "ram.elf", bytes);
    const auto ram = *Image::open(folder / "ram.elf");
    const std::string port = std::to_string(test::free_port());
    test::Process qemu({"qemu-system-riscv32", "-M", "virt", "-bios", "none", "-kernel", folder / "ram.elf", "-S",
                        "-gdb", "tcp:127.0.0.1:" + port, "-display", "none", "-monitor", "none", "-serial", "none"});
    auto server = connected("127.0.0.1:" + port);
    ASSERT_TRUE(server);
    const auto check = check_image(*server, *ram);
    ASSERT_TRUE(check) << check.error().text();
    EXPECT_TRUE(check->matches());
    EXPECT_GT(check->compared, 1000U);
    const std::uint64_t main_function = ram->symbol_named("interpolate")->address;
    const std::vector<std::uint8_t> other{0x13, 0, 0, 0};
    ASSERT_TRUE(server->write_memory(main_function, other));
    const auto again = check_image(*server, *ram);
    ASSERT_TRUE(again) << again.error().text();
    EXPECT_FALSE(again->matches());
    EXPECT_EQ(again->first & ~std::uint64_t{3}, main_function & ~std::uint64_t{3});
}

TEST(DebugServerOfTheBoard, StaysUsableWhenEachSeventhAnswerIsMalformed) {
    Board board({"--malformed-each", "7"});
    auto server = connected(board.gdb_cop());
    if (!server) return;  // a refusal in words is as good
    unsigned good = 0;
    std::array<std::uint8_t, 64> bytes{};
    for (int i = 0; i < 40; ++i) good += server->read_memory(0x80000000, bytes) ? 1 : 0;
    EXPECT_LE(good, 40U);
}

TEST(DebugServerOfTheBoard, RefusedMemoryIsSaid) {
    Board board({"--refuse-memory"});
    auto server = connected(board.gdb());
    ASSERT_TRUE(server);
    std::array<std::uint8_t, 4> bytes{};
    const auto read = server->read_memory(0x08000000, bytes);
    ASSERT_FALSE(read);
    EXPECT_NE(read.error().what.find("refused to read memory at 0x08000000"), std::string::npos) << read.error().text();
}

// A socket that takes one connection, and its address.
int listen_somewhere(std::string& address) {
    const int listener = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    ::bind(listener, reinterpret_cast<sockaddr*>(&at), sizeof at);
    ::listen(listener, 1);
    socklen_t size = sizeof at;
    ::getsockname(listener, reinterpret_cast<sockaddr*>(&at), &size);
    address = "127.0.0.1:" + std::to_string(ntohs(at.sin_port));
    return listener;
}

// A server that answers every connection with the same bytes and then keeps the line open.
class Hostile {
  public:
    explicit Hostile(std::string bytes, bool endless = false) : bytes_(std::move(bytes)), endless_(endless) {
        listener_ = listen_somewhere(address_);
        thread_ = std::thread([this] {
            const int peer = ::accept(listener_, nullptr, nullptr);
            if (peer < 0) return;
            do {
                if (::send(peer, bytes_.data(), bytes_.size(), MSG_NOSIGNAL) < 0) break;
            } while (endless_ && !stop_);
            while (!stop_) std::this_thread::sleep_for(5ms);
            ::close(peer);
        });
    }
    ~Hostile() {
        stop_ = true;
        ::shutdown(listener_, SHUT_RDWR);
        ::close(listener_);
        thread_.join();
    }
    const std::string& address() const { return address_; }

  private:
    std::string bytes_, address_;
    bool endless_;
    int listener_ = -1;
    std::atomic<bool> stop_{false};
    std::thread thread_;
};

// A server that stands, and whose target makes one call after another once it runs; what it got as replies is kept.
class Calling {
  public:
    explicit Calling(std::vector<std::string> calls) : calls_(std::move(calls)) {
        listener_ = listen_somewhere(address_);
        thread_ = std::thread([this] { serve(::accept(listener_, nullptr, nullptr)); });
    }
    ~Calling() {
        ::shutdown(listener_, SHUT_RDWR);
        ::close(listener_);
        thread_.join();
    }
    const std::string& address() const { return address_; }
    /// Once the connection has ended.
    std::vector<std::string> replies;
    std::string written;  ///< into its memory, as hexadecimal digits

  private:
    void serve(int peer) {
        const int at_once = 1;
        ::setsockopt(peer, IPPROTO_TCP, TCP_NODELAY, &at_once, sizeof at_once);
        DebugPacketReader reader;
        std::uint8_t bytes[4096];
        const auto say = [peer](const std::string& payload) {
            const std::string framed = framed_debug_packet(payload);
            (void)::send(peer, framed.data(), framed.size(), MSG_NOSIGNAL);
        };
        std::size_t next = 0;
        const auto call = [&] { say(next < calls_.size() ? calls_[next++] : "T05"); };
        for (ssize_t n; (n = ::recv(peer, bytes, sizeof bytes, 0)) > 0;) {
            reader.feed({bytes, static_cast<std::size_t>(n)});
            while (const auto item = reader.next()) {
                if (item->kind != DebugPacketReader::Item::Kind::packet) continue;
                (void)::send(peer, "+", 1, MSG_NOSIGNAL);
                const std::string& p = item->payload;
                if (p == "?") {
                    say("T05");
                } else if (p[0] == 'm') {
                    say(hex_of_bytes("slew done\n"));
                } else if (p == "c") {
                    call();
                } else if (p[0] == 'M') {
                    written += p.substr(p.find(':') + 1);
                    say("OK");
                } else if (p[0] == 'F') {
                    replies.push_back(p);
                    call();
                } else {
                    say("");
                }
            }
        }
        ::close(peer);
    }
    std::vector<std::string> calls_;
    std::string address_;
    int listener_ = -1;
    std::thread thread_;
};

// GDB manual, "File-I/O Remote Protocol Extension".
TEST(DebugServer, ServesTheTargetsConsoleAndNothingElseOfThisComputer) {
    Calling peer({"Fwrite,1,20000000,a", "Fopen,20000000/9,601,1b6", "Fwrite,2,20000000,a", "Fwrite,7,20000000,a",
                  "Fread,0,20000000,10", "Fsystem,20000000/5", "Funlink,20000000/5", "Fisatty,1", "Fwrite,1", "Fstat,0/1,0",
                  "Fgettimeofday,0,0", "F", "O" + hex_of_bytes("from the server\n"), "Fclose,1"});
    {
        auto server = connected(peer.address());
        ASSERT_NE(server, nullptr);
        server->keep_console(true);
        ASSERT_TRUE(server->resume());
        auto stop = server->wait(300ms);  // behind its own words a server waits for nothing
        ASSERT_TRUE(stop) << stop.error().text();
        const auto printed = server->take_console();
        ASSERT_EQ(printed.size(), 3U);
        EXPECT_EQ(printed[0].text, "slew done\n");
        EXPECT_FALSE(printed[0].errors);
        EXPECT_TRUE(printed[1].errors);
        EXPECT_EQ(printed[2].text, "from the server\n");
        EXPECT_TRUE(server->take_console().empty());
        server->leave(false);
    }
    EXPECT_EQ(peer.replies, (std::vector<std::string>{"Fa", "F-1,d", "Fa", "F-1,9", "F0", "F-1,d", "F-1,d", "F1", "F-1,9",
                                                      "F-1,2", "F-1,270f", "F-1,270f"}));
}

TEST(DebugServer, HandsWhatWasTypedToTheTargetAsItReads) {
    Calling peer({"Fread,0,20000000,5", "Fread,1,20000000,5", "Fread,0,20000000,40", "Fread,0,20000000,40"});
    {
        auto server = connected(peer.address());
        ASSERT_NE(server, nullptr);
        ASSERT_TRUE(server->type("park now\n"));
        ASSERT_TRUE(server->resume());
        ASSERT_TRUE(server->wait(2000ms));
        EXPECT_FALSE(server->type(std::string(70'000, 'x'))) << "more than a target would ever read";
        server->leave(false);
    }
    EXPECT_EQ(peer.replies, (std::vector<std::string>{"F5", "F-1,9", "F4", "F0"})) << "so many bytes as it asked for; then none";
    EXPECT_EQ(peer.written, hex_of_bytes("park now\n"));
}

TEST(DebugServer, KeepsNoMoreOfAConsoleThanItMay) {
    std::vector<std::string> calls(5000, "Fwrite,1,20000000,a");
    Calling peer(std::move(calls));
    auto server = connected(peer.address());
    ASSERT_NE(server, nullptr);
    server->keep_console(true);
    ASSERT_TRUE(server->resume());
    const auto stop = server->wait(20000ms);
    ASSERT_TRUE(stop && *stop);
    EXPECT_EQ(server->take_console().size(), 4096U);
    EXPECT_EQ(server->console_lost(), 904U * 10);
    EXPECT_EQ(server->console_lost(), 0U);
    server->leave(false);
}

TEST(DebugServer, KeepsWhereTheCoreStoodBeforeItWentOnAndWhetherItWasChanged) {
    test::CorePeer peer;
    auto server = DebugServer::greet(peer.link(), std::chrono::milliseconds(2000));
    ASSERT_TRUE(server) << server.error().text();
    DebugServer& s = **server;
    ASSERT_TRUE(s.step());
    s.count_places();
    EXPECT_FALSE(s.changed_here());
    ASSERT_TRUE(s.step());
    ASSERT_TRUE(s.write_register(0, 5));
    EXPECT_TRUE(s.changed_here());
    ASSERT_TRUE(s.step());
    EXPECT_FALSE(s.changed_here()) << "it went on since";
    ASSERT_TRUE(s.resume());
    std::array<std::uint8_t, 4> bytes{};
    ASSERT_TRUE(s.read_memory(0x2000'0000, bytes));  // halted for it, and let go on
    EXPECT_EQ(s.brief_halts(), 1U);
    ASSERT_TRUE(s.write_memory(0x2000'0000, bytes));
    const StoodPlaces& stood = s.places();
    EXPECT_TRUE(stood.complete);
    EXPECT_EQ(stood.times, 5U);
    const std::map<std::uint64_t, StoodPlaces::At> at{{0x1004, {1, 0}}, {0x1008, {1, 1}}, {0x100C, {3, 1}}};
    EXPECT_EQ(stood.at, at);
    EXPECT_EQ(s.memory_changes(), 1U) << "a register is the core's alone";
}

TEST(DebugServer, ASilentPeerIsGivenUpInTime) {
    Hostile peer("");
    const auto began = std::chrono::steady_clock::now();
    const auto server = DebugServer::connect(peer.address(), 300ms);
    ASSERT_FALSE(server);
    EXPECT_NE(server.error().what.find("does not answer"), std::string::npos) << server.error().text();
    EXPECT_LT(std::chrono::steady_clock::now() - began, 3s);
}

TEST(DebugServer, NonsenseWithoutEndIsGivenUpInTime) {
    for (const std::string bytes :
         {std::string("$xxxx"), std::string("$E01#a6"), std::string("+-+-+-"), std::string("%Stop:T05#00"),
          std::string("$m*~*~*~#11"), std::string("HTTP/1.1 400 Bad Request\r\n\r\n"), std::string(4096, '\0')}) {
        Hostile peer(bytes, true);
        const auto began = std::chrono::steady_clock::now();
        const auto server = DebugServer::connect(peer.address(), 300ms);
        EXPECT_FALSE(server) << bytes.substr(0, 20);
        EXPECT_LT(std::chrono::steady_clock::now() - began, 6s) << bytes.substr(0, 20);
    }
}

TEST(DebugServer, NobodyListeningIsSaidWithTheAddress) {
    const std::string address = "127.0.0.1:" + std::to_string(test::free_port());
    const auto server = DebugServer::connect(address, 1000ms);
    ASSERT_FALSE(server);
    EXPECT_EQ(server.error().where, address);
    EXPECT_FALSE(DebugServer::connect("no port", 100ms));
    EXPECT_FALSE(DebugServer::connect("127.0.0.1:99999", 100ms));
}

TEST(RingHeaders, AreCheckedBeforeTheyAreBelieved) {
    std::array<std::uint8_t, 32> h = {'M', 'T', 'R', 'B', 1, 0, 0, 0, 0, 0, 0, 0x80, 0, 0x20, 0, 0};
    const auto good = parse_ring_header(h, 0x1000);
    ASSERT_TRUE(good) << good.error().text();
    EXPECT_EQ(good->data, 0x80000000U);
    EXPECT_EQ(good->size, 0x2000U);
    auto bad = h;
    bad[0] = 'X';
    EXPECT_FALSE(parse_ring_header(bad, 0x1000));
    bad = h;
    bad[4] = 2;
    EXPECT_FALSE(parse_ring_header(bad, 0x1000)) << "another version";
    bad = h;
    bad[15] = 0x7F;
    EXPECT_FALSE(parse_ring_header(bad, 0x1000)) << "two thousand million bytes";
    bad = h;
    bad[12] = bad[13] = 0;
    EXPECT_FALSE(parse_ring_header(bad, 0x1000)) << "no bytes at all";
    EXPECT_FALSE(parse_ring_header(std::span(h).first(20), 0x1000));
}

}  // namespace
}  // namespace mt
