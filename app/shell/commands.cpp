#include "shell/commands.h"

#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QMessageBox>
#include <QSaveFile>
#include <QSettings>

#include <set>

#include "look/theme.h"
#include "look/words.h"
#include "measure/lane_kind.h"
#include "navigate/moment_actions.h"
#include "shell/help.h"
#include "shell/main_window.h"
#include "shell/picture.h"
#include "shell/report_dialog.h"
#include "target/project.h"

namespace mt::app {
namespace {
QKeySequence ctrl(Qt::Key key) { return QKeySequence(Qt::CTRL | key); }
QKeySequence shift(Qt::Key key) { return QKeySequence(Qt::SHIFT | key); }
QKeySequence alt(Qt::Key key) { return QKeySequence(Qt::ALT | key); }
}  // namespace

Commands::Commands(MainWindow& window) : QObject(&window), window_(window) {
    add_file();
    add_record();
    add_go();
    add_measure();
    add_judge();
    add_view();
    add_help();
}

Desk& Commands::desk() const { return window_.desk(); }

QAction* Commands::add(QMenu* menu, const QString& text, const QList<QKeySequence>& keys, const QString& tip,
                       std::function<void()> what, Needs needs) {
    auto* a = menu->addAction(text);
    a->setShortcuts(keys);
    a->setToolTip(tip);
    a->setStatusTip(tip);
    a->setProperty("menu", menu->title().remove('&'));
    connect(a, &QAction::triggered, this, std::move(what));
    if (needs == a_recording) need_recording_.push_back(a);
    return a;
}

QAction* Commands::add_switch(QMenu* menu, const QString& text, const QList<QKeySequence>& keys, const QString& tip,
                              std::function<bool()> is, std::function<void(bool)> set, Needs needs) {
    auto* a = add(menu, text, keys, tip, {[] {}}, needs);
    a->setCheckable(true);
    connect(a, &QAction::triggered, this, [this, a, set = std::move(set)] {
        set(a->isChecked());
        renew();
    });
    switches_.push_back({a, std::move(is)});
    return a;
}

void Commands::renew() {
    Desk& d = desk();
    const bool there = d.document().trail() != nullptr;
    for (auto* a : need_recording_) a->setEnabled(there);
    for (const Switch& s : switches_) s.action->setChecked(s.is());
    LiveSession& live = d.record().live();
    start_->setEnabled(d.record().shown() && !live.active() && live.recipe().has_value());
    stop_->setEnabled(live.active());
    for (auto* a : {mark_, freeze_, follow_}) a->setEnabled(live.recording());
    only_lanes_->setEnabled(there && !live.recording());  // its key freezes the picture meanwhile
}

QList<QAction*> Commands::all() const {
    QList<QAction*> found;
    const std::function<void(const QMenu*)> walk = [&](const QMenu* menu) {
        for (QAction* a : menu->actions())
            if (a->menu() != nullptr)
                walk(a->menu());
            else if (!a->isSeparator())
                found << a;
    };
    for (QAction* a : window_.menuBar()->actions())
        if (a->menu() != nullptr) walk(a->menu());
    return found;
}

void Commands::ask_open() {
    const QString path = QFileDialog::getOpenFileName(
        &window_, tr("Open"), {},
        tr("Target files and recordings (*.target.toml *.toml trail.toml *.tar *.tar.gz *.tar.xz *.tar.zst *.tgz);;All "
           "files (*)"));
    if (!path.isEmpty()) window_.open(path);
}

void Commands::ask_open_bytes() {
    const QString path = QFileDialog::getOpenFileName(&window_, tr("A file of trace bytes"));
    if (!path.isEmpty()) window_.open_bytes(path);
}

void Commands::ask_project() {
    const auto recording = desk().document().recording();
    if (!recording) return;
    const QDir folder = QFileInfo(words(recording->input)).absoluteDir();
    QString path = QFileDialog::getSaveFileName(
        &window_, tr("New project"),
        folder.filePath(QFileInfo(words(recording->input)).fileName().section('.', 0, 0) + ".project.toml"),
        tr("Projects (*.project.toml)"));
    if (path.isEmpty()) return;
    if (!path.endsWith(".project.toml")) path += ".project.toml";
    Project project;
    project.name = recording->title;
    const QDir place = QFileInfo(path).absoluteDir();
    if (QFileInfo(words(recording->target.path)).absolutePath().startsWith(place.path()))
        project.target = QFileInfo(words(recording->target.path)).absoluteFilePath().toStdString();
    for (const QFileInfo& f : place.entryInfoList({"*.recipe.toml"}, QDir::Files))
        project.recipes.push_back(f.absoluteFilePath().toStdString());
    const std::string text = project_text(project, place.path().toStdString());
    QSaveFile out(path);
    if (!out.open(QIODevice::WriteOnly) || out.write(text.data(), static_cast<qint64>(text.size())) < 0 ||
        !out.commit())
        emit desk().told(tr("cannot write: %1: check the folder, the permissions and free space").arg(path), true);
    else
        emit desk().told(tr("Saved as %1").arg(path), false);
}

void Commands::show_help(bool guide) {
    if (help_ == nullptr) help_ = new Help(*this, &window_);
    if (guide) help_->show_guide();
    help_->show();
    help_->raise();
    help_->activateWindow();
}

void Commands::ask_level() {
    Navigator& n = desk().navigator();
    bool given = false;
    const double level = QInputDialog::getDouble(&window_, tr("Level"), tr("Crossings of this value are looked for:"),
                                                 n.level().value_or(n.value_at_cursor().value_or(0)), -1e300, 1e300, 6, &given);
    if (given) n.set_level(level);
}

void Commands::ask_save() {
    Document& document = desk().document();
    if (!document.recording()) return;
    QString name = QFileInfo(words(document.recording()->input)).fileName().section('.', 0, 0);
    if (name.isEmpty()) name = "recording";
    QString path =
        QFileDialog::getSaveFileName(&window_, tr("Save recording as"), QDir::current().filePath(name + ".mtrail"),
                                     tr("Recordings (*.mtrail)"), nullptr, QFileDialog::DontConfirmOverwrite);
    if (path.isEmpty()) return;
    if (!path.endsWith(".mtrail")) path += ".mtrail";
    bool replace = false;
    if (QFileInfo::exists(path)) {
        replace = QMessageBox::question(&window_, tr("Replace?"), tr("%1 exists already. Replace it?").arg(path)) ==
                  QMessageBox::Yes;
        if (!replace) return;
    }
    emit desk().told(tr("Saving %1 …").arg(path), false);
    document.save(path, replace);
}

void Commands::ask_save_csv() {
    if (!desk().document().trail()) return;
    const QString path = QFileDialog::getSaveFileName(
        &window_, tr("Save measures as CSV"),
        QDir::current().filePath(words(desk().measures_page()->shown().id()) + ".csv"), tr("CSV (*.csv)"));
    if (!path.isEmpty()) desk().save_csv(path);
}

void Commands::ask_picture() {
    QWidget* view = desk().view_in_use();  // before the dialog takes the focus
    QString path =
        QFileDialog::getSaveFileName(&window_, tr("Save picture of: %1").arg(view->accessibleName()),
                                     QDir::current().filePath(desk().title() + ".png"), tr("PNG (*.png);;SVG (*.svg)"));
    if (path.isEmpty()) return;
    if (QFileInfo(path).suffix().isEmpty()) path += ".png";
    if (const auto saved = save_picture(*view, path); saved)
        emit desk().told(tr("Saved as %1").arg(path), false);
    else
        emit desk().told(words(saved.error().text()), true);
}

void Commands::add_file() {
    auto* file = window_.menuBar()->addMenu(tr("&File"));
    add(file, tr("&Open…"), {QKeySequence::Open}, tr("Open a target file or a saved recording"),
        [this] { ask_open(); });
    add(file, tr("&New target from bytes…"), {QKeySequence::New},
        tr("Find out how a file of raw trace bytes is to be read, and write its target file"),
        [this] { ask_open_bytes(); });
    recent_menu_ = file->addMenu(tr("Open &recent"));
    add(file, tr("Open recording &folder…"), {}, tr("Open a saved recording, a *.mtrail folder"), [this] {
        const QString path = QFileDialog::getExistingDirectory(&window_, tr("Open a recording folder"));
        if (!path.isEmpty()) window_.open(path);
    });
    add(file, tr("&Close"), {ctrl(Qt::Key_W)}, tr("Close this recording"), [this] { window_.close_desk(desk()); });
    add(file, tr("Next recording"), {ctrl(Qt::Key_PageDown)}, tr("Of those that are open"),
        [this] { window_.step_desk(1); });
    add(file, tr("Previous recording"), {ctrl(Qt::Key_PageUp)}, tr("Of those that are open"),
        [this] { window_.step_desk(-1); });
    file->addSeparator();
    add_switch(
        file, tr("&Target…"), {ctrl(Qt::Key_T)}, tr("Edit how the recording is decoded"),
        [this] { return desk().target().shown(); }, [this](bool on) { desk().target().show(on); }, a_recording);
    add(
        file, tr("New pro&ject…"), {},
        tr("Write down beside this recording what recordings of the same target share: target file, recipes, sources"),
        [this] { ask_project(); }, a_recording);
    add(
        file, tr("&Lay signals beside…"), {}, tr("A VCD, CSV, TSV or MDF file that another device measured meanwhile"),
        [this] {
            const QString path = QFileDialog::getOpenFileName(
                &window_, tr("Signals measured elsewhere"), {},
                tr("Signals (*.vcd *.csv *.tsv *.mf4 *.mdf *.vcd.* *.csv.* *.tsv.* *.mf4.*);;All files (*)"));
            if (!path.isEmpty()) desk().target().ask_signals(path);
        },
        a_recording);
    add(
        file, tr("&Save recording as…"), {QKeySequence::Save},
        tr("Save everything this recording was made from in one folder"), [this] { ask_save(); }, a_recording);
    add(
        file, tr("Save &measures as CSV…"), {}, tr("Save the table that the page of measures shows"),
        [this] { ask_save_csv(); }, a_recording);
    add(
        file, tr("Save &picture…"), {}, tr("The view in use, as PNG or SVG"), [this] { ask_picture(); }, a_recording);
    add(
        file, tr("P&rint…"), {QKeySequence::Print}, tr("The view in use"),
        [this] { print_view(*desk().view_in_use(), &window_); }, a_recording);
    file->addSeparator();
    add(file, tr("&Quit"), {QKeySequence::Quit}, tr("Close the window"), [this] { window_.close(); });
}

void Commands::add_record() {
    auto* record = window_.menuBar()->addMenu(tr("&Record"));
    add(record, tr("Record from a &target…"), {ctrl(Qt::Key_R)},
        tr("Show the record page, where a connection is described and tried"), [this] { window_.open_recipe({}); });
    add(record, tr("Open a r&ecipe…"), {}, tr("Record as a recipe file says"),
        [this] { desk().record().ask_recipe(); });
    auto* of_project = record->addMenu(tr("Recipes of the &project"));
    connect(of_project, &QMenu::aboutToShow, this, [this, of_project] {
        of_project->clear();
        const auto recording = desk().document().recording();
        const auto path = recording ? project_of(recording->input) : std::nullopt;
        const auto project = path ? read_project(*path) : Result<Project>(tl::make_unexpected(Problem{}));
        if (project)
            for (const std::string& recipe : project->recipes)
                of_project->addAction(QFileInfo(words(recipe)).fileName(), this,
                                      [this, recipe] { window_.open_recipe(words(recipe)); });
        if (of_project->isEmpty())
            of_project->addAction(project ? tr("The project names none") : tr("This recording is in no project"))
                ->setEnabled(false);
    });
    record->addSeparator();
    start_ = add(record, tr("&Record"), {QKeySequence(Qt::Key_F5)}, tr("Run the recipe and record"),
                 [this] { desk().record().start(); });
    stop_ = add(record, tr("&Stop and keep"), {shift(Qt::Key_F5)}, tr("End the recording and save it"),
                [this] { desk().record().live().stop(true); });
    mark_ = add(record, tr("&Mark this moment…"), {ctrl(Qt::Key_M)}, tr("Write a note into the recording"),
                [this] { desk().record().ask_mark(); });
    freeze_ = add(record, tr("Free&ze"), {QKeySequence(Qt::Key_Space)},
                  tr("The picture stands still, recording goes on"), [this] {
                      LiveSession& live = desk().record().live();
                      live.hold(!live.held());
                  });
    follow_ = add(record, tr("&Follow live"), {QKeySequence(Qt::Key_End)},
                  tr("Show the end of the recording as it grows"), [this] { desk().viewpoint().follow(true); });
    record->addSeparator();
    QMenu* hand = record->addMenu(tr("Target in &hand"));
    const auto by_hand = [&](const QString& text, const QKeySequence& key, const QString& tip, const char* what) {
        add(hand, text, {key}, tip, [this, what] { desk().hand()->command(what); });
    };
    add(hand, tr("&Go, or halt"), {QKeySequence(Qt::Key_F6)}, tr("The core that is in hand runs, or stops"),
        [this] { desk().hand()->go_or_halt(); });
    by_hand(tr("One &instruction"), QKeySequence(Qt::Key_F7), tr("Executed by the target; the trace grows by it"), "step");
    by_hand(tr("One &line"), QKeySequence(Qt::Key_F8), tr("The target runs up to another source line, into calls"), "step line");
    by_hand(tr("&Over the line"), QKeySequence(Qt::Key_F9), tr("The target runs up to another source line, not into calls"), "step over");
    by_hand(tr("O&ut of the function"), shift(Qt::Key_F9), tr("The target runs up to the return from this function"), "step out");
    by_hand(tr("&Reset"), {}, tr("The core is reset with the recipe's command and stands still"), "reset");
    by_hand(tr("&Take a change back"), {}, tr("The last change of registers, variables or memory"), "undo");
    add(hand, tr("&Show"), {}, tr("Registers, variables, memory and breakpoints of the target"), [this] { desk().show_evidence(desk().hand()); });
    record->addSeparator();
    add(record, tr("What to tr&ace…"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_R)},
        tr("Choose what the target's trace units tell, and see them and what it costs"), [this] {
            if (!desk().record().shown()) window_.open_recipe({});
            desk().record().ask_trace();
        });
    add(record, tr("What led &here?"), {},
        tr("Halt the target, and read the last instructions out of its trace buffer, without a reset"),
        [this] { desk().record().ask_what_led_here(); });
    add(record, tr("&Line check…"), {}, tr("Find the best sampling phase of the trace line"),
        [this] { desk().record().check_line(); });
}

void Commands::add_go() {
    auto* go = window_.menuBar()->addMenu(tr("&Go"));
    const auto need = [&](const QString& text, const QList<QKeySequence>& keys, const QString& tip,
                          std::function<void()> what) { add(go, text, keys, tip, std::move(what), a_recording); };
    need(tr("&Back"), {alt(Qt::Key_Left)}, tr("To the place before"), [this] { desk().viewpoint().back(); });
    need(tr("&Forward"), {alt(Qt::Key_Right)}, tr("To the place after"), [this] { desk().viewpoint().forward(); });
    need(tr("&Whole recording"), {QKeySequence(Qt::Key_0)}, tr("Show everything"),
         [this] { desk().viewpoint().fit(); });
    add(go, tr("&Search…"), {QKeySequence::Find, QKeySequence(Qt::Key_Slash), ctrl(Qt::Key_G)},
        tr("Names, findings, events, text, commands, or a time"), [this] { window_.tools().search().begin(); });
    need(tr("Next &match"), {QKeySequence(Qt::Key_F3)}, tr("Of what was searched for last"),
         [this] { window_.tools().search().repeat(true); });
    need(tr("Previous m&atch"), {shift(Qt::Key_F3)}, tr("Of what was searched for last"),
         [this] { window_.tools().search().repeat(false); });
    go->addSeparator();
    need(tr("&Next finding"), {QKeySequence(Qt::Key_F)}, tr("Walk the findings"), [this] { desk().walk_findings(1); });
    need(tr("&Previous finding"), {shift(Qt::Key_F)}, tr("Walk the findings backwards"),
         [this] { desk().walk_findings(-1); });
    go->addSeparator();
    need(tr("N&ext of its kind"), {QKeySequence(Qt::Key_N)},
         tr("Next one of what is selected: execution, job, call, hold, mark"), [this] { desk().navigator().step(1); });
    need(tr("Previous &of its kind"), {QKeySequence(Qt::Key_P)}, tr("The one before"),
         [this] { desk().navigator().step(-1); });
    need(tr("&Longest of its kind"), {QKeySequence(Qt::Key_L)}, tr("The longest of what is selected"),
         [this] { desk().navigator().go_to_longest(); });
    need(tr("Wh&y longer"), {QKeySequence(Qt::Key_W)},
         tr("Where the time of the selected call, execution or job went, against a typical one"), [this] {
             MeasuresPanel* panel = desk().measures_panel();
             panel->show();
             panel->show_why(!panel->why_shown());
         });
    need(tr("Next &difference"), {QKeySequence(Qt::Key_D)},
         tr("Next call of the selected function that went another way through the program"),
         [this] { desk().lanes()->go_to_next_difference(); });
    go->addSeparator();
    const auto in_value = [this](Navigator::InValue what, int direction) { desk().navigator().step_value(what, direction); };
    need(tr("Next chan&ge"), {QKeySequence(Qt::Key_V)}, tr("Next sample of the selected value that differs from the one before"),
         [in_value] { in_value(Navigator::InValue::change, 1); });
    need(tr("Previous change"), {shift(Qt::Key_V)}, tr("The one before"),
         [in_value] { in_value(Navigator::InValue::change, -1); });
    need(tr("Next crossing of the level"), {QKeySequence(Qt::Key_H)},
         tr("Where the selected value next crosses what it is at the cursor, or the level that was set"),
         [in_value] { in_value(Navigator::InValue::crossing, 1); });
    need(tr("Previous crossing of the level"), {shift(Qt::Key_H)}, tr("The one before"),
         [in_value] { in_value(Navigator::InValue::crossing, -1); });
    need(tr("Set the level…"), {}, tr("The level of which crossings are looked for"), [this] { ask_level(); });
    need(tr("Next outside of the usual range"), {QKeySequence(Qt::Key_U)},
         tr("Where the selected value next leaves the range in which 99 % of its samples lie"),
         [in_value] { in_value(Navigator::InValue::outside, 1); });
    need(tr("Previous outside of the usual range"), {shift(Qt::Key_U)}, tr("The one before"),
         [in_value] { in_value(Navigator::InValue::outside, -1); });
    go->addSeparator();
    need(tr("First line that never ran &before"), {QKeySequence(Qt::CTRL | Qt::ALT | Qt::Key_N)},
         tr("The next source line, from the current instruction on, that had not run before in this recording"),
         [this] { desk().footsteps()->step_new_line(); });
    go->addSeparator();
    need(tr("Next page of evidence"), {ctrl(Qt::Key_Tab)}, tr("Over all panes"),
         [this] { desk().evidence()->step_page(1); });
    need(tr("Previous page of evidence"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_Tab)}, tr("Over all panes"),
         [this] { desk().evidence()->step_page(-1); });
}

void Commands::add_measure() {
    auto* measure = window_.menuBar()->addMenu(tr("&Measure"));
    const auto need = [&](const QString& text, Qt::Key key, const QString& tip, std::function<void()> what) {
        add(measure, text, {QKeySequence(key)}, tip, std::move(what), a_recording);
    };
    need(tr("Measure with the mouse"), Qt::Key_R, tr("Drag in the lanes from A to B"),
         [this] { desk().lanes()->set_measuring(!desk().lanes()->measuring()); });
    need(tr("Set &A at the cursor"), Qt::Key_A, tr("First end of the measurement"),
         [this] { desk().set_ruler_end(true); });
    need(tr("Set &B at the cursor"), Qt::Key_B, tr("Second end of the measurement"),
         [this] { desk().set_ruler_end(false); });
    need(tr("&Clear A and B"), Qt::Key_Escape, tr("Take the measurement away"), [this] {
        desk().lanes()->set_measuring(false);
        desk().viewpoint().set_ruler(std::nullopt, std::nullopt);
    });
    add(
        measure, tr("C&opy A–B"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_C)},
        tr("A, B and the time between them in nanoseconds and in cycles, for a spreadsheet"),
        [this] {
            if (!copy_ruler(desk().document(), desk().viewpoint()))
                emit desk().told(tr("Set A and B first: A and B at the cursor, or R and drag in the lanes."), false);
        },
        a_recording);
    need(tr("Plant &waymark…"), Qt::Key_X, tr("Name this place: from A to B if both are set, else at the cursor"),
         [this] { desk().waymarks()->ask_plant(); });
    need(tr("&Zoom to A–B"), Qt::Key_Z, tr("Show the stretch from A to B"), [this] {
        const Viewpoint& view = desk().viewpoint();
        if (view.a() && view.b() && *view.a() != *view.b())
            desk().navigator().go_to(std::min(*view.a(), *view.b()), std::max(*view.a(), *view.b()), view.cursor());
    });
}

void Commands::add_judge() {
    auto* judge = window_.menuBar()->addMenu(tr("&Judge"));
    const auto need = [&](const QString& text, const QString& tip, std::function<void()> what) {
        add(judge, text, {}, tip, std::move(what), a_recording);
    };
    need(tr("&Coverage"), tr("Which code ran"), [this] { desk().show_evidence(desk().coverage()); });
    need(tr("&Rules"), tr("Whether the recording keeps its timing"), [this] { desk().show_evidence(desk().rules()); });
    need(tr("&Open rules…"), tr("Hold the recording against a rules file"), [this] {
        desk().show_evidence(desk().rules());
        desk().rules()->ask_open();
    });
    need(tr("&Propose rules…"), tr("Write a rules file of what this recording does"), [this] {
        desk().show_evidence(desk().rules());
        desk().rules()->ask_propose();
    });
    add(judge, tr("&Take back the added rule"), {}, tr("The rules file as it was before a limit was added to it"),
        [this] { desk().judgement().take_back(); }, a_recording);
    need(tr("Compare &with…"), tr("What changed since another recording"), [this] {
        desk().show_evidence(desk().compare());
        desk().compare()->ask();
    });
    need(tr("R&eport…"), tr("One page for people who do not have this program"), [this] {
        auto* dialog = new ReportDialog(desk().document(), desk().judgement().file(), desk().compare()->found(), &window_);
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        QObject::connect(dialog, &ReportDialog::written, &desk(), [d = &desk()](const QString& path) { emit d->told(QObject::tr("Saved as %1").arg(path), false); });
        dialog->open();
    });
}

void Commands::add_view() {
    auto* show = window_.menuBar()->addMenu(tr("&View"));
    using Name = Arrangement::Name;
    add_switch(
        show, tr("&Code arrangement"), {QKeySequence(Qt::Key_F2)},
        tr("Calls and values above, instructions and source below; or lanes large, with findings and figures"),
        [this] { return desk().arrangement().name() == Name::code; },
        [this](bool on) { desk().arrangement().use(on ? Name::code : Name::timing); }, a_recording);
    add(
        show, tr("Reset arran&gement"), {}, tr("Sizes, pages and lanes as they come"),
        [this] { desk().arrangement().reset(); }, a_recording);
    show->addSeparator();
    add(
        show, tr("&Measures of everything"), {QKeySequence(Qt::Key_M)}, tr("The table in place of the lanes"),
        [this] { desk().show_measures(!desk().measures_shown()); }, a_recording);
    add_switch(
        show, tr("Evidence &larger"), {QKeySequence(Qt::Key_F11)}, tr("The page in use fills the window, and back"),
        [this] { return desk().evidence()->larger(); }, [this](bool on) { desk().evidence()->set_larger(on); },
        a_recording);
    show->addSeparator();
    const auto fold = [&](const QString& text, Qt::Key key, std::function<QWidget*(Desk&)> part) {
        add_switch(
            show, text, {ctrl(key)}, tr("Show or fold away"), [this, part] { return !part(desk())->isHidden(); },
            [this, part](bool on) { part(desk())->setVisible(on); }, a_recording);
    };
    fold(tr("&Findings"), Qt::Key_1, [](Desk& d) { return static_cast<QWidget*>(d.findings_panel()); });
    fold(tr("Figures of the &selected"), Qt::Key_2, [](Desk& d) { return static_cast<QWidget*>(d.measures_panel()); });
    fold(tr("&Evidence"), Qt::Key_3, [](Desk& d) { return static_cast<QWidget*>(d.evidence()); });
    only_lanes_ = add_switch(
        show, tr("&Only the lanes"), {QKeySequence(Qt::Key_Space)}, tr("Fold everything else away, and back"),
        [this] { return desk().only_lanes(); }, [this](bool on) { desk().set_only_lanes(on); });
    show->addSeparator();
    add_lane_kinds(show->addMenu(tr("Lanes s&hown")));
    add_switch(
        show, tr("Le&gend"), {QKeySequence(Qt::Key_K)}, tr("What the shapes and colours mean"),
        [this] { return desk().lanes()->key_shown(); }, [this](bool on) { desk().lanes()->set_key_shown(on); });
    add_switch(
        show, tr("The way to each task's &first run"), {QKeySequence(Qt::Key_S)},
        tr("From the recording's start over its creation to where each task ran first"),
        [this] { return desk().lanes()->start_shown(); }, [this](bool on) { desk().show_start(on); }, a_recording);
    add_switch(
        show, tr("Mer&ge cores"), {QKeySequence(Qt::Key_C)},
        tr("The lanes of all cores by what they are, instead of core by core"),
        [this] { return desk().lanes()->merged(); }, [this](bool on) { desk().lanes()->set_merged(on); }, a_recording);
    add_switch(
        show, tr("&Equal steps"), {QKeySequence(Qt::Key_E)},
        tr("The same width for each instruction, task switch or change of handler of the selected core, instead of "
           "the time it takes"),
        [this] { return desk().viewpoint().scale() != nullptr; }, [this](bool on) { desk().show_even(on); },
        a_recording);
    add_switch(
        show, tr("&Night colours"), {ctrl(Qt::Key_D)}, tr("Dark window"), [] { return theme().night; },
        [this](bool on) {
            window_.set_night(on);
            QSettings().setValue("night", on);
        });
}

// Which kinds of lanes are drawn in this arrangement. Only kinds that this recording has can be chosen.
void Commands::add_lane_kinds(QMenu* menu) {
    connect(menu, &QMenu::aboutToShow, this, [this, menu] {
        menu->clear();
        const auto trail = desk().document().trail();
        for (const LaneKind* kind : LaneKinds::all()) {
            const std::string id(kind->id());
            auto* a = menu->addAction(words(kind->many()));
            a->setCheckable(true);
            a->setChecked(desk().lanes()->hidden_kinds().count(id) == 0);
            a->setEnabled(trail && !kind->lanes(*trail).empty());
            connect(a, &QAction::toggled, this, [this, id](bool on) {
                auto ids = desk().lanes()->hidden_kinds();
                if (on)
                    ids.erase(id);
                else
                    ids.insert(id);
                desk().lanes()->set_hidden_kinds(std::move(ids));
            });
        }
    });
}

void Commands::add_help() {
    auto* help = window_.menuBar()->addMenu(tr("&Help"));
    add(help, tr("&Help: keys and guide"), {QKeySequence(Qt::Key_F1)}, tr("All keys and the guide, with a search"),
        [this] { show_help(false); });
    add(help, tr("&About"), {}, tr("Version and licence"), [this] {
        QMessageBox::about(&window_, tr("About"),
                           tr("<b>Mindful Trail</b> 0.1.0<br>Trace recordings of embedded targets: from bytes to a "
                              "cause.<br>GPL-3.0-or-later, without any warranty."));
    });
}

}  // namespace mt::app
