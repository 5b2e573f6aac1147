// The findings as a person sees them: like ones as one row, filtered, without those that were muted.
#pragma once

#include <QObject>
#include <QString>

#include "document/document.h"
#include "judge/alike.h"
#include "judge/muted.h"

namespace mt::app {

/// Rows are groups of findings that say the same. Only the window's thread may call its members.
class FindingList : public QObject {
    Q_OBJECT
  public:
    explicit FindingList(Document& document, QObject* parent = nullptr);

    std::size_t rows() const { return rows_.size(); }
    /// The finding that stands for a row: of its places the one that was gone to last, at first the worst.
    std::size_t finding_of(std::size_t row) const { return rows_[row].members[rows_[row].at]; }
    const FindingGroup& members(std::size_t row) const { return rows_[row].members; }
    /// Which of the members `finding_of` is, from 0.
    std::size_t place_of(std::size_t row) const { return rows_[row].at; }
    /// The row that a finding stands in; nothing if it is filtered or muted.
    std::optional<std::size_t> row_of(std::size_t finding) const;
    /// Another place of the same row stands for it from now on.
    void choose(std::size_t finding);
    std::size_t next_place(std::size_t row, int direction) const;

    /// Kinds that there are findings of, muted or not, and how many rows each has.
    std::vector<std::pair<std::string, std::size_t>> kinds() const;
    /// Only of this kind; empty: all. Only with this text in title, cause or a name.
    void set_filter(const QString& kind, const QString& text);
    const QString& kind_filter() const { return kind_; }
    const QString& text_filter() const { return text_; }

    /// Why a finding is muted; empty: it is not.
    QString reason(std::size_t finding) const;
    std::size_t muted_rows() const { return muted_rows_; }
    void show_muted(bool on);
    bool muted_shown() const { return show_muted_; }
    /// Mutes all that say the same; kept with the recording. A Problem if it cannot be written.
    Result<void> mute(std::size_t row, const QString& reason);
    Result<void> unmute(std::size_t row);
    const Muted& muted() const { return muted_; }
    QString muted_file() const;

  signals:
    void renewed();
    /// The file of muted findings cannot be read.
    void failed(const mt::Problem& problem);

  private:
    struct Row {
        FindingGroup members;
        std::size_t at = 0;
    };
    void take_muted();
    void renew();
    Document& document_;
    Muted muted_;
    std::vector<Row> rows_;
    std::size_t muted_rows_ = 0;
    QString kind_, text_;
    bool show_muted_ = false;
};

}  // namespace mt::app
