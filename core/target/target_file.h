// The target file: which cores there are and how each stream of trace bytes is to be read.
// The format is described in docs/formats/target-file.md. Plain data once read; any thread may use it.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"
#include "target/protocol_parameters.h"

namespace mt {

enum class Protocol : std::uint8_t { itm, etm4, etrace, ntrace, mtb, ctf, samples, polled, console, pft, etm3 };
/// Whether the protocol tells which instructions were executed.
constexpr bool tells_instructions(Protocol p) {
    return p == Protocol::etm4 || p == Protocol::etrace || p == Protocol::ntrace || p == Protocol::mtb || p == Protocol::pft ||
           p == Protocol::etm3;
}
/// Whether what it tells belongs to a core; else its stream need not name one.
constexpr bool is_of_a_core(Protocol p) { return p != Protocol::ctf && p != Protocol::samples; }
/// Whether its times are those of the computer that recorded it.
constexpr bool timed_by_recorder(Protocol p) { return p == Protocol::polled || p == Protocol::console; }
/// As it stands in the target file.
std::string_view protocol_name(Protocol p);
/// "E-Trace" and the like, for people.
std::string_view protocol_title(Protocol p);
enum class Framing : std::uint8_t { none, tpiu };

struct CoreSpec {
    std::string name;
    std::string isa;
    std::uint64_t clock_hz = 0;
    bool own_clock = true;                 ///< false: `clock_hz` is that of its events; the core's own is not known
    std::string image;                     ///< path as it can be opened; empty if none
    std::vector<std::string> more_images;  ///< that stand in its memory beside `image`
    std::string svd;                       ///< path as it can be opened; empty if none
    std::string orti;                      ///< the same: names of tasks (ISO 17356-6)
    std::string context;                     ///< what tells processes apart: "contextid"; empty if not stated
    std::optional<unsigned> priority_bits;
    std::optional<std::uint64_t> rom_table;  ///< root of its CoreSight ROM tables, where it is not the usual one
    std::vector<std::uint64_t> units;        ///< base addresses of trace units that no table lists
    /// What a debugger read of it where it stood.
    struct State {
        struct Memory {
            std::string file;  ///< path as it can be opened
            std::uint64_t address = 0;
        };
        std::string registers;  ///< JSON; path as it can be opened, empty if none
        std::vector<Memory> memory;
        bool told = false;  ///< counts only if trace tells that it stopped there: what came last may be missing
        bool empty() const { return registers.empty() && memory.empty(); }
    };
    bool untouched = false;  ///< no debugger changed a register or memory while it was recorded
    std::string stood;       ///< where it stood meanwhile; path as it can be opened, empty if none
    State began;    ///< before the first recorded instruction
    State stopped;  ///< behind the last

    /// All images, the first first; empty if there is none.
    std::vector<std::string> images() const {
        if (image.empty()) return more_images;
        std::vector<std::string> all{image};
        all.insert(all.end(), more_images.begin(), more_images.end());
        return all;
    }
};

struct StreamSpec {
    std::string file;                     ///< path as it can be opened; empty until one is given
    std::vector<std::string> more_files;  ///< what follows `file` in a capture that was split, in order
    Protocol protocol = Protocol::itm;
    Framing framing = Framing::none;
    std::uint8_t trace_id = 0;  ///< with Framing::tpiu
    std::string core;
    unsigned timestamp_prescaler = 1;    ///< core cycles per local timestamp tick: 1, 4, 16 or 64
    std::uint64_t swo_baud = 0;          ///< bits per second of the line; 0 if not stated
    std::optional<unsigned> line_phase;  ///< sampling phase that the line check chose
    unsigned line_phases = 0, line_window = 0;
    EtraceParameters etrace;
    Etm4Parameters etm4;
    PftParameters pft;
    Etm3Parameters etm3;
    NtraceParameters ntrace;
    SamplesParameters samples;
    PolledParameters polled;
    std::string mapping;                     ///< path of a mapping file for other vocabularies; empty if none
    std::string metadata;                    ///< path of the metadata of a file of CTF packets; empty if not given
    std::uint64_t recorder_hz = 0;           ///< ticks per second, if our recorder wrote the packets; else 0
    std::optional<std::int64_t> zero_ticks;  ///< what the stream's own clock reads at the recording's zero
    std::uint64_t timestamp_hz = 0;          ///< of the trace's own timestamps; 0 if not stated
    unsigned line = 0;                       ///< where the table stands in the target file
};

/// A process of an A-profile core, by the number that trace tells of it.
struct ProcessSpec {
    std::uint32_t context = 0;  ///< CONTEXTIDR, or the context of RISC-V trace
    std::string name;
    std::string image;  ///< path as it can be opened; empty: the core's own image holds its code
    std::string core;   ///< whose; empty: of all
};

struct WatchSpec {
    unsigned comparator = 0;
    std::string symbol;  ///< or the expression: what it is called
    bool expression = false;
    std::optional<std::uint64_t> address;
    std::string type;  ///< empty until the image has been asked, where it is not stated
    std::string role = "value";
    std::map<std::uint64_t, std::string> names;  ///< what its values stand for
    std::uint64_t mask = ~std::uint64_t{0};
    unsigned shift = 0;
};

struct PortSpec {
    unsigned number = 0;
    std::string name;
    std::string kind = "value";
    std::string role;                            ///< "current-task", or empty
    std::string metadata;                        ///< with kind "ctf": path of the packets' metadata
    std::uint64_t recorder_hz = 0;               ///< the same: ticks per second, if our recorder wrote them
    std::string type = "u32";                    ///< of its values
    std::map<std::uint64_t, std::string> names;  ///< what its values stand for
};

/// Where the jobs of a task begin and end (docs/formats/os-events.md, "Jobs").
struct JobRule {
    enum class Ends : std::uint8_t {
        next_job,  ///< at its wait for the next job: `task_block` with reason activation
        any_wait,  ///< at any wait but for a lock
        wait_for,  ///< at its wait for `object`
        marks      ///< from one mark of its own to another
    } ends = Ends::next_job;
    std::string object;  ///< name or number of a semaphore, queue or lock; "the timer" for none
    std::uint32_t begin_port = 0, end_port = 0;
    std::int64_t begin_value = 0, end_value = 0;
    bool operator==(const JobRule&) const = default;
};
/// "a job ends at its wait for the next job" and the like.
std::string job_rule_text(const JobRule& rule);

/// A task, by its name or by its number.
struct TaskSpec {
    std::string name;
    std::optional<std::uint64_t> number;  ///< what stands for it in the trace: then `name` is what it is called
    std::string core;                     ///< whose task has that number; empty: any
    JobRule rule;
};

/// A file measured elsewhere, laid beside the trace.
struct SignalsSpec : ClockTie {
    std::string file, name;
    std::vector<std::string> select;  ///< signals, by name or by scope and name; empty: all
    unsigned line = 0;
};

/// Something that happens, by the name of what it happens to.
struct EventSpec {
    std::string of, core;  ///< core: where two have one of that name
    std::string at;        ///< entry, exit, ready, start, end, send, receive, take, give; empty: the first of them
    std::optional<std::int64_t> value;  ///< of marks and values: those alone
    std::optional<double> crosses;      ///< of a value: a level …
    bool rising = true;                 ///< … on its way up, or down
};

/// From one event to the first of another behind it.
struct StopwatchSpec {
    std::string name;
    EventSpec from, to;
    unsigned line = 0;
};

/// A signal made of others.
struct DerivedSpec {
    std::string name, expression, unit;
    unsigned line = 0;
};

struct TargetFile {
    std::string path;
    std::string text;  ///< as it was read
    std::string name;
    std::vector<CoreSpec> cores;
    std::vector<StreamSpec> streams;
    std::vector<ProcessSpec> processes;
    std::vector<WatchSpec> watches;
    std::vector<PortSpec> ports;
    std::vector<TaskSpec> tasks;
    std::vector<SignalsSpec> beside;    ///< [[signals]]
    std::vector<DerivedSpec> derived;
    std::vector<StopwatchSpec> stopwatches;
    std::vector<std::string> warnings;  ///< one sentence each, with file and line

    const CoreSpec* core(std::string_view core_name) const;
    const PortSpec* port(unsigned number) const;
    /// What [[task]] calls the task with a number; empty if nothing.
    std::string task_name(std::string_view core_name, std::uint64_t number) const;
    const WatchSpec* watch(unsigned comparator) const;
};

/// Reads a target file. Errors name file, line, key, what was found and what is allowed; unknown
/// keys are warnings. Relative paths are taken from the file's folder. Does not open what it names.
Result<TargetFile> read_target_file(const std::string& path);
/// The same from text; `path` is only used in messages and for relative paths.
Result<TargetFile> parse_target_file(std::string_view text, const std::string& path);

}  // namespace mt
