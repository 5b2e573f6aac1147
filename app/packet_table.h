// A table over any number of packets or events: only the rows on the screen are ever decoded.
#pragma once

#include <functional>
#include <optional>

#include <QAbstractScrollArea>

#include "block_store.h"
#include "session.h"
#include "viewpoint.h"

namespace mt::app {

class PacketTable : public QAbstractScrollArea {
    Q_OBJECT
  public:
    enum class Show { events, packets };
    PacketTable(Show show, Session& session, Viewpoint& view, BlockStore& store, QWidget* parent = nullptr);

    void use_stream(std::size_t stream);
    std::size_t stream() const { return stream_; }
    std::uint64_t row_count() const;
    std::optional<std::uint64_t> current_row() const { return current_; }
    /// The texts of a row, column by column; empty while it is still being decoded.
    QStringList row_text(std::uint64_t row);
    QStringList headings() const;
    void copy_selected();
    /// Goes to the next row (or the one before) whose kind, name or value contains `text`, in any case of
    /// letters. Searches on the worker; `done` is told whether there was one.
    void find_text(const QString& text, bool forwards, std::function<void(bool)> done);

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void showEvent(QShowEvent*) override;

  private:
    struct Found {
        std::shared_ptr<const StoredBlock> block;
        const TimedPacket* packet = nullptr;
    };
    Found find(std::uint64_t row);
    QStringList texts(const StoredBlock& block, const TimedPacket& packet) const;
    void follow_cursor();
    void renew();
    void update_bar();
    void go_to_row(std::int64_t row, bool extend);
    void place(std::uint64_t row);
    int rows_shown() const;
    std::uint64_t top_row() const;

    Show show_;
    Session& session_;
    Viewpoint& view_;
    BlockStore& store_;
    std::size_t stream_ = 0;
    std::optional<std::uint64_t> current_, anchor_;
    std::optional<Time> wanted_;  ///< the cursor's time, to be scrolled to when its block has come
    std::optional<std::uint64_t> place_when_there_;
    bool own_move_ = false;
    std::vector<int> widths_;
    int resizing_ = -1;
};

}  // namespace mt::app
