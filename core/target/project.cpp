#include "target/project.h"

#include <algorithm>
#include <filesystem>

#include "base/read_file.h"
#include "target/target_edit.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace fs = std::filesystem;

Result<Project> read_project(const std::string& path) {
    const auto text = read_small_file(path, 4'000'000, "project");
    if (!text) return tl::make_unexpected(text.error());
    const auto parsed = parse_toml(*text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    std::optional<Problem> problem;
    Project project;
    project.path = path;
    const fs::path folder = fs::path(path).parent_path();
    const auto placed = [&](const std::string& file) {
        return file.empty() ? std::string() : (folder / file).lexically_normal().string();
    };
    TomlTable top(*parsed, "the file", path, problem);
    top.text("format", true, {"mindful-trail-project/1"});
    project.name = top.text("name", false);
    project.target = placed(top.text("target", false));
    for (const std::string& recipe : top.list_of_text("recipes")) project.recipes.push_back(placed(recipe));
    if (const toml::array* sources = top.tables("source", false))
        for (const auto& node : *sources) {
            TomlTable t(*node.as_table(), "[[source]]", path, problem);
            const std::string from = t.text("from", true);
            project.sources.emplace_back(from, placed(t.text("to", true)));
            t.warn_unknown(project.warnings);
        }
    top.warn_unknown(project.warnings);
    if (problem) return tl::make_unexpected(*problem);
    if (project.name.empty()) project.name = fs::path(path).stem().stem().string();
    return project;
}

std::optional<std::string> project_of(const std::string& recording) {
    constexpr int kHighest = 24;
    constexpr std::size_t kMostFiles = 10'000;
    std::error_code ec;
    fs::path folder = fs::absolute(recording, ec).lexically_normal();
    if (!fs::is_directory(folder, ec)) folder = folder.parent_path();
    for (int i = 0; i < kHighest && !folder.empty(); ++i) {
        std::vector<std::string> found;
        std::size_t looked_at = 0;
        for (auto it = fs::directory_iterator(folder, fs::directory_options::skip_permission_denied, ec);
             !ec && it != fs::directory_iterator() && ++looked_at < kMostFiles; it.increment(ec))
            if (it->path().filename().string().ends_with(".project.toml")) found.push_back(it->path().string());
        if (!found.empty()) return *std::min_element(found.begin(), found.end());
        if (folder == folder.root_path()) break;
        folder = folder.parent_path();
    }
    return std::nullopt;
}

std::string project_text(const Project& project, const std::string& folder) {
    const auto seen = [&](const std::string& path) {
        const fs::path near = fs::path(path).lexically_relative(folder);
        return toml_quoted(near.empty() ? path : near.string());
    };
    std::string text = "format = \"mindful-trail-project/1\"\nname   = " + toml_quoted(project.name) + "\n";
    if (!project.target.empty()) text += "target = " + seen(project.target) + "\n";
    if (!project.recipes.empty()) {
        text += "recipes = [";
        for (std::size_t i = 0; i < project.recipes.size(); ++i)
            text += (i == 0 ? "" : ", ") + seen(project.recipes[i]);
        text += "]\n";
    }
    for (const auto& [from, to] : project.sources)
        text += "\n[[source]]\nfrom = " + toml_quoted(from) + "\nto   = " + seen(to) + "\n";
    return text;
}

}  // namespace mt
