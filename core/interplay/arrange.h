// Where the nodes of a graph stand and how its edges run, so that few of them cross.
#pragma once

#include <cstddef>
#include <utility>
#include <vector>

namespace mt {

struct Point {
    double x = 0, y = 0;
    bool operator==(const Point&) const = default;
};

/// A graph to be drawn in layers; lengths in any unit.
struct GraphSizes {
    struct Box {
        double width = 0, height = 0;
        bool operator==(const Box&) const = default;
    };
    std::vector<Box> nodes;
    std::vector<std::pair<std::size_t, std::size_t>> edges;  ///< from, to: indices into the nodes
    Box label;                                               ///< room that each edge keeps for its text
    bool downwards = false;                                  ///< layers from above down; else from left to right
    bool operator==(const GraphSizes&) const = default;
};

struct Arranged {
    std::vector<Point> nodes;  ///< their middles
    struct Way {
        std::vector<Point> points;  ///< cubic Bézier: the first, then three for each piece
        Point label;                ///< middle of its text
    };
    std::vector<Way> edges;
    double width = 0, height = 0;  ///< everything lies within [0, width] × [0, height], y downwards
    bool whole = false;            ///< false: it could not be laid out
};

/// Layers with few crossings. The same sizes give the same picture. Blocks, for a graph of some
/// hundred edges below a second; one caller at a time, others wait. REQUIRES: indices within the nodes.
Arranged arrange(const GraphSizes& sizes);

}  // namespace mt
