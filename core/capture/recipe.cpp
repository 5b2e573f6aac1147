#include "capture/recipe.h"

#include <ctime>
#include <filesystem>
#include <sstream>

#include "base/finding_kinds.h"
#include "base/near_names.h"
#include "base/read_file.h"
#include "target/target_edit.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace fs = std::filesystem;
namespace {

constexpr std::string_view kFormat = "mindful-trail-recipe/1";
constexpr std::int64_t kMostBytes = std::int64_t{1} << 40;

Recipe::Place read_place(TomlTable& t) {
    Recipe::Place place;
    place.core = t.text("core", false);
    place.where = t.text("place", true);
    place.times = static_cast<std::uint64_t>(t.number("times", false, 1, 1'000'000'000).value_or(1));
    return place;
}

Recipe::Connect read_connect(TomlTable& t, const fs::path& folder) {
    Recipe::Connect c;
    c.line = t.line();
    c.protocol = t.text("protocol", false, {"itm", "etm4", "pft", "etm3", "etrace", "ntrace", "mtb", "ctf", "samples", "console"});
    c.core = t.text("core", c.protocol != "samples");
    if (c.protocol == "samples") c.device = t.text("device", false);
    c.debug = t.text("debug", false);
    c.thread = static_cast<unsigned>(t.number("thread", false, 1, 4096).value_or(0));
    if (c.thread != 0 && c.debug.empty()) t.fail("thread names one of a debug server", c.line, "add debug = \"HOST:PORT\"");
    const std::string kind = t.text("trace", false, {"tcp", "serial", "file", "ring", "dump", "buffer", "debug"});
    if (kind.empty()) {
        if (c.debug.empty())
            t.fail("[[connect]] names neither a debug server nor a trace source", c.line,
                   "add debug = \"HOST:PORT\" or trace = …");
        return c;
    }
    SourceSpec s;
    if (kind == "tcp" || kind == "serial" || kind == "file") {
        s.kind = kind == "tcp"      ? SourceSpec::Kind::tcp
                 : kind == "serial" ? SourceSpec::Kind::serial
                                    : SourceSpec::Kind::file;
        s.address = t.text("address", true);
        if (s.kind == SourceSpec::Kind::file && !s.address.empty())
            s.address = (folder / s.address).lexically_normal().string();
        if (s.kind == SourceSpec::Kind::serial)
            s.baud = static_cast<std::uint64_t>(t.number("baud", true, 50, 100'000'000).value_or(115'200));
    } else if (kind == "debug") {
        s.kind = SourceSpec::Kind::console;
    } else if (kind == "buffer") {
        s.kind = SourceSpec::Kind::buffer;
        s.every_ms = static_cast<unsigned>(t.number("every_ms", false, 1, 600'000).value_or(0));
    } else {
        s.kind = kind == "ring" ? SourceSpec::Kind::ring : SourceSpec::Kind::dump;
        s.symbol = t.text("symbol", false);
        const auto at = t.number("at", false, 0, kNoLimit);
        s.at = static_cast<std::uint64_t>(at.value_or(0));
        if (s.symbol.empty() == !at.has_value())
            t.fail("[[connect]] needs either 'symbol' or 'at'", c.line, "say where the buffer stands");
        if (s.kind == SourceSpec::Kind::dump) {
            s.size = static_cast<std::uint64_t>(t.number("size", at.has_value(), 1, kMostBytes).value_or(0));
        } else {
            s.every_ms = static_cast<unsigned>(t.number("every_ms", false, 1, 60'000).value_or(20));
        }
        if (c.debug.empty())
            t.fail("trace = \"" + kind + "\" needs a debug server", c.line, "add debug = \"HOST:PORT\"");
    }
    if (c.protocol == "console" && s.kind > SourceSpec::Kind::file && s.kind != SourceSpec::Kind::console)
        t.fail("a console cannot come by trace = \"" + kind + "\"", c.line,
               "debug is what the debug server prints, tcp, serial and file carry plain text");
    if (s.kind == SourceSpec::Kind::console && c.protocol != "console")
        t.fail("trace = \"debug\" is for a console", c.line, "add protocol = \"console\"");
    c.trace = s;
    return c;
}

void read_before(TomlTable& t, Recipe& r, const std::string& path, std::optional<Problem>& problem) {
    r.check_image = t.flag("check_image").value_or(false);
    r.reset = t.flag("reset").value_or(false);
    r.reset_command = t.text("reset_command", false);
    if (const auto* to = t.table("run_to")) {
        TomlTable place(*to, "[before.run_to]", path, problem);
        r.run_to = read_place(place);
        place.warn_unknown(r.warnings);
    }
    r.run_to_limit_s = t.seconds("run_to_limit", 0.01, 86'400).value_or(30);
}

void read_record(TomlTable& t, Recipe& r, const std::string& path, std::optional<Problem>& problem) {
    r.seconds = t.seconds("seconds", 0.001, 1e6);
    if (const auto bytes = t.number("bytes", false, 1, kMostBytes)) r.bytes = static_cast<std::uint64_t>(*bytes);
    if (const auto* until = t.table("until")) {
        TomlTable place(*until, "[record.until]", path, problem);
        r.until = read_place(place);
        place.warn_unknown(r.warnings);
    }
    if (const auto* watch = t.table("watch")) {
        TomlTable w(*watch, "[record.watch]", path, problem);
        Recipe::Watch spec;
        spec.core = w.text("core", false);
        spec.symbol = w.text("symbol", true);
        const std::string on = w.text("on", false, {"write", "read", "access"});
        spec.on_read = on == "read" || on == "access";
        spec.on_write = on != "read";
        w.warn_unknown(r.warnings);
        r.watch = spec;
    }
    if (const auto* mark = t.table("mark")) {
        TomlTable m(*mark, "[record.mark]", path, problem);
        Recipe::Mark spec;
        spec.port = static_cast<unsigned>(m.number("port", true, 0, 255).value_or(0));
        spec.value = static_cast<std::uint32_t>(m.number("value", true, 0, 0xFFFFFFFF).value_or(0));
        m.warn_unknown(r.warnings);
        r.mark = spec;
    }
    r.keep = t.text("keep", false, {"oldest", "newest"}) == "newest" ? Recipe::Keep::newest : Recipe::Keep::oldest;
    r.limit_bytes = static_cast<std::uint64_t>(
        t.number("limit", r.keep == Recipe::Keep::newest, 64 * 1024, kMostBytes).value_or(0));
    if (t.raw().contains("memory")) r.memory = t.list_of_text("memory");
}

void read_after(TomlTable& t, Recipe& r, const fs::path& folder) {
    const auto file = [&](std::string_view key) {
        const std::string name = t.text(key, false);
        return name.empty() ? name : (folder / name).lexically_normal().string();
    };
    r.leave =
        t.text("leave", false, {"running", "halted"}) == "halted" ? Recipe::Leave::halted : Recipe::Leave::running;
    r.keep_trace = t.flag("keep_trace").value_or(false);
    r.events_csv = file("events");
    r.measures_csv = file("measures");
    r.findings_json = file("findings");
    r.rules = file("rules");
    r.bad_if = t.list_of_text("bad_if");
    for (const std::string& kind : r.bad_if)
        if (!is_finding_kind(kind))
            t.fail("key 'bad_if' in [after] names '" + kind + "', which is no kind of finding", t.line(),
                   near_names_text(kind, {kFindingKindNames.begin(), kFindingKindNames.end()}, ""));
    r.replace_files = t.flag("replace").value_or(false);
}

}  // namespace

Result<Recipe> read_recipe(const std::string& path, const std::vector<std::string>& given, RecipeUse use) {
    const auto text = read_small_file(path, 4'000'000, "recipe");
    if (!text) return tl::make_unexpected(text.error());
    return parse_recipe(*text, path, given, use);
}

Result<Recipe> parse_recipe(std::string_view text, const std::string& path, const std::vector<std::string>& given,
                            RecipeUse use) {
    auto parsed = parse_toml(text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    auto parameters = put_parameters(*parsed, given, path);
    if (!parameters) return tl::make_unexpected(parameters.error());
    const toml::table& root = *parsed;
    const fs::path folder = fs::path(path).parent_path();
    std::optional<Problem> problem;
    TomlTable top(root, "the recipe", path, problem);
    Recipe r;
    r.path = path;
    r.parameters = std::move(*parameters);
    top.know("parameters");
    if (const std::string format = top.text("format", true); !format.empty() && format != kFormat)
        top.fail("key 'format' is \"" + format + "\"", 1, "this version reads \"" + std::string(kFormat) + "\"");
    r.name = top.text("name", true);
    if (const std::string target = top.text("target", true); !target.empty())
        r.target = (folder / target).lexically_normal().string();
    if (const std::string save = top.text("save", false); !save.empty()) r.save = save;
    r.patience_ms = static_cast<unsigned>(top.number("patience_ms", false, 10, 600'000).value_or(3000));
    if (const auto* list = top.tables("connect", true))
        for (const auto& node : *list) {
            TomlTable t(*node.as_table(), "[[connect]]", path, problem);
            r.connects.push_back(read_connect(t, folder));
            t.warn_unknown(r.warnings);
            const Recipe::Connect& last = r.connects.back();
            for (std::size_t i = 0; i + 1 < r.connects.size(); ++i) {
                if (r.connects[i].core != last.core) continue;
                if (r.connects[i].protocol == last.protocol && last.protocol == "samples") {
                    if (r.connects[i].device == last.device)
                        t.fail("one device is connected twice", last.line,
                               "give one [[connect]] for each, told apart by 'device'");
                } else if (r.connects[i].protocol == last.protocol)
                    t.fail("core '" + last.core + "' is connected twice", last.line,
                           "give one [[connect]] for each stream of a core, told apart by 'protocol'");
                else if (!r.connects[i].debug.empty() && !last.debug.empty())
                    t.fail("core '" + last.core + "' has two debug servers", last.line, "leave 'debug' out in one");
            }
        }
    const auto part = [&](const char* key, auto read) {
        const auto* table = top.table(key);
        if (table == nullptr) return;
        TomlTable t(*table, "[" + std::string(key) + "]", path, problem);
        read(t);
        t.warn_unknown(r.warnings);
    };
    part("before", [&](TomlTable& t) { read_before(t, r, path, problem); });
    const auto wish = [&](const toml::table& table, const char* name) {
        TomlTable t(table, name, path, problem);
        r.traces.push_back(read_trace_wish(t, path, problem, r.warnings));
        t.warn_unknown(r.warnings);
        for (std::size_t i = 0; i + 1 < r.traces.size(); ++i)
            if (r.traces[i].core == r.traces.back().core)
                t.fail("two [[trace]] are for the same core", t.line(), "give each its 'core'");
    };
    if (const toml::node* node = root.get("trace"); node != nullptr && node->is_array()) {
        if (const auto* list = top.tables("trace", false))
            for (const auto& one : *list) wish(*one.as_table(), "[[trace]]");
    } else if (const auto* table = top.table("trace")) {
        wish(*table, "[trace]");
    }
    TomlTable::each(top.tables("sample", false), "[[sample]]", path, problem, r.warnings, r.samples, [](TomlTable& t) {
        Recipe::Sample s;
        s.line = t.line();
        s.expression = t.text("expression", true);
        s.core = t.text("core", false);
        s.rate_hz = t.real("rate_hz", false, 0.001, 100'000).value_or(10);
        return s;
    });
    part("record", [&](TomlTable& t) { read_record(t, r, path, problem); });
    part("after", [&](TomlTable& t) { read_after(t, r, folder); });
    top.warn_unknown(r.warnings);
    const auto has_debug = [&](const std::string& core) {
        for (const auto& c : r.connects)
            if (!c.debug.empty() && (core.empty() || c.core == core)) return true;
        return false;
    };
    const auto needs = [&](bool wanted, const std::string& core, const std::string& what) {
        if (wanted && !has_debug(core))
            top.fail(what + " needs a debug server" + (core.empty() ? "" : " for core '" + core + "'"), 1,
                     "add debug = \"HOST:PORT\" to a [[connect]]");
    };
    needs(r.check_image, "", "check_image");
    needs(r.reset, "", "reset");
    needs(r.run_to.has_value(), r.run_to ? r.run_to->core : "", "run_to");
    needs(r.until.has_value(), r.until ? r.until->core : "", "until");
    needs(r.watch.has_value(), r.watch ? r.watch->core : "", "watch");
    for (const auto& c : r.connects)
        if (c.trace && c.trace->kind == SourceSpec::Kind::buffer) needs(true, c.core, "trace = \"buffer\"");
    for (const auto& c : r.connects)
        if (c.trace && c.trace->kind == SourceSpec::Kind::console) needs(true, c.core, "trace = \"debug\"");
    for (const Recipe::Sample& s : r.samples) needs(true, s.core, "[[sample]]");
    for (const TraceWish& w : r.traces) needs(true, w.core, "[trace]");
    bool any_trace = !r.samples.empty();
    for (const auto& c : r.connects) any_trace = any_trace || c.trace.has_value();
    if (!problem && !any_trace && use == RecipeUse::record)
        top.fail("no [[connect]] names a trace source", 1, "add trace = \"tcp\" and its address");
    if (problem) return tl::make_unexpected(*problem);
    return r;
}

const TraceWish* wish_for(const Recipe& recipe, const std::string& core) {
    for (const TraceWish& w : recipe.traces) {
        if (w.core == core) return &w;
        if (!w.core.empty()) continue;
        for (const auto& c : recipe.connects)
            if (!c.debug.empty()) {
                if (c.core == core) return &w;
                break;
            }
    }
    return nullptr;
}

std::optional<std::size_t> stream_of(const TargetFile& target, const Recipe::Connect& connect) {
    for (std::size_t i = 0; i < target.streams.size(); ++i)
        if (connect.protocol == "samples" && target.streams[i].protocol == Protocol::samples &&
            (connect.device.empty() || connect.device == target.streams[i].samples.name))
            return i;
    if (connect.protocol == "samples") return std::nullopt;
    for (std::size_t i = 0; i < target.streams.size(); ++i)
        if (target.streams[i].core == connect.core &&
            (connect.protocol.empty() || connect.protocol == protocol_name(target.streams[i].protocol)))
            return i;
    for (std::size_t i = 0; i < target.streams.size(); ++i)  // an event trace need not name a core
        if (target.streams[i].core.empty() && connect.protocol == protocol_name(target.streams[i].protocol)) return i;
    return std::nullopt;
}

std::string recipe_text(const Recipe& r, const std::string& path) {
    const fs::path folder = fs::absolute(path).parent_path();
    const auto relative = [&](const std::string& file) {
        const fs::path whole = fs::absolute(file).lexically_normal();
        const fs::path shorter = whole.lexically_relative(folder);
        return toml_quoted(shorter.empty() || *shorter.begin() == ".." ? whole.string() : shorter.string());
    };
    std::ostringstream out;
    out << "# How to make a recording; described in docs/formats/recipe.md.\n";
    out << "format = " << toml_quoted(std::string(kFormat)) << "\nname   = " << toml_quoted(r.name)
        << "\ntarget = " << relative(r.target) << "\nsave   = " << toml_quoted(r.save) << "\n";
    if (r.patience_ms != 3000) out << "patience_ms = " << r.patience_ms << "\n";
    for (const auto& c : r.connects) {
        out << "\n[[connect]]\n";
        if (!c.core.empty()) out << "core  = " << toml_quoted(c.core) << "\n";
        if (!c.protocol.empty()) out << "protocol = " << toml_quoted(c.protocol) << "\n";
        if (!c.device.empty()) out << "device = " << toml_quoted(c.device) << "\n";
        if (!c.debug.empty()) out << "debug = " << toml_quoted(c.debug) << "\n";
        if (c.thread != 0) out << "thread = " << c.thread << "\n";
        if (!c.trace) continue;
        const SourceSpec& s = *c.trace;
        constexpr const char* kinds[] = {"tcp", "serial", "file", "ring", "dump", "buffer", "debug", "poll"};
        out << "trace = \"" << kinds[static_cast<std::size_t>(s.kind)] << "\"\n";
        if (s.kind == SourceSpec::Kind::file)
            out << "address = " << relative(s.address) << "\n";
        else if (!s.address.empty())
            out << "address = " << toml_quoted(s.address) << "\n";
        if (s.kind == SourceSpec::Kind::serial) out << "baud = " << s.baud << "\n";
        if (s.kind == SourceSpec::Kind::buffer && s.every_ms > 0) out << "every_ms = " << s.every_ms << "\n";
        if (s.kind == SourceSpec::Kind::ring || s.kind == SourceSpec::Kind::dump) {
            if (!s.symbol.empty())
                out << "symbol = " << toml_quoted(s.symbol) << "\n";
            else
                out << "at = 0x" << std::hex << s.at << std::dec << "\n";
            if (s.size > 0) out << "size = " << s.size << "\n";
            if (s.kind == SourceSpec::Kind::ring && s.every_ms != 20) out << "every_ms = " << s.every_ms << "\n";
        }
    }
    const auto place = [&](const char* key, const Recipe::Place& p) {
        out << key << " = { place = " << toml_quoted(p.where);
        if (!p.core.empty()) out << ", core = " << toml_quoted(p.core);
        if (p.times != 1) out << ", times = " << p.times;
        out << " }\n";
    };
    if (r.check_image || r.reset || r.run_to) {
        out << "\n[before]\n";
        if (r.check_image) out << "check_image = true\n";
        if (r.reset) out << "reset = true\n";
        if (!r.reset_command.empty()) out << "reset_command = " << toml_quoted(r.reset_command) << "\n";
        if (r.run_to) place("run_to", *r.run_to);
        if (r.run_to_limit_s != 30) out << "run_to_limit = " << r.run_to_limit_s << "\n";
    }
    for (const TraceWish& w : r.traces) out << trace_wish_text(w, r.traces.size() > 1);
    for (const Recipe::Sample& s : r.samples) {
        out << "\n[[sample]]\nexpression = " << toml_quoted(s.expression) << "\nrate_hz = " << s.rate_hz << "\n";
        if (!s.core.empty()) out << "core = " << toml_quoted(s.core) << "\n";
    }
    out << "\n[record]\n";
    if (r.seconds) out << "seconds = " << *r.seconds << "\n";
    if (r.bytes) out << "bytes = " << *r.bytes << "\n";
    if (r.until) place("until", *r.until);
    if (r.watch) {
        out << "watch = { symbol = " << toml_quoted(r.watch->symbol);
        if (!r.watch->core.empty()) out << ", core = " << toml_quoted(r.watch->core);
        out << ", on = \"" << (r.watch->on_read ? r.watch->on_write ? "access" : "read" : "write") << "\" }\n";
    }
    if (r.mark) out << "mark = { port = " << r.mark->port << ", value = " << r.mark->value << " }\n";
    out << "keep = \"" << (r.keep == Recipe::Keep::newest ? "newest" : "oldest") << "\"\n";
    if (r.limit_bytes > 0) out << "limit = " << r.limit_bytes << "\n";
    if (r.memory) {
        std::string list;
        for (const std::string& range : *r.memory) list += (list.empty() ? "" : ", ") + toml_quoted(range);
        out << "memory = [" << list << "]\n";
    }
    out << "\n[after]\nleave = \"" << (r.leave == Recipe::Leave::halted ? "halted" : "running") << "\"\n";
    if (r.keep_trace) out << "keep_trace = true\n";
    if (!r.events_csv.empty()) out << "events = " << relative(r.events_csv) << "\n";
    if (!r.measures_csv.empty()) out << "measures = " << relative(r.measures_csv) << "\n";
    if (r.replace_files) out << "replace = true\n";
    if (!r.findings_json.empty()) out << "findings = " << relative(r.findings_json) << "\n";
    if (!r.bad_if.empty()) {
        out << "bad_if = [";
        for (std::size_t i = 0; i < r.bad_if.size(); ++i) out << (i == 0 ? "" : ", ") << toml_quoted(r.bad_if[i]);
        out << "]\n";
    }
    return with_parameters(out.str(), r.parameters);
}

std::string save_path(const Recipe& r) {
    const std::time_t now = std::time(nullptr);
    std::tm local{};
    ::localtime_r(&now, &local);
    char date[16], clock[16];
    std::strftime(date, sizeof date, "%Y-%m-%d", &local);
    std::strftime(clock, sizeof clock, "%H%M%S", &local);
    std::string plain;
    for (const char c : r.name) plain += std::isalnum(static_cast<unsigned char>(c)) != 0 ? c : '-';
    const auto filled = [&](std::uint64_t n) {
        std::string out = r.save;
        for (const auto& [key, value] : {std::pair<std::string, std::string>{"{name}", plain},
                                         {"{date}", date},
                                         {"{time}", clock},
                                         {"{n}", std::to_string(n)}})
            for (std::size_t at = 0; (at = out.find(key, at)) != std::string::npos; at += value.size())
                out.replace(at, key.size(), value);
        return (fs::absolute(r.path).parent_path() / out).lexically_normal().string();
    };
    std::error_code ec;
    std::uint64_t n = 1;
    if (r.save.find("{n}") != std::string::npos)
        while (n < 100'000 && fs::exists(filled(n), ec)) ++n;
    return filled(n);
}

}  // namespace mt
