// A core's debug server over a socket pair, in a thread of its own: it runs, stands and steps as it is asked, until told to
// misbehave.
#pragma once

#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <thread>

#include "control/debug_packet.h"
#include "control/debug_server.h"

namespace mt::test {

class CorePeer {
  public:
    /// Asked for each request with the answer that is right: what to send instead, as it stands on the line; nothing: send
    /// that answer. "" sends nothing at all.
    using Spoil = std::function<std::optional<std::string>(const std::string& asked, const std::string& answer)>;

    explicit CorePeer(Spoil spoil = {}) : spoil_(std::move(spoil)) {
        int ends[2] = {-1, -1};
        if (::socketpair(AF_UNIX, SOCK_STREAM, 0, ends) != 0) return;
        mine_ = ends[0];
        link_ = Link::over(ends[1], "peer");
        thread_ = std::thread([this] { serve(); });
    }
    ~CorePeer() {
        vanish();
        if (thread_.joinable()) thread_.join();
        ::close(mine_);
    }
    std::unique_ptr<Link> link() { return std::move(link_); }
    bool running() const { return running_; }
    unsigned steps() const { return steps_; }
    /// The connection ends, from now on.
    void vanish() { ::shutdown(mine_, SHUT_RDWR); }

  private:
    void serve() {
        DebugPacketReader reader;
        std::uint8_t bytes[4096];
        for (;;) {
            const ssize_t n = ::read(mine_, bytes, sizeof bytes);
            if (n <= 0) return;
            std::span<const std::uint8_t> all(bytes, static_cast<std::size_t>(n));
            reader.feed(all);
            while (auto item = reader.next())
                if (item->kind == DebugPacketReader::Item::Kind::packet) say(item->payload, answer(item->payload));
            if (running_ && std::find(all.begin(), all.end(), std::uint8_t{3}) != all.end()) {  // "Interrupts": behind what let it go on
                running_ = false;
                say("", "T02");
            }
        }
    }
    std::string answer(const std::string& asked) {
        if (asked.rfind("qSupported", 0) == 0) return "PacketSize=1000;QStartNoAckMode+";
        if (asked == "QStartNoAckMode" || asked[0] == 'Z' || asked[0] == 'z' || asked[0] == 'H') return "OK";
        if (asked == "?") return running_ ? "" : "T05";
        if (asked == "g") return std::string(15 * 8, '0') + pc() + std::string(8, '0');
        if (asked[0] == 'p') return asked == "pf" ? pc() : "00000000";
        if (asked[0] == 'P' || asked[0] == 'G' || asked[0] == 'M' || asked[0] == 'X') return "OK";
        if (asked[0] == 'm') {
            const auto comma = asked.find(',');
            const std::size_t length = comma == std::string::npos ? 0 : std::strtoul(asked.c_str() + comma + 1, nullptr, 16);
            return std::string(2 * std::min<std::size_t>(length, 1024), '0');
        }
        if (asked[0] == 's' || asked.rfind("vCont;s", 0) == 0) {
            ++steps_;
            pc_ += 4;
            return "T05";
        }
        if (asked[0] == 'c' || asked.rfind("vCont;c", 0) == 0) {
            running_ = true;
            return "nothing";
        }
        return "";
    }
    std::string pc() const {  // a word, as memory has it
        std::string word;
        for (unsigned i = 0; i < 4; ++i) word += static_cast<char>(pc_ >> (8 * i));
        return hex_of_bytes(word);
    }
    void say(const std::string& asked, const std::string& answer) {
        std::string sent = answer == "nothing" ? std::string() : framed_debug_packet(answer);
        if (spoil_)
            if (auto other = spoil_(asked, answer)) sent = *other;
        if (!sent.empty() && ::send(mine_, sent.data(), sent.size(), MSG_NOSIGNAL) < 0) vanish();
    }

    Spoil spoil_;
    std::uint32_t pc_ = 0x1000;
    int mine_ = -1;
    std::unique_ptr<Link> link_;
    std::atomic<bool> running_{false};
    std::atomic<unsigned> steps_{0};
    std::thread thread_;
};

}  // namespace mt::test
