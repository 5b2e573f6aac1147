// Programs of a few instructions for the machines of the past, and the memory that they have.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "replay/past_memory.h"
#include "support.h"
#include "target/code.h"

namespace mt::test {

constexpr std::uint64_t kProgramBase = 0x0800'0000, kProgramRam = 0x2000'0000;

/// An image with variables, and 16 KiB of RAM. `as_loaded`: the program begins.
inline PastMemory program_memory(bool as_loaded = true) {
    static const auto image = *Image::open(data("bit-fields/fields.elf"));
    PastMemory m(*image, as_loaded);
    m.add_memory(kProgramRam, kProgramRam + 0x4000);
    return m;
}

/// Halfwords at kProgramBase, executed one after another.
class SmallProgram {
  public:
    SmallProgram(const std::vector<std::uint16_t>& halves, const std::string& isa) : bytes_(bytes_of(halves)) {
        const Image::Piece piece{kProgramBase, kProgramBase, bytes_, false};
        code = Code::of(std::span(&piece, 1), isa);
        slot = code->slot_of(kProgramBase);
    }
    bool ended() const { return slot >= code->slot_count() || (*code)[slot].flow == Flow::none; }
    template <class Machine>
    void go_on(Machine& m) {
        const std::uint32_t next = code->next(slot);
        m.execute(slot, step++, next < code->slot_count() ? next : Code::kNowhere);
        slot = next;
    }
    /// All of them, or so many.
    template <class Machine>
    void run(Machine& m, std::size_t most = 1000) {
        for (; !ended() && most > 0; --most) go_on(m);
    }
    std::shared_ptr<const Code> code;
    std::uint32_t slot = 0;
    std::uint64_t step = 0;

  private:
    static std::vector<std::uint8_t> bytes_of(const std::vector<std::uint16_t>& halves) {
        std::vector<std::uint8_t> all;
        for (const std::uint16_t h : halves)
            for (const int shift : {0, 8}) all.push_back(static_cast<std::uint8_t>(h >> shift));
        return all;
    }
    std::vector<std::uint8_t> bytes_;
};

}  // namespace mt::test
