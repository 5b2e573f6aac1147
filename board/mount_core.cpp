#include "mount_core.h"

#include <algorithm>

namespace board {

MountCore::MountCore(std::shared_ptr<const mt::Image> image, MountOptions options, bool bare, UnitTroubles troubles,
                     OsSink os, std::function<void()> reset_os, Bench* bench)
    : image_(std::move(image)),
      options_(options),
      os_(std::move(os)),
      reset_os_(std::move(reset_os)),
      bench_(bench),
      flash_(kFlashBytes, 0xFF),
      ram_(kRamBytes),
      bare_(bare),
      units_(std::move(troubles)) {
    units_.collect = [this](bool all) { collect(all); };
    if (image_)
        for (const auto& piece : image_->pieces()) {
            const auto at = static_cast<std::uint32_t>(piece.loaded_at);
            if (at >= kFlash && at - kFlash + piece.bytes.size() <= flash_.size())
                std::copy(piece.bytes.begin(), piece.bytes.end(), flash_.begin() + (at - kFlash));
        }
    reset();
}

std::uint32_t MountCore::address_of(const char* name) const {
    const auto known = addresses_.find(name);
    if (known != addresses_.end()) return known->second;
    const mt::Symbol* symbol = image_ ? image_->symbol_named(name) : nullptr;
    return addresses_[name] = symbol == nullptr ? 0 : static_cast<std::uint32_t>(symbol->address);
}

void MountCore::reset() {
    std::fill(ram_.begin(), ram_.end(), std::uint8_t{0});
    if (model_) collect(true);
    model_.reset();
    walk_.reset();
    encoder_.reset();
    etm_starts_ = 0;
    if (reset_os_) reset_os_();
    pc_ = address_of("Reset_Handler");
    started_ = false;
    stop_.reset();
}

// True if a breakpoint stands at the function's start.
bool MountCore::entered(const char* function) {
    const std::uint32_t at = address_of(function);
    pc_ = at;
    if (at == 0 || breakpoints.count(at) == 0) return false;
    stop_ = Stop{Stop::Why::breakpoint, at, 'w'};
    return true;
}

bool MountCore::written(const char* variable, std::uint32_t value) {
    const std::uint32_t at = address_of(variable);
    if (at < kRam || at - kRam + 4 > ram_.size()) return false;
    const mt::Symbol* symbol = image_->symbol_named(variable);
    const std::uint32_t size = symbol != nullptr && symbol->size == 2 ? 2 : 4;
    for (unsigned i = 0; i < size; ++i) ram_[at - kRam + i] = static_cast<std::uint8_t>(value >> (8 * i));
    for (const Watch& w : watches)
        if (w.kind != 'r' && at < w.address + w.length && at + size > w.address) {
            stop_ = Stop{Stop::Why::watchpoint, w.address, w.kind};
            return true;
        }
    return false;
}

std::optional<Stop> MountCore::run(std::uint64_t cycles) {
    stop_.reset();
    if (!started_) {  // out of reset: the start-up code, then main
        started_ = true;
        if (!bare_)
            units_.set_by_firmware(options_.clock_hz, options_.baud,
                                   {address_of("current_task"), address_of("axis_error")});
        if (entered("main")) return stop_;
    }
    if (!model_) {
        const auto range = [this](const std::string& name) -> std::pair<std::uint32_t, std::uint32_t> {
            const mt::Symbol* symbol = image_ ? image_->symbol_named(name) : nullptr;
            if (symbol == nullptr) return {kFlash, 64};
            return {static_cast<std::uint32_t>(symbol->address), static_cast<std::uint32_t>(symbol->size)};
        };
        MountModel::Hooks hooks;
        hooks.entered = [this](const char* function) { return entered(function); };
        hooks.written = [this](const char* variable, std::uint32_t value) { return written(variable, value); };
        hooks.os = os_;
        hooks.bench = bench_;
        hooks.units = &units_;
        hooks.address_of = [this](const char* variable) { return address_of(variable); };
        model_ = std::make_unique<MountModel>(options_, range, std::move(hooks));
        etm_starts_ = 0;
    }
    look_at_etm();
    model_->run_until(model_->now() + cycles);
    if (!stop_) pc_ = address_of(model_->function());
    return stop_;
}

// What the model told so far goes the way that the units are set to; `all` also the atoms that would wait for others.
void MountCore::collect(bool all) {
    if (!model_) return;
    std::vector<std::uint8_t> bytes;
    model_->drain(bytes);
    units_.itm_bytes(bytes);
    bytes.clear();
    if (encoder_) encoder_->drain(bytes, all);
    units_.etm_bytes(bytes);
}

// The trace unit was switched: the walk through the firmware begins afresh, or ends.
void MountCore::look_at_etm() {
    if (!units_.etm_on()) {
        if (!walk_) return;
        model_->set_walk(nullptr);
        collect(true);
        walk_.reset();
        encoder_.reset();
        etm_starts_ = 0;
        return;
    }
    if (!image_ || (units_.etm_starts() == etm_starts_ && model_->walk_trouble().empty())) return;
    etm_starts_ = units_.etm_starts();
    if (!code_) code_ = mt::Code::of(*image_, "armv7e-m");
    if (!code_) return;
    model_->set_walk(nullptr);
    if (encoder_) collect(true);
    Etm4Setup setup;
    setup.return_stack = units_.etm_return_stack();
    setup.timestamps = units_.etm_timestamps();
    setup.sync_bytes = units_.etm_sync_bytes();
    encoder_ = std::make_unique<Etm4Encoder>(setup);
    encoder_->events = [this] { return units_.take_events(); };
    encoder_->view = [this](std::uint32_t first, std::uint32_t last) { return units_.view(first, last); };
    walk_ = std::make_unique<ThumbWalk>(code_, mt::FunctionTable::of(*image_, *code_), encoder_.get(), options_.seed);
    model_->set_walk(walk_.get());
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
    return xml +
           "<reg name=\"sp\" bitsize=\"32\" type=\"data_ptr\"/><reg name=\"lr\" bitsize=\"32\"/>"
           "<reg name=\"pc\" bitsize=\"32\" type=\"code_ptr\"/><reg name=\"xpsr\" bitsize=\"32\"/></feature></target>";
}

std::uint32_t MountCore::read_register(std::size_t n) const {
    if (n == 15) return pc_;
    if (n == 13) return kRam + kRamBytes - 64;
    return n == 16 ? 1u << 24 : 0;
}

void MountCore::write_register(std::size_t n, std::uint32_t value) {
    if (n == 15) pc_ = value;
}

bool MountCore::read(std::uint32_t address, std::span<std::uint8_t> into) {
    const auto from = [&](std::uint32_t base, const std::vector<std::uint8_t>& memory) {
        if (address < base || address - base > memory.size() || into.size() > memory.size() - (address - base))
            return false;
        std::copy_n(memory.begin() + (address - base), into.size(), into.begin());
        return true;
    };
    return from(kFlash, flash_) || from(kRam, ram_);
}

bool MountCore::write(std::uint32_t address, std::span<const std::uint8_t> bytes) {
    if (address < kRam || address - kRam > ram_.size() || bytes.size() > ram_.size() - (address - kRam)) return false;
    std::copy(bytes.begin(), bytes.end(), ram_.begin() + (address - kRam));
    return true;
}

}  // namespace board
