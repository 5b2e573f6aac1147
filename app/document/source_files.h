// Sources as they lie on this machine: where they are looked for, and their lines.
#pragma once

#include <map>
#include <string>
#include <vector>

#include <QString>

#include "recording/recording.h"
#include "target/source_map.h"

namespace mt::app {

/// Where to look for the sources of a core: as a person set it before, and beside target file and image.
SourcePaths source_paths(const Recording* recording, std::size_t core);

/// Keeps where sources lie that the recording's image names: in its project, if it has one, else in the settings. `from`:
/// how names begin there; `to`: what stands there here. A Problem if the project cannot be written.
Result<void> keep_source_place(const Recording* recording, const QString& from, const QString& to);

/// All lines of a file; none if it cannot be read or is far too large.
std::vector<QString> read_source(const QString& path);

/// Lines of sources, read once. Only the window's thread may use it.
class SourceFiles {
  public:
    /// From now on for this recording's core.
    void use(const Recording* recording, std::size_t core);
    /// The text of a line without its indentation; empty if there is no such file or line.
    QString line(const QString& file, int number);

  private:
    const Recording* recording_ = nullptr;
    std::size_t core_ = 0;
    std::map<QString, std::vector<QString>> files_;
};

}  // namespace mt::app
