// What the firmware printed, line by line.
#pragma once

#include <functional>
#include <vector>

#include "document/document.h"
#include "evidence/row_table.h"

namespace mt::app {

/// A row for each line of one port; the current row and the cursor follow each other.
class TextPage : public RowTable {
    Q_OBJECT
  public:
    TextPage(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    QString id() const override { return "text"; }
    QString title() const override { return tr("Text"); }
    bool has_something() const override { return !streams().empty(); }
    std::vector<Stream> streams() const override;
    void find_text(const QString& text, bool forwards, std::function<void(const QString& why_not)> done) override;

    std::uint64_t row_count() const override;
    /// Time and line.
    QStringList row_text(std::uint64_t row) const;
    /// The selected rows, times in nanoseconds.
    void copy_selected() override;

  protected:
    std::optional<Time> time_of(std::uint64_t row) override;
    void follow_cursor() override;
    Time room() const override { return Time::from_us(500); }
    Scan scan_for(const QString& text) override;
    void paintEvent(QPaintEvent*) override;
    void add_to_menu(QMenu& menu) override;

  private:
    const TextLog* log() const;
    /// Lines that hold one of these words have its colour; remembered over all recordings.
    struct Coloured {
        QString word;
        int colour = 0;
    };
    void set_colour(const QString& word, int colour);
    std::vector<Coloured> coloured_;
};

}  // namespace mt::app
