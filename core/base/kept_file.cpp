#include "base/kept_file.h"

#include <filesystem>
#include <fstream>

namespace mt {
namespace fs = std::filesystem;

std::string kept_file_path(const std::string& input, std::string_view kind) {
    const fs::path path(input);
    const std::string file = std::string(kind) + ".toml";
    std::error_code ec;
    if (fs::is_directory(path, ec)) return (path / file).string();
    std::string name = path.filename().string();
    if (name == "trail.toml") return (path.parent_path() / file).string();  // of a saved recording
    for (const std::string_view end : {".target.toml", ".toml"})
        if (name.ends_with(end)) {
            name.resize(name.size() - end.size());
            break;
        }
    return (path.parent_path() / (name + "." + file)).string();
}

Result<void> replace_file(const std::string& path, std::string_view text) {
    const std::string beside = path + ".new";
    std::ofstream out(beside, std::ios::binary);
    out << text;
    out.close();
    std::error_code ec;
    if (out) fs::rename(beside, path, ec);
    if (!out || ec) {
        fs::remove(beside, ec);
        return failure("cannot write", path, "check the folder, the permissions and free space");
    }
    return {};
}

}  // namespace mt
