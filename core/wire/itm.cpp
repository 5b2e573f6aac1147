#include "wire/itm.h"

#include <algorithm>
#include <cstring>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::size_t kItmNeedsMore = 0;
constexpr std::size_t kNoItmPacket = ~std::size_t{0};

std::uint64_t little_endian(const std::uint8_t* p, std::size_t n) {
    std::uint64_t v = 0;
    for (std::size_t i = 0; i < n; ++i) v |= std::uint64_t{p[i]} << (8 * i);
    return v;
}

// Seven bits a byte while bit 7 says that more follows. Returns the bytes used, kItmNeedsMore, or kNoItmPacket
// when the last byte that the format allows still asks for more.
std::size_t continued(const std::uint8_t* p, std::size_t n, std::size_t most, std::uint64_t& value) {
    value = 0;
    for (std::size_t i = 0; i < most; ++i) {
        if (i == n) return kItmNeedsMore;
        value |= std::uint64_t{p[i] & 0x7Fu} << (7 * i);
        if ((p[i] & 0x80) == 0) return i + 1;
    }
    return kNoItmPacket;
}

}  // namespace

void ItmDecoder::give_up(std::uint64_t offset, std::uint64_t bytes, ItmDamage reason, std::vector<ItmPacket>& out) {
    if (start_ == Start::at_once) {  // no synchronisation will come: only these bytes are lost, as far as known
        if (bytes > 0) out.push_back({offset, 0, bytes, static_cast<std::uint16_t>(reason), ItmKind::damage, 0});
        return;
    }
    hunting_ = true;
    in_zeros_ = false;
    zeros_ = 0;
    page_ = 0;
    damage_at_ = offset;
    reason_ = reason;
}

// Decodes one packet whose header is p[0] (not a zero). Returns its length, kItmNeedsMore or kNoItmPacket; a bad
// one has been given up.
std::size_t ItmDecoder::packet(const std::uint8_t* p, std::size_t n, std::uint64_t offset,
                               std::vector<ItmPacket>& out) {
    const std::uint8_t header = p[0];
    const auto bad = [&](ItmDamage reason) {
        give_up(offset, 1, reason, out);
        return kNoItmPacket;
    };
    const auto emitted = [&](ItmKind kind, std::size_t length, std::uint64_t value, unsigned number, std::size_t size) {
        out.push_back(
            {offset, value, length, static_cast<std::uint16_t>(number), kind, static_cast<std::uint8_t>(size)});
        return length;
    };

    if ((header & 3) != 0) {  // D4.2.7: a source packet of 1, 2 or 4 bytes
        const std::size_t size = (header & 3) == 3 ? 4 : (header & 3);
        const unsigned id = header >> 3;
        const bool hardware = (header & 4) != 0;
        // A reserved discriminator is no packet at all, whatever follows it.
        if (hardware && ((id > 3 && id < 8) || id > 23)) return bad(ItmDamage::reserved_header);
        if (n < 1 + size) return kItmNeedsMore;
        const std::uint64_t value = little_endian(p + 1, size);
        if (!hardware) return emitted(ItmKind::port, 1 + size, value, page_ * 32u + id, size);
        switch (id) {
            case 0:  // D4.3.1
                if (size != 1 || value == 0 || value > 0x3F) return bad(ItmDamage::bad_counter);
                return emitted(ItmKind::counter, 2, value, 0, size);
            case 1: {  // D4.3.2: exception number 8:0, function 13:12, the rest zero
                const unsigned number = value & 0x1FF, function = (value >> 12) & 3;
                const bool reserved = (number >= 8 && number <= 10) || number == 13;
                if (size != 2 || (value & 0xCE00) != 0 || function == 0 || reserved || (number == 0 && function != 3))
                    return bad(ItmDamage::bad_exception);
                constexpr ItmKind kinds[] = {ItmKind::damage, ItmKind::exc_enter, ItmKind::exc_exit,
                                             ItmKind::exc_return};
                return emitted(kinds[function], 3, 0, number, size);
            }
            case 2:  // D4.3.3
                if (size == 4) {
                    if ((value & 1) != 0) return bad(ItmDamage::bad_sample);
                    return emitted(ItmKind::pc, 5, value, 0, size);
                }
                if (size == 1 && value == 0) return emitted(ItmKind::sleep, 2, value, 0, size);
                if (size == 1 && value == 0xFF) return emitted(ItmKind::pc_prohibited, 2, value, 0, size);
                return bad(ItmDamage::bad_sample);
            case 3:  // F1, Armv8.1-M performance monitors
                if (size != 1 || value == 0) return bad(ItmDamage::bad_counter);
                return emitted(ItmKind::pmu_overflow, 2, value, 0, size);
            default:
                break;
        }
        const unsigned comparator = (id >> 1) & 3;
        if (id >= 16)  // D4.3.4: discriminators 16 to 23, data value; bit 3 of the header tells writes
            return emitted((id & 1) != 0 ? ItmKind::data_write : ItmKind::data_read, 1 + size, value, comparator, size);
        if ((id & 1) == 0) {
            if (size == 4) return emitted(ItmKind::data_pc, 5, value, comparator, size);
            if (size == 1 && value == 1) return emitted(ItmKind::data_match, 2, value, comparator, size);
            return bad(ItmDamage::reserved_header);
        }
        if (size != 2) return bad(ItmDamage::reserved_header);
        return emitted(ItmKind::data_offset, 3, value, comparator, size);
    }

    std::uint64_t value = 0;
    if (header == 0x70) return emitted(ItmKind::overflow, 1, 0, 0, 0);
    if ((header & 0x0F) == 0) {  // D4.2.4
        if ((header & 0x80) == 0) return emitted(ItmKind::local_time_2, 1, header >> 4, 0, 0);
        if ((header & 0x40) == 0) return bad(ItmDamage::reserved_header);
        const std::size_t used = continued(p + 1, n - 1, 4, value);
        if (used == kItmNeedsMore) return kItmNeedsMore;
        if (used == kNoItmPacket) return bad(ItmDamage::bad_timestamp);
        return emitted(ItmKind::local_time_1, 1 + used, value, (header >> 4) & 3, used);
    }
    if (header == 0x94) {  // D4.2.5, format 1: the fourth byte holds bits 25:21, ClkCh and Wrap
        const std::size_t used = continued(p + 1, n - 1, 4, value);
        if (used == kItmNeedsMore) return kItmNeedsMore;
        if (used == kNoItmPacket) return bad(ItmDamage::bad_timestamp);
        return emitted(ItmKind::global_time_1, 1 + used, value & 0x3FF'FFFF, (value >> 26) & 3, used);
    }
    if (header == 0xB4) {  // D4.2.5, format 2: 48-bit timestamps take four bytes, 64-bit ones six
        const std::size_t used = continued(p + 1, n - 1, 6, value);
        if (used == kItmNeedsMore) return kItmNeedsMore;
        if (used == kNoItmPacket || value > 0x3F'FFFF'FFFF) return bad(ItmDamage::bad_timestamp);
        return emitted(ItmKind::global_time_2, 1 + used, value, 0, used);
    }
    if ((header & 0x0B) == 0x08) {  // D4.2.6: EX[2:0] in the header, then up to four bytes, the last with 8 bits
        std::size_t used = 1;
        value = (header >> 4) & 7;
        bool more = (header & 0x80) != 0;
        for (unsigned shift = 3; more; shift += 7, ++used) {
            if (used == n) return kItmNeedsMore;
            const bool last = used == 4;
            value |= std::uint64_t{last ? p[used] : p[used] & 0x7Fu} << shift;
            more = !last && (p[used] & 0x80) != 0;
        }
        const bool from_hardware = (header & 4) != 0;
        if (!from_hardware && used == 1) {
            page_ = static_cast<std::uint8_t>(value);
            return emitted(ItmKind::page, 1, value, page_, 0);
        }
        return emitted(ItmKind::extension, used, value, from_hardware ? 1 : 0, used - 1);
    }
    return bad(ItmDamage::reserved_header);
}

// Returns the bytes used; what is left is the start of a packet that needs more bytes.
std::size_t ItmDecoder::parse(const std::uint8_t* p, std::size_t n, std::uint64_t offset, std::vector<ItmPacket>& out,
                              std::size_t most) {
    std::size_t i = 0;
    while (i < n && out.size() < most) {
        if (hunting_ || in_zeros_) {
            const std::uint8_t b = p[i];
            if (b == 0) {
                if (zeros_++ == 0) zeros_at_ = offset + i;
                ++i;
                continue;
            }
            if (b == 0x80 && zeros_ >= 5) {
                if (hunting_ && (zeros_at_ > damage_at_ || reason_ == ItmDamage::not_received))
                    out.push_back({damage_at_, 0, zeros_at_ - damage_at_, static_cast<std::uint16_t>(reason_),
                                   ItmKind::damage, 0});
                out.push_back({zeros_at_, 0, zeros_ + 1, 0, ItmKind::sync, 0});
                hunting_ = in_zeros_ = false;
            } else if (in_zeros_) {
                const std::uint64_t count = zeros_;
                in_zeros_ = false;
                zeros_ = 0;
                give_up(zeros_at_, count, ItmDamage::bad_sync, out);
                if (!hunting_) continue;  // the byte behind the zeros may begin a packet
            }
            zeros_ = 0;
            ++i;
            continue;
        }
        if (n - i >= kPlainBytes) {
            ItmPacket k;
            std::size_t used = plain_time(p + i, k);
            if (used == 0) used = plain(p + i, k);
            if (used != 0) {
                k.offset = offset + i;
                out.push_back(k);
                i += used;
                continue;
            }
        }
        if (p[i] == 0) {
            in_zeros_ = true;
            zeros_ = 0;
            continue;
        }
        const std::size_t used = packet(p + i, n - i, offset + i, out);
        if (used == kItmNeedsMore) break;
        i += used == kNoItmPacket ? 1 : used;
    }
    return i;
}

std::size_t ItmDecoder::feed(std::span<const std::uint8_t> bytes, std::vector<ItmPacket>& out, std::size_t most) {
    std::size_t skip = 0;
    if (held_size_ > 0 && !bytes.empty()) {
        std::array<std::uint8_t, 24> joined{};
        const std::size_t held = held_size_, fresh = std::min<std::size_t>(bytes.size(), 16);
        std::memcpy(joined.data(), held_.data(), held);
        std::memcpy(joined.data() + held, bytes.data(), fresh);
        const std::size_t used = parse(joined.data(), held + fresh, position_ - held, out, ~std::size_t{0});
        if (used < held) {  // only when everything fed so far is still too short
            held_size_ = static_cast<std::uint8_t>(held + fresh - used);
            std::memmove(held_.data(), joined.data() + used, held_size_);
            position_ += bytes.size();
            return bytes.size();
        }
        held_size_ = 0;
        skip = used - held;
    }
    const std::size_t used = skip + parse(bytes.data() + skip, bytes.size() - skip, position_ + skip, out, most);
    if (out.size() >= most) {
        position_ += used;
        return used;
    }
    if (used < bytes.size()) {
        held_size_ = static_cast<std::uint8_t>(bytes.size() - used);
        std::memcpy(held_.data(), bytes.data() + used, held_size_);
    }
    position_ += bytes.size();
    return bytes.size();
}

void ItmDecoder::lose_source(std::vector<ItmPacket>& out, ItmDamage reason) {
    const std::uint64_t from = in_zeros_ ? zeros_at_ : position_ - held_size_;
    held_size_ = 0;
    if (hunting_) {
        zeros_ = 0;
        if (position_ > 0 && reason == ItmDamage::not_received) reason_ = reason;
        return;
    }
    in_zeros_ = false;
    zeros_ = 0;
    if (start_ == Start::at_once && reason == ItmDamage::not_received)
        out.push_back({from, 0, position_ - from, static_cast<std::uint16_t>(reason), ItmKind::damage, 0});
    else
        give_up(from, position_ - from, reason, out);
}

void ItmDecoder::finish(std::vector<ItmPacket>& out) {
    if (hunting_) {
        if (position_ > damage_at_)
            out.push_back(
                {damage_at_, 0, position_ - damage_at_, static_cast<std::uint16_t>(reason_), ItmKind::damage, 0});
    } else if (held_size_ > 0 || in_zeros_) {
        const std::uint64_t from = in_zeros_ ? zeros_at_ : position_ - held_size_;
        if (position_ > from)
            out.push_back(
                {from, 0, position_ - from, static_cast<std::uint16_t>(ItmDamage::cut_short), ItmKind::damage, 0});
    }
    held_size_ = 0;
    in_zeros_ = false;
    hunting_ = start_ == Start::at_sync;
    damage_at_ = position_;
}

std::string_view itm_kind_name(ItmKind kind) {
    constexpr std::array<std::string_view, kItmKinds> names = {
        "sync",         "overflow",   "lts1",      "lts2",        "gts1",       "gts2",       "page",  "extension",
        "port",         "counter",    "exc_enter", "exc_exit",    "exc_return", "pc",         "sleep", "pc_prohibited",
        "pmu_overflow", "data_match", "data_pc",   "data_offset", "data_read",  "data_write", "damage"};
    return names[static_cast<std::size_t>(kind)];
}

std::string_view itm_damage_text(ItmDamage reason) {
    constexpr std::array<std::string_view, 11> texts = {"no synchronisation yet",
                                                        "reserved packet header",
                                                        "zeros that are no synchronisation",
                                                        "timestamp longer than its format allows",
                                                        "extension longer than its format allows",
                                                        "impossible exception packet",
                                                        "impossible program-counter sample",
                                                        "impossible counter packet",
                                                        "packet cut short by the end of the stream",
                                                        "bytes missing in the formatter frames",
                                                        "not received: bytes were lost here"};
    return texts[static_cast<std::size_t>(reason)];
}

std::string itm_detail(const ItmPacket& k) {
    const auto bytes = [&] { return plural(k.size, "byte", "bytes") + " = " + hex_text(k.value, 2 * k.size); };
    const std::string n = std::to_string(k.number);
    switch (k.kind) {
        case ItmKind::sync:
            return plural(k.length, "byte", "bytes");
        case ItmKind::overflow:
            return "the source lost packets";
        case ItmKind::local_time_1: {
            constexpr std::array<std::string_view, 4> relation = {"synchronous", "timestamp delayed", "packet delayed",
                                                                  "packet and timestamp delayed"};
            return "+" + std::to_string(k.value) + " ticks, " + std::string(relation[k.number & 3]);
        }
        case ItmKind::local_time_2:
            return "+" + std::to_string(k.value) + " ticks, synchronous";
        case ItmKind::global_time_1:
            return "bits " + std::to_string(std::min(25, 7 * k.size - 1)) +
                   ":0 = " + hex_text(k.value, 2 * k.size - (k.size == 4 ? 1 : 0)) +
                   ((k.number & 2) != 0 ? ", wrapped" : "") + ((k.number & 1) != 0 ? ", clock changed" : "");
        case ItmKind::global_time_2:
            return "bits 63:26 = " + hex_text(k.value, 6);
        case ItmKind::page:
            return "ports " + std::to_string(k.number * 32) + " to " + std::to_string(k.number * 32 + 31);
        case ItmKind::extension:
            return std::string(k.number != 0 ? "hardware" : "instrumentation") + " source, value " +
                   hex_text(k.value, 1);
        case ItmKind::port:
            return "port " + n + ", " + bytes();
        case ItmKind::counter: {
            constexpr std::array<std::string_view, 6> names = {
                "CPI", "exception overhead", "sleep", "load-store", "folded", "cycle"};
            std::string all;
            for (std::size_t i = 0; i < names.size(); ++i)
                if ((k.value >> i & 1) != 0) all += (all.empty() ? "" : ", ") + std::string(names[i]);
            return all + " counter wrapped";
        }
        case ItmKind::exc_enter:
            return "exception " + n + " entered";
        case ItmKind::exc_exit:
            return "exception " + n + " left";
        case ItmKind::exc_return:
            return k.number == 0 ? "back in thread mode" : "back in exception " + n;
        case ItmKind::pc:
            return "at " + hex_text(k.value);
        case ItmKind::sleep:
            return "asleep";
        case ItmKind::pc_prohibited:
            return "sampling not allowed";
        case ItmKind::pmu_overflow:
            return "counters " + hex_text(k.value, 2) + " overflowed";
        case ItmKind::data_match:
            return "comparator " + n;
        case ItmKind::data_pc:
            return "comparator " + n + ", accessed from " + hex_text(k.value);
        case ItmKind::data_offset:
            return "comparator " + n + ", address bits 15:0 = " + hex_text(k.value, 4);
        case ItmKind::data_read:
            return "comparator " + n + " read, " + bytes();
        case ItmKind::data_write:
            return "comparator " + n + " written, " + bytes();
        case ItmKind::damage:
            return plural(k.length, "byte", "bytes") +
                   " given up: " + std::string(itm_damage_text(static_cast<ItmDamage>(k.number)));
    }
    return {};
}

}  // namespace mt
