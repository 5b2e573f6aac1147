#include "share/report.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <map>
#include <set>
#include <sstream>

#include "base/read_file.h"
#include "base/text.h"
#include "measure/lane_book.h"
#include "share/compare_tables.h"
#include "share/html_page.h"
#include "share/lane_picture.h"
#include "share/tables.h"

namespace mt {
namespace {

constexpr std::size_t kMostRows = 200, kMostPictures = 30;

std::string heading(const std::string& id, const std::string& text) {
    return "<h2 id=\"" + id + "\">" + html_text(text) + "</h2>\n";
}
std::string more(std::size_t shown, std::size_t all) {
    return shown < all ? "<p class=\"second\">and " + count_text(all - shown) + " more</p>\n" : "";
}
std::string share_cell(std::uint64_t part, std::uint64_t whole) {
    if (whole == 0) return "–";
    const double share = static_cast<double>(part) / static_cast<double>(whole);
    char text[16];
    std::snprintf(text, sizeof text, "%.1f %%", part < whole ? std::min(99.9, 100 * share) : 100.0);
    return html_share(share, text);
}

// The stretch around something, with room on both sides.
std::pair<Time, Time> around(Time begin, Time end, Time whole) {
    const std::int64_t length = std::max<std::int64_t>((end - begin).ps, 20'000'000);
    return {Time{std::max<std::int64_t>(0, begin.ps - length / 2)}, Time{std::min(whole.ps, end.ps + length / 2)}};
}

std::string summary_part(const Recording& recording, const Trail& trail) {
    return heading("summary", "What was recorded") + "<pre>" + html_text(summary_text(recording, trail)) + "</pre>\n";
}

std::string findings_part(const std::shared_ptr<const Trail>& trail, const ReportParts& parts, const LaneBook& lanes) {
    std::string all = heading("findings", "Findings");
    if (parts.findings.empty()) all += "<p>Nothing unusual was found.</p>\n";
    std::size_t pictures = 0;
    for (std::size_t i = 0; i < std::min(parts.findings.size(), kMostRows); ++i) {
        const Finding& f = parts.findings[i];
        all += "<div class=\"item\"><h3>" + std::to_string(i + 1) + ". " + html_text(f.title) + "</h3>\n<p>" + html_text(f.cause) +
               "</p>\n<p class=\"second\">at " + html_text(moment_text(f.begin)) +
               (f.core.empty() ? "" : ", core " + html_text(f.core)) + "</p>\n";
        if (pictures < kMostPictures && f.timed) {
            std::vector<LaneId> which;
            const auto add = [&](const LaneId& id) {
                if (id && std::find(which.begin(), which.end(), id) == which.end()) which.push_back(id);
            };
            add(f.lane);
            for (const Involved& who : f.involved) add(who.lane);
            const auto [from, to] = around(f.begin, f.end, trail->end);
            const std::string svg = lanes_svg(lanes, which, from, to, std::pair(f.begin, f.end));
            pictures += svg.empty() ? 0 : 1;
            all += svg;
        }
        all += "</div>\n";
    }
    all += more(std::min(parts.findings.size(), kMostRows), parts.findings.size());
    if (parts.muted > 0) all += "<p class=\"second\">" + plural(parts.muted, "finding is", "findings are") + " muted and not shown.</p>\n";
    return all;
}

std::string rules_part(const std::vector<RuleOutcome>& rules) {
    std::vector<std::vector<std::string>> rows;
    for (const RuleOutcome& o : rules) {
        const std::string verdict(verdict_name(o.verdict));
        std::string name = html_text(o.rule.name);
        if (!o.rule.note.empty()) name += "<br><span class=\"second\">" + html_text(o.rule.note) + "</span>";
        if (!o.reason.empty()) name += "<br><span class=\"second\">" + html_text(o.reason) + "</span>";
        std::string statistics;
        for (const RuleStatistic& s : o.statistics)
            statistics += (statistics.empty() ? "" : ", ") + s.name + " " + rule_value_text(o.rule.what, s.value);
        rows.push_back({"<span class=\"" + verdict + "\">" + verdict + "</span>", name,
                        html_text(std::string(rule_what_name(o.rule.what)) + ": " + o.rule.limit_text()),
                        o.worst ? html_text(rule_value_text(o.rule.what, o.worst->value)) : html_text(statistics.empty() ? "–" : statistics),
                        o.worst ? html_text(moment_text(o.worst->begin)) : "–", count_text(o.checked),
                        count_text(o.violations)});
    }
    return heading("rules", "Rules") +
           html_table({"verdict", "rule", "limit", "worst", "at", "checked", "violations"}, rows, {true, true, true});
}

std::string measures_part(const Measured& of) {
    std::string all = heading("measures", "Measures");
    for (const LaneKind* kind : LaneKinds::all()) {
        if (!kind->told(of.trail) || kind->takes_long()) continue;
        const std::vector<MeasuredRow> measured = kind->rows(of);
        if (measured.empty()) continue;
        std::vector<std::string> heads;
        std::vector<bool> left;
        std::vector<std::size_t> columns;
        const auto figures = kind->figures();
        for (std::size_t c = 0; c < figures.size(); ++c) {
            if (figures[c].heading.empty()) continue;
            columns.push_back(c);
            heads.emplace_back(figures[c].heading);
            left.push_back(columns.size() == 1);
        }
        std::vector<std::vector<std::string>> rows;
        for (std::size_t i = 0; i < std::min(measured.size(), kMostRows); ++i) {
            std::vector<std::string> row;
            for (const std::size_t c : columns)
                row.push_back(c < measured[i].cells.size() ? html_text(cell_text(measured[i].cells[c])) : "");
            rows.push_back(std::move(row));
        }
        all += "<h3>" + html_text(kind->many()) + "</h3>\n" + html_table(heads, rows, left) + more(rows.size(), measured.size());
    }
    return all;
}

std::vector<std::vector<std::string>> file_rows(const CoverOfCore& c, const CoverChoice& choice,
                                                const std::map<std::string, std::string>& links) {
    std::vector<std::vector<std::string>> rows;
    for (const CoverFile& f : c.coverage.files) {
        if (!choice.takes(f)) continue;
        const auto link = links.find(f.name);
        rows.push_back({link == links.end() ? html_text(f.name)
                                            : "<a href=\"" + html_text(link->second) + "\">" + html_text(f.name) + "</a>",
                        share_cell(f.sums.lines_run, f.sums.lines), count_text(f.sums.lines),
                        share_cell(f.sums.instructions_run, f.sums.instructions), count_text(f.sums.instructions),
                        share_cell(f.sums.branches_both, f.sums.branches), count_text(f.sums.branches)});
    }
    return rows;
}
const std::vector<std::string> kFileHeads = {"file", "lines run", "of", "instructions run", "of", "branches both ways", "of"};

std::string sums_text(const CoverSums& s) {
    return "<p>" + share_cell(s.lines_run, s.lines) + " of " + count_text(s.lines) + " lines, " +
           share_cell(s.instructions_run, s.instructions) + " of " + count_text(s.instructions) + " instructions, " +
           share_cell(s.branches_both, s.branches) + " of " + count_text(s.branches) + " branches both ways, " +
           share_cell(s.functions_run, s.functions) + " of " + count_text(s.functions) + " functions</p>\n";
}

std::string coverage_part(const std::vector<CoverOfCore>& all) {
    std::string text = heading("coverage", "Coverage");
    for (const CoverOfCore& c : all) {
        if (all.size() > 1) text += "<h3>" + html_text(c.core) + "</h3>\n";
        text += sums_text(c.coverage.sums) + html_table(kFileHeads, file_rows(c, {}, {}), {true});
        std::string never;
        std::size_t n = 0;
        for (const CoverFunction& f : c.coverage.functions)
            if (f.sums.instructions_run == 0 && ++n <= kMostRows) never += (never.empty() ? "" : ", ") + html_text(f.name);
        if (n > 0) text += "<p>Never run: " + never + "</p>\n" + more(std::min(n, kMostRows), n);
    }
    return text;
}

std::string comparison_part(const ReportComparison& of) {
    const Comparison& c = of.comparison;
    std::vector<std::vector<std::string>> rows;
    const auto because = [](const std::vector<std::string>& names) {
        std::string text;
        for (const std::string& n : names) text += (text.empty() ? "because of " : ", ") + html_text(n);
        return text;
    };
    for (std::size_t i = 0; i < std::min(kMostRows, c.changes.size()); ++i) {
        const Change& x = c.changes[i];
        const bool effect = x.role == Change::Role::effect;
        const std::string text = change_text(x), direction(direction_name(x.direction));
        const char* style = x.direction == Change::Direction::worse ? "broken" : x.direction == Change::Direction::better ? "kept" : "second";
        rows.push_back({"<span class=\"" + std::string(style) + "\">" + direction + "</span>",
                        (effect ? "&emsp;" : "") + html_text(text.substr(0, text.find(": "))),
                        html_text(x.quantity + " " + std::string(statistic_name(x.statistic))),
                        html_text(compared_value_text(x, x.before)), html_text(compared_value_text(x, x.after)),
                        html_text(relative_text(x.relative())), effect ? because(x.because) : "a cause"});
    }
    for (const auto& [list, what] : {std::pair(&c.appeared, "is new"), std::pair(&c.vanished, "is gone")})
        for (const OneSided& o : *list)
            rows.push_back({"<span class=\"second\">neutral</span>", html_text(o.kind + " " + o.activity + " " + what), "count",
                            o.count > 0 && list == &c.vanished ? count_text(o.count) : "–",
                            list == &c.appeared ? count_text(o.count) : "–", "", because(o.because)});
    std::string text = heading("comparison", "What changed since " + of.before) + "<p>" + count_text(c.worse()) + " worse, " +
                       count_text(c.better()) + " better, " + count_text(c.unchanged.size()) +
                       " figures alike; the chance of any false alarm is 1 in " + count_text(static_cast<std::uint64_t>(std::llround(1 / c.level))) + ".</p>\n";
    if (!rows.empty()) text += html_table({"", "change", "figure", "before", "after", "difference", "why"}, rows, {true, true, true, false, false, false, true});
    text += more(std::min(kMostRows, c.changes.size()), c.changes.size());
    if (c.too_short) text += "<p class=\"second\">Too little is recorded to compare figures.</p>\n";
    if (!of.mended.empty()) text += "<h3>Found before</h3>\n<ul>";
    for (const Mended& m : of.mended) text += "<li>" + html_text(mended_text(m)) + "</li>\n";
    if (!of.mended.empty()) text += "</ul>\n";
    for (const CodeBoth& code : of.code) text += "<h3>Code of " + html_text(code.core) + "</h3>\n<pre>" + html_text(code_both_text(code)) + "</pre>\n";
    return text;
}

std::string waymarks_part(const Trail& trail) {
    std::vector<std::vector<std::string>> rows;
    for (const Waymark& m : trail.waymarks)
        rows.push_back({html_text(m.name), html_text(m.note), html_text(moment_text(m.at)),
                        m.is_stretch() ? html_text(duration_text(m.until - m.at)) : "–"});
    for (const Note& n : trail.notes) rows.push_back({"note while recording", html_text(n.text), html_text(moment_text(n.time)), "–"});
    return heading("waymarks", "Waymarks and notes") + html_table({"name", "note", "at", "length"}, rows, {true, true});
}

}  // namespace

Result<std::string> report_frame(const std::string& path, const Recording& recording) {
    std::string file = path;
    if (file.empty()) {
        file = (std::filesystem::path(recording.input).parent_path() / "report-frame.html").string();
        std::error_code ec;
        if (!std::filesystem::is_regular_file(file, ec)) return std::string();
    }
    auto frame = read_small_file(file, 16'000'000, "page frame");
    if (frame && frame->find("{{body}}") == std::string::npos)
        return failure("the page frame has no {{body}}", file, "write {{body}} where the report is to stand");
    return frame;
}

std::string report_html(const Recording& recording, std::shared_ptr<const Trail> trail, const ReportParts& parts,
                        const Progress* progress) {
    const auto wanted = [&](std::string_view section, bool there) {
        if (parts.sections.empty()) return there;
        return std::find(parts.sections.begin(), parts.sections.end(), section) != parts.sections.end();
    };
    const LaneBook lanes(trail);
    std::string body = "<h1>" + html_text(recording.title) + "</h1>\n<p class=\"second\">" + html_text(parts.made) + "</p>\n";
    std::vector<LaneId> overview;
    for (const LaneId& id : lanes.in_order(false)) {
        const Lane* lane = lanes.find(id);
        if (lane != nullptr && overview.size() < 14 && lane->shape() != Shape::stack && lane->stirs(Time{}, trail->end))
            overview.push_back(id);
    }
    if (wanted("summary", true)) body += lanes_svg(lanes, overview, Time{}, trail->end) + summary_part(recording, *trail);
    if (wanted("findings", true)) body += findings_part(trail, parts, lanes);
    if (wanted("rules", !parts.rules.empty())) body += rules_part(parts.rules);
    if (wanted("measures", true)) {
        Measured of{*trail, recording.functions};
        of.progress = progress;
        body += measures_part(of);
    }
    if (wanted("coverage", !parts.coverage.empty())) body += coverage_part(parts.coverage);
    if (parts.comparison && wanted("comparison", true)) body += comparison_part(*parts.comparison);
    if (wanted("waymarks", !trail->waymarks.empty() || !trail->notes.empty())) body += waymarks_part(*trail);
    return parts.frame.empty() ? html_page(recording.title, body) : html_page_in(parts.frame, recording.title, body);
}

std::vector<CoverPage> cover_pages(const std::vector<CoverOfCore>& all, const CoverChoice& choice, const std::string& title,
                                   const std::function<std::vector<std::string>(const std::string& file)>& source) {
    std::vector<CoverPage> pages(1);
    std::string index = "<h1>" + html_text(title) + "</h1>\n<p class=\"second\">which code ran</p>\n";
    for (const CoverOfCore& c : all) {
        std::map<std::string, std::string> links;
        for (const CoverFile& f : c.coverage.files) {
            if (!choice.takes(f)) continue;
            const std::string page = "file-" + std::to_string(pages.size()) + ".html";
            links[f.name] = page;
            std::map<std::uint32_t, const CoverLine*> lines;
            for (const CoverLine& l : f.lines) lines[l.line] = &l;
            std::vector<std::string> text = source(c.coverage.map->files()[f.index]);
            const bool known = !text.empty();
            if (!known && !f.lines.empty()) text.resize(std::min<std::size_t>(f.lines.back().line, 1'000'000));
            std::string body = "<p><a href=\"index.html\">" + html_text(title) + "</a></p>\n<h1>" + html_text(f.name) + "</h1>\n" +
                               sums_text(f.sums);
            if (!known) body += "<p class=\"second\">The source file is not here: only its lines with code are listed.</p>\n";
            std::vector<std::vector<std::string>> functions;
            for (const std::uint32_t k : f.functions) {
                const CoverFunction& g = c.coverage.functions[k];
                functions.push_back({"<a href=\"#l" + std::to_string(g.line) + "\">" + html_text(g.name) + "</a>", count_text(g.calls),
                                     share_cell(g.sums.instructions_run, g.sums.instructions), count_text(g.sums.instructions),
                                     share_cell(g.sums.branches_both, g.sums.branches), count_text(g.sums.branches)});
            }
            if (!functions.empty())
                body += html_table({"function", "calls", "instructions run", "of", "branches both ways", "of"}, functions, {true});
            if (std::any_of(f.lines.begin(), f.lines.end(), [](const CoverLine& l) { return l.merged; }))
                body += "<p class=\"second\">≈ the compiler merged the line with another, or moved it: no instruction is its alone.</p>\n";
            body += "<pre>";
            for (std::size_t i = 0; i < text.size(); ++i) {
                const auto line = lines.find(static_cast<std::uint32_t>(i + 1));
                const bool code = line != lines.end();
                if (!known && !code) continue;
                const char* sort = !code                      ? ""
                                   : line->second->count == 0 ? "never"
                                   : line->second->branches > line->second->branches_both ? "partly"
                                                                                          : "run";
                body += "<span id=\"l" + std::to_string(i + 1) + "\" class=\"" + sort + "\"><b>" + std::to_string(i + 1) + "</b><u>" +
                        (code && line->second->merged ? "≈ " : "") +
                        (code ? line->second->count == 0 ? std::string("not run") : count_text(line->second->count) : "") + "</u>" +
                        html_text(text[i]) + "</span>";
            }
            body += "</pre>\n";
            pages.push_back({page, html_page(f.name + " – " + title, body)});
        }
        if (all.size() > 1) index += "<h2>" + html_text(c.core) + "</h2>\n";
        index += sums_text(c.coverage.sums) + html_table(kFileHeads, file_rows(c, choice, links), {true});
        std::vector<std::vector<std::string>> never;
        for (const CoverFunction& f : c.coverage.functions)
            if (choice.takes(f) && f.sums.instructions_run == 0) {
                const auto link = links.find(f.file);
                never.push_back({link == links.end() ? html_text(f.name)
                                                     : "<a href=\"" + link->second + "#l" + std::to_string(f.line) + "\">" +
                                                           html_text(f.name) + "</a>",
                                 html_text(f.file), count_text(f.sums.instructions)});
            }
        if (!never.empty())
            index += "<h2>Never run</h2>\n" + html_table({"function", "file", "instructions"}, never, {true, true});
    }
    pages[0] = {"index.html", html_page(title, index)};
    return pages;
}

}  // namespace mt
