#include "target/core_state.h"

#include <algorithm>
#include <charconv>
#include <optional>
#include <string_view>

#include "base/read_file.h"
#include "base/text.h"

namespace mt {
namespace {

constexpr std::string_view kHead = "pc,times,changed";

std::optional<std::uint64_t> number(std::string_view text, int base) {
    std::uint64_t value = 0;
    if (base == 16 && text.substr(0, 2) == "0x") text.remove_prefix(2);
    const auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value, base);
    return ec == std::errc{} && end == text.data() + text.size() ? std::optional(value) : std::nullopt;
}

}  // namespace

void StoodPlaces::add(std::uint64_t pc, bool changed) {
    ++times;
    const std::uint64_t address = pc & ~std::uint64_t{1};
    if (at.size() >= kMost && at.find(address) == at.end()) {
        complete = false;
        return;
    }
    At& here = at[address];
    ++here.times;
    here.changed += changed ? 1 : 0;
}

std::string stood_text(const StoodPlaces& stood) {
    std::string text(kHead);
    text += '\n';
    for (const auto& [pc, at] : stood.at) text += hex_text(pc, 8) + "," + std::to_string(at.times) + "," + std::to_string(at.changed) + "\n";
    return text;
}

Result<StoodPlaces> read_stood(const std::string& path) {
    constexpr std::uint64_t kMostBytes = 8'000'000, kMostTimes = std::uint64_t{1} << 48;
    const auto text = read_small_file(path, kMostBytes, "places where a core stood");
    if (!text) return tl::make_unexpected(text.error());
    StoodPlaces stood;
    std::string_view rest = *text;
    for (std::size_t line = 1; !rest.empty(); ++line) {
        std::string_view row = rest.substr(0, rest.find('\n'));
        rest.remove_prefix(std::min(rest.size(), row.size() + 1));
        if (!row.empty() && row.back() == '\r') row.remove_suffix(1);
        if (row.empty() || (line == 1 && row == kHead)) continue;
        const std::size_t first = row.find(','), second = first == row.npos ? row.npos : row.find(',', first + 1);
        const auto pc = number(row.substr(0, first), 16);
        const auto times = second == row.npos ? std::nullopt : number(row.substr(first + 1, second - first - 1), 10);
        const auto changed = second == row.npos ? std::nullopt : number(row.substr(second + 1), 10);
        if (line == 1 || !pc || !times || !changed || *changed > *times || *times > kMostTimes)
            return failure("this is no place where a core stood", path + ":" + std::to_string(line), "its lines are to be pc,times,changed: 0x08000100,3,1");
        StoodPlaces::At& at = stood.at[*pc & ~std::uint64_t{1}];
        at.times += *times;
        at.changed += *changed;
        stood.times += *times;
        if (stood.at.size() > StoodPlaces::kMost)
            return failure("it has too many places", path + ":" + std::to_string(line), "at most " + count_text(StoodPlaces::kMost) + " are taken");
    }
    return stood;
}

}  // namespace mt
