// A Common Trace Format folder, opened: metadata, data streams, and where their packets lie.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/mapped_file.h"
#include "base/problem.h"
#include "base/progress.h"
#include "flow/os_binding.h"
#include "wire/ctf_packets.h"

namespace mt {

/// Immutable once opened; any thread may read.
struct EventSource {
    struct Damage {
        std::uint64_t offset = 0, length = 0;
        std::string why;
    };
    struct File {
        std::string path;
        std::shared_ptr<const MappedFile> file;
        std::vector<CtfPacket> packets;  ///< in the file's order
        std::vector<Damage> damage;      ///< bytes that are no packet
    };
    std::string folder;
    std::size_t spec = 0;  ///< index into the target's streams
    std::shared_ptr<const CtfMetadata> metadata;
    std::shared_ptr<const OsBinding> binding;
    std::vector<File> files;
    std::map<std::uint64_t, std::uint16_t> core_of_cpu;  ///< to the index of the target's core
    std::int64_t zero_ticks = 0;                         ///< what the clock reads at the recording's zero
    std::uint64_t clock_hz = 1'000'000'000;
    std::vector<std::string> doubts;

    /// The time of a clock value of stream class `stream`; before the zero it is negative.
    Time at(std::size_t stream, std::int64_t ticks) const;
    std::uint16_t core_of(const CtfPacket& packet) const {
        const auto found = core_of_cpu.find(packet.cpu);
        return found != core_of_cpu.end() ? found->second : std::uint16_t{0};
    }
    std::uint64_t bytes() const;
};

/// True if the folder holds a trace: a file named `metadata`.
bool is_ctf_folder(const std::string& folder);

/// Opens metadata and all data streams and lists their packets. Files that hold no packet of this trace are a doubt.
/// `mapping`: path of a mapping file, or empty.
Result<std::shared_ptr<EventSource>> open_event_source(const std::string& folder, const std::string& mapping);

/// Events of one packet, in order; times never run backwards from `reached`, which is moved on. What cannot be read
/// ends in an event of kind `lost`. Returns how many times stepped backwards.
std::uint64_t read_ctf_packet(const EventSource& source, std::size_t file, const CtfPacket& packet, CtfCursor& cursor,
                              Time& reached, OsBlock& out, const char*& trouble);

}  // namespace mt
