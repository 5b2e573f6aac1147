#include "target/frame_state.h"

namespace mt {

std::string frame_register_name(Isa kind, unsigned number) {
    if (is_riscv(kind) && number >= 32 && number < 64) return "f" + std::to_string(number - 32);
    if (number > 31) return {};
    if (is_riscv(kind)) return "x" + std::to_string(number);
    if (kind == Isa::a64) return number == 31 ? "sp" : "x" + std::to_string(number);
    if (number > 15) return {};
    constexpr const char* high[] = {"sp", "lr", "pc"};
    return number >= 13 ? high[number - 13] : "r" + std::to_string(number);
}

FrameState frame_convention(Isa kind) {
    FrameState f;
    f.isa = kind;
    f.reg = [](unsigned) { return FrameWord{}; };
    f.byte = [](std::uint64_t) { return FrameWord{}; };
    f.address_bytes = address_bits(kind) / 8;
    f.stack_pointer = is_riscv(kind) ? 2 : kind == Isa::a64 ? 31 : 13;
    if (is_riscv(kind))
        f.kept_by_calls = [](unsigned n) { return n == 8 || n == 9 || (n >= 18 && n <= 27); };  // psABI, "Integer register convention"
    else if (kind == Isa::a64)
        f.kept_by_calls = [](unsigned n) { return n >= 19 && n <= 29; };  // AAPCS64, 6.1.1
    else
        f.kept_by_calls = [](unsigned n) { return n >= 4 && n <= 11; };  // AAPCS32, 6.1.1
    return f;
}

}  // namespace mt
