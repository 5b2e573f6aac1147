// The call tree as people ask for it: from the roots down, who calls a function, and whom it calls.
#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "model/step_trail.h"

namespace mt {

/// Works on the tree of one stream; the trail must outlive it. Times leave handlers out that came in between; handlers
/// are roots of their own.
class CallPaths {
  public:
    /// A function, reached in one way or in several.
    struct Item {
        std::uint32_t function = 0;
        std::uint64_t calls = 0, left_out = 0, steps = 0;
        Time own, inclusive;  ///< time below itself (recursion) counts once
        /// Nodes of the tree: whose figures count, and where the walk stands.
        std::vector<std::pair<std::uint32_t, std::uint32_t>> nodes;
    };

    explicit CallPaths(const StepTrail& trail);

    /// What nobody is known to have called, handlers among it. All lists: longest inclusive time first.
    std::vector<Item> roots() const;
    /// All calls of a function, however it was reached.
    Item of(std::uint32_t function) const;
    /// Whom `item` called, as it was reached there.
    std::vector<Item> callees(const Item& item) const;
    /// Who called it; the figures stay those of the function one began with, as called from there.
    std::vector<Item> callers(const Item& item) const;

  private:
    std::vector<Item> grouped(const std::vector<std::pair<std::uint32_t, std::uint32_t>>& nodes) const;
    bool below_another(std::uint32_t node, std::uint32_t function) const;

    const StepTrail& trail_;
    std::vector<std::vector<std::uint32_t>> children_;
};

}  // namespace mt
