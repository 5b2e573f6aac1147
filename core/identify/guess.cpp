#include "identify/guess.h"

namespace mt {

std::string Guess::name() const {
    std::string text = readable() ? std::string(protocol_title(stream.protocol)) : known_as;
    if (stream.framing == Framing::tpiu) text += " in formatter frames, ID " + std::to_string(stream.trace_id);
    return text;
}

}  // namespace mt
