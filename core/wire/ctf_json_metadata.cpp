// CTF 2.0 metadata: a sequence of JSON fragments, each after a record separator (CTF2-SPEC-2.0, section 5).
#include <algorithm>
#include <cmath>

#include <nlohmann/json.hpp>

#include "wire/ctf_metadata.h"

namespace mt {
namespace {

using Json = nlohmann::json;

struct Wrong {
    std::string what;
};

class JsonMetadata {
  public:
    CtfMetadata m;

    void fragment(const Json& f) {
        if (!f.is_object()) throw Wrong{"a fragment is no object"};
        const std::string type = text(f, "type");
        if (type == "preamble")
            preamble(f);
        else if (type == "field-class-alias")
            aliases_[text(f, "name")] = type_of(f.at("field-class"), 0);
        else if (type == "trace-class")
            trace_class(f);
        else if (type == "clock-class")
            clock_class(f);
        else if (type == "data-stream-class")
            stream_class(f);
        else if (type == "event-record-class")
            event_class(f);
        else
            m.warnings.push_back("The metadata has a fragment of type '" + type + "', which is left alone.");
    }

  private:
    static std::string text(const Json& j, const char* key) {
        const auto it = j.find(key);
        if (it == j.end() || !it->is_string()) throw Wrong{std::string("'") + key + "' is missing or no text"};
        return it->get<std::string>();
    }
    static std::string text_or(const Json& j, const char* key, std::string otherwise) {
        const auto it = j.find(key);
        return it != j.end() && it->is_string() ? it->get<std::string>() : otherwise;
    }
    static std::uint64_t number(const Json& j, const char* key, std::uint64_t otherwise) {
        const auto it = j.find(key);
        if (it == j.end()) return otherwise;
        if (!it->is_number_integer() || (!it->is_number_unsigned() && it->get<std::int64_t>() < 0))
            throw Wrong{std::string("'") + key + "' is no whole number of 0 or more"};
        return it->get<std::uint64_t>();
    }
    static std::int64_t signed_number(const Json& j) {
        if (!j.is_number_integer()) throw Wrong{"a range has an end that is no whole number"};
        return j.is_number_unsigned() ? static_cast<std::int64_t>(j.get<std::uint64_t>()) : j.get<std::int64_t>();
    }
    static std::vector<CtfType::Range> ranges(const Json& j) {
        std::vector<CtfType::Range> all;
        if (!j.is_array()) throw Wrong{"ranges are no list"};
        for (const auto& r : j) {
            if (!r.is_array() || r.size() != 2) throw Wrong{"a range is no pair"};
            all.push_back({signed_number(r[0]), signed_number(r[1])});
        }
        return all;
    }

    void preamble(const Json& f) {
        if (number(f, "version", 2) != 2) throw Wrong{"version is not 2"};
        m.major = 2;
        if (const auto it = f.find("uuid"); it != f.end() && it->is_array() && it->size() == 16) {
            for (std::size_t i = 0; i < 16; ++i) {
                if (!(*it)[i].is_number_unsigned()) throw Wrong{"'uuid' holds something else than bytes"};
                m.uuid[i] = static_cast<std::uint8_t>((*it)[i].get<std::uint64_t>());
            }
            m.has_uuid = true;
        }
    }

    void trace_class(const Json& f) {
        m.name = text_or(f, "name", "");
        if (const auto it = f.find("environment"); it != f.end() && it->is_object())
            for (const auto& [key, value] : it->items())
                m.environment[key] = value.is_string() ? value.get<std::string>() : value.dump();
        if (const auto it = f.find("packet-header-field-class"); it != f.end()) m.packet_header = type_of(*it, 0);
    }

    void clock_class(const Json& f) {
        CtfClock c;
        const std::string id = f.contains("id") ? text(f, "id") : text_or(f, "name", "");
        c.name = text_or(f, "name", id);
        c.description = text_or(f, "description", "");
        if (const auto it = f.find("origin"); it != f.end())
            c.origin = it->is_string() ? it->get<std::string>() : it->dump();
        c.hz = number(f, "frequency", 0);
        if (c.hz == 0) throw Wrong{"clock '" + id + "' has no frequency"};
        if (const auto it = f.find("offset-from-origin"); it != f.end() && it->is_object()) {
            if (const auto s = it->find("seconds"); s != it->end()) c.offset_seconds = signed_number(*s);
            c.offset_cycles = number(*it, "cycles", 0);
        }
        clock_ids_[id] = static_cast<int>(m.clocks.size());
        m.clocks.push_back(std::move(c));
    }

    void stream_class(const Json& f) {
        CtfStreamClass s;
        s.id = number(f, "id", 0);
        s.name = text_or(f, "name", "");
        for (const char* key : {"default-clock-class-id", "default-clock-class-name"})
            if (const auto it = f.find(key); it != f.end() && it->is_string()) {
                const auto clock = clock_ids_.find(it->get<std::string>());
                if (clock == clock_ids_.end()) throw Wrong{"the clock '" + it->get<std::string>() + "' is not defined"};
                s.clock = clock->second;
            }
        if (m.stream(s.id) != nullptr) throw Wrong{"stream class " + std::to_string(s.id) + " is defined twice"};
        const auto part = [&](const char* key, CtfType& into) {
            into.kind = CtfType::Kind::structure;
            into.align = 1;
            if (const auto it = f.find(key); it != f.end()) into = type_of(*it, 0);
        };
        part("packet-context-field-class", s.packet_context);
        part("event-record-header-field-class", s.event_header);
        part("event-record-common-context-field-class", s.event_context);
        m.streams.push_back(std::move(s));
    }

    void event_class(const Json& f) {
        CtfEventClass e;
        e.id = number(f, "id", 0);
        e.stream_class = number(f, "data-stream-class-id", 0);
        e.name = text_or(f, "name", "event " + std::to_string(e.id));
        e.space = text_or(f, "namespace", "");
        const auto part = [&](const char* key, CtfType& into) {
            into.kind = CtfType::Kind::structure;
            into.align = 1;
            if (const auto it = f.find(key); it != f.end()) into = type_of(*it, 0);
        };
        part("specific-context-field-class", e.context);
        part("payload-field-class", e.payload);
        m.events.push_back(std::move(e));
    }

    static void location(const Json& f, const char* key, CtfType& t) {
        const auto it = f.find(key);
        if (it == f.end()) throw Wrong{std::string("'") + key + "' is missing"};
        const Json* path = &*it;
        if (it->is_object()) {
            t.origin = text_or(*it, "origin", "");
            const auto p = it->find("path");
            if (p == it->end()) throw Wrong{std::string("'") + key + "' has no path"};
            path = &*p;
        }
        if (!path->is_array() || path->empty()) throw Wrong{std::string("'") + key + "' has no path"};
        for (const auto& step : *path) {
            if (!step.is_null() && !step.is_string())
                throw Wrong{std::string("'") + key + "' has a step that is no name"};
            t.path.push_back(step.is_null() ? std::string() : step.get<std::string>());
        }
        static const char* const scopes[] = {"packet-header",
                                             "packet-context",
                                             "event-record-header",
                                             "event-record-common-context",
                                             "event-record-specific-context",
                                             "event-record-payload"};
        if (t.origin.empty() && t.path.size() > 1 &&
            std::find(std::begin(scopes), std::end(scopes), t.path.front()) != std::end(scopes)) {
            t.origin = t.path.front();
            t.path.erase(t.path.begin());
        }
    }

    static unsigned alignment(const Json& f, const char* key, unsigned otherwise) {
        const std::uint64_t a = number(f, key, otherwise);
        if (a == 0 || a > 4096 || (a & (a - 1)) != 0) throw Wrong{std::string("'") + key + "' is no power of two"};
        return static_cast<unsigned>(a);
    }

    void roles(const Json& f, CtfType& t) const {
        static const std::map<std::string, std::uint16_t> known = {
            {"packet-magic-number", ctf_role::packet_magic},
            {"data-stream-class-id", ctf_role::stream_class_id},
            {"data-stream-id", ctf_role::stream_id},
            {"event-record-class-id", ctf_role::event_class_id},
            {"default-clock-timestamp", ctf_role::timestamp},
            {"packet-end-default-clock-timestamp", ctf_role::packet_end_timestamp},
            {"packet-total-length", ctf_role::packet_total_length},
            {"packet-content-length", ctf_role::packet_content_length},
            {"discarded-event-record-counter-snapshot", ctf_role::discarded_events},
            {"packet-sequence-number", ctf_role::packet_sequence},
            {"metadata-stream-uuid", ctf_role::trace_uuid}};
        if (const auto it = f.find("roles"); it != f.end() && it->is_array())
            for (const auto& r : *it)
                if (r.is_string())
                    if (const auto k = known.find(r.get<std::string>()); k != known.end()) t.roles |= k->second;
    }

    void labels(const Json& f, CtfType& t) const {
        if (const auto it = f.find("mappings"); it != f.end() && it->is_object())
            for (const auto& [name, list] : it->items()) t.labels.push_back({name, ranges(list)});
    }

    CtfType type_of(const Json& f, unsigned depth) const {
        using Kind = CtfType::Kind;
        if (depth > kCtfDeepest) throw Wrong{"types are nested too deep"};
        if (f.is_string()) {
            const auto alias = aliases_.find(f.get<std::string>());
            if (alias == aliases_.end()) throw Wrong{"the type '" + f.get<std::string>() + "' is not defined"};
            copied_ += ctf_type_size(alias->second);
            if (copied_ > kMostCtfCopies)
                throw Wrong{"types repeat others too often: more than " + std::to_string(kMostCtfCopies) +
                            " fields in all"};
            return alias->second;
        }
        if (!f.is_object()) throw Wrong{"a field class is neither an object nor a name"};
        CtfType t;
        const std::string type = text(f, "type");
        roles(f, t);
        if (type.rfind("fixed-length-", 0) == 0) {
            t.kind = type == "fixed-length-floating-point-number" ? Kind::real : Kind::integer;
            const std::uint64_t length = number(f, "length", 0);
            if (length == 0 || length > 64) throw Wrong{"'length' of " + type + " is not 1 to 64"};
            t.length = static_cast<unsigned>(length);
            if (t.kind == Kind::real && t.length != 16 && t.length != 32 && t.length != 64)
                throw Wrong{"'length' of a floating point number is none of 16, 32, 64"};
            const std::string order = text_or(f, "byte-order", "little-endian");
            if (order != "little-endian" && order != "big-endian") throw Wrong{"'byte-order' is '" + order + "'"};
            t.big_endian = order == "big-endian";
            const std::string bits = text_or(f, "bit-order", t.big_endian ? "last-to-first" : "first-to-last");
            t.reversed = (bits == "last-to-first") != t.big_endian;
            t.align = alignment(f, "alignment", 1);
            t.is_signed = type == "fixed-length-signed-integer";
            if (type == "fixed-length-bit-map") {
                if (const auto it = f.find("flags"); it != f.end() && it->is_object())
                    for (const auto& [name, list] : it->items()) t.labels.push_back({name, ranges(list)});
                t.base = 16;
            } else if (type == "fixed-length-boolean") {
                t.labels = {{"false", {{0, 0}}}, {"true", {{1, std::numeric_limits<std::int64_t>::max()}}}};
            } else if (type == "fixed-length-bit-array") {
                t.base = 16;
            }
            t.base = static_cast<std::uint8_t>(text_or(f, "preferred-display-base", "").empty()
                                                   ? number(f, "preferred-display-base", t.base)
                                                   : t.base);
            if (type.find("integer") != std::string::npos) labels(f, t);
        } else if (type == "variable-length-unsigned-integer" || type == "variable-length-signed-integer") {
            t.kind = Kind::varint;
            t.is_signed = type == "variable-length-signed-integer";
            t.align = 8;
            labels(f, t);
        } else if (type == "null-terminated-string") {
            t.kind = Kind::string;
            t.align = 8;
        } else if (type == "static-length-string" || type == "static-length-blob" || type == "dynamic-length-string" ||
                   type == "dynamic-length-blob") {
            const bool fixed = type.rfind("static", 0) == 0;
            t.kind = fixed ? Kind::array : Kind::sequence;
            t.text = type.find("string") != std::string::npos;
            t.blob = !t.text;
            t.align = 8;
            t.fields.push_back({"", {}, CtfType{}});
            t.fields[0].type.align = 8;
            if (fixed)
                t.count = number(f, "length", 0);
            else
                location(f, "length-field-location", t);
        } else if (type == "structure") {
            t.kind = Kind::structure;
            t.align = alignment(f, "minimum-alignment", 1);
            if (const auto it = f.find("member-classes"); it != f.end() && it->is_array())
                for (const auto& member : *it)
                    t.fields.push_back({text(member, "name"), {}, type_of(member.at("field-class"), depth + 1)});
        } else if (type == "static-length-array" || type == "dynamic-length-array") {
            t.kind = type[0] == 's' ? Kind::array : Kind::sequence;
            t.align = alignment(f, "minimum-alignment", 1);
            t.fields.push_back({"", {}, type_of(f.at("element-field-class"), depth + 1)});
            if (t.kind == Kind::array)
                t.count = number(f, "length", 0);
            else
                location(f, "length-field-location", t);
        } else if (type == "optional") {
            t.kind = Kind::optional;
            location(f, "selector-field-location", t);
            if (const auto it = f.find("selector-field-ranges"); it != f.end())
                t.presence = ranges(*it);
            else
                t.presence = {{1, -1}};  // as unsigned: anything but zero
            t.fields.push_back({"", {}, type_of(f.at("field-class"), depth + 1)});
        } else if (type == "variant") {
            t.kind = Kind::variant;
            location(f, "selector-field-location", t);
            for (const auto& option : f.at("options"))
                t.fields.push_back({text_or(option, "name", ""), ranges(option.at("selector-field-ranges")),
                                    type_of(option.at("field-class"), depth + 1)});
        } else {
            throw Wrong{"the type '" + type + "' is not known"};
        }
        return t;
    }

    std::map<std::string, CtfType> aliases_;
    mutable std::size_t copied_ = 0;  ///< types, by aliases
    std::map<std::string, int> clock_ids_;
};

// Line and column of a place in the text, from 1.
std::string place(std::string_view text, std::size_t at, const std::string& path) {
    at = std::min(at, text.size());
    const auto line = std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n') + 1;
    const auto before = text.rfind('\n', at == 0 ? 0 : at - 1);
    const std::size_t column = before == std::string_view::npos || at == 0 ? at + 1 : at - before;
    return path + ":" + std::to_string(line) + ":" + std::to_string(column);
}

}  // namespace

Result<CtfMetadata> parse_ctf_json(std::string_view text, const std::string& path) {
    JsonMetadata reader;
    reader.m.major = 2;
    reader.m.packet_header.kind = CtfType::Kind::structure;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = std::min(text.find('\x1e', at), text.size());
        std::size_t from = text.find_first_not_of(" \t\r\n", at);
        if (from != std::string_view::npos && from < end) {
            const std::string_view piece = text.substr(from, end - from);
            unsigned open = 0, deepest = 0;
            for (const char c : piece) {
                if (c == '{' || c == '[') deepest = std::max(deepest, ++open);
                if ((c == '}' || c == ']') && open > 0) --open;
            }
            if (deepest > 8 * kCtfDeepest)
                return failure("the metadata is nested too deep", place(text, from, path), "make it anew");
            try {
                reader.fragment(Json::parse(piece));
            } catch (const Json::parse_error& e) {
                return failure("not valid JSON", place(text, from + (e.byte > 0 ? e.byte - 1 : 0), path),
                               "correct the metadata, or make it anew");
            } catch (const Json::exception&) {
                return failure("a fragment of the metadata lacks something that is required", place(text, from, path),
                               "correct the metadata, or make it anew");
            } catch (const Wrong& e) {
                return failure(e.what, place(text, from, path), "correct the metadata, or make it anew");
            }
        }
        at = end + 1;
    }
    return std::move(reader.m);
}

}  // namespace mt
