// One field to search everything, and the list of what was found below it.
#pragma once

#include <functional>

#include <QFrame>
#include <QLineEdit>
#include <QListWidget>

#include "shell/search_hits.h"

namespace mt::app {

/// Enter goes to what is chosen in the list, the first at the beginning; the arrow keys choose, Escape closes. `repeat`
/// goes to the next of the same.
class Search : public QLineEdit {
    Q_OBJECT
  public:
    explicit Search(QWidget* parent = nullptr);
    /// Where it looks from now on.
    void look_in(Desk& desk) { desk_ = &desk; }
    /// Commands that can be found, too.
    void offer(QList<QAction*> commands) { commands_ = std::move(commands); }
    /// Puts what is typed next in place of what stands there.
    void begin();
    /// To the next (or the one before) of what was gone to last.
    void repeat(bool forwards);
    /// What the list shows, for tests: headings, and what was found as "text | detail".
    QStringList listed() const;
    QListWidget* list() const { return list_; }

  protected:
    bool event(QEvent* e) override;
    void keyPressEvent(QKeyEvent* e) override;
    void focusOutEvent(QFocusEvent* e) override;

  private:
    void renew();
    void place_list();
    void move(int rows);
    void take(int row, bool forwards);
    Desk* desk_ = nullptr;
    QList<QAction*> commands_;
    std::vector<Hit> hits_;
    std::vector<int> hit_of_row_;  ///< -1: a heading
    QListWidget* list_;
    std::function<void(bool)> last_;
};

}  // namespace mt::app
