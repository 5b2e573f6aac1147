// A table over any number of packets or events: only the rows on the screen are ever decoded.
#pragma once

#include <functional>
#include <optional>

#include "document/block_store.h"
#include "document/document.h"
#include "evidence/row_table.h"
#include "navigate/viewpoint.h"

namespace mt::app {

class PacketTable : public RowTable {
    Q_OBJECT
  public:
    enum class Show { events, packets };
    PacketTable(Show show, Document& document, Viewpoint& view, BlockStore& store, QWidget* parent = nullptr);

    QString id() const override { return show_ == Show::events ? "events" : "packets"; }
    QString title() const override { return show_ == Show::events ? tr("Events") : tr("Packets"); }
    bool has_something() const override;
    std::vector<Stream> streams() const override;
    std::uint64_t row_count() const override;
    /// The texts of a row, column by column; empty while it is still being decoded.
    QStringList row_text(std::uint64_t row);
    QStringList headings() const;
    void copy_selected() override;
    /// Looks at kind, name and value, in any case of letters, on the worker.
    void find_text(const QString& text, bool forwards, std::function<void(const QString& why_not)> done) override;

  protected:
    std::optional<Time> time_of(std::uint64_t row) override;
    void follow_cursor() override;
    Time room() const override { return Time::from_us(50); }
    Scan scan_for(const QString& text) override;
    void paintEvent(QPaintEvent*) override;

  private:
    struct Found {
        std::shared_ptr<const StoredBlock> block;
        const TimedPacket* packet = nullptr;
    };
    Found find(std::uint64_t row);
    QStringList texts(const StoredBlock& block, const TimedPacket& packet) const;

    Show show_;
    BlockStore& store_;
};

}  // namespace mt::app
