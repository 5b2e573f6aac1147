#include <array>

#include "base/plain_text.h"
#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kTextFigures[] = {
    {"name", "text", "name of the port"},
    {"number", "port", "its number"},
    {"core", "core", "who printed it"},
    {"count", "lines", "how many lines"},
    {"bytes", "bytes", "how many bytes, without the ends of the lines"},
    {"torn", "torn", "lines within which packets were lost: some of their bytes may be missing"},
};
constexpr std::string_view kTextColumns[] = {"name", "number", "core", "count", "bytes", "torn"};
constexpr std::string_view kTextInstances[] = {"index", "time_ns", "text", "torn"};
constexpr PanelFigure kPanel[] = {{"count", "lines"}, {"bytes", "bytes"}, {"torn", "torn"}};

class TextTicks final : public PlainLane {
  public:
    TextTicks(const Trail& trail, const TextLog& log)
        : PlainLane(trail,
                    {log.name, plural(log.size(), "line", "lines") + " of text", log.core, Shape::ticks, Ink::mark}),
          log_(log) {}
    std::size_t size(std::size_t) const override { return log_.size(); }
    Span span(std::size_t, std::size_t i) const override {
        const Time t = log_.line(i).begin;
        return {t, t, {}, {}};
    }
    Range touching(std::size_t, Time from, Time to) const override {
        const std::size_t first = log_.first_from(from);
        return {first, std::max(first, log_.first_from(to + Time{1}))};
    }
    std::string label(std::size_t, std::size_t i) const override { return plain_text(log_.raw(i)); }
    Told told(Time, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return {log_.name, {"no line here, " + count_text(log_.size()) + " in all"}};
        const TextLine line = log_.line(span->second);
        Told all{label(0, span->second), {log_.name + " at " + moment_text(line.begin)}};
        if ((line.flags & TextLine::kTorn) != 0) all.lines.push_back("packets were lost within it");
        return all;
    }

  private:
    const TextLog& log_;
};

class Text final : public LaneKind {
  public:
    std::string_view id() const override { return "text"; }
    int order() const override { return 115; }
    int rank() const override { return kAcrossCores + 70; }
    std::string_view one() const override { return "a line of text"; }
    std::span<const FigureInfo> figures() const override { return kTextFigures; }
    std::span<const std::string_view> columns() const override { return kTextColumns; }
    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override { return kPanel; }
    bool told(const Trail& trail) const override { return !lanes(trail).empty(); }
    std::string_view advice() const override {
        return "it comes through a stimulus port: name it with kind = \"text\" in a [[port]] of the target file";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const std::uint64_t i : lanes(of.trail)) {
            const TextLog& log = of.trail.texts[i];
            std::uint64_t torn = 0;
            for (std::size_t l = 0; l < log.size(); ++l) torn += (log.line(l).flags & TextLine::kTorn) != 0 ? 1 : 0;
            all.push_back({i,
                           {log.name, log.port == TextLog::kConsole ? Cell{} : Cell(std::uint64_t{log.port}), of.trail.cores[log.core].name, std::uint64_t{log.size()},
                            std::uint64_t{log.bytes.size()}, torn}});
        }
        return all;
    }

    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t i = 0; i < trail.texts.size(); ++i)
            if (trail.texts[i].is_text()) all.push_back(i);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.texts.size()) return nullptr;
        return std::make_unique<TextTicks>(trail, trail.texts[index]);
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (const std::uint64_t i : lanes(trail)) all.push_back({trail.texts[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kTextInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const TextLog& log = trail.texts[index];
        for (std::size_t i = 0; i < log.size(); ++i) {
            const TextLine line = log.line(i);
            const std::array<Cell, std::size(kTextInstances)> row = {
                std::uint64_t{i}, line.begin, plain_text(log.raw(i)), (line.flags & TextLine::kTorn) != 0};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const LaneKind& text_kind() {
    static const Text kind;
    return kind;
}

}  // namespace mt
