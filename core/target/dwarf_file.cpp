#include "target/dwarf_file.h"

#include <dwarf.h>
#include <fcntl.h>
#include <gelf.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>

#include "base/read_file.h"
#include "target/code.h"
#include "target/location.h"

namespace mt::dwarf {
namespace {

constexpr std::int64_t kMostFile = std::int64_t{4} << 30;

}  // namespace

Result<std::vector<char>> image_bytes(const std::string& file) {
    const auto cannot = [&](const std::string& why) {
        return failure("cannot open the image: " + why, file, "correct 'image' in the target file");
    };
    struct stat about {};
    const auto opened = open_regular(file, about);
    if (!opened) return cannot(opened.error().what);
    const int fd = *opened;
    std::vector<char> bytes;
    std::string trouble;
    if (about.st_size > kMostFile)
        trouble = "it has more than 4 GB";
    else
        bytes.resize(static_cast<std::size_t>(about.st_size) + kZerosBehind);
    const std::size_t wanted = trouble.empty() ? bytes.size() - kZerosBehind : 0;
    for (std::size_t at = 0; at < wanted && trouble.empty();) {
        const ssize_t n = ::pread(fd, bytes.data() + at, wanted - at, static_cast<off_t>(at));
        if (n > 0)
            at += static_cast<std::size_t>(n);
        else if (n == 0)
            bytes.resize(at + kZerosBehind), at = wanted;  // it became shorter meanwhile
        else if (errno != EINTR)
            trouble = std::strerror(errno);
    }
    ::close(fd);
    if (!trouble.empty()) return cannot(trouble);
    return bytes;
}

Result<std::unique_ptr<DwarfFile>> DwarfFile::open(const std::string& path) {
    auto bytes = image_bytes(path);
    if (!bytes) return tl::make_unexpected(bytes.error());
    std::unique_ptr<DwarfFile> file(new DwarfFile);
    file->bytes_ = std::move(*bytes);
    elf_version(EV_CURRENT);
    file->elf_ = elf_memory(file->bytes_.data(), file->bytes_.size() - kZerosBehind);
    GElf_Ehdr header;
    if (file->elf_ == nullptr || elf_kind(file->elf_) != ELF_K_ELF || gelf_getehdr(file->elf_, &header) == nullptr) return file;
    file->machine_ = header.e_machine;
    file->dwarf_ = dwarf_begin_elf(file->elf_, DWARF_C_READ, nullptr);
    return file;
}

DwarfFile::~DwarfFile() {
    if (dwarf_ != nullptr) dwarf_end(dwarf_);
    if (elf_ != nullptr) elf_end(elf_);
}

std::span<const std::uint8_t> DwarfFile::loaded(std::uint64_t address, std::size_t count) const {
    std::size_t headers = 0;
    if (elf_ == nullptr || elf_getphdrnum(elf_, &headers) != 0) return {};
    const std::size_t size = bytes_.size() - kZerosBehind;
    for (std::size_t i = 0; i < headers && i < 1024; ++i) {
        GElf_Phdr h;
        if (gelf_getphdr(elf_, static_cast<int>(i), &h) == nullptr) break;
        if (h.p_type != PT_LOAD || address < h.p_vaddr || address - h.p_vaddr >= h.p_filesz) continue;
        const std::uint64_t from = h.p_offset + (address - h.p_vaddr);
        if (from < h.p_offset || from >= size) return {};
        return {reinterpret_cast<const std::uint8_t*>(bytes_.data()) + from, std::min<std::size_t>({count, h.p_filesz - (address - h.p_vaddr), size - from})};
    }
    return {};
}

CallFrame::CallFrame(const DwarfFile& file, std::uint64_t pc) : file_(file) {
    for (Dwarf_CFI* cfi : {dwarf_getcfi(file.dwarf()), dwarf_getcfi_elf(file.elf())}) {
        if (cfi == nullptr || dwarf_cfi_addrframe(cfi, pc, &frame_) != 0) continue;
        Dwarf_Addr begin = 0, end = 0;
        bool signal = false;
        return_register_ = dwarf_frame_info(frame_, &begin, &end, &signal);
        return;
    }
    frame_ = nullptr;
}

CallFrame::~CallFrame() { std::free(frame_); }

FrameWord CallFrame::cfa(const FrameState& state) const {
    Dwarf_Op* ops = nullptr;
    std::size_t count = 0;
    if (frame_ == nullptr || dwarf_frame_cfa(frame_, &ops, &count) != 0 || count == 0) return {};
    LocationReader reader(state, nullptr, nullptr);
    return reader.number({ops, count});
}

// Whether an instruction that calls ends at `address`: a kernel may have put any other into a task's first frame.
bool CallFrame::behind_call(std::uint64_t address, Isa isa) const {
    for (const unsigned size : {4U, 2U}) {
        if (size == 2 && (isa == Isa::arm || isa == Isa::a64)) break;
        const auto bytes = file_.loaded(address - size, size);
        if (bytes.size() < size) continue;
        const FlowInsn i = isa == Isa::thumb   ? thumb_flow(bytes, address - size)
                           : isa == Isa::arm   ? arm_flow(bytes, address - size)
                           : isa == Isa::a64   ? a64_flow(bytes, address - size)
                                               : riscv_flow(bytes, address - size, isa == Isa::rv64 ? 64 : 32);
        if (i.size == size && (i.flow == Flow::call || i.flow == Flow::indirect_call)) return true;
    }
    return false;
}

// DWARF 5, 6.4.1: what the rule for a register gives.
FrameWord CallFrame::recovered(const FrameState& state, unsigned number, bool innermost) const {
    Dwarf_Op room[3], *ops = nullptr;
    std::size_t count = 0;
    if (frame_ == nullptr || dwarf_frame_register(frame_, static_cast<int>(number), room, &ops, &count) != 0) return {};
    if (count == 0) {
        const bool same = ops == room || (state.kept_by_calls && state.kept_by_calls(number)) ||
                          (innermost && static_cast<int>(number) == return_register_);
        return same ? state.reg(number) : FrameWord{};
    }
    LocationReader reader(state, nullptr, [this, &state] { return cfa(state); });
    const auto pieces = reader.read(nullptr, {ops, count});
    if (pieces.size() != 1) return {};
    const auto bytes = bytes_in(pieces, state.address_bytes, state);
    FrameWord w{0, true, FrameWord::kNever};
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        w.value |= bytes[i].value << (8 * i);
        w.known = w.known && bytes[i].known;
        if (bytes[i].set_at != FrameWord::kNever && (w.set_at == FrameWord::kNever || bytes[i].set_at > w.set_at)) w.set_at = bytes[i].set_at;
    }
    return w;
}

std::optional<CallFrame::Caller> CallFrame::caller(const FrameState& state, bool innermost) const {
    constexpr unsigned kMost = 32;
    if (frame_ == nullptr || return_register_ < 0) return std::nullopt;
    const FrameWord back = recovered(state, static_cast<unsigned>(return_register_), innermost);
    const FrameWord stack = cfa(state);
    if (!back.known || !stack.known) return std::nullopt;
    const std::uint64_t to = file_.machine() == EM_ARM ? back.value & ~std::uint64_t{1} : back.value;
    // An exception's return value (Armv7-M B1.5.8), or nowhere.
    if (to == 0 || (file_.machine() == EM_ARM && to >= 0xFFFF'FF00U)) return std::nullopt;
    if (!behind_call(to, state.isa)) return std::nullopt;
    const FrameWord before = state.reg(state.stack_pointer);
    if (!innermost && before.known && stack.value <= before.value) return std::nullopt;  // it would go round for ever
    std::vector<FrameWord> registers(kMost);
    for (unsigned n = 0; n < kMost; ++n) registers[n] = recovered(state, n, innermost);
    if (state.stack_pointer < kMost) registers[state.stack_pointer] = stack;
    Caller out{to, state};
    out.state.frame = state.frame + 1;
    out.state.pc = to - 1;
    out.state.reg = [registers](unsigned n) { return n < registers.size() ? registers[n] : FrameWord{}; };
    return out;
}

}  // namespace mt::dwarf
