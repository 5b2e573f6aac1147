// Steps back and forward through what was executed, above the lanes of the Code arrangement.
#pragma once

#include <QLabel>
#include <QToolButton>
#include <QWidget>

#include "document/document.h"
#include "evidence/footsteps.h"
#include "evidence/state_page.h"

namespace mt::app {

/// A button for each way to step, the instruction that is current, and the target's own place while it is in hand.
class PastStrip : public QWidget {
    Q_OBJECT
  public:
    PastStrip(Document& document, Footsteps& steps, StatePage& state, QWidget* parent = nullptr);
    /// The target is in hand: it can be put where the current instruction is. `stands`: where it is itself.
    void set_in_hand(bool on, const QString& stands);
    QString text() const { return where_->text(); }

  private:
    void renew();
    Document& document_;
    Footsteps& steps_;
    QLabel* where_;
    QToolButton* put_;
    QString stands_;
};

}  // namespace mt::app
