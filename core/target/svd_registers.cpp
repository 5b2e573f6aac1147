#include "target/svd_registers.h"

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <filesystem>
#include <mutex>
#include <optional>
#include <sstream>
#include <string_view>
#include <unordered_map>
#include <utility>

#include <pugixml.hpp>

namespace mt {
namespace {

constexpr std::size_t kMostOfArray = 4096, kMostNames = 4096;
constexpr int kDeepest = 8;  ///< clusters in clusters, and what is derived from what is derived

// scaledNonNegativeInteger: decimal, 0x…, or #101 in base two; in enumerated values x stands for any bit.
std::optional<std::uint64_t> number(const char* text) {
    std::string s(text);
    s.erase(std::remove_if(s.begin(), s.end(), [](unsigned char c) { return std::isspace(c) != 0; }), s.end());
    const bool binary = s.starts_with("#") || s.starts_with("0b");
    if (binary) s.erase(0, s[0] == '#' ? 1 : 2);
    if (s.empty() || std::isdigit(static_cast<unsigned char>(s[0])) == 0) return std::nullopt;
    char* end = nullptr;
    const std::uint64_t v = std::strtoull(s.c_str(), &end, binary ? 2 : s.starts_with("0x") || s.starts_with("0X") ? 16 : 10);
    return *end == 0 ? std::optional(v) : std::nullopt;
}
std::uint64_t number_of(const pugi::xml_node& node, const char* child, std::uint64_t usual = 0) {
    return number(node.child(child).text().as_string()).value_or(usual);
}

// "[%s]" or "%s" in a name becomes the index or what dimIndex says.
std::string indexed(const std::string& name, const std::string& index) {
    const auto at = name.find("%s");
    return at == std::string::npos ? name : name.substr(0, at) + index + name.substr(at + 2);
}
std::string words(const char* text) {
    std::istringstream in(text);
    std::string all, word;
    while (in >> word) all += (all.empty() ? "" : " ") + word;
    return all;
}

// dimIndex: "3-6", "A-C" or "A,B,C"; else from 0.
std::vector<std::string> indices(const pugi::xml_node& node) {
    std::vector<std::string> all;
    const std::size_t n = static_cast<std::size_t>(std::min<std::uint64_t>(number_of(node, "dim"), kMostOfArray));
    std::istringstream list(node.child("dimIndex").text().as_string());
    for (std::string one; std::getline(list, one, ',');)
        if (!one.empty()) all.push_back(words(one.c_str()));
    if (all.size() == 1 && n > 1 && all[0].find('-') != std::string::npos) {
        const std::string range = all[0];
        const auto dash = range.find('-');
        all.clear();
        const bool letters = dash == 1 && std::isalpha(static_cast<unsigned char>(range[0])) != 0;
        const std::uint64_t first = letters ? static_cast<unsigned char>(range[0]) : std::strtoull(range.c_str(), nullptr, 10);
        for (std::size_t i = 0; i < n; ++i)
            all.push_back(letters ? std::string(1, static_cast<char>(first + i)) : std::to_string(first + i));
    }
    for (std::size_t i = all.size(); i < n; ++i) all.push_back(std::to_string(i));
    all.resize(n);
    return all;
}

// What is not said by a register is said by what it stands in.
struct Usual {
    unsigned bits = 32;
    SvdAccess access = SvdAccess::read_write;
    Usual within(const pugi::xml_node& node) const {
        Usual u = *this;
        u.bits = static_cast<unsigned>(std::clamp<std::uint64_t>(number_of(node, "size", bits), 8, 64));
        const std::string a = node.child("access").text().as_string();
        if (a == "read-only") u.access = SvdAccess::read_only;
        if (a == "write-only" || a == "writeOnce") u.access = SvdAccess::write_only;
        if (a == "read-write" || a == "read-writeOnce") u.access = SvdAccess::read_write;
        return u;
    }
};

class Reader {
  public:
    std::vector<SvdPeripheral> read(const pugi::xml_node& device) {
        const Usual usual = Usual{}.within(device);
        for (const auto& p : device.child("peripherals").children("peripheral"))
            each(p, text_of(p, "name"), [&](const std::string& name, std::uint64_t offset) {
                SvdPeripheral out;
                out.name = name;
                out.description = text_of(p, "description");
                // Where nobody says where its registers stand there are none to be read.
                const auto at = number(part(p, "baseAddress").text().as_string());
                out.base = at.value_or(0) + offset;
                const auto base = base_of(p);
                if (at) registers(part(p, "registers"), (base ? usual.within(base) : usual).within(p), "", out.base, out, 0);
                if (!name.empty()) all_.push_back(std::move(out));
            });
        return std::move(all_);
    }

  private:
    // What `node` is derived from: a sibling of that name, of which what it does not say itself counts.
    pugi::xml_node base_of(const pugi::xml_node& node) {
        std::string from = node.attribute("derivedFrom").value();
        if (from.empty()) return {};
        if (const auto dot = from.rfind('.'); dot != std::string::npos) from.erase(0, dot + 1);
        const auto [family, is_new] = families_.try_emplace({node.parent(), node.name()});
        if (is_new)
            for (const auto& other : node.parent().children(node.name()))
                family->second.try_emplace(other.child("name").text().as_string(), other);
        const auto found = family->second.find(from);
        return found == family->second.end() || found->second == node ? pugi::xml_node() : found->second;
    }

    // A child of the node, or of what it is derived from.
    pugi::xml_node part(pugi::xml_node node, const char* name) {
        for (int depth = 0; node && depth < kDeepest; ++depth, node = base_of(node))
            if (const auto child = node.child(name)) return child;
        return {};
    }
    std::string text_of(const pugi::xml_node& node, const char* name) {
        return words(part(node, name).text().as_string());
    }

    SvdField field_of(const pugi::xml_node& node, const Usual& outer) {
        SvdField f;
        f.access = outer.within(node).access;
        f.description = text_of(node, "description");
        f.reading_acts = part(node, "readAction") != nullptr;
        if (const std::string range = text_of(node, "bitRange"); !range.empty()) {  // "[7:4]"
            const auto colon = range.find(':');
            const auto msb = std::strtoul(range.c_str() + 1, nullptr, 10);
            const auto lsb = colon == std::string::npos ? msb : std::strtoul(range.c_str() + colon + 1, nullptr, 10);
            f.lsb = static_cast<unsigned>(std::min(lsb, msb));
            f.width = static_cast<unsigned>(std::max(lsb, msb) - f.lsb + 1);
        } else if (part(node, "lsb")) {
            f.lsb = static_cast<unsigned>(number(part(node, "lsb").text().as_string()).value_or(0));
            const auto msb = static_cast<unsigned>(number(part(node, "msb").text().as_string()).value_or(f.lsb));
            f.width = msb >= f.lsb ? msb - f.lsb + 1 : 1;
        } else {
            f.lsb = static_cast<unsigned>(number(part(node, "bitOffset").text().as_string()).value_or(0));
            f.width = static_cast<unsigned>(number(part(node, "bitWidth").text().as_string()).value_or(1));
        }
        f.lsb = std::min(f.lsb, 63U);
        f.width = std::clamp(f.width, 1U, 64 - f.lsb);
        const pugi::xml_node owner = part(node, "enumeratedValues") ? part(node, "enumeratedValues").parent() : node;
        for (const auto& list : owner.children("enumeratedValues")) {
            if (list.child("usage").text().as_string() == std::string_view("write")) continue;
            const pugi::xml_node from = list.child("enumeratedValue") ? list : base_of(list);
            for (const auto& value : from.children("enumeratedValue"))
                if (const auto v = number(value.child("value").text().as_string()); v && f.names.size() < kMostNames)
                    f.names.try_emplace(*v, words(value.child("name").text().as_string()));
        }
        return f;
    }

    // Once, or for each element of an array.
    template <class Does>
    void each(const pugi::xml_node& node, const std::string& name, Does does) {
        const auto dims = indices(node);
        if (dims.empty()) return does(name, 0);
        const std::uint64_t apart = number_of(node, "dimIncrement");
        for (std::size_t i = 0; i < dims.size(); ++i) does(indexed(name, dims[i]), i * apart);
    }

    void registers(const pugi::xml_node& list, const Usual& usual, const std::string& path, std::uint64_t at,
                   SvdPeripheral& out, int depth) {
        if (depth > kDeepest) return;
        for (const auto& node : list.children()) {
            if (seen_ > kMostSvdRegisters) return;
            const bool cluster = node.name() == std::string_view("cluster");
            if (!cluster && node.name() != std::string_view("register")) continue;
            const auto told = part(node, "addressOffset");
            const auto where = told || !cluster ? number(told.text().as_string()) : std::uint64_t{0};
            if (!where) continue;
            const std::uint64_t offset = *where;
            const auto base = base_of(node);
            const Usual inner = (base ? usual.within(base) : usual).within(node);
            each(node, path + text_of(node, "name"), [&](const std::string& name, std::uint64_t more) {
                if (++seen_ > kMostSvdRegisters) return;
                if (cluster) {
                    registers(node.child("register") || node.child("cluster") || !base ? node : base, inner, name + ".",
                              at + offset + more, out, depth + 1);
                    return;
                }
                SvdRegister r;
                r.name = name;
                r.description = text_of(node, "description");
                r.address = at + offset + more;
                r.bytes = (inner.bits + 7) / 8;
                r.access = inner.access;
                r.reading_acts = part(node, "readAction") != nullptr;
                for (const auto& field : part(node, "fields").children("field"))
                    each(field, text_of(field, "name"), [&](const std::string& called, std::uint64_t bits) {
                        SvdField f = field_of(field, inner);
                        f.name = called;
                        f.lsb = static_cast<unsigned>(std::min<std::uint64_t>(f.lsb + bits, 63));
                        f.width = std::min(f.width, 64 - f.lsb);
                        if (r.fields.size() < 256) r.fields.push_back(std::move(f));
                    });
                std::sort(r.fields.begin(), r.fields.end(),
                          [](const SvdField& a, const SvdField& b) { return a.lsb < b.lsb; });
                out.registers.push_back(std::move(r));
            });
        }
    }

    std::vector<SvdPeripheral> all_;
    std::size_t seen_ = 0;  ///< registers and clusters
    /// Children of one parent and element by their names; a file may hold very many of them.
    std::map<std::pair<pugi::xml_node, std::string_view>, std::unordered_map<std::string_view, pugi::xml_node>> families_;
};

}  // namespace

Result<std::vector<SvdPeripheral>> read_svd_registers(const std::string& path) {
    pugi::xml_document document;
    if (const auto read = document.load_file(path.c_str()); !read)
        return failure(std::string("the SVD file cannot be read: ") + read.description(), path,
                       "correct 'svd' in the target file");
    const auto device = document.child("device");
    if (!device) return failure("not a CMSIS-SVD file: it has no <device>", path, "correct 'svd' in the target file");
    return Reader().read(device);
}

std::shared_ptr<const std::vector<SvdPeripheral>> kept_svd_registers(const std::string& path) {
    namespace fs = std::filesystem;
    struct Kept {
        std::string path;
        fs::file_time_type written;
        std::uintmax_t bytes = 0;
        std::shared_ptr<const std::vector<SvdPeripheral>> peripherals;
    };
    static std::mutex lock;
    static Kept kept;
    const std::lock_guard guard(lock);
    std::error_code no_time, no_size;
    const auto written = fs::last_write_time(path, no_time);
    const auto bytes = fs::file_size(path, no_size);
    if (no_time || no_size) return nullptr;
    if (kept.path == path && kept.written == written && kept.bytes == bytes) return kept.peripherals;
    auto read = read_svd_registers(path);
    kept = {path, written, bytes, read ? std::make_shared<const std::vector<SvdPeripheral>>(std::move(*read)) : nullptr};
    return kept.peripherals;
}

}  // namespace mt
