#include "overview/findings_panel.h"

#include <QClipboard>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QInputDialog>
#include <QMenu>
#include <QMouseEvent>
#include <QVBoxLayout>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"
#include "overview/finding_card.h"
#include "look/layout.h"

namespace mt::app {
namespace {
constexpr std::size_t kFilterFrom = 7;  ///< so many rows are worth a field to filter them

QString kind_text(const std::string& kind) { return words(kind).replace('_', ' '); }
}  // namespace

int FindingsModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(list_.rows());
}

QVariant FindingsModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const auto& f = document_.findings()[list_.finding_of(static_cast<std::size_t>(index.row()))];
    if (role == Qt::DisplayRole) return words(f.title);
    if (role == Qt::AccessibleTextRole) return words(f.title + ". " + f.cause);
    if (role == Qt::ToolTipRole) {
        QString text;
        for (const auto& e : f.evidence) text += words(moment_text(e.time) + "  " + e.what) + "\n";
        return text.trimmed();
    }
    return {};
}

void FindingsModel::renew() {
    beginResetModel();
    endResetModel();
}

FindingsPanel::FindingsPanel(Document& document, FindingList& findings, QWidget* parent)
    : QWidget(parent), document_(document), findings_(findings), model_(new FindingsModel(document, findings, this)) {
    setAccessibleName(tr("Findings"));
    auto* heading = new QLabel(tr("Findings"));
    heading->setFont(text_font(13, true));
    count_ = new QLabel;
    count_->setObjectName("findings_count");
    kinds_ = new QToolButton;
    kinds_->setObjectName("findings_kinds");
    kinds_->setText("⋯");
    kinds_->setToolTip(tr("Which kinds are shown, and muted findings"));
    kinds_->setAccessibleName(tr("Filter findings"));
    kinds_->setPopupMode(QToolButton::InstantPopup);
    kinds_->setStyleSheet("QToolButton { padding: 0 6px; } QToolButton::menu-indicator { image: none; }");
    auto* kinds = new QMenu(kinds_);
    kinds_->setMenu(kinds);
    connect(kinds, &QMenu::aboutToShow, this, [this, kinds] { fill_kinds(kinds); });
    filter_ = new QLineEdit;
    filter_->setObjectName("findings_filter");
    filter_->setPlaceholderText(tr("Filter by a name or word"));
    filter_->setAccessibleName(tr("Filter findings by a name or word"));
    filter_->setClearButtonEnabled(true);
    auto* top = new QHBoxLayout;
    top->setContentsMargins(12, 8, 12, 2);
    top->addWidget(heading);
    top->addStretch();
    top->addWidget(count_);
    top->addWidget(kinds_);
    auto* filter_row = new QHBoxLayout;
    filter_row->setContentsMargins(12, 0, 12, 2);
    filter_row->addWidget(filter_);
    list_ = new QListView;
    list_->setObjectName("findings");
    list_->setAccessibleName(tr("Findings, worst first"));
    list_->setModel(model_);
    list_->setItemDelegate(new FindingCards(document, findings, list_));
    list_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    list_->setResizeMode(QListView::Adjust);
    list_->setContextMenuPolicy(Qt::CustomContextMenu);
    list_->viewport()->setMouseTracking(true);
    list_->viewport()->installEventFilter(this);
    empty_ = new QLabel;
    empty_->setObjectName("findings_empty");
    empty_->setWordWrap(true);
    empty_->setContentsMargins(14, 8, 14, 8);
    auto* all = bare_column(this, 2);
    all->addLayout(top);
    all->addLayout(filter_row);
    all->addWidget(empty_);
    all->addWidget(list_, 1);
    setMinimumWidth(190);
    connect(list_, &QListView::activated, this, [this](const QModelIndex& i) { take(i.row()); });
    connect(list_->selectionModel(), &QItemSelectionModel::currentChanged, this,
            [this] { emit model_->layoutChanged(); });  // the open card is higher than the others
    connect(list_, &QListView::customContextMenuRequested, this, &FindingsPanel::menu);
    connect(filter_, &QLineEdit::textChanged, this,
            [this](const QString& text) { findings_.set_filter(findings_.kind_filter(), text); });
    connect(&findings, &FindingList::renewed, this, &FindingsPanel::renew);
    connect(&findings, &FindingList::failed, this,
            [this](const Problem& problem) { emit told(words(problem.text()), true); });
    connect(&document, &Document::opened, filter_, &QLineEdit::clear);
    renew();
}

void FindingsPanel::renew() {
    const int kept = current();
    gone_to_ = -1;
    model_->renew();
    const std::size_t n = findings_.rows();
    const bool judged = document_.trail() && !document_.busy();
    QString count = judged ? QString::number(n) : QString();
    if (judged && findings_.muted_rows() > 0 && !findings_.muted_shown())
        count += tr(" · %1 muted").arg(findings_.muted_rows());
    count_->setText(count);
    const bool filtered = !findings_.text_filter().isEmpty() || !findings_.kind_filter().isEmpty();
    filter_->setVisible(n >= kFilterFrom || filtered);
    kinds_->setVisible(judged && !document_.findings().empty());
    empty_->setVisible(n == 0);
    list_->setVisible(n > 0);
    if (!document_.trail())
        empty_->setText(tr("Open a recording: what is unusual in it will be listed here."));
    else if (document_.busy())
        empty_->setText(tr("Decoding. Findings come when the whole recording has been seen."));
    else if (filtered)
        empty_->setText(tr("No finding fits the filter."));
    else if (findings_.muted_rows() > 0)
        empty_->setText(tr("All findings are muted. ⋯ shows them."));
    else
        empty_->setText(
            tr("Nothing unusual found. Every interrupt and task kept its period and its usual duration, and nothing "
               "was lost."));
    static_cast<QVBoxLayout*>(layout())->setStretch(2, n == 0 ? 1 : 0);
    empty_->setAlignment(Qt::AlignTop | Qt::AlignLeft);
    if (n > 0) list_->setCurrentIndex(model_->index(std::clamp(kept, 0, static_cast<int>(n) - 1)));
}

void FindingsPanel::select(std::size_t finding) {
    const auto row = findings_.row_of(finding);
    if (!row) return;
    findings_.choose(finding);
    gone_to_ = static_cast<int>(*row);
    list_->setCurrentIndex(model_->index(gone_to_));
    list_->viewport()->update();
}

int FindingsPanel::current() const { return list_->currentIndex().isValid() ? list_->currentIndex().row() : -1; }

// To the finding; where it was gone to already, to its next place.
void FindingsPanel::take(int row) {
    if (row < 0 || static_cast<std::size_t>(row) >= findings_.rows()) return;
    const auto r = static_cast<std::size_t>(row);
    emit chosen(gone_to_ == row && findings_.members(r).size() > 1 ? findings_.next_place(r, 1)
                                                                   : findings_.finding_of(r));
}

QString FindingsPanel::link_at(const QPoint& at) const {
    const QModelIndex index = list_->indexAt(at);
    if (!index.isValid() || index != list_->currentIndex()) return {};
    QStyleOptionViewItem option;
    option.rect = list_->visualRect(index);
    option.widget = list_;
    return static_cast<const FindingCards*>(list_->itemDelegate())->link_at(option, index, at);
}

void FindingsPanel::follow(const QString& link, std::size_t finding) {
    const QString value = link.section(':', 1);
    if (link.startsWith("lane:")) emit involved_chosen(finding, value.toULongLong());
    if (link.startsWith("place:")) emit place_chosen(finding, value);
    if (link.startsWith("time:")) emit moment_chosen(Time{value.toLongLong()});
}

bool FindingsPanel::eventFilter(QObject* watched, QEvent* e) {
    if (watched == list_->viewport() && e->type() == QEvent::MouseMove)
        list_->viewport()->setCursor(link_at(static_cast<QMouseEvent*>(e)->pos()).isEmpty() ? Qt::ArrowCursor
                                                                                            : Qt::PointingHandCursor);
    if (watched == list_->viewport() && e->type() == QEvent::MouseButtonPress) {
        const auto* mouse = static_cast<QMouseEvent*>(e);
        const QModelIndex index = list_->indexAt(mouse->pos());
        if (mouse->button() != Qt::LeftButton || !index.isValid()) return false;
        list_->setFocus();
        const auto row = static_cast<std::size_t>(index.row());
        if (const QString link = link_at(mouse->pos()); !link.isEmpty())
            follow(link, findings_.finding_of(row));
        else
            take(index.row());
        return true;
    }
    return QWidget::eventFilter(watched, e);
}

void FindingsPanel::fill_kinds(QMenu* menu) {
    menu->clear();
    const auto add = [&](const QString& text, const QString& kind) {
        auto* a = menu->addAction(text, this, [this, kind] { findings_.set_filter(kind, filter_->text()); });
        a->setCheckable(true);
        a->setChecked(findings_.kind_filter() == kind);
    };
    add(tr("All kinds"), {});
    for (const auto& [kind, n] : findings_.kinds()) add(QString("%1 (%2)").arg(kind_text(kind)).arg(n), words(kind));
    if (const auto trail = document_.trail(); trail && trail->cores.size() > 1) {
        menu->addSeparator();
        for (const CoreTrail& core : trail->cores) {
            const QString name = words(core.name);
            auto* a = menu->addAction(tr("Only %1").arg(name), this,
                                      [this, name] { filter_->setText(filter_->text() == name ? QString() : name); });
            a->setCheckable(true);
            a->setChecked(filter_->text() == name);
        }
    }
    menu->addSeparator();
    auto* muted = menu->addAction(tr("Show muted (%1)").arg(findings_.muted_rows()), this,
                                  [this] { findings_.show_muted(!findings_.muted_shown()); });
    muted->setCheckable(true);
    muted->setChecked(findings_.muted_shown());
    muted->setEnabled(findings_.muted_rows() > 0);
    menu->addAction(tr("Copy all as text"), this, [this] {
        QString text;
        for (std::size_t r = 0; r < findings_.rows(); ++r)
            text += finding_text(document_.findings()[findings_.finding_of(r)]) + "\n";
        QGuiApplication::clipboard()->setText(text.trimmed() + "\n");
    });
}

void FindingsPanel::menu(const QPoint& at) {
    const QModelIndex index = list_->indexAt(at);
    if (!index.isValid()) return;
    list_->setCurrentIndex(index);
    const auto row = static_cast<std::size_t>(index.row());
    QMenu menu;
    menu.addAction(tr("Go there"), this, [this, row] { emit chosen(findings_.finding_of(row)); });
    if (findings_.members(row).size() > 1) {
        menu.addAction(tr("Next place"), this, [this, row] { emit chosen(findings_.next_place(row, 1)); });
        menu.addAction(tr("Previous place"), this, [this, row] { emit chosen(findings_.next_place(row, -1)); });
    }
    menu.addSeparator();
    menu.addAction(tr("Copy as text"), this, [this, row] {
        QGuiApplication::clipboard()->setText(finding_text(document_.findings()[findings_.finding_of(row)]));
    });
    menu.addSeparator();
    const bool muted = !findings_.reason(findings_.finding_of(row)).isEmpty();
    menu.addAction(muted ? tr("Unmute") : tr("Mute…"), this, &FindingsPanel::ask_mute);
    const std::size_t finding = findings_.finding_of(row);
    const Finding& f = document_.findings()[finding];
    const QString kind = words(finding_kind_name(f.kind));
    menu.addAction(tr("Only this kind"), this, [this, kind] { findings_.set_filter(kind, filter_->text()); });
    // What its text links to, for the keys.
    if (!f.involved.empty()) menu.addSeparator();
    QStringList names;
    for (std::size_t i = 0; i < f.involved.size() && names.size() < 8; ++i) {
        const QString name = words(f.involved[i].name);
        if (names.contains(name)) continue;
        names << name;
        if (f.involved[i].lane)
            menu.addAction(tr("Go to %1 there (%2)").arg(name, words(role_name(f.involved[i].role))), this,
                           [this, finding, i] { emit involved_chosen(finding, i); });
        menu.addAction(tr("Only what concerns %1").arg(name), this, [this, name] { filter_->setText(name); });
    }
    if (document_.trail()->cores.size() > 1 && !f.core.empty())
        menu.addAction(tr("Only %1").arg(words(f.core)), this,
                       [this, core = words(f.core)] { filter_->setText(core); });
    menu.exec(list_->viewport()->mapToGlobal(at));
}

void FindingsPanel::ask_mute() {
    if (current() < 0) return;
    const auto row = static_cast<std::size_t>(current());
    const auto say = [this](const Result<void>& done) {
        if (!done) emit told(words(done.error().text()), true);
        return done.has_value();
    };
    if (!findings_.reason(findings_.finding_of(row)).isEmpty()) {
        say(findings_.unmute(row));
        return;
    }
    bool given = false;
    const QString reason =
        QInputDialog::getText(this, tr("Mute this finding"), tr("Why it needs no attention (kept with the recording):"),
                              QLineEdit::Normal, {}, &given);
    if (!given) return;
    if (reason.trimmed().isEmpty()) {
        emit told(tr("Not muted: a reason is needed, so that others know why."), true);
        return;
    }
    if (say(findings_.mute(row, reason))) emit told(tr("Muted; kept in %1.").arg(findings_.muted_file()), false);
}

}  // namespace mt::app
