#include "target/target_keys.h"

#include <limits>

namespace mt {
namespace {

using Kind = TargetKey::Kind;
constexpr std::int64_t kAny = std::numeric_limits<std::int64_t>::max();
constexpr std::int64_t kMostHz = 1'000'000'000'000;

constexpr TargetKey number(std::string_view table, std::string_view key, std::int64_t least, std::int64_t most,
                           std::string_view usual, std::string_view meaning, std::string_view unit = {}) {
    return {table, key, Kind::number, meaning, unit, usual, {}, least, most};
}
constexpr TargetKey flag(std::string_view table, std::string_view key, std::string_view usual,
                         std::string_view meaning) {
    return {table, key, Kind::flag, meaning, {}, usual};
}
constexpr TargetKey choice(std::string_view table, std::string_view key, std::string_view choices,
                           std::string_view usual, std::string_view meaning, bool required = false) {
    return {table, key, Kind::choice, meaning, {}, usual, choices, 0, 0, required};
}
constexpr TargetKey of_kind(Kind kind, std::string_view table, std::string_view key, std::string_view meaning,
                            bool required = false, std::string_view usual = {}) {
    return {table, key, kind, meaning, {}, usual, {}, 0, 0, required};
}

constexpr std::string_view kIsas =
    "armv6-m armv7-m armv7e-m armv8-m.base armv8-m.main armv8.1-m.main armv7-a armv7-r armv8-a armv8-a32 rv32imac "
    "rv32imafc rv64imac rv64gc";
constexpr std::string_view kTypes = "u8 i8 u16 i16 u32 i32 f32 bool";

constexpr TargetKey kKeys[] = {
    of_kind(Kind::text, "", "name", "Name of the target, shown as the title"),

    of_kind(Kind::text, "core", "name", "Name of the core, unique in this file", true),
    choice("core", "isa", kIsas, "", "Instruction set; other RISC-V names are accepted too"),
    number("core", "clock_hz", 1, 100'000'000'000, "", "Core clock, converts cycles to time", "Hz"),
    of_kind(Kind::file, "core", "image",
            "The program that ran (ELF, Intel HEX or S-records): needed for names, source lines and instruction trace"),
    of_kind(Kind::files, "core", "images", "Several programs loaded together, instead of image"),
    of_kind(Kind::file, "core", "svd", "CMSIS-SVD file with the names of interrupts"),
    of_kind(Kind::file, "core", "orti", "ORTI file with the names of tasks"),
    choice("core", "context", "contextid", "", "What tells processes apart: CONTEXTIDR"),
    number("core", "priority_bits", 1, 8, "", "Implemented interrupt priority bits (Arm M-profile)"),
    number("core", "rom_table", 0, 0xFFFF'FFFF, "",
           "Address of the root CoreSight ROM table, where it is not 0xE00FF000"),
    flag("core", "untouched", "false", "No debugger changed a register or memory while it was recorded: where it was halted, it went on as it stood"),
    of_kind(Kind::file, "core", "stood", "Where a debugger let it go on while it was recorded, as CSV: what was known before is known behind those gaps"),
    of_kind(Kind::list, "core", "units", "Base addresses of trace units that no ROM table lists, as those of RISC-V"),

    of_kind(Kind::file, "core.began", "registers", "Registers before the first recorded instruction, as JSON"),
    of_kind(Kind::tables, "core.began", "memory", "Memory at that moment: file and address of each range"),

    of_kind(Kind::file, "core.stopped", "registers", "Registers after the last recorded instruction, as JSON"),
    of_kind(Kind::tables, "core.stopped", "memory", "Memory at that moment: file and address of each range"),
    flag("core.stopped", "told", "false", "It counts only if trace tells that it stopped there: what came last may be missing"),

    of_kind(Kind::files, "stream", "file", "File with the trace bytes, or a list of files that follow one another"),
    choice("stream", "protocol", "itm etm4 pft etm3 etrace ntrace mtb ctf samples polled console", "", "Trace protocol", true),
    choice("stream", "framing", "none tpiu", "none", "tpiu if the bytes come in 16-byte formatter frames"),
    number("stream", "trace_id", 1, 111, "", "Trace source ID, with framing tpiu"),
    of_kind(Kind::text, "stream", "core", "Name of the core that sends this stream"),

    choice("stream.itm", "timestamp_prescaler", "1 4 16 64", "1", "Core cycles per local timestamp tick"),
    number("stream.itm", "swo_baud", 1, 10'000'000'000, "", "Line rate; lets an impossible clock be noticed", "baud"),

    number("stream.line", "phase", 0, 1023, "", "Sampling phase of the trace line, written by the line check"),
    number("stream.line", "phases", 2, 1024, "", "Number of phases"),
    number("stream.line", "window", 0, 1024, "", "Width of the clean window, in phases"),

    flag("stream.etm4", "cycle_count", "false", "Cycle counting is on (TRCCONFIGR.CCI)"),
    number("stream.etm4", "cycle_threshold", 0, 4095, "0",
           "Cycle count threshold (TRCCCCTLR.THRESHOLD), until the stream tells it", "cycles"),
    number("stream.etm4", "commopt", 0, 1, "1", "TRCIDR0.COMMOPT: 1 means no commit count in cycle count format 1"),
    flag("stream.etm4", "return_stack", "false", "Return stack is on (TRCCONFIGR.RS)"),
    flag("stream.etm4", "timestamps", "false", "Timestamps are on (TRCCONFIGR.TS)"),
    number("stream.etm4", "timestamp_hz", 0, kMostHz, "", "Frequency of the timestamps", "Hz"),
    number("stream.etm4", "zero_ticks", 0, kAny, "", "Timestamp at the start of the recording"),
    number("stream.etm4", "context_id_bytes", 0, 4, "0", "Size of a context ID in bytes: 0 or 4"),
    number("stream.etm4", "trcidr0", 0, kAny, "", "Register TRCIDR0, instead of the keys above"),
    number("stream.etm4", "trcidr1", 0, kAny, "", "Register TRCIDR1"),
    number("stream.etm4", "trcidr2", 0, kAny, "", "Register TRCIDR2: sizes of context and virtual machine IDs"),
    number("stream.etm4", "trcidr8", 0, kAny, "", "Register TRCIDR8: maximum speculation depth"),
    number("stream.etm4", "trcconfigr", 0, kAny, "", "Register TRCCONFIGR: what is switched on"),

    flag("stream.pft", "cycle_accurate", "false", "Cycle-accurate tracing is on (ETMCR bit 12)"),
    flag("stream.pft", "return_stack", "false", "Return stack is on (ETMCR bit 29)"),
    flag("stream.pft", "branch_broadcast", "false", "Branch broadcasting is on (ETMCR bit 8)"),
    number("stream.pft", "context_id_bytes", 0, 4, "0", "Size of a context ID in bytes: 0, 1, 2 or 4"),
    flag("stream.pft", "timestamps", "false", "Timestamps are on (ETMCR bit 28)"),
    number("stream.pft", "timestamp_hz", 0, kMostHz, "", "Frequency of the timestamps", "Hz"),
    number("stream.pft", "zero_ticks", 0, kAny, "", "Timestamp at the start of the recording"),
    number("stream.pft", "etmcr", 0, 0xFFFF'FFFF, "", "Register ETMCR, instead of the keys above"),

    flag("stream.etm3", "cycle_accurate", "false", "Cycle-accurate tracing is on (ETMCR bit 12)"),
    flag("stream.etm3", "alternative_branch", "true", "Branch addresses in the alternative encoding (ETMIDR bit 20)"),
    flag("stream.etm3", "data_address", "false", "Addresses of data are traced (ETMCR bit 3)"),
    flag("stream.etm3", "data_value", "false", "Values of data are traced (ETMCR bit 2)"),
    number("stream.etm3", "context_id_bytes", 0, 4, "0", "Size of a context ID in bytes: 0, 1, 2 or 4"),
    flag("stream.etm3", "timestamps", "false", "Timestamps are on (ETMCR bit 28)"),
    number("stream.etm3", "timestamp_hz", 0, kMostHz, "", "Frequency of the timestamps", "Hz"),
    number("stream.etm3", "zero_ticks", 0, kAny, "", "Timestamp at the start of the recording"),
    number("stream.etm3", "etmcr", 0, 0xFFFF'FFFF, "", "Register ETMCR, instead of the keys above"),
    number("stream.etm3", "etmidr", 0, 0xFFFF'FFFF, "", "Register ETMIDR"),

    number("stream.etrace", "iaddress_width", 2, 64, "32", "Address width", "bits"),
    number("stream.etrace", "iaddress_lsb", 0, 2, "1", "Lowest address bit that is sent"),
    number("stream.etrace", "privilege_width", 0, 4, "2", "Width of the privilege level", "bits"),
    number("stream.etrace", "ecause_width", 1, 16, "5", "Width of the exception cause", "bits"),
    number("stream.etrace", "context_width", 0, 32, "0", "Width of the context", "bits"),
    number("stream.etrace", "time_width", 0, 64, "0", "Width of the time", "bits"),
    number("stream.etrace", "return_stack_size", 0, 12, "0", "log2 of the return stack size; 0: none"),
    number("stream.etrace", "call_counter_size", 0, 12, "0", "log2 of the call counter size; 0: none"),
    number("stream.etrace", "cache_size", 0, 12, "0", "log2 of the jump target cache size; 0: none"),
    number("stream.etrace", "bpred_size", 0, 16, "0", "log2 of the branch predictor size; 0: none"),
    number("stream.etrace", "f0s_width", 0, 4, "0", "Width of the format 0 subformat; 0: as wide as needed", "bits"),
    flag("stream.etrace", "implicit_return", "false", "Implicit returns are on before the first support packet"),
    flag("stream.etrace", "full_address", "false", "Full addresses are sent before the first support packet"),
    number("stream.etrace", "encoder_mode_width", 0, 8, "1", "Width of the encoder mode in a support packet", "bits"),
    of_kind(Kind::list, "stream.etrace", "ioptions", "Options in a support packet, lowest bit first"),
    choice("stream.etrace", "encapsulation", "length-byte", "length-byte", "Encapsulation of each packet"),
    number("stream.etrace", "src_id_bits", 0, 12, "0", "Width of the source ID before each payload", "bits"),
    number("stream.etrace", "src_id", 0, 4095, "", "Source ID of this core"),
    number("stream.etrace", "mtvec", std::numeric_limits<std::int64_t>::min(), kAny, "",
           "Machine trap vector with its mode bits, for encoders that omit handler addresses"),
    number("stream.etrace", "stvec", std::numeric_limits<std::int64_t>::min(), kAny, "",
           "Supervisor trap vector with its mode bits"),
    number("stream.etrace", "timestamp_hz", 1, kMostHz, "", "Frequency of the time", "Hz"),
    number("stream.etrace", "zero_ticks", 0, kAny, "", "Its value at the start of the recording"),

    number("stream.ntrace", "mdo_bits", 6, 6, "6", "MDO width", "bits"),
    number("stream.ntrace", "mseo_bits", 2, 2, "2", "MSEO width", "bits"),
    number("stream.ntrace", "src_bits", 0, 12, "0", "Width of the SRC field", "bits"),
    number("stream.ntrace", "src_id", 0, 4095, "", "Source ID of this core"),
    flag("stream.ntrace", "timestamps", "true", "Messages carry a TSTAMP"),
    number("stream.ntrace", "timestamp_hz", 1, kMostHz, "", "Frequency of the TSTAMP", "Hz"),
    number("stream.ntrace", "zero_ticks", 0, kAny, "", "Its value at the start of the recording"),
    flag("stream.ntrace", "implicit_return", "false", "Implicit returns are on"),

    of_kind(Kind::file, "stream.ctf", "mapping", "Mapping file for another event vocabulary"),
    of_kind(Kind::file, "stream.ctf", "metadata", "Metadata, if it is not next to the packets"),
    number("stream.ctf", "recorder_hz", 1, kMostHz, "",
           "Frequency of the time source, if the packets come from the recorder", "Hz"),
    number("stream.ctf", "zero_ticks", 0, kAny, "", "Clock value at the start of the recording"),

    of_kind(Kind::text, "stream.samples", "name", "Name of the measuring device"),
    choice("stream.samples", "type", "u8 i8 u16 i16 u24 i24 u32 i32 f32 f64", "", "Type of a sample", true),
    flag("stream.samples", "big_endian", "false", "The most significant byte comes first"),
    of_kind(Kind::real, "stream.samples", "rate_hz", "Samples of each channel per second, in Hz", true),
    of_kind(Kind::tables, "stream.samples", "channels", "Name, scale, offset and unit of each channel, in order", true),
    of_kind(Kind::tables, "stream.samples", "align", "What both clocks saw"),
    of_kind(Kind::real, "stream.samples", "offset_ns",
            "What the device's clock read at the recording's start, in ns, without align"),
    of_kind(Kind::real, "stream.samples", "drift_ppm",
            "By how much it runs fast, in parts per million, without align"),

    of_kind(Kind::tables, "stream.polled", "values", "Name, address, type and rate of each value that was read", true),

    number("process", "context", 0, 0xFFFF'FFFF, "", "Number that the trace tells of it (CONTEXTIDR, RISC-V context)"),
    of_kind(Kind::text, "process", "name", "Name of the process", true),
    of_kind(Kind::file, "process", "image", "The program that runs under this number, beside the core's own"),
    of_kind(Kind::text, "process", "core", "Core on which it runs; default: any"),

    number("watch", "comparator", 0, 15, "", "Data trace comparator"),
    of_kind(Kind::text, "watch", "symbol", "Variable that it watches"),
    of_kind(Kind::text, "watch", "expression",
            "Instead of symbol: a member, an element, a register of the SVD file, or bits of them, as in C"),
    number("watch", "address", 0, kAny, "", "Address, instead of symbol"),
    choice("watch", "type", kTypes, "", "Type of the values, if the image does not say it"),
    number("watch", "mask", 0, kAny, "", "Mask applied before the type"),
    number("watch", "shift", 0, 63, "0", "Right shift in bits, after the mask"),
    choice("watch", "role", "value current-task", "value", "current-task if it holds the running task"),
    of_kind(Kind::names, "watch", "names", "Names of values"),

    number("port", "number", 0, 255, "", "Number of the stimulus port"),
    of_kind(Kind::text, "port", "name", "Name of the port"),
    choice("port", "kind", "text mark value ctf", "value", "What the firmware writes to it"),
    choice("port", "role", "current-task", "", "current-task if the firmware writes the running task"),
    choice("port", "type", kTypes, "u32", "Type of the values"),
    of_kind(Kind::names, "port", "names", "Names of values"),
    of_kind(Kind::file, "port", "metadata", "Metadata of the packets, with kind ctf"),
    number("port", "recorder_hz", 1, kMostHz, "", "Frequency of the recorder's time source, with kind ctf", "Hz"),

    of_kind(Kind::file, "signals", "file", "VCD, CSV, TSV or MDF 4 file, measured beside the trace", true),
    of_kind(Kind::text, "signals", "name", "Name of the measuring device"),
    of_kind(Kind::list, "signals", "select", "Signals that are read; all if not stated"),
    of_kind(Kind::tables, "signals", "align", "What both clocks saw"),
    of_kind(Kind::real, "signals", "offset_ns",
            "What the device's clock read at the recording's start, in ns, without align"),
    of_kind(Kind::real, "signals", "drift_ppm", "By how much it runs fast, in parts per million, without align"),

    of_kind(Kind::text, "stopwatch", "name", "Name of the stopwatch", true),
    of_kind(Kind::event, "stopwatch", "from", "Event that starts it", true),
    of_kind(Kind::event, "stopwatch", "to", "Event that stops it: the first behind", true),

    of_kind(Kind::text, "derived", "name", "Name of the derived signal", true),
    of_kind(Kind::text, "derived", "expression", "Formula of other values, C-like: `board current` * 3.3", true),
    of_kind(Kind::text, "derived", "unit", "Unit of the result"),

    of_kind(Kind::text, "task", "name", "Name of the task", true),
    number("task", "number", 0, kAny, "", "Its number in the trace, if nothing else names it"),
    of_kind(Kind::text, "task", "core", "Core that the number belongs to; any core if not stated"),
    choice("task", "job_ends", "next-job any-wait wait-for marks", "next-job", "Where its jobs end"),
    of_kind(Kind::text, "task", "object", "Semaphore, queue or \"the timer\", with wait-for"),
    of_kind(Kind::mark, "task", "begin", "Mark that begins a job, with marks"),
    of_kind(Kind::mark, "task", "end", "Mark that ends a job, with marks"),
};

}  // namespace

std::span<const TargetKey> target_keys() { return kKeys; }

std::vector<const TargetKey*> target_keys_of(std::string_view table) {
    std::vector<const TargetKey*> keys;
    for (const TargetKey& k : kKeys)
        if (k.table == table) keys.push_back(&k);
    return keys;
}

std::vector<std::string_view> stream_tables_of(std::string_view protocol) {
    std::vector<std::string_view> tables;
    for (const TargetKey& k : kKeys) {
        if (!k.table.starts_with("stream.") || (!tables.empty() && tables.back() == k.table)) continue;
        if (k.table.substr(7) == protocol || (k.table == "stream.line" && protocol == "itm")) tables.push_back(k.table);
    }
    return tables;
}

}  // namespace mt
