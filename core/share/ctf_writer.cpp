#include "share/ctf_writer.h"

#include <array>
#include <cstring>
#include <filesystem>

#include <nlohmann/json.hpp>

namespace mt {
namespace fs = std::filesystem;
namespace {

using Json = nlohmann::ordered_json;

constexpr std::size_t kPacketBytes = 32 * 1024;
constexpr std::size_t kHeaderBytes = 4 + 16 + 4 + 6 * 8 + 4;
constexpr std::array<std::uint8_t, 16> kUuid = {0x4D, 0x54, 0x72, 0x61, 0x69, 0x6C, 0x4F, 0x53,
                                                0x80, 0x01, 0x45, 0x76, 0x65, 0x6E, 0x74, 0x73};
constexpr std::array<const char*, 8> kFaults = {"bad_instruction",
                                                "misaligned_access",
                                                "access_violation",
                                                "divide_by_zero",
                                                "stack_overflow",
                                                "watchdog",
                                                "other",
                                                ""};

Json number(unsigned bits, bool is_signed = false, unsigned align = 8) {
    return {{"type", is_signed ? "fixed-length-signed-integer" : "fixed-length-unsigned-integer"},
            {"length", bits},
            {"byte-order", "little-endian"},
            {"alignment", align}};
}
Json with_role(Json type, const char* role) {
    type["roles"] = Json::array({role});
    return type;
}
Json member(const char* name, Json type) { return {{"name", name}, {"field-class", std::move(type)}}; }
Json structure(Json members) { return {{"type", "structure"}, {"member-classes", std::move(members)}}; }
Json words(const std::vector<std::string_view>& labels) {
    Json t = number(8);
    for (std::size_t i = 0; i < labels.size(); ++i) t["mappings"][std::string(labels[i])] = Json::array({{i, i}});
    return t;
}

Json reasons() {
    std::vector<std::string_view> all;
    for (std::uint8_t i = 0; i < 8; ++i) all.push_back(block_reason_name(static_cast<BlockReason>(i)));
    return words(all);
}
Json kinds() {
    std::vector<std::string_view> all;
    for (std::uint8_t i = 0; i < 8; ++i) all.push_back(object_kind_name(static_cast<ObjectKind>(i)));
    return words(all);
}
Json text() { return {{"type", "null-terminated-string"}}; }

// Events by number; the vocabulary's kinds first, in their order.
constexpr unsigned kFunctionEnter = 24, kFunctionExit = 25, kFunctionName = 40;

Json payload_of(unsigned id) {
    Json m = Json::array();
    const auto add = [&](const char* name, Json type) { m.push_back(member(name, std::move(type))); };
    switch (id) {
        case kFunctionEnter:
        case kFunctionExit:
            add("function", number(32));
            return structure(m);
        case kFunctionName:
            add("function", number(32));
            add("name", text());
            return structure(m);
        default:
            break;
    }
    switch (static_cast<OsKind>(id)) {
        case OsKind::task_create:
            add("task", number(32));
            add("priority", number(32, true));
            add("name", text());
            break;
        case OsKind::object_name:
            add("kind", kinds());
            add("id", number(32));
            add("name", text());
            break;
        case OsKind::task_switch_in:
        case OsKind::task_ready:
            add("task", number(32));
            break;
        case OsKind::task_block:
            add("task", number(32));
            add("reason", reasons());
            add("object", number(32));
            break;
        case OsKind::task_priority:
            add("task", number(32));
            add("priority", number(32, true));
            break;
        case OsKind::isr_enter:
        case OsKind::isr_exit:
            add("number", number(16));
            break;
        case OsKind::mutex_take:
        case OsKind::mutex_take_blocked:
        case OsKind::mutex_give:
        case OsKind::sem_give:
        case OsKind::sem_take:
            add("object", number(32));
            break;
        case OsKind::queue_send:
        case OsKind::queue_receive:
        case OsKind::queue_send_failed:
            add("object", number(32));
            add("fill", number(32));
            break;
        case OsKind::marker:
            add("port", number(32));
            add("value", number(64, true));
            break;
        case OsKind::signal:
            add("id", number(32));
            add("value", number(64, true));
            break;
        case OsKind::fault:
            add("kind", words({kFaults.begin(), kFaults.end() - 1}));
            add("pc", number(64));
            add("address", number(64));
            break;
        default:
            break;
    }
    return structure(m);
}

std::string name_of(unsigned id) {
    if (id == kFunctionEnter) return "function_enter";
    if (id == kFunctionExit) return "function_exit";
    if (id == kFunctionName) return "function_name";
    return std::string(os_kind_name(static_cast<OsKind>(id)));
}

std::string metadata(const CtfWriter::Options& options) {
    std::string out;
    const auto fragment = [&](const Json& j) { out += "\x1e" + j.dump() + "\n"; };
    fragment({{"type", "preamble"}, {"version", 2}, {"uuid", kUuid}});
    Json blob = {{"type", "static-length-blob"}, {"length", 16}, {"roles", {"metadata-stream-uuid"}}};
    fragment({{"type", "trace-class"},
              {"name", options.title},
              {"environment", {{"recorder", "Mindful Trail"}, {"cores", options.cores}}},
              {"packet-header-field-class",
               structure({member("magic", with_role(number(32), "packet-magic-number")), member("uuid", blob),
                          member("stream_id", with_role(number(32), "data-stream-class-id"))})}});
    fragment({{"type", "clock-class"}, {"id", "core"}, {"name", "core"}, {"frequency", options.clock_hz}});
    Json compact = {
        {"name", "compact"},
        {"selector-field-ranges", {{0, 30}}},
        {"field-class", structure({member("timestamp", with_role(number(27, false, 1), "default-clock-timestamp"))})}};
    Json extended = {
        {"name", "extended"},
        {"selector-field-ranges", {{31, 31}}},
        {"field-class", structure({member("id", with_role(number(32), "event-record-class-id")),
                                   member("timestamp", with_role(number(64), "default-clock-timestamp"))})}};
    Json header =
        structure({member("id", with_role(number(5, false, 1), "event-record-class-id")),
                   member("v", {{"type", "variant"},
                                {"selector-field-location", {{"origin", "event-record-header"}, {"path", {"id"}}}},
                                {"options", {compact, extended}}})});
    header["minimum-alignment"] = 8;
    fragment({{"type", "data-stream-class"},
              {"id", 0},
              {"name", "core events"},
              {"default-clock-class-id", "core"},
              {"packet-context-field-class",
               structure({member("timestamp_begin", with_role(number(64), "default-clock-timestamp")),
                          member("timestamp_end", with_role(number(64), "packet-end-default-clock-timestamp")),
                          member("content_size", with_role(number(64), "packet-content-length")),
                          member("packet_size", with_role(number(64), "packet-total-length")),
                          member("events_discarded", with_role(number(64), "discarded-event-record-counter-snapshot")),
                          member("packet_seq_num", with_role(number(64), "packet-sequence-number")),
                          member("cpu_id", number(32))})},
              {"event-record-header-field-class", header}});
    for (unsigned id = 0; id <= kFunctionName; ++id)
        if (id < static_cast<unsigned>(OsKind::other) || id == kFunctionEnter || id == kFunctionExit ||
            id == kFunctionName)
            fragment({{"type", "event-record-class"},
                      {"id", id},
                      {"data-stream-class-id", 0},
                      {"name", name_of(id)},
                      {"payload-field-class", payload_of(id)}});
    return out;
}

}  // namespace

struct CtfWriter::Stream {
    std::ofstream file;
    unsigned cpu = 0;
    std::vector<std::uint8_t> bytes;  ///< of the open packet, header included; empty if none is open
    std::int64_t begin = 0, last = 0;
    std::uint64_t discarded = 0, sequence = 0;

    void put(std::uint64_t v, unsigned count) {
        for (unsigned i = 0; i < count; ++i) bytes.push_back(static_cast<std::uint8_t>(v >> 8 * i));
    }
    void put_text(const std::string& t) {
        for (const char c : t)
            if (c != 0) bytes.push_back(static_cast<std::uint8_t>(c));
        bytes.push_back(0);
    }
    void set(std::size_t at, std::uint64_t v, unsigned count) {
        for (unsigned i = 0; i < count; ++i) bytes[at + i] = static_cast<std::uint8_t>(v >> 8 * i);
    }
};

const std::string& CtfWriter::metadata_text() {
    static const std::string text = metadata({});
    return text;
}

CtfWriter::CtfWriter(std::string folder) : folder_(std::move(folder)) {}
CtfWriter::~CtfWriter() = default;

Result<std::unique_ptr<CtfWriter>> CtfWriter::create(const std::string& folder, const Options& options) {
    std::error_code ec;
    fs::create_directories(folder, ec);
    if (ec) return failure("cannot create the folder: " + ec.message(), folder, "check the path and the permissions");
    if (!fs::is_empty(folder, ec) || ec)
        return failure("the folder is not empty", folder, "give a new one; a trace is a folder of its own");
    std::unique_ptr<CtfWriter> w(new CtfWriter(folder));
    std::ofstream meta(fs::path(folder) / "metadata", std::ios::binary);
    meta << metadata(options);
    meta.close();
    if (!meta) return failure("cannot write", (fs::path(folder) / "metadata").string(), "is the disk full?");
    for (unsigned c = 0; c < options.cores; ++c) {
        auto s = std::make_unique<Stream>();
        s->cpu = c;
        s->file.open(fs::path(folder) / ("core" + std::to_string(c)), std::ios::binary);
        if (!s->file) return failure("cannot write", folder, "check the permissions");
        w->streams_.push_back(std::move(s));
    }
    return w;
}

void CtfWriter::begin_event(Stream& s, unsigned id, std::int64_t ticks) {
    if (s.bytes.size() > kPacketBytes - 512) end_packet(s);
    ticks = std::max(ticks, s.last);
    if (s.bytes.empty()) {
        s.put(0xC1FC1FC1, 4);
        for (const auto b : kUuid) s.bytes.push_back(b);
        s.put(0, 4);
        s.bytes.resize(kHeaderBytes, 0);
        s.begin = s.last = ticks;
    }
    if (id < 31 && ticks - s.last < (1 << 27)) {
        s.put(id | (static_cast<std::uint64_t>(ticks) & 0x7FF'FFFF) << 5, 4);
    } else {
        s.put(31, 1);
        s.put(id, 4);
        s.put(static_cast<std::uint64_t>(ticks), 8);
    }
    s.last = ticks;
}

void CtfWriter::end_packet(Stream& s) {
    if (s.bytes.empty()) return;
    const std::uint64_t bits = s.bytes.size() * 8;
    s.set(24, static_cast<std::uint64_t>(s.begin), 8);
    s.set(32, static_cast<std::uint64_t>(s.last), 8);
    s.set(40, bits, 8);
    s.set(48, bits, 8);
    s.set(56, s.discarded, 8);
    s.set(64, s.sequence++, 8);
    s.set(72, s.cpu, 4);
    s.file.write(reinterpret_cast<const char*>(s.bytes.data()), static_cast<std::streamsize>(s.bytes.size()));
    s.bytes.clear();
}

void CtfWriter::lost(unsigned core, std::uint64_t events) {
    Stream& s = *streams_[core];
    end_packet(s);
    s.discarded += std::max<std::uint64_t>(events, 1);
}

void CtfWriter::write(const OsEvent& e, std::int64_t ticks, const OsBlock& texts) {
    if (e.kind == OsKind::lost || e.core >= streams_.size()) return;
    Stream& s = *streams_[e.core];
    const OsKind kind = e.kind == OsKind::other ? OsKind::marker : e.kind;
    begin_event(s, static_cast<unsigned>(kind), ticks);
    const auto value = static_cast<std::uint64_t>(e.value);
    switch (kind) {
        case OsKind::task_create:
            s.put(e.subject, 4);
            s.put(static_cast<std::uint32_t>(priority_of(e.value) == kNoPriority ? 1 : priority_of(e.value)), 4);
            s.put_text(texts.texts[text_of(e.value)]);
            break;
        case OsKind::object_name:
            s.put(e.code, 1);
            s.put(e.subject, 4);
            s.put_text(texts.texts[text_of(e.value)]);
            break;
        case OsKind::task_switch_in:
        case OsKind::task_ready:
        case OsKind::mutex_take:
        case OsKind::mutex_take_blocked:
        case OsKind::mutex_give:
        case OsKind::sem_give:
        case OsKind::sem_take:
            s.put(e.subject, 4);
            break;
        case OsKind::task_block:
            s.put(e.subject, 4);
            s.put(e.code, 1);
            s.put(value, 4);
            break;
        case OsKind::task_priority:
        case OsKind::queue_send:
        case OsKind::queue_receive:
        case OsKind::queue_send_failed:
            s.put(e.subject, 4);
            s.put(value, 4);
            break;
        case OsKind::isr_enter:
        case OsKind::isr_exit:
            s.put(e.subject, 2);
            break;
        case OsKind::marker:
        case OsKind::signal:
            s.put(e.subject, 4);
            s.put(value, 8);
            break;
        case OsKind::fault: {
            const OsFault& f = texts.faults[static_cast<std::size_t>(e.value)];
            std::uint8_t code = 6;
            for (std::uint8_t i = 0; i < 6; ++i)
                if (f.kind == kFaults[i]) code = i;
            s.put(code, 1);
            s.put(f.pc, 8);
            s.put(f.address, 8);
            break;
        }
        default:
            break;
    }
}

void CtfWriter::write_call(unsigned core, std::int64_t ticks, bool enter, std::uint32_t function,
                           const std::string& name) {
    if (core >= streams_.size()) return;
    Stream& s = *streams_[core];
    if (function < 1u << 24) {
        if (named_.size() <= function) named_.resize(function + 1);
        if (named_[function] == 0) {
            named_[function] = 1;
            begin_event(s, kFunctionName, ticks);
            s.put(function, 4);
            s.put_text(name);
        }
    }
    begin_event(s, enter ? kFunctionEnter : kFunctionExit, ticks);
    s.put(function, 4);
}

Result<void> CtfWriter::finish() {
    for (auto& s : streams_) {
        end_packet(*s);
        s->file.close();
        if (!s->file) return failure("cannot write all of it", folder_, "is the disk full?");
    }
    return {};
}

}  // namespace mt
