#include "findings_panel.h"

#include <QAbstractItemView>
#include <QClipboard>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <QStyle>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include "base/text.h"
#include "shapes.h"
#include "theme.h"

namespace mt::app {
namespace {

QString place_line(const Finding& f) {
    QString line = QString::fromStdString(moment_text(f.begin)).section(' ', 0, 1) + " s";
    if (!f.core.empty()) line += " · " + QString::fromStdString(f.core);
    if (f.alike > 1) line += " · " + QObject::tr("worst of %1").arg(QString::fromStdString(count_text(f.alike)));
    return line;
}

class FindingDelegate : public QStyledItemDelegate {
  public:
    FindingDelegate(Session& session, QObject* parent) : QStyledItemDelegate(parent), session_(session) {}

    QSize sizeHint(const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const auto& f = session_.findings()[static_cast<std::size_t>(index.row())];
        const int width = text_width(option);
        const QFontMetrics title(text_font(12, true)), body(text_font(11));
        const int h =
            title.boundingRect(QRect(0, 0, width - 22, 999), Qt::TextWordWrap, QString::fromStdString(f.title))
                .height() +
            body.boundingRect(QRect(0, 0, width, 999), Qt::TextWordWrap, QString::fromStdString(f.cause)).height() +
            body.height();
        return {100, h + 28};
    }
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const Theme& t = theme();
        const auto& f = session_.findings()[static_cast<std::size_t>(index.row())];
        const bool selected = (option.state & QStyle::State_Selected) != 0;
        const QRectF card = QRectF(option.rect).adjusted(8, 3, -8, -3);
        p->save();
        p->setRenderHint(QPainter::Antialiasing);
        p->setPen(QPen(selected ? t.finding : t.rule, selected ? 1.6 : 1));
        p->setBrush(selected ? t.selected : t.panel);
        p->drawRoundedRect(card, 5, 5);
        draw_cairn(*p, card.left() + 15, card.top() + 23, 14);
        p->setFont(text_font(12, true));
        p->setPen(t.text);
        const int width = text_width(option);
        QRect used;
        p->drawText(QRect(static_cast<int>(card.left()) + 29, static_cast<int>(card.top()) + 7, width - 22, 400),
                    Qt::TextWordWrap, QString::fromStdString(f.title), &used);
        int y = used.bottom() + 4;
        p->setFont(text_font(11));
        p->drawText(QRect(static_cast<int>(card.left()) + 9, y, width, 600), Qt::TextWordWrap,
                    QString::fromStdString(f.cause), &used);
        y = used.bottom() + 3;
        p->setFont(text_font(10));
        p->setPen(selected ? t.text : t.second);
        p->drawText(QRect(static_cast<int>(card.left()) + 9, y, width, 20), Qt::TextSingleLine, place_line(f));
        p->restore();
    }

  private:
    static int text_width(const QStyleOptionViewItem& option) {
        int width = option.rect.width();
        // As if the scroll bar were always there: what was measured without it must still fit once it comes.
        if (const auto* view = qobject_cast<const QAbstractItemView*>(option.widget))
            width = view->width() - view->style()->pixelMetric(QStyle::PM_ScrollBarExtent, nullptr, view);
        return std::max(80, width - 34);
    }
    Session& session_;
};

}  // namespace

int FindingsModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(session_.findings().size());
}

QVariant FindingsModel::data(const QModelIndex& index, int role) const {
    const auto& f = session_.findings()[static_cast<std::size_t>(index.row())];
    if (role == Qt::DisplayRole) return QString::fromStdString(f.title);
    if (role == Qt::AccessibleTextRole) return QString::fromStdString(f.title + ". " + f.cause);
    if (role == Qt::ToolTipRole) {
        QString text;
        for (const auto& e : f.evidence) text += QString::fromStdString(moment_text(e.time) + "  " + e.what) + "\n";
        return text.trimmed();
    }
    return {};
}

void FindingsModel::renew() {
    beginResetModel();
    endResetModel();
}

FindingsPanel::FindingsPanel(Session& session, QWidget* parent)
    : QWidget(parent), session_(session), model_(new FindingsModel(session, this)) {
    setAccessibleName(tr("Findings"));
    auto* heading = new QLabel(tr("Findings"));
    heading->setFont(text_font(13, true));
    count_ = new QLabel;
    count_->setObjectName("findings_count");
    auto* top = new QHBoxLayout;
    top->setContentsMargins(12, 8, 12, 2);
    top->addWidget(heading);
    top->addStretch();
    top->addWidget(count_);
    list_ = new QListView;
    list_->setObjectName("findings");
    list_->setAccessibleName(tr("Findings, worst first"));
    list_->setModel(model_);
    list_->setItemDelegate(new FindingDelegate(session, list_));
    list_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    list_->setResizeMode(QListView::Adjust);
    list_->setContextMenuPolicy(Qt::CustomContextMenu);
    empty_ = new QLabel;
    empty_->setObjectName("findings_empty");
    empty_->setWordWrap(true);
    empty_->setContentsMargins(14, 8, 14, 8);
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(2);
    all->addLayout(top);
    all->addWidget(empty_);
    all->addWidget(list_, 1);
    setMinimumWidth(190);
    connect(list_, &QListView::clicked, this, [this](const QModelIndex& i) { emit chosen(i.row()); });
    connect(list_, &QListView::activated, this, [this](const QModelIndex& i) { emit chosen(i.row()); });
    connect(list_, &QListView::customContextMenuRequested, this, [this](const QPoint& at) {
        const QModelIndex index = list_->indexAt(at);
        if (!index.isValid()) return;
        QMenu menu;
        const auto* copy = menu.addAction(tr("Copy as text"));
        if (menu.exec(list_->viewport()->mapToGlobal(at)) == copy) {
            const auto& f = session_.findings()[static_cast<std::size_t>(index.row())];
            QString text = QString::fromStdString(f.title + "\n" + f.cause + "\n");
            for (const auto& e : f.evidence) text += QString::fromStdString(ns_text(e.time) + " ns\t" + e.what) + "\n";
            QGuiApplication::clipboard()->setText(text);
        }
    });
    connect(&session, &Session::opened, this, &FindingsPanel::renew);
    connect(&session, &Session::finished, this, &FindingsPanel::renew);
    renew();
}

void FindingsPanel::renew() {
    model_->renew();
    const auto n = session_.findings().size();
    count_->setText(session_.trail() && !session_.busy() ? QString::number(n) : QString());
    empty_->setVisible(n == 0);
    list_->setVisible(n > 0);
    if (!session_.trail())
        empty_->setText(tr("Open a recording: what is unusual in it will be listed here."));
    else if (session_.busy())
        empty_->setText(tr("Decoding. Findings come when the whole recording has been seen."));
    else
        empty_->setText(
            tr("Nothing unusual found. Every interrupt and task kept its period and its usual duration, and nothing "
               "was lost."));
    static_cast<QVBoxLayout*>(layout())->setStretch(1, n == 0 ? 1 : 0);
    empty_->setAlignment(Qt::AlignTop | Qt::AlignLeft);
    if (n > 0) list_->setCurrentIndex(model_->index(0));
}

void FindingsPanel::select(int index) {
    if (index >= 0 && index < model_->rowCount()) list_->setCurrentIndex(model_->index(index));
}

int FindingsPanel::current() const { return list_->currentIndex().isValid() ? list_->currentIndex().row() : -1; }

}  // namespace mt::app
