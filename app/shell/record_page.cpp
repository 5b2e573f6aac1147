#include "shell/record_page.h"

#include <QFileDialog>
#include <QInputDialog>
#include <QMessageBox>

#include <fstream>

#include "base/text.h"
#include "look/words.h"
#include "record/line_check_dialog.h"
#include "shell/desk.h"

namespace mt::app {

RecordPage::RecordPage(Desk& desk)
    : QObject(&desk),
      desk_(desk),
      live_(desk.document_),
      stations_(new Stations(live_)),
      sane_(new SanePanel(live_)),
      strip_(new RecordStrip(live_, desk.view_)),
      form_(new RecipeForm(live_)),
      trace_(new TracePage) {}

void RecordPage::join() {
    connect(&live_, &LiveSession::began, this, &RecordPage::began);
    connect(&live_, &LiveSession::renewed, this, &RecordPage::renewed);
    connect(&live_, &LiveSession::ended, this, &RecordPage::ended);
    connect(&live_, &LiveSession::failed, this,
            [this](const Problem& problem) { emit desk_.told(words(problem.text()), true); });
    connect(strip_, &RecordStrip::start_wanted, this, &RecordPage::start);
    connect(strip_, &RecordStrip::discard_wanted, this, &RecordPage::ask_discard);
    connect(strip_, &RecordStrip::mark_wanted, this, &RecordPage::ask_mark);
    connect(strip_, &RecordStrip::line_check_wanted, this, &RecordPage::check_line);
    connect(strip_, &RecordStrip::close_wanted, this, &RecordPage::leave);
    connect(stations_, &Stations::change_wanted, this, [this] {
        if (live_.recipe()) form_->show_recipe(*live_.recipe());
        desk_.show_page(form_);
        show();
    });
    connect(stations_, &Stations::station_clicked, this,
            [this](int i) { emit desk_.told(stations_->station_text(i), false); });
    connect(sane_, &SanePanel::advice_wanted, this, [this](const QString& text) { emit desk_.told(text, false); });
    connect(form_, &RecipeForm::use_wanted, this, &RecordPage::use);
    connect(form_, &RecipeForm::open_wanted, this, &RecordPage::ask_recipe);
    connect(form_, &RecipeForm::save_wanted, this, &RecordPage::ask_save_recipe);
    connect(form_, &RecipeForm::trace_wanted, this, &RecordPage::ask_trace);
    connect(trace_, &TracePage::back_wanted, this, [this] {
        desk_.show_page(form_);
        show();
    });
    connect(trace_, &TracePage::changed, this, [this](const Recipe& recipe) { form_->show_traces(recipe.traces); });
    turn(false);
}

void RecordPage::ask_trace() {
    const auto recipe = form_->recipe();
    if (!recipe) {
        emit desk_.told(words(recipe.error().text()), true);
        return;
    }
    emit desk_.quieted();
    trace_->show_recipe(*recipe, desk_.document_.trail());
    desk_.show_page(trace_);
    show();
}

// The same connections, nothing before, nothing set up: what is there is read while the cores stand.
void RecordPage::ask_what_led_here() {
    if (live_.active()) {
        emit desk_.told(tr("A recording is being made. Stop it first."), true);
        return;
    }
    const auto form = form_->recipe();
    const std::optional<Recipe> base = form ? std::optional(*form) : live_.recipe();
    Recipe r;
    if (base) r = *base;
    r.connects.clear();
    if (base)
        for (const auto& c : base->connects) {
            if (c.debug.empty()) continue;
            r.connects.push_back(c);
            r.connects.back().protocol.clear();
            r.connects.back().trace.emplace();
            r.connects.back().trace->kind = SourceSpec::Kind::buffer;
            r.connects.back().trace->every_ms = 0;
            break;  // the first core that has a debug server
        }
    if (r.connects.empty()) {
        open({});
        emit desk_.told(tr("Name the target file and its debug server here; then ask again what led here."), false);
        return;
    }
    r.traces.clear();
    r.check_image = r.reset = false;
    r.run_to.reset();
    r.seconds.reset();
    r.bytes.reset();
    r.until.reset();
    r.watch.reset();
    r.mark.reset();
    r.leave = Recipe::Leave::halted;
    r.save = "what-led-here-{n}.mtrail";
    if (!live_.choose(r)) return;
    emit desk_.quieted();
    desk_.document_.cancel();
    show();
    live_.start();
    show();
}

void RecordPage::turn(bool on) {
    shown_ = on;
    for (QWidget* w : {static_cast<QWidget*>(stations_), static_cast<QWidget*>(sane_), static_cast<QWidget*>(strip_)})
        w->setVisible(on);
    for (QWidget* w : {static_cast<QWidget*>(desk_.findings_), static_cast<QWidget*>(desk_.panel_),
                       static_cast<QWidget*>(desk_.evidence_), static_cast<QWidget*>(desk_.moment_)})
        w->setVisible(!on);
}

void RecordPage::show() {
    turn(true);
    sane_->setVisible(desk_.stack_->currentWidget() != trace_);  // the page of what to trace needs the room
    renewed();
}

void RecordPage::leave() {
    if (live_.active()) return;
    turn(false);
    if (desk_.stack_->currentWidget() == form_ || desk_.stack_->currentWidget() == trace_)
        desk_.show_page(desk_.document_.trail() ? static_cast<QWidget*>(desk_.lanes_) : desk_.start_);
    renewed();
}

void RecordPage::open(const QString& path) {
    if (live_.active()) {
        emit desk_.told(tr("A recording is being made. Stop it first."), true);
        return;
    }
    emit desk_.quieted();
    if (path.isEmpty()) {
        if (live_.recipe())
            form_->show_recipe(*live_.recipe());
        else if (desk_.document_.recording())
            form_->show_target(words(desk_.document_.recording()->target.path));
        desk_.show_page(form_);
        show();
        return;
    }
    const auto recipe = read_recipe(path.toStdString());
    if (!recipe) {
        emit desk_.told(words(recipe.error().text()), true);
        return;
    }
    for (const auto& w : recipe->warnings) emit desk_.told(words(w), false);
    emit desk_.used(path);
    use(*recipe);
}

void RecordPage::use(const Recipe& recipe) {
    if (!live_.choose(recipe)) return;
    form_->show_recipe(recipe);
    desk_.show_page(form_);
    show();
    strip_->start()->setFocus();
}

void RecordPage::start() {
    if (live_.active()) return;
    // What stands in the form counts, whether “use” was pressed or not.
    if (desk_.stack_->currentWidget() == form_ || desk_.stack_->currentWidget() == trace_) {
        const auto recipe = form_->recipe();
        if (!recipe) {
            emit desk_.told(words(recipe.error().text()), true);
            return;
        }
        if (!live_.choose(*recipe)) return;
    }
    if (!live_.recipe()) return;
    emit desk_.quieted();
    desk_.document_.cancel();
    show();
    live_.start();
    show();
}

void RecordPage::began() {
    desk_.show_page(desk_.lanes_);
    show();
    emit desk_.renewed();
}

void RecordPage::renewed() {
    const RunState& s = live_.state();
    if (live_.recording()) {
        QString to_come = tr("%1 on disk").arg(words(bytes_text(s.bytes)));
        std::optional<Time> horizon = desk_.view_.end();
        if (s.planned_s) {
            horizon = Time::from_ns(*s.planned_s * 1e9);
            to_come =
                tr("%1 to go · %2").arg(tr("%1 s").arg(std::max(0.0, *s.planned_s - s.elapsed_s), 0, 'f', 1), to_come);
        } else {
            horizon = Time{desk_.view_.end().ps / 8 * 9};
            to_come.clear();
        }
        if (s.disk_free > 0 && !to_come.isEmpty()) to_come += tr(" · %1 free").arg(words(bytes_text(s.disk_free)));
        desk_.ridge_->set_horizon(horizon, to_come);
    } else {
        desk_.ridge_->set_horizon(std::nullopt, {});
    }
    // Nothing of it is meant while a recipe is written.
    const QWidget* page = desk_.stack_->currentWidget();
    desk_.ridge_->setVisible(page != form_ && page != trace_);
    emit desk_.renewed();
}

void RecordPage::ended(const QString& folder) {
    desk_.view_.end_live();
    desk_.ridge_->set_horizon(std::nullopt, {});
    if (folder.isEmpty()) {
        desk_.show_page(form_);
        show();
        if (live_.state().discarded && !live_.state().problem)
            emit desk_.told(tr("The recording was discarded."), false);
        return;
    }
    // From here on it is a recording like any other; its findings take the place of the doubts.
    judging_recorded_ = true;
    desk_.document_.open(folder);
    sane_->hide();
    desk_.findings_->show();
    desk_.moment_->show();
    for (const auto& stream : live_.state().streams)
        if (stream.received.full)
            emit desk_.told(
                tr("%1: what was recorded until then is kept in %2.").arg(words(stream.received.trouble), folder),
                true);
}

void RecordPage::ask_recipe() {
    const QString path = QFileDialog::getOpenFileName(&desk_, tr("Open a recipe"), {},
                                                      tr("Recipes (*.recipe.toml *.toml);;All files (*)"));
    if (!path.isEmpty()) open(path);
}

void RecordPage::ask_save_recipe() {
    auto recipe = form_->recipe();
    if (!recipe) {
        emit desk_.told(words(recipe.error().text()), true);
        return;
    }
    QString path = QFileDialog::getSaveFileName(&desk_, tr("Save the recipe as"), words(recipe->path),
                                                tr("Recipes (*.recipe.toml)"));
    if (path.isEmpty()) return;
    if (!path.endsWith(".recipe.toml")) path += ".recipe.toml";
    std::ofstream out(path.toStdString(), std::ios::binary);
    out << recipe_text(*recipe, path.toStdString());
    out.close();
    if (!out) {
        emit desk_.told(tr("cannot write: %1: check the folder, the permissions and free space").arg(path), true);
        return;
    }
    open(path);
    emit desk_.told(tr("Saved as %1").arg(path), false);
}

void RecordPage::ask_discard() {
    const auto answer = QMessageBox::question(
        &desk_, tr("Discard the recording?"),
        tr("Stop, and discard the %1 recorded so far?").arg(words(bytes_text(live_.state().bytes))));
    if (answer == QMessageBox::Yes) live_.stop(false);
}

void RecordPage::ask_mark() {
    bool given = false;
    const QString text = QInputDialog::getText(&desk_, tr("Mark this moment"), tr("A note for this moment:"),
                                               QLineEdit::Normal, {}, &given);
    if (given) live_.note(text.isEmpty() ? tr("marked") : text);
}

void RecordPage::check_line() {
    const auto recipe = desk_.stack_->currentWidget() == form_ ? form_->recipe()
                        : live_.recipe()
                            ? Result<Recipe>(*live_.recipe())
                            : Result<Recipe>(failure("no recipe is chosen", "", "describe the connection first"));
    if (!recipe) {
        emit desk_.told(words(recipe.error().text()), true);
        return;
    }
    auto* dialog = new LineCheckDialog(*recipe, &desk_);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &LineCheckDialog::stored, this,
            [this](const QString& sentence) { emit desk_.told(sentence, false); });
    dialog->open();
}

}  // namespace mt::app
