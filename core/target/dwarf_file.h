// A file with DWARF, open for its variables and its call frames (DWARF 5, 6.4).
#pragma once

#include <elfutils/libdw.h>
#include <libelf.h>

#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/problem.h"
#include "target/frame_state.h"

namespace mt::dwarf {

/// Zeros behind a file's bytes: a damaged string in it that never ends must end somewhere (libdw 0.188 looks for its end).
inline constexpr std::size_t kZerosBehind = 64;
/// A whole file and kZerosBehind zeros; a Problem if it is no regular file, or larger than 4 GiB.
Result<std::vector<char>> image_bytes(const std::string& file);

/// Reads it whole: it may be written anew meanwhile.
class DwarfFile {
  public:
    static Result<std::unique_ptr<DwarfFile>> open(const std::string& path);
    ~DwarfFile();
    DwarfFile(const DwarfFile&) = delete;
    DwarfFile& operator=(const DwarfFile&) = delete;
    /// nullptr: it has none.
    Dwarf* dwarf() const { return dwarf_; }
    Elf* elf() const { return elf_; }
    unsigned machine() const { return machine_; }
    /// What it loads at [address, address + count); fewer bytes where it loads less.
    std::span<const std::uint8_t> loaded(std::uint64_t address, std::size_t count) const;

  private:
    DwarfFile() = default;
    std::vector<char> bytes_;
    Elf* elf_ = nullptr;
    Dwarf* dwarf_ = nullptr;
    unsigned machine_ = 0;
};

/// How a function's frame lies on the stack while it stands at one address.
class CallFrame {
  public:
    CallFrame(const DwarfFile& file, std::uint64_t pc);
    ~CallFrame();
    CallFrame(const CallFrame&) = delete;
    CallFrame& operator=(const CallFrame&) = delete;

    /// The canonical frame address.
    FrameWord cfa(const FrameState& state) const;
    struct Caller {
        std::uint64_t pc = 0;  ///< behind the call
        FrameState state;
    };
    /// What called it, with its registers; nothing if nobody knows, or if an exception entered it. `innermost`: it has called
    /// nobody yet.
    std::optional<Caller> caller(const FrameState& state, bool innermost) const;

  private:
    bool behind_call(std::uint64_t address, Isa isa) const;
    FrameWord recovered(const FrameState& state, unsigned number, bool innermost) const;

    const DwarfFile& file_;
    Dwarf_Frame* frame_ = nullptr;
    int return_register_ = -1;
};

}  // namespace mt::dwarf
