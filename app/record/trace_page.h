// What to trace: [trace] of a recipe as a form, beside the target's trace units and what the wish costs.
#pragma once

#include <map>
#include <memory>
#include <thread>
#include <vector>

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSpinBox>
#include <QTableWidget>
#include <QWidget>

#include "capture/recipe.h"
#include "capture/unit_view.h"
#include "model/trail.h"
#include "record/unit_picture.h"

namespace mt::app {

class CostBars;
class TraceMore;

/// Only the window's thread may call its members.
class TracePage : public QWidget {
    Q_OBJECT
  public:
    explicit TracePage(QWidget* parent = nullptr);
    ~TracePage() override;

    /// `open`: the recording in the window, whose rates make the estimate better; may be null.
    void show_recipe(const Recipe& recipe, std::shared_ptr<const Trail> open = nullptr);
    /// The recipe with the form's wishes.
    const Recipe& recipe() const { return recipe_; }
    /// The shown core's wish, as the form says it.
    TraceWish wish() const;
    /// Looks at the target on a worker; `looked` follows.
    void look();
    bool looking() const { return looking_; }
    UnitPicture* picture() const { return picture_; }
    /// Little: what does not fit is scrolled, and the other pages that stand in the same place are not held open by it.
    QSize minimumSizeHint() const override { return {320, 120}; }
    QString verdict_text() const { return verdict_->text(); }

  signals:
    void changed(const mt::Recipe& recipe);
    void back_wanted();
    void looked();

  private:
    QWidget* build_form();
    QWidget* build_right();
    void show_core(const QString& core);
    void show_wish(const TraceWish& wish);
    void take();
    void replan();
    void add_variable(const TraceWish::Variable& v);
    void show_presets();
    void use_preset(int index);
    void keep_wish(const QString& name);
    std::optional<TraceWish::Trigger> trigger(const QLineEdit* place, const QComboBox* what, bool is_stop) const;

    Recipe recipe_;
    QString core_;
    TraceWish base_;  ///< what the form does not show is kept from here
    bool filling_ = false, looking_ = false;
    std::thread looker_;
    std::shared_ptr<Progress> progress_;
    std::vector<UnitView> views_;
    std::unique_ptr<TargetFile> target_;
    std::vector<std::shared_ptr<const Image>> images_;
    std::shared_ptr<const Trail> open_;

    QComboBox *cores_, *preset_, *samples_, *prescaler_, *instructions_, *start_what_, *stop_what_, *to_, *mode_,
        *width_;
    QCheckBox *keep_, *exceptions_, *sleep_, *local_, *global_, *return_stack_, *instruction_times_;
    std::vector<std::pair<QString, QCheckBox*>> counters_;
    QLineEdit *ports_, *ranges_, *start_, *stop_;
    QSpinBox *period_, *baud_, *start_after_, *stop_after_;
    QTableWidget* variables_;
    QPushButton *look_, *add_, *unfold_;
    TraceMore* more_;
    UnitPicture* picture_;
    QLabel *detail_, *verdict_, *notes_;
    CostBars* costs_;
};

}  // namespace mt::app
