#include "evidence/rules_page.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QHeaderView>
#include <QPainter>
#include <QSplitter>
#include <QStyledItemDelegate>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "figures/why_text.h"
#include "judge/sentences.h"
#include "look/page_parts.h"
#include "look/filter_field.h"
#include "look/html.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

QString value_text(RuleWhat what, double value) { return words(rule_value_text(what, value)); }
// A value as a plain number: times in ns.
QString plain(RuleWhat what, double value) {
    const bool time = what == RuleWhat::order || unit_of(what) == RuleUnit::time;
    return QString::number(time ? value / 1e3 : value, 'g', 12);
}
// How far the worst stays from the limit, as a part of the limit: below 0 beyond it.
std::optional<double> margin_share(const RuleOutcome& o) {
    if (!o.worst || !std::isfinite(o.worst->margin)) return std::nullopt;
    const double limit = std::fabs(o.worst->value) + std::fabs(o.worst->margin);
    return limit > 0 ? std::optional(o.worst->margin / limit) : std::nullopt;
}

// The margin as a bar from the middle: to the right what is left, to the left what is beyond.
class MarginBar : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        QStyledItemDelegate::paint(p, option, index);
        const QVariant share = index.data(RuleModel::kMarginRole);
        if (!share.isValid()) return;
        const QRectF r = QRectF(option.rect).adjusted(4, 5, -4, -5);
        const double middle = r.left() + r.width() / 2, v = std::clamp(share.toDouble(), -1.0, 1.0);
        p->fillRect(QRectF(r.left(), r.center().y(), r.width(), 1), theme().rule);
        const QColor ink = v < 0 ? theme().finding : theme().measure;
        const double w = std::max(2.0, std::fabs(v) * r.width() / 2);
        p->fillRect(QRectF(v < 0 ? middle - w : middle, r.top(), w, r.height()), ink);
        p->fillRect(QRectF(middle, r.top() - 2, 1, r.height() + 4), theme().second);
    }
};

}  // namespace

int RuleModel::rowCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : static_cast<int>(rows_.size()); }
int RuleModel::columnCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : kColumns; }

QVariant RuleModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const RuleOutcome& o = rows_[static_cast<std::size_t>(index.row())];
    const RuleWhat of = o.rule.what;
    const int c = index.column();
    const bool left = c <= limit || c == note;
    if (role == Qt::DisplayRole) {
        switch (c) {
            case verdict:
                return words(std::string(verdict_name(o.verdict)));
            case name:
                return words(o.rule.name);
            case what:
                return words((o.rule.of.empty() ? o.rule.core : o.rule.of) + (o.rule.of.empty() && o.rule.core.empty() ? "" : ", ") +
                             std::string(rule_what_name(of)));
            case limit:
                return words(o.rule.limit_text());
            case worst: {
                if (o.worst && std::isfinite(o.worst->margin)) return value_text(of, o.worst->value);
                return o.statistics.empty() ? QStringLiteral("–") : words(o.statistics[0].name) + " " + value_text(of, o.statistics[0].value);
            }
            case checked:
                return words(count_text(o.checked));
            case violations:
                return o.undecided > 0 ? tr("%1, %2 open").arg(words(count_text(o.violations)), words(count_text(o.undecided)))
                                       : words(count_text(o.violations));
            case note:
                return words(o.reason.empty() ? o.rule.note : o.rule.note.empty() ? o.reason : o.reason + "; " + o.rule.note);
            default:
                return {};
        }
    }
    if (role == kMarginRole) {
        const auto share = c == margin ? margin_share(o) : std::nullopt;
        return share ? QVariant(*share) : QVariant();
    }
    if (role == kSortRole) {
        if (c == verdict) return o.verdict == Verdict::broken ? 0 : o.verdict == Verdict::undecided ? 1 : 2;
        if (c == margin) return margin_share(o).value_or(2);
        if (c == worst) return o.worst ? o.worst->value : 0.0;
        if (c == checked) return double(o.checked);
        if (c == violations) return double(o.violations);
        return data(index, Qt::DisplayRole);
    }
    if (role == kPlainRole) {
        if (left) return {};
        if (c == worst) return o.worst ? plain(of, o.worst->value) : QString();
        if (c == margin) return o.worst && std::isfinite(o.worst->margin) ? plain(of, o.worst->margin) : QString();
        return QString::number(c == checked ? o.checked : o.violations);
    }
    if (role == Qt::ToolTipRole && c == margin && o.worst && std::isfinite(o.worst->margin))
        return o.worst->margin < 0 ? tr("%1 beyond the limit").arg(value_text(of, -o.worst->margin))
                                   : tr("%1 left to the limit").arg(value_text(of, o.worst->margin));
    if (role == Qt::ToolTipRole && (c == checked || c == violations))
        return tr("%1 excluded as they are cut, %2 without an answer").arg(words(count_text(o.excluded)), words(count_text(o.unpaired)));
    if (role == Qt::ForegroundRole && c == verdict)
        return o.verdict == Verdict::broken ? theme().finding : o.verdict == Verdict::undecided ? theme().waiting : theme().text;
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (left ? Qt::AlignLeft : Qt::AlignRight));
    if (role == Qt::FontRole) return c <= name ? text_font(12, true) : left ? text_font(11) : fixed_font(11);
    return {};
}

QVariant RuleModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    static constexpr std::array<TableHead, kColumns> heads = {{
        {QT_TR_NOOP("verdict"), QT_TR_NOOP("broken: violated at least once; undecided: nothing could be checked, or bounds leave it open"), true},
        {QT_TR_NOOP("rule"), QT_TR_NOOP("its name in the rules file"), true},
        {QT_TR_NOOP("of"), QT_TR_NOOP("which activity, and what of it"), true},
        {QT_TR_NOOP("limit"), QT_TR_NOOP("what is allowed"), true},
        {QT_TR_NOOP("worst   "), QT_TR_NOOP("the value that is nearest to its limit, or farthest beyond; a double click goes there")},
        {QT_TR_NOOP("margin"), QT_TR_NOOP("how far the worst is from the limit: to the right what is left, to the left what is beyond"), true},
        {QT_TR_NOOP("checked   "), QT_TR_NOOP("instances held against the limit")},
        {QT_TR_NOOP("violations   "), QT_TR_NOOP("of them beyond it")},
        {QT_TR_NOOP("note"), QT_TR_NOOP("from the rules file; or why nothing could be checked"), true},
    }};
    return table_head(*this, heads[static_cast<std::size_t>(section)], orientation, role);
}

void RuleModel::set(std::vector<RuleOutcome> rows) {
    beginResetModel();
    rows_ = std::move(rows);
    endResetModel();
}

int RulePlaceModel::rowCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : static_cast<int>(rows_.size()); }
int RulePlaceModel::columnCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : 2; }
QVariant RulePlaceModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const RulePlace& place = rows_[static_cast<std::size_t>(index.row())];
    if (role == Qt::DisplayRole) return index.column() == 0 ? words(moment_text(place.begin)) : value_text(what_, place.value);
    if (role == kPlainRole) return index.column() == 0 ? words(ns_text(place.begin)) : plain(what_, place.value);
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | Qt::AlignRight);
    if (role == Qt::FontRole) return fixed_font(11);
    return {};
}
QVariant RulePlaceModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    if (role == Qt::DisplayRole) return section == 0 ? tr("violated at") : tr("value");
    if (role == kUnitRole) return section == 0 ? QStringLiteral("ns") : QString();
    return {};
}
void RulePlaceModel::set(const RuleOutcome* outcome) {
    beginResetModel();
    rows_ = outcome != nullptr ? outcome->places : std::vector<RulePlace>();
    what_ = outcome != nullptr ? outcome->rule.what : RuleWhat::duration;
    endResetModel();
}

RulesPage::RulesPage(Document& document, Judgement& judgement, Viewpoint& view, QWidget* parent)
    : QWidget(parent),
      document_(document),
      judgement_(judgement),
      model_(new RuleModel(this)),
      place_model_(new RulePlaceModel(this)) {
    setAccessibleName(tr("Rules"));
    hint_ = hint_label("rules_hint");
    open_ = new QPushButton(tr("Open rules…"));
    open_->setObjectName("rules_open");
    open_->setToolTip(tr("Hold this recording against a *.rules.toml"));
    propose_ = new QPushButton(tr("Propose rules…"));
    propose_->setObjectName("rules_propose");
    propose_->setToolTip(tr("Write a rules file of what this recording does, each limit a fifth looser"));
    sorted_ = filtered(model_, this);
    sorted_->setSortRole(RuleModel::kSortRole);
    table_ = figures_view("rules", tr("Rules"), *sorted_);
    table_->setItemDelegateForColumn(RuleModel::margin, new MarginBar(table_));
    table_->sortByColumn(RuleModel::verdict, Qt::AscendingOrder);
    places_ = figures_view("rule_places", tr("Places where the rule is broken"), *place_model_, false);
    places_->setMinimumWidth(200);
    distribution_ = new DistributionPlot(view);
    why_ = new QTextBrowser;
    why_->setObjectName("rule_why");
    why_->setAccessibleName(tr("Why the rule is broken there"));
    why_->setOpenLinks(false);
    why_->setFrameShape(QFrame::NoFrame);
    lower_ = new QStackedWidget;
    lower_->addWidget(distribution_);
    lower_->addWidget(why_);
    lower_->setMinimumWidth(250);
    auto* across = new QSplitter(Qt::Horizontal);
    for (QWidget* part : {static_cast<QWidget*>(table_), static_cast<QWidget*>(places_), static_cast<QWidget*>(lower_)})
        across->addWidget(part);
    across->setStretchFactor(0, 1);
    for (const int fixed : {1, 2}) across->setStretchFactor(fixed, 0);
    across->setHandleWidth(1);
    setFocusProxy(table_);
    lay_page(*this, {hint_, open_, propose_}, hint_, across);
    connect(open_, &QPushButton::clicked, this, &RulesPage::ask_open);
    connect(propose_, &QPushButton::clicked, this, &RulesPage::ask_propose);
    connect(&judgement, &Judgement::changed, this, &RulesPage::renew);
    connect(table_->selectionModel(), &QItemSelectionModel::currentRowChanged, this, &RulesPage::choose_rule);
    connect(table_, &QTableView::doubleClicked, this, [this](const QModelIndex& index) {
        const RuleOutcome& o = model_->rows()[static_cast<std::size_t>(sorted_->mapToSource(index).row())];
        if (o.worst) emit place_chosen(*o.worst);
    });
    const auto choose = [this](const QModelIndex& index) {
        emit place_chosen(place_model_->rows()[static_cast<std::size_t>(index.row())]);
    };
    connect(places_, &QTableView::doubleClicked, this, choose);
    connect(places_, &QTableView::activated, this, choose);
    connect(places_, &QTableView::clicked, this, &RulesPage::explain);
    connect(places_->selectionModel(), &QItemSelectionModel::currentRowChanged, this, &RulesPage::explain);
    connect(table_, &QTableView::clicked, this, [this] { lower_->setCurrentWidget(distribution_); });
    connect(distribution_, &DistributionPlot::span_chosen, this, &RulesPage::span_chosen);
    connect(distribution_, &DistributionPlot::moment_chosen, this, &RulesPage::moment_chosen);
    connect(why_, &QTextBrowser::anchorClicked, this, &RulesPage::follow);
    renew_hint();
}

void RulesPage::ask_open() {
    const QString path = QFileDialog::getOpenFileName(this, tr("Rules"), judgement_.file(), tr("Rules (*.rules.toml);;All files (*)"));
    if (!path.isEmpty()) judgement_.use_file(path);
}
void RulesPage::ask_propose() {
    const QString path = QFileDialog::getSaveFileName(this, tr("Write proposed rules"), judgement_.file(), tr("Rules (*.rules.toml)"));
    if (!path.isEmpty()) judgement_.propose_into(path);
}

const RuleOutcome* RulesPage::chosen() const {
    const QModelIndex index = sorted_->mapToSource(table_->currentIndex());
    return index.isValid() ? &model_->rows()[static_cast<std::size_t>(index.row())] : nullptr;
}

void RulesPage::choose(const QString& rule) {
    for (int row = 0; row < sorted_->rowCount(); ++row)
        if (sorted_->index(row, RuleModel::name).data().toString() == rule) table_->selectRow(row);
}

void RulesPage::renew() {
    const QString before = chosen() != nullptr ? words(chosen()->rule.name) : QString();
    model_->set(judgement_.outcomes());
    table_->resizeColumnsToContents();
    table_->setColumnWidth(RuleModel::margin, 110);
    restore_columns(*table_, "rules");
    if (!before.isEmpty()) choose(before);
    if (chosen() == nullptr && sorted_->rowCount() > 0) table_->selectRow(0);
    choose_rule();
    renew_hint();
}

// Its places, and how its quantity is distributed, with the limits drawn in.
void RulesPage::choose_rule() {
    const RuleOutcome* outcome = chosen();
    place_model_->set(outcome);
    places_->resizeColumnsToContents();
    lower_->setCurrentWidget(distribution_);
    if (measuring_) measuring_->cancel();
    if (explaining_) explaining_->cancel();
    const auto trail = document_.trail();
    if (outcome == nullptr || !trail) return distribution_->show({}, {});
    std::vector<PlotLimit> limits;
    for (const LimitLine& l : limits_of_rule(*trail, *outcome)) limits.push_back({l.value, words(l.text), !l.kept});
    distribution_->show({}, tr("measuring …"));
    measuring_ = std::make_shared<Progress>();
    jobs_.add([this, trail, rule = outcome->rule, limits = std::move(limits), progress = measuring_] {
        auto series = std::make_shared<const Series>(series_of_rule(*trail, rule, progress.get()));
        QMetaObject::invokeMethod(
            this,
            [this, series, limits, progress] {
                if (progress->cancelled()) return;
                distribution_->show(series, tr("judged as a whole, or it never happened"));
                distribution_->set_limits(limits);
            },
            Qt::QueuedConnection);
    });
}

void RulesPage::explain() {
    const RuleOutcome* outcome = chosen();
    const int row = places_->currentIndex().row();
    const auto trail = document_.trail();
    if (outcome == nullptr || row < 0 || !trail) return;
    if (explaining_) explaining_->cancel();
    explaining_ = std::make_shared<Progress>();
    why_->setHtml("<p>" + tr("looking …") + "</p>");
    lower_->setCurrentWidget(why_);
    jobs_.add([this, trail, recording = document_.recording(), rule = outcome->rule,
               place = place_model_->rows()[static_cast<std::size_t>(row)], progress = explaining_] {
        auto explained = explain_place(*recording, *trail, rule, place, progress.get());
        QMetaObject::invokeMethod(
            this,
            [this, explained = std::move(explained), place, rule, progress] {
                if (!progress->cancelled()) tell(explained, place, rule);
            },
            Qt::QueuedConnection);
    });
}

void RulesPage::tell(const PlaceExplained& explained, const RulePlace& place, const Rule& rule) {
    PanelText text = explained.why ? why_text(*explained.why) : PanelText{};
    links_ = std::move(text.spans);
    const QString beyond = value_text(rule.what, std::fabs(place.margin));
    QString head = "<p><b>" + value_text(rule.what, place.value) + "</b>" +
                   (place.margin < 0 ? tr(", %1 beyond the limit").arg(beyond) : QString()) + "</p>";
    // Findings say more where they are about the same.
    for (const Finding& f : document_.findings()) {
        if (f.end < place.begin || place.end < f.begin) continue;
        if (rule.of.empty() || !f.names(rule.of)) continue;
        head += "<p>" + link_html(QString("time:%1").arg(f.begin.ps), words(title_of(f))) + "</p>";
    }
    if (!explained.had.empty()) {
        constexpr std::size_t kMost = 12;
        text.html += "<table width=\"100%\" cellspacing=\"0\" style=\"margin-top:6px\"><tr><td style=\"color:" +
                     theme().second.name() + "\">" +
                     escaped(tr("had the core %1 meanwhile").arg(words(explained.core))) + "</td></tr>";
        for (std::size_t i = 0; i < std::min(kMost, explained.had.size()); ++i)
            text.html += "<tr><td>" + escaped(words(explained.had[i].name)) + "</td><td align=\"right\">" +
                         words(duration_text(explained.had[i].time)) + "</td></tr>";
        text.html += "</table>";
        if (explained.had.size() > kMost) text.html += "<p>" + tr("and %1 more").arg(explained.had.size() - kMost) + "</p>";
    }
    why_->setHtml(head + text.html);
}

void RulesPage::follow(const QUrl& link) {
    const QString to = link.toString();
    if (to.startsWith("time:")) emit moment_chosen(Time{to.mid(5).toLongLong()});
    if (!to.startsWith("span:")) return;
    if (const auto n = to.mid(5).toULongLong(); n < links_.size()) emit span_chosen(links_[n]);
}

void RulesPage::renew_hint() {
    propose_->setEnabled(document_.trail() != nullptr && document_.trail()->complete);
    if (judgement_.file().isEmpty()) {
        hint_->setText(
            tr("No rules yet. Open a rules file, have one proposed from a recording that is good, or limit something by a "
               "right click on its lane."));
        return;
    }
    const QString file = QFileInfo(judgement_.file()).fileName();
    if (judgement_.judging()) return hint_->setText(tr("%1: judging…").arg(file));
    if (!judgement_.trouble().isEmpty()) return hint_->setText(judgement_.trouble());
    std::size_t counts[3] = {};
    for (const RuleOutcome& o : model_->rows()) ++counts[static_cast<std::size_t>(o.verdict)];
    hint_->setText(tr("%1: %2 kept, %3 broken, %4 undecided").arg(file).arg(counts[0]).arg(counts[1]).arg(counts[2]));
}

}  // namespace mt::app
