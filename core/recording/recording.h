// What was recorded: target file, streams, images and names, opened but not yet decoded; and the saved
// recording folder (docs/formats/recording-folder.md).
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/mapped_file.h"
#include "base/problem.h"
#include "base/progress.h"
#include "base/scratch.h"
#include "capture/journal.h"
#include "model/trail.h"
#include "recording/event_source.h"
#include "target/exception_names.h"
#include "target/functions.h"
#include "target/image.h"
#include "target/inlines.h"
#include "target/source_map.h"
#include "target/target_file.h"

namespace mt {

/// Immutable once opened; any thread may read.
struct Recording {
    std::string input;   ///< the path that was opened
    std::string inside;  ///< the recording folder that its files must lie in; empty if they may lie anywhere
    std::string title;
    TargetFile target;
    struct Stream {
        std::size_t spec = 0;  ///< index into target.streams
        std::size_t core = 0;  ///< index into target.cores
        std::string path;
        std::shared_ptr<const MappedFile> file;  ///< null while nothing was recorded yet
        StreamJournal journal;                   ///< of a recorded stream; not present for any other

        std::span<const std::uint8_t> bytes() const { return file ? file->bytes() : std::span<const std::uint8_t>(); }
    };
    std::vector<Stream> streams;                                   ///< ITM
    std::vector<Stream> step_streams;                              ///< instruction trace
    std::vector<Stream> sample_streams;                            ///< samples of other devices, whose `core` says nothing; polled values
    std::shared_ptr<const EventSource> events;                     ///< events of an operating system; may be null
    std::shared_ptr<EventSource> live_events;                      ///< the same, while it is being recorded
    std::vector<std::shared_ptr<const Image>> images;              ///< per core; may be null
    std::vector<std::vector<ProcessImage>> processes;              ///< per core: programs that processes see beside it
    std::vector<std::map<unsigned, std::string>> exception_names;  ///< per core
    std::vector<std::map<std::uint64_t, std::string>> task_names;  ///< per core, from an ORTI file
    std::vector<std::shared_ptr<const Code>> code;                 ///< per core; null without an image
    std::vector<std::shared_ptr<const FunctionTable>> functions;   ///< the same
    std::vector<std::shared_ptr<const InlineTable>> inlines;       ///< per core; null where no instructions are traced
    std::vector<Doubt> doubts;                                     ///< what could not be used, and what to do
    std::shared_ptr<const ScratchFolder> unpacked;                 ///< where it lies, if it came packed

    /// Source file and line of an instruction, by its slot in the core's code; nullopt where its image does not tell.
    std::optional<SourceLine> line_of(std::size_t core, std::uint32_t slot) const;
    /// The same of all at once. REQUIRES: the core has an image and `code`, which is of it. Goes over all code: do it on a worker.
    std::shared_ptr<const SourceMap> source_map(std::size_t core, const Code& code) const;
    /// The slots of a place that a person names, as Image::address_of takes it, in the core's own image and in those of
    /// processes; a Problem if none of them has it, or no code there. REQUIRES: the core has code.
    Result<std::vector<std::uint32_t>> slots_of(std::size_t core, const std::string& place) const;
    /// `number`: a code of ExceptionId.
    std::string exception_name(std::size_t core, unsigned number) const;
};

/// Opens a target file, a saved recording folder, the folder of a Common Trace Format trace, or one of these packed as
/// tar. Missing image or SVD: a doubt, numbers stand in place of names. Missing, empty or unreadable stream: a Problem.
/// `draft`: what the target file shall say instead of what stands in it.
Result<std::shared_ptr<const Recording>> open_recording(const std::string& path,
                                                        const std::optional<std::string>& draft = std::nullopt);

/// Opens what a recording is made with: target file, images, names, but none of its streams.
/// `inside`: a folder that no path may lead out of; empty: none. `draft`: as above.
Result<std::shared_ptr<Recording>> open_without_streams(const std::string& target_path, const std::string& inside = {},
                                                        const std::optional<std::string>& draft = std::nullopt);

/// Where the data of a CTF stream lies, as the target file says; with the mapping file in the usual place beside it.
EventPlace event_place(const StreamSpec& spec);

/// For a recording that is being made: the events of one of its streams, which come in the file `path`. Its zero is
/// settled by the first packet, unless the target file says it. `port`: they come through this port of the stream.
Result<void> follow_events(Recording& recording, std::size_t stream, const std::string& path,
                           const PortSpec* port = nullptr);

/// Saves a copy of everything the recording was made from, so that the folder opens without the
/// originals. Refuses a path that exists unless `replace` is set and it is a recording folder. Written
/// beside the place and moved there when whole: a failure leaves what was there before.
Result<void> save_recording(const Recording& recording, const std::string& folder, bool replace, Progress& progress);

}  // namespace mt
