#include "target/locals.h"

#include <dwarf.h>
#include <elfutils/libdw.h>

#include <algorithm>
#include <cctype>
#include <cstdlib>

#include "base/text.h"
#include "target/dwarf_file.h"
#include "target/dwarf_types.h"
#include "target/dwarf_variables.h"
#include "target/location.h"
#include "target/value_type.h"

namespace mt {

using namespace dwarf;

namespace {

constexpr int kDeepestScope = 64;
constexpr std::size_t kMostUnits = 1 << 20, kMostValues = 500, kMostParts = 64, kMostSteps = 16;
constexpr std::uint64_t kMostOfValue = 4096;

std::string name_of(Dwarf_Die* die) {
    Dwarf_Attribute attribute;
    const char* name = nullptr;
    if (dwarf_attr_integrate(die, DW_AT_name, &attribute) != nullptr) name = dwarf_formstring(&attribute);
    return name == nullptr ? std::string() : name;
}

// The entry among the children of `parent`, or below its namespaces and structures, that is a function with code at `pc`.
bool function_at(Dwarf_Die* parent, std::uint64_t pc, Dwarf_Die* found, int depth = 0) {
    Dwarf_Die child;
    if (depth > 8 || dwarf_child(parent, &child) != 0) return false;
    do {
        const int tag = dwarf_tag(&child);
        if (tag == DW_TAG_subprogram && dwarf_haspc(&child, pc) == 1) {
            *found = child;
            return true;
        }
        const bool holds = tag == DW_TAG_namespace || tag == DW_TAG_structure_type || tag == DW_TAG_class_type;
        if (holds && function_at(&child, pc, found, depth + 1)) return true;
    } while (dwarf_siblingof(&child, &child) == 0);
    return false;
}

// The entries that hold `pc`, from a function down to the innermost block.
std::vector<Dwarf_Die> scopes_at(const Dwarf_Die& function, std::uint64_t pc) {
    std::vector<Dwarf_Die> all{function};
    for (int depth = 0; depth < kDeepestScope; ++depth) {
        Dwarf_Die child;
        if (dwarf_child(&all.back(), &child) != 0) return all;
        bool deeper = false;
        do {
            const int tag = dwarf_tag(&child);
            deeper = (tag == DW_TAG_lexical_block || tag == DW_TAG_inlined_subroutine || tag == DW_TAG_try_block || tag == DW_TAG_catch_block) &&
                     dwarf_haspc(&child, pc) == 1;
            if (deeper) break;
        } while (dwarf_siblingof(&child, &child) == 0);
        if (!deeper) return all;
        all.push_back(child);
    }
    return all;
}

// Text of a value that is whole and known.
std::string value_text(const LocalValue& v) {
    const auto type = ValueType::named(v.place.type);
    if (!type) return {};
    const ValueType as = type->with(v.place.mask, v.place.shift);
    const auto name = v.place.names.find(as.field(v.raw()));
    if (name != v.place.names.end()) return name->second;
    if (v.kind == LocalValue::Kind::pointer) return hex_text(v.raw(), 8);
    return as.read(v.raw()).text();
}

}  // namespace

bool LocalValue::known() const {
    return present && !bytes.empty() && std::all_of(bytes.begin(), bytes.end(), [](const FrameWord& b) { return b.known; });
}

std::uint64_t LocalValue::set_at() const {
    std::uint64_t at = FrameWord::kNever;
    for (const FrameWord& b : bytes)
        if (b.set_at != FrameWord::kNever && (at == FrameWord::kNever || b.set_at > at)) at = b.set_at;
    return at;
}

std::uint64_t LocalValue::raw() const {
    std::uint64_t v = 0;
    for (std::size_t i = 0; i < std::min<std::size_t>(bytes.size(), 8); ++i) v |= (bytes[i].value & 0xFF) << (8 * i);
    return v;
}

std::string LocalValue::text() const {
    if (!summary.empty()) return summary;
    return known() ? value_text(*this) : std::string();
}

struct Locals::Parts {
    struct Unit {
        std::uint64_t begin, end;
        std::size_t file;
        Dwarf_Off die;
    };
    std::vector<std::unique_ptr<DwarfFile>> files;
    std::vector<Unit> units;  ///< by begin

    const Unit* unit_at(std::uint64_t pc) const {
        const auto next = std::upper_bound(units.begin(), units.end(), pc, [](std::uint64_t a, const Unit& u) { return a < u.begin; });
        std::size_t looked_at = 0;
        for (auto i = next; i != units.begin() && looked_at < 16; ++looked_at)
            if (pc < (--i)->end) return &*i;
        return nullptr;
    }
    /// How `value` is read, by its type: kind, size, names.
    void describe(LocalValue& value, Dwarf_Die* type, std::size_t file) const;
    void fill(LocalValue& value, const FrameState& state) const;
    std::optional<LocalValue> variable(Dwarf_Die* die, std::size_t file, std::uint64_t pc, LocationReader& reader, const FrameState& state) const;
    void summarise(LocalValue& value, const FrameState& state, const Locals& all, int depth) const;
    std::optional<LocalValue> program_variable(const std::string& name, const FrameState& state) const;
    bool type_of_value(const LocalValue& value, Dwarf_Die* type) const {
        return value.file < files.size() && dwarf_offdie(files[value.file]->dwarf(), value.type_at, type) != nullptr;
    }
};

Locals::Locals(const std::vector<std::string>& images) : parts_(std::make_unique<Parts>()) {
    Parts& p = *parts_;
    for (const std::string& path : images) {
        auto file = DwarfFile::open(path);
        if (!file || (*file)->dwarf() == nullptr) continue;
        p.files.push_back(std::move(*file));
        Dwarf_CU* unit = nullptr;
        Dwarf_Die die, sub;
        std::uint8_t kind = 0;
        while (p.units.size() < kMostUnits && dwarf_get_units(p.files.back()->dwarf(), unit, &unit, nullptr, &kind, &die, &sub) == 0) {
            Dwarf_Addr base = 0, begin = 0, end = 0;
            for (std::ptrdiff_t at = 0; (at = dwarf_ranges(&die, at, &base, &begin, &end)) > 0;)
                if (begin < end && p.units.size() < kMostUnits) p.units.push_back({begin, end, p.files.size() - 1, dwarf_dieoffset(&die)});
        }
    }
    std::stable_sort(p.units.begin(), p.units.end(), [](const Parts::Unit& a, const Parts::Unit& b) { return a.begin < b.begin; });
}
Locals::~Locals() = default;

void Locals::Parts::describe(LocalValue& value, Dwarf_Die* type, std::size_t file) const {
    value.file = file;
    value.type_at = dwarf_dieoffset(type);
    value.place.size = size_of(type);
    switch (dwarf_tag(type)) {
        case DW_TAG_structure_type:
        case DW_TAG_class_type:
        case DW_TAG_union_type:
            value.kind = LocalValue::Kind::structure;
            return;
        case DW_TAG_array_type:
            value.kind = LocalValue::Kind::array;
            return;
        case DW_TAG_pointer_type:
        case DW_TAG_reference_type:
        case DW_TAG_rvalue_reference_type:
            value.kind = LocalValue::Kind::pointer;
            if (value.place.type_name.empty()) {
                const std::string to = name_of_type(type);
                value.place.type_name = (to.empty() ? "void" : to) + " *";
            }
            value.place.type = type_by_size(value.place.size);
            return;
        default:
            describe_value(type, value.place);
            value.kind = value.place.type.empty() ? LocalValue::Kind::other : LocalValue::Kind::single;
    }
}

void Locals::Parts::fill(LocalValue& value, const FrameState& state) const {
    const std::uint64_t size = std::min(value.place.size, kMostOfValue);
    value.bytes.clear();
    for (std::uint64_t i = 0; value.in_memory && i < size; ++i) value.bytes.push_back(state.byte(value.place.address + i));
}

std::optional<LocalValue> Locals::Parts::variable(Dwarf_Die* die, std::size_t file, std::uint64_t pc, LocationReader& reader,
                                                  const FrameState& state) const {
    Dwarf_Die type;
    if (!type_of(die, &type)) return std::nullopt;
    LocalValue v;
    v.name = name_of(die);
    if (v.name.empty()) return std::nullopt;
    v.argument = dwarf_tag(die) == DW_TAG_formal_parameter;
    v.place.text = v.name;
    v.place.type_name = name_of_type(die);
    describe(v, &type, file);
    const std::uint64_t size = std::min(v.place.size, kMostOfValue);
    Dwarf_Attribute attribute;
    if (dwarf_attr_integrate(die, DW_AT_const_value, &attribute) != nullptr) {
        Dwarf_Word number = 0;
        Dwarf_Sword with_sign = 0;
        Dwarf_Block block;
        if (dwarf_formudata(&attribute, &number) == 0 || dwarf_formsdata(&attribute, &with_sign) == 0) {
            if (number == 0) number = static_cast<Dwarf_Word>(with_sign);
            for (std::uint64_t i = 0; i < size; ++i) v.bytes.push_back(FrameWord::of(i < 8 ? number >> (8 * i) & 0xFF : 0));
        } else if (dwarf_formblock(&attribute, &block) == 0) {
            for (std::uint64_t i = 0; i < std::min<std::uint64_t>(size, block.length); ++i) v.bytes.push_back(FrameWord::of(block.data[i]));
        }
        return v;
    }
    // What was left out here may have its place in the entry that this one stands for: a static variable.
    if (dwarf_attr_integrate(die, DW_AT_location, &attribute) == nullptr) {
        v.present = false;
        return v;
    }
    Dwarf_Op* ops = nullptr;
    std::size_t count = 0;
    if (dwarf_getlocation_addr(&attribute, pc, &ops, &count, 1) != 1 || count == 0) {
        v.present = false;
        return v;
    }
    const auto pieces = reader.read(&attribute, {ops, count});
    v.present = std::any_of(pieces.begin(), pieces.end(), [](const LocationPiece& p) { return p.in != LocationPiece::In::nowhere; });
    if (pieces.size() == 1 && pieces[0].size == 0 && pieces[0].in == LocationPiece::In::memory && pieces[0].address.known) {
        v.in_memory = true;
        v.place.address = pieces[0].address.value;
        fill(v, state);
        return v;
    }
    if (pieces.size() == 1 && pieces[0].size == 0 && pieces[0].in == LocationPiece::In::reg && v.place.size <= state.address_bytes)
        v.in_register = pieces[0].number;
    v.bytes = bytes_in(pieces, size, state);
    return v;
}

std::vector<LocalValue> Locals::parts(const LocalValue& of, const FrameState& state) const {
    std::vector<LocalValue> all;
    Dwarf_Die type;
    if (!of.present || !parts_->type_of_value(of, &type)) return all;
    // A piece of its bytes.
    const auto piece = [&](LocalValue& v, std::uint64_t from) {
        v.in_memory = of.in_memory;
        v.place.address = of.place.address + from;
        if (of.in_memory) return parts_->fill(v, state);
        for (std::uint64_t i = from; i < from + v.place.size && i < kMostOfValue; ++i)
            v.bytes.push_back(i < of.bytes.size() ? of.bytes[i] : FrameWord{});
    };
    if (of.kind == LocalValue::Kind::structure) {
        Dwarf_Die child;
        if (dwarf_child(&type, &child) != 0) return all;
        do {
            const int tag = dwarf_tag(&child);
            if (tag != DW_TAG_member && tag != DW_TAG_inheritance) continue;
            Dwarf_Die its;
            if (!type_of(&child, &its)) continue;
            LocalValue v;
            v.name = name_of(&child);
            v.place.type_name = name_of_type(&child);
            parts_->describe(v, &its, of.file);
            if (v.name.empty()) v.name = tag == DW_TAG_inheritance ? v.place.type_name : "(nameless)";
            v.place.text = v.name;
            std::uint64_t from = number_of(&child, DW_AT_data_member_location).value_or(0);
            if (const auto bits = number_of(&child, DW_AT_bit_size)) {
                DataPlace field = v.place;
                field.address = from;
                if (!take_field(field, bit_field(&child, v.place.size, *bits), of.place.size, v.name)) continue;
                from = field.address;
                v.place = field;
            }
            piece(v, from);
            all.push_back(std::move(v));
        } while (all.size() < kMostParts && dwarf_siblingof(&child, &child) == 0);
        return all;
    }
    if (of.kind == LocalValue::Kind::array) {
        const std::vector<std::uint64_t> counts = dimensions(&type);
        Dwarf_Die element;
        if (of.dimension >= counts.size() || !type_of(&type, &element)) return all;
        std::uint64_t unit = size_of(&element);
        for (std::size_t d = of.dimension + 1; d < counts.size(); ++d) unit *= counts[d];
        for (std::uint64_t i = 0; i < std::min<std::uint64_t>(counts[of.dimension], kMostParts); ++i) {
            LocalValue v;
            v.name = "[" + std::to_string(i) + "]";
            v.place.text = v.name;
            if (of.dimension + 1 < counts.size()) {
                v.kind = LocalValue::Kind::array;
                v.file = of.file;
                v.type_at = of.type_at;
                v.dimension = of.dimension + 1;
                v.place.size = unit;
            } else {
                v.place.type_name = name_of_type(&type);
                parts_->describe(v, &element, of.file);
            }
            piece(v, i * unit);
            all.push_back(std::move(v));
        }
        return all;
    }
    Dwarf_Die to;
    if (of.kind != LocalValue::Kind::pointer || !of.known() || of.raw() == 0 || !type_of(&type, &to)) return all;
    LocalValue v;
    v.name = "*";
    v.place.text = v.name;
    v.place.type_name = name_of_type(&type);
    parts_->describe(v, &to, of.file);
    v.in_memory = v.place.size > 0;
    v.place.address = of.raw();
    if (!v.in_memory) return all;
    parts_->fill(v, state);
    // What a structure holds stands right under the pointer to it.
    if (v.kind == LocalValue::Kind::structure) return parts(v, state);
    all.push_back(std::move(v));
    return all;
}

std::optional<LocalValue> Locals::Parts::program_variable(const std::string& name, const FrameState& state) const {
    for (std::size_t f = 0; f < files.size(); ++f) {
        Dwarf_Die die, type;
        LocalValue v;
        if (!StaticVariables(files[f]->dwarf()).find(name, &die, v.place.address) || !type_of(&die, &type)) continue;
        v.name = v.place.text = name;
        v.place.type_name = name_of_type(&die);
        describe(v, &type, f);
        v.in_memory = true;
        fill(v, state);
        return v;
    }
    return std::nullopt;
}

// The first parts of what has parts, in a few words.
void Locals::Parts::summarise(LocalValue& value, const FrameState& state, const Locals& all, int depth) const {
    constexpr std::size_t kLongest = 60;
    if (value.kind != LocalValue::Kind::structure && value.kind != LocalValue::Kind::array) return;
    auto parts = all.parts(value, state);
    const bool letters = value.kind == LocalValue::Kind::array && !parts.empty() && parts[0].place.size == 1 && parts[0].place.type_name == "char";
    if (letters) {
        std::string text;
        for (const LocalValue& p : parts) {
            if (!p.known() || p.raw() == 0) break;
            text.push_back(p.raw() >= 0x20 && p.raw() < 0x7F ? static_cast<char>(p.raw()) : '.');
        }
        if (parts[0].known()) value.summary = "\"" + text + "\"";
        return;
    }
    std::string text;
    for (LocalValue& p : parts) {
        if (text.size() > kLongest) {
            text += ", …";
            break;
        }
        if (depth < 2) summarise(p, state, all, depth + 1);
        const std::string inner = p.text();
        text += (text.empty() ? "" : ", ") + (value.kind == LocalValue::Kind::structure ? p.name + " " : "") + (inner.empty() ? "?" : inner);
    }
    if (!parts.empty()) value.summary = "{" + text + "}";
}

std::vector<LocalFrame> Locals::frames(std::uint64_t pc, const FrameState& state, std::size_t most) const {
    std::vector<LocalFrame> all;
    FrameState here = state;
    here.pc = pc;
    std::uint64_t at = pc;  // where it is looked up: behind a call, the call itself
    while (all.size() < most) {
        const Parts::Unit* unit = parts_->unit_at(at);
        if (unit == nullptr) break;
        const DwarfFile& file = *parts_->files[unit->file];
        Dwarf_Die die, function;
        if (dwarf_offdie(file.dwarf(), unit->die, &die) == nullptr || !function_at(&die, at, &function)) break;
        const CallFrame frame(file, at);
        const auto cfa = [&frame, &here] { return frame.cfa(here); };
        const auto base = [&]() -> FrameWord {
            Dwarf_Attribute attribute;
            Dwarf_Op* ops = nullptr;
            std::size_t count = 0;
            if (dwarf_attr_integrate(&function, DW_AT_frame_base, &attribute) == nullptr ||
                dwarf_getlocation_addr(&attribute, at, &ops, &count, 1) != 1)
                return {};
            LocationReader plain(here, nullptr, cfa);
            return plain.number({ops, count});
        };
        LocationReader reader(here, base, cfa);
        LocalFrame out;
        out.function = name_of(&function);
        out.pc = pc;
        const auto scopes = scopes_at(function, at);
        std::string whose = out.function;
        std::vector<std::pair<std::string, Dwarf_Die>> by_function;
        for (const Dwarf_Die& scope : scopes) {
            Dwarf_Die its = scope;
            if (dwarf_tag(&its) == DW_TAG_inlined_subroutine) whose = name_of(&its);
            by_function.emplace_back(whose, scope);
        }
        for (std::size_t i = by_function.size(); i-- > 0;) {
            Dwarf_Die child;
            if (dwarf_child(&by_function[i].second, &child) != 0) continue;
            do {
                const int tag = dwarf_tag(&child);
                if ((tag != DW_TAG_variable && tag != DW_TAG_formal_parameter) || out.values.size() >= kMostValues) continue;
                if (auto v = parts_->variable(&child, unit->file, at, reader, here)) {
                    v->function = by_function[i].first;
                    parts_->summarise(*v, here, *this, 0);
                    out.values.push_back(std::move(*v));
                }
            } while (dwarf_siblingof(&child, &child) == 0);
        }
        all.push_back(std::move(out));
        const auto caller = frame.caller(here, all.size() == 1);
        if (!caller) break;
        pc = caller->pc;
        at = pc - 1;
        here = caller->state;
    }
    return all;
}

std::optional<Result<LocalValue>> Locals::named(const std::string& path, std::uint64_t pc, const FrameState& state) const {
    std::size_t at = 0;
    const auto blanks = [&] {
        while (at < path.size() && path[at] == ' ') ++at;
    };
    const auto word = [&] {
        blanks();
        const std::size_t from = at;
        while (at < path.size() && (std::isalnum(static_cast<unsigned char>(path[at])) != 0 || path[at] == '_')) ++at;
        return path.substr(from, at - from);
    };
    const auto take = [&](std::string_view text) {
        blanks();
        if (path.compare(at, text.size(), text) != 0) return false;
        at += text.size();
        return true;
    };
    unsigned stars = 0;
    while (take("*")) ++stars;
    const std::string first = word();
    if (first.empty() || std::isdigit(static_cast<unsigned char>(first[0])) != 0) return std::nullopt;
    auto here = frames(pc, state, 1);
    std::vector<LocalValue> none;
    std::optional<LocalValue> v;
    for (LocalValue& local : here.empty() ? none : here[0].values)
        if (local.name == first && !v) v = std::move(local);
    // One of the program's variables, where the way leads through a pointer.
    if (!v && (stars > 0 || path.find("->") != std::string::npos)) v = parts_->program_variable(first, state);
    if (!v) return std::nullopt;
    std::string so_far = first;
    const auto wrong = [&](const std::string& what, const std::string& advice = "") -> Result<LocalValue> { return failure(what, "'" + path + "'", advice); };
    const auto not_there = [&]() -> std::string {
        return !v->present ? "'" + so_far + "' is not kept at this instruction" : "what '" + so_far + "' leads to is not known";
    };
    for (std::size_t steps = 0; steps < kMostSteps; ++steps) {
        blanks();
        if (at == path.size()) break;
        std::string wanted;
        if (take("->") || take(".")) {
            wanted = word();
        } else if (take("[")) {
            const std::string index = word();
            if (!take("]") || index.empty()) return wrong("']' or a number is missing at column " + std::to_string(at + 1));
            wanted = "[" + index + "]";
            if (v->kind == LocalValue::Kind::pointer) {  // as C takes it: an element of what it leads to
                const std::uint64_t n = std::strtoull(index.c_str(), nullptr, 0);
                auto to = parts(*v, state);
                Dwarf_Die type, element;
                if (!v->known() || to.empty() || !parts_->type_of_value(*v, &type) || !type_of(&type, &element)) return wrong(not_there());
                LocalValue e;
                e.name = wanted;
                e.place.text = path;
                e.place.type_name = name_of_type(&type);
                parts_->describe(e, &element, v->file);
                e.in_memory = true;
                e.place.address = v->raw() + n * e.place.size;
                parts_->fill(e, state);
                v = std::move(e);
                so_far += wanted;
                continue;
            }
        } else {
            return wrong("something unexpected stands at column " + std::to_string(at + 1), "write name, name.member, name->member, name[3] or *name");
        }
        auto all = parts(*v, state);
        const auto found = std::find_if(all.begin(), all.end(), [&](const LocalValue& p) { return p.name == wanted; });
        if (all.empty()) return wrong(not_there());
        if (found == all.end()) return wrong("'" + so_far + "' has no " + wanted);
        so_far += wanted;
        v = std::move(*found);
    }
    for (; stars > 0; --stars) {
        Dwarf_Die type, to;
        if (v->kind != LocalValue::Kind::pointer || !v->known() || !parts_->type_of_value(*v, &type) || !type_of(&type, &to)) return wrong(not_there());
        LocalValue e;
        e.place.type_name = name_of_type(&type);
        parts_->describe(e, &to, v->file);
        e.in_memory = true;
        e.place.address = v->raw();
        parts_->fill(e, state);
        v = std::move(e);
    }
    v->name = path;
    v->place.text = path;
    parts_->summarise(*v, state, *this, 0);
    return Result<LocalValue>(std::move(*v));
}

}  // namespace mt
