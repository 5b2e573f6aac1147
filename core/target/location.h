// Where a variable is at one instruction: location descriptions of DWARF 5 (2.5, 2.6), worked out with what is known.
#pragma once

#include <elfutils/libdw.h>

#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include "target/frame_state.h"

namespace mt::dwarf {

/// Some bytes of a variable, in one place.
struct LocationPiece {
    enum class In : std::uint8_t { memory, reg, value, nowhere } in = In::nowhere;
    FrameWord address;                  ///< of memory
    unsigned number = 0;                ///< of the register
    std::vector<FrameWord> bytes;       ///< of a value, as far as it goes: what is behind is not known
    std::uint64_t size = 0;             ///< in bytes; 0: all of it
};

/// Evaluates expressions. They may be hostile: no more than some thousand operations are done.
class LocationReader {
  public:
    /// `attribute`: the expression's, for operands that stand elsewhere; may be null. `frame_base`: of the function;
    /// `cfa`: the canonical frame address (DWARF 5, 6.4).
    LocationReader(const FrameState& state, std::function<FrameWord()> frame_base, std::function<FrameWord()> cfa)
        : state_(state), frame_base_(std::move(frame_base)), cfa_(std::move(cfa)) {}

    /// Where it is; nothing if the expression makes no sense.
    std::vector<LocationPiece> read(Dwarf_Attribute* attribute, std::span<const Dwarf_Op> ops);
    /// The number that an expression leaves: an address, as a frame's rules use it (`began` lies on the stack).
    FrameWord number(std::span<const Dwarf_Op> ops, const FrameWord* began = nullptr);

  private:
    bool step(Dwarf_Attribute* attribute, std::span<const Dwarf_Op> ops, std::size_t& at);
    FrameWord pop();
    FrameWord memory(const FrameWord& address, unsigned bytes) const;
    void finish_piece(std::uint64_t size);

    const FrameState& state_;
    std::function<FrameWord()> frame_base_, cfa_;
    std::vector<FrameWord> stack_;
    LocationPiece simple_;  ///< what the operations since the last piece describe
    bool described_ = false;
    std::vector<LocationPiece> pieces_;
};

/// The bytes of what lies in these places, `size` of them.
std::vector<FrameWord> bytes_in(const std::vector<LocationPiece>& pieces, std::uint64_t size, const FrameState& state);

}  // namespace mt::dwarf
