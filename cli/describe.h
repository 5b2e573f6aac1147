// What mtrail takes, told to shells and as a manual page: made of the very options that are parsed.
#pragma once

#include <string>

namespace CLI {
class App;
}

namespace mt::cli {

/// Completion of commands, options and files. `app` has all its commands.
std::string bash_completion(const CLI::App& app);
std::string zsh_completion(const CLI::App& app);
std::string fish_completion(const CLI::App& app);
/// mtrail(1) for man: a section for each command with its options. `date`: as it stands at the foot.
std::string manual_page(const CLI::App& app, const std::string& date);

}  // namespace mt::cli
