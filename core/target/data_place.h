// Where a variable stands that a person names as in C, and of which type it is. DWARF 5 (2.5, 4.1, 5.1 to 5.7) through
// elfutils.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "base/problem.h"
#include "target/target_file.h"

namespace mt {

/// A piece of memory of fixed place. Plain data.
struct DataPlace {
    std::string text;  ///< as it was asked for
    std::uint64_t address = 0, size = 0;
    std::string type;                            ///< "i16", "f32", "bool" …; empty if it is no single value
    std::string type_name;                       ///< as the program calls it; empty if that is not known
    std::map<std::uint64_t, std::string> names;  ///< of an enumeration
    std::uint64_t mask = ~std::uint64_t{0};      ///< of a part of its bits: value = (bits & mask) >> shift
    unsigned shift = 0;
};

/// `expression`: a variable ("axis_error"), a member ("guide.state"), an element or several ("table[3]",
/// "table[0..15]"), any row of those, a raw place ("*(uint32_t*)0x40020414"), or a register of the core's CMSIS-SVD file
/// or a field of one ("GPIOB.IDR", "GPIOB.IDR.LIMIT"); behind it `>> 4`, `& 0xF` or both, as C takes them. Pointers
/// cannot be followed: where they lead changes. A name without DWARF is looked for among the symbols; then its type is
/// told by its size alone. A Problem says what is not there, with names that are near, or what is wrong at which column.
Result<DataPlace> find_data(const CoreSpec& core, const std::string& expression);

}  // namespace mt
