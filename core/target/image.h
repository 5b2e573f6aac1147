// The program image: what an ELF file, or one of plain bytes (Intel HEX, S-records), says about code, symbols, source
// lines and the vector table. System V ABI (ELF), Arm ABI for ELF (IHI 0044), DWARF 2 to 5 through elfutils.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "target/line_program.h"

namespace mt {

struct Symbol {
    std::uint64_t address = 0;
    std::uint64_t size = 0;  ///< 0 if the file does not say
    std::string name;        ///< demangled
    bool function = false;
    bool label = false;  ///< of hand-written code: a global name without type or size
    bool thumb = false;  ///< Arm: a function whose address says that it is Thumb code (AAELF32 5.5.3)
};

struct SourceLine {
    std::string file;
    int line = 0;
};

/// A function that the compiler put into another (DWARF 5, 3.3.8.2).
struct InlinedCall {
    std::string name;  ///< demangled
    std::string file;  ///< of the place that calls it; empty if the file does not say
    int line = 0;
    std::uint32_t parent = 0xFFFF'FFFF;  ///< index of the inlined call that holds this one; else that
    std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges;  ///< addresses [first, second)
};

/// Immutable after opening. All members may be called from any thread; `line_at` takes a lock.
class Image {
  public:
    enum class Machine : std::uint8_t { arm, arm64, riscv, other };

    /// Opens an ELF file, or one of Intel HEX or S-records, which holds bytes alone: all of them count as code, for
    /// the machine that `isa` is of. A hostile or damaged file gives a Problem or fewer symbols, never a crash.
    static Result<std::shared_ptr<const Image>> open(const std::string& path, const std::string& isa = {});
    /// Several files that stand in the target's memory together, as a boot loader and an application. The entry is
    /// the first one's. REQUIRES: at least one path.
    static Result<std::shared_ptr<const Image>> open(const std::vector<std::string>& paths,
                                                     const std::string& isa = {});
    ~Image();

    const std::string& path() const;
    /// Whether it is bytes alone, without names, lines and a machine.
    bool bare() const;
    Machine machine() const;
    std::string_view machine_name() const;
    /// What it was built for, as the target file names it: "armv7e-m", "rv32imac". Empty if the file does not say.
    const std::string& isa() const;
    /// Ascending by address; functions and data objects.
    const std::vector<Symbol>& symbols() const;
    /// The function that holds `address` (bit 0 is ignored on Arm), or nullptr.
    const Symbol* function_at(std::uint64_t address) const;
    const Symbol* symbol_named(std::string_view name) const;
    /// Source file and line of an instruction from DWARF; nullopt where there is none.
    std::optional<SourceLine> line_at(std::uint64_t address) const;
    /// From an address on stands code of some instruction set, or data: the mapping symbols of the ABIs for Arm (AAELF32
    /// 5.5.5, AAELF64 5.5.7) and RISC-V (psABI, "Mapping symbol"). By address; none in what was stripped.
    struct Mapping {
        std::uint64_t address = 0;
        char what = 'd';  ///< t: Thumb, a: Arm, x: A64 or RISC-V, d: data
    };
    const std::vector<Mapping>& mappings() const;
    /// All that DWARF's line tables tell, sequence by sequence: the numbers of files are indices into `files`, which are
    /// named as `line_at` names them. Blocks: it reads all of them.
    struct LineTables {
        std::vector<std::string> files;
        std::vector<LineSequence> sequences;
    };
    LineTables line_tables() const;
    /// The folders in which its sources were compiled, as the compiler was told (DWARF 5, 3.1.1: DW_AT_comp_dir): what
    /// names of files that are no whole paths start from. Each once.
    std::vector<std::string> source_folders() const;
    /// All inlined calls, each behind the one that holds it; none without DWARF.
    std::vector<InlinedCall> inlined_calls() const;
    /// The 32-bit little-endian word at an address that the file loads.
    std::optional<std::uint32_t> word_at(std::uint64_t address) const;
    /// What the file puts into the target's memory. Views live as long as the image.
    struct Piece {
        std::uint64_t address = 0;    ///< where the program sees it
        std::uint64_t loaded_at = 0;  ///< where the loader puts it; differs for initialised data in flash
        std::span<const std::uint8_t> bytes;
        bool writable = false;
    };
    const std::vector<Piece>& pieces() const;
    /// What holds instructions, by address: executable sections, or executable segments where there are none.
    const std::vector<Piece>& code_pieces() const;
    /// An address at which two pieces hold code, if there is one: the piece that begins first counts there.
    std::optional<std::uint64_t> overlap() const;
    /// A file that is shorter than its headers tell (System V ABI, "ELF Header" and "Sections"): what lies beyond its
    /// end is missing, and what is named there.
    struct Cut {
        std::string file;
        std::uint64_t told = 0, has = 0;  ///< bytes
    };
    const std::optional<Cut>& cut() const;
    std::uint64_t entry() const;
    /// The address of a place that a person names: a function or object ("board_init"), a source line
    /// ("main.c:41": its first instruction), or an address ("0x8000100"). A Problem says what is not there.
    Result<std::uint64_t> address_of(const std::string& place) const;
    /// True if code is loaded at `address`.
    bool is_code(std::uint64_t address) const;
    /// Where the Arm M-profile vector table most likely stands: at the start of a loaded section, a
    /// stack top followed by odd addresses of code (Armv7-M B1.5.3). nullopt if nothing looks like one.
    std::optional<std::uint64_t> vector_table() const;

  private:
    Image();
    struct Parts;
    std::unique_ptr<Parts> parts_;
};

}  // namespace mt
