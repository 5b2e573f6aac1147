#include "judge/fault_values.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cstdlib>

#include "base/text.h"
#include "replay/past_state.h"
#include "replay/step_window.h"
#include "target/disassembly.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostBefore = 4'000'000;  ///< instructions that are executed again

// "a0" is x10 (RISC-V psABI, "Integer Register Convention"); others keep their names.
std::string register_named(std::string_view name) {
    constexpr std::array<std::string_view, 32> kAbi = {"zero", "ra", "sp", "gp", "tp",  "t0",  "t1", "t2", "s0", "s1", "a0",
                                                       "a1",   "a2", "a3", "a4", "a5",  "a6",  "a7", "s2", "s3", "s4", "s5",
                                                       "s6",   "s7", "s8", "s9", "s10", "s11", "t3", "t4", "t5", "t6"};
    const auto found = std::find(kAbi.begin(), kAbi.end(), name);
    if (found != kAbi.end() && name != "sp") return "x" + std::to_string(found - kAbi.begin());
    return std::string(name);
}

std::string_view trimmed(std::string_view s) {
    while (!s.empty() && (s.front() == ' ' || s.front() == '\t')) s.remove_prefix(1);
    while (!s.empty() && (s.back() == ' ' || s.back() == '\t')) s.remove_suffix(1);
    return s;
}

std::optional<std::int64_t> number_of(std::string_view s) {
    s = trimmed(s);
    if (!s.empty() && s.front() == '#') s.remove_prefix(1);
    if (s.empty()) return std::nullopt;
    const std::string text(s);
    char* end = nullptr;
    const long long v = std::strtoll(text.c_str(), &end, 0);
    return *end == 0 ? std::optional<std::int64_t>(v) : std::nullopt;
}

bool is_register(std::string_view s) {
    return !s.empty() && s.front() >= 'a' && s.front() <= 'z' &&
           std::all_of(s.begin(), s.end(), [](char c) { return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9'); });
}

const Known* register_in(const PastState& state, const std::string& name) {
    for (const auto& [register_name, value] : state.registers)
        if (register_name == name || (name == "sp" && register_name == "x2")) return &value;
    return nullptr;
}

std::optional<std::uint64_t> address_of(const PastState& state, const AccessedAddress& a, std::uint64_t pc, Isa isa) {
    const auto value = [&](const std::string& name) -> std::optional<std::uint64_t> {
        // DDI 0403E A5.1.2, DDI 0406C A5.1.2: of loads of literals
        if (name == "pc") return (pc + (isa == Isa::arm ? 8 : 4)) & ~std::uint64_t{3};
        if (name == "x0" && is_riscv(isa)) return 0;
        const Known* known = register_in(state, name);
        return known != nullptr && known->known ? std::optional(known->value) : std::nullopt;
    };
    const auto base = value(a.base), index = a.index.empty() ? std::optional<std::uint64_t>(0) : value(a.index);
    if (!base || !index) return std::nullopt;
    const std::uint64_t address = *base + (*index << a.shift) + static_cast<std::uint64_t>(a.offset);
    return address_bits(isa) == 32 ? address & 0xFFFF'FFFF : address;
}

// "pages[1]"-like places are not known without types: the object and how far into it.
std::string place_named(const Image& image, std::uint64_t address) {
    for (const Symbol& s : image.symbols()) {
        if (s.function || s.label || s.size == 0 || address < s.address || address - s.address >= s.size) continue;
        return address == s.address ? s.name : s.name + " + " + std::to_string(address - s.address);
    }
    return hex_text(address, 8);
}

/// Goes back from one instruction to those before it.
class Origins {
  public:
    Origins(const Recording& recording, const StepTrail& steps, PastStates& states,
            const std::function<std::string(std::uint32_t)>& told, Finding& f)
        : recording_(recording), steps_(steps), states_(states), told_(told), f_(f), text_of_(*steps.code) {}

    void tell(const std::string& name, const Known& value, Time at) {
        f_.fact("pointer", Address{value.value}, name);
        if (value.set_at == Known::kNever) return;
        const auto by = instruction(value.set_at);
        if (!by) return;
        f_.fact("pointer_set_by", told_(by->first), name);
        f_.fact("pointer_set_before", at - by->second, name);
        f_.evidence.push_back({by->second, name + " became " + hex_text(value.value, 8) + ": " + told_(by->first)});
        const std::string text = text_of_.text(by->first);
        const auto from = loads(text) ? accessed_by(text) : std::nullopt;
        if (!from) return;
        Progress progress;
        const auto before = states_.before(value.set_at, progress);
        if (!before) return;
        const std::uint64_t pc = steps_.code->address(by->first);
        const auto place = address_of(*before, *from, pc, steps_.code->isa(by->first));
        if (!place) return;
        const std::string named = place_named(*recording_.images[steps_.core_index], *place);
        f_.fact("pointer_from", named, name);
        const Known stood = before->memory->read(*place, address_bits(steps_.code->isa()) / 8);
        // What the register holds must be what stood there: else the load was narrower, or wider.
        if (stood.set_at == Known::kNever || (stood.known && stood.value != value.value)) return;
        const auto writer = instruction(stood.set_at);
        if (!writer) return;
        f_.fact("pointer_written_by", told_(writer->first), name);
        f_.fact("pointer_written_before", at - writer->second, name);
        f_.evidence.push_back({writer->second, named + " written: " + told_(writer->first)});
        tell_stored(stood, writer->first);
    }

  private:
    // What a store wrote had stood in a register: "str r8, [r5, #16]", "sw a0, 4(a1)".
    void tell_stored(const Known& stood, std::uint32_t by) {
        const std::string text = text_of_.text(by);
        const auto blank = text.find_first_of(" \t"), comma = text.find(',');
        if (text.front() != 's' || blank == std::string::npos || comma == std::string::npos || comma < blank) return;
        const std::string name = register_named(trimmed(std::string_view(text).substr(blank, comma - blank)));
        Progress progress;
        const auto before = states_.before(stood.set_at, progress);
        const Known* value = before ? register_in(*before, name) : nullptr;
        if (value == nullptr || !value->known || value->set_at == Known::kNever) return;
        if (const auto set = instruction(value->set_at))
            f_.evidence.push_back({set->second, name + " became " + hex_text(value->value, 8) + ": " + told_(set->first)});
    }
    static bool loads(const std::string& text) { return text.rfind("ld", 0) == 0 || text.rfind("l", 0) == 0 || text.rfind("c.l", 0) == 0; }
    std::optional<std::pair<std::uint32_t, Time>> instruction(std::uint64_t step) const {
        const StepWindow w = step_window(recording_, steps_, step, 1);
        for (const StepPiece& p : w.pieces) {
            if (step < p.step || step >= p.step + p.run.count) continue;
            std::uint32_t slot = p.run.first;
            for (std::uint64_t i = p.step; i < step; ++i) slot = steps_.code->next(slot);
            return std::pair{slot, p.time_of(static_cast<std::uint32_t>(step - p.step))};
        }
        return std::nullopt;
    }

    const Recording& recording_;
    const StepTrail& steps_;
    PastStates& states_;
    const std::function<std::string(std::uint32_t)>& told_;
    Finding& f_;
    Disassembler text_of_;
};

}  // namespace

std::optional<AccessedAddress> accessed_by(const std::string& instruction) {
    const std::string_view text = instruction;
    AccessedAddress a;
    // lw a0, 4(a1)
    if (const auto open = text.find('('), close = text.find(')'); open != std::string_view::npos && close > open && close != std::string_view::npos) {
        const std::string_view base = trimmed(text.substr(open + 1, close - open - 1));
        auto from = text.find_last_of(" ,\t", open == 0 ? 0 : open - 1);
        from = from == std::string_view::npos ? 0 : from + 1;
        const auto offset = from == open ? std::optional<std::int64_t>(0) : number_of(text.substr(from, open - from));
        if (!is_register(base) || !offset) return std::nullopt;
        a.base = register_named(base);
        a.offset = *offset;
        return a;
    }
    // ldr r0, [r3, r1, lsl #2]; what stands behind the bracket is added afterwards
    const auto open = text.find('['), close = text.find(']');
    if (open == std::string_view::npos || close == std::string_view::npos || close < open) return std::nullopt;
    std::string_view inside = text.substr(open + 1, close - open - 1);
    for (int part = 0; part < 3; ++part) {
        const auto comma = inside.find(',');
        const std::string_view one = trimmed(inside.substr(0, comma));
        if (part == 0) {
            if (!is_register(one)) return std::nullopt;
            a.base = std::string(one);
        } else if (one.rfind("lsl", 0) == 0) {
            const auto shift = number_of(one.substr(3));
            if (!shift || *shift < 0 || *shift > 31) return std::nullopt;
            a.shift = static_cast<unsigned>(*shift);
        } else if (is_register(one)) {
            a.index = std::string(one);
        } else if (const auto offset = number_of(one)) {
            a.offset = *offset;
        } else {
            return std::nullopt;
        }
        if (comma == std::string_view::npos) return a;
        inside.remove_prefix(comma + 1);
    }
    return std::nullopt;
}

void explain_pointer(const Recording& recording, const StepTrail& steps, std::uint32_t slot, std::uint64_t step,
                     const std::function<std::string(std::uint32_t)>& told, Finding& f) {
    if (step == 0 || step > steps.steps || !recording.images[steps.core_index]) return;
    const auto accessed = accessed_by(Disassembler(*steps.code).text(slot));
    if (!accessed) return;
    auto states = PastStates::of(recording, steps, step > kMostBefore ? step - kMostBefore : 0);
    if (!states) return;
    Progress progress;
    const auto at = states->as_left(step, progress);
    if (!at) return;
    Origins origins(recording, steps, *states, told, f);
    for (const std::string& name : {accessed->base, accessed->index})
        if (const Known* value = register_in(*at, name); value != nullptr && value->known)
            origins.tell(name, *value, at->time);
}

}  // namespace mt
