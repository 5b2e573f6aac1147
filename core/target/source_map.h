// Which source line every instruction of an image comes from, and where the sources themselves lie.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "target/code.h"
#include "target/process_image.h"

namespace mt {

/// Immutable; any thread may read. Built once: that looks at every instruction, so do it on a worker.
class SourceMap {
  public:
    static constexpr std::uint32_t kNone = 0xFFFF'FFFF;

    struct Place {
        std::uint32_t file = kNone, line = 0;
        bool operator==(const Place&) const = default;
    };
    /// An instruction of a file's line.
    struct Entry {
        std::uint32_t line = 0, slot = 0;
    };

    static std::shared_ptr<const SourceMap> of(const Image& image, const Code& code, std::span<const ProcessImage> processes = {});

    /// Whether an instruction of the program begins in `slot`: not in the middle of another, and no data, as far as the
    /// image tells them apart.
    bool is_instruction(std::uint32_t slot) const { return slot < instruction_.size() && instruction_[slot]; }

    /// Of the instruction in `slot`; file is kNone where the image does not tell.
    Place at(std::uint32_t slot) const { return slot < places_.size() ? places_[slot] : Place{}; }
    /// As the image names them.
    const std::vector<std::string>& files() const { return files_; }
    /// kNone if the image has no such file.
    std::uint32_t file_index(const std::string& name) const;
    /// All instructions of a file, by line, then by address.
    std::span<const Entry> in_file(std::uint32_t file) const;
    /// Where the lines of a file begin: each instruction at which the compiler wrote down that a statement of the line
    /// begins (DWARF 5, 6.2.2: is_stmt), by line, then by address. Of a line that was moved or merged away none is left
    /// that belongs to it alone: there it begins where another one does.
    std::span<const Entry> line_begins(std::uint32_t file) const {
        return file < begins_.size() ? std::span<const Entry>(begins_[file]) : std::span<const Entry>();
    }
    /// Those of one line.
    std::span<const Entry> on_line(std::uint32_t file, std::uint32_t line) const;

  private:
    using SlotOf = std::function<std::uint32_t(std::uint64_t)>;
    void add_image(const Image& image, const Code& code, const SlotOf& slot_of);

    std::vector<bool> instruction_;  ///< per slot
    std::vector<Place> places_;      ///< per slot
    std::vector<std::string> files_;
    std::vector<std::vector<Entry>> entries_, begins_;  ///< per file
};

/// Where to look for sources.
struct SourcePaths {
    std::vector<std::pair<std::string, std::string>> replaced;  ///< beginnings of names, and what stands there here
    std::vector<std::string> folders;                           ///< tried in turn
};

/// The path of a source that an image names: by replaced beginnings, as it is, or below one of the folders, there also
/// without its leading directories. Empty if there is no such file.
std::string find_source(const std::string& name, const SourcePaths& paths);

}  // namespace mt
