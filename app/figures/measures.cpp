#include "figures/measures.h"

#include <QClipboard>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QPushButton>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>
#include <utility>

#include "base/text.h"
#include "look/filter_field.h"
#include "look/html.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"
#include "measure/value_figures.h"
#include "look/layout.h"

namespace mt::app {
namespace {

/// Lanes of so many spans are measured while the person waits.
constexpr std::size_t kAtOnce = 200'000;

std::size_t spans_of(const Lane& lane) {
    std::size_t all = 0;
    for (std::size_t level = 0; level < lane.levels(); ++level) all += lane.size(level);
    return all;
}

QLabel* small_label(const QString& text) {
    auto* label = new QLabel(text);
    label->setFont(text_font(11));
    return label;
}

}  // namespace

MeasuresPanel::MeasuresPanel(Document& document, Viewpoint& view, Navigator& navigator, Judgement& judgement,
                             QWidget* parent)
    : QWidget(parent), document_(document), view_(view), navigator_(navigator), judgement_(judgement) {
    setAccessibleName(tr("Measures of what is selected"));
    name_ = new QLabel;
    name_->setObjectName("measures_name");
    name_->setFont(text_font(13, true));
    all_ = new QLabel;
    all_->setObjectName("all_measures");
    all_->setText("<a href=\"all\" style=\"text-decoration:none\">" + tr("all measures ▸") + "</a>");
    sub_ = small_label({});
    sub_->setObjectName("measures_sub");
    sub_->setWordWrap(true);
    figures_ = new QLabel;
    figures_->setObjectName("measures_figures");
    figures_->setTextFormat(Qt::RichText);
    figures_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    caption_ = small_label({});
    distribution_ = new DistributionPlot(view);
    over_time_ = new OverTimePlot(view);
    over_choice_ = new QComboBox;
    over_choice_->setObjectName("over_time_choice");
    over_choice_->setFont(text_font(11));
    auto* top = new QHBoxLayout;
    top->addWidget(name_, 1);
    top->addWidget(all_);
    why_ = new QToolButton;
    why_->setObjectName("why_longer");
    why_->setText(tr("Why longer?"));
    why_->setToolTip(tr("Where the time of the selected one went, against a typical one (W)"));
    why_->setCheckable(true);
    auto* plots = new QWidget;
    auto* plots_column = bare_column(plots, 3);
    plots_column->addWidget(caption_);
    plots_column->addWidget(distribution_, 4);
    plots_column->addWidget(over_choice_);
    plots_column->addWidget(over_time_, 5);
    text_ = new QTextBrowser;
    text_->setObjectName("panel_text");
    text_->setAccessibleName(tr("Explanation of what is selected"));
    text_->setOpenLinks(false);
    text_->setFrameShape(QFrame::NoFrame);
    text_->document()->setDocumentMargin(0);
    text_->viewport()->setAutoFillBackground(false);
    text_->setStyleSheet("QTextBrowser { background: transparent; }");
    lower_ = new QStackedWidget;
    lower_->addWidget(plots);
    lower_->addWidget(text_);
    lower_->setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Ignored);  // in a low window it gives way first
    auto* column = column_in(this, {12, 8, 8, 4}, 3);
    column->addLayout(top);
    column->addWidget(sub_);
    column->addWidget(figures_);
    between_ = new QLabel;
    between_->setObjectName("between");
    between_->setTextFormat(Qt::RichText);
    between_->setWordWrap(true);
    between_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    between_->hide();
    column->addWidget(between_);
    column->addWidget(why_, 0, Qt::AlignLeft);
    column->addWidget(lower_, 1);
    setMinimumWidth(240);
    connect(why_, &QToolButton::toggled, this, [this] { renew(); });
    connect(text_, &QTextBrowser::anchorClicked, this, &MeasuresPanel::follow);
    connect(&navigator, &Navigator::led, this, &MeasuresPanel::renew);
    connect(over_choice_, &QComboBox::activated, this, [this](int i) { renew_series(static_cast<std::size_t>(i)); });
    connect(over_time_, &OverTimePlot::window_chosen, this, &MeasuresPanel::window_chosen);
    connect(all_, &QLabel::linkActivated, this, &MeasuresPanel::all_wanted);
    connect(distribution_, &DistributionPlot::span_chosen, this, &MeasuresPanel::span_chosen);
    connect(over_time_, &OverTimePlot::span_chosen, this, &MeasuresPanel::span_chosen);
    connect(&judgement, &Judgement::changed, this, [this] {
        if (document_.trail() && !document_.busy()) renew();
    });
    for (const auto signal : {&Document::opened, &Document::finished, &Document::measured})
        connect(&document, signal, this, &MeasuresPanel::renew);
    connect(&view, &Viewpoint::selection_changed, this, &MeasuresPanel::renew);
    connect(&view, &Viewpoint::colours_changed, this, &MeasuresPanel::renew);
    connect(&view, &Viewpoint::ruler_changed, this, &MeasuresPanel::renew_between);
    renew();
}

namespace {

// "12.4 mA"; small and large numbers with the digits that matter.
QString amount(double v, const std::string& unit) {
    const bool plain = std::fabs(v) >= 1000 && std::fabs(v) < 1e9;
    return (plain ? words((v < 0 ? "-" : "") + count_text(static_cast<std::uint64_t>(std::llround(std::fabs(v)))))
                  : QString::number(v, 'g', 4)) +
           (unit.empty() ? QString() : " " + words(unit));
}

QString between_text(const ValueLane& lane, Time from, Time to) {
    const auto b = value_between(lane, from, to);
    const QString head = QObject::tr("A to B, %1").arg(words(duration_text(to - from)));
    const QString second = theme().second.name();
    if (!b)
        return QString("<span style=\"color:%1; font-size:10px\">%2: %3</span>")
            .arg(second, head, QObject::tr("its value is not known there"));
    const double seconds = (to - from).seconds();
    std::vector<std::pair<QString, QString>> cells = {
        {QObject::tr("difference"), amount(b->difference(), lane.unit)},
        {QObject::tr("slope"), amount(b->difference() / seconds, lane.unit.empty() ? "1/s" : lane.unit + "/s")},
        {QObject::tr("samples"), words(count_text(b->samples))},
        {QObject::tr("mean"), amount(b->mean, lane.unit)},
        {QObject::tr("RMS"), amount(b->rms, lane.unit)},
        {QObject::tr("integral"), amount(b->integral, integral_unit(lane.unit))},
        {QObject::tr("least"), amount(b->least, lane.unit)},
        {QObject::tr("greatest"), amount(b->greatest, lane.unit)}};
    if (b->known_s < 0.999 * seconds)
        cells.push_back({QObject::tr("known for"), words(duration_text(Time::from_ns(b->known_s * 1e9)))});
    QString text = QString("<span style=\"color:%1; font-size:10px\">%2</span><table width=\"100%\"><tr>").arg(second, head);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (i > 0 && i % 3 == 0) text += "</tr><tr>";
        text += QString("<td width=\"33%\" style=\"padding:2px 10px 2px 0\"><span style=\"color:%3; "
                        "font-size:10px\">%1</span><br><b>%2</b></td>")
                    .arg(cells[i].first, escaped(cells[i].second), second);
    }
    return text + "</tr></table>";
}

}  // namespace

// What the selected value did from A to B. Of very many samples on the worker.
void MeasuresPanel::renew_between() {
    if (between_work_) between_work_->cancel();
    const LaneId id = view_.selection().lane;
    const auto trail = document_.trail();
    const bool value = id.kind == &values_kind() && trail && id.index < trail->tasks.values.size();
    const bool set = value && view_.a() && view_.b() && *view_.a() != *view_.b();
    between_->setVisible(set);
    if (!set) return;
    const Time from = std::min(*view_.a(), *view_.b()), to = std::max(*view_.a(), *view_.b());
    const ValueLane& lane = trail->tasks.values[id.index];
    constexpr std::size_t kAtOnce = 300'000;
    const std::size_t first = lane.at(from), last = lane.at(to), n = lane.samples.size();
    if (last == n || (last - (first == n ? 0 : first)) < kAtOnce) return between_->setText(between_text(lane, from, to));
    between_->setText(tr("measuring …"));
    between_work_ = std::make_shared<Progress>();
    jobs_.add([this, trail, index = id.index, from, to, progress = between_work_] {
        if (progress->cancelled()) return;
        const QString text = between_text(trail->tasks.values[index], from, to);
        QMetaObject::invokeMethod(
            this,
            [this, text, progress] {
                if (!progress->cancelled()) between_->setText(text);
            },
            Qt::QueuedConnection);
    });
}

QString MeasuresPanel::figures_text(const LaneKind& kind, const MeasuredRow& row) const {
    // Loud is the greatest where a finding says that it is too great.
    const LaneId lane = kind.lane_of(*document_.trail(), row.activity);
    const bool loud = std::any_of(document_.findings().begin(), document_.findings().end(), [&](const Finding& f) {
        return f.lane == lane &&
               (&kind == &tasks_kind() ? f.kind != FindingKind::slow_growth : f.kind == FindingKind::duration_outlier);
    });
    const Cell* unit = &kind == &values_kind() ? cell_of(kind, row, "unit") : nullptr;
    QString text = "<table width=\"100%\"><tr>";
    int shown = 0;
    for (const PanelFigure& f : kind.panel(*document_.trail(), row.activity)) {
        const Cell* cell = cell_of(kind, row, f.key);
        if (cell == nullptr) continue;
        if (shown > 0 && shown % 3 == 0) text += "</tr><tr>";
        ++shown;
        // Of numbers with a unit four digits are enough to look at.
        const auto* real = std::get_if<double>(&cell->value);
        const std::string of_unit = unit != nullptr && f.key != "samples" ? cell_plain(*unit) : std::string();
        const QString said = real != nullptr && unit != nullptr ? amount(*real, of_unit)
                                             : words(cell_text(*cell) + (of_unit.empty() ? "" : " " + of_unit));
        const bool worst = loud && f.label == "max";
        text += QString(
                    "<td width=\"33%\" style=\"padding:2px 10px 2px 0\"><span style=\"color:%3; "
                    "font-size:10px\">%1</span><br><b style=\"color:%4\">%2</b></td>")
                    .arg(escaped(words(f.label)), escaped(said), theme().second.name(),
                         worst ? theme().finding.name() : theme().text.name());
    }
    return text + "</tr></table>";
}

// A handler that a fault entered has no figures worth a look; whoever else is involved has, unless one came to see the
// fault.
const Finding* MeasuresPanel::fault() const {
    const Selection& s = view_.selection();
    const auto& all = document_.findings();
    for (std::size_t i = 0; s.lane && i < all.size(); ++i) {
        const Finding& f = all[i];
        const bool proven = s.span ? f.about && *s.span == *f.about : s.lane == f.lane;
        if (f.kind == FindingKind::fault && proven && (f.lane.kind == &interrupts_kind() || navigator_.finding() == i))
            return &f;
    }
    return nullptr;
}

void MeasuresPanel::show_fault(const Finding& f) {
    name_->setText(words(f.title));
    sub_->setText(words(moment_text(f.begin)) + " · " + words(f.core));
    figures_->clear();
    why_->hide();
    tell(fault_text(f));
}

void MeasuresPanel::tell(PanelText text) {
    links_ = std::move(text.spans);
    text_->document()->setDefaultFont(text_font(11));
    text_->setHtml(text.html);
    lower_->setCurrentWidget(text_);
}

QString MeasuresPanel::told() const { return lower_->currentWidget() == text_ ? text_->toPlainText() : QString(); }

void MeasuresPanel::follow(const QUrl& link) {
    const QString value = link.toString().section(':', 1);
    if (link.scheme() == "time") emit moment_chosen(Time{value.toLongLong()});
    if (link.scheme() == "span" && value.toULongLong() < links_.size()) emit span_chosen(links_[value.toULongLong()]);
}

void MeasuresPanel::show_why(bool on) { why_->setChecked(on); }

// Of the two plots the one over time stays where there is no room for both: it has every single one.
void MeasuresPanel::resizeEvent(QResizeEvent* e) {
    constexpr int kBothFrom = 400;
    low_ = height() < kBothFrom;
    distribution_->setVisible(!low_);
    caption_->setVisible(!over_choice_->isHidden() && !low_);
    QWidget::resizeEvent(e);
}

// Compares on the worker; another selection gives it up.
void MeasuresPanel::renew_why() {
    if (explaining_) explaining_->cancel();
    const auto span = view_.selection().span;
    const bool can = span && document_.trail() && !document_.busy() &&
                     (span->lane.kind == &functions_kind() || span->lane.kind == &interrupts_kind() ||
                      span->lane.kind == &tasks_kind());
    why_->setVisible(can);
    if (!can || !why_->isChecked()) {
        lower_->setCurrentIndex(0);
        return;
    }
    tell({"<p>" + tr("comparing …") + "</p>", {}});
    explaining_ = std::make_shared<Progress>();
    jobs_.add(
        [this, span = *span, trail = document_.trail(), recording = document_.recording(), progress = explaining_] {
            auto why = why_longer(*recording, *trail, span, progress.get());
            QMetaObject::invokeMethod(
                this,
                [this, progress, why = std::move(why)] {
                    if (progress->cancelled()) return;
                    tell(why ? why_text(*why)
                             : PanelText{"<p>" +
                                             tr("There is nothing to compare it with: it was cut by a gap or by the "
                                                "recording's end, or there are fewer than three of its kind.") +
                                             "</p>",
                                         {}});
                },
                Qt::QueuedConnection);
        });
}

void MeasuresPanel::renew() {
    const Selection& s = view_.selection();
    renew_between();
    if (const Finding* f = fault(); f != nullptr) return show_fault(*f);
    if (s.lane && document_.live()) document_.analysis().look_at(*s.lane.kind);
    renew_why();
    const auto& lanes = document_.lanes();
    const Lane* lane = lanes ? lanes->find(s.lane) : nullptr;
    const MeasuredRow* row = nullptr;
    if (lane != nullptr && (!s.span || lanes->find(*s.span) != nullptr) &&
        (s.span || s.lane.kind->lanes_are_activities()))
        row = document_.figures(*s.lane.kind,
                                s.span ? s.lane.kind->activity_of(*document_.trail(), *s.span) : s.lane.index);
    all_->setVisible(document_.trail() && !document_.busy());
    if (measuring_) measuring_->cancel();
    const bool lengths = row != nullptr && lane->levels() > 0 && spans_of(*lane) > 0 && lane->shape() != Shape::ticks;
    caption_->setVisible(lengths && !low_);
    over_choice_->setVisible(lengths);
    if (row == nullptr) {
        name_->setText(lane != nullptr ? words(lane->name()) : tr("Measures"));
        sub_->setText(!document_.trail() ? tr("Figures of what is selected come here.")
                      : document_.busy() ? tr("Decoding: figures come at the end.")
                      : lane == nullptr  ? tr("Select something in the lanes.")
                      : !s.span          ? tr("Select one of them in the lane.")
                                         : tr("Measuring …"));
        figures_->clear();
    } else {
        const LaneKind& kind = *s.lane.kind;
        const Cell* name = cell_of(kind, *row, "full_name");
        name_->setText(words(cell_text(name != nullptr ? *name : *cell_of(kind, *row, "name"))));
        sub_->setText(words(kind.summary(*document_.trail(), *row)));
        figures_->setText(figures_text(kind, *row));
    }
    if (!lengths) {
        distribution_->show({}, {});
        over_time_->show({}, {});
        return;
    }
    renew_choice(*lane);
    renew_series(static_cast<std::size_t>(over_choice_->currentIndex()));
}

// A choice for each length that a span has, and for the share of the time.
void MeasuresPanel::renew_choice(const Lane& lane) {
    QStringList wanted;
    for (const std::string& length : lane.lengths()) wanted << tr("over time: %1").arg(words(length));
    if (lane.busy({}, Time{1})) wanted << tr("over time: share of the time");
    QStringList now;
    for (int i = 0; i < over_choice_->count(); ++i) now << over_choice_->itemText(i);
    if (wanted == now) return;
    const int chosen = over_choice_->currentIndex();
    over_choice_->clear();
    over_choice_->addItems(wanted);
    over_choice_->setCurrentIndex(std::clamp(chosen, 0, static_cast<int>(wanted.size()) - 1));
}

void MeasuresPanel::renew_series(std::size_t which) {
    const Selection s = view_.selection();
    const Lane* lane = document_.lanes()->find(s.lane);
    const auto captions = lane->lengths();
    if (measuring_) measuring_->cancel();
    measuring_ = std::make_shared<Progress>();
    caption_->setText(tr("distribution of the %1").arg(words(captions[which < captions.size() ? which : 0])));
    const auto trail = document_.trail();
    const std::uint64_t activity = s.span ? s.lane.kind->activity_of(*trail, *s.span) : s.lane.index;
    const bool share = which >= captions.size();
    if (share) over_time_->show_share(*lane, trail->end);
    std::vector<PlotLimit> limits;
    for (const LimitLine& l : judgement_.limits_of(s.lane, activity, share ? 0 : which))
        limits.push_back({l.value, words(l.text), !l.kept});
    const auto take = [this, share, limits = std::move(limits)](std::shared_ptr<const Series> series) {
        distribution_->show(series, tr("no whole execution"));
        distribution_->set_limits(limits);
        if (share) return;
        over_time_->show(std::move(series), tr("no whole execution"));
        over_time_->set_limits(limits);
    };
    const auto measure = [trail, id = s.lane, activity, of = share ? std::size_t{0} : which, progress = measuring_] {
        return std::make_shared<const Series>(series_of(*trail, id, activity, of, 20'000, 36, progress.get()));
    };
    if (spans_of(*lane) <= kAtOnce) return take(measure());
    distribution_->show({}, tr("measuring …"));
    if (!share) over_time_->show({}, tr("measuring …"));
    jobs_.add([this, take, measure, progress = measuring_] {
        auto series = measure();
        if (progress->cancelled()) return;
        QMetaObject::invokeMethod(
            this,
            [take, progress, series = std::move(series)] {
                if (!progress->cancelled()) take(series);
            },
            Qt::QueuedConnection);
    });
}

MeasuresPage::MeasuresPage(Document& document, Viewpoint& view, QWidget* parent)
    : QWidget(parent), document_(document) {
    setAccessibleName(tr("Measures of everything"));
    auto* back = new QPushButton(tr("◂ Lanes"));
    back->setObjectName("back_to_lanes");
    back->setToolTip(tr("Back to the lanes (M)"));
    choice_ = new QTabBar;
    choice_->setObjectName("measures_choice");
    choice_->setDrawBase(false);
    choice_->setExpanding(false);
    filter_ = filter_field("measures_filter", tr("Filter by name"), tr("Filter the table by name"));
    auto* copy = new QPushButton(tr("Copy"));
    copy->setToolTip(tr("Copy the selected rows, or all, as plain numbers (Ctrl+C)"));
    auto* save = new QPushButton(tr("Save as CSV…"));
    auto* top = new QHBoxLayout;
    top->addWidget(back);
    top->addWidget(choice_, 1);
    hint_ = small_label(
        tr("A click leads every view to the longest of a row, or what stands for that; a double click shows it in the "
           "lanes."));
    hint_->setWordWrap(true);
    auto* bottom = new QHBoxLayout;
    bottom->addWidget(hint_, 1);
    bottom->addWidget(filter_);
    bottom->addWidget(copy);
    bottom->addWidget(save);
    tables_ = new QStackedWidget;
    const auto copy_now = [this] { QGuiApplication::clipboard()->setText(copied_text()); };
    for (const LaneKind* kind : LaneKinds::all()) {
        auto* t = new FigureTable(*kind, document, view);
        all_.push_back(t);
        choice_->addTab(words(kind->many()));
        tables_->addWidget(t);
        connect(t, &FigureTable::span_chosen, this, &MeasuresPage::span_chosen);
        connect(filter_, &QLineEdit::textChanged, t, &FigureTable::set_filter);
    }
    connect(choice_, &QTabBar::currentChanged, tables_, &QStackedWidget::setCurrentIndex);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(12, 8, 12, 6);
    column->addLayout(top);
    column->addWidget(tables_, 1);
    column->addLayout(bottom);
    connect(copy, &QPushButton::clicked, this, copy_now);
    connect(save, &QPushButton::clicked, this, &MeasuresPage::save_wanted);
    connect(back, &QPushButton::clicked, this, &MeasuresPage::back_wanted);
    for (const auto signal : {&Document::opened, &Document::finished, &Document::measured})
        connect(&document, signal, this, &MeasuresPage::renew_choice);
    renew_choice();
}

// Only what the recording tells of can be chosen. Tasks come first where there are any.
void MeasuresPage::renew_choice() {
    if (isVisible() && document_.live()) document_.analysis().look_at(shown());
    for (std::size_t i = 0; i < all_.size(); ++i)
        choice_->setTabVisible(static_cast<int>(i), i == 0 || !document_.figures(all_[i]->kind()).empty());
    if (document_.busy()) {
        fresh_ = true;
        choice_->setCurrentIndex(0);
    } else if (std::exchange(fresh_, false)) {
        for (int i = choice_->count(); i-- > 0;)
            if (!document_.figures(all_[static_cast<std::size_t>(i)]->kind()).empty()) choice_->setCurrentIndex(i);
        choose(tasks_kind().id());
    }
    if (!choice_->isTabVisible(choice_->currentIndex())) choice_->setCurrentIndex(0);
}

FigureTable* MeasuresPage::table(std::string_view kind) const {
    const auto found =
        std::find_if(all_.begin(), all_.end(), [kind](const FigureTable* t) { return t->kind().id() == kind; });
    return found == all_.end() ? nullptr : *found;
}

const LaneKind& MeasuresPage::shown() const { return all_[static_cast<std::size_t>(choice_->currentIndex())]->kind(); }

void MeasuresPage::choose(std::string_view kind) {
    for (std::size_t i = 0; i < all_.size(); ++i)
        if (all_[i]->kind().id() == kind && choice_->isTabVisible(static_cast<int>(i)))
            choice_->setCurrentIndex(static_cast<int>(i));
}

QString MeasuresPage::copied_text() const {
    return table_text(*qobject_cast<QTableView*>(tables_->currentWidget()), true);
}

}  // namespace mt::app
