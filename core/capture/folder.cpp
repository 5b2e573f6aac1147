#include "capture/folder.h"

#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>

#include "target/toml_text.h"

namespace mt {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kLongestList = 16 * 1024;  ///< bytes of an `images` list over several lines

Result<void> copy_file(const std::string& from, const fs::path& to) {
    std::error_code ec;
    fs::copy(from, to, fs::copy_options::recursive, ec);
    if (ec)
        return failure("cannot copy: " + ec.message(), from + " to " + to.string(), "check free space and permissions");
    return {};
}

// The target file's text with the paths replaced by those inside the folder, and the streams to be recorded
// given theirs. Every other line stays as the person wrote it.
std::string rewritten_target(const std::string& text, const std::map<std::string, std::string>& names,
                             const std::map<unsigned, std::string>& recorded_at_line, const fs::path& folder) {
    std::istringstream in(text);
    std::string out, line;
    bool own_file = false;  // inside a [[stream]] that is recorded anew: its old file does not count
    for (unsigned number = 1; std::getline(in, line); ++number) {
        const auto first = line.find_first_not_of(" \t");
        if (first != std::string::npos && line[first] == '[') own_file = false;
        if (const auto found = recorded_at_line.find(number); found != recorded_at_line.end()) {
            out += line + "\nfile = \"streams/" + found->second + "\"\n";
            own_file = true;
            continue;
        }
        bool left_out = false;
        if (first != std::string::npos && line.compare(first, 6, "images") == 0) {
            std::string entry = line;  // the list may go over several lines
            auto one = parse_toml(entry, "");
            for (std::string more; !one && entry.size() < kLongestList && std::getline(in, more); ++number) {
                entry += "\n" + more;
                one = parse_toml(entry, "");
            }
            const toml::array* all = one ? (*one)["images"].as_array() : nullptr;
            std::string list;
            for (std::size_t i = 0; all && i < all->size(); ++i) {
                const std::string path = all->get(i)->value_or(std::string());
                const auto found = names.find((folder / path).lexically_normal().string());
                list += (list.empty() ? "\"" : ", \"") + (found == names.end() ? path : found->second) + "\"";
            }
            line = list.empty() ? entry : "images = [" + list + "]";
        }
        for (const std::string key : {"file", "image", "svd", "orti", "mapping", "metadata"}) {
            if (first == std::string::npos || line.compare(first, key.size(), key) != 0) continue;
            const auto one = parse_toml(line, "");
            if (!one) continue;
            const auto value = (*one)[key].value<std::string>();
            if (!value) continue;
            left_out = left_out || (own_file && key == "file");
            const auto found = names.find((folder / *value).lexically_normal().string());
            if (found != names.end()) line = key + " = \"" + found->second + "\"";
        }
        if (!left_out) out += line + "\n";
    }
    return out;
}

}  // namespace

Result<void> write_recording_folder(const TargetFile& target_file, const FolderContents& contents,
                                    const std::string& place_of_folder, Progress& progress) {
    const fs::path folder = place_of_folder;
    std::error_code ec;
    fs::create_directories(folder / "streams", ec);
    if (!ec) fs::create_directories(folder / "images", ec);
    if (ec)
        return failure("cannot create the folder: " + ec.message(), folder.string(),
                       "check free space and permissions");
    std::map<std::string, std::string> names;
    std::set<std::string> used;
    const auto place = [&](const std::string& path, const std::string& sub) {
        std::string name = sub + "/" + fs::path(path).filename().string();
        for (int n = 2; used.count(name) != 0; ++n)
            name = sub + "/" + std::to_string(n) + "-" + fs::path(path).filename().string();
        used.insert(name);
        names[fs::path(path).lexically_normal().string()] = name;
        return name;
    };
    std::vector<std::pair<std::string, std::string>> copies;
    for (const auto& [index, name] : contents.recorded) used.insert("streams/" + name);
    for (const auto& file : contents.streams)
        if (names.count(file) == 0) {
            const std::string name = place(file, "streams");
            copies.emplace_back(file, name);
            for (const char* beside : {".journal", ".metadata", ".mapping.toml"})
                if (fs::is_regular_file(file + beside, ec)) copies.emplace_back(file + beside, name + beside);
            const fs::path shared = fs::path(file).parent_path() / "metadata";  // of a file of packets in its folder
            if (fs::is_regular_file(file, ec) && !fs::is_regular_file(file + ".metadata", ec) &&
                fs::is_regular_file(shared, ec))
                copies.emplace_back(shared.string(), name + ".metadata");
        }
    for (const auto& c : target_file.cores) {
        std::vector<std::string> paths{c.image, c.svd, c.orti};
        paths.insert(paths.end(), c.more_images.begin(), c.more_images.end());
        for (const auto& path : paths)
            if (!path.empty() && names.count(path) == 0 && fs::is_regular_file(path, ec))
                copies.emplace_back(path, place(path, "images"));
    }
    for (const auto& s : target_file.streams)
        for (const auto& path : {s.mapping, s.metadata})
            if (!path.empty() && names.count(path) == 0 && fs::is_regular_file(path, ec))
                copies.emplace_back(path, place(path, "streams"));
    for (const auto& p : target_file.ports)
        if (!p.metadata.empty() && names.count(p.metadata) == 0 && fs::is_regular_file(p.metadata, ec))
            copies.emplace_back(p.metadata, place(p.metadata, "streams"));
    if (!contents.recipe.empty()) copies.emplace_back(contents.recipe, "recording.recipe.toml");
    std::size_t done = 0;
    for (const auto& [from, to] : copies) {
        if (progress.cancelled()) return failure("saving was cancelled", folder.string());
        if (auto copied = copy_file(from, folder / to); !copied) return copied;
        progress.report(++done, copies.size());
    }
    std::map<unsigned, std::string> at_line;
    for (const auto& [index, name] : contents.recorded) at_line[target_file.streams[index].line] = name;
    std::ifstream in(target_file.path, std::ios::binary);
    std::ostringstream text;
    if (target_file.path.empty()) {  // the folder of an event trace was opened by itself
        text << "format = \"mindful-trail-target/1\"\nname = " << toml::value(target_file.name) << "\n\n";
        for (const auto& s : target_file.streams)
            text << "[[stream]]\nfile = " << toml::value(s.file) << "\nprotocol = \"" << protocol_name(s.protocol)
                 << "\"\n";
    } else {
        text << in.rdbuf();
    }
    const std::string target = rewritten_target(text.str(), names, at_line, fs::path(target_file.path).parent_path());
    std::ofstream(folder / "recording.target.toml", std::ios::binary) << target;
    toml::table manifest;
    manifest.insert("format", std::string(kRecordingFormat));
    manifest.insert("title", contents.title);
    manifest.insert("target", "recording.target.toml");
    std::ofstream file(folder / kRecordingManifest, std::ios::binary);
    file << "# A Mindful Trail recording. See docs/formats/recording-folder.md.\n" << manifest << "\n";
    file.close();
    if (!file || !fs::exists(folder / "recording.target.toml", ec))
        return failure("cannot write", (folder / kRecordingManifest).string(), "check free space and permissions");
    return {};
}

}  // namespace mt
