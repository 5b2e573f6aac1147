#include "measure/coverage.h"

#include <algorithm>
#include <map>

namespace mt {

CoverCounts CoverCounts::of(const StepTrail& steps) {
    CoverCounts all;
    if (!steps.counters || !steps.code) return all;
    all.executions = steps.counters->executions(*steps.code);
    all.taken = steps.counters->runs.taken;
    all.undecided = steps.counters->undecided;
    all.undecided.resize(all.executions.size());
    return all;
}

void CoverCounts::add(const CoverCounts& more) {
    if (empty()) {
        *this = more;
        return;
    }
    for (std::size_t s = 0; s < std::min(executions.size(), more.executions.size()); ++s) {
        executions[s] += more.executions[s];
        taken[s] += more.taken[s];
        undecided[s] += more.undecided[s];
    }
}

void CoverSums::add(const CoverSums& more) {
    instructions += more.instructions;
    instructions_run += more.instructions_run;
    lines += more.lines;
    lines_run += more.lines_run;
    branches += more.branches;
    branches_taken += more.branches_taken;
    branches_not_taken += more.branches_not_taken;
    branches_both += more.branches_both;
    functions += more.functions;
    functions_run += more.functions_run;
}

bool CoverOf::same_code(const CoverOf& other) const {
    return code == other.code || (code->slot_count() == other.code->slot_count() &&
                                  code->fingerprint() == other.code->fingerprint());
}

CoverMoved add_older(CoverOf& newer, const CoverOf& older) {
    CoverMoved moved;
    std::map<std::string, std::vector<std::uint32_t>> named;
    for (std::uint32_t f = 1; f < newer.table->size(); ++f) named[(*newer.table)[f].name].push_back(f);
    for (std::uint32_t f = 1; f < older.table->size(); ++f) {
        const Function& was = (*older.table)[f];
        const std::uint64_t* counts = older.counts.executions.data();
        if (!std::any_of(counts + was.entry, counts + was.end, [](std::uint64_t n) { return n > 0; })) continue;
        const auto found = named.find(was.name);
        if (found == named.end()) {
            moved.gone.push_back(was.name);
            continue;
        }
        const auto bytes = older.code->bytes_of(was.entry, was.end);
        const auto same = std::find_if(found->second.begin(), found->second.end(), [&](std::uint32_t g) {
            const Function& is = (*newer.table)[g];
            const auto there = newer.code->bytes_of(is.entry, is.end);
            return is.end - is.entry == was.end - was.entry && std::equal(bytes.begin(), bytes.end(), there.begin(), there.end());
        });
        if (same == found->second.end()) {
            moved.changed.push_back(was.name);
            continue;
        }
        moved.kept.push_back(was.name);
        const std::uint32_t to = (*newer.table)[*same].entry;
        for (std::uint32_t k = 0; k < was.end - was.entry; ++k) {
            newer.counts.executions[to + k] += older.counts.executions[was.entry + k];
            newer.counts.taken[to + k] += older.counts.taken[was.entry + k];
            newer.counts.undecided[to + k] += older.counts.undecided[was.entry + k];
        }
    }
    return moved;
}

std::string cover_file_name(const std::string& name) {
    std::size_t from = 0;
    while (name.compare(from, 2, "./") == 0) from += 2;
    return name.substr(from);
}

namespace {

void count_branch(CoverSums& sums, const CoverBranch& b) {
    ++sums.branches;
    sums.branches_taken += b.taken > 0 ? 1 : 0;
    sums.branches_not_taken += b.not_taken() > 0 ? 1 : 0;
    sums.branches_both += b.both() ? 1 : 0;
}

// The lines of a file that have code, with what of them ran.
std::vector<CoverLine> lines_of(const Coverage& of, std::uint32_t file) {
    std::vector<CoverLine> all;
    const auto begins = of.map->line_begins(file);
    for (std::size_t i = 0; i < begins.size();) {
        CoverLine line;
        line.line = begins[i].line;
        line.merged = true;
        for (; i < begins.size() && begins[i].line == line.line; ++i) {
            line.count = std::max(line.count, of.counts.executions[begins[i].slot]);
            line.merged = line.merged && of.map->at(begins[i].slot) != SourceMap::Place{file, line.line};
        }
        all.push_back(line);
    }
    return all;
}

}  // namespace

Coverage Coverage::of(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> table,
                      std::shared_ptr<const SourceMap> map, CoverCounts counts) {
    Coverage all;
    all.code = std::move(code);
    all.table = std::move(table);
    all.map = std::move(map);
    all.counts = std::move(counts);
    const Code& c = *all.code;
    for (auto* list : {&all.counts.executions, &all.counts.taken, &all.counts.undecided}) list->resize(c.slot_count());
    std::vector<std::uint32_t> order;
    for (std::uint32_t f = 1; f < all.table->size(); ++f)
        if ((*all.table)[f].end > (*all.table)[f].entry) order.push_back(f);
    std::stable_sort(order.begin(), order.end(),
                     [&](auto a, auto b) { return (*all.table)[a].address < (*all.table)[b].address; });
    // Source files, joined by name.
    std::map<std::string, std::uint32_t> by_name;
    for (std::uint32_t i = 0; i < all.map->files().size(); ++i) {
        std::vector<CoverLine> lines = lines_of(all, i);
        if (lines.empty() && all.map->in_file(i).empty()) continue;
        const std::string name = cover_file_name(all.map->files()[i]);
        const auto [found, fresh] = by_name.try_emplace(name, static_cast<std::uint32_t>(all.files.size()));
        if (fresh) {
            CoverFile file;
            file.name = name;
            file.index = i;
            all.files.push_back(std::move(file));
        }
        CoverFile& file = all.files[found->second];
        for (const CoverLine& line : lines) {
            const auto at = std::lower_bound(file.lines.begin(), file.lines.end(), line.line,
                                             [](const CoverLine& l, std::uint32_t n) { return l.line < n; });
            if (at == file.lines.end() || at->line != line.line) {
                file.lines.insert(at, line);
            } else {
                at->count = std::max(at->count, line.count);
                at->merged = at->merged && line.merged;
            }
        }
    }
    const auto line_of = [&](std::uint32_t slot) -> CoverLine* {
        const SourceMap::Place place = all.map->at(slot);
        if (place.file == SourceMap::kNone) return nullptr;
        const auto found = by_name.find(cover_file_name(all.map->files()[place.file]));
        if (found == by_name.end()) return nullptr;
        auto& lines = all.files[found->second].lines;
        const auto at = std::lower_bound(lines.begin(), lines.end(), place.line,
                                         [](const CoverLine& l, std::uint32_t n) { return l.line < n; });
        return at != lines.end() && at->line == place.line ? &*at : nullptr;
    };
    std::map<const CoverLine*, std::uint32_t> seen;  // lines that belong to a function: by the last that had them
    for (const std::uint32_t f : order) {
        const Function& function = (*all.table)[f];
        CoverFunction row;
        row.function = f;
        row.name = function.name;
        row.file = cover_file_name(function.file);
        row.line = function.line > 0 ? static_cast<std::uint32_t>(function.line) : 0;
        row.address = function.address;
        row.first = static_cast<std::uint32_t>(all.branches.size());
        row.sums.functions = 1;
        for (std::uint32_t slot = function.entry; slot < function.end; ++slot) {
            const std::uint64_t n = all.counts.executions[slot];
            if (!all.map->is_instruction(slot) && n == 0) continue;
            if (all.table->at(slot) != f) continue;  // another function overlaps it
            ++row.sums.instructions;
            row.sums.instructions_run += n > 0 ? 1 : 0;
            if (slot == function.entry) row.calls = n;
            CoverLine* line = line_of(slot);
            if (line != nullptr && seen.try_emplace(line, f).second) {
                ++row.sums.lines;
                row.sums.lines_run += line->count > 0 ? 1 : 0;
            } else if (line != nullptr && seen[line] != f) {
                seen[line] = f;  // of an inlined function or a template: it counts where it stands, each time
                ++row.sums.lines;
                row.sums.lines_run += line->count > 0 ? 1 : 0;
            }
            if (!decides(c[slot].flow, c[slot].flags)) continue;
            const CoverBranch b{slot, n, all.counts.taken[slot], all.counts.undecided[slot]};
            all.branches.push_back(b);
            count_branch(row.sums, b);
            if (line != nullptr) {
                ++line->branches;
                line->branches_both += b.both() ? 1 : 0;
            }
        }
        row.behind = static_cast<std::uint32_t>(all.branches.size());
        row.sums.functions_run = row.sums.instructions_run > 0 ? 1 : 0;
        all.sums.add(row.sums);
        if (const auto file = by_name.find(row.file); file != by_name.end()) {
            all.files[file->second].functions.push_back(static_cast<std::uint32_t>(all.functions.size()));
            CoverSums sums = row.sums;
            sums.lines = sums.lines_run = 0;  // a file's own lines count
            all.files[file->second].sums.add(sums);
        }
        all.functions.push_back(std::move(row));
    }
    all.sums.lines = all.sums.lines_run = 0;
    for (CoverFile& file : all.files) {
        file.sums.lines = file.lines.size();
        file.sums.lines_run = static_cast<std::uint64_t>(
            std::count_if(file.lines.begin(), file.lines.end(), [](const CoverLine& l) { return l.count > 0; }));
        all.sums.lines += file.sums.lines;
        all.sums.lines_run += file.sums.lines_run;
    }
    std::sort(all.files.begin(), all.files.end(), [](const CoverFile& a, const CoverFile& b) { return a.name < b.name; });
    return all;
}

const CoverFile* Coverage::file(const std::string& name) const {
    for (const CoverFile& f : files)
        if (f.name == name) return &f;
    return nullptr;
}

}  // namespace mt
