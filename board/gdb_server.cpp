#include "gdb_server.h"

#include <charconv>
#include <utility>

namespace board {
namespace asio = boost::asio;
using tcp = asio::ip::tcp;

namespace {

constexpr std::size_t kPacketSize = 0x1000;

std::string hex(std::uint64_t v) {
    char text[17];
    const auto end = std::to_chars(text, text + sizeof text, v, 16);
    return {text, end.ptr};
}

// Reads a hexadecimal number off the front of `text`, and the separator behind it.
std::optional<std::uint32_t> take_hex(std::string_view& text, char separator = 0) {
    std::uint32_t v = 0;
    const auto end = std::from_chars(text.data(), text.data() + text.size(), v, 16);
    if (end.ec != std::errc{}) return std::nullopt;
    text.remove_prefix(static_cast<std::size_t>(end.ptr - text.data()));
    if (separator != 0) {
        if (text.empty() || text.front() != separator) return std::nullopt;
        text.remove_prefix(1);
    }
    return v;
}

std::string word_hex(std::uint32_t v) {
    std::string bytes;
    for (unsigned i = 0; i < 4; ++i) bytes += static_cast<char>(v >> (8 * i));
    return mt::hex_of_bytes(bytes);
}

}  // namespace

GdbServer::GdbServer(asio::io_context& context, const tcp::endpoint& at, DebugCore& core, UnitSpace* units,
                     const Troubles& troubles, Command command)
    : acceptor_(context, at),
      slow_(context),
      patience_(context),
      core_(core),
      units_(units),
      troubles_(troubles),
      command_(std::move(command)) {
    accept();
}

// One debugger at a time. Who comes while the last one is leaving waits for that a moment; others are hung up on.
void GdbServer::accept() {
    auto socket = std::make_shared<tcp::socket>(acceptor_.get_executor());
    acceptor_.async_accept(*socket, [this, socket](const boost::system::error_code& ec) {
        if (ec) return;
        if (!peer_) {
            begin(std::move(*socket));
        } else {
            next_ = std::make_unique<tcp::socket>(std::move(*socket));
            patience_.expires_after(std::chrono::milliseconds(300));
            patience_.async_wait([this](const boost::system::error_code& over) {
                if (!over) next_.reset();
            });
        }
        accept();
    });
}

void GdbServer::begin(tcp::socket socket) {
    peer_ = std::make_unique<tcp::socket>(std::move(socket));
    boost::system::error_code ignored;
    peer_->set_option(tcp::no_delay(true), ignored);
    reader_ = {};
    out_.clear();
    writing_ = false;
    acks_ = true;
    non_stop_ = false;
    if (std::exchange(running_, false)) core_.halted();  // attaching halts
    last_ = {Stop::Why::interrupted, 0, 'w'};
    read();
}

void GdbServer::read() {
    peer_->async_read_some(asio::buffer(buffer_), [this](const boost::system::error_code& ec, std::size_t n) {
        if (ec) {  // the debugger is gone: the core stays as it is
            peer_.reset();
            core_.breakpoints.clear();
            core_.watches.clear();
            if (next_) begin(std::move(*std::exchange(next_, nullptr)));
            return;
        }
        // An interrupt byte stands outside of packets.
        std::size_t from = 0;
        for (std::size_t i = 0; i < n; ++i) {
            if (buffer_[i] != 0x03 || !running_) continue;
            reader_.feed(std::span(buffer_).subspan(from, i - from));
            from = i + 1;
            halt({Stop::Why::interrupted, 0, 'w'});
        }
        reader_.feed(std::span(buffer_).subspan(from, n - from));
        while (peer_) {
            const auto item = reader_.next();
            if (!item) break;
            take(*item);
        }
        if (peer_) read();
    });
}

void GdbServer::take(const mt::DebugPacketReader::Item& item) {
    using Kind = mt::DebugPacketReader::Item::Kind;
    switch (item.kind) {
        case Kind::packet:
            if (acks_) send("+");
            packet(item.payload);
            break;
        case Kind::refused:
            if (!last_sent_.empty()) send(last_sent_);
            break;
        case Kind::damaged:
        case Kind::too_long:
            if (acks_) send("-");
            break;
        default:
            break;
    }
}

void GdbServer::send(const std::string& bytes) {
    out_.push_back(bytes);
    if (writing_) return;
    if (troubles_.answer_slowly_ms > 0) {
        writing_ = true;
        slow_.expires_after(std::chrono::milliseconds(troubles_.answer_slowly_ms));
        slow_.async_wait([this](const boost::system::error_code&) {
            writing_ = false;
            pump();
        });
        return;
    }
    pump();
}

void GdbServer::pump() {
    if (!peer_ || writing_ || out_.empty()) return;
    writing_ = true;
    asio::async_write(*peer_, asio::buffer(out_.front()), [this](const boost::system::error_code& ec, std::size_t) {
        writing_ = false;
        if (!out_.empty()) out_.pop_front();
        if (!ec) pump();
    });
}

void GdbServer::reply(const std::string& payload) {
    last_sent_ = mt::framed_debug_packet(payload);
    if (troubles_.malformed_each > 0 && ++answers_ % troubles_.malformed_each == 0) {
        std::string spoiled = last_sent_;
        switch (answers_ / troubles_.malformed_each % 4) {
            case 0:
                spoiled.back() = spoiled.back() == '0' ? '1' : '0';
                break;
            case 1:
                spoiled = "$" + std::string(40, 'x');
                break;
            case 2:
                spoiled = "\x80\x81garbage#zz" + last_sent_;
                break;
            default:
                spoiled.insert(1, "*~");
                break;
        }
        send(spoiled);
        return;
    }
    send(last_sent_);
}

std::string GdbServer::stop_reply() const {
    std::string r = last_.why == Stop::Why::interrupted ? "T02" : "T05";
    if (last_.why == Stop::Why::watchpoint)
        r += std::string(last_.kind == 'r'   ? "rwatch"
                         : last_.kind == 'a' ? "awatch"
                                             : "watch") +
             ":" + hex(last_.address) + ";";
    return r + "thread:1;";
}

void GdbServer::halt(const Stop& stop) {
    if (!running_) return;
    running_ = false;
    last_ = stop;
    core_.halted();
    if (!peer_) return;
    if (non_stop_) {  // a notification, acknowledged by vStopped
        std::string framed = mt::framed_debug_packet("Stop:" + stop_reply());
        framed[0] = '%';
        send(framed);
    } else {
        reply(stop_reply());
    }
}

void GdbServer::stopped(const Stop& stop) { halt(stop); }

bool GdbServer::resume(const std::string& action) {
    if (action == "c") {
        running_ = true;
        return true;
    }
    core_.step();
    core_.halted();
    last_ = {Stop::Why::breakpoint, 0, 'w'};
    return false;
}

void GdbServer::packet(const std::string& p) {
    const char kind = p.empty() ? 0 : p[0];
    if (running_ && !non_stop_ && kind != 'q' && kind != 'Q' && kind != 'D') return reply("E01");
    if (p == "?") {
        if (non_stop_ && running_) return reply("OK");
        return reply(stop_reply());
    }
    if (p.rfind("q", 0) == 0 || p.rfind("Q", 0) == 0) return reply(query(p));
    if (p == "vCont?") return reply("vCont;c;C;s;S;t");
    if (p == "vStopped") return reply("OK");
    if (p.rfind("vCont;", 0) == 0 || kind == 'c' || kind == 's' || kind == 'C' || kind == 'S') {
        const char action = kind == 'v' ? p.size() > 6 ? p[6] : 'c' : kind;
        if (action == 't') {
            reply("OK");
            return halt({Stop::Why::interrupted, 0, 'w'});
        }
        if (kind == 'c' || kind == 's') {
            std::string_view rest = std::string_view(p).substr(1);
            if (const auto at = take_hex(rest)) core_.write_register(core_.registers() == 33 ? 32 : 15, *at);
        }
        if (non_stop_) reply("OK");
        if (resume(action == 'c' || action == 'C' ? "c" : "s")) return;
        if (non_stop_) {
            running_ = true;
            return halt({Stop::Why::breakpoint, 0, 'w'});
        }
        return reply(stop_reply());
    }
    switch (kind) {
        case 'g':
            return reply(registers());
        case 'G': {
            const auto bytes = mt::bytes_of_hex(std::string_view(p).substr(1));
            if (!bytes || bytes->size() != 4 * core_.registers()) return reply("E01");
            for (std::size_t n = 0; n < core_.registers(); ++n) {
                std::uint32_t v = 0;
                for (unsigned i = 4; i-- > 0;) v = v << 8 | static_cast<std::uint8_t>((*bytes)[4 * n + i]);
                core_.write_register(n, v);
            }
            return reply("OK");
        }
        case 'p': {
            std::string_view rest = std::string_view(p).substr(1);
            const auto n = take_hex(rest);
            return reply(!n || *n >= core_.registers() ? "E01" : word_hex(core_.read_register(*n)));
        }
        case 'P': {
            std::string_view rest = std::string_view(p).substr(1);
            const auto n = take_hex(rest, '=');
            const auto bytes = mt::bytes_of_hex(rest);
            if (!n || *n >= core_.registers() || !bytes || bytes->size() != 4) return reply("E01");
            std::uint32_t v = 0;
            for (unsigned i = 4; i-- > 0;) v = v << 8 | static_cast<std::uint8_t>((*bytes)[i]);
            core_.write_register(*n, v);
            return reply("OK");
        }
        case 'm':
            return reply(memory_read(p));
        case 'M':
        case 'X':
            return reply(memory_write(p, kind == 'X'));
        case 'Z':
        case 'z':
            return reply(point(p));
        case 'H':
        case 'T':
            return reply("OK");
        case 'R':
            core_.reset();
            running_ = false;
            return;
        case 'D':
            reply("OK");
            core_.breakpoints.clear();
            core_.watches.clear();
            running_ = true;
            return;
        default:
            if (p.rfind("vRun", 0) == 0) {
                core_.reset();
                running_ = false;
                last_ = {Stop::Why::breakpoint, 0, 'w'};
                return reply(stop_reply());
            }
            return reply("");
    }
}

std::string GdbServer::registers() {
    std::string all;
    for (std::size_t n = 0; n < core_.registers(); ++n) all += word_hex(core_.read_register(n));
    return all;
}

std::string GdbServer::query(const std::string& p) {
    if (p.rfind("qSupported", 0) == 0)
        return "PacketSize=" + hex(kPacketSize) +
               ";QStartNoAckMode+;qXfer:features:read+;QNonStop+;vContSupported+;swbreak-;hwbreak-";
    if (p == "QStartNoAckMode") {
        acks_ = false;
        return "OK";
    }
    if (p.rfind("QNonStop:", 0) == 0) {
        non_stop_ = p.back() == '1';
        return "OK";
    }
    if (p.rfind("qXfer:features:read:target.xml:", 0) == 0) {
        std::string_view rest = std::string_view(p).substr(31);
        const auto from = take_hex(rest, ','), length = take_hex(rest);
        const std::string xml = core_.target_xml();
        if (!from || !length || *from > xml.size()) return "E01";
        const std::string piece = xml.substr(*from, std::min<std::size_t>(*length, kPacketSize - 8));
        return (*from + piece.size() >= xml.size() ? "l" : "m") + piece;
    }
    if (p == "qAttached") return "1";
    if (p == "qC") return "QC1";
    if (p == "qfThreadInfo") return "m1";
    if (p == "qsThreadInfo") return "l";
    if (p.rfind("qRcmd,", 0) == 0) {
        const auto command = mt::bytes_of_hex(std::string_view(p).substr(6));
        if (!command) return "E01";
        std::string text;
        if (*command == "reset" || *command == "reset halt") {
            core_.reset();
            if (running_) halt({Stop::Why::interrupted, 0, 'w'});
            running_ = false;
            return "OK";
        }
        if (!command_(*command, text)) text = "unknown command: '" + *command + "'\n";
        return text.empty() ? "OK" : mt::hex_of_bytes(text);
    }
    return "";
}

std::string GdbServer::memory_read(const std::string& p) {
    std::string_view rest = std::string_view(p).substr(1);
    const auto at = take_hex(rest, ','), length = take_hex(rest);
    if (!at || !length || *length > kPacketSize / 2) return "E01";
    std::vector<std::uint8_t> bytes(*length);
    if (troubles_.refuse_memory || (troubles_.no_access_running && running_)) return "E0e";
    if (units_ != nullptr && units_->holds(*at)) {  // registers: whole words alone
        if (*at % 4 != 0 || *length % 4 != 0) return "E0e";
        for (std::uint32_t i = 0; i < *length; i += 4) {
            std::uint32_t word = 0;
            if (!units_->read(*at + i, word)) return "E0e";
            for (unsigned k = 0; k < 4; ++k) bytes[i + k] = static_cast<std::uint8_t>(word >> (8 * k));
        }
    } else if (!core_.read(*at, bytes)) {
        return "E0e";
    }
    return mt::hex_of_bytes({reinterpret_cast<const char*>(bytes.data()), bytes.size()});
}

std::string GdbServer::memory_write(const std::string& p, bool binary) {
    std::string_view rest = std::string_view(p).substr(1);
    const auto at = take_hex(rest, ','), length = take_hex(rest, ':');
    if (!at || !length) return "E01";
    const auto bytes = binary ? std::optional(std::string(rest)) : mt::bytes_of_hex(rest);
    if (!bytes || bytes->size() != *length) return "E01";
    if (troubles_.refuse_memory || (troubles_.no_access_running && running_)) return "E0e";
    if (units_ != nullptr && units_->holds(*at)) {
        if (*at % 4 != 0 || *length % 4 != 0) return "E0e";
        for (std::uint32_t i = 0; i < *length; i += 4) {
            std::uint32_t word = 0;
            for (unsigned k = 4; k-- > 0;) word = word << 8 | static_cast<std::uint8_t>((*bytes)[i + k]);
            if (!units_->write(*at + i, word)) return "E0e";
        }
        return "OK";
    }
    if (!core_.write(*at, {reinterpret_cast<const std::uint8_t*>(bytes->data()), bytes->size()})) return "E0e";
    return "OK";
}

std::string GdbServer::point(const std::string& p) {
    if (p.size() < 4 || p[2] != ',') return "E01";
    std::string_view rest = std::string_view(p).substr(3);
    const auto at = take_hex(rest, ','), length = take_hex(rest);
    if (!at || !length) return "E01";
    const bool set = p[0] == 'Z';
    if (p[1] == '0' || p[1] == '1') {
        if (set)
            core_.breakpoints.insert(*at & ~1u);
        else
            core_.breakpoints.erase(*at & ~1u);
        return "OK";
    }
    if (p[1] < '2' || p[1] > '4') return "";
    const DebugCore::Watch w{*at, *length, p[1] == '2' ? 'w' : p[1] == '3' ? 'r' : 'a'};
    if (set)
        core_.watches.insert(w);
    else
        core_.watches.erase(w);
    return "OK";
}

}  // namespace board
