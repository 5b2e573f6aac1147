// Where a connection is described and tried, and a recipe is made or changed.
#pragma once

#include <vector>

#include <QCheckBox>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSpinBox>
#include <QWidget>

#include "document/live_session.h"

class QGridLayout;
class QHBoxLayout;

namespace mt::app {

class RecipeForm : public QWidget {
    Q_OBJECT
  public:
    explicit RecipeForm(LiveSession& live, QWidget* parent = nullptr);

    void show_recipe(const Recipe& recipe);
    /// An empty recipe for this target file.
    void show_target(const QString& path);
    /// What the form says as a recipe; a Problem names the field that is wrong.
    Result<Recipe> recipe() const;
    /// Other wishes for the recipe, as another page made them.
    void show_traces(const std::vector<TraceWish>& traces);
    QString report_text() const { return report_->text(); }

  signals:
    /// The form's recipe is to be used: checked, and saved if it has a file.
    void use_wanted(const mt::Recipe& recipe);
    void open_wanted();
    void save_wanted();
    void trace_wanted();

  private:
    struct Row {
        QString core, protocol;  ///< protocol: empty for the first stream of a core; of samples: the device in its place
        QLineEdit *debug, *address;
        QComboBox* trace;
        QSpinBox* baud;
    };
    /// A row for each of the pairs of core and protocol.
    void build_rows(const std::vector<std::pair<std::string, std::string>>& streams);
    void adapt_row(const Row& row);
    void test();
    void use();
    void show_reports(const std::vector<mt::ConnectionReport>& reports);
    void choose_target();
    void show_parameters();
    void set_parameters();

    LiveSession& live_;
    Recipe base_;  ///< what the form does not show is kept from here
    QLineEdit *name_, *target_, *save_, *run_to_, *until_, *watch_;
    QCheckBox *check_, *reset_;
    QDoubleSpinBox* seconds_;
    QSpinBox *megabytes_, *times_, *mark_port_, *mark_value_, *limit_;
    QComboBox *keep_, *leave_, *watch_on_;
    QWidget* rows_box_;
    QGridLayout* rows_grid_;
    std::vector<Row> rows_;
    QPushButton *test_, *use_;
    QLabel *report_, *heading_, *trace_said_, *parameters_caption_;
    QWidget* parameters_box_;
    QHBoxLayout* parameters_row_;
    std::vector<std::pair<std::string, QLineEdit*>> parameters_;
};

}  // namespace mt::app
