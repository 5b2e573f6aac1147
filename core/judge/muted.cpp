#include "judge/muted.h"

#include <algorithm>
#include <filesystem>
#include <sstream>

#include "base/kept_file.h"
#include "base/read_file.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace {
namespace fs = std::filesystem;
constexpr std::string_view kFormat = "mindful-trail-muted/1";
constexpr std::uint64_t kMostBytes = 4 << 20;

bool mutes(const Mute& m, const Finding& f) {
    if (!m.kind.empty() && m.kind != finding_kind_name(f.kind)) return false;
    if (!m.core.empty() && m.core != f.core) return false;
    return std::all_of(m.of.begin(), m.of.end(), [&f](const std::string& name) { return f.names(name); });
}

}  // namespace

const Mute* Muted::find(const Finding& finding) const {
    const auto found = std::find_if(all.begin(), all.end(), [&](const Mute& m) { return mutes(m, finding); });
    return found == all.end() ? nullptr : &*found;
}

Mute mute_of(const Finding& finding, std::string reason) {
    Mute m{std::string(finding_kind_name(finding.kind)), finding.core, {}, std::move(reason)};
    for (const Involved& i : finding.involved)
        if (std::find(m.of.begin(), m.of.end(), i.name) == m.of.end()) m.of.push_back(i.name);
    return m;
}

Result<Muted> parse_muted(std::string_view text, const std::string& path) {
    auto parsed = parse_toml(text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    std::optional<Problem> problem;
    Muted muted;
    TomlTable top(*parsed, "the file of muted findings", path, problem);
    if (const std::string format = top.text("format", true); !format.empty() && format != kFormat)
        top.fail("key 'format' is \"" + format + "\"", 1, "this version reads \"" + std::string(kFormat) + "\"");
    if (const auto* list = top.tables("muted", false))
        for (const auto& node : *list) {
            TomlTable t(*node.as_table(), "[[muted]]", path, problem);
            Mute m;
            m.kind = t.text("kind", false);
            if (!m.kind.empty() && !is_finding_kind(m.kind))
                t.fail("key 'kind' in [[muted]] is '" + m.kind + "'", t.line(),
                       "it must be a kind as `mtrail find --json` names them");
            m.core = t.text("core", false);
            m.of = t.list_of_text("of");
            m.reason = t.text("reason", true);
            if (m.kind.empty() && m.core.empty() && m.of.empty())
                t.fail("a [[muted]] without kind, core and of would mute everything", t.line(), "say what it mutes");
            t.warn_unknown(muted.warnings);
            muted.all.push_back(std::move(m));
        }
    top.warn_unknown(muted.warnings);
    if (problem) return tl::make_unexpected(*problem);
    return muted;
}

Result<Muted> read_muted(const std::string& path) {
    std::error_code ec;
    if (!fs::exists(path, ec)) return Muted{};
    const auto text = read_small_file(path, kMostBytes, "file of muted findings");
    if (!text) return tl::make_unexpected(text.error());
    return parse_muted(*text, path);
}

std::string muted_text(const Muted& muted) {
    std::ostringstream out;
    out << toml::table{{"format", kFormat}} << "\n";
    for (const Mute& m : muted.all) {
        toml::table t;
        if (!m.kind.empty()) t.insert("kind", m.kind);
        if (!m.core.empty()) t.insert("core", m.core);
        if (!m.of.empty()) {
            toml::array names;
            for (const std::string& name : m.of) names.push_back(name);
            t.insert("of", names);
        }
        t.insert("reason", m.reason);
        out << "\n[[muted]]\n" << t << "\n";
    }
    return out.str();
}

Result<void> write_muted(const Muted& muted, const std::string& path) { return replace_file(path, muted_text(muted)); }

Result<void> copy_muted(const std::string& input, const std::string& saved) {
    const auto muted = read_muted(muted_path(input));
    if (!muted) return tl::make_unexpected(muted.error());
    return muted->all.empty() ? Result<void>{} : write_muted(*muted, muted_path(saved));
}

std::string muted_path(const std::string& input) { return kept_file_path(input, "muted"); }

}  // namespace mt
