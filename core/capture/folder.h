// The recording folder on disk: written when a recording is saved, and before a live one begins.
// docs/formats/recording-folder.md.
#pragma once

#include <map>
#include <string>
#include <string_view>
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

/// Writes everything but the streams in `contents.recorded`, whose place the folder's target file names. Makes
/// the folder if it is not there. Images that are not there are left out.
Result<void> write_recording_folder(const TargetFile& target, const FolderContents& contents, const std::string& folder,
                                    Progress& progress);

}  // namespace mt
