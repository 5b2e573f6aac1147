#include "main_window.h"

#include <QAction>
#include <QApplication>
#include <QComboBox>
#include <QCompleter>
#include <QDir>
#include <QDragEnterEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
#include <QRegularExpression>
#include <QSettings>
#include <QStandardPaths>
#include <QStringListModel>
#include <QTabBar>
#include <QTimer>
#include <QToolBar>
#include <QVBoxLayout>

#include <cmath>
#include <fstream>

#include "base/text.h"
#include "measure/refs.h"
#include "share/activity_tables.h"
#include "share/step_tables.h"
#include "share/tables.h"
#include "theme.h"
#include "words.h"

namespace mt::app {
namespace {
constexpr int kMostRecent = 8;
constexpr Time kFollowed{1'000'000'000'000};  ///< the newest second
}  // namespace

MainWindow::MainWindow(QWidget* parent) : QMainWindow(parent) {
    setWindowTitle(tr("Mindful Trail"));
    setAcceptDrops(true);
    resize(1280, 800);
    setCentralWidget(build_centre());
    build_toolbar();
    build_actions();
    build_record_page();
    connect(&session_, &Session::opened, this, [this] {
        // Half-seen: decoding goes on, but the lanes show what there is.
        view_.reset(session_.trail()->end);
        if (session_.live()) view_.follow(true, kFollowed);
        walked_ = false;
        stack_->setCurrentWidget(lanes_);
        notice_->hide();
        renew_evidence();
        renew_choice();
        file_->setText((session_.recording()->target.path.empty()
                            ? words(session_.recording()->title)
                            : QFileInfo(words(session_.recording()->input)).fileName()) +
                       "   ");
        file_->setFixedWidth(file_->sizeHint().width());
        menuBar()->setCornerWidget(file_);  // a corner widget takes its width when it is set
        file_->show();
        setWindowTitle(words(session_.recording()->title) + " – " + tr("Mindful Trail"));
        for (auto* a : need_recording_) a->setEnabled(true);
        lanes_->setFocus();
        if (!session_.live()) remember(words(session_.recording()->input));
    });
    connect(&session_, &Session::grew, this, [this] {
        store_.use(session_.recording(), session_.trail());
        view_.extend(session_.trail()->end);
        renew_health();
        renew_busy();
    });
    connect(&session_, &Session::opening, this, &MainWindow::renew_busy);
    connect(&session_, &Session::finished, this, &MainWindow::finished);
    connect(&session_, &Session::failed, this, [this](const Problem& problem) {
        renew_busy();
        say(words(problem.text()), true);
    });
    connect(&session_, &Session::saved, this, [this](const QString& folder) {
        remember(folder);
        say(tr("Saved as %1").arg(folder), false);
    });
    connect(&session_, &Session::save_failed, this,
            [this](const Problem& problem) { say(words(problem.text()), true); });
    connect(panel_, &MeasuresPanel::window_chosen, this,
            [this](Time from, Time to) { view_.go_to(from, to, Time{(from.ps + to.ps) / 2}); });
    const auto go = [this](const SpanRef& span) {
        show_measures(false);
        lanes_->go_to(span);
    };
    connect(panel_, &MeasuresPanel::span_chosen, this, go);
    connect(moment_, &MomentStrip::span_chosen, this, go);
    connect(functions_, &FunctionsTable::call_chosen, this, go);
    connect(page_, &MeasuresPage::span_chosen, this, [this](const SpanRef& span, bool leave) {
        if (leave) show_measures(false);
        lanes_->go_to(span);
    });
    connect(panel_, &MeasuresPanel::all_wanted, this, [this] { show_measures(true); });
    connect(page_, &MeasuresPage::back_wanted, this, [this] { show_measures(false); });
    connect(page_, &MeasuresPage::save_wanted, this, &MainWindow::ask_save_csv);
    connect(findings_, &FindingsPanel::chosen, this, &MainWindow::go_to_finding);
    connect(ridge_, &Ridge::finding_clicked, this, &MainWindow::go_to_finding);
    connect(&view_, &Viewpoint::places_changed, this, [this] {
        back_->setEnabled(view_.can_go_back());
        forward_->setEnabled(view_.can_go_forward());
    });
    renew_recent();
    renew_health();
    renew_busy();
    renew_evidence();
    const QSettings settings;
    set_night(settings.value("night", false).toBool());
}

QWidget* MainWindow::build_centre() {
    ridge_ = new Ridge(session_, view_);
    lanes_ = new Lanes(session_, view_, store_);
    findings_ = new FindingsPanel(session_);
    panel_ = new MeasuresPanel(session_, view_);
    page_ = new MeasuresPage(session_, view_);
    moment_ = new MomentStrip(session_, view_);
    events_ = new PacketTable(PacketTable::Show::events, session_, view_, store_);
    packets_ = new PacketTable(PacketTable::Show::packets, session_, view_, store_);
    trace_events_ = new TraceTable(session_, view_);
    footsteps_ = new Footsteps(session_, view_);
    functions_ = new FunctionsTable(session_);
    connect(lanes_, &Lanes::call_selected, functions_, &FunctionsTable::show_function);
    source_ = new SourceView(session_);
    connect(footsteps_, &Footsteps::current_changed, source_, &SourceView::show_slot);
    connect(footsteps_, &Footsteps::missed, this, [this](int direction) {
        say(direction > 0 ? tr("It is not executed again.") : tr("It was not executed before."), false);
    });
    connect(source_, &SourceView::execution_wanted, footsteps_, &Footsteps::seek_execution);
    connect(lanes_, &Lanes::missed, this, [this](const QString& text) { say(text, false); });
    connect(lanes_, &Lanes::job_rule_wanted, this, [this](std::size_t task, const JobRule& rule) {
        const TaskLane& lane = session_.trail()->tasks.tasks[task];
        kept_place_ = KeptPlace{view_.from(), view_.to(), view_.cursor(), task_lane(task)};
        say(tr("%1: %2. Kept for this recording; a [[task]] with job_ends in the target file keeps it for all.")
                .arg(words(lane.name), words(job_rule_text(rule))),
            false);
        session_.set_job_rule(lane.name, rule);
    });
    call_tree_ = new CallTree(session_);
    connect(call_tree_, &CallTree::function_chosen, functions_, &FunctionsTable::choose);
    connect(lanes_, &Lanes::call_selected, this, [this](std::size_t core, unsigned function) {
        const auto trail = session_.trail();
        for (std::size_t i = 0; i < trail->steps.size(); ++i) {
            if (trail->steps[i].core_index != core) continue;
            call_tree_->use_function(i, function);
            if (i != footsteps_->stream()) footsteps_->use_stream(i);
            renew_choice();
        }
    });
    start_ = new StartPage;
    connect(start_, &StartPage::open_wanted, this, &MainWindow::ask_open);
    connect(start_, &StartPage::recent_chosen, this, &MainWindow::open);
    connect(start_, &StartPage::record_wanted, this, [this] { open_recipe({}); });

    notice_ = new QWidget;
    notice_text_ = new QLabel;
    notice_text_->setObjectName("notice");
    notice_text_->setWordWrap(true);
    notice_text_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    auto* close = new QToolButton;
    close->setText("✕");
    close->setToolTip(tr("Close this message"));
    connect(close, &QToolButton::clicked, notice_, &QWidget::hide);
    auto* notice_row = new QHBoxLayout(notice_);
    notice_row->setContentsMargins(12, 5, 8, 5);
    notice_row->addWidget(notice_text_, 1);
    notice_row->addWidget(close);
    notice_->hide();

    stack_ = new QStackedWidget;
    stack_->addWidget(start_);
    stack_->addWidget(lanes_);
    stack_->addWidget(page_);
    form_ = new RecipeForm(live_);
    stack_->addWidget(form_);
    stations_ = new Stations(live_);
    sane_ = new SanePanel(live_);
    strip_ = new RecordStrip(live_, view_);
    across_ = new QSplitter(Qt::Horizontal);
    across_->addWidget(findings_);
    across_->addWidget(sane_);
    across_->addWidget(stack_);
    across_->addWidget(panel_);
    for (const int side : {0, 1, 3}) across_->setStretchFactor(side, 0);
    across_->setStretchFactor(2, 1);
    across_->setSizes({250, 280, 730, 300});
    across_->setHandleWidth(1);

    evidence_ = new QTabWidget;
    evidence_->tabBar()->setDrawBase(false);
    evidence_->addTab(events_, tr("Events"));
    evidence_->addTab(packets_, tr("Packets"));
    evidence_->addTab(trace_events_, tr("System events"));
    evidence_->addTab(footsteps_, tr("Footsteps"));
    evidence_->addTab(source_, tr("Source"));
    evidence_->addTab(functions_, tr("Functions"));
    evidence_->addTab(call_tree_, tr("Call tree"));
    evidence_->setAccessibleName(tr("Evidence"));
    stream_choice_ = new QComboBox;
    stream_choice_->setObjectName("stream_choice");
    stream_choice_->setAccessibleName(tr("Stream shown in the evidence"));
    stream_choice_->hide();
    connect(stream_choice_, &QComboBox::activated, this, [this](int i) {
        if (evidence_->currentWidget() == footsteps_ || evidence_->currentWidget() == source_) {
            footsteps_->use_stream(static_cast<std::size_t>(i));
            return;
        }
        if (evidence_->currentWidget() == call_tree_) {
            call_tree_->use_stream(static_cast<std::size_t>(i));
            return;
        }
        if (evidence_->currentWidget() == trace_events_) {
            trace_events_->use_stream(static_cast<std::size_t>(i));
            return;
        }
        events_->use_stream(static_cast<std::size_t>(i));
        packets_->use_stream(static_cast<std::size_t>(i));
    });
    connect(evidence_, &QTabWidget::currentChanged, this, &MainWindow::renew_choice);

    find_ = new QLineEdit;
    find_->setObjectName("find");
    find_->setPlaceholderText(tr("Find a name, kind or value"));
    find_->setToolTip(tr("Enter: the next row that has it, Shift+Enter: the one before (Ctrl+F)"));
    find_->setAccessibleName(tr("Find in the evidence"));
    find_->setClearButtonEnabled(true);
    find_->setFixedWidth(230);
    find_->installEventFilter(this);
    auto* corner = new QWidget;
    auto* corner_row = new QHBoxLayout(corner);
    corner_row->setContentsMargins(0, 2, 12, 2);
    corner_row->addWidget(stream_choice_);
    corner_row->addWidget(find_);
    evidence_->setCornerWidget(corner);

    auto* upper = new QWidget;
    auto* upper_column = new QVBoxLayout(upper);
    upper_column->setContentsMargins(0, 0, 0, 0);
    upper_column->setSpacing(0);
    upper_column->addWidget(across_, 1);
    upper_column->addWidget(moment_);
    down_ = new QSplitter(Qt::Vertical);
    down_->addWidget(upper);
    down_->addWidget(evidence_);
    down_->setStretchFactor(0, 1);
    down_->setStretchFactor(1, 0);
    down_->setSizes({460, 190});
    down_->setHandleWidth(1);

    auto* all = new QWidget;
    auto* column = new QVBoxLayout(all);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    column->addWidget(notice_);
    column->addWidget(stations_);
    column->addWidget(ridge_);
    column->addWidget(down_, 1);
    column->addWidget(strip_);
    for (auto* w : {static_cast<QWidget*>(stations_), static_cast<QWidget*>(sane_), static_cast<QWidget*>(strip_)})
        w->hide();
    return all;
}

void MainWindow::build_toolbar() {
    auto* bar = addToolBar(tr("Tools"));
    bar->setMovable(false);
    bar->setContextMenuPolicy(Qt::PreventContextMenu);
    const auto button = [&](const QString& text, const QString& tip, const QString& name) {
        auto* b = new QToolButton;
        b->setText(text);
        b->setToolTip(tip);
        b->setAccessibleName(tip);
        b->setObjectName(name);
        bar->addWidget(b);
        return b;
    };
    back_ = button("‹", tr("Back to the place before (Alt+Left)"), "back");
    forward_ = button("›", tr("Forward (Alt+Right)"), "forward");
    connect(back_, &QToolButton::clicked, &view_, &Viewpoint::back);
    connect(forward_, &QToolButton::clicked, &view_, &Viewpoint::forward);
    back_->setEnabled(false);
    forward_->setEnabled(false);
    go_ = new QLineEdit;
    go_->setObjectName("go");
    go_->setPlaceholderText(tr("Go to a name or a time (7.063 s)"));
    go_->setAccessibleName(tr("Go to"));
    go_->setFixedWidth(270);
    bar->addWidget(go_);
    connect(go_, &QLineEdit::returnPressed, this, [this] {
        if (go_to_text(go_->text())) {
            go_->selectAll();
            lanes_->setFocus();
        }
    });
    ruler_ =
        button(tr("A–B"), tr("Measure: drag in the lanes from A to B; both snap to entries and exits (R)"), "ruler");
    ruler_->setCheckable(true);
    connect(ruler_, &QToolButton::toggled, lanes_, &Lanes::set_measuring);
    connect(lanes_, &Lanes::measuring_changed, ruler_, &QToolButton::setChecked);
    auto* space = new QWidget;
    space->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Preferred);
    bar->addWidget(space);
    progress_ = new QProgressBar;
    progress_->setFixedWidth(150);
    progress_->setRange(0, 1000);
    progress_->setTextVisible(false);
    progress_->setAccessibleName(tr("Decoding"));
    cancel_ = new QPushButton(tr("Stop"));
    cancel_->setObjectName("stop");
    cancel_->setToolTip(tr("Stop decoding; what was decoded so far stays"));
    connect(cancel_, &QPushButton::clicked, &session_, &Session::cancel);
    auto* busy = new QWidget;
    busy->setObjectName("busy");
    auto* busy_row = new QHBoxLayout(busy);
    busy_row->setContentsMargins(0, 0, 6, 0);
    busy_row->addWidget(progress_);
    busy_row->addWidget(cancel_);
    bar->addWidget(busy);
    health_menu_ = new QMenu(this);
    health_menu_->setToolTipsVisible(true);
    health_ = new QToolButton;
    health_->setObjectName("health");
    health_->setMenu(health_menu_);
    health_->setPopupMode(QToolButton::InstantPopup);
    health_->setToolTip(tr("Is the recording whole? Gaps and doubts, each leads to its place"));
    health_->setStyleSheet(
        "QToolButton { border: 0; background: transparent; padding: 4px 18px 4px 4px; } QToolButton::menu-indicator { "
        "subcontrol-origin: padding; subcontrol-position: center right; }");
    health_shown_ = bar->addWidget(health_);
    file_ = new QLabel;
    file_->setObjectName("file");
    file_->setAlignment(Qt::AlignRight);
    file_->setContentsMargins(0, 8, 0, 0);
    menuBar()->setCornerWidget(file_);
}

void MainWindow::say(const QString& text, bool bad) {
    notice_text_->setText(text);
    notice_->setStyleSheet(QString("QWidget { background: %1; } QLabel { color: %2; %3 }")
                               .arg(theme().selected.name(), theme().text.name(), bad ? "font-weight: bold;" : ""));
    notice_->show();
}

void MainWindow::open(const QString& path) {
    if (live_.active()) {
        say(tr("A recording is being made. Stop it before opening another."), true);
        return;
    }
    if (path.endsWith(".recipe.toml")) {
        open_recipe(path);
        return;
    }
    if (record_page_) leave_record_page();
    session_.open(path);
}

void MainWindow::renew_evidence() {
    const auto trail = session_.trail();
    const bool packets = !trail || !trail->streams.empty() || (trail->steps.empty() && !trail->tasks.present()),
               steps = trail && !trail->steps.empty();
    const auto recording = session_.recording();
    // Samples of the program counter tell functions, too; whether there are any shows while decoding.
    const bool sampled = packets && recording != nullptr &&
                         std::any_of(recording->functions.begin(), recording->functions.end(),
                                     [](const auto& f) { return f != nullptr; });
    const bool system = trail && !trail->tasks.streams.empty();
    const bool newly = steps && !packets && !evidence_->isTabVisible(evidence_->indexOf(footsteps_));
    const bool new_system = system && !packets && !evidence_->isTabVisible(evidence_->indexOf(trace_events_));
    evidence_->setTabVisible(evidence_->indexOf(trace_events_), system);
    for (QWidget* w : {static_cast<QWidget*>(events_), static_cast<QWidget*>(packets_)})
        evidence_->setTabVisible(evidence_->indexOf(w), packets);
    for (QWidget* w : {static_cast<QWidget*>(footsteps_), static_cast<QWidget*>(source_),
                       static_cast<QWidget*>(functions_), static_cast<QWidget*>(call_tree_)})
        evidence_->setTabVisible(evidence_->indexOf(w), steps || (w == functions_ && sampled));
    if (newly) evidence_->setCurrentWidget(functions_);
    if (new_system && !steps) evidence_->setCurrentWidget(trace_events_);
}

void MainWindow::renew_choice() {
    const auto trail = session_.trail();
    const bool steps = evidence_->currentWidget() == footsteps_ || evidence_->currentWidget() == source_;
    const bool packets = evidence_->currentWidget() == events_ || evidence_->currentWidget() == packets_;
    const bool system = evidence_->currentWidget() == trace_events_;
    stream_choice_->clear();
    const bool tree = evidence_->currentWidget() == call_tree_;
    if (trail && (steps || tree))
        for (const auto& s : trail->steps) stream_choice_->addItem(words(s.core));
    if (trail && packets)
        for (const auto& s : trail->streams)
            stream_choice_->addItem(words(s.core) + ": " + QFileInfo(words(s.file)).fileName());
    if (trail && system)
        for (const auto& s : trail->tasks.streams)
            stream_choice_->addItem(words(s.core) + ": " + QFileInfo(words(s.file)).fileName());
    if (system) stream_choice_->setCurrentIndex(static_cast<int>(trace_events_->stream()));
    if (steps) stream_choice_->setCurrentIndex(static_cast<int>(footsteps_->stream()));
    if (tree) stream_choice_->setCurrentIndex(static_cast<int>(call_tree_->stream()));
    if (packets) stream_choice_->setCurrentIndex(static_cast<int>(events_->stream()));
    stream_choice_->setVisible(stream_choice_->count() > 1);
    find_->setVisible(steps || packets || system);
    find_->setPlaceholderText(steps ? tr("Find a function, line, address") : tr("Find a name, kind or value"));
    find_->setToolTip(steps ? tr("Enter: its next execution, Shift+Enter: the one before (Ctrl+F)")
                            : tr("Enter: the next row that has it, Shift+Enter: the one before (Ctrl+F)"));
}

void MainWindow::finished() {
    if (judging_recorded_) {
        judging_recorded_ = false;
        stations_->set_findings(static_cast<int>(session_.findings().size()));
    }
    renew_busy();
    renew_health();
    renew_evidence();
    QStringList names;
    for (const LaneKind* kind : LaneKinds::all())
        for (const LaneKind::Name& name : kind->names(*session_.trail())) names << words(name.name);
    names.removeDuplicates();
    auto* completer = new QCompleter(names, go_);
    completer->setCaseSensitivity(Qt::CaseInsensitive);
    completer->setFilterMode(Qt::MatchContains);
    go_->setCompleter(completer);
    if (session_.trail()->cancelled)
        say(tr("Decoding was stopped: what follows %1 is not shown. Open it again to see the rest.")
                .arg(words(duration_text(session_.trail()->end))),
            false);
    if (kept_place_) {  // the same recording, told apart otherwise: everybody stays where they were
        const KeptPlace place = *std::exchange(kept_place_, std::nullopt);
        view_.go_to(place.from, place.to, place.cursor);
        view_.select(place.selection);
    } else if (!session_.job_rules().empty()) {
        QStringList changed;
        for (const TaskSpec& t : session_.job_rules()) changed << words(t.name) + ": " + words(job_rule_text(t.rule));
        say(tr("As you chose before for this recording: %1. A right click on the task's lane changes it.")
                .arg(changed.join("; ")),
            false);
    }
    select_first();
}

// The first finding is selected but not jumped to: its figures are shown. Else what is most worth a look.
void MainWindow::select_first() {
    const LaneBook* lanes = session_.lanes().get();
    if (lanes == nullptr || lanes->find(view_.selection().lane) != nullptr) return;
    for (const Finding& f : session_.findings()) {
        const Lane* lane = lanes->find(f.lane);
        if (lane == nullptr || (lane->shape() == Shape::bars && lane->size(0) < 2)) continue;
        if (f.lane.kind->lanes_are_activities())
            view_.select(f.lane);
        else if (f.about && lanes->find(*f.about) != nullptr)
            view_.select(*f.about);
        else
            continue;
        return;
    }
    LaneId busiest;
    std::size_t most = 0;
    for (const LaneKind* kind : {&tasks_kind(), &interrupts_kind()}) {
        for (const std::uint64_t index : kind->lanes(*session_.trail()))
            if (const std::size_t n = lanes->find(LaneId{kind, index})->size(0); n > most) {
                busiest = {kind, index};
                most = n;
                if (kind == &tasks_kind()) break;  // the most urgent one that works
            }
        if (busiest) return view_.select(busiest);
    }
}

// Steps of the core that is looked at: the selected call's, or the selected lane's.
void MainWindow::show_even(bool on) {
    const auto trail = session_.trail();
    if (!on || !trail || trail->cores.empty()) return view_.set_scale(nullptr);
    if (!trail->complete) {
        say(tr("Even steps count from the whole recording: wait until it is decoded."), false);
        even_action_->setChecked(false);
        return;
    }
    const Lane* lane = session_.lanes()->find(view_.selection().lane);
    const std::size_t core = lane != nullptr ? lane->core() : 0;
    view_.set_scale(std::make_shared<const EvenScale>(trail, core));
}

void MainWindow::show_start(bool on) {
    lanes_->set_start_shown(on);
    if (first_runs_action_->isChecked() != on) first_runs_action_->setChecked(on);
    if (!on || !session_.trail()) return;
    Time last{};
    for (const auto& t : session_.trail()->tasks.tasks)
        if (t.ran) last = std::max(last, t.first_run);
    if (session_.trail()->tasks.tasks.empty()) {
        say(tr("The recording tells of no tasks."), false);
        return;
    }
    show_measures(false);
    view_.go_to(Time{}, last + std::max(Time{last.ps / 6}, Time::from_us(10)), Time{});
}

void MainWindow::go_to_finding(int index) {
    if (index < 0 || static_cast<std::size_t>(index) >= session_.findings().size()) return;
    const Finding& f = session_.findings()[static_cast<std::size_t>(index)];
    findings_->select(index);
    walked_ = true;
    show_measures(false);
    const LaneBook& lanes = *session_.lanes();
    const Lane* about = f.about ? lanes.find(*f.about) : nullptr;
    if (about != nullptr && about->shape() == Shape::stack) return lanes_->go_to(*f.about);
    const bool execution = about != nullptr && f.lane.kind == &interrupts_kind();
    Time room = std::max(Time{(f.end - f.begin).ps * 3 / 5}, Time::from_us(20));
    Time from = f.begin - room, to = f.end + room;
    if (f.kind == FindingKind::fault && !execution) {  // what led to it
        from = f.begin - Time::from_ms(20);
        to = f.begin + Time::from_ms(2);
    } else if (f.kind == FindingKind::fault) {  // what came before matters, not the long wait in the handler
        from = f.begin - Time::from_us(400);
        to = std::min(to, f.begin + Time::from_us(200));
    }
    if (about != nullptr)
        view_.select(*f.about);
    else
        view_.select(f.lane);
    view_.go_to(from, to, execution ? about->span(f.about->level, f.about->index).begin : f.begin);
    if (!lanes_->hasFocus() && !findings_->list()->hasFocus()) lanes_->setFocus();
}

void MainWindow::show_measures(bool on) {
    if (!session_.trail()) return;
    if (on == (stack_->currentWidget() == page_)) return;
    stack_->setCurrentWidget(on ? static_cast<QWidget*>(page_) : lanes_);
    // The table is wide: the findings make room for it and come back with the lanes.
    if (on) findings_were_shown_ = !findings_->isHidden();
    findings_->setVisible(on ? false : findings_were_shown_);
    (on ? static_cast<QWidget*>(page_->table(page_->shown().id())) : lanes_)->setFocus();
}

bool MainWindow::go_to_text(const QString& text) {
    const auto trail = session_.trail();
    if (!trail || text.trimmed().isEmpty()) return false;
    static const QRegularExpression time(R"(^\s*([0-9][0-9 .]*)\s*(s|ms|us|µs|ns)\s*$)");
    if (const auto match = time.match(text); match.hasMatch()) {
        const double value = match.captured(1).remove(' ').toDouble();
        const QString unit = match.captured(2);
        const double ns = value * (unit == "s" ? 1e9 : unit == "ms" ? 1e6 : unit == "ns" ? 1 : 1e3);
        if (ns * 1e3 > static_cast<double>(trail->end.ps)) {
            say(tr("%1 lies after the end of the recording (%2).")
                    .arg(text.trimmed(), words(duration_text(trail->end))),
                false);
            return false;
        }
        const Time at = Time::from_ns(ns),
                   half = std::min(Time{(view_.to() - view_.from()).ps / 2}, Time::from_us(500));
        show_measures(false);
        view_.go_to(at - half, at + half, at);
        return true;
    }
    const QString wanted = text.trimmed();
    for (const bool exact : {true, false})
        for (const LaneKind* kind : LaneKinds::all())
            for (const LaneKind::Name& name : kind->names(*trail)) {
                const QString known = words(name.name);
                if (exact ? known.compare(wanted, Qt::CaseInsensitive) != 0 && words(name.number) != wanted
                          : !known.contains(wanted, Qt::CaseInsensitive))
                    continue;
                if (const auto next = kind->first_from(*trail, name.index, view_.cursor() + Time{1}, true)) {
                    show_measures(false);
                    lanes_->go_to(*next);
                    return true;
                }
                if (const LaneId lane = kind->lane_of(*trail, name.index); session_.lanes()->find(lane) != nullptr) {
                    show_measures(false);
                    view_.select(lane);
                    return true;
                }
            }
    say(tr("Nothing here is called “%1”. Type the name of anything in the lanes, or a time with its unit, as 7.063 s.")
            .arg(text.trimmed()),
        false);
    return false;
}

void MainWindow::set_night(bool on) {
    apply_theme(on);
    night_->setChecked(on);
    // Widgets that hold colours of their own take the new ones.
    emit view_.colours_changed();
    start_->set_recent(recent());
    for (auto* w : findChildren<QWidget*>()) w->update();
}

bool MainWindow::eventFilter(QObject* watched, QEvent* e) {
    if (watched == find_ && e->type() == QEvent::KeyPress) {
        const auto* key = static_cast<QKeyEvent*>(e);
        if (key->key() == Qt::Key_Return || key->key() == Qt::Key_Enter) {
            const QString text = find_->text();
            auto* table = qobject_cast<PacketTable*>(evidence_->currentWidget());
            const bool forwards = (key->modifiers() & Qt::ShiftModifier) == 0;
            if (evidence_->currentWidget() == trace_events_) {
                trace_events_->find_text(text, forwards, [this, text, forwards](bool found) {
                    if (!found)
                        say(forwards ? tr("No further row has “%1”.").arg(text)
                                     : tr("No row before has “%1”.").arg(text),
                            false);
                });
                return true;
            }
            if (table == nullptr && !text.trimmed().isEmpty()) {
                notice_->hide();
                if (const auto sought = footsteps_->seek_text(text, forwards ? 1 : -1); !sought)
                    say(words(sought.error().text()), false);
            }
            if (table != nullptr)
                table->find_text(text, forwards, [this, text, forwards](bool found) {
                    if (!found)
                        say(forwards ? tr("No further row has “%1”.").arg(text)
                                     : tr("No row before has “%1”.").arg(text),
                            false);
                });
            return true;
        }
    }
    return QMainWindow::eventFilter(watched, e);
}

void MainWindow::set_ruler_end(bool is_a) {
    const Time at = view_.cursor();
    if (is_a)
        view_.set_ruler(at, view_.b());
    else
        view_.set_ruler(view_.a(), at);
}

void MainWindow::fold_sides(bool fold) {
    for (auto* w : {static_cast<QWidget*>(findings_), static_cast<QWidget*>(panel_), static_cast<QWidget*>(evidence_)})
        w->setVisible(!fold);
}

void MainWindow::ask_open() {
    const QString path = QFileDialog::getOpenFileName(
        this, tr("Open"), {}, tr("Target files and recordings (*.target.toml *.toml trail.toml);;All files (*)"));
    if (path.isEmpty()) return;
    open(path);
}

void MainWindow::ask_save() {
    if (!session_.recording()) return;
    QString path =
        QFileDialog::getSaveFileName(this, tr("Save recording as"), QDir::current().filePath("recording.mtrail"),
                                     tr("Recordings (*.mtrail)"), nullptr, QFileDialog::DontConfirmOverwrite);
    if (path.isEmpty()) return;
    if (!path.endsWith(".mtrail")) path += ".mtrail";
    bool replace = false;
    if (QFileInfo::exists(path)) {
        replace = QMessageBox::question(this, tr("Replace?"), tr("%1 exists already. Replace it?").arg(path)) ==
                  QMessageBox::Yes;
        if (!replace) return;
    }
    say(tr("Saving %1 …").arg(path), false);
    session_.save(path, replace);
}

void MainWindow::ask_save_csv() {
    if (!session_.trail()) return;
    const LaneKind& kind = page_->shown();
    const QString path = QFileDialog::getSaveFileName(this, tr("Save measures as CSV"),
                                                      QDir::current().filePath(words(std::string(kind.id())) + ".csv"),
                                                      tr("CSV (*.csv)"));
    if (path.isEmpty()) return;
    std::ofstream out(path.toStdString(), std::ios::binary);
    write_stats_csv(kind, {*session_.trail(), session_.recording()->functions}, out);
    out.close();
    if (out)
        say(tr("Saved as %1").arg(path), false);
    else
        say(tr("cannot write: %1: check the folder, the permissions and free space").arg(path), true);
}

QStringList MainWindow::recent() const { return QSettings().value("recent").toStringList(); }

void MainWindow::remember(const QString& path) {
    QStringList list = recent();
    const QString full = QFileInfo(path).absoluteFilePath();
    list.removeAll(full);
    list.prepend(full);
    while (list.size() > kMostRecent) list.removeLast();
    QSettings().setValue("recent", list);
    renew_recent();
}

void MainWindow::renew_recent() {
    recent_menu_->clear();
    const QStringList list = recent();
    for (const QString& path : list) recent_menu_->addAction(path, this, [this, path] { open(path); });
    recent_menu_->setEnabled(!list.isEmpty());
    if (!list.isEmpty()) {
        recent_menu_->addSeparator();
        recent_menu_->addAction(tr("Clear the list"), this, [this] {
            QSettings().remove("recent");
            renew_recent();
        });
    }
    start_->set_recent(list);
}

void MainWindow::renew_health() {
    constexpr std::size_t kMostListed = 12;
    const auto trail = session_.trail();
    health_shown_->setVisible(trail != nullptr);  // what a tool bar holds is shown and hidden by its action
    health_menu_->clear();
    if (!trail) return;
    QString text =
        words(duration_text(trail->end)) + " · " + words(plural(trail->cores.size(), "core", "cores")) + " · ";
    const auto missing = missing_instructions(*trail);
    QStringList but;
    if (!trail->gaps.empty())
        but << tr("%1 (%2)").arg(words(plural(trail->gaps.size(), "gap", "gaps")),
                                 words(duration_text(trail->gaps.covered())));
    if (!missing.empty()) but << tr("%1 in the instructions").arg(words(plural(missing.size(), "gap", "gaps")));
    text += but.isEmpty() ? tr("whole") : tr("whole but for %1").arg(but.join(tr(" and ")));
    if (!session_.busy() && !session_.live() && !trail->cores.empty()) {
        const ClockCheck check = session_.clock();
        text += check == ClockCheck::agrees        ? tr(" · clock agrees")
                : check == ClockCheck::contradicts ? tr(" · clock in doubt")
                                                   : tr(" · clock not checked");
    }
    if (!trail->doubts.empty()) text += " · " + words(plural(trail->doubts.size(), "doubt", "doubts"));
    health_->setText(text);
    if (but.isEmpty() && trail->doubts.empty())
        health_menu_->addAction(tr("Nothing was lost, and nothing is in doubt."))->setEnabled(false);
    for (std::size_t i = 0; i < trail->gaps.size() && i < kMostListed; ++i) {
        const Gap g = trail->gaps[i];
        health_menu_->addAction(tr("Gap at %1: %2, up to %3")
                                    .arg(words(moment_text(g.begin)),
                                         g.kind == GapKind::overflow
                                             ? tr("overflow")
                                             : words(std::string(itm_damage_text(static_cast<ItmDamage>(g.reason)))),
                                         words(duration_text(g.end - g.begin))),
                                this, [this, g] {
                                    const Time room = std::max(Time{(g.end - g.begin).ps / 2}, Time::from_us(50));
                                    show_measures(false);
                                    view_.go_to(g.begin - room, g.end + room, g.begin);
                                });
    }
    if (trail->gaps.size() > kMostListed)
        health_menu_->addAction(tr("and %1 more gaps").arg(words(count_text(trail->gaps.size() - kMostListed))))
            ->setEnabled(false);
    for (std::size_t i = 0; i < missing.size() && i < kMostListed; ++i)
        health_menu_->addAction(tr("Instructions missing at %1: %2")
                                    .arg(words(moment_text(missing[i]->begin)), words(missing[i]->gap.reason)),
                                this, [this, at = missing[i]->begin] {
                                    const Time half = Time::from_us(50);
                                    show_measures(false);
                                    view_.go_to(at - half, at + half, at);
                                });
    if (missing.size() > kMostListed)
        health_menu_->addAction(tr("and %1 more places").arg(words(count_text(missing.size() - kMostListed))))
            ->setEnabled(false);
    if (!trail->notes.empty()) health_menu_->addSeparator();
    for (const Note& note : trail->notes)
        health_menu_->addAction(tr("Marked at %1: %2").arg(words(moment_text(note.time)), words(note.text)), this,
                                [this, at = note.time] {
                                    const Time half = Time::from_ms(5);
                                    show_measures(false);
                                    view_.go_to(at - half, at + half, at);
                                });
    if (!trail->doubts.empty()) health_menu_->addSeparator();
    for (const Doubt& d : trail->doubts) {
        const QString line = words(d.text);
        auto* a = health_menu_->addAction(line.size() > 110 ? line.left(107) + "…" : line, this,
                                          [this, d] { say(words(d.text + " " + d.advice), false); });
        a->setToolTip(words(d.text + " " + d.advice));
    }
}

void MainWindow::renew_busy() {
    const bool busy = session_.busy();
    progress_->setVisible(busy);
    cancel_->setVisible(busy);
    progress_->setValue(static_cast<int>(session_.progress() * 1000));
    if (busy)
        QTimer::singleShot(80, this, [this] { progress_->setValue(static_cast<int>(session_.progress() * 1000)); });
}

void MainWindow::dragEnterEvent(QDragEnterEvent* e) {
    if (e->mimeData()->hasUrls() && e->mimeData()->urls().size() == 1 && e->mimeData()->urls().front().isLocalFile())
        e->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* e) {
    const QString path = e->mimeData()->urls().front().toLocalFile();
    e->acceptProposedAction();
    open(path);
}

void MainWindow::closeEvent(QCloseEvent* e) {
    if (live_.active()) {
        const auto answer = QMessageBox::question(this, tr("A recording is being made"),
                                                  tr("Stop it, keep what was recorded, and close the window?"));
        if (answer != QMessageBox::Yes) {
            e->ignore();
            return;
        }
        live_.stop(true);
    }
    session_.cancel();
    QMainWindow::closeEvent(e);
}

}  // namespace mt::app
