// The samples of a value, one by one: when, what, and who wrote it.
#pragma once

#include <functional>

#include "document/document.h"
#include "evidence/row_table.h"

namespace mt::app {

/// A row for each sample of one value, the one whose lane is selected; the current row and the cursor follow each
/// other.
class SamplesPage : public RowTable {
    Q_OBJECT
  public:
    SamplesPage(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    QString id() const override { return "samples"; }
    QString title() const override { return tr("Samples"); }
    bool has_something() const override { return !streams().empty(); }
    std::vector<Stream> streams() const override;
    void find_text(const QString& text, bool forwards, std::function<void(const QString& why_not)> done) override;

    std::uint64_t row_count() const override;
    /// Time, value, change since the sample before, how it was told, by whom, and the instruction.
    QStringList row_text(std::uint64_t row) const;
    /// The selected rows, times in nanoseconds.
    void copy_selected() override;

  protected:
    std::optional<Time> time_of(std::uint64_t row) override;
    void follow_cursor() override;
    Time room() const override { return Time::from_us(50); }
    Scan scan_for(const QString& text) override;
    void paintEvent(QPaintEvent*) override;

  private:
    const ValueLane* lane() const;
    void look_at_selection();
};

}  // namespace mt::app
