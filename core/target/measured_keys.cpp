#include "target/measured_keys.h"

#include <charconv>

namespace mt {
namespace {

// "STEP rising": the last word says which edges.
ClockTie::Align read_align(TomlTable& t) {
    ClockTie::Align a;
    for (const char* of : {"mark", "resource", "interrupt", "task", "value", "function"}) {
        if (t.raw().get(of) == nullptr) continue;
        // The value of a mark stands beside its name; a value of two levels is named by the same key.
        if (std::string_view(of) == "value" && a.of == "mark") {
            a.value = t.number(of, false, std::numeric_limits<std::int64_t>::min(), kNoLimit);
            continue;
        }
        if (!a.of.empty())
            t.fail("an entry of align names both a " + a.of + " and a " + of, t.line(), "name one of them");
        a.of = of;
        a.name = t.text(of, true);
    }
    if (a.of.empty())
        t.fail("an entry of align names nothing of the recording", t.line(),
               "add mark, resource, interrupt, task, value or function");
    const std::string edge = t.text("edge", true);
    const auto blank = edge.rfind(' ');
    const std::string which = blank == std::string::npos ? "" : edge.substr(blank + 1);
    if (which != "rising" && which != "falling" && which != "both")
        t.fail("key 'edge' in align is \"" + edge + "\"", t.line(),
               "write the signal's name and rising, falling or both: \"SYNC rising\"");
    a.signal = edge.substr(0, blank == std::string::npos ? edge.size() : blank);
    a.rising = which != "falling";
    a.falling = which != "rising";
    return a;
}

void read_tie(TomlTable& t, const KeyPlace& place, ClockTie& tie) {
    TomlTable::each(t.tables("align", false), "align", place.path, place.problem, place.warnings, tie.align,
                    [](TomlTable& a) { return read_align(a); });
    tie.offset_ns = t.real("offset_ns", false, -1e18, 1e18);
    tie.drift_ppm = t.real("drift_ppm", false, -100'000, 100'000);
}

}  // namespace

SignalsSpec read_signals(TomlTable& t, const KeyPlace& place) {
    SignalsSpec s;
    s.line = t.line();
    const std::string file = t.text("file", true);
    if (!file.empty()) s.file = (place.folder / file).lexically_normal().string();
    s.name = t.text("name", false);
    s.select = t.texts("select");
    read_tie(t, place, s);
    return s;
}

std::map<std::uint64_t, std::string> read_names(TomlTable& t) {
    std::map<std::uint64_t, std::string> names;
    const toml::table* table = t.table("names");
    if (table == nullptr) return names;
    for (const auto& [key, node] : *table) {
        const std::string text(key.str());
        const bool hex = text.size() > 2 && text[0] == '0' && (text[1] == 'x' || text[1] == 'X');
        std::uint64_t number = 0;
        const char* from = text.data() + (hex ? 2 : 0);
        const auto [end, ec] = std::from_chars(from, text.data() + text.size(), number, hex ? 16 : 10);
        const auto name = node.value<std::string>();
        if (ec != std::errc() || end != text.data() + text.size() || end == from || !name)
            t.fail("'" + text + "' in 'names' is no number with a name",
                   static_cast<unsigned>(node.source().begin.line),
                   "write names = { 3 = \"guide\", 0x20000400 = \"track\" }");
        else
            names[number] = *name;
    }
    return names;
}

PolledParameters read_polled(TomlTable& t, const KeyPlace& place) {
    PolledParameters p;
    TomlTable::each(t.tables("values", true), "values", place.path, place.problem, place.warnings, p.values,
                    [](TomlTable& v) {
                        PolledParameters::Value value;
                        value.name = v.text("name", true);
                        value.address = static_cast<std::uint64_t>(v.number("address", true, 0, kNoLimit).value_or(0));
                        value.type = v.text("type", true, {"u8", "i8", "u16", "i16", "u32", "i32", "f32", "bool"});
                        if (const auto mask = v.number("mask", false, 0, kNoLimit))
                            value.mask = static_cast<std::uint64_t>(*mask);
                        value.shift = static_cast<unsigned>(v.number("shift", false, 0, 63).value_or(0));
                        value.names = read_names(v);
                        value.rate_hz = v.real("rate_hz", false, 0.001, 100'000).value_or(10);
                        return value;
                    });
    if (p.values.empty() || p.values.size() > PolledParameters::kMost)
        t.fail("key 'values' in [stream.polled] has " + std::to_string(p.values.size()) + " entries", t.line(),
               "it must name 1 to " + std::to_string(PolledParameters::kMost));
    return p;
}

EventSpec read_event(TomlTable& t) {
    EventSpec e;
    e.of = t.text("of", true);
    e.core = t.text("core", false);
    e.at = t.text("at", false,
                  {"entry", "exit", "begin", "ready", "start", "end", "send", "receive", "take", "give"});
    e.value = t.number("value", false, std::numeric_limits<std::int64_t>::min(), kNoLimit);
    e.crosses = t.real("crosses", false, -1e300, 1e300);
    e.rising = t.flag("rising").value_or(true);
    return e;
}

StopwatchSpec read_stopwatch(TomlTable& t, const KeyPlace& place) {
    StopwatchSpec s;
    s.line = t.line();
    s.name = t.text("name", true);
    const auto event = [&](const char* key, EventSpec& e) {
        const toml::table* table = t.table(key);
        if (table == nullptr) {
            t.fail(std::string("missing key '") + key + "' in [[stopwatch]]", t.line(),
                   std::string("say which event it is: ") + key + " = { of = \"ENC_INDEX\", at = \"entry\" }");
            return;
        }
        TomlTable k(*table, std::string("'") + key + "' of [[stopwatch]]", place.path, place.problem);
        e = read_event(k);
        k.warn_unknown(place.warnings);
    };
    event("from", s.from);
    event("to", s.to);
    return s;
}

SamplesParameters read_samples(TomlTable& t, const KeyPlace& place) {
    using Type = SamplesParameters::Type;
    SamplesParameters p;
    p.name = t.text("name", false);
    constexpr std::string_view types[] = {"u8", "i8", "u16", "i16", "u24", "i24", "u32", "i32", "f32", "f64"};
    const std::string type =
        t.text("type", true, {"u8", "i8", "u16", "i16", "u24", "i24", "u32", "i32", "f32", "f64"});
    for (std::size_t i = 0; i < std::size(types); ++i)
        if (types[i] == type) p.type = static_cast<Type>(i);
    p.big_endian = t.flag("big_endian").value_or(false);
    p.rate_hz = t.real("rate_hz", true, 1e-3, 1e9).value_or(1);
    TomlTable::each(t.tables("channels", true), "channels", place.path, place.problem, place.warnings, p.channels,
                    [](TomlTable& c) {
                        SamplesParameters::Channel channel;
                        channel.name = c.text("name", true);
                        channel.unit = c.text("unit", false);
                        channel.scale = c.real("scale", false, -1e18, 1e18).value_or(1);
                        channel.offset = c.real("offset", false, -1e18, 1e18).value_or(0);
                        return channel;
                    });
    if (p.channels.empty() || p.channels.size() > SamplesParameters::kMostChannels)
        t.fail("key 'channels' in [stream.samples] has " + std::to_string(p.channels.size()) + " entries", t.line(),
               "it must name 1 to " + std::to_string(SamplesParameters::kMostChannels) +
                   ": channels = [{ name = \"board current\", unit = \"mA\" }]");
    for (std::size_t i = 0; i < p.channels.size(); ++i)
        for (std::size_t k = 0; k < i; ++k)
            if (p.channels[k].name == p.channels[i].name)
                t.fail("two channels in [stream.samples] are named '" + p.channels[i].name + "'", t.line(),
                       "give each its own name");
    read_tie(t, place, p);
    return p;
}

std::size_t SamplesParameters::sample_bytes() const {
    constexpr std::uint8_t bytes[] = {1, 1, 2, 2, 3, 3, 4, 4, 4, 8};
    return bytes[static_cast<std::size_t>(type)];
}

}  // namespace mt
