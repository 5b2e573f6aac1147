// Coverage of many recordings in one file (*.mtcover, docs/formats/cover-store.md): who contributed what, and what people
// said of code that need not run.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "measure/coverage.h"

struct sqlite3;

namespace mt {

/// A SQLite database. One thread at a time. Changes are kept when `keep` is called, all of them or none.
class CoverStore {
  public:
    struct Contribution {
        std::string input, made;
        std::uint64_t instructions = 0;  ///< executed
        std::uint64_t fresh = 0;         ///< instructions of the program that no recording before it had run
    };
    /// Code that need not run: a function by its name, a line as "guide.c:41", or a branch that need not go both ways
    /// by its address, as "0x080003e8".
    struct Reason {
        std::string place, reason, note;
    };

    /// Opens it, or makes it if it is not there. A Problem if it is no such file, of a later version, or damaged.
    static Result<CoverStore> open(const std::string& path);
    CoverStore(CoverStore&&) noexcept;
    CoverStore& operator=(CoverStore&&) noexcept;
    ~CoverStore();

    /// Adds a recording's counts, or puts them in place of those that the same input had.
    Result<void> add(const std::string& input, const std::string& made, const std::string& core, const CoverOf& of);
    /// Counts of all recordings for this build: functions of others count where they are the same byte for byte.
    Result<CoverMoved> sum_into(const std::string& core, CoverOf& build) const;
    /// In the order in which they came.
    Result<std::vector<Contribution>> contributions() const;
    /// An empty reason takes it away.
    Result<void> justify(const Reason& reason);
    Result<std::vector<Reason>> reasons() const;
    Result<void> keep();

  private:
    CoverStore() = default;
    struct Close {
        void operator()(sqlite3* db) const;
    };
    std::unique_ptr<sqlite3, Close> db_;
    std::string path_;
};

/// Whether a justified place ran after all: a sentence for each that did.
std::vector<std::string> justified_but_run(const std::vector<CoverStore::Reason>& reasons, const Coverage& coverage);

}  // namespace mt
