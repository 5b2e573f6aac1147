// Where the board's trace bytes leave it: a TCP port with any number of readers, and a pseudo-terminal that
// stands for a serial line.
#pragma once

#include <deque>
#include <list>
#include <memory>
#include <random>
#include <string>
#include <vector>
#include <utility>

#include <boost/asio.hpp>

#include "troubles.h"

namespace board {

class TracePort {
  public:
    TracePort(boost::asio::io_context& context, const boost::asio::ip::tcp::endpoint& at, const Troubles& troubles,
              std::uint64_t seed);
    ~TracePort();

    std::uint16_t port() const { return acceptor_.local_endpoint().port(); }
    /// Opens a pseudo-terminal too; its path, or empty if there is none to be had.
    std::string open_terminal();
    /// Sends what the core emitted during the last moments; `seconds` is how long it has run.
    void send(std::vector<std::uint8_t> bytes, double seconds);
    /// How many readers have come so far.
    std::uint64_t accepted() const { return accepted_; }
    bool any_reader() const { return !readers_.empty() || terminal_ >= 0; }
    /// The largest backlog of any reader, in bytes.
    std::size_t backlog() const;

  private:
    struct Reader {
        boost::asio::ip::tcp::socket socket;
        std::vector<std::uint8_t> waiting, sending;
        std::uint64_t sent = 0;
        bool gone = false;
    };
    void accept();
    void pump(const std::shared_ptr<Reader>& reader);
    void give(const std::vector<std::uint8_t>& bytes);

    boost::asio::ip::tcp::acceptor acceptor_;
    const Troubles& troubles_;
    std::mt19937_64 random_;
    std::list<std::shared_ptr<Reader>> readers_;
    std::deque<std::pair<double, std::vector<std::uint8_t>>> delayed_;
    std::vector<std::uint8_t> stalled_;
    int terminal_ = -1;
    std::vector<std::uint8_t> terminal_waiting_;
    std::uint64_t passed_ = 0, accepted_ = 0;
};

}  // namespace board
