#include "target/source_map.h"

#include <algorithm>
#include <filesystem>
#include <map>

namespace mt {
namespace fs = std::filesystem;

std::shared_ptr<const SourceMap> SourceMap::of(const Image& image, const Code& code) {
    auto map = std::make_shared<SourceMap>();
    map->places_.resize(code.slot_count());
    std::map<std::string, std::uint32_t> known;
    for (std::uint32_t slot = 1; slot < code.slot_count(); slot = code.next(slot)) {
        if (code[slot].flow == Flow::none) continue;
        const auto line = image.line_at(code.address(slot));
        if (!line || line->line <= 0) continue;
        const auto [found, fresh] = known.try_emplace(line->file, static_cast<std::uint32_t>(map->files_.size()));
        if (fresh) {
            map->files_.push_back(line->file);
            map->entries_.emplace_back();
        }
        map->places_[slot] = {found->second, static_cast<std::uint32_t>(line->line)};
        map->entries_[found->second].push_back({static_cast<std::uint32_t>(line->line), slot});
    }
    for (auto& entries : map->entries_)
        std::stable_sort(entries.begin(), entries.end(),
                         [](const Entry& a, const Entry& b) { return a.line < b.line; });
    return map;
}

std::uint32_t SourceMap::file_index(const std::string& name) const {
    const auto found = std::find(files_.begin(), files_.end(), name);
    return found == files_.end() ? kNone : static_cast<std::uint32_t>(found - files_.begin());
}

std::span<const SourceMap::Entry> SourceMap::in_file(std::uint32_t file) const {
    return file < entries_.size() ? std::span<const Entry>(entries_[file]) : std::span<const Entry>();
}

std::span<const SourceMap::Entry> SourceMap::on_line(std::uint32_t file, std::uint32_t line) const {
    const auto all = in_file(file);
    const auto first = std::lower_bound(all.begin(), all.end(), line,
                                        [](const Entry& e, std::uint32_t wanted) { return e.line < wanted; });
    auto last = first;
    while (last != all.end() && last->line == line) ++last;
    return {first, last};
}

std::string find_source(const std::string& name, const SourcePaths& paths) {
    std::error_code ec;
    const auto there = [&ec](const fs::path& p) { return fs::is_regular_file(p, ec); };
    for (const auto& [from, to] : paths.replaced)
        if (!from.empty() && name.compare(0, from.size(), from) == 0)
            if (const fs::path p = to + name.substr(from.size()); there(p)) return p.lexically_normal().string();
    const fs::path whole(name);
    if (whole.is_absolute() && there(whole)) return whole.string();
    for (const auto& folder : paths.folders) {
        fs::path rest = whole.relative_path();
        while (!rest.empty()) {
            if (const fs::path p = fs::path(folder) / rest; there(p)) return p.lexically_normal().string();
            fs::path shorter;
            for (auto part = std::next(rest.begin()); part != rest.end(); ++part) shorter /= *part;
            rest = shorter;
        }
    }
    return {};
}

}  // namespace mt
