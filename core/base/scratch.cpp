#include "base/scratch.h"

#include <fcntl.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <vector>

namespace mt {
namespace fs = std::filesystem;
namespace {

std::vector<fs::path> scratch_places() {
    const char *cache = std::getenv("XDG_CACHE_HOME"), *home = std::getenv("HOME");
    std::vector<fs::path> places;
    if (cache != nullptr && *cache == '/') places.emplace_back(cache);
    if (home != nullptr && *home == '/') places.emplace_back(fs::path(home) / ".cache");
    places.emplace_back("/var/tmp");
    return places;
}

}  // namespace

int open_scratch_file() {
    std::error_code ec;
    for (const fs::path& folder : scratch_places()) {
        fs::create_directories(folder, ec);
        const int file = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
        if (file >= 0) return file;
    }
    return -1;
}

Result<ScratchFolder> ScratchFolder::make() {
    std::error_code ec;
    for (const fs::path& folder : scratch_places()) {
        fs::create_directories(folder, ec);
        std::string path = (folder / "mindful-trail-XXXXXX").string();
        if (::mkdtemp(path.data()) != nullptr) return ScratchFolder(path);
    }
    return failure("there is nowhere to unpack to", scratch_places().back().string(),
                   "check free space and permissions there and in the cache folder");
}

ScratchFolder::~ScratchFolder() {
    std::error_code ec;
    if (!path_.empty()) fs::remove_all(path_, ec);
}

}  // namespace mt
