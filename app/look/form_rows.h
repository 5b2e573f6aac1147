// A form: rows of fields with their captions at the left.
#pragma once

#include <QGridLayout>
#include <QString>

#include <initializer_list>

class QLabel;
class QWidget;

namespace mt::app {

/// Text of the second rank, as captions have it.
QLabel* caption(const QString& text);

/// Rows below each other in one grid.
class FormRows {
  public:
    explicit FormRows(int between);
    QGridLayout* grid() const { return grid_; }

    /// A caption and the fields beside it. Line edits and tables take the room that is left; fields without a name of
    /// their own are called as the caption says, for assistive technology.
    void add(const QString& text, std::initializer_list<QWidget*> fields);
    /// The heading of what follows.
    void part(const QString& text);
    /// Something of its own where the fields stand; at the left `before`, if it is not null.
    void whole(QWidget* widget, QWidget* before = nullptr);
    void whole(QLayout* layout);

  private:
    QGridLayout* grid_;
    int line_ = 0;
};

}  // namespace mt::app
