// Every key that a target file may have, as a person is asked for it.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace mt {

struct TargetKey {
    enum class Kind : std::uint8_t {
        text,
        number,  ///< whole, from `least` to `most`
        flag,
        choice,  ///< one of `choices`
        file,    ///< a path
        files,   ///< a path, or a list of them
        list,    ///< of words
        names,   ///< numbers and what they stand for
        mark,    ///< a port and a value
        event,   ///< what happens to whom
        real,    ///< with a fraction or without
        tables   ///< a list of tables, as TOML
    };
    std::string_view table;  ///< "" for the file itself; "core", "stream", "stream.itm", …, "watch", "port", "task"
    std::string_view key;
    Kind kind = Kind::text;
    std::string_view meaning;       ///< a sentence, without its full stop
    std::string_view unit = {};     ///< "Hz"
    std::string_view usual = {};    ///< what counts where it is not stated
    std::string_view choices = {};  ///< words, a space between them
    std::int64_t least = 0, most = 0;
    bool required = false;
};

/// All of them, in the order in which they are asked for.
std::span<const TargetKey> target_keys();
/// Those of a table.
std::vector<const TargetKey*> target_keys_of(std::string_view table);
/// The names of tables inside of [[stream]] that a protocol has: "stream.itm", "stream.line".
std::vector<std::string_view> stream_tables_of(std::string_view protocol);

}  // namespace mt
