#include "capture/ring.h"

#include <algorithm>
#include <array>

#include "base/text.h"

namespace mt {
namespace {

std::uint32_t word(std::span<const std::uint8_t> b, std::size_t at) {
    return b[at] | static_cast<std::uint32_t>(b[at + 1]) << 8 | static_cast<std::uint32_t>(b[at + 2]) << 16 |
           static_cast<std::uint32_t>(b[at + 3]) << 24;
}

class Ring : public Source {
  public:
    Ring(DebugServer& server, std::uint64_t address) : server_(server), address_(address) {}

    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds) override {
        std::array<std::uint8_t, RingHeader::kBytes> bytes{};
        if (auto got = server_.read_memory(address_, bytes); !got) return tl::make_unexpected(got.error());
        const auto header = parse_ring_header(bytes, address_);
        if (!header) {  // not set up yet, or not any more after a reset: that is no reason to give up
            waiting_for_ = header.error().what;
            if (begun_) ++lost_;
            begun_ = false;
            return std::size_t{0};
        }
        if (!begun_) {
            begun_ = true;
            taken_ = header->taken;
            // Set up before we came: what is in it may be of long ago.
            if (waiting_for_.empty() && lost_ == 0)
                old_ = std::min<std::uint64_t>(header->written - header->taken, header->size);
            writer_lost_ = header->lost;
        }
        waiting_for_.clear();
        std::uint32_t waiting = header->written - taken_;
        fill_ = static_cast<double>(std::min(waiting, header->size)) / header->size;
        if (header->lost != writer_lost_) {
            lost_ += header->lost - writer_lost_;
            writer_lost_ = header->lost;
        }
        if (waiting > (std::uint32_t{1} << 31)) {  // the counts went back: the target was reset
            taken_ = header->written;
            ++lost_;
            return std::size_t{0};
        }
        if (waiting > header->size) {
            if (!header->keeps_newest())
                return failure("the ring buffer's counts contradict its size", hex_text(address_),
                               "is the header's address right, and the buffer set up before it is used?");
            lost_ += waiting - header->size;
            taken_ = header->written - header->size;
            waiting = header->size;
        }
        const std::size_t n = std::min<std::size_t>(waiting, into.size());
        if (n == 0) return std::size_t{0};
        const std::uint32_t from = taken_ % header->size;
        const std::size_t first = std::min<std::size_t>(n, header->size - from);
        if (auto got = server_.read_memory(header->data + from, into.first(first)); !got)
            return tl::make_unexpected(got.error());
        if (n > first)
            if (auto got = server_.read_memory(header->data, into.subspan(first, n - first)); !got)
                return tl::make_unexpected(got.error());
        std::size_t torn = 0;
        if (header->keeps_newest()) {  // what the writer overtook while it was read is no good
            auto after = fetch();
            if (!after) return tl::make_unexpected(after.error());
            const std::uint32_t behind = after->written - taken_;
            if (behind > header->size) torn = std::min<std::size_t>(n, behind - header->size);
            lost_ += torn;
        }
        taken_ += static_cast<std::uint32_t>(n);
        const std::array<std::uint8_t, 4> count = {
            static_cast<std::uint8_t>(taken_), static_cast<std::uint8_t>(taken_ >> 8),
            static_cast<std::uint8_t>(taken_ >> 16), static_cast<std::uint8_t>(taken_ >> 24)};
        if (auto put = server_.write_memory(address_ + 20, count); !put) return tl::make_unexpected(put.error());
        std::copy(into.begin() + static_cast<std::ptrdiff_t>(torn), into.begin() + static_cast<std::ptrdiff_t>(n),
                  into.begin());
        return n - torn;
    }
    std::uint64_t lost() override { return std::exchange(lost_, 0); }
    double fill() const override { return fill_; }
    std::uint64_t old_bytes() const override { return old_; }
    std::string waiting_for() const override { return waiting_for_; }

  private:
    Result<RingHeader> fetch() {
        std::array<std::uint8_t, RingHeader::kBytes> bytes{};
        if (auto got = server_.read_memory(address_, bytes); !got) return tl::make_unexpected(got.error());
        return parse_ring_header(bytes, address_);
    }

    DebugServer& server_;
    std::uint64_t address_;
    bool begun_ = false;
    std::uint32_t taken_ = 0, writer_lost_ = 0;
    std::uint64_t lost_ = 0, old_ = 0;
    double fill_ = 0;
    std::string waiting_for_;
};

class Dump : public Source {
  public:
    Dump(DebugServer& server, std::uint64_t address, std::uint64_t size)
        : server_(server), address_(address), left_(size), size_(size) {}
    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds) override {
        const auto n = static_cast<std::size_t>(std::min<std::uint64_t>({into.size(), left_, 64 * 1024}));
        if (n == 0) return std::size_t{0};
        if (auto got = server_.read_memory(address_, into.first(n)); !got) return tl::make_unexpected(got.error());
        address_ += n;
        left_ -= n;
        return n;
    }
    bool exhausted() const override { return left_ == 0; }
    double fill() const override {
        return size_ == 0 ? 1 : 1 - static_cast<double>(left_) / static_cast<double>(size_);
    }

  private:
    DebugServer& server_;
    std::uint64_t address_, left_, size_;
};

}  // namespace

Result<RingHeader> parse_ring_header(std::span<const std::uint8_t> b, std::uint64_t address) {
    if (b.size() < RingHeader::kBytes) return failure("the ring buffer's header is cut short", hex_text(address));
    if (word(b, 0) != RingHeader::kMagic)
        return failure("no ring buffer stands there", hex_text(address),
                       "has the firmware set it up yet, and does the image match the target?");
    RingHeader h;
    h.version = static_cast<std::uint16_t>(b[4] | b[5] << 8);
    h.flags = static_cast<std::uint16_t>(b[6] | b[7] << 8);
    h.data = word(b, 8);
    h.size = word(b, 12);
    h.written = word(b, 16);
    h.taken = word(b, 20);
    h.lost = word(b, 24);
    if (h.version != 1)
        return failure("a ring buffer of version " + std::to_string(h.version), hex_text(address),
                       "this program reads version 1");
    if (h.size == 0 || h.size > RingHeader::kMostBytes || h.data > 0xFFFFFFFFu - h.size)
        return failure("the ring buffer claims " + std::to_string(h.size) + " bytes at " + hex_text(h.data),
                       hex_text(address), "has the firmware set it up yet?");
    return h;
}

std::unique_ptr<Source> ring_source(DebugServer& server, std::uint64_t address) {
    return std::make_unique<Ring>(server, address);
}
std::unique_ptr<Source> dump_source(DebugServer& server, std::uint64_t address, std::uint64_t size) {
    return std::make_unique<Dump>(server, address, size);
}

}  // namespace mt
