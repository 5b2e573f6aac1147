#include "overview/finding_card.h"

#include <QAbstractItemView>
#include <QPainter>
#include <QRegularExpression>
#include <QStyle>

#include <algorithm>

#include "base/text.h"
#include "look/shapes.h"
#include "look/html.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

constexpr std::size_t kMostEvidence = 4;

bool is_of_a_word(QChar c) { return c.isLetterOrNumber() || c == '_'; }

// The names of those involved become links, wherever they stand as whole words (longer names go before shorter ones),
// and places in the source, as catalog.c:7, and addresses of code.
QString with_links(const QString& text, const Finding& f) {
    struct Place {
        qsizetype begin, length;
        QString link;
    };
    std::vector<Place> places;
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < f.involved.size(); ++i)
        if (f.involved[i].lane && !f.involved[i].name.empty()) order.push_back(i);
    std::stable_sort(order.begin(), order.end(), [&f](std::size_t a, std::size_t b) {
        return f.involved[a].name.size() > f.involved[b].name.size();
    });
    for (const std::size_t i : order) {
        const QString name = words(f.involved[i].name);
        for (qsizetype at = text.indexOf(name); at >= 0; at = text.indexOf(name, at + name.size())) {
            const qsizetype end = at + name.size();
            const bool whole = (at == 0 || !is_of_a_word(text[at - 1]) || !is_of_a_word(name[0])) &&
                               (end == text.size() || !is_of_a_word(text[end]) || !is_of_a_word(name.back()));
            const bool taken = std::any_of(places.begin(), places.end(),
                                           [&](const Place& p) { return at < p.begin + p.length && p.begin < end; });
            if (whole && !taken) places.push_back({at, name.size(), QString("lane:%1").arg(i)});
        }
    }
    static const QRegularExpression in_source("[\\w.+-]+\\.[A-Za-z]+:\\d+|(?<= at )0x[0-9a-f]{6,16}");
    for (auto it = in_source.globalMatch(text); it.hasNext();) {
        const auto match = it.next();
        places.push_back({match.capturedStart(), match.capturedLength(), "place:" + match.captured()});
    }
    std::sort(places.begin(), places.end(), [](const Place& a, const Place& b) { return a.begin < b.begin; });
    QString html;
    qsizetype from = 0;
    for (const Place& p : places) {
        if (p.begin < from) continue;
        html += escaped(text.mid(from, p.begin - from)) + link_html(p.link, text.mid(p.begin, p.length));
        from = p.begin + p.length;
    }
    return html + escaped(text.mid(from));
}

QString place_line(const Finding& f, std::size_t place, std::size_t places, const QString& muted) {
    QString line = words(moment_text(f.begin)).section(' ', 0, 1) + " s";
    if (!f.core.empty()) line += " · " + words(f.core);
    if (f.alike > 1) line += " · " + QObject::tr("worst of %1").arg(words(count_text(f.alike)));
    if (places > 1) line += " · " + QObject::tr("place %1 of %2").arg(place + 1).arg(places);
    if (!muted.isEmpty()) line += " · " + QObject::tr("muted: %1").arg(muted);
    return line;
}

}  // namespace

QString finding_html(const Finding& f, bool open) {
    const QString cause = words(f.cause);
    QString html = "<p style=\"margin:0\">" + (open ? with_links(cause, f) : escaped(cause)) + "</p>";
    if (!open || f.evidence.empty() || f.kind == FindingKind::fault) return html;  // of faults the panel tells more
    html += "<table cellspacing=\"0\" cellpadding=\"0\" style=\"margin-top:4px\">";
    for (std::size_t i = 0; i < f.evidence.size() && i < kMostEvidence; ++i)
        html += QString("<tr><td style=\"padding-right:6px; white-space:pre\">%1</td><td>%2</td></tr>")
                    .arg(link_html(QString("time:%1").arg(f.evidence[i].time.ps),
                                   words(moment_text(f.evidence[i].time)).section(' ', 0, 1)),
                         with_links(words(f.evidence[i].what), f));
    html += "</table>";
    if (f.evidence.size() > kMostEvidence)
        html += "<p style=\"margin:0\">" +
                QObject::tr("and %1 more").arg(words(count_text(f.evidence.size() - kMostEvidence))) + "</p>";
    return html;
}

QString finding_text(const Finding& f) {
    QString text = words(f.title + "\n" + f.cause + "\n");
    for (const auto& e : f.evidence) text += words(ns_text(e.time) + " ns\t" + e.what) + "\n";
    return text;
}

FindingCards::FindingCards(Document& document, FindingList& list, QObject* parent)
    : QStyledItemDelegate(parent), document_(document), list_(list) {}

// As if the scroll bar were always there: what was measured without it must still fit once it comes.
int FindingCards::text_width(const QStyleOptionViewItem& option) {
    int width = option.rect.width();
    if (const auto* view = qobject_cast<const QAbstractItemView*>(option.widget))
        width = view->width() - view->style()->pixelMetric(QStyle::PM_ScrollBarExtent, nullptr, view);
    return std::max(80, width - 34);
}

void FindingCards::fill(QTextDocument& text, const QStyleOptionViewItem& option, const QModelIndex& index) const {
    const auto* view = qobject_cast<const QAbstractItemView*>(option.widget);
    const bool open = view != nullptr && view->currentIndex() == index;
    text.setDocumentMargin(0);
    text.setDefaultFont(text_font(11));
    const auto row = static_cast<std::size_t>(index.row());
    text.setHtml(QString("<div style=\"color:%1\">%2</div>")
                     .arg(theme().text.name(), finding_html(document_.findings()[list_.finding_of(row)], open)));
    text.setTextWidth(text_width(option));
}

QSize FindingCards::sizeHint(const QStyleOptionViewItem& option, const QModelIndex& index) const {
    QTextDocument text;
    fill(text, option, index);
    const auto& f = document_.findings()[list_.finding_of(static_cast<std::size_t>(index.row()))];
    const QFontMetrics title(text_font(12, true)), body(text_font(10));
    const int h =
        title.boundingRect(QRect(0, 0, text_width(option) - 22, 999), Qt::TextWordWrap, words(f.title)).height() +
        static_cast<int>(text.size().height()) + body.height();
    return {100, h + 30};
}

void FindingCards::paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const {
    const Theme& t = theme();
    const auto row = static_cast<std::size_t>(index.row());
    const std::size_t finding = list_.finding_of(row);
    const auto& f = document_.findings()[finding];
    const bool selected = (option.state & QStyle::State_Selected) != 0;
    const QRectF card = QRectF(option.rect).adjusted(8, 3, -8, -3);
    p->save();
    p->setRenderHint(QPainter::Antialiasing);
    p->setPen(QPen(selected ? t.finding : t.rule, selected ? 1.6 : 1));
    p->setBrush(selected ? t.selected : t.panel);
    p->drawRoundedRect(card, 5, 5);
    const QString muted = list_.reason(finding);
    p->setOpacity(muted.isEmpty() ? 1.0 : 0.55);
    draw_cairn(*p, card.left() + 15, card.top() + 23, 14);
    p->setFont(text_font(12, true));
    p->setPen(t.text);
    const int width = text_width(option);
    QRect used;
    p->drawText(QRect(static_cast<int>(card.left()) + 29, static_cast<int>(card.top()) + 7, width - 22, 400),
                Qt::TextWordWrap, words(f.title), &used);
    QTextDocument text;
    fill(text, option, index);
    p->save();
    p->translate(card.left() + 9, used.bottom() + 4);
    text.drawContents(p);
    p->restore();
    p->setFont(text_font(10));
    p->setPen(selected ? t.text : t.second);
    p->drawText(QRectF(card.left() + 9, used.bottom() + 6 + text.size().height(), width, 20), Qt::TextSingleLine,
                place_line(f, list_.place_of(row), list_.members(row).size(), muted));
    p->restore();
}

QString FindingCards::link_at(const QStyleOptionViewItem& option, const QModelIndex& index, const QPoint& at) const {
    const auto& f = document_.findings()[list_.finding_of(static_cast<std::size_t>(index.row()))];
    const QRect title = QFontMetrics(text_font(12, true))
                            .boundingRect(QRect(0, 0, text_width(option) - 22, 400), Qt::TextWordWrap, words(f.title));
    QTextDocument text;
    fill(text, option, index);
    const QPointF inside(at.x() - option.rect.left() - 17, at.y() - option.rect.top() - 10 - title.height() - 3);
    return text.documentLayout()->anchorAt(inside);
}

}  // namespace mt::app
