#include "target/image.h"

#include <cxxabi.h>
#include <elfutils/libdw.h>
#include <fcntl.h>
#include <gelf.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <cstring>
#include <mutex>

namespace mt {
namespace {

std::string demangled(const char* name) {
    if (std::strncmp(name, "_Z", 2) != 0) return name;
    int status = 0;
    char* plain = abi::__cxa_demangle(name, nullptr, nullptr, &status);
    std::string out = status == 0 && plain != nullptr ? plain : name;
    std::free(plain);
    return out;
}

constexpr std::uint64_t kMostSegment = std::uint64_t{1} << 30;

}  // namespace

struct Image::Parts {
    struct Block {
        std::uint64_t address, size;
        bool code;
        std::vector<std::uint8_t> bytes;
    };
    std::string path;
    Machine machine = Machine::other;
    unsigned machine_code = 0;
    int fd = -1;
    Elf* elf = nullptr;
    mutable std::mutex dwarf_lock;
    Dwarf* dwarf = nullptr;
    std::vector<Symbol> symbols;
    std::vector<std::size_t> functions;  ///< indices into symbols
    std::vector<Block> blocks;
    std::vector<std::vector<std::uint8_t>> loaded;
    std::vector<Piece> pieces, code;
    std::uint64_t entry = 0;

    ~Parts() {
        if (dwarf != nullptr) dwarf_end(dwarf);
        if (elf != nullptr) elf_end(elf);
        if (fd >= 0) ::close(fd);
    }
    void read_sections();
    void read_segments();
    void read_symbols(Elf_Scn* section, const GElf_Shdr& header);
};

Image::Image() : parts_(std::make_unique<Parts>()) {}
Image::~Image() = default;

void Image::Parts::read_symbols(Elf_Scn* section, const GElf_Shdr& header) {
    Elf_Data* data = elf_getdata(section, nullptr);
    if (data == nullptr || header.sh_entsize == 0) return;
    const std::size_t n = data->d_size / header.sh_entsize;
    for (std::size_t i = 0; i < n && i <= 0x7FFFFFFF; ++i) {
        GElf_Sym s;
        if (gelf_getsym(data, static_cast<int>(i), &s) == nullptr) break;
        const int type = GELF_ST_TYPE(s.st_info);
        if (type != STT_FUNC && type != STT_OBJECT && type != STT_NOTYPE) continue;
        if (s.st_shndx == SHN_UNDEF || (type == STT_NOTYPE && s.st_shndx == SHN_ABS)) continue;
        const char* name = elf_strptr(elf, header.sh_link, s.st_name);
        // $t, $d, $x: mapping symbols of the Arm and RISC-V ABIs, no names.
        if (name == nullptr || *name == 0 || *name == '$') continue;
        const bool function = type == STT_FUNC;
        const std::uint64_t address = function && machine == Machine::arm ? s.st_value & ~std::uint64_t{1} : s.st_value;
        symbols.push_back({address, s.st_size, demangled(name), function,
                           type == STT_NOTYPE && GELF_ST_BIND(s.st_info) == STB_GLOBAL && s.st_size == 0});
    }
}

void Image::Parts::read_sections() {
    for (Elf_Scn* section = elf_nextscn(elf, nullptr); section != nullptr; section = elf_nextscn(elf, section)) {
        GElf_Shdr header;
        if (gelf_getshdr(section, &header) == nullptr) continue;
        if (header.sh_type == SHT_SYMTAB) read_symbols(section, header);
        if (header.sh_type != SHT_PROGBITS || (header.sh_flags & SHF_ALLOC) == 0) continue;
        Elf_Data* data = elf_getdata(section, nullptr);
        if (data == nullptr || data->d_buf == nullptr) continue;
        const auto* bytes = static_cast<const std::uint8_t*>(data->d_buf);
        blocks.push_back(
            {header.sh_addr, data->d_size, (header.sh_flags & SHF_EXECINSTR) != 0, {bytes, bytes + data->d_size}});
    }
    std::stable_sort(symbols.begin(), symbols.end(),
                     [](const Symbol& a, const Symbol& b) { return a.address < b.address; });
    for (std::size_t i = 0; i < symbols.size(); ++i)
        if (symbols[i].function) functions.push_back(i);
}

void Image::Parts::read_segments() {
    std::vector<bool> executable;
    std::size_t count = 0;
    if (elf_getphdrnum(elf, &count) != 0) count = 0;
    for (std::size_t i = 0; i < count && i < 1024; ++i) {
        GElf_Phdr header;
        if (gelf_getphdr(elf, static_cast<int>(i), &header) == nullptr) break;
        if (header.p_type != PT_LOAD || header.p_filesz == 0 || header.p_filesz > kMostSegment) continue;
        Elf_Data* data =
            elf_getdata_rawchunk(elf, static_cast<std::int64_t>(header.p_offset), header.p_filesz, ELF_T_BYTE);
        if (data == nullptr || data->d_buf == nullptr || data->d_size < header.p_filesz) continue;
        const auto* bytes = static_cast<const std::uint8_t*>(data->d_buf);
        loaded.emplace_back(bytes, bytes + header.p_filesz);
        pieces.push_back({header.p_vaddr, header.p_paddr, {}, (header.p_flags & PF_W) != 0});
        executable.push_back((header.p_flags & PF_X) != 0);
    }
    for (std::size_t i = 0; i < pieces.size(); ++i) pieces[i].bytes = loaded[i];
    for (const Block& b : blocks)
        if (b.code) code.push_back({b.address, b.address, b.bytes, false});
    for (std::size_t i = 0; code.empty() && i < pieces.size(); ++i)
        if (executable[i]) code.push_back(pieces[i]);
    std::sort(code.begin(), code.end(), [](const Piece& a, const Piece& b) { return a.address < b.address; });
}

Result<std::shared_ptr<const Image>> Image::open(const std::string& path) {
    std::shared_ptr<Image> image(new Image);
    Parts& p = *image->parts_;
    p.path = path;
    p.fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (p.fd < 0)
        return failure(std::string("cannot open the image: ") + std::strerror(errno), path,
                       "correct 'image' in the target file");
    elf_version(EV_CURRENT);
    p.elf = elf_begin(p.fd, ELF_C_READ, nullptr);
    GElf_Ehdr header;
    if (p.elf == nullptr || elf_kind(p.elf) != ELF_K_ELF || gelf_getehdr(p.elf, &header) == nullptr)
        return failure("not an ELF file", path, "give the linked image that runs on the target");
    p.machine_code = header.e_machine;
    p.machine = header.e_machine == EM_ARM     ? Machine::arm
                : header.e_machine == EM_RISCV ? Machine::riscv
                                               : Machine::other;
    p.entry = header.e_entry;
    p.read_sections();
    p.read_segments();
    p.dwarf = dwarf_begin_elf(p.elf, DWARF_C_READ, nullptr);
    return std::shared_ptr<const Image>(std::move(image));
}

const std::string& Image::path() const { return parts_->path; }
Image::Machine Image::machine() const { return parts_->machine; }
std::string_view Image::machine_name() const {
    switch (parts_->machine) {
        case Machine::arm:
            return "Arm";
        case Machine::riscv:
            return "RISC-V";
        default:
            return parts_->machine_code == EM_X86_64 ? "x86-64" : "another architecture";
    }
}
const std::vector<Symbol>& Image::symbols() const { return parts_->symbols; }

const Symbol* Image::function_at(std::uint64_t address) const {
    if (parts_->machine == Machine::arm) address &= ~std::uint64_t{1};
    const auto& list = parts_->functions;
    const auto& symbols = parts_->symbols;
    auto next = std::upper_bound(list.begin(), list.end(), address,
                                 [&](std::uint64_t a, std::size_t i) { return a < symbols[i].address; });
    // Of several names for one address the first that is not weaker by size will do; sizes of 0 reach to the next.
    while (next != list.begin()) {
        const Symbol& s = symbols[*--next];
        if (address < s.address + s.size || (s.size == 0 && is_code(address))) return &s;
        if (s.size != 0) return nullptr;
    }
    return nullptr;
}

const Symbol* Image::symbol_named(std::string_view name) const {
    for (const auto& s : parts_->symbols)
        if (s.name == name) return &s;
    return nullptr;
}

std::optional<SourceLine> Image::line_at(std::uint64_t address) const {
    const std::lock_guard guard(parts_->dwarf_lock);
    if (parts_->dwarf == nullptr) return std::nullopt;
    Dwarf_Die unit;
    if (dwarf_addrdie(parts_->dwarf, address, &unit) == nullptr) return std::nullopt;
    Dwarf_Line* line = dwarf_getsrc_die(&unit, address);
    int number = 0;
    const char* file = line == nullptr ? nullptr : dwarf_linesrc(line, nullptr, nullptr);
    if (file == nullptr || dwarf_lineno(line, &number) != 0) return std::nullopt;
    return SourceLine{file, number};
}

std::optional<std::uint32_t> Image::word_at(std::uint64_t address) const {
    for (const auto& b : parts_->blocks) {
        if (address < b.address || address - b.address + 4 > b.size || b.size < 4) continue;
        std::uint32_t word = 0;
        std::memcpy(&word, b.bytes.data() + (address - b.address), 4);
        return word;
    }
    return std::nullopt;
}

const std::vector<Image::Piece>& Image::pieces() const { return parts_->pieces; }
const std::vector<Image::Piece>& Image::code_pieces() const { return parts_->code; }
std::uint64_t Image::entry() const { return parts_->entry; }

Result<std::uint64_t> Image::address_of(const std::string& place) const {
    if (place.rfind("0x", 0) == 0 || place.rfind("0X", 0) == 0) {
        std::uint64_t v = 0;
        const auto end = std::from_chars(place.data() + 2, place.data() + place.size(), v, 16);
        if (end.ec == std::errc{} && end.ptr == place.data() + place.size() && place.size() > 2) return v;
        return failure("no address", place, "write it as 0x8000100");
    }
    const auto colon = place.rfind(':');
    if (colon != std::string::npos && colon + 1 < place.size() &&
        place.find_first_not_of("0123456789", colon + 1) == std::string::npos && place.size() - colon < 9) {
        const std::string file = place.substr(0, colon);
        const int line = std::stoi(place.substr(colon + 1));
        const std::lock_guard guard(parts_->dwarf_lock);
        Dwarf_Line** lines = nullptr;
        std::size_t count = 0;
        if (parts_->dwarf == nullptr || dwarf_getsrc_file(parts_->dwarf, file.c_str(), line, 0, &lines, &count) != 0 ||
            count == 0)
            return failure("no code stands at " + place, path(), "name a line that holds a statement, as main.c:41");
        Dwarf_Addr address = 0, least = ~Dwarf_Addr{0};
        for (std::size_t i = 0; i < count; ++i)
            if (dwarf_lineaddr(lines[i], &address) == 0) least = std::min(least, address);
        std::free(lines);
        return least;
    }
    if (const Symbol* s = symbol_named(place)) return s->address;
    return failure("nothing in the image is called '" + place + "'", path(),
                   "name a function, a line as main.c:41, or an address as 0x8000100");
}

bool Image::is_code(std::uint64_t address) const {
    return std::any_of(parts_->blocks.begin(), parts_->blocks.end(), [&](const Parts::Block& b) {
        return b.code && address >= b.address && address - b.address < b.size;
    });
}

std::optional<std::uint64_t> Image::vector_table() const {
    if (parts_->machine != Machine::arm) return std::nullopt;
    const auto plausible = [&](std::uint64_t base) {
        const auto top = word_at(base), reset = word_at(base + 4);
        if (!top || !reset || *top == 0 || (*top & 3) != 0 || (*reset & 1) == 0 || !is_code(*reset & ~1u)) return false;
        for (unsigned i = 2; i < 16; ++i) {
            const auto word = word_at(base + 4 * i);
            if (!word) return false;
            if (*word != 0 && ((*word & 1) == 0 || !is_code(*word & ~1u))) return false;
        }
        const auto hard_fault = word_at(base + 12);
        return hard_fault && *hard_fault != 0;
    };
    for (const auto& b : parts_->blocks)
        if (plausible(b.address)) return b.address;
    // Not at the start of a section: an object symbol may still stand on it.
    for (const auto& s : parts_->symbols)
        if (!s.function && s.size >= 64 && s.address % 4 == 0 && plausible(s.address)) return s.address;
    return std::nullopt;
}

}  // namespace mt
