#include "interplay/arrange.h"

#include <algorithm>
#include <memory>
#include <mutex>
#include <string>

#include <gvc.h>

namespace mt {
namespace {

constexpr double kPerInch = 72;

void set(void* of, const char* name, const std::string& value) {
    agsafeset(of, const_cast<char*>(name), const_cast<char*>(value.c_str()), const_cast<char*>(""));
}

Point point(const pointf& p, double height) { return {p.x, height - p.y}; }

std::vector<Point> points_of(Agedge_t* edge, double height) {
    std::vector<Point> all;
    const splines* way = ED_spl(edge);
    if (way == nullptr) return all;
    for (std::size_t i = 0; i < static_cast<std::size_t>(way->size); ++i) {
        const bezier& b = way->list[i];
        for (std::size_t k = all.empty() ? 0 : 1; k < static_cast<std::size_t>(b.size); ++k)
            all.push_back(point(b.list[k], height));
    }
    return all;
}

// An edge of the picture is two of the layout, with its text as a node between them.
struct Halves {
    Agedge_t *first = nullptr, *second = nullptr;
    Agnode_t* label = nullptr;
};

}  // namespace

Arranged arrange(const GraphSizes& sizes) {
    Arranged out;
    if (sizes.nodes.empty()) {
        out.whole = true;
        return out;
    }
    static std::mutex one_at_a_time;  // the layout keeps state of its own
    const std::lock_guard lock(one_at_a_time);
    agseterr(AGMAX);  // says nothing on the terminal
    const std::unique_ptr<GVC_t, int (*)(GVC_t*)> context(gvContext(), gvFreeContext);
    std::string name = "interplay";
    const std::unique_ptr<Agraph_t, int (*)(Agraph_t*)> graph(agopen(name.data(), Agdirected, nullptr), agclose);
    if (!context || !graph) return out;
    set(graph.get(), "rankdir", sizes.downwards ? "TB" : "LR");
    set(graph.get(), "nodesep", "0.18");
    set(graph.get(), "ranksep", "0.3");

    const auto add = [&](const std::string& id, const GraphSizes::Box& box) {
        Agnode_t* n = agnode(graph.get(), const_cast<char*>(id.c_str()), 1);
        set(n, "shape", "box");
        set(n, "label", "");
        set(n, "fixedsize", "true");
        set(n, "width", std::to_string(box.width / kPerInch));
        set(n, "height", std::to_string(box.height / kPerInch));
        return n;
    };
    std::vector<Agnode_t*> nodes;
    for (std::size_t i = 0; i < sizes.nodes.size(); ++i) nodes.push_back(add("n" + std::to_string(i), sizes.nodes[i]));
    std::vector<Halves> edges;
    for (std::size_t i = 0; i < sizes.edges.size(); ++i) {
        Halves h;
        h.label = add("e" + std::to_string(i), sizes.label);
        h.first = agedge(graph.get(), nodes[sizes.edges[i].first], h.label, nullptr, 1);
        h.second = agedge(graph.get(), h.label, nodes[sizes.edges[i].second], nullptr, 1);
        for (Agedge_t* half : {h.first, h.second}) set(half, "dir", "none");  // room for no arrow: it reaches the node
        edges.push_back(h);
    }
    if (gvLayout(context.get(), graph.get(), "dot") != 0) return out;

    const boxf& all = GD_bb(graph.get());
    out.width = all.UR.x;
    out.height = all.UR.y;
    for (Agnode_t* n : nodes) out.nodes.push_back(point(ND_coord(n), out.height));
    for (const Halves& h : edges) {
        Arranged::Way way;
        way.points = points_of(h.first, out.height);
        const std::vector<Point> rest = points_of(h.second, out.height);
        way.label = point(ND_coord(h.label), out.height);
        if (!way.points.empty() && !rest.empty()) {  // straight through the text's room
            const Point a = way.points.back(), b = rest.front();
            way.points.push_back({a.x + (b.x - a.x) / 3, a.y + (b.y - a.y) / 3});
            way.points.push_back({a.x + 2 * (b.x - a.x) / 3, a.y + 2 * (b.y - a.y) / 3});
            way.points.insert(way.points.end(), rest.begin(), rest.end());
        }
        out.edges.push_back(std::move(way));
    }
    gvFreeLayout(context.get(), graph.get());
    out.whole = true;
    return out;
}

}  // namespace mt
