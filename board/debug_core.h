// A processor core of the board as a debugger sees it: registers, memory, stops.
#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <tuple>
#include <vector>

namespace board {

/// Why a core stopped by itself.
struct Stop {
    enum class Why { breakpoint, watchpoint, interrupted } why = Why::breakpoint;
    std::uint32_t address = 0;  ///< of the access that hit a watchpoint
    char kind = 'w';            ///< w(rite), r(ead), a(ccess): the watchpoint's own type
};

class DebugCore {
  public:
    struct Watch {
        std::uint32_t address, length;
        char kind;
        bool operator<(const Watch& o) const {
            return std::tie(address, length, kind) < std::tie(o.address, o.length, o.kind);
        }
    };
    virtual ~DebugCore() = default;

    virtual std::string name() const = 0;
    virtual std::string target_xml() const = 0;
    virtual std::size_t registers() const = 0;
    virtual std::uint32_t read_register(std::size_t n) const = 0;
    virtual void write_register(std::size_t n, std::uint32_t value) = 0;
    /// False if any byte of the range is no memory.
    virtual bool read(std::uint32_t address, std::span<std::uint8_t> into) = 0;
    virtual bool write(std::uint32_t address, std::span<const std::uint8_t> bytes) = 0;
    virtual void reset() = 0;
    virtual std::uint64_t clock_hz() const = 0;
    /// Runs for so many cycles, or until something stops it.
    virtual std::optional<Stop> run(std::uint64_t cycles) = 0;
    virtual void step() = 0;
    /// A debugger has halted it, or it has made its step: its trace is told up to here.
    virtual void halted() {}
    /// Moves the trace bytes since the last call to the end of `out`.
    virtual void drain(std::vector<std::uint8_t>& out) = 0;

    std::set<std::uint32_t> breakpoints;
    std::set<Watch> watches;
};

}  // namespace board
