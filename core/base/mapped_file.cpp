#include "base/mapped_file.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <map>
#include <mutex>

#include "base/packed.h"
#include "base/read_file.h"
#include "base/text.h"

namespace mt {
namespace {

// A page of a mapped file that is gone (the file was cut short meanwhile) raises SIGBUS when it is read.
// The handler puts a page of zeros there and lets the reading go on; other faults go to who was there before.
struct Mapping {
    std::atomic<std::uintptr_t> begin{0}, end{0};
};
// Blocks are added as they are needed and never given back: the handler may walk along them at any time.
struct Mappings {
    std::array<Mapping, 64> all;
    std::atomic<Mappings*> next{nullptr};
};
Mappings mappings;
struct sigaction before_us;

void on_bus_error(int signal, siginfo_t* info, void* context) {
    const auto at = reinterpret_cast<std::uintptr_t>(info->si_addr);
    for (const Mappings* some = &mappings; some != nullptr; some = some->next)
        for (const Mapping& m : some->all) {
            if (at < m.begin || at >= m.end) continue;
            const auto page = static_cast<std::uintptr_t>(::sysconf(_SC_PAGESIZE));
            if (::mmap(reinterpret_cast<void*>(at / page * page), page, PROT_READ,
                       MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0) != MAP_FAILED)
                return;
        }
    if ((before_us.sa_flags & SA_SIGINFO) != 0 && before_us.sa_sigaction != nullptr)
        before_us.sa_sigaction(signal, info, context);
    else
        ::signal(signal, SIG_DFL);
}

void watch_mapping(const void* data, std::size_t size) {
    static std::once_flag once;
    std::call_once(once, [] {
        struct sigaction action {};
        action.sa_sigaction = on_bus_error;
        action.sa_flags = SA_SIGINFO;
        ::sigaction(SIGBUS, &action, &before_us);
    });
    const auto begin = reinterpret_cast<std::uintptr_t>(data);
    for (Mappings* some = &mappings;; some = some->next) {
        for (Mapping& m : some->all) {
            std::uintptr_t free = 0;
            if (!m.end.compare_exchange_strong(free, begin)) continue;  // taken, still empty
            m.begin = begin;
            m.end = begin + size;
            return;
        }
        if (some->next != nullptr) continue;
        auto* fresh = new Mappings;
        Mappings* none = nullptr;
        if (!some->next.compare_exchange_strong(none, fresh)) delete fresh;  // another thread was first
    }
}

void forget_mapping(const void* data) {
    for (Mappings* some = &mappings; some != nullptr; some = some->next)
        for (Mapping& m : some->all)
            if (m.begin == reinterpret_cast<std::uintptr_t>(data)) {
                m.begin = 0;
                m.end = 0;
                return;
            }
}

Result<void*> map_whole(int fd, std::size_t size, const std::string& path) {
    void* at = ::mmap(nullptr, size, PROT_READ, MAP_SHARED | MAP_NORESERVE, fd, 0);
    if (at == MAP_FAILED) return failure(std::string("cannot map: ") + std::strerror(errno), path);
    watch_mapping(at, size);
    return at;
}

}  // namespace

// Closes the descriptor.
Result<std::shared_ptr<MappedFile>> MappedFile::map(int fd, std::size_t size, const std::string& path) {
    std::shared_ptr<MappedFile> file(new MappedFile);
    file->path_ = path;
    if (size > 0) {
        const auto at = map_whole(fd, size, path);
        if (!at) {
            ::close(fd);
            return tl::make_unexpected(at.error());
        }
        file->data_ = static_cast<const std::uint8_t*>(*at);
        file->mapped_ = size;
        file->size_ = size;
    }
    ::close(fd);
    return file;
}

Result<std::shared_ptr<const MappedFile>> MappedFile::open(const std::string& path) {
    struct stat info {};
    const auto fd = open_regular(path, info);
    if (!fd) return tl::make_unexpected(fd.error());
    auto file = map(*fd, static_cast<std::size_t>(info.st_size), path);
    if (!file) return tl::make_unexpected(file.error());
    if (packing_of((*file)->bytes()).empty()) return std::shared_ptr<const MappedFile>(std::move(*file));
    static std::mutex lock;
    static std::map<std::string, std::weak_ptr<const MappedFile>> unpacked;
    const std::string key = std::to_string(info.st_dev) + ' ' + std::to_string(info.st_ino) + ' ' +
                            std::to_string(info.st_size) + ' ' + std::to_string(info.st_mtim.tv_sec) + ' ' +
                            std::to_string(info.st_mtim.tv_nsec) + ' ' + path;
    const std::lock_guard guard(lock);  // who wants the same waits for it
    if (const auto there = unpacked[key].lock()) return there;
    std::erase_if(unpacked, [](const auto& one) { return one.second.expired(); });
    auto made = unpack({path});
    if (made) unpacked[key] = *made;
    // Two bytes say gzip, which may be chance: what cannot be unpacked at all is read as it is.
    if (!made && packing_of((*file)->bytes()) == "gzip") return std::shared_ptr<const MappedFile>(std::move(*file));
    return made;
}

Result<std::shared_ptr<const MappedFile>> MappedFile::unpack(const std::vector<std::string>& paths) {
    auto out = unpack_file(paths);
    if (!out) return tl::make_unexpected(out.error());
    auto file = map(out->file, out->bytes, paths.front());
    if (!file) return tl::make_unexpected(file.error());
    (*file)->trouble_ = out->trouble;
    return std::shared_ptr<const MappedFile>(std::move(*file));
}

Result<std::shared_ptr<const MappedFile>> MappedFile::open(const std::vector<std::string>& paths) {
    if (paths.size() == 1) return open(paths.front());
    // Packed first and split then: only the first part begins as a packed file does.
    const auto packed = [](const std::string& path) {
        struct stat info {};
        const auto fd = open_regular(path, info);
        const auto file = fd ? map(*fd, static_cast<std::size_t>(info.st_size), path)
                             : Result<std::shared_ptr<MappedFile>>(tl::make_unexpected(fd.error()));
        return file && !packing_of((*file)->bytes()).empty();
    };
    if (packed(paths.front()) && !packed(paths[1])) return unpack(paths);
    const int fd = open_scratch_file();
    if (fd < 0)
        return failure("there is nowhere to put the parts together", paths.front(),
                       "check free space and permissions of the cache folder");
    std::size_t all = 0;
    std::string trouble;
    for (const std::string& path : paths) {
        const auto part = open(path);
        if (!part) {
            ::close(fd);
            return part;
        }
        if (trouble.empty()) trouble = (*part)->trouble();
        const auto bytes = (*part)->bytes();
        for (std::size_t done = 0; done < bytes.size();) {
            const ssize_t n = ::pwrite(fd, bytes.data() + done, std::min(bytes.size() - done, std::size_t{1} << 24),
                                       static_cast<off_t>(all + done));
            if (n < 0 && errno == EINTR) continue;
            if (n <= 0) {
                ::close(fd);
                return failure("the disk is full while the parts are put together", path,
                               "free some space in the cache folder");
            }
            done += static_cast<std::size_t>(n);
        }
        all += bytes.size();
    }
    auto file = map(fd, all, paths.front());
    if (!file) return tl::make_unexpected(file.error());
    (*file)->trouble_ = trouble;
    return std::shared_ptr<const MappedFile>(std::move(*file));
}

Result<std::shared_ptr<const MappedFile>> MappedFile::follow(const std::string& path) {
    struct stat info {};
    const auto fd = open_regular(path, info);
    if (!fd) return tl::make_unexpected(fd.error());
    const auto at = map_whole(*fd, kMostFollowed, path);
    ::close(*fd);
    if (!at) return tl::make_unexpected(at.error());
    std::shared_ptr<MappedFile> file(new MappedFile);
    file->path_ = path;
    file->data_ = static_cast<const std::uint8_t*>(*at);
    file->mapped_ = kMostFollowed;
    file->size_ = static_cast<std::size_t>(info.st_size);
    return std::shared_ptr<const MappedFile>(std::move(file));
}

void MappedFile::renew(std::size_t size) const {
    if (size <= mapped_ && size > size_) size_.store(size, std::memory_order_release);
}

void MappedFile::let_go(std::size_t offset) const {
    constexpr std::size_t step = std::size_t{16} << 20;
    const std::size_t from = let_go_, to = std::min(offset, size_.load()) / step * step;
    if (to <= from) return;
    let_go_ = to;
    ::madvise(const_cast<std::uint8_t*>(data_) + from, to - from, MADV_DONTNEED);
}

MappedFile::~MappedFile() {
    if (data_ == nullptr) return;
    forget_mapping(data_);
    ::munmap(const_cast<std::uint8_t*>(data_), mapped_);
}

std::string MappedFile::what_is_missing() const {
    if (trouble_.empty()) return {};
    return "is compressed and damaged (" + trouble_ + "): only the first " + bytes_text(bytes().size()) +
           " could be unpacked";
}

}  // namespace mt
