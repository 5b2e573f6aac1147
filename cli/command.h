// The commands of mtrail, a file each in commands/.
#pragma once

#include <functional>

namespace CLI {
class App;
}

namespace mt::cli {

/// What was asked for on the command line, ready to be done; returns the exit code. Empty before it was parsed.
using Run = std::function<int()>;

// Each adds its command with the options that it takes, and sets `run` when it is called for.
void add_identify(CLI::App& app, Run& run);
void add_read(CLI::App& app, Run& run);
void add_summary(CLI::App& app, Run& run);
void add_packets(CLI::App& app, Run& run);
void add_events(CLI::App& app, Run& run);
void add_text(CLI::App& app, Run& run);
void add_values(CLI::App& app, Run& run);
void add_state(CLI::App& app, Run& run);
void add_steps(CLI::App& app, Run& run);
void add_stats(CLI::App& app, Run& run);
void add_instances(CLI::App& app, Run& run);
void add_interplay(CLI::App& app, Run& run);
void add_find(CLI::App& app, Run& run);
void add_judge(CLI::App& app, Run& run);
void add_cover(CLI::App& app, Run& run);
void add_compare(CLI::App& app, Run& run);
void add_report(CLI::App& app, Run& run);
void add_export(CLI::App& app, Run& run);
void add_ring(CLI::App& app, Run& run);
void add_record(CLI::App& app, Run& run);
void add_units(CLI::App& app, Run& run);
void add_control(CLI::App& app, Run& run);

}  // namespace mt::cli
