#include "target/data_place.h"

#include <dwarf.h>

#include <algorithm>
#include <cctype>
#include <cstdlib>

#include "base/near_names.h"
#include "base/text.h"
#include "target/dwarf_file.h"
#include "target/dwarf_types.h"
#include "target/dwarf_variables.h"
#include "target/image.h"
#include "target/svd_registers.h"

namespace mt {
namespace {

using namespace dwarf;

constexpr std::size_t kLongest = 500;

struct Step {
    std::string member, letters;  ///< letters: in the place of an index, as registers have; or an index:
    std::uint64_t first = 0, last = 0;
};
struct Expression {
    std::string name;
    std::vector<Step> steps;
    std::string path;  ///< name and steps as they were written
    std::string cast;  ///< of a raw place
    std::uint64_t address = 0;
    std::uint64_t mask = ~std::uint64_t{0};
    unsigned shift = 0;
};

class ExpressionReader {
  public:
    explicit ExpressionReader(const std::string& text) : text_(text) {}
    Result<Expression> read();

  private:
    void skip() {
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0) ++at_;
    }
    bool take(std::string_view word) {
        skip();
        if (text_.compare(at_, word.size(), word) != 0) return false;
        at_ += word.size();
        return true;
    }
    std::string identifier() {
        skip();
        std::size_t end = at_;
        while (end < text_.size() &&
               (std::isalnum(static_cast<unsigned char>(text_[end])) != 0 || text_[end] == '_' || text_[end] == '$' ||
                (text_.compare(end, 2, "::") == 0) || (text_[end] == ':' && end > at_ && text_[end - 1] == ':')))
            ++end;
        std::string word = text_.substr(at_, end - at_);
        at_ = end;
        return word;
    }
    bool number(std::uint64_t& out) {
        skip();
        if (at_ >= text_.size() || std::isdigit(static_cast<unsigned char>(text_[at_])) == 0) return false;
        const char* from = text_.c_str() + at_;
        char* end = nullptr;
        out = std::strtoull(from, &end, 0);
        at_ += static_cast<std::size_t>(end - from);
        return true;
    }
    tl::unexpected<Problem> wrong(const std::string& what) const {
        return failure("'" + text_ + "' is no variable: " + what + " at column " + std::to_string(at_ + 1), "",
                       "write name, name.member, name[3], name[0..15], *(uint32_t*)0x20000000 or PERIPHERAL.REGISTER, "
                       "and behind it >> 4, & 0xF or both");
    }

    /// The place alone, and an opening bracket before it.
    std::optional<Problem> place(Expression& e);
    std::optional<Problem> bits(Expression& e);

    const std::string& text_;
    std::size_t at_ = 0;
};

// C takes `x >> 2 & 1` as (x >> 2) & 1, and `x & 1 >> 2` as x & (1 >> 2).
Result<Expression> ExpressionReader::read() {
    Expression e;
    if (text_.size() > kLongest) return failure("a variable's name is too long");
    const bool bracket = take("(");
    if (auto wrong = place(e)) return tl::make_unexpected(*wrong);
    if (bracket) {
        if (auto wrong = bits(e)) return tl::make_unexpected(*wrong);
        if (!take(")")) return wrong("')' is missing");
    }
    if (auto wrong = bits(e)) return tl::make_unexpected(*wrong);
    skip();
    if (at_ != text_.size()) return wrong("something unexpected stands");
    if (e.mask == 0) return wrong("no bit is left, which is seen");
    return e;
}

// ">> 4", "& 0xF", or one behind the other.
std::optional<Problem> ExpressionReader::bits(Expression& e) {
    for (;;) {
        std::uint64_t n = 0;
        if (take(">>")) {
            if (!number(n) || n > 63) return wrong("a shift from 0 to 63 is missing").value();
            e.shift = static_cast<unsigned>(std::min<std::uint64_t>(e.shift + n, 63));
            e.mask &= ~std::uint64_t{0} << e.shift;
        } else if (take("&")) {
            if (!number(n)) return wrong("a mask is missing").value();
            for (std::uint64_t by = 0; take(">>");)
                n = number(by) && by < 64 ? n >> by : 0;
            e.mask &= n << e.shift;
        } else {
            return std::nullopt;
        }
    }
}

std::optional<Problem> ExpressionReader::place(Expression& e) {
    const auto wrong = [this](const std::string& what) { return this->wrong(what).value(); };
    if (take("*")) {
        if (!take("(")) return wrong("a type in brackets is missing");
        for (;;) {
            const std::string word = identifier();
            if (word.empty()) break;
            e.cast += (e.cast.empty() ? "" : " ") + word;
        }
        if (e.cast.empty() || !take("*") || !take(")")) return wrong("a type like (uint32_t*) is missing");
        if (!number(e.address)) return wrong("an address is missing");
    } else {
        const std::size_t from = at_;
        e.name = identifier();
        if (e.name.empty() || std::isdigit(static_cast<unsigned char>(e.name[0])) != 0)
            return wrong("a name is missing");
        while (true) {
            Step step;
            if (take("->")) return wrong("a pointer cannot be followed, for where it leads changes,");
            if (take(".")) {
                step.member = identifier();
                if (step.member.empty()) return wrong("a member's name is missing");
            } else if (take("[")) {
                if (!number(step.first) && (step.letters = identifier()).empty()) return wrong("an index is missing");
                step.last = step.first;
                if (take("..") && !number(step.last)) return wrong("the last index is missing");
                if (!take("]")) return wrong("']' is missing");
                if (step.last < step.first) return wrong("the last index is below the first");
            } else {
                break;
            }
            e.steps.push_back(step);
        }
        e.path = text_.substr(from, at_ - from);
    }
    return std::nullopt;
}

struct NamedType {
    const char* name;
    const char* type;
};
constexpr NamedType kTypesOfC[] = {{"uint8_t", "u8"},
                                   {"int8_t", "i8"},
                                   {"uint16_t", "u16"},
                                   {"int16_t", "i16"},
                                   {"uint32_t", "u32"},
                                   {"int32_t", "i32"},
                                   {"uint64_t", "u64"},
                                   {"int64_t", "i64"},
                                   {"float", "f32"},
                                   {"double", "f64"},
                                   {"bool", "bool"},
                                   {"_Bool", "bool"},
                                   {"char", "u8"},
                                   {"unsigned char", "u8"},
                                   {"signed char", "i8"},
                                   {"short", "i16"},
                                   {"unsigned short", "u16"},
                                   {"int", "i32"},
                                   {"unsigned", "u32"},
                                   {"unsigned int", "u32"},
                                   {"long", "i32"},
                                   {"unsigned long", "u32"},
                                   {"u8", "u8"},
                                   {"i8", "i8"},
                                   {"u16", "u16"},
                                   {"i16", "i16"},
                                   {"u32", "u32"},
                                   {"i32", "i32"},
                                   {"f32", "f32"}};

std::uint64_t bytes_of_type(const std::string& type) {
    if (type == "bool" || type == "u8" || type == "i8") return 1;
    if (type == "u64" || type == "i64" || type == "f64") return 8;
    return type == "u16" || type == "i16" ? 2 : 4;
}

Result<DataPlace> walk(const Expression& e, Dwarf_Die variable, std::uint64_t address, const std::string& text) {
    DataPlace out;
    out.text = text;
    out.address = address;
    Dwarf_Die type;
    if (!type_of(&variable, &type)) return failure("the image does not say the type of '" + e.name + "'");
    out.type_name = name_of_type(&variable);
    out.size = size_of(&type);
    std::vector<std::uint64_t> counts;  // of the array that `type` is, if it is one
    std::size_t dimension = 0;
    bool several = false;
    std::optional<BitField> field;  // what the last member is
    std::uint64_t holder = 0;       // bytes of what it stands in
    const auto enter = [&](Dwarf_Die* into) {
        counts.clear();
        dimension = 0;
        if (dwarf_tag(into) == DW_TAG_array_type) counts = dimensions(into);
    };
    enter(&type);
    std::string so_far = e.name;
    for (const Step& step : e.steps) {
        if (field) return failure("'" + so_far + "' is a bit field: nothing stands in it");
        if (!step.letters.empty()) return failure("'" + step.letters + "' is no index of '" + so_far + "'");
        if (several)
            return failure("'" + text + "' goes on behind several elements", "", "name one element there, as [0]");
        if (!step.member.empty()) {
            const int tag = dwarf_tag(&type);
            if (tag != DW_TAG_structure_type && tag != DW_TAG_union_type && tag != DW_TAG_class_type)
                return failure("'" + so_far + "' has no members", "", "leave ." + step.member + " out");
            Dwarf_Die member;
            std::uint64_t offset = 0;
            if (!member_named(&type, step.member, &member, offset))
                return failure("'" + so_far + "' has no member '" + step.member + "'");
            out.address += offset;
            holder = size_of(&type);
            if (!type_of(&member, &type)) return failure("the image does not say the type of '" + step.member + "'");
            out.type_name = name_of_type(&member);
            out.size = size_of(&type);
            enter(&type);
            so_far += "." + step.member;
            if (const auto bits = number_of(&member, DW_AT_bit_size)) field = bit_field(&member, out.size, *bits);
            continue;
        }
        if (dimension >= counts.size()) return failure("'" + so_far + "' is no array", "", "leave the index out");
        if (counts[dimension] != 0 && step.last >= counts[dimension])
            return failure("'" + so_far + "' has " + std::to_string(counts[dimension]) + " elements, not " +
                               std::to_string(step.last + 1),
                           "", "indices go from 0");
        Dwarf_Die element;
        if (!type_of(&type, &element))
            return failure("the image does not say the type of the elements of '" + e.name + "'");
        std::uint64_t unit = size_of(&element);
        for (std::size_t d = dimension + 1; d < counts.size(); ++d) unit *= counts[d];
        out.address += step.first * unit;
        out.size = unit * (step.last - step.first + 1);
        out.type_name = name_of_type(&type);
        several = step.last != step.first;
        so_far += "[" + std::to_string(step.first) + "]";
        if (++dimension >= counts.size()) {
            type = element;
            if (!several) enter(&type);
        }
    }
    if (!several && dwarf_tag(&type) != DW_TAG_array_type) describe_value(&type, out);
    if (field)
        if (const auto done = take_field(out, *field, holder, text); !done) return tl::make_unexpected(done.error());
    if (out.size == 0) return failure("the image does not say how large '" + text + "' is");
    return out;
}

}  // namespace

namespace {

// A register of the SVD file, or a field of one; nothing if it has none of that name.
std::optional<DataPlace> in_registers(const std::string& svd, const std::string& expression, std::string path) {
    const auto peripherals = kept_svd_registers(svd);
    if (peripherals == nullptr) return std::nullopt;
    path.erase(std::remove_if(path.begin(), path.end(), [](unsigned char c) { return std::isspace(c) != 0; }), path.end());
    DataPlace out;
    out.text = expression;
    for (const SvdPeripheral& p : *peripherals)
        for (const SvdRegister& r : p.registers) {
            const std::string name = p.name + "." + r.name;
            if (!path.starts_with(name)) continue;
            out.address = r.address;
            out.size = r.bytes;
            out.type = type_by_size(r.bytes);
            if (path == name) return out;
            for (const SvdField& f : r.fields)
                if (path == name + "." + f.name) {
                    out.shift = f.lsb;
                    out.mask = (f.width < 64 ? (std::uint64_t{1} << f.width) - 1 : ~std::uint64_t{0}) << f.lsb;
                    out.names = f.names;
                    return out;
                }
        }
    return std::nullopt;
}

Result<DataPlace> place_of(const CoreSpec& core, const std::string& expression, const Expression& e) {
    DataPlace raw;
    raw.text = expression;
    if (!e.cast.empty()) {
        for (const NamedType& known : kTypesOfC)
            if (e.cast == known.name) raw.type = known.type;
        if (raw.type.empty())
            return failure("'" + e.cast + "' is no type that is known here", "", "write uint32_t, int16_t, float, …");
        raw.address = e.address;
        raw.size = bytes_of_type(raw.type);
        raw.type_name = e.cast;
        return raw;
    }
    if (!core.svd.empty() && !e.steps.empty() && !e.steps[0].member.empty())
        if (auto found = in_registers(core.svd, expression, e.path)) return *found;
    const std::vector<std::string> files = core.images();
    if (files.empty())
        return failure("'" + expression + "' needs the image of core '" + core.name + "'", "",
                       "give 'image' in the target file, or an address: *(uint32_t*)0x20000000");
    std::vector<std::string> names;
    for (const std::string& file : files) {
        const auto open = DwarfFile::open(file);
        StaticVariables variables(open ? (*open)->dwarf() : nullptr);
        Dwarf_Die die;
        std::uint64_t address = 0;
        if (variables.find(e.name, &die, address)) return walk(e, die, address, expression);
        names.insert(names.end(), variables.names().begin(), variables.names().end());
    }
    const auto image = Image::open(files, core.isa);
    if (!image) return tl::make_unexpected(image.error());
    if (const Symbol* symbol = (*image)->symbol_named(e.name); symbol != nullptr && !symbol->function) {
        if (!e.steps.empty())
            return failure("the image says no type for '" + e.name + "'", (*image)->path(),
                           "build it with -g, or name an address: *(uint32_t*)" + hex_text(symbol->address));
        raw.address = symbol->address;
        raw.size = symbol->size;
        raw.type = type_by_size(symbol->size);
        if (raw.size != 0) return raw;
        return failure("the image does not say how large '" + e.name + "' is", (*image)->path(),
                       "name a type: *(uint32_t*)" + hex_text(symbol->address));
    }
    return failure("the image has no variable '" + e.name + "'", (*image)->path(),
                   near_names_text(e.name, names, "variables of fixed place can be named"));
}

}  // namespace

Result<DataPlace> find_data(const CoreSpec& core, const std::string& expression) {
    const auto parsed = ExpressionReader(expression).read();
    if (!parsed) return tl::make_unexpected(parsed.error());
    auto place = place_of(core, expression, *parsed);
    if (!place || (parsed->shift == 0 && parsed->mask == ~std::uint64_t{0})) return place;
    if (place->type.empty() || place->type[0] == 'f')
        return failure("'" + expression + "' takes bits of what is no whole number", "", "leave & and >> out");
    // Bits of bits: the field's own place comes first.
    place->mask &= parsed->mask << place->shift;
    place->shift = std::min(63U, place->shift + parsed->shift);
    place->names.clear();
    if (place->type[0] == 'i') place->type[0] = 'u';
    return place;
}

}  // namespace mt
