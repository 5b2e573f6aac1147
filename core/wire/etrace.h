// Efficient Trace for RISC-V, instruction trace: bytes to te_inst packets.
// Efficient Trace for RISC-V Specification 2.0, chapter 7 (instruction trace packets).
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "target/protocol_parameters.h"
#include "wire/source_ids.h"

namespace mt {

/// How the encoder was set up, as last told by a support packet.
using EtraceOptions = std::array<bool, EtraceParameters::kOptions>;

enum class EtraceKind : std::uint8_t {
    sync,           ///< format 3, subformat 0
    trap,           ///< format 3, subformat 1
    context,        ///< format 3, subformat 2
    support,        ///< format 3, subformat 3
    address,        ///< format 2
    branches,       ///< format 1, with or without address
    predicted,      ///< format 0, subformat 0: counted correct predictions
    cached_target,  ///< format 0, subformat 1: jump target cache
    damage,         ///< bytes that are no packet; `length` of them
};
inline constexpr std::size_t kEtraceKinds = 9;

enum class EtraceQual : std::uint8_t { no_change, ended_for_report, lost, ended_by_update };

enum class EtraceDamage : std::uint8_t { no_packet, reserved, cut_short, not_received };

struct EtracePacket {
    std::uint64_t offset = 0;   ///< of the encapsulation's header byte
    std::uint64_t address = 0;  ///< as sent, shifted to a byte address; a difference unless full_address
    std::uint64_t value = 0;    ///< tval of a trap; count of correct predictions; reason of damage
    std::uint64_t time = 0;
    std::uint64_t context = 0;
    std::uint32_t length = 0;      ///< bytes, with the header
    std::uint32_t branch_map = 0;  ///< bit 0 is the oldest; 1 means not taken
    std::uint32_t irdepth = 0, index = 0;
    std::uint16_t ecause = 0, source = 0;
    EtraceKind kind = EtraceKind::damage;
    std::uint8_t branches = 0;  ///< valid bits of branch_map; 31 in a full map
    std::uint8_t privilege = 0;
    EtraceQual qual = EtraceQual::no_change;
    bool has_address = false, branch = false, interrupt = false, thaddr = false, notify = false, updiscon = false,
         irreport = false, enabled = true, mispredicted = false;
    EtraceOptions options{};  ///< of a support packet
};

/// Takes apart packets in length-byte encapsulation. A packet says by its own length how far it reaches and
/// there is no mark between packets: after bytes that can be no packet the decoder looks for the next run of
/// packets that all can be. Copyable: a copy is a checkpoint. One thread at a time.
class EtraceDecoder {
  public:
    explicit EtraceDecoder(const EtraceParameters& parameters);

    /// Takes bytes that follow those before; appends whole packets to `out`, and calls `full` now and then, which may
    /// take them away.
    void feed(std::span<const std::uint8_t> bytes, std::vector<EtracePacket>& out,
              const std::function<void()>& full = {});
    /// The end of the stream: what is left of a packet is damage.
    void finish(std::vector<EtracePacket>& out);
    /// Bytes are missing in the source at this place.
    void lose_source(std::vector<EtracePacket>& out);
    std::uint64_t position() const { return position_; }

    /// Where a synchronisation seems to begin, at `from` or behind, with a run of packets behind it. A packet should
    /// begin with the first of the bytes: else there is less to go by. Options that packets on the way there set are
    /// kept.
    std::optional<std::size_t> find_entry(std::span<const std::uint8_t> bytes, std::size_t from);
    const EtraceOptions& options() const { return options_; }
    void set_options(const EtraceOptions& options) { options_ = options; }
    /// So many bytes came before. REQUIRES: nothing was fed yet.
    void begin_at(std::uint64_t position) { position_ = position; }
    void entered() {}
    /// Whether both stand between the same two packets and take apart the same way what comes.
    bool agrees(const EtraceDecoder& o) const {
        return position_ == o.position_ && !hunting_ && !o.hunting_ && held_.empty() && o.held_.empty() &&
               options_ == o.options_ && sources_.agrees(o.sources_);
    }
    const EtraceParameters& parameters() const { return parameters_; }
    /// What other sources sent in this stream.
    const SourceIds& sources() const { return sources_; }
    /// Of a decoder that entered where `before` stood: what that one passed over counts too.
    void continue_from(const EtraceDecoder& before) { sources_.add(before.sources_); }

  private:
    enum class Parse : std::uint8_t { packet, idle, foreign, need_more, bad };
    std::size_t parse(std::span<const std::uint8_t> bytes, std::uint64_t offset, bool last,
                      std::vector<EtracePacket>& out, const std::function<void()>& full);
    Parse one(std::span<const std::uint8_t> bytes, EtracePacket& packet, EtraceDamage& why) const;
    template <class Payload>
    Parse fields(Payload payload, EtracePacket& packet, EtraceDamage& why) const;
    bool believable(std::span<const std::uint8_t> bytes, bool last) const;

    EtraceParameters parameters_;
    SourceIds sources_;
    EtraceOptions options_{};
    std::vector<std::uint8_t> held_;
    std::uint64_t position_ = 0;  ///< offset of the next byte to be fed
    bool hunting_ = false;
    std::uint64_t damage_at_ = 0;
    EtraceDamage reason_ = EtraceDamage::no_packet;
};

std::string_view etrace_kind_name(EtraceKind kind);
std::string_view etrace_damage_text(EtraceDamage reason);
/// What stands in a packet, for people.
std::string etrace_detail(const EtracePacket& packet);

}  // namespace mt
