// Keys out of one table of a TOML file, checked as they are read. Used by the target file and the recipe.
#pragma once

#include <algorithm>
#include <limits>
#include <optional>
#include <set>
#include <sstream>
#include <string>
#include <string_view>
#include <vector>

#include <toml++/toml.h>

#include "base/near_names.h"
#include "base/problem.h"

namespace mt {

inline constexpr auto kNoLimit = std::numeric_limits<std::int64_t>::max();

/// Reads keys out of one table, remembers which were asked for, and reports the first error.
class TomlTable {
  public:
    TomlTable(const toml::table& table, std::string name, const std::string& path, std::optional<Problem>& problem)
        : table_(table), name_(std::move(name)), path_(path), problem_(problem) {}

    const toml::table& raw() const { return table_; }
    /// The key is read elsewhere.
    void know(std::string_view key) { seen_.insert(std::string(key)); }
    unsigned line() const { return static_cast<unsigned>(table_.source().begin.line); }

    std::string text(std::string_view key, bool required, std::initializer_list<std::string_view> allowed = {}) {
        const toml::node* node = find(key, required);
        if (node == nullptr) return {};
        const auto value = node->value_exact<std::string>();
        if (!value)
            return wrong(key, *node, allowed.size() == 0 ? "a string" : "one of " + listed(allowed)), std::string{};
        if (allowed.size() != 0 && std::find(allowed.begin(), allowed.end(), *value) == allowed.end())
            return wrong(key, *node, "one of " + listed(allowed)), std::string{};
        if (required && value->empty()) wrong(key, *node, "a string that is not empty");
        return *value;
    }
    std::optional<std::int64_t> number(std::string_view key, bool required, std::int64_t least, std::int64_t most,
                                       std::initializer_list<std::int64_t> allowed = {}) {
        const toml::node* node = find(key, required);
        if (node == nullptr) return std::nullopt;
        std::string range = most == kNoLimit
                                ? "a whole number from " + std::to_string(least)
                                : "a whole number from " + std::to_string(least) + " to " + std::to_string(most);
        if (allowed.size() != 0) {
            range = "one of";
            for (const auto a : allowed) range += (a == *allowed.begin() ? " " : ", ") + std::to_string(a);
        }
        const auto value = node->value_exact<std::int64_t>();
        const bool fits = value && *value >= least && *value <= most &&
                          (allowed.size() == 0 || std::find(allowed.begin(), allowed.end(), *value) != allowed.end());
        if (!fits) return wrong(key, *node, range), std::nullopt;
        return value;
    }
    std::optional<bool> flag(std::string_view key) {
        const toml::node* node = find(key, false);
        if (node != nullptr && !node->is_boolean()) wrong(key, *node, "true or false");
        return node == nullptr ? std::nullopt : node->value<bool>();
    }
    /// A length of time in seconds, whole or with a fraction.
    std::optional<double> seconds(std::string_view key, double least, double most) {
        const toml::node* node = find(key, false);
        if (node == nullptr) return std::nullopt;
        const auto value = node->is_number() ? node->value<double>() : std::nullopt;
        if (!value || !(*value >= least) || *value > most) {
            std::ostringstream range;
            range << "a number of seconds from " << least << " to " << most;
            return wrong(key, *node, range.str()), std::nullopt;
        }
        return value;
    }
    /// A number with a fraction or without.
    std::optional<double> real(std::string_view key, bool required, double least, double most) {
        const toml::node* node = find(key, required);
        if (node == nullptr) return std::nullopt;
        const auto value = node->is_number() ? node->value<double>() : std::nullopt;
        if (!value || !(*value >= least && *value <= most)) {
            std::ostringstream range;
            range << "a number from " << least << " to " << most;
            return wrong(key, *node, range.str()), std::nullopt;
        }
        return value;
    }
    /// One string, or a list of them.
    std::vector<std::string> texts(std::string_view key) {
        const toml::node* node = table_.get(key);
        if (node != nullptr && node->is_array()) return list_of_text(key);
        const std::string one = text(key, false);
        return one.empty() ? std::vector<std::string>() : std::vector<std::string>{one};
    }
    std::vector<std::string> list_of_text(std::string_view key) {
        const toml::node* node = find(key, false);
        std::vector<std::string> all;
        if (node == nullptr) return all;
        if ((!node->is_array() || !node->as_array()->is_homogeneous<std::string>()) &&
            !(node->is_array() && node->as_array()->empty())) {
            wrong(key, *node, "a list of strings");
            return all;
        }
        for (const auto& item : *node->as_array()) all.push_back(item.value_or(std::string()));
        return all;
    }
    const toml::table* table(std::string_view key) {
        const toml::node* node = find(key, false);
        if (node == nullptr) return nullptr;
        if (!node->is_table()) return wrong(key, *node, "a table"), nullptr;
        return node->as_table();
    }
    const toml::array* tables(std::string_view key, bool required) {
        const toml::node* node = find(key, required);
        if (node == nullptr) return nullptr;
        const toml::array* list = node->as_array();
        const bool good = list != nullptr &&
                          std::all_of(list->begin(), list->end(), [](const toml::node& n) { return n.is_table(); });
        if (!good) return wrong(key, *node, "tables, each headed [[" + std::string(key) + "]]"), nullptr;
        return list;
    }
    void warn_unknown(std::vector<std::string>& warnings) const {
        for (const auto& [key, node] : table_)
            if (seen_.count(std::string(key.str())) == 0)
                warnings.push_back(path_ + ":" + std::to_string(node.source().begin.line) + ": unknown key '" +
                                   std::string(key.str()) + "' in " + name_ + " is ignored");
    }
    /// The same as an error, with the keys that are near. To be called when all keys were asked for.
    void refuse_unknown() {
        for (const auto& [key, node] : table_)
            if (seen_.count(std::string(key.str())) == 0)
                fail("unknown key '" + std::string(key.str()) + "' in " + name_,
                     static_cast<unsigned>(node.source().begin.line),
                     near_names_text(key.str(), {seen_.begin(), seen_.end()}, ""));
    }
    /// Reads each table of a list; `named`: what messages call it.
    template <class T, class F>
    static void each(const toml::array* list, const std::string& named, const std::string& path,
                     std::optional<Problem>& problem, std::vector<std::string>& warnings, std::vector<T>& out, F read) {
        if (list == nullptr) return;
        for (const auto& node : *list) {
            TomlTable t(*node.as_table(), named, path, problem);
            out.push_back(read(t));
            t.warn_unknown(warnings);
            if (problem) return;
        }
    }
    void fail(std::string what, unsigned line, std::string advice) {
        if (!problem_) problem_ = Problem{std::move(what), path_ + ":" + std::to_string(line), std::move(advice)};
    }

    /// Says what a key's value is and what it must be.
    void refuse(std::string_view key, const std::string& allowed) {
        if (const toml::node* node = table_.get(key); node != nullptr) wrong(key, *node, allowed);
    }

  private:
    const toml::node* find(std::string_view key, bool required) {
        seen_.insert(std::string(key));
        const toml::node* node = table_.get(key);
        if (node == nullptr && required)
            fail("missing key '" + std::string(key) + "' in " + name_, line(), "add " + std::string(key) + " = ...");
        return node;
    }
    void wrong(std::string_view key, const toml::node& node, const std::string& allowed) {
        std::ostringstream found;
        node.visit([&](const auto& n) {
            if constexpr (toml::is_value<decltype(n)>)
                found << n;
            else
                found << "a " << n.type();
        });
        std::string shown = found.str();
        if (shown.size() > 60) shown = shown.substr(0, 57) + "...";
        fail("key '" + std::string(key) + "' in " + name_ + " is " + shown,
             static_cast<unsigned>(node.source().begin.line), "it must be " + allowed);
    }
    static std::string listed(std::initializer_list<std::string_view> items) {
        std::string all;
        for (const auto item : items) all += (all.empty() ? "" : ", ") + std::string(item);
        return all;
    }

    const toml::table& table_;
    std::string name_;
    const std::string& path_;
    std::optional<Problem>& problem_;
    std::set<std::string> seen_;
};

}  // namespace mt
