// The seam to the outside: whatever trace bytes come from looks like this to the rest.
#pragma once

#include <chrono>
#include <cstdint>
#include <memory>
#include <span>
#include <string>

#include "base/problem.h"

namespace mt {

/// A stream of trace bytes. Used by one thread at a time; `read` is called again and again.
class Source {
  public:
    using Milliseconds = std::chrono::milliseconds;
    virtual ~Source() = default;

    /// Puts bytes into `into` and says how many; 0 if none came within `patience`. A Problem means that
    /// the source is gone: it may be opened anew.
    virtual Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience) = 0;
    /// Bytes that the source itself knows it lost since the last call.
    virtual std::uint64_t lost() { return 0; }
    /// Why a part of the stream is missing between the bytes given last and those before; empty if nothing is.
    virtual std::string gap() { return {}; }
    /// Of the bytes that it gives first, how many were there before it was looked at; known once it gave some.
    virtual std::uint64_t old_bytes() const { return 0; }
    /// True once no more bytes will come, as planned (a dump has been read to its end).
    virtual bool exhausted() const { return false; }
    /// What the source waits for before bytes can come; empty if for nothing.
    virtual std::string waiting_for() const { return {}; }
    /// Whether something can be sent the other way.
    virtual bool writable() const { return false; }
    virtual Result<void> write(std::span<const std::uint8_t> /*bytes*/) { return failure("nothing can be sent there"); }
    /// How full the buffer on the target's side is, 0 to 1; negative where there is none.
    virtual double fill() const { return -1; }
};

/// What a stream comes from, as a recipe says it.
struct SourceSpec {
    enum class Kind : std::uint8_t { tcp, serial, file, ring, dump, buffer, console, poll };
    Kind kind = Kind::tcp;
    std::string address;     ///< tcp: HOST:PORT; serial: the device; file: its path
    std::uint64_t baud = 0;  ///< serial
    std::string symbol;      ///< ring and dump: where it begins in the target's memory …
    std::uint64_t at = 0;    ///< … or its address, if there is no symbol
    std::uint64_t size = 0;  ///< dump: bytes; 0 = the symbol's size
    unsigned every_ms = 20;  ///< ring, buffer: how often it is emptied; buffer: 0 for once, at the end

    /// "tcp 127.0.0.1:3344", for people and journals.
    std::string text() const;
};

/// Opens a source that needs no debug server (tcp, serial, file).
Result<std::unique_ptr<Source>> open_source(const SourceSpec& spec, Source::Milliseconds patience);

}  // namespace mt
