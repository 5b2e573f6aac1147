// A debug server's side of the line: whatever it sends, the client ends every call with an answer or a Problem.
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <csignal>

#include "capture/ring.h"
#include "control/debug_server.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const bool ignored = std::signal(SIGPIPE, SIG_IGN) != SIG_ERR;
    (void)ignored;
    int ends[2];
    if (size > 100'000 || ::socketpair(AF_UNIX, SOCK_STREAM, 0, ends) != 0) return 0;
    if (size > 0 && ::send(ends[1], data, size, MSG_DONTWAIT) < 0) {
    }
    ::shutdown(ends[1], SHUT_WR);
    {
        auto server = mt::DebugServer::greet(mt::Link::over(ends[0], "fuzz"), std::chrono::milliseconds(50));
        if (server) {
            std::array<std::uint8_t, 64> bytes{};
            (*server)->keep_console(true);
            // Calls of a target that runs come first in some, behind everything else in others.
            if (size % 2 == 0 && (*server)->resume()) (void)(*server)->wait(std::chrono::milliseconds(5));
            (void)(*server)->take_console();
            (void)(*server)->pc();
            (void)(*server)->read_memory(0x20000000, bytes);
            (void)(*server)->monitor("reset");
            (void)(*server)->set_point(mt::DebugServer::Point::software, 0x100, 2);
            auto ring = mt::ring_source(**server, 0x20000000);
            (void)ring->read(bytes, std::chrono::milliseconds(0));
            if ((*server)->resume()) (void)(*server)->wait(std::chrono::milliseconds(5));
            (void)(*server)->halt();
            (*server)->leave(false);
        }
    }
    ::close(ends[1]);
    return 0;
}
