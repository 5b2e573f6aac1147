#include "base/near_names.h"

#include <algorithm>
#include <cctype>
#include <numeric>

namespace mt {
namespace {

std::string lower(std::string_view s) {
    std::string out(s.substr(0, 80));
    for (char& c : out) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    return out;
}

// Letters to be put in, taken out or exchanged to make one of the other (Levenshtein distance).
std::size_t distance(std::string_view a, std::string_view b) {
    std::vector<std::size_t> row(b.size() + 1);
    std::iota(row.begin(), row.end(), std::size_t{0});
    for (std::size_t i = 1; i <= a.size(); ++i) {
        std::size_t corner = row[0]++;
        for (std::size_t k = 1; k <= b.size(); ++k) {
            const std::size_t changed = corner + (a[i - 1] == b[k - 1] ? 0 : 1);
            corner = row[k];
            row[k] = std::min({row[k] + 1, row[k - 1] + 1, changed});
        }
    }
    return row[b.size()];
}

}  // namespace

std::vector<std::string> near_names(std::string_view name, const std::vector<std::string>& known, std::size_t most) {
    const std::string wanted = lower(name);
    std::vector<std::pair<std::size_t, std::string>> found;
    for (const std::string& k : known) {
        const std::string other = lower(k);
        const bool holds = wanted.size() >= 3 && (other.find(wanted) != std::string::npos ||
                                                  (other.size() >= 3 && wanted.find(other) != std::string::npos));
        const std::size_t away = distance(wanted, other);
        if (holds || away <= (wanted.size() < 4 ? 1 : std::max<std::size_t>(2, wanted.size() / 3)))
            found.emplace_back(away, k);
    }
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<std::string> names;
    for (auto& [away, k] : found)
        if (names.size() < most && std::find(names.begin(), names.end(), k) == names.end()) names.push_back(k);
    return names;
}

std::string near_names_text(std::string_view name, const std::vector<std::string>& known, const std::string& none) {
    if (known.empty()) return none;
    constexpr std::size_t kMostListed = 20;
    const auto near = near_names(name, known);
    std::string text;
    if (!near.empty()) {
        for (std::size_t i = 0; i < near.size(); ++i)
            text += (i == 0 ? "" : i + 1 == near.size() ? " or " : ", ") + near[i];
        return "did you mean " + text + "?";
    }
    for (std::size_t i = 0; i < known.size() && i < kMostListed; ++i) text += (i == 0 ? "" : ", ") + known[i];
    return "there are: " + text + (known.size() > kMostListed ? ", …" : "");
}

}  // namespace mt
