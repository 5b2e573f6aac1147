#include "share/state_tables.h"

#include <algorithm>

#include "base/text.h"
#include "share/tables.h"
#include "target/value_type.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostBytes = 65'536;

nlohmann::ordered_json known_json(const Known& k, int digits) {
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

nlohmann::ordered_json frames_json(const std::vector<LocalFrame>& frames) {
    auto all = nlohmann::ordered_json::array();
    for (const LocalFrame& f : frames) {
        auto values = nlohmann::ordered_json::array();
        for (const LocalValue& v : f.values) {
            nlohmann::ordered_json row = {{"name", v.name}, {"function", v.function}, {"argument", v.argument}, {"type", v.place.type_name}};
            row["known"] = v.known();
            if (v.known() && v.bytes.size() <= 8) row["value"] = hex_text(v.raw(), static_cast<int>(2 * v.bytes.size()));
            if (const std::string text = v.text(); !text.empty()) row["text"] = text;
            if (v.set_at() != FrameWord::kNever) row["set_at"] = v.set_at();
            if (v.in_memory)
                row["address"] = hex_text(v.place.address, 8);
            else
                row["held_in"] = !v.present ? "nothing" : v.in_register ? "register" : "several";
            values.push_back(std::move(row));
        }
        all.push_back({{"function", f.function}, {"pc", hex_text(f.pc, 8)}, {"variables", std::move(values)}});
    }
    return all;
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

StateVariable variable_of(const LocalValue& local) {
    StateVariable v;
    v.name = local.name;
    v.place = local.place;
    if (!local.in_memory) v.held_in = !local.present ? "nothing" : local.in_register ? "register" : "several";
    const auto known = [](const FrameWord& w) {
        Known k(w);
        if (!w.known) k.value = 0;
        return k;
    };
    if (local.kind != LocalValue::Kind::single && local.kind != LocalValue::Kind::pointer) {
        for (const FrameWord& b : local.bytes) v.bytes.push_back(known(b));
        v.text = local.text();
        if (!v.bytes.empty()) return v;
    }
    v.bits = known({local.known() ? local.raw() : 0, local.known(), local.set_at()});
    v.text = local.text();
    return v;
}

nlohmann::ordered_json state_json(const PastState& state, const std::vector<StateVariable>& variables,
                                  const std::vector<LocalFrame>* frames) {
    nlohmann::ordered_json registers = nlohmann::ordered_json::object(), named = registers;
    for (const auto& [name, value] : state.registers) registers[name] = known_json(value, 8);
    for (const StateVariable& v : variables) {
        nlohmann::ordered_json row;
        if (v.bytes.empty()) {
            row = known_json(v.bits, static_cast<int>(2 * v.place.size));
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
        if (v.held_in.empty())
            row["address"] = hex_text(v.place.address, 8);
        else
            row["held_in"] = v.held_in;
        row["size"] = v.place.size;
        named[v.name] = std::move(row);
    }
    nlohmann::ordered_json all = {{"index", state.step},
                                  {"time_ns", json_ns(state.time)},
                                  {"pc", hex_text(state.pc, 8)},
                                  {"registers", std::move(registers)},
                                  {"variables", std::move(named)}};
    if (state.flags) {
        const auto flag = [&](unsigned which) -> nlohmann::ordered_json {
            const auto is = state.flags->get(which);
            return is ? nlohmann::ordered_json(*is) : nlohmann::ordered_json();
        };
        all["flags"] = {{"n", flag(ConditionFlags::kN)}, {"z", flag(ConditionFlags::kZ)}, {"c", flag(ConditionFlags::kC)}, {"v", flag(ConditionFlags::kV)}};
    }
    if (frames != nullptr) all["frames"] = frames_json(*frames);
    return all;
}

std::string state_text(const PastState& state, const std::vector<StateVariable>& variables,
                       const std::vector<LocalFrame>* frames) {
    std::string text = "before instruction " + count_text(state.step) + ", " + moment_text(state.time) + ", at " +
                       hex_text(state.pc, 8) + "\n";
    std::uint64_t greatest = 0;
    for (const auto& [name, value] : state.registers) greatest = std::max(greatest, value.known ? value.value : 0);
    const int digits = greatest > 0xFFFF'FFFF ? 16 : 8;  // all as wide as the widest, so that they stand in columns
    for (std::size_t i = 0; i < state.registers.size(); ++i) {
        const auto& [name, value] = state.registers[i];
        std::string cell = name + std::string(name.size() < 5 ? 5 - name.size() : 0, ' ') + (value.known ? hex_text(value.value, digits) : "not known " + std::string(static_cast<std::size_t>(digits - 8), ' '));
        text += cell + ((i + 1) % 4 == 0 || i + 1 == state.registers.size() ? "\n" : "   ");
    }
    if (state.flags) text += "flags " + flags_text(*state.flags) + "\n";
    for (const StateVariable& v : variables) {
        text += v.name + ": ";
        if (!v.text.empty())
            text += v.text;
        else
            text += v.bytes.empty() ? "not known" : bytes_text(v.bytes);
        std::uint64_t set = v.bits.set_at;
        for (const Known& b : v.bytes)
            if (b.set_at != Known::kNever && (set == Known::kNever || b.set_at > set)) set = b.set_at;
        if (set != Known::kNever) text += ", since instruction " + count_text(set);
        text += "\n";
    }
    for (std::size_t i = 0; frames != nullptr && i < frames->size(); ++i) {
        const LocalFrame& f = (*frames)[i];
        text += (i == 0 ? "in " : "called by ") + f.function + " at " + hex_text(f.pc, 8) + "\n";
        for (const LocalValue& v : f.values) {
            const std::string value = v.text();
            text += "  " + (v.function == f.function ? "" : v.function + " (inlined): ") + v.name + " = " +
                    (!v.present ? "not kept here" : value.empty() ? "not known" : value);
            if (v.set_at() != FrameWord::kNever) text += ", since instruction " + count_text(v.set_at());
            text += "\n";
        }
    }
    return text;
}

}  // namespace mt
