#include "target/writable_memory.h"

#include <fcntl.h>
#include <gelf.h>
#include <libelf.h>
#include <unistd.h>

namespace mt {

std::vector<std::pair<std::uint64_t, std::uint64_t>> writable_memory(const std::string& path) {
    constexpr std::uint64_t kMost = std::uint64_t{256} << 20;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> all;
    const int file = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (file < 0) return all;
    elf_version(EV_CURRENT);
    Elf* elf = elf_begin(file, ELF_C_READ, nullptr);
    std::size_t count = 0;
    if (elf != nullptr && elf_kind(elf) == ELF_K_ELF && elf_getphdrnum(elf, &count) == 0)
        for (std::size_t i = 0; i < count && i < 1024; ++i) {
            GElf_Phdr header;
            if (gelf_getphdr(elf, static_cast<int>(i), &header) == nullptr) break;
            if (header.p_type == PT_LOAD && (header.p_flags & PF_W) != 0 && header.p_memsz <= kMost &&
                header.p_vaddr + header.p_memsz > header.p_vaddr)
                all.emplace_back(header.p_vaddr, header.p_vaddr + header.p_memsz);
        }
    elf_end(elf);
    ::close(file);
    return all;
}

}  // namespace mt
