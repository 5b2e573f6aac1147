// Changes to the text of a target file that leave remarks and the order of keys as they were.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"

namespace mt {

/// One key of one table gets a value, or goes.
struct KeyChange {
    std::string table;  ///< "" for what stands in no table; "core", "stream", "stream.itm", …
    std::size_t index =
        0;            ///< which of the tables of that name, as [[core]] and [[stream]]; one behind the last: a new one
    std::string key;  ///< empty: the whole table goes, where `value` is empty too
    std::string value;  ///< as TOML: 25000000, "main.elf", ["a", "b"]; empty: the key goes
    bool operator==(const KeyChange&) const = default;
};

/// A way to set right what is doubtful: what a person is offered, and what it changes in the target file.
struct Mend {
    /// What has to be asked before it can be done; the answer is the value of the last change.
    enum class Asks : std::uint8_t { nothing, image, stream_file, number, text };
    std::string label;  ///< "Set timestamp_prescaler to 16"
    std::vector<KeyChange> changes;
    Asks asks = Asks::nothing;
};

/// The text with the changes made, one after another. What cannot be changed in place is written anew, without its
/// remarks. A Problem if the text is no TOML, a table is not there, or a value is none.
Result<std::string> changed_target(std::string_view text, const std::vector<KeyChange>& changes);

/// How many tables of a name there are: [[core]], [[stream]], …; of a table inside of [[stream]], whether it is in that
/// number. None if the text is no TOML.
std::size_t count_tables(std::string_view text, const std::string& table, std::size_t index = 0);
/// What a key says, as TOML; empty if it is not there.
std::string stated_value(std::string_view text, const std::string& table, std::size_t index, const std::string& key);

/// `text` as a TOML string, with its quotes.
std::string toml_quoted(std::string_view text);
/// The other way round: what a TOML string says; the value as it is written if it is no string.
std::string toml_unquoted(const std::string& value);

}  // namespace mt
