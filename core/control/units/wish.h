// What to trace, in place of registers: [trace] of a recipe (docs/formats/recipe.md). Plain data.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "control/units/dwt.h"

namespace mt {

struct TraceWish {
    /// Something that happens: the core gets to a place, or a variable is accessed.
    struct Trigger {
        std::string at;      ///< function, "axis.c:41" or address; empty: an access
        std::string access;  ///< variable
        Access on = Access::write;
        std::optional<std::uint64_t> value;        ///< only if it has this value
        std::uint64_t after = 1;                   ///< the how manyth time
        std::optional<std::uint64_t> after_bytes;  ///< stop only: so many bytes of trace behind it
    };
    struct Variable {
        std::string of;
        Access on = Access::write;
        Tell tell = Tell::value;
    };
    struct Instructions {
        std::vector<std::string> of;  ///< functions (with *), "0x…..0x…", source files; empty: everything
        std::optional<bool> return_stack, timestamps, context, branch_broadcast;
        std::optional<unsigned> cycle_counts;  ///< threshold; 0: off
        std::vector<std::string> events;       ///< places whose passing is told by a packet of its own
    };
    enum class To : std::uint8_t { unsaid, swo, port, buffer, memory };

    std::string core;  ///< empty: the only one with a debug server
    unsigned line = 0;
    bool keep = true;
    std::optional<bool> exceptions, sleep;
    std::optional<std::uint64_t> pc_samples;  ///< cycles; 0: off
    std::optional<std::vector<std::string>> counters;
    std::optional<bool> local_timestamps, global_timestamps;
    std::optional<unsigned> prescaler;
    std::optional<std::uint64_t> sync;  ///< cycles; 0: off
    std::optional<std::vector<unsigned>> ports, privileged_ports;
    std::vector<Variable> variables;
    std::optional<Instructions> instructions;
    bool no_instructions = false;  ///< instructions = false
    std::optional<Trigger> start, stop;
    To to = To::unsaid;
    std::optional<std::uint64_t> baud;
    bool manchester = false;
    std::optional<unsigned> width;
    bool until_full = false;
    std::optional<bool> formatter;
    std::vector<std::string> ignore_units;  ///< without power, and known not to stand on the way: names or addresses
    std::string memory_symbol;              ///< to = "memory": where …
    std::uint64_t memory_at = 0, memory_size = 0;

    /// Whether it asks for anything that the data and exception trace units of Arm M-profile tell.
    bool wants_events() const {
        return exceptions.value_or(false) || sleep.value_or(false) || pc_samples.value_or(0) > 0 ||
               (counters && !counters->empty()) || (ports && !ports->empty()) || !variables.empty();
    }
};

}  // namespace mt
