#include "target/line_program.h"

#include <algorithm>
#include <array>

namespace mt {
namespace {

// Little-endian bytes, with an end.
class Bytes {
  public:
    Bytes(std::span<const std::uint8_t> all, std::uint64_t from, std::uint64_t to)
        : all_(all), at_(from), end_(std::min<std::uint64_t>(to, all.size())), good_(from <= end_) {}

    bool good() const { return good_; }
    bool more() const { return good_ && at_ < end_; }
    std::uint64_t at() const { return at_; }
    std::uint64_t number(unsigned size) {
        if (!good_ || end_ - at_ < size) {
            good_ = false;
            return 0;
        }
        std::uint64_t v = 0;
        for (unsigned i = 0; i < size; ++i) v |= std::uint64_t{all_[at_ + i]} << (8 * i);
        at_ += size;
        return v;
    }
    std::uint8_t byte() { return static_cast<std::uint8_t>(number(1)); }
    /// DWARF 5, 7.6.
    std::uint64_t uleb() {
        std::uint64_t v = 0;
        for (unsigned shift = 0; good_; shift += 7) {
            const std::uint8_t b = byte();
            if (shift < 64) v |= std::uint64_t{b & 0x7Fu} << shift;
            if ((b & 0x80) == 0) break;
        }
        return v;
    }
    std::int64_t sleb() {
        std::uint64_t v = 0;
        unsigned shift = 0;
        std::uint8_t b = 0x80;
        for (; good_ && (b & 0x80) != 0; shift += 7) {
            b = byte();
            if (shift < 64) v |= std::uint64_t{b & 0x7Fu} << shift;
        }
        if (shift < 64 && (b & 0x40) != 0) v |= ~std::uint64_t{0} << shift;
        return static_cast<std::int64_t>(v);
    }
    void skip(std::uint64_t n) {
        if (!good_ || end_ - at_ < n)
            good_ = false;
        else
            at_ += n;
    }

  private:
    std::span<const std::uint8_t> all_;
    std::uint64_t at_, end_;
    bool good_;
};

// The state machine (6.2.2), with its rows.
struct Machine {
    LineRow row{0, 1, 1, false};
    std::uint64_t op_index = 0;
    std::int64_t line = 1;
    LineSequence sequence;
};

}  // namespace

std::vector<LineSequence> read_line_program(std::span<const std::uint8_t> section, std::uint64_t offset,
                                            std::size_t most) {
    std::vector<LineSequence> all;
    // The header (6.2.4), as far as the program needs it.
    Bytes head(section, offset, section.size());
    std::uint64_t length = head.number(4);
    const bool wide = length == 0xFFFF'FFFF;
    if (wide) length = head.number(8);
    if (!head.good() || length > section.size() - head.at()) return all;
    const std::uint64_t end = head.at() + length;
    const auto version = static_cast<unsigned>(head.number(2));
    if (version < 2 || version > 5) return all;
    if (version == 5) head.skip(2);  // sizes of an address and of a segment selector
    const std::uint64_t header = head.number(wide ? 8 : 4);
    if (!head.good() || header > end - head.at()) return all;
    const std::uint64_t begin = head.at() + header;
    const std::uint8_t least_length = head.byte(), most_ops = version >= 4 ? head.byte() : 1;
    const bool begins = head.byte() != 0;
    const auto base = static_cast<std::int8_t>(head.byte());
    const std::uint8_t range = head.byte(), opcodes = head.byte();
    std::array<std::uint8_t, 256> operands{};
    for (unsigned i = 1; i < opcodes; ++i) operands[i] = head.byte();
    if (!head.good() || range == 0 || most_ops == 0 || opcodes == 0) return all;

    Bytes in(section, begin, end);
    Machine m;
    m.row.begins = begins;
    std::size_t rows = 0;
    const auto advance = [&](std::uint64_t operation) {
        if (most_ops == 1) {
            m.row.address += least_length * operation;
            return;
        }
        m.row.address += least_length * ((m.op_index + operation) / most_ops);
        m.op_index = (m.op_index + operation) % most_ops;
    };
    const auto append = [&] {
        m.row.line = m.line > 0 && m.line < 0x7FFF'FFFF ? static_cast<std::uint32_t>(m.line) : 0;
        // Addresses ascend within a sequence: one that does not is left out.
        if (m.sequence.rows.empty() || m.sequence.rows.back().address <= m.row.address) m.sequence.rows.push_back(m.row);
        ++rows;
    };
    while (in.more() && rows < most) {
        const std::uint8_t op = in.byte();
        if (op >= opcodes) {  // special: 6.2.5.1
            const unsigned adjusted = op - opcodes;
            advance(adjusted / range);
            m.line = static_cast<std::int64_t>(static_cast<std::uint64_t>(m.line) +
                                               static_cast<std::uint64_t>(base + static_cast<int>(adjusted % range)));
            append();
            continue;
        }
        switch (op) {
            case 0: {  // extended: 6.2.5.3
                const std::uint64_t size = in.uleb(), from = in.at();
                if (size == 0 || !in.good()) break;
                const std::uint8_t what = in.byte();
                if (what == 1) {  // DW_LNE_end_sequence
                    m.sequence.end = m.row.address;
                    if (!m.sequence.rows.empty() && m.sequence.rows.back().address <= m.sequence.end)
                        all.push_back(std::move(m.sequence));
                    m = {};
                    m.row.begins = begins;
                } else if (what == 2 && size >= 2 && size <= 9) {  // DW_LNE_set_address
                    m.row.address = in.number(static_cast<unsigned>(size - 1));
                    m.op_index = 0;
                }
                const std::uint64_t used = in.at() - from;
                if (used > size) return all;
                in.skip(size - used);
                break;
            }
            case 1:  // DW_LNS_copy
                append();
                break;
            case 2:  // DW_LNS_advance_pc
                advance(in.uleb());
                break;
            case 3:  // DW_LNS_advance_line
                m.line = static_cast<std::int64_t>(static_cast<std::uint64_t>(m.line) +
                                                   static_cast<std::uint64_t>(in.sleb()));
                break;
            case 4:  // DW_LNS_set_file
                m.row.file = static_cast<std::uint32_t>(in.uleb());
                break;
            case 5:  // DW_LNS_set_column
                in.uleb();
                break;
            case 6:  // DW_LNS_negate_stmt
                m.row.begins = !m.row.begins;
                break;
            case 7:  // DW_LNS_set_basic_block
                break;
            case 8:  // DW_LNS_const_add_pc
                advance((255u - opcodes) / range);
                break;
            case 9:  // DW_LNS_fixed_advance_pc
                m.row.address += in.number(2);
                m.op_index = 0;
                break;
            case 10:  // DW_LNS_set_prologue_end
            case 11:  // DW_LNS_set_epilogue_begin
                break;
            case 12:  // DW_LNS_set_isa
                in.uleb();
                break;
            default:  // one that a later version has
                for (unsigned i = 0; i < operands[op]; ++i) in.uleb();
        }
    }
    return all;
}

}  // namespace mt
