// What the firmware printed through its ports, line by line. Columns only, so that a copy is a snapshot (see trail.h).
#pragma once

#include <cstdint>
#include <string>

#include "base/column.h"
#include "base/time.h"

namespace mt {

struct TextLine {
    enum Flag : std::uint8_t {
        kTorn = 1,  ///< packets were lost between its bytes: some may be missing
        kCut = 2    ///< it was too long: what follows stands in the next one
    };
    Time begin;                ///< of its first byte
    std::uint64_t at = 0;      ///< of its first byte in the log's bytes
    std::uint32_t length = 0;  ///< in bytes, without the line's end
    std::uint8_t flags = 0;
};

/// One port of a core, or its console.
struct TextLog {
    static constexpr unsigned kConsole = ~0u;  ///< no port: what a console showed
    std::uint16_t core = 0;
    unsigned port = 0;
    std::string name;
    bool stated = false;  ///< the target file says that it is text; else it looks like it
    Column<char> bytes;
    Column<TextLine> lines;       ///< whole ones
    TextLine open;                ///< what came since the last end of a line; empty: nothing
    std::uint64_t printable = 0;  ///< how many bytes are text: printable, or the end of a line

    /// Whole lines, and the one that has no end yet.
    std::size_t size() const { return lines.size() + (open.length > 0 ? 1 : 0); }
    TextLine line(std::size_t i) const { return i < lines.size() ? lines[i] : open; }
    /// As the firmware printed it; control characters and all.
    std::string raw(std::size_t i) const;
    /// Index of the first line that begins at or after `t`.
    std::size_t first_from(Time t) const;
    /// A port that nobody described counts as text while nine of ten bytes are.
    bool is_text() const { return size() > 0 && (stated || printable * 10 >= bytes.size() * 9); }

    static constexpr std::uint32_t kLongest = 4096;  ///< bytes of a line
    /// One more byte.
    void put(char byte, Time t);
    /// Packets are missing from here on.
    void lose() { open.flags |= open.length > 0 ? TextLine::kTorn : 0; }

  private:
    void end_line();
};

}  // namespace mt
