#include "frame_writer.h"

namespace board {

// D4.2: even bytes are an ID (bit 0 set) or data whose bit 0 stands in the last byte; odd bytes are data. For an ID
// that last byte says whether the data byte behind it still belongs to the one before.
void FrameWriter::frames(std::vector<std::uint8_t>& out, bool flush) {
    std::size_t at = 0;
    const auto left = [&] { return waiting_.size() - at; };
    while (left() >= 15 || (flush && left() > 0)) {
        std::array<std::uint8_t, 16> frame{};
        if (++same_ > 10) id_ = 0;  // told again now and then, for whoever begins in the middle
        for (unsigned i = 0; i < 15; ++i) {
            const auto aux = static_cast<std::uint8_t>(1u << (i / 2));
            if (i % 2 != 0) {  // the pair before saw to it that this one fits
                frame[i] = left() > 0 && waiting_[at].first == id_ ? waiting_[at++].second : 0;
                continue;
            }
            if (left() == 0) {  // filled up: ID 0 is nobody's
                frame[i] = 0x01;
                id_ = 0;
                continue;
            }
            const auto [id, byte] = waiting_[at];
            if (id != id_) {
                frame[i] = static_cast<std::uint8_t>(id << 1 | 1);
                id_ = id;
                same_ = 0;
                continue;
            }
            const bool last = i == 14;
            const bool other_follows = !last && (left() < 2 || waiting_[at + 1].first != id_);
            if (other_follows) {  // the change is told first, and takes effect behind this byte
                const std::uint8_t next = left() < 2 ? std::uint8_t{0} : waiting_[at + 1].first;
                frame[i] = static_cast<std::uint8_t>(next << 1 | 1);
                frame[15] = static_cast<std::uint8_t>(frame[15] | aux);
                frame[++i] = byte;
                ++at;
                id_ = next;
                continue;
            }
            frame[i] = byte & 0xFE;
            if ((byte & 1) != 0) frame[15] = static_cast<std::uint8_t>(frame[15] | aux);
            ++at;
        }
        out.insert(out.end(), frame.begin(), frame.end());
    }
    waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(at));
}

}  // namespace board
