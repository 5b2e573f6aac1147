// A debug server that speaks the GDB remote serial protocol: run control, registers, memory.
// GDB manual, appendix "GDB Remote Serial Protocol".
#pragma once

#include <chrono>
#include <cstdint>
#include <memory>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "control/debug_packet.h"
#include "control/link.h"
#include "target/core_state.h"

namespace mt {

/// Why the core stands still.
struct DebugStop {
    enum class Why : std::uint8_t { interrupted, breakpoint, watchpoint, exited, other };
    Why why = Why::other;
    unsigned signal = 0;
    std::optional<std::uint64_t> watched;  ///< the address, where the server says it
    std::string thread{};                  ///< the one that stopped, as the server names it; empty where it does not
    bool operator==(const DebugStop&) const = default;
};

/// One connection to one server. One thread at a time. Every call ends within its time limit, whatever
/// the other end sends; what it sends is checked and never trusted.
class DebugServer {
  public:
    using Milliseconds = std::chrono::milliseconds;
    enum class Point : std::uint8_t { software = 0, hardware = 1, write = 2, read = 3, access = 4 };

    /// Connects and asks what the server can do. Most servers halt the core at that. `patience` is the
    /// limit for this and for every later answer.
    /// `thread`: as choose_thread takes it; 0: whichever the server takes. `open`: if one of these leads to the same server, it
    /// is another thread of that (many servers take one connection only). They share it: while one is used, no other is.
    static Result<std::unique_ptr<DebugServer>> connect(const std::string& address, Milliseconds patience, unsigned thread = 0,
                                                        std::span<DebugServer* const> open = {});
    /// Of a server of several cores that it tells as threads: the core is that one, counted from 1 over all processes. The
    /// others run and stand with it; a step is its alone. A Problem if the server has fewer.
    Result<void> choose_thread(unsigned number);
    /// Another core of the same server, over the same connection; this one is its first if none was chosen. REQUIRES: halted.
    Result<std::unique_ptr<DebugServer>> another(unsigned thread);
    /// Whether both are cores of one server: they run and stand together.
    bool shares_with(const DebugServer& other) const { return line_ == other.line_; }
    /// Whether this is the core that stopped, or the server does not say which.
    bool is_of(const DebugStop& stop) const { return thread_.empty() || stop.thread.empty() || stop.thread == thread_; }
    /// The same over a link that is open already.
    static Result<std::unique_ptr<DebugServer>> greet(std::unique_ptr<Link> link, Milliseconds patience);
    ~DebugServer();

    /// What becomes of the core when this connection ends: it runs on (the rule), or stays as it is.
    void leave(bool running) { line_->detach = running; }

    bool running() const { return line_->running; }
    /// True if it stood still before this connection halted it, as far as the server says: at a breakpoint or in a
    /// fault.
    bool stood_still() const { return stood_still_; }
    /// True if memory can be read while the core runs (non-stop mode); otherwise it is halted briefly.
    bool reads_while_running() const { return line_->non_stop; }
    /// Architecture as the server's target description names it: "arm", "riscv:rv32"; empty if it does not.
    const std::string& architecture() const { return architecture_; }
    std::size_t packet_size() const { return line_->packet_size; }

    /// REQUIRES: halted.
    Result<void> resume();
    /// Halts the core if it runs; says why it stands.
    Result<DebugStop> halt();
    /// Waits until the core stops by itself; nullopt if it still runs after `patience`. A running core only.
    Result<std::optional<DebugStop>> wait(Milliseconds patience);
    /// Executes one instruction; one that jumps to itself up to three times. REQUIRES: halted.
    Result<DebugStop> step();
    /// Resets the core with the server's own command ("reset" if empty); it stands still afterwards.
    Result<void> reset(const std::string& command);
    /// The server's own command and what it printed.
    Result<std::string> monitor(const std::string& command);

    /// A register as the server's target description has it (GDB manual, "Target Description Format"). Plain data.
    struct Register {
        std::string name;   ///< empty: there is none of this number
        std::string group;  ///< "general", "float", "vector" …, or what the feature is called
        std::string type;   ///< "int32", "ieee_double", "code_ptr" …
        unsigned bits = 32;
    };
    /// By their numbers.
    const std::vector<Register>& registers() const { return registers_; }
    std::optional<unsigned> register_named(std::string_view name) const;
    /// Value of a register by its number, little-endian, of at most 64 bits; REQUIRES: halted.
    Result<std::uint64_t> read_register(unsigned number);
    /// As many bytes as the register has. A Problem for one of more than 64 bits.
    Result<void> write_register(unsigned number, std::uint64_t value);
    Result<std::uint64_t> pc();

    /// Reads target memory, in as many packets as it takes. While the core runs and the server cannot read
    /// then, the core is halted for it and resumed; a stop of its own meanwhile is kept for `wait`.
    Result<void> read_memory(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress = nullptr);
    Result<void> write_memory(std::uint64_t address, std::span<const std::uint8_t> bytes);
    /// How often something was asked for that may have changed the target: a write, a reset, a command of the server's own.
    std::uint64_t changes() const { return changes_; }

    /// The same of memory, or of more than this core.
    std::uint64_t memory_changes() const { return memory_changes_; }
    /// From now on it is kept where the core stood when it was let go on; for a core that was halted only to be read it is
    /// asked for that.
    void count_places();
    const StoodPlaces& places() const { return places_; }
    /// Whether something was changed since the core was let go on last, or since places are counted.
    bool changed_here() const { return changes_ != changes_before_; }

    /// `length` is the kind for breakpoints (2 or 4 bytes of instruction), the bytes watched for watchpoints.
    /// A breakpoint that the server refuses in software is tried in hardware. What it was set as.
    Result<Point> set_point(Point type, std::uint64_t address, unsigned length);
    Result<void> clear_point(Point type, std::uint64_t address, unsigned length);

    /// What the target printed through this server: the server's own output packets, and semihosting calls that write
    /// to the console (GDB manual, "File-I/O Remote Protocol Extension"). The console alone is served: other calls are
    /// refused, as they would reach this computer's files. Kept from `keep_console(true)` on, in bounds.
    struct Printed {
        std::chrono::steady_clock::time_point came;
        bool errors = false;
        std::string text;
    };
    void keep_console(bool on) { line_->keeps_console = on; }
    std::vector<Printed> take_console() { return std::exchange(line_->console, {}); }
    /// What the target reads from its console next, by such a call. A Problem if too much waits to be read.
    Result<void> type(const std::string& text);
    /// Bytes that nobody took before they were too many, since the last call.
    std::uint64_t console_lost() { return std::exchange(line_->console_lost, 0); }

    /// How often the core was halted only to be read, and for how long altogether.
    unsigned brief_halts() const { return line_->brief_halts; }
    double brief_halt_seconds() const { return line_->brief_halt_seconds; }

  private:
    static constexpr int kMostSteps = 2;  ///< beyond the first
    Result<DebugStop> step_once();
    /// The core is about to be let go on.
    void leave_place();
    Result<std::string> ask(const std::string& payload);
    Result<std::string> ask(const std::string& payload, Milliseconds patience);
    Result<void> ask_ok(const std::string& payload, const std::string& doing);
    Result<void> send(const std::string& payload);
    Result<std::optional<DebugPacketReader::Item>> receive(std::chrono::steady_clock::time_point until);
    Result<DebugStop> interrupt();
    Result<void> serve_call(std::string_view call);
    void printed(bool errors, std::string text);
    void read_target_description();
    unsigned register_bits(unsigned number) const;
    Result<void> memory_chunks(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress);
    std::optional<DebugStop> stop_of(std::string_view reply) const;
    Problem unexpected(const std::string& doing, std::string_view reply) const;

    /// What the cores of one server share.
    struct Line {
        std::unique_ptr<Link> link;
        std::string address;  ///< that was connected to; empty for a link that came open
        Milliseconds patience{};
        DebugPacketReader reader;
        bool detach = true, acks = true, running = false, non_stop = false, vcont = false;
        bool greeting = true;  ///< the server may still tell of a halt that nobody asked for
        std::size_t packet_size = 400;
        std::optional<DebugStop> kept_stop;
        std::vector<Printed> console;
        std::string typed;   ///< not read by the target yet
        std::string chosen;  ///< the thread that the server takes for what comes next; empty: not known
        std::set<std::string> processes;  ///< that cores were chosen of
        std::uint64_t console_lost = 0;
        bool keeps_console = false, interrupting = false;
        unsigned brief_halts = 0;
        double brief_halt_seconds = 0;
        std::uint64_t let_go = 0;  ///< how often the cores were
    };
    explicit DebugServer(std::shared_ptr<Line> line);

    std::shared_ptr<Line> line_;
    bool stood_still_ = false;
    std::uint64_t changes_ = 0, memory_changes_ = 0, changes_before_ = 0;
    bool counting_ = false;
    StoodPlaces places_;
    std::optional<std::uint64_t> here_;  ///< where it stands, once that was asked …
    std::uint64_t here_since_ = 0;       ///< … when it had been let go on so often
    std::string architecture_;
    std::vector<Register> registers_;
    std::optional<unsigned> pc_number_;
    std::string thread_;  ///< the one that is meant, as the server names it: "p2.1"; empty: whichever it takes
};

}  // namespace mt
