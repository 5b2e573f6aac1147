#include "overview/moment_strip.h"

#include <QClipboard>
#include <QContextMenuEvent>
#include <QFontMetricsF>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QMenu>
#include <QTextDocumentFragment>

#include <algorithm>
#include <span>

#include "base/text.h"
#include "look/html.h"
#include "look/theme.h"
#include "look/words.h"
#include "navigate/moment_actions.h"
#include "measure/kinds/kinds.h"

namespace mt::app {
std::vector<MomentPiece> moment_pieces(const Trail& trail, Time t) {
    std::vector<MomentPiece> all;
    for (std::size_t c = 0; c < trail.cores.size(); ++c) {
        all.push_back({{trail.cores[c].name + ":", std::nullopt, true}, MomentPiece::core});
        // Where something is missing, that is all there is to say but for what else tells of the core.
        const bool missing = trail.gaps.touch(c, t, t);
        for (const LaneKind* kind : LaneKinds::all()) {
            if (missing && kind != &gaps_kind() && kind != &functions_kind()) continue;
            for (const Phrase& phrase : kind->moment(trail, c, t))
                for (std::size_t i = 0; i < phrase.size(); ++i)
                    all.push_back({phrase[i], i == 0 ? MomentPiece::phrase : MomentPiece::more});
        }
    }
    // What another device saw is no core's.
    const std::size_t of_cores = all.size();
    for (const LaneKind* kind : {&values_kind(), &states_kind()})
        for (const Phrase& phrase : kind->moment(trail, ValueLane::kNoCore, t)) {
            if (all.size() == of_cores) all.push_back({{"beside:", std::nullopt, true}, MomentPiece::core});
            for (std::size_t i = 0; i < phrase.size(); ++i)
                all.push_back({phrase[i], i == 0 ? MomentPiece::phrase : MomentPiece::more});
        }
    return all;
}

namespace {

QString colour_of(const SpanRef& span) {
    const bool night = theme().night;
    if (span.lane.kind == &interrupts_kind()) return night ? "#8A4326" : "#E6AE96";
    if (span.lane.kind == &tasks_kind()) return night ? "#3F5C22" : "#BFD6A2";
    return night ? "#1F5876" : "#A9CFE2";
}

// Links are numbered as they come.
QString sentence_of(std::span<const MomentPiece> pieces, std::vector<SpanRef>& links) {
    QString text;
    bool first = true;
    for (const MomentPiece& piece : pieces) {
        QString said = escaped(words(piece.said.text));
        if (piece.said.strong) said = "<b>" + said + "</b>";
        if (piece.said.link) {
            said = QString("<a href=\"%1\" style=\"color:%2; text-decoration:none\">%3</a>")
                       .arg(links.size())
                       .arg(colour_of(*piece.said.link), said);
            links.push_back(*piece.said.link);
        }
        if (piece.place == MomentPiece::core) text += (text.isEmpty() ? "" : " &nbsp; ") + said + " ";
        if (piece.place == MomentPiece::phrase) text += (first ? "" : " · ") + said;
        if (piece.place == MomentPiece::more) text += said;
        first = piece.place == MomentPiece::core;
    }
    return text;
}

// How many pieces fit into so many pixels; a phrase fits as a whole or not at all, a core's name only with one.
std::size_t fitting(const std::vector<MomentPiece>& pieces, const QFont& font, double room) {
    QFont bold = font;
    bold.setBold(true);
    const QFontMetricsF plain(font), strong(bold);
    double wide = 0;
    std::size_t fit = 0;
    for (std::size_t i = 0; i < pieces.size(); ++i) {
        const MomentPiece& piece = pieces[i];
        if (piece.place == MomentPiece::phrase) wide += plain.horizontalAdvance(QStringLiteral(" · "));
        if (piece.place == MomentPiece::core) wide += plain.horizontalAdvance(QStringLiteral("    "));
        wide += (piece.said.strong ? strong : plain).horizontalAdvance(words(piece.said.text));
        if (wide > room) break;
        const bool ends = i + 1 == pieces.size() || pieces[i + 1].place != MomentPiece::more;
        if (ends && piece.place != MomentPiece::core) fit = i + 1;
    }
    return fit;
}

}  // namespace

MomentStrip::MomentStrip(Document& document, Viewpoint& view, QWidget* parent)
    : QWidget(parent), document_(document), view_(view) {
    setAccessibleName(tr("Moment: what was going on at the cursor"));
    setAttribute(Qt::WA_StyledBackground);
    time_ = new QLabel;
    time_->setObjectName("moment_time");
    words_ = new QLabel;
    words_->setObjectName("moment_words");
    words_->setTextFormat(Qt::RichText);
    words_->setTextInteractionFlags(Qt::TextBrowserInteraction);
    words_->setContextMenuPolicy(Qt::NoContextMenu);  // the strip has one for all of it
    words_->setMinimumWidth(50);
    words_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 4, 12, 4);
    row->setSpacing(22);
    row->addWidget(time_);
    row->addWidget(words_, 1);
    more_ = new QLabel(QStringLiteral("…"));
    more_->setObjectName("moment_more");
    row->addWidget(more_);
    more_->hide();
    connect(words_, &QLabel::linkActivated, this, [this](const QString& link) {
        bool number = false;
        if (const std::size_t i = link.toULongLong(&number); number && i < links_.size()) emit span_chosen(links_[i]);
    });
    for (const auto signal : {&Document::opened, &Document::grew, &Document::finished})
        connect(&document, signal, this, &MomentStrip::renew);
    connect(&view, &Viewpoint::cursor_changed, this, &MomentStrip::renew);
    connect(&view, &Viewpoint::colours_changed, this, &MomentStrip::renew);
    renew();
}

QString MomentStrip::text() const { return QTextDocumentFragment::fromHtml(whole_).toPlainText(); }

QString MomentStrip::shown_text() const { return QTextDocumentFragment::fromHtml(words_->text()).toPlainText(); }

void MomentStrip::renew() {
    // The one dark strip in the light theme, and the one light strip at night: it is always found at once.
    const Theme& t = theme();
    const QColor back = t.night ? QColor("#E9E2D2") : QColor("#2B2A27"),
                 front = t.night ? QColor("#1D2124") : QColor("#F4EFE2");
    set_style(*this, QString("mt--app--MomentStrip { background: %2; } QLabel { color: %1; background: %2; }")
                         .arg(front.name(), back.name()));
    if (time_->font() != fixed_font(12, true)) time_->setFont(fixed_font(12, true));
    if (const QString time = words(moment_text(view_.cursor())); time_->text() != time) time_->setText(time);
    links_.clear();
    pieces_.clear();
    if (document_.trail()) pieces_ = moment_pieces(*document_.trail(), view_.cursor());
    whole_ = document_.trail() ? sentence_of(pieces_, links_) : tr("nothing is open");
    fit();
}

void MomentStrip::contextMenuEvent(QContextMenuEvent* e) {
    if (!document_.trail()) return;
    QMenu menu(this);
    menu.addAction(tr("Copy what it says"), this, [this] {
        QGuiApplication::clipboard()->setText(words(moment_text(view_.cursor())) + "\t" + text() + "\n");
    });
    for (const SpanRef& link : links_) {
        const Lane* lane = document_.lanes()->find(link.lane);
        if (lane != nullptr)
            menu.addAction(tr("Go to %1").arg(words(lane->name())), this, [this, link] { emit span_chosen(link); });
    }
    menu.addSeparator();
    add_moment_actions(menu, document_, view_, view_.cursor());
    menu.exec(e->globalPos());
}

void MomentStrip::fit() {
    const QMargins m = layout()->contentsMargins();
    const int room = width() - m.left() - m.right() - time_->sizeHint().width() - layout()->spacing();
    const std::size_t all = pieces_.size();
    std::size_t fit = fitting(pieces_, words_->font(), room);
    if (fit < all) fit = fitting(pieces_, words_->font(), room - layout()->spacing() - more_->sizeHint().width());
    const bool more = fit < all;
    std::vector<SpanRef> same;  // the first ones of links_
    const QString shown = more && fit > 0 ? sentence_of(std::span(pieces_).first(fit), same) : whole_;
    if (words_->text() != shown) words_->setText(shown);
    more_->setVisible(more);
    more_->setToolTip(more ? whole_ : QString());
}

void MomentStrip::resizeEvent(QResizeEvent* e) {
    QWidget::resizeEvent(e);
    fit();
}

}  // namespace mt::app
