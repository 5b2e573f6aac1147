#include "share/compare_tables.h"

#include <cmath>
#include <iomanip>
#include <ostream>
#include <sstream>

#include "base/text.h"
#include "share/tables.h"

namespace mt {
namespace {

nlohmann::ordered_json plain(const Change& c, double v) { return c.in_time ? v / 1e3 : v; }
nlohmann::ordered_json json_relative(double r) { return std::isfinite(r) ? nlohmann::ordered_json(r) : nullptr; }

nlohmann::ordered_json one_sided_json(const OneSided& o) {
    nlohmann::ordered_json row = {{"activity", o.activity}, {"kind", o.kind}, {"count", o.count},
                                  {"rate", o.rate},         {"role", role_name(o.role)}};
    if (!o.core.empty()) row["core"] = o.core;
    if (!o.because.empty()) row["because"] = o.because;
    return row;
}

std::string joined(const std::vector<std::string>& all) {
    std::string text;
    for (std::size_t i = 0; i < all.size(); ++i) text += (i == 0 ? "" : i + 1 == all.size() ? " and " : ", ") + all[i];
    return text;
}

std::string chance_text(double chance) {
    if (chance <= 0) return "certain";
    // As many divisions as were tried, and none came near: the last one counted is the recordings' own.
    if (chance < 1.5e-4) return "less than 1 in " + count_text(static_cast<std::uint64_t>(std::llround(1 / chance)) - 1) + " by chance";
    return "1 in " + count_text(static_cast<std::uint64_t>(std::llround(1 / chance))) + " by chance";
}

std::string what_text(const Change& c) {
    const bool more = c.after > c.before;
    if (c.quantity == "priority") return c.activity + " has another priority";
    if (c.quantity == "core") return c.activity + " runs on another core";
    if (c.statistic == Statistic::rate) {
        if (c.quantity == "overlap")
            return c.after == 0 ? c.activity + " is no longer used by two at once"
                                : c.activity + (more ? " is used by two at once more often" : " is used by two at once less often");
        if (c.quantity == "wait") return c.activity + (more ? " is waited for more often" : " is waited for less often");
        return c.activity + (more ? " comes more often" : " comes less often");
    }
    if (c.statistic == Statistic::spread && c.quantity == "period")
        return c.activity + (more ? " comes less evenly" : " comes more evenly");
    if (c.quantity == "running") return c.activity + (more ? " works longer" : " works for less");
    if (c.quantity == "response") return c.activity + (more ? " answers later" : " answers sooner");
    if (c.quantity == "duration") return c.activity + (more ? " takes longer" : " takes less");
    if (c.quantity == "hold") return c.activity + (more ? " is held for longer" : " is held for less");
    if (c.quantity == "wait") return c.activity + (more ? " is waited for longer" : " is waited for less");
    if (c.quantity == "depth") return c.activity + (more ? " fills more" : " fills less");
    if (c.quantity == "load") return c.activity + (more ? " has more load" : " has less load");
    if (c.quantity == "period") return c.activity + (more ? " comes at longer intervals" : " comes at shorter intervals");
    return c.activity + ": " + c.quantity;
}

}  // namespace

std::string relative_text(double relative) {
    if (!std::isfinite(relative)) return "new";
    if (relative == -1) return "gone";
    std::ostringstream s;
    s << std::showpos << std::fixed << std::setprecision(std::fabs(relative) < 0.0995 ? 1 : 0) << 100 * relative << " %";
    std::string text = s.str();
    if (text[0] == '-') text.replace(0, 1, "\u2212");
    return text;
}

std::string compared_value_text(const Change& c, double value) {
    if (c.statistic == Statistic::rate) {
        std::ostringstream s;
        s << std::setprecision(3) << value << " per s";
        return s.str();
    }
    if (c.in_time) return duration_text(Time{static_cast<std::int64_t>(std::llround(value))});
    std::ostringstream s;
    s << std::setprecision(3) << value << (c.quantity == "load" ? " %" : "");
    return s.str();
}

std::string change_text(const Change& c) {
    constexpr std::string_view kStatistics[] = {"mean", "median", "P95", "P99", "spread", "rate"};
    std::string text = what_text(c) + ": ";
    if (c.quantity != "priority" && c.quantity != "core")
        text += c.quantity + " " +
                std::string(c.statistic == Statistic::rate ? "" : kStatistics[static_cast<std::size_t>(c.statistic)]) +
                (c.statistic == Statistic::rate ? "" : " ");
    text += compared_value_text(c, c.before) + " \u2192 " + compared_value_text(c, c.after);
    if (c.quantity != "priority" && c.quantity != "core") text += " (" + relative_text(c.relative()) + ")";
    return text;
}

namespace {

nlohmann::ordered_json code_json(const CodeBoth& of) {
    nlohmann::ordered_json functions = nlohmann::ordered_json::array();
    for (const CoverDifference::Of& f : of.difference.functions) {
        nlohmann::ordered_json ways = nlohmann::ordered_json::array();
        for (const auto& w : f.ways)
            ways.push_back({{"address", hex_text(of.code->address(w.slot), 8)}, {"taken", w.taken}, {"only", w.gained ? "after" : "before"}});
        functions.push_back({{"function", f.name},
                             {"file", f.file},
                             {"line", f.line},
                             {"gained", f.gained},
                             {"lost", f.lost},
                             {"gained_lines", f.gained_lines},
                             {"lost_lines", f.lost_lines},
                             {"branches", std::move(ways)}});
    }
    return {{"core", of.core},
            {"gained", of.difference.gained},
            {"lost", of.difference.lost},
            {"functions", std::move(functions)},
            {"changed", of.difference.changed},
            {"gone", of.difference.gone}};
}

}  // namespace

nlohmann::ordered_json compare_json(const Comparison& of, const std::vector<Mended>& mended,
                                    const std::vector<CodeBoth>& code) {
    nlohmann::ordered_json changes = nlohmann::ordered_json::array(), appeared = changes, vanished = changes,
                           unchanged = changes;
    for (const Change& c : of.changes) {
        nlohmann::ordered_json row = {{"activity", c.activity},
                                      {"kind", c.kind},
                                      {"quantity", c.quantity},
                                      {"statistic", statistic_name(c.statistic)},
                                      {"before", plain(c, c.before)},
                                      {"after", plain(c, c.after)},
                                      {"relative", json_relative(c.relative())},
                                      {"direction", direction_name(c.direction)},
                                      {"role", role_name(c.role)},
                                      {"because", c.because},
                                      {"confidence", 1 - c.chance}};
        if (!c.core.empty()) row["core"] = c.core;
        nlohmann::ordered_json figures = nlohmann::ordered_json::array();
        for (const Compared& f : c.figures) {
            const bool time = f.statistic != Statistic::rate && c.quantity != "depth" && c.quantity != "load";
            figures.push_back({{"statistic", statistic_name(f.statistic)},
                               {"before", time ? f.before / 1e3 : f.before},
                               {"after", time ? f.after / 1e3 : f.after},
                               {"relative", json_relative(f.relative())},
                               {"beyond_chance", f.beyond}});
        }
        row["figures"] = std::move(figures);
        changes.push_back(std::move(row));
    }
    for (const OneSided& o : of.appeared) appeared.push_back(one_sided_json(o));
    for (const OneSided& o : of.vanished) vanished.push_back(one_sided_json(o));
    for (const Unchanged& u : of.unchanged) {
        nlohmann::ordered_json row = {{"activity", u.activity}, {"kind", u.kind}, {"quantity", u.quantity}};
        if (!u.core.empty()) row["core"] = u.core;
        unchanged.push_back(std::move(row));
    }
    nlohmann::ordered_json ran = nlohmann::ordered_json::array();
    for (const CodeBoth& c : code) ran.push_back(code_json(c));
    nlohmann::ordered_json findings = nlohmann::ordered_json::array();
    for (const Mended& m : mended)
        findings.push_back({{"title", m.title},
                            {"kind", finding_kind_name(m.kind)},
                            {"now", mended_name(m.now)},
                            {"situation", m.situation},
                            {"situations_before", m.before},
                            {"situations_after", m.after},
                            {"found_before", m.found_before},
                            {"found_after", m.found_after}});
    return {{"changes", std::move(changes)},
            {"appeared", std::move(appeared)},
            {"vanished", std::move(vanished)},
            {"unchanged", std::move(unchanged)},
            {"findings", std::move(findings)},
            {"code", std::move(ran)},
            {"not_told", of.not_told},
            {"level", of.level},
            {"block_ns", json_ns(of.block)},
            {"too_short", of.too_short}};
}

void write_compare_csv(const Comparison& of, std::ostream& out) {
    out << "activity,kind,quantity,statistic,before,after,relative,direction,role,because,confidence\n";
    const auto number = [](double v) {
        std::ostringstream s;
        s << std::setprecision(12) << v;
        return std::isfinite(v) ? s.str() : std::string();
    };
    for (const Change& c : of.changes)
        out << csv_field(c.activity) << ',' << c.kind << ',' << c.quantity << ',' << statistic_name(c.statistic) << ','
            << number(c.in_time ? c.before / 1e3 : c.before) << ',' << number(c.in_time ? c.after / 1e3 : c.after)
            << ',' << number(c.relative()) << ',' << direction_name(c.direction) << ',' << role_name(c.role) << ','
            << csv_field(joined(c.because)) << ',' << number(1 - c.chance) << '\n';
    for (const bool fresh : {true, false})
        for (const OneSided& o : fresh ? of.appeared : of.vanished)
            out << csv_field(o.activity) << ',' << o.kind << ",presence,rate," << number(fresh ? 0 : o.rate) << ','
                << number(fresh ? o.rate : 0) << ",,neutral," << role_name(o.role) << ','
                << csv_field(joined(o.because)) << ",\n";
}

// "star_table_at (catalog.c:7): 3 instructions only after, 0x08000106 only taken after".
std::string code_both_text(const CodeBoth& of) {
    constexpr std::size_t kMost = 20;
    const CoverDifference& d = of.difference;
    if (!d.any() && d.changed.empty() && d.gone.empty()) return "Code of " + of.core + ": both ran the same.\n";
    std::string text = "Code of " + of.core + ": " + plural(d.gained, "instruction", "instructions") + " only after, " +
                       count_text(d.lost) + " only before\n";
    for (std::size_t i = 0; i < std::min(kMost, d.functions.size()); ++i) {
        const CoverDifference::Of& f = d.functions[i];
        std::string row = f.fresh ? "ran only after" : f.vanished ? "ran only before" : "";
        const auto add = [&row](const std::string& more) { row += (row.empty() ? "" : ", ") + more; };
        if (row.empty() && f.gained > 0) add(plural(f.gained, "instruction", "instructions") + " only after");
        if (!f.vanished && f.lost > 0) add(plural(f.lost, "instruction", "instructions") + " only before");
        for (const auto& w : f.ways)
            add("the branch at " + hex_text(of.code->address(w.slot), 8) + (w.taken ? " taken" : " not taken") + " only " +
                (w.gained ? "after" : "before"));
        text += "  " + f.name + (f.file.empty() ? "" : " (" + f.file + ":" + std::to_string(f.line) + ")") + ": " + row + "\n";
    }
    if (d.functions.size() > kMost) text += "  and " + plural(d.functions.size() - kMost, "function", "functions") + " more\n";
    for (const auto& [names, why] : {std::pair(&d.changed, "changed"), std::pair(&d.gone, "gone")})
        if (!names->empty()) text += "  " + std::string(why) + ", and so not comparable: " + joined(*names) + "\n";
    return text;
}

std::string compare_text(const Comparison& of, const std::vector<Mended>& mended, const std::vector<CodeBoth>& code) {
    std::string text;
    for (const Change& c : of.changes) {
        const bool effect = c.role == Change::Role::effect;
        text += (effect ? "  " : "") + std::string(direction_name(c.direction)) + ": " + change_text(c);
        if (effect)
            text += c.because.empty() ? ", an effect" : ", because of " + joined(c.because);
        text += "; " + chance_text(c.chance) + "\n";
    }
    for (const OneSided& o : of.appeared)
        text += "new: " + o.kind + " " + o.activity + ", " + count_text(o.count) + " times" +
                (o.because.empty() ? "" : ", because of " + joined(o.because)) + "\n";
    for (const OneSided& o : of.vanished)
        text += "gone: " + o.kind + " " + o.activity + ", before " + count_text(o.count) + " times\n";
    if (!of.not_told.empty())
        text += "Not compared, as only one of them tells of it: " +
                joined({of.not_told.begin(), of.not_told.end()}) + "\n";
    if (of.too_short)
        text += "Too little is recorded to compare figures: ten seconds or ten times the longest period are a good "
                "length.\n";
    if (!mended.empty()) text += "\nFound before:\n";
    for (const Mended& m : mended) text += "  " + mended_text(m) + "\n";
    if (!mended.empty()) text += "\n";
    for (const CodeBoth& c : code) text += code_both_text(c);
    if (!code.empty()) text += "\n";
    std::ostringstream level;
    level << std::setprecision(3) << 1 / of.level;
    text += plural(of.worse(), "figure", "figures") + " worse, " + count_text(of.better()) + " better, " +
            count_text(of.unchanged.size()) + " alike; the chance of any false alarm is 1 in " + level.str() + "\n";
    return text;
}

}  // namespace mt
