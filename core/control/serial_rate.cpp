#include "control/serial_rate.h"

#include <asm/termbits.h>
#include <sys/ioctl.h>

#include <cerrno>
#include <cstring>

namespace mt {

Result<void> set_serial_rate(int file, const std::string& device, std::uint64_t baud) {
    struct termios2 settings {};
    if (::ioctl(file, TCGETS2, &settings) != 0)
        return failure("not a serial line", device, "give a device such as /dev/ttyACM0");
    settings.c_iflag = IGNBRK;
    settings.c_oflag = 0;
    settings.c_lflag = 0;
    settings.c_cflag = CS8 | CREAD | CLOCAL | BOTHER;  // BOTHER: the rate stands in c_ispeed and c_ospeed
    settings.c_ispeed = settings.c_ospeed = static_cast<unsigned>(baud);
    settings.c_cc[VMIN] = 1;
    settings.c_cc[VTIME] = 0;
    if (::ioctl(file, TCSETS2, &settings) != 0)
        return failure("the line refuses " + std::to_string(baud) + " baud: " + std::strerror(errno), device,
                       "choose a rate that the adapter can do");
    ::ioctl(file, TCFLSH, 0);  // what came before the rate was right is no trace
    return {};
}

}  // namespace mt
