#include "target/target_edit.h"

#include <algorithm>
#include <optional>
#include <sstream>

#include "target/toml_text.h"

namespace mt {
namespace {

// Lines, each with its end.
std::vector<std::string> lines_of(std::string_view text) {
    std::vector<std::string> lines;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = std::min(text.find('\n', at), text.size() - 1) + 1;
        lines.emplace_back(text.substr(at, end - at));
        at = end;
    }
    if (!lines.empty() && lines.back().back() != '\n') lines.back() += '\n';
    return lines;
}

std::string joined(const std::vector<std::string>& lines) {
    std::string out;
    for (const std::string& l : lines) out += l;
    return out;
}

// "stream.itm" → "stream", "itm".
std::pair<std::string, std::string> parts_of(const std::string& table) {
    const auto dot = table.find('.');
    return dot == std::string::npos ? std::pair(table, std::string())
                                    : std::pair(table.substr(0, dot), table.substr(dot + 1));
}

// The table that a change is about; null if there is none yet.
toml::table* table_of(toml::table& root, const KeyChange& change) {
    if (change.table.empty()) return &root;
    const auto [outer, inner] = parts_of(change.table);
    toml::array* list = root[outer].as_array();
    toml::table* table = list != nullptr && change.index < list->size() ? list->get(change.index)->as_table() : nullptr;
    return table == nullptr || inner.empty() ? table : (*table)[inner].as_table();
}

// The tree with the change made.
Result<toml::table> changed_tree(toml::table root, const KeyChange& change) {
    const auto [outer, inner] = parts_of(change.table);
    const auto nothing = [&change, name = outer] {
        return failure("there is no [[" + name + "]] number " + std::to_string(change.index + 1), "the target file");
    };
    if (!outer.empty()) {
        if (root[outer].as_array() == nullptr) {
            if (change.value.empty() || root.contains(outer)) return nothing();
            root.insert(outer, toml::array());
        }
        toml::array& list = *root[outer].as_array();
        if (change.index == list.size() && inner.empty() && !change.value.empty()) list.push_back(toml::table());
        if (change.index >= list.size() || list.get(change.index)->as_table() == nullptr) return nothing();
        toml::table& table = *list.get(change.index)->as_table();
        if (change.key.empty()) {
            if (inner.empty())
                list.erase(list.begin() + static_cast<std::ptrdiff_t>(change.index));
            else
                table.erase(inner);
            if (list.empty()) root.erase(outer);
            return root;
        }
        if (!inner.empty() && !table.contains(inner) && !change.value.empty()) table.insert(inner, toml::table());
    }
    toml::table* table = table_of(root, change);
    if (change.value.empty()) {
        if (table != nullptr) table->erase(change.key);
        return root;
    }
    if (table == nullptr) return nothing();
    auto value = parse_toml("v = " + change.value + "\n", "the value of " + change.key);
    if (!value || value->size() != 1)
        return failure("'" + change.value + "' is no value", "the value of " + change.key);
    (*value)["v"].node()->visit([&](auto& v) { table->insert_or_assign(change.key, std::move(v)); });
    return root;
}

std::size_t first_line(const toml::source_region& r) { return r.begin.line; }
std::size_t last_line(const toml::source_region& r) {
    return r.end.line > r.begin.line && r.end.column <= 1 ? r.end.line - 1 : std::max(r.begin.line, r.end.line);
}

// The last line of what stands in a table itself, its header if there is nothing; 0 if it has no place of its own.
std::size_t end_of_keys(const toml::table& table) {
    std::size_t line = table.source().begin.line;
    for (const auto& [key, node] : table) {
        const toml::table* inner = node.as_table();
        if (inner != nullptr && !inner->is_inline()) continue;
        if (const toml::array* list = node.as_array(); list != nullptr && !list->empty() &&
                                                       list->get(0)->as_table() != nullptr &&
                                                       !list->get(0)->as_table()->is_inline())
            continue;
        line = std::max<std::size_t>(line, last_line(node.source()));
    }
    return line;
}

// Where a line belongs to: the name in its header, "[[stream]]" → "stream"; nothing if it is none.
std::optional<std::string> header_of(const std::string& line) {
    const auto from = line.find_first_not_of(" \t");
    if (from == std::string::npos || line[from] != '[') return std::nullopt;
    const auto name = line.find_first_not_of("[ \t", from), end = line.find_first_of("] \t", name);
    return name == std::string::npos || end == std::string::npos ? std::string() : line.substr(name, end - name);
}

// The lines with the change made; what comes out is checked by the caller.
std::string changed_lines(std::string_view text, toml::table& root, const KeyChange& change) {
    std::vector<std::string> lines = lines_of(text);
    const auto insert = [&](std::size_t behind, const std::string& what) {
        lines.insert(lines.begin() + static_cast<std::ptrdiff_t>(std::min(behind, lines.size())), what);
    };
    const std::string line = change.key + " = " + change.value + "\n";
    const auto [outer, inner] = parts_of(change.table);
    toml::table* table = table_of(root, change);
    if (change.key.empty() && table != nullptr) {  // the whole table, with the tables in it
        const std::size_t from = first_line(table->source());
        std::size_t to = from;
        const std::string below = change.table + ".";
        while (to < lines.size()) {
            const auto header = header_of(lines[to]);
            if (header && header->compare(0, below.size(), below) != 0) break;
            ++to;
        }
        // Remarks right above the next header belong to that.
        while (to > from && to < lines.size() && lines[to - 1].starts_with("#")) --to;
        if (from > 0)
            lines.erase(lines.begin() + static_cast<std::ptrdiff_t>(from - 1),
                        lines.begin() + static_cast<std::ptrdiff_t>(to));
        return joined(lines);
    }
    if (table == nullptr && !inner.empty()) {  // [stream.itm] behind the keys of its [[stream]]
        KeyChange of = change;
        of.table = outer;
        if (const toml::table* holder = table_of(root, of))
            insert(end_of_keys(*holder), "\n[" + change.table + "]\n" + line);
        return joined(lines);
    }
    if (table == nullptr) {
        if (!lines.empty() && lines.back() != "\n") lines.emplace_back("\n");
        lines.push_back("[[" + change.table + "]]\n" + line);
        return joined(lines);
    }
    const auto found = table->find(change.key);
    if (found == table->end()) {
        if (!change.value.empty()) insert(end_of_keys(*table), line);
        return joined(lines);
    }
    const toml::source_region place = found->second.source();
    const std::size_t from = first_line(place), to = last_line(place);
    constexpr std::size_t longest_line = 2000;  // in which the end of a value is looked for
    if (from == 0 || to > lines.size() || lines[from - 1].size() > longest_line) return joined(lines);
    if (change.value.empty()) {
        lines.erase(lines.begin() + static_cast<std::ptrdiff_t>(from - 1),
                    lines.begin() + static_cast<std::ptrdiff_t>(to));
        return joined(lines);
    }
    // What stands before the value, and the remark behind it, stay. Columns count characters; there are none beyond
    // ASCII before a value, and behind it the end is looked for in the line.
    const std::string before =
        lines[from - 1].substr(0, std::min<std::size_t>(place.begin.column - 1, lines[from - 1].size()));
    std::string behind = "\n";
    if (from == to) {
        const std::string& old = lines[from - 1];
        // The end of the value in bytes: the shortest beginning that reads as the whole line does.
        for (std::size_t end = before.size() + 1; end <= old.size(); ++end) {
            const auto read = parse_toml(old.substr(0, end) + "\n", "");
            if (!read || read->size() != 1) continue;
            const auto whole = parse_toml(old, "");
            if (whole && *whole == *read) {
                behind = old.substr(end);
                break;
            }
        }
        if (behind.empty() || behind.back() != '\n') behind += '\n';
    }
    lines.erase(lines.begin() + static_cast<std::ptrdiff_t>(from - 1), lines.begin() + static_cast<std::ptrdiff_t>(to));
    insert(from - 1, before + change.value + behind);
    return joined(lines);
}

}  // namespace

std::string toml_quoted(std::string_view text) {
    std::string out = "\"";
    for (const char c : text) {
        const auto byte = static_cast<unsigned char>(c);
        if (c == '"' || c == '\\') {
            out += '\\';
            out += c;
        } else if (byte < 0x20 || byte == 0x7F) {
            constexpr char digits[] = "0123456789ABCDEF";
            out += "\\u00";
            out += digits[byte >> 4];
            out += digits[byte & 15];
        } else {
            out += c;
        }
    }
    return out + "\"";
}

std::string toml_unquoted(const std::string& value) {
    const auto read = parse_toml("v = " + value + "\n", "");
    const auto text = read ? (*read)["v"].value_exact<std::string>() : std::nullopt;
    return text ? *text : value;
}

std::size_t count_tables(std::string_view text, const std::string& table, std::size_t index) {
    auto root = parse_toml(text, "");
    if (!root) return 0;
    if (!parts_of(table).second.empty()) return table_of(*root, {table, index, "", ""}) != nullptr ? 1 : 0;
    const toml::array* list = (*root)[table].as_array();
    return list == nullptr ? 0 : list->size();
}

std::string stated_value(std::string_view text, const std::string& table, std::size_t index, const std::string& key) {
    auto root = parse_toml(text, "");
    const toml::table* where = root ? table_of(*root, {table, index, key, ""}) : nullptr;
    const toml::node* node = where == nullptr ? nullptr : where->get(key);
    if (node == nullptr) return {};
    std::ostringstream out;
    node->visit([&](const auto& v) { out << toml::toml_formatter(v); });
    return out.str();
}

Result<std::string> changed_target(std::string_view text, const std::vector<KeyChange>& changes) {
    std::string now(text);
    for (const KeyChange& change : changes) {
        auto root = parse_toml(now, "the target file");
        if (!root) return tl::make_unexpected(root.error());
        const auto wanted = changed_tree(*root, change);
        if (!wanted) return tl::make_unexpected(wanted.error());
        if (*wanted == *root) continue;
        std::string lines = changed_lines(now, *root, change);
        if (const auto again = parse_toml(lines, ""); again && *again == *wanted) {
            now = std::move(lines);
            continue;
        }
        std::ostringstream out;
        out << *wanted << "\n";
        now = out.str();
    }
    return now;
}

}  // namespace mt
