// Which functions the compiler put into others: levels of the call stack without a call.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "target/code.h"
#include "target/process_image.h"

namespace mt {

/// One place where a function was put into another (DWARF 5, 3.3.8.2: inlined subroutines).
struct Inlined {
    std::string name;
    std::string file;  ///< where it is called, as the image names it; empty if not told
    int line = 0;
    std::uint32_t parent = 0xFFFF'FFFF;  ///< the inlined function that holds it; kNone: an ordinary one
    std::uint16_t depth = 1;             ///< 1: directly in an ordinary function
    std::uint32_t entry = 0;             ///< slot of its lowest instruction
};

/// Immutable; any thread may read.
class InlineTable {
  public:
    static constexpr std::uint32_t kNone = 0xFFFF'FFFF;

    /// Empty where the image has no DWARF.
    static std::shared_ptr<const InlineTable> of(const Image& image, const Code& code, std::span<const ProcessImage> processes = {});

    /// The innermost inlined function that the instruction in `slot` belongs to; kNone if it belongs to none.
    std::uint32_t at(std::uint32_t slot) const { return slot < of_slot_.size() ? of_slot_[slot] : kNone; }
    const Inlined& operator[](std::uint32_t i) const { return inlined_[i]; }
    std::uint32_t size() const { return static_cast<std::uint32_t>(inlined_.size()); }
    /// Names at an instruction, the outermost first; empty where nothing is inlined.
    std::vector<std::string> names_at(std::uint32_t slot) const;

  private:
    void add_image(const Image& image, const Code& code, const std::function<std::uint32_t(std::uint64_t)>& slot_of);

    std::vector<Inlined> inlined_;
    std::vector<std::uint32_t> of_slot_;  ///< empty if nothing is inlined anywhere
};

}  // namespace mt
