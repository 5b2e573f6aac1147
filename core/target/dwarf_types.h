// What DWARF says of types, read through elfutils: sizes, members, bit fields (DWARF 5, 5.1 to 5.13).
#pragma once

#include <elfutils/libdw.h>

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "target/data_place.h"

namespace mt::dwarf {

/// A number that is an attribute of an entry, or of the one that it stands for.
std::optional<std::uint64_t> number_of(Dwarf_Die* die, unsigned name);
/// The type of a variable, member or pointer, without typedefs and qualifiers.
bool type_of(Dwarf_Die* die, Dwarf_Die* type);
/// Its type as the program calls it; empty if it has no name.
std::string name_of_type(Dwarf_Die* die);
/// How many elements an array has, dimension by dimension; 0: not said.
std::vector<std::uint64_t> dimensions(Dwarf_Die* array);
/// In bytes; 0: not said.
std::uint64_t size_of(Dwarf_Die* type);
/// "u8" …; empty for what no whole number has.
std::string type_by_size(std::uint64_t size);
/// A member of that name, also of what has no name itself or is derived from; its place is added to `offset`.
bool member_named(Dwarf_Die* type, const std::string& name, Dwarf_Die* member, std::uint64_t& offset, int depth = 0);
/// How bytes of this type, `out.size` of them, are a value: type and names of an enumeration.
void describe_value(Dwarf_Die* type, DataPlace& out);

/// A member of so many bits, from the begin of what holds it.
struct BitField {
    std::uint64_t from = 0, bits = 0;
};
/// `size`: of its type, in bytes.
BitField bit_field(Dwarf_Die* member, std::uint64_t size, std::uint64_t bits);
/// The bytes that are read for it, and which of their bits it is. A Problem if these are more than four.
Result<void> take_field(DataPlace& out, const BitField& f, std::uint64_t holder, const std::string& text);

}  // namespace mt::dwarf
