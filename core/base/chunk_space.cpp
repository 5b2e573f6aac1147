#include "base/chunk_space.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cstdint>
#include <map>
#include <mutex>
#include <new>
#include <string>

#include "base/scratch.h"

namespace mt {
namespace {

constexpr std::size_t kSegment = std::size_t{64} << 20, kAlign = 64, kPage = 4096;

// A stretch of memory with its place in the file; given back to the system when the last chunk in it is.
struct Segment {
    std::size_t used = 0, live = 0;
    off_t at = 0;
    bool full = false;
};

class Space {
  public:
    void* allocate(std::size_t bytes) {
        const std::lock_guard guard(lock_);
        bytes = (bytes + kAlign - 1) / kAlign * kAlign;
        if (heap_ + bytes > limit_ && bytes <= kSegment)
            if (void* place = in_segment((bytes + kPage - 1) / kPage * kPage)) return place;
        heap_ += bytes;
        void* place = std::aligned_alloc(kAlign, bytes);
        if (place == nullptr) throw std::bad_alloc();
        return place;
    }
    void release(void* chunk, std::size_t bytes) noexcept {
        const std::lock_guard guard(lock_);
        bytes = (bytes + kAlign - 1) / kAlign * kAlign;
        const auto at = reinterpret_cast<std::uintptr_t>(chunk);
        auto next = segments_.upper_bound(at);
        if (next != segments_.begin()) {
            auto found = std::prev(next);
            if (at < found->first + kSegment) {
                bytes = (bytes + kPage - 1) / kPage * kPage;
                found->second.live -= bytes;
                in_file_ -= bytes;
                if (found->second.live == 0 && found->second.full) drop(found);
                return;
            }
        }
        std::free(chunk);
        heap_ -= bytes;
    }
    std::size_t bytes_in_file() {
        const std::lock_guard guard(lock_);
        return in_file_;
    }
    void set_limit(std::size_t bytes) {
        const std::lock_guard guard(lock_);
        limit_ = bytes;
    }

  private:
    using Segments = std::map<std::uintptr_t, Segment>;

    void* in_segment(std::size_t bytes) {
        if (current_ == segments_.end() || current_->second.used + bytes > kSegment)
            if (!add_segment()) return nullptr;
        Segment& s = current_->second;
        void* place = reinterpret_cast<void*>(current_->first + s.used);
#ifdef MADV_POPULATE_WRITE
        (void)::madvise(place, bytes, MADV_POPULATE_WRITE);  // all its pages at once, not one fault each
#endif
        s.used += bytes;
        s.live += bytes;
        in_file_ += bytes;
        return place;
    }
    bool add_segment() {
        if (file_ < 0 && !open_file()) return false;
        // Its blocks are set aside first: writing to it can then not fail later, whatever becomes of the disk.
        if (::fallocate(file_, 0, end_, static_cast<off_t>(kSegment)) != 0) return false;
        void* place = ::mmap(nullptr, kSegment, PROT_READ | PROT_WRITE, MAP_SHARED, file_, end_);
        if (place == MAP_FAILED) return false;
        if (current_ != segments_.end()) {
            current_->second.full = true;
            // Out of this process's memory, not out of the file: what is looked at comes back page by page.
            (void)::madvise(reinterpret_cast<void*>(current_->first), kSegment, MADV_DONTNEED);
            if (current_->second.live == 0) drop(current_);
        }
        Segment s;
        s.at = end_;
        end_ += static_cast<off_t>(kSegment);
        current_ = segments_.emplace(reinterpret_cast<std::uintptr_t>(place), s).first;
        return true;
    }
    void drop(Segments::iterator s) noexcept {
        ::munmap(reinterpret_cast<void*>(s->first), kSegment);
        ::fallocate(file_, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, s->second.at, static_cast<off_t>(kSegment));
        if (current_ == s) current_ = segments_.end();
        segments_.erase(s);
    }
    bool open_file() {
        file_ = open_scratch_file();
        return file_ >= 0;
    }

    std::mutex lock_;
    Segments segments_;
    Segments::iterator current_ = segments_.end();
    std::size_t heap_ = 0, in_file_ = 0, limit_ = kHeapForColumns;
    int file_ = -1;
    off_t end_ = 0;
};

Space& space() {
    static Space* the = new Space;  // outlives every column, also static ones
    return *the;
}

}  // namespace

void* allocate_chunk(std::size_t bytes) { return space().allocate(bytes); }
void free_chunk(void* chunk, std::size_t bytes) noexcept { space().release(chunk, bytes); }
std::size_t chunk_bytes_in_file() { return space().bytes_in_file(); }
void set_heap_for_columns(std::size_t bytes) { space().set_limit(bytes); }

}  // namespace mt
