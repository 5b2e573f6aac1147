// Kinds of activities: whatever happens in time and can be counted and measured. Each kind says which figures it has
// and how they are got; tables, files and commands are made of that.
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

#include "base/time.h"
#include "measure/tasks.h"
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
    std::string_view key;      ///< in JSON, and in CSV if the kind lists it there
    std::string_view heading;  ///< in tables for people; empty: not shown there
    std::string_view meaning;  ///< one line, with the unit where it is no time
};

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
};

/// One row of instances; false ends the walk.
using EachRow = std::function<bool(std::span<const Cell>)>;

/// One kind. Stateless: any thread may ask.
class ActivityKind {
  public:
    virtual ~ActivityKind() = default;
    /// As `stats --of` takes it: "interrupts".
    virtual std::string_view id() const = 0;
    /// "an interrupt".
    virtual std::string_view one() const = 0;
    /// All figures, in the order of JSON.
    virtual std::span<const FigureInfo> figures() const = 0;
    /// The columns of its CSV.
    virtual std::span<const std::string_view> columns() const { return kStatsColumns; }
    /// The key of the figure that stands in a column of its CSV.
    virtual std::string_view figure_of(std::string_view column) const { return column; }
    /// Whether the recording tells of this kind, and what to do if it does not.
    virtual bool told(const Trail& trail) const = 0;
    virtual std::string_view advice() const = 0;
    /// A row for each activity, a cell for each figure.
    virtual std::vector<std::vector<Cell>> rows(const Measured& of) const = 0;

    /// Names of what `each_instance` can walk through; of one name the first counts. Numbers as text are names too.
    struct Name {
        std::string name, number;
        std::size_t index = 0;  ///< the kind's own
    };
    virtual std::vector<Name> names(const Trail& trail) const = 0;
    /// Headings of its instances.
    virtual std::span<const std::string_view> instance_columns() const = 0;
    /// In order of their begin.
    virtual void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const = 0;
};

/// The kinds that there are, in the order in which names are looked up.
class ActivityKinds {
  public:
    /// The built-in ones, and what was added. Not to be called while another thread adds.
    static std::vector<const ActivityKind*>& all();
    /// Null if there is none of that id.
    static const ActivityKind* find(std::string_view id);
    /// "interrupts, tasks, functions, …".
    static std::string ids_text();
};

/// Cells for figures of lengths, each with the prefix that the kind's keys have: min, mean, max, and with `spread`
/// stddev, p95, p99.
void add_lengths(std::vector<Cell>& row, const Figures& f, bool spread);
/// The same as one cell: count, min, mean, max, stddev, p95, p99.
Cell figures_cell(const Figures& f);

}  // namespace mt
