#include "control/kept_points.h"

#include <filesystem>

#include "base/kept_file.h"
#include "base/read_file.h"
#include "control/hand_command.h"
#include "target/target_edit.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace {
constexpr std::string_view kFormat = "mindful-trail-points/1";
constexpr std::uint64_t kMostBytes = 1 << 20;
constexpr std::size_t kMostPoints = 1000;
}  // namespace

Result<std::vector<KeptPoint>> parse_points(std::string_view text, const std::string& path) {
    auto parsed = parse_toml(text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    std::optional<Problem> problem;
    std::vector<KeptPoint> points;
    TomlTable top(*parsed, "the file of breakpoints", path, problem);
    if (const std::string format = top.text("format", true); !format.empty() && format != kFormat)
        top.fail("key 'format' is \"" + format + "\"", 1, "this version reads \"" + std::string(kFormat) + "\"");
    if (const auto* list = top.tables("point", false))
        for (const auto& node : *list) {
            TomlTable t(*node.as_table(), "[[point]]", path, problem);
            KeptPoint p{t.text("core", true), t.text("command", true)};
            const auto command = parse_hand_command(p.command);
            if (!command || (command->kind != HandCommand::Kind::break_at && command->kind != HandCommand::Kind::watch))
                t.fail("key 'command' in [[point]] sets no breakpoint or watchpoint", t.line(), "as \"break guide_task count 5\"");
            if (points.size() < kMostPoints) points.push_back(std::move(p));
        }
    if (problem) return tl::make_unexpected(*problem);
    return points;
}

Result<std::vector<KeptPoint>> read_points(const std::string& path) {
    std::error_code ec;
    if (!std::filesystem::exists(path, ec)) return std::vector<KeptPoint>();
    const auto text = read_small_file(path, kMostBytes, "file of breakpoints");
    if (!text) return tl::make_unexpected(text.error());
    return parse_points(*text, path);
}

Result<void> write_points(const std::vector<KeptPoint>& points, const std::string& path) {
    std::string text = "format = \"" + std::string(kFormat) + "\"\n";
    for (const KeptPoint& p : points)
        text += "\n[[point]]\ncore = " + toml_quoted(p.core) + "\ncommand = " + toml_quoted(p.command) + "\n";
    return replace_file(path, text);
}

}  // namespace mt
