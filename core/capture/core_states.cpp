#include "capture/core_states.h"

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <fstream>

#include <nlohmann/json.hpp>

#include "base/read_file.h"
#include "base/text.h"
#include "target/code.h"
#include "target/writable_memory.h"

namespace mt {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kAroundStack = 4096;  ///< above a stack pointer; a little below it
constexpr std::uint64_t kMostMemory = 16 << 20;
constexpr std::size_t kPiece = 2048;

std::optional<std::uint64_t> hex_of(std::string_view text) {
    if (text.substr(0, 2) == "0x") text.remove_prefix(2);
    std::uint64_t value = 0;
    const auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value, 16);
    return ec == std::errc{} && end == text.data() + text.size() && !text.empty() ? std::optional(value) : std::nullopt;
}

/// Register numbers of the debug server and what states of the past call them: x1 to x31 and f0 to f31 of RISC-V, whatever
/// the server calls them; of Arm its own names.
std::vector<std::pair<unsigned, std::string>> registers_to_keep(const DebugServer& server, const CoreSpec& core) {
    std::vector<std::pair<unsigned, std::string>> all;
    const auto& registers = server.registers();
    if (core.isa.rfind("rv", 0) == 0) {  // GDB numbers x0 to x31, pc, f0 to f31
        for (unsigned n = 1; n < 32; ++n) all.emplace_back(n, "x" + std::to_string(n));
        all.emplace_back(32, "pc");
        for (unsigned n = 33; n < 65 && n < registers.size() && !registers[n].name.empty(); ++n) all.emplace_back(n, "f" + std::to_string(n - 33));
        return all;
    }
    for (unsigned n = 0; n < registers.size(); ++n) {
        const std::string& name = registers[n].name;
        const bool core_register = (name.size() > 1 && (name[0] == 'r' || name[0] == 'x') && name.find_first_not_of("0123456789", 1) == std::string::npos) ||
                                   name == "sp" || name == "lr" || name == "pc" || name == "xpsr" || name == "cpsr";
        const bool stack = name == "msp" || name == "psp" || name == "control" || name == "primask" || name == "basepri" || name == "faultmask";
        if ((core_register || stack) && registers[n].bits <= 64) all.emplace_back(n, name);
    }
    if (registers.empty())  // no description: the numbers of GDB's own
        for (unsigned n = 0; n < 16; ++n) all.emplace_back(n, n == 13 ? "sp" : n == 14 ? "lr" : n == 15 ? "pc" : "r" + std::to_string(n));
    return all;
}

// Where M profile has devices, whatever a stack pointer says: reading may act on them (Armv7-M B3.1).
bool may_be_device(const CoreSpec& core, std::uint64_t address) {
    return is_m_profile(core.isa) && ((address >= 0x4000'0000 && address < 0x6000'0000) || address >= 0xA000'0000);
}

std::vector<MemoryRange> joined(std::vector<MemoryRange> ranges) {
    std::sort(ranges.begin(), ranges.end());
    std::vector<MemoryRange> all;
    for (const MemoryRange& r : ranges) {
        if (r.first >= r.second) continue;
        if (!all.empty() && r.first <= all.back().second)
            all.back().second = std::max(all.back().second, r.second);
        else
            all.push_back(r);
    }
    return all;
}

bool write_whole(const fs::path& file, std::string_view bytes) {
    std::ofstream out(file, std::ios::binary);
    out.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    out.close();
    return static_cast<bool>(out);
}

}  // namespace

Result<MemoryRange> memory_range(const std::string& text, const Image* image) {
    const auto dots = text.find("..");
    if (dots != std::string::npos) {
        const auto first = hex_of(text.substr(0, dots)), last = hex_of(text.substr(dots + 2));
        if (first && last && *first <= *last && *last - *first < kMostMemory) return MemoryRange{*first, *last + 1};
        return failure("'" + text + "' is no memory", "", "write 0x20000000..0x20001fff, of at most 16 MB, or the name of a variable");
    }
    const Symbol* symbol = image != nullptr ? image->symbol_named(text) : nullptr;
    if (symbol != nullptr && symbol->size > 0 && symbol->size <= kMostMemory) return MemoryRange{symbol->address, symbol->address + symbol->size};
    return failure("there is no variable '" + text + "'", "", "write its name as the image has it, or 0x20000000..0x20001fff");
}

Result<CoreState> StateReader::read(DebugServer& server, const CoreSpec& core) const {
    const auto until = std::chrono::steady_clock::now() + patience;
    CoreState state;
    std::vector<MemoryRange> around;
    for (const auto& [number, name] : registers_to_keep(server, core)) {
        const auto value = server.read_register(number);
        if (!value) {
            if (state.registers.empty()) return tl::make_unexpected(value.error());
            continue;
        }
        state.registers[name] = *value;
        const bool stack = name == "sp" || name == "msp" || name == "psp" || (name == "x2" && core.isa.rfind("rv", 0) == 0);
        if (stack && *value > kAroundStack && !may_be_device(core, *value) && !may_be_device(core, *value + kAroundStack))
            around.emplace_back(*value - 256, *value + kAroundStack);
    }
    std::vector<MemoryRange> wanted = memory.value_or(std::vector<MemoryRange>());
    if (!memory) {
        for (const std::string& image : core.images())
            for (const MemoryRange& range : writable_memory(image)) around.push_back(range);
        wanted = around;
    }
    for (const MemoryRange& range : joined(wanted)) {
        std::vector<std::uint8_t> bytes;
        std::uint64_t at = range.first;
        const auto end_of_piece = [&] {
            if (!bytes.empty()) state.memory.emplace_back(at - bytes.size(), std::move(bytes));
            bytes.clear();
        };
        while (at < range.second && bytes.size() < kMostMemory && (memory || std::chrono::steady_clock::now() < until)) {
            std::vector<std::uint8_t> piece(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece - at % kPiece, range.second - at)));
            if (server.read_memory(at, piece))
                bytes.insert(bytes.end(), piece.begin(), piece.end());
            else
                end_of_piece();  // beyond what there is
            at += piece.size();
        }
        end_of_piece();
    }
    return state;
}

Result<CoreSpec::State> keep_state(const CoreState& state, const std::string& folder, const std::string& core, const std::string& when) {
    CoreSpec::State kept;
    std::error_code ec;
    const fs::path place = fs::path(folder) / "states";
    fs::create_directories(place, ec);
    const auto cannot = [&](const fs::path& file) { return failure("cannot write", file.string(), "check free space and permissions"); };
    const std::string own = safe_file_name(core + "-" + when);
    nlohmann::json registers = {{"registers", nlohmann::json::object()}};
    for (const auto& [name, value] : state.registers) registers["registers"][name] = hex_text(value, 8);
    kept.registers = (place / (own + ".json")).string();
    if (!write_whole(kept.registers, registers.dump(1) + "\n")) return cannot(kept.registers);
    for (const auto& [address, bytes] : state.memory) {
        const fs::path file = place / (own + "-" + hex_text(address, 8).substr(2) + ".bin");
        if (!write_whole(file, {reinterpret_cast<const char*>(bytes.data()), bytes.size()})) return cannot(file);
        kept.memory.push_back({file.string(), address});
    }
    return kept;
}

std::vector<KeyChange> state_keys(const CoreSpec::State& state, const std::string& table, std::size_t core, const std::string& folder) {
    const auto relative = [&](const std::string& path) { return toml_quoted(fs::path(path).lexically_relative(folder).generic_string()); };
    std::vector<KeyChange> keys{{table, core, "registers", relative(state.registers)}};
    std::string memory;
    for (const CoreSpec::State::Memory& m : state.memory)
        memory += (memory.empty() ? "" : ", ") + std::string("{ file = ") + relative(m.file) + ", address = " + hex_text(m.address, 8) + " }";
    if (!memory.empty()) keys.push_back({table, core, "memory", "[" + memory + "]"});
    if (state.told) keys.push_back({table, core, "told", "true"});
    return keys;
}

}  // namespace mt
