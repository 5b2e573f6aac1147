#include "model/text_log.h"

namespace mt {

std::string TextLog::raw(std::size_t i) const {
    const TextLine l = line(i);
    std::string text;
    text.reserve(l.length);
    for (std::uint64_t b = l.at; b < l.at + l.length; ++b) text += bytes[static_cast<std::size_t>(b)];
    return text;
}

std::size_t TextLog::first_from(Time t) const {
    const std::size_t whole = lines.partition_point([t](const TextLine& l) { return l.begin < t; });
    return whole == lines.size() && open.length > 0 && open.begin < t ? size() : whole;
}

void TextLog::end_line() {
    lines.push_back(open);
    open = {};
}

void TextLog::put(char byte, Time t) {
    const auto code = static_cast<unsigned char>(byte);
    printable += code >= 0x20 || (code >= 0x09 && code <= 0x0D) ? 1 : 0;
    if (byte == '\r') return;
    if (byte == '\n') {
        if (open.length == 0) open.begin = t;
        if (open.length == 0) open.at = bytes.size();
        end_line();
        return;
    }
    if (open.length == kLongest) {
        open.flags |= TextLine::kCut;
        end_line();
    }
    if (open.length == 0) {
        open.begin = t;
        open.at = bytes.size();
    }
    bytes.push_back(byte);
    ++open.length;
}

}  // namespace mt
