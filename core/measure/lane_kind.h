// Kinds of lanes: whatever happens in time, can be seen, counted and measured. Each kind says which lanes it has in a
// recording, which activities they show, and which figures these have. Pictures, tables, files and commands are made of
// that; a new kind is one file in measure/kinds/ and its test.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "base/progress.h"
#include "base/time.h"
#include "measure/tasks.h"
#include "model/lane.h"
#include "model/trail.h"

namespace mt {

struct Cell;
using NamedCells = std::vector<std::pair<std::string, Cell>>;

/// A part of a whole, 0 to 1.
struct Share {
    double value = 0;
};

/// One value of a table. Nothing: not known, or without meaning there.
struct Cell {
    using Value = std::variant<std::monostate, std::string, std::uint64_t, std::int64_t, bool, double, Time, Share,
                               std::pair<Time, Time>, std::shared_ptr<const NamedCells>>;
    Value value;

    Cell();
    Cell(const Cell&);
    Cell(Cell&&) noexcept;
    Cell& operator=(const Cell&);
    Cell& operator=(Cell&&) noexcept;
    ~Cell();
    template <class T>
    requires std::constructible_from<Value, T> Cell(T v) : value(std::move(v)) {}
    Cell(const char* text) : value(std::string(text)) {}
    template <class T>
    Cell(const std::optional<T>& v) {
        if (v) value = *v;
    }
    /// Several figures of one thing.
    static Cell of(NamedCells cells) { return Cell(std::make_shared<const NamedCells>(std::move(cells))); }
    bool known() const { return value.index() != 0; }
};

/// One figure of a kind.
struct FigureInfo {
    std::string_view key;          ///< in JSON, and in CSV if the kind lists it there
    std::string_view heading;      ///< in tables for people; empty: not shown there
    std::string_view meaning;      ///< one line, with the unit where it is no time
    std::string_view detail = "";  ///< heading in the window's tables where the brief one of the terminal leaves it out
};

/// A figure of the panel beside the lanes: which, and what it is called there. A dot leads into a figure of figures.
struct PanelFigure {
    std::string_view key, label;
};

/// The figures of one activity, a cell for each.
struct MeasuredRow {
    std::uint64_t activity = 0;  ///< see LaneKind::Name::index; kNoActivity: it has no instances
    std::vector<Cell> cells;
};
inline constexpr std::uint64_t kNoActivity = ~std::uint64_t{0};

/// A piece of what is said about a moment; it may lead somewhere.
struct Said {
    std::string text;
    std::optional<SpanRef> link = std::nullopt;
    bool strong = false;
};
using Phrase = std::vector<Said>;

/// The columns of `stats --csv` of all kinds whose instances have lengths; those that a kind has not stay empty.
inline constexpr std::string_view kStatsColumns[] = {
    "name",       "number",       "count",         "left_out",     "total", "own",        "min",
    "mean",       "max",          "stddev",        "p95",          "p99",   "period_min", "period_mean",
    "period_max", "response_min", "response_mean", "response_max", "share"};

/// What figures are asked of.
struct Measured {
    const Trail& trail;
    std::vector<std::shared_ptr<const FunctionTable>> functions{};  ///< of each core's image, for what was sampled
    std::set<std::string> leave_out{};                              ///< functions whose time does not count
    const Progress* progress = nullptr;  ///< what takes long gives up once it is cancelled, with what it has
};

/// One row of instances; false ends the walk.
using EachRow = std::function<bool(std::span<const Cell>)>;

/// One kind. Stateless: any thread may ask. An activity is what figures are of: a lane, or all spans of a lane that
/// belong together, as the calls of one function.
class LaneKind {
  public:
    virtual ~LaneKind() = default;
    /// As `stats --of` takes it: "interrupts".
    virtual std::string_view id() const = 0;
    /// "an interrupt".
    virtual std::string_view one() const = 0;
    /// Where it stands among the kinds, in tables and where names are looked up: small numbers first.
    virtual int order() const = 0;
    /// Heading of its table: "Interrupts".
    std::string many() const;
    /// Whether the recording tells of this kind, and what to do if it does not.
    virtual bool told(const Trail& trail) const = 0;
    virtual std::string_view advice() const = 0;

    /// All figures, in the order of JSON.
    virtual std::span<const FigureInfo> figures() const = 0;
    /// The columns of its CSV.
    virtual std::span<const std::string_view> columns() const { return kStatsColumns; }
    /// The key of the figure that stands in a column of its CSV.
    virtual std::string_view figure_of(std::string_view column) const { return column; }
    /// Whether that takes seconds of a large recording: then findings do not wait for it.
    virtual bool takes_long() const { return false; }
    /// A row for each activity. Blocks: for a worker.
    virtual std::vector<MeasuredRow> rows(const Measured& of) const = 0;
    /// The figures of the panel; those that the kind has not are left out.
    virtual std::span<const PanelFigure> panel(const Trail& trail, std::uint64_t activity) const;
    /// What the figures are of, in a line: "duration, 12 executions, 3 left out".
    virtual std::string summary(const Trail& trail, const MeasuredRow& row) const;

    /// Names of its activities; of one name the first counts. Numbers as text are names too.
    struct Name {
        std::string name, number;
        std::uint64_t index = 0;  ///< the activity: the kind's own number
    };
    virtual std::vector<Name> names(const Trail& trail) const = 0;
    /// Headings of its instances.
    virtual std::span<const std::string_view> instance_columns() const = 0;
    /// In order of their begin.
    virtual void each_instance(const Trail& trail, std::uint64_t activity, const EachRow& each) const = 0;

    /// Where its lanes stand in the picture: those below kAcrossCores with their core, the others below all cores;
    /// small numbers on top.
    virtual int rank() const = 0;
    static constexpr int kAcrossCores = 100;
    /// The lanes that it draws, from top to bottom.
    virtual std::vector<std::uint64_t> lanes(const Trail& trail) const = 0;
    /// A lane; null if there is none of that number.
    virtual std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const = 0;
    /// What a span belongs to. By default a lane is an activity of the same number.
    virtual std::uint64_t activity_of(const Trail&, const SpanRef& span) const { return span.lane.index; }
    /// Where an activity is drawn; none if nowhere.
    virtual LaneId lane_of(const Trail&, std::uint64_t activity) const { return {this, activity}; }
    /// Whether all spans of a lane are of one activity.
    virtual bool lanes_are_activities() const { return true; }
    /// The next (1) or previous (-1) span of the same activity.
    virtual std::optional<SpanRef> next(const Trail& trail, const SpanRef& from, int direction) const;
    /// The first span of an activity that begins at or after `t`; else, with `around`, the first of all.
    virtual std::optional<SpanRef> first_from(const Trail& trail, std::uint64_t activity, Time t, bool around) const;
    /// The span of an activity that people look for first: the longest whole one, if any.
    virtual std::optional<SpanRef> worst(const Trail& trail, std::uint64_t activity) const;
    /// What is to be said of a moment on a core.
    virtual std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const;
};

/// The kinds that there are, in the order in which names are looked up.
class LaneKinds {
  public:
    /// The built-in ones, and what was added. Not to be called while another thread adds.
    static std::vector<const LaneKind*>& all();
    /// Null if there is none of that id.
    static const LaneKind* find(std::string_view id);
    /// "interrupts, tasks, functions, …".
    static std::string ids_text();
};

/// Cells for figures of lengths, each with the prefix that the kind's keys have: min, mean, max, and with `spread`
/// stddev, p95, p99.
void add_lengths(std::vector<Cell>& row, const Figures& f, bool spread);
/// The cell of a figure, also within figures of figures: "response.p99". Null if there is none of that name.
const Cell* cell_of(const LaneKind& kind, const MeasuredRow& row, std::string_view key);
/// A cell for people; nothing: "–".
std::string cell_text(const Cell& cell);
/// A cell as a number without unit or grouping, as a spreadsheet takes it: times in ns, shares in percent; nothing: "".
std::string cell_plain(const Cell& cell);
/// The unit that `cell_plain` has: "ns", "%", or none.
std::string_view cell_unit(const Cell& cell);
/// A number to sort by; nothing for texts and what is not known.
std::optional<double> cell_number(const Cell& cell);
/// The same as one cell: count, min, mean, max, stddev, p95, p99.
Cell figures_cell(const Figures& f);

}  // namespace mt
