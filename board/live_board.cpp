#include "live_board.h"

#include <algorithm>
#include <csignal>
#include <cstdio>
#include <fstream>
#include <iostream>
#include <iterator>
#include <sstream>
#include <utility>

#include <boost/asio.hpp>

#include "capture/line_check.h"
#include "gdb_server.h"
#include "instruments.h"
#include "mount_core.h"
#include "recorder_port.h"
#include "rv_core.h"
#include "rv_units.h"
#include "trace_port.h"

namespace board {
namespace asio = boost::asio;
using tcp = asio::ip::tcp;

namespace {

constexpr auto kTick = std::chrono::milliseconds(2);
constexpr double kMostBehind = 0.12;  ///< seconds that are caught up; a machine that is too slow lets the target run late
constexpr double kMostAtOnce = 0.004;  ///< seconds: what asks and answers meanwhile is not kept waiting
constexpr std::size_t kFloodPiece = 1 << 20;
constexpr double kCopAsleep = 4, kCopAwake = 13;  ///< mA of the co-processor

class LiveBoard {
  public:
    explicit LiveBoard(LiveOptions options);
    int run();

  private:
    struct Running {
        DebugCore* core;
        GdbServer* server;
        double owed = 0, ran = 0;  ///< seconds
    };
    void tick();
    void advance(Running& r, double seconds);
    bool command(const std::string& text, std::string& reply);
    void send_pattern(double seconds);
    void send_cop();
    void send_probe(double seconds);
    double board_time(std::uint64_t cycle) const {
        return run_from_ + (static_cast<double>(cycle) - run_cycle_) / static_cast<double>(main_->clock_hz());
    }
    void announce();

    LiveOptions options_;
    asio::io_context context_;
    std::unique_ptr<MountCore> main_;
    std::unique_ptr<RvCore> cop_;
    std::unique_ptr<GdbServer> main_server_, cop_server_;
    std::unique_ptr<TracePort> trace_, cop_trace_, events_, probe_port_;
    Bench bench_;
    std::unique_ptr<CurrentProbe> probe_;
    double board_mA_ = 0, heater_mA_ = 0, cop_mA_ = kCopAsleep;
    double run_from_ = 0, run_cycle_ = 0;  ///< the board's seconds when the main core stood at that cycle
    double since_ = 0;                     ///< the board's seconds so far
    RecorderPort recorder_;
    std::unique_ptr<RvUnits> cop_units_;
    std::uint64_t cop_readers_ = 0;
    bool cop_read_ = false;
    std::string terminal_;
    std::vector<Running> running_;
    asio::steady_timer timer_;
    std::chrono::steady_clock::time_point last_{};
    bool pattern_on_ = false, pattern_held_ = false;
    std::size_t pattern_at_ = 0;
    double pattern_owed_ = 0;
    std::vector<std::uint8_t> flood_;
    std::size_t flood_at_ = 0;
    double flood_owed_ = 0;
};

MountOptions live_mount(MountOptions m) {
    m.seconds = 1e6;
    if (m.fault_at < 0) m.fault_at = 2e6;
    return m;
}

LiveBoard::LiveBoard(LiveOptions options) : options_(std::move(options)), timer_(context_) {
    const auto address = asio::ip::make_address(options_.bind);
    main_ = std::make_unique<MountCore>(options_.image, live_mount(options_.mount), options_.bare,
                                        options_.troubles.units, recorder_.sink(),
                                        [this] {
                                            recorder_.reset();
                                            run_cycle_ = 0;  // its cycles begin anew
                                            run_from_ = since_;
                                        },
                                        &bench_);
    probe_ = std::make_unique<CurrentProbe>(0, options_.mount.seed);
    bench_.draw = [this](double board, double heater, std::uint64_t cycle) {
        board_mA_ = board;
        heater_mA_ = heater;
        probe_->draw(board + cop_mA_, heater, board_time(cycle));
    };
    bench_.wire = [this](Wire wire, bool high, std::uint64_t cycle) {
        if (wire == Wire::debug) probe_->sync(high, board_time(cycle));
    };
    main_server_ = std::make_unique<GdbServer>(
        context_, tcp::endpoint(address, options_.gdb_main), *main_, &main_->units(), options_.troubles,
        [this](const std::string& text, std::string& reply) { return command(text, reply); });
    trace_ = std::make_unique<TracePort>(context_, tcp::endpoint(address, options_.trace), options_.troubles,
                                         options_.mount.seed);
    events_ = std::make_unique<TracePort>(context_, tcp::endpoint(address, options_.events), options_.troubles,
                                          options_.mount.seed + 2);
    probe_port_ = std::make_unique<TracePort>(context_, tcp::endpoint(address, options_.probe), options_.troubles,
                                              options_.mount.seed + 3);
    if (options_.terminal) terminal_ = trace_->open_terminal();
    running_.push_back({main_.get(), main_server_.get()});
    if (options_.cop) {
        cop_ = std::make_unique<RvCore>(options_.cop, options_.mount.seed);
        cop_units_ = std::make_unique<RvUnits>(*cop_, options_.troubles.units);
        if (!options_.bare) cop_units_->set_by_firmware(options_.cop_modes);
        cop_server_ = std::make_unique<GdbServer>(
            context_, tcp::endpoint(address, options_.gdb_cop), *cop_, cop_units_.get(), options_.troubles,
            [this](const std::string& text, std::string& reply) { return command(text, reply); });
        running_.push_back({cop_.get(), cop_server_.get()});
        cop_trace_ = std::make_unique<TracePort>(context_, tcp::endpoint(address, options_.trace_cop),
                                                 options_.troubles, options_.mount.seed + 1);
    }
    if (!options_.flood.empty()) {
        std::ifstream in(options_.flood, std::ios::binary);
        flood_.assign(std::istreambuf_iterator<char>(in), {});
        if (flood_.empty()) throw std::runtime_error("cannot read " + options_.flood);
    }
}

// The probe's own commands; docs/formats/line-check.md describes those of the line check.
bool LiveBoard::command(const std::string& text, std::string& reply) {
    std::istringstream in(text);
    std::string first, second;
    double value = 0;
    in >> first >> second;
    Troubles& t = options_.troubles;
    if (first == "line" && second == "phases") {
        reply = std::to_string(t.phases) + "\n";
        return true;
    }
    if (first == "line" && second == "phase" && in >> value && value >= 0 && value < t.phases) {
        t.phase = static_cast<unsigned>(value);
        return true;
    }
    if (first == "line" && second == "pattern") {
        std::string how;
        in >> how;
        pattern_on_ = how == "on";
        pattern_held_ = how == "hold";
        pattern_at_ = 0;
        pattern_owed_ = 0;
        return how == "on" || how == "off" || how == "hold";
    }
    if (first == "trouble" && in >> value) {
        if (second == "drop")
            t.drop = value;
        else if (second == "flip")
            t.flip = value;
        else if (second == "close-after")
            t.close_after = static_cast<std::uint64_t>(value);
        else
            return false;
        return true;
    }
    return false;
}

void LiveBoard::advance(Running& r, double seconds) {
    if (!r.server->running()) {
        r.owed = 0;
        return;
    }
    r.owed = std::min(r.owed + seconds, kMostBehind * std::max(1.0, options_.speed));
    const double hz = static_cast<double>(r.core->clock_hz());
    const auto cycles = static_cast<std::uint64_t>(std::min(r.owed, kMostAtOnce * std::max(1.0, options_.speed)) * hz);
    if (cycles == 0) return;
    r.owed -= static_cast<double>(cycles) / hz;
    r.ran += static_cast<double>(cycles) / hz;
    if (const auto stop = r.core->run(cycles)) r.server->stopped(*stop);
}

void LiveBoard::send_pattern(double seconds) {
    static const auto pattern = mt::line_pattern();
    pattern_owed_ += seconds * static_cast<double>(options_.mount.baud) / 10;
    std::vector<std::uint8_t> bytes;
    for (; pattern_owed_ >= 1; pattern_owed_ -= 1) bytes.push_back(pattern[pattern_at_++ % pattern.size()]);
    trace_->send(std::move(bytes), running_[0].ran);
}

// The encoder works while somebody listens, and begins afresh for everybody who comes.
void LiveBoard::send_cop() {
    if (!cop_trace_) return;
    if (cop_trace_->any_reader() != cop_read_ || cop_trace_->accepted() != cop_readers_) {
        cop_read_ = cop_trace_->any_reader();
        cop_readers_ = cop_trace_->accepted();
        cop_units_->listened(cop_read_);
        if (cop_read_) cop_units_->afresh();
    }
    std::vector<std::uint8_t> bytes;
    cop_units_->drain(bytes);
    if (cop_read_) cop_trace_->send(std::move(bytes), running_[1].ran);
}

// A probe measures whether anybody runs or not; while the main core runs, the board's time is its own. The
// co-processor's share is that of the last moments.
void LiveBoard::send_probe(double seconds) {
    if (main_server_->running()) {
        since_ = board_time(main_->cycle());
    } else {
        since_ += seconds;
        run_from_ = since_;
        run_cycle_ = static_cast<double>(main_->cycle());
    }
    if (cop_) {
        cop_mA_ = cop_->asleep() ? kCopAsleep : kCopAwake;
        probe_->draw(board_mA_ + cop_mA_, heater_mA_, since_);
    }
    probe_->advance(since_);
    std::vector<std::uint8_t> bytes;
    probe_->drain(bytes);
    if (probe_port_->any_reader()) probe_port_->send(std::move(bytes), since_);
}

void LiveBoard::tick() {
    const auto now = std::chrono::steady_clock::now();
    const double seconds = std::chrono::duration<double>(now - last_).count() * options_.speed;
    last_ = now;
    for (auto& r : running_) advance(r, seconds);
    send_cop();
    send_probe(seconds);
    std::vector<std::uint8_t> bytes;
    recorder_.drain(bytes);
    events_->send(std::exchange(bytes, {}), running_[0].ran);
    main_->drain(bytes);
    if (!flood_.empty()) {
        flood_owed_ = trace_->any_reader() ? flood_owed_ + seconds * options_.flood_rate * 1e6 : 0;
        while (trace_->any_reader() &&
               (options_.flood_rate > 0 ? flood_owed_ >= 1 : trace_->backlog() < 8 * kFloodPiece)) {
            std::size_t n = std::min(kFloodPiece, flood_.size() - flood_at_);
            if (options_.flood_rate > 0) n = std::min(n, static_cast<std::size_t>(flood_owed_));
            flood_owed_ -= static_cast<double>(n);
            const auto from = flood_.begin() + static_cast<std::ptrdiff_t>(flood_at_);
            trace_->send({from, from + static_cast<std::ptrdiff_t>(n)}, running_[0].ran);
            flood_at_ = (flood_at_ + n) % flood_.size();
        }
    } else if (pattern_on_) {
        send_pattern(seconds);
    } else if (!pattern_held_) {
        trace_->send(std::move(bytes), running_[0].ran);
    }
    if (options_.end_after > 0 && running_[0].ran >= options_.end_after) {
        context_.stop();
        return;
    }
    const bool behind = std::ranges::any_of(running_, [&](const Running& r) {
        return r.server->running() && r.owed >= kMostAtOnce * std::max(1.0, options_.speed);
    });
    timer_.expires_at(std::max(now, behind ? now : timer_.expiry() + kTick));
    timer_.async_wait([this](const boost::system::error_code& ec) {
        if (!ec) tick();
    });
}

void LiveBoard::announce() {
    std::ostringstream text;
    text << "gdb_main = " << main_server_->port() << "\n";
    if (cop_server_) text << "gdb_cop = " << cop_server_->port() << "\n";
    text << "trace = " << trace_->port() << "\n";
    text << "events = " << events_->port() << "\n";
    text << "probe = " << probe_port_->port() << "\n";
    if (cop_trace_) text << "trace_cop = " << cop_trace_->port() << "\n";
    if (!terminal_.empty()) text << "terminal = \"" << terminal_ << "\"\n";
    std::cout << text.str() << std::flush;
    if (options_.ports_file.empty()) return;
    std::ofstream(options_.ports_file + ".part") << text.str();
    std::rename((options_.ports_file + ".part").c_str(), options_.ports_file.c_str());  // whole, or not there
}

int LiveBoard::run() {
    asio::signal_set signals(context_, SIGINT, SIGTERM);
    signals.async_wait([this](const boost::system::error_code&, int) { context_.stop(); });
    announce();
    last_ = std::chrono::steady_clock::now();
    timer_.expires_at(last_);
    tick();
    context_.run();
    return 0;
}

}  // namespace

int run_live(LiveOptions options) {
    std::signal(SIGPIPE, SIG_IGN);
    try {
        return LiveBoard(std::move(options)).run();
    } catch (const std::exception& e) {
        std::cerr << "mtrail-board: " << e.what() << ": is a port already in use?\n";
        return 2;
    }
}

}  // namespace board
