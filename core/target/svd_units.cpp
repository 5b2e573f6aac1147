#include "target/svd_units.h"

#include <algorithm>
#include <cctype>
#include <cstdlib>

#include <pugixml.hpp>

namespace mt {

std::vector<std::uint64_t> trace_units_of_svd(const std::string& path) {
    constexpr std::size_t kMost = 32;
    std::vector<std::uint64_t> found;
    pugi::xml_document document;
    if (!document.load_file(path.c_str())) return found;
    for (const auto& p : document.child("device").child("peripherals").children("peripheral")) {
        std::string words = std::string(p.child("name").text().as_string()) + " " +
                            p.child("groupName").text().as_string() + " " + p.child("description").text().as_string();
        std::transform(words.begin(), words.end(), words.begin(),
                       [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
        const auto has = [&](const char* word) { return words.find(word) != std::string::npos; };
        if (!has("trace") && !has("tr_") && !has("trte") && !has("trram") && !has("trpib") && !has("trfunnel"))
            continue;
        if (found.size() < kMost)
            found.push_back(std::strtoull(p.child("baseAddress").text().as_string("0"), nullptr, 0));
    }
    return found;
}

}  // namespace mt
