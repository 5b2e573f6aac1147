#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"
#include "measure/tasks.h"

namespace mt {
namespace {

constexpr FigureInfo kQueueFigures[] = {
    {"name", "queue", "queue"},
    {"number", "no", "its number in the operating system"},
    {"sent", "sent", "entries that were put in"},
    {"received", "received", "entries that were taken out"},
    {"refused", "refused", "entries that found it full"},
    {"fill_max", "fill most", "most entries at a time"},
    {"stay_min", "", "shortest stay of an entry"},
    {"stay_mean", "stay mean", "mean stay of an entry"},
    {"stay_max", "stay most", "longest stay of an entry"},
    {"stay_p99", "", "99 % of the entries stay no longer", "stay 99 %"},
};
constexpr std::string_view kQueueColumns[] = {"name",     "number",   "sent",      "received", "refused",
                                              "fill_max", "stay_min", "stay_mean", "stay_max", "stay_p99"};
constexpr std::string_view kQueueInstances[] = {"index", "time_ns", "what", "fill", "who"};

class QueueFill final : public PlainLane {
  public:
    QueueFill(const Trail& trail, const QueueLane& lane)
        : PlainLane(trail, {lane.name,
                            "queue, at most " + std::to_string(lane.peak) +
                                (lane.failed > 0 ? ", " + std::to_string(lane.failed) + " lost" : std::string()),
                            0, Shape::line, Ink::waiting}),
          lane_(lane) {}
    std::size_t size(std::size_t) const override { return lane_.ops.size(); }
    Span span(std::size_t, std::size_t i) const override {
        Span s{lane_.ops[i].time, i + 1 < lane_.ops.size() ? lane_.ops[i + 1].time : trail_.end, {}, {}};
        if (lane_.ops[i].kind == QueueOp::failed) s.flags |= Span::kTrouble;
        return s;
    }
    Range touching(std::size_t, Time from, Time to) const override {
        const auto after = [this](Time t) {
            return lane_.ops.partition_point([t](const QueueOp& o) { return !(t < o.time); });
        };
        const std::size_t first = after(from);
        return {first > 0 ? first - 1 : 0, after(to)};
    }
    bool stirs(Time from, Time to) const override {
        const auto [first, last] = touching(0, from, to);
        return first != last;
    }
    double value(std::size_t i) const override { return lane_.ops[i].fill; }
    std::pair<double, double> extent(std::size_t first, std::size_t last) const override {
        std::pair<double, double> e{value(first), value(first)};
        for (std::size_t i = first; i < last; ++i) e = {std::min(e.first, value(i)), std::max(e.second, value(i))};
        return e;
    }
    std::pair<double, double> bounds() const override { return {0, std::max<double>(lane_.peak, 1)}; }
    bool fills() const override { return true; }
    std::vector<std::string> lengths() const override { return {"fill"}; }
    std::string label(std::size_t, std::size_t i) const override {
        return plural(lane_.ops[i].fill, "entry", "entries");
    }
    Told told(Time, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return {lane_.name, {"not used yet"}};
        const QueueOp& o = lane_.ops[span->second];
        return {lane_.name,
                {plural(o.fill, "entry", "entries"), std::string(o.kind == QueueOp::send      ? "sent"
                                                                 : o.kind == QueueOp::receive ? "received"
                                                                                              : "send refused") +
                                                         " by " + trail_.tasks.actor_name(o.who) + ", " +
                                                         moment_text(o.time)}};
    }

  private:
    const QueueLane& lane_;
};

class Queues final : public LaneKind {
  public:
    std::string_view id() const override { return "queues"; }
    int order() const override { return 50; }
    int rank() const override { return kAcrossCores + 10; }
    std::string_view one() const override { return "a queue"; }
    std::span<const FigureInfo> figures() const override { return kQueueFigures; }
    std::span<const std::string_view> columns() const override { return kQueueColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.queues.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const QueueRow& r : queue_rows(of.trail))
            all.push_back({r.queue,
                           {r.name, std::uint64_t{r.id}, r.sent, r.received, r.failed, std::uint64_t{r.peak},
                            r.stay.least, r.stay.mean, r.stay.greatest, r.stay.p99}});
        return all;
    }

    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override {
        static constexpr PanelFigure kAll[] = {{"sent", "sent"},
                                               {"received", "received"},
                                               {"refused", "refused"},
                                               {"fill_max", "most entries"},
                                               {"stay_mean", "stay, mean"},
                                               {"stay_max", "stay, most"}};
        return kAll;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t q = 0; q < trail.tasks.queues.size(); ++q)
            if (!trail.tasks.queues[q].ops.empty()) all.push_back(q);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.queues.size()) return nullptr;
        return std::make_unique<QueueFill>(trail, trail.tasks.queues[index]);
    }
    // The moment at which it was fullest.
    std::optional<SpanRef> worst(const Trail& trail, std::uint64_t activity) const override {
        const QueueLane& of = trail.tasks.queues[activity];
        if (of.ops.empty()) return std::nullopt;
        std::size_t fullest = 0;
        for (std::size_t i = 0; i < of.ops.size(); ++i)
            if (of.ops[i].fill > of.ops[fullest].fill) fullest = i;
        return SpanRef{{this, activity}, 0, fullest};
    }
    std::vector<Phrase> moment(const Trail&, std::size_t, Time) const override { return {}; }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.queues.size(); ++i) all.push_back({trail.tasks.queues[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kQueueInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const QueueLane& lane = trail.tasks.queues[index];
        for (std::size_t i = 0; i < lane.ops.size(); ++i) {
            const QueueOp& op = lane.ops[i];
            const std::array<Cell, std::size(kQueueInstances)> row = {std::uint64_t{i}, op.time,
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

const LaneKind& queues_kind() {
    static const Queues kind;
    return kind;
}

}  // namespace mt
