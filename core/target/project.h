// What recordings of the same target share (docs/formats/project.md): a file beside them that can be put under version
// control.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/problem.h"

namespace mt {

/// Plain data. Paths as they can be opened.
struct Project {
    std::string path, name;
    std::string target;                ///< describes recordings that have no target file; empty if none
    std::vector<std::string> recipes;  ///< by which they are made
    std::vector<std::pair<std::string, std::string>> sources;  ///< beginning of a name in an image, folder here
    std::vector<std::string> warnings;                         ///< one sentence each, with file and line
};

/// Relative paths are taken from the file's folder. Errors name file, line, key, what was found and what is allowed.
Result<Project> read_project(const std::string& path);

/// The project file of a recording: the nearest *.project.toml in its folder or those above, the first by name if there
/// are several. Nothing if there is none.
std::optional<std::string> project_of(const std::string& recording);

/// The text of a new project, with paths as seen from `folder`.
std::string project_text(const Project& project, const std::string& folder);

}  // namespace mt
