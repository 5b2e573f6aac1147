// The recording folder on disk: written when a recording is saved, and before a live one begins.
// docs/formats/recording-folder.md.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "target/target_file.h"

namespace mt {

inline constexpr std::string_view kRecordingManifest = "trail.toml";
inline constexpr std::string_view kRecordingFormat = "mindful-trail-recording/1";

/// What goes into a folder besides the target file and the images that it names.
struct FolderContents {
    std::string title;
    std::vector<std::string> streams;             ///< files to copy, as the target file names them
    std::map<std::size_t, std::string> recorded;  ///< stream index → name below streams/, still to be written
    std::string recipe;                           ///< file to copy; empty if there is none
};

/// Held by whoever writes a recording folder. Goes with the process, however that ends.
class FolderLock {
  public:
    /// A Problem if another process, or another part of this one, writes the folder. REQUIRES: it has a manifest.
    static Result<FolderLock> take(const std::string& folder);
    FolderLock(FolderLock&& o) noexcept : file_(std::exchange(o.file_, -1)) {}
    FolderLock& operator=(FolderLock&& o) noexcept {
        std::swap(file_, o.file_);
        return *this;
    }
    ~FolderLock();

  private:
    explicit FolderLock(int file) : file_(file) {}
    int file_ = -1;
};

/// Whether a recording may be written to `folder`: nothing is there, or, if it may be replaced, a recording that nobody
/// is writing.
Result<void> may_write_folder(const std::string& folder, bool replace);

/// Writes everything but the streams in `contents.recorded`, whose place the folder's target file names. Makes
/// the folder if it is not there. Images that are not there are left out.
Result<void> write_recording_folder(const TargetFile& target, const FolderContents& contents, const std::string& folder,
                                    Progress& progress);

}  // namespace mt
