#include "evidence/packet_table.h"

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
PacketTable::PacketTable(Show show, Document& document, Viewpoint& view, BlockStore& store, QWidget* parent)
    : RowTable(document, view, parent), show_(show), store_(store) {
    setAccessibleName(show == Show::events ? tr("Events") : tr("Packets"));
    set_columns(headings(), show == Show::events ? std::vector<int>{170, 130, 190, 70, 120, 190, 110}
                                                 : std::vector<int>{110, 190, 170, 330, 170});
    connect(&document, &Document::opened, this, [this] {
        stream_ = 0;
        forget();
        renew();
    });
    connect(&document, &Document::grew, this, [this] { renew(); });
    connect(&store, &BlockStore::arrived, this, [this] {
        if (place_when_there_) place(*place_when_there_);
        if (wanted_) follow_cursor();
        viewport()->update();
    });
}

// Before anything is open the pages stand there and say what comes.
bool PacketTable::has_something() const {
    const auto trail = document_.trail();
    return !trail || !trail->streams.empty() || (trail->steps.empty() && !trail->tasks.present());
}

std::vector<EvidencePage::Stream> PacketTable::streams() const {
    std::vector<Stream> all;
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    if (!trail || !recording) return all;
    for (std::size_t i = 0; i < trail->streams.size(); ++i) {
        const StreamTrail& s = trail->streams[i];
        all.push_back({words(s.core) + ": " + QFileInfo(words(s.file)).fileName(), recording->streams[i].core});
    }
    return all;
}

std::uint64_t PacketTable::row_count() const {
    const auto trail = document_.trail();
    if (!trail || stream_ >= trail->streams.size()) return 0;
    return show_ == Show::events ? trail->streams[stream_].events : trail->streams[stream_].packets;
}

std::optional<Time> PacketTable::time_of(std::uint64_t row) {
    const Found found = find(row);
    return found.packet == nullptr ? std::nullopt : std::optional(found.packet->latest);
}

PacketTable::Found PacketTable::find(std::uint64_t row) {
    const auto trail = document_.trail();
    if (!trail || row >= row_count()) return {};
    const StreamTrail& s = trail->streams[stream_];
    const std::size_t block = show_ == Show::events ? block_of_event(s, row) : block_of_packet(s, row);
    Found found;
    found.block = store_.get(stream_, block);
    if (!found.block) return found;
    const std::uint64_t at =
        row - (show_ == Show::events ? found.block->block.first_event : found.block->block.first_packet);
    if (show_ == Show::events) {
        if (at < found.block->events.size()) found.packet = &found.block->block.packets[found.block->events[at]];
    } else if (at < found.block->block.packets.size()) {
        found.packet = &found.block->block.packets[at];
    }
    return found;
}

QStringList PacketTable::headings() const {
    if (show_ == Show::events)
        return {tr("time"), tr("event"), tr("name"), tr("number"), tr("value"), tr("place"), tr("offset")};
    return {tr("offset"), tr("bytes"), tr("kind"), tr("fields"), tr("time")};
}

QStringList PacketTable::texts(const StoredBlock& block, const TimedPacket& p) const {
    QString time = words(moment_text(p.latest));
    if (p.earliest != p.latest) time = "≤ " + time;
    const QString offset = words(hex_text(p.packet.offset, 8));
    if (show_ == Show::packets) {
        const auto bytes = block.block.bytes_of(p.packet);
        QString hex = words(hex_bytes(bytes.first(std::min<std::size_t>(bytes.size(), 8))));
        if (p.packet.length > 8) hex += " …";
        return {offset, hex,
                (p.packet.kind == ItmKind::exc_enter || p.packet.kind == ItmKind::exc_exit ||
                         p.packet.kind == ItmKind::exc_return
                     ? tr("exception")
                     : words(packet_label(p.packet.kind))),
                words(itm_detail(p.packet)), time};
    }
    const auto recording = document_.recording();
    const EventText e = event_text(*recording, stream_, p.packet);
    QString value = words(e.value), place;
    switch (p.packet.kind) {
        case ItmKind::pc:
        case ItmKind::data_pc: {
            value = words(hex_text(p.packet.value));
            const Image* image = recording->images[recording->streams[stream_].core].get();
            if (image != nullptr)
                if (const auto line = image->line_at(p.packet.value))
                    place = words(line->file).section('/', -1) + ":" + QString::number(line->line);
            break;
        }
        case ItmKind::port:
            if (p.packet.size == 1 && p.packet.value >= 32 && p.packet.value < 127)
                value += QString("  '%1'").arg(QChar(static_cast<char16_t>(p.packet.value)));
            break;
        case ItmKind::damage:
            value = tr("%1 bytes skipped (damaged)").arg(words(count_text(p.packet.length)));
            break;
        case ItmKind::counter:
        case ItmKind::extension:
            return {time, words(e.label), words(itm_detail(p.packet)), {}, value, {}, offset};
        default:
            break;
    }
    return {time, words(e.label), words(e.name), words(e.number), value, place, offset};
}

QStringList PacketTable::row_text(std::uint64_t row) {
    const Found found = find(row);
    return found.packet == nullptr ? QStringList() : texts(*found.block, *found.packet);
}

void PacketTable::paintEvent(QPaintEvent*) {
    QPainter p(viewport());
    const Theme& t = theme();
    paint_head(p, document_.trail() ? tr("Nothing decoded yet.") : tr("Open a recording to see what it holds."));
    each_row_shown(p, [&](std::uint64_t row, int y) {
        const Found found = find(row);
        if (found.packet == nullptr) {
            p.setPen(t.second);
            p.setFont(text_font(11));
            p.drawText(QRect(12, y, 200, kRow), Qt::AlignVCenter, "…");
            return;
        }
        const QStringList cells = texts(*found.block, *found.packet);
        const ItmKind kind = found.packet->packet.kind;
        const bool handler = kind == ItmKind::exc_enter || kind == ItmKind::exc_exit || kind == ItmKind::exc_return;
        const bool loss = kind == ItmKind::overflow || kind == ItmKind::damage;
        for (int c = 0, x = 12; c < cells.size(); x += width_of(static_cast<std::size_t>(c)), ++c) {
            if (width_of(static_cast<std::size_t>(c)) == 0) continue;
            const bool figures =
                show_ == Show::events ? c == 0 || c == 3 || c == 4 || c == 6 : c == 0 || c == 1 || c == 4;
            const bool named = show_ == Show::events ? c == 1 || c == 2 : c == 2;
            p.setFont(figures ? fixed_font(11) : text_font(12));
            p.setPen(named && loss      ? t.contour.darker(t.night ? 80 : 140)
                     : named && handler ? t.interrupt.darker(t.night ? 90 : 115)
                                        : t.text);
            const QRect cell(x, y, width_of(static_cast<std::size_t>(c)) - 8, kRow);
            p.drawText(cell, Qt::AlignVCenter, p.fontMetrics().elidedText(cells[c], Qt::ElideRight, cell.width()));
        }
    });
}

// Scrolls to the row of the cursor's time, as soon as the block that holds it has been decoded.
void PacketTable::follow_cursor() {
    const auto trail = document_.trail();
    if (!wanted_ || !isVisible() || !trail || stream_ >= trail->streams.size() || row_count() == 0) return;
    const StreamTrail& s = trail->streams[stream_];
    if (s.checkpoints.empty()) return;
    for (std::size_t b = block_of_time(s, *wanted_); b < s.checkpoints.size(); ++b) {
        const auto stored = store_.get(stream_, b);
        if (!stored) return;
        const auto& packets = stored->block.packets;
        if (show_ == Show::packets) {
            const auto at = std::find_if(packets.begin(), packets.end(),
                                         [&](const TimedPacket& p) { return p.latest >= *wanted_; });
            if (at == packets.end()) continue;
            current_ = stored->block.first_packet + static_cast<std::uint64_t>(at - packets.begin());
        } else {
            const auto at = std::find_if(stored->events.begin(), stored->events.end(),
                                         [&](std::uint32_t i) { return packets[i].latest >= *wanted_; });
            if (at == stored->events.end()) continue;
            current_ = stored->block.first_event + static_cast<std::uint64_t>(at - stored->events.begin());
        }
        break;
    }
    wanted_.reset();
    if (current_) follow_to(*current_);
}

namespace {

// What is looked for a text in: names first, the place costs a look into the line table.
QString searched(const Recording& recording, std::size_t stream, const TimedPacket& p, bool events) {
    if (!events) return words(packet_label(p.packet.kind) + " " + itm_detail(p.packet));
    const EventText e = event_text(recording, stream, p.packet);
    return words(e.label + " " + e.name + " " + e.number + " " + e.value);
}

}  // namespace

RowTable::Scan PacketTable::scan_for(const QString& text) {
    return [text, trail = document_.trail(), recording = document_.recording(), stream = stream_,
            events = show_ == Show::events](const std::function<bool(Rows)>& found) {
        const StreamTrail& s = trail->streams[stream];
        for (std::size_t b = 0; b < s.checkpoints.size(); ++b) {
            const PacketBlock block = decode_block(*recording, *trail, stream, b);
            std::uint64_t row = events ? block.first_event : block.first_packet;
            Rows rows;
            for (const TimedPacket& p : block.packets) {
                if (events && !itm_is_event(p.packet.kind)) continue;
                if (searched(*recording, stream, p, events).contains(text, Qt::CaseInsensitive)) rows.push_back(row);
                ++row;
            }
            if (!found(std::move(rows))) return;
        }
    };
}

void PacketTable::find_text(const QString& text, bool forwards, std::function<void(const QString&)> done) {
    const auto trail = document_.trail();
    if (!trail || row_count() == 0 || text.trimmed().isEmpty()) return done(no_match(text, forwards));
    const auto from = static_cast<std::int64_t>(current_.value_or(top_row()));
    // The row of the cursor may not be known yet: then its time says where to begin.
    store_.run(
        [this, text = text.trimmed(), forwards, from, at = wanted_, trail, recording = document_.recording(),
         stream = stream_] {
            const StreamTrail& s = trail->streams[stream];
            const auto start = static_cast<std::int64_t>(at ? block_of_time(s, *at)
                                                         : show_ == Show::events
                                                             ? block_of_event(s, static_cast<std::uint64_t>(from))
                                                             : block_of_packet(s, static_cast<std::uint64_t>(from)));
            const auto blocks = static_cast<std::int64_t>(s.checkpoints.size());
            for (std::int64_t b = start; b >= 0 && b < blocks; b += forwards ? 1 : -1) {
                StoredBlock stored;
                stored.block = decode_block(*recording, *trail, stream, static_cast<std::size_t>(b));
                auto row = static_cast<std::int64_t>(show_ == Show::events ? stored.block.first_event
                                                                           : stored.block.first_packet);
                std::int64_t hit = -1;
                for (const auto& p : stored.block.packets) {
                    if (show_ == Show::events && !itm_is_event(p.packet.kind)) continue;
                    const bool beyond = at         ? (forwards ? p.latest > *at : p.latest < *at)
                                        : forwards ? row > from
                                                   : row < from;
                    if (beyond && (hit < 0 || !forwards)) {
                        const QString line = searched(*recording, stream, p, show_ == Show::events);
                        if (line.contains(text, Qt::CaseInsensitive)) hit = row;
                    }
                    ++row;
                }
                if (hit >= 0) return QString::number(hit);
            }
            return QString();
        },
        [this, text, forwards, done = std::move(done)](const QString& row) {
            if (!row.isEmpty()) go_to_row(row.toLongLong(), false);
            done(row.isEmpty() ? no_match(text, forwards) : QString());
        });
}

void PacketTable::copy_selected() {
    const auto trail = document_.trail();
    if (!current_ || !trail) return;
    const std::uint64_t low = std::min(*current_, anchor_.value_or(*current_)),
                        high = std::max(*current_, anchor_.value_or(*current_));
    const std::uint64_t last = std::min(high, low + kMostCopied - 1);
    store_.run(
        [this, low, last, trail, recording = document_.recording(), stream = stream_, show = show_, only = shown()] {
            QString text;
            const StreamTrail& s = trail->streams[stream];
            std::size_t block = show == Show::events ? block_of_event(s, low) : block_of_packet(s, low);
            for (; block < s.checkpoints.size(); ++block) {
                StoredBlock stored;
                stored.block = decode_block(*recording, *trail, stream, block);
                std::uint64_t row = show == Show::events ? stored.block.first_event : stored.block.first_packet;
                for (const auto& p : stored.block.packets) {
                    if (show == Show::events && !itm_is_event(p.packet.kind)) continue;
                    if (row > last) return text;
                    if (row >= low && is_shown(only, row)) text += texts(stored, p).join('\t') + '\n';
                    ++row;
                }
            }
            return text;
        },
        [](const QString& text) { QGuiApplication::clipboard()->setText(text); });
}

}  // namespace mt::app
