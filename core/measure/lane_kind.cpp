#include "measure/lane_kind.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>

#include "base/overloaded.h"
#include "base/text.h"
#include "measure/kinds/kinds.h"

namespace mt {

Cell::Cell() = default;
Cell::Cell(const Cell&) = default;
Cell::Cell(Cell&&) noexcept = default;
Cell& Cell::operator=(const Cell&) = default;
Cell& Cell::operator=(Cell&&) noexcept = default;
Cell::~Cell() = default;

std::string LaneKind::many() const {
    std::string text(id());
    if (!text.empty()) text[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(text[0])));
    return text;
}

std::span<const PanelFigure> LaneKind::panel(const Trail&, std::uint64_t) const {
    static constexpr PanelFigure kUsual[] = {{"min", "min"}, {"mean", "mean"},          {"p99", "P99"},
                                             {"max", "max"}, {"period_mean", "period"}, {"share", "share"}};
    return kUsual;
}

std::string LaneKind::summary(const Trail&, const MeasuredRow& row) const {
    const Cell *count = cell_of(*this, row, "count"), *left_out = cell_of(*this, row, "left_out");
    std::string text;
    if (count != nullptr && count->known()) text = cell_text(*count) + " whole";
    if (left_out != nullptr && left_out->known())
        text += (text.empty() ? "" : ", ") + cell_text(*left_out) + " excluded";
    return text;
}

std::optional<SpanRef> LaneKind::next(const Trail& trail, const SpanRef& from, int direction) const {
    const auto of = lane(trail, from.lane.index);
    if (!of || from.level >= of->levels()) return std::nullopt;
    if (direction < 0 ? from.index == 0 : from.index + 1 >= of->size(from.level)) return std::nullopt;
    return SpanRef{from.lane, from.level, direction < 0 ? from.index - 1 : from.index + 1};
}

std::optional<SpanRef> LaneKind::first_from(const Trail& trail, std::uint64_t activity, Time t, bool around) const {
    const LaneId id = lane_of(trail, activity);
    const auto of = id ? lane(trail, id.index) : nullptr;
    if (!of || of->levels() == 0 || of->size(0) == 0) return std::nullopt;
    const std::size_t i = of->first_from(0, t);
    if (i < of->size(0)) return SpanRef{id, 0, i};
    return around ? std::optional(SpanRef{id, 0, 0}) : std::nullopt;
}

std::optional<SpanRef> LaneKind::worst(const Trail& trail, std::uint64_t activity) const {
    const LaneId id = lane_of(trail, activity);
    const auto of = id ? lane(trail, id.index) : nullptr;
    if (!of || of->levels() == 0 || of->size(0) == 0) return std::nullopt;
    std::size_t best = of->longest(0, 0, of->size(0));
    if (!of->span(0, best).whole())  // then one by one
        for (std::size_t i = 0, n = of->size(0); i < n; ++i)
            if (const Span s = of->span(0, i), b = of->span(0, best);
                s.whole() && (!b.whole() || s.length() > b.length()))
                best = i;
    return SpanRef{id, 0, best};
}

// By default: which of its lanes of this core have a span then, and since when.
std::vector<Phrase> LaneKind::moment(const Trail& trail, std::size_t core, Time t) const {
    std::vector<Phrase> all;
    for (const std::uint64_t index : lanes(trail)) {
        const auto of = lane(trail, index);
        if (!of || of->core() != core || of->levels() == 0) continue;
        const auto [first, last] = of->touching(0, t, t);
        for (std::size_t i = last; i-- > first;) {
            const Span s = of->span(0, i);
            if (s.begin > t || s.end <= t || (s.flags & Span::kSilent) != 0) continue;
            const std::string label = of->label(0, i);
            all.push_back({{of->name(), SpanRef{{this, index}, 0, i}},
                           {(label.empty() ? "" : " (" + label + ")") + " for " + duration_text(t - s.begin)}});
            break;
        }
    }
    return all;
}

std::vector<const LaneKind*>& LaneKinds::all() {
    static std::vector<const LaneKind*> kinds = [] {
        std::vector<const LaneKind*> built_in = {
#define MT_KIND(name) &name##_kind(),
#include "measure_kinds.inc"
#undef MT_KIND
        };
        std::stable_sort(built_in.begin(), built_in.end(),
                         [](const LaneKind* a, const LaneKind* b) { return a->order() < b->order(); });
        return built_in;
    }();
    return kinds;
}

const LaneKind* LaneKinds::find(std::string_view id) {
    const auto& kinds = all();
    const auto found = std::find_if(kinds.begin(), kinds.end(), [id](const auto* k) { return k->id() == id; });
    return found != kinds.end() ? *found : nullptr;
}

std::string LaneKinds::ids_text() {
    std::string text;
    for (const LaneKind* kind : all()) text += (text.empty() ? "" : ", ") + std::string(kind->id());
    return text;
}

void add_lengths(std::vector<Cell>& row, const Figures& f, bool spread) {
    for (const auto& t : {f.least, f.mean, f.greatest}) row.emplace_back(t);
    if (!spread) return;
    for (const auto& t : {f.deviation, f.p95, f.p99}) row.emplace_back(t);
}

const Cell* cell_of(const LaneKind& kind, const MeasuredRow& row, std::string_view key) {
    const std::size_t dot = key.find('.');
    const auto figures = kind.figures();
    const auto found = std::find_if(figures.begin(), figures.end(),
                                    [name = key.substr(0, dot)](const FigureInfo& f) { return f.key == name; });
    const auto at = static_cast<std::size_t>(found - figures.begin());
    if (found == figures.end() || at >= row.cells.size()) return nullptr;
    if (dot == std::string_view::npos) return &row.cells[at];
    const auto* within = std::get_if<std::shared_ptr<const NamedCells>>(&row.cells[at].value);
    if (within == nullptr || *within == nullptr) return nullptr;
    for (const auto& [name, cell] : **within)
        if (name == key.substr(dot + 1)) return &cell;
    return nullptr;
}

std::string cell_plain(const Cell& cell) {
    const auto number = [](double v) {
        std::array<char, 40> text{};
        std::snprintf(text.data(), text.size(), "%.9g", v);
        return std::string(text.data());
    };
    return std::visit(
        Overloaded{[](std::monostate) { return std::string(); }, [](const std::string& s) { return s; },
                   [](std::uint64_t n) { return std::to_string(n); }, [](std::int64_t n) { return std::to_string(n); },
                   [](bool b) { return std::string(b ? "1" : "0"); }, number, [](Time t) { return ns_text(t); },
                   [&](Share s) { return number(s.value * 100); }, [&cell](const auto&) { return cell_text(cell); }},
        cell.value);
}

std::string_view cell_unit(const Cell& cell) {
    if (std::holds_alternative<Time>(cell.value)) return "ns";
    return std::holds_alternative<Share>(cell.value) ? "%" : "";
}

std::string cell_text(const Cell& cell) {
    const auto whole = [](std::int64_t n) {
        const auto size = static_cast<std::uint64_t>(n);
        return n < 0 ? "-" + count_text(0 - size) : count_text(size);
    };
    const auto plain = [&whole](double v) {
        const double size = std::fabs(v);
        if ((v == std::floor(v) || size >= 1e4) && size < 1e15) return whole(std::llround(v));
        std::array<char, 40> text{};
        std::snprintf(text.data(), text.size(), size < 1e4 ? "%.5g" : "%.9g", v);
        return std::string(text.data());
    };
    return std::visit(
        Overloaded{[](std::monostate) { return std::string("–"); }, [](const std::string& s) { return s; },
                   [](std::uint64_t n) { return count_text(n); }, whole,
                   [](bool b) { return std::string(b ? "yes" : "no"); }, plain, [](Time t) { return duration_text(t); },
                   [](Share s) { return share_text(s.value); }, [](const auto&) { return std::string("–"); }},
        cell.value);
}

std::optional<double> cell_number(const Cell& cell) {
    using Number = std::optional<double>;
    return std::visit(Overloaded{[](std::uint64_t n) { return Number(static_cast<double>(n)); },
                                 [](std::int64_t n) { return Number(static_cast<double>(n)); },
                                 [](bool b) { return Number(b ? 1 : 0); }, [](double v) { return Number(v); },
                                 [](Time t) { return Number(static_cast<double>(t.ps)); },
                                 [](Share s) { return Number(s.value); }, [](const auto&) { return Number(); }},
                      cell.value);
}

Cell figures_cell(const Figures& f) {
    return Cell::of({{"count", f.count},
                     {"min", f.least},
                     {"mean", f.mean},
                     {"max", f.greatest},
                     {"stddev", f.deviation},
                     {"p95", f.p95},
                     {"p99", f.p99}});
}

}  // namespace mt
