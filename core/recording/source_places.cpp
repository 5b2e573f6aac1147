#include "recording/source_places.h"

#include <filesystem>

#include "target/project.h"

namespace mt {
namespace fs = std::filesystem;

SourcePaths source_places(const Recording& recording, std::size_t core) {
    SourcePaths p;
    if (const auto path = project_of(recording.input))
        if (const auto project = read_project(*path)) {
            p.replaced = project->sources;
            p.folders.push_back(fs::path(*path).parent_path().string());
        }
    const auto add = [&p](const std::string& file) {
        std::error_code ec;
        if (!file.empty()) p.folders.push_back(fs::absolute(file, ec).parent_path().string());
    };
    add(recording.target.path);
    if (core >= recording.images.size() || !recording.images[core]) return p;
    std::vector<const Image*> images{recording.images[core].get()};
    if (core < recording.processes.size())
        for (const ProcessImage& process : recording.processes[core]) images.push_back(process.image.get());
    for (const Image* image : images) add(image->path());
    // Where it was compiled, seen from there: names in it may start from that folder.
    const std::vector<std::string> beside = p.folders;
    for (const Image* image : images)
        for (const std::string& compiled : image->source_folders()) {
            if (compiled.starts_with('/')) p.folders.push_back(compiled);
            for (const std::string& base : beside) p.folders.push_back(base + "/" + compiled);
        }
    return p;
}

}  // namespace mt
