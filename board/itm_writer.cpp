#include "itm_writer.h"

#include <algorithm>

namespace board {

void ItmWriter::put(std::uint8_t byte) {
    bytes_.push_back(byte);
    line_free_ += cycles_per_byte_;
}

void ItmWriter::put_value(std::uint32_t value, unsigned size) {
    for (unsigned i = 0; i < size; ++i) put(static_cast<std::uint8_t>(value >> (8 * i)));
}

// D4.2.4: 0b11TC0000 and up to four bytes of seven bits; one to six ticks fit format 2.
void ItmWriter::timestamp(std::uint64_t cycle, unsigned relation) {
    if (prescaler_ == 0) {
        pending_ = mixed_ = false;
        last_stamp_ = std::max(cycle, last_stamp_);
        return;
    }
    cycle = std::max(cycle, last_stamp_);
    std::uint64_t ticks = cycle / prescaler_ - last_stamp_ / prescaler_;
    last_stamp_ = cycle;
    pending_ = mixed_ = false;
    constexpr std::uint64_t most = (1u << 28) - 1;
    for (; ticks > most; ticks -= most) {  // the counter wraps: the hardware sends a full one first
        put(0xC0);
        for (const int b : {0xFF, 0xFF, 0xFF, 0x7F}) put(static_cast<std::uint8_t>(b));
    }
    if (relation == 0 && ticks >= 1 && ticks <= 6) {
        put(static_cast<std::uint8_t>(ticks << 4));
        return;
    }
    put(static_cast<std::uint8_t>(0xC0 | relation << 4));
    do {
        put(static_cast<std::uint8_t>((ticks & 0x7F) | (ticks > 0x7F ? 0x80 : 0)));
        ticks >>= 7;
    } while (ticks != 0);
}

// Makes room for a packet: dates the group before it, or loses this one. True if it may be sent.
bool ItmWriter::begin(std::uint64_t cycle, std::size_t size) {
    if (pending_ && cycle > group_) {
        // Free line: the timestamp stands at the group's own time; otherwise it comes when the line is free.
        if (behind(group_) <= kBusy)
            timestamp(group_, mixed_ ? 1 : 0);
        else if (line_free_ < cycle)
            timestamp(line_free_, 1);
        else
            mixed_ = true;
    }
    if (cycle < stalled_until_ || behind(cycle) + size > kBuffer) {
        ++lost_;
        overflowed_ = true;
        return false;
    }
    line_free_ = std::max(line_free_, cycle);
    if (overflowed_) {
        overflowed_ = false;
        put(0x70);
    }
    if (global_wanted_ && !pending_) {
        global_wanted_ = false;
        const std::uint64_t counter = cycle + global_offset_;
        global_time(cycle, counter, counter >> 26 != global_high_);
        global_high_ = counter >> 26;
    }
    group_ = cycle;
    pending_ = true;
    return true;
}

void ItmWriter::exception(std::uint64_t cycle, unsigned number, unsigned function) {
    if (!begin(cycle, 3)) return;
    put(0x0E);
    put(static_cast<std::uint8_t>(number));
    put(static_cast<std::uint8_t>(function << 4 | number >> 8));
}
void ItmWriter::pc_sample(std::uint64_t cycle, std::uint32_t pc) {
    if (!begin(cycle, 5)) return;
    put(0x17);
    put_value(pc & ~1u, 4);
}
void ItmWriter::sleep_sample(std::uint64_t cycle) {
    if (!begin(cycle, 2)) return;
    put(0x15);
    put(0);
}
void ItmWriter::counters(std::uint64_t cycle, unsigned wrapped) {
    if (!begin(cycle, 2)) return;
    put(0x05);
    put(static_cast<std::uint8_t>(wrapped));
}
void ItmWriter::port(std::uint64_t cycle, unsigned number, std::uint32_t value, unsigned size) {
    if (!begin(cycle, 1 + size)) return;
    put(static_cast<std::uint8_t>(number << 3 | (size == 4 ? 3 : size)));
    put_value(value, size);
}
// D4.3.4: 0b10CCW1SS; the address offset 0b01CC1110 and the program counter 0b01CC0111 of the same access come before.
void ItmWriter::data(std::uint64_t cycle, unsigned comparator, bool is_write, std::uint32_t value, unsigned size) {
    if (!begin(cycle, 1 + size)) return;
    put(static_cast<std::uint8_t>((is_write ? 0x8C : 0x84) | comparator << 4 | (size == 4 ? 3 : size)));
    put_value(value, size);
}
void ItmWriter::data_pc(std::uint64_t cycle, unsigned comparator, std::uint32_t pc) {
    if (!begin(cycle, 5)) return;
    put(static_cast<std::uint8_t>(0x47 | comparator << 4));
    put_value(pc & ~1u, 4);
}
void ItmWriter::data_address(std::uint64_t cycle, unsigned comparator, std::uint32_t address) {
    if (!begin(cycle, 3)) return;
    put(static_cast<std::uint8_t>(0x4E | comparator << 4));
    put_value(address & 0xFFFF, 2);
}
void ItmWriter::global_time(std::uint64_t cycle, std::uint64_t counter, bool whole) {
    flush(cycle);
    const auto low = static_cast<std::uint32_t>(counter & 0x3FF'FFFF);
    put(0x94);
    for (const unsigned shift : {0u, 7u, 14u}) put(static_cast<std::uint8_t>((low >> shift & 0x7F) | 0x80));
    put(static_cast<std::uint8_t>(low >> 21 & 0x1F));
    if (!whole) return;
    const std::uint64_t high = counter >> 26;
    put(0xB4);
    for (const unsigned shift : {0u, 7u, 14u}) put(static_cast<std::uint8_t>((high >> shift & 0x7F) | 0x80));
    put(static_cast<std::uint8_t>(high >> 21 & 1));
}
void ItmWriter::sync(std::uint64_t cycle) {
    flush(cycle);
    for (int i = 0; i < 5; ++i) put(0);
    put(0x80);
}
void ItmWriter::flush(std::uint64_t cycle) {
    if (!pending_) return;
    if (behind(group_) <= kBusy)
        timestamp(group_, mixed_ ? 1 : 0);
    else
        timestamp(std::max(group_ + 1, std::min(line_free_, std::max(cycle, group_ + 1))), 1);
}

}  // namespace board
