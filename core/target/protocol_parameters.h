// How the encoders of instruction trace were built and set up: what their streams do not say themselves.
#pragma once

#include <cstddef>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace mt {

/// Parameters of an encoder, named as in the specification (chapter 9, "discovery"), and the options that are
/// on before a support packet says otherwise.
struct EtraceParameters {
    unsigned iaddress_width = 32, iaddress_lsb = 1, privilege_width = 2, ecause_width = 5, context_width = 0,
             time_width = 0, return_stack_size = 0, call_counter_size = 0, encoder_mode_width = 1, cache_size = 0,
             bpred_size = 0, f0s_width = 0, src_id_bits = 0;
    bool implicit_return = false, full_address = false;
    /// With source IDs: the one whose packets are taken. Not stated: the first that is met.
    std::optional<unsigned> src_id;
    /// Trap vectors with their mode bits (privileged ISA, 3.1.7 and 4.1.2), which implicit exceptions need.
    std::optional<std::uint64_t> mtvec, stvec;
    /// Order of the bits in the support packet's ioptions, least significant first.
    enum class Option : std::uint8_t {
        sequentially_inferred_jump,
        implicit_return,
        implicit_exception,
        branch_prediction,
        jump_target_cache,
        full_address,
    };
    static constexpr std::size_t kOptions = 6;
    std::vector<Option> ioptions = all_options();

    static std::vector<Option> all_options() {
        std::vector<Option> all;
        for (std::size_t i = 0; i < kOptions; ++i) all.push_back(static_cast<Option>(i));
        return all;
    }
};

/// How the trace unit was built and programmed. Defaults are those of an M-profile trace unit.
struct Etm4Parameters {
    bool cycle_count = false;       ///< TRCCONFIGR.CCI
    bool commit_in_cycles = false;  ///< TRCIDR0.COMMOPT is 0: format 1 cycle counts carry a commit count
    bool return_stack = false;      ///< TRCCONFIGR.RS
    unsigned cycle_threshold = 0;   ///< TRCCCCTLR.THRESHOLD, until a trace info packet says otherwise
    unsigned context_id_bytes = 0;  ///< 0 or 4: TRCIDR2.CIDSIZE
    unsigned virtual_id_bytes = 0;  ///< 0, 1, 2 or 4: TRCIDR2.VMIDSIZE
    unsigned max_speculation = 0;   ///< TRCIDR8.MAXSPEC: P0 elements that may still be cancelled
    bool conditional = false;       ///< TRCCONFIGR.COND: conditional instructions are traced
};

/// How a program flow trace macrocell was built and programmed (ETMCR of the PTM: IHI 0035B, 3.4.3).
struct PftParameters {
    bool cycle_accurate = false;
    bool return_stack = false;
    bool branch_broadcast = false;  ///< all branches that are taken tell their address
    unsigned context_id_bytes = 0;  ///< 0, 1, 2 or 4
};

/// The same for a trace macrocell of version 3 (ETMCR: IHI 0014Q, 3.5.1).
struct Etm3Parameters {
    bool cycle_accurate = false;
    bool alternative_branch = true;  ///< encoding of branch addresses (ETMIDR bit 20)
    bool data_address = false, data_value = false;
    unsigned context_id_bytes = 0;
};

/// How an N-Trace encoder was built.
struct NtraceParameters {
    unsigned src_bits = 0;           ///< width of the SRC field behind TCODE
    std::optional<unsigned> src_id;  ///< with SRC fields: the one whose messages are taken; not stated: the first met
    bool timestamps = true;          ///< a TSTAMP field ends each message
    bool implicit_return = false;    ///< returns are followed by a return stack and not told
};

/// How the clock of another device is brought to the recording's:
/// measured = offset + (1 + drift / 10^6) * recording, both from their starts.
struct ClockTie {
    /// What both saw: something of the recording, and the edges of a signal.
    struct Align {
        std::string of;                     ///< mark, resource, interrupt, task, value or function …
        std::string name;                   ///< … and its name
        std::optional<std::int64_t> value;  ///< of a mark: those with this value alone
        std::string signal;
        bool rising = true, falling = false;
    };
    std::vector<Align> align;
    std::optional<double> offset_ns, drift_ppm;  ///< by hand
};

/// Samples at a fixed rate, channel after channel, as a measuring device sends them (docs/formats/samples.md).
struct SamplesParameters : ClockTie {
    enum class Type : std::uint8_t { u8, i8, u16, i16, u24, i24, u32, i32, f32, f64 };
    struct Channel {
        std::string name, unit;
        double scale = 1, offset = 0;  ///< value = sample * scale + offset
        bool is_raw() const { return scale == 1 && offset == 0; }
    };
    static constexpr std::size_t kMostChannels = 256;
    std::string name;  ///< of the device; empty if not stated
    Type type = Type::i16;
    bool big_endian = false;
    double rate_hz = 0;  ///< samples of each channel per second
    std::vector<Channel> channels;

    std::size_t sample_bytes() const;
    /// Bytes of one sample of every channel.
    std::size_t frame_bytes() const { return sample_bytes() * channels.size(); }
};

/// Values that were read through a debug server while the target ran (docs/formats/polled.md).
struct PolledParameters {
    static constexpr std::size_t kRecord = 24;   ///< bytes
    static constexpr std::size_t kMost = 1'000;  ///< values
    struct Value {
        std::string name;
        std::uint64_t address = 0;
        std::string type = "u32";
        std::uint64_t mask = ~std::uint64_t{0};
        unsigned shift = 0;
        std::map<std::uint64_t, std::string> names;
        double rate_hz = 10;  ///< that was asked for

        std::size_t bytes() const { return type == "u8" || type == "i8" || type == "bool" ? 1 : type == "u16" || type == "i16" ? 2 : 4; }
    };
    std::vector<Value> values;
};

}  // namespace mt
