// Chips put together of identification registers, for what the board has not: other cores, older buffers, tables of the
// newer kind. IHI 0029 B2.2 and B2.3 say where each stands.
#pragma once

#include <cstdint>

#include "control/units/discover.h"
#include "control/units/registers.h"
#include "unit_memory.h"

namespace mt::test {

struct Component {
    unsigned component_class = 9, part = 0;
    std::uint32_t architecture = 0, type = 0, id = 0;
    unsigned designer = 0x43B;  ///< Arm
    bool lock = false;
};

class Chip : public FakeMemory {
  public:
    void component(std::uint64_t base, const Component& c) {
        words[base + 0xFF0] = 0x0D;
        words[base + 0xFF4] = c.component_class << 4;
        words[base + 0xFF8] = 0x05;
        words[base + 0xFFC] = 0xB1;
        words[base + 0xFE0] = c.part & 0xFF;
        words[base + 0xFE4] = (c.designer & 0xF) << 4 | c.part >> 8;
        words[base + 0xFE8] = 0x8 | (c.designer >> 4 & 7);
        words[base + 0xFD0] = c.designer >> 8;
        words[base + 0xFBC] = c.architecture;
        words[base + 0xFCC] = c.type;
        words[base + 0xFC8] = c.id;
        if (c.lock) words[base + 0xFB4] = 3;
    }
    /// A table of class 1 at `base` that lists these.
    void table(std::uint64_t base, std::initializer_list<std::uint64_t> entries) {
        component(base, {1, 0x4C4});
        std::uint64_t at = base;
        for (const std::uint64_t e : entries) {
            words[at] = (static_cast<std::uint32_t>(e - base) & 0xFFFFF000) | 3;
            at += 4;
        }
    }
    /// A lock that opens to its key, and shuts with anything else.
    void lockable(std::uint64_t base) {
        words[base + 0xFB4] = 3;
        locks_.push_back(base);
    }
    Result<void> write(std::uint64_t address, std::uint32_t value) override {
        for (const std::uint64_t b : locks_)
            if (address == b + 0xFB0) words[b + 0xFB4] = value == 0xC5ACCE55 ? 1 : 3;
        return FakeMemory::write(address, value);
    }

  private:
    std::vector<std::uint64_t> locks_;
};

inline CoreSpec core_of(const std::string& isa) {
    CoreSpec c;
    c.name = "main";
    c.isa = isa;
    c.clock_hz = 64'000'000;
    return c;
}

}  // namespace mt::test
