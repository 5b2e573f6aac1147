// A target in hand: its cores run, stop and step as commands say; registers, variables and memory are read and changed.
#pragma once

#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "control/debug_server.h"
#include "control/hand_command.h"
#include "target/code.h"
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
    std::vector<std::pair<std::string, std::string>> values;  ///< names and values, as people read them
    std::vector<std::string> said;        ///< messages of breakpoints, in order
};

/// One thread at a time. All that it sets in a target is taken back when it ends, but what was written.
class Hand {
  public:
    struct Core {
        CoreSpec spec;
        std::shared_ptr<const Image> image;  ///< null: places by address only
        std::unique_ptr<DebugServer> server;
    };
    struct Options {
        bool may_write = false;
        std::string reset_command;
        std::chrono::milliseconds patience{3000};
    };

    Hand(std::vector<Core> cores, Options options);
    ~Hand();
    /// Does it, for each core that it is about. A Problem says why it cannot be done.
    Result<std::vector<HandAnswer>> run(const HandCommand& command);
    /// What was written so far, a line each: "core main: axis_error = 5, was 12".
    const std::vector<std::string>& written() const { return written_; }
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
    };

    Result<HandAnswer> on(std::size_t core, const HandCommand& command);
    Result<void> go(Core& core);
    /// Until it stops for good: conditions are looked at, messages are said.
    Result<void> wait(std::size_t core, double seconds, HandAnswer& answer);
    /// Whether the core is to stay where it stopped.
    Result<bool> stays(std::size_t core, const DebugStop& stop, HandAnswer& answer);
    Result<void> step(Core& core);
    Result<void> step_until(std::size_t core, HandCommand::Kind kind, double seconds, HandAnswer& answer);
    Result<void> run_to(std::size_t core, std::uint64_t address, double seconds, HandAnswer& answer);
    Result<void> add_point(std::size_t core, const HandCommand& command);
    Result<void> clear(std::size_t core);
    Result<void> stand(Core& core, HandAnswer& answer) const;
    Result<std::pair<std::string, double>> value_of(Core& core, const std::string& expression) const;
    Result<void> write(Core& core, const HandCommand& command);
    std::optional<unsigned> register_number(const Core& core, const std::string& name) const;
    Point* point_at(std::size_t core, std::uint64_t pc);

    std::vector<Core> cores_;
    std::vector<std::shared_ptr<const Code>> code_;
    Options options_;
    std::vector<Point> points_;
    std::vector<std::string> written_;
    unsigned brief_ = 0;
    double brief_s_ = 0;
};

}  // namespace mt
