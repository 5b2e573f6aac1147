// What this process holds in memory, as /proc tells it.
#pragma once

#include <fstream>
#include <string>

namespace mt::bench {

/// A line of /proc/self/status ("VmHWM:", "RssAnon:") in megabytes; 0 if there is none.
inline double status_megabytes(const std::string& key) {
    std::ifstream in("/proc/self/status");
    for (std::string word; in >> word;)
        if (word == key) {
            double kilobytes = 0;
            in >> kilobytes;
            return kilobytes * 1024 / 1e6;
        }
    return 0;
}

}  // namespace mt::bench
