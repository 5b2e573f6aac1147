#include "identify/parts.h"

#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <functional>
#include <regex>

namespace mt {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kMostParts = 10'000;

// From the first on, as long as there are files; `name` says what the one with a number is called.
std::vector<std::string> in_order(const fs::path& folder, std::size_t first,
                                  const std::function<std::string(std::size_t)>& name) {
    std::vector<std::string> parts;
    std::error_code ec;
    for (std::size_t i = first; parts.size() < kMostParts; ++i) {
        const fs::path part = folder / name(i);
        if (!fs::is_regular_file(part, ec)) break;
        parts.push_back(part.string());
    }
    return parts;
}

}  // namespace

std::vector<std::string> parts_of_capture(const std::string& path) {
    const fs::path file(path), folder = file.parent_path();
    const std::string name = file.filename().string();
    const std::vector<std::string> alone{path};
    const auto if_whole = [&](const std::vector<std::string>& parts) {
        return parts.size() > 1 && std::find(parts.begin(), parts.end(), (folder / name).string()) != parts.end();
    };
    if (name.size() > 255) return alone;
    static const std::regex numbered(R"((.+\.)(\d{2,6})())"),
        named(R"((.*[._-]?part[._-]?)(\d{1,6})((?:\..*)?))", std::regex::icase), lettered(R"((.+[._-]|x)([a-z]{2}))");
    std::smatch match;
    for (const std::regex* pattern : {&numbered, &named}) {
        if (!std::regex_match(name, match, *pattern)) continue;
        const std::string before = match[1], behind = match[3];
        const auto digits = static_cast<int>(match[2].length());
        for (const std::size_t first : {std::size_t{0}, std::size_t{1}})
            if (const auto parts = in_order(folder, first,
                                            [&](std::size_t i) {
                                                char number[16];
                                                std::snprintf(number, sizeof number, "%0*zu", digits, i);
                                                return before + number + behind;
                                            });
                if_whole(parts))
                return parts;
        // part9, part10: numbers that grow in length
        if (digits > 1 && match[2].str()[0] != '0')
            for (const std::size_t first : {std::size_t{0}, std::size_t{1}})
                if (const auto parts =
                        in_order(folder, first, [&](std::size_t i) { return before + std::to_string(i) + behind; });
                    if_whole(parts))
                    return parts;
    }
    if (std::regex_match(name, match, lettered)) {
        const std::string before = match[1];
        const auto parts = in_order(folder, 0, [&](std::size_t i) {
            return i < 26 * 26 ? before + static_cast<char>('a' + i / 26) + static_cast<char>('a' + i % 26)
                               : std::string("/");
        });
        if (if_whole(parts)) return parts;
    }
    return alone;
}

}  // namespace mt
