#include "signals/mdf_blocks.h"

#include <zlib.h>

#include <algorithm>
#include <bit>
#include <cstring>

#include "base/plain_text.h"

namespace mt {

std::uint64_t MdfBlock::number(std::size_t offset, std::size_t bytes) const {
    if (offset + bytes > data.size()) return 0;
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < bytes; ++i) value |= std::uint64_t{data[offset + i]} << (8 * i);
    return value;
}

double MdfBlock::real(std::size_t offset) const { return std::bit_cast<double>(number(offset, 8)); }

Result<MdfBlock> MdfBlocks::block(std::uint64_t at, const char* id) const {
    const auto bad = [&](const std::string& what) {
        return failure(what, "offset " + std::to_string(at), "is the file whole?");
    };
    if (at > bytes_.size() || bytes_.size() - at < 24) return bad("a link leads out of the file");
    const auto number = [&](std::uint64_t offset) {
        std::uint64_t value = 0;
        for (unsigned i = 0; i < 8; ++i) value |= std::uint64_t{bytes_[at + offset + i]} << (8 * i);
        return value;
    };
    MdfBlock b;
    b.at = at;
    if (bytes_[at] != '#' || bytes_[at + 1] != '#') return bad("there is no block");
    b.id = {static_cast<char>(bytes_[at + 2]), static_cast<char>(bytes_[at + 3])};
    if (*id != 0 && b.id != id) return bad("a block is " + plain_text(b.id) + " and not " + id);
    const std::uint64_t length = number(8), links = number(16);
    if (length < 24 || length > bytes_.size() - at)
        return bad("a block of kind " + plain_text(b.id) + " lies about its length");
    if (links > (length - 24) / 8) return bad("a block of kind " + plain_text(b.id) + " lies about its links");
    b.links.reserve(std::min<std::uint64_t>(links, 1 << 20));
    for (std::uint64_t i = 0; i < links; ++i) b.links.push_back(number(24 + 8 * i));
    b.data = bytes_.subspan(at + 24 + 8 * links, length - 24 - 8 * links);
    return b;
}

std::string MdfBlocks::text(std::uint64_t at) const {
    if (at == 0) return {};
    const auto b = block(at);
    if (!b || (b->id != "TX" && b->id != "MD")) return {};
    std::string all(reinterpret_cast<const char*>(b->data.data()), std::min<std::size_t>(b->data.size(), 1 << 16));
    if (const auto end = all.find('\0'); end != std::string::npos) all.resize(end);
    if (b->id == "MD") {
        const auto from = all.find("<TX>"), to = all.find("</TX>");
        all = from != std::string::npos && to != std::string::npos && to > from ? all.substr(from + 4, to - from - 4)
                                                                                : std::string();
    }
    return all;
}

// MDF 4.1, DZBLOCK: the kind of block that was packed, how, and both lengths.
bool MdfBlocks::append(const MdfBlock& b, std::vector<std::uint8_t>& out, std::uint64_t most,
                       std::string& trouble) const {
    if (b.id == "DT" || b.id == "SD" || b.id == "RD" || b.id == "DV") {
        const std::uint64_t n = std::min<std::uint64_t>(b.data.size(), most - out.size());
        out.insert(out.end(), b.data.begin(), b.data.begin() + static_cast<std::ptrdiff_t>(n));
        return true;
    }
    if (b.id != "DZ") {
        trouble = "a data block is of kind " + plain_text(b.id) + ", which is not known (offset " +
                  std::to_string(b.at) + ")";
        return false;
    }
    const auto how = b.number(2, 1), columns = b.number(4, 4), whole = b.number(8, 8), packed = b.number(16, 8);
    // Deflate packs a thousandfold at the most: more is a lie.
    if (b.data.size() < 24 || packed > b.data.size() - 24 || how > 1 || whole > packed * 1100 + 1024 || whole > most) {
        trouble = "a packed block is not as it should be (offset " + std::to_string(b.at) + ")";
        return false;
    }
    std::vector<std::uint8_t> unpacked(whole);
    uLongf size = static_cast<uLongf>(whole);
    if (whole > 0 && (::uncompress(unpacked.data(), &size, b.data.data() + 24, static_cast<uLong>(packed)) != Z_OK ||
                      size != whole)) {
        trouble = "a packed block cannot be unpacked (offset " + std::to_string(b.at) + ")";
        return false;
    }
    if (how == 1 && columns > 1) {  // transposed: the bytes of each column stand together; the rest as it was
        const std::uint64_t rows = whole / columns;
        std::vector<std::uint8_t> turned(unpacked);
        for (std::uint64_t r = 0; r < rows; ++r)
            for (std::uint64_t c = 0; c < columns; ++c) turned[r * columns + c] = unpacked[c * rows + r];
        unpacked = std::move(turned);
    }
    const std::uint64_t n = std::min<std::uint64_t>(unpacked.size(), most - out.size());
    out.insert(out.end(), unpacked.begin(), unpacked.begin() + static_cast<std::ptrdiff_t>(n));
    return true;
}

std::vector<std::uint8_t> MdfBlocks::data(std::uint64_t at, std::uint64_t most, std::string& trouble) const {
    std::vector<std::uint8_t> out;
    std::set<std::uint64_t> seen;
    while (at != 0) {
        if (!seen.insert(at).second) {
            trouble = "lists of data lead in a circle (offset " + std::to_string(at) + ")";
            return out;
        }
        const auto b = block(at);
        if (!b) {
            trouble = b.error().what + " (" + b.error().where + ")";
            return out;
        }
        if (b->id == "HL") {
            at = b->link(0);
            continue;
        }
        if (b->id != "DL") {
            append(*b, out, most, trouble);
            return out;
        }
        for (std::size_t i = 1; i < b->links.size(); ++i) {
            if (b->links[i] == 0) continue;
            const auto piece = block(b->links[i]);
            if (!piece) {
                trouble = piece.error().what + " (" + piece.error().where + ")";
                return out;
            }
            if (piece->id == "DL" || piece->id == "HL" || !append(*piece, out, most, trouble)) {
                if (trouble.empty()) trouble = "a list of data lists a list (offset " + std::to_string(piece->at) + ")";
                return out;
            }
            if (out.size() >= most) return out;
        }
        at = b->link(0);
    }
    return out;
}

}  // namespace mt
