// The trace unit of the main core: executed branches, exceptions and times to ETMv4 packets.
// Arm Embedded Trace Macrocell Architecture Specification ETMv4 (IHI 0064), chapters 5 and 6; M-profile, no
// speculation.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <vector>

namespace board {

/// How the trace unit is set up; the target file must say the same.
struct Etm4Setup {
    bool return_stack = false;       ///< TRCCONFIGR.RS
    bool timestamps = true;          ///< TRCCONFIGR.TS
    unsigned sync_bytes = 1024;      ///< TRCSYNCPR: a synchronisation after so many bytes; 0: none but the first
    std::uint64_t stamp_each = 256;  ///< cycles after which a timestamp follows the next atoms
};

/// Told in program order. Whoever calls knows the program: each branch, call, return and jump is an atom (5.2.1);
/// behind one whose target the program does not say comes `target`.
class Etm4Encoder {
  public:
    explicit Etm4Encoder(const Etm4Setup& setup) : setup_(setup) {}

    /// Whether the straight run from `first` to `last` is traced; asked once for each, in program order. Left out: all
    /// is.
    std::function<bool(std::uint32_t first, std::uint32_t last)> view;
    /// The events of the run that was just viewed, a bit each; left out: none.
    std::function<unsigned()> events;
    /// A straight run is executed, before what its branch does is told.
    void ran(std::uint32_t first, std::uint32_t last);

    /// Tracing begins with the instruction at `address`.
    void begin(std::uint32_t address, std::uint64_t cycle);
    void atom(bool taken, std::uint64_t cycle);
    /// A call went to `back`'s instruction before: for the return stack, where it is on.
    void called(std::uint32_t back);
    /// Where the taken indirect branch told last went; `returns`: it may be taken from the return stack (5.4.3).
    void target(std::uint32_t address, bool returns);
    /// The core takes exception `number` (Armv7-M B1.5.2); `back` is where the interrupted program goes on, or the
    /// return code where it was entered straight from another; the handler begins at `handler`.
    void exception(unsigned number, std::uint32_t back, std::uint32_t handler, std::uint64_t cycle);
    /// A handler returned to `address`; its last branch was told as an atom.
    void exception_return(std::uint32_t address, std::uint64_t cycle);
    /// The core is halted before the instruction at `address`; it goes on, perhaps somewhere else.
    void halt(std::uint32_t address, std::uint64_t cycle);
    void resume(std::uint32_t address, std::uint64_t cycle);
    /// Where the program stands before the next instruction: a synchronisation comes here if it is due.
    void stand_at(std::uint32_t address);
    /// Moves the bytes since the last call to the end of `out`; atoms that fill no packet wait unless it is the `end`.
    void drain(std::vector<std::uint8_t>& out, bool end);

  private:
    static constexpr std::size_t kMostReturns = 15;

    void put(std::uint8_t byte) { out_.push_back(byte); }
    void put_atoms(bool all);
    void put_address(std::uint32_t address);
    void put_stamp(std::uint64_t cycle);
    void put_sync();

    Etm4Setup setup_;
    std::vector<std::uint8_t> out_;
    bool traced_ = true;
    std::uint64_t atoms_ = 0;  ///< bit 0 the oldest; 1: taken
    unsigned count_ = 0;
    std::array<std::uint32_t, 3> recent_{};  ///< addresses sent, the latest first (6.4.12)
    std::vector<std::uint32_t> returns_;
    std::size_t since_sync_ = 0, drained_ = 0;  ///< bytes before those in out_; in out_ before the synchronisation
    std::uint64_t stamp_ = 0, stamped_ = 0;
    bool whole_stamp_ = false;  ///< the next timestamp is sent in full
};

}  // namespace board
