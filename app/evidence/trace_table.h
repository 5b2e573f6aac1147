// A table over the event records of an event trace: only the rows on the screen are ever decoded.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>

#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/row_table.h"
#include "navigate/viewpoint.h"
#include "share/task_tables.h"

namespace mt::app {

class TraceTable : public RowTable {
    Q_OBJECT
  public:
    TraceTable(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    ~TraceTable() override;

    QString id() const override { return "system_events"; }
    QString title() const override { return tr("System events"); }
    bool has_something() const override;
    std::vector<Stream> streams() const override;
    void use_stream(std::size_t stream) override;
    std::uint64_t row_count() const override;
    /// The texts of a row, column by column; empty while it is still being decoded.
    QStringList row_text(std::uint64_t row);
    void copy_selected() override;
    void find_text(const QString& text, bool forwards, std::function<void(const QString& why_not)> done) override;

  protected:
    std::optional<Time> time_of(std::uint64_t row) override;
    void follow_cursor() override;
    Time room() const override { return Time::from_us(500); }
    Scan scan_for(const QString& text) override;
    void paintEvent(QPaintEvent*) override;

  private:
    using Texts = std::shared_ptr<const std::vector<TraceEventText>>;
    const EventStream* events() const;
    /// The packet that holds a row, and where the row lies in it.
    std::pair<std::size_t, std::size_t> place_of(std::uint64_t row) const;
    Texts packet(std::size_t index);
    const TraceEventText* find(std::uint64_t row, Texts& keep);

    std::map<std::size_t, Texts> packets_;  ///< decoded ones
    std::set<std::size_t> asked_;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
