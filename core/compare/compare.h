// Two recordings of one system, before and after a change: what differs beyond chance, what of that is a cause and what
// its effect, what got better and what worse.
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <vector>

#include "base/progress.h"
#include "compare/quantities.h"
#include "model/trail.h"

namespace mt {

/// A change of one quantity of one activity, told by the statistic that shows it best.
struct Change {
    enum class Direction : std::uint8_t { better, worse, neutral };
    enum class Role : std::uint8_t { cause, effect };

    std::string kind, activity, core, quantity;
    Statistic statistic = Statistic::mean;
    double before = 0, after = 0;  ///< picoseconds, percent, counts; rate: per second
    Direction direction = Direction::neutral;
    Role role = Role::cause;
    std::vector<std::string> because;  ///< of an effect: "dome map hold"
    double chance = 1;  ///< that any figure of two like recordings would be so far apart
    double strength = 0;
    bool in_time = true;
    std::vector<Compared> figures;  ///< all statistics of the quantity
    LaneId lane_before = {}, lane_after = {};

    double relative() const;  ///< infinite where there was nothing before
    std::string name() const { return activity + " " + quantity; }
};
/// An activity that only one of the two has, beyond chance.
struct OneSided {
    std::string kind, activity, core;
    std::uint64_t count = 0;
    double rate = 0;  ///< per second
    Change::Role role = Change::Role::cause;
    std::vector<std::string> because;
    LaneId lane = {};
};
struct Unchanged {
    std::string kind, activity, core, quantity;
    double before = 0, after = 0;  ///< means
    bool in_time = true;
};

struct Comparison {
    std::vector<Change> changes;  ///< causes, the gravest first, each with its effects behind it; then what is left
    std::vector<OneSided> appeared, vanished;
    std::vector<Unchanged> unchanged;
    std::set<std::string> not_told;  ///< what only one of the recordings tells of: "interrupts of cop"
    double level = 0.01;             ///< chance of any false alarm at all
    Time block;
    bool too_short = false;  ///< too little was recorded to tell anything but what appeared or got another priority
    std::size_t worse() const;
    std::size_t better() const;
};

/// Blocks: for a worker. Cancelled, it gives what is of no use.
Comparison compare(const Trail& before, const Trail& after, const ChanceSettings& settings = {},
                   const Progress* progress = nullptr);

std::string_view direction_name(Change::Direction direction);
std::string_view role_name(Change::Role role);

}  // namespace mt
