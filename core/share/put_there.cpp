#include "share/put_there.h"

#include "base/text.h"

namespace mt {

HandState hand_state_of(const PastState& state) {
    HandState s;
    s.step = state.step;
    s.pc = state.pc;
    for (const auto& [name, value] : state.registers)
        if (value.known)
            s.registers.emplace_back(name, value.value);
        else
            s.unknown.push_back(name);
    constexpr std::uint64_t kMostBytes = 16 << 20;  // of what there is to write
    std::uint64_t kept = 0;
    s.unknown_bytes = state.memory->each_known([&](std::uint64_t address, std::uint8_t byte) {
        if (++kept > kMostBytes) return;
        if (s.memory.empty() || s.memory.back().address + s.memory.back().bytes.size() != address) s.memory.push_back({address, {}});
        s.memory.back().bytes.push_back(byte);
    });
    return s;
}

std::string put_text(const HandState& state) {
    std::uint64_t bytes = 0;
    for (const HandState::Range& r : state.memory) bytes += r.bytes.size();
    std::string text = plural(state.registers.size() + 1, "register", "registers") + " and " + bytes_text(bytes) + " of memory are known";
    std::string stay;
    for (const std::string& name : state.unknown) stay += (stay.empty() ? "" : ", ") + name;
    if (state.unknown_bytes > 0) stay += (stay.empty() ? "" : " and ") + bytes_text(state.unknown_bytes) + " of memory";
    return text + (stay.empty() ? "" : "; not known, and staying as they are in the target: " + stay);
}

}  // namespace mt
