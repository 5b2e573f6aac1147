// What commands read: a recording, and times from the start.
#pragma once

#include <functional>
#include <iosfwd>
#include <memory>
#include <optional>
#include <string>

#include <CLI/CLI.hpp>

#include "base/problem.h"
#include "base/time.h"
#include "command.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt::cli {

struct Opened {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
};

/// Opens and decodes, with progress on standard error if that is a terminal. Interrupted: a Problem.
Result<Opened> open_and_read(const std::string& input);

/// The same for many, as many at once as there are cores; each is let go of when `each` returns. `each` is called from
/// several threads, once for each input; what it returns ends up at the input's place. The first Problem ends it.
Result<void> read_each(const std::vector<std::string>& inputs,
                       const std::function<Result<void>(std::size_t index, const Opened& opened)>& each);

/// The stream of instructions that is meant: of the named core, or the only one.
Result<const StepTrail*> steps_of(const Opened& opened, const std::string& core);

/// "1500" (ns), "1.5us", "2 ms": a time from the start, as options take it; nothing if there is no text.
Result<std::optional<Time>> time_of(const std::string& option, const std::string& text);

/// What all commands over a recording take: INPUT, and where to write.
struct Reading {
    std::string input, output;

    /// Adds INPUT.
    void add_input(CLI::App& command);
    /// Adds -o.
    void add_output(CLI::App& command);
    /// `write_to` the file that was named, which must be none of those read.
    int write(const Opened& opened, bool for_people, const std::function<void(std::ostream&)>& how) const;
};

/// --from and --to: 1500 (ns), 1.5us, 2 ms, from the start.
struct Between {
    std::string from_text, to_text;
    std::optional<Time> from, to;

    void add(CLI::App& command);
    /// After parsing: what is no time, or the wrong way round, is a Problem.
    Result<void> read();
};

/// A command over a recording: adds it with INPUT; `does` runs it. Its further options are added to what comes back.
template <class Options>
std::pair<CLI::App&, std::shared_ptr<Options>> add_command(CLI::App& app, Run& run, const char* name, const char* words,
                                                           int (*does)(Options&)) {
    const auto options = std::make_shared<Options>();
    CLI::App& command = *app.add_subcommand(name, words);
    options->add_input(command);
    command.callback([options, does, &run] { run = [options, does] { return does(*options); }; });
    return {command, options};
}

}  // namespace mt::cli
