// Variables of the functions that are on the stack: arguments, locals, what they point to. DWARF 5 (2.6, 3.3, 4.1, 6.4)
// through elfutils.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "target/data_place.h"
#include "target/frame_state.h"

namespace mt {

/// A variable, or a part of one, with its bytes as far as they are known. Plain data.
struct LocalValue {
    std::string name;      ///< "s"; of a part "[3]", "next"; of what a pointer leads to "*"
    std::string function;  ///< of a variable: whose it is
    bool argument = false;
    DataPlace place;       ///< type, size, names, bits; its address counts if `in_memory`
    bool in_memory = false;
    std::optional<unsigned> in_register;  ///< by its DWARF number: all of it, and nowhere else
    bool present = true;                  ///< false: the compiler kept it nowhere at this instruction
    std::vector<FrameWord> bytes;
    enum class Kind : std::uint8_t { single, structure, array, pointer, other } kind = Kind::other;
    std::size_t file = 0;         ///< of its type
    std::uint64_t type_at = 0;    ///< offset of its type's entry
    std::size_t dimension = 0;    ///< of an array of arrays: which one this is

    bool known() const;
    /// The newest write to it; FrameWord::kNever: none is known.
    std::uint64_t set_at() const;
    /// Up to eight bytes, little-endian.
    std::uint64_t raw() const;
    /// "-3", "TRACK", "0x20000410", "\"M31\"", "{arcsec 14, next 0x20000410}"; empty if it is not known.
    std::string text() const;
    std::string summary;  ///< of a structure or an array: its first parts
};

/// One function that is on the stack, with those that were inlined where it stands.
struct LocalFrame {
    std::string function;
    std::uint64_t pc = 0;
    std::vector<LocalValue> values;  ///< arguments first, then those of inner blocks before those of outer ones
};

/// Of one core's images. One thread at a time.
class Locals {
  public:
    /// None where nothing can be read: then there are no variables.
    explicit Locals(const std::vector<std::string>& images);
    ~Locals();
    Locals(const Locals&) = delete;
    Locals& operator=(const Locals&) = delete;

    /// Frames from the innermost on, no more than `most`, as far as they can be followed with what is known: an exception's
    /// return ends them. `pc`: of the instruction that is next.
    std::vector<LocalFrame> frames(std::uint64_t pc, const FrameState& state, std::size_t most) const;
    /// Members, elements (no more than 64), or what a pointer leads to; empty if it has none, or nobody knows where.
    std::vector<LocalValue> parts(const LocalValue& of, const FrameState& state) const;
    /// "s", "s->next", "table[3].ra", "*p": a variable of the innermost frame, or a part of one; where the way leads through a
    /// pointer, one of the program's, too: "tasks[1].sp->pc". Nothing if the first name is none of them; a Problem if it goes on to what is not there.
    std::optional<Result<LocalValue>> named(const std::string& path, std::uint64_t pc, const FrameState& state) const;

  private:
    struct Parts;
    std::unique_ptr<Parts> parts_;
};

}  // namespace mt
