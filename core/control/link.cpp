#include "control/link.h"

#include <fcntl.h>

#include <cerrno>
#include <cstring>
#include <optional>
#include <variant>

#include <boost/asio.hpp>

#include "control/serial_rate.h"

namespace mt {
namespace asio = boost::asio;
using boost::system::error_code;

namespace {
constexpr int kReceiveBuffer = 4 << 20;  // rides out a stall of the disk
}

struct Link::Parts {
    asio::io_context context;
    std::variant<asio::ip::tcp::socket, asio::posix::stream_descriptor> end;

    explicit Parts(bool tcp) : end(asio::ip::tcp::socket(context)) {
        if (!tcp) end.emplace<asio::posix::stream_descriptor>(context);
    }
    // Runs the pending operation, at most `patience`; cancels it then. True if it ended by itself.
    bool run(std::optional<error_code>& done, Milliseconds patience) {
        context.restart();
        context.run_for(patience);
        if (done) return true;
        std::visit(
            [](auto& e) {
                error_code ignored;
                e.cancel(ignored);
            },
            end);
        context.restart();
        context.run();
        return done && *done != asio::error::operation_aborted;
    }
};

Link::Link(std::unique_ptr<Parts> parts, std::string name) : parts_(std::move(parts)), name_(std::move(name)) {}
Link::~Link() = default;

Result<std::unique_ptr<Link>> Link::connect_tcp(const std::string& address, Milliseconds patience) {
    const auto colon = address.rfind(':');
    std::string host = colon == std::string::npos ? "" : address.substr(0, colon);
    const std::string port = colon == std::string::npos ? "" : address.substr(colon + 1);
    if (host.size() > 2 && host.front() == '[' && host.back() == ']') host = host.substr(1, host.size() - 2);
    if (host.empty()) host = "127.0.0.1";
    if (port.empty() || port.size() > 5 || port.find_first_not_of("0123456789") != std::string::npos ||
        std::stoul(port) > 65535)
        return failure("no address of the form HOST:PORT", address, "for example 127.0.0.1:3333");
    auto parts = std::make_unique<Parts>(true);
    auto& socket = std::get<0>(parts->end);
    error_code ec;
    asio::ip::tcp::resolver resolver(parts->context);
    const auto places = resolver.resolve(host, port, ec);
    if (ec) return failure("cannot find the host: " + ec.message(), address, "check its name");
    std::optional<error_code> done;
    asio::async_connect(socket, places, [&](const error_code& e, const asio::ip::tcp::endpoint&) { done = e; });
    const bool ended = parts->run(done, patience);
    if (!ended || *done)
        return failure("cannot connect: " + (ended ? done->message() : std::string("no answer")), address,
                       "is the server running, and is the port right?");
    socket.set_option(asio::ip::tcp::no_delay(true), ec);
    socket.set_option(asio::socket_base::receive_buffer_size(kReceiveBuffer), ec);
    return std::unique_ptr<Link>(new Link(std::move(parts), address));
}

Result<std::unique_ptr<Link>> Link::open_serial(const std::string& device, std::uint64_t baud) {
    const int fd = ::open(device.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        return failure(std::string("cannot open the serial line: ") + std::strerror(errno), device,
                       errno == EACCES ? "add yourself to the group that owns it (dialout)"
                                       : "is it plugged in, and is the name right?");
    auto parts = std::make_unique<Parts>(false);
    auto& line = std::get<1>(parts->end);
    error_code ec;
    line.assign(fd, ec);
    if (ec) return failure("cannot use the serial line: " + ec.message(), device);
    if (auto set = set_serial_rate(fd, device, baud); !set) return tl::make_unexpected(set.error());
    return std::unique_ptr<Link>(new Link(std::move(parts), device));
}

std::unique_ptr<Link> Link::over(int descriptor, std::string name) {
    auto parts = std::make_unique<Parts>(false);
    error_code ec;
    std::get<1>(parts->end).assign(descriptor, ec);
    return std::unique_ptr<Link>(new Link(std::move(parts), std::move(name)));
}

Result<std::size_t> Link::read(std::span<std::uint8_t> into, Milliseconds patience) {
    std::optional<error_code> done;
    std::size_t got = 0;
    std::visit(
        [&](auto& e) {
            e.async_read_some(asio::buffer(into.data(), into.size()), [&](const error_code& ec, std::size_t n) {
                done = ec;
                got = n;
            });
        },
        parts_->end);
    const bool ended = parts_->run(done, patience);
    if (got > 0) return got;
    if (!ended) return std::size_t{0};
    if (*done == asio::error::eof) return failure("the other end closed the connection", name_, "is it still running? Many serve one connection at a time: is another open?");
    if (*done) return failure("the connection was lost: " + done->message(), name_);
    return std::size_t{0};
}

Result<void> Link::write(std::span<const std::uint8_t> bytes, Milliseconds patience) {
    std::optional<error_code> done;
    std::visit(
        [&](auto& e) {
            asio::async_write(e, asio::buffer(bytes.data(), bytes.size()),
                              [&](const error_code& ec, std::size_t) { done = ec; });
        },
        parts_->end);
    if (!parts_->run(done, patience)) return failure("the other end takes nothing", name_);
    if (*done) return failure("the connection was lost: " + done->message(), name_);
    return {};
}

}  // namespace mt
