#include "share/rule_tables.h"

#include <cmath>
#include <ostream>
#include <sstream>

#include <pugixml.hpp>

#include "base/plain_text.h"
#include "base/text.h"
#include "share/aligned_text.h"
#include "share/tables.h"

namespace mt {
namespace {

constexpr std::size_t kMostPlacesTold = 100;

bool in_time(RuleWhat what) { return what == RuleWhat::order || unit_of(what) == RuleUnit::time; }

// Times in ns, everything else as it is.
nlohmann::ordered_json number(RuleWhat what, double v) {
    if (in_time(what)) return std::round(v) / 1e3;
    return v;
}
std::string field(RuleWhat what, const std::optional<double>& v) {
    if (!v) return {};
    if (in_time(what)) return ns_text(Time{static_cast<std::int64_t>(std::llround(*v))});
    std::ostringstream s;
    s.precision(12);
    s << *v;
    return s.str();
}
std::optional<double> worst_of(const RuleOutcome& o) { return o.worst ? std::optional(o.worst->value) : std::nullopt; }

// What a rule is about: "track", "ENC_INDEX to track", "main".
std::string about(const Rule& r) {
    if (r.from && r.to) return r.from->of + " to " + r.to->of;
    if (r.first && r.then) return r.first->of + " before " + r.then->of;
    if (!r.of.empty()) return r.with.empty() ? r.of : r.of + " and " + r.with;
    return r.core;
}

std::string what_is_wrong(const RuleOutcome& o) {
    std::string text;
    const auto add = [&text](const std::string& part) { text += (text.empty() ? "" : "; ") + part; };
    if (o.violations > 0) add(count_text(o.violations) + " of " + count_text(o.checked) + " beyond the limit");
    for (const RuleStatistic& s : o.statistics)
        if (!s.kept) add(s.name + " is " + rule_value_text(o.rule.what, s.value));
    if (o.undecided > 0) add(count_text(o.undecided) + " cannot be decided within their bounds");
    if (!o.reason.empty()) add(o.reason);
    return text;
}

}  // namespace

nlohmann::ordered_json judged_json(const std::vector<JudgedInput>& all) {
    nlohmann::ordered_json rows = nlohmann::ordered_json::array();
    for (const JudgedInput& judged : all)
        for (const RuleOutcome& o : judged.outcomes) {
            const RuleWhat what = o.rule.what;
            nlohmann::ordered_json row = {{"rule", o.rule.name},
                                          {"verdict", verdict_name(o.verdict)},
                                          {"what", rule_what_name(what)},
                                          {"of", about(o.rule)},
                                          {"limit", o.rule.limit_text()},
                                          {"checked", o.checked},
                                          {"violations", o.violations},
                                          {"undecided", o.undecided},
                                          {"excluded", o.excluded},
                                          {"unpaired", o.unpaired},
                                          {"worst", nullptr},
                                          {"worst_begin_ns", nullptr},
                                          {"worst_end_ns", nullptr}};
            if (o.worst) {
                row["worst"] = number(what, o.worst->value);
                row["worst_begin_ns"] = json_ns(o.worst->begin);
                row["worst_end_ns"] = json_ns(o.worst->end);
            }
            nlohmann::ordered_json places = nlohmann::ordered_json::array();
            for (std::size_t i = 0; i < std::min(o.places.size(), kMostPlacesTold); ++i)
                places.push_back({{"begin_ns", json_ns(o.places[i].begin)},
                                  {"end_ns", json_ns(o.places[i].end)},
                                  {"value", number(what, o.places[i].value)}});
            row["places"] = std::move(places);
            if (!o.statistics.empty()) {
                nlohmann::ordered_json statistics = nlohmann::ordered_json::array();
                for (const RuleStatistic& s : o.statistics)
                    statistics.push_back({{"statistic", s.name},
                                          {"value", number(what, s.value)},
                                          {"limit", number(what, s.limit)},
                                          {"kept", s.kept}});
                row["statistics"] = std::move(statistics);
            }
            if (!o.reason.empty()) row["reason"] = o.reason;
            if (!o.rule.note.empty()) row["note"] = o.rule.note;
            row["input"] = judged.input;
            rows.push_back(std::move(row));
        }
    return rows;
}

void write_judged_csv(const std::vector<JudgedInput>& all, std::ostream& out) {
    out << "input,rule,verdict,what,of,limit,checked,violations,undecided,excluded,unpaired,worst,worst_begin_ns,"
           "worst_end_ns,reason,note\n";
    for (const JudgedInput& judged : all)
        for (const RuleOutcome& o : judged.outcomes) {
            out << csv_field(judged.input) << ',' << csv_field(o.rule.name) << ',' << verdict_name(o.verdict) << ','
                << rule_what_name(o.rule.what) << ',' << csv_field(about(o.rule)) << ','
                << csv_field(o.rule.limit_text()) << ',' << o.checked << ',' << o.violations << ',' << o.undecided
                << ',' << o.excluded << ',' << o.unpaired << ',' << field(o.rule.what, worst_of(o)) << ','
                << (o.worst ? ns_text(o.worst->begin) : "") << ',' << (o.worst ? ns_text(o.worst->end) : "") << ','
                << csv_field(o.reason) << ',' << csv_field(o.rule.note) << '\n';
        }
}

std::string judged_text(const std::vector<JudgedInput>& all) {
    std::string text;
    for (const JudgedInput& judged : all) {
        std::size_t counts[3] = {};
        for (const RuleOutcome& o : judged.outcomes) ++counts[static_cast<std::size_t>(o.verdict)];
        if (all.size() > 1) text += judged.input + ":\n";
        std::vector<std::vector<std::string>> rows{
            {"verdict", "rule", "of", "what", "limit", "worst", "at", "checked", "violations"}};
        for (const RuleOutcome& o : judged.outcomes)
            rows.push_back({std::string(verdict_name(o.verdict)), o.rule.name, about(o.rule),
                            std::string(rule_what_name(o.rule.what)), o.rule.limit_text(),
                            o.worst ? rule_value_text(o.rule.what, o.worst->value) : "–",
                            o.worst ? moment_text(o.worst->begin) : "–", count_text(o.checked),
                            count_text(o.violations)});
        text += aligned_text(rows, {true, true, true, true, true, false, false, false, false});
        for (const RuleOutcome& o : judged.outcomes)
            if (const std::string why = what_is_wrong(o); !why.empty() && o.verdict != Verdict::kept)
                text += o.rule.name + ": " + why + "\n";
        text += plural(judged.outcomes.size(), "rule", "rules") + ": " + count_text(counts[0]) + " kept, " +
                count_text(counts[1]) + " broken, " + count_text(counts[2]) + " undecided\n";
    }
    return text;
}

std::string judged_junit(const std::vector<JudgedInput>& all) {
    pugi::xml_document doc;
    pugi::xml_node suites = doc.append_child("testsuites");
    const auto text = [](const std::string& s) { return plain_text(s); };
    for (const JudgedInput& judged : all) {
        pugi::xml_node suite = suites.append_child("testsuite");
        std::size_t broken = 0, undecided = 0;
        for (const RuleOutcome& o : judged.outcomes) {
            broken += o.verdict == Verdict::broken;
            undecided += o.verdict == Verdict::undecided;
        }
        suite.append_attribute("name") = text(judged.input).c_str();
        suite.append_attribute("tests") = static_cast<unsigned long long>(judged.outcomes.size());
        suite.append_attribute("failures") = static_cast<unsigned long long>(broken);
        suite.append_attribute("errors") = 0;
        suite.append_attribute("skipped") = static_cast<unsigned long long>(undecided);
        for (const RuleOutcome& o : judged.outcomes) {
            pugi::xml_node one = suite.append_child("testcase");
            one.append_attribute("classname") = text(about(o.rule)).c_str();
            one.append_attribute("name") = text(o.rule.name).c_str();
            pugi::xml_node properties = one.append_child("properties");
            const auto property = [&](const char* name, const std::string& value) {
                if (value.empty()) return;
                pugi::xml_node p = properties.append_child("property");
                p.append_attribute("name") = name;
                p.append_attribute("value") = text(value).c_str();
            };
            property("what", std::string(rule_what_name(o.rule.what)));
            property("limit", o.rule.limit_text());
            property("checked", std::to_string(o.checked));
            property("violations", std::to_string(o.violations));
            property("undecided", std::to_string(o.undecided));
            property("excluded", std::to_string(o.excluded));
            property("unpaired", std::to_string(o.unpaired));
            property(in_time(o.rule.what) ? "worst_ns" : "worst", field(o.rule.what, worst_of(o)));
            if (o.worst) property("worst_begin_ns", ns_text(o.worst->begin));
            for (const RuleStatistic& s : o.statistics)
                property((s.name + (in_time(o.rule.what) ? "_ns" : "")).c_str(), field(o.rule.what, s.value));
            property("note", o.rule.note);
            std::string why = o.rule.limit_text() + ": " + what_is_wrong(o);
            if (o.worst)
                why += "; the worst is " + rule_value_text(o.rule.what, o.worst->value) + " at " +
                       moment_text(o.worst->begin);
            if (o.verdict == Verdict::broken)
                one.append_child("failure").append_attribute("message") = text(why).c_str();
            else if (o.verdict == Verdict::undecided)
                one.append_child("skipped").append_attribute("message") = text(why).c_str();
        }
    }
    std::ostringstream out;
    doc.save(out, "  ");
    return out.str();
}

}  // namespace mt
