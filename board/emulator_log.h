// What an emulator says of a Cortex-M program that it executes (qemu-system-arm -d exec,nochain,int,in_asm), told to
// the trace unit: real control flow, exceptions among it, for decoders to be held against.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string_view>
#include <unordered_map>
#include <utility>
#include <vector>

#include "etm4_encoder.h"
#include "target/functions.h"
#include "target/image.h"

namespace board {

/// Reads the log line by line. An instruction takes a cycle. What was executed is counted as far as the trace can tell
/// of it: up to the last branch or exception.
class EmulatorLog {
  public:
    using Ran = std::function<void(std::uint32_t address, std::uint32_t instructions)>;

    /// `ran` hears of straight runs, and later of each exception (its handler, 0 instructions).
    EmulatorLog(const mt::Image& image, Etm4Encoder& encoder, Ran ran = {});

    /// Throws std::runtime_error if the log is not what such an emulator writes.
    void line(std::string_view text);

    /// Instructions executed, told or not yet.
    std::uint64_t steps() const { return steps_; }
    std::uint64_t told() const { return told_; }
    std::uint64_t exceptions() const { return exceptions_; }
    const mt::FunctionTable& functions() const { return *functions_; }
    /// By function: how often it was entered, and its instructions.
    const std::vector<std::uint64_t>& entered() const { return entered_; }
    const std::vector<std::uint64_t>& executed() const { return executed_; }

  private:
    // A translated block: instructions from `pc` on.
    struct Block {
        std::uint32_t pc = 0, count = 0;
    };
    void begin(const Block& b);
    void stopped(std::uint32_t pc);
    void exception(std::uint32_t handler);
    void exception_return();
    void execute(const Block& b);
    void settle(std::uint32_t next);
    void tell();
    std::uint32_t slot(std::uint32_t pc) const;
    std::uint32_t last_of(const Block& b) const;
    std::uint32_t behind(const Block& b) const;

    std::shared_ptr<const mt::Code> code_;
    std::shared_ptr<const mt::FunctionTable> functions_;
    Etm4Encoder& encoder_;
    Ran ran_;
    std::unordered_map<std::uint64_t, std::uint32_t> blocks_;  ///< instructions by address and kind of translation
    std::uint32_t translated_ = 0;                             ///< lines of the translation that is being listed
    unsigned number_ = 0;                                      ///< of the exception that is being taken
    std::optional<Block> last_;                                ///< what its branch did is known with the next
    std::vector<Block> untold_;
    std::uint32_t stands_ = 0;
    bool begun_ = false, returning_ = false;
    std::uint64_t steps_ = 0, told_ = 0, exceptions_ = 0;
    std::vector<std::uint64_t> entered_, executed_;
};

}  // namespace board
