// Source IDs in a stream that several harts share: whose packets are taken, and what the others sent.
#pragma once

#include <cstdint>
#include <map>
#include <optional>

namespace mt {

/// Copyable with the decoder that owns it. One thread at a time.
class SourceIds {
  public:
    struct Others {
        std::uint64_t packets = 0, bytes = 0;
    };

    /// `mine`: whose packets are taken; without it those of the first that is met.
    explicit SourceIds(std::optional<unsigned> mine) : mine_(mine) {}

    /// Whether a packet of `id` belongs here, as far as is known.
    bool foreign(unsigned id) const { return mine_ && *mine_ != id; }
    /// A packet of this kind came. True if it is to be taken.
    bool take(unsigned id, std::size_t bytes) {
        if (!mine_) mine_ = id;
        if (*mine_ == id) return true;
        Others& o = others_[id];
        ++o.packets;
        o.bytes += bytes;
        return false;
    }
    /// By ID, what was passed over.
    const std::map<unsigned, Others>& others() const { return others_; }
    void add(const SourceIds& o) {
        for (const auto& [id, n] : o.others_) {
            others_[id].packets += n.packets;
            others_[id].bytes += n.bytes;
        }
    }
    bool agrees(const SourceIds& o) const { return mine_ == o.mine_; }

  private:
    std::optional<unsigned> mine_;
    std::map<unsigned, Others> others_;
};

}  // namespace mt
