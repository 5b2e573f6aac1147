// The trace encoder of the co-processor: executed instructions to E-Trace packets.
// Efficient Trace for RISC-V Specification 2.0, chapters 7 (packets) and 10 (encoder algorithm).
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "rv_core.h"
#include "wire/etrace.h"

namespace board {

/// Told of every instruction by the core, one behind the other; it looks one instruction ahead, so a packet comes
/// out when the next instruction, a trap or the end is known.
class EtraceEncoder : public RvListener {
  public:
    /// `options` are announced by the first packet. A synchronisation comes after each `sync_each` instructions.
    EtraceEncoder(const mt::EtraceParameters& parameters, const mt::EtraceOptions& options,
                  std::uint64_t sync_each = 50'000);

    void retired(const RvRetired& insn) override;
    void trapped(const RvTrapped& trap) override;
    void restarted() override;
    void halted() override;
    /// Addresses are told that much higher: with an iaddress_width of 64 as those of RV64. REQUIRES: a multiple of 2^32.
    void run_above(std::uint64_t above) { above_ = above; }
    /// Tracing ends behind the last instruction.
    void stop();
    /// Moves the bytes since the last call to the end of `out`.
    void drain(std::vector<std::uint8_t>& out);

  private:
    using Option = mt::EtraceParameters::Option;
    enum class Then { goes_on, trap, sync, repeats, end };
    struct Bits;

    bool on(Option o) const { return options_[static_cast<std::size_t>(o)]; }
    void settle(Then then);
    void begin(const RvRetired& x);
    void report(std::uint32_t address, bool discontinuity_then_break, bool notify, bool is_branch);
    void count_branch(const RvRetired& x);
    bool leaves_unknown(const RvRetired& x);
    bool seen_before(std::uint32_t pc) const;
    bool predicted(std::uint32_t pc) const;
    void learn(std::uint32_t pc, bool taken);
    Bits full(unsigned subformat, bool branch_bit, std::uint64_t time) const;
    void put_trap(const RvTrapped& trap, bool handler, std::uint32_t address, bool branch_bit);
    void put_sync(std::uint32_t address, bool branch_bit);
    void forget();
    void put_support(unsigned qual);
    void put_map(Bits& b) const;
    void put_ends(Bits& b, bool before, bool notify, bool updiscon);
    void put_difference(Bits& b, std::uint32_t address, bool notify, bool updiscon);
    void send(const Bits& b);

    mt::EtraceParameters parameters_;
    mt::EtraceOptions options_;
    std::uint64_t sync_each_, since_sync_ = 0, time_ = 0;
    std::vector<std::uint8_t> out_;
    std::optional<RvRetired> held_, before_;
    std::optional<RvTrapped> trap_;  ///< to be told with the handler's first instruction
    bool started_ = false, afresh_ = true, updiscon_ = false;
    bool halted_ = false;  ///< since the last instruction: an exception that comes first is told
    std::uint32_t last_address_ = 0;
    std::uint32_t map_ = 0;
    unsigned branches_ = 0;
    bool as_predicted_ = true;           ///< all in the map
    std::uint64_t predictions_ = 0;      ///< counted instead of the map, once it was full of them
    bool mispredicted_ = false;          ///< the last of them
    std::optional<std::size_t> failed_;  ///< depth of the return that did not go where the stack says
    std::vector<std::uint32_t> stack_;
    std::uint64_t above_ = 0;
    std::size_t stack_most_ = 0;
    std::vector<std::uint8_t> predictor_;
    std::vector<std::uint32_t> cache_;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> walked_;  ///< straight pieces since the last branch or packet
};

/// Which optional modes an encoder uses, as bits of trTeInstFeatures (RISC-V Trace Control Interface 1.0, 4.1.3).
namespace cop_mode {
constexpr std::uint32_t kFullAddress = 1, kImplicitException = 2, kSequentialJump = 4, kImplicitReturn = 8, kBranchPrediction = 16,
                        kJumpTargetCache = 32, kAll = 63;
/// What the encoder was built with: 2^4 return addresses, 2^6 predictions, 2^5 jump targets.
constexpr unsigned kReturnStack = 4, kPredictor = 6, kCache = 5, kTimeBits = 40;
/// By their names in a target file's `ioptions`, "all", or "none", separated by commas; nothing if there is none of a name.
std::optional<std::uint32_t> named(const std::string& names);
/// The keys that [stream.etrace] of a target file needs for them, a line each.
std::string target_keys(std::uint32_t modes);
}  // namespace cop_mode

/// The co-processor's encoder as the board has it. `timed`: with timestamps of the machine timer.
EtraceEncoder cop_encoder(std::uint32_t modes = cop_mode::kImplicitReturn, bool timed = true, std::uint64_t sync_each = 50'000);

}  // namespace board
