// The ranked list of findings: like ones as one, to filter and mute; a click goes there.
#pragma once

#include <QAbstractListModel>
#include <QLabel>
#include <QLineEdit>
#include <QListView>
#include <QToolButton>
#include <QWidget>

#include "document/finding_list.h"

namespace mt::app {

class FindingsModel : public QAbstractListModel {
    Q_OBJECT
  public:
    FindingsModel(Document& document, FindingList& list, QObject* parent)
        : QAbstractListModel(parent), document_(document), list_(list) {}
    int rowCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    void renew();

  private:
    Document& document_;
    FindingList& list_;
};

class FindingsPanel : public QWidget {
    Q_OBJECT
  public:
    FindingsPanel(Document& document, FindingList& findings, QWidget* parent = nullptr);
    QListView* list() const { return list_; }
    /// Shows that this finding was gone to.
    void select(std::size_t finding);
    /// The row that is selected; -1: none.
    int current() const;
    /// Mutes the selected row, or takes that back; asks for the reason.
    void ask_mute();

  signals:
    void chosen(std::size_t finding);
    /// A link in a finding's text: somebody that is involved, or a moment.
    void involved_chosen(std::size_t finding, std::size_t which);
    void moment_chosen(mt::Time t);
    void place_chosen(std::size_t finding, const QString& place);
    void told(const QString& text, bool bad);

  protected:
    bool eventFilter(QObject* watched, QEvent* e) override;

  private:
    void renew();
    void take(int row);
    void follow(const QString& link, std::size_t finding);
    void menu(const QPoint& at);
    void fill_kinds(QMenu* menu);
    QString link_at(const QPoint& at) const;
    Document& document_;
    FindingList& findings_;
    FindingsModel* model_;
    QListView* list_;
    QLabel *count_, *empty_;
    QLineEdit* filter_;
    QToolButton* kinds_;
    int gone_to_ = -1;  ///< the row of the last click: another one goes to its next place
};

}  // namespace mt::app
