#include "target/dwarf_types.h"

#include <dwarf.h>

#include <algorithm>

namespace mt::dwarf {

std::string type_by_size(std::uint64_t size) { return size == 1 ? "u8" : size == 2 ? "u16" : size == 4 ? "u32" : size == 8 ? "u64" : ""; }

std::optional<std::uint64_t> number_of(Dwarf_Die* die, unsigned name) {
    Dwarf_Attribute attribute;
    Dwarf_Word value = 0;
    if (dwarf_attr_integrate(die, name, &attribute) == nullptr || dwarf_formudata(&attribute, &value) != 0)
        return std::nullopt;
    return value;
}

bool type_of(Dwarf_Die* die, Dwarf_Die* type) {
    Dwarf_Attribute attribute;
    Dwarf_Die raw;
    return dwarf_attr_integrate(die, DW_AT_type, &attribute) != nullptr &&
           dwarf_formref_die(&attribute, &raw) != nullptr && dwarf_peel_type(&raw, type) == 0;
}

std::string name_of_type(Dwarf_Die* die) {
    Dwarf_Attribute attribute;
    Dwarf_Die raw;
    if (dwarf_attr_integrate(die, DW_AT_type, &attribute) == nullptr || dwarf_formref_die(&attribute, &raw) == nullptr)
        return {};
    const char* name = dwarf_diename(&raw);
    return name == nullptr ? std::string() : name;
}

std::vector<std::uint64_t> dimensions(Dwarf_Die* array) {
    std::vector<std::uint64_t> all;
    Dwarf_Die child;
    if (dwarf_child(array, &child) != 0) return all;
    do {
        if (dwarf_tag(&child) != DW_TAG_subrange_type) continue;
        if (const auto count = number_of(&child, DW_AT_count))
            all.push_back(*count);
        else if (const auto last = number_of(&child, DW_AT_upper_bound))
            all.push_back(*last + 1);
        else
            all.push_back(0);
    } while (all.size() < 8 && dwarf_siblingof(&child, &child) == 0);
    return all;
}

std::uint64_t size_of(Dwarf_Die* type) {
    Dwarf_Word size = 0;
    return dwarf_aggregate_size(type, &size) == 0 ? size : 0;
}

bool member_named(Dwarf_Die* type, const std::string& name, Dwarf_Die* member, std::uint64_t& offset, int depth) {
    Dwarf_Die child;
    if (depth > 8 || dwarf_child(type, &child) != 0) return false;
    do {
        const int tag = dwarf_tag(&child);
        if (tag != DW_TAG_member && tag != DW_TAG_inheritance) continue;
        const std::uint64_t at = number_of(&child, DW_AT_data_member_location).value_or(0);
        const char* called = dwarf_diename(&child);
        if (called != nullptr && name == called) {
            *member = child;
            offset += at;
            return true;
        }
        Dwarf_Die inner;
        std::uint64_t below = offset + at;
        if (called == nullptr && type_of(&child, &inner) && member_named(&inner, name, member, below, depth + 1)) {
            offset = below;
            return true;
        }
    } while (dwarf_siblingof(&child, &child) == 0);
    return false;
}

void describe_value(Dwarf_Die* type, DataPlace& out) {
    const int tag = dwarf_tag(type);
    if (tag == DW_TAG_pointer_type && (out.size == 4 || out.size == 8)) out.type = out.size == 4 ? "u32" : "u64";
    if (tag == DW_TAG_enumeration_type) {
        out.type = type_by_size(out.size);
        Dwarf_Die child;
        if (dwarf_child(type, &child) == 0) do {
                const char* name = dwarf_diename(&child);
                const auto value = number_of(&child, DW_AT_const_value);
                if (dwarf_tag(&child) == DW_TAG_enumerator && name != nullptr && value && out.names.size() < 256)
                    out.names[*value] = name;
            } while (dwarf_siblingof(&child, &child) == 0);
    }
    if (tag != DW_TAG_base_type) return;
    const std::uint64_t encoding = number_of(type, DW_AT_encoding).value_or(0);
    const std::string bits = std::to_string(out.size * 8);
    if (encoding == DW_ATE_float)
        out.type = out.size == 4 ? "f32" : out.size == 8 ? "f64" : "";
    else if (encoding == DW_ATE_boolean)
        out.type = out.size == 1 ? "bool" : "";
    else if (out.size <= 8)
        out.type = (encoding == DW_ATE_signed || encoding == DW_ATE_signed_char ? "i" : "u") + bits;
}

// DWARF 5, 5.7.6: DW_AT_data_bit_offset counts from the begin of the structure. Before version 4, DW_AT_bit_offset
// counts from the most significant bit of the storage unit, which stands at DW_AT_data_member_location.
BitField bit_field(Dwarf_Die* member, std::uint64_t size, std::uint64_t bits) {
    if (const auto from = number_of(member, DW_AT_data_bit_offset)) return {*from, bits};
    const std::uint64_t unit = 8 * number_of(member, DW_AT_byte_size).value_or(size);
    const std::uint64_t from_top = number_of(member, DW_AT_bit_offset).value_or(0);
    return {unit >= from_top + bits ? unit - from_top - bits : 0, bits};
}

// The bytes that are read for it, and which of their bits it is.
Result<void> take_field(DataPlace& out, const BitField& f, std::uint64_t holder, const std::string& text) {
    const bool is_signed = !out.type.empty() && out.type[0] == 'i';
    if (f.bits == 0 || f.bits > 32)
        return failure("'" + text + "' is a bit field of no size that can be shown", "", "name the word that holds it");
    std::uint64_t unit = std::clamp<std::uint64_t>(out.size, 1, 4), start = f.from / 8 / unit * unit;
    if (f.from - 8 * start + f.bits > 8 * unit || start + unit > holder)  // packed, not in the declared unit
        for (unit = 1, start = f.from / 8; unit < 4 && f.from % 8 + f.bits > 8 * unit;) unit *= 2;
    if (f.from - 8 * start + f.bits > 8 * unit)
        return failure("'" + text + "' is a bit field across more bytes than are read at once", "", "name its bytes");
    out.address += start;
    out.size = unit;
    out.shift = static_cast<unsigned>(f.from - 8 * start);
    out.mask = (f.bits == 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << f.bits) - 1) << out.shift;
    out.type = is_signed ? "i" + std::to_string(f.bits) : "u" + std::to_string(8 * unit);
    return {};
}

}  // namespace mt::dwarf
