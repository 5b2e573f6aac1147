#include "doubt/encoder_changes.h"

#include <vector>

namespace mt {
namespace {

// One parameter, and what else it might be.
struct Knob {
    const char* name;
    std::function<unsigned&(StreamSpec&)> at;
    std::vector<unsigned> values;
};
struct Switch {
    const char* name;
    std::function<bool&(StreamSpec&)> at;
    const char *on = "true", *off = "false";
};

std::vector<Knob> knobs_of(Protocol protocol) {
    switch (protocol) {
        case Protocol::etrace:
            return {
                {"iaddress_width",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.iaddress_width; },
                 {32, 39, 48, 64}},
                {"iaddress_lsb", [](StreamSpec& s) -> unsigned& { return s.etrace.iaddress_lsb; }, {1, 2}},
                {"privilege_width", [](StreamSpec& s) -> unsigned& { return s.etrace.privilege_width; }, {1, 2, 3}},
                {"ecause_width", [](StreamSpec& s) -> unsigned& { return s.etrace.ecause_width; }, {3, 4, 5, 6, 7, 8}},
                {"time_width", [](StreamSpec& s) -> unsigned& { return s.etrace.time_width; }, {0, 32, 40, 48, 56, 64}},
                {"context_width", [](StreamSpec& s) -> unsigned& { return s.etrace.context_width; }, {0, 1, 8, 16, 32}},
                {"return_stack_size",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.return_stack_size; },
                 {0, 1, 2, 3, 4, 5, 6, 7, 8}},
                {"call_counter_size",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.call_counter_size; },
                 {0, 1, 2, 3, 4, 5, 6, 7, 8}},
                {"encoder_mode_width", [](StreamSpec& s) -> unsigned& { return s.etrace.encoder_mode_width; }, {1, 2}},
                {"cache_size", [](StreamSpec& s) -> unsigned& { return s.etrace.cache_size; }, {0, 4, 5, 6, 7, 8}},
                {"bpred_size", [](StreamSpec& s) -> unsigned& { return s.etrace.bpred_size; }, {0, 4, 5, 6, 7, 8, 9}},
                {"f0s_width", [](StreamSpec& s) -> unsigned& { return s.etrace.f0s_width; }, {0, 1, 2}},
                {"src_id_bits",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.src_id_bits; },
                 {0, 1, 2, 3, 4, 5, 6, 7, 8}},
            };
        case Protocol::ntrace:
            return {{"src_bits",
                     [](StreamSpec& s) -> unsigned& { return s.ntrace.src_bits; },
                     {0, 1, 2, 3, 4, 5, 6, 7, 8, 10, 12}}};
        case Protocol::etm4:
            return {
                {"context_id_bytes", [](StreamSpec& s) -> unsigned& { return s.etm4.context_id_bytes; }, {0, 4}},
                {"trcidr2, bytes of VMIDSIZE,",
                 [](StreamSpec& s) -> unsigned& { return s.etm4.virtual_id_bytes; },
                 {0, 1, 2, 4}},
                {"trcidr8", [](StreamSpec& s) -> unsigned& { return s.etm4.max_speculation; }, {0, 1, 4, 8, 16}},
            };
        case Protocol::pft:
            return {{"context_id_bytes", [](StreamSpec& s) -> unsigned& { return s.pft.context_id_bytes; }, {0, 1, 2, 4}}};
        case Protocol::etm3:
            return {{"context_id_bytes", [](StreamSpec& s) -> unsigned& { return s.etm3.context_id_bytes; }, {0, 1, 2, 4}}};
        default:
            return {};
    }
}

std::vector<Switch> switches_of(Protocol protocol) {
    switch (protocol) {
        case Protocol::etrace:
            return {{"full_address", [](StreamSpec& s) -> bool& { return s.etrace.full_address; }},
                    {"implicit_return", [](StreamSpec& s) -> bool& { return s.etrace.implicit_return; }}};
        case Protocol::ntrace:
            return {{"timestamps", [](StreamSpec& s) -> bool& { return s.ntrace.timestamps; }},
                    {"implicit_return", [](StreamSpec& s) -> bool& { return s.ntrace.implicit_return; }}};
        case Protocol::etm4:
            return {{"return_stack", [](StreamSpec& s) -> bool& { return s.etm4.return_stack; }},
                    {"cycle_count", [](StreamSpec& s) -> bool& { return s.etm4.cycle_count; }},
                    {"commopt", [](StreamSpec& s) -> bool& { return s.etm4.commit_in_cycles; }, "0", "1"}};
        case Protocol::pft:
            return {{"cycle_accurate", [](StreamSpec& s) -> bool& { return s.pft.cycle_accurate; }},
                    {"return_stack", [](StreamSpec& s) -> bool& { return s.pft.return_stack; }}};
        case Protocol::etm3:
            return {{"cycle_accurate", [](StreamSpec& s) -> bool& { return s.etm3.cycle_accurate; }},
                    {"alternative_branch", [](StreamSpec& s) -> bool& { return s.etm3.alternative_branch; }},
                    {"data_address", [](StreamSpec& s) -> bool& { return s.etm3.data_address; }},
                    {"data_value", [](StreamSpec& s) -> bool& { return s.etm3.data_value; }}};
        default:
            return {};
    }
}

// The other protocols of instruction trace for the same cores: as an encoder emits them that was left as it is, and with
// one parameter changed. What both protocols have stays as it is stated.
void each_protocol(const StreamSpec& spec, const Change& change) {
    const auto quoted = [](Protocol p) { return "\"" + std::string(protocol_name(p)) + "\""; };
    const bool riscv = spec.protocol == Protocol::etrace || spec.protocol == Protocol::ntrace;
    const std::vector<Protocol> all = riscv ? std::vector{Protocol::etrace, Protocol::ntrace}
                                            : std::vector{Protocol::pft, Protocol::etm3, Protocol::etm4};
    for (const Protocol other : all) {
        if (other == spec.protocol || spec.protocol == Protocol::mtb) continue;
        StreamSpec changed = spec;
        changed.protocol = other;
        if (!riscv) {
            const bool cycles = spec.protocol == Protocol::pft    ? spec.pft.cycle_accurate
                                : spec.protocol == Protocol::etm3 ? spec.etm3.cycle_accurate
                                                                  : spec.etm4.cycle_count;
            const unsigned bytes = spec.protocol == Protocol::pft    ? spec.pft.context_id_bytes
                                   : spec.protocol == Protocol::etm3 ? spec.etm3.context_id_bytes
                                                                     : spec.etm4.context_id_bytes;
            changed.pft.cycle_accurate = changed.etm3.cycle_accurate = changed.etm4.cycle_count = cycles;
            changed.pft.context_id_bytes = changed.etm3.context_id_bytes = changed.etm4.context_id_bytes = bytes;
        }
        change(changed, "protocol", quoted(spec.protocol), quoted(other));
        each_encoder_change(changed, [&](const StreamSpec& more, const char* name, const std::string&, const std::string& fits) {
            change(more, "protocol", quoted(spec.protocol), quoted(other) + " with " + name + " " + fits);
        });
    }
}

}  // namespace

void each_encoder_change(const StreamSpec& spec, const Change& change) {
    for (const Knob& knob : knobs_of(spec.protocol)) {
        StreamSpec changed = spec;
        const unsigned stated = knob.at(changed);
        for (const unsigned value : knob.values) {
            if (value == stated) continue;
            knob.at(changed) = value;
            change(changed, knob.name, std::to_string(stated), std::to_string(value));
        }
    }
    for (const Switch& s : switches_of(spec.protocol)) {
        StreamSpec changed = spec;
        const bool stated = s.at(changed);
        s.at(changed) = !stated;
        change(changed, s.name, stated ? s.on : s.off, stated ? s.off : s.on);
    }
}

void each_change(const StreamSpec& spec, const Change& change) {
    each_encoder_change(spec, change);
    StreamSpec changed = spec;
    each_protocol(spec, change);
    if (spec.framing == Framing::tpiu) {
        changed.framing = Framing::none;
        change(changed, "framing", "\"tpiu\"", "\"none\"");
    }
    changed.framing = Framing::tpiu;
    for (std::uint8_t id = 1; id < 0x70; ++id) {
        changed.trace_id = id;
        if (spec.framing == Framing::none)
            change(changed, "framing", "\"none\"", "\"tpiu\" with trace_id " + std::to_string(id));
        else if (id != spec.trace_id)
            change(changed, "trace_id", std::to_string(spec.trace_id), std::to_string(id));
    }
}

}  // namespace mt
