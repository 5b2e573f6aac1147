#include "share/activity_tables.h"

#include <algorithm>
#include <array>
#include <cstdio>
#include <ostream>

#include "base/near_names.h"
#include "base/overloaded.h"
#include "base/text.h"
#include "share/aligned_text.h"
#include "share/tables.h"

namespace mt {
namespace {

using Json = nlohmann::ordered_json;

std::string number_text(double v) {
    std::array<char, 40> text{};
    std::snprintf(text.data(), text.size(), "%.9g", v);
    return text.data();
}

std::string csv_text(const Cell& cell) {
    return std::visit(
        Overloaded{[](std::monostate) { return std::string(); }, [](const std::string& s) { return csv_field(s); },
                   [](std::uint64_t n) { return std::to_string(n); }, [](std::int64_t n) { return std::to_string(n); },
                   [](bool b) { return std::string(b ? "1" : "0"); }, [](double v) { return number_text(v); },
                   [](Time t) { return ns_text(t); }, [](Share s) { return share_field(s.value); },
                   [](const std::pair<Time, Time>& r) { return ns_text(r.first) + " " + ns_text(r.second); },
                   [](const std::shared_ptr<const NamedCells>&) { return std::string(); }},
        cell.value);
}

Json json_of(const Cell& cell) {
    return std::visit(Overloaded{[](std::monostate) { return Json(nullptr); }, [](Time t) { return json_ns(t); },
                                 [](Share s) { return Json(s.value); },
                                 [](const std::pair<Time, Time>& r) {
                                     return Json::array({json_ns(r.first), json_ns(r.second)});
                                 },
                                 [](const std::shared_ptr<const NamedCells>& cells) {
                                     Json j;
                                     for (const auto& [key, c] : *cells) j[key] = json_of(c);
                                     return j;
                                 },
                                 [](const auto& plain) { return Json(plain); }},
                      cell.value);
}

std::string people_text(const Cell& cell) { return cell.known() ? cell_text(cell) : "-"; }

// At most so many characters, never half of one.
std::string cut_to(const std::string& s, std::size_t most) {
    std::size_t shown = 0;
    for (std::size_t i = 0; i < s.size(); ++i)
        if ((static_cast<unsigned char>(s[i]) & 0xC0) != 0x80 && shown++ == most) return s.substr(0, i);
    return s;
}

}  // namespace

Result<void> check_choice(const LaneKind& kind, const RowChoice& choice) {
    const auto figures = kind.figures();
    const auto has = [&](std::string_view key) {
        return std::any_of(figures.begin(), figures.end(), [key](const FigureInfo& f) { return f.key == key; });
    };
    if (!choice.core.empty() && !has("core"))
        return failure(std::string(kind.id()) + " belong to no core", "--core", "leave it out");
    if (choice.sort.empty() || has(choice.sort)) return {};
    std::vector<std::string> known;
    for (const FigureInfo& f : figures) known.emplace_back(f.key);
    return failure("no figure '" + choice.sort + "' of " + std::string(kind.id()), "--sort",
                   near_names_text(choice.sort, known, ""));
}

std::vector<MeasuredRow> chosen_rows(const LaneKind& kind, const Measured& of, const RowChoice& choice) {
    auto rows = kind.rows(of);
    const auto text_of = [&](const MeasuredRow& row, std::string_view key) {
        const Cell* cell = cell_of(kind, row, key);
        const auto* text = cell == nullptr ? nullptr : std::get_if<std::string>(&cell->value);
        return text == nullptr ? std::string() : *text;
    };
    if (!choice.core.empty())
        std::erase_if(rows, [&](const MeasuredRow& row) { return text_of(row, "core") != choice.core; });
    if (!choice.sort.empty())
        std::stable_sort(rows.begin(), rows.end(), [&](const MeasuredRow& a, const MeasuredRow& b) {
            const auto x = cell_number(*cell_of(kind, a, choice.sort)), y = cell_number(*cell_of(kind, b, choice.sort));
            if (x || y) return x && (!y || *x > *y);
            return text_of(a, choice.sort) < text_of(b, choice.sort);
        });
    if (choice.top > 0 && rows.size() > choice.top) rows.resize(choice.top);
    return rows;
}

void write_stats_csv(const LaneKind& kind, const Measured& of, std::ostream& out, const RowChoice& choice) {
    std::vector<std::size_t> at;  // the figure of each column
    const auto figures = kind.figures();
    for (const std::string_view column : kind.columns()) {
        out << (at.empty() ? "" : ",") << column;
        const std::string_view key = kind.figure_of(column);
        at.push_back(static_cast<std::size_t>(
            std::find_if(figures.begin(), figures.end(), [key](const FigureInfo& f) { return f.key == key; }) -
            figures.begin()));
    }
    out << '\n';
    for (const auto& row : chosen_rows(kind, of, choice)) {
        for (std::size_t c = 0; c < at.size(); ++c)
            out << (c == 0 ? "" : ",") << (at[c] < row.cells.size() ? csv_text(row.cells[at[c]]) : std::string());
        out << '\n';
    }
}

Json stats_json(const LaneKind& kind, const Measured& of, const RowChoice& choice) {
    Json all = Json::array();
    const auto figures = kind.figures();
    for (const auto& row : chosen_rows(kind, of, choice)) {
        Json j;
        for (std::size_t i = 0; i < row.cells.size(); ++i) j[std::string(figures[i].key)] = json_of(row.cells[i]);
        all.push_back(std::move(j));
    }
    return all;
}

std::string stats_text(const LaneKind& kind, const Measured& of, const RowChoice& choice) {
    constexpr std::size_t kWidest = 32;
    const auto figures = kind.figures();
    const auto rows = chosen_rows(kind, of, choice);
    std::vector<std::vector<std::string>> lines(rows.size() + 1);
    std::vector<bool> left;
    for (std::size_t i = 0; i < figures.size(); ++i) {
        if (figures[i].heading.empty()) continue;
        // A figure that no activity has is not worth a column.
        if (!rows.empty() &&
            std::none_of(rows.begin(), rows.end(), [i](const MeasuredRow& row) { return row.cells[i].known(); }))
            continue;
        lines[0].emplace_back(figures[i].heading);
        left.push_back(!rows.empty() && std::holds_alternative<std::string>(rows[0].cells[i].value));
        for (std::size_t r = 0; r < rows.size(); ++r)
            lines[r + 1].push_back(cut_to(people_text(rows[r].cells[i]), kWidest));
    }
    return aligned_text(lines, left);
}

void write_instances_csv(const LaneKind& kind, const Trail& trail, std::uint64_t index, std::ostream& out,
                         const Progress* progress) {
    const auto columns = kind.instance_columns();
    for (std::size_t c = 0; c < columns.size(); ++c) out << (c == 0 ? "" : ",") << columns[c];
    out << '\n';
    std::uint64_t n = 0;
    kind.each_instance(trail, index, [&](std::span<const Cell> row) {
        for (std::size_t c = 0; c < row.size(); ++c) out << (c == 0 ? "" : ",") << csv_text(row[c]);
        out << '\n';
        return ++n % 4096 != 0 || progress == nullptr || !progress->cancelled();
    });
}

std::optional<NamedActivity> find_activity(const Trail& trail, const std::string& name,
                                           std::vector<std::string>* known) {
    for (const LaneKind* kind : LaneKinds::all())
        for (const LaneKind::Name& n : kind->names(trail)) {
            if (n.name == name || (!n.number.empty() && n.number == name)) return NamedActivity{kind, n.index};
            if (known != nullptr) known->push_back(n.name);
        }
    return std::nullopt;
}

}  // namespace mt
