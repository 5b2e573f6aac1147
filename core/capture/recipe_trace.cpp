#include "capture/recipe_trace.h"

#include <map>
#include <set>
#include <sstream>

#include "base/near_names.h"
#include "base/text.h"
#include "target/target_edit.h"
#include "target/toml_text.h"

namespace mt {
namespace {

constexpr const char* kOn[] = {"write", "read", "access"};
constexpr const char* kTell[] = {"value", "pc", "value+pc", "address", "value+address"};
constexpr const char* kTo[] = {"", "swo", "port", "buffer", "memory"};

Access access_of(const std::string& text) {
    return text == "read" ? Access::read : text == "access" ? Access::any : Access::write;
}

/// "1024 cycles", or the number alone; false is 0.
std::optional<std::uint64_t> cycles(TomlTable& t, const toml::table& table, const char* key) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return std::nullopt;
    if (node->is_boolean()) {
        if (*node->value<bool>())
            t.fail(std::string("key '") + key + "' is true", t.line(), "say how often: \"1024 cycles\"");
        (void)t.flag(key);
        return 0;
    }
    if (node->is_integer()) return static_cast<std::uint64_t>(t.number(key, false, 0, kNoLimit).value_or(0));
    const std::string text = t.text(key, false);
    char* end = nullptr;
    const std::uint64_t n = std::strtoull(text.c_str(), &end, 10);
    const std::string unit = end;
    if (text.empty() || end == text.c_str() || (unit != " cycles" && !unit.empty() && unit != " cycle") ||
        text[0] == '-')
        t.fail(std::string("key '") + key + "' is \"" + text + "\"", t.line(), "write \"1024 cycles\", or false");
    return n;
}

/// "64 kB", or a number of bytes.
std::optional<std::uint64_t> size_of(TomlTable& t, const toml::table& table, const char* key) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return std::nullopt;
    if (node->is_integer()) return static_cast<std::uint64_t>(t.number(key, false, 1, kNoLimit).value_or(1));
    const std::string text = t.text(key, false);
    char* end = nullptr;
    const double n = std::strtod(text.c_str(), &end);
    std::string unit = end;
    while (!unit.empty() && unit.front() == ' ') unit.erase(0, 1);
    const double factor = unit.empty() || unit == "B" ? 1
                          : unit == "kB"              ? 1e3
                          : unit == "KiB"             ? 1024
                          : unit == "MB"              ? 1e6
                          : unit == "MiB"             ? 1048576
                                                      : 0;
    if (end == text.c_str() || factor == 0 || !(n > 0) || n * factor > 1e12) {
        t.fail(std::string("key '") + key + "' is \"" + text + "\"", t.line(), "write a number of bytes, or \"64 kB\"");
        return std::nullopt;
    }
    return static_cast<std::uint64_t>(n * factor);
}

std::optional<std::vector<unsigned>> numbers(TomlTable& t, const toml::table& table, const char* key, unsigned most) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return std::nullopt;
    std::vector<unsigned> all;
    const toml::array* list = node->as_array();
    bool good = list != nullptr;
    if (good)
        for (const auto& item : *list) {
            const auto n = item.value_exact<std::int64_t>();
            good = good && n && *n >= 0 && *n <= most;
            if (good) all.push_back(static_cast<unsigned>(*n));
        }
    t.know(key);
    if (!good)
        t.fail(std::string("key '") + key + "' in [trace] is no list of numbers from 0 to " + std::to_string(most),
               t.line(), std::string("write ") + key + " = [0, 8, 31]");
    return all;
}

TraceWish::Trigger read_trigger(TomlTable& t, const toml::table& table, bool is_stop) {
    TraceWish::Trigger out;
    out.at = t.text("at", false);
    out.access = t.text("access", false);
    out.on = access_of(t.text("on", false, {"write", "read", "access"}));
    if (const auto v = t.number("value", false, std::numeric_limits<std::int64_t>::min(), kNoLimit))
        out.value = static_cast<std::uint64_t>(*v);
    out.after = static_cast<std::uint64_t>(t.number("after", false, 1, 1'000'000).value_or(1));
    if (is_stop) out.after_bytes = size_of(t, table, "after_bytes");
    if (out.at.empty() == out.access.empty())
        t.fail("start and stop name either a place or a variable", t.line(),
               "write { at = \"guide_task\" } or { access = \"axis_error\" }");
    return out;
}

}  // namespace

TraceWish read_trace_wish(TomlTable& t, const std::string& path, std::optional<Problem>& problem,
                          std::vector<std::string>& warnings) {
    TraceWish w;
    const toml::table& table = t.raw();
    w.line = t.line();
    w.core = t.text("core", false);
    w.keep = t.flag("keep").value_or(true);
    w.exceptions = t.flag("exceptions");
    w.sleep = t.flag("sleep");
    w.pc_samples = cycles(t, table, "pc_samples");
    w.sync = cycles(t, table, "sync");
    if (table.get("counters") != nullptr) {
        w.counters = t.list_of_text("counters");
        for (const std::string& c : *w.counters)
            if (c != "cpi" && c != "exc" && c != "sleep" && c != "lsu" && c != "fold")
                t.fail("key 'counters' in [trace] names '" + c + "'", t.line(),
                       "counters are cpi, exc, sleep, lsu, fold");
    }
    w.ports = numbers(t, table, "ports", 31);
    w.privileged_ports = numbers(t, table, "privileged_ports", 31);
    const auto inner = [&](const char* key, auto read) {
        const auto* found = t.table(key);
        if (found == nullptr) return;
        TomlTable in(*found, std::string("'") + key + "' of [trace]", path, problem);
        read(in, *found);
        in.warn_unknown(warnings);
    };
    inner("timestamps", [&](TomlTable& in, const toml::table&) {
        w.local_timestamps = in.flag("local");
        w.global_timestamps = in.flag("global");
        if (const auto p = in.number("prescaler", false, 1, 64, {1, 4, 16, 64}))
            w.prescaler = static_cast<unsigned>(*p);
    });
    if (const auto* list = t.tables("variables", false))
        for (const auto& node : *list) {
            TomlTable v(*node.as_table(), "'variables' of [trace]", path, problem);
            TraceWish::Variable one;
            one.of = v.text("of", true);
            one.on = access_of(v.text("on", false, {"write", "read", "access"}));
            const std::string tell = v.text("tell", false, {"value", "pc", "value+pc", "address", "value+address"});
            for (std::size_t k = 0; k < std::size(kTell); ++k)
                if (tell == kTell[k]) one.tell = static_cast<Tell>(k);
            v.warn_unknown(warnings);
            w.variables.push_back(one);
        }
    if (const toml::node* node = table.get("instructions"); node != nullptr && node->is_boolean()) {
        if (t.flag("instructions").value_or(false))
            w.instructions.emplace();
        else
            w.no_instructions = true;
    } else {
        inner("instructions", [&](TomlTable& in, const toml::table& raw) {
            TraceWish::Instructions i;
            i.of = in.texts("of");
            i.return_stack = in.flag("return_stack");
            i.timestamps = in.flag("timestamps");
            i.context = in.flag("context");
            i.branch_broadcast = in.flag("branch_broadcast");
            if (const toml::node* counts = raw.get("cycle_counts"); counts != nullptr && counts->is_boolean())
                i.cycle_counts = in.flag("cycle_counts").value_or(false) ? 1 : 0;
            else if (const auto n = in.number("cycle_counts", false, 0, 4095))
                i.cycle_counts = static_cast<unsigned>(*n);
            i.events = in.texts("events");
            w.instructions = i;
        });
    }
    inner("start", [&](TomlTable& in, const toml::table& raw) { w.start = read_trigger(in, raw, false); });
    inner("stop", [&](TomlTable& in, const toml::table& raw) { w.stop = read_trigger(in, raw, true); });
    const std::string to = t.text("to", false, {"swo", "port", "buffer", "memory"});
    for (std::size_t k = 1; k < std::size(kTo); ++k)
        if (to == kTo[k]) w.to = static_cast<TraceWish::To>(k);
    inner("swo", [&](TomlTable& in, const toml::table&) {
        if (const auto baud = in.number("baud", false, 1000, 1'000'000'000)) w.baud = static_cast<std::uint64_t>(*baud);
        w.manchester = in.text("coding", false, {"nrz", "manchester"}) == "manchester";
    });
    inner("port", [&](TomlTable& in, const toml::table&) {
        if (const auto width = in.number("width", false, 1, 32)) w.width = static_cast<unsigned>(*width);
    });
    inner("buffer", [&](TomlTable& in, const toml::table& raw) {
        w.until_full = in.text("mode", false, {"circular", "until-full"}) == "until-full";
        w.memory_size = size_of(in, raw, "size").value_or(0);
    });
    inner("memory", [&](TomlTable& in, const toml::table& raw) {
        w.memory_symbol = in.text("symbol", false);
        if (const auto at = in.number("at", false, 0, kNoLimit)) w.memory_at = static_cast<std::uint64_t>(*at);
        w.memory_size = size_of(in, raw, "size").value_or(0);
    });
    w.formatter = t.flag("formatter");
    w.ignore_units = t.texts("ignore_units");
    return w;
}

Result<TraceWish> parse_trace_wish(std::string_view text) {
    auto parsed = parse_toml(text, "wish");
    if (!parsed) return tl::make_unexpected(parsed.error());
    const toml::node* node = parsed->get("trace");
    if (node == nullptr || !node->is_table()) return failure("there is no [trace]", "wish");
    std::optional<Problem> problem;
    std::vector<std::string> warnings;
    const std::string path = "wish";
    TomlTable table(*node->as_table(), "[trace]", path, problem);
    TraceWish w = read_trace_wish(table, path, problem, warnings);
    if (problem) return tl::make_unexpected(*problem);
    return w;
}

std::string trace_wish_text(const TraceWish& w, bool several) {
    std::ostringstream out;
    const auto flag = [](bool b) { return b ? "true" : "false"; };
    const auto quoted_list = [](const std::vector<std::string>& list) {
        std::string all = "[";
        for (const auto& s : list) all += (all.size() > 1 ? ", " : "") + toml_quoted(s);
        return all + "]";
    };
    const auto number_list = [](const std::vector<unsigned>& list) {
        std::string all = "[";
        for (const auto n : list) all += (all.size() > 1 ? ", " : "") + std::to_string(n);
        return all + "]";
    };
    out << (several ? "\n[[trace]]\n" : "\n[trace]\n");
    if (!w.core.empty()) out << "core = " << toml_quoted(w.core) << "\n";
    if (!w.keep) out << "keep = false\n";
    if (w.exceptions) out << "exceptions = " << flag(*w.exceptions) << "\n";
    const auto every = [&](const char* key, const std::optional<std::uint64_t>& n) {
        if (!n) return;
        if (*n == 0)
            out << key << " = false\n";
        else
            out << key << " = \"" << *n << " cycles\"\n";
    };
    every("pc_samples", w.pc_samples);
    if (w.sleep) out << "sleep = " << flag(*w.sleep) << "\n";
    if (w.counters) out << "counters = " << quoted_list(*w.counters) << "\n";
    if (w.local_timestamps || w.global_timestamps || w.prescaler) {
        std::string in;
        const auto add = [&](const std::string& text) { in += (in.empty() ? "" : ", ") + text; };
        if (w.local_timestamps) add(std::string("local = ") + flag(*w.local_timestamps));
        if (w.prescaler) add("prescaler = " + std::to_string(*w.prescaler));
        if (w.global_timestamps) add(std::string("global = ") + flag(*w.global_timestamps));
        out << "timestamps = { " << in << " }\n";
    }
    every("sync", w.sync);
    if (w.ports) out << "ports = " << number_list(*w.ports) << "\n";
    if (w.privileged_ports) out << "privileged_ports = " << number_list(*w.privileged_ports) << "\n";
    if (!w.variables.empty()) {
        out << "variables = [";
        for (std::size_t i = 0; i < w.variables.size(); ++i) {
            const auto& v = w.variables[i];
            out << (i == 0 ? "" : ",\n             ") << "{ of = " << toml_quoted(v.of) << ", on = \""
                << kOn[static_cast<std::size_t>(v.on)] << "\", tell = \"" << kTell[static_cast<std::size_t>(v.tell)]
                << "\" }";
        }
        out << "]\n";
    }
    if (w.no_instructions) out << "instructions = false\n";
    if (w.instructions) {
        const auto& i = *w.instructions;
        std::string in;
        const auto add = [&](const std::string& text) { in += (in.empty() ? "" : ", ") + text; };
        if (!i.of.empty()) add("of = " + quoted_list(i.of));
        if (i.return_stack) add(std::string("return_stack = ") + flag(*i.return_stack));
        if (i.cycle_counts) add("cycle_counts = " + (*i.cycle_counts == 0 ? "false" : std::to_string(*i.cycle_counts)));
        if (i.timestamps) add(std::string("timestamps = ") + flag(*i.timestamps));
        if (i.context) add(std::string("context = ") + flag(*i.context));
        if (i.branch_broadcast) add(std::string("branch_broadcast = ") + flag(*i.branch_broadcast));
        if (!i.events.empty()) add("events = " + quoted_list(i.events));
        out << "instructions = { " << in << (in.empty() ? "}\n" : " }\n");
    }
    const auto trigger = [&](const char* key, const std::optional<TraceWish::Trigger>& t) {
        if (!t) return;
        out << key << " = { ";
        if (!t->at.empty())
            out << "at = " << toml_quoted(t->at);
        else
            out << "access = " << toml_quoted(t->access) << ", on = \"" << kOn[static_cast<std::size_t>(t->on)] << "\"";
        if (t->value) out << ", value = " << static_cast<std::int64_t>(*t->value);
        if (t->after > 1) out << ", after = " << t->after;
        if (t->after_bytes) out << ", after_bytes = " << *t->after_bytes;
        out << " }\n";
    };
    trigger("start", w.start);
    trigger("stop", w.stop);
    if (w.to != TraceWish::To::unsaid) out << "to = \"" << kTo[static_cast<std::size_t>(w.to)] << "\"\n";
    if (w.baud || w.manchester) {
        out << "swo = { ";
        if (w.baud) out << "baud = " << *w.baud << (w.manchester ? ", " : " ");
        if (w.manchester) out << "coding = \"manchester\" ";
        out << "}\n";
    }
    if (w.width) out << "port = { width = " << *w.width << " }\n";
    const bool memory = !w.memory_symbol.empty() || w.memory_at != 0;
    if (w.until_full || (w.memory_size > 0 && !memory)) {
        out << "buffer = { mode = \"" << (w.until_full ? "until-full" : "circular") << "\"";
        if (w.memory_size > 0 && !memory) out << ", size = " << w.memory_size;
        out << " }\n";
    }
    if (memory) {
        out << "memory = { ";
        if (!w.memory_symbol.empty())
            out << "symbol = " << toml_quoted(w.memory_symbol);
        else
            out << "at = " << hex_text(w.memory_at);
        if (w.memory_size > 0) out << ", size = " << w.memory_size;
        out << " }\n";
    }
    if (w.formatter) out << "formatter = " << flag(*w.formatter) << "\n";
    if (!w.ignore_units.empty()) out << "ignore_units = " << quoted_list(w.ignore_units) << "\n";
    return out.str();
}

namespace {

std::string as_toml(const toml::node& node) {
    std::ostringstream out;
    node.visit([&](const auto& n) {
        if constexpr (toml::is_string<decltype(n)>)
            out << toml_quoted(*n);
        else if constexpr (toml::is_value<decltype(n)>)
            out << n;
    });
    return out.str();
}

/// Names of parameters that were met, and where each stands alone.
struct Used {
    std::set<std::string> names;
    std::map<std::string, std::vector<std::string>> places;
};

/// Replaces {name} in every text below.
template <class Node>
void fill_in(Node& holder, const toml::table& values, Used& used, const std::string& path, int depth) {
    if (depth > 16) return;
    const auto one = [&](toml::node& node, const std::string& here) -> std::optional<std::string> {
        if (auto* inner = node.as_table()) {
            fill_in(*inner, values, used, here, depth + 1);
            return std::nullopt;
        }
        if (auto* inner = node.as_array()) {
            fill_in(*inner, values, used, here + "[]", depth + 1);
            return std::nullopt;
        }
        auto* text = node.as_string();
        if (text == nullptr) return std::nullopt;
        std::string& s = text->get();
        for (const auto& [key, value] : values) {
            const std::string braces = "{" + std::string(key.str()) + "}";
            if (s.find(braces) == std::string::npos) continue;
            used.names.insert(std::string(key.str()));
            if (s == braces) used.places[std::string(key.str())].push_back(here);
            if (s == braces && !value.is_string()) return std::string(key.str());
            const std::string with = value.is_string() ? value.as_string()->get() : as_toml(value);
            for (std::size_t at = 0; (at = s.find(braces, at)) != std::string::npos; at += with.size()) {
                s.replace(at, braces.size(), with);
                if (s.size() > 10'000) break;
            }
        }
        return std::nullopt;
    };
    if constexpr (std::is_same_v<Node, toml::table>) {
        std::vector<std::pair<std::string, std::string>> whole;
        for (auto&& [key, node] : holder)
            if (const auto name =
                    one(node, path.empty() ? std::string(key.str()) : path + "." + std::string(key.str())))
                whole.emplace_back(std::string(key.str()), *name);
        for (const auto& [key, name] : whole)
            values.get(name)->visit([&, k = key](const auto& v) { holder.insert_or_assign(k, v); });
    } else {
        for (std::size_t i = 0; i < holder.size(); ++i)
            if (const auto name = one(*holder.get(i), path))
                values.get(*name)->visit(
                    [&](const auto& v) { holder.replace(holder.begin() + static_cast<std::ptrdiff_t>(i), v); });
    }
}

}  // namespace

Result<std::vector<RecipeParameter>> put_parameters(toml::table& root, const std::vector<std::string>& given,
                                                    const std::string& path) {
    std::vector<RecipeParameter> all;
    const toml::node* node = root.get("parameters");
    toml::table values;
    if (node != nullptr) {
        if (!node->is_table())
            return failure("'parameters' is no table", path, "write [parameters] and seconds = 5 below it");
        for (const auto& [key, value] : *node->as_table()) {
            if (!value.is_string() && !value.is_number() && !value.is_boolean())
                return failure("parameter '" + std::string(key.str()) + "' is neither a number nor a text", path);
            value.visit([&, k = std::string(key.str())](const auto& v) { values.insert_or_assign(k, v); });
            all.push_back({std::string(key.str()), as_toml(value), as_toml(value), {}});
        }
    }
    std::vector<std::string> names;
    for (const auto& p : all) names.push_back(p.name);
    for (const std::string& one : given) {
        const auto equals = one.find('=');
        const std::string name = one.substr(0, equals);
        if (equals == std::string::npos) return failure("'" + one + "' sets nothing", "", "write NAME=VALUE");
        auto known = values.get(name);
        if (known == nullptr)
            return failure("the recipe has no parameter '" + name + "'", path,
                           near_names_text(name, names, "it has no [parameters]"));
        const std::string text = one.substr(equals + 1);
        toml::table parsed;
        if (!known->is_string()) {
            try {
                parsed = toml::parse("v = " + text);
            } catch (const toml::parse_error&) {
            }
        } else {
            parsed.insert_or_assign("v", text);
        }
        const toml::node* value = parsed.get("v");
        const bool fits = value != nullptr && parsed.size() == 1 &&
                          (known->is_string()    ? value->is_string()
                           : known->is_boolean() ? value->is_boolean()
                                                 : value->is_number());
        if (!fits)
            return failure("parameter '" + name + "' cannot be '" + text + "'", path,
                           known->is_boolean() ? "it is true or false" : "it is a number");
        value->visit([&](const auto& v) { values.insert_or_assign(name, v); });
        for (auto& p : all)
            if (p.name == name) p.value = as_toml(*value);
    }
    if (values.empty()) return all;
    Used used;
    for (auto&& [key, inner] : root) {
        if (key.str() == "parameters") continue;
        if (auto* table = inner.as_table()) fill_in(*table, values, used, std::string(key.str()), 0);
        if (auto* array = inner.as_array()) fill_in(*array, values, used, std::string(key.str()) + "[]", 0);
    }
    toml::table top;  // texts that stand above all tables
    for (auto&& [key, inner] : root)
        if (inner.is_string()) top.insert_or_assign(key, *inner.as_string());
    fill_in(top, values, used, "", 0);
    for (auto&& [key, inner] : top)
        inner.visit([&, k = std::string(key.str())](const auto& v) { root.insert_or_assign(k, v); });
    for (auto& p : all) p.places = used.places[p.name];
    for (const auto& [key, value] : values) {
        const std::string name(key.str());
        if (used.names.count(name) != 0 || (name != "seconds" && name != "bytes")) continue;
        if (root.get("record") == nullptr) root.insert_or_assign("record", toml::table());
        auto* record = root.get("record")->as_table();
        if (record != nullptr && record->get(name) == nullptr)
            value.visit([&](const auto& v) { record->insert_or_assign(name, v); });
        for (auto& p : all)
            if (p.name == name) p.places.push_back("record." + name);
    }
    return all;
}

std::string with_parameters(const std::string& text, const std::vector<RecipeParameter>& parameters) {
    if (parameters.empty()) return text;
    std::istringstream in(text);
    std::string out, section;
    for (std::string line; std::getline(in, line);) {
        if (line.rfind("[", 0) == 0 && line.rfind("[[", 0) != 0) section = line.substr(1, line.find(']') - 1);
        if (line.rfind("[[", 0) == 0) section = line.substr(2, line.find(']') - 2) + "[]";
        if (line == "[before]" || (line == "[record]" && out.find("\n[parameters]\n") == std::string::npos)) {
            if (out.find("\n[parameters]\n") == std::string::npos) {
                std::string table = "[parameters]\n";
                for (const auto& p : parameters) {
                    const bool bare =
                        p.name.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") ==
                            std::string::npos &&
                        !p.name.empty();
                    table += (bare ? p.name : toml_quoted(p.name)) + " = " + p.stated + "\n";
                }
                out += table + "\n";
            }
        }
        for (const auto& p : parameters)
            for (const std::string& place : p.places) {
                if (place.rfind(section + ".", 0) != 0) continue;
                const std::string rest = place.substr(section.size() + 1);
                const auto dot = rest.find('.');
                const std::string key = rest.substr(0, dot),
                                  inner = dot == std::string::npos ? "" : rest.substr(dot + 1);
                if (line.rfind(key + " = ", 0) != 0) continue;
                std::size_t from = key.size() + 3;
                if (!inner.empty()) {
                    from = line.find(inner + " = ");
                    if (from == std::string::npos) continue;
                    from += inner.size() + 3;
                }
                std::size_t end = from;
                if (line[from] == '"') {
                    for (end = from + 1; end < line.size() && line[end] != '"'; ++end)
                        if (line[end] == '\\') ++end;
                    ++end;
                } else {
                    while (end < line.size() && line[end] != ',' && line[end] != ' ' && line[end] != '}') ++end;
                }
                if (end == 0 || end > line.size()) continue;
                line.replace(from, end - from, toml_quoted("{" + p.name + "}"));
            }
        out += line + "\n";
    }
    return out;
}

const std::vector<TracePreset>& trace_presets() {
    static const std::vector<TracePreset> all = [] {
        std::vector<TracePreset> made;
        TraceWish who;
        who.exceptions = true;
        who.local_timestamps = true;
        who.prescaler = 1;
        made.push_back({"who interrupts whom", "Each interrupt's entry, exit and return, with its time", who});
        TraceWish where;
        where.exceptions = true;
        where.pc_samples = 1024;
        where.sleep = true;
        where.local_timestamps = true;
        made.push_back(
            {"where does the time go", "A sample of the program counter each 1 024 cycles, and interrupts", where});
        TraceWish variable;
        variable.variables.push_back({"", Access::write, Tell::value_pc});
        variable.local_timestamps = true;
        made.push_back({"one variable", "Each value that is written to it, and by which instruction", variable});
        TraceWish fault;
        fault.keep = false;
        fault.instructions.emplace();
        fault.to = TraceWish::To::buffer;
        made.push_back({"every instruction until the fault",
                        "Instruction trace into the chip's own buffer, which keeps the newest", fault});
        return made;
    }();
    return all;
}

}  // namespace mt
