#include "pass/port_text.h"

namespace mt {

PortText::PortText(const Recording& recording, Trail& trail, std::size_t core) : trail_(trail) {
    log_of_.fill(-1);
    first_ = trail.texts.size();
    bool zero_is_known = false;
    const auto add = [&](unsigned port, std::string name, bool stated) {
        TextLog log;
        log.core = static_cast<std::uint16_t>(core);
        log.port = port;
        log.name = name.empty() ? "port " + std::to_string(port) : std::move(name);
        log.stated = stated;
        log_of_[port] = static_cast<std::int16_t>(trail.texts.size());
        trail.texts.push_back(std::move(log));
    };
    for (const PortSpec& p : recording.target.ports) {
        zero_is_known = zero_is_known || p.number == 0;
        if (p.kind == "text" && p.number < log_of_.size() && log_of_[p.number] < 0) add(p.number, p.name, true);
    }
    if (!zero_is_known) add(0, {}, false);
    end_ = trail.texts.size();
}

void PortText::take(std::size_t index, std::uint64_t value, unsigned size, Time t) {
    TextLog& log = trail_.texts[index];
    if (!log.stated && size != 1) {  // numbers, not text
        log_of_[log.port] = -1;
        log.lines = {};
        log.bytes = {};
        log.open = {};
        return;
    }
    for (unsigned i = 0; i < size; ++i) {
        const auto byte = static_cast<char>(value >> (8 * i) & 0xFF);
        if (byte == 0 && size > 1) break;  // a word that is not full
        log.put(byte, t);
    }
}

void PortText::lose() {
    for (std::size_t i = first_; i < end_; ++i) trail_.texts[i].lose();
}

}  // namespace mt
