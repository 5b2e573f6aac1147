// The line number program of an image: which rows of source lines its compiler wrote down, sequence by sequence
// (DWARF 5, 6.2; versions 2 to 5). Names of files are others' business.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

namespace mt {

struct LineRow {
    std::uint64_t address = 0;
    std::uint32_t file = 0;  ///< as the program's header numbers them
    std::uint32_t line = 0;  ///< 0: no line
    bool begins = false;     ///< is_stmt: a statement begins here
};
/// Rows of ascending addresses; the last one ends it and is none itself.
struct LineSequence {
    std::vector<LineRow> rows;
    std::uint64_t end = 0;  ///< address behind the last instruction
};

/// The program that begins at `offset` of the section. What is damaged ends it: what came before is given, and never
/// more than `most` rows.
std::vector<LineSequence> read_line_program(std::span<const std::uint8_t> section, std::uint64_t offset,
                                            std::size_t most = 50'000'000);

}  // namespace mt
