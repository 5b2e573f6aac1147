#include "identify/described.h"

#include <algorithm>
#include <filesystem>

#include "target/target_file.h"

namespace mt {
namespace fs = std::filesystem;

std::vector<std::string> targets_of_capture(const std::string& path) {
    constexpr std::size_t kMost = 100;
    std::error_code ec;
    const fs::path capture = fs::absolute(path, ec).lexically_normal();
    std::vector<std::string> found;
    for (const fs::path& folder : {capture.parent_path(), capture.parent_path().parent_path()}) {
        std::vector<std::string> names;
        for (auto it = fs::directory_iterator(folder, fs::directory_options::skip_permission_denied, ec);
             !ec && it != fs::directory_iterator() && names.size() < kMost; it.increment(ec))
            if (it->path().filename().string().ends_with(".target.toml")) names.push_back(it->path().string());
        std::sort(names.begin(), names.end());
        for (const std::string& name : names) {
            const auto target = read_target_file(name);
            if (target && std::any_of(target->streams.begin(), target->streams.end(), [&](const StreamSpec& s) {
                    return s.file == capture.string() ||
                           std::find(s.more_files.begin(), s.more_files.end(), capture.string()) != s.more_files.end();
                }))
                found.push_back(name);
        }
        if (folder == folder.root_path()) break;
    }
    return found;
}

}  // namespace mt
