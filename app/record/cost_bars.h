// What a wish costs, as bars against what the line carries.
#pragma once

#include <optional>

#include <QWidget>

#include "control/units/cost.h"

namespace mt::app {

class CostBars : public QWidget {
    Q_OBJECT
  public:
    explicit CostBars(QWidget* parent = nullptr);
    /// `measured`: what the open recording took; may be empty.
    void show_cost(const std::optional<CostEstimate>& cost, const TracePlan* plan,
                   const std::vector<CostLine>& measured = {});
    QString text() const { return accessibleDescription(); }
    QSize minimumSizeHint() const override { return {240, 60}; }

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::optional<CostEstimate> cost_;
    std::vector<CostLine> measured_;
    std::uint64_t buffer_ = 0;
};

}  // namespace mt::app
