#include "capture/folder.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <optional>
#include <set>
#include <sstream>

#include "base/read_file.h"
#include "target/target_edit.h"
#include "target/toml_text.h"

namespace mt {
namespace fs = std::filesystem;
namespace {

Result<void> cannot_copy(const std::error_code& ec, const std::string& from, const fs::path& to) {
    return failure("cannot copy: " + ec.message(), from + " to " + to.string(), "check free space and permissions");
}

// A file, or a folder with its files. What links lead to outside of the folder is not taken along.
Result<void> copy_file(const std::string& from, const fs::path& to) {
    std::error_code ec;
    if (!fs::is_directory(from, ec)) {
        if (!fs::is_regular_file(from, ec)) return failure("not a regular file", from, "it cannot be copied");
        fs::copy_file(from, to, ec);
        return ec ? cannot_copy(ec, from, to) : Result<void>();
    }
    fs::create_directories(to, ec);
    for (auto it = fs::recursive_directory_iterator(from, ec); !ec && it != fs::recursive_directory_iterator();
         it.increment(ec)) {
        const fs::path there = to / fs::relative(it->path(), from, ec);
        if (it->is_directory(ec) && !it->is_symlink(ec))
            fs::create_directories(there, ec);
        else if (it->is_regular_file(ec) && lies_inside(from, it->path()))
            fs::copy_file(it->path(), there, ec);
    }
    return ec ? cannot_copy(ec, from, to) : Result<void>();
}

// What the folder's target file says in place of the paths in the original.
struct Places {
    const std::map<std::string, std::string>& names;          ///< by path as it can be opened: name in the folder
    const std::map<unsigned, std::string>& recorded_at_line;  ///< by the line of its [[stream]]: what is recorded
    fs::path folder;                                          ///< that paths in the original are relative to

    std::optional<std::string> of(const std::string& path) const {
        const auto found = names.find((folder / path).lexically_normal().string());
        return found == names.end() ? std::nullopt : std::optional(found->second);
    }
};

constexpr std::string_view kPathKeys[] = {"file", "image", "svd", "orti", "mapping", "metadata", "registers"};

// Everything else stays as it is.
void put_places(toml::table& table, const Places& places) {
    for (const std::string_view key : kPathKeys)
        if (auto* path = table[key].as_string())
            if (const auto name = places.of(path->get())) *path = *name;
    for (const char* key : {"images", "file"})
        if (auto* list = table[key].as_array())
            for (auto& item : *list)
                if (auto* path = item.as_string())
                    if (const auto name = places.of(path->get())) *path = *name;
    for (auto&& [key, node] : table) {
        if (auto* inner = node.as_table()) put_places(*inner, places);
        if (auto* list = node.as_array())
            for (auto& item : *list)
                if (auto* inner = item.as_table()) put_places(*inner, places);
    }
}

toml::table rewritten_tree(toml::table tree, const Places& places) {
    if (auto* streams = tree["stream"].as_array(); streams != nullptr && !places.recorded_at_line.empty())
        for (auto& item : *streams)
            if (auto* stream = item.as_table()) stream->erase("file");
    put_places(tree, places);
    if (auto* streams = tree["stream"].as_array())
        for (auto& item : *streams)
            if (auto* stream = item.as_table()) {
                const auto found = places.recorded_at_line.find(static_cast<unsigned>(stream->source().begin.line));
                if (found != places.recorded_at_line.end())
                    stream->insert_or_assign("file", "streams/" + found->second);
            }
    return tree;
}

// The target file's text with the paths replaced line by line, so that remarks and order stay. It is right for files as
// people write them; whether it is for this one is checked against the tree.
std::string rewritten_lines(const std::string& text, const Places& places) {
    std::istringstream in(text);
    std::string out, line;
    bool in_stream = false;  // of streams that are recorded the old file does not count, others have none then
    for (unsigned number = 1; std::getline(in, line); ++number) {
        const auto first = line.find_first_not_of(" \t");
        if (first != std::string::npos && line[first] == '[') in_stream = line.compare(first, 10, "[[stream]]") == 0;
        if (const auto found = places.recorded_at_line.find(number); found != places.recorded_at_line.end()) {
            out += line + "\nfile = " + toml_quoted("streams/" + found->second) + "\n";
            continue;
        }
        bool left_out = false;
        const auto one = first == std::string::npos || line[first] == '[' ? std::nullopt
                         : parse_toml(line, "")                           ? std::optional(*parse_toml(line, ""))
                                                                          : std::nullopt;
        if (one && one->size() == 1) {
            const std::string key(one->begin()->first.str());
            const toml::node& value = one->begin()->second;
            left_out = key == "file" && in_stream && !places.recorded_at_line.empty();
            if (std::find(std::begin(kPathKeys), std::end(kPathKeys), key) != std::end(kPathKeys) && value.is_string())
                if (const auto name = places.of(value.value_or(std::string()))) line = key + " = " + toml_quoted(*name);
            if ((key == "images" || key == "file") && value.is_array()) {
                std::string list;
                for (const auto& item : *value.as_array()) {
                    const std::string path = item.value_or(std::string());
                    list += (list.empty() ? "" : ", ") + toml_quoted(places.of(path).value_or(path));
                }
                line = key + " = [" + list + "]";
            }
        }
        if (!left_out) out += line + "\n";
    }
    return out;
}

Result<std::string> rewritten_target(const std::string& text, const Places& places) {
    auto tree = parse_toml(text, "");
    if (!tree) return tl::make_unexpected(tree.error());
    const toml::table wanted = rewritten_tree(std::move(*tree), places);
    std::string lines = rewritten_lines(text, places);
    if (const auto again = parse_toml(lines, ""); again && *again == wanted) return lines;
    std::ostringstream out;
    out << wanted << "\n";
    return out.str();
}

}  // namespace

Result<FolderLock> FolderLock::take(const std::string& folder) {
    const std::string manifest = (fs::path(folder) / kRecordingManifest).string();
    const int file = ::open(manifest.c_str(), O_RDONLY | O_CLOEXEC);
    if (file < 0) return failure("exists and is no recording", folder, "choose another name; it is left untouched");
    FolderLock lock(file);
    if (::flock(file, LOCK_EX | LOCK_NB) != 0)
        return failure("is being written by another recording", folder, "wait for its end, or choose another name");
    return lock;
}

FolderLock::~FolderLock() {
    if (file_ >= 0) ::close(file_);
}

Result<void> may_write_folder(const std::string& folder, bool replace) {
    std::error_code ec;
    if (!fs::exists(fs::symlink_status(folder, ec))) return {};
    if (!replace) return failure("exists already", folder, "choose another name, a pattern with {n}, or --replace");
    if (auto lock = FolderLock::take(folder); !lock) return tl::make_unexpected(lock.error());
    return {};
}

Result<void> write_recording_folder(const TargetFile& given, const FolderContents& contents,
                                    const std::string& place_of_folder, Progress& progress) {
    // What was measured beside another recording, and how its cores stood, is nothing of one that is made now.
    TargetFile target_file = given;
    std::vector<KeyChange> away;
    for (std::size_t i = given.beside.size(); i-- > 0;) away.push_back({"signals", i, "", ""});
    for (std::size_t i = 0; i < given.cores.size(); ++i) {
        if (!given.cores[i].began.empty()) away.push_back({"core.began", i, "", ""});
        if (!given.cores[i].stopped.empty()) away.push_back({"core.stopped", i, "", ""});
    }
    if (!contents.recorded.empty() && !away.empty()) {
        const auto text = changed_target(given.text, away);
        auto without = text ? parse_target_file(*text, given.path) : tl::make_unexpected(text.error());
        if (!without) return tl::make_unexpected(without.error());
        target_file = std::move(*without);
    }
    const fs::path folder = place_of_folder;
    std::error_code ec;
    fs::create_directories(folder / "streams", ec);
    if (!ec) fs::create_directories(folder / "images", ec);
    if (!ec && !target_file.beside.empty()) fs::create_directories(folder / "signals", ec);
    const bool states = std::any_of(target_file.cores.begin(), target_file.cores.end(), [](const CoreSpec& c) { return !c.began.empty() || !c.stopped.empty(); });
    if (!ec && states) fs::create_directories(folder / "states", ec);
    if (ec)
        return failure("cannot create the folder: " + ec.message(), folder.string(),
                       "check free space and permissions");
    std::map<std::string, std::string> names;
    std::set<std::string> used;
    const auto place = [&](const std::string& path, const std::string& sub) {
        const std::string own = safe_file_name(fs::path(path).filename().string());
        std::string name = sub + "/" + own;
        for (int n = 2; used.count(name) != 0; ++n) name = sub + "/" + std::to_string(n) + "-" + own;
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
    for (const auto& c : target_file.cores)
        for (const CoreSpec::State* state : {&c.began, &c.stopped}) {
            std::vector<std::string> paths{state->registers};
            for (const auto& m : state->memory) paths.push_back(m.file);
            for (const auto& path : paths)
                if (!path.empty() && names.count(path) == 0 && fs::is_regular_file(path, ec)) copies.emplace_back(path, place(path, "states"));
        }
    for (const auto& p : target_file.processes)
        if (!p.image.empty() && names.count(p.image) == 0 && fs::is_regular_file(p.image, ec))
            copies.emplace_back(p.image, place(p.image, "images"));
    for (const auto& s : target_file.streams)
        for (const auto& path : {s.mapping, s.metadata})
            if (!path.empty() && names.count(path) == 0 && fs::is_regular_file(path, ec))
                copies.emplace_back(path, place(path, "streams"));
    for (const auto& p : target_file.ports)
        if (!p.metadata.empty() && names.count(p.metadata) == 0 && fs::is_regular_file(p.metadata, ec))
            copies.emplace_back(p.metadata, place(p.metadata, "streams"));
    for (const auto& s : target_file.beside)
        if (!s.file.empty() && names.count(s.file) == 0 && fs::is_regular_file(s.file, ec))
            copies.emplace_back(s.file, place(s.file, "signals"));
    if (!contents.recipe.empty()) copies.emplace_back(contents.recipe, "recording.recipe.toml");
    std::size_t done = 0;
    for (const auto& [from, to] : copies) {
        if (progress.cancelled()) return failure("saving was cancelled", folder.string());
        if (auto copied = copy_file(from, folder / to); !copied) return copied;
        progress.report(++done, copies.size());
    }
    std::map<unsigned, std::string> at_line;
    for (const auto& [index, name] : contents.recorded) at_line[target_file.streams[index].line] = name;
    std::string text;
    if (target_file.path.empty()) {  // the folder of an event trace was opened by itself
        text = "format = \"mindful-trail-target/1\"\nname = " + toml_quoted(target_file.name) + "\n\n";
        for (const auto& s : target_file.streams)
            text += "[[stream]]\nfile = " + toml_quoted(s.file) + "\nprotocol = \"" +
                    std::string(protocol_name(s.protocol)) + "\"\n";
    } else {
        text = target_file.text;
    }
    auto target = rewritten_target(text, {names, at_line, fs::path(target_file.path).parent_path()});
    if (!target) return tl::make_unexpected(target.error());
    std::ofstream(folder / "recording.target.toml", std::ios::binary) << *target;
    if (auto again = read_target_file((folder / "recording.target.toml").string()); !again)
        return failure("the target file in the folder cannot be read: " + again.error().what,
                       (folder / "recording.target.toml").string(), again.error().advice);
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
