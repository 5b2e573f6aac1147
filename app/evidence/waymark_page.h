// The waymarks of a recording as a list: places that a person named, with a note.
#pragma once

#include <vector>

#include "document/document.h"
#include "evidence/listed_table.h"

namespace mt::app {

/// A row for each waymark, by time. Enter edits one, Delete takes it
/// away, Ctrl+Z takes the last change back.
class WaymarkPage : public ListedTable {
    Q_OBJECT
  public:
    WaymarkPage(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    QString id() const override { return "waymarks"; }
    QString title() const override { return tr("Waymarks"); }
    bool has_something() const override { return row_count() > 0; }

    std::uint64_t row_count() const override;
    /// Time, name, length, time since the one before, note.
    QStringList row_text(std::uint64_t row) const override;
    /// Asks for a name and a note, and plants one: from A to B if both are set, else at the cursor.
    void ask_plant();
    void undo();

  signals:
    void told(const QString& text, bool bad);

  protected:
    std::optional<Time> time_of(std::uint64_t row) override;
    std::uint64_t row_at_time(Time t) const override;
    Time room() const override { return Time::from_ms(1); }
    Scan scan_for(const QString& text) override;
    Cell look_of(std::size_t column) const override { return {column != 1 && column != 4, column != 1}; }
    QString empty_text() const override { return tr("No waymark yet. X plants one at the cursor, or from A to B."); }
    QStringList value_heads() const override { return {tr("time (ns)"), tr("end (ns)"), tr("name"), tr("note")}; }
    QStringList row_values(std::uint64_t row) const override;
    void keyPressEvent(QKeyEvent*) override;
    void add_to_menu(QMenu& menu) override;

  private:
    const std::vector<Waymark>& all() const;
    bool ask(Waymark& mark, const QString& title);
    void change(std::vector<Waymark> next);
    void edit();
    void take_away();

    std::vector<std::vector<Waymark>> before_;  ///< to go back to
};

}  // namespace mt::app
