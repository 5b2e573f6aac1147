// Program Flow Trace: bytes to packets.
// Arm CoreSight Program Flow Trace Architecture Specification, PFTv1.0 and PFTv1.1 (IHI 0035B), chapter 4; the numbers in
// comments are its sections.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "target/protocol_parameters.h"
#include "wire/synced_packets.h"

namespace mt {

enum class PftKind : std::uint8_t {
    async,             ///< alignment synchronisation
    isync,             ///< address, state and why tracing is on
    atoms,             ///< waypoints passed, taken or not
    branch,            ///< where a waypoint led; with an exception, where that led
    waypoint,          ///< the last instruction that was executed before an exception
    context,           ///< context ID
    virtual_machine,   ///< VMID
    timestamp,
    exception_return,  ///< Armv7-M only
    trigger,
    ignore,
    damage,
};
inline constexpr std::size_t kPftKinds = 12;

struct PftPacket {
    static constexpr std::uint16_t kNone = 0xFFFF;
    enum class Reason : std::uint8_t { periodic, enabled, overflow, debug_exit };
    using Set = SentSet;

    std::uint64_t offset = 0;
    std::uint64_t value = 0;    ///< timestamp; context ID; reason of damage; AtomSizes
    std::uint64_t assumed = 0;  ///< bits of a timestamp that nobody told
    std::uint64_t atoms = 0;    ///< bit 0 first; 1 is taken
    std::uint32_t address = 0;
    std::uint32_t length = 0;
    std::uint32_t cycles = 0;
    std::uint16_t exception = kNone;  ///< type, of a branch
    PftKind kind = PftKind::damage;
    Reason reason = Reason::periodic;  ///< of an isync
    Set set = Set::arm;
    std::uint8_t count = 0;             ///< atoms
    std::uint8_t sent = 64;             ///< bits of a timestamp
    bool known = true;                  ///< the address is whole, or those before it were
    bool has_cycles = false, non_secure = false, hypervisor = false, has_context = false;

    /// So many packets it stands for.
    std::uint32_t packets() const { return kind == PftKind::atoms && !has_cycles ? length : 1; }
    /// Where the packet stands that holds an atom.
    std::uint64_t offset_of(std::uint32_t atom) const { return offset + AtomSizes::packet_of(value, atom); }
};

/// Copyable: a copy is a checkpoint. One thread at a time.
class PftDecoder : public SyncedPackets<PftDecoder, PftPacket> {
  public:
    explicit PftDecoder(const PftParameters& parameters);

    void entered() { stamp_.entered(); }
    bool agrees(const PftDecoder& o) const {
        return stands_as(o) && address_ == o.address_ && set_ == o.set_ && known_ == o.known_ && context_ == o.context_ &&
               stamp_.agrees(o.stamp_);
    }
    void continue_from(const PftDecoder& before) { stamp_.continue_from(before.stamp_); }
    std::uint64_t last_stamp() const { return stamp_.at(); }

  private:
    friend class SyncedPackets<PftDecoder, PftPacket>;
    using Bytes = std::span<const std::uint8_t>;
    std::size_t one(Bytes bytes, PftPacket& p);
    Atoms plain(std::uint8_t header) const { return plain_ != nullptr ? plain_[header] : Atoms{}; }
    void synced() { known_ = false; }
    std::size_t isync(Bytes bytes, PftPacket& p);
    std::size_t branch(Bytes bytes, std::size_t at, PftPacket& p);
    std::size_t cycles(Bytes bytes, std::size_t at, PftPacket& p) const;

    PftParameters parameters_;
    const Atoms* plain_ = nullptr;  ///< by the header; null: cycles are told with each packet
    PartialStamp stamp_;
    std::uint32_t address_ = 0, context_ = 0;
    PftPacket::Set set_ = PftPacket::Set::arm;
    bool known_ = false;  ///< address_ and set_
};

std::string_view pft_kind_name(PftKind kind);
std::string pft_detail(const PftPacket& packet);

}  // namespace mt
