#include "control/debug_packet.h"

namespace mt {
namespace {

int hex_digit(char c) {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    if (c >= 'A' && c <= 'F') return c - 'A' + 10;
    return -1;
}
constexpr std::string_view kDigits = "0123456789abcdef";

}  // namespace

std::string framed_debug_packet(std::string_view payload) {
    std::string all = "$";
    std::uint8_t sum = 0;
    const auto put = [&](char c) {
        all += c;
        sum = static_cast<std::uint8_t>(sum + static_cast<std::uint8_t>(c));
    };
    for (const char c : payload) {
        if (c == '#' || c == '$' || c == '}' || c == '*') {
            put('}');
            put(static_cast<char>(c ^ 0x20));
        } else {
            put(c);
        }
    }
    all += '#';
    all += kDigits[sum >> 4];
    all += kDigits[sum & 15];
    return all;
}

std::optional<std::string> unescaped_debug_payload(std::string_view raw) {
    std::string out;
    for (std::size_t i = 0; i < raw.size(); ++i) {
        const char c = raw[i];
        if (c == '}') {
            if (++i == raw.size()) return std::nullopt;
            out += static_cast<char>(raw[i] ^ 0x20);
        } else if (c == '*') {
            // The character before, again: count + 29 as a printable character; 6 and 7 would be '#' and '$'.
            if (++i == raw.size() || out.empty() || raw[i] < ' ' || raw[i] > '~') return std::nullopt;
            const auto again = static_cast<std::size_t>(raw[i] - 29);
            if (out.size() + again > DebugPacketReader::kMostPayload) return std::nullopt;
            out.append(again, out.back());
        } else {
            out += c;
        }
        if (out.size() > DebugPacketReader::kMostPayload) return std::nullopt;
    }
    return out;
}

void DebugPacketReader::feed(std::span<const std::uint8_t> bytes) {
    for (const std::uint8_t b : bytes) take(b);
}

void DebugPacketReader::end_packet() {
    Item item;
    if (overlong_) {
        item.kind = Item::Kind::too_long;
    } else if (!given_is_hex_ || given_ != sum_) {
        item.kind = Item::Kind::damaged;
    } else if (auto payload = unescaped_debug_payload(raw_)) {
        item.kind = notification_ ? Item::Kind::notification : Item::Kind::packet;
        item.payload = std::move(*payload);
    } else {
        item.kind = Item::Kind::damaged;
    }
    raw_.clear();
    state_ = State::between;
    if (items_.size() < kMostWaiting) items_.push_back(std::move(item));
}

void DebugPacketReader::take(std::uint8_t byte) {
    const char c = static_cast<char>(byte);
    const auto begin = [&] {
        state_ = State::payload;
        notification_ = c == '%';
        overlong_ = false;
        raw_.clear();
        sum_ = 0;
    };
    switch (state_) {
        case State::between:
            if (c == '$' || c == '%')
                begin();
            else if ((c == '+' || c == '-') && items_.size() < kMostWaiting)
                items_.push_back({c == '+' ? Item::Kind::acknowledged : Item::Kind::refused, {}});
            return;
        case State::payload:
            if (c == '#') {
                state_ = State::checksum_high;
            } else if (c == '$') {  // never inside a payload: the one before was cut short
                if (items_.size() < kMostWaiting) items_.push_back({Item::Kind::damaged, {}});
                begin();
            } else {
                sum_ = static_cast<std::uint8_t>(sum_ + byte);
                if (raw_.size() < kMostPayload)
                    raw_ += c;
                else
                    overlong_ = true;
            }
            return;
        case State::checksum_high:
            given_is_hex_ = hex_digit(c) >= 0;
            given_ = static_cast<std::uint8_t>((given_is_hex_ ? hex_digit(c) : 0) << 4);
            state_ = State::checksum_low;
            return;
        case State::checksum_low:
            given_is_hex_ = given_is_hex_ && hex_digit(c) >= 0;
            given_ = static_cast<std::uint8_t>(given_ | (hex_digit(c) >= 0 ? hex_digit(c) : 0));
            end_packet();
            return;
    }
}

std::optional<DebugPacketReader::Item> DebugPacketReader::next() {
    if (items_.empty()) return std::nullopt;
    Item item = std::move(items_.front());
    items_.pop_front();
    return item;
}

std::optional<std::string> bytes_of_hex(std::string_view hex) {
    if (hex.size() % 2 != 0) return std::nullopt;
    std::string out;
    out.reserve(hex.size() / 2);
    for (std::size_t i = 0; i < hex.size(); i += 2) {
        const int high = hex_digit(hex[i]), low = hex_digit(hex[i + 1]);
        if (high < 0 || low < 0) return std::nullopt;
        out += static_cast<char>(high << 4 | low);
    }
    return out;
}

std::string hex_of_bytes(std::string_view bytes) {
    std::string out;
    out.reserve(bytes.size() * 2);
    for (const char c : bytes) {
        const auto b = static_cast<std::uint8_t>(c);
        out += kDigits[b >> 4];
        out += kDigits[b & 15];
    }
    return out;
}

}  // namespace mt
