// The ranked list of findings; a click goes there.
#pragma once

#include <QAbstractListModel>
#include <QLabel>
#include <QListView>
#include <QWidget>

#include "session.h"

namespace mt::app {

class FindingsModel : public QAbstractListModel {
    Q_OBJECT
  public:
    explicit FindingsModel(Session& session, QObject* parent = nullptr)
        : QAbstractListModel(parent), session_(session) {}
    int rowCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    void renew();

  private:
    Session& session_;
};

class FindingsPanel : public QWidget {
    Q_OBJECT
  public:
    FindingsPanel(Session& session, QWidget* parent = nullptr);
    QListView* list() const { return list_; }
    void select(int index);
    int current() const;

  signals:
    void chosen(int index);

  private:
    void renew();
    Session& session_;
    FindingsModel* model_;
    QListView* list_;
    QLabel* count_;
    QLabel* empty_;
};

}  // namespace mt::app
