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
    of_kind(Kind::text, "", "name", "What is recorded, as the window calls it"),

    of_kind(Kind::text, "core", "name", "What the core is called; each has its own name", true),
    choice("core", "isa", kIsas, "", "Its instruction set; a RISC-V name may have more letters than those listed"),
    number("core", "clock_hz", 1, 100'000'000'000, "", "Core clock: turns cycles into time", "Hz"),
    of_kind(Kind::file, "core", "image",
            "The program that ran (ELF, Intel HEX or S-records): names, lines, the way of "
            "the instructions"),
    of_kind(Kind::files, "core", "images", "Several programs in its memory together, in place of image"),
    of_kind(Kind::file, "core", "svd", "CMSIS-SVD file: names of interrupts and peripherals"),
    of_kind(Kind::file, "core", "orti", "ORTI file: names of tasks"),
    number("core", "priority_bits", 1, 8, "", "How many bits of an interrupt's priority there are (Arm M-profile)"),

    of_kind(Kind::files, "stream", "file", "The recorded bytes; several files are read one behind another"),
    choice("stream", "protocol", "itm etm4 etrace ntrace mtb ctf", "", "What the bytes are", true),
    choice("stream", "framing", "none tpiu", "none", "tpiu: 16-byte formatter frames around them"),
    number("stream", "trace_id", 1, 111, "", "With framing tpiu: the source to take"),
    of_kind(Kind::text, "stream", "core", "The core that sent it, by name"),

    choice("stream.itm", "timestamp_prescaler", "1 4 16 64", "1", "Core cycles to a tick of the local timestamps"),
    number("stream.itm", "swo_baud", 1, 10'000'000'000, "", "Bits per second of the line: tells a clock that cannot be",
           "baud"),

    number("stream.line", "phase", 0, 1023, "", "Sampling phase of the trace line, as the line check found it"),
    number("stream.line", "phases", 2, 1024, "", "How many phases there are"),
    number("stream.line", "window", 0, 1024, "", "How many of them beside each other were clean"),

    flag("stream.etm4", "cycle_count", "false", "The stream counts cycles (TRCCONFIGR.CCI)"),
    number("stream.etm4", "cycle_threshold", 0, 4095, "0", "TRCCCCTLR.THRESHOLD, until the stream says otherwise",
           "cycles"),
    number("stream.etm4", "commopt", 0, 1, "1", "TRCIDR0.COMMOPT: 1 is no commit count in cycle count format 1"),
    flag("stream.etm4", "return_stack", "false", "Returns are predicted by a stack (TRCCONFIGR.RS)"),
    flag("stream.etm4", "timestamps", "false", "The stream holds timestamps (TRCCONFIGR.TS)"),
    number("stream.etm4", "timestamp_hz", 0, kMostHz, "", "How fast these count", "Hz"),
    number("stream.etm4", "zero_ticks", 0, kAny, "", "What they read at the recording's zero"),
    number("stream.etm4", "context_id_bytes", 0, 4, "0", "Bytes of a context ID: 0 or 4"),
    number("stream.etm4", "trcidr0", 0, kAny, "", "Register TRCIDR0, in place of the keys above"),
    number("stream.etm4", "trcidr1", 0, kAny, "", "Register TRCIDR1"),
    number("stream.etm4", "trcidr2", 0, kAny, "", "Register TRCIDR2: widths of context and virtual machine IDs"),
    number("stream.etm4", "trcidr8", 0, kAny, "", "Register TRCIDR8: how far the core speculates"),
    number("stream.etm4", "trcconfigr", 0, kAny, "", "Register TRCCONFIGR: what was switched on"),

    number("stream.etrace", "iaddress_width", 2, 64, "32", "Bits of an address", "bits"),
    number("stream.etrace", "iaddress_lsb", 0, 2, "1", "Lowest bit of an address that is sent"),
    number("stream.etrace", "privilege_width", 0, 4, "2", "Bits of the privilege level", "bits"),
    number("stream.etrace", "ecause_width", 1, 16, "5", "Bits of an exception's cause", "bits"),
    number("stream.etrace", "context_width", 0, 32, "0", "Bits of the context", "bits"),
    number("stream.etrace", "time_width", 0, 64, "0", "Bits of the time", "bits"),
    number("stream.etrace", "return_stack_size", 0, 12, "0", "Return stack, as a power of two; 0: none"),
    number("stream.etrace", "call_counter_size", 0, 12, "0", "Call counter, as a power of two; 0: none"),
    number("stream.etrace", "cache_size", 0, 12, "0", "Jump target cache, as a power of two; 0: none"),
    number("stream.etrace", "bpred_size", 0, 16, "0", "Branch predictor, as a power of two; 0: none"),
    number("stream.etrace", "f0s_width", 0, 4, "0", "Bits of format 0's subformat; 0: as wide as needed", "bits"),
    flag("stream.etrace", "implicit_return", "false", "Returns are not told before the first support packet"),
    flag("stream.etrace", "full_address", "false", "Addresses are whole before the first support packet"),
    number("stream.etrace", "encoder_mode_width", 0, 8, "1", "Bits of a support packet's mode", "bits"),
    of_kind(Kind::list, "stream.etrace", "ioptions", "Options of a support packet, lowest bit first"),
    choice("stream.etrace", "encapsulation", "length-byte", "length-byte", "What stands around each packet"),
    number("stream.etrace", "src_id_bits", 0, 12, "0", "Bits of the source ID before each payload", "bits"),
    number("stream.etrace", "src_id", 0, 4095, "", "The source ID of this core"),
    number("stream.etrace", "mtvec", std::numeric_limits<std::int64_t>::min(), kAny, "",
           "Machine trap vector with its mode bits, where handlers' addresses are left out"),
    number("stream.etrace", "stvec", std::numeric_limits<std::int64_t>::min(), kAny, "",
           "Supervisor trap vector, likewise"),
    number("stream.etrace", "timestamp_hz", 1, kMostHz, "", "How fast the time counts", "Hz"),
    number("stream.etrace", "zero_ticks", 0, kAny, "", "What it reads at the recording's zero"),

    number("stream.ntrace", "mdo_bits", 6, 6, "6", "Data bits of a message's slice", "bits"),
    number("stream.ntrace", "mseo_bits", 2, 2, "2", "Bits that mark its end", "bits"),
    number("stream.ntrace", "src_bits", 0, 12, "0", "Bits of the field SRC", "bits"),
    number("stream.ntrace", "src_id", 0, 4095, "", "The source of this core"),
    flag("stream.ntrace", "timestamps", "true", "Messages end with a TSTAMP"),
    number("stream.ntrace", "timestamp_hz", 1, kMostHz, "", "How fast it counts", "Hz"),
    number("stream.ntrace", "zero_ticks", 0, kAny, "", "What it reads at the recording's zero"),
    flag("stream.ntrace", "implicit_return", "false", "Returns are followed by a stack and not told"),

    of_kind(Kind::file, "stream.ctf", "mapping", "Mapping file that binds another vocabulary"),
    of_kind(Kind::file, "stream.ctf", "metadata", "Metadata of one file of packets, where it does not lie beside it"),
    number("stream.ctf", "recorder_hz", 1, kMostHz, "",
           "The packets are those of recorder/, and its time source counts so fast", "Hz"),
    number("stream.ctf", "zero_ticks", 0, kAny, "", "What its clock reads at the recording's zero"),

    number("watch", "comparator", 0, 15, "", "Which comparator of the data trace"),
    of_kind(Kind::text, "watch", "symbol", "The variable that it watched"),
    number("watch", "address", 0, kAny, "", "Its address, in place of symbol"),
    choice("watch", "type", kTypes, "", "How its bytes are read", true),
    number("watch", "mask", 0, kAny, "", "Bits that count, before the type"),
    number("watch", "shift", 0, 63, "0", "By how many bits it is moved down"),
    choice("watch", "role", "value current-task", "value", "current-task: it holds the running task"),
    of_kind(Kind::names, "watch", "names", "What its values stand for"),

    number("port", "number", 0, 255, "", "Stimulus port"),
    of_kind(Kind::text, "port", "name", "What it is called"),
    choice("port", "kind", "text mark value ctf", "value", "What the firmware writes there"),
    choice("port", "role", "current-task", "", "The firmware writes the running task"),
    choice("port", "type", kTypes, "u32", "How its bytes are read"),
    of_kind(Kind::names, "port", "names", "What its values stand for"),
    of_kind(Kind::file, "port", "metadata", "With kind ctf: metadata of the packets"),
    number("port", "recorder_hz", 1, kMostHz, "", "With kind ctf: the packets are those of recorder/, ticks per second",
           "Hz"),

    of_kind(Kind::text, "task", "name", "What the task is called", true),
    number("task", "number", 0, kAny, "", "What stands for it in the trace, where nothing else names it"),
    of_kind(Kind::text, "task", "core", "Whose task has that number; not stated: any core's"),
    choice("task", "job_ends", "next-job any-wait wait-for marks", "next-job", "Where a job of it ends"),
    of_kind(Kind::text, "task", "object", "With wait-for: a semaphore, a queue, or the timer"),
    of_kind(Kind::mark, "task", "begin", "With marks: the mark that begins a job"),
    of_kind(Kind::mark, "task", "end", "With marks: the mark that ends it"),
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
