// The wishes that few need: synchronisation, cycle counts, events, values that start and stop, coding, memory.
#pragma once

#include <QSpinBox>
#include <QWidget>

#include "control/units/wish.h"
#include "record/trace_fields.h"

namespace mt::app {

/// Only the window's thread may call its members.
class TraceMore : public QWidget {
    Q_OBJECT
  public:
    static constexpr int kCaption = 100;  ///< least width of the captions, so that two forms below each other agree

    explicit TraceMore(QWidget* parent = nullptr);

    void show_wish(const TraceWish& wish);
    /// Into the wish that the rest of the form has made.
    void add_to(TraceWish& wish) const;
    /// Whether the wish says anything of what is shown here.
    static bool says_anything(const TraceWish& wish);

  signals:
    void changed();

  private:
    QLineEdit *sync_, *privileged_, *events_, *start_value_, *stop_value_, *memory_, *ignore_;
    QSpinBox *counts_, *after_bytes_, *memory_size_;
    QCheckBox *context_, *broadcast_, *formatter_;
    QComboBox* coding_;
};

}  // namespace mt::app
