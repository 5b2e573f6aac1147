#include "judge/witness.h"

#include <algorithm>
#include <filesystem>

#include "base/text.h"
#include "replay/packet_block.h"

namespace mt {

std::vector<std::pair<std::uint16_t, Time>> who_ran(const CoreTrail& core, Time from, Time to) {
    std::map<std::uint16_t, Time> sums;
    const auto first = core.change_at(from);
    Time at = from;
    std::uint16_t running = first ? core.change_running[*first] : ContextChange::kUnknown;
    for (std::size_t i = first ? *first + 1 : 0; i < core.change_time.size() && core.change_time[i] < to; ++i) {
        sums[running] += core.change_time[i] - at;
        at = core.change_time[i];
        running = core.change_running[i];
    }
    if (to > at) sums[running] += to - at;
    std::vector<std::pair<std::uint16_t, Time>> list;
    for (const auto& [who, time] : sums)
        if (time.ps > 0) list.emplace_back(who, time);
    std::stable_sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    return list;
}

void each_packet_between(const Recording& recording, const Trail& trail, std::size_t core, Time from, Time to,
                         const std::function<void(std::size_t, const TimedPacket&)>& take) {
    for (std::size_t s = 0; s < trail.streams.size(); ++s) {
        if (recording.streams[s].core != core || trail.streams[s].checkpoints.empty()) continue;
        for (std::size_t b = block_of_time(trail.streams[s], from); b < trail.streams[s].checkpoints.size(); ++b) {
            if (trail.streams[s].checkpoints[b].time > to) break;
            for (const auto& p : decode_block(recording, trail, s, b).packets)
                if (p.latest >= from && p.earliest <= to) take(s, p);
        }
    }
}

std::vector<std::pair<std::string, std::uint64_t>> sampled_functions(
    const Recording& recording, const Trail& trail, std::size_t core,
    const std::vector<std::pair<Time, Time>>& stretches) {
    std::map<std::string, std::uint64_t> counts;
    for (const auto& stretch : stretches) {
        const Time from = stretch.first, to = stretch.second;
        each_packet_between(recording, trail, core, from, to, [&](std::size_t, const TimedPacket& p) {
            if (p.packet.kind != ItmKind::pc && p.packet.kind != ItmKind::sleep) return;
            if (p.latest < from || p.latest > to || trail.cores[core].running_at(p.latest) != 0) return;
            if (p.packet.kind == ItmKind::sleep) {
                ++counts["asleep"];
                return;
            }
            const Image* image = recording.images[core].get();
            const Symbol* symbol = image == nullptr ? nullptr : image->function_at(p.packet.value);
            ++counts[symbol == nullptr ? hex_text(p.packet.value) : symbol->name];
        });
    }
    std::vector<std::pair<std::string, std::uint64_t>> list(counts.begin(), counts.end());
    std::stable_sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    return list;
}

std::string place_text(const Recording& recording, std::size_t core, std::uint64_t address) {
    const Image* image = recording.images[core].get();
    const Symbol* symbol = image == nullptr ? nullptr : image->function_at(address);
    std::string text = symbol == nullptr ? hex_text(address) : symbol->name;
    if (image == nullptr) return text;
    if (const auto line = image->line_at(address))
        text += " (" + std::filesystem::path(line->file).filename().string() + ":" + std::to_string(line->line) + ")";
    return text;
}

Time quantile(std::vector<Time> values, double part) {
    const auto k = std::min(values.size() - 1, static_cast<std::size_t>(part * static_cast<double>(values.size())));
    std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(k), values.end());
    return values[k];
}

}  // namespace mt
