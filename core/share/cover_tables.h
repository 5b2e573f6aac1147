// Coverage as CSV, JSON, text and lcov's tracefile.
#pragma once

#include <iosfwd>
#include <map>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "measure/coverage.h"

namespace mt {

/// Coverage of one core's image, named as the core where there are several.
struct CoverOfCore {
    std::string core;
    Coverage coverage;
};

/// Only what is named: functions by name, files by name or by the end of their path. Empty: everything.
struct CoverChoice {
    std::vector<std::string> names;
    bool takes(const CoverFunction& f) const;
    bool takes(const CoverFile& f) const;
    bool empty() const { return names.empty(); }
};

/// The folder of a source file: "." for one without.
std::string cover_folder_of(const std::string& file);
/// What of the chosen files' folders ran, by folder.
std::map<std::string, CoverSums> cover_folders(const Coverage& coverage, const CoverChoice& choice);

/// `cover --csv`: a row for each function.
void write_cover_csv(const std::vector<CoverOfCore>& all, const CoverChoice& choice, std::ostream& out);
/// `cover --instructions`: a row for each instruction of the image.
void write_cover_instructions_csv(const std::vector<CoverOfCore>& all, const CoverChoice& choice, std::ostream& out);
nlohmann::ordered_json cover_json(const std::vector<CoverOfCore>& all, const CoverChoice& choice);
/// For people: sums, files, and the functions that never ran.
std::string cover_text(const std::vector<CoverOfCore>& all, const CoverChoice& choice);
/// The tracefile that lcov's geninfo(1) describes: SF, FN, FNDA, BRDA, DA. A branch of the object code is a block of
/// two branches, taken and not taken. Lines of several cores are added up.
void write_lcov(const std::vector<CoverOfCore>& all, const CoverChoice& choice, std::ostream& out);

}  // namespace mt
