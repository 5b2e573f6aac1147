// From the event records of a trace to operating-system events: by names of events and fields, never by numbers.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "base/problem.h"
#include "flow/os_events.h"
#include "wire/ctf_packets.h"

namespace mt {

/// A mapping file: which events and fields of another vocabulary mean what (docs/formats/mapping-file.md).
struct OsMapping {
    struct Event {
        std::string name, is;                           ///< the trace's event; the vocabulary's
        std::map<std::string, std::string> fields;      ///< vocabulary's field to the trace's field
        std::map<std::string, std::int64_t> constants;  ///< vocabulary's field to a number
        std::map<std::string, std::string> labels;      ///< value of the field "reason" or "kind" to its word
        std::string word;                               ///< "reason" or "kind", if it is always the same
    };
    std::vector<Event> events;
    std::vector<std::string> idle_names;  ///< names of tasks that are idle
};
Result<OsMapping> read_os_mapping(const std::string& path);
Result<OsMapping> parse_os_mapping(std::string_view text, const std::string& path);

/// Immutable but for names met while reading; any thread may read.
class OsBinding {
  public:
    OsBinding(std::shared_ptr<const CtfMetadata> metadata, const OsMapping* mapping = nullptr);

    /// The kind that events of a class have.
    OsKind kind_of(std::size_t event_class) const { return bound_[event_class].kind; }
    /// How many event classes belong to the vocabulary.
    std::size_t known() const { return known_; }
    /// Sentences about events that have a name of the vocabulary but lack its fields.
    const std::vector<std::string>& warnings() const { return warnings_; }
    bool idle_name(const std::string& name) const;

    /// Appends what the event that the cursor stands on says; `time` and `core` are the caller's.
    void take(const CtfCursor& cursor, Time time, std::uint16_t core, OsBlock& out) const;

  private:
    struct Source {
        int slot = -1;
        bool text = false;  ///< the field is a text: names stand for numbers
        std::int64_t constant = 0;
        std::map<std::int64_t, std::uint8_t> codes;
        std::vector<std::uint8_t> small_codes;  ///< of values from 0 on
    };
    struct Bound {
        OsKind kind = OsKind::other;
        Source subject, value, code, text, address;
        const CtfType* label_type = nullptr;
    };
    bool bind(const CtfEventClass& event, const std::string& is, const OsMapping::Event* mapping, Bound& out);
    std::int64_t read(const CtfCursor& cursor, const Source& from, OsBlock* names, const OsEvent& event) const;
    static std::uint8_t code(const CtfCursor& cursor, const Source& from);

    std::shared_ptr<const CtfMetadata> metadata_;
    std::vector<Bound> bound_;
    std::size_t known_ = 0;
    std::vector<std::string> warnings_, idle_names_;
    mutable std::mutex names_lock_;
    mutable std::map<std::string, std::uint32_t, std::less<>> names_;
};

}  // namespace mt
