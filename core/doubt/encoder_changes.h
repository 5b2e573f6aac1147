// What the settings of a stream of instruction trace might be instead: one parameter at a time.
#pragma once

#include <functional>
#include <string>

#include "target/target_file.h"

namespace mt {

/// The changed settings, the parameter as the target file names it, and its value before and now.
using Change =
    std::function<void(const StreamSpec&, const char* name, const std::string& stated, const std::string& fits)>;
/// Calls `change` with every parameter of the encoder stated otherwise, one at a time.
void each_encoder_change(const StreamSpec& spec, const Change& change);
/// The same, and other framings and trace IDs.
void each_change(const StreamSpec& spec, const Change& change);

}  // namespace mt
