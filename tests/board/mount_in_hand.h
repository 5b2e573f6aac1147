// The main core of the board with the mount's firmware, for tests that run, step and trace it.
#pragma once

#include <gtest/gtest.h>

#include <array>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "mount_core.h"
#include "support.h"
#include "target/core_state.h"

namespace board::test {

class TheMountsFirmware : public ::testing::Test {
  protected:
    struct Event {
        mt::OsEvent event;
        double ms;
        std::uint64_t address;
    };
    MountCore& core(MountOptions options = {}, bool bare = true) {
        options.fault_at = options.fault_at < 0 ? 1e6 : options.fault_at;
        core_ = std::make_unique<MountCore>(image, options, bare, UnitTroubles{}, [this](const mt::OsEvent& e, const mt::OsBlock& block, std::uint64_t cycle) {
            events.push_back({e, static_cast<double>(cycle) / 120'000, block.faults.empty() ? 0 : block.faults[0].address});
        });
        return *core_;
    }
    std::uint32_t address(const std::string& name) const { return static_cast<std::uint32_t>(image->symbol_named(name)->address) & ~1U; }
    std::uint32_t word(std::uint32_t at) const {
        std::array<std::uint8_t, 4> bytes{};
        EXPECT_TRUE(core_->read(at, bytes)) << std::hex << at;
        return static_cast<std::uint32_t>(bytes[0] | bytes[1] << 8 | bytes[2] << 16) | static_cast<std::uint32_t>(bytes[3]) << 24;
    }
    std::uint32_t pc() const { return core_->read_register(15); }
    void run_ms(unsigned ms) {
        for (unsigned i = 0; i < ms; ++i) (void)core_->run(120'000);
    }
    void run_to(const std::string& function) {
        core_->breakpoints = {address(function)};
        for (int i = 0; i < 4000 && !core_->run(120'000); ++i) {
        }
        ASSERT_EQ(pc(), address(function));
        core_->breakpoints.clear();
    }
    /// Instructions over the pins, without frames: both sources are called 0.
    void trace_instructions(bool return_stack, unsigned sync) {
        for (const std::uint32_t base : {0xE0041000U, 0xE0043000U, 0xE0044000U, 0xE0040000U}) put(base + 0xFB0, 0xC5ACCE55);
        put(0xE0043000, 3);
        put(0xE0044028, 2);
        put(0xE0044020, 1);
        put(0xE0040304, 0x100);
        put(0xE0041300, 0);
        put(0xE0041010, 1U << 11 | (return_stack ? 1U << 12 : 0));
        put(0xE0041034, sync);
        put(0xE0041080, 0x201);
        put(0xE0041004, 1);
    }
    /// What was executed, and its trace.
    struct Stepped {
        std::vector<std::uint32_t> pcs;
        std::vector<std::pair<std::size_t, std::uint32_t>> exceptions;  ///< behind so many instructions; the number
        std::vector<std::uint8_t> bytes;
    };
    mt::StoodPlaces stood;  ///< where it was halted meanwhile
    /// Steps until it lies in the fault; `halted_each` so many steps the debugger halts it (0: at the end alone). `before`
    /// is called before each instruction, with its number.
    template <class Before>
    Stepped stepped(unsigned halted_each, Before before) {
        Stepped all;
        unsigned idle = 0;
        for (unsigned n = 0; n < 900'000 && idle < 50; ++n) {
            const std::uint32_t at = pc(), was = core_->read_register(16) & 0x1FF;
            const std::uint64_t done = core_->instructions();
            before(all.pcs.size());
            core_->step();
            const bool executed = core_->instructions() != done;
            if (executed) all.pcs.push_back(at);
            const std::uint32_t is = core_->read_register(16) & 0x1FF;
            if (!executed || (is != was && pc() != at && word(is * 4) == (pc() | 1))) all.exceptions.emplace_back(all.pcs.size(), is);
            idle = pc() == at && is == 5 ? idle + 1 : 0;
            if (halted_each != 0 && n % halted_each == 0) {
                core_->halted();
                stood.add(pc(), false);
            }
            core_->drain(all.bytes);
        }
        EXPECT_EQ(idle, 50U) << "it came to the fault";
        core_->halted();
        core_->drain(all.bytes);
        return all;
    }
    void put(std::uint32_t at, std::uint32_t value) { EXPECT_TRUE(core_->units().write(at, value)) << std::hex << at; }

    std::shared_ptr<const mt::Image> image = mt::Image::open(MT_DEMO "/larkspur.elf").value();
    std::unique_ptr<MountCore> core_;
    std::vector<Event> events;
};

}  // namespace board::test
