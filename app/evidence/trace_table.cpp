#include "evidence/trace_table.h"

#include <QClipboard>
#include <QFileInfo>
#include <QGuiApplication>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollBar>

#include <algorithm>
#include <limits>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {
constexpr std::size_t kMostKept = 24;
bool has_text(const TraceEventText& e, const QString& text) {
    return words(e.kind + " " + e.name + " " + e.value + " " + e.detail).contains(text, Qt::CaseInsensitive);
}
QStringList cells_of(const TraceEventText& e) {
    return {words(moment_text(e.time)),  words(e.kind), words(e.name), words(e.value), words(e.detail),
            words(hex_text(e.offset, 8))};
}
}  // namespace

TraceTable::TraceTable(Document& document, Viewpoint& view, QWidget* parent) : RowTable(document, view, parent) {
    setAccessibleName(tr("Events of the operating system"));
    set_columns({tr("time"), tr("event"), tr("name"), tr("value"), tr("fields"), tr("offset")},
                {170, 160, 170, 150, 330, 110});
    connect(&document, &Document::opened, this, [this] { use_stream(0); });
    connect(&document, &Document::grew, this, [this] { renew(); });
}

TraceTable::~TraceTable() = default;

void TraceTable::use_stream(std::size_t stream) {
    ++turn_;
    jobs_.clear();
    packets_.clear();
    asked_.clear();
    RowTable::use_stream(stream);
}

bool TraceTable::has_something() const {
    const auto trail = document_.trail();
    return trail && !trail->tasks.streams.empty();
}

std::vector<EvidencePage::Stream> TraceTable::streams() const {
    std::vector<Stream> all;
    const auto trail = document_.trail();
    if (!trail) return all;
    for (const EventStream& s : trail->tasks.streams) {
        const auto core = std::find_if(trail->cores.begin(), trail->cores.end(),
                                       [&s](const CoreTrail& c) { return c.name == s.core; });
        all.push_back({words(s.core) + ": " + QFileInfo(words(s.file)).fileName(),
                       static_cast<std::size_t>(core - trail->cores.begin())});
    }
    return all;
}

const EventStream* TraceTable::events() const {
    const auto trail = document_.trail();
    return trail && stream_ < trail->tasks.streams.size() ? &trail->tasks.streams[stream_] : nullptr;
}

std::uint64_t TraceTable::row_count() const {
    // While a recording is made its packets are not listed: the rows come with the finished one.
    const EventStream* s = events();
    const auto recording = document_.recording();
    if (s == nullptr || !recording || !recording->events || stream_ >= recording->events->files.size() ||
        recording->events->files[stream_].packets.empty())
        return 0;
    return s->events;
}

std::pair<std::size_t, std::size_t> TraceTable::place_of(std::uint64_t row) const {
    const EventStream* s = events();
    const std::size_t n = s->first_event.upper_bound(row);
    const std::size_t packet = n == 0 ? 0 : n - 1;
    return {packet, static_cast<std::size_t>(row - s->first_event[packet])};
}

TraceTable::Texts TraceTable::packet(std::size_t index) {
    if (const auto found = packets_.find(index); found != packets_.end()) return found->second;
    if (!asked_.insert(index).second) return nullptr;
    jobs_.add(
        [this, index, stream = stream_, turn = turn_, recording = document_.recording(), trail = document_.trail()] {
            auto rows = std::make_shared<const std::vector<TraceEventText>>(
                trace_events_of_packet(*recording, *trail, stream, index));
            QMetaObject::invokeMethod(
                this,
                [this, index, turn, rows] {
                    if (turn != turn_) return;
                    while (packets_.size() >= kMostKept)
                        packets_.erase(packets_.begin()->first < index ? packets_.begin() : std::prev(packets_.end()));
                    packets_[index] = rows;
                    asked_.erase(index);
                    if (place_when_there_) place(*place_when_there_);
                    if (wanted_) follow_cursor();
                    viewport()->update();
                },
                Qt::QueuedConnection);
        });
    return nullptr;
}

const TraceEventText* TraceTable::find(std::uint64_t row, Texts& keep) {
    if (events() == nullptr || row >= row_count() || events()->first_event.empty()) return nullptr;
    const auto [index, at] = place_of(row);
    keep = packet(index);
    return keep && at < keep->size() ? &(*keep)[at] : nullptr;
}

std::optional<Time> TraceTable::time_of(std::uint64_t row) {
    Texts keep;
    const TraceEventText* e = find(row, keep);
    return e == nullptr ? std::nullopt : std::optional(e->time);
}

QStringList TraceTable::row_text(std::uint64_t row) {
    Texts keep;
    const TraceEventText* e = find(row, keep);
    return e == nullptr ? QStringList() : cells_of(*e);
}

void TraceTable::paintEvent(QPaintEvent*) {
    QPainter p(viewport());
    const Theme& t = theme();
    paint_head(p, document_.live()   ? tr("Events are listed here once the recording is finished.")
                  : document_.busy() ? tr("Nothing decoded yet.")
                                     : tr("No event was recorded."));
    each_row_shown(p, [&](std::uint64_t row, int y) {
        Texts keep;
        const TraceEventText* e = find(row, keep);
        if (e == nullptr) {
            p.setPen(t.second);
            p.drawText(QRect(12, y, 200, kRow), Qt::AlignVCenter, "…");
            return;
        }
        const QStringList cells = cells_of(*e);
        const bool interrupt = e->kind.rfind("isr_", 0) == 0, lock = e->kind.rfind("mutex_", 0) == 0,
                   task = e->kind.rfind("task_", 0) == 0, fault = e->kind == "fault";
        for (std::size_t c = 0, x = 12; c < column_count(); x += static_cast<std::size_t>(width_of(c)), ++c) {
            if (width_of(c) == 0) continue;
            const bool fixed = c == 0 || c == 5;
            p.setFont(fixed ? fixed_font(11) : text_font(12));
            p.setPen(c != 1      ? c == 4 ? t.second : t.text
                     : fault     ? t.finding
                     : interrupt ? t.interrupt.darker(t.night ? 90 : 115)
                     : lock      ? t.waiting.darker(t.night ? 90 : 115)
                     : task      ? t.land.darker(t.night ? 90 : 135)
                                 : t.text);
            const QRect cell(static_cast<int>(x), y, width_of(c) - 8, kRow);
            p.drawText(cell, Qt::AlignVCenter,
                       p.fontMetrics().elidedText(cells[static_cast<int>(c)], Qt::ElideRight, cell.width()));
        }
    });
}

void TraceTable::follow_cursor() {
    const auto recording = document_.recording();
    if (!wanted_ || !isVisible() || row_count() == 0 || !recording || !recording->events ||
        events()->first_event.empty())
        return;
    const auto& packets = recording->events->files[stream_].packets;
    const auto after = std::partition_point(packets.begin(), packets.end(), [&](const CtfPacket& p) {
        return recording->events->at(p.stream_class, p.begin) <= *wanted_;
    });
    const auto index = static_cast<std::size_t>(std::max<std::ptrdiff_t>(1, after - packets.begin()) - 1);
    if (index >= events()->first_event.size()) return;
    const Texts rows = packet(index);
    if (!rows) return;
    const auto at =
        std::partition_point(rows->begin(), rows->end(), [&](const TraceEventText& e) { return e.time < *wanted_; });
    wanted_.reset();
    follow_to(std::min<std::uint64_t>(events()->first_event[index] + static_cast<std::uint64_t>(at - rows->begin()),
                                      row_count() - 1));
}

void TraceTable::copy_selected() {
    if (!current_ || !anchor_) return;
    const auto low = std::min(*current_, *anchor_), high = std::min(std::max(*current_, *anchor_), low + kMostCopied);
    jobs_.add([this, low, high, only = shown(), stream = stream_, recording = document_.recording(),
               trail = document_.trail()] {
        const EventStream& s = trail->tasks.streams[stream];
        QString text;
        std::size_t index = s.first_event.upper_bound(low);
        for (index = index == 0 ? 0 : index - 1; index < s.first_event.size() && s.first_event[index] <= high;
             ++index) {
            std::uint64_t row = s.first_event[index];
            for (const auto& e : trace_events_of_packet(*recording, *trail, stream, index)) {
                if (row >= low && row <= high && is_shown(only, row)) text += cells_of(e).join('\t') + '\n';
                ++row;
            }
        }
        QMetaObject::invokeMethod(
            this, [text] { QGuiApplication::clipboard()->setText(text); }, Qt::QueuedConnection);
    });
}

RowTable::Scan TraceTable::scan_for(const QString& text) {
    return [text, trail = document_.trail(), recording = document_.recording(),
            stream = stream_](const std::function<bool(RowTable::Rows)>& found) {
        const EventStream& in = trail->tasks.streams[stream];
        for (std::size_t index = 0; index < in.first_event.size(); ++index) {
            std::uint64_t row = in.first_event[index];
            RowTable::Rows rows;
            for (const auto& e : trace_events_of_packet(*recording, *trail, stream, index)) {
                if (has_text(e, text)) rows.push_back(row);
                ++row;
            }
            if (!found(std::move(rows))) return;
        }
    };
}

void TraceTable::find_text(const QString& text, bool forwards, std::function<void(const QString&)> done) {
    const EventStream* s = events();
    if (s == nullptr || row_count() == 0 || s->first_event.empty() || text.trimmed().isEmpty())
        return done(no_match(text, forwards));
    const std::uint64_t from = current_.value_or(top_row());
    jobs_.add([this, text = text.trimmed(), forwards, from, done = std::move(done), stream = stream_,
               recording = document_.recording(), trail = document_.trail(), turn = turn_] {
        const EventStream& in = trail->tasks.streams[stream];
        std::int64_t hit = -1;
        const std::size_t n = in.first_event.upper_bound(from);
        for (std::int64_t index = static_cast<std::int64_t>(n == 0 ? 0 : n - 1);
             index >= 0 && index < static_cast<std::int64_t>(in.first_event.size()) && hit < 0;
             index += forwards ? 1 : -1) {
            std::uint64_t row = in.first_event[static_cast<std::size_t>(index)];
            for (const auto& e : trace_events_of_packet(*recording, *trail, stream, static_cast<std::size_t>(index))) {
                if ((forwards ? row > from : row < from) && (hit < 0 || !forwards) && has_text(e, text))
                    hit = static_cast<std::int64_t>(row);
                ++row;
            }
        }
        QMetaObject::invokeMethod(
            this,
            [this, hit, done, turn, text, forwards] {
                if (turn != turn_) return;
                if (hit >= 0) go_to_row(hit, false);
                done(hit >= 0 ? QString() : no_match(text, forwards));
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
