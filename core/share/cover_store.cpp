#include "share/cover_store.h"

#include <sqlite3.h>

#include <algorithm>
#include <cstdlib>
#include <map>
#include <set>
#include <span>

#include "base/text.h"

namespace mt {
namespace {

constexpr int kApplication = 0x4D544356;  // "MTCV"
constexpr int kVersion = 1;
constexpr std::size_t kMostSlots = std::size_t{1} << 24;  // of a function: more is no function

// One statement; what is wrong with it is the database's.
class Statement {
  public:
    Statement(sqlite3* db, const char* sql) { good_ = sqlite3_prepare_v2(db, sql, -1, &s_, nullptr) == SQLITE_OK; }
    ~Statement() { sqlite3_finalize(s_); }
    Statement(const Statement&) = delete;
    Statement& operator=(const Statement&) = delete;

    Statement& bind(const std::string& text) {
        good_ = good_ && sqlite3_bind_text(s_, ++at_, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT) == SQLITE_OK;
        return *this;
    }
    Statement& bind(std::int64_t number) {
        good_ = good_ && sqlite3_bind_int64(s_, ++at_, number) == SQLITE_OK;
        return *this;
    }
    Statement& bind(std::span<const std::uint8_t> bytes) {
        good_ = good_ && sqlite3_bind_blob(s_, ++at_, bytes.data(), static_cast<int>(bytes.size()), SQLITE_TRANSIENT) == SQLITE_OK;
        return *this;
    }
    /// True: there is a row.
    bool row() {
        if (!good_) return false;
        const int rc = sqlite3_step(s_);
        good_ = rc == SQLITE_ROW || rc == SQLITE_DONE;
        return rc == SQLITE_ROW;
    }
    bool done() {
        while (row()) {
        }
        const bool good = good_;
        sqlite3_reset(s_);
        at_ = 0;
        return good;
    }
    bool good() const { return good_; }
    std::int64_t number(int column) const { return sqlite3_column_int64(s_, column); }
    std::string text(int column) const {
        const auto* bytes = sqlite3_column_text(s_, column);
        return bytes == nullptr ? std::string() : std::string(reinterpret_cast<const char*>(bytes), static_cast<std::size_t>(sqlite3_column_bytes(s_, column)));
    }
    std::span<const std::uint8_t> bytes(int column) const {
        return {static_cast<const std::uint8_t*>(sqlite3_column_blob(s_, column)), static_cast<std::size_t>(sqlite3_column_bytes(s_, column))};
    }

  private:
    sqlite3_stmt* s_ = nullptr;
    int at_ = 0;
    bool good_ = false;
};

// Counts of a function as bytes: for each slot that ran, how many did not since the last, then executions, taken and
// undecided, each in seven bits a byte.
void put(std::vector<std::uint8_t>& out, std::uint64_t v) {
    for (; v >= 0x80; v >>= 7) out.push_back(static_cast<std::uint8_t>(v | 0x80));
    out.push_back(static_cast<std::uint8_t>(v));
}
std::vector<std::uint8_t> packed_counts(const CoverCounts& counts, std::uint32_t first, std::uint32_t behind) {
    std::vector<std::uint8_t> out;
    std::uint32_t next = first;
    for (std::uint32_t s = first; s < behind; ++s) {
        if (counts.executions[s] == 0) continue;
        put(out, s - next);
        put(out, counts.executions[s]);
        put(out, counts.taken[s]);
        put(out, counts.undecided[s]);
        next = s + 1;
    }
    return out;
}
// Adds them to `counts`; false where they are damaged.
bool unpack_counts(std::span<const std::uint8_t> in, CoverCounts& counts, std::uint32_t first, std::uint32_t behind) {
    std::size_t at = 0;
    const auto get = [&](std::uint64_t& v) {
        v = 0;
        for (unsigned shift = 0; at < in.size() && shift < 64; shift += 7) {
            const std::uint8_t b = in[at++];
            v |= std::uint64_t{b & 0x7Fu} << shift;
            if ((b & 0x80) == 0) return true;
        }
        return false;
    };
    std::uint64_t slot = first;
    while (at < in.size()) {
        std::uint64_t skipped = 0, n = 0, taken = 0, undecided = 0;
        if (!get(skipped) || !get(n) || !get(taken) || !get(undecided) || skipped >= behind - first) return false;
        slot += skipped;
        if (slot >= behind) return false;
        counts.executions[slot] += n;
        counts.taken[slot] += taken;
        counts.undecided[slot] += undecided;
        ++slot;
    }
    return true;
}

tl::unexpected<Problem> broken(sqlite3* db, const std::string& path) {
    const int code = sqlite3_errcode(db);
    if (code == SQLITE_BUSY || code == SQLITE_LOCKED)
        return failure("another program writes into it", path, "try again when that is done");
    if (code == SQLITE_READONLY || code == SQLITE_CANTOPEN || code == SQLITE_FULL || code == SQLITE_IOERR)
        return failure(std::string("cannot be written: ") + sqlite3_errmsg(db), path, "check the folder, the permissions and free space");
    return failure(std::string("is damaged: ") + sqlite3_errmsg(db), path, "use a copy, or begin a new store and add the recordings again");
}

}  // namespace

void CoverStore::Close::operator()(sqlite3* db) const { sqlite3_close(db); }
CoverStore::CoverStore(CoverStore&&) noexcept = default;
CoverStore& CoverStore::operator=(CoverStore&&) noexcept = default;
CoverStore::~CoverStore() = default;

Result<CoverStore> CoverStore::open(const std::string& path) {
    CoverStore store;
    store.path_ = path;
    sqlite3* db = nullptr;
    const int rc = sqlite3_open_v2(path.c_str(), &db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, nullptr);
    store.db_.reset(db);
    if (rc != SQLITE_OK)
        return failure(std::string("cannot be opened: ") + (db != nullptr ? sqlite3_errmsg(db) : "not enough memory"), path,
                       "check the folder and the permissions");
    sqlite3_busy_timeout(db, 5000);
    // What a damaged or hostile file could make of its own tables must not be run.
    sqlite3_db_config(db, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
    sqlite3_db_config(db, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
    sqlite3_limit(db, SQLITE_LIMIT_LENGTH, 256 << 20);
    const auto number = [&](const char* pragma) -> std::optional<std::int64_t> {
        Statement s(db, pragma);
        return s.row() ? std::optional(s.number(0)) : std::nullopt;
    };
    const auto application = number("PRAGMA application_id"), version = number("PRAGMA user_version"),
               tables = number("SELECT count(*) FROM sqlite_master");
    if (!application || !version || !tables) return failure("is no store of coverage", path, "name a *.mtcover, or one that is not there yet");
    if (*tables > 0 && *application != kApplication)
        return failure("is a database, but no store of coverage", path, "name a *.mtcover, or one that is not there yet");
    if (*version > kVersion)
        return failure("is of version " + std::to_string(*version), path, "this program reads version " + std::to_string(kVersion));
    const auto run = [&](const char* sql) { return sqlite3_exec(db, sql, nullptr, nullptr, nullptr) == SQLITE_OK; };
    if (!run("BEGIN IMMEDIATE")) return broken(db, path);
    if (*tables == 0) {
        const std::string head = "PRAGMA application_id = " + std::to_string(kApplication) + "; PRAGMA user_version = " + std::to_string(kVersion) + ";";
        if (!run(head.c_str()) ||
            !run("CREATE TABLE recording(id INTEGER PRIMARY KEY, input TEXT NOT NULL, core TEXT NOT NULL, made TEXT NOT NULL,"
                 " instructions INTEGER NOT NULL, UNIQUE(input, core));"
                 "CREATE TABLE function(id INTEGER PRIMARY KEY, core TEXT NOT NULL, name TEXT NOT NULL, bytes BLOB NOT NULL,"
                 " UNIQUE(core, name, bytes));"
                 "CREATE TABLE count(recording INTEGER NOT NULL REFERENCES recording, function INTEGER NOT NULL REFERENCES function,"
                 " data BLOB NOT NULL, PRIMARY KEY(recording, function)) WITHOUT ROWID;"
                 "CREATE TABLE reason(place TEXT PRIMARY KEY, reason TEXT NOT NULL, note TEXT NOT NULL) WITHOUT ROWID;"))
            return broken(db, path);
    }
    return store;
}

Result<void> CoverStore::add(const std::string& input, const std::string& made, const std::string& core, const CoverOf& of) {
    sqlite3* db = db_.get();
    std::int64_t instructions = 0;
    for (const std::uint64_t n : of.counts.executions) instructions += static_cast<std::int64_t>(n);
    std::int64_t old = 0;
    {
        Statement find(db, "SELECT id FROM recording WHERE input = ? AND core = ?");
        if (find.bind(input).bind(core).row()) old = find.number(0);
        if (!find.good()) return broken(db, path_);
    }
    if (old != 0)
        for (const char* sql : {"DELETE FROM count WHERE recording = ?", "DELETE FROM recording WHERE id = ?"}) {
            Statement s(db, sql);
            if (!s.bind(old).done()) return broken(db, path_);
        }
    Statement recording(db, "INSERT INTO recording(input, core, made, instructions) VALUES(?, ?, ?, ?)");
    if (!recording.bind(input).bind(core).bind(made).bind(instructions).done()) return broken(db, path_);
    const std::int64_t id = sqlite3_last_insert_rowid(db);
    Statement known(db, "SELECT id FROM function WHERE core = ? AND name = ? AND bytes = ?");
    Statement insert(db, "INSERT INTO function(core, name, bytes) VALUES(?, ?, ?)");
    Statement count(db, "INSERT INTO count(recording, function, data) VALUES(?, ?, ?)");
    std::set<std::int64_t> put_in;  // of two functions with one name and the same bytes the first counts
    for (std::uint32_t f = 1; f < of.table->size(); ++f) {
        const Function& function = (*of.table)[f];
        if (function.end <= function.entry || function.end - function.entry > kMostSlots) continue;
        const std::vector<std::uint8_t> data = packed_counts(of.counts, function.entry, function.end);
        if (data.empty()) continue;
        const auto bytes = of.code->bytes_of(function.entry, function.end);
        std::int64_t number = 0;
        if (known.bind(core).bind(function.name).bind(bytes).row()) number = known.number(0);
        if (!known.done()) return broken(db, path_);
        if (number == 0) {
            if (!insert.bind(core).bind(function.name).bind(bytes).done()) return broken(db, path_);
            number = sqlite3_last_insert_rowid(db);
        }
        if (!put_in.insert(number).second) continue;
        if (!count.bind(id).bind(number).bind(std::span<const std::uint8_t>(data)).done()) return broken(db, path_);
    }
    return {};
}

Result<CoverMoved> CoverStore::sum_into(const std::string& core, CoverOf& build) const {
    sqlite3* db = db_.get();
    CoverMoved moved;
    std::map<std::string, std::vector<std::uint32_t>> named;
    for (std::uint32_t f = 1; f < build.table->size(); ++f) named[(*build.table)[f].name].push_back(f);
    for (auto* list : {&build.counts.executions, &build.counts.taken, &build.counts.undecided})
        list->assign(build.code->slot_count(), 0);
    std::map<std::int64_t, std::uint32_t> places;  // of the store's functions in this build
    std::set<std::string> same, lost, missing;
    Statement functions(db, "SELECT id, name, bytes FROM function WHERE core = ?");
    functions.bind(core);
    while (functions.row()) {
        const std::string name = functions.text(1);
        const auto bytes = functions.bytes(2);
        const auto found = named.find(name);
        if (found == named.end()) {
            missing.insert(name);
            continue;
        }
        const auto at = std::find_if(found->second.begin(), found->second.end(), [&](std::uint32_t f) {
            const auto here = build.code->bytes_of((*build.table)[f].entry, (*build.table)[f].end);
            return here.size() == bytes.size() && std::equal(here.begin(), here.end(), bytes.begin());
        });
        if (at == found->second.end()) {
            lost.insert(name);
            continue;
        }
        same.insert(name);
        places[functions.number(0)] = *at;
    }
    if (!functions.good()) return broken(db, path_);
    Statement counts(db, "SELECT function, data FROM count");
    while (counts.row()) {
        const auto place = places.find(counts.number(0));
        if (place == places.end()) continue;
        const Function& f = (*build.table)[place->second];
        if (!unpack_counts(counts.bytes(1), build.counts, f.entry, f.end))
            return failure("is damaged: the counts of " + f.name + " make no sense", path_,
                           "use a copy, or begin a new store and add the recordings again");
    }
    if (!counts.good()) return broken(db, path_);
    for (const std::string& name : lost)
        if (same.count(name) == 0) moved.changed.push_back(name);
    moved.kept.assign(same.begin(), same.end());
    moved.gone.assign(missing.begin(), missing.end());
    return moved;
}

Result<std::vector<CoverStore::Contribution>> CoverStore::contributions() const {
    std::vector<Contribution> all;
    std::map<std::int64_t, std::size_t> place;
    Statement recordings(db_.get(), "SELECT id, input, made, instructions FROM recording ORDER BY id");
    while (recordings.row()) {
        place[recordings.number(0)] = all.size();
        all.push_back({recordings.text(1), recordings.text(2), static_cast<std::uint64_t>(std::max<std::int64_t>(0, recordings.number(3))), 0});
    }
    if (!recordings.good()) return broken(db_.get(), path_);
    std::map<std::int64_t, std::set<std::uint64_t>> seen;
    Statement counts(db_.get(), "SELECT recording, function, data FROM count ORDER BY recording");
    while (counts.row()) {
        const auto at = place.find(counts.number(0));
        if (at == place.end()) continue;
        // The distances between those that ran are the first of each four numbers.
        const auto in = counts.bytes(2);
        std::uint64_t slot = 0, v = 0;
        unsigned shift = 0, which = 0;
        for (const std::uint8_t b : in) {
            if (shift < 64) v |= std::uint64_t{b & 0x7Fu} << shift;
            shift += 7;
            if ((b & 0x80) != 0) continue;
            if (which == 0) {
                slot += v;
                all[at->second].fresh += seen[counts.number(1)].insert(slot).second ? 1 : 0;
                ++slot;
            }
            which = (which + 1) % 4;
            v = 0;
            shift = 0;
        }
    }
    if (!counts.good()) return broken(db_.get(), path_);
    return all;
}

Result<void> CoverStore::justify(const Reason& r) {
    Statement s(db_.get(), r.reason.empty() ? "DELETE FROM reason WHERE place = ?"
                                            : "INSERT OR REPLACE INTO reason(place, reason, note) VALUES(?, ?, ?)");
    s.bind(r.place);
    if (!r.reason.empty()) s.bind(r.reason).bind(r.note);
    if (!s.done()) return broken(db_.get(), path_);
    return {};
}

Result<std::vector<CoverStore::Reason>> CoverStore::reasons() const {
    std::vector<Reason> all;
    Statement s(db_.get(), "SELECT place, reason, note FROM reason ORDER BY place");
    while (s.row()) all.push_back({s.text(0), s.text(1), s.text(2)});
    if (!s.good()) return broken(db_.get(), path_);
    return all;
}

Result<void> CoverStore::keep() {
    if (sqlite3_exec(db_.get(), "COMMIT; BEGIN IMMEDIATE", nullptr, nullptr, nullptr) != SQLITE_OK) return broken(db_.get(), path_);
    return {};
}

std::vector<std::string> justified_but_run(const std::vector<CoverStore::Reason>& reasons, const Coverage& coverage) {
    std::vector<std::string> all;
    for (const CoverStore::Reason& r : reasons) {
        for (const CoverFunction& f : coverage.functions)
            if (f.name == r.place && f.sums.instructions_run > 0)
                all.push_back(r.place + " ran, though it is justified: " + r.reason);
        if (r.place.starts_with("0x"))
            for (const CoverBranch& b : coverage.branches)
                if (b.both() && coverage.code->address(b.slot) == std::strtoull(r.place.c_str(), nullptr, 16))
                    all.push_back("the branch at " + r.place + " went both ways, though it is justified: " + r.reason);
        const std::size_t colon = r.place.rfind(':');
        if (colon == std::string::npos) continue;
        const std::string file = r.place.substr(0, colon), line = r.place.substr(colon + 1);
        for (const CoverFile& f : coverage.files) {
            const bool same = f.name == file || (f.name.size() > file.size() && f.name.ends_with("/" + file));
            for (const CoverLine& l : f.lines)
                if (same && std::to_string(l.line) == line && l.count > 0)
                    all.push_back(r.place + " ran " + plural(l.count, "time", "times") + ", though it is justified: " + r.reason);
        }
    }
    return all;
}

}  // namespace mt
