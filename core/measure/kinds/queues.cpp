#include <array>

#include "measure/kinds/kinds.h"
#include "measure/tasks.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "queue", "queue"},
    {"number", "no", "its number in the operating system"},
    {"sent", "sent", "entries that were put in"},
    {"received", "received", "entries that were taken out"},
    {"refused", "refused", "entries that found it full"},
    {"fill_max", "fill most", "most entries at a time"},
    {"stay_min", "", "shortest stay of an entry"},
    {"stay_mean", "stay mean", "mean stay of an entry"},
    {"stay_max", "stay most", "longest stay of an entry"},
    {"stay_p99", "", "99 % of the entries stay no longer"},
};
constexpr std::string_view kColumns[] = {"name",     "number",   "sent",      "received", "refused",
                                         "fill_max", "stay_min", "stay_mean", "stay_max", "stay_p99"};
constexpr std::string_view kInstances[] = {"index", "time_ns", "what", "fill", "who"};

class Queues final : public ActivityKind {
  public:
    std::string_view id() const override { return "queues"; }
    std::string_view one() const override { return "a queue"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    std::span<const std::string_view> columns() const override { return kColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.queues.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const QueueRow& r : queue_rows(of.trail))
            all.push_back({r.name, std::uint64_t{r.id}, r.sent, r.received, r.failed, std::uint64_t{r.peak},
                           r.stay.least, r.stay.mean, r.stay.greatest, r.stay.p99});
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.queues.size(); ++i) all.push_back({trail.tasks.queues[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        const QueueLane& lane = trail.tasks.queues[index];
        for (std::size_t i = 0; i < lane.ops.size(); ++i) {
            const QueueOp& op = lane.ops[i];
            const std::array<Cell, std::size(kInstances)> row = {std::uint64_t{i}, op.time,
                                                                 op.kind == QueueOp::send      ? "sent"
                                                                 : op.kind == QueueOp::receive ? "received"
                                                                                               : "refused",
                                                                 std::uint64_t{op.fill},
                                                                 trail.tasks.actor_name(op.who)};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const ActivityKind& queues_kind() {
    static const Queues kind;
    return kind;
}

}  // namespace mt
