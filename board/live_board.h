// The board as a live target: both cores run against the clock, with debug servers and trace ports.
#pragma once

#include <memory>
#include <string>

#include "etrace_encoder.h"
#include "mount_options.h"
#include "target/image.h"
#include "troubles.h"

namespace board {

struct LiveOptions {
    MountOptions mount;
    std::shared_ptr<const mt::Image> image, cop;
    std::string bind = "127.0.0.1", ports_file, flood;
    std::uint16_t gdb_main = 3333, gdb_cop = 3334, trace = 3344, trace_cop = 3345, events = 3346,
                  probe = 3347;
    std::uint32_t cop_modes = cop_mode::kImplicitReturn;  ///< of the co-processor's encoder, as its firmware sets it up
    bool terminal = false;
    bool bare = false;                                ///< the firmware sets up no trace
    double speed = 1, end_after = 0, flood_rate = 0;  ///< flood_rate: MB/s; 0: as fast as it is taken
    Troubles troubles;
};

/// Runs until the process is told to end. Returns its exit code.
int run_live(LiveOptions options);

}  // namespace board
