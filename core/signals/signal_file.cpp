#include "signals/signal_file.h"

#include <algorithm>
#include <cstring>

#include "base/mapped_file.h"

namespace mt {

bool is_chosen(const SignalChoice& choice, const std::string& scope, const std::string& name) {
    return choice.empty() || std::any_of(choice.begin(), choice.end(), [&](const std::string& wanted) {
               return wanted == name || wanted == scope + "." + name;
           });
}

std::string signal_format_of(std::span<const std::uint8_t> bytes) {
    const auto begins = [&](const char* text) {
        return bytes.size() >= std::strlen(text) && std::memcmp(bytes.data(), text, std::strlen(text)) == 0;
    };
    if (begins("MDF     ") || begins("UnFinMF ")) return "MDF";
    if (begins("\xFF\xFE") || begins("\xFE\xFF")) return "CSV";
    const auto first = bytes.first(std::min<std::size_t>(bytes.size(), 4096));
    const bool binary = std::any_of(first.begin(), first.end(), [](std::uint8_t c) {
        return c < 32 && c != '\t' && c != '\n' && c != '\r' && c != '\f';
    });
    if (binary || first.empty()) return {};
    const auto start = std::find_if(first.begin(), first.end(), [](std::uint8_t c) { return c > 32; });
    if (start != first.end() && *start == '$') return "VCD";
    return "CSV";
}

Result<SignalFile> read_signal_file(const std::string& path, const SignalChoice& choice, Progress* progress) {
    auto file = MappedFile::open(path);
    if (!file) return tl::make_unexpected(file.error());
    const auto bytes = (*file)->bytes();
    const std::string format = signal_format_of(bytes);
    const auto told = [&](Result<SignalFile> read) {
        if (const std::string missing = (*file)->what_is_missing(); read && !missing.empty())
            read->warnings.push_back("the file " + missing);
        return read;
    };
    if (format == "VCD") return told(read_vcd(bytes, path, choice, progress));
    if (format == "MDF") return told(read_mdf(bytes, path, choice, progress));
    if (format == "CSV") return told(read_csv_signals(bytes, path, choice, progress));
    return failure(bytes.empty() ? "the file is empty" : "the file is no VCD, CSV, TSV or MDF 4", path,
                   "export the signals as one of these");
}

}  // namespace mt
