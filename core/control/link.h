// A two-way line of bytes to something outside: a TCP connection or a serial line.
#pragma once

#include <chrono>
#include <cstdint>
#include <memory>
#include <span>
#include <string>

#include "base/problem.h"

namespace mt {

/// One thread at a time. Whoever is at the other end is not trusted: nothing here allocates by what it says.
class Link {
  public:
    using Milliseconds = std::chrono::milliseconds;

    /// "HOST:PORT", "[ADDRESS]:PORT" for IPv6, or ":PORT" for this machine. Waits at most `patience`.
    static Result<std::unique_ptr<Link>> connect_tcp(const std::string& address, Milliseconds patience);
    /// A serial line: 8 data bits, no parity, one stop bit, no flow control, any rate the hardware can do.
    static Result<std::unique_ptr<Link>> open_serial(const std::string& device, std::uint64_t baud);
    /// Over a file descriptor that is open already (one end of a socket pair); it is closed with the link.
    static std::unique_ptr<Link> over(int descriptor, std::string name);
    ~Link();

    /// Reads what has come, at least one byte; 0 if nothing came within `patience`. The end of the
    /// connection is a Problem.
    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience);
    /// Writes everything within `patience`, or gives a Problem.
    Result<void> write(std::span<const std::uint8_t> bytes, Milliseconds patience);
    Result<void> write(const std::string& text, Milliseconds patience) {
        return write({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, patience);
    }
    const std::string& name() const { return name_; }

  private:
    struct Parts;
    Link(std::unique_ptr<Parts> parts, std::string name);
    std::unique_ptr<Parts> parts_;
    std::string name_;
};

}  // namespace mt
