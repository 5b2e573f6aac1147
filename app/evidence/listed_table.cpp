#include "evidence/listed_table.h"

#include <QClipboard>
#include <QGuiApplication>
#include <QPainter>

#include <algorithm>

#include "look/theme.h"

namespace mt::app {

ListedTable::ListedTable(Document& document, Viewpoint& view, QWidget* parent) : RowTable(document, view, parent) {
    connect(&document, &Document::opened, this, [this] {
        if (finding_) finding_->cancel();
        use_stream(0);
    });
    connect(&document, &Document::grew, this, [this] { renew(); });
}

ListedTable::~ListedTable() {
    if (finding_) finding_->cancel();
}

void ListedTable::follow_cursor() {
    if (!wanted_ || !isVisible() || row_count() == 0) return;
    const std::uint64_t row = row_at_time(*wanted_);
    wanted_.reset();
    follow_to(row);
}

void ListedTable::paintEvent(QPaintEvent*) {
    QPainter p(viewport());
    paint_head(p, empty_text());
    each_row_shown(p, [&](std::uint64_t row, int y) {
        const QStringList cells = row_text(row);
        int x = 12;
        for (std::size_t c = 0; c < column_count() && c < static_cast<std::size_t>(cells.size()); ++c) {
            const int width = width_of(c);
            if (width == 0) continue;
            const Cell look = look_of(c);
            p.setFont(look.figure ? fixed_font(11) : text_font(11));
            p.setPen(look.second ? theme().second : theme().text);
            p.drawText(QRect(x, y, width - 8, kRow), Qt::AlignVCenter,
                       p.fontMetrics().elidedText(cells[static_cast<qsizetype>(c)], Qt::ElideRight, width - 8));
            x += width;
        }
    });
}

void ListedTable::copy_selected() {
    if (!current_ || !anchor_ || row_count() == 0) return;
    const std::uint64_t low = std::min(*current_, *anchor_),
                        high = std::min({std::max(*current_, *anchor_), low + kMostCopied - 1, row_count() - 1});
    QString text = value_heads().join('\t') + '\n';
    for (std::uint64_t row = low; row <= high; ++row)
        if (is_shown(shown(), row)) text += row_values(row).join('\t') + '\n';
    QGuiApplication::clipboard()->setText(text);
}

void ListedTable::find_text(const QString& text, bool forwards, std::function<void(const QString&)> done) {
    if (finding_) finding_->cancel();
    find_jobs_.clear();
    if (row_count() == 0 || text.trimmed().isEmpty()) return done(no_match(text, forwards));
    finding_ = std::make_shared<Progress>();
    const auto from = static_cast<std::int64_t>(current_.value_or(0));
    find_jobs_.add([this, scan = scan_for(text.trimmed()), text, forwards, from, stream = stream_, progress = finding_,
                    done = std::move(done)] {
        std::int64_t hit = -1;
        scan([&](const Rows& rows) {
            for (const std::uint64_t r : rows) {
                const auto row = static_cast<std::int64_t>(r);
                if (forwards ? row <= from : row >= from) continue;
                hit = row;
                if (forwards) break;
            }
            return !progress->cancelled() && (hit < 0 || !forwards);
        });
        QMetaObject::invokeMethod(
            this,
            [this, hit, text, forwards, stream, progress, done] {
                if (progress->cancelled() || stream != stream_) return;
                if (hit >= 0) go_to_row(hit, false);
                done(hit >= 0 ? QString() : no_match(text, forwards));
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
