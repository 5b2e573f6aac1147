#include "share/html_page.h"

#include <algorithm>
#include <cstdio>

#include "base/plain_text.h"

namespace mt {
namespace {

constexpr std::string_view kStyle = R"(
:root { --ground: #fdfaf2; --panel: #f3ecdf; --rule: #ddd3bf; --text: #2a2a26; --second: #6c6558; --run: #6d8f52;
  --never: #b4512f; --partly: #b08a3c; --other: #39749b; color-scheme: light dark; }
@media (prefers-color-scheme: dark) { :root { --ground: #211f1b; --panel: #2b2823; --rule: #45413a; --text: #e9e2d3;
  --second: #a69d8c; --run: #8fb36d; --never: #e07b55; --partly: #d1ab5b; --other: #6aa5cc; } }
* { box-sizing: border-box; }
body { margin: 0 auto; padding: 24px; max-width: 1100px; background: var(--ground); color: var(--text);
  font: 14px/1.45 system-ui, sans-serif; }
h1 { font-size: 22px; margin: 0 0 4px; } h2 { font-size: 17px; margin: 28px 0 8px; border-bottom: 1px solid var(--rule); }
h3 { font-size: 14px; margin: 16px 0 2px; } p { margin: 4px 0; } .second { color: var(--second); }
table { border-collapse: collapse; width: 100%; margin: 6px 0; font-size: 13px; }
th, td { text-align: right; padding: 2px 8px; border-bottom: 1px solid var(--rule); vertical-align: top; }
th { color: var(--second); font-weight: 600; } .l { text-align: left; } td { font-variant-numeric: tabular-nums; }
a { color: var(--other); text-decoration: none; } a:hover { text-decoration: underline; }
.bar { display: inline-block; width: 70px; height: 8px; background: var(--rule); margin-right: 6px; vertical-align: 1px; }
.bar i { display: block; height: 8px; background: var(--run); }
.kept, .better { color: var(--run); font-weight: 600; } .broken, .worse { color: var(--never); font-weight: 600; }
.undecided { color: var(--partly); font-weight: 600; } svg { display: block; width: 100%; height: auto; margin: 6px 0; }
pre { margin: 0; font: 12px/1.5 ui-monospace, monospace; overflow-x: auto; }
pre span { display: block; padding-left: 4px; border-left: 4px solid transparent; white-space: pre; }
pre .run { border-color: var(--run); } pre .never { border-color: var(--never); background: color-mix(in srgb, var(--never) 12%, transparent); }
pre .partly { border-color: var(--partly); } pre b { display: inline-block; width: 5em; text-align: right; color: var(--second); font-weight: 400; margin-right: 1em; }
pre u { display: inline-block; width: 9em; text-align: right; color: var(--second); text-decoration: none; margin-right: 1em; }
@media print { body { max-width: none; padding: 0; font-size: 10pt; } h2 { break-after: avoid; } tr, svg, .item { break-inside: avoid; }
  @page { size: A4; margin: 16mm; } }
)";

}  // namespace

std::string html_text(std::string_view text) {
    std::string all;
    for (const char c : plain_text(text)) {
        switch (c) {
            case '&':
                all += "&amp;";
                break;
            case '<':
                all += "&lt;";
                break;
            case '>':
                all += "&gt;";
                break;
            case '"':
                all += "&quot;";
                break;
            case '\'':
                all += "&#39;";
                break;
            default:
                all += c;
        }
    }
    return all;
}

std::string html_page_in(const std::string& frame, const std::string& title, const std::string& body) {
    // From left to right: what is filled in is not looked at again, whatever stands in a name.
    std::string page;
    std::size_t at = 0;
    for (std::size_t mark = 0; (mark = frame.find("{{", at)) != std::string::npos;) {
        page += frame.substr(at, mark - at);
        const auto is = [&](std::string_view key) { return frame.compare(mark, key.size(), key) == 0; };
        at = mark + 2;
        if (is("{{style}}")) {
            page += kStyle;
            at = mark + 9;
        } else if (is("{{title}}")) {
            page += html_text(title);
            at = mark + 9;
        } else if (is("{{body}}")) {
            page += body;
            at = mark + 8;
        } else {
            page += "{{";
        }
    }
    page += frame.substr(at);
    return page;
}

std::string html_page(const std::string& title, const std::string& body) {
    // No scripts, and nothing from elsewhere: a name that tries to bring some finds the door shut.
    return html_page_in(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta http-equiv=\"Content-Security-Policy\" "
        "content=\"default-src 'none'; style-src 'unsafe-inline'; img-src data:\">\n<meta name=\"viewport\" "
        "content=\"width=device-width\">\n<title>{{title}}</title>\n<style>{{style}}</style>\n</head>\n<body>\n{{body}}\n"
        "</body>\n</html>\n",
        title, body);
}

std::string html_table(const std::vector<std::string>& heads, const std::vector<std::vector<std::string>>& rows,
                       const std::vector<bool>& left) {
    std::string all = "<table><thead><tr>";
    const auto side = [&](std::size_t c) { return c < left.size() && left[c] ? " class=\"l\">" : ">"; };
    for (std::size_t c = 0; c < heads.size(); ++c) all += std::string("<th") + side(c) + html_text(heads[c]) + "</th>";
    all += "</tr></thead>\n<tbody>";
    for (const auto& row : rows) {
        all += "<tr>";
        for (std::size_t c = 0; c < row.size(); ++c) all += std::string("<td") + side(c) + row[c] + "</td>";
        all += "</tr>\n";
    }
    return all + "</tbody></table>\n";
}

std::string html_share(double share, const std::string& figure) {
    char width[16];
    std::snprintf(width, sizeof width, "%.1f", 100 * std::clamp(share, 0.0, 1.0));
    return "<span class=\"bar\"><i style=\"width:" + std::string(width) + "%\"></i></span>" + html_text(figure);
}

}  // namespace mt
