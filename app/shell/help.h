// Help inside the program: all keys and gestures, and the guide with the formats, both searched by one field.
#pragma once

#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QSortFilterProxyModel>
#include <QStandardItemModel>
#include <QTabWidget>
#include <QTableView>
#include <QTextBrowser>

namespace mt::app {

class Commands;

/// A window beside the others. What is typed leaves those keys that have it, and leads through its places in the guide.
class Help : public QDialog {
    Q_OBJECT
  public:
    explicit Help(const Commands& commands, QWidget* parent = nullptr);

    /// The guide in front, from its beginning.
    void show_guide();
    QTableView* keys() const { return keys_; }
    QTextBrowser* guide() const { return guide_; }
    QListWidget* headings() const { return headings_; }
    /// How many places of the guide have what is typed.
    int matches() const { return static_cast<int>(matches_.size()); }

  private:
    void fill_keys(const Commands& commands);
    void fill_guide();
    void search(const QString& text);
    void step(int direction);
    void mark();
    void follow(const QUrl& link);
    void show_block(int block);

    QLineEdit* field_;
    QLabel* count_;
    QTabWidget* tabs_;
    QStandardItemModel* model_;
    QSortFilterProxyModel* filtered_;
    QTableView* keys_;
    QListWidget* headings_;
    QTextBrowser* guide_;
    QList<QTextCursor> matches_;
    qsizetype at_ = 0;
};

}  // namespace mt::app
