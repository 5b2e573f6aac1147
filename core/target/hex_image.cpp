#include "target/hex_image.h"

#include <algorithm>
#include <iterator>
#include <numeric>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostBytes = std::uint64_t{1} << 30;

int digit(char c) {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'A' && c <= 'F') return c - 'A' + 10;
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    return -1;
}

// Pairs of hexadecimal digits; nothing if there is anything else.
std::optional<std::vector<std::uint8_t>> bytes_of(std::string_view digits) {
    if (digits.size() % 2 != 0) return std::nullopt;
    std::vector<std::uint8_t> bytes;
    for (std::size_t i = 0; i < digits.size(); i += 2) {
        const int high = digit(digits[i]), low = digit(digits[i + 1]);
        if (high < 0 || low < 0) return std::nullopt;
        bytes.push_back(static_cast<std::uint8_t>(high << 4 | low));
    }
    return bytes;
}

std::uint64_t number(const std::uint8_t* bytes, std::size_t n) {
    return std::accumulate(bytes, bytes + n, std::uint64_t{0},
                           [](std::uint64_t v, std::uint8_t b) { return v << 8 | b; });
}

class RecordReader {
  public:
    explicit RecordReader(HexImage& out) : out_(out) {}

    // Nothing if a record is right; else what is wrong.
    std::string take(std::string_view line) { return line[0] == ':' ? intel(line.substr(1)) : motorola(line); }
    bool ended() const { return ended_; }
    // Bytes that follow one another become one piece.
    void join() {
        std::map<std::uint64_t, std::vector<std::uint8_t>> joined;
        for (auto& [address, bytes] : out_.pieces) {
            if (!joined.empty()) {
                auto& [at, last] = *joined.rbegin();
                const std::uint64_t end = at + last.size();
                if (address <= end) {  // the later one counts where they overlap; pieces are in order of address
                    const std::uint64_t keep = address - at;
                    if (keep + bytes.size() > last.size()) last.resize(static_cast<std::size_t>(keep) + bytes.size());
                    std::copy(bytes.begin(), bytes.end(), last.begin() + static_cast<std::ptrdiff_t>(keep));
                    continue;
                }
            }
            joined.emplace(address, std::move(bytes));
        }
        out_.pieces = std::move(joined);
    }

  private:
    std::string intel(std::string_view digits) {
        const auto record = bytes_of(digits);
        if (!record || record->size() < 5)
            return "no record: length, address, type, data and sum in hexadecimal digits";
        const auto& r = *record;
        if (r.size() != r[0] + std::size_t{5}) return "a record of another length than it says";
        if ((std::accumulate(r.begin(), r.end(), 0u) & 0xFF) != 0) return "a record whose sum is wrong";
        const std::uint8_t* data = r.data() + 4;
        const std::uint64_t offset = number(r.data() + 1, 2);
        constexpr unsigned any = 256;
        constexpr unsigned bytes_of_type[] = {any, any, 2, 4, 2, 4};
        const unsigned type = r[3];
        if (type >= std::size(bytes_of_type))
            return "a record of type " + std::to_string(type) + ", which there is not";
        if (bytes_of_type[type] != any && bytes_of_type[type] != r[0])
            return "a record of type " + std::to_string(type) + " that is too short or too long";
        if (type == 0) put(base_ + offset, data, r[0]);
        if (type == 1) ended_ = true;
        if (type == 2 || type == 4) base_ = number(data, 2) << (type == 2 ? 4 : 16);
        if (type == 3) out_.entry = (number(data, 2) << 4) + number(data + 2, 2);
        if (type == 5) out_.entry = number(data, 4);
        return {};
    }
    std::string motorola(std::string_view line) {
        const int type = line.size() > 1 ? digit(line[1]) : -1;
        const auto record = line.size() > 2 ? bytes_of(line.substr(2)) : std::nullopt;
        if (type < 0 || type > 9 || type == 4) return "no S-record: S and a type from 0 to 9";
        if (!record || record->size() < 4 || record->size() != (*record)[0] + std::size_t{1})
            return "a record of another length than it says";
        if ((std::accumulate(record->begin(), record->end(), 0u) & 0xFF) != 0xFF) return "a record whose sum is wrong";
        constexpr std::size_t address_bytes[] = {2, 2, 3, 4, 0, 2, 3, 4, 3, 2};
        const std::size_t n = address_bytes[type];
        if (record->size() < n + 2) return "a record that is too short";
        const std::uint64_t address = number(record->data() + 1, n);
        if (type >= 1 && type <= 3) put(address, record->data() + 1 + n, record->size() - n - 2);
        if (type >= 7) {
            out_.entry = address;
            ended_ = true;
        }
        return {};
    }
    void put(std::uint64_t address, const std::uint8_t* data, std::size_t n) {
        if (n == 0) return;
        // Records mostly follow one another.
        if (last_ != nullptr && last_at_ + last_->size() == address) {
            last_->insert(last_->end(), data, data + n);
            return;
        }
        auto& piece = out_.pieces[address];
        if (n > piece.size()) piece.resize(n);
        std::copy(data, data + n, piece.begin());
        last_ = &piece;
        last_at_ = address;
    }

    HexImage& out_;
    std::uint64_t base_ = 0, last_at_ = 0;
    std::vector<std::uint8_t>* last_ = nullptr;
    bool ended_ = false;
};

}  // namespace

bool is_hex_image(std::string_view begin) {
    if (begin.size() < 9) return false;
    const std::size_t from = begin[0] == ':' ? 1 : begin[0] == 'S' && begin[1] >= '0' && begin[1] <= '9' ? 2 : 0;
    return from > 0 && std::all_of(begin.begin() + static_cast<std::ptrdiff_t>(from), begin.begin() + 9,
                                   [](char c) { return digit(c) >= 0; });
}

Result<HexImage> read_hex_image(std::string_view text, const std::string& path) {
    HexImage out;
    RecordReader reader(out);
    std::size_t line_number = 0;
    for (std::size_t at = 0; at < text.size() && !reader.ended();) {
        const std::size_t end = std::min(text.find('\n', at), text.size());
        std::string_view line = text.substr(at, end - at);
        at = end + 1;
        ++line_number;
        while (!line.empty() && (line.back() == '\r' || line.back() == ' ' || line.back() == '\t' || line.back() == 0))
            line.remove_suffix(1);
        if (line.empty()) continue;
        const std::string where = path + ":" + std::to_string(line_number);
        if (line[0] != ':' && line[0] != 'S') return failure("no record of an image", where, "is the file whole?");
        if (const std::string wrong = reader.take(line); !wrong.empty())
            return failure("holds " + wrong, where, "is the file whole? make it again");
    }
    if (out.pieces.empty()) return failure("holds no bytes of a program", path, "make it again");
    if (!reader.ended()) return failure("ends without its end record", path, "the file was cut: copy it again");
    reader.join();
    std::uint64_t all = 0;
    for (const auto& [address, bytes] : out.pieces) all += bytes.size();
    if (all > kMostBytes) return failure("holds more than " + bytes_text(kMostBytes), path, "is it an image?");
    return out;
}

}  // namespace mt
