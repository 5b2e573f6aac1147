#include "evidence/samples_page.h"

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "judge/writers.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"

namespace mt::app {
namespace {

// How much it changed, with its sign; nothing where one of both is no number.
QString change_of(const ValueLane& lane, std::size_t i) {
    if (i == 0 || !lane.known(i) || !lane.known(i - 1) || !lane.value_names.empty()) return {};
    const double by = lane.value(i).number() - lane.value(i - 1).number();
    if (std::isnan(by) || by == 0) return by == 0 ? QStringLiteral("=") : QString();
    return (by > 0 ? "+" : "−") + QString::number(std::fabs(by), 'g', 6);
}

QStringList cells_of(const Recording& recording, const Trail& trail, const ValueLane& lane, std::size_t i) {
    const ValueOrigin origin = lane.origin(i);
    return {words(moment_text(lane.samples.time(i))),
            words(lane.text(i) + (lane.unit.empty() || !lane.known(i) ? "" : " " + lane.unit)),
            change_of(lane, i),
            words(std::string(value_access_name(origin.access))),
            words(Writers(recording, trail, lane).of(i)),
            origin.instruction_known ? words(hex_text(origin.instruction, 8)) : QString()};
}

}  // namespace

SamplesPage::SamplesPage(Document& document, Viewpoint& view, QWidget* parent) : ListedTable(document, view, parent) {
    setAccessibleName(tr("Samples of a value"));
    set_columns({tr("time"), tr("value"), tr("change"), tr("how"), tr("by"), tr("instruction")},
                {160, 140, 110, 90, 180, 110});
    connect(&view, &Viewpoint::selection_changed, this, &SamplesPage::look_at_selection);
}

std::vector<EvidencePage::Stream> SamplesPage::streams() const {
    std::vector<Stream> all;
    const auto trail = document_.trail();
    if (!trail) return all;
    for (const ValueLane& lane : trail->tasks.values) {
        const bool inside = lane.core < trail->cores.size();
        all.push_back({inside && trail->cores.size() > 1 ? words(trail->cores[lane.core].name + ": " + lane.name)
                                                         : words(lane.name),
                       inside ? lane.core : std::size_t{0}});
    }
    return all;
}

const ValueLane* SamplesPage::lane() const {
    const auto trail = document_.trail();
    return trail && stream_ < trail->tasks.values.size() ? &trail->tasks.values[stream_] : nullptr;
}

// The value that is selected in the lanes is the one that is shown.
void SamplesPage::look_at_selection() {
    const LaneId id = view_.selection().lane;
    if (id.kind != &values_kind() && id.kind != &states_kind()) return;
    const auto trail = document_.trail();
    if (!trail || id.index >= trail->tasks.values.size() || id.index == stream_) return;
    use_stream(static_cast<std::size_t>(id.index));
}

std::uint64_t SamplesPage::row_count() const { return lane() == nullptr ? 0 : lane()->samples.size(); }

std::optional<Time> SamplesPage::time_of(std::uint64_t row) {
    return row < row_count() ? std::optional(lane()->samples.time(static_cast<std::size_t>(row))) : std::nullopt;
}

QStringList SamplesPage::row_text(std::uint64_t row) const {
    if (row >= row_count() || !document_.recording()) return {};
    return cells_of(*document_.recording(), *document_.trail(), *lane(), static_cast<std::size_t>(row));
}

std::uint64_t SamplesPage::row_at_time(Time t) const {
    const std::size_t at = lane()->at(t);
    return at == lane()->samples.size() ? 0 : at;
}

QString SamplesPage::empty_text() const {
    return tr("No value was told yet. Values come from watched variables, ports of kind value, events, and what other "
              "devices measure.");
}
QStringList SamplesPage::value_heads() const {
    return {tr("time (ns)"), tr("value"), tr("how"), tr("by"), tr("instruction")};
}
QStringList SamplesPage::row_values(std::uint64_t row) const {
    const auto i = static_cast<std::size_t>(row);
    const QStringList cells = row_text(row);
    return {words(ns_text(lane()->samples.time(i))), words(lane()->text(i)), cells[3], cells[4], cells[5]};
}

RowTable::Scan SamplesPage::scan_for(const QString& text) {
    return [text, recording = document_.recording(), trail = document_.trail(),
            index = stream_](const std::function<bool(Rows)>& found) {
        constexpr std::size_t batch = 4096;
        const ValueLane& lane = trail->tasks.values[index];
        for (std::size_t i = 0; i < lane.samples.size(); i += batch) {
            Rows rows;
            for (std::size_t k = i; k < std::min(i + batch, lane.samples.size()); ++k)
                if (cells_of(*recording, *trail, lane, k).join(' ').contains(text, Qt::CaseInsensitive))
                    rows.push_back(k);
            if (!found(std::move(rows))) return;
        }
    };
}

}  // namespace mt::app
