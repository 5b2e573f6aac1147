#include "capture/receiver.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <ctime>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::size_t kBuffer = 1 << 20;
constexpr std::uint64_t kBlock = 64 * 1024;
constexpr auto kRetry = std::chrono::milliseconds(500);

std::string now_text() {
    const std::time_t now = std::time(nullptr);
    std::tm utc{};
    ::gmtime_r(&now, &utc);
    char text[32];
    std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &utc);
    return text;
}

double seconds(Receiver::Steady::duration d) { return std::chrono::duration<double>(d).count(); }

}  // namespace

Result<std::unique_ptr<Receiver>> Receiver::create(const std::string& path, const std::string& source_text,
                                                   std::unique_ptr<Source> source, Reopen reopen, Limits limits) {
    std::unique_ptr<Receiver> r(new Receiver);
    r->path_ = path;
    r->source_ = std::move(source);
    r->reopen_ = std::move(reopen);
    r->limits_ = limits;
    r->buffer_.resize(kBuffer);
    r->file_ = ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
    if (r->file_ < 0)
        return failure(std::string("cannot write: ") + std::strerror(errno), path, "check free space and permissions");
    if (limits.keep_newest) {  // try it out before the first byte
        const std::uint8_t block[4096] = {};
        const bool can = ::pwrite(r->file_, block, sizeof block, 0) == sizeof block &&
                         ::fallocate(r->file_, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, 0, sizeof block) == 0;
        const int why = errno;
        if (::ftruncate(r->file_, 0) != 0 || !can)
            return failure(std::string("this file system cannot give up the oldest bytes: ") + std::strerror(why), path,
                           "record onto another disk, or with keep = \"oldest\"");
    }
    if (auto journal = r->journal_.open(path + ".journal"); !journal) return tl::make_unexpected(journal.error());
    r->journal_.started(source_text, now_text());
    r->state_.connected = r->source_ != nullptr;
    r->opened_ = Steady::now();
    return r;
}

Receiver::~Receiver() {
    if (file_ >= 0) ::close(file_);
}

void Receiver::begin(Steady::time_point start) {
    const std::lock_guard guard(lock_);
    start_ = start;
    last_byte_ = start;
    begun_ = true;
}

void Receiver::set_start(double after_s, double slack_s) {
    const std::lock_guard guard(lock_);
    journal_.first_byte(after_s, slack_s);
}

void Receiver::discard_waiting() {
    constexpr std::uint64_t kMost = 64 << 20;  // a line that never rests is not emptied
    std::uint64_t bytes = 0;
    while (source_ && bytes < kMost) {
        auto n = source_->read(buffer_, Source::Milliseconds(0));
        if (!n || *n == 0) break;
        bytes += *n;
    }
    const std::lock_guard guard(lock_);
    if (bytes > 0) journal_.waited(bytes);
}

bool Receiver::file_is_there() const {
    struct stat info {};
    return ::fstat(file_, &info) == 0 && info.st_nlink > 0;
}

void Receiver::lost(const std::string& reason) {
    const std::lock_guard guard(lock_);
    source_.reset();
    state_.connected = false;
    state_.trouble = reason;
    if (!broken_) {
        broken_ = true;
        lost_at_ = Steady::now();
        broke();
        journal_.lost(state_.bytes, reason);
    }
}

bool Receiver::pump(Source::Milliseconds patience) {
    if (ended_) return false;
    if (!source_) {
        const auto now = Steady::now();
        if (!reopen_ || now - tried_ < kRetry) {
            ::usleep(static_cast<useconds_t>(std::min<std::int64_t>(patience.count(), 20) * 1000));
            return false;
        }
        tried_ = now;
        auto again = reopen_();
        const std::lock_guard guard(lock_);
        state_.retries = again ? 0 : state_.retries + 1;
        if (!again) return false;
        source_ = std::move(*again);
        state_.connected = true;
        state_.trouble.clear();
    }
    auto n = source_->read(buffer_, patience);
    if (!n) {
        lost(n.error().what);
        return false;
    }
    const std::uint64_t lost_there = source_->lost();
    const std::string gap = source_->gap();
    std::unique_lock guard(lock_);
    state_.fill = source_->fill();
    state_.waiting_for = source_->waiting_for();
    state_.exhausted = source_->exhausted();
    if (lost_there > 0) {
        state_.lost_by_source += lost_there;
        broke();
        journal_.lost(state_.bytes, "the target's buffer overflowed and lost " + bytes_text(lost_there));
        journal_.resumed(state_.bytes, 0);
    }
    if (*n == 0) return false;
    if (!gap.empty() && state_.bytes > 0) {
        broke();
        journal_.lost(state_.bytes, gap);
        journal_.resumed(state_.bytes, 0);
    }
    const auto now = Steady::now();
    if (broken_) {
        broken_ = false;
        journal_.resumed(state_.bytes, seconds(now - lost_at_));
    }
    if (begun_ && state_.first_byte_after_s < 0) {
        state_.first_byte_after_s = seconds(now - start_);
        // Without a debug server nobody knows when the target sent it: not before the line was opened.
        if (limits_.first_byte_starts) journal_.first_byte(state_.first_byte_after_s, seconds(now - opened_));
    }
    last_byte_ = now;
    guard.unlock();  // a disk may take its time: nobody who asks for the state waits for it
    write(std::span(buffer_).first(*n));
    if (const std::uint64_t old = source_->old_bytes(); old > 0 && !told_old_ && state_.bytes >= old) {
        const std::lock_guard again(lock_);
        told_old_ = true;
        journal_.note(old, "the recording began here: what comes before was in the target's buffer already");
    }
    if (now - flushed_ > std::chrono::seconds(1)) {  // begins writing back without waiting for it
        flushed_ = now;
        ::sync_file_range(file_, 0, 0, SYNC_FILE_RANGE_WRITE);
    }
    return true;
}

// Short writes and a full disk leave what was written; the rest is counted. Only this thread changes the counts.
void Receiver::write(std::span<const std::uint8_t> bytes) {
    std::size_t use = bytes.size();
    if (!limits_.keep_newest && limits_.bytes > 0)
        use = static_cast<std::size_t>(
            std::min<std::uint64_t>(use, limits_.bytes - std::min(limits_.bytes, state_.bytes)));
    std::size_t at = 0;
    std::string trouble;
    while (at < use && !state_.full && trouble.empty()) {
        const ssize_t n = ::pwrite(file_, bytes.data() + at, use - at, static_cast<off_t>(state_.bytes + at));
        if (n > 0)
            at += static_cast<std::size_t>(n);
        else if (n == 0 || errno != EINTR)
            trouble = n == 0            ? "the disk takes no more"
                      : errno == ENOSPC ? "the disk is full"
                      : errno == EFBIG  ? "the file may grow no further"
                      : errno == EDQUOT ? "the disk quota is used up"
                                        : std::string("cannot write: ") + std::strerror(errno);
    }
    const std::lock_guard guard(lock_);
    state_.bytes += at;
    if (!trouble.empty()) {
        state_.full = true;
        state_.trouble = trouble;
    }
    if (at < use) state_.unsaved += use - at;
    if (!limits_.keep_newest && limits_.bytes > 0 && state_.bytes >= limits_.bytes) {
        state_.exhausted = true;
    }
    if (limits_.keep_newest) give_up_oldest();
}

void Receiver::give_up_oldest() {
    if (state_.bytes - state_.first <= limits_.bytes + limits_.bytes / 8 + kBlock) return;
    const std::uint64_t first = (state_.bytes - limits_.bytes) / kBlock * kBlock;
    if (first <= state_.first) return;
    // The journal first: a crash in between must not take zeros for trace.
    journal_.dropped(first);
    ::fallocate(file_, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, static_cast<off_t>(state_.first),
                static_cast<off_t>(first - state_.first));
    state_.first = first;
}

void Receiver::note(const std::string& text) {
    const std::lock_guard guard(lock_);
    if (!ended_) journal_.note(state_.bytes, text);
}

void Receiver::halted(unsigned times, double halted_seconds) {
    const std::lock_guard guard(lock_);
    if (!ended_) journal_.halted(times, halted_seconds);
}

void Receiver::end(const std::string& reason) {
    const std::lock_guard guard(lock_);
    if (ended_) return;
    ended_ = true;
    journal_.ended(state_.bytes, state_.full ? state_.trouble : reason, state_.unsaved,
                   begun_ ? seconds(Steady::now() - start_) : 0);
    ::fdatasync(file_);
    source_.reset();
}

ReceiverState Receiver::state() const {
    const std::lock_guard guard(lock_);
    ReceiverState s = state_;
    if (begun_) s.quiet_s = seconds(Steady::now() - last_byte_);
    return s;
}

}  // namespace mt
