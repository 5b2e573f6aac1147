// Tables of what the trail holds as a list, so that each row is there at once: samples, text, waymarks.
#pragma once

#include <functional>
#include <memory>

#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/row_table.h"

namespace mt::app {

/// The current row and the cursor follow each other. Looking for a text goes through `scan_for` on a worker.
class ListedTable : public RowTable {
    Q_OBJECT
  public:
    ListedTable(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    ~ListedTable() override;
    bool has_something() const override { return !streams().empty(); }
    /// The texts of a row, column by column; empty if there is no such row.
    virtual QStringList row_text(std::uint64_t row) const = 0;
    /// The selected rows that are shown, with a heading, times in nanoseconds.
    void copy_selected() override;
    void find_text(const QString& text, bool forwards, std::function<void(const QString& why_not)> done) override;

  protected:
    struct Cell {
        bool figure = true, second = false;  ///< of equal width; in the second colour
    };
    virtual Cell look_of(std::size_t column) const = 0;
    /// What is said where nothing is listed.
    virtual QString empty_text() const = 0;
    /// What is copied: headings, and a row's values as plain numbers.
    virtual QStringList value_heads() const = 0;
    virtual QStringList row_values(std::uint64_t row) const = 0;
    /// The row in force at a time. REQUIRES: there are rows.
    virtual std::uint64_t row_at_time(Time t) const = 0;

    void follow_cursor() override;
    void paintEvent(QPaintEvent*) override;

  private:
    std::shared_ptr<Progress> finding_;
    JobQueue find_jobs_;  ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
