#include "control/debug_server.h"

#include <algorithm>
#include <charconv>
#include <set>

#include <pugixml.hpp>

#include "base/text.h"

namespace mt {
namespace {

using Steady = std::chrono::steady_clock;
using Item = DebugPacketReader::Item;
constexpr std::size_t kMostChunk = 16 * 1024, kMostDescription = 4 << 20, kMostPrinted = 64 * 1024;
constexpr unsigned kMostRegisters = 4096, kMostRegisterBits = 4096;
constexpr int kMostStray = 64;
constexpr auto kBehindNoise = std::chrono::milliseconds(120);

std::string hex_number(std::uint64_t v) {
    char text[17];
    const auto end = std::to_chars(text, text + sizeof text, v, 16);
    return {text, end.ptr};
}

std::optional<std::uint64_t> number_of_hex(std::string_view text) {
    std::uint64_t v = 0;
    const auto end = std::from_chars(text.data(), text.data() + text.size(), v, 16);
    if (end.ec != std::errc{} || end.ptr != text.data() + text.size() || text.empty()) return std::nullopt;
    return v;
}

bool is_error(std::string_view reply) {
    return (reply.size() == 3 && reply[0] == 'E' && number_of_hex(reply.substr(1))) || reply.substr(0, 2) == "E.";
}

std::string printable(std::string_view text) {
    std::string out;
    for (const char c : text.substr(0, 40)) out += c >= ' ' && c <= '~' ? c : '?';
    return text.size() > 40 ? out + "…" : out;
}

}  // namespace

DebugServer::DebugServer(std::shared_ptr<Line> line) : line_(std::move(line)) {}

// Section "Packets", D: detaching lets the core run on.
DebugServer::~DebugServer() {
    if (line_.use_count() > 1 || !line_->detach || !line_->link) return;
    if (line_->running && !line_->non_stop)
        if (auto halted = halt(); !halted) return;
    // With several processes each is let go by itself.
    if (line_->processes.empty()) (void)ask("D", Milliseconds(300));
    for (const std::string& process : std::set<std::string>(line_->processes)) (void)ask("D;" + process, Milliseconds(300));
}

Problem DebugServer::unexpected(const std::string& doing, std::string_view reply) const {
    if (reply.empty())
        return {"the debug server cannot " + doing, line_->link->name(), "use a server that supports it, or do without"};
    if (is_error(reply))
        return {"the debug server refused to " + doing + " (" + printable(reply) + ")", line_->link->name(),
                doing.find("register") != std::string::npos ? "does the core have it, and is it halted?"
                                                            : "is the address inside the target's memory, and the core halted?"};
    return {"the debug server answered “" + printable(reply) + "” when asked to " + doing, line_->link->name(),
            "is this a GDB remote server?"};
}

Result<void> DebugServer::send(const std::string& payload) {
    return line_->link->write(framed_debug_packet(payload), line_->patience);
}

Result<std::optional<Item>> DebugServer::receive(Steady::time_point until) {
    std::uint8_t bytes[8192];
    for (;;) {
        if (auto item = line_->reader.next()) return item;
        const auto left = std::chrono::duration_cast<Milliseconds>(until - Steady::now());
        auto n = line_->link->read(bytes, std::max(left, Milliseconds(0)));
        if (!n) return tl::make_unexpected(n.error());
        line_->reader.feed(std::span(bytes, *n));
        // Also when bytes keep coming: a peer that never finishes a packet gets no more time than a silent one.
        if (Steady::now() >= until) return line_->reader.next();
    }
}

Result<std::string> DebugServer::ask(const std::string& payload) { return ask(payload, line_->patience); }

// Sends a packet and gives the packet that answers it. Stop notifications on the way are kept.
Result<std::string> DebugServer::ask(const std::string& payload, Milliseconds patience) {
    // What is read and written is of the thread chosen last; each stop chooses the one that stopped.
    constexpr std::string_view kOfThread = "gGpPmMX";
    if (!thread_.empty() && line_->chosen != thread_ && !payload.empty() && kOfThread.find(payload[0]) != std::string_view::npos) {
        line_->chosen = thread_;
        auto done = ask("Hg" + thread_, patience);
        if (!done || *done != "OK") line_->chosen.clear();
        if (!done) return done;
        if (*done != "OK") return tl::make_unexpected(unexpected("look at thread " + thread_, *done));
    }
    const auto until = Steady::now() + patience;
    const auto no_answer = [&] {
        return failure("the debug server does not answer", line_->link->name(),
                       "is it still running, and is the target powered?");
    };
    int tries = 0, stray = 0;
    for (;;) {
        if (auto sent = send(payload); !sent) return tl::make_unexpected(sent.error());
        bool damaged = false;
        for (bool again = false; !again;) {
            // Behind noise the answer may still come: only a line that stays silent is asked again, or the next answer
            // would be taken for this one.
            auto got = receive(damaged ? std::min(until, Steady::now() + kBehindNoise) : until);
            if (!got) return tl::make_unexpected(got.error());
            if (!*got && damaged && Steady::now() < until) break;
            if (!*got) return no_answer();
            switch ((*got)->kind) {
                case Item::Kind::packet:
                    if (line_->acks && !line_->link->write("+", line_->patience)) return no_answer();
                    // A server that halts a running target for a new client may say so before it is asked anything.
                    if (line_->greeting && payload != "?" && stop_of((*got)->payload)) break;
                    return std::move((*got)->payload);
                case Item::Kind::notification:
                    if ((*got)->payload.substr(0, 5) == "Stop:") line_->kept_stop = stop_of((*got)->payload.substr(5));
                    break;
                case Item::Kind::acknowledged:
                    break;
                case Item::Kind::refused:
                    again = true;
                    break;
                case Item::Kind::damaged:
                    if (line_->acks && !line_->link->write("-", line_->patience)) return no_answer();
                    damaged = !line_->acks;
                    break;
                case Item::Kind::too_long:
                    return failure("the debug server sent a packet without end", line_->link->name(),
                                   "is this a GDB remote server?");
            }
            if (++stray > kMostStray)
                return failure("the debug server sends no sense", line_->link->name(),
                               "is this a GDB remote server, and is the line clean?");
        }
        if (++tries >= 3) return failure("the debug server's answers are damaged", line_->link->name(), "is the line clean?");
    }
}

Result<void> DebugServer::ask_ok(const std::string& payload, const std::string& doing) {
    auto reply = ask(payload);
    if (!reply) return tl::make_unexpected(reply.error());
    if (*reply != "OK") return tl::make_unexpected(unexpected(doing, *reply));
    return {};
}

// Section "Stop Reply Packets".
std::optional<DebugStop> DebugServer::stop_of(std::string_view reply) const {
    if (reply.size() < 3) return std::nullopt;
    const char kind = reply[0];
    const auto signal = number_of_hex(reply.substr(1, 2));
    if (!signal) return std::nullopt;
    DebugStop stop;
    stop.signal = static_cast<unsigned>(*signal);
    if (kind == 'W' || kind == 'X') {
        stop.why = DebugStop::Why::exited;
        return stop;
    }
    if (kind != 'S' && kind != 'T') return std::nullopt;
    stop.why = stop.signal == 2   ? DebugStop::Why::interrupted
               : stop.signal == 5 ? DebugStop::Why::breakpoint
               : stop.signal == 0 ? DebugStop::Why::interrupted
                                  : DebugStop::Why::other;
    std::string_view rest = reply.substr(3);
    while (kind == 'T' && !rest.empty()) {
        const auto semicolon = rest.find(';');
        const std::string_view pair = rest.substr(0, semicolon);
        const auto colon = pair.find(':');
        if (colon != std::string_view::npos) {
            const auto key = pair.substr(0, colon);
            if (key == "thread") stop.thread = pair.substr(colon + 1).substr(0, 64);
            if (key == "watch" || key == "rwatch" || key == "awatch") {
                stop.why = DebugStop::Why::watchpoint;
                stop.watched = number_of_hex(pair.substr(colon + 1));
            }
        }
        rest = semicolon == std::string_view::npos ? std::string_view() : rest.substr(semicolon + 1);
    }
    return stop;
}

Result<std::unique_ptr<DebugServer>> DebugServer::connect(const std::string& address, Milliseconds patience, unsigned thread,
                                                          std::span<DebugServer* const> open) {
    const auto shared = std::find_if(open.begin(), open.end(), [&](const DebugServer* s) { return s != nullptr && s->line_->address == address; });
    if (thread != 0 && shared != open.end()) return (*shared)->another(thread);
    auto link = Link::connect_tcp(address, patience);
    if (!link) return tl::make_unexpected(link.error());
    auto server = greet(std::move(*link), patience);
    if (!server) return server;
    (*server)->line_->address = address;
    if (thread != 0)
        if (auto chosen = (*server)->choose_thread(thread); !chosen) return tl::make_unexpected(chosen.error());
    return server;
}

Result<std::unique_ptr<DebugServer>> DebugServer::another(unsigned thread) {
    if (line_->running) return failure("the debug server's cores run", line_->link->name(), "halt them before another is taken in hand");
    if (thread_.empty())
        if (auto first = choose_thread(1); !first) return tl::make_unexpected(first.error());
    std::unique_ptr<DebugServer> other(new DebugServer(line_));
    other->registers_ = registers_;
    other->architecture_ = architecture_;
    other->pc_number_ = pc_number_;
    other->stood_still_ = stood_still_;
    if (auto chosen = other->choose_thread(thread); !chosen) return tl::make_unexpected(chosen.error());
    if (other->thread_ == thread_)
        return failure("thread " + std::to_string(thread) + " of the debug server is another core already", line_->link->name(),
                       "give each core its own 'thread' in the recipe");
    return other;
}

Result<std::unique_ptr<DebugServer>> DebugServer::greet(std::unique_ptr<Link> link, Milliseconds patience) {
    auto line = std::make_shared<Line>();
    line->link = std::move(link);
    line->patience = patience;
    std::unique_ptr<DebugServer> s(new DebugServer(std::move(line)));
    if (auto hello = s->line_->link->write("+", patience); !hello) return tl::make_unexpected(hello.error());
    auto can = s->ask("qSupported:swbreak+;hwbreak+;vContSupported+");
    if (!can) return tl::make_unexpected(can.error());
    bool no_acks = false, features = false, non_stop = false;
    for (std::string_view rest = *can; !rest.empty();) {
        const auto semicolon = rest.find(';');
        const std::string_view one = rest.substr(0, semicolon);
        if (one.substr(0, 11) == "PacketSize=") {
            const auto size = number_of_hex(one.substr(11));
            if (size && *size >= 64)
                s->line_->packet_size = static_cast<std::size_t>(std::min<std::uint64_t>(*size, 2 * kMostChunk + 16));
        }
        no_acks = no_acks || one == "QStartNoAckMode+";
        features = features || one == "qXfer:features:read+";
        non_stop = non_stop || one == "QNonStop+";
        rest = semicolon == std::string_view::npos ? std::string_view() : rest.substr(semicolon + 1);
    }
    if (no_acks) {
        auto reply = s->ask("QStartNoAckMode");
        if (!reply) return tl::make_unexpected(reply.error());
        s->line_->acks = *reply != "OK";
    }
    if (features) s->read_target_description();
    if (non_stop) {
        auto reply = s->ask("QNonStop:1");
        if (!reply) return tl::make_unexpected(reply.error());
        s->line_->non_stop = *reply == "OK";
    }
    auto vcont = s->ask("vCont?");
    if (!vcont) return tl::make_unexpected(vcont.error());
    s->line_->vcont = vcont->find(";c") != std::string::npos;
    auto why = s->ask("?");
    s->line_->greeting = false;
    if (!why) return tl::make_unexpected(why.error());
    // In non-stop mode "OK" says that the core runs ("Remote Non-Stop").
    s->line_->running = s->line_->non_stop && *why == "OK";
    if (const auto stop = s->stop_of(*why)) s->stood_still_ = stop->why != DebugStop::Why::interrupted;
    if (!s->line_->running && !s->stop_of(*why)) return tl::make_unexpected(s->unexpected("say why the core stands", *why));
    if (s->line_->non_stop && !s->line_->running) (void)s->ask("vStopped");
    return s;
}

// Sections "General Query Packets" (qfThreadInfo) and "Packets" (H, vAttach); ids of several processes: "p2.1".
Result<void> DebugServer::choose_thread(unsigned number) {
    constexpr std::size_t kMostThreads = 4096;
    constexpr unsigned kMostProcesses = 16;
    (void)ask("qSupported:swbreak+;hwbreak+;vContSupported+;multiprocess+");
    std::vector<std::string> ids;
    const auto list = [&]() -> Result<void> {
        ids.clear();
        auto reply = ask("qfThreadInfo");
        for (std::size_t rounds = 0; reply && reply->starts_with("m") && ids.size() < kMostThreads && rounds < kMostThreads; ++rounds) {
            for (std::string_view rest = std::string_view(*reply).substr(1); !rest.empty();) {
                const auto comma = rest.find(',');
                ids.emplace_back(rest.substr(0, std::min<std::size_t>(comma, 64)));
                rest = comma == std::string_view::npos ? std::string_view() : rest.substr(comma + 1);
            }
            reply = ask("qsThreadInfo");
        }
        return reply ? Result<void>() : tl::make_unexpected(reply.error());
    };
    if (auto listed = list(); !listed) return listed;
    // Cores of other processes have to be taken in hand first.
    for (unsigned process = 2; ids.size() < number && process <= kMostProcesses; ++process) {
        const auto taken = ask("vAttach;" + hex_number(process));
        line_->chosen.clear();  // now it means that one
        if (!taken || taken->empty() || (*taken)[0] == 'E') break;
        if (auto listed = list(); !listed) return listed;
    }
    if (number == 0 || number > ids.size())
        return failure("the debug server has " + plural(ids.size(), "thread", "threads") + ", not " + std::to_string(number), line_->link->name(),
                       "correct 'thread' in the recipe");
    thread_ = ids[number - 1];
    const auto chosen = ask("Hg" + thread_);
    if (!chosen) return tl::make_unexpected(chosen.error());
    line_->chosen.clear();
    if (*chosen != "OK") return tl::make_unexpected(unexpected("look at thread " + thread_, *chosen));
    line_->chosen = thread_;
    if (thread_.starts_with("p")) line_->processes.insert(thread_.substr(1, thread_.find('.') - 1));
    if (registers_.empty()) return {};
    registers_.clear();  // another process may be of another kind
    read_target_description();
    return {};
}

// Section "Target Descriptions": architecture and register numbers.
void DebugServer::read_target_description() {
    const auto fetch = [&](const std::string& name) {
        std::string all;
        while (all.size() < kMostDescription) {
            const std::size_t piece = std::min<std::size_t>(line_->packet_size - 8, 4000);
            auto reply = ask("qXfer:features:read:" + name + ":" + hex_number(all.size()) + "," + hex_number(piece));
            if (!reply || reply->empty() || ((*reply)[0] != 'm' && (*reply)[0] != 'l')) return std::string();
            all += reply->substr(1);
            if ((*reply)[0] == 'l') return all;
            if (reply->size() == 1) return std::string();
        }
        return std::string();
    };
    unsigned number = 0;
    const auto take = [&](const pugi::xml_node& node) {
        // "org.gnu.gdb.arm.m-profile": its last part says what these are.
        const std::string feature = std::string(node.attribute("name").as_string()).substr(0, 200);
        const std::string of_feature = feature.substr(feature.rfind('.') + 1).substr(0, 32);
        for (const auto& r : node.children("reg")) {
            number = r.attribute("regnum").as_uint(number);
            if (number < kMostRegisters) {
                if (registers_.size() <= number) registers_.resize(number + 1);
                Register& known = registers_[number];
                known.name = std::string(r.attribute("name").as_string()).substr(0, 64);
                known.group = std::string(r.attribute("group").as_string(of_feature.c_str())).substr(0, 32);
                known.type = std::string(r.attribute("type").as_string("int")).substr(0, 32);
                known.bits = std::clamp(r.attribute("bitsize").as_uint(32), 1u, kMostRegisterBits);
                ++number;
            }
        }
    };
    pugi::xml_document document;
    const std::string top = fetch("target.xml");
    if (!document.load_buffer(top.data(), top.size())) return;
    const auto target = document.child("target");
    architecture_ = std::string(target.child("architecture").text().as_string()).substr(0, 64);
    int includes = 0;
    for (const auto& child : target.children()) {
        const std::string name = child.name();
        if (name == "feature") take(child);
        if (name == "xi:include" && includes++ < 32) {
            const std::string inner = fetch(child.attribute("href").as_string());
            pugi::xml_document included;
            if (included.load_buffer(inner.data(), inner.size())) {
                take(included.child("feature"));
            }
        }
    }
    pc_number_ = register_named("pc");
}

void DebugServer::count_places() {
    counting_ = true;
    places_ = {};
    changes_before_ = changes_;
}

void DebugServer::leave_place() {
    if (counting_) {
        const auto at = here_ && here_since_ == line_->let_go ? Result<std::uint64_t>(*here_) : pc();
        if (at)
            places_.add(*at, changed_here());
        else
            places_.complete = false;
        changes_before_ = changes_;
    }
    here_.reset();
    ++line_->let_go;
}

Result<void> DebugServer::resume() {
    if (line_->running) return {};
    leave_place();
    line_->kept_stop.reset();
    if (line_->non_stop) {
        if (auto ok = ask_ok("vCont;c", "resume the core"); !ok) return ok;
    } else if (auto sent = send(line_->vcont ? "vCont;c" : "c"); !sent) {
        return sent;
    }
    line_->running = true;
    line_->chosen.clear();
    return {};
}

// Section "Interrupts"; in non-stop mode vCont;t.
Result<DebugStop> DebugServer::interrupt() {
    if (line_->kept_stop) {
        line_->running = false;
        return *std::exchange(line_->kept_stop, std::nullopt);
    }
    if (line_->non_stop) {
        if (auto ok = ask_ok("vCont;t", "halt the core"); !ok) return tl::make_unexpected(ok.error());
    } else {
        const std::uint8_t stop = 0x03;
        if (auto sent = line_->link->write(std::span(&stop, 1), line_->patience); !sent) return tl::make_unexpected(sent.error());
    }
    line_->interrupting = !line_->non_stop;
    auto stopped = wait(line_->patience);
    line_->interrupting = false;
    if (!stopped) return tl::make_unexpected(stopped.error());
    if (!*stopped)
        return failure("the core does not halt", line_->link->name(), "is the target powered and its debug port reachable?");
    return **stopped;
}

Result<DebugStop> DebugServer::halt() {
    if (!line_->running) return DebugStop{DebugStop::Why::interrupted, 0, std::nullopt};
    return interrupt();
}

Result<std::optional<DebugStop>> DebugServer::wait(Milliseconds patience) {
    if (!line_->running) return failure("the core does not run", line_->link->name());
    const auto until = Steady::now() + patience;
    for (int stray = 0, acknowledged = 0; stray < kMostStray;) {
        if (line_->kept_stop) {
            line_->running = false;
            if (line_->non_stop) (void)ask("vStopped");
            return std::exchange(line_->kept_stop, std::nullopt);
        }
        auto got = receive(until);
        if (!got) return tl::make_unexpected(got.error());
        if (!*got) return std::optional<DebugStop>();
        const Item& item = **got;
        if (item.kind == Item::Kind::notification && item.payload.substr(0, 5) == "Stop:") {
            line_->kept_stop = stop_of(std::string_view(item.payload).substr(5));
        } else if (item.kind == Item::Kind::packet) {
            if (line_->acks && !line_->link->write("+", line_->patience)) break;
            const std::string payload = item.payload;
            const char kind = payload.empty() ? '\0' : payload[0];
            if (kind == 'F') {
                if (auto served = serve_call(std::string_view(payload).substr(1)); !served)
                    return tl::make_unexpected(served.error());
                stray = acknowledged = 0;
                if (Steady::now() >= until) return std::optional<DebugStop>();
                continue;
            }
            line_->kept_stop = stop_of(payload);
            if (line_->kept_stop) continue;
            if (const auto text = kind == 'O' ? bytes_of_hex(std::string_view(payload).substr(1)) : std::nullopt)
                printed(false, *text);
            else
                ++stray;
        } else if (item.kind == Item::Kind::damaged && line_->acks) {
            if (!line_->link->write("-", line_->patience)) break;
            ++stray;
        } else if (item.kind != Item::Kind::acknowledged || ++acknowledged > kMostStray) {
            ++stray;
        }
        if (line_->kept_stop && line_->kept_stop->why == DebugStop::Why::exited) {
            line_->running = false;
            return failure("the target is gone", line_->link->name(), "the debug server says that its program ended");
        }
    }
    return failure("the debug server sends no sense", line_->link->name(), "is this a GDB remote server?");
}

void DebugServer::printed(bool errors, std::string text) {
    constexpr std::size_t kMostPieces = 4096;
    if (!line_->keeps_console || text.empty()) return;
    if (line_->console.size() >= kMostPieces || text.size() > kMostPrinted) {
        line_->console_lost += text.size();
        return;
    }
    line_->console.push_back({Steady::now(), errors, std::move(text)});
}

// Section "File-I/O Remote Protocol Extension": the target waits in a call, may be read, and goes on with the reply.
// Error numbers are those of the subsection "Errno Values".
Result<void> DebugServer::type(const std::string& text) {
    constexpr std::size_t kMostTyped = 64 << 10;
    if (line_->typed.size() + text.size() > kMostTyped)
        return failure("the target does not read what was typed", line_->link->name(), "at most 64 KiB wait for it");
    line_->typed += text;
    return {};
}

Result<void> DebugServer::serve_call(std::string_view call) {
    constexpr const char* kNoSuchThing = "F-1,2";
    constexpr const char* kBadFile = "F-1,9";
    constexpr const char* kRefused = "F-1,d";
    constexpr const char* kUnknown = "F-1,270f";
    std::vector<std::string_view> parts;
    while (parts.size() < 8) {
        const auto comma = call.find(',');
        parts.push_back(call.substr(0, comma));
        if (comma == std::string_view::npos) break;
        call.remove_prefix(comma + 1);
    }
    const auto number = [&parts](std::size_t i) {
        return i < parts.size() ? number_of_hex(parts[i]) : std::optional<std::uint64_t>();
    };
    const bool was_running = std::exchange(line_->running, false);
    std::string reply = kUnknown;
    if (parts[0] == "write") {
        const auto file = number(1), at = number(2), length = number(3);
        if (!file || !at || !length || *file < 1 || *file > 2) {
            reply = kBadFile;
        } else {
            std::string text(static_cast<std::size_t>(std::min<std::uint64_t>(*length, kMostChunk)), '\0');
            auto read = memory_chunks(*at, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()}, nullptr);
            reply = read ? "F" + hex_number(text.size()) : kBadFile;
            if (read) printed(*file == 2, std::move(text));
        }
    } else if (parts[0] == "read") {
        const auto at = number(2), length = number(3);
        reply = number(1) == std::uint64_t{0} ? "F0" : kBadFile;
        if (number(1) == std::uint64_t{0} && at && length && !line_->typed.empty()) {
            const std::string given = line_->typed.substr(0, static_cast<std::size_t>(std::min<std::uint64_t>(*length, kMostChunk)));
            const auto written = write_memory(*at, {reinterpret_cast<const std::uint8_t*>(given.data()), given.size()});
            if (written) line_->typed.erase(0, given.size());
            reply = written ? "F" + hex_number(given.size()) : kBadFile;
        }
    } else if (parts[0] == "isatty") {
        reply = number(1).value_or(3) <= 2 ? "F1" : "F0";
    } else if (parts[0] == "close") {
        reply = number(1).value_or(3) <= 2 ? "F0" : kBadFile;
    } else if (parts[0] == "open" || parts[0] == "unlink" || parts[0] == "rename" || parts[0] == "system") {
        reply = kRefused;
    } else if (parts[0] == "stat") {
        reply = kNoSuchThing;
    }
    line_->running = was_running;
    // An interrupt that comes while the target waits in a call is asked for by the reply.
    if (line_->interrupting) reply += reply.find(',') == std::string::npos ? ",0,C" : ",C";
    return send(reply);
}

// A server may answer a step with a stop that was asked for before, and execute nothing: then it is asked again.
Result<DebugStop> DebugServer::step() {
    const auto before = pc();
    if (!before) return tl::make_unexpected(before.error());
    for (int tries = 0;; ++tries) {
        auto stopped = step_once();
        if (!stopped || tries == kMostSteps) return stopped;
        const auto after = pc();
        if (!after) return tl::make_unexpected(after.error());
        if (*after != *before || stopped->why == DebugStop::Why::watchpoint || stopped->why == DebugStop::Why::exited)
            return stopped;
    }
}

Result<DebugStop> DebugServer::step_once() {
    leave_place();
    line_->kept_stop.reset();
    if (line_->non_stop) {
        if (auto ok = ask_ok(thread_.empty() ? "vCont;s" : "vCont;s:" + thread_, "step"); !ok) return tl::make_unexpected(ok.error());
    } else if (auto sent = send(line_->vcont ? thread_.empty() ? "vCont;s" : "vCont;s:" + thread_ : "s"); !sent) {
        return tl::make_unexpected(sent.error());
    }
    line_->running = true;
    line_->chosen.clear();
    auto stopped = wait(line_->patience);
    if (!stopped) return tl::make_unexpected(stopped.error());
    if (!*stopped) return failure("the step does not end", line_->link->name());
    return **stopped;
}

Result<std::string> DebugServer::monitor(const std::string& command) {
    ++changes_;
    ++memory_changes_;
    here_.reset();
    // Section "qRcmd": any number of O packets, then OK, an error, or hex text that is the last of it.
    auto reply = ask("qRcmd," + hex_of_bytes(command));
    std::string printed;
    for (int i = 0; reply && i < 4096; ++i) {
        if (*reply == "OK") return printed;
        if (is_error(*reply) || reply->empty())
            return tl::make_unexpected(unexpected("run its command “" + command + "”", *reply));
        const bool more = (*reply)[0] == 'O';
        const auto text = bytes_of_hex(std::string_view(*reply).substr(more ? 1 : 0));
        if (!text) return tl::make_unexpected(unexpected("run its command “" + command + "”", *reply));
        if (printed.size() < kMostPrinted) printed += *text;
        if (!more) return printed;
        auto got = receive(Steady::now() + line_->patience);
        if (!got) return tl::make_unexpected(got.error());
        if (!*got) return failure("the debug server does not finish its command “" + command + "”", line_->link->name());
        if ((*got)->kind != Item::Kind::packet) {
            reply = "O";
            continue;
        }
        if (line_->acks) (void)line_->link->write("+", line_->patience);
        reply = std::move((*got)->payload);
    }
    if (!reply) return tl::make_unexpected(reply.error());
    return failure("the debug server's command “" + command + "” prints without end", line_->link->name());
}

Result<void> DebugServer::reset(const std::string& command) {
    if (line_->running)
        if (auto halted = halt(); !halted) return tl::make_unexpected(halted.error());
    auto printed = monitor(command.empty() ? "reset" : command);
    if (!printed) return tl::make_unexpected(printed.error());
    if (printed->find("unknown command") != std::string::npos || printed->find("invalid command") != std::string::npos)
        return failure("the debug server does not know its command “" + (command.empty() ? "reset" : command) + "”",
                       line_->link->name(), "name the right one in the recipe: reset = \"…\"");
    return {};
}

std::optional<unsigned> DebugServer::register_named(std::string_view name) const {
    const auto found = std::find_if(registers_.begin(), registers_.end(), [name](const Register& r) { return r.name == name; });
    return found == registers_.end() || name.empty() ? std::nullopt : std::optional(static_cast<unsigned>(found - registers_.begin()));
}

unsigned DebugServer::register_bits(unsigned number) const {
    return number < registers_.size() && !registers_[number].name.empty() ? (registers_[number].bits + 7) / 8 * 8 : 32;
}

Result<std::uint64_t> DebugServer::read_register(unsigned number) {
    auto reply = ask("p" + hex_number(number));
    if (!reply) return tl::make_unexpected(reply.error());
    if (reply->empty()) {  // not every server knows p: take it from all of them
        reply = ask("g");
        if (!reply) return tl::make_unexpected(reply.error());
        std::size_t before = 0;
        for (unsigned n = 0; n < number && before < reply->size(); ++n) before += register_bits(n) / 8 * 2;
        *reply = reply->substr(std::min(reply->size(), before), std::size_t{register_bits(number)} / 8 * 2);
    }
    const auto bytes = bytes_of_hex(*reply);
    if (!bytes || bytes->empty() || bytes->size() > 8)
        return tl::make_unexpected(unexpected("read register " + std::to_string(number), *reply));
    std::uint64_t value = 0;
    for (std::size_t i = bytes->size(); i-- > 0;) value = value << 8 | static_cast<std::uint8_t>((*bytes)[i]);
    return value;
}

Result<void> DebugServer::write_register(unsigned number, std::uint64_t value) {
    const unsigned size = register_bits(number) / 8;
    if (size > 8)
        return failure("register " + std::to_string(number) + " has more than 64 bits", line_->link->name(), "it cannot be written here");
    ++changes_;
    here_.reset();
    std::string bytes;
    for (unsigned i = 0; i < size; ++i) bytes += static_cast<char>(value >> (8 * i));
    return ask_ok("P" + hex_number(number) + "=" + hex_of_bytes(bytes), "write register " + std::to_string(number));
}

Result<std::uint64_t> DebugServer::pc() {
    auto at = read_register(pc_number_.value_or(architecture_.find("riscv") != std::string::npos ? 32 : 15));
    here_ = at && !line_->running ? std::optional(*at) : std::nullopt;
    here_since_ = line_->let_go;
    return at;
}

Result<void> DebugServer::memory_chunks(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress) {
    const std::size_t chunk = std::min<std::size_t>((line_->packet_size - 8) / 2, kMostChunk);
    for (std::size_t at = 0; at < into.size();) {
        if (progress != nullptr && progress->cancelled()) return failure("reading memory was cancelled", line_->link->name());
        const std::size_t n = std::min(chunk, into.size() - at);
        auto reply = ask("m" + hex_number(address + at) + "," + hex_number(n));
        if (!reply) return tl::make_unexpected(reply.error());
        const auto bytes = is_error(*reply) ? std::nullopt : bytes_of_hex(*reply);
        if (!bytes || bytes->empty() || bytes->size() > n)
            return tl::make_unexpected(unexpected("read memory at " + hex_text(address + at), *reply));
        std::copy(bytes->begin(), bytes->end(), into.begin() + static_cast<std::ptrdiff_t>(at));
        at += bytes->size();  // a server may give less than it was asked for
        if (progress != nullptr) progress->report(at, into.size());
    }
    return {};
}

Result<void> DebugServer::read_memory(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress) {
    if (!line_->running || line_->non_stop) return memory_chunks(address, into, progress);
    const auto began = Steady::now();
    auto stop = interrupt();
    if (!stop) return tl::make_unexpected(stop.error());
    auto read = memory_chunks(address, into, progress);
    if (stop->why != DebugStop::Why::interrupted) {  // it had stopped for a reason of its own: leave it standing
        line_->running = true;
        line_->kept_stop = *stop;
        return read;
    }
    if (auto on = resume(); !on) return on;
    ++line_->brief_halts;
    line_->brief_halt_seconds += std::chrono::duration<double>(Steady::now() - began).count();
    return read;
}

Result<void> DebugServer::write_memory(std::uint64_t address, std::span<const std::uint8_t> bytes) {
    ++changes_;
    ++memory_changes_;
    const bool pause = line_->running && !line_->non_stop;
    std::optional<DebugStop> stop;
    if (pause) {
        auto halted = interrupt();
        if (!halted) return tl::make_unexpected(halted.error());
        stop = *halted;
    }
    const std::size_t chunk = std::min<std::size_t>((line_->packet_size - 40) / 2, kMostChunk);
    Result<void> outcome;
    for (std::size_t at = 0; at < bytes.size() && outcome; at += chunk) {
        const std::size_t n = std::min(chunk, bytes.size() - at);
        const std::string_view piece(reinterpret_cast<const char*>(bytes.data()) + at, n);
        const std::string place = hex_number(address + at) + "," + hex_number(n) + ":";
        outcome = ask_ok("M" + place + hex_of_bytes(piece), "write memory at " + hex_text(address + at));
    }
    if (stop && stop->why == DebugStop::Why::interrupted) {
        if (auto on = resume(); !on) return on;
    } else if (stop) {
        line_->running = true;
        line_->kept_stop = stop;
    }
    return outcome;
}

Result<DebugServer::Point> DebugServer::set_point(Point type, std::uint64_t address, unsigned length) {
    const auto packet = [&](Point t) {
        return "Z" + std::to_string(static_cast<int>(t)) + "," + hex_number(address) + "," + hex_number(length);
    };
    auto reply = ask(packet(type));
    if (!reply) return tl::make_unexpected(reply.error());
    if (*reply != "OK" && type == Point::software) {
        type = Point::hardware;
        reply = ask(packet(type));
    }
    if (!reply) return tl::make_unexpected(reply.error());
    if (*reply != "OK") return tl::make_unexpected(unexpected("stop at " + hex_text(address), *reply));
    return type;
}

Result<void> DebugServer::clear_point(Point type, std::uint64_t address, unsigned length) {
    const auto packet = [&](Point t) {
        return "z" + std::to_string(static_cast<int>(t)) + "," + hex_number(address) + "," + hex_number(length);
    };
    auto reply = ask(packet(type));
    if (reply && *reply != "OK" && type == Point::software) reply = ask(packet(Point::hardware));
    if (!reply) return tl::make_unexpected(reply.error());
    return {};
}

}  // namespace mt
