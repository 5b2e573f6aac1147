// A target in hand: its cores run, stop and step as commands say; registers, variables and memory are read and changed.
#pragma once

#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "control/debug_server.h"
#include "control/hand_command.h"
#include "target/code.h"
#include "target/frame_state.h"
#include "target/locals.h"
#include "target/target_file.h"

namespace mt {

/// What came of a command, of one core. Plain data.
struct HandAnswer {
    std::string core;
    bool running = false;
    bool as_wanted = true;                ///< false: it did not come to that in its time
    std::optional<std::uint64_t> pc;      ///< where it stands, if that is known
    std::string place;                    ///< "guide_task (guide.c:41)"
    std::string reason;                   ///< why it stands, or what else there is to say
    struct Value {
        std::string name, text;  ///< as people read them
        std::string group;       ///< of registers: "general", "float" …; of local variables: whose they are; else empty
        unsigned depth = 0;      ///< of a part of a local variable: in how many it stands
        bool known = true;
    };
    std::vector<Value> values, locals;
    std::vector<std::string> said;  ///< messages of breakpoints, in order
    double after_s = -1;            ///< so long after the core that it goes with; negative: it was asked itself
};

/// A breakpoint or watchpoint that is set. Plain data.
struct HandPoint {
    std::string core, text;  ///< the command that set it
    std::string place;
    std::optional<std::uint64_t> address;
    std::uint64_t hits = 0;
    bool hardware = false;  ///< a breakpoint that takes a comparator of the core
    bool operator==(const HandPoint&) const = default;
};

/// One thread at a time. The points that it set are taken away when it ends; what was written stays.
class Hand {
  public:
    struct Core {
        CoreSpec spec;
        std::shared_ptr<const Image> image;  ///< null: places by address only
        DebugServer* server = nullptr;       ///< null: out of reach; else it outlives this
    };
    struct Options {
        bool may_write = false;
        std::string reset_command;
        std::function<bool()> give_up{};  ///< asked again and again while something takes long
    };

    Hand(std::vector<Core> cores, Options options);
    ~Hand();
    /// Does it, for each core that it is about, and for those that go together with them. A Problem says why it cannot
    /// be done.
    Result<std::vector<HandAnswer>> run(const HandCommand& command);
    /// A core stopped while nobody waited for it: whether it stays there, by the points that are set, or went on. With
    /// those that stop because it did.
    Result<std::vector<HandAnswer>> stopped(const std::string& core, const DebugStop& stop);
    void allow_writing(bool on) { options_.may_write = on; }
    bool may_write() const { return options_.may_write; }
    /// What was written so far, a line each: "core main: axis_error = 5, was 12".
    const std::vector<std::string>& written() const { return written_; }
    /// How many changes can be taken back.
    std::size_t undoable() const { return changes_.size(); }
    std::vector<HandPoint> points() const;
    /// The cores that go together; empty: each for itself.
    const std::vector<std::string>& together() const { return together_; }
    /// How often cores were halted only to look at a condition, and for how long altogether.
    std::pair<unsigned, double> brief_halts() const { return {brief_, brief_s_}; }

  private:
    struct Point {
        HandCommand command;
        std::size_t core = 0;
        DebugServer::Point type = DebugServer::Point::software;
        std::uint64_t address = 0;
        unsigned length = 2;
        std::uint64_t hits = 0;
        /// A breakpoint; else a watchpoint.
        bool stops_at() const { return type == DebugServer::Point::software || type == DebugServer::Point::hardware; }
    };

    /// What stood there before it was written: of a register, or of memory.
    struct Change {
        std::size_t core = 0;
        std::string what;
        std::optional<unsigned> number;
        std::uint64_t address = 0, was = 0;
        std::vector<std::uint8_t> bytes;
        bool goes_on = false;  ///< taken back together with the change before
    };

    Result<HandAnswer> on(std::size_t core, const HandCommand& command);
    /// Whether the core goes together with another.
    bool in_set(std::size_t core) const;
    /// Whether both are cores of one debug server, or the same: they run and stand together.
    bool of_one_server(std::size_t a, std::size_t b) const;
    /// Which of the cores of one server it was that stopped.
    std::size_t who_stopped(std::size_t core, const DebugStop& stop) const;
    /// The others of its server stand, too: they say so.
    void tell_server_stood(std::size_t core, const std::vector<std::size_t>& cores, std::vector<HandAnswer>& answers) const;
    /// The others of its set stop, too.
    Result<void> stop_others(std::size_t core, std::vector<HandAnswer>& answers);
    Result<void> go(Core& core);
    /// Until one of them stops for good: conditions are looked at, messages are said.
    Result<std::vector<HandAnswer>> wait(const std::vector<std::size_t>& cores, double seconds);
    /// Whether the core is to stay where it stopped.
    Result<bool> stays(std::size_t core, const DebugStop& stop, HandAnswer& answer);
    Result<void> step(Core& core);
    Result<void> step_until(std::size_t core, HandCommand::Kind kind, double seconds, HandAnswer& answer);
    Result<void> run_to(std::size_t core, std::uint64_t address, double seconds, HandAnswer& answer);
    Result<void> add_point(std::size_t core, const HandCommand& command);
    Result<void> clear(std::size_t core, const std::string& place);
    Result<void> overwrite(std::size_t core, const std::string& what, std::uint64_t address, std::span<const std::uint8_t> bytes);
    Result<void> memory_command(std::size_t core, const HandCommand& command, HandAnswer& answer);
    Result<void> undo();
    Result<void> undo_one();
    Result<void> put(std::size_t core, const HandState& state, HandAnswer& answer);
    std::optional<unsigned> register_of(const Core& core, const std::string& name) const;
    bool given_up() const { return options_.give_up && options_.give_up(); }
    Result<void> stand(Core& core, HandAnswer& answer) const;
    Result<std::pair<std::string, double>> value_of(Core& core, const std::string& expression) const;
    Result<void> write(std::size_t core, const HandCommand& command);
    /// The core as the places of its local variables are worked out from it. `everywhere`: memory is read wherever a
    /// pointer leads; else only where the program has its variables and its stack, for reading may act on devices.
    FrameState frame_of(Core& core, bool everywhere) const;
    Result<void> tell_locals(std::size_t core, HandAnswer& answer);
    /// A variable of the function where the core stands; nothing if it has none of that name, or runs.
    std::optional<Result<LocalValue>> local_of(Core& core, const std::string& expression) const;
    Result<void> set_register(std::size_t core, const std::string& what, const std::string& name, unsigned number, std::uint64_t value);
    Point* point_at(std::size_t core, std::uint64_t pc);

    std::vector<Core> cores_;
    std::vector<std::shared_ptr<const Code>> code_;
    mutable std::vector<std::unique_ptr<Locals>> locals_;  ///< by core, read when they are asked for
    Options options_;
    std::vector<Point> points_;
    std::vector<std::string> written_, together_;
    std::vector<Change> changes_;
    std::size_t changed_bytes_ = 0;  ///< that changes_ keep
    unsigned brief_ = 0;
    double brief_s_ = 0;
};

}  // namespace mt
