// Whether two recordings differ beyond chance: many figures at once, with one stated chance of a false alarm for all of
// them together, and without taking what happens one behind the other as independent.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/progress.h"
#include "base/time.h"

namespace mt {

/// What is compared of a quantity.
enum class Statistic : std::uint8_t { mean, median, p95, p99, spread, rate };
std::string_view statistic_name(Statistic s);

/// Every measured instance of one quantity in one recording: when, and how much.
struct Measurements {
    std::vector<Time> at;  ///< ascending
    std::vector<double> value;
    void add(Time t, double v) {
        at.push_back(t);
        value.push_back(v);
    }
    std::size_t size() const { return at.size(); }
};
struct QuantityPair {
    Measurements before, after;
    double resolution = 0;  ///< of a value: differences below it are none (a tick of the clock)
    bool rate = true;       ///< how often it happens is compared too
    bool mean_only = false; ///< how its values spread depends on where the recording happens to begin
};

/// What is known of a recording's time.
struct Extent {
    Time begin, end;
    std::vector<std::pair<Time, Time>> gaps = {};  ///< ascending; blocks that are half lost do not count
};

/// One figure of one quantity of both recordings.
struct Compared {
    std::size_t quantity = 0;
    Statistic statistic = Statistic::mean;
    double before = 0, after = 0;  ///< the figure; rate: per second
    double strength = 0;           ///< how far apart, in units of what chance does to this figure
    double chance = 1;  ///< that any of all compared figures of two like recordings is so far apart
    bool beyond = false;
    /// Of the difference, after against before; infinite where there was nothing before.
    double relative() const;
};

struct ChanceSettings {
    double level = 0.01;  ///< chance of any false alarm at all
    unsigned permutations = 10'000;
    std::uint64_t seed = 1;
    /// Differences so small do not matter, however certain they are.
    double least_mean = 0.01, least_tail = 0.05, least_spread = 0.25, least_rate = 0.05;
};

/// Both recordings are cut into blocks of some seconds, so long that what happens in one hardly depends on the one
/// before; if nothing had changed, it would not matter which block is from which recording. All figures are computed
/// for very many random divisions of the blocks, and the greatest difference of each division, measured in what chance
/// does to that figure, says how great a difference any of the figures must have (the maximum over all figures, after
/// Westfall and Young). Gives nothing if a recording is too short for that. Blocks: for a worker.
struct ChanceResult {
    std::vector<Compared> all;  ///< by quantity, then statistic: those that could be compared
    Time block;                 ///< length of a block
    std::size_t blocks_before = 0, blocks_after = 0;
    double needed = 0;  ///< strength beyond which a difference counts
    bool too_short = false;
};
ChanceResult compare_quantities(const std::vector<QuantityPair>& all, const Extent& before, const Extent& after,
                                const ChanceSettings& settings = {}, const Progress* progress = nullptr);

}  // namespace mt
