#include "base/read_file.h"
#include "capture/journal.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <sstream>

#include <nlohmann/json.hpp>

namespace mt {
namespace {

using nlohmann::json;
constexpr off_t kRoom = 16 * 1024;
constexpr std::size_t kLongestLine = 4096;

double number_of(const json& o, const char* key, double fallback) {
    const auto found = o.find(key);
    return found != o.end() && found->is_number() ? found->get<double>() : fallback;
}
std::uint64_t offset_of(const json& o, const char* key) {
    const auto found = o.find(key);
    return found != o.end() && found->is_number_unsigned() ? found->get<std::uint64_t>() : 0;
}
std::string text_of(const json& o, const char* key) {
    const auto found = o.find(key);
    return found != o.end() && found->is_string() ? found->get<std::string>().substr(0, 1000) : std::string();
}

void take(StreamJournal& j, const json& o) {
    const std::string what = text_of(o, "what");
    const std::uint64_t offset = offset_of(o, "offset");
    if (what == "started") {
        j.source = text_of(o, "source");
        j.started = text_of(o, "when");
    } else if (what == "first_byte") {
        j.after_s = number_of(o, "after_s", 0);
        j.after_slack_s = number_of(o, "slack_s", 0);
    } else if (what == "waited") {
        j.waited = offset_of(o, "bytes");
    } else if (what == "lost") {
        if (j.breaks.empty() || j.breaks.back().offset < offset) j.breaks.push_back({offset, text_of(o, "reason"), -1});
    } else if (what == "resumed") {
        if (!j.breaks.empty() && j.breaks.back().offset == offset)
            j.breaks.back().missing_s = number_of(o, "missing_s", -1);
    } else if (what == "dropped") {
        j.first = std::max(j.first, offset);
    } else if (what == "note") {
        if (j.notes.empty() || j.notes.back().offset <= offset) j.notes.push_back({offset, text_of(o, "text")});
    } else if (what == "halted") {
        j.halts = static_cast<unsigned>(std::min<std::uint64_t>(offset_of(o, "times"), 1'000'000'000));
        j.halted_s = number_of(o, "seconds", 0);
    } else if (what == "ended") {
        j.ended = true;
        j.end_reason = text_of(o, "reason");
        j.unsaved = offset_of(o, "unsaved");
        j.lasted_s = number_of(o, "lasted_s", 0);
    }
}

}  // namespace

StreamJournal read_journal(const std::string& path) {
    StreamJournal journal;
    const auto text = read_small_file(path, 256'000'000, "journal");
    if (!text) return journal;
    std::istringstream in(*text);
    journal.present = true;
    std::string line;
    std::size_t lines = 0;
    while (std::getline(in, line) && lines++ < 1'000'000) {
        if (line.size() > kLongestLine) continue;
        const json o = json::parse(line, nullptr, false);
        if (o.is_object()) take(journal, o);
    }
    return journal;
}

JournalWriter::~JournalWriter() {
    if (file_ < 0) return;
    if (::ftruncate(file_, static_cast<off_t>(at_)) != 0) {
    }  // gives back the room set aside
    ::close(file_);
}

Result<void> JournalWriter::open(const std::string& path) {
    file_ = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (file_ < 0 || ::posix_fallocate(file_, 0, kRoom) != 0)
        return failure(std::string("cannot write: ") + std::strerror(errno), path, "check free space and permissions");
    if (::ftruncate(file_, 0) != 0 || ::fallocate(file_, FALLOC_FL_KEEP_SIZE, 0, kRoom) != 0) {
    }  // room is a courtesy
    return {};
}

void JournalWriter::line(const std::string& text) {
    if (file_ < 0) return;
    const std::string whole = text + "\n";
    const ssize_t n = ::pwrite(file_, whole.data(), whole.size(), static_cast<off_t>(at_));
    if (n > 0) at_ += static_cast<std::uint64_t>(n);
}

void JournalWriter::started(const std::string& source, const std::string& when) {
    line(json{{"what", "started"}, {"source", source}, {"when", when}}.dump());
}
void JournalWriter::first_byte(double after_s, double slack_s) {
    line(json{{"what", "first_byte"}, {"after_s", after_s}, {"slack_s", slack_s}}.dump());
}
void JournalWriter::waited(std::uint64_t bytes) { line(json{{"what", "waited"}, {"bytes", bytes}}.dump()); }
void JournalWriter::lost(std::uint64_t offset, const std::string& reason) {
    line(json{{"what", "lost"}, {"offset", offset}, {"reason", reason}}.dump(-1, ' ', false,
                                                                             json::error_handler_t::replace));
}
void JournalWriter::resumed(std::uint64_t offset, double missing_s) {
    line(json{{"what", "resumed"}, {"offset", offset}, {"missing_s", missing_s}}.dump());
}
void JournalWriter::dropped(std::uint64_t first) { line(json{{"what", "dropped"}, {"offset", first}}.dump()); }
void JournalWriter::note(std::uint64_t offset, const std::string& text) {
    line(json{{"what", "note"}, {"offset", offset}, {"text", text.substr(0, 1000)}}.dump(
        -1, ' ', false, json::error_handler_t::replace));
}
void JournalWriter::halted(unsigned times, double seconds) {
    line(json{{"what", "halted"}, {"times", times}, {"seconds", seconds}}.dump());
}
void JournalWriter::ended(std::uint64_t offset, const std::string& reason, std::uint64_t unsaved, double lasted_s) {
    line(json{{"what", "ended"}, {"offset", offset}, {"reason", reason}, {"unsaved", unsaved}, {"lasted_s", lasted_s}}
             .dump(-1, ' ', false, json::error_handler_t::replace));
}

}  // namespace mt
