// Random programs on the board's core, their N-Trace by branches and by history, and back to the same instructions.
#include <gtest/gtest.h>

#include <algorithm>

#include "calls_told.h"
#include "flow/ntrace_flow.h"
#include "ntrace_bytes.h"
#include "rv_program.h"

namespace mt {
namespace {

struct Exception {
    std::size_t at = 0;  ///< instructions before it
    std::uint32_t epc = 0;
    bool interrupt = false;
    bool operator==(const Exception&) const = default;
};

struct Setup {
    const char* name;
    bool history = true, implicit_return = false, timestamps = true;
    unsigned most_history = 31, most_icount = 1 << 20;  ///< bits, and halfwords, before a resource is full
    std::uint64_t above = 0;  ///< of addresses: the same program that much higher, as RV64. REQUIRES: a multiple of 2^32
};

// Writes messages of what the core does, and keeps what that was.
class Encoder : public board::RvListener {
  public:
    Encoder(const Setup& setup, const Code& code, std::uint64_t sync_each)
        : setup_(setup), code_(code), sync_each_(sync_each) {}

    void retired(const board::RvRetired& x) override {
        now_ = x.cycle;
        if (trap_) tell_trap(x.pc);
        if (pcs.empty() || since_sync_ >= sync_each_ + 40) sync(x.pc);
        pcs.push_back(x.pc);
        ++since_sync_;
        icount_ += x.length / 2;
        const Code::Slot& s = code_[code_.slot_of(x.pc + setup_.above)];
        const bool taken = x.next != x.pc + x.length;
        switch (s.flow) {
            case Flow::next:
            case Flow::barrier:
            case Flow::trap:
                break;
            case Flow::branch:
                branch(taken);
                break;
            case Flow::jump:
            case Flow::call:
                call(s, x);
                break;
            case Flow::ret:
                if (!returns_.empty() && returns_.back() == x.next) {
                    returns_.pop_back();
                    break;
                }
                [[fallthrough]];
            default:
                indirect(0, x.next);
                call(s, x);
        }
        if (icount_ > setup_.most_icount) resource_full(0, icount_), icount_ = 0;
    }
    void trapped(const board::RvTrapped& t) override {
        now_ = t.cycle;
        if (trap_) tell_trap(t.epc);  // nothing of its handler ran
        trap_ = t;
        exceptions.push_back({pcs.size(), t.epc, t.interrupt});
    }
    void restarted() override {}
    void stop() {
        before_others();
        test::NtraceBytes m;
        m.fixed(33, 6).fixed(4, 4).fixed(setup_.history ? 1 : 0, 2).variable(icount_);
        if (setup_.history) m.variable(history_);
        send(m, false);
    }

    std::vector<std::uint8_t> bytes;
    std::vector<std::uint32_t> pcs;
    std::vector<Exception> exceptions;

  private:
    void branch(bool taken) {
        if (!setup_.history) {
            if (!taken) return;
            test::NtraceBytes m;
            m.fixed(3, 6).variable(icount_);
            icount_ = 0;
            send(m, false);
            return;
        }
        history_ = history_ << 1 | (taken ? 1 : 0);
        if (history_ >> setup_.most_history == 0) return;
        if (repeats_ > 0 && repeated_ != history_) before_others();
        repeated_ = history_;
        ++repeats_;
        history_ = 1;
    }
    void call(const Code::Slot& s, const board::RvRetired& x) {
        if (!setup_.implicit_return || (s.flags & FlowInsn::kPush) == 0) return;
        if (returns_.size() == 32) returns_.erase(returns_.begin());
        returns_.push_back(x.pc + x.length);
    }
    // A history that was full, perhaps several times the same.
    void before_others() {
        if (repeats_ == 0) return;
        test::NtraceBytes m;
        m.fixed(27, 6).fixed(repeats_ == 1 ? 1 : 2, 4).variable(repeated_);
        if (repeats_ > 1) m.variable(repeats_);
        repeats_ = 0;
        send(m, false);
    }
    void resource_full(unsigned code, std::uint64_t value) {
        before_others();
        test::NtraceBytes m;
        m.fixed(27, 6).fixed(code, 4).variable(value);
        send(m, false);
    }
    void tell_trap(std::uint32_t handler) {
        const bool interrupt = trap_->interrupt;
        trap_.reset();
        indirect(interrupt ? 3 : 2, handler);
    }
    void indirect(unsigned type, std::uint32_t to) {
        before_others();
        const bool due = since_sync_ >= sync_each_;
        test::NtraceBytes m;
        m.fixed((due ? 12u : 4u) + (setup_.history ? due ? 17u : 24u : 0u), 6);
        if (due) m.fixed(5, 4);
        m.fixed(type, 2).variable(icount_).variable((due ? to + setup_.above : to ^ address_) >> 1);
        if (setup_.history) m.variable(history_);
        icount_ = 0;
        history_ = 1;
        address_ = to;
        if (due) since_sync_ = 0;
        send(m, due);
    }
    void sync(std::uint32_t pc) {
        before_others();
        if (history_ > 1) resource_full(1, history_);
        history_ = 1;
        test::NtraceBytes m;
        m.fixed(9, 6).fixed(pcs.empty() ? 4 : 5, 4).variable(icount_).variable((pc + setup_.above) >> 1);
        icount_ = 0;
        address_ = pc;
        since_sync_ = 0;
        send(m, true);
    }
    void send(test::NtraceBytes& m, bool absolute) {
        if (setup_.timestamps) m.variable(absolute ? now_ : now_ - told_);
        told_ = now_;
        const auto all = m.end();
        bytes.insert(bytes.end(), all.begin(), all.end());
    }

    Setup setup_;
    const Code& code_;
    std::uint64_t sync_each_, since_sync_ = 0, icount_ = 0, history_ = 1, repeated_ = 0, repeats_ = 0, now_ = 0,
                              told_ = 0;
    std::uint32_t address_ = 0;
    std::vector<std::uint32_t> returns_;
    std::optional<board::RvTrapped> trap_;
};

struct NtraceFollower {
    const Code& code;
    std::vector<std::uint32_t> pcs{};
    std::vector<Exception> exceptions{};
    std::vector<std::string> gaps{};
    std::size_t syncs = 0;
    std::uint64_t last = 0;
    void run(const StepRun& r) {
        for (std::uint32_t s = r.first, n = 0; n < r.count; ++n, s = code.next(s))
            pcs.push_back(static_cast<std::uint32_t>(code.address(s)));
    }
    void trap(const StepTrap& t) { exceptions.push_back({pcs.size(), static_cast<std::uint32_t>(t.epc), t.interrupt}); }
    void trap_return() {}
    void gap(const StepGap& g) {
        if (g.kind != StepGapKind::stopped) gaps.emplace_back(g.reason);
    }
    void time(const StepTime& t) {
        EXPECT_GE(t.ticks, last);
        last = t.ticks;
    }
    void sync(std::uint64_t) { ++syncs; }
};

struct NtraceTraced {
    std::shared_ptr<const Code> code;
    std::vector<std::uint8_t> program;
    std::unique_ptr<Encoder> encoder;
};

NtraceTraced traced(std::uint64_t seed, const Setup& setup, std::uint64_t sync_each, std::uint64_t instructions) {
    NtraceTraced t;
    const RvProgram program(seed);
    board::RvCore core(nullptr, seed);
    program.load(core);
    t.program = program.bytes();
    Image::Piece piece;
    piece.address = board::RvCore::kRam + setup.above;
    piece.bytes = t.program;
    t.code = Code::of(std::span(&piece, 1), setup.above > 0 ? "rv64imac" : "rv32imac");
    t.encoder = std::make_unique<Encoder>(setup, *t.code, sync_each);
    core.listen(t.encoder.get());
    core.run(instructions);
    t.encoder->stop();
    return t;
}

NtraceParameters parameters_of(const Setup& setup) {
    NtraceParameters p;
    p.timestamps = setup.timestamps;
    p.implicit_return = setup.implicit_return;
    return p;
}

template <class Out>
void follow(const NtraceTraced& t, const Setup& setup, Out& out) {
    NtraceDecoder decoder(parameters_of(setup));
    NtraceFlow flow(t.code, parameters_of(setup));
    std::vector<NtraceMessage> messages;
    decoder.feed(t.encoder->bytes, messages);
    decoder.finish(messages);
    flow.feed(std::span<const NtraceMessage>(messages), out);
}

struct OwnersTold : NoSteps {
    const Code& code;
    std::vector<std::string> all{};
    explicit OwnersTold(const Code& c) : code(c) {}
    void run(const StepRun& r) { all.push_back("ran slot " + std::to_string(r.first - code.slot_of(0x1000)) + " on"); }
    void gap(const StepGap& g) { all.push_back(g.text()); }
    void data(const StepData& d) {
        all.push_back((d.tag == StepData::kContext ? "process " : d.tag == StepData::kLevel ? "privilege " : "machine ") + std::to_string(d.value));
    }
};

// Section 5, "Ownership": FORMAT 2 is scontext, 3 hcontext, 0 neither.
TEST(NtraceOwnership, TellsPrivilegeProcessAndVirtualMachineAndWhoseCodeItIs) {
    // The same addresses in two processes: what the first calls a jump back is nothing of the kind in the second.
    const std::vector<std::uint8_t> common(8, 0), one{0x01, 0x00, 0xFD, 0xBF}, two{0x01, 0x00, 0x01, 0x00};
    const auto piece = [](std::uint64_t at, const std::vector<std::uint8_t>& bytes) { return Image::Piece{at, at, bytes, false}; };
    const Image::Piece system = piece(0x1000, common), of_one = piece(0x4000, one), of_two = piece(0x4000, two);
    const Code::Context contexts[] = {{3, std::span(&of_one, 1)}, {5, std::span(&of_two, 1)}};
    const auto code = Code::of(std::span(&system, 1), contexts, "rv32imac");
    std::vector<std::uint8_t> bytes;
    const auto send = [&](test::NtraceBytes& m) {
        const auto b = m.end();
        bytes.insert(bytes.end(), b.begin(), b.end());
    };
    const auto owner = [&](unsigned format, unsigned privilege, unsigned context) {
        test::NtraceBytes m;
        m.fixed(2, 6).variable(format | privilege << 2 | context << 5);
        send(m);
    };
    const auto stretch = [&](std::uint64_t from, std::uint64_t halves) {
        test::NtraceBytes begin, end;
        begin.fixed(9, 6).fixed(1, 4).variable(0).variable(from >> 1);
        send(begin);
        end.fixed(33, 6).fixed(4, 4).fixed(0, 2).variable(halves);
        send(end);
    };
    owner(2, 0, 3);
    stretch(0x4000, 2);
    owner(0, 1, 0);  // the supervisor, on behalf of the same
    owner(2, 0, 5);
    stretch(0x4000, 2);
    owner(3, 3, 9);
    owner(2, 0, 8);
    stretch(0x4000, 1);
    NtraceParameters parameters;
    parameters.timestamps = false;
    NtraceDecoder decoder(parameters);
    NtraceFlow flow(code, parameters);
    std::vector<NtraceMessage> messages;
    decoder.feed(bytes, messages);
    decoder.finish(messages);
    EXPECT_EQ(ntrace_detail(messages[0]).substr(0, 22), "privilege 0, process 3");
    OwnersTold told(*code);
    flow.feed(std::span<const NtraceMessage>(messages), told);
    std::string text;
    for (const std::string& t : told.all) text += t + "\n";
    const auto place = [&](const char* what) { return text.find(what); };
    EXPECT_LT(place("privilege 0\nprocess 3"), place("privilege 1")) << text;
    EXPECT_LT(place("privilege 1\nprivilege 0\nprocess 5"), place("privilege 3\nmachine 9")) << text;
    EXPECT_NE(place("process 8"), std::string::npos) << text;
    EXPECT_NE(place("for process 8"), std::string::npos) << "a process whose code nobody gave: " << text;
    const std::size_t first = text.find("ran slot "), second = text.find("ran slot ", place("process 5"));
    ASSERT_NE(first, std::string::npos) << text;
    ASSERT_NE(second, std::string::npos) << text;
    EXPECT_NE(text.substr(first, text.find('\n', first) - first), text.substr(second, text.find('\n', second) - second))
        << "each its own code: " << text;
}

class NtraceInEachMode : public testing::TestWithParam<Setup> {};

TEST_P(NtraceInEachMode, GivesBackEveryInstructionAndException) {
    std::size_t instructions = 0, exceptions = 0;
    for (std::uint64_t seed = 1; seed <= 25; ++seed) {
        const NtraceTraced t = traced(seed, GetParam(), seed % 5 == 0 ? 37 : 900, 20'000);
        NtraceFollower out{*t.code};
        follow(t, GetParam(), out);
        const auto& truth = t.encoder->pcs;
        const auto differs = std::mismatch(truth.begin(), truth.end(), out.pcs.begin(), out.pcs.end());
        ASSERT_TRUE(out.gaps.empty()) << "seed " << seed << ": " << out.gaps[0] << " behind instruction "
                                      << differs.first - truth.begin();
        ASSERT_TRUE(differs.first == truth.end() && out.pcs.size() == truth.size())
            << "seed " << seed << ": instruction " << differs.first - truth.begin() << " of " << truth.size()
            << ", got " << out.pcs.size();
        auto told = t.encoder->exceptions;
        if (!told.empty() && told.size() == out.exceptions.size() + 1) told.pop_back();  // its handler never ran
        ASSERT_EQ(out.exceptions.size(), told.size()) << "seed " << seed;
        for (std::size_t i = 0; i < told.size(); ++i)
            ASSERT_TRUE(out.exceptions[i] == told[i]) << "seed " << seed << ": exception " << i;
        EXPECT_GT(out.syncs, 3U);
        instructions += truth.size();
        exceptions += told.size();
    }
    EXPECT_GT(instructions, 300'000U);
    EXPECT_GT(exceptions, 1'000U);
}

TEST_P(NtraceInEachMode, HopsTellTheSameAsTheirRuns) {
    std::size_t hopped = 0, none = 0;
    for (std::uint64_t seed = 1; seed <= 12; ++seed) {
        const NtraceTraced t = traced(seed, GetParam(), seed % 2 == 0 ? 900 : 23, 40'000);
        // Some programs have no functions.
        const auto table = test::functions_called(*t.code, [&](std::uint32_t) { return seed % 4 != 0; });
        const auto feed = [&](auto& out) { follow(t, GetParam(), out); };
        const std::string with = test::calls_told(t.code, table, true, hopped, feed),
                          without = test::calls_told(t.code, table, false, none, feed);
        ASSERT_GT(without.size(), 500U);
        EXPECT_TRUE(with == without) << "seed " << seed;
    }
    if (GetParam().history) EXPECT_GT(hopped, 200U) << "hops over calls were taken";
    EXPECT_EQ(none, 0U);
}

INSTANTIATE_TEST_SUITE_P(In, NtraceInEachMode,
                         testing::Values(Setup{"History"}, Setup{"Branches", false},
                                         Setup{"HistoryImplicitReturn", true, true},
                                         Setup{"BranchesImplicitReturn", false, true},
                                         Setup{"SmallResources", true, false, true, 5, 60},
                                         Setup{"SmallResourcesImplicitReturnUntimed", true, true, false, 3, 33},
                                         Setup{"HistoryOfRv64", true, true, true, 31, 1 << 20, std::uint64_t{0x12} << 32},
                                         Setup{"BranchesOfRv64", false, false, true, 31, 1 << 20, std::uint64_t{0x7FFF} << 32}),
                         [](const auto& info) { return std::string(info.param.name); });

}  // namespace
}  // namespace mt
