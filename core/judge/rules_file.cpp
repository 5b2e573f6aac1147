#include "judge/rules_file.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <set>
#include <sstream>

#include "base/near_names.h"
#include "base/read_file.h"
#include "base/text.h"
#include "target/measured_keys.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace {

constexpr std::string_view kRulesFormat = "mindful-trail-rules/1";
constexpr std::size_t kMostRules = 100'000;
constexpr std::array<std::string_view, 17> kWhats = {"response", "running", "duration", "own",     "period",   "jitter",
                                                     "latency",  "hold",    "wait",     "depth",   "load",     "rate",
                                                     "order",    "overlap", "value",    "count",   "coverage"};

// Limits by their keys, and how people read them.
struct LimitKey {
    const char *key, *words;
    std::optional<RuleLimit> Rule::*limit;
};
constexpr LimitKey kLimitKeys[] = {{"min", "at least ", &Rule::min},
                                   {"max", "at most ", &Rule::max},
                                   {"mean_max", "mean at most ", &Rule::mean_max},
                                   {"median_max", "median at most ", &Rule::median_max},
                                   {"p95_max", "P95 at most ", &Rule::p95_max},
                                   {"p99_max", "P99 at most ", &Rule::p99_max}};

std::string_view allowed_text(RuleUnit unit) {
    switch (unit) {
        case RuleUnit::time:
            return "a time with its unit, such as \"2 ms\": ns, us, µs, ms, s or cycles";
        case RuleUnit::percent:
            return "a share in percent, such as \"80 %\"";
        case RuleUnit::plain:
            break;
    }
    return "a number without a unit";
}

std::string number_text(double v) {
    std::ostringstream s;
    s.precision(15);
    s << v;
    return s.str();
}

// Reads one rule.
class RuleReader {
  public:
    RuleReader(TomlTable& t, const std::string& path, std::optional<Problem>& problem)
        : t_(t), path_(path), problem_(problem) {}

    Rule read() {
        Rule r;
        r.line = t_.line();
        r.name = t_.text("name", true);
        const std::string what = t_.text("what", true);
        const auto known = std::find(kWhats.begin(), kWhats.end(), what);
        if (known == kWhats.end()) {
            if (!what.empty())
                t_.fail("key 'what' of the rule '" + r.name + "' is \"" + what + "\"", t_.line(),
                        near_names_text(what, {kWhats.begin(), kWhats.end()}, ""));
            return r;
        }
        r.what = static_cast<RuleWhat>(known - kWhats.begin());
        r.of = t_.text("of", false);
        r.with = t_.text("with", false);
        r.core = t_.text("core", false);
        r.note = t_.text("note", false);
        r.optional = t_.flag("optional").value_or(false);
        r.magnitude = t_.flag("abs").value_or(false);
        if (const auto mask = t_.number("mask", false, 0, kNoLimit)) r.mask = static_cast<std::uint64_t>(*mask);
        const std::string share = t_.text("share", false, {"instructions", "lines", "branches"});
        r.share = share == "lines"      ? Rule::Share::lines
                  : share == "branches" ? Rule::Share::branches
                                        : Rule::Share::instructions;
        r.per = t_.text("per", false);
        r.from = event("from");
        r.to = event("to");
        r.first = event("first");
        r.then = event("then");
        const RuleUnit unit = unit_of(r.what);
        for (const LimitKey& k : kLimitKeys) r.*k.limit = limit(k.key, unit);
        r.nominal = limit("nominal", RuleUnit::time);
        if (const auto within = limit("within", RuleUnit::time)) {
            if (within->cycles || !(within->value >= 1) || within->value > 1e18)
                t_.refuse("within", "a length of time, such as \"100 ms\"");
            else
                r.within = Time{static_cast<std::int64_t>(within->value)};
        }
        t_.refuse_unknown();
        check(r);
        return r;
    }

  private:
    std::optional<EventSpec> event(const char* key) {
        const toml::table* table = t_.table(key);
        if (table == nullptr) return std::nullopt;
        TomlTable k(*table, std::string("'") + key + "' of a rule", path_, problem_);
        EventSpec e = read_event(k);
        k.refuse_unknown();
        return e;
    }
    std::optional<RuleLimit> limit(const char* key, RuleUnit unit) {
        t_.know(key);
        const toml::node* node = t_.raw().get(key);
        if (node == nullptr) return std::nullopt;
        if (const auto number = node->is_number() ? node->value<double>() : std::nullopt;
            number && unit == RuleUnit::plain && std::isfinite(*number))
            return RuleLimit{*number, false, number_text(*number)};
        if (const auto text = node->value_exact<std::string>())
            if (auto limit = parse_limit(*text, unit)) return limit;
        t_.refuse(key, std::string(allowed_text(unit)));
        return std::nullopt;
    }
    // What a quantity needs, and what it does not take.
    void check(const Rule& r) {
        const auto what = std::string(rule_what_name(r.what));
        const auto need = [&](bool there, const char* key, const char* example) {
            if (!there)
                t_.fail("missing key '" + std::string(key) + "' in the rule '" + r.name + "'", t_.line(),
                        "what = \"" + what + "\" needs it: " + key + " = " + example);
        };
        const auto refuse = [&](bool there, const char* key) {
            if (there)
                t_.fail("key '" + std::string(key) + "' in the rule '" + r.name + "'", t_.line(),
                        "what = \"" + what + "\" has no use for it");
        };
        const bool latency = r.what == RuleWhat::latency, order = r.what == RuleWhat::order;
        if (latency) {
            need(r.from.has_value(), "from", "{ of = \"ENC_INDEX\", at = \"entry\" }");
            need(r.to.has_value(), "to", "{ of = \"track\", at = \"end\" }");
        } else if (order) {
            need(r.first.has_value(), "first", "{ of = \"focus\", at = \"end\" }");
            need(r.then.has_value(), "then", "{ of = \"track\", at = \"end\" }");
            need(!r.per.empty(), "per", "\"track\"");
        } else if (r.what == RuleWhat::load) {
            need(!r.of.empty() || !r.core.empty(), "core", "\"main\"");
            need(r.within.has_value(), "within", "\"100 ms\"");
        } else {
            need(!r.of.empty(), "of", "\"track\"");
        }
        refuse(!latency && r.from, "from");
        refuse(!latency && r.to, "to");
        refuse(!order && r.first, "first");
        refuse(!order && r.then, "then");
        refuse(!order && !r.per.empty(), "per");
        refuse((latency || order) && !r.of.empty(), "of");
        refuse(r.what != RuleWhat::overlap && !r.with.empty(), "with");
        refuse(r.what != RuleWhat::load && r.what != RuleWhat::rate && r.within, "within");
        refuse(r.what != RuleWhat::jitter && r.nominal, "nominal");
        refuse(r.what != RuleWhat::value && (r.mask || r.magnitude), r.mask ? "mask" : "abs");
        const bool limits = r.min || r.max || r.mean_max || r.median_max || r.p95_max || r.p99_max;
        if (!order && r.what != RuleWhat::overlap)
            need(limits, "max", unit_of(r.what) == RuleUnit::time ? "\"2 ms\""
                                : unit_of(r.what) == RuleUnit::percent ? "\"80 %\""
                                                                       : "5");
        refuse(order && limits, "max");
        const bool single = r.what == RuleWhat::load || r.what == RuleWhat::count || r.what == RuleWhat::coverage;
        refuse((single || r.what == RuleWhat::overlap) && (r.mean_max || r.median_max || r.p95_max || r.p99_max),
               "mean_max");
        if (r.min && r.max && r.min->cycles == r.max->cycles && r.min->value > r.max->value)
            t_.fail("the rule '" + r.name + "' asks for at least " + r.min->text + " and at most " + r.max->text,
                    t_.line(), "min must not be greater than max");
    }

    TomlTable& t_;
    const std::string& path_;
    std::optional<Problem>& problem_;
};

std::string quoted(const std::string& text) {
    std::ostringstream s;
    s << toml::value<std::string>(text);
    return s.str();
}

std::string event_text(const EventSpec& e) {
    std::string all = "{ of = " + quoted(e.of);
    if (!e.core.empty()) all += ", core = " + quoted(e.core);
    if (!e.at.empty()) all += ", at = " + quoted(e.at);
    if (e.value) all += ", value = " + std::to_string(*e.value);
    if (e.crosses) all += ", crosses = " + number_text(*e.crosses) + ", rising = " + (e.rising ? "true" : "false");
    return all + " }";
}

}  // namespace

std::string_view rule_what_name(RuleWhat what) { return kWhats[static_cast<std::size_t>(what)]; }

RuleUnit unit_of(RuleWhat what) {
    switch (what) {
        case RuleWhat::load:
        case RuleWhat::coverage:
            return RuleUnit::percent;
        case RuleWhat::depth:
        case RuleWhat::rate:
        case RuleWhat::value:
        case RuleWhat::count:
        case RuleWhat::order:
            return RuleUnit::plain;
        default:
            return RuleUnit::time;
    }
}

std::optional<RuleLimit> parse_limit(std::string_view text, RuleUnit unit) {
    RuleLimit limit;
    const auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), limit.value);
    if (ec != std::errc() || !std::isfinite(limit.value)) return std::nullopt;
    std::string_view rest(end, static_cast<std::size_t>(text.data() + text.size() - end));
    while (!rest.empty() && rest.front() == ' ') rest.remove_prefix(1);
    limit.text = text;
    if (unit == RuleUnit::plain) return rest.empty() ? std::optional(limit) : std::nullopt;
    if (unit == RuleUnit::percent) return rest == "%" ? std::optional(limit) : std::nullopt;
    if (rest == "cycles") {
        limit.cycles = true;
        return limit;
    }
    constexpr std::pair<std::string_view, double> kUnits[] = {
        {"ns", 1e3}, {"us", 1e6}, {"\u00B5s", 1e6}, {"\u03BCs", 1e6}, {"ms", 1e9}, {"s", 1e12}};
    for (const auto& [name, ps] : kUnits)
        if (rest == name) {
            limit.value *= ps;
            if (name == "us") limit.text = limit.text.substr(0, limit.text.size() - 2) + "\u00B5s";
            return std::fabs(limit.value) < 9e18 ? std::optional(limit) : std::nullopt;
        }
    return std::nullopt;
}

std::string Rule::limit_text() const {
    std::string all;
    const auto add = [&all](const std::string& part) { all += (all.empty() ? "" : ", ") + part; };
    if (min && max) add(min->text + " to " + max->text);
    for (const LimitKey& k : kLimitKeys)
        if (const auto& limit = this->*k.limit; limit && !(min && max && (k.limit == &Rule::min || k.limit == &Rule::max)))
            add(k.words + limit->text);
    if (all.empty()) all = what == RuleWhat::order ? "in this order" : "never";
    return all;
}

Result<RulesFile> parse_rules(std::string_view text, const std::string& path) {
    auto parsed = parse_toml(text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    std::optional<Problem> problem;
    TomlTable top(*parsed, "the rules file", path, problem);
    if (const std::string format = top.text("format", true); !format.empty() && format != kRulesFormat)
        top.fail("key 'format' is \"" + format + "\"", 1, "this version reads \"" + std::string(kRulesFormat) + "\"");
    RulesFile file;
    file.path = path;
    std::set<std::string> names;
    const toml::array* list = top.tables("rule", true);
    if (list != nullptr && list->size() > kMostRules)
        top.fail("there are " + count_text(list->size()) + " rules", 1,
                 "a file may hold " + count_text(kMostRules) + ": split it");
    for (std::size_t i = 0; list != nullptr && i < list->size() && !problem; ++i) {
        TomlTable t(*(*list)[i].as_table(), "[[rule]]", path, problem);
        file.rules.push_back(RuleReader(t, path, problem).read());
        if (!problem && !names.insert(file.rules.back().name).second)
            t.fail("two rules are called '" + file.rules.back().name + "'", t.line(), "give each a name of its own");
    }
    top.refuse_unknown();
    if (problem) return tl::make_unexpected(*problem);
    return file;
}

Result<RulesFile> read_rules(const std::string& path) {
    const auto text = read_small_file(path, 64'000'000, "rules file");
    if (!text) return tl::make_unexpected(text.error());
    return parse_rules(*text, path);
}

std::string rule_text(const Rule& r) {
    std::ostringstream s;
    s << "[[rule]]\nname = " << quoted(r.name) << "\n";
    const auto text = [&s](const char* key, const std::string& value) {
        if (!value.empty()) s << key << " = " << quoted(value) << "\n";
    };
    const auto event = [&s](const char* key, const std::optional<EventSpec>& e) {
        if (e) s << key << " = " << event_text(*e) << "\n";
    };
    const auto limit = [&](const char* key, const std::optional<RuleLimit>& l) {
        if (!l) return;
        const bool plain = key != std::string_view("nominal") && unit_of(r.what) == RuleUnit::plain;
        s << key << " = " << (plain ? l->text : quoted(l->text)) << "\n";
    };
    text("of", r.of);
    text("with", r.with);
    text("core", r.core);
    event("from", r.from);
    event("to", r.to);
    event("first", r.first);
    event("then", r.then);
    text("per", r.per);
    text("what", std::string(rule_what_name(r.what)));
    if (r.within) s << "within = \"" << number_text(static_cast<double>(r.within->ps) / 1e9) << " ms\"\n";
    if (r.mask) s << "mask = " << *r.mask << "\n";
    if (r.magnitude) s << "abs = true\n";
    if (r.share != Rule::Share::instructions)
        s << "share = \"" << (r.share == Rule::Share::lines ? "lines" : "branches") << "\"\n";
    limit("nominal", r.nominal);
    for (const LimitKey& k : kLimitKeys) limit(k.key, r.*k.limit);
    if (r.optional) s << "optional = true\n";
    text("note", r.note);
    return s.str();
}

Result<std::string> text_with_rule(std::string_view text, const std::string& path, Rule& rule) {
    std::string all(text);
    Result<RulesFile> before = RulesFile{};
    if (all.find_first_not_of(" \t\r\n") == std::string::npos)
        all = rules_text({});
    else
        before = parse_rules(all, path);
    if (!before) return tl::make_unexpected(before.error());
    const std::string wanted = rule.name;
    const auto taken = [&] {
        return std::any_of(before->rules.begin(), before->rules.end(), [&](const Rule& r) { return r.name == rule.name; });
    };
    for (unsigned n = 2; taken(); ++n) rule.name = wanted + " " + std::to_string(n);
    if (all.back() != '\n') all += '\n';
    all += "\n" + rule_text(rule);
    if (const auto after = parse_rules(all, path); !after) return tl::make_unexpected(after.error());
    return all;
}

std::string rules_text(const std::vector<Rule>& rules) {
    std::string all = "format = \"" + std::string(kRulesFormat) + "\"\n";
    for (const Rule& r : rules) all += "\n" + rule_text(r);
    return all;
}

}  // namespace mt
