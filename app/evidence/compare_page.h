// Before and after: what changed from another recording to this one, because of what, and what of it was found before.
#pragma once

#include <memory>
#include <vector>

#include <QAbstractTableModel>
#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>
#include <QTabBar>
#include <QTableView>

#include "compare/compare.h"
#include "compare/fixed.h"
#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/evidence_page.h"
#include "evidence/side_pages.h"

namespace mt::app {

/// What a comparison found out, and what both recordings hold of each quantity.
struct TwoCompared {
    QString before;  ///< what the other recording is called
    Comparison comparison;
    std::vector<Quantity> was, is;
    std::vector<Mended> mended;
    std::shared_ptr<const OtherRecording> other;
};

/// A row for each change: causes with their effects below them; then what appeared and vanished, and what was found before.
class ChangeModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    enum Column { direction, what, before, after, relative, why, kColumns };
    using QAbstractTableModel::QAbstractTableModel;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    void set(std::shared_ptr<const TwoCompared> of);
    /// The change in a row; null where it is something else.
    const Change* change(int row) const;

  private:
    std::shared_ptr<const TwoCompared> of_;
};

/// Two distributions on one scale: before above the line, after below it.
class TwoDistributions : public QWidget {
    Q_OBJECT
  public:
    using QWidget::QWidget;
    /// `in_time`: values are picoseconds. `why`: said in place of the picture where there are no values.
    void show_values(const std::vector<double>& before, const std::vector<double>& after, bool in_time, const QString& title,
                     const QString& why);
    const QString& why() const { return why_; }
    QSize sizeHint() const override { return {300, 170}; }

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<double> up_, down_;  ///< shares of each bin
    double low_ = 0, high_ = 0;
    std::size_t n_before_ = 0, n_after_ = 0;
    bool in_time_ = true;
    QString title_, why_;
};

class ComparePage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    ComparePage(Document& document, QWidget* parent = nullptr);
    ~ComparePage() override;
    QWidget* widget() override { return this; }
    QString id() const override { return "compare"; }
    QString title() const override { return tr("Compare"); }
    bool has_something() const override { return document_.trail() != nullptr; }
    QTableView* table() const { return table_; }
    enum Part { changes, figures, events, code };
    void show_part(Part part) { parts_->setCurrentIndex(part); }
    FiguresBothPage* both() const { return both_; }
    SidePage* side() const { return side_; }
    CodeBothPage* code_of_both() const { return code_; }
    QString hint() const { return hint_->text(); }
    /// What was found out; null: nothing yet.
    std::shared_ptr<const TwoCompared> found() const { return found_; }
    /// The path of the other recording; empty: none yet.
    const QString& other() const { return before_; }
    /// Reads another recording, as the one before, and compares. `compared` follows, or the hint says why not.
    void compare_with(const QString& path);
    /// Asks which one.
    void ask();

  signals:
    void compared();
    /// A person wants to see where something changed.
    void lane_chosen(const mt::LaneId& lane);
    void place_chosen(std::size_t stream, std::uint32_t slot);
    void moment_chosen(mt::Time t);
    /// A person wants the lanes of the other recording too, or no longer.
    void lanes_wanted(const QString& path);

  private:
    void renew_hint();
    void choose_row();
    void show_others();
    void stop();

    Document& document_;
    ChangeModel* model_;
    QTableView* table_;
    TwoDistributions* picture_;
    QLabel *hint_, *figures_;
    QPushButton *open_, *cancel_, *lanes_;
    QTabBar* parts_;
    FiguresBothPage* both_;
    SidePage* side_;
    CodeBothPage* code_;
    std::shared_ptr<const TwoCompared> found_;
    QString before_, trouble_;
    std::shared_ptr<Progress> progress_;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
