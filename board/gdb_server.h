// A debug server for one core of the board, on a TCP port. GDB manual, appendix "GDB Remote Serial Protocol".
#pragma once

#include <deque>
#include <functional>
#include <memory>
#include <random>
#include <utility>

#include <boost/asio.hpp>

#include "control/debug_packet.h"
#include "debug_core.h"
#include "troubles.h"
#include "unit_space.h"

namespace board {

class GdbServer {
  public:
    /// `command` runs a monitor command and gives its text; false if it knows none such.
    using Command = std::function<bool(const std::string&, std::string&)>;
    /// `units`: trace units that are served as memory too; may be null.
    GdbServer(boost::asio::io_context& context, const boost::asio::ip::tcp::endpoint& at, DebugCore& core,
              UnitSpace* units, const Troubles& troubles, Command command);

    std::uint16_t port() const { return acceptor_.local_endpoint().port(); }
    bool running() const { return running_; }
    void set_running(bool on) { running_ = on; }
    /// The core stopped by itself.
    void stopped(const Stop& stop);

  private:
    void accept();
    void begin(boost::asio::ip::tcp::socket socket);
    void read();
    void take(const mt::DebugPacketReader::Item& item);
    void packet(const std::string& p);
    void halt(const Stop& stop);
    void reply(const std::string& payload);
    void send(const std::string& bytes);
    void pump();
    std::string stop_reply() const;
    std::string query(const std::string& p);
    std::string memory_read(const std::string& p);
    std::string memory_write(const std::string& p, bool binary);
    std::string point(const std::string& p);
    std::string registers();
    bool resume(const std::string& action);

    boost::asio::ip::tcp::acceptor acceptor_;
    std::unique_ptr<boost::asio::ip::tcp::socket> peer_, next_;
    boost::asio::steady_timer slow_, patience_;
    DebugCore& core_;
    UnitSpace* units_;
    const Troubles& troubles_;
    Command command_;
    mt::DebugPacketReader reader_;
    std::array<std::uint8_t, 4096> buffer_{};
    std::deque<std::string> out_;
    bool writing_ = false, acks_ = true, non_stop_ = false, running_ = true, swbreak_ = false;
    std::string last_sent_;
    Stop last_{Stop::Why::interrupted, 0, 'w'};
    unsigned answers_ = 0;
};

}  // namespace board
