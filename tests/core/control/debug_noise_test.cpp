// A noisy line to a debug server: each answer goes to the request that it answers, whatever stands before it.
#include <gtest/gtest.h>
#include <sys/socket.h>
#include <unistd.h>

#include <atomic>
#include <thread>

#include "control/debug_packet.h"
#include "control/debug_server.h"

namespace mt {
namespace {

using namespace std::chrono_literals;

/// Memory in which each word is its own address, served over one end of a socket pair, with noise before some answers
/// or in place of them.
class NoisyServer {
  public:
    enum class Noise { before, checksum, instead };
    NoisyServer(Noise noise, unsigned each) : noise_(noise), each_(each) {
        int ends[2];
        EXPECT_EQ(::socketpair(AF_UNIX, SOCK_STREAM, 0, ends), 0);
        mine_ = ends[0];
        link_ = Link::over(ends[1], "noisy");
        thread_ = std::thread([this] { serve(); });
    }
    ~NoisyServer() {
        ::shutdown(mine_, SHUT_RDWR);
        thread_.join();
        ::close(mine_);
    }
    std::unique_ptr<Link> link() { return std::move(link_); }
    unsigned spoiled() const { return spoiled_; }

  private:
    void serve() {
        DebugPacketReader reader;
        std::uint8_t bytes[4096];
        for (;;) {
            const ssize_t n = ::read(mine_, bytes, sizeof bytes);
            if (n <= 0) return;
            reader.feed(std::span(bytes, static_cast<std::size_t>(n)));
            while (auto item = reader.next())
                if (item->kind == DebugPacketReader::Item::Kind::packet) answer(item->payload);
        }
    }
    void answer(const std::string& asked) {
        std::string reply;
        if (asked.rfind("qSupported", 0) == 0) reply = "PacketSize=1000;QStartNoAckMode+";
        if (asked == "QStartNoAckMode") reply = "OK";
        if (asked == "?") reply = "T05thread:1;";
        if (asked[0] == 'm') {
            const auto at = static_cast<std::uint32_t>(std::stoul(asked.substr(1), nullptr, 16));
            std::string word;
            for (unsigned i = 0; i < 4; ++i) word += static_cast<char>(at >> (8 * i));
            reply = hex_of_bytes(word);
        }
        std::string sent = framed_debug_packet(reply);
        if (asked[0] == 'm' && ++answers_ % each_ == 0) {
            ++spoiled_;
            if (noise_ == Noise::before) sent = "\x80\x81#zzgarbage$no#00" + sent;
            if (noise_ == Noise::checksum) sent.back() = sent.back() == '0' ? '1' : '0';
            if (noise_ == Noise::instead) sent = "$nothing#00";
        }
        (void)!::write(mine_, sent.data(), sent.size());
    }

    Noise noise_;
    unsigned each_, answers_ = 0;
    std::atomic<unsigned> spoiled_{0};
    int mine_ = -1;
    std::unique_ptr<Link> link_;
    std::thread thread_;
};

class ANoisyLine : public ::testing::TestWithParam<NoisyServer::Noise> {};

TEST_P(ANoisyLine, GivesEachRequestItsOwnAnswer) {
    NoisyServer noisy(GetParam(), 5);
    auto server = DebugServer::greet(noisy.link(), 30000ms);
    ASSERT_TRUE(server) << server.error().text();
    for (std::uint32_t at = 0x1000; at < 0x1000 + 4 * 24; at += 4) {
        std::array<std::uint8_t, 4> word{};
        const auto read = (*server)->read_memory(at, word);
        ASSERT_TRUE(read) << read.error().text();
        ASSERT_EQ(word[0] | word[1] << 8, static_cast<int>(at)) << "the answer of another request";
    }
    EXPECT_GE(noisy.spoiled(), 4u);
}

std::string noise_name(const ::testing::TestParamInfo<NoisyServer::Noise>& kind) {
    const char* const names[] = {"Before", "Checksum", "Instead"};
    return names[static_cast<int>(kind.param)];
}
INSTANTIATE_TEST_SUITE_P(Kinds, ANoisyLine,
                         ::testing::Values(NoisyServer::Noise::before, NoisyServer::Noise::checksum,
                                           NoisyServer::Noise::instead),
                         noise_name);

TEST(ALineOfNothingButNoise, IsGivenUpAndSaid) {
    NoisyServer noisy(NoisyServer::Noise::instead, 1);
    auto server = DebugServer::greet(noisy.link(), 10000ms);
    ASSERT_TRUE(server) << server.error().text();
    std::array<std::uint8_t, 4> word{};
    const auto read = (*server)->read_memory(0x1000, word);
    ASSERT_FALSE(read);
    EXPECT_NE(read.error().text().find("is the line clean?"), std::string::npos) << read.error().text();
}

}  // namespace
}  // namespace mt
