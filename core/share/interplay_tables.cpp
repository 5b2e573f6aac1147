#include "share/interplay_tables.h"

#include <algorithm>
#include <iomanip>
#include <limits>
#include <ostream>
#include <sstream>

#include "base/text.h"
#include "share/aligned_text.h"
#include "share/tables.h"

namespace mt {
namespace {

constexpr std::size_t kAll = std::numeric_limits<std::size_t>::max();

std::string rate_text(double rate) {
    std::ostringstream s;
    s << std::fixed << std::setprecision(rate < 10 ? 3 : 1) << rate;
    return s.str();
}

}  // namespace

void write_interplay_csv(const Interplay& of, std::ostream& out) {
    out << "from,from_kind,does,to,to_kind,count,rate,failed,waits,worst_wait,worst_from_ns,worst_to_ns\n";
    for (const InterplayEdge& e : of.edges) {
        const InterplayNode &from = of.nodes[e.from], &to = of.nodes[e.to];
        out << csv_field(from.name) << ',' << node_sort_text(from.sort) << ',' << deed_word(e.deed) << ','
            << csv_field(to.name) << ',' << node_sort_text(to.sort) << ',' << e.count << ',' << rate_text(of.rate(e))
            << ',' << e.failed << ',' << e.waits << ',' << (e.waits > 0 ? ns_text(e.worst_wait) : "") << ','
            << ns_text(e.worst_from) << ',' << ns_text(e.worst_to) << '\n';
    }
}

nlohmann::ordered_json interplay_json(const Interplay& of) {
    nlohmann::ordered_json nodes = nlohmann::ordered_json::array(), edges = nlohmann::ordered_json::array();
    for (const InterplayNode& n : of.nodes) nodes.push_back({{"name", n.name}, {"kind", node_sort_text(n.sort)}});
    for (const InterplayEdge& e : of.edges)
        edges.push_back({{"from", e.from},
                         {"does", deed_word(e.deed)},
                         {"to", e.to},
                         {"count", e.count},
                         {"rate", of.rate(e)},
                         {"failed", e.failed},
                         {"waits", e.waits},
                         {"worst_wait", e.waits > 0 ? json_ns(e.worst_wait) : nlohmann::ordered_json()},
                         {"worst_from_ns", json_ns(e.worst_from)},
                         {"worst_to_ns", json_ns(e.worst_to)}});
    return {{"from_ns", json_ns(of.from)}, {"to_ns", json_ns(of.to)}, {"nodes", nodes}, {"edges", edges}};
}

std::string interplay_text(const Interplay& of) {
    std::vector<std::vector<std::string>> rows{
        {"", "does", "", "times", "per s", "rejected", "waits", "max wait", "at"}};
    for (const InterplayEdge& e : of.edges)
        rows.push_back({of.nodes[e.from].name, std::string(deed_text(e.deed)), of.nodes[e.to].name, count_text(e.count),
                        rate_text(of.rate(e)), e.failed > 0 ? count_text(e.failed) : "–", count_text(e.waits),
                        e.waits > 0 ? duration_text(e.worst_wait) : "–", moment_text(e.worst_from)});
    return aligned_text(rows, {true, true, true, false, false, false, false, false, false});
}

std::vector<std::size_t> edges_of(const Interplay& of, const std::string& name, std::vector<std::string>* known) {
    std::vector<std::size_t> all;
    for (std::size_t i = 0; i < of.edges.size(); ++i)
        if (of.nodes[of.edges[i].from].name == name || of.nodes[of.edges[i].to].name == name) all.push_back(i);
    if (known != nullptr)
        for (const InterplayNode& n : of.nodes) known->push_back(n.name);
    return all;
}

void write_history_csv(const Trail& trail, const Interplay& of, const std::vector<std::size_t>& edges,
                       std::ostream& out) {
    out << "time_ns,who,does,object,waited,result\n";
    for (const InterplayCall& call : interplay_calls(trail, of, edges, kAll, Progress())) {
        const InterplayEdge& e = of.edges[call.edge];
        out << ns_text(call.time) << ',' << csv_field(of.actor(e).name) << ',' << deed_word(e.deed) << ','
            << csv_field(of.object(e).name) << ',' << ns_text(call.waited) << ','
            << csv_field(call_result(trail, of, call)) << '\n';
    }
}

std::string history_text(const Trail& trail, const Interplay& of, const std::vector<std::size_t>& edges) {
    std::vector<std::vector<std::string>> rows{{"time", "who", "does", "object", "waited", "result"}};
    for (const InterplayCall& call : interplay_calls(trail, of, edges, kAll, Progress())) {
        const InterplayEdge& e = of.edges[call.edge];
        rows.push_back({moment_text(call.time), of.actor(e).name, std::string(deed_word(e.deed)), of.object(e).name,
                        call.waited.ps > 0 ? duration_text(call.waited) : "–", call_result(trail, of, call)});
    }
    return aligned_text(rows, {false, true, true, true, false, true});
}

}  // namespace mt
