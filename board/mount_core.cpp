#include "mount_core.h"

#include <algorithm>

namespace board {
namespace {
constexpr std::uint32_t kItm = 0xE0000000, kDemcr = 0xE000EDFC;
constexpr std::uint64_t kGlobalAhead = 7'340'000'000;  ///< of the global timestamps before the cycles
}  // namespace

MountCore::MountCore(std::shared_ptr<const mt::Image> image, MountOptions options, bool bare, UnitTroubles troubles, OsSink os,
                     std::function<void()> reset_os, Bench* bench)
    : image_(std::move(image)),
      options_(options),
      reset_os_(std::move(reset_os)),
      bench_(bench),
      bare_(bare),
      units_(std::move(troubles)),
      core_(*this),
      devices_(options, [this](unsigned line) { core_.raise(line); }, bench),
      kernel_(image_.get(), core_, std::move(os)),
      out_(options.clock_hz, options.baud) {
    units_.collect = [this](bool all) { collect(all); };
    units_.system_read = [this](std::uint32_t address) { return core_.system().read(address, 4, core_.cycle()); };
    units_.system_write = [this](std::uint32_t address, std::uint32_t value) {
        core_.system().write(address, 4, value, core_.cycle());
        core_.look_again();
    };
    main_ = address_of("main");
    if (image_)
        for (const auto& piece : image_->pieces()) core_.program(static_cast<std::uint32_t>(piece.loaded_at), piece.bytes);
    reset();
}

void MountCore::reset() {
    collect(true);
    core_.reset();
    devices_.reset();
    if (!bare_) units_.silence();  // until the firmware sets them up again
    out_ = ItmWriter(options_.clock_hz, options_.baud);
    encoder_.reset();
    etm_starts_ = 0;
    if (reset_os_) reset_os_();
    started_ = told_units_ = told_halt_ = worked_ = false;
    drawn_ = -1;
    next_sample_ = kSamplePeriod;
    next_sync_ = next_global_ = 0;
    counted_extra_ = counted_memory_ = slept_ = counted_slept_ = 0;
    counters_.fill(0);
    stop_.reset();
}

std::uint32_t MountCore::address_of(const char* name) const {
    const mt::Symbol* symbol = image_ ? image_->symbol_named(name) : nullptr;
    return symbol == nullptr ? 0 : static_cast<std::uint32_t>(symbol->address) & ~1u;
}

// The program begins: its trace is set up, as by its first lines.
void MountCore::begin() {
    started_ = true;
    if (!bare_)
        units_.set_by_firmware(options_.clock_hz, options_.baud, {address_of("current_task"), address_of("axis_error")});
    look_at_line();
    kernel_.begin();
    tell_exception(0, 3);
}

// Whatever may have been changed since it ran: what is told of accesses, whether instructions are traced.
void MountCore::prepare() {
    stop_.reset();
    if (!started_ && (main_ == 0 || core_.pc() == main_)) begin();
    core_.unmark();
    if (started_) kernel_.mark(core_);
    for (const Watch& w : watches) core_.mark(w.address, w.length);
    for (const auto& [from, length] : units_.watched()) core_.mark(from, length);
    look_at_etm();
    core_.leap_over_waiting(encoder_ == nullptr && breakpoints.empty());
    if (encoder_ && told_halt_) encoder_->resume(core_.pc(), core_.cycle());
    told_halt_ = false;
}

std::optional<Stop> MountCore::run(std::uint64_t cycles) {
    prepare();
    const std::uint64_t limit = core_.cycle() + cycles;
    bool over_first = true;
    std::set<std::uint32_t> with_main;
    if (!started_) (with_main = breakpoints).insert(main_);
    while (core_.cycle() < limit) {
        devices_.advance(core_.cycle());
        look_at_line();
        look_at_bench();
        const std::uint64_t until = std::max(core_.cycle() + 1, std::min({limit, devices_.next(), next_sample_, next_sync_, next_global_}));
        const bool met_point = core_.run_until(until, started_ ? breakpoints : with_main, over_first);
        over_first = false;
        if (met_point && breakpoints.count(core_.pc()) == 0) {
            prepare();
            over_first = true;
            continue;
        }
        count_events();
        if (core_.cycle() >= next_sample_) sample();
        if (stop_) return stop_;
        if (met_point) return stop_ = Stop{Stop::Why::breakpoint, core_.pc(), 'w'};
    }
    return std::nullopt;
}

void MountCore::step() {
    prepare();
    devices_.advance(core_.cycle());
    look_at_line();
    while (!core_.step() && !core_.locked_up()) {  // it sleeps until something happens
        const std::uint64_t until = std::min(devices_.next(), core_.system().next_tick());
        core_.wait_until(until);
        devices_.advance(core_.cycle());
    }
    count_events();
    look_at_bench();
    stop_.reset();
}

// Everything that was executed is told: up to here, as of a core that is halted (IHI 0064 6.4.7, type 0x18).
void MountCore::halted() {
    if (encoder_ && !told_halt_) {
        const auto [first, last] = core_.open_run();
        if (first <= last) encoder_->ran(first, last);
        encoder_->halt(core_.pc(), core_.cycle());
        told_halt_ = true;
    }
    collect(true);
    units_.idle();
}

void MountCore::write_register(std::size_t n, std::uint32_t value) { core_.write_register(n, value); }

bool MountCore::read(std::uint32_t address, std::span<std::uint8_t> into) {
    if (core_.read(address, into)) return true;
    for (std::size_t i = 0; i < into.size(); ++i) {
        const auto at = static_cast<std::uint32_t>(address + i);
        const auto told = devices_.load(at & ~3u, core_.cycle(), false);
        if (!told) return false;
        into[i] = static_cast<std::uint8_t>(*told >> (8 * (at & 3)));
    }
    return true;
}

bool MountCore::write(std::uint32_t address, std::span<const std::uint8_t> bytes) {
    if (core_.write(address, bytes)) return true;
    if (address % 4 != 0 || bytes.size() % 4 != 0) return false;
    for (std::size_t i = 0; i < bytes.size(); i += 4) {
        std::uint32_t word = 0;
        for (unsigned k = 4; k-- > 0;) word = word << 8 | bytes[i + k];
        if (!devices_.store(static_cast<std::uint32_t>(address + i), word, core_.cycle())) return false;
    }
    return true;
}

// What the core meets ------------------------------------------------------------------------------------------------

std::optional<std::uint32_t> MountCore::load(std::uint32_t address, unsigned size) {
    if (SystemControl::holds(address) && (address & ~3u) != kDemcr) return core_.system().read(address, size, core_.cycle());
    if (address - kItm < 0x80) return 1;  // a stimulus port takes more
    look_at_watches(address, size, false);
    std::optional<std::uint32_t> told;
    if (units_.holds(address)) {
        std::uint32_t value = 0;
        if (units_.read(address & ~3u, value)) told = value >> (8 * (address & 3));
    } else {
        told = devices_.load(address, core_.cycle(), true);
    }
    if (!told) fault_at_ = address;
    return told;
}

bool MountCore::store(std::uint32_t address, unsigned size, std::uint32_t value) {
    if (SystemControl::holds(address) && (address & ~3u) != kDemcr) {
        core_.system().write(address, size, value, core_.cycle());
        return true;
    }
    if (address - kItm < 0x80) {
        tell_port((address - kItm) / 4, value, size);
        return true;
    }
    look_at_watches(address, size, true);
    const bool taken = units_.holds(address) ? units_.write(address, value) : devices_.store(address, value, core_.cycle());
    if (!taken) fault_at_ = address;
    return taken;
}

void MountCore::look_at_watches(std::uint32_t address, unsigned size, bool is_write) {
    for (const Watch& w : watches) {
        if (address >= w.address + w.length || address + size <= w.address || w.kind == (is_write ? 'r' : 'w')) continue;
        stop_ = Stop{Stop::Why::watchpoint, w.address, w.kind};
        core_.stop();
    }
}

void MountCore::accessed(std::uint32_t address, unsigned size, bool is_write, std::uint32_t value, std::uint32_t pc) {
    look_at_watches(address, size, is_write);
    for (const auto& told : units_.accessed(address, size, is_write, value)) {
        if (told.pc) out_.data_pc(core_.cycle(), told.comparator, pc);
        if (told.address) out_.data_address(core_.cycle(), told.comparator, address);
        if (told.value) out_.data(core_.cycle(), told.comparator, is_write, value, size);
    }
    if (is_write) kernel_.stored(address, value);
}

void MountCore::branched(const ThumbBranch& b) {
    if (!encoder_) return;
    using Kind = ThumbBranch::Kind;
    encoder_->ran(b.first, b.last);
    encoder_->atom(b.taken, core_.cycle());
    if (b.kind == Kind::exception_return && b.taken) return;
    if (b.taken) {
        if (b.kind == Kind::call || b.kind == Kind::indirect_call) encoder_->called(b.back);
        if (b.kind == Kind::indirect) encoder_->target(b.target, true);
        if (b.kind == Kind::indirect_call) encoder_->target(b.target, false);
    }
    encoder_->stand_at(b.target);
}

void MountCore::tell_exception(unsigned number, unsigned function) {
    if (units_.exceptions()) out_.exception(core_.cycle(), number, function);
    if (function != 3 && (units_.event_counters() & 2) != 0) counters_[1] += 12;
}

void MountCore::entered(unsigned number, std::uint32_t first, std::uint32_t last, std::uint32_t back, std::uint32_t handler,
                        bool chained) {
    if (encoder_) {
        if (first <= last) encoder_->ran(first, last);
        encoder_->exception(number, chained ? back & ~1u : back, handler, core_.cycle());
    }
    tell_exception(number, 1);
    if (number >= SystemControl::kHardFault && number <= SystemControl::kUsageFault) kernel_.faulted(back, fault_at_);
    kernel_.entered(number);
    look_at_bench();
}

void MountCore::left(unsigned number) {
    kernel_.left(number);
    tell_exception(number, 2);
}

void MountCore::returned(unsigned number, std::uint32_t address) {
    if (encoder_) {
        encoder_->exception_return(address, core_.cycle());
        encoder_->stand_at(address);
    }
    tell_exception(number, 3);
    look_at_bench();
}

void MountCore::masked(bool is) {
    if (core_.exception() == 0) kernel_.masked(is);
}

// What it sends ------------------------------------------------------------------------------------------------------

// What the debugger set since: how fast the line is, what is dated; synchronisation and global times as they fall due.
void MountCore::look_at_line() {
    const std::uint64_t now = core_.cycle();
    out_.set(units_.bytes_per_s(options_.clock_hz), options_.clock_hz, units_.local_timestamps() ? units_.prescaler() : 0);
    const std::uint64_t sync = units_.sync_period(), global = units_.global_period();
    if (!told_units_ && sync > 0) next_sync_ = now;  // the first comes at once
    told_units_ = sync > 0;
    if (now >= next_sync_) {
        if (sync > 0) out_.sync(now);
        next_sync_ = now + (sync > 0 ? sync : kSamplePeriod);
    }
    if (now >= next_global_) {
        if (global > 0)
            out_.want_global(kGlobalAhead);
        else
            out_.forget_global();
        next_global_ = now + (global > 0 ? global : kSamplePeriod);
    }
}

// A sample of the program counter; asleep there is none to take.
void MountCore::sample() {
    const std::uint64_t period = units_.sample_period(), now = core_.cycle();
    if (period > 0) {
        if (core_.asleep())
            out_.sleep_sample(now);
        else
            out_.pc_sample(now, core_.pc());
    }
    const std::uint64_t step = period > 0 ? period : kSamplePeriod;
    next_sample_ += step;
    if (next_sample_ <= now) next_sample_ = now + step;
}

// The event counters have eight bits and tell when they wrap: cycles beyond the first of an instruction, of exceptions, of
// sleep, of loads and stores. Nothing is folded.
void MountCore::count_events() {
    const auto since = [](std::uint64_t is, std::uint64_t& was) { return is - std::exchange(was, is); };
    counters_[0] += since(core_.extra_cycles(), counted_extra_);
    counters_[2] += since(core_.slept_cycles(), counted_slept_);
    counters_[3] += since(core_.memory_cycles(), counted_memory_);
    const unsigned on = units_.event_counters();
    while (true) {
        unsigned wrapped = 0;
        for (unsigned n = 0; n < counters_.size(); ++n) {
            if (counters_[n] < 256) continue;
            if ((on >> n & 1) == 0) {
                counters_[n] %= 256;
                continue;
            }
            counters_[n] -= 256;
            wrapped |= 1u << n;
        }
        if (wrapped == 0) return;
        out_.counters(core_.cycle(), wrapped);
    }
}

// What the board draws, and who shows on its debug line. The heater of the focuser is on while `focus` works.
void MountCore::look_at_bench() {
    if (bench_ == nullptr) return;
    const bool works = kernel_.running() == kFocus;
    if (works != worked_ && bench_->wire) bench_->wire(Wire::debug, worked_ = works, core_.cycle());
    const double heater = started_ && kernel_.ready(kFocus) ? kHeaterDraws : 0;
    const double drawn = kBoardDraws + (core_.asleep() ? 0 : core_.exception() != 0 ? kHandlerDraws : kTaskDraws[kernel_.running()]) + heater;
    if (drawn == drawn_) return;
    drawn_ = drawn;
    if (bench_->draw) bench_->draw(drawn, heater, core_.cycle());
}

// What is told so far goes the way that the units are set to; `all` also the atoms that would wait for others.
void MountCore::collect(bool all) {
    std::vector<std::uint8_t> bytes;
    out_.drain(bytes);
    units_.itm_bytes(bytes);
    bytes.clear();
    if (encoder_) encoder_->drain(bytes, all);
    units_.etm_bytes(bytes);
}

// The trace unit was switched: it begins where the core stands, or ends.
void MountCore::look_at_etm() {
    if (!units_.etm_on()) {
        if (encoder_) collect(true);
        encoder_.reset();
        etm_starts_ = 0;
        return;
    }
    if (encoder_ && units_.etm_starts() == etm_starts_) return;
    if (encoder_) collect(true);
    etm_starts_ = units_.etm_starts();
    Etm4Setup setup;
    setup.return_stack = units_.etm_return_stack();
    setup.timestamps = units_.etm_timestamps();
    setup.sync_bytes = units_.etm_sync_bytes();
    encoder_ = std::make_unique<Etm4Encoder>(setup);
    encoder_->events = [this] { return units_.take_events(); };
    encoder_->view = [this](std::uint32_t first, std::uint32_t last) { return units_.view(first, last); };
    core_.begin_run();
    encoder_->begin(core_.pc(), core_.cycle());
    told_halt_ = false;
}

void MountCore::drain(std::vector<std::uint8_t>& out) {
    collect(false);
    units_.drain(out);
}

std::string MountCore::target_xml() const {
    std::string xml =
        "<?xml version=\"1.0\"?><!DOCTYPE target SYSTEM \"gdb-target.dtd\"><target version=\"1.0\">"
        "<architecture>arm</architecture><feature name=\"org.gnu.gdb.arm.m-profile\">";
    for (unsigned n = 0; n < 13; ++n) xml += "<reg name=\"r" + std::to_string(n) + "\" bitsize=\"32\"/>";
    xml +=
        "<reg name=\"sp\" bitsize=\"32\" type=\"data_ptr\"/><reg name=\"lr\" bitsize=\"32\"/>"
        "<reg name=\"pc\" bitsize=\"32\" type=\"code_ptr\"/><reg name=\"xpsr\" bitsize=\"32\"/></feature>"
        "<feature name=\"org.gnu.gdb.arm.m-system\">"
        "<reg name=\"msp\" bitsize=\"32\" type=\"data_ptr\"/><reg name=\"psp\" bitsize=\"32\" type=\"data_ptr\"/>";
    for (const char* name : {"primask", "control", "basepri", "faultmask"})
        xml += "<reg name=\"" + std::string(name) + "\" bitsize=\"32\" group=\"system\"/>";
    return xml + "</feature></target>";
}

}  // namespace board
