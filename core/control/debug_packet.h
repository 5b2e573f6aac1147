// Packets of the GDB remote serial protocol: bytes to payloads and back.
// GDB manual, appendix "GDB Remote Serial Protocol", sections "Overview", "Packet Acknowledgment" and
// "Notification Packets".
#pragma once

#include <cstdint>
#include <deque>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace mt {

/// "$payload#checksum", with the characters # $ } * of the payload escaped.
std::string framed_debug_packet(std::string_view payload);

/// Takes the other end's bytes apart. Whatever comes, memory stays below kMostPayload and some.
class DebugPacketReader {
  public:
    static constexpr std::size_t kMostPayload = 1 << 20, kMostWaiting = 256;
    struct Item {
        enum class Kind : std::uint8_t { packet, notification, acknowledged, refused, damaged, too_long };
        Kind kind = Kind::packet;
        std::string payload;  ///< escapes and run lengths undone
    };

    void feed(std::span<const std::uint8_t> bytes);
    std::optional<Item> next();

  private:
    void take(std::uint8_t byte);
    void end_packet();

    enum class State : std::uint8_t { between, payload, checksum_high, checksum_low };
    State state_ = State::between;
    bool notification_ = false, overlong_ = false;
    std::string raw_;  ///< as it came, before escapes are undone
    std::uint8_t sum_ = 0, given_ = 0;
    bool given_is_hex_ = true;
    std::deque<Item> items_;
};

/// Undoes run-length encoding and escapes; nullopt if they are wrong or the result is too long.
std::optional<std::string> unescaped_debug_payload(std::string_view raw);

/// Pairs of hexadecimal digits to bytes; nullopt for anything else.
std::optional<std::string> bytes_of_hex(std::string_view hex);
std::string hex_of_bytes(std::string_view bytes);

}  // namespace mt
