#include "judge/finding.h"

#include <algorithm>
#include <cstdio>

#include "base/overloaded.h"
#include "base/text.h"

namespace mt {
namespace {

std::string number_text(const char* format, double value) {
    char text[48];
    std::snprintf(text, sizeof text, format, value);
    return text;
}

}  // namespace

std::string_view role_name(Role role) {
    constexpr std::string_view kNames[] = {"subject", "masker", "function", "task",   "runner", "victim", "holder",
                                           "lock",    "queue",  "resource", "sender", "nested", "caller", "also"};
    return kNames[static_cast<std::size_t>(role)];
}

std::string Fact::text() const {
    return std::visit(
        Overloaded{[](bool v) { return std::string(v ? "yes" : "no"); }, [](std::uint64_t v) { return count_text(v); },
                   [](Time v) { return duration_text(v); }, [](Share v) { return share_text(v.value); },
                   [](Factor v) { return number_text(v.value < 10 ? "%.1f" : "%.0f", v.value); },
                   [](Bytes v) { return bytes_text(v.value); }, [](Address v) { return hex_text(v.value); },
                   [](Hertz v) { return number_text("%.4g MHz", v.value / 1e6); },
                   [](const std::string& v) { return v; }},
        value);
}

std::string_view Fact::unit() const {
    constexpr std::string_view kUnits[] = {"", "1", "ns", "1", "1", "B", "", "Hz", ""};
    static_assert(std::size(kUnits) == std::variant_size_v<Value>);
    return kUnits[value.index()];
}

const Fact* Finding::known(std::string_view key) const {
    const auto found = std::find_if(facts.begin(), facts.end(), [key](const Fact& f) { return f.key == key; });
    return found == facts.end() ? nullptr : &*found;
}

std::string Finding::told(std::string_view key) const {
    const Fact* fact = known(key);
    return fact == nullptr ? std::string() : fact->text();
}

const Involved* Finding::with(Role role) const {
    const auto found =
        std::find_if(involved.begin(), involved.end(), [role](const Involved& i) { return i.role == role; });
    return found == involved.end() ? nullptr : &*found;
}

std::string Finding::who(Role role) const {
    const Involved* found = with(role);
    return found == nullptr ? std::string() : found->name;
}

bool Finding::names(std::string_view name) const {
    return std::any_of(involved.begin(), involved.end(), [name](const Involved& i) { return i.name == name; });
}

}  // namespace mt
