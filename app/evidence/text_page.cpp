#include "evidence/text_page.h"

#include <QInputDialog>
#include <QMenu>
#include <QPainter>
#include <QRegularExpression>
#include <QSettings>

#include <algorithm>

#include "base/plain_text.h"
#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {
constexpr int kTime = 170;

// The logs that are text, as indices into the trail's.
std::vector<std::size_t> text_logs(const Trail& trail) {
    std::vector<std::size_t> all;
    for (std::size_t i = 0; i < trail.texts.size(); ++i)
        if (trail.texts[i].is_text()) all.push_back(i);
    return all;
}
// The findings' colour stays theirs.
constexpr const char* kColours[] = {QT_TRANSLATE_NOOP("TextPage", "brick"), QT_TRANSLATE_NOOP("TextPage", "moss"),
                                    QT_TRANSLATE_NOOP("TextPage", "lake"), QT_TRANSLATE_NOOP("TextPage", "violet"),
                                    QT_TRANSLATE_NOOP("TextPage", "grey")};
QColor colour_of(int n) {
    const Theme& t = theme();
    const QColor all[] = {t.interrupt, t.land, t.measure, t.waiting, t.second};
    return all[static_cast<std::size_t>(std::clamp(n, 0, 4))];
}
}  // namespace

TextPage::TextPage(Document& document, Viewpoint& view, QWidget* parent) : ListedTable(document, view, parent) {
    setAccessibleName(tr("Text printed by the firmware"));
    set_columns({tr("time"), tr("text")}, {kTime, 900});
    input_ = new QLineEdit(this);
    input_->setObjectName("text_input");
    input_->setPlaceholderText(tr("Type to the target; Enter sends the line"));
    input_->setAccessibleName(tr("Input of the target's console"));
    input_->hide();
    connect(input_, &QLineEdit::returnPressed, this, [this] {
        emit typed(input_->text());
        input_->clear();
    });
    for (const QString& entry : QSettings().value("text/coloured").toStringList())  // "2 warning"
        if (const int blank = static_cast<int>(entry.indexOf(' ')); blank > 0)
            coloured_.push_back({entry.mid(blank + 1), entry.left(blank).toInt()});
}

void TextPage::set_console(bool on) {
    if (on == !input_->isHidden()) return;
    input_->setVisible(on);
    setViewportMargins(0, 0, 0, on ? input_->sizeHint().height() + 4 : 0);
    resizeEvent(nullptr);
}

void TextPage::resizeEvent(QResizeEvent* event) {
    ListedTable::resizeEvent(event);
    const int high = input_->sizeHint().height();
    input_->setGeometry(2, height() - high - 2, width() - 4, high);
}

std::vector<EvidencePage::Stream> TextPage::streams() const {
    std::vector<Stream> all;
    const auto trail = document_.trail();
    if (!trail) return all;
    for (const std::size_t i : text_logs(*trail)) {
        const TextLog& log = trail->texts[i];
        all.push_back({words(trail->cores[log.core].name) + ": " + words(log.name), log.core});
    }
    return all;
}

const TextLog* TextPage::log() const {
    const auto trail = document_.trail();
    if (!trail) return nullptr;
    const auto logs = text_logs(*trail);
    return stream_ < logs.size() ? &trail->texts[logs[stream_]] : nullptr;
}

std::uint64_t TextPage::row_count() const { return log() == nullptr ? 0 : log()->size(); }

std::optional<Time> TextPage::time_of(std::uint64_t row) {
    return row < row_count() ? std::optional(log()->line(static_cast<std::size_t>(row)).begin) : std::nullopt;
}

QStringList TextPage::row_text(std::uint64_t row) const {
    if (row >= row_count()) return {};
    const auto i = static_cast<std::size_t>(row);
    return {words(moment_text(log()->line(i).begin)), words(plain_text(log()->raw(i)))};
}

// The last line that had begun by then.
std::uint64_t TextPage::row_at_time(Time t) const {
    const std::size_t after = log()->first_from(t + Time{1});
    return after == 0 ? 0 : after - 1;
}

void TextPage::paintEvent(QPaintEvent*) {
    QPainter p(viewport());
    const Theme& t = theme();
    paint_head(p, empty_text());
    const int time = width_of(0);
    each_row_shown(p, [&](std::uint64_t row, int y) {
        const QStringList cells = row_text(row);
        p.setFont(fixed_font(11));
        p.setPen(t.second);
        if (time > 0) p.drawText(QRect(12, y, time - 8, kRow), Qt::AlignVCenter, cells[0]);
        if (width_of(1) == 0) return;
        p.setPen(t.text);
        for (const Coloured& c : coloured_)
            if (cells[1].contains(c.word, Qt::CaseInsensitive)) {
                p.setPen(colour_of(c.colour));
                break;
            }
        int x = 12 + time;
        if ((log()->line(static_cast<std::size_t>(row)).flags & TextLine::kTorn) != 0) {  // bytes may be missing
            p.setPen(t.contour.darker(t.night ? 80 : 140));
            p.drawText(QRect(x, y, 16, kRow), Qt::AlignVCenter, "≁");
            x += 16;
        }
        const QRect cell(x, y, viewport()->width() - x - 8, kRow);
        p.drawText(cell, Qt::AlignVCenter, p.fontMetrics().elidedText(cells[1], Qt::ElideRight, cell.width()));
    });
}

void TextPage::set_colour(const QString& word, int colour) {
    std::erase_if(coloured_, [&](const Coloured& c) { return c.word.compare(word, Qt::CaseInsensitive) == 0; });
    if (colour >= 0) coloured_.push_back({word, colour});
    QStringList kept;
    for (const Coloured& c : coloured_) kept << QString::number(c.colour) + " " + c.word;
    QSettings().setValue("text/coloured", kept);
    viewport()->update();
}

// By the words of the line that was chosen, or any other.
void TextPage::add_to_menu(QMenu& menu) {
    QMenu* colours = menu.addMenu(tr("Colour lines with a word"));
    for (int n = 0; n < 5; ++n)
        colours->addAction(tr(kColours[n]), this, [this, n] {
            static const QRegularExpression letters("[^\\w]+");
            QString usual;
            for (const QString& word : row_text(current_.value_or(0)).value(1).split(letters, Qt::SkipEmptyParts))
                if (word.size() > usual.size()) usual = word;
            bool given = false;
            const QString word = QInputDialog::getText(this, tr("Colour lines"), tr("Lines that contain:"), QLineEdit::Normal,
                                                       usual, &given);
            if (given && !word.trimmed().isEmpty()) set_colour(word.trimmed(), n);
        });
    if (!coloured_.empty()) colours->addSeparator();
    for (const Coloured& c : coloured_)
        colours->addAction(tr("No longer colour “%1”").arg(c.word), this, [this, word = c.word] { set_colour(word, -1); });
    menu.addSeparator();
}

QStringList TextPage::row_values(std::uint64_t row) const {
    const auto i = static_cast<std::size_t>(row);
    return {words(ns_text(log()->line(i).begin)), words(plain_text(log()->raw(i)))};
}

RowTable::Scan TextPage::scan_for(const QString& text) {
    return [text, trail = document_.trail(), log = log()](const std::function<bool(Rows)>& found) {
        constexpr std::size_t batch = 4096;
        for (std::size_t i = 0; i < log->size(); i += batch) {
            Rows rows;
            for (std::size_t k = i; k < std::min(i + batch, log->size()); ++k)
                if (words(plain_text(log->raw(k))).contains(text, Qt::CaseInsensitive)) rows.push_back(k);
            if (!found(std::move(rows))) return;
        }
    };
}

}  // namespace mt::app
