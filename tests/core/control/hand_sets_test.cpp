// Several cores in hand: commands at random, against a model of what each core does then; servers that vanish or talk
// nonsense; and that one which cannot be stopped does not keep the others from being stopped.
#include "control/hand.h"

#include <gtest/gtest.h>

#include <csignal>
#include <mutex>
#include <random>

#include "core_peer.h"
#include "support.h"

namespace mt {
namespace {

using namespace std::chrono_literals;

class CoresInHand : public testing::Test {
  protected:
    static void SetUpTestSuite() { (void)std::signal(SIGPIPE, SIG_IGN); }  // a pair of sockets raises it
    static constexpr const char* kNames[] = {"main", "cop", "guider"};

    void connect(std::size_t cores, const std::function<test::CorePeer::Spoil(std::size_t)>& spoil = {}, std::chrono::milliseconds patience = 2000ms) {
        std::vector<Hand::Core> all;
        for (std::size_t i = 0; i < cores; ++i) {
            peers.push_back(std::make_unique<test::CorePeer>(spoil ? spoil(i) : test::CorePeer::Spoil()));
            auto server = DebugServer::greet(peers.back()->link(), patience);
            if (!server) {
                servers.push_back(nullptr);
            } else {
                servers.push_back(std::move(*server));
            }
            Hand::Core core;
            core.spec.name = kNames[i];
            core.spec.isa = "armv7e-m";
            core.server = servers.back().get();
            all.push_back(std::move(core));
        }
        Hand::Options options;
        options.may_write = true;
        hand = std::make_unique<Hand>(std::move(all), options);
    }
    ~CoresInHand() override {
        hand.reset();
        servers.clear();
        peers.clear();
    }
    Result<std::vector<HandAnswer>> tell(const std::string& text) {
        const auto command = parse_hand_command(text);
        EXPECT_TRUE(command) << text;
        return hand->run(*command);
    }
    // What a peer does reaches it a moment later.
    void expect_running(std::size_t core, bool should, const std::string& behind) {
        EXPECT_EQ(servers[core]->running(), should) << kNames[core] << " behind " << behind;
        test::wait_until([&] { return peers[core]->running() == should; });
        EXPECT_EQ(peers[core]->running(), should) << kNames[core] << " behind " << behind;
    }

    std::vector<std::unique_ptr<test::CorePeer>> peers;
    std::vector<std::unique_ptr<DebugServer>> servers;
    std::unique_ptr<Hand> hand;
};

TEST_F(CoresInHand, DoWhatTheirSetSaysWhateverTheCommands) {
    connect(3);
    std::mt19937 random(7);
    bool runs[3] = {};
    bool in_set[3] = {};
    std::string log;
    for (int round = 0; round < 400 && !HasFailure(); ++round) {
        const std::size_t who = random() % 3;
        const std::string name = kNames[who];
        // Which cores the command is about, with those of the set.
        bool about[3] = {};
        about[who] = true;
        const bool everyone = random() % 6 == 0;
        for (std::size_t c = 0; c < 3; ++c) about[c] = about[c] || everyone;
        bool with_set = false;
        for (std::size_t c = 0; c < 3; ++c) with_set = with_set || (about[c] && in_set[c]);
        for (std::size_t c = 0; c < 3; ++c) about[c] = about[c] || (with_set && in_set[c]);
        const std::string prefix = (everyone ? "all" : name) + std::string(": ");
        std::string text;
        switch (random() % 6) {
            case 0:
                text = prefix + "go";
                ASSERT_TRUE(tell(text)) << log << text;
                for (std::size_t c = 0; c < 3; ++c) runs[c] = runs[c] || about[c];
                break;
            case 1:
            case 2: {
                text = prefix + "halt";
                const auto answers = tell(text);
                ASSERT_TRUE(answers) << log << text;
                for (std::size_t c = 0; c < 3; ++c) runs[c] = runs[c] && !about[c];
                for (const HandAnswer& a : *answers) EXPECT_FALSE(a.running) << a.core;
                break;
            }
            case 3: {
                text = prefix + "step";
                unsigned before[3], asked = 0;
                bool refused = false;
                for (std::size_t c = 0; c < 3; ++c) {
                    before[c] = peers[c]->steps();
                    if ((everyone || c == who) && runs[c]) refused = true;
                    asked += about[c] && !runs[c] ? 1 : 0;
                }
                const auto answers = tell(text);
                EXPECT_EQ(answers.has_value(), !refused) << log << text << ": one that runs is not stepped";
                if (!refused) {
                    unsigned stepped = 0;
                    for (std::size_t c = 0; c < 3; ++c) stepped += peers[c]->steps() - before[c];
                    EXPECT_EQ(stepped, asked) << log << text;
                }
                break;
            }
            case 4: {
                const std::size_t other = (who + 1 + random() % 2) % 3;
                text = "together " + name + " " + kNames[other];
                ASSERT_TRUE(tell(text));
                for (std::size_t c = 0; c < 3; ++c) in_set[c] = c == who || c == other;
                break;
            }
            default:
                text = "apart";
                ASSERT_TRUE(tell(text));
                for (bool& c : in_set) c = false;
        }
        log += text + "; ";
        for (std::size_t c = 0; c < 3; ++c) expect_running(c, runs[c], log);
    }
}

TEST_F(CoresInHand, AreStoppedThoughOneOfThemCannotBe) {
    connect(3, {}, 300ms);
    ASSERT_TRUE(tell("all: go"));
    for (std::size_t c = 0; c < 3; ++c) expect_running(c, true, "go");
    peers[0]->vanish();
    const auto answers = tell("all: halt");
    ASSERT_FALSE(answers) << "one could not be reached";
    EXPECT_NE(answers.error().text().find("peer"), std::string::npos) << answers.error().text();
    for (const std::size_t c : {1U, 2U}) expect_running(c, false, "halt");
}

// What a server sends in place of an answer: nothing, an error, half of it, another's, noise, the end of the line.
std::optional<std::string> nonsense(std::mt19937& random, const std::string& answer) {
    switch (random() % 12) {
        case 0:
            return framed_debug_packet("E01");
        case 1:
            return framed_debug_packet(answer.substr(0, answer.size() / 2));
        case 2:
            return framed_debug_packet("T05thread:1;") + framed_debug_packet(answer);
        case 3: {
            std::string noise(random() % 200, ' ');
            for (char& c : noise) c = static_cast<char>(random());
            return noise;
        }
        case 4:
            return random() % 4 == 0 ? std::optional<std::string>("") : std::nullopt;
        case 5:
            return framed_debug_packet(std::string(random() % 3000, 'f'));
        default:
            return std::nullopt;
    }
}

TEST_F(CoresInHand, EndEachCommandWhateverTheirServersSay) {
    static constexpr const char* kCommands[] = {"all: go", "all: halt", "main: go", "cop: halt", "guider: step 3", "all: step", "all: reset",
                                                "together main cop", "together main cop guider", "apart", "main: break 0x100 if r0 == 0",
                                                "cop: watch 0x20000000", "main: clear 0x100", "all: registers", "main: memory 0x20000000 64",
                                                "main: set r0 5", "main: undo", "all: wait 0.01", "main: run 0x200 0.01", "cop: points",
                                                "main: fill 0x20000000 16 0", "guider: where", "main: locals"};
    unsigned answered = 0, refused = 0;
    for (unsigned seed = 1; seed <= 25; ++seed) {
        std::mt19937 random(seed);
        std::mutex one;
        std::mt19937 of_peers(seed + 1000);
        bool greeted = false;
        const auto spoil = [&](std::size_t) {
            return [&](const std::string&, const std::string& answer) -> std::optional<std::string> {
                const std::lock_guard lock(one);
                return greeted ? nonsense(of_peers, answer) : std::nullopt;
            };
        };
        connect(3, spoil, 40ms);
        {
            const std::lock_guard lock(one);
            greeted = true;
        }
        for (int n = 0; n < 12; ++n) {
            const auto answer = tell(kCommands[random() % std::size(kCommands)]);
            ++(answer ? answered : refused);
            if (!answer) EXPECT_FALSE(answer.error().text().empty());
            if (random() % 20 == 0) peers[random() % 3]->vanish();
        }
        hand.reset();
        servers.clear();
        peers.clear();
    }
    EXPECT_GT(answered, 30U);
    EXPECT_GT(refused, 30U);
}

}  // namespace
}  // namespace mt
