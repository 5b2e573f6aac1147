// The functions of an image by the slots of its code.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "target/code.h"
#include "target/process_image.h"

namespace mt {

struct Function {
    std::string name;
    std::string file;              ///< of its first instruction; empty where the image does not tell
    std::uint32_t file_index = 0;  ///< files counted in order of their first function
    int line = 0;
    std::uint32_t entry = 0, end = 0;  ///< slots: first instruction, and behind the last
    std::uint64_t address = 0;
};

/// Immutable; any thread may read. Code under no symbol belongs to `nameless()`.
class FunctionTable {
  public:
    /// A program without symbols.
    FunctionTable();
    static std::shared_ptr<const FunctionTable> of(const Image& image, const Code& code, std::span<const ProcessImage> processes = {});
    /// The same from a list: entry and end are slots of `code`.
    static std::shared_ptr<const FunctionTable> of(const std::vector<Function>& functions, const Code& code);

    std::uint32_t at(std::uint32_t slot) const { return slot < of_slot_.size() ? of_slot_[slot] : nameless(); }
    bool is_entry(std::uint32_t slot) const { return functions_[at(slot)].entry == slot && slot != Code::kNowhere; }
    const Function& operator[](std::uint32_t i) const { return functions_[i]; }
    std::uint32_t size() const { return static_cast<std::uint32_t>(functions_.size()); }
    /// Which of the files, in order of their first function, this one stands in.
    std::uint32_t file_index(const Function& f) const { return f.file_index; }
    /// Stands for all code that no symbol names.
    std::uint32_t nameless() const { return 0; }

  private:
    void add_image(const Image& image, const Code& code, const std::function<std::uint32_t(std::uint64_t)>& slot_of);
    void add(Function f);

    std::vector<Function> functions_;
    std::vector<std::uint32_t> of_slot_;
};

}  // namespace mt
