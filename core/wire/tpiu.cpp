#include "wire/tpiu.h"

#include <algorithm>

namespace mt {

void TpiuDeframer::put(std::uint8_t byte, std::vector<std::uint8_t>& out) {
    ++counts_.bytes_of_id[current_];
    if (current_ == source_ && source_ != 0) out.push_back(byte);
}

// D4.2: even bytes carry either data, whose bit 0 stands in the auxiliary byte, or a new ID; with the
// auxiliary bit set the new ID counts from after the byte that follows it.
void TpiuDeframer::frame(std::vector<std::uint8_t>& out) {
    ++counts_.frames;
    const unsigned auxiliary = frame_[15];
    for (std::size_t i = 0; i < 16; i += 2) {
        const std::uint8_t even = frame_[i];
        const bool flag = (auxiliary >> (i / 2) & 1) != 0;
        if ((even & 1) == 0) {
            put(static_cast<std::uint8_t>(even | (flag ? 1 : 0)), out);
            if (i < 14) put(frame_[i + 1], out);
            continue;
        }
        ++counts_.id_changes;
        const std::uint8_t next = even >> 1;
        if (flag) {
            ++counts_.delayed_id_changes;
            if (i < 14) put(frame_[i + 1], out);
            current_ = next;
        } else {
            current_ = next;
            if (i < 14) put(frame_[i + 1], out);
        }
    }
}

void TpiuDeframer::feed(std::span<const std::uint8_t> raw, std::vector<std::uint8_t>& out, std::vector<Break>& breaks) {
    const auto lose = [&](std::uint64_t at, std::uint64_t dropped) {
        ++counts_.misalignments;
        counts_.lost_bytes += dropped;
        filled_ = 0;
        current_ = 0;
        breaks.push_back({out.size(), at});
    };
    const auto fall_out = [&](std::uint64_t at, std::uint32_t window) {
        lose(at, filled_);
        in_step_ = false;
        window_ = window;
    };
    for (std::size_t i = 0; i < raw.size(); ++i) {
        const std::uint8_t b = raw[i];
        const std::uint64_t at = raw_position_ + i;
        if (!in_step_) {
            window_ = window_ >> 8 | std::uint32_t{b} << 24;
            ++counts_.lost_bytes;
            if (window_ == 0x7FFFFFFF) {
                counts_.lost_bytes -= 4;
                ++counts_.full_syncs;
                in_step_ = true;
                filled_ = 0;
            }
            continue;
        }
        frame_[filled_++] = b;
        // Synchronisations stand on even places: FF 7F between halves of a frame, FF FF FF 7F between frames.
        if ((filled_ & 1) != 0 || frame_[filled_ - 2] != 0xFF) {
            if (after_ff_ff_ && (filled_ & 1) == 0) {  // FF FF and then no FF 7F: neither data nor synchronisation
                after_ff_ff_ = false;
                if (frame_[filled_ - 2] == 0x7F) {  // a full synchronisation on an odd place: a byte was lost or added
                    ++counts_.full_syncs;
                    lose(at, filled_ - 4u);
                    frame_[0] = b;
                    filled_ = 1;
                } else {
                    fall_out(at, 0);
                }
                continue;
            }
            if (filled_ == 16) {
                frame(out);
                filled_ = 0;
            }
            continue;
        }
        if (after_ff_ff_) {
            after_ff_ff_ = false;
            if (b == 0x7F) {
                ++counts_.full_syncs;
                if (filled_ != 4) lose(at - 3, filled_ - 4u);  // in mid frame: bytes were lost or added before
                filled_ = 0;
                continue;
            }
            fall_out(at, b == 0xFF ? 0xFFFFFFFF : 0);
            continue;
        }
        if (b == 0x7F) {
            ++counts_.half_syncs;
            filled_ = static_cast<std::uint8_t>(filled_ - 2);
        } else if (b == 0xFF && filled_ < 16) {
            after_ff_ff_ = true;
        } else {
            fall_out(at, b != 0xFF            ? 0
                         : frame_[13] == 0xFF ? 0xFFFFFF00
                                              : 0xFFFF0000);  // ID 0x7F is reserved (D4.2.4): out of step
        }
    }
    raw_position_ += raw.size();
}

bool tpiu_has_full_sync(std::span<const std::uint8_t> raw) {
    constexpr std::array<std::uint8_t, 4> mark = {0xFF, 0xFF, 0xFF, 0x7F};
    return std::search(raw.begin(), raw.end(), mark.begin(), mark.end()) != raw.end();
}

}  // namespace mt
