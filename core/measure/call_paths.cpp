#include "measure/call_paths.h"

#include <algorithm>
#include <map>

namespace mt {

CallPaths::CallPaths(const StepTrail& trail) : trail_(trail), children_(trail.tree.size()) {
    for (std::uint32_t n = 1; n < trail.tree.size(); ++n) children_[trail.tree[n].parent].push_back(n);
}

bool CallPaths::below_another(std::uint32_t node, std::uint32_t function) const {
    for (std::uint32_t n = trail_.tree[node].parent; n != 0; n = trail_.tree[n].parent)
        if (trail_.tree[n].function == function) return true;
    return false;
}

// One item for each function at which the walk stands.
std::vector<CallPaths::Item> CallPaths::grouped(
    const std::vector<std::pair<std::uint32_t, std::uint32_t>>& nodes) const {
    std::map<std::uint32_t, Item> by_function;
    for (const auto& [measured, at] : nodes) {
        const CallNode& n = trail_.tree[measured];
        Item& item = by_function[trail_.tree[at].function];
        item.function = trail_.tree[at].function;
        item.calls += n.calls;
        item.left_out += n.left_out;
        item.steps += n.steps;
        item.own += n.own;
        if (!below_another(measured, n.function)) item.inclusive += n.inclusive;
        item.nodes.emplace_back(measured, at);
    }
    std::vector<Item> all;
    for (auto& [function, item] : by_function) all.push_back(std::move(item));
    std::stable_sort(all.begin(), all.end(), [](const Item& a, const Item& b) { return a.inclusive > b.inclusive; });
    return all;
}

std::vector<CallPaths::Item> CallPaths::roots() const {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> nodes;
    if (!children_.empty())
        for (const std::uint32_t n : children_[0]) nodes.emplace_back(n, n);
    return grouped(nodes);
}

CallPaths::Item CallPaths::of(std::uint32_t function) const {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> nodes;
    for (std::uint32_t n = 1; n < trail_.tree.size(); ++n)
        if (trail_.tree[n].function == function) nodes.emplace_back(n, n);
    auto all = grouped(nodes);
    if (!all.empty()) return std::move(all.front());
    Item none;
    none.function = function;
    return none;
}

std::vector<CallPaths::Item> CallPaths::callees(const Item& item) const {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> nodes;
    for (const auto& [measured, at] : item.nodes)
        for (const std::uint32_t n : children_[at]) nodes.emplace_back(n, n);
    return grouped(nodes);
}

std::vector<CallPaths::Item> CallPaths::callers(const Item& item) const {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> nodes;
    for (const auto& [measured, at] : item.nodes)
        if (trail_.tree[at].parent != 0) nodes.emplace_back(measured, trail_.tree[at].parent);
    return grouped(nodes);
}

}  // namespace mt
