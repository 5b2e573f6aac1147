// The journal of a stream that was recorded: what happened to it besides its bytes. It stands beside the
// stream as <name>.journal, one JSON object a line, appended while recording (docs/formats/recording-folder.md).
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/problem.h"

namespace mt {

/// What a journal says. Plain data.
struct StreamJournal {
    /// A place where bytes are missing because nothing was received.
    struct Break {
        std::uint64_t offset = 0;
        std::string reason;
        double missing_s = -1;  ///< by the recording computer's clock; negative if nothing came after it
    };
    /// A moment that a person marked while recording.
    struct Note {
        std::uint64_t offset = 0;  ///< bytes received by then
        std::string text;
    };
    bool present = false;
    std::string source;         ///< "tcp 127.0.0.1:3344"
    std::string started;        ///< date and time, ISO 8601
    std::uint64_t waited = 0;   ///< bytes that had waited on the line when recording began: not part of it
    std::uint64_t first = 0;    ///< bytes before this offset were given up to keep the newest
    double after_s = 0;         ///< how long after the recording's start this stream's first byte came
    double after_slack_s = 0;   ///< how wrong that may be
    std::vector<Break> breaks;  ///< ascending in offset
    std::vector<Note> notes;
    double lasted_s = 0;        ///< from the start to the end, by the recording computer's clock; 0: not told
    bool ended = false;         ///< false: the recorder was killed, or still runs
    std::string end_reason;     ///< "stopped by hand"
    std::uint64_t unsaved = 0;  ///< bytes that came but could not be written
    unsigned halts = 0;         ///< how often the target was halted only to be read …
    double halted_s = 0;        ///< … and for how long altogether
};

/// Reads a journal; a missing file gives one that is not present. Lines that are no such object (torn by a
/// crash, damaged) are passed over. Offsets that do not ascend are left out.
StreamJournal read_journal(const std::string& path);

/// Appends to a journal. Room for the last lines is set aside at the start, so that a full disk can still
/// be told of. One thread at a time.
class JournalWriter {
  public:
    JournalWriter() = default;
    ~JournalWriter();
    JournalWriter(const JournalWriter&) = delete;
    JournalWriter& operator=(const JournalWriter&) = delete;

    Result<void> open(const std::string& path);
    void started(const std::string& source, const std::string& when);
    void first_byte(double after_s, double slack_s);
    void waited(std::uint64_t bytes);
    void lost(std::uint64_t offset, const std::string& reason);
    void resumed(std::uint64_t offset, double missing_s);
    void dropped(std::uint64_t first);
    void note(std::uint64_t offset, const std::string& text);
    void halted(unsigned times, double seconds);
    void ended(std::uint64_t offset, const std::string& reason, std::uint64_t unsaved, double lasted_s);

  private:
    void line(const std::string& text);
    int file_ = -1;
    std::uint64_t at_ = 0;
};

}  // namespace mt
