#include "target/target_file.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace {

CoreSpec read_core(TomlTable& t, const std::filesystem::path& folder, bool needs_isa) {
    CoreSpec core;
    core.name = t.text("name", true);
    core.isa = t.text("isa", needs_isa);
    core.clock_hz = static_cast<std::uint64_t>(t.number("clock_hz", false, 1, 100'000'000'000).value_or(0));
    const std::string image = t.text("image", false), svd = t.text("svd", false);
    if (!image.empty()) core.image = (folder / image).lexically_normal().string();
    if (!svd.empty()) core.svd = (folder / svd).lexically_normal().string();
    if (const auto bits = t.number("priority_bits", false, 1, 8)) core.priority_bits = static_cast<unsigned>(*bits);
    return core;
}

// The tables of protocols whose settings are checked here and used by their own decoders.
void check_other_protocols(TomlTable& t, const std::string& path, std::optional<Problem>& problem,
                           std::vector<std::string>& warnings) {
    if (const auto* etm = t.table("etm4")) {
        TomlTable e(*etm, "[stream.etm4]", path, problem);
        for (const auto key : {"cycle_count", "return_stack", "timestamps"}) e.flag(key);
        for (const auto key : {"cycle_threshold", "commopt", "timestamp_hz", "context_id_bytes", "trcidr0", "trcidr1",
                               "trcidr2", "trcidr8", "trcconfigr"})
            e.number(key, false, 0, kNoLimit);
        e.warn_unknown(warnings);
    }
    if (const auto* etrace = t.table("etrace")) {
        TomlTable e(*etrace, "[stream.etrace]", path, problem);
        for (const auto key :
             {"iaddress_width", "iaddress_lsb", "privilege_width", "ecause_width", "context_width", "time_width",
              "return_stack_size", "call_counter_size", "encoder_mode_width", "src_id_bits"})
            e.number(key, false, 0, 64);
        for (const auto key : {"implicit_return", "full_address"}) e.flag(key);
        e.list_of_text("ioptions");
        e.text("encapsulation", false, {"length-byte"});
        e.warn_unknown(warnings);
    }
    if (const auto* ntrace = t.table("ntrace")) {
        TomlTable e(*ntrace, "[stream.ntrace]", path, problem);
        for (const auto key : {"mdo_bits", "mseo_bits", "src_bits"}) e.number(key, false, 0, 64);
        e.flag("timestamps");
        e.number("timestamp_hz", false, 1, kNoLimit);
        e.warn_unknown(warnings);
    }
}

StreamSpec read_stream(TomlTable& t, const std::string& path, const std::filesystem::path& folder,
                       std::optional<Problem>& problem, std::vector<std::string>& warnings) {
    StreamSpec stream;
    stream.line = t.line();
    const std::string file = t.text("file", false);
    if (!file.empty()) stream.file = (folder / file).lexically_normal().string();
    const std::string protocol = t.text("protocol", true, {"itm", "etm4", "etrace", "ntrace", "mtb", "ctf"});
    constexpr std::string_view protocols[] = {"itm", "etm4", "etrace", "ntrace", "mtb", "ctf"};
    stream.protocol = static_cast<Protocol>(std::min<std::ptrdiff_t>(
        std::find(std::begin(protocols), std::end(protocols), protocol) - std::begin(protocols), 5));
    stream.framing = t.text("framing", false, {"none", "tpiu"}) == "tpiu" ? Framing::tpiu : Framing::none;
    stream.trace_id =
        static_cast<std::uint8_t>(t.number("trace_id", stream.framing == Framing::tpiu, 1, 111).value_or(0));
    stream.core = t.text("core", stream.protocol != Protocol::ctf);
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
    check_other_protocols(t, path, problem, warnings);
    return stream;
}

WatchSpec read_watch(TomlTable& t) {
    WatchSpec watch;
    watch.comparator = static_cast<unsigned>(t.number("comparator", true, 0, 15).value_or(0));
    watch.symbol = t.text("symbol", false);
    if (const auto address = t.number("address", watch.symbol.empty(), 0, kNoLimit))
        watch.address = static_cast<std::uint64_t>(*address);
    watch.type = t.text("type", true, {"u8", "i8", "u16", "i16", "u32", "i32", "f32"});
    const std::string role = t.text("role", false, {"value", "current-task"});
    if (!role.empty()) watch.role = role;
    if (const auto mask = t.number("mask", false, 0, kNoLimit)) watch.mask = static_cast<std::uint64_t>(*mask);
    watch.shift = static_cast<unsigned>(t.number("shift", false, 0, 63).value_or(0));
    return watch;
}

template <class T, class F>
void each_table(const toml::array* list, const std::string& name, const std::string& path,
                std::optional<Problem>& problem, std::vector<std::string>& warnings, std::vector<T>& out, F read) {
    if (list == nullptr) return;
    for (const auto& node : *list) {
        TomlTable t(*node.as_table(), name, path, problem);
        out.push_back(read(t));
        t.warn_unknown(warnings);
        if (problem) return;
    }
}

}  // namespace

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

Result<TargetFile> parse_target_file(std::string_view text, const std::string& path) {
    if (auto bad = check_toml_text(text, path)) return tl::make_unexpected(*bad);
    toml::table root;
    try {
        root = toml::parse(text, path);
    } catch (const toml::parse_error& e) {
        return failure(std::string("not valid TOML: ") + std::string(e.description()),
                       path + ":" + std::to_string(e.source().begin.line), "correct this line");
    }
    TargetFile target;
    target.path = path;
    const auto folder = std::filesystem::path(path).parent_path();
    std::optional<Problem> problem;
    TomlTable top(root, "the file", path, problem);
    top.text("format", true, {"mindful-trail-target/1"});
    target.name = top.text("name", false);
    const toml::array* streams = top.tables("stream", true);
    each_table(streams, "[[stream]]", path, problem, target.warnings, target.streams,
               [&](TomlTable& t) { return read_stream(t, path, folder, problem, target.warnings); });
    const auto has_instructions = [&](const toml::table& core) {
        const auto name = core["name"].value<std::string>();
        return name && std::any_of(target.streams.begin(), target.streams.end(),
                                   [&](const StreamSpec& s) { return s.core == *name && s.protocol != Protocol::ctf; });
    };
    const bool only_ctf =
        !target.streams.empty() && std::all_of(target.streams.begin(), target.streams.end(),
                                               [](const StreamSpec& s) { return s.protocol == Protocol::ctf; });
    if (const toml::array* cores = top.tables("core", !only_ctf)) {
        for (const auto& node : *cores) {
            TomlTable t(*node.as_table(), "[[core]]", path, problem);
            CoreSpec core = read_core(t, folder, has_instructions(*node.as_table()));
            if (target.core(core.name) != nullptr)
                t.fail("two cores are named '" + core.name + "'", t.line(), "give each core its own name");
            t.warn_unknown(target.warnings);
            target.cores.push_back(std::move(core));
            if (problem) break;
        }
    }
    each_table(top.tables("watch", false), "[[watch]]", path, problem, target.warnings, target.watches,
               [](TomlTable& t) { return read_watch(t); });
    each_table(top.tables("port", false), "[[port]]", path, problem, target.warnings, target.ports, [](TomlTable& t) {
        PortSpec port;
        port.number = static_cast<unsigned>(t.number("number", true, 0, 255).value_or(0));
        port.name = t.text("name", false);
        const std::string kind = t.text("kind", false, {"text", "mark", "value", "ctf"});
        if (!kind.empty()) port.kind = kind;
        return port;
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
    const auto size = std::filesystem::file_size(path, ec);
    if (ec) return failure("cannot open: " + ec.message(), path, "check the path");
    if (size > 4'000'000)
        return failure("too large for a target file", path, "give the .target.toml that describes the recording");
    std::ifstream in(path, std::ios::binary);
    if (!in) return failure("cannot read", path, "check the permissions");
    std::ostringstream text;
    text << in.rdbuf();
    return parse_target_file(text.str(), path);
}

}  // namespace mt
