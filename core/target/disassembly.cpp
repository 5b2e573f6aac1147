#include "target/disassembly.h"

#include <llvm-c/Disassembler.h>
#include <llvm-c/Target.h>

#include <algorithm>
#include <array>
#include <mutex>

#include "base/text.h"

namespace mt {

Disassembler::Disassembler(const Code& code) : code_(code) {
    static std::once_flag once;
    std::call_once(once, [] {
        LLVMInitializeARMTargetInfo();
        LLVMInitializeARMTargetMC();
        LLVMInitializeARMDisassembler();
        LLVMInitializeAArch64TargetInfo();
        LLVMInitializeAArch64TargetMC();
        LLVMInitializeAArch64Disassembler();
        LLVMInitializeRISCVTargetInfo();
        LLVMInitializeRISCVTargetMC();
        LLVMInitializeRISCVDisassembler();
    });
    const bool a_profile = code.isa() == Isa::arm || code.isa() == Isa::a64;
    if (a_profile) {
        if (code.isa() == Isa::a64)
            context_ = LLVMCreateDisasmCPUFeatures("aarch64-none-elf", "", "+v8.6a,+sve,+mte", nullptr, 0, nullptr, nullptr);
        else {
            context_ = LLVMCreateDisasmCPUFeatures("armv8a-none-eabi", "", "+neon,+crypto,+crc", nullptr, 0, nullptr, nullptr);
            thumb_context_ = LLVMCreateDisasmCPUFeatures("thumbv8a-none-eabi", "", "+neon,+crypto,+crc", nullptr, 0, nullptr, nullptr);
        }
    } else if (!code.riscv())
        context_ = LLVMCreateDisasmCPU("thumbv7em-none-eabi", "cortex-m7", nullptr, 0, nullptr, nullptr);
    else
        context_ = LLVMCreateDisasmCPUFeatures(code.xlen() == 64 ? "riscv64" : "riscv32", "", "+m,+a,+f,+d,+c", nullptr,
                                               0, nullptr, nullptr);
}

Disassembler::~Disassembler() {
    for (void* context : {context_, thumb_context_})
        if (context != nullptr) LLVMDisasmDispose(context);
}

std::string Disassembler::text(std::uint32_t slot) const {
    const std::uint32_t bits = code_.bits(slot);
    const unsigned size = 2u * code_[slot].size;
    std::array<std::uint8_t, 4> bytes{};
    for (unsigned i = 0; i < size; ++i) bytes[i] = static_cast<std::uint8_t>(bits >> (8 * i));
    std::array<char, 128> out{};
    const std::uint64_t address = code_.address(slot);
    void* const context = thumb_context_ != nullptr && code_.isa(slot) == Isa::thumb ? thumb_context_ : context_;
    if (context == nullptr ||
        LLVMDisasmInstruction(context, bytes.data(), size, address, out.data(), out.size()) != size)
        return ".insn " + hex_text(bits, 2 * size);
    std::string text(out.data());
    std::replace(text.begin(), text.end(), '\t', ' ');
    text.erase(0, text.find_first_not_of(' '));
    // Direct branches in words of the program: where they go.
    if (const std::uint32_t target = code_[slot].target; target != Code::kNowhere)
        if (const auto hash = text.rfind(' '); hash != std::string::npos)
            text = text.substr(0, hash + 1) + hex_text(code_.address(target), 8);
    return text;
}

}  // namespace mt
