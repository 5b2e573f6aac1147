#include "judge/alike.h"

#include <algorithm>
#include <map>

namespace mt {

std::string subject_text(const Finding& finding) {
    std::vector<std::string> names;
    for (const Involved& i : finding.involved) names.push_back(std::string(role_name(i.role)) + ":" + i.name);
    std::sort(names.begin(), names.end());
    std::string text = std::string(finding_kind_name(finding.kind)) + "|" + finding.core;
    for (const std::string& name : names) text += "|" + name;
    if (finding.kind == FindingKind::gap)
        text += finding.known("offset") != nullptr     ? "|damage"
                : finding.known("recorder") != nullptr ? "|recorder"
                                                       : "|overflow";
    return text;
}

std::vector<FindingGroup> in_groups(std::span<const Finding> findings) {
    std::vector<FindingGroup> groups;
    std::map<std::string, std::size_t> known;
    for (std::size_t i = 0; i < findings.size(); ++i) {
        const auto [at, fresh] = known.emplace(subject_text(findings[i]), groups.size());
        if (fresh) groups.emplace_back();
        groups[at->second].push_back(i);
    }
    for (FindingGroup& g : groups)
        std::stable_sort(g.begin(), g.end(),
                         [&](std::size_t a, std::size_t b) { return findings[a].severity > findings[b].severity; });
    return groups;
}

}  // namespace mt
