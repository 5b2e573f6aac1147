// Registers that a debug server serves as memory beside a core's own.
#pragma once

#include <cstdint>
#include <string>

namespace board {

class UnitSpace {
  public:
    virtual ~UnitSpace() = default;
    /// Whether registers stand at an address; then only whole words of it can be read and written.
    virtual bool holds(std::uint32_t address) const = 0;
    /// False if the access is refused.
    virtual bool read(std::uint32_t address, std::uint32_t& value) = 0;
    virtual bool write(std::uint32_t address, std::uint32_t value) = 0;
};

/// What units do wrong on request; each names a unit ("etm", "tmc", "ram-sink", …), or nothing.
struct UnitTroubles {
    std::string off;         ///< without power: its registers cannot be read
    std::string wrong_id;    ///< its identification is none
    std::string lock_stays;  ///< its lock does not open
    std::string write_lost;  ///< writes to it do not stick
    std::string asleep{};    ///< answers nothing until it is woken: the ETM by TRCPDCR.PU, others by TRCENA
};

}  // namespace board
