// Variables of the functions that are on the stack of a halted core.
#include <array>
#include <map>

#include "base/text.h"
#include "control/hand.h"
#include "target/writable_memory.h"

namespace mt {
namespace {

constexpr std::size_t kMostFrames = 16, kMostTold = 400;
constexpr unsigned kDeepest = 3;
constexpr std::uint64_t kStack = 64 << 10;  // around the stack pointer

// A variable and its parts, one below the other, with the paths by which they can be read and written.
void tell(const LocalValue& v, const std::string& path, const std::string& group, unsigned depth, const Locals& locals,
          const FrameState& frame, HandAnswer& answer) {
    if (answer.locals.size() >= kMostTold) return;
    const std::string text = v.text();
    const std::string whose = !v.function.empty() && v.function != group ? v.function + " (inlined): " : "";
    answer.locals.push_back({whose + path, !v.present ? "not kept here" : text.empty() ? "not known" : text, group, depth, v.present && !text.empty()});
    if (depth >= kDeepest) return;
    for (const LocalValue& part : locals.parts(v, frame)) {
        const bool leads = v.kind == LocalValue::Kind::pointer;
        tell(part, part.name == "*" ? "*" + path : path + (part.name[0] == '[' ? "" : leads ? "->" : ".") + part.name, group, depth + 1, locals, frame, answer);
    }
}

}  // namespace

FrameState Hand::frame_of(Core& core, bool everywhere) const {
    const Isa kind = isa_of(core.spec.isa).value_or(Isa::thumb);
    FrameState f = frame_convention(kind);
    auto registers = std::make_shared<std::map<unsigned, FrameWord>>();
    f.reg = [this, &core, kind, registers](unsigned n) -> FrameWord {
        const auto [found, fresh] = registers->try_emplace(n);
        const auto number = fresh ? register_of(core, frame_register_name(kind, n)) : std::nullopt;
        if (number)
            if (const auto value = core.server->read_register(*number)) found->second = FrameWord::of(*value);
        return found->second;
    };
    std::vector<std::pair<std::uint64_t, std::uint64_t>> allowed;
    for (const std::string& path : core.spec.images())
        for (const auto& range : writable_memory(path)) allowed.push_back(range);
    if (core.image)
        for (const Image::Piece& p : core.image->pieces()) allowed.emplace_back(p.address, p.address + p.bytes.size());
    // A word at a time; what cannot be read is not known.
    auto words = std::make_shared<std::map<std::uint64_t, std::array<FrameWord, 4>>>();
    f.byte = [&core, words, allowed, everywhere, reg = f.reg, stack = f.stack_pointer](std::uint64_t address) -> FrameWord {
        bool may = everywhere;
        for (const auto& [begin, end] : allowed) may = may || (address >= begin && address < end);
        if (const FrameWord sp = may ? FrameWord{} : reg(stack); sp.known) may = address + kStack >= sp.value && address < sp.value + kStack;
        if (!may) return {};
        const auto [found, fresh] = words->try_emplace(address / 4);
        if (fresh) {
            std::array<std::uint8_t, 4> bytes{};
            if (core.server->read_memory(address / 4 * 4, bytes))
                for (std::size_t i = 0; i < 4; ++i) found->second[i] = FrameWord::of(bytes[i]);
        }
        return found->second[address % 4];
    };
    return f;
}

Result<void> Hand::tell_locals(std::size_t index, HandAnswer& answer) {
    Core& core = cores_[index];
    if (!core.image)
        return failure("core '" + core.spec.name + "' has no image: its variables have no names", core.spec.name, "give image in its [[core]]");
    const auto pc = core.server->pc();
    if (!pc) return tl::make_unexpected(pc.error());
    if (!locals_[index]) locals_[index] = std::make_unique<Locals>(core.spec.images());
    const FrameState frame = frame_of(core, false);
    for (const LocalFrame& f : locals_[index]->frames(*pc & ~std::uint64_t{1}, frame, kMostFrames)) {
        answer.locals.push_back({f.function, "at " + hex_text(f.pc, 8), f.function, 0, true});
        for (const LocalValue& v : f.values) tell(v, v.name, f.function, 1, *locals_[index], frame, answer);
    }
    if (answer.locals.empty()) answer.reason = "no function is known where it stands";
    return {};
}

std::optional<Result<LocalValue>> Hand::local_of(Core& core, const std::string& expression) const {
    if (!core.image || core.server->running()) return std::nullopt;
    const auto index = static_cast<std::size_t>(&core - cores_.data());
    const auto pc = core.server->pc();
    if (!pc) return std::nullopt;
    if (!locals_[index]) locals_[index] = std::make_unique<Locals>(core.spec.images());
    return locals_[index]->named(expression, *pc & ~std::uint64_t{1}, frame_of(core, true));
}

Result<void> Hand::set_register(std::size_t index, const std::string& what, const std::string& name, unsigned number, std::uint64_t value) {
    Core& core = cores_[index];
    const auto before = core.server->read_register(number);
    if (!before) return tl::make_unexpected(before.error());
    if (auto done = core.server->write_register(number, value); !done) return done;
    const int digits = static_cast<int>((core.server->registers()[number].bits + 3) / 4);
    const auto now = core.server->read_register(number);
    changes_.push_back({index, name, number, 0, *before, {}, false});
    written_.push_back("core " + core.spec.name + ": " + what + " = " + (now ? hex_text(*now, digits) : std::string("not known")) + ", was " +
                       hex_text(*before, digits));
    return {};
}

}  // namespace mt
