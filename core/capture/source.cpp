#include "capture/source.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <thread>

#include "base/read_file.h"
#include "base/text.h"
#include "control/link.h"

namespace mt {
namespace {

class LinkSource : public Source {
  public:
    explicit LinkSource(std::unique_ptr<Link> link) : link_(std::move(link)) {}
    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience) override {
        return link_->read(into, patience);
    }
    bool writable() const override { return true; }
    Result<void> write(std::span<const std::uint8_t> bytes) override { return link_->write(bytes, Milliseconds(1000)); }

  private:
    std::unique_ptr<Link> link_;
};

// A file that another program still writes: read from its start, then as it grows.
class GrowingFile : public Source {
  public:
    GrowingFile(int file, std::string path) : file_(file), path_(std::move(path)) {}
    ~GrowingFile() override { ::close(file_); }
    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience) override {
        const auto until = std::chrono::steady_clock::now() + patience;
        for (;;) {
            const ssize_t n = ::pread(file_, into.data(), into.size(), static_cast<off_t>(at_));
            if (n < 0) return failure(std::string("cannot read: ") + std::strerror(errno), path_);
            if (n > 0) {
                at_ += static_cast<std::uint64_t>(n);
                return static_cast<std::size_t>(n);
            }
            struct stat info {};
            if (::fstat(file_, &info) == 0 && static_cast<std::uint64_t>(info.st_size) < at_)
                return failure("the file was cut short while it was read", path_, "its writer began anew");
            if (std::chrono::steady_clock::now() >= until) return std::size_t{0};
            std::this_thread::sleep_for(Milliseconds(5));
        }
    }

  private:
    int file_;
    std::string path_;
    std::uint64_t at_ = 0;
};

}  // namespace

std::string SourceSpec::text() const {
    const std::string place = symbol.empty() ? hex_text(at) : symbol;
    switch (kind) {
        case Kind::tcp:
            return "tcp " + address;
        case Kind::serial:
            return "serial " + address + " at " + std::to_string(baud) + " baud";
        case Kind::file:
            return "file " + address;
        case Kind::ring:
            return "ring buffer at " + place;
        case Kind::dump:
            return "memory at " + place;
        case Kind::poll:
            return "values in memory, one by one";
        case Kind::console:
            return "what the debug server prints";
        case Kind::buffer:
            return "the chip's trace buffer";
    }
    return {};
}

Result<std::unique_ptr<Source>> open_source(const SourceSpec& spec, Source::Milliseconds patience) {
    if (spec.kind == SourceSpec::Kind::file) {
        struct stat info {};
        const auto file = open_regular(spec.address, info);
        if (!file) return tl::make_unexpected(file.error());
        return std::unique_ptr<Source>(new GrowingFile(*file, spec.address));
    }
    auto link = spec.kind == SourceSpec::Kind::serial ? Link::open_serial(spec.address, spec.baud)
                                                      : Link::connect_tcp(spec.address, patience);
    if (!link) return tl::make_unexpected(link.error());
    return std::unique_ptr<Source>(new LinkSource(std::move(*link)));
}

}  // namespace mt
