// Who acts on whom: tasks, interrupts, queues, semaphores, locks, resources and values, and what was sent, taken, woken
// and written between them, from the recording alone.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/progress.h"
#include "base/time.h"
#include "model/lane.h"
#include "model/trail.h"

namespace mt {

/// What one does to the other, along the edge's direction: a task sends to a queue, and a queue is received by a task.
enum class Deed : std::uint8_t { sends, received, gives, taken, locks, uses, writes, read, wakes };
/// "sends to", "received by".
std::string_view deed_text(Deed deed);
/// As files name it: "send", "receive", "give", "take", "lock", "use", "write", "read", "wake".
std::string_view deed_word(Deed deed);
/// Whether the one who acts stands at the edge's end: "received by".
constexpr bool acts_at_end(Deed deed) { return deed == Deed::received || deed == Deed::taken || deed == Deed::read; }

/// Something that acts or is acted on.
struct InterplayNode {
    enum Sort : std::uint8_t { task, interrupt, thread, queue, semaphore, lock, resource, value, unknown };
    Sort sort = unknown;
    std::uint64_t number = 0;  ///< within its sort: see same()
    std::string name;
    LaneId lane;           ///< none: it is not drawn
    std::size_t core = 0;  ///< of an interrupt or a thread
    bool acts() const { return sort <= thread || sort == unknown; }
    bool same(const InterplayNode& other) const { return sort == other.sort && number == other.number; }
};
/// "task", "interrupt", "thread mode", …
std::string_view node_sort_text(InterplayNode::Sort sort);

/// All that one node did to another in one way.
struct InterplayEdge {
    std::size_t from = 0, to = 0;  ///< indices into the nodes
    Deed deed = Deed::sends;
    std::uint64_t count = 0;        ///< those that came about
    std::uint64_t failed = 0;       ///< refused because it was full
    std::uint64_t waits = 0;        ///< whole waits for it
    Time worst_wait{};              ///< the longest whole wait
    Time worst_from{}, worst_to{};  ///< when that was; without waits the first instance
};

/// A stretch of the recording as a graph. Nodes in the order tasks, interrupts, objects; edges by their nodes.
struct Interplay {
    Time from{}, to{};
    std::vector<InterplayNode> nodes;
    std::vector<InterplayEdge> edges;
    /// Per second of [from, to].
    double rate(const InterplayEdge& edge) const;
    const InterplayNode& actor(const InterplayEdge& edge) const {
        return nodes[acts_at_end(edge.deed) ? edge.to : edge.from];
    }
    const InterplayNode& object(const InterplayEdge& edge) const {
        return nodes[acts_at_end(edge.deed) ? edge.from : edge.to];
    }
};

/// Whether the recording tells of anybody who acts on anything.
bool tells_interplay(const Trail& trail);

/// Everything that happened within [from, to]; a wait counts where it ends. Who wrote a value is whoever had its core
/// at that moment, or up to it, as far as that is known. Blocks: for a worker; once cancelled, what it returns is incomplete.
Interplay interplay(const Trail& trail, Time from, Time to, const Progress& progress);

/// One of the instances behind an edge.
struct InterplayCall {
    enum Outcome : std::uint8_t {
        done,
        refused,  ///< it was full
        nothing,  ///< the wait ended, and nothing was had
        endless   ///< still waiting when the recording ended
    };
    Time time{};           ///< when it came about, or was refused; a wait that never ended: its begin
    Time waited{};         ///< for so long it had to wait before; 0: not at all
    std::size_t edge = 0;  ///< index into the edges
    std::size_t at = 0;    ///< index into what the object keeps: operations, holds, samples
    Outcome outcome = done;
};

/// The instances behind these edges in order of time, the first `most` of each edge. Blocks: for a worker.
std::vector<InterplayCall> interplay_calls(const Trail& trail, const Interplay& of,
                                           const std::vector<std::size_t>& edges, std::size_t most,
                                           const Progress& progress);
/// What came of it: "3 entries", "send failed (full)", "held 12.3 µs", "= 14".
std::string call_result(const Trail& trail, const Interplay& of, const InterplayCall& call);

}  // namespace mt
