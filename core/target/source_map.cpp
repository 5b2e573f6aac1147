#include "target/source_map.h"

#include <algorithm>
#include <filesystem>
#include <map>

namespace mt {
namespace fs = std::filesystem;

namespace {

using SlotOf = std::function<std::uint32_t(std::uint64_t)>;
using Images = std::vector<std::pair<const Image*, SlotOf>>;

// From the begin of each piece, and from each mapping symbol and function on, one instruction behind the other.
std::vector<bool> instructions_of(const Images& images, const Code& code) {
    std::vector<bool> all(code.slot_count()), begins(code.slot_count());
    enum class Holds : std::uint8_t { unknown, data, instructions };
    std::vector<Holds> holds(code.slot_count());
    for (const auto& [image, slot_of] : images) {
        for (const Symbol& s : image->symbols())
            if (s.function) begins[slot_of(s.address)] = true;
        const auto& mappings = image->mappings();
        for (std::size_t i = 0; i < mappings.size(); ++i) {
            const std::uint32_t first = slot_of(mappings[i].address);
            if (first == Code::kNowhere) continue;
            begins[first] = true;
            const Holds what = mappings[i].what == 'd' ? Holds::data : Holds::instructions;
            const std::uint64_t end = i + 1 < mappings.size() ? mappings[i + 1].address : ~std::uint64_t{0};
            std::uint32_t slot = first;
            for (std::uint64_t at = mappings[i].address; at < end && slot_of(at) == slot && slot != Code::kNowhere; at += 2)
                holds[slot++] = what;
        }
    }
    begins[Code::kNowhere] = false;
    for (std::uint32_t slot = 1; slot < code.slot_count();) {
        if (holds[slot] == Holds::data || (holds[slot] == Holds::unknown && code[slot].flow == Flow::none)) {
            ++slot;
            continue;
        }
        all[slot] = true;
        const std::uint32_t next = code.next(slot);
        for (++slot; slot < next && !(slot < begins.size() && begins[slot]); ++slot) {
        }
    }
    return all;
}

}  // namespace

std::shared_ptr<const SourceMap> SourceMap::of(const Image& image, const Code& code, std::span<const ProcessImage> processes) {
    auto map = std::make_shared<SourceMap>();
    Images images{{&image, [&code](std::uint64_t address) { return code.slot_of(address); }}};
    for (const ProcessImage& p : processes)
        images.emplace_back(p.image.get(), [&code, &p](std::uint64_t address) { return p.slot_of(code, address); });
    map->places_.resize(code.slot_count());
    map->instruction_ = instructions_of(images, code);
    for (const auto& [one, slot_of] : images) map->add_image(*one, code, slot_of);
    for (std::uint32_t slot = 1; slot < code.slot_count(); ++slot)
        if (const Place& p = map->places_[slot]; p.file != kNone && map->is_instruction(slot))
            map->entries_[p.file].push_back({p.line, slot});
    const auto by_line = [](const Entry& a, const Entry& b) {
        return a.line != b.line ? a.line < b.line : a.slot < b.slot;
    };
    for (auto* lists : {&map->entries_, &map->begins_})
        for (auto& list : *lists) {
            std::sort(list.begin(), list.end(), by_line);
            list.erase(std::unique(list.begin(), list.end(),
                                   [](const Entry& a, const Entry& b) { return a.line == b.line && a.slot == b.slot; }),
                       list.end());
        }
    return map;
}

void SourceMap::add_image(const Image& image, const Code& code, const SlotOf& slot_of) {
    const Image::LineTables tables = image.line_tables();
    // The same file may be in several programs.
    std::map<std::string, std::uint32_t> known;
    for (const std::string& name : files_) known.emplace(name, static_cast<std::uint32_t>(known.size()));
    std::vector<std::uint32_t> files;
    for (const std::string& name : tables.files) {
        const auto [file, fresh] = known.try_emplace(name, static_cast<std::uint32_t>(files_.size()));
        if (fresh) files_.push_back(name);
        files.push_back(file->second);
    }
    entries_.resize(files_.size());
    begins_.resize(files_.size());
    // Damaged tables may go over the same code again and again.
    std::uint64_t work = 64 * std::uint64_t{code.slot_count()} + 1'000'000;
    const auto insn_at = [&](std::uint64_t address) {
        const std::uint32_t slot = slot_of(address);
        return is_instruction(slot) ? slot : Code::kNowhere;
    };
    for (const LineSequence& s : tables.sequences) {
        // What the linker threw away stands at no code.
        if (insn_at(s.rows.front().address) == Code::kNowhere) continue;
        for (std::size_t i = 0; i < s.rows.size(); ++i) {
            const LineRow& row = s.rows[i];
            const std::uint32_t first = insn_at(row.address);
            if (row.begins && row.line > 0 && first != Code::kNowhere) begins_[files[row.file]].push_back({row.line, first});
            const std::uint64_t end = i + 1 < s.rows.size() ? s.rows[i + 1].address : s.end;
            for (std::uint64_t at = row.address; at < end && work > 0; --work) {
                const std::uint32_t slot = slot_of(at);
                if (slot == Code::kNowhere) break;
                if (!is_instruction(slot)) {  // data between
                    at += 2;
                    continue;
                }
                places_[slot] = row.line > 0 ? Place{files[row.file], row.line} : Place{};
                at += std::uint64_t{2} * code[slot].size;
            }
        }
    }
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
