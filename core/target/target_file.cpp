#include "target/target_file.h"

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <filesystem>

#include "base/read_file.h"
#include "base/text.h"
#include "target/measured_keys.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace {

constexpr std::string_view kProtocolNames[] = {"itm", "etm4", "etrace", "ntrace", "mtb", "ctf", "samples", "polled", "console", "pft", "etm3"};

// rv32 or rv64, a base, and extensions by letter or name (RISC-V unprivileged ISA, chapter 27: naming conventions).
bool is_riscv_isa(std::string_view isa) {
    if (!isa.starts_with("rv32") && !isa.starts_with("rv64")) return false;
    const std::string_view rest = isa.substr(4);
    return !rest.empty() && (rest[0] == 'i' || rest[0] == 'e' || rest[0] == 'g') &&
           rest.find_first_not_of("abcdefghijklmnopqrstuvwxyz0123456789_") == std::string_view::npos;
}

CoreSpec read_core(TomlTable& t, const KeyPlace& place, bool needs_isa) {
    const std::filesystem::path& folder = place.folder;
    CoreSpec core;
    core.name = t.text("name", true);
    core.isa = t.text("isa", needs_isa);
    constexpr std::string_view arm[] = {"armv6-m",        "armv7-m", "armv7e-m", "armv8-m.base", "armv8-m.main",
                                        "armv8.1-m.main", "armv7-a", "armv7-r",  "armv8-a",      "armv8-a32"};
    if (!core.isa.empty() && !is_riscv_isa(core.isa) &&
        std::find(std::begin(arm), std::end(arm), core.isa) == std::end(arm)) {
        std::string all;
        for (const auto name : arm) all += std::string(name) + ", ";
        t.fail("key 'isa' in [[core]] is '" + core.isa + "'", t.line(),
               "it must be one of " + all + "or a RISC-V ISA such as rv32imac, rv64gc");
    }
    core.context = t.text("context", false, {"contextid"});
    core.clock_hz = static_cast<std::uint64_t>(t.number("clock_hz", false, 1, 100'000'000'000).value_or(0));
    const std::string image = t.text("image", false), svd = t.text("svd", false), orti = t.text("orti", false);
    if (!orti.empty()) core.orti = (folder / orti).lexically_normal().string();
    if (!image.empty()) core.image = (folder / image).lexically_normal().string();
    for (const std::string& more : t.list_of_text("images")) {
        const std::string path = (folder / more).lexically_normal().string();
        if (core.image.empty())
            core.image = path;
        else if (path != core.image)
            core.more_images.push_back(path);
    }
    if (!svd.empty()) core.svd = (folder / svd).lexically_normal().string();
    if (const auto bits = t.number("priority_bits", false, 1, 8)) core.priority_bits = static_cast<unsigned>(*bits);
    if (const auto rom = t.number("rom_table", false, 0, 0xFFFF'FFFF))
        core.rom_table = static_cast<std::uint64_t>(*rom);
    for (const std::string& unit : t.list_of_text("units")) {
        char* end = nullptr;
        const std::uint64_t base = std::strtoull(unit.c_str(), &end, 0);
        if (unit.empty() || *end != 0 || base % 4 != 0)
            t.fail("key 'units' in [[core]] names '" + unit + "', which is no address", t.line(),
                   "write base addresses as units = [\"0x20000000\", \"0x20001000\"]");
        else if (core.units.size() < 64)
            core.units.push_back(base);
    }
    core.untouched = t.flag("untouched").value_or(false);
    if (const std::string file = t.text("stood", false); !file.empty()) core.stood = (folder / file).lexically_normal().string();
    for (const auto& [name, state] : {std::pair{"began", &core.began}, {"stopped", &core.stopped}}) {
        const auto* table = t.table(name);
        if (table == nullptr) continue;
        TomlTable st(*table, std::string("[core.") + name + "]", place.path, place.problem);
        if (const std::string file = st.text("registers", false); !file.empty())
            state->registers = (folder / file).lexically_normal().string();
        TomlTable::each(st.tables("memory", false), "memory", place.path, place.problem, place.warnings,
                        state->memory, [&](TomlTable& m) {
                            CoreSpec::State::Memory range;
                            range.file = (folder / m.text("file", true)).lexically_normal().string();
                            range.address = static_cast<std::uint64_t>(m.number("address", true, 0, kNoLimit).value_or(0));
                            return range;
                        });
        state->told = st.flag("told").value_or(false);
        st.warn_unknown(place.warnings);
    }
    return core;
}

Etm4Parameters read_etm4(TomlTable& e, std::uint64_t& timestamp_hz) {
    Etm4Parameters p;
    const auto word = [&](const char* key) {
        return static_cast<std::uint64_t>(e.number(key, false, 0, kNoLimit).value_or(0));
    };
    // Register values first (IHI 0064, 7.3); keys that name a setting go before them.
    if (const auto v = e.number("trcidr0", false, 0, kNoLimit)) {
        p.commit_in_cycles = (*v >> 29 & 1) == 0;
        p.conditional = (*v >> 6 & 1) != 0 && !e.raw().contains("trcconfigr");
    }
    const std::uint64_t idr2 = word("trcidr2"), configr = word("trcconfigr");
    (void)e.number("trcidr1", false, 0, kNoLimit);
    p.max_speculation = static_cast<unsigned>(std::min<std::uint64_t>(word("trcidr8"), 1024));
    p.virtual_id_bytes = static_cast<unsigned>(std::min<std::uint64_t>(idr2 >> 10 & 31, 4));
    p.context_id_bytes = (configr >> 6 & 1) != 0 && (idr2 >> 5 & 31) != 0 ? 4 : 0;
    p.conditional = p.conditional || (configr >> 8 & 7) != 0;
    p.cycle_count = (configr >> 4 & 1) != 0;
    p.return_stack = (configr >> 12 & 1) != 0;
    if (const auto v = e.flag("cycle_count")) p.cycle_count = *v;
    if (const auto v = e.flag("return_stack")) p.return_stack = *v;
    (void)e.flag("timestamps");
    if (const auto v = e.number("commopt", false, 0, 1)) p.commit_in_cycles = *v == 0;
    p.cycle_threshold = static_cast<unsigned>(e.number("cycle_threshold", false, 0, 4095).value_or(0));
    if (const auto v = e.number("context_id_bytes", false, 0, 4)) p.context_id_bytes = static_cast<unsigned>(*v);
    timestamp_hz = word("timestamp_hz");
    return p;
}

unsigned read_context_id_bytes(TomlTable& e) {
    return static_cast<unsigned>(e.number("context_id_bytes", false, 0, 4, {0, 1, 2, 4}).value_or(0));
}

PftParameters read_pft(TomlTable& e, std::uint64_t& timestamp_hz) {
    PftParameters p;
    // Register values first (IHI 0035B, 3.4.3); keys that name a setting go before them.
    const auto control = static_cast<std::uint64_t>(e.number("etmcr", false, 0, 0xFFFF'FFFF).value_or(0));
    constexpr unsigned bytes[] = {0, 1, 2, 4};
    p.cycle_accurate = (control >> 12 & 1) != 0;
    p.return_stack = (control >> 29 & 1) != 0;
    p.branch_broadcast = (control >> 8 & 1) != 0;
    p.context_id_bytes = bytes[control >> 14 & 3];
    if (const auto v = e.flag("cycle_accurate")) p.cycle_accurate = *v;
    if (const auto v = e.flag("return_stack")) p.return_stack = *v;
    if (const auto v = e.flag("branch_broadcast")) p.branch_broadcast = *v;
    if (e.raw().contains("context_id_bytes")) p.context_id_bytes = read_context_id_bytes(e);
    const bool stamps = e.flag("timestamps").value_or(true);
    timestamp_hz = static_cast<std::uint64_t>(e.number("timestamp_hz", false, 0, kNoLimit).value_or(0));
    if (!stamps) timestamp_hz = 0;
    return p;
}

Etm3Parameters read_etm3(TomlTable& e, std::uint64_t& timestamp_hz) {
    Etm3Parameters p;
    // Register values first (IHI 0014Q, 3.5.1, 3.5.58).
    const auto control = static_cast<std::uint64_t>(e.number("etmcr", false, 0, 0xFFFF'FFFF).value_or(0));
    constexpr unsigned bytes[] = {0, 1, 2, 4};
    p.cycle_accurate = (control >> 12 & 1) != 0;
    p.data_value = (control >> 2 & 1) != 0;
    p.data_address = (control >> 3 & 1) != 0;
    p.context_id_bytes = bytes[control >> 14 & 3];
    if (const auto v = e.number("etmidr", false, 0, 0xFFFF'FFFF)) p.alternative_branch = (*v >> 20 & 1) != 0;
    if (const auto v = e.flag("cycle_accurate")) p.cycle_accurate = *v;
    if (const auto v = e.flag("alternative_branch")) p.alternative_branch = *v;
    if (const auto v = e.flag("data_address")) p.data_address = *v;
    if (const auto v = e.flag("data_value")) p.data_value = *v;
    if (e.raw().contains("context_id_bytes")) p.context_id_bytes = read_context_id_bytes(e);
    const bool stamps = e.flag("timestamps").value_or(true);
    timestamp_hz = static_cast<std::uint64_t>(e.number("timestamp_hz", false, 0, kNoLimit).value_or(0));
    if (!stamps) timestamp_hz = 0;
    return p;
}

std::optional<unsigned> read_source_id(TomlTable& e, const char* width_key, unsigned width) {
    const auto id = e.number("src_id", false, 0, 4095);
    if (!id) return std::nullopt;
    if (width == 0)
        e.fail("key 'src_id' without source IDs", e.line(), std::string("state their width with ") + width_key);
    else if (*id >> width != 0)
        e.fail("key 'src_id' is " + std::to_string(*id) + ", more than " + plural(width, "bit holds", "bits hold"),
               e.line(), std::string("correct it or ") + width_key);
    return static_cast<unsigned>(*id);
}

EtraceParameters read_etrace(TomlTable& e, std::uint64_t& timestamp_hz) {
    EtraceParameters p;
    const auto width = [&](const char* key, unsigned& out, std::int64_t least, std::int64_t most) {
        if (const auto v = e.number(key, false, least, most)) out = static_cast<unsigned>(*v);
    };
    width("iaddress_width", p.iaddress_width, 2, 64);
    width("iaddress_lsb", p.iaddress_lsb, 0, 2);
    width("privilege_width", p.privilege_width, 0, 4);
    width("ecause_width", p.ecause_width, 1, 16);
    width("context_width", p.context_width, 0, 32);
    width("time_width", p.time_width, 0, 64);
    width("return_stack_size", p.return_stack_size, 0, 12);
    width("call_counter_size", p.call_counter_size, 0, 12);
    width("encoder_mode_width", p.encoder_mode_width, 0, 8);
    width("cache_size", p.cache_size, 0, 12);
    width("bpred_size", p.bpred_size, 0, 16);
    width("f0s_width", p.f0s_width, 0, 4);
    width("src_id_bits", p.src_id_bits, 0, 12);
    p.src_id = read_source_id(e, "src_id_bits", p.src_id_bits);
    for (const auto& [key, vector] : {std::pair{"mtvec", &p.mtvec}, {"stvec", &p.stvec}})
        if (const auto v = e.number(key, false, std::numeric_limits<std::int64_t>::min(), kNoLimit))
            *vector = static_cast<std::uint64_t>(*v);
    p.implicit_return = e.flag("implicit_return").value_or(false);
    p.full_address = e.flag("full_address").value_or(false);
    constexpr std::string_view names[] = {"sequentially_inferred_jump", "implicit_return",   "implicit_exception",
                                          "branch_prediction",          "jump_target_cache", "full_address"};
    if (const auto list = e.list_of_text("ioptions"); !list.empty()) {
        p.ioptions.clear();
        for (const auto& name : list) {
            const auto found = std::find(std::begin(names), std::end(names), name);
            if (found == std::end(names))
                e.fail("key 'ioptions' names '" + name + "', which is no option", e.line(),
                       "options are sequentially_inferred_jump, implicit_return, implicit_exception, "
                       "branch_prediction, jump_target_cache, full_address");
            else
                p.ioptions.push_back(static_cast<EtraceParameters::Option>(found - std::begin(names)));
        }
    }
    if (p.iaddress_lsb >= p.iaddress_width)
        e.fail("key 'iaddress_lsb' is not below iaddress_width", e.line(), "RISC-V with compressed instructions has 1");
    e.text("encapsulation", false, {"length-byte"});
    timestamp_hz = static_cast<std::uint64_t>(e.number("timestamp_hz", false, 1, 1'000'000'000'000).value_or(0));
    return p;
}

NtraceParameters read_ntrace(TomlTable& e, std::uint64_t& timestamp_hz) {
    NtraceParameters p;
    (void)e.number("mdo_bits", false, 6, 6);
    (void)e.number("mseo_bits", false, 2, 2);
    p.src_bits = static_cast<unsigned>(e.number("src_bits", false, 0, 12).value_or(0));
    p.src_id = read_source_id(e, "src_bits", p.src_bits);
    p.timestamps = e.flag("timestamps").value_or(true);
    p.implicit_return = e.flag("implicit_return").value_or(false);
    timestamp_hz = static_cast<std::uint64_t>(e.number("timestamp_hz", false, 1, 1'000'000'000'000).value_or(0));
    return p;
}

StreamSpec read_stream(TomlTable& t, const std::string& path, const std::filesystem::path& folder,
                       std::optional<Problem>& problem, std::vector<std::string>& warnings) {
    StreamSpec stream;
    stream.line = t.line();
    for (const std::string& file : t.texts("file")) {
        const std::string place = (folder / file).lexically_normal().string();
        if (stream.file.empty())
            stream.file = place;
        else
            stream.more_files.push_back(place);
    }
    const std::string protocol = t.text("protocol", true, {"itm", "etm4", "pft", "etm3", "etrace", "ntrace", "mtb", "ctf", "samples", "polled", "console"});
    const auto* known = std::find(std::begin(kProtocolNames), std::end(kProtocolNames), protocol);
    if (known != std::end(kProtocolNames)) stream.protocol = static_cast<Protocol>(known - std::begin(kProtocolNames));
    stream.framing = t.text("framing", false, {"none", "tpiu"}) == "tpiu" ? Framing::tpiu : Framing::none;
    stream.trace_id =
        static_cast<std::uint8_t>(t.number("trace_id", stream.framing == Framing::tpiu, 1, 111).value_or(0));
    stream.core = t.text("core", is_of_a_core(stream.protocol));
    if (const auto* line = t.table("line")) {
        TomlTable l(*line, "[stream.line]", path, problem);
        if (const auto phase = l.number("phase", true, 0, 1023)) stream.line_phase = static_cast<unsigned>(*phase);
        stream.line_phases = static_cast<unsigned>(l.number("phases", false, 2, 1024).value_or(0));
        stream.line_window = static_cast<unsigned>(l.number("window", false, 0, 1024).value_or(0));
        l.warn_unknown(warnings);
    }
    if (const auto* itm = t.table("itm")) {
        TomlTable i(*itm, "[stream.itm]", path, problem);
        stream.timestamp_prescaler =
            static_cast<unsigned>(i.number("timestamp_prescaler", false, 1, 64, {1, 4, 16, 64}).value_or(1));
        stream.swo_baud = static_cast<std::uint64_t>(i.number("swo_baud", false, 1, 10'000'000'000).value_or(0));
        i.warn_unknown(warnings);
    }
    const auto settings = [&](const char* name, auto read) {
        if (const auto* table = t.table(name)) {
            TomlTable e(*table, "[stream." + std::string(name) + "]", path, problem);
            read(e);
            stream.zero_ticks = e.number("zero_ticks", false, 0, kNoLimit);
            e.warn_unknown(warnings);
        }
    };
    settings("etm4", [&](TomlTable& e) { stream.etm4 = read_etm4(e, stream.timestamp_hz); });
    settings("pft", [&](TomlTable& e) { stream.pft = read_pft(e, stream.timestamp_hz); });
    settings("etm3", [&](TomlTable& e) { stream.etm3 = read_etm3(e, stream.timestamp_hz); });
    settings("etrace", [&](TomlTable& e) { stream.etrace = read_etrace(e, stream.timestamp_hz); });
    settings("ctf", [&](TomlTable& e) {
        const std::string mapping = e.text("mapping", false);
        if (!mapping.empty()) stream.mapping = (folder / mapping).lexically_normal().string();
        const std::string metadata = e.text("metadata", false);
        if (!metadata.empty()) stream.metadata = (folder / metadata).lexically_normal().string();
        stream.recorder_hz =
            static_cast<std::uint64_t>(e.number("recorder_hz", false, 1, 1'000'000'000'000).value_or(0));
    });
    settings("ntrace", [&](TomlTable& e) { stream.ntrace = read_ntrace(e, stream.timestamp_hz); });
    if (const auto* samples = t.table("samples")) {
        TomlTable e(*samples, "[stream.samples]", path, problem);
        stream.samples = read_samples(e, {path, folder, problem, warnings});
        e.warn_unknown(warnings);
    } else if (stream.protocol == Protocol::samples) {
        t.fail("missing table [stream.samples]", t.line(), "add it with type, rate_hz and channels");
    }
    if (const auto* polled = t.table("polled")) {
        TomlTable e(*polled, "[stream.polled]", path, problem);
        stream.polled = read_polled(e, {path, folder, problem, warnings});
        e.warn_unknown(warnings);
    } else if (stream.protocol == Protocol::polled) {
        t.fail("missing table [stream.polled]", t.line(), "add it with the values");
    }
    return stream;
}

WatchSpec read_watch(TomlTable& t) {
    WatchSpec watch;
    watch.comparator = static_cast<unsigned>(t.number("comparator", true, 0, 15).value_or(0));
    watch.symbol = t.text("symbol", false);
    if (const std::string expression = t.text("expression", false); !expression.empty()) {
        if (!watch.symbol.empty())
            t.fail("[[watch]] has both a symbol and an expression", t.line(), "leave one of them out");
        watch.symbol = expression;
        watch.expression = true;
        for (const char* bits : {"mask", "shift"})
            if (t.raw().get(bits) != nullptr)
                t.fail(std::string("key '") + bits + "' beside an expression", t.line(),
                       "write it in the expression: axis.flags >> 2 & 1");
    }
    if (const auto address = t.number("address", watch.symbol.empty(), 0, kNoLimit))
        watch.address = static_cast<std::uint64_t>(*address);
    watch.type =
        t.text("type", watch.symbol.empty(), {"u8", "i8", "u16", "i16", "u32", "i32", "f32", "bool"});
    const std::string role = t.text("role", false, {"value", "current-task"});
    if (!role.empty()) watch.role = role;
    watch.names = read_names(t);
    if (const auto mask = t.number("mask", false, 0, kNoLimit)) watch.mask = static_cast<std::uint64_t>(*mask);
    watch.shift = static_cast<unsigned>(t.number("shift", false, 0, 63).value_or(0));
    return watch;
}

TaskSpec read_task(TomlTable& t, const std::string& path, std::optional<Problem>& problem,
                   std::vector<std::string>& warnings) {
    TaskSpec task;
    task.name = t.text("name", true);
    if (const auto number = t.number("number", false, 0, kNoLimit)) task.number = static_cast<std::uint64_t>(*number);
    task.core = t.text("core", false);
    const std::string ends = t.text("job_ends", false, {"next-job", "any-wait", "wait-for", "marks"});
    task.rule.ends = ends == "any-wait"   ? JobRule::Ends::any_wait
                     : ends == "wait-for" ? JobRule::Ends::wait_for
                     : ends == "marks"    ? JobRule::Ends::marks
                                          : JobRule::Ends::next_job;
    task.rule.object = t.text("object", task.rule.ends == JobRule::Ends::wait_for);
    const auto mark = [&](const char* key, std::uint32_t& port, std::int64_t& value) {
        const toml::table* table = t.table(key);
        if (table == nullptr) {
            if (task.rule.ends == JobRule::Ends::marks)
                t.fail(std::string("missing key '") + key + "' in [[task]]", t.line(),
                       std::string("say which mark it is: ") + key + " = { port = 5, value = 1 }");
            return;
        }
        TomlTable m(*table, std::string("'") + key + "' of [[task]]", path, problem);
        port = static_cast<std::uint32_t>(m.number("port", true, 0, 0xFFFF'FFFF).value_or(0));
        value = m.number("value", true, std::numeric_limits<std::int64_t>::min(), kNoLimit).value_or(0);
        m.warn_unknown(warnings);
    };
    mark("begin", task.rule.begin_port, task.rule.begin_value);
    mark("end", task.rule.end_port, task.rule.end_value);
    return task;
}

}  // namespace

std::string_view protocol_name(Protocol p) { return kProtocolNames[static_cast<std::size_t>(p)]; }

std::string_view protocol_title(Protocol p) {
    constexpr std::string_view titles[] = {"ITM", "ETMv4", "E-Trace", "N-Trace", "micro trace buffer", "CTF", "samples", "polled values", "console", "PFT", "ETMv3"};
    return titles[static_cast<std::size_t>(p)];
}

std::string job_rule_text(const JobRule& rule) {
    switch (rule.ends) {
        case JobRule::Ends::any_wait:
            return "a job ends at any wait but for a lock";
        case JobRule::Ends::wait_for:
            return "a job ends at its wait for " + rule.object;
        case JobRule::Ends::marks:
            return "a job goes from mark " + std::to_string(rule.begin_value) + " of port " +
                   std::to_string(rule.begin_port) + " to mark " + std::to_string(rule.end_value) + " of port " +
                   std::to_string(rule.end_port);
        case JobRule::Ends::next_job:
            break;
    }
    return "a job ends at its wait for the next job";
}

const CoreSpec* TargetFile::core(std::string_view core_name) const {
    for (const auto& c : cores)
        if (c.name == core_name) return &c;
    return nullptr;
}
const PortSpec* TargetFile::port(unsigned number) const {
    for (const auto& p : ports)
        if (p.number == number) return &p;
    return nullptr;
}
const WatchSpec* TargetFile::watch(unsigned comparator) const {
    for (const auto& w : watches)
        if (w.comparator == comparator) return &w;
    return nullptr;
}

std::string TargetFile::task_name(std::string_view core_name, std::uint64_t number) const {
    for (const auto& t : tasks)
        if (t.number == number && (t.core.empty() || t.core == core_name)) return t.name;
    return {};
}

Result<TargetFile> parse_target_file(std::string_view text, const std::string& path) {
    auto parsed = parse_toml(text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    const toml::table& root = *parsed;
    TargetFile target;
    target.path = path;
    target.text = text;
    const auto folder = std::filesystem::path(path).parent_path();
    std::optional<Problem> problem;
    TomlTable top(root, "the file", path, problem);
    top.text("format", true, {"mindful-trail-target/1"});
    target.name = top.text("name", false);
    const toml::array* streams = top.tables("stream", true);
    TomlTable::each(streams, "[[stream]]", path, problem, target.warnings, target.streams,
               [&](TomlTable& t) { return read_stream(t, path, folder, problem, target.warnings); });
    const auto has_instructions = [&](const toml::table& core) {
        const auto name = core["name"].value<std::string>();
        return name && std::any_of(target.streams.begin(), target.streams.end(),
                                   [&](const StreamSpec& s) { return s.core == *name && is_of_a_core(s.protocol); });
    };
    const bool no_core =
        !target.streams.empty() && std::none_of(target.streams.begin(), target.streams.end(),
                                                [](const StreamSpec& s) { return is_of_a_core(s.protocol); });
    if (const toml::array* cores = top.tables("core", !no_core)) {
        for (const auto& node : *cores) {
            TomlTable t(*node.as_table(), "[[core]]", path, problem);
            CoreSpec core =
                read_core(t, {path, folder, problem, target.warnings}, has_instructions(*node.as_table()));
            if (target.core(core.name) != nullptr)
                t.fail("two cores are named '" + core.name + "'", t.line(), "give each core its own name");
            t.warn_unknown(target.warnings);
            target.cores.push_back(std::move(core));
            if (problem) break;
        }
    }
    TomlTable::each(top.tables("process", false), "[[process]]", path, problem, target.warnings, target.processes, [&](TomlTable& t) {
        ProcessSpec process;
        process.context = static_cast<std::uint32_t>(t.number("context", true, 0, 0xFFFF'FFFF).value_or(0));
        process.name = t.text("name", true);
        if (const std::string image = t.text("image", false); !image.empty()) process.image = (folder / image).lexically_normal().string();
        process.core = t.text("core", false);
        for (const ProcessSpec& other : target.processes)
            if (other.context == process.context && (other.core.empty() || process.core.empty() || other.core == process.core))
                t.fail("key 'context' in [[process]] is " + std::to_string(process.context) + ", as that of '" + other.name + "'", t.line(),
                       "each process has a number of its own");
        if (!process.core.empty() && target.core(process.core) == nullptr)
            t.fail("key 'core' in [[process]] names '" + process.core + "', which is no core", t.line(), "name a core of this file");
        return process;
    });
    TomlTable::each(top.tables("watch", false), "[[watch]]", path, problem, target.warnings, target.watches,
               [](TomlTable& t) { return read_watch(t); });
    TomlTable::each(top.tables("port", false), "[[port]]", path, problem, target.warnings, target.ports, [&](TomlTable& t) {
        PortSpec port;
        port.number = static_cast<unsigned>(t.number("number", true, 0, 255).value_or(0));
        port.name = t.text("name", false);
        const std::string kind = t.text("kind", false, {"text", "mark", "value", "ctf"});
        if (!kind.empty()) port.kind = kind;
        const std::string metadata = t.text("metadata", false);
        if (!metadata.empty()) port.metadata = (folder / metadata).lexically_normal().string();
        port.recorder_hz = static_cast<std::uint64_t>(t.number("recorder_hz", false, 1, 1'000'000'000'000).value_or(0));
        port.role = t.text("role", false, {"current-task"});
        const std::string type = t.text("type", false, {"u8", "i8", "u16", "i16", "u32", "i32", "f32", "bool"});
        if (!type.empty()) port.type = type;
        port.names = read_names(t);
        return port;
    });
    TomlTable::each(top.tables("task", false), "[[task]]", path, problem, target.warnings, target.tasks,
               [&](TomlTable& t) { return read_task(t, path, problem, target.warnings); });
    TomlTable::each(top.tables("signals", false), "[[signals]]", path, problem, target.warnings, target.beside,
               [&](TomlTable& t) { return read_signals(t, {path, folder, problem, target.warnings}); });
    TomlTable::each(top.tables("stopwatch", false), "[[stopwatch]]", path, problem, target.warnings, target.stopwatches,
                    [&](TomlTable& t) { return read_stopwatch(t, {path, folder, problem, target.warnings}); });
    TomlTable::each(top.tables("derived", false), "[[derived]]", path, problem, target.warnings, target.derived,
                    [](TomlTable& t) {
                        return DerivedSpec{t.text("name", true), t.text("expression", true), t.text("unit", false),
                                           t.line()};
                    });
    top.warn_unknown(target.warnings);
    for (const auto& s : target.streams) {
        if (problem) break;
        const CoreSpec* core = target.core(s.core);
        if (core == nullptr && !s.core.empty())
            problem = Problem{"key 'core' in [[stream]] names '" + s.core + "', which is no [[core]]",
                              path + ":" + std::to_string(s.line), "add a [[core]] of that name or correct the name"};
        else if (core != nullptr && s.protocol == Protocol::itm && core->clock_hz == 0)
            problem =
                Problem{"missing key 'clock_hz' in [[core]] '" + core->name + "'", path + ":" + std::to_string(s.line),
                        "its ITM stream counts core cycles; state the core clock in Hz"};
    }
    if (problem) return tl::make_unexpected(*problem);
    if (target.name.empty()) target.name = std::filesystem::path(path).stem().stem().string();
    return target;
}

Result<TargetFile> read_target_file(const std::string& path) {
    std::error_code ec;
    if (std::filesystem::is_directory(path, ec))
        return failure("is a folder, not a target file", path, "give the .target.toml file in it");
    const auto text = read_small_file(path, 4'000'000, "target file");
    if (!text) return tl::make_unexpected(text.error());
    return parse_target_file(*text, path);
}

}  // namespace mt
