#include "recording/waymarks.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <sstream>

#include "base/kept_file.h"
#include "base/read_file.h"
#include "base/text.h"
#include "target/target_edit.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace {
constexpr std::string_view kFormat = "mindful-trail-waymarks/1", kKind = "waymarks";
constexpr double kFarthestNs = 4e15;
}  // namespace

Result<std::vector<Waymark>> parse_waymarks(std::string_view text, const std::string& path) {
    auto parsed = parse_toml(text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    std::optional<Problem> problem;
    std::vector<std::string> warnings;
    std::vector<Waymark> all;
    TomlTable top(*parsed, "the file of waymarks", path, problem);
    if (const std::string format = top.text("format", true); !format.empty() && format != kFormat)
        top.fail("key 'format' is \"" + format + "\"", 1, "this version reads \"" + std::string(kFormat) + "\"");
    TomlTable::each(top.tables("waymark", false), "[[waymark]]", path, problem, warnings, all, [](TomlTable& t) {
        Waymark m;
        m.name = t.text("name", true);
        m.note = t.text("note", false);
        m.at = Time::from_ns(t.real("at_ns", true, -kFarthestNs, kFarthestNs).value_or(0));
        m.until = m.at;
        if (const auto until = t.real("until_ns", false, -kFarthestNs, kFarthestNs)) m.until = Time::from_ns(*until);
        if (m.until < m.at) t.fail("a waymark ends before it begins", t.line(), "correct at_ns or until_ns");
        return m;
    });
    if (all.size() > kMostWaymarks)
        top.fail("more than " + std::to_string(kMostWaymarks) + " waymarks", 1, "keep those that matter");
    if (problem) return tl::make_unexpected(*problem);
    std::stable_sort(all.begin(), all.end(), [](const Waymark& a, const Waymark& b) { return a.at < b.at; });
    return all;
}

Result<std::vector<Waymark>> read_waymarks(const std::string& input) {
    const std::string path = kept_file_path(input, kKind);
    std::error_code ec;
    if (!std::filesystem::exists(path, ec)) return std::vector<Waymark>{};
    const auto text = read_small_file(path, 4 << 20, "file of waymarks");
    if (!text) return tl::make_unexpected(text.error());
    return parse_waymarks(*text, path);
}

std::string waymarks_text(const std::vector<Waymark>& waymarks) {
    std::ostringstream out;
    out << "format = " << toml_quoted(std::string(kFormat)) << "\n";
    for (const Waymark& m : waymarks) {
        out << "\n[[waymark]]\nname  = " << toml_quoted(m.name) << "\nat_ns = " << ns_text(m.at) << "\n";
        if (m.is_stretch()) out << "until_ns = " << ns_text(m.until) << "\n";
        if (!m.note.empty()) out << "note  = " << toml_quoted(m.note) << "\n";
    }
    return out.str();
}

Result<void> keep_waymarks(const std::vector<Waymark>& waymarks, const std::string& input) {
    return replace_file(kept_file_path(input, kKind), waymarks_text(waymarks));
}

Result<void> copy_waymarks(const std::string& input, const std::string& saved) {
    const auto waymarks = read_waymarks(input);
    if (!waymarks) return tl::make_unexpected(waymarks.error());
    return waymarks->empty() ? Result<void>{} : keep_waymarks(*waymarks, saved);
}

}  // namespace mt
