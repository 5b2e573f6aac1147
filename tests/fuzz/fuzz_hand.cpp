// Several cores in hand, whose servers say what they like: each command ends with an answer or a Problem, and at the end
// every core is let go.
#include <csignal>
#include <mutex>

#include "control/hand.h"
#include "core_peer.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const bool ignored = std::signal(SIGPIPE, SIG_IGN) != SIG_ERR;
    (void)ignored;
    static constexpr const char* kCommands[] = {"all: go", "all: halt", "a: go", "b: halt", "c: step 3", "all: step", "all: reset", "together a b",
                                                "together a b c", "apart", "a: break 0x100 if r0 == 0", "a: break 0x100 after 2", "b: watch 0x20000000",
                                                "a: clear 0x100", "all: registers", "a: memory 0x20000000 64", "a: set r0 5", "a: undo",
                                                "all: wait 0.001", "a: run 0x200 0.001", "b: points", "a: fill 0x20000000 16 0", "c: where",
                                                "a: step over", "a: search 0x20000000 64 0x01"};
    if (size < 8 || size > 4000) return 0;
    const std::size_t cores = 1 + data[0] % 3, commands = 1 + data[1] % 10;
    // What is left says which answers are spoilt, and how.
    std::mutex one;
    std::size_t at = 2 + commands;
    const auto next = [&]() -> unsigned {
        const std::lock_guard lock(one);
        return at < size ? data[at++] : 0;
    };
    const auto spoil = [&](const std::string&, const std::string& answer) -> std::optional<std::string> {
        const unsigned how = next();
        if (how == 0 || how > 200) return std::nullopt;
        if (how < 20) return std::string();
        if (how < 40) return mt::framed_debug_packet("E0" + std::to_string(how % 10));
        if (how < 80) return mt::framed_debug_packet(answer.substr(0, answer.size() * (how - 40) / 40));
        if (how < 120) return mt::framed_debug_packet("T05") + mt::framed_debug_packet(answer);
        std::string noise;
        for (unsigned n = next() % 40; n > 0; --n) noise += static_cast<char>(next());
        return how < 160 ? mt::framed_debug_packet(noise) : noise;
    };
    std::vector<std::unique_ptr<mt::test::CorePeer>> peers;
    std::vector<std::unique_ptr<mt::DebugServer>> servers;
    std::vector<mt::Hand::Core> all;
    for (std::size_t i = 0; i < cores; ++i) {
        peers.push_back(std::make_unique<mt::test::CorePeer>(spoil));
        auto server = mt::DebugServer::greet(peers.back()->link(), std::chrono::milliseconds(5));
        mt::Hand::Core core;
        core.spec.name = std::string(1, static_cast<char>('a' + i));
        core.spec.isa = "armv7e-m";
        if (server) {
            servers.push_back(std::move(*server));
            core.server = servers.back().get();
        }
        all.push_back(std::move(core));
    }
    {
        mt::Hand::Options options;
        options.may_write = true;
        options.give_up = [asked = 0]() mutable { return ++asked > 300; };
        mt::Hand hand(std::move(all), options);
        for (std::size_t i = 0; i < commands && 2 + i < size; ++i) {
            const auto command = mt::parse_hand_command(kCommands[data[2 + i] % std::size(kCommands)]);
            if (command) (void)hand.run(*command);
            if (data[2 + i] > 250) peers[data[2 + i] % cores]->vanish();
        }
    }
    servers.clear();
    return 0;
}
