#include "shell/desk.h"

#include <QApplication>
#include <QFileInfo>
#include <QVBoxLayout>

#include <fstream>
#include <utility>

#include "base/text.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"
#include "measure/refs.h"
#include "model/even_scale.h"
#include "share/activity_tables.h"
#include "shell/beside.h"
#include "shell/limit_dialog.h"
#include "shell/past_strip.h"
#include "look/layout.h"

namespace mt::app {
namespace {
constexpr Time kFollowed{1'000'000'000'000};  ///< the newest second
}  // namespace

Desk::Desk(Document& document, QWidget* parent) : QWidget(parent), document_(document) {
    build();
    join_document();
    join_views();
    record_->join();
}

Desk::~Desk() { arrangement_->keep(); }

void Desk::build() {
    ridge_ = new Ridge(document_, finding_list_, view_);
    lanes_ = new Lanes(document_, view_, navigator_, store_, judgement_);
    findings_ = new FindingsPanel(document_, finding_list_);
    panel_ = new MeasuresPanel(document_, view_, navigator_, judgement_);
    page_ = new MeasuresPage(document_, view_);
    moment_ = new MomentStrip(document_, view_);
    events_ = new PacketTable(PacketTable::Show::events, document_, view_, store_);
    packets_ = new PacketTable(PacketTable::Show::packets, document_, view_, store_);
    trace_events_ = new TraceTable(document_, view_);
    text_ = new TextPage(document_, view_);
    samples_ = new SamplesPage(document_, view_);
    waymarks_ = new WaymarkPage(document_, view_);
    footsteps_ = new Footsteps(document_, view_);
    source_ = new SourceView(document_);
    functions_ = new FunctionsTable(document_);
    call_tree_ = new CallTree(document_);
    coverage_ = new CoveragePage(document_, cover_book_, view_);
    rules_ = new RulesPage(document_, judgement_, view_);
    compare_ = new ComparePage(document_);
    state_ = new StatePage(document_);
    interplay_ = new InterplayPage(document_, view_, navigator_);
    start_ = new StartPage;
    record_ = new RecordPage(*this);
    hand_ = new HandPage(document_, record_->live());

    beside_ = new Beside(document_, view_);
    both_ = new QSplitter(Qt::Vertical);
    both_->addWidget(lanes_);
    both_->addWidget(beside_);
    both_->setHandleWidth(1);
    both_->setChildrenCollapsible(false);
    stack_ = new QStackedWidget;
    for (QWidget* page : {static_cast<QWidget*>(both_), static_cast<QWidget*>(page_),
                          static_cast<QWidget*>(record_->form()), static_cast<QWidget*>(record_->trace())})
        stack_->addWidget(page);
    across_ = new QSplitter(Qt::Horizontal);
    for (QWidget* w : {static_cast<QWidget*>(findings_), static_cast<QWidget*>(record_->sane()),
                       static_cast<QWidget*>(stack_), static_cast<QWidget*>(panel_)})
        across_->addWidget(w);
    for (const int side : {0, 1, 3}) across_->setStretchFactor(side, 0);
    across_->setStretchFactor(2, 1);
    across_->setHandleWidth(1);

    evidence_ = new EvidenceArea(document_, view_);
    for (EvidencePage* page : {static_cast<EvidencePage*>(events_), static_cast<EvidencePage*>(packets_),
                               static_cast<EvidencePage*>(trace_events_), static_cast<EvidencePage*>(text_),
                               static_cast<EvidencePage*>(samples_), static_cast<EvidencePage*>(waymarks_),
                               static_cast<EvidencePage*>(footsteps_), static_cast<EvidencePage*>(source_),
                               static_cast<EvidencePage*>(state_), static_cast<EvidencePage*>(hand_),
                               static_cast<EvidencePage*>(functions_), static_cast<EvidencePage*>(call_tree_),
                               static_cast<EvidencePage*>(coverage_), static_cast<EvidencePage*>(rules_),
                               static_cast<EvidencePage*>(compare_),
                               static_cast<EvidencePage*>(interplay_)})
        evidence_->add(page);

    upper_ = new QWidget;
    auto* upper = bare_column(upper_);
    upper->addWidget(across_, 1);
    upper->addWidget(moment_);
    down_ = new QSplitter(Qt::Vertical);
    down_->addWidget(upper_);
    down_->addWidget(evidence_);
    down_->setStretchFactor(0, 1);
    down_->setStretchFactor(1, 0);
    down_->setHandleWidth(1);
    bytes_ = new BytesStrip;
    auto* beside = new QWidget;
    work_ = new QWidget;
    auto* column = bare_column(work_);
    past_ = new PastStrip(document_, *footsteps_, *state_);
    column->addWidget(past_);
    column->addWidget(record_->stations());
    column->addWidget(ridge_);
    column->addWidget(down_, 1);
    column->addWidget(record_->strip());
    outer_ = new QStackedWidget;
    outer_->addWidget(start_);
    outer_->addWidget(work_);
    auto* all = bare_column(beside);
    all->addWidget(bytes_);
    all->addWidget(outer_, 1);
    target_ = new TargetSide(*this);
    auto* sides = new QSplitter(Qt::Horizontal);
    sides->addWidget(target_->form());
    sides->addWidget(beside);
    sides->setStretchFactor(0, 0);
    sides->setStretchFactor(1, 1);
    sides->setHandleWidth(1);
    sides->setChildrenCollapsible(false);
    bare_column(this)->addWidget(sides);
    arrangement_ = new Arrangement({across_, down_, findings_, panel_, evidence_, lanes_}, this);
    past_->hide();
    connect(arrangement_, &Arrangement::changed, this, &Desk::show_past);
}

void Desk::join_document() {
    connect(&document_, &Document::replacing, this, [this] { view_.select(Selection()); });
    connect(&document_, &Document::opened, this, &Desk::opened);
    connect(&document_, &Document::grew, this, [this] {
        store_.use(document_.recording(), document_.trail());
        view_.extend(document_.trail()->end);
        emit renewed();
    });
    connect(&document_, &Document::opening, this, &Desk::renewed);
    connect(&document_, &Document::finished, this, &Desk::finished);
    connect(&document_, &Document::failed, this, [this](const Problem& problem) {
        opening_.clear();
        target_->failed(problem);
        emit renewed();
    });
    connect(bytes_, &BytesStrip::reading_wanted, this, [this](const QString& target) {
        if (document_.trail() && document_.recording())  // read otherwise: everybody stays where they were
            keep_place();
        opening_ = bytes_->path();
        document_.open(target);
    });
    connect(bytes_, &BytesStrip::refused, this, [this](const QString& why) {
        emit told(why, true);
        emit renewed();
    });
    connect(bytes_, &BytesStrip::kept, this, [this](const QString& target) {
        open(target);
        emit told(tr("Saved as %1").arg(target), false);
    });
    connect(bytes_, &BytesStrip::told, this, &Desk::told);
    connect(&document_, &Document::saved, this, [this](const QString& folder) {
        emit used(folder);
        emit told(tr("Saved as %1").arg(folder), false);
    });
    connect(&document_, &Document::save_failed, this,
            [this](const Problem& problem) { emit told(words(problem.text()), true); });
}

void Desk::join_views() {
    connect(&navigator_, &Navigator::arrived, this, [this] { show_measures(false); });
    connect(waymarks_, &WaymarkPage::told, this, &Desk::told);
    connect(lanes_, &Lanes::clock_moved, this, [this](const QString& device, Time by) { target_->move_clock(device, by); });
    connect(&navigator_, &Navigator::missed, this, [this](const QString& text) { emit told(text, false); });
    connect(&navigator_, &Navigator::led, this, [this](std::size_t index) {
        findings_->select(index);
        walked_ = true;
        // What proves a fault is the instruction that raised it.
        const auto streams = footsteps_->streams();
        if (document_.findings()[index].kind == FindingKind::fault && footsteps_->stream() < streams.size() &&
            streams[footsteps_->stream()].core == view_.core())
            evidence_->show_page(footsteps_);
        target_->led_to(document_.findings()[index]);
        if (!lanes_->hasFocus() && !findings_->list()->hasFocus()) lanes_->setFocus();
    });
    const auto go = [this](const SpanRef& span) { navigator_.go_to(span); };
    connect(panel_, &MeasuresPanel::window_chosen, this,
            [this](Time from, Time to) { navigator_.go_to(from, to, Time{(from.ps + to.ps) / 2}); });
    connect(panel_, &MeasuresPanel::span_chosen, this, go);
    connect(panel_, &MeasuresPanel::moment_chosen, this, [this](Time t) { navigator_.go_to(t); });
    connect(panel_, &MeasuresPanel::all_wanted, this, [this] { show_measures(true); });
    connect(moment_, &MomentStrip::span_chosen, this, go);
    connect(functions_, &FunctionsTable::call_chosen, this, go);
    connect(&judgement_, &Judgement::told, this, &Desk::told);
    connect(source_, &SourceView::reason_wanted, coverage_, &CoveragePage::ask_reason);
    connect(coverage_, &CoveragePage::told, this, &Desk::told);
    connect(&cover_book_, &CoverBook::told, this, &Desk::told);
    connect(coverage_, &CoveragePage::moment_chosen, this, [this](Time t) { navigator_.go_to(t); });
    connect(rules_, &RulesPage::span_chosen, this, go);
    connect(rules_, &RulesPage::moment_chosen, this, [this](Time t) { navigator_.go_to(t); });
    connect(lanes_, &Lanes::limit_wanted, this, [this](const LaneId& lane, quint64 activity, const QString& name) {
        auto* dialog = new LimitDialog(document_, judgement_, lane, activity, name, window());
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        connect(dialog, &LimitDialog::added, this, [this](const QString& rule) {
            show_evidence(rules_);
            rules_->choose(rule);
        });
        dialog->open();
    });
    connect(compare_, &ComparePage::lane_chosen, this, [this](const LaneId& lane) { view_.select(lane); });
    connect(compare_, &ComparePage::place_chosen, this, [this](std::size_t stream, std::uint32_t slot) {
        evidence_->show_page(source_);
        source_->show_slot(stream, slot);
    });
    connect(compare_, &ComparePage::moment_chosen, this, [this](Time t) { navigator_.go_to(t); });
    connect(compare_, &ComparePage::lanes_wanted, this, [this](const QString& path) {
        show_page(lanes_);
        beside_->path() == path ? beside_->close_it() : beside_->open(path);
        both_->setSizes({1000, 1000});  // of what there is: half for each
    });
    connect(beside_, &Beside::changed, this, &Desk::look_at_both);
    connect(&beside_->viewpoint(), &Viewpoint::selection_changed, this, &Desk::look_at_both);
    for (const auto signal : {&Viewpoint::window_changed, &Viewpoint::selection_changed, &Viewpoint::core_changed})
        connect(&view_, signal, this, &Desk::look_at_both);
    connect(rules_, &RulesPage::place_chosen, this, [this](const RulePlace& place) {
        if (place.span) return navigator_.go_to(*place.span);
        const Time room{std::max<std::int64_t>((place.end - place.begin).ps / 2, 1'000'000)};
        navigator_.go_to(std::max(Time{}, place.begin - room), place.end + room, place.begin);
    });
    connect(coverage_, &CoveragePage::place_chosen, this, [this](std::size_t stream, std::uint32_t slot) {
        evidence_->show_page(source_);
        source_->show_slot(stream, slot);
    });
    connect(page_, &MeasuresPage::span_chosen, this,
            [this](const SpanRef& span, bool leave) { navigator_.go_to(span, leave); });
    connect(page_, &MeasuresPage::save_wanted, this, &Desk::csv_wanted);
    connect(page_, &MeasuresPage::back_wanted, this, [this] { show_measures(false); });
    connect(findings_, &FindingsPanel::chosen, &navigator_, &Navigator::go_to_finding);
    connect(findings_, &FindingsPanel::involved_chosen, &navigator_, &Navigator::go_to_involved);
    connect(findings_, &FindingsPanel::moment_chosen, this, [this](Time t) { navigator_.go_to(t); });
    connect(findings_, &FindingsPanel::place_chosen, this, [this](std::size_t finding, const QString& place) {
        const std::size_t core = document_.findings()[finding].core_index;
        const auto recording = document_.recording();
        if (core >= recording->images.size() || recording->images[core] == nullptr || recording->code[core] == nullptr) return;
        const auto there = recording->slots_of(core, place.toStdString());
        if (!there)
            emit told(words(there.error().text()), false);
        else if (!show_source(core, there->front()))
            emit told(tr("No instructions of this core were traced, so %1 is not shown.").arg(place), false);
    });
    connect(findings_, &FindingsPanel::told, this, &Desk::told);
    connect(ridge_, &Ridge::finding_clicked, &navigator_, &Navigator::go_to_finding);
    connect(lanes_, &Lanes::missed, this, [this](const QString& text) { emit told(text, false); });
    connect(lanes_, &Lanes::job_rule_wanted, this, [this](std::size_t task, const JobRule& rule) {
        const TaskLane& lane = document_.trail()->tasks.tasks[task];
        kept_place_ = KeptPlace{view_.from(), view_.to(), view_.cursor(), task_lane(task)};
        emit told(tr("%1: %2. Kept for this recording; a [[task]] with job_ends in the target file keeps it for all.")
                      .arg(words(lane.name), words(job_rule_text(rule))),
                  false);
        document_.set_job_rule(lane.name, rule);
    });
    // A selected call is shown by the pages of functions; its core's instructions come by themselves.
    connect(lanes_, &Lanes::call_selected, functions_, &FunctionsTable::show_function);
    connect(lanes_, &Lanes::call_selected, this, [this](std::size_t core, unsigned function) {
        const auto trail = document_.trail();
        for (std::size_t i = 0; i < trail->steps.size(); ++i)
            if (trail->steps[i].core_index == core) call_tree_->use_function(i, function);
        evidence_->renew();
    });
    connect(call_tree_, &CallTree::function_chosen, functions_, &FunctionsTable::choose);
    connect(footsteps_, &Footsteps::current_changed, source_, &SourceView::show_slot);
    connect(footsteps_, &Footsteps::current_changed, state_, [this](std::size_t stream) {
        if (const auto step = footsteps_->current()) state_->look_at(stream, *step);
    });
    connect(state_, &StatePage::step_wanted, this, [this](std::size_t stream, std::uint64_t step) {
        if (stream == footsteps_->stream()) footsteps_->go_to(step);
    });
    connect(footsteps_, &Footsteps::current_changed, this, [this, shown = std::size_t{0}](std::size_t stream) mutable {
        if (std::exchange(shown, stream) != stream) evidence_->renew();  // another core's source is shown now
    });
    connect(footsteps_, &Footsteps::no_new_line, this,
            [this] { emit told(tr("No source line runs for the first time behind this instruction."), false); });
    connect(footsteps_, &Footsteps::missed, this, [this](int direction) {
        emit told(direction > 0 ? tr("No later execution.") : tr("No earlier execution."), false);
    });
    join_hand();
    connect(source_, &SourceView::execution_wanted, footsteps_, &Footsteps::seek_execution);
    connect(source_, &SourceView::stream_wanted, footsteps_, &Footsteps::use_stream);
    connect(evidence_, &EvidenceArea::larger_changed, this, [this](bool larger) {
        upper_->setVisible(!larger);
        ridge_->setVisible(!larger);
    });
}

// The strip of steps belongs to the Code arrangement, where there are instructions.
void Desk::show_past() {
    past_->setVisible(arrangement_->name() == Arrangement::Name::code && footsteps_->has_something());
}

void Desk::join_hand() {
    connect(hand_, &HandPage::told, this, &Desk::told);
    connect(source_, &SourceView::stop_wanted, hand_, &HandPage::toggle_stop);
    connect(source_, &SourceView::run_wanted, hand_, [this](const QString& place) { hand_->command("run " + place); });
    connect(footsteps_, &Footsteps::stop_wanted, hand_, &HandPage::toggle_stop);
    connect(footsteps_, &Footsteps::run_wanted, hand_, [this](const QString& place) { hand_->command("run " + place); });
    connect(&record_->live(), &LiveSession::renewed, this, [this] {
        const bool at_hand = hand_->at_hand();
        source_->set_in_hand(at_hand);
        footsteps_->set_in_hand(at_hand);
        state_->set_in_hand(at_hand);
        past_->set_in_hand(at_hand, hand_->stands());
        const RunState& run = record_->live().state();
        const bool console = run.recording && std::any_of(run.streams.begin(), run.streams.end(), [](const auto& s) { return s.may_be_silent; });
        if (console == text_->input()->isHidden()) {
            text_->set_console(console);
            evidence_->renew();
        }
        if (evidence_->offers(hand_) != at_hand) evidence_->renew();
    });
    connect(state_, &StatePage::put_wanted, hand_, &HandPage::put_there);
    connect(&record_->live(), &LiveSession::ended, this, [this] { text_->set_console(false); });
    connect(text_, &TextPage::typed, this, [this](const QString& line) {
        record_->live().ask("type " + line, [this, line](const Result<std::vector<HandAnswer>>& answers) {
            emit told(answers ? tr("Typed: %1").arg(line) : words(answers.error().text()), !answers);
        });
    });
    // Where a core stands, all views stand: its trace is still on its way for a moment, on a busy computer for longer.
    connect(hand_, &HandPage::stood, this, [this](std::size_t core) {
        chase_ = Chase{core, std::chrono::steady_clock::now() + std::chrono::seconds(30)};
        chase();
    });
    connect(&document_, &Document::grew, this, &Desk::chase);
}

void Desk::chase() {
    if (!chase_ || !document_.trail() || !document_.live()) return;
    if (std::chrono::steady_clock::now() > chase_->until) return chase_.reset();
    for (const auto& core : record_->live().state().cores)
        if (core.running && document_.recording() && core.name == document_.recording()->target.cores[chase_->core].name) return chase_.reset();
    const auto trail = document_.trail();
    for (std::size_t i = 0; i < trail->steps.size(); ++i)
        if (trail->steps[i].core_index == chase_->core && trail->steps[i].steps > 0) {
            if (chase_->placed && footsteps_->current() != chase_->placed) return chase_.reset();
            chase_->placed = trail->steps[i].steps - 1;
            footsteps_->use_stream(i);
            footsteps_->go_to(trail->steps[i].steps - 1);
            return;
        }
    view_.set_cursor(trail->end);
}

void Desk::open(const QString& path) {
    emit quieted();
    target_->forget();
    if (record_->shown()) record_->leave();
    if (BytesStrip::takes(path)) {
        opening_ = target_->description_of(path);
        if (opening_.isEmpty()) return open_bytes(path);
        bytes_->leave();
        return document_.open(opening_);
    }
    bytes_->leave();
    opening_ = path;
    document_.open(path);
}

void Desk::open_bytes(const QString& path) {
    emit quieted();
    target_->forget();
    bytes_->look_at(path);
    emit renewed();
}

void Desk::keep_place() { kept_place_ = KeptPlace{view_.from(), view_.to(), view_.cursor(), {}}; }

bool Desk::is_empty() const {
    return !document_.trail() && opening_.isEmpty() && !record_->live_.active() && !record_->shown() &&
           bytes_->path().isEmpty();
}

QString Desk::file_name() const {
    const auto recording = document_.recording();
    if (!recording) return {};
    if (record_->live_.active())
        return tr("recording: %1").arg(QFileInfo(words(record_->live_.state().folder)).fileName());
    if (!bytes_->path().isEmpty()) return QFileInfo(bytes_->path()).fileName();
    return recording->target.path.empty() ? words(recording->title) : QFileInfo(words(recording->input)).fileName();
}

QString Desk::title() const {
    if (const auto recording = document_.recording(); recording) return words(recording->title);
    if (!opening_.isEmpty()) return QFileInfo(opening_).fileName();
    return record_->shown() ? tr("New recording") : tr("Start");
}

// What a recording consists of: such recordings are looked at in the same way.
QString Desk::kind() const {
    const auto trail = document_.trail();
    QStringList parts;
    if (!trail->steps.empty()) parts << "instructions";
    if (!trail->streams.empty()) parts << "events";
    if (!trail->tasks.streams.empty()) parts << "tasks";
    return parts.isEmpty() ? QStringLiteral("other") : parts.join('-');
}

// Half-seen: decoding goes on, but the lanes show what there is.
void Desk::opened() {
    opening_.clear();
    view_.reset(document_.trail()->end);
    if (document_.live()) view_.follow(true, kFollowed);
    walked_ = false;
    show_page(lanes_);
    emit quieted();
    if (!document_.live()) arrangement_->use_kind(kind());
    show_past();
    if (const QString path = bytes_->path().isEmpty() ? words(document_.recording()->input) : bytes_->path();
        !document_.live() && QFileInfo::exists(path))
        emit used(path);
    lanes_->setFocus();
    emit renewed();
}

void Desk::finished() {
    if (std::exchange(record_->judging_recorded_, false))
        record_->stations_->set_findings(static_cast<int>(document_.findings().size()));
    if (document_.trail()->cancelled)
        emit told(tr("Decoding was stopped: what follows %1 is not shown. Open it again to see the rest.")
                      .arg(words(duration_text(document_.trail()->end))),
                  false);
    if (kept_place_) {  // the same recording, told apart otherwise: everybody stays where they were
        const KeptPlace place = *std::exchange(kept_place_, std::nullopt);
        view_.go_to(place.from, place.to, place.cursor, place.selection);
    } else if (!document_.job_rules().empty()) {
        QStringList changed;
        for (const TaskSpec& t : document_.job_rules()) changed << words(t.name) + ": " + words(job_rule_text(t.rule));
        emit told(tr("As you chose before for this recording: %1. A right click on the task's lane changes it.")
                      .arg(changed.join("; ")),
                  false);
    }
    navigator_.select_first();
    if (const QString path = bytes_->path().isEmpty() ? words(document_.recording()->input) : bytes_->path();
        !document_.live() && !target_->turning() && document_.trail()->complete && QFileInfo::exists(path))
        emit judged(path, {static_cast<int>(document_.findings().size()), words(duration_text(document_.trail()->end)),
                           ridge_picture()});
    target_->finished();
    emit renewed();
}

// The ridge without its scale and frame, small.
QImage Desk::ridge_picture() const {
    constexpr int scale = 18, frame = 3;
    const QRect land = ridge_->rect().adjusted(frame, scale, -frame, -frame);
    return ridge_->grab(land).toImage().scaled(380, 88, Qt::IgnoreAspectRatio, Qt::SmoothTransformation);
}

void Desk::show_page(QWidget* page) {
    outer_->setCurrentWidget(page == start_ ? static_cast<QWidget*>(start_) : work_);
    stack_->setCurrentWidget(page == start_ || page == lanes_ ? static_cast<QWidget*>(both_) : page);
}

// What the comparison shows side by side: what is selected in both, else what is visible.
void Desk::look_at_both() {
    const auto chosen = [](const Document& document, const Viewpoint& view) -> std::optional<Span> {
        const auto& span = view.selection().span;
        const auto& lanes = document.lanes();
        const Lane* lane = span && lanes ? lanes->find(*span) : nullptr;
        if (lane == nullptr) return std::nullopt;
        return lane->span(span->level, span->index);
    };
    const Time offset = beside_->path().isEmpty() ? Time{} : beside_->offset();
    SideStretch s{view_.from() + offset, view_.to() + offset, view_.from(), view_.to(), false};
    const auto is = chosen(document_, view_), was = chosen(beside_->document(), beside_->viewpoint());
    if (is && was && !beside_->path().isEmpty()) s = {was->begin, was->end, is->begin, is->end, true};
    compare_->side()->look_at(s, view_.core());
}

void Desk::show_evidence(QWidget* page) {
    evidence_->show();
    evidence_->show_page(page);
}

// The lanes alone where no other recording stands below them.
QWidget* Desk::front_page() const {
    QWidget* page = stack_->currentWidget();
    return page == both_ && beside_->isHidden() ? static_cast<QWidget*>(lanes_) : page;
}

bool Desk::measures_shown() const { return stack_->currentWidget() == page_; }

void Desk::show_measures(bool on) {
    if (!document_.trail() || on == measures_shown()) return;
    show_page(on ? static_cast<QWidget*>(page_) : lanes_);
    // The table is wide: the findings make room for it and come back with the lanes.
    if (on) findings_were_shown_ = !findings_->isHidden();
    findings_->setVisible(on ? false : findings_were_shown_);
    (on ? static_cast<QWidget*>(page_->table(page_->shown().id())) : lanes_)->setFocus();
}

// Steps of the core that is looked at.
void Desk::show_even(bool on) {
    const auto trail = document_.trail();
    if (!on || !trail || trail->cores.empty()) return view_.set_scale(nullptr);
    if (!trail->complete) {
        emit told(tr("Equal steps count from the whole recording: wait until it is decoded."), false);
        emit renewed();
        return;
    }
    view_.set_scale(std::make_shared<const EvenScale>(trail, view_.core()));
}

bool Desk::show_start(bool on) {
    lanes_->set_start_shown(on);
    if (!on || !document_.trail()) return false;
    const auto& tasks = document_.trail()->tasks.tasks;
    if (tasks.empty()) {
        emit told(tr("The recording contains no task information."), false);
        return false;
    }
    Time last{};
    for (const auto& t : tasks)
        if (t.ran) last = std::max(last, t.first_run);
    navigator_.go_to(Time{}, last + std::max(Time{last.ps / 6}, Time::from_us(10)), Time{});
    return true;
}

void Desk::set_only_lanes(bool on) {
    only_lanes_ = on;
    for (auto* w : {static_cast<QWidget*>(findings_), static_cast<QWidget*>(panel_), static_cast<QWidget*>(evidence_)})
        w->setVisible(!on);
}

void Desk::walk_findings(int step) {
    const int n = static_cast<int>(finding_list_.rows());
    if (n == 0) return;
    const int at = std::max(0, findings_->current());
    navigator_.go_to_finding(finding_list_.finding_of(static_cast<std::size_t>(walked_ ? (at + step + n) % n : at)));
}

void Desk::set_ruler_end(bool is_a) {
    const Time at = view_.cursor();
    view_.set_ruler(is_a ? std::optional(at) : view_.a(), is_a ? view_.b() : std::optional(at));
}

bool Desk::show_source(std::size_t core, std::uint32_t slot) {
    const auto trail = document_.trail();
    for (std::size_t i = 0; i < trail->steps.size(); ++i)
        if (const StepTrail& steps = trail->steps[i]; steps.core_index == core && steps.code != nullptr && slot != Code::kNowhere) {
            evidence_->show_page(source_);
            source_->show_slot(i, slot);
            return true;
        }
    return false;
}

QWidget* Desk::view_in_use() const {
    const QWidget* focus = QApplication::focusWidget();
    if (outer_->currentWidget() == start_) return start_;
    for (QWidget* view : {static_cast<QWidget*>(findings_), static_cast<QWidget*>(panel_),
                          static_cast<QWidget*>(ridge_), static_cast<QWidget*>(stack_)})
        if (focus != nullptr && (focus == view || view->isAncestorOf(focus)))
            return view == stack_ ? front_page() : view;
    for (EvidencePage* page : evidence_->pages())
        if (focus != nullptr && (focus == page->widget() || page->widget()->isAncestorOf(focus))) return page->widget();
    return front_page();
}

void Desk::save_csv(const QString& path) {
    std::ofstream out(path.toStdString(), std::ios::binary);
    write_stats_csv(page_->shown(), {*document_.trail(), document_.recording()->functions}, out);
    out.close();
    if (out)
        emit told(tr("Saved as %1").arg(path), false);
    else
        emit told(tr("cannot write: %1: check the folder, the permissions and free space").arg(path), true);
}

}  // namespace mt::app
