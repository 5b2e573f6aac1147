#include "base/mapped_file.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace mt {

Result<std::shared_ptr<const MappedFile>> MappedFile::open(const std::string& path) {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd < 0) {
        return failure(std::string("cannot open: ") + std::strerror(errno), path,
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
    }
    ::close(fd);
    return std::shared_ptr<const MappedFile>(std::move(file));
}

MappedFile::~MappedFile() {
    if (data_ != nullptr) ::munmap(const_cast<std::uint8_t*>(data_), size_);
}

}  // namespace mt
