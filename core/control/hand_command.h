// What a person or a script wants of a target in hand, as it is written.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "control/hand_state.h"

namespace mt {

/// "cop: break interpolate if axis_angle > 100 count 5", taken apart. Plain data.
struct HandCommand {
    enum class Kind : std::uint8_t {
        go,
        halt,
        reset,
        wait,
        step,
        step_line,
        step_over,
        step_out,
        run_to,
        break_at,
        watch,
        clear,
        points,
        registers,
        read,
        locals,
        memory,
        write,
        set,
        undo,
        fill,
        search,
        compare,
        save,
        load,
        together,
        apart,
        put,
        type,
        where
    };
    /// A value of the target against a number.
    struct Condition {
        std::string of;  ///< an expression as find_data takes it, or a register
        enum class Is : std::uint8_t { equal, unequal, less, more, at_most, at_least } is = Is::equal;
        std::int64_t than = 0;
    };
    Kind kind = Kind::where;
    std::string text;   ///< as it was written
    std::string core;   ///< empty: the first with a debug server; "all": all of them
    std::string place;  ///< of run_to, break_at, clear; the expression of watch and write; the register of set; a file; the text of type
    std::vector<std::string> names;            ///< of read and registers; the cores of together
    static constexpr std::uint64_t kMostWatched = 1 << 16;  ///< bytes
    std::uint64_t address = 0, length = 0;     ///< of memory, fill, search, compare, save, load; of watch, of a range: else 0
    std::vector<std::uint8_t> bytes;           ///< of search
    std::shared_ptr<const HandState> state{};  ///< of put: what is written, once somebody worked it out
    std::uint64_t times = 1;                   ///< steps; of break_at and watch: stop at this hit
    double seconds = 10;                       ///< of wait, run_to, and steps that may take long
    std::int64_t value = 0;                    ///< of write and set
    std::optional<Condition> condition;        ///< of break_at and watch
    std::optional<std::string> message;        ///< the same: what is said instead of a stop
    bool on_read = false, on_write = true;     ///< of watch
    bool hardware = false;                     ///< of break_at: by a comparator of the core, not by changing memory
    /// Whether it lets a core run, or stops one.
    bool moves() const {
        return kind == Kind::go || kind == Kind::halt || kind == Kind::reset || kind == Kind::wait || kind == Kind::step ||
               kind == Kind::step_line || kind == Kind::step_over || kind == Kind::step_out || kind == Kind::run_to;
    }
    /// Whether it changes what the target holds, not only when it runs.
    bool writes() const {
        return kind == Kind::write || kind == Kind::set || kind == Kind::fill || kind == Kind::load ||
               kind == Kind::undo || kind == Kind::put;
    }
};

/// A Problem says what is wrong with it and which commands there are.
Result<HandCommand> parse_hand_command(const std::string& text);

/// Words of a command line, put together to commands: one that begins with a command's name, or with a core's ("cop:"),
/// begins the next, one with blanks is a command by itself. So quotes are needed only where a name is a command's.
std::vector<std::string> joined_hand_commands(const std::vector<std::string>& words);

/// All commands with what they do, a line each, for help and documents.
std::vector<std::pair<std::string, std::string>> hand_commands();

}  // namespace mt
