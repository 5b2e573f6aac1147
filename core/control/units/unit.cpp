#include "control/units/unit.h"

#include "base/overloaded.h"

namespace mt {
namespace {

struct KindText {
    std::string_view name, purpose;
};
constexpr std::array<KindText, 17> kKinds = {{{"rom-table", "lists the units"},
                                              {"dwt", "watches data, samples, counts"},
                                              {"itm", "packs what the DWT and the firmware tell"},
                                              {"tpiu", "sends trace over pins"},
                                              {"swo", "sends trace over one wire"},
                                              {"etm4", "tells the instructions that ran"},
                                              {"mtb", "keeps the last branches in RAM"},
                                              {"funnel", "joins streams"},
                                              {"replicator", "sends a stream two ways"},
                                              {"tmc", "buffers trace"},
                                              {"etb", "buffers trace"},
                                              {"cti", "passes triggers on"},
                                              {"trace-encoder", "tells the instructions that ran"},
                                              {"trace-funnel", "joins streams"},
                                              {"ram-sink", "buffers trace"},
                                              {"pin-sink", "sends trace over pins"},
                                              {"unknown", "has no part in trace"}}};

}  // namespace

std::string_view unit_kind_name(UnitKind kind) { return kKinds[static_cast<std::size_t>(kind)].name; }
std::string_view unit_kind_purpose(UnitKind kind) { return kKinds[static_cast<std::size_t>(kind)].purpose; }

std::string fact_text(const UnitFact::Value& value) {
    return std::visit(
        Overloaded{[](bool b) { return std::string(b ? "yes" : "no"); },
                   [](std::int64_t n) { return std::to_string(n); }, [](const std::string& s) { return s; },
                   [](const std::vector<std::string>& list) {
                       std::string all;
                       for (const auto& s : list) all += (all.empty() ? "" : ", ") + s;
                       return all.empty() ? std::string("none") : all;
                   }},
        value);
}

const UnitFact::Value* Unit::find(std::string_view key) const {
    for (const auto* list : {&features, &settings})
        for (const auto& fact : *list)
            if (fact.key == key) return &fact.value;
    return nullptr;
}

std::int64_t Unit::number(std::string_view key, std::int64_t otherwise) const {
    const auto* value = find(key);
    const auto* n = value == nullptr ? nullptr : std::get_if<std::int64_t>(value);
    return n == nullptr ? otherwise : *n;
}

bool Unit::flag(std::string_view key) const {
    const auto* value = find(key);
    const auto* b = value == nullptr ? nullptr : std::get_if<bool>(value);
    return b != nullptr && *b;
}

}  // namespace mt
