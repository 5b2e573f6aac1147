#include "target/image.h"

#include <cxxabi.h>
#include <dwarf.h>
#include <elfutils/libdw.h>
#include <fcntl.h>
#include <gelf.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <cstring>
#include <map>
#include <mutex>
#include <optional>
#include <set>

#include "base/read_file.h"
#include "target/build_attributes.h"
#include "target/dwarf_file.h"
#include "target/hex_image.h"

namespace mt {

using dwarf::image_bytes;
using dwarf::kZerosBehind;

namespace {

std::string demangled(const char* name) {
    if (std::strncmp(name, "_Z", 2) != 0) return name;
    int status = 0;
    char* plain = abi::__cxa_demangle(name, nullptr, nullptr, &status);
    std::string out = status == 0 && plain != nullptr ? plain : name;
    std::free(plain);
    return out;
}

constexpr unsigned kAttributes = 0x7000'0003;  // SHT_ARM_ATTRIBUTES and SHT_RISCV_ATTRIBUTES
constexpr std::uint64_t kMostSegment = std::uint64_t{1} << 30;

}  // namespace

namespace {

// How long the file is by its headers. Segments count only where there are no sections: a file that was left with the
// debug information alone keeps theirs.
std::uint64_t told_length(Elf* elf, const GElf_Ehdr& header) {
    const auto end = [](std::uint64_t begin, std::uint64_t size) {
        return size > UINT64_MAX - begin ? UINT64_MAX : begin + size;
    };
    if (header.e_shoff == 0) {
        std::size_t count = 0;
        std::uint64_t most = end(header.e_phoff, std::uint64_t{header.e_phnum} * header.e_phentsize);
        GElf_Phdr segment;
        if (elf_getphdrnum(elf, &count) == 0)
            for (std::size_t i = 0; i < count && gelf_getphdr(elf, static_cast<int>(i), &segment) != nullptr; ++i)
                most = std::max(most, end(segment.p_offset, segment.p_filesz));
        return most;
    }
    std::uint64_t most = end(header.e_shoff, std::uint64_t{header.e_shnum} * header.e_shentsize);
    GElf_Shdr section;
    for (Elf_Scn* s = nullptr; (s = elf_nextscn(elf, s)) != nullptr;)
        if (gelf_getshdr(s, &section) != nullptr && section.sh_type != SHT_NOBITS)
            most = std::max(most, end(section.sh_offset, section.sh_size));
    return most;
}

// The bytes of a section, unpacked where it is compressed; none if there is none.
std::span<const std::uint8_t> section_of(Elf* elf, std::string_view name) {
    std::size_t names = 0;
    if (elf == nullptr || elf_getshdrstrndx(elf, &names) != 0) return {};
    for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
        GElf_Shdr header;
        if (gelf_getshdr(section, &header) == nullptr) continue;
        const char* is = elf_strptr(elf, names, header.sh_name);
        if (is == nullptr || is != name) continue;
        if ((header.sh_flags & SHF_COMPRESSED) != 0 && elf_compress(section, 0, 0) < 0) return {};
        const Elf_Data* data = elf_getdata(section, nullptr);
        if (data == nullptr || data->d_buf == nullptr) return {};
        return {static_cast<const std::uint8_t*>(data->d_buf), data->d_size};
    }
    return {};
}

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
    std::string isa;
    struct File {
        /// The whole file, and zeros: the linker may write it anew while it is open here, and a damaged string in it
        /// that never ends must end somewhere (libdw 0.188 looks for its end).
        std::vector<char> bytes;
        Elf* elf = nullptr;
        Dwarf* dwarf = nullptr;
    };
    std::vector<File> files;
    Elf* elf = nullptr;  ///< the one that is being read
    /// Addresses of a unit of DWARF, as it says itself: not every compiler writes a table of them (.debug_aranges).
    struct Unit {
        std::uint64_t begin, end;
        std::size_t file;
        Dwarf_Off die;
    };
    std::vector<Unit> units;  ///< by begin
    mutable std::mutex dwarf_lock;
    std::vector<Symbol> symbols;
    std::vector<Mapping> mappings;
    std::vector<std::size_t> functions;  ///< indices into symbols
    std::vector<Block> blocks;
    std::vector<std::vector<std::uint8_t>> loaded;
    std::vector<Piece> pieces, code;
    std::vector<bool> executable;  ///< per piece
    bool bare = false;
    std::optional<std::uint64_t> overlap;
    std::optional<Cut> cut;
    std::uint64_t entry = 0;

    ~Parts() {
        for (File& f : files) {
            if (f.dwarf != nullptr) dwarf_end(f.dwarf);
            if (f.elf != nullptr) elf_end(f.elf);
        }
    }
    Result<void> read(const std::string& file, const std::string& told_isa);
    Result<void> read_bare(const File& f, const std::string& file, const std::string& told_isa);
    void settle();
    void read_units(std::size_t file);
    /// The unit that holds an address. REQUIRES: dwarf_lock is held.
    bool unit_at(std::uint64_t address, Dwarf_Die& die) const;
    void read_sections();
    void read_attributes(Elf_Scn* section);
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
        if (name == nullptr || *name == 0) continue;
        if (*name == '$') {
            // Sections that are not loaded have such symbols, too.
            GElf_Shdr in;
            if (gelf_getshdr(elf_getscn(elf, s.st_shndx), &in) != nullptr && (in.sh_flags & SHF_ALLOC) != 0 &&
                (name[1] == 'd' || name[1] == 'x' || name[1] == 't' || name[1] == 'a'))
                mappings.push_back({s.st_value & ~std::uint64_t{1}, name[1]});
            continue;
        }
        const bool function = type == STT_FUNC;
        const std::uint64_t address = function && machine == Machine::arm ? s.st_value & ~std::uint64_t{1} : s.st_value;
        symbols.push_back({address, s.st_size, demangled(name), function,
                           type == STT_NOTYPE && GELF_ST_BIND(s.st_info) == STB_GLOBAL && s.st_size == 0,
                           function && machine == Machine::arm && (s.st_value & 1) != 0});
    }
}

void Image::Parts::read_sections() {
    for (Elf_Scn* section = elf_nextscn(elf, nullptr); section != nullptr; section = elf_nextscn(elf, section)) {
        GElf_Shdr header;
        if (gelf_getshdr(section, &header) == nullptr) continue;
        if (header.sh_type == SHT_SYMTAB) read_symbols(section, header);
        if (header.sh_type == kAttributes && isa.empty()) read_attributes(section);
        if (header.sh_type != SHT_PROGBITS || (header.sh_flags & SHF_ALLOC) == 0) continue;
        Elf_Data* data = elf_getdata(section, nullptr);
        if (data == nullptr || data->d_buf == nullptr) continue;
        const auto* bytes = static_cast<const std::uint8_t*>(data->d_buf);
        blocks.push_back(
            {header.sh_addr, data->d_size, (header.sh_flags & SHF_EXECINSTR) != 0, {bytes, bytes + data->d_size}});
    }
}

void Image::Parts::read_attributes(Elf_Scn* section) {
    const Elf_Data* data = elf_rawdata(section, nullptr);
    if (data == nullptr || data->d_buf == nullptr) return;
    const std::span bytes(static_cast<const std::uint8_t*>(data->d_buf), data->d_size);
    isa = machine == Machine::arm ? arm_isa(bytes) : machine == Machine::riscv ? riscv_isa(bytes) : std::string();
}

void Image::Parts::read_segments() {
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
}

// Once all files are read.
void Image::Parts::settle() {
    std::stable_sort(symbols.begin(), symbols.end(),
                     [](const Symbol& a, const Symbol& b) { return a.address < b.address; });
    std::stable_sort(mappings.begin(), mappings.end(),
                     [](const Mapping& a, const Mapping& b) { return a.address < b.address; });
    for (std::size_t i = 0; i < symbols.size(); ++i)
        if (symbols[i].function) functions.push_back(i);
    for (std::size_t i = 0; i < files.size(); ++i) read_units(i);
    std::stable_sort(units.begin(), units.end(), [](const Unit& a, const Unit& b) { return a.begin < b.begin; });
    for (std::size_t i = 0; i < pieces.size(); ++i) pieces[i].bytes = loaded[i];
    for (const Block& b : blocks)
        if (b.code) code.push_back({b.address, b.address, b.bytes, false});
    for (std::size_t i = 0; code.empty() && i < pieces.size(); ++i)
        if (executable[i]) code.push_back(pieces[i]);
    std::stable_sort(code.begin(), code.end(), [](const Piece& a, const Piece& b) { return a.address < b.address; });
    for (std::size_t i = 0; i + 1 < code.size() && !overlap; ++i)
        if (code[i + 1].address < code[i].address + code[i].bytes.size()) overlap = code[i + 1].address;
}

void Image::Parts::read_units(std::size_t file) {
    constexpr std::size_t most_units = 1 << 20;
    Dwarf* dwarf = files[file].dwarf;
    Dwarf_CU* unit = nullptr;
    Dwarf_Die die, sub;
    std::uint8_t kind = 0;
    while (dwarf != nullptr && units.size() < most_units &&
           dwarf_get_units(dwarf, unit, &unit, nullptr, &kind, &die, &sub) == 0) {
        if (kind != DW_UT_compile && kind != DW_UT_partial) continue;
        Dwarf_Addr base = 0, begin = 0, end = 0;
        for (std::ptrdiff_t at = 0; (at = dwarf_ranges(&die, at, &base, &begin, &end)) > 0;)
            if (begin < end && units.size() < most_units) units.push_back({begin, end, file, dwarf_dieoffset(&die)});
    }
}

bool Image::Parts::unit_at(std::uint64_t address, Dwarf_Die& die) const {
    auto next = std::upper_bound(units.begin(), units.end(), address,
                                 [](std::uint64_t a, const Unit& u) { return a < u.begin; });
    // Units seldom overlap: a few before are enough.
    for (int looked_at = 0; next != units.begin() && looked_at < 16; ++looked_at) {
        const Unit& u = *--next;
        if (address < u.end && dwarf_offdie(files[u.file].dwarf, u.die, &die) != nullptr) return true;
    }
    for (const File& f : files)
        if (f.dwarf != nullptr && dwarf_addrdie(f.dwarf, address, &die) != nullptr) return true;
    return false;
}

// Bytes at addresses say nothing of themselves.
Result<void> Image::Parts::read_bare(const File& f, const std::string& file, const std::string& told_isa) {
    auto read = read_hex_image({f.bytes.data(), f.bytes.size() - kZerosBehind}, file);
    if (!read) return tl::make_unexpected(read.error());
    if (files.size() == 1) {
        bare = true;
        machine = told_isa.starts_with("arm")  ? Machine::arm
                  : told_isa.starts_with("rv") ? Machine::riscv
                                               : Machine::other;
        machine_code = machine == Machine::arm ? EM_ARM : machine == Machine::riscv ? EM_RISCV : EM_NONE;
        entry = read->entry.value_or(0);
    }
    for (auto& [address, bytes] : read->pieces) {
        blocks.push_back({address, bytes.size(), true, bytes});
        pieces.push_back({address, address, {}, false});
        executable.push_back(true);
        loaded.push_back(std::move(bytes));
    }
    return {};
}

Result<void> Image::Parts::read(const std::string& file, const std::string& told_isa) {
    File& f = files.emplace_back();
    auto bytes = image_bytes(file);
    if (!bytes) return tl::make_unexpected(bytes.error());
    f.bytes = std::move(*bytes);
    if (is_hex_image({f.bytes.data(), f.bytes.size() - kZerosBehind})) return read_bare(f, file, told_isa);
    f.elf = elf = elf_memory(f.bytes.data(), f.bytes.size() - kZerosBehind);
    GElf_Ehdr header;
    if (elf == nullptr || elf_kind(elf) != ELF_K_ELF || gelf_getehdr(elf, &header) == nullptr)
        return failure("not an ELF file", file,
                       "give the linked image that runs on the target: ELF, Intel HEX or S-records");
    if (files.size() > 1 && header.e_machine != machine_code)
        return failure("the images of one core are for different machines", file, "give images that run on this core");
    if (files.size() == 1) {
        machine_code = header.e_machine;
        machine = header.e_machine == EM_ARM       ? Machine::arm
                  : header.e_machine == EM_AARCH64 ? Machine::arm64
                  : header.e_machine == EM_RISCV   ? Machine::riscv
                                                   : Machine::other;
        if (machine == Machine::arm64) isa = "armv8-a";
        entry = header.e_entry;
    }
    const std::uint64_t has = f.bytes.size() - kZerosBehind, told = told_length(elf, header);
    if (told > has && !cut) cut = Cut{file, told, has};
    read_sections();
    if (isa.empty() && header.e_machine == EM_AARCH64) isa = "armv8-a";
    if (isa.empty() && header.e_machine == EM_RISCV)  // what its header alone tells (RISC-V ELF psABI, "File header")
        isa = std::string(header.e_ident[EI_CLASS] == ELFCLASS64 ? "rv64ima" : "rv32ima") +
              ((header.e_flags & EF_RISCV_RVC) != 0 ? "c" : "");
    read_segments();
    f.dwarf = dwarf_begin_elf(elf, DWARF_C_READ, nullptr);
    return {};
}

Result<std::shared_ptr<const Image>> Image::open(const std::string& path, const std::string& isa) {
    return open(std::vector<std::string>{path}, isa);
}

Result<std::shared_ptr<const Image>> Image::open(const std::vector<std::string>& paths, const std::string& isa) {
    std::shared_ptr<Image> image(new Image);
    Parts& p = *image->parts_;
    p.path = paths.front();
    elf_version(EV_CURRENT);
    for (const std::string& path : paths)
        if (auto ok = p.read(path, isa); !ok) return tl::make_unexpected(ok.error());
    p.settle();
    return std::shared_ptr<const Image>(std::move(image));
}

std::optional<std::uint64_t> Image::overlap() const { return parts_->overlap; }
const std::optional<Image::Cut>& Image::cut() const { return parts_->cut; }
const std::string& Image::path() const { return parts_->path; }
bool Image::bare() const { return parts_->bare; }
Image::Machine Image::machine() const { return parts_->machine; }
std::string_view Image::machine_name() const {
    switch (parts_->machine) {
        case Machine::arm:
            return "Arm";
        case Machine::arm64:
            return "64-bit Arm";
        case Machine::riscv:
            return "RISC-V";
        default:
            return parts_->machine_code == EM_X86_64 ? "x86-64" : "another architecture";
    }
}
const std::string& Image::isa() const { return parts_->isa; }
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
    Dwarf_Die unit;
    if (!parts_->unit_at(address, unit)) return std::nullopt;
    Dwarf_Line* line = dwarf_getsrc_die(&unit, address);
    int number = 0;
    const char* file = line == nullptr ? nullptr : dwarf_linesrc(line, nullptr, nullptr);
    if (file != nullptr && dwarf_lineno(line, &number) == 0) return SourceLine{file, number};
    return std::nullopt;
}

namespace {

// Bounds for hostile files.
constexpr int kDeepestDie = 64;
constexpr std::size_t kMostInlined = 1 << 20, kMostRanges = 4096;

std::uint32_t add_inlined(Dwarf_Die* die, std::uint32_t parent, std::vector<InlinedCall>& out) {
    InlinedCall call;
    call.parent = parent;
    Dwarf_Attribute attribute;
    const char* name = nullptr;
    if (dwarf_attr_integrate(die, DW_AT_linkage_name, &attribute) != nullptr) name = dwarf_formstring(&attribute);
    if (name == nullptr) name = dwarf_diename(die);
    call.name = name == nullptr ? "(nameless)" : demangled(name);
    Dwarf_Word number = 0;
    if (dwarf_attr(die, DW_AT_call_line, &attribute) != nullptr && dwarf_formudata(&attribute, &number) == 0 &&
        number < 0x7FFF'FFFF)
        call.line = static_cast<int>(number);
    Dwarf_Die unit;
    Dwarf_Files* files = nullptr;
    std::size_t count = 0;
    if (dwarf_attr(die, DW_AT_call_file, &attribute) != nullptr && dwarf_formudata(&attribute, &number) == 0 &&
        dwarf_diecu(die, &unit, nullptr, nullptr) != nullptr && dwarf_getsrcfiles(&unit, &files, &count) == 0 &&
        number < count)
        if (const char* file = dwarf_filesrc(files, number, nullptr, nullptr)) call.file = file;
    Dwarf_Addr base = 0, begin = 0, end = 0;
    for (std::ptrdiff_t at = 0; (at = dwarf_ranges(die, at, &base, &begin, &end)) > 0;) {
        if (begin < end) call.ranges.emplace_back(begin, end);
        if (call.ranges.size() > kMostRanges) break;
    }
    out.push_back(std::move(call));
    return static_cast<std::uint32_t>(out.size() - 1);
}

// All that lies below a DIE, in order.
void find_inlined(Dwarf_Die* die, std::uint32_t parent, int depth, std::vector<InlinedCall>& out) {
    Dwarf_Die child;
    if (depth > kDeepestDie || dwarf_child(die, &child) != 0) return;
    do {
        if (out.size() >= kMostInlined) return;
        switch (dwarf_tag(&child)) {
            case DW_TAG_inlined_subroutine: {
                const std::uint32_t here = add_inlined(&child, parent, out);
                find_inlined(&child, here, depth + 1, out);
                break;
            }
            case DW_TAG_subprogram:
            case DW_TAG_lexical_block:
            case DW_TAG_namespace:
            case DW_TAG_class_type:
            case DW_TAG_structure_type:
            case DW_TAG_try_block:
            case DW_TAG_catch_block:
                find_inlined(&child, parent, depth + 1, out);
                break;
            default:
                break;
        }
    } while (dwarf_siblingof(&child, &child) == 0);
}

}  // namespace

std::vector<InlinedCall> Image::inlined_calls() const {
    const std::lock_guard guard(parts_->dwarf_lock);
    std::vector<InlinedCall> all;
    for (const Parts::File& f : parts_->files) {
        Dwarf_CU* unit = nullptr;
        Dwarf_Die die, sub;
        std::uint8_t kind = 0;
        while (f.dwarf != nullptr && dwarf_get_units(f.dwarf, unit, &unit, nullptr, &kind, &die, &sub) == 0)
            if (kind == DW_UT_compile || kind == DW_UT_partial) find_inlined(&die, 0xFFFF'FFFF, 0, all);
    }
    return all;
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

const std::vector<Image::Mapping>& Image::mappings() const { return parts_->mappings; }

Image::LineTables Image::line_tables() const {
    LineTables all;
    std::map<std::string, std::uint32_t> numbers;
    std::set<std::pair<std::size_t, std::uint64_t>> read;  // units may share a program
    const std::lock_guard guard(parts_->dwarf_lock);
    std::vector<std::optional<std::span<const std::uint8_t>>> sections(parts_->files.size());
    for (const Parts::Unit& u : parts_->units) {
        Dwarf_Die die;
        Dwarf_Attribute attribute;
        Dwarf_Word offset = 0;
        Parts::File& file = parts_->files[u.file];
        if (dwarf_offdie(file.dwarf, u.die, &die) == nullptr || dwarf_attr(&die, DW_AT_stmt_list, &attribute) == nullptr ||
            dwarf_formudata(&attribute, &offset) != 0 || !read.insert({u.file, offset}).second)
            continue;
        if (!sections[u.file]) sections[u.file] = section_of(file.elf, ".debug_line");
        Dwarf_Files* files = nullptr;
        std::size_t count = 0;
        if (dwarf_getsrcfiles(&die, &files, &count) != 0) count = 0;
        std::map<std::uint32_t, std::uint32_t> here;
        for (LineSequence& s : read_line_program(*sections[u.file], offset)) {
            for (LineRow& r : s.rows) {
                const auto [known, fresh] = here.try_emplace(r.file, 0);
                if (fresh) {
                    const char* name = r.file < count ? dwarf_filesrc(files, r.file, nullptr, nullptr) : nullptr;
                    const auto [number, first] = numbers.try_emplace(name != nullptr ? name : "???",
                                                                     static_cast<std::uint32_t>(all.files.size()));
                    if (first) all.files.push_back(number->first);
                    known->second = number->second;
                }
                r.file = known->second;
            }
            all.sequences.push_back(std::move(s));
        }
    }
    return all;
}

std::vector<std::string> Image::source_folders() const {
    constexpr std::size_t kMost = 1000;  // more than any program is compiled in
    std::vector<std::string> all;
    const std::lock_guard guard(parts_->dwarf_lock);
    for (const Parts::Unit& u : parts_->units) {
        Dwarf_Die die;
        Dwarf_Attribute attribute;
        if (all.size() >= kMost || dwarf_offdie(parts_->files[u.file].dwarf, u.die, &die) == nullptr ||
            dwarf_attr(&die, DW_AT_comp_dir, &attribute) == nullptr)
            continue;
        const char* folder = dwarf_formstring(&attribute);
        if (folder != nullptr && *folder != 0 && std::find(all.begin(), all.end(), folder) == all.end())
            all.emplace_back(folder);
    }
    return all;
}

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
        // The first line from that one on that has code, and of its instructions the one that stands first.
        const auto named = [&file](const char* path) {
            const std::string_view p(path);
            return p.ends_with(file) && (p.size() == file.size() || p[p.size() - file.size() - 1] == '/');
        };
        Dwarf_Addr least = 0;
        int best = 0;
        bool any = false;
        for (const Parts::Unit& u : parts_->units) {
            Dwarf_Die die;
            Dwarf_Lines* lines = nullptr;
            std::size_t count = 0;
            if (dwarf_offdie(parts_->files[u.file].dwarf, u.die, &die) == nullptr ||
                dwarf_getsrclines(&die, &lines, &count) != 0)
                continue;
            for (std::size_t i = 0; i < count; ++i) {
                Dwarf_Line* entry = dwarf_onesrcline(lines, i);
                Dwarf_Addr address = 0;
                int number = 0;
                bool ends = false;
                if (entry == nullptr || dwarf_lineno(entry, &number) != 0 || number < line || (any && number > best) ||
                    dwarf_lineaddr(entry, &address) != 0 || (dwarf_lineendsequence(entry, &ends) == 0 && ends))
                    continue;
                const char* path = dwarf_linesrc(entry, nullptr, nullptr);
                if (path == nullptr || !named(path) || (any && number == best && address >= least)) continue;
                any = true;
                best = number;
                least = address;
            }
        }
        if (!any)
            return failure("no code stands at " + place, path(), "name a line that holds a statement, as main.c:41");
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
