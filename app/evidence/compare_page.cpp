#include "evidence/compare_page.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QHeaderView>
#include <QPainter>
#include <QPainterPath>
#include <QSplitter>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "look/layout.h"
#include "look/page_parts.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"
#include "pass/reading.h"
#include "recording/recording.h"
#include "share/compare_tables.h"

namespace mt::app {
namespace {

constexpr std::size_t kBins = 60;

QString joined(const std::vector<std::string>& names) {
    QStringList all;
    for (const std::string& n : names) all << words(n);
    return all.join(", ");
}
// Better, worse and neutral by shape and colour.
QString sign_of(Change::Direction d) { return d == Change::Direction::better ? "▽" : d == Change::Direction::worse ? "▲" : "◇"; }

}  // namespace

int ChangeModel::rowCount(const QModelIndex& parent) const {
    if (parent.isValid() || !of_) return 0;
    const Comparison& c = of_->comparison;
    return static_cast<int>(c.changes.size() + c.appeared.size() + c.vanished.size() + of_->mended.size());
}
int ChangeModel::columnCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : kColumns; }

const Change* ChangeModel::change(int row) const {
    if (!of_ || row < 0 || static_cast<std::size_t>(row) >= of_->comparison.changes.size()) return nullptr;
    return &of_->comparison.changes[static_cast<std::size_t>(row)];
}

QVariant ChangeModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid() || !of_) return {};
    const Comparison& c = of_->comparison;
    const int column = index.column();
    auto i = static_cast<std::size_t>(index.row());
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (column == before || column == after || column == relative ? Qt::AlignRight : Qt::AlignLeft));
    if (const Change* x = change(index.row())) {
        const bool effect = x->role == Change::Role::effect;
        if (role == Qt::DisplayRole) {
            switch (column) {
                case direction:
                    return sign_of(x->direction);
                case what: {
                    const std::string text = change_text(*x);
                    return (effect ? QStringLiteral("      ") : QString()) + words(text.substr(0, text.find(": ")));
                }
                case before:
                    return words(compared_value_text(*x, x->before));
                case after:
                    return words(compared_value_text(*x, x->after));
                case relative:
                    return words(relative_text(x->relative()));
                case why: {
                    const QString figure = words(x->quantity + (x->quantity == "priority" || x->quantity == "core" ? "" : " " + std::string(statistic_name(x->statistic))));
                    return effect ? (x->because.empty() ? tr("%1; an effect").arg(figure) : tr("%1; because of %2").arg(figure, joined(x->because)))
                                  : tr("%1; a cause").arg(figure);
                }
                default:
                    return {};
            }
        }
        if (role == kPlainRole) {
            if (column == before || column == after) {
                const double v = column == before ? x->before : x->after;
                return QString::number(x->in_time ? v / 1e3 : v, 'g', 12);
            }
            if (column == relative) return std::isfinite(x->relative()) ? QString::number(100 * x->relative(), 'g', 6) : QString();
            return {};
        }
        if (role == Qt::ToolTipRole) return words(change_text(*x));
        if (role == Qt::ForegroundRole && (column == direction || column == relative))
            return x->direction == Change::Direction::worse ? theme().finding : x->direction == Change::Direction::better ? theme().measure : theme().second;
        if (role == Qt::FontRole) return column == what ? text_font(12, !effect) : column == why ? text_font(11) : fixed_font(11);
        return {};
    }
    i -= c.changes.size();
    for (const auto* list : {&c.appeared, &c.vanished}) {
        if (i >= list->size()) {
            i -= list->size();
            continue;
        }
        const OneSided& o = (*list)[i];
        const bool fresh = list == &c.appeared;
        if (role == Qt::DisplayRole) {
            if (column == direction) return QStringLiteral("◇");
            if (column == what) return (fresh ? tr("%1 %2 is new") : tr("%1 %2 is gone")).arg(words(o.kind), words(o.activity));
            if (column == (fresh ? after : before)) return words(plural(o.count, "time", "times"));
            if (column == why && !o.because.empty()) return tr("because of %1").arg(joined(o.because));
        }
        if (role == Qt::FontRole) return column == what ? text_font(12, true) : text_font(11);
        return {};
    }
    const Mended& m = of_->mended[i];
    if (role == Qt::DisplayRole) {
        if (column == direction) return m.now == Mended::Now::gone ? QStringLiteral("✓") : m.now == Mended::Now::still ? QStringLiteral("▲") : QStringLiteral("?");
        if (column == what) return tr("Found before: %1").arg(words(m.title));
        if (column == before) return words(plural(m.found_before, "time", "times"));
        if (column == after) return words(plural(m.found_after, "time", "times"));
        if (column == why) {
            const std::string text = mended_text(m);
            return words(text.substr(std::min(text.size(), m.title.size() + 2)));
        }
    }
    if (role == Qt::ToolTipRole) return words(mended_text(m));
    if (role == Qt::ForegroundRole && column == direction)
        return m.now == Mended::Now::still ? theme().finding : m.now == Mended::Now::gone ? theme().measure : theme().waiting;
    if (role == Qt::FontRole) return column == why ? text_font(11) : text_font(12);
    return {};
}

QVariant ChangeModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    static constexpr std::array<TableHead, kColumns> heads = {{
        {"", QT_TR_NOOP("▲ worse, ▽ better, ◇ neither; of what was found before: ✓ gone, ▲ still there, ? not put to the test"), true},
        {QT_TR_NOOP("change"), QT_TR_NOOP("causes, each with its effects below it"), true},
        {QT_TR_NOOP("before"), QT_TR_NOOP("the figure that shows it best, in the recording before")},
        {QT_TR_NOOP("after"), QT_TR_NOOP("the same in this recording")},
        {QT_TR_NOOP("difference"), QT_TR_NOOP("as a part of what it was before")},
        {QT_TR_NOOP("which figure, and why"), QT_TR_NOOP("an effect names what brought it about"), true},
    }};
    return table_head(*this, heads[static_cast<std::size_t>(section)], orientation, role);
}

void ChangeModel::set(std::shared_ptr<const TwoCompared> of) {
    beginResetModel();
    of_ = std::move(of);
    endResetModel();
}

void TwoDistributions::show_values(const std::vector<double>& before, const std::vector<double>& after, bool in_time, const QString& title, const QString& why) {
    title_ = title;
    why_ = why;
    in_time_ = in_time;
    n_before_ = before.size();
    n_after_ = after.size();
    up_.assign(kBins, 0);
    down_.assign(kBins, 0);
    low_ = HUGE_VAL;
    high_ = -HUGE_VAL;
    for (const auto* list : {&before, &after})
        for (const double v : *list) {
            low_ = std::min(low_, v);
            high_ = std::max(high_, v);
        }
    if (high_ <= low_) high_ = low_ + 1;
    for (const auto& [list, bins] : {std::pair(&before, &up_), std::pair(&after, &down_)})
        for (const double v : *list) {
            const auto bin = static_cast<std::size_t>((v - low_) / (high_ - low_) * (kBins - 1e-9));
            (*bins)[std::min(bin, kBins - 1)] += 1.0 / static_cast<double>(list->size());
        }
    update();
}

void TwoDistributions::paintEvent(QPaintEvent*) {
    const Theme& t = theme();
    QPainter p(this);
    p.fillRect(rect(), t.panel);
    p.setFont(text_font(12, true));
    p.setPen(t.text);
    p.drawText(QRect(8, 2, width() - 16, 18), Qt::AlignVCenter, p.fontMetrics().elidedText(title_, Qt::ElideRight, width() - 16));
    if (n_before_ + n_after_ == 0) {
        p.setFont(text_font(11));
        p.setPen(t.second);
        p.drawText(rect().adjusted(12, 12, -12, -12), Qt::AlignCenter | Qt::TextWordWrap, why_);
        return;
    }
    const QRectF area(8, 24, width() - 16, height() - 46);
    const double middle = area.center().y(), half = area.height() / 2 - 2;
    double most = 0;
    for (const auto* bins : {&up_, &down_})
        for (const double v : *bins) most = std::max(most, v);
    const auto draw = [&](const std::vector<double>& bins, const QColor& ink, double way) {
        // The square root shows a small second heap beside a great one.
        QColor fill = ink;
        fill.setAlpha(150);
        const double w = area.width() / static_cast<double>(kBins);
        for (std::size_t i = 0; i < kBins; ++i) {
            if (bins[i] <= 0) continue;
            const double h = std::max(1.0, std::sqrt(bins[i] / most) * half);
            p.fillRect(QRectF(area.left() + w * static_cast<double>(i), way < 0 ? middle - h : middle + 1, std::max(1.0, w - 0.5), h), fill);
        }
    };
    draw(up_, t.measure, -1);
    draw(down_, t.interrupt, 1);
    p.setPen(t.rule);
    p.drawLine(QPointF(area.left(), middle), QPointF(area.right(), middle));
    p.setFont(text_font(11));
    p.setPen(t.measure);
    p.drawText(QRectF(area.left(), area.top() - 2, area.width(), 16), Qt::AlignRight, tr("before, %1").arg(words(count_text(n_before_))));
    p.setPen(t.interrupt);
    p.drawText(QRectF(area.left(), area.bottom() - 14, area.width(), 16), Qt::AlignRight, tr("after, %1").arg(words(count_text(n_after_))));
    p.setPen(t.second);
    const auto text = [this](double v) {
        return in_time_ ? words(duration_text(Time{static_cast<std::int64_t>(v)})) : QString::number(v, 'g', 3);
    };
    p.drawText(QRectF(area.left(), height() - 20, area.width(), 16), Qt::AlignLeft, text(low_));
    p.drawText(QRectF(area.left(), height() - 20, area.width(), 16), Qt::AlignRight, text(high_));
    p.drawText(QRectF(area.left(), height() - 20, area.width(), 16), Qt::AlignHCenter, tr("height: square root of the share"));
}

namespace {

// Figures and code of the other recording, beside those of the one that is open. Blocks.
std::shared_ptr<const OtherRecording> read_other(const std::shared_ptr<const Recording>& recording, const std::shared_ptr<const Trail>& trail,
                                                 const Recording& open_recording, const Trail& open_trail, const Progress& progress) {
    auto other = std::make_shared<OtherRecording>();
    other->recording = recording;
    other->trail = trail;
    for (const LaneKind* kind : LaneKinds::all()) {
        if (progress.cancelled()) return other;
        Measured of{*trail, recording->functions};
        of.progress = &progress;
        if (auto rows = kind->rows(of); !rows.empty()) other->figures.emplace_back(kind, std::move(rows));
    }
    other->code = code_of_both(*trail, open_recording, open_trail);
    return other;
}

}  // namespace

ComparePage::ComparePage(Document& document, QWidget* parent) : QWidget(parent), document_(document), model_(new ChangeModel(this)) {
    setAccessibleName(tr("Compare"));
    hint_ = hint_label("compare_hint");
    open_ = new QPushButton(tr("Compare with…"));
    open_->setObjectName("compare_open");
    open_->setToolTip(tr("Choose the recording before: a target file, a saved recording, the folder of a CTF trace"));
    cancel_ = new QPushButton(tr("Cancel"));
    cancel_->setObjectName("compare_cancel");
    cancel_->hide();
    table_ = figures_view("compare", tr("Changes"), *model_, false);
    picture_ = new TwoDistributions;
    picture_->setAccessibleName(tr("Distribution before and after"));
    picture_->setMinimumSize(240, 110);
    figures_ = new QLabel;
    figures_->setObjectName("compare_figures");
    figures_->setFont(fixed_font(11));
    figures_->setTextFormat(Qt::PlainText);
    figures_->setAlignment(Qt::AlignTop | Qt::AlignLeft);
    figures_->setContentsMargins(8, 2, 8, 2);
    auto* side = new QWidget;
    auto* beside = bare_column(side);
    beside->addWidget(picture_, 1);
    beside->addWidget(figures_);
    auto* both = new QSplitter(Qt::Horizontal);
    both->addWidget(table_);
    both->addWidget(side);
    both->setStretchFactor(0, 1);
    both->setStretchFactor(1, 0);
    both->setSizes({900, 320});
    both->setHandleWidth(1);
    setFocusProxy(table_);
    lanes_ = new QPushButton(tr("Its lanes"));
    lanes_->setObjectName("compare_lanes");
    lanes_->setToolTip(tr("The lanes of the recording before, below those of this one"));
    both_ = new FiguresBothPage(document);
    side_ = new SidePage(document);
    code_ = new CodeBothPage(document);
    parts_ = new QTabBar;
    parts_->setObjectName("compare_parts");
    parts_->setDrawBase(false);
    parts_->setExpanding(false);
    auto* stack = new QStackedWidget;
    const std::pair<QString, QWidget*> all[] = {{tr("Changes"), both}, {tr("Figures"), both_}, {tr("Events"), side_}, {tr("Code"), code_}};
    for (const auto& [name, page] : all) {
        parts_->addTab(name);
        stack->addWidget(page);
    }
    lay_page(*this, {parts_, hint_, cancel_, lanes_, open_}, hint_, stack);
    connect(parts_, &QTabBar::currentChanged, stack, &QStackedWidget::setCurrentIndex);
    connect(lanes_, &QPushButton::clicked, this, [this] { emit lanes_wanted(before_); });
    connect(code_, &CodeBothPage::place_chosen, this, &ComparePage::place_chosen);
    connect(side_, &SidePage::moment_chosen, this, &ComparePage::moment_chosen);
    connect(open_, &QPushButton::clicked, this, &ComparePage::ask);
    connect(cancel_, &QPushButton::clicked, this, &ComparePage::stop);
    connect(&document, &Document::opened, this, [this] {
        stop();
        found_.reset();
        trouble_.clear();
        before_.clear();
        model_->set(nullptr);
        show_others();
        choose_row();
        renew_hint();
    });
    connect(&document, &Document::finished, this, &ComparePage::renew_hint);
    connect(table_->selectionModel(), &QItemSelectionModel::currentRowChanged, this, &ComparePage::choose_row);
    connect(table_, &QTableView::doubleClicked, this, [this](const QModelIndex& index) {
        if (const Change* c = model_->change(index.row()); c != nullptr && c->lane_after) emit lane_chosen(c->lane_after);
    });
    renew_hint();
}

void ComparePage::ask() {
    const QString path = QFileDialog::getOpenFileName(this, tr("The recording before"), {},
                                                      tr("Target files and recordings (*.toml *.tar *.xz *.gz *.zst);;All files (*)"));
    if (!path.isEmpty()) compare_with(path);
}

ComparePage::~ComparePage() { stop(); }

void ComparePage::stop() {
    if (progress_) progress_->cancel();
    progress_.reset();
    ++turn_;
    cancel_->hide();
    renew_hint();
}

void ComparePage::compare_with(const QString& path) {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    if (!trail || !trail->complete) return;
    stop();
    progress_ = std::make_shared<Progress>();
    before_ = path;
    trouble_.clear();
    found_.reset();
    model_->set(nullptr);
    show_others();
    cancel_->show();
    renew_hint();
    const quint64 turn = turn_;
    jobs_.clear();
    jobs_.add([this, turn, trail, recording, path = path.toStdString(), progress = progress_] {
        const auto outcome = [&]() -> Result<std::shared_ptr<const TwoCompared>> {
            const auto before = open_recording(path);
            if (!before) return tl::make_unexpected(before.error());
            const auto read = read_trail(**before, *progress);
            if (!read) return tl::make_unexpected(read.error());
            auto all = std::make_shared<TwoCompared>();
            all->before = words((*before)->title);
            all->comparison = compare(**read, *trail, {}, progress.get());
            all->was = quantities_of(**read, progress.get());
            all->is = quantities_of(*trail, progress.get());
            all->mended = what_is_mended(**read, find_all(**before, **read, progress.get()), *trail, find_all(*recording, *trail, progress.get()));
            all->other = read_other(*before, *read, *recording, *trail, *progress);
            if (progress->cancelled()) return failure("stopped");
            return std::shared_ptr<const TwoCompared>(all);
        }();
        QMetaObject::invokeMethod(
            this,
            [this, turn, outcome] {
                if (turn != turn_) return;
                progress_.reset();
                cancel_->hide();
                if (outcome) {
                    found_ = *outcome;
                    model_->set(found_);
                    show_others();
                    table_->resizeColumnsToContents();
                    for (const int number : {ChangeModel::before, ChangeModel::after, ChangeModel::relative})
                        table_->setColumnWidth(number, table_->columnWidth(number) + 14);  // they stand apart
                    table_->setColumnWidth(ChangeModel::direction, 28);
                    table_->setColumnWidth(ChangeModel::what, std::clamp(table_->columnWidth(ChangeModel::what), 200, 380));
                    restore_columns(*table_, "compare");
                    // What has no room ends in dots, and is in the tip.
                    table_->horizontalHeader()->setSectionResizeMode(model_->columnCount() - 1, QHeaderView::Stretch);
                    if (model_->rowCount() > 0) table_->selectRow(0);
                } else {
                    trouble_ = words(outcome.error().text());
                }
                choose_row();
                renew_hint();
                emit compared();
            },
            Qt::QueuedConnection);
    });
}

void ComparePage::show_others() {
    const auto other = found_ ? found_->other : nullptr;
    both_->show_other(other);
    side_->show_other(other);
    code_->show_other(other);
}

void ComparePage::choose_row() {
    const Change* c = model_->change(table_->currentIndex().row());
    if (c == nullptr || !found_) {
        picture_->show_values({}, {}, true, {},
                              found_ ? tr("What was found has no figure. Choose a change of a figure to see both distributions.")
                                     : QString());
        figures_->clear();
        return;
    }
    const auto samples = [&](const std::vector<Quantity>& all) {
        for (const Quantity& q : all)
            if (q.kind == c->kind && q.activity == c->activity && q.core == c->core &&
                (q.what == c->quantity || (c->quantity == "rate" && q.what == "period")))
                return q.samples.value;
        return std::vector<double>();
    };
    const bool time = c->kind != "queue" && c->kind != "core";
    picture_->show_values(samples(found_->was), samples(found_->is), time, words(c->activity + " · " + c->quantity),
                          tr("Neither recording holds single values of this; the figures below are all there is."));
    QString text;
    for (const Compared& f : c->figures) {
        Change as = *c;
        as.statistic = f.statistic;
        as.in_time = time && f.statistic != Statistic::rate;
        text += QString("%1 %2 → %3  %4%5\n")
                    .arg(words(std::string(statistic_name(f.statistic))), -7)
                    .arg(words(compared_value_text(as, f.before)), 10)
                    .arg(words(compared_value_text(as, f.after)), -10)
                    .arg(words(relative_text(f.relative())), 8)
                    .arg(f.beyond ? QStringLiteral("  beyond chance") : QString());
    }
    figures_->setText(text.trimmed());
}

void ComparePage::renew_hint() {
    open_->setEnabled(document_.trail() != nullptr && document_.trail()->complete);
    lanes_->setVisible(found_ != nullptr);
    if (progress_) return hint_->setText(tr("Reading %1 and comparing…").arg(QFileInfo(before_).fileName()));
    if (!trouble_.isEmpty()) return hint_->setText(trouble_);
    if (!found_) return hint_->setText(tr("What changed? Choose the recording before; this one is the one after."));
    const Comparison& c = found_->comparison;
    QString text = tr("from %1: %2 worse, %3 better, %4 figures alike; the chance of any false alarm is 1 in %5")
                       .arg(found_->before)
                       .arg(c.worse())
                       .arg(c.better())
                       .arg(c.unchanged.size())
                       .arg(std::lround(1 / c.level));
    if (c.too_short) text += tr(" · too short to compare figures");
    if (!c.not_told.empty()) text += tr(" · not compared, as only one tells of it: %1").arg(joined({c.not_told.begin(), c.not_told.end()}));
    hint_->setText(text);
}

}  // namespace mt::app
