#include "wire/ctf_metadata.h"

#include <algorithm>
#include <cstring>
#include <optional>

namespace mt {
namespace {

constexpr std::size_t kMostMetadata = 64u << 20;
constexpr unsigned kMostSlots = 1u << 20;

std::uint32_t word(std::span<const std::uint8_t> b, std::size_t at, bool big) {
    std::uint32_t v = 0;
    for (std::size_t i = 0; i < 4; ++i) v |= std::uint32_t{b[at + i]} << 8 * (big ? 3 - i : i);
    return v;
}

// The text out of metadata packets; the header is 37 bytes (CTF 1.8.3, 7.1).
Result<std::string> unpack(std::span<const std::uint8_t> bytes, bool big, const std::string& path) {
    constexpr std::size_t header = 37;
    std::string text;
    for (std::size_t at = 0; at < bytes.size();) {
        const std::string where = path + ": offset " + std::to_string(at);
        if (bytes.size() - at < header || word(bytes, at, big) != 0x75D11D57)
            return failure("the metadata packet is cut off or damaged", where, "copy the trace again");
        const std::uint64_t content = word(bytes, at + 24, big) / 8, packet = word(bytes, at + 28, big) / 8;
        if (bytes[at + 32] != 0 || bytes[at + 33] != 0)
            return failure("compressed or encrypted metadata is not read", where, "write the trace without either");
        if (content < header || packet < content || packet > bytes.size() - at)
            return failure("the metadata packet has impossible sizes", where, "copy the trace again");
        text.append(reinterpret_cast<const char*>(bytes.data()) + at + header, content - header);
        at += packet;
    }
    return text;
}

// Where names can be looked up: fields read so far, with the structures that are open.
class Resolver {
  public:
    Resolver(unsigned major, const std::string& path) : major_(major), path_(path) {}

    std::optional<Problem> problem;
    int next = 0;

    void scope(const std::string& origin, CtfType& root, const std::string& whose) {
        if (problem) return;
        whose_ = whose;
        roots_.emplace_back(origin, &root);
        open_.clear();
        walk(root, 0);
    }
    /// Forgets scopes from `count` on: those of another event.
    void keep(std::size_t count, int slots) {
        roots_.resize(count);
        next = slots;
    }
    std::size_t scopes() const { return roots_.size(); }

  private:
    struct Open {
        CtfType* type;
        std::size_t reached;  ///< members read so far
    };

    void fail(const std::string& what) {
        if (!problem) problem = Problem{what + " in " + whose_, path_, "correct the metadata, or make it anew"};
    }

    static CtfType* member(CtfType* in, const std::string& name, std::size_t before) {
        if (in->kind != CtfType::Kind::structure) return nullptr;
        for (std::size_t i = std::min(before, in->fields.size()); i-- > 0;)
            if (in->fields[i].name == name || in->fields[i].name == "_" + name) return &in->fields[i].type;
        return nullptr;
    }
    // Down from `in` along path[at…]; `before` limits the first step to members already read.
    static CtfType* down(CtfType* in, const std::vector<std::string>& path, std::size_t at, std::size_t before) {
        for (; at < path.size(); ++at) {
            if (in->kind == CtfType::Kind::variant || in->kind == CtfType::Kind::optional) return nullptr;
            in = member(in, path[at], before);
            if (in == nullptr) return nullptr;
            before = in->fields.size();
        }
        return in;
    }

    CtfType* find(const CtfType& t) {
        const auto of_scope = [&](const std::string& origin, std::size_t from) -> CtfType* {
            for (auto it = roots_.rbegin(); it != roots_.rend(); ++it) {
                if (it->first != origin) continue;
                const bool current = it == roots_.rbegin();
                return down(it->second, t.path, from,
                            current && !open_.empty() ? open_.front().reached : it->second->fields.size());
            }
            return nullptr;
        };
        if (!t.origin.empty()) return of_scope(t.origin, 0);
        // Relative: climbing for each "" in front (CTF 2.0), else the innermost structure that has it (1.8).
        std::size_t climb = 0;
        while (climb < t.path.size() && t.path[climb].empty()) ++climb;
        if (major_ >= 2) {
            if (climb >= open_.size()) return nullptr;
            const Open& o = open_[open_.size() - 1 - climb];
            return down(o.type, t.path, climb, o.reached);
        }
        for (auto o = open_.rbegin(); o != open_.rend(); ++o)
            if (CtfType* found = down(o->type, t.path, 0, o->reached)) return found;
        for (auto it = roots_.rbegin(); it != roots_.rend(); ++it)  // dynamic scopes, the nearest first (7.3.2)
            if (CtfType* found = down(it->second, t.path, 0, it->second->fields.size())) return found;
        return nullptr;
    }

    void walk(CtfType& t, unsigned depth) {
        using Kind = CtfType::Kind;
        if (depth > kCtfDeepest) return fail("types are nested too deep");
        if (next > static_cast<int>(kMostSlots)) return fail("too many fields");
        if (t.kind == Kind::sequence || t.kind == Kind::variant || t.kind == Kind::optional) {
            CtfType* chosen = find(t);
            std::string name;
            for (const auto& p : t.path) name += (name.empty() ? "" : ".") + p;
            if (chosen == nullptr)
                return fail((t.kind == Kind::sequence ? "the length '" : "the selector '") + name +
                            "' names no field before it");
            if (chosen->kind != Kind::integer && chosen->kind != Kind::varint)
                return fail("'" + name + "' is no integer");
            t.selector = chosen->slot;
            if (t.kind == Kind::variant && major_ < 2) choose_by_label(t, *chosen);
        }
        switch (t.kind) {
            case Kind::integer:
            case Kind::varint:
            case Kind::real:
            case Kind::string:
                t.slot = next++;
                break;
            case Kind::structure:
                open_.push_back({&t, 0});
                for (auto& f : t.fields) {
                    walk(f.type, depth + 1);
                    if (problem) return;
                    ++open_.back().reached;
                }
                open_.pop_back();
                break;
            default:
                t.slot = next++;
                for (auto& f : t.fields) walk(f.type, depth + 1);
        }
    }

    // CTF 1.8: the option is named like the enumeration's label.
    void choose_by_label(CtfType& variant, const CtfType& selector) {
        for (auto& option : variant.fields)
            for (const auto& label : selector.labels)
                if (label.name == option.name || "_" + label.name == option.name)
                    option.ranges.insert(option.ranges.end(), label.ranges.begin(), label.ranges.end());
    }

    unsigned major_;
    std::string path_, whose_;
    std::vector<std::pair<std::string, CtfType*>> roots_;
    std::vector<Open> open_;
};

}  // namespace

std::size_t ctf_type_size(const CtfType& type) {
    std::size_t size = 1 + type.labels.size();
    for (const auto& f : type.fields) size += ctf_type_size(f.type);
    return size;
}

namespace {

// Alignment of compound types is that of their strictest part (CTF 1.8.3, 4.2.1; CTF 2.0, 6.4).
unsigned settle_alignment(CtfType& t, unsigned depth = 0) {
    if (depth > kCtfDeepest) return 1;
    unsigned inner = 1;
    for (auto& f : t.fields) inner = std::max(inner, settle_alignment(f.type, depth + 1));
    if (t.kind == CtfType::Kind::structure || t.kind == CtfType::Kind::array || t.kind == CtfType::Kind::sequence)
        t.align = std::max(t.align, inner);
    if (t.kind == CtfType::Kind::string || t.kind == CtfType::Kind::varint) t.align = std::max(t.align, 8u);
    if (t.kind == CtfType::Kind::variant || t.kind == CtfType::Kind::optional) return 1;  // the chosen one aligns
    return t.align;
}

}  // namespace

Result<void> resolve_ctf(CtfMetadata& m, const std::string& path) {
    settle_alignment(m.packet_header);
    for (auto& s : m.streams)
        for (CtfType* t : {&s.packet_context, &s.event_header, &s.event_context}) settle_alignment(*t);
    for (auto& e : m.events)
        for (CtfType* t : {&e.context, &e.payload}) settle_alignment(*t);

    Resolver header(m.major, path);
    header.scope("packet-header", m.packet_header, "the packet header");
    m.header_slots = static_cast<unsigned>(header.next);
    if (header.problem) return tl::make_unexpected(*header.problem);
    m.most_slots = m.header_slots;
    for (auto& s : m.streams) {
        const std::string whose = " of stream class " + std::to_string(s.id);
        Resolver r(m.major, path);
        r.scope("packet-header", m.packet_header, "the packet header");
        r.scope("packet-context", s.packet_context, "the packet context" + whose);
        r.scope("event-record-header", s.event_header, "the event header" + whose);
        r.scope("event-record-common-context", s.event_context, "the event context" + whose);
        s.slot_count = static_cast<unsigned>(r.next);
        const std::size_t shared = r.scopes();
        for (auto& e : m.events) {
            if (e.stream_class != s.id) continue;
            r.keep(shared, static_cast<int>(s.slot_count));
            r.scope("event-record-specific-context", e.context, "the context of event '" + e.name + "'");
            r.scope("event-record-payload", e.payload, "event '" + e.name + "'");
            e.slot_count = static_cast<unsigned>(r.next);
            m.most_slots = std::max(m.most_slots, e.slot_count);
            if (r.problem) return tl::make_unexpected(*r.problem);
        }
        if (r.problem) return tl::make_unexpected(*r.problem);
        m.most_slots = std::max(m.most_slots, s.slot_count);
    }
    for (std::size_t i = 0; i < m.events.size(); ++i) {
        const auto s = std::find_if(m.streams.begin(), m.streams.end(),
                                    [&](const CtfStreamClass& x) { return x.id == m.events[i].stream_class; });
        if (s == m.streams.end()) {
            m.warnings.push_back("Event '" + m.events[i].name + "' belongs to stream class " +
                                 std::to_string(m.events[i].stream_class) + ", which the metadata does not describe.");
            continue;
        }
        if (!s->events.emplace(m.events[i].id, i).second)
            return failure("two events have the number " + std::to_string(m.events[i].id) + " ('" +
                               m.events[s->events[m.events[i].id]].name + "' and '" + m.events[i].name + "')",
                           path, "correct the metadata, or make it anew");
    }
    return {};
}

Result<CtfMetadata> read_ctf_metadata(std::span<const std::uint8_t> bytes, const std::string& path) {
    if (bytes.size() > kMostMetadata) return failure("too large for metadata", path, "is this the file 'metadata'?");
    if (bytes.size() < 4) return failure("the metadata is empty", path, "copy the trace again");
    std::string text;
    const bool little = word(bytes, 0, false) == 0x75D11D57, big = word(bytes, 0, true) == 0x75D11D57;
    if (little || big) {
        auto unpacked = unpack(bytes, big, path);
        if (!unpacked) return tl::make_unexpected(unpacked.error());
        text = std::move(*unpacked);
    } else {
        text.assign(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    }
    const auto first = text.find_first_not_of(" \t\r\n");
    const bool json = first != std::string::npos && (text[first] == '\x1e' || text[first] == '{');
    auto m = json ? parse_ctf_json(text, path) : parse_ctf_text(text, path);
    if (!m) return m;
    if (auto ok = resolve_ctf(*m, path); !ok) return tl::make_unexpected(ok.error());
    if (m->streams.empty()) return failure("the metadata describes no stream", path, "copy the trace again");
    return m;
}

}  // namespace mt
