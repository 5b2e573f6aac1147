#include "measure/cover_difference.h"

#include <algorithm>
#include <set>

namespace mt {
namespace {

void keep_once(std::vector<std::uint32_t>& lines) {
    std::sort(lines.begin(), lines.end());
    lines.erase(std::unique(lines.begin(), lines.end()), lines.end());
}

// The ways of a branch that only one of both went.
void compare_ways(CoverDifference::Of& of, const CoverBranch& now, std::uint64_t taken, std::uint64_t not_taken) {
    const auto way = [&](bool taken_way, std::uint64_t here, std::uint64_t there) {
        if ((here > 0) != (there > 0)) of.ways.push_back({now.slot, taken_way, here > 0});
    };
    way(true, now.taken, taken);
    way(false, now.not_taken(), not_taken);
}

}  // namespace

CoverDifference cover_difference(const Coverage& newer, const CoverOf& older) {
    CoverDifference out;
    // The older counts, where they stand in the newer build.
    CoverCounts before = older.counts;
    std::set<std::string> apart;
    if (CoverOf now{newer.code, newer.table, {}}; !now.same_code(older)) {
        for (auto* list : {&now.counts.executions, &now.counts.taken, &now.counts.undecided})
            list->assign(newer.code->slot_count(), 0);
        CoverMoved moved = add_older(now, older);
        apart.insert(moved.changed.begin(), moved.changed.end());
        before = std::move(now.counts);
        out.changed = std::move(moved.changed);
        out.gone = std::move(moved.gone);
    }
    for (auto* list : {&before.executions, &before.taken, &before.undecided}) list->resize(newer.code->slot_count());
    for (const CoverFunction& f : newer.functions) {
        if (apart.count(f.name) > 0) continue;
        CoverDifference::Of of;
        of.function = f.function;
        of.name = f.name;
        of.file = f.file;
        of.line = f.line;
        of.first = Code::kNowhere;
        const Function& function = (*newer.table)[f.function];
        std::uint64_t here = 0, there = 0;
        for (std::uint32_t slot = function.entry; slot < function.end; ++slot) {
            if (newer.table->at(slot) != f.function) continue;
            const bool now = newer.counts.executions[slot] > 0, was = before.executions[slot] > 0;
            here += now ? 1 : 0;
            there += was ? 1 : 0;
            if (now == was) continue;
            if (of.first == Code::kNowhere) of.first = slot;
            ++(now ? of.gained : of.lost);
            const SourceMap::Place place = newer.map->at(slot);
            if (place.file != SourceMap::kNone && place.line > 0 &&
                cover_file_name(newer.map->files()[place.file]) == f.file)
                (now ? of.gained_lines : of.lost_lines).push_back(place.line);
        }
        of.fresh = there == 0 && here > 0;
        of.vanished = here == 0 && there > 0;
        for (std::uint32_t b = f.first; b < f.behind && !of.fresh && !of.vanished; ++b) {
            const CoverBranch& now = newer.branches[b];
            const CoverBranch was{now.slot, before.executions[now.slot], before.taken[now.slot], before.undecided[now.slot]};
            if (now.executions == 0 || was.executions == 0) continue;
            compare_ways(of, now, was.taken, was.not_taken());
            if (!of.ways.empty() && (of.first == Code::kNowhere || of.ways.front().slot < of.first))
                of.first = of.ways.front().slot;
        }
        if (of.gained + of.lost == 0 && of.ways.empty()) continue;
        keep_once(of.gained_lines);
        keep_once(of.lost_lines);
        out.gained += of.gained;
        out.lost += of.lost;
        out.functions.push_back(std::move(of));
    }
    std::stable_sort(out.functions.begin(), out.functions.end(), [](const auto& a, const auto& b) {
        return std::pair(a.gained + a.lost, a.ways.size()) > std::pair(b.gained + b.lost, b.ways.size());
    });
    return out;
}

}  // namespace mt
