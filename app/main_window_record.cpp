// The record page: what is shown when, and what its actions do.
#include <QAction>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QMenuBar>
#include <QMessageBox>

#include <fstream>

#include "base/text.h"
#include "line_check_dialog.h"
#include "main_window.h"
#include "words.h"

namespace mt::app {
namespace {}  // namespace

void MainWindow::build_record_actions() {
    auto* record = menuBar()->addMenu(tr("&Record"));
    action(record, tr("Record from a &target…"), {QKeySequence(Qt::CTRL | Qt::Key_R)},
           tr("Show the record page, where a connection is described and tried"), [this] { open_recipe({}); });
    action(record, tr("Open a r&ecipe…"), {}, tr("Record as a recipe file says"), [this] { ask_recipe(); });
    record->addSeparator();
    start_action_ = action(record, tr("&Record"), {QKeySequence(Qt::Key_F5)}, tr("Walk the recipe and record"),
                           [this] { start_recording(); });
    stop_action_ = action(record, tr("&Stop and keep"), {QKeySequence(Qt::SHIFT | Qt::Key_F5)},
                          tr("End the recording and save it"), [this] { live_.stop(true); });
    mark_action_ = action(record, tr("&Mark this moment…"), {QKeySequence(Qt::CTRL | Qt::Key_M)},
                          tr("Write a note into the recording"), [this] { ask_mark(); });
    hold_action_ = action(record, tr("&Hold the picture"), {QKeySequence(Qt::Key_Space)},
                          tr("The picture stands still, recording goes on"), [this] { live_.hold(!live_.held()); });
    follow_action_ = action(record, tr("&Follow the newest"), {QKeySequence(Qt::Key_End)},
                            tr("Show the end of the recording as it grows"), [this] { view_.follow(true); });
    record->addSeparator();
    action(record, tr("&Line check…"), {}, tr("Find the best sampling phase of the trace line"),
           [this] { check_line(); });
    for (auto* a : {start_action_, stop_action_, mark_action_, hold_action_, follow_action_}) a->setEnabled(false);
}

void MainWindow::build_record_page() {
    connect(&live_, &LiveSession::began, this, &MainWindow::live_began);
    connect(&live_, &LiveSession::renewed, this, &MainWindow::live_renewed);
    connect(&live_, &LiveSession::ended, this, &MainWindow::live_ended);
    connect(&live_, &LiveSession::failed, this, [this](const Problem& problem) { say(words(problem.text()), true); });
    connect(strip_, &RecordStrip::start_wanted, this, &MainWindow::start_recording);
    connect(strip_, &RecordStrip::discard_wanted, this, &MainWindow::ask_discard);
    connect(strip_, &RecordStrip::mark_wanted, this, &MainWindow::ask_mark);
    connect(strip_, &RecordStrip::line_check_wanted, this, &MainWindow::check_line);
    connect(strip_, &RecordStrip::close_wanted, this, &MainWindow::leave_record_page);
    connect(stations_, &Stations::change_wanted, this, [this] {
        if (live_.recipe()) form_->show_recipe(*live_.recipe());
        stack_->setCurrentWidget(form_);
        show_record_page();
    });
    connect(stations_, &Stations::station_clicked, this, [this](int i) { say(stations_->station_text(i), false); });
    connect(sane_, &SanePanel::advice_wanted, this, [this](const QString& text) { say(text, false); });
    connect(form_, &RecipeForm::use_wanted, this, &MainWindow::use_recipe);
    connect(form_, &RecipeForm::open_wanted, this, &MainWindow::ask_recipe);
    connect(form_, &RecipeForm::save_wanted, this, &MainWindow::ask_save_recipe);
}

// The record page's own parts stand where findings, figures and evidence stand otherwise.
void MainWindow::turn_record_page(bool on) {
    record_page_ = on;
    for (QWidget* w : {static_cast<QWidget*>(stations_), static_cast<QWidget*>(sane_), static_cast<QWidget*>(strip_)})
        w->setVisible(on);
    for (QWidget* w : {static_cast<QWidget*>(findings_), static_cast<QWidget*>(panel_),
                       static_cast<QWidget*>(evidence_), static_cast<QWidget*>(moment_)})
        w->setVisible(!on);
}

void MainWindow::show_record_page() {
    turn_record_page(true);
    live_renewed();
}

void MainWindow::leave_record_page() {
    if (live_.active()) return;
    turn_record_page(false);
    if (stack_->currentWidget() == form_)
        stack_->setCurrentWidget(session_.trail() ? static_cast<QWidget*>(lanes_) : start_);
    live_renewed();
}

void MainWindow::open_recipe(const QString& path) {
    if (live_.active()) {
        say(tr("A recording is being made. Stop it first."), true);
        return;
    }
    notice_->hide();
    if (path.isEmpty()) {
        if (live_.recipe())
            form_->show_recipe(*live_.recipe());
        else if (session_.recording())
            form_->show_target(words(session_.recording()->target.path));
        stack_->setCurrentWidget(form_);
        show_record_page();
        return;
    }
    const auto recipe = read_recipe(path.toStdString());
    if (!recipe) {
        say(words(recipe.error().text()), true);
        return;
    }
    for (const auto& w : recipe->warnings) say(words(w), false);
    remember(path);
    use_recipe(*recipe);
}

void MainWindow::use_recipe(const Recipe& recipe) {
    if (!live_.choose(recipe)) return;
    form_->show_recipe(recipe);
    stack_->setCurrentWidget(form_);
    show_record_page();
    strip_->start()->setFocus();
}

void MainWindow::start_recording() {
    if (live_.active()) return;
    // What stands in the form counts, whether “use” was pressed or not.
    if (stack_->currentWidget() == form_) {
        const auto recipe = form_->recipe();
        if (!recipe) {
            say(words(recipe.error().text()), true);
            return;
        }
        if (!live_.choose(*recipe)) return;
    }
    if (!live_.recipe()) return;
    notice_->hide();
    session_.cancel();
    show_record_page();
    live_.start();
    show_record_page();
}

void MainWindow::live_began() {
    stack_->setCurrentWidget(lanes_);
    show_record_page();
    file_->setText(tr("recording: %1").arg(QFileInfo(words(live_.state().folder)).fileName()) + "   ");
    file_->setFixedWidth(file_->sizeHint().width());
    menuBar()->setCornerWidget(file_);
    file_->show();
}

void MainWindow::live_renewed() {
    const RunState& s = live_.state();
    const bool recording = live_.recording();
    if (recording) {
        QString words_to_come = tr("%1 on disk").arg(words(bytes_text(s.bytes)));
        std::optional<Time> horizon = view_.end();
        if (s.planned_s) {
            horizon = Time::from_ns(*s.planned_s * 1e9);
            words_to_come =
                tr("%1 to go · %2")
                    .arg(tr("%1 s").arg(std::max(0.0, *s.planned_s - s.elapsed_s), 0, 'f', 1), words_to_come);
        } else {
            horizon = Time{view_.end().ps / 8 * 9};
            words_to_come.clear();
        }
        if (s.disk_free > 0 && !words_to_come.isEmpty())
            words_to_come += tr(" · %1 free").arg(words(bytes_text(s.disk_free)));
        ridge_->set_horizon(horizon, words_to_come);
    } else {
        ridge_->set_horizon(std::nullopt, {});
    }
    ridge_->setVisible(stack_->currentWidget() != form_);  // nothing of it is meant while a recipe is written
    start_action_->setEnabled(record_page_ && !live_.active() && live_.recipe().has_value());
    stop_action_->setEnabled(live_.active());
    for (auto* a : {mark_action_, hold_action_, follow_action_}) a->setEnabled(recording);
    sides_action_->setEnabled(!recording);  // its key holds the picture meanwhile
}

void MainWindow::live_ended(const QString& folder) {
    view_.end_live();
    ridge_->set_horizon(std::nullopt, {});
    if (folder.isEmpty()) {
        stack_->setCurrentWidget(form_);
        show_record_page();
        if (live_.state().discarded && !live_.state().problem) say(tr("The recording was thrown away."), false);
        return;
    }
    // From here on it is a recording like any other; its findings take the place of the doubts.
    judging_recorded_ = true;
    session_.open(folder);
    sane_->hide();
    findings_->show();
    moment_->show();
    for (const auto& stream : live_.state().streams)
        if (stream.received.full)
            say(tr("%1: what was recorded until then is kept in %2.").arg(words(stream.received.trouble), folder),
                true);
}

void MainWindow::ask_recipe() {
    const QString path = QFileDialog::getOpenFileName(this, tr("Open a recipe"), {},
                                                      tr("Recipes (*.recipe.toml *.toml);;All files (*)"));
    if (!path.isEmpty()) open_recipe(path);
}

void MainWindow::ask_save_recipe() {
    auto recipe = form_->recipe();
    if (!recipe) {
        say(words(recipe.error().text()), true);
        return;
    }
    QString path = QFileDialog::getSaveFileName(this, tr("Save the recipe as"), words(recipe->path),
                                                tr("Recipes (*.recipe.toml)"));
    if (path.isEmpty()) return;
    if (!path.endsWith(".recipe.toml")) path += ".recipe.toml";
    std::ofstream out(path.toStdString(), std::ios::binary);
    out << recipe_text(*recipe, path.toStdString());
    out.close();
    if (!out) {
        say(tr("cannot write: %1: check the folder, the permissions and free space").arg(path), true);
        return;
    }
    open_recipe(path);
    say(tr("Saved as %1").arg(path), false);
}

void MainWindow::ask_discard() {
    const auto answer = QMessageBox::question(
        this, tr("Throw it away?"),
        tr("Stop, and throw away the %1 recorded so far?").arg(words(bytes_text(live_.state().bytes))));
    if (answer == QMessageBox::Yes) live_.stop(false);
}

void MainWindow::ask_mark() {
    bool given = false;
    const QString text = QInputDialog::getText(this, tr("Mark this moment"), tr("A note for this moment:"),
                                               QLineEdit::Normal, {}, &given);
    if (given) live_.note(text.isEmpty() ? tr("marked") : text);
}

void MainWindow::check_line() {
    const auto recipe = stack_->currentWidget() == form_ ? form_->recipe()
                        : live_.recipe()
                            ? Result<Recipe>(*live_.recipe())
                            : Result<Recipe>(failure("no recipe is chosen", "", "describe the connection first"));
    if (!recipe) {
        say(words(recipe.error().text()), true);
        return;
    }
    auto* dialog = new LineCheckDialog(*recipe, this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &LineCheckDialog::stored, this, [this](const QString& sentence) { say(sentence, false); });
    dialog->open();
}

}  // namespace mt::app
