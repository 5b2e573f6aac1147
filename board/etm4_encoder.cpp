#include "etm4_encoder.h"

#include <algorithm>
#include <bit>

namespace board {
namespace {

// The patterns of the short formats (6.4.13), oldest atom in bit 0.
constexpr std::uint8_t kFour[] = {0b1110, 0b0000, 0b1010, 0b0101};
constexpr std::uint8_t kFive[] = {0b11110, 0b00000, 0b01010, 0b10101};
constexpr std::uint8_t kFiveHeader[] = {0xF5, 0xD5, 0xD6, 0xD7};

}  // namespace

void Etm4Encoder::begin(std::uint32_t address, std::uint64_t cycle) {
    put_sync();
    put(0x04);  // trace on (6.4.3)
    put_address(address);
    put_stamp(cycle);
}

// Alignment synchronisation, trace information (6.4.2): the unit's state anew, so that decoding may begin here.
void Etm4Encoder::put_sync() {
    for (int i = 0; i < 11; ++i) put(0x00);
    put(0x80);
    put(0x01);  // trace info: PLCTL says that INFO follows; no cycle counting, nothing conditional
    put(0x01);
    put(0x00);
    recent_ = {};
    whole_stamp_ = true;
    returns_.clear();  // whoever begins here does not know them
}

// As many atoms in as few packets as there are formats for; without `all` a run that may grow waits.
void Etm4Encoder::put_atoms(bool all) {
    while (count_ > 0) {
        const auto take = [&](std::uint8_t header, unsigned n) {
            put(header);
            atoms_ = n < 64 ? atoms_ >> n : 0;
            count_ -= n;
        };
        const unsigned taken = std::min<unsigned>(count_, static_cast<unsigned>(std::countr_one(atoms_)));
        if (!all && taken == count_ && count_ < 24) return;
        if (taken >= 3 && taken <= 23 && taken < count_) {  // format 6: up to 23 taken ones and one that is not
            take(static_cast<std::uint8_t>(0xE0 | (taken - 3)), taken + 1);
            continue;
        }
        if (taken >= 4) {  // format 6: taken ones only
            const unsigned run = std::min(taken, 24u);
            take(static_cast<std::uint8_t>(0xC0 | (run - 4)), run);
            continue;
        }
        bool done = false;
        for (unsigned i = 0; i < 4 && !done && count_ >= 5; ++i)
            if ((atoms_ & 31) == kFive[i]) take(kFiveHeader[i], 5), done = true;
        for (unsigned i = 0; i < 4 && !done && count_ >= 4; ++i)
            if ((atoms_ & 15) == kFour[i]) take(static_cast<std::uint8_t>(0xDC | i), 4), done = true;
        if (done) continue;
        if (count_ >= 3)
            take(static_cast<std::uint8_t>(0xF8 | (atoms_ & 7)), 3);
        else if (count_ == 2)
            take(static_cast<std::uint8_t>(0xD8 | (atoms_ & 3)), 2);
        else
            take(static_cast<std::uint8_t>(0xF6 | (atoms_ & 1)), 1);
    }
}

// Where tracing goes on after a pause, it is told as after a loss (6.4.3: trace on), with the place.
void Etm4Encoder::ran(std::uint32_t first, std::uint32_t last) {
    if (!view) return;
    const bool now = view(first, last);
    if (const unsigned told = events ? events() : 0; told != 0 && (traced_ || now)) {
        put_atoms(true);
        put(static_cast<std::uint8_t>(0x70 | told));  // chapter 6: headers 0b0111xxxx are events
    }
    if (now == traced_) return;
    traced_ = now;
    put_atoms(true);
    returns_.clear();
    if (!now) return;
    put(0x04);
    put_address(first);
}

void Etm4Encoder::atom(bool taken, std::uint64_t cycle) {
    if (!traced_) return;
    atoms_ |= static_cast<std::uint64_t>(taken) << count_;
    if (++count_ >= 48) put_atoms(false);
    if (setup_.timestamps && cycle >= stamped_ + setup_.stamp_each) put_stamp(cycle);
}

// A synchronisation tells where the program stands, so that decoding may begin there.
void Etm4Encoder::stand_at(std::uint32_t address) {
    if (!traced_ || setup_.sync_bytes == 0 || since_sync_ + out_.size() - drained_ < setup_.sync_bytes) return;
    put_atoms(true);
    since_sync_ = 0;
    drained_ = out_.size();
    put_sync();
    put_address(address);
}

void Etm4Encoder::called(std::uint32_t back) {
    if (!traced_ || !setup_.return_stack) return;
    if (returns_.size() == kMostReturns) returns_.erase(returns_.begin());
    returns_.push_back(back);
}

void Etm4Encoder::target(std::uint32_t address, bool returns) {
    if (!traced_) return;
    if (returns && setup_.return_stack && !returns_.empty()) {
        const bool there = returns_.back() == address;
        if (there) {
            returns_.pop_back();
            return;
        }
    }
    put_atoms(true);
    put_address(address);
}

// Exact match, short or long, for Thumb (6.4.12).
void Etm4Encoder::put_address(std::uint32_t address) {
    const std::uint32_t before = recent_[0];
    for (unsigned i = 0; i < 3; ++i)
        if (recent_[i] == address && address != 0) {
            put(static_cast<std::uint8_t>(0x90 | i));
            recent_ = {address, recent_[0], recent_[1]};
            return;
        }
    if ((address ^ before) < 0x1'0000 && before != 0) {
        put(0x96);
        const bool longer = ((address ^ before) >> 8) != 0;
        put(static_cast<std::uint8_t>((address >> 1 & 0x7F) | (longer ? 0x80 : 0)));
        if (longer) put(static_cast<std::uint8_t>(address >> 8));
    } else {
        put(0x9B);
        put(static_cast<std::uint8_t>(address >> 1 & 0x7F));
        put(static_cast<std::uint8_t>(address >> 8));
        put(static_cast<std::uint8_t>(address >> 16));
        put(static_cast<std::uint8_t>(address >> 24));
    }
    recent_ = {address, recent_[0], recent_[1]};
}

// Only as many groups of seven bits as changed; all of them behind trace information (6.4.6).
void Etm4Encoder::put_stamp(std::uint64_t cycle) {
    if (!setup_.timestamps) return;
    put_atoms(true);
    put(0x02);
    const std::uint64_t changed = cycle ^ stamp_;
    unsigned bytes = whole_stamp_ ? 9 : 1;
    whole_stamp_ = false;
    while (bytes < 9 && changed >> (7 * bytes) != 0) ++bytes;
    for (unsigned i = 0; i < bytes; ++i) {
        const auto part = static_cast<std::uint8_t>(cycle >> (7 * i));
        put(i == 8 ? part : static_cast<std::uint8_t>((part & 0x7F) | (i + 1 < bytes ? 0x80 : 0)));
    }
    stamp_ = stamped_ = cycle;
}

void Etm4Encoder::exception(unsigned number, std::uint32_t back, std::uint32_t handler, std::uint64_t cycle) {
    if (!traced_) return;
    put_atoms(true);
    put(0x06);
    // M-profile types are the exception's number up to interrupt 7; further ones stand from 0x208 on (table 6-9).
    const unsigned type = number < 24 ? number : number + 0x1F0;
    put(static_cast<std::uint8_t>(0x80 | (type & 31) << 1 | 1));  // the address of the return follows
    put(static_cast<std::uint8_t>(type >> 5 & 31));
    put_address(back);
    put_address(handler);
    put_stamp(cycle);
}

// As an exception of type 0x18 (table 6-9), behind which the program need not go on where it was: trace on (6.4.3).
void Etm4Encoder::halt(std::uint32_t address, std::uint64_t cycle) {
    if (!traced_) return;
    put_atoms(true);
    put(0x06);
    put(0x80 | (0x18 & 31) << 1 | 1);
    put(0);
    put_address(address);
    put_stamp(cycle);
}

void Etm4Encoder::resume(std::uint32_t address, std::uint64_t cycle) {
    returns_.clear();
    if (!traced_) return;
    put(0x04);
    put_address(address);
    put_stamp(cycle);
}

void Etm4Encoder::exception_return(std::uint32_t address, std::uint64_t cycle) {
    if (!traced_) return;
    put_atoms(true);
    put(0x07);
    put_address(address);
    put_stamp(cycle);
}

void Etm4Encoder::drain(std::vector<std::uint8_t>& out, bool end) {
    if (end) put_atoms(true);
    since_sync_ += out_.size() - drained_;
    drained_ = 0;
    out.insert(out.end(), out_.begin(), out_.end());
    out_.clear();
}

}  // namespace board
