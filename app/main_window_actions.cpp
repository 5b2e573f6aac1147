#include "main_window.h"

#include <QAction>
#include <QFileDialog>
#include <QLineEdit>
#include <QMenuBar>
#include <QMessageBox>
#include <QSettings>

// The menus and their keys; what they do stands in main_window.cpp.
namespace mt::app {

QAction* MainWindow::action(QMenu* menu, const QString& text, const QList<QKeySequence>& keys, const QString& tip,
                            std::function<void()> what) {
    auto* a = menu->addAction(text);
    a->setShortcuts(keys);
    a->setToolTip(tip);
    a->setStatusTip(tip);
    connect(a, &QAction::triggered, this, std::move(what));
    return a;
}

void MainWindow::build_actions() {
    auto* file = menuBar()->addMenu(tr("&File"));
    action(file, tr("&Open…"), {QKeySequence::Open}, tr("Open a target file or a saved recording"),
           [this] { ask_open(); });
    recent_menu_ = file->addMenu(tr("Open &recent"));
    action(file, tr("Open recording &folder…"), {}, tr("Open a saved recording, a *.mtrail folder"), [this] {
        const QString path = QFileDialog::getExistingDirectory(this, tr("Open a recording folder"));
        if (!path.isEmpty()) open(path);
    });
    file->addSeparator();
    need_recording_.push_back(save_action_ = action(file, tr("&Save recording as…"), {QKeySequence::Save},
                                                    tr("Save everything this recording was made from in one folder"),
                                                    [this] { ask_save(); }));
    need_recording_.push_back(csv_action_ = action(file, tr("Save &measures as CSV…"), {},
                                                   tr("Save the table that the page of measures shows"),
                                                   [this] { ask_save_csv(); }));
    file->addSeparator();
    action(file, tr("&Quit"), {QKeySequence::Quit}, tr("Close the window"), [this] { close(); });

    build_record_actions();
    auto* go = menuBar()->addMenu(tr("&Go"));
    const auto need = [&](QAction* a) {
        need_recording_.push_back(a);
        return a;
    };
    need(action(go, tr("&Back"), {QKeySequence(Qt::ALT | Qt::Key_Left)}, tr("To the place before"),
                [this] { view_.back(); }));
    need(action(go, tr("&Forward"), {QKeySequence(Qt::ALT | Qt::Key_Right)}, tr("To the place after"),
                [this] { view_.forward(); }));
    need(action(go, tr("&Whole recording"), {QKeySequence(Qt::Key_0)}, tr("Show everything"), [this] { view_.fit(); }));
    need(action(go, tr("Go &to…"), {QKeySequence(Qt::CTRL | Qt::Key_G)}, tr("Type a name or a time"), [this] {
        go_->setFocus();
        go_->selectAll();
    }));
    need(action(go, tr("&Find in the evidence"), {QKeySequence::Find},
                tr("Next event or packet with a name, kind or value"), [this] {
                    evidence_->show();
                    find_->setFocus();
                    find_->selectAll();
                }));
    go->addSeparator();
    const auto walk = [this](int step) {
        const int n = static_cast<int>(session_.findings().size());
        if (n == 0) return;
        // The first press goes to the finding that is selected already.
        const int at = std::max(0, findings_->current());
        go_to_finding(walked_ ? (at + step + n) % n : at);
    };
    need(action(go, tr("&Next finding"), {QKeySequence(Qt::Key_F)}, tr("Walk the findings"), [walk] { walk(1); }));
    need(action(go, tr("&Previous finding"), {QKeySequence(Qt::SHIFT | Qt::Key_F)}, tr("Walk the findings backwards"),
                [walk] { walk(-1); }));
    go->addSeparator();
    need(action(go, tr("N&ext of its kind"), {QKeySequence(Qt::Key_N)},
                tr("Next one of what is selected: execution, job, call, hold, mark"), [this] { lanes_->step(1); }));
    need(action(go, tr("Previous &of its kind"), {QKeySequence(Qt::Key_P)}, tr("The one before"),
                [this] { lanes_->step(-1); }));
    need(action(go, tr("&Longest of its kind"), {QKeySequence(Qt::Key_L)}, tr("The longest of what is selected"),
                [this] { lanes_->go_to_longest(); }));

    need(action(go, tr("Next &difference"), {QKeySequence(Qt::Key_D)},
                tr("Next call of the selected function that went another way through the program"),
                [this] { lanes_->go_to_next_difference(); }));

    auto* measure = menuBar()->addMenu(tr("&Measure"));
    need(action(measure, tr("Measure with the mouse"), {QKeySequence(Qt::Key_R)}, tr("Drag in the lanes from A to B"),
                [this] { ruler_->toggle(); }));
    need(action(measure, tr("Set &A at the cursor"), {QKeySequence(Qt::Key_A)}, tr("First end of the measurement"),
                [this] { set_ruler_end(true); }));
    need(action(measure, tr("Set &B at the cursor"), {QKeySequence(Qt::Key_B)}, tr("Second end of the measurement"),
                [this] { set_ruler_end(false); }));
    need(action(measure, tr("&Clear A and B"), {QKeySequence(Qt::Key_Escape)}, tr("Take the measurement away"), [this] {
        lanes_->set_measuring(false);
        view_.set_ruler(std::nullopt, std::nullopt);
    }));
    need(action(measure, tr("&Zoom to A–B"), {QKeySequence(Qt::Key_Z)}, tr("Show the stretch from A to B"), [this] {
        if (view_.a() && view_.b() && *view_.a() != *view_.b())
            view_.go_to(std::min(*view_.a(), *view_.b()), std::max(*view_.a(), *view_.b()), view_.cursor());
    }));

    auto* show = menuBar()->addMenu(tr("&View"));
    measures_action_ = need(action(show, tr("&Measures of everything"), {QKeySequence(Qt::Key_M)},
                                   tr("The table in place of the lanes"),
                                   [this] { show_measures(stack_->currentWidget() != page_); }));
    show->addSeparator();
    const auto fold = [&](const QString& text, QWidget* what, Qt::Key key) {
        auto* a = action(show, text, {QKeySequence(Qt::CTRL | key)}, tr("Show or fold away"), {[] {}});
        a->setCheckable(true);
        a->setChecked(true);
        connect(a, &QAction::toggled, what, &QWidget::setVisible);
    };
    fold(tr("&Findings"), findings_, Qt::Key_1);
    fold(tr("Figures of the &selected"), panel_, Qt::Key_2);
    fold(tr("&Evidence"), evidence_, Qt::Key_3);
    sides_action_ =
        action(show, tr("&Only the lanes"), {QKeySequence(Qt::Key_Space)}, tr("Fold everything else away, and back"),
               [this] { fold_sides(sides_action_->isChecked()); });
    sides_action_->setCheckable(true);
    show->addSeparator();
    build_kinds_menu(show->addMenu(tr("Lanes s&hown")));
    key_action_ = action(show, tr("&Key to shapes and colours"), {QKeySequence(Qt::Key_K)}, tr("What the shapes mean"),
                         [this] { lanes_->set_key_shown(key_action_->isChecked()); });
    key_action_->setCheckable(true);
    first_runs_action_ = need(action(show, tr("The way to each task's &first run"), {QKeySequence(Qt::Key_S)},
                                     tr("From the recording's start over its creation to where each task ran first"),
                                     [this] { show_start(first_runs_action_->isChecked()); }));
    first_runs_action_->setCheckable(true);
    auto* merge = need(action(show, tr("Cores in one n&est"), {QKeySequence(Qt::Key_C)},
                              tr("The lanes of all cores by what they are, instead of core by core"), {[] {}}));
    merge->setCheckable(true);
    connect(merge, &QAction::toggled, lanes_, &Lanes::set_merged);
    even_action_ =
        need(action(show, tr("&Even steps"), {QKeySequence(Qt::Key_E)},
                    tr("The same width for each instruction, task switch or change of handler of the selected "
                       "core, instead of the time it takes"),
                    [this] { show_even(even_action_->isChecked()); }));
    even_action_->setCheckable(true);
    connect(&view_, &Viewpoint::scale_changed, this, [this] { even_action_->setChecked(view_.scale() != nullptr); });
    night_ = action(show, tr("&Night colours"), {QKeySequence(Qt::CTRL | Qt::Key_D)}, tr("Dark window"), [this] {
        set_night(night_->isChecked());
        QSettings().setValue("night", night_->isChecked());
    });
    night_->setCheckable(true);

    auto* help = menuBar()->addMenu(tr("&Help"));
    action(help, tr("&Mouse and keys"), {QKeySequence(Qt::Key_F1)}, tr("How to move about"), [this] {
        QMessageBox::information(
            this, tr("Mouse and keys"),
            tr("<b>Lanes</b><br>wheel: zoom at the mouse · Shift+wheel or drag: pan · drag on the time scale: zoom to "
               "a stretch<br>"
               "click: put the cursor · double click: go to what is there · + − ← →: zoom and pan · 0: everything<br>"
               "↑ ↓: choose a lane, within calls the caller and the callee · N P: the next and the previous of what is "
               "selected · "
               "L: the longest<br><br>"
               "<b>Ridge</b><br>drag the frame or its sides; click elsewhere to move it there<br><br>"
               "<b>Everywhere</b><br>F: next finding · A B: measuring ends at the cursor, Z: zoom to them, Esc: clear "
               "· Alt+← →: back and forward<br>"
               "M: measures · K: key to the shapes · Space: only the lanes · Ctrl+G: go to"));
    });
    action(help, tr("&About"), {}, tr("Version and licence"), [this] {
        QMessageBox::about(this, tr("About"),
                           tr("<b>Mindful Trail</b> 0.1.0<br>Trace recordings of embedded targets: from bytes to a "
                              "cause.<br>GPL-3.0-or-later, without any warranty."));
    });
    for (auto* a : need_recording_) a->setEnabled(false);
}

// Which kinds of lanes are drawn; it is remembered. Only kinds that this recording has can be chosen.
void MainWindow::build_kinds_menu(QMenu* menu) {
    const auto hidden = [] {
        std::set<std::string> ids;
        for (const QString& id : QSettings().value("hidden_lanes").toStringList()) ids.insert(id.toStdString());
        return ids;
    };
    lanes_->set_hidden_kinds(hidden());
    connect(menu, &QMenu::aboutToShow, this, [this, menu] {
        menu->clear();
        for (const LaneKind* kind : LaneKinds::all()) {
            const QString id = QString::fromStdString(std::string(kind->id()));
            auto* a = menu->addAction(QString::fromStdString(kind->many()));
            a->setCheckable(true);
            a->setChecked(lanes_->hidden_kinds().count(id.toStdString()) == 0);
            a->setEnabled(session_.trail() && !kind->lanes(*session_.trail()).empty());
            connect(a, &QAction::toggled, this, [this, id](bool on) {
                auto ids = lanes_->hidden_kinds();
                if (on)
                    ids.erase(id.toStdString());
                else
                    ids.insert(id.toStdString());
                QStringList kept;
                for (const std::string& one : ids) kept << QString::fromStdString(one);
                QSettings().setValue("hidden_lanes", kept);
                lanes_->set_hidden_kinds(std::move(ids));
            });
        }
    });
}

}  // namespace mt::app
