// Encoder, funnel, RAM sink and pin sink of the RISC-V Trace Control Interface Specification 1.0.
#include "base/text.h"
#include "control/units/registers.h"
#include "control/units/unit.h"

namespace mt {
namespace tc = trace_control;

void look_at_trace_encoder(UnitReader& read, Unit& unit) {
    const std::uint32_t control = read(tc::kControl), can = read(tc::kInstFeatures), ts = read(tc::kTsControl);
    unit.feature("format", std::string(bits_of(control, 26, 24) == 1 ? "ntrace" : "etrace"));
    unit.feature("source_id", std::int64_t{bits_of(can, 27, 16)});
    unit.feature("source_bits", std::int64_t{bits_of(can, 31, 28)});
    unit.feature("timestamp_bits", std::int64_t{bits_of(ts, 29, 24)});
    unit.setting("active", (control & tc::kActive) != 0);
    unit.setting("enabled", (control & tc::kEnable) != 0);
    unit.setting("tracing", (control & tc::kInstTracing) != 0);
    unit.setting("mode", std::int64_t{bits_of(control, 6, 4)});
    unit.setting("context", (control & 1u << 9) != 0);
    unit.setting("sync_mode", std::int64_t{bits_of(control, 17, 16)});
    unit.setting("sync_max", std::int64_t{bits_of(control, 23, 20)});
    unit.setting("full_address", (can & 1) != 0);
    unit.setting("return_stack", (can & 1u << 3) != 0);
    unit.setting("branch_prediction", (can & 1u << 4) != 0);
    unit.setting("jump_target_cache", (can & 1u << 5) != 0);
    unit.setting("timestamps", (ts & tc::kTsEnable) != 0);
    unit.setting("filters", hex_text(read(tc::kInstFilters)));
}

void look_at_trace_funnel(UnitReader& read, Unit& unit) {
    const std::uint32_t control = read(tc::kControl);
    unit.setting("active", (control & tc::kActive) != 0);
    unit.setting("enabled", (control & tc::kEnable) != 0);
    unit.setting("inputs_closed", hex_text(read(tc::kDisInput) & 0xFFFF));
}

void look_at_ram_sink(UnitReader& read, Unit& unit) {
    const std::uint32_t impl = read(tc::kImpl), control = read(tc::kControl);
    unit.feature("own_memory", (impl & 1u << 12) != 0);
    unit.feature("system_memory", (impl & 1u << 13) != 0);
    const std::uint64_t start = std::uint64_t{read(tc::kRamStartHigh)} << 32 | read(tc::kRamStartLow);
    const std::uint64_t limit = std::uint64_t{read(tc::kRamLimitHigh)} << 32 | read(tc::kRamLimitLow);
    unit.setting("active", (control & tc::kActive) != 0);
    unit.setting("enabled", (control & tc::kEnable) != 0);
    unit.setting("in", std::string((control & tc::kRamSystemMemory) != 0 ? "system memory" : "own memory"));
    unit.setting("mode", std::string((control & tc::kRamStopOnWrap) != 0 ? "until-full" : "circular"));
    unit.setting("start", hex_text(start));
    unit.setting("bytes", static_cast<std::int64_t>(limit >= start ? limit - start + 4 : 0));
    unit.setting("wrapped", (read(tc::kRamWpLow) & tc::kRamWrapped) != 0);
}

void look_at_pin_sink(UnitReader& read, Unit& unit) {
    const std::uint32_t control = read(tc::kControl), mode = bits_of(control, 7, 4);
    unit.setting("active", (control & tc::kActive) != 0);
    unit.setting("enabled", (control & tc::kEnable) != 0);
    unit.setting("output", std::string(mode == 4    ? "serial wire, manchester"
                                       : mode == 5  ? "serial wire, nrz"
                                       : mode == 8  ? "1 line"
                                       : mode == 9  ? "2 lines"
                                       : mode == 10 ? "4 lines"
                                       : mode == 11 ? "8 lines"
                                       : mode == 12 ? "16 lines"
                                                    : "off"));
    unit.setting("divider", std::int64_t{bits_of(control, 31, 16)});
}

}  // namespace mt
