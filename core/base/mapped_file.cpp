#include "base/mapped_file.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <mutex>

namespace mt {
namespace {

// A page of a mapped file that is gone (the file was cut short meanwhile) raises SIGBUS when it is read.
// The handler puts a page of zeros there and lets the reading go on; other faults go to who was there before.
struct Mapping {
    std::atomic<std::uintptr_t> begin{0}, end{0};
};
std::array<Mapping, 64> mappings;
struct sigaction before_us;

void on_bus_error(int signal, siginfo_t* info, void* context) {
    const auto at = reinterpret_cast<std::uintptr_t>(info->si_addr);
    for (const Mapping& m : mappings) {
        if (at < m.begin || at >= m.end) continue;
        const auto page = static_cast<std::uintptr_t>(::sysconf(_SC_PAGESIZE));
        if (::mmap(reinterpret_cast<void*>(at / page * page), page, PROT_READ, MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED,
                   -1, 0) != MAP_FAILED)
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
    for (Mapping& m : mappings) {
        std::uintptr_t free = 0;
        if (!m.end.compare_exchange_strong(free, begin)) continue;  // taken, still empty
        m.begin = begin;
        m.end = begin + size;
        return;
    }
}

void forget_mapping(const void* data) {
    for (Mapping& m : mappings)
        if (m.begin == reinterpret_cast<std::uintptr_t>(data)) {
            m.begin = 0;
            m.end = 0;
            return;
        }
}

}  // namespace

Result<std::shared_ptr<const MappedFile>> MappedFile::open(const std::string& path) {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd < 0) {
        return failure(
            std::string("cannot open: ") + std::strerror(errno), path,
            errno == ENOENT ? "check the path; paths in a target file are relative to it" : "check the permissions");
    }
    struct stat info {};
    if (::fstat(fd, &info) != 0 || !S_ISREG(info.st_mode)) {
        ::close(fd);
        return failure("not a regular file", path, "give the file that holds the bytes");
    }
    std::shared_ptr<MappedFile> file(new MappedFile);
    file->path_ = path;
    file->size_ = static_cast<std::size_t>(info.st_size);
    if (file->size_ > 0) {
        void* at = ::mmap(nullptr, file->size_, PROT_READ, MAP_SHARED, fd, 0);
        if (at == MAP_FAILED) {
            const int why = errno;
            ::close(fd);
            file->size_ = 0;
            return failure(std::string("cannot map: ") + std::strerror(why), path);
        }
        file->data_ = static_cast<const std::uint8_t*>(at);
        watch_mapping(at, file->size_);
    }
    ::close(fd);
    return std::shared_ptr<const MappedFile>(std::move(file));
}

MappedFile::~MappedFile() {
    if (data_ == nullptr) return;
    forget_mapping(data_);
    ::munmap(const_cast<std::uint8_t*>(data_), size_);
}

}  // namespace mt
