// The text of an instruction, for people. What a branch does is decided elsewhere (code.h).
#pragma once

#include <memory>
#include <string>

#include "target/code.h"

namespace mt {

/// One thread at a time. Without a disassembler for the architecture the text is the instruction's bits.
class Disassembler {
  public:
    explicit Disassembler(const Code& code);
    ~Disassembler();
    Disassembler(const Disassembler&) = delete;
    Disassembler& operator=(const Disassembler&) = delete;

    std::string text(std::uint32_t slot) const;

  private:
    const Code& code_;
    void* context_ = nullptr;
    void* thumb_context_ = nullptr;  ///< of cores that have Thumb beside A32
};

}  // namespace mt
