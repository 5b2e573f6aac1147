#include "flow/os_binding.h"

#include <algorithm>
#include <sstream>

#include "base/read_file.h"
#include "target/toml_table.h"
#include "target/toml_text.h"

namespace mt {
namespace {

// The fields of the vocabulary: subject, value, code, text.
struct Shape {
    const char *subject, *value, *code, *text;
};
Shape shape_of(OsKind kind) {
    switch (kind) {
        case OsKind::task_create:
            return {"task", "priority", nullptr, "name"};
        case OsKind::object_name:
            return {"id", nullptr, "kind", "name"};
        case OsKind::task_switch_in:
        case OsKind::task_ready:
            return {"task", nullptr, nullptr, nullptr};
        case OsKind::task_block:
            return {"task", "object", "reason", nullptr};
        case OsKind::task_priority:
            return {"task", "priority", nullptr, nullptr};
        case OsKind::isr_enter:
        case OsKind::isr_exit:
            return {"number", nullptr, nullptr, nullptr};
        case OsKind::mutex_take:
        case OsKind::mutex_take_blocked:
        case OsKind::mutex_give:
        case OsKind::sem_give:
        case OsKind::sem_take:
            return {"object", nullptr, nullptr, nullptr};
        case OsKind::queue_send:
        case OsKind::queue_receive:
        case OsKind::queue_send_failed:
            return {"object", "fill", nullptr, nullptr};
        case OsKind::marker:
            return {"port", "value", nullptr, nullptr};
        case OsKind::signal:
            return {"id", "value", nullptr, nullptr};
        case OsKind::fault:
            return {nullptr, "pc", nullptr, "kind"};
        default:
            return {nullptr, nullptr, nullptr, nullptr};
    }
}

// May be left out without harm.
bool may_lack(OsKind kind, std::string_view field) {
    return field == "priority" || field == "fill" || field == "pc" || (kind == OsKind::fault && field == "kind") ||
           (kind == OsKind::task_block && (field == "reason" || field == "object"));
}

std::uint8_t code_of(OsKind kind, std::string_view word) {
    if (kind == OsKind::task_block) {
        for (std::uint8_t i = 0; i < 7; ++i)
            if (block_reason_name(static_cast<BlockReason>(i)) == word) return i;
        return static_cast<std::uint8_t>(BlockReason::other);
    }
    for (std::uint8_t i = 0; i < 7; ++i)
        if (object_kind_name(static_cast<ObjectKind>(i)) == word) return i;
    return static_cast<std::uint8_t>(ObjectKind::other);
}

const CtfType* field_type(const CtfEventClass& event, const std::string& path) {
    for (const CtfType* root : {&event.payload, &event.context}) {
        const CtfType* in = root;
        std::istringstream words(path);
        for (std::string word; in != nullptr && std::getline(words, word, '.');) {
            const CtfType* next = nullptr;
            for (const auto& f : in->fields)
                if (f.name == word || f.name == "_" + word) next = &f.type;
            in = next;
        }
        if (in != nullptr && in != root) return in;
    }
    return nullptr;
}

OsKind kind_named(std::string_view name) {
    for (std::size_t i = 0; i < static_cast<std::size_t>(OsKind::other); ++i)
        if (os_kind_name(static_cast<OsKind>(i)) == name) return static_cast<OsKind>(i);
    return OsKind::other;
}

}  // namespace

OsBinding::OsBinding(std::shared_ptr<const CtfMetadata> metadata, const OsMapping* mapping)
    : metadata_(std::move(metadata)) {
    if (mapping != nullptr) idle_names_ = mapping->idle_names;
    for (const auto& event : metadata_->events) {
        Bound bound;
        const OsMapping::Event* mapped = nullptr;
        if (mapping != nullptr)
            for (const auto& e : mapping->events)
                if (e.name == event.name) mapped = &e;
        const std::string is = mapped != nullptr ? mapped->is : event.name;
        if (kind_named(is) != OsKind::other && bind(event, is, mapped, bound))
            ++known_;
        else
            bound = Bound{};
        if (bound.kind == OsKind::other) {  // its first number is what it tells
            const auto first =
                std::find_if(event.payload.fields.begin(), event.payload.fields.end(), [](const CtfField& f) {
                    return f.type.kind == CtfType::Kind::integer || f.type.kind == CtfType::Kind::varint;
                });
            if (first != event.payload.fields.end()) bound.value.slot = first->type.slot;
        }
        bound_.push_back(std::move(bound));
    }
}

bool OsBinding::idle_name(const std::string& name) const {
    return std::find(idle_names_.begin(), idle_names_.end(), name) != idle_names_.end();
}

bool OsBinding::bind(const CtfEventClass& event, const std::string& is, const OsMapping::Event* mapping, Bound& out) {
    out.kind = kind_named(is);
    const Shape shape = shape_of(out.kind);
    const auto source = [&](const char* field, Source& into) -> bool {
        if (field == nullptr) return true;
        std::string name = field;
        if (mapping != nullptr) {
            if (const auto c = mapping->constants.find(field); c != mapping->constants.end()) {
                into.constant = c->second;
                return true;
            }
            if (const auto f = mapping->fields.find(field); f != mapping->fields.end()) name = f->second;
        }
        const CtfType* t = field_type(event, name);
        using Kind = CtfType::Kind;
        const bool number = t != nullptr && (t->kind == Kind::integer || t->kind == Kind::varint);
        const bool words = t != nullptr && (t->kind == Kind::string || t->text);
        if (!number && !words) {
            if (may_lack(out.kind, field)) return true;
            warnings_.push_back("Event '" + event.name + "' has no usable field '" + name +
                                "': it is shown as a mark.");
            return false;
        }
        into.slot = t->slot;
        into.text = words;
        if (&into == &out.text) out.label_type = number ? t : nullptr;
        return true;
    };
    if (!source(shape.subject, out.subject) || !source(shape.value, out.value) || !source(shape.text, out.text))
        return false;
    if (out.kind == OsKind::fault && !source("address", out.address)) out.address = {};
    if (shape.code != nullptr) {
        if (mapping != nullptr && !mapping->word.empty()) {
            out.code.constant = code_of(out.kind, mapping->word);
        } else {
            if (!source(shape.code, out.code)) return false;
            if (out.code.slot < 0) out.code.constant = 7;
            std::string name = shape.code;
            if (mapping != nullptr)
                if (const auto f = mapping->fields.find(name); f != mapping->fields.end()) name = f->second;
            const CtfType* t = field_type(event, name);
            const auto add = [&](std::int64_t value, std::uint8_t code) {
                if (value >= 0 && value < 256) {
                    if (out.code.small_codes.size() <= static_cast<std::size_t>(value))
                        out.code.small_codes.resize(static_cast<std::size_t>(value) + 1, 7);
                    out.code.small_codes[static_cast<std::size_t>(value)] = code;
                } else {
                    out.code.codes[value] = code;
                }
            };
            if (t != nullptr)
                for (const auto& label : t->labels) {
                    std::string word = label.name;
                    if (mapping != nullptr)
                        if (const auto w = mapping->labels.find(word); w != mapping->labels.end()) word = w->second;
                    for (const auto& r : label.ranges)
                        for (std::int64_t v = r.low; v <= r.high && v - r.low < 64; ++v)
                            add(v, code_of(out.kind, word));
                }
            if (mapping != nullptr)
                for (const auto& [value, word] : mapping->labels)
                    if (!value.empty() && value.find_first_not_of("-0123456789") == std::string::npos)
                        add(std::strtoll(value.c_str(), nullptr, 10), code_of(out.kind, word));
        }
    }
    return true;
}

// A number, or the number that stands for a name; a name met for the first time is announced.
std::int64_t OsBinding::read(const CtfCursor& cursor, const Source& from, OsBlock* names, const OsEvent& event) const {
    if (from.slot < 0) return from.constant;
    if (!from.text) return cursor.slot(from.slot);
    const std::string_view name = cursor.text(from.slot);
    const std::lock_guard lock(names_lock_);
    auto found = names_.find(name);
    if (found == names_.end()) {
        found = names_.emplace(std::string(name), static_cast<std::uint32_t>(names_.size() + 1)).first;
        if (names != nullptr) {
            OsEvent created = event;
            created.kind = OsKind::task_create;
            created.subject = found->second;
            names->texts.emplace_back(name);
            created.code = 0;
            created.announced = true;
            created.value = text_and_priority(names->texts.size() - 1, kNoPriority);
            names->events.push_back(created);
        }
    }
    return found->second;
}

std::uint8_t OsBinding::code(const CtfCursor& cursor, const Source& from) {
    if (from.slot < 0) return static_cast<std::uint8_t>(from.constant);
    if (from.text) return 7;
    const std::int64_t v = cursor.slot(from.slot);
    if (v >= 0 && static_cast<std::size_t>(v) < from.small_codes.size())
        return from.small_codes[static_cast<std::size_t>(v)];
    const auto found = from.codes.find(v);
    return found == from.codes.end() ? 7 : found->second;
}

void OsBinding::take(const CtfCursor& cursor, Time time, std::uint16_t core, OsBlock& out) const {
    const Bound& b = bound_[cursor.event_class()];
    OsEvent e;
    e.time = time;
    e.offset = cursor.event_offset();
    e.core = core;
    e.kind = b.kind;
    if (b.kind == OsKind::other) {
        e.subject = static_cast<std::uint32_t>(cursor.event_class());
        e.value = b.value.slot >= 0 ? cursor.slot(b.value.slot) : 0;
        out.events.push_back(e);
        return;
    }
    e.subject = static_cast<std::uint32_t>(read(cursor, b.subject, &out, e));
    e.value = read(cursor, b.value, nullptr, e);
    e.code = code(cursor, b.code);
    if (b.kind == OsKind::task_create || b.kind == OsKind::object_name) {
        out.texts.emplace_back(b.text.slot >= 0 && b.text.text ? std::string(cursor.text(b.text.slot)) : std::string());
        const bool stated = b.value.slot >= 0 || b.value.constant != 0;
        e.value = text_and_priority(out.texts.size() - 1, stated ? static_cast<std::int32_t>(e.value) : kNoPriority);
    } else if (b.kind == OsKind::fault) {
        OsFault fault;
        fault.pc = static_cast<std::uint64_t>(e.value);
        fault.address = static_cast<std::uint64_t>(read(cursor, b.address, nullptr, e));
        if (b.text.slot >= 0)
            fault.kind = b.text.text               ? std::string(cursor.text(b.text.slot))
                         : b.label_type != nullptr ? ctf_label(*b.label_type, cursor.slot(b.text.slot))
                                                   : std::string();
        e.value = static_cast<std::int64_t>(out.faults.size());
        out.faults.push_back(std::move(fault));
    }
    out.events.push_back(e);
}

Result<OsMapping> parse_os_mapping(std::string_view text, const std::string& path) {
    auto parsed = parse_toml(text, path);
    if (!parsed) return tl::make_unexpected(parsed.error());
    const toml::table& root = *parsed;
    std::optional<Problem> problem;
    OsMapping mapping;
    TomlTable top(root, "the file", path, problem);
    top.text("format", true, {"mindful-trail-mapping/1"});
    mapping.idle_names = top.list_of_text("idle");
    if (const toml::array* list = top.tables("event", true))
        for (const auto& node : *list) {
            const toml::table& table = *node.as_table();
            TomlTable t(table, "[[event]]", path, problem);
            OsMapping::Event e;
            e.name = t.text("name", true);
            e.is = t.text("is", true);
            if (!problem && kind_named(e.is) == OsKind::other)
                t.fail("key 'is' names '" + e.is + "', which the vocabulary does not have", t.line(),
                       "see docs/formats/os-events.md for its events");
            if (problem) return tl::make_unexpected(*problem);
            for (const auto& [key, value] : table) {
                const std::string k(key.str());
                if (k == "name" || k == "is") continue;
                if (const auto* labels = value.as_table()) {
                    for (const auto& [from, to] : *labels)
                        if (const auto word = to.value<std::string>()) e.labels[std::string(from.str())] = *word;
                } else if (const auto number = value.value_exact<std::int64_t>()) {
                    e.constants[k] = *number;
                } else if (const auto word = value.value_exact<std::string>()) {
                    if ((k == "reason" || k == "kind") && word->rfind("=", 0) == 0)
                        e.word = word->substr(1);
                    else
                        e.fields[k] = *word;
                } else {
                    return failure("key '" + k + "' in [[event]] is neither a field's name nor a number",
                                   path + ":" + std::to_string(t.line()), "give the name of the trace's field");
                }
            }
            mapping.events.push_back(std::move(e));
        }
    if (problem) return tl::make_unexpected(*problem);
    return mapping;
}

Result<OsMapping> read_os_mapping(const std::string& path) {
    const auto text = read_small_file(path, 4'000'000, "mapping file");
    if (!text) return tl::make_unexpected(text.error());
    return parse_os_mapping(*text, path);
}

}  // namespace mt
