// A finding as a card: title, cause, place; opened with its evidence, and every name and time in it a link.
#pragma once

#include <QAbstractTextDocumentLayout>
#include <QStyledItemDelegate>
#include <QTextDocument>

#include "document/finding_list.h"

namespace mt::app {

/// Its text as HTML. Links are "lane:N" for the activity that is involved as number N, "time:PS" for a moment,
/// "place:catalog.c:7" or "place:0x8000112" for a place in the program.
/// `open`: with its evidence and with links.
QString finding_html(const Finding& finding, bool open);
/// The same as plain text with exact times, for copying.
QString finding_text(const Finding& finding);

/// Draws rows of a list of findings; the selected one is open. Knows which link lies at a point.
class FindingCards : public QStyledItemDelegate {
    Q_OBJECT
  public:
    FindingCards(Document& document, FindingList& list, QObject* parent);
    QSize sizeHint(const QStyleOptionViewItem& option, const QModelIndex& index) const override;
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override;
    /// Empty if there is none. `at` in the coordinates of the list.
    QString link_at(const QStyleOptionViewItem& option, const QModelIndex& index, const QPoint& at) const;

  private:
    void fill(QTextDocument& text, const QStyleOptionViewItem& option, const QModelIndex& index) const;
    static int text_width(const QStyleOptionViewItem& option);
    Document& document_;
    FindingList& list_;
};

}  // namespace mt::app
