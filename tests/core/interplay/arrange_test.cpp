// Graphs laid out so that few of their edges cross.
#include <gtest/gtest.h>

#include <algorithm>

#include "interplay/arrange.h"

namespace mt {
namespace {

GraphSizes graph(std::size_t nodes, std::vector<std::pair<std::size_t, std::size_t>> edges) {
    GraphSizes g;
    g.nodes.assign(nodes, {90, 38});
    g.edges = std::move(edges);
    g.label = {120, 30};
    return g;
}

std::vector<Point> samples(const Arranged::Way& way) {
    std::vector<Point> all;
    for (std::size_t i = 0; i + 3 < way.points.size(); i += 3)
        for (int k = 0; k < 16; ++k) {
            const double t = k / 16.0, u = 1 - t;
            const double w[] = {u * u * u, 3 * u * u * t, 3 * u * t * t, t * t * t};
            Point p;
            for (std::size_t c = 0; c < 4; ++c) {
                p.x += w[c] * way.points[i + c].x;
                p.y += w[c] * way.points[i + c].y;
            }
            all.push_back(p);
        }
    all.push_back(way.points.back());
    return all;
}

bool meet(Point a, Point b, Point c, Point d) {
    const auto side = [](Point p, Point q, Point r) { return (q.x - p.x) * (r.y - p.y) - (q.y - p.y) * (r.x - p.x); };
    return side(a, b, c) * side(a, b, d) < 0 && side(c, d, a) * side(c, d, b) < 0;
}

int crossings(const GraphSizes& of, const Arranged& where) {
    int n = 0;
    for (std::size_t i = 0; i < where.edges.size(); ++i)
        for (std::size_t j = i + 1; j < where.edges.size(); ++j) {
            const auto [a, b] = of.edges[i];
            const auto [c, d] = of.edges[j];
            if (a == c || a == d || b == c || b == d) continue;  // they meet at a node anyway
            const auto one = samples(where.edges[i]), other = samples(where.edges[j]);
            bool cross = false;
            for (std::size_t k = 0; k + 1 < one.size(); ++k)
                for (std::size_t l = 0; l + 1 < other.size(); ++l)
                    cross = cross || meet(one[k], one[k + 1], other[l], other[l + 1]);
            n += cross ? 1 : 0;
        }
    return n;
}

TEST(Arrange, WhatNeedNotCrossDoesNot) {
    // Listed so that their order alone would cross them all.
    const GraphSizes g = graph(8, {{0, 7}, {1, 6}, {2, 5}, {3, 4}, {0, 6}, {2, 4}});
    const Arranged where = arrange(g);
    ASSERT_TRUE(where.whole);
    EXPECT_EQ(crossings(g, where), 0);
}

TEST(Arrange, NodesAndTextsStandApartAndWithinThePicture) {
    GraphSizes g = graph(9, {{0, 3}, {1, 3}, {2, 3}, {3, 4}, {3, 5}, {4, 6}, {5, 6}, {6, 7}, {7, 8}, {8, 0}, {4, 4}});
    g.nodes[3] = {200, 38};
    const Arranged where = arrange(g);
    ASSERT_TRUE(where.whole);
    struct Box {
        double left, top, right, bottom;
    };
    std::vector<Box> boxes;
    for (std::size_t i = 0; i < g.nodes.size(); ++i)
        boxes.push_back({where.nodes[i].x - g.nodes[i].width / 2, where.nodes[i].y - g.nodes[i].height / 2,
                         where.nodes[i].x + g.nodes[i].width / 2, where.nodes[i].y + g.nodes[i].height / 2});
    for (const auto& e : where.edges)
        boxes.push_back({e.label.x - g.label.width / 2, e.label.y - g.label.height / 2, e.label.x + g.label.width / 2,
                         e.label.y + g.label.height / 2});
    for (std::size_t i = 0; i < boxes.size(); ++i) {
        EXPECT_GE(boxes[i].left, -1);
        EXPECT_GE(boxes[i].top, -1);
        EXPECT_LE(boxes[i].right, where.width + 1);
        EXPECT_LE(boxes[i].bottom, where.height + 1);
        for (std::size_t j = i + 1; j < boxes.size(); ++j)
            EXPECT_TRUE(boxes[i].right <= boxes[j].left || boxes[j].right <= boxes[i].left ||
                        boxes[i].bottom <= boxes[j].top || boxes[j].bottom <= boxes[i].top)
                << i << " over " << j;
    }
}

TEST(Arrange, EveryEdgeRunsFromItsNodeToTheOther) {
    const GraphSizes g = graph(3, {{0, 1}, {1, 2}, {2, 0}});
    const Arranged where = arrange(g);
    ASSERT_TRUE(where.whole);
    const auto near = [&](Point p, std::size_t node) {
        return std::abs(p.x - where.nodes[node].x) <= 90 / 2 + 3 && std::abs(p.y - where.nodes[node].y) <= 38 / 2 + 3;
    };
    for (std::size_t i = 0; i < g.edges.size(); ++i) {
        ASSERT_GE(where.edges[i].points.size(), 4u);
        EXPECT_EQ(where.edges[i].points.size() % 3, 1u);
        EXPECT_TRUE(near(where.edges[i].points.front(), g.edges[i].first)) << i;
        EXPECT_TRUE(near(where.edges[i].points.back(), g.edges[i].second)) << i;
    }
}

TEST(Arrange, LayersMayLieBelowEachOther) {
    GraphSizes g = graph(4, {{0, 1}, {1, 2}, {2, 3}});
    const Arranged across = arrange(g);
    g.downwards = true;
    const Arranged down = arrange(g);
    ASSERT_TRUE(across.whole && down.whole);
    EXPECT_GT(across.width, 2 * across.height);
    EXPECT_GT(down.height, down.width);
    for (std::size_t i = 1; i < 4; ++i) {
        EXPECT_GT(across.nodes[i].x, across.nodes[i - 1].x + 90) << "to the right of the one before";
        EXPECT_GT(down.nodes[i].y, down.nodes[i - 1].y + 38) << "below the one before";
    }
}

TEST(Arrange, TheSameGraphHasTheSamePicture) {
    const GraphSizes g = graph(5, {{0, 1}, {1, 2}, {3, 2}, {3, 4}, {4, 0}});
    EXPECT_EQ(arrange(g).nodes, arrange(g).nodes);
    EXPECT_TRUE(arrange(GraphSizes{}).whole);
}

}  // namespace
}  // namespace mt
