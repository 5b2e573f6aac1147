// The samples of a value, one by one: when, what, and who wrote it.
#pragma once

#include "document/document.h"
#include "evidence/listed_table.h"

namespace mt::app {

/// A row for each sample of one value, the one whose lane is selected.
class SamplesPage : public ListedTable {
    Q_OBJECT
  public:
    SamplesPage(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    QString id() const override { return "samples"; }
    QString title() const override { return tr("Samples"); }
    std::vector<Stream> streams() const override;

    std::uint64_t row_count() const override;
    /// Time, value, change since the sample before, how it was told, by whom, and the instruction.
    QStringList row_text(std::uint64_t row) const override;

  protected:
    std::optional<Time> time_of(std::uint64_t row) override;
    std::uint64_t row_at_time(Time t) const override;
    Time room() const override { return Time::from_us(50); }
    Scan scan_for(const QString& text) override;
    Cell look_of(std::size_t column) const override { return {column != 3 && column != 4, column == 0 || column == 3}; }
    QString empty_text() const override;
    QStringList value_heads() const override;
    QStringList row_values(std::uint64_t row) const override;

  private:
    const ValueLane* lane() const;
    void look_at_selection();
};

}  // namespace mt::app
