// Variables of a program that stand at an address of their own, wherever they are declared (DWARF 5, 4.1).
#pragma once

#include <elfutils/libdw.h>

#include <cstdint>
#include <string>
#include <vector>

namespace mt::dwarf {

/// Of one file, which must outlive it; null: there are none.
class StaticVariables {
  public:
    explicit StaticVariables(Dwarf* file) : file_(file) {}
    /// By its name, with or without those of what it is declared in ("guide::state").
    bool find(const std::string& name, Dwarf_Die* variable, std::uint64_t& address);
    /// What was met while looking, as far as it is not too much.
    const std::vector<std::string>& names() const { return names_; }

  private:
    bool look(Dwarf_Die* parent, const std::string& prefix, const std::string& name, int depth, Dwarf_Die* variable,
              std::uint64_t& address);
    static bool place(Dwarf_Die* die, std::uint64_t& address);

    Dwarf* file_;
    std::size_t seen_ = 0;
    std::vector<std::string> names_;
};

}  // namespace mt::dwarf
