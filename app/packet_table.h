// A table over any number of packets or events: only the rows on the screen are ever decoded.
#pragma once

#include <functional>
#include <optional>

#include "block_store.h"
#include "row_table.h"
#include "session.h"
#include "viewpoint.h"

namespace mt::app {

class PacketTable : public RowTable {
    Q_OBJECT
  public:
    enum class Show { events, packets };
    PacketTable(Show show, Session& session, Viewpoint& view, BlockStore& store, QWidget* parent = nullptr);

    void use_stream(std::size_t stream);
    std::size_t stream() const { return stream_; }
    std::uint64_t row_count() const override;
    /// The texts of a row, column by column; empty while it is still being decoded.
    QStringList row_text(std::uint64_t row);
    QStringList headings() const;
    void copy_selected() override;
    /// Goes to the next row (or the one before) whose kind, name or value contains `text`, in any case of
    /// letters. Searches on the worker; `done` is told whether there was one.
    void find_text(const QString& text, bool forwards, std::function<void(bool)> done);

  protected:
    std::optional<Time> time_of(std::uint64_t row) override;
    void follow_cursor() override;
    Time room() const override { return Time::from_us(50); }
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

  private:
    struct Found {
        std::shared_ptr<const StoredBlock> block;
        const TimedPacket* packet = nullptr;
    };
    Found find(std::uint64_t row);
    QStringList texts(const StoredBlock& block, const TimedPacket& packet) const;

    Show show_;
    Session& session_;
    BlockStore& store_;
    std::size_t stream_ = 0;
    std::vector<int> widths_;
    int resizing_ = -1;
};

}  // namespace mt::app
