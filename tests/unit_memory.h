// The board's trace units as a target's memory, without a server in between; what is written is kept.
#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "arm_units.h"
#include "control/units/target_memory.h"
#include "rv_units.h"

namespace mt::test {

class UnitMemory : public TargetMemory {
  public:
    explicit UnitMemory(board::UnitSpace& units) : units_(units) {}
    Result<std::uint32_t> read(std::uint64_t address) override {
        std::uint32_t value = 0;
        if (refuse_reads || !units_.read(static_cast<std::uint32_t>(address), value)) return failure("refused");
        return value;
    }
    Result<void> write(std::uint64_t address, std::uint32_t value) override {
        if (++tried == refuse_write || !units_.write(static_cast<std::uint32_t>(address), value))
            return failure("the debug server refused to write");
        writes.emplace_back(static_cast<std::uint32_t>(address), value);
        return {};
    }
    std::vector<std::pair<std::uint32_t, std::uint32_t>> writes;
    std::size_t tried = 0, refuse_write = 0;  ///< the how manyth write is refused; 0: none
    bool refuse_reads = false;

  private:
    board::UnitSpace& units_;
};

}  // namespace mt::test
