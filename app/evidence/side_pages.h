// Two recordings side by side: figures, what happened, which code ran.
#pragma once

#include <memory>
#include <vector>

#include <QComboBox>
#include <QLabel>
#include <QSortFilterProxyModel>
#include <QStandardItemModel>
#include <QTableView>
#include <QTimer>
#include <QWidget>

#include "compare/code_both.h"
#include "compare/side_by_side.h"
#include "document/document.h"
#include "document/job_queue.h"

namespace mt::app {

/// The other recording, read.
struct OtherRecording {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
    std::vector<std::pair<const LaneKind*, std::vector<MeasuredRow>>> figures;  ///< of each kind that it tells of
    std::vector<CodeBoth> code;
};

/// One figure of every activity of a kind in both.
class FiguresBothPage : public QWidget {
    Q_OBJECT
  public:
    explicit FiguresBothPage(Document& document, QWidget* parent = nullptr);
    void show_other(std::shared_ptr<const OtherRecording> other);
    void choose(std::string_view kind, std::string_view figure);
    QTableView* table() const { return table_; }

  private:
    void renew_kinds();
    void renew_figures();
    void fill();
    const LaneKind* kind() const;

    Document& document_;
    std::shared_ptr<const OtherRecording> other_;
    QComboBox *kind_, *figure_;
    QStandardItemModel* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* table_;
};

/// Where both recordings are looked at: a stretch of each.
struct SideStretch {
    Time before_from, before_to, after_from, after_to;
    bool of_spans = false;  ///< what is selected in each; else what is visible
    bool operator==(const SideStretch&) const = default;
};

/// What happened in a stretch of each, or the calls within it; what both have stands in one row.
class SidePage : public QWidget {
    Q_OBJECT
  public:
    SidePage(Document& document, QWidget* parent = nullptr);
    void show_other(std::shared_ptr<const OtherRecording> other);
    void look_at(const SideStretch& stretch, std::size_t core);
    QTableView* table() const { return table_; }
    QString hint() const { return hint_->text(); }
    void show_calls(bool on) { what_->setCurrentIndex(on ? 1 : 0); }

  signals:
    void filled();
    void moment_chosen(mt::Time after);

  protected:
    void showEvent(QShowEvent*) override { ask(); }

  private:
    void ask();
    void compute();
    void fill(const std::vector<SideRow>& rows);

    Document& document_;
    std::shared_ptr<const OtherRecording> other_;
    SideStretch stretch_;
    std::size_t core_ = 0;
    QComboBox* what_;
    QLabel* hint_;
    QStandardItemModel* model_;
    QTableView* table_;
    std::vector<SideRow> rows_;
    QTimer soon_;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

/// Functions of which only one of both ran something, and branches that went another way.
class CodeBothPage : public QWidget {
    Q_OBJECT
  public:
    explicit CodeBothPage(Document& document, QWidget* parent = nullptr);
    void show_other(std::shared_ptr<const OtherRecording> other);
    QTableView* table() const { return table_; }
    QString hint() const { return hint_->text(); }

  signals:
    void place_chosen(std::size_t stream, std::uint32_t slot);

  private:
    Document& document_;
    QLabel* hint_;
    QStandardItemModel* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* table_;
};

}  // namespace mt::app
