#include "evidence/rules_page.h"

#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QPainter>
#include <QSaveFile>
#include <QSplitter>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "judge/rule_proposals.h"
#include "look/elided_label.h"
#include "look/filter_field.h"
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
    static const std::array<std::array<const char*, 2>, kColumns> heads = {{
        {QT_TR_NOOP("verdict"), QT_TR_NOOP("broken: violated at least once; undecided: nothing could be checked, or bounds leave it open")},
        {QT_TR_NOOP("rule"), QT_TR_NOOP("its name in the rules file")},
        {QT_TR_NOOP("of"), QT_TR_NOOP("which activity, and what of it")},
        {QT_TR_NOOP("limit"), QT_TR_NOOP("what is allowed")},
        {QT_TR_NOOP("worst   "), QT_TR_NOOP("the value that is nearest to its limit, or farthest beyond; a double click goes there")},
        {QT_TR_NOOP("margin"), QT_TR_NOOP("how far the worst is from the limit: to the right what is left, to the left what is beyond")},
        {QT_TR_NOOP("checked   "), QT_TR_NOOP("instances held against the limit")},
        {QT_TR_NOOP("violations   "), QT_TR_NOOP("of them beyond it")},
        {QT_TR_NOOP("note"), QT_TR_NOOP("from the rules file; or why nothing could be checked")},
    }};
    const auto& head = heads[static_cast<std::size_t>(section)];
    if (role == Qt::DisplayRole) return tr(head[0]);
    if (role == Qt::ToolTipRole) return tr(head[1]);
    if (role == kUnitRole) return QString();
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (section <= limit || section == note || section == margin ? Qt::AlignLeft : Qt::AlignRight));
    return {};
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

RulesPage::RulesPage(Document& document, QWidget* parent)
    : QWidget(parent), document_(document), model_(new RuleModel(this)), place_model_(new RulePlaceModel(this)) {
    setAccessibleName(tr("Rules"));
    hint_ = new ElidedLabel;
    hint_->setObjectName("rules_hint");
    hint_->setFont(text_font(11));
    open_ = new QPushButton(tr("Open rules…"));
    open_->setObjectName("rules_open");
    open_->setToolTip(tr("Hold this recording against a *.rules.toml"));
    propose_ = new QPushButton(tr("Propose rules…"));
    propose_->setObjectName("rules_propose");
    propose_->setToolTip(tr("Write a rules file of what this recording does, each limit a fifth looser"));
    sorted_ = filtered(model_, this);
    sorted_->setSortRole(RuleModel::kSortRole);
    table_ = new QTableView;
    table_->setObjectName("rules");
    table_->setAccessibleName(tr("Rules"));
    table_->setModel(sorted_);
    table_->setSortingEnabled(true);
    table_->setItemDelegateForColumn(RuleModel::margin, new MarginBar(table_));
    table_->setMinimumHeight(30);
    dress_table(*table_);
    give_table_menu(*table_, "rules");
    table_->sortByColumn(RuleModel::verdict, Qt::AscendingOrder);
    places_ = new QTableView;
    places_->setObjectName("rule_places");
    places_->setAccessibleName(tr("Places where the rule is broken"));
    places_->setModel(place_model_);
    dress_table(*places_);
    give_table_menu(*places_, "rule_places");
    places_->setMinimumWidth(220);
    auto* both = new QSplitter(Qt::Horizontal);
    both->addWidget(table_);
    both->addWidget(places_);
    both->setStretchFactor(0, 1);
    both->setStretchFactor(1, 0);
    both->setHandleWidth(1);
    setFocusProxy(table_);
    auto* top = new QHBoxLayout;
    top->addWidget(hint_, 1);
    top->addWidget(open_);
    top->addWidget(propose_);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(12, 4, 12, 4);
    column->setSpacing(3);
    column->addLayout(top);
    column->addWidget(both, 1);
    connect(open_, &QPushButton::clicked, this, &RulesPage::ask_open);
    connect(propose_, &QPushButton::clicked, this, &RulesPage::ask_propose);
    connect(&document, &Document::opened, this, [this] {
        model_->set({});
        place_model_->set(nullptr);
        find_file();
        renew_hint();
    });
    connect(&document, &Document::finished, this, &RulesPage::judge);
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
    renew_hint();
}

void RulesPage::ask_open() {
    const QString path = QFileDialog::getOpenFileName(this, tr("Rules"), file_, tr("Rules (*.rules.toml);;All files (*)"));
    if (!path.isEmpty()) use_file(path);
}
void RulesPage::ask_propose() {
    const QString path = QFileDialog::getSaveFileName(this, tr("Write proposed rules"), file_, tr("Rules (*.rules.toml)"));
    if (!path.isEmpty()) propose_into(path);
}

// Beside the recording: what is named like it, else the only one.
void RulesPage::find_file() {
    file_.clear();
    trouble_.clear();
    const auto recording = document_.recording();
    if (!recording || recording->input.empty()) return;
    const QFileInfo input(words(recording->input));
    const QDir folder = input.dir();
    QString stem = input.fileName();
    for (const char* end : {".target.toml", ".mtrail"})
        if (stem.endsWith(QLatin1String(end))) stem.chop(static_cast<qsizetype>(std::string_view(end).size()));
    if (folder.exists(stem + ".rules.toml")) {
        file_ = folder.filePath(stem + ".rules.toml");
        return;
    }
    const QStringList there = folder.entryList({"*.rules.toml"}, QDir::Files);
    if (there.size() == 1) file_ = folder.filePath(there[0]);
}

void RulesPage::use_file(const QString& path) {
    file_ = path;
    judge();
}

void RulesPage::propose_into(const QString& path) {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    if (!trail || !recording) return;
    jobs_.add([this, path, trail, recording] {
        const std::string text = rules_text(propose_rules(*recording, *trail));
        QMetaObject::invokeMethod(
            this,
            [this, path, text] {
                QSaveFile out(path);
                if (!out.open(QIODevice::WriteOnly) || out.write(text.data(), static_cast<qint64>(text.size())) < 0 || !out.commit()) {
                    emit told(tr("Cannot write %1: %2").arg(path, out.errorString()), true);
                    return;
                }
                emit told(tr("Proposed rules are in %1. Check each: they say what this recording does, not what is right.").arg(path), false);
                use_file(path);
            },
            Qt::QueuedConnection);
    });
}

void RulesPage::judge() {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    const quint64 turn = ++turn_;
    trouble_.clear();
    judging_ = !file_.isEmpty() && trail && trail->complete;
    renew_hint();
    if (!judging_) return;
    jobs_.add([this, turn, trail, recording, path = file_.toStdString()] {
        auto file = read_rules(path);
        Result<std::vector<RuleOutcome>> outcomes = std::vector<RuleOutcome>();
        if (file)
            outcomes = judge_rules(*recording, *trail, *file);
        else
            outcomes = tl::make_unexpected(file.error());
        QMetaObject::invokeMethod(
            this,
            [this, turn, outcomes = std::move(outcomes)] {
                if (turn != turn_) return;
                judging_ = false;
                trouble_ = outcomes ? QString() : words(outcomes.error().text());
                model_->set(outcomes ? *outcomes : std::vector<RuleOutcome>());
                table_->resizeColumnsToContents();
                table_->setColumnWidth(RuleModel::margin, 110);
                restore_columns(*table_, "rules");
                if (sorted_->rowCount() > 0) table_->selectRow(0);
                choose_rule();
                renew_hint();
            },
            Qt::QueuedConnection);
    });
}

void RulesPage::choose_rule() {
    const QModelIndex index = sorted_->mapToSource(table_->currentIndex());
    place_model_->set(index.isValid() ? &model_->rows()[static_cast<std::size_t>(index.row())] : nullptr);
    places_->resizeColumnsToContents();
}

void RulesPage::renew_hint() {
    propose_->setEnabled(document_.trail() != nullptr && document_.trail()->complete);
    if (file_.isEmpty()) {
        hint_->setText(tr("No rules yet. Open a rules file, or have one proposed from a recording that is good."));
        return;
    }
    const QString file = QFileInfo(file_).fileName();
    if (judging_) return hint_->setText(tr("%1: judging…").arg(file));
    if (!trouble_.isEmpty()) return hint_->setText(trouble_);
    std::size_t counts[3] = {};
    for (const RuleOutcome& o : model_->rows()) ++counts[static_cast<std::size_t>(o.verdict)];
    hint_->setText(tr("%1: %2 kept, %3 broken, %4 undecided").arg(file).arg(counts[0]).arg(counts[1]).arg(counts[2]));
}

}  // namespace mt::app
