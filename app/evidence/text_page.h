// What the firmware printed, line by line.
#pragma once

#include <vector>

#include <QLineEdit>

#include "document/document.h"
#include "evidence/listed_table.h"

namespace mt::app {

/// A row for each line of one port.
class TextPage : public ListedTable {
    Q_OBJECT
  public:
    TextPage(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    QString id() const override { return "text"; }
    QString title() const override { return tr("Text"); }
    std::vector<Stream> streams() const override;

    /// A line below, in which a person types what the target reads from its console; shown while there is one.
    void set_console(bool on);
    QLineEdit* input() const { return input_; }
    bool has_something() const override { return !input_->isHidden() || ListedTable::has_something(); }

    std::uint64_t row_count() const override;
    /// Time and line.
    QStringList row_text(std::uint64_t row) const override;

  signals:
    /// A person typed this line.
    void typed(const QString& line);

  protected:
    void resizeEvent(QResizeEvent*) override;
    std::optional<Time> time_of(std::uint64_t row) override;
    std::uint64_t row_at_time(Time t) const override;
    Time room() const override { return Time::from_us(500); }
    Scan scan_for(const QString& text) override;
    Cell look_of(std::size_t column) const override { return {true, column == 0}; }
    QString empty_text() const override { return tr("Nothing was printed yet."); }
    QStringList value_heads() const override { return {tr("time (ns)"), tr("text")}; }
    QStringList row_values(std::uint64_t row) const override;
    void paintEvent(QPaintEvent*) override;
    void add_to_menu(QMenu& menu) override;

  private:
    QLineEdit* input_;
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
