#include "trace_port.h"

#include <fcntl.h>
#include <stdlib.h>
#include <termios.h>
#include <unistd.h>

#include <algorithm>

namespace board {
namespace asio = boost::asio;
using tcp = asio::ip::tcp;

namespace {
constexpr std::size_t kMostWaiting = 64 << 20;  ///< per reader; one that is slower loses bytes
constexpr std::size_t kAdapter = 256 << 10;
}  // namespace

TracePort::TracePort(asio::io_context& context, const tcp::endpoint& at, const Troubles& troubles, std::uint64_t seed)
    : acceptor_(context, at), troubles_(troubles), random_(seed) {
    accept();
}

TracePort::~TracePort() {
    if (terminal_ >= 0) ::close(terminal_);
}

void TracePort::accept() {
    auto reader = std::make_shared<Reader>(Reader{tcp::socket(acceptor_.get_executor()), {}, {}, 0, false});
    acceptor_.async_accept(reader->socket, [this, reader](const boost::system::error_code& ec) {
        if (ec) return;
        readers_.push_back(reader);
        ++accepted_;
        // Readers send nothing; this notices when they go.
        auto byte = std::make_shared<char>();
        reader->socket.async_read_some(
            asio::buffer(byte.get(), 1),
            [reader, byte](const boost::system::error_code&, std::size_t) { reader->gone = true; });
        accept();
    });
}

std::string TracePort::open_terminal() {
    terminal_ = ::posix_openpt(O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    if (terminal_ < 0 || ::grantpt(terminal_) != 0 || ::unlockpt(terminal_) != 0) return {};
    char name[128];
    if (::ptsname_r(terminal_, name, sizeof name) != 0) return {};
    struct termios settings {};
    if (::tcgetattr(terminal_, &settings) == 0) {
        ::cfmakeraw(&settings);
        ::tcsetattr(terminal_, TCSANOW, &settings);
    }
    return name;
}

std::size_t TracePort::backlog() const {
    std::size_t most = 0;
    for (const auto& r : readers_) most = std::max(most, r->waiting.size());
    return most;
}

void TracePort::send(std::vector<std::uint8_t> bytes, double seconds) {
    troubles_.spoil(bytes, random_, passed_);
    if (troubles_.stall_at >= 0 && seconds >= troubles_.stall_at &&
        seconds < troubles_.stall_at + troubles_.stall_for) {
        stalled_.insert(stalled_.end(), bytes.begin(), bytes.end());
        return;
    }
    if (!stalled_.empty()) {
        stalled_.insert(stalled_.end(), bytes.begin(), bytes.end());
        bytes = std::exchange(stalled_, {});
    }
    if (troubles_.delay_ms > 0) {
        delayed_.emplace_back(seconds + troubles_.delay_ms / 1000.0, std::move(bytes));
        while (!delayed_.empty() && delayed_.front().first <= seconds) {
            give(delayed_.front().second);
            delayed_.pop_front();
        }
        return;
    }
    give(bytes);
}

void TracePort::give(const std::vector<std::uint8_t>& bytes) {
    readers_.remove_if([](const std::shared_ptr<Reader>& r) { return r->gone; });
    if (terminal_ >= 0) {
        // An adapter's buffer: what does not fit in it is lost, as on a real line without flow control.
        if (terminal_waiting_.size() + bytes.size() <= kAdapter)
            terminal_waiting_.insert(terminal_waiting_.end(), bytes.begin(), bytes.end());
        const ssize_t n = ::write(terminal_, terminal_waiting_.data(), terminal_waiting_.size());
        if (n > 0) terminal_waiting_.erase(terminal_waiting_.begin(), terminal_waiting_.begin() + n);
    }
    if (bytes.empty()) return;
    for (const auto& r : readers_) {
        if (r->waiting.size() + bytes.size() <= kMostWaiting)
            r->waiting.insert(r->waiting.end(), bytes.begin(), bytes.end());
        pump(r);
    }
}

void TracePort::pump(const std::shared_ptr<Reader>& reader) {
    if (!reader->sending.empty() || reader->waiting.empty() || reader->gone) return;
    std::swap(reader->sending, reader->waiting);
    if (troubles_.close_after > 0 && reader->sent + reader->sending.size() >= troubles_.close_after)
        reader->sending.resize(static_cast<std::size_t>(troubles_.close_after - reader->sent));
    asio::async_write(reader->socket, asio::buffer(reader->sending),
                      [this, reader](const boost::system::error_code& ec, std::size_t n) {
                          reader->sent += n;
                          reader->sending.clear();
                          if (ec || (troubles_.close_after > 0 && reader->sent >= troubles_.close_after)) {
                              reader->gone = true;
                              boost::system::error_code ignored;
                              reader->socket.shutdown(tcp::socket::shutdown_both, ignored);
                              reader->socket.close(ignored);
                              return;
                          }
                          pump(reader);
                      });
}

}  // namespace board
