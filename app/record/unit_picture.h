// The trace units of a core as a picture: who tells, what joins, where it goes.
#pragma once

#include <vector>

#include <QWidget>

#include "control/units/plan.h"

namespace mt::app {

/// Boxes in columns from the core to the pins, joined by arrows; a click chooses one.
class UnitPicture : public QWidget {
    Q_OBJECT
  public:
    explicit UnitPicture(QWidget* parent = nullptr);

    /// `plan` may be null: then nothing is marked as used.
    void show_units(const CoreUnits& units, const TracePlan* plan);
    void clear();
    /// Index of the chosen unit; -1 if none.
    int chosen() const { return chosen_; }
    void choose(int unit);
    /// What is known of the chosen unit, as rich text.
    QString detail() const;
    QRectF box_of(int unit) const;
    /// The name of a unit; empty if there is none such.
    QString name_of(int unit) const;
    QSize minimumSizeHint() const override { return {420, 190}; }
    QSize sizeHint() const override { return {560, 240}; }

  signals:
    void chosen_changed();

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent* e) override;
    void keyPressEvent(QKeyEvent* e) override;
    bool event(QEvent* e) override;

  private:
    void place();
    int unit_at(const QPointF& at) const;
    QString state_text(const Unit& unit) const;
    bool used(const Unit& unit) const;

    CoreUnits units_;
    std::vector<QRectF> boxes_;  ///< of the units; empty for those that have no part in trace
    std::vector<std::string> used_;
    std::vector<std::vector<std::string>> will_;  ///< what the plan writes to each
    QRectF core_box_;
    int chosen_ = -1;
};

}  // namespace mt::app
