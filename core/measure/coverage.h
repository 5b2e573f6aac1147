// Which code ran: instructions, branches, source lines, functions, files; exactly, from executed instructions.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "model/step_trail.h"
#include "target/code.h"
#include "target/functions.h"
#include "target/source_map.h"

namespace mt {

/// Counts of one image's code, by slot. Adding up is exact.
struct CoverCounts {
    std::vector<std::uint64_t> executions, taken, undecided;

    /// Of one stream of instructions. REQUIRES: it has been decoded to its end.
    static CoverCounts of(const StepTrail& steps);
    /// REQUIRES: of the same code.
    void add(const CoverCounts& more);
    bool empty() const { return executions.empty(); }
};

/// A branch of the object code: conditional, or in an IT block.
struct CoverBranch {
    std::uint32_t slot = 0;
    std::uint64_t executions = 0, taken = 0, undecided = 0;
    std::uint64_t not_taken() const { return executions - std::min(executions, taken + undecided); }
    bool both() const { return taken > 0 && not_taken() > 0; }
};

/// So much of something ran.
struct CoverSums {
    std::uint64_t instructions = 0, instructions_run = 0;
    std::uint64_t lines = 0, lines_run = 0;
    std::uint64_t branches = 0, branches_taken = 0, branches_not_taken = 0, branches_both = 0;
    std::uint64_t functions = 0, functions_run = 0;
    void add(const CoverSums& more);
};

struct CoverLine {
    std::uint32_t line = 0;
    /// Executions of the instruction that begins a statement of the line, the most of them. A line runs if it is more
    /// than 0.
    std::uint64_t count = 0;
    /// No instruction is left that belongs to it alone: the compiler merged it with another line, or moved it.
    bool merged = false;
    std::uint32_t branches = 0, branches_both = 0;
};

struct CoverFunction {
    std::uint32_t function = 0;  ///< of the table
    std::string name, file;      ///< file: without a leading "./"
    std::uint32_t line = 0;
    std::uint64_t address = 0;
    std::uint64_t calls = 0;  ///< executions of its first instruction
    std::uint32_t first = 0, behind = 0;  ///< its branches among `Coverage::branches`
    CoverSums sums;
};

struct CoverFile {
    std::string name;         ///< without a leading "./"
    std::uint32_t index = 0;  ///< of the source map
    std::vector<CoverLine> lines;  ///< with code, ascending
    std::vector<std::uint32_t> functions;  ///< indices
    CoverSums sums;
};

/// Immutable; any thread may read.
struct Coverage {
    std::shared_ptr<const Code> code;
    std::shared_ptr<const FunctionTable> table;
    std::shared_ptr<const SourceMap> map;
    CoverCounts counts;
    std::vector<CoverBranch> branches;      ///< by address
    std::vector<CoverFunction> functions;   ///< by address
    std::vector<CoverFile> files;           ///< by name
    CoverSums sums;                         ///< of functions and files; code of no function is not in it

    /// Lines count as run as CoverLine says; a line of several files counts in each. Functions without a size have
    /// none. Blocks: it looks at every instruction.
    static Coverage of(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> table,
                       std::shared_ptr<const SourceMap> map, CoverCounts counts);
    /// Null if the image has no such file.
    const CoverFile* file(const std::string& name) const;
};

/// One core's code with its counts, ready to be added up with those of other recordings and of other builds.
struct CoverOf {
    std::shared_ptr<const Code> code;
    std::shared_ptr<const FunctionTable> table;
    CoverCounts counts;

    bool same_code(const CoverOf& other) const;
};
/// What became of the functions of another build.
struct CoverMoved {
    std::vector<std::string> kept;     ///< byte for byte the same: their counts were added
    std::vector<std::string> changed;  ///< their counts are lost
    std::vector<std::string> gone;     ///< the newer build has none of that name
};
/// Adds the counts of an older build's functions to those of the newer one that are byte for byte the same.
CoverMoved add_older(CoverOf& newer, const CoverOf& older);

/// The name of a source file as coverage shows it: without a leading "./".
std::string cover_file_name(const std::string& name);

}  // namespace mt
