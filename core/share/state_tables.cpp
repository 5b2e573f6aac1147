#include "share/state_tables.h"

#include <algorithm>

#include "base/text.h"
#include "share/tables.h"
#include "target/value_type.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostBytes = 65'536;

nlohmann::ordered_json known_json(const Known& k, unsigned digits) {
    nlohmann::ordered_json out = nlohmann::ordered_json::object();
    if (k.known) out["value"] = hex_text(k.value, digits);
    out["known"] = k.known;
    if (k.set_at != Known::kNever) out["set_at"] = k.set_at;
    return out;
}

// The bytes in the order of memory; "??" for what is not known.
std::string bytes_text(const std::vector<Known>& bytes) {
    std::string text;
    for (const Known& b : bytes) text += b.known ? hex_text(b.value, 2).substr(2) : "??";
    return text;
}

}  // namespace

Result<StateVariable> variable_in(const CoreSpec& core, const std::string& expression, const PastMemory& memory) {
    auto place = find_data(core, expression);
    if (!place) return tl::make_unexpected(place.error());
    if (place->size > kMostBytes) return failure("'" + expression + "' is larger than 64 KiB", "", "name a part of it");
    StateVariable v;
    v.name = expression;
    v.place = std::move(*place);
    if (v.place.type.empty() || v.place.size > 8) {
        for (std::uint64_t i = 0; i < v.place.size; ++i) v.bytes.push_back(memory.read(v.place.address + i, 1));
        return v;
    }
    v.bits = memory.read(v.place.address, static_cast<unsigned>(v.place.size));
    const auto type = ValueType::named(v.place.type);
    if (!v.bits.known || !type) return v;
    const ValueType as = type->with(v.place.mask, v.place.shift);
    const auto name = v.place.names.find(as.field(v.bits.value));
    v.text = name != v.place.names.end() ? name->second : as.read(v.bits.value).text();
    return v;
}

nlohmann::ordered_json state_json(const PastState& state, const std::vector<StateVariable>& variables) {
    nlohmann::ordered_json registers = nlohmann::ordered_json::object(), named = registers;
    for (const auto& [name, value] : state.registers) registers[name] = known_json(value, 8);
    for (const StateVariable& v : variables) {
        nlohmann::ordered_json row;
        if (v.bytes.empty()) {
            row = known_json(v.bits, static_cast<unsigned>(2 * v.place.size));
            if (!v.text.empty()) row["text"] = v.text;
        } else {
            Known all{0, true, Known::kNever};
            for (const Known& b : v.bytes) {
                all.known = all.known && b.known;
                if (b.set_at != Known::kNever && (all.set_at == Known::kNever || b.set_at > all.set_at)) all.set_at = b.set_at;
            }
            if (all.known) row["bytes"] = bytes_text(v.bytes);
            row["known"] = all.known;
            if (all.set_at != Known::kNever) row["set_at"] = all.set_at;
        }
        row["address"] = hex_text(v.place.address, 8);
        row["size"] = v.place.size;
        named[v.name] = std::move(row);
    }
    return {{"index", state.step},
            {"time_ns", json_ns(state.time)},
            {"pc", hex_text(state.pc, 8)},
            {"registers", std::move(registers)},
            {"variables", std::move(named)}};
}

std::string state_text(const PastState& state, const std::vector<StateVariable>& variables) {
    std::string text = "before instruction " + count_text(state.step) + ", " + moment_text(state.time) + ", at " +
                       hex_text(state.pc, 8) + "\n";
    for (std::size_t i = 0; i < state.registers.size(); ++i) {
        const auto& [name, value] = state.registers[i];
        std::string cell = name + std::string(name.size() < 5 ? 5 - name.size() : 0, ' ') + (value.known ? hex_text(value.value, 8) : "not known ");
        text += cell + ((i + 1) % 4 == 0 || i + 1 == state.registers.size() ? "\n" : "   ");
    }
    for (const StateVariable& v : variables) {
        text += v.name + ": ";
        if (!v.bytes.empty())
            text += bytes_text(v.bytes);
        else
            text += v.bits.known ? v.text : "not known";
        std::uint64_t set = v.bits.set_at;
        for (const Known& b : v.bytes)
            if (b.set_at != Known::kNever && (set == Known::kNever || b.set_at > set)) set = b.set_at;
        if (set != Known::kNever) text += ", since instruction " + count_text(set);
        text += "\n";
    }
    return text;
}

}  // namespace mt
