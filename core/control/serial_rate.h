// Sets a serial line to a rate given as a number, apart because Linux's termios2 and the C library's termios
// do not go into one file.
#pragma once

#include <cstdint>
#include <string>

#include "base/problem.h"

namespace mt {

/// 8 data bits, no parity, one stop bit, no flow control; drops what waits in the line. `device` for messages.
Result<void> set_serial_rate(int file, const std::string& device, std::uint64_t baud);

}  // namespace mt
