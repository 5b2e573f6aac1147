#include "target/dwarf_variables.h"

#include <dwarf.h>

namespace mt::dwarf {
namespace {

constexpr std::size_t kMostDies = 2'000'000, kMostNames = 4000;

}  // namespace

bool StaticVariables::place(Dwarf_Die* die, std::uint64_t& address) {
    Dwarf_Attribute attribute;
    Dwarf_Op* ops = nullptr;
    std::size_t count = 0;
    if (dwarf_attr(die, DW_AT_location, &attribute) == nullptr || dwarf_getlocation(&attribute, &ops, &count) != 0 ||
        count != 1)
        return false;
    if (ops[0].atom == DW_OP_addrx) {  // DWARF 5, 2.5.1.1: an index into .debug_addr
        Dwarf_Attribute in_table;
        Dwarf_Addr found = 0;
        if (dwarf_getlocation_attr(&attribute, &ops[0], &in_table) != 0 || dwarf_formaddr(&in_table, &found) != 0)
            return false;
        address = found;
        return true;
    }
    address = ops[0].number;
    return ops[0].atom == DW_OP_addr;
}

bool StaticVariables::look(Dwarf_Die* parent, const std::string& prefix, const std::string& name, int depth,
                     Dwarf_Die* variable, std::uint64_t& address) {
    Dwarf_Die child;
    if (depth > 12 || dwarf_child(parent, &child) != 0) return false;
    do {
        if (++seen_ > kMostDies) return false;
        const int tag = dwarf_tag(&child);
        const char* called = dwarf_diename(&child);
        if (tag == DW_TAG_variable && called != nullptr && place(&child, address)) {
            if (names_.size() < kMostNames) names_.push_back(prefix + called);
            if (name == prefix + called || name == called) {
                *variable = child;
                return true;
            }
        } else if (tag == DW_TAG_namespace || tag == DW_TAG_subprogram || tag == DW_TAG_lexical_block) {
            const std::string inner =
                tag == DW_TAG_lexical_block || called == nullptr ? prefix : prefix + called + "::";
            if (look(&child, inner, name, depth + 1, variable, address)) return true;
        }
    } while (dwarf_siblingof(&child, &child) == 0);
    return false;
}

bool StaticVariables::find(const std::string& name, Dwarf_Die* variable, std::uint64_t& address) {
    if (file_ == nullptr) return false;
    Dwarf_CU* unit = nullptr;
    Dwarf_Die die, sub;
    std::uint8_t kind = 0;
    while (dwarf_get_units(file_, unit, &unit, nullptr, &kind, &die, &sub) == 0)
        if (look(&die, "", name, 0, variable, address)) return true;
    return false;
}

}  // namespace mt::dwarf
