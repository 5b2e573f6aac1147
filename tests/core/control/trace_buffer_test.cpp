// Trace out of on-chip buffers: each kind unwrapped from its oldest byte on, over a memory that behaves as its document
// says: DDI 0314 (ETB), DDI 0461 (TMC, ETR with scatter lists), DDI 0486 (MTB), RISC-V Trace Control Interface
// chapter 5.
#include <gtest/gtest.h>

#include <functional>
#include <map>
#include <optional>

#include "control/units/buffer.h"
#include "control/units/registers.h"
#include "frame_writer.h"
#include "unit_memory.h"

namespace mt {
namespace {

namespace tc = trace_control;
constexpr auto kPatience = std::chrono::milliseconds(30);

using test::FakeMemory;

std::vector<std::uint8_t> counted(std::size_t n, std::size_t from = 0) {
    std::vector<std::uint8_t> all(n);
    for (std::size_t i = 0; i < n; ++i) all[i] = static_cast<std::uint8_t>(from + i);
    return all;
}

Unit unit(UnitKind kind, std::uint64_t address, const std::string& form = "") {
    Unit u;
    u.kind = kind;
    u.name = "buffer";
    u.address = address;
    if (!form.empty()) u.feature("form", form);
    return u;
}

TEST(AnEtb, IsReadFromItsWritePointerWhenItWrapped) {
    FakeMemory memory;
    const Unit etb = unit(UnitKind::etb, 0x1000);
    memory.words[0x1000 + tmc::kRsz] = 4;
    memory.words[0x1000 + tmc::kRwp] = 2;  // words
    memory.words[0x1000 + tmc::kSts] = tmc::kFull;
    std::uint32_t read_pointer = 99;
    memory.on_write = [&](std::uint64_t at, std::uint32_t value) {
        if (at == 0x1000 + tmc::kRrp) read_pointer = value;
    };
    memory.queue(0x1000 + tmc::kRrd, {0x03020100, 0x07060504, 0x0B0A0908, 0x0F0E0D0C});
    const auto read = read_trace_buffer(memory, etb, nullptr, kPatience);
    ASSERT_TRUE(read) << read.error().text();
    EXPECT_EQ(read_pointer, 2U) << "the oldest word stands where the next would be written";
    EXPECT_EQ(read->bytes, counted(16));
    EXPECT_TRUE(read->wrapped);
}

TEST(AnEtb, ThatDidNotWrapIsReadFromItsStart) {
    FakeMemory memory;
    memory.words[0x1000 + tmc::kRsz] = 1024;
    memory.words[0x1000 + tmc::kRwp] = 2;
    memory.queue(0x1000 + tmc::kRrd, {0x03020100, 0x07060504, 0xFFFFFFFF});
    const auto read = read_trace_buffer(memory, unit(UnitKind::etb, 0x1000), nullptr, kPatience);
    ASSERT_TRUE(read) << read.error().text();
    EXPECT_EQ(read->bytes, counted(8));
    EXPECT_FALSE(read->wrapped);
}

TEST(ATmcThatWritesToMemory, IsUnwrappedAtItsWritePointer) {
    FakeMemory memory;
    const std::uint64_t base = 0x1000;
    const Unit etr = unit(UnitKind::tmc, base, "router to memory");
    memory.words[base + tmc::kRsz] = 64 / 4;
    memory.words[base + tmc::kDbaLo] = 0x80000000;
    memory.words[base + tmc::kRwp] = 0x80000010;
    memory.words[base + tmc::kSts] = tmc::kFull | tmc::kReady;
    std::vector<std::uint8_t> ring(64);  // written from 0x10 on: the oldest is 0
    for (std::size_t i = 0; i < 64; ++i) ring[(16 + i) % 64] = static_cast<std::uint8_t>(i);
    memory.fill(0x80000000, ring);
    const auto read = read_trace_buffer(memory, etr, nullptr, kPatience);
    ASSERT_TRUE(read) << read.error().text();
    EXPECT_EQ(read->bytes, counted(64));
    memory.words[base + tmc::kRwp] = 0x90000000;
    EXPECT_FALSE(read_trace_buffer(memory, etr, nullptr, kPatience)) << "a pointer outside of it";
}

TEST(ATmcThatWritesToMemory, FollowsItsScatterList) {
    FakeMemory memory;
    const std::uint64_t base = 0x1000, table = 0x70000000;
    const Unit etr = unit(UnitKind::tmc, base, "router to memory");
    memory.words[base + tmc::kRsz] = 3 * 4096 / 4;
    memory.words[base + tmc::kDbaLo] = static_cast<std::uint32_t>(table);
    memory.words[base + tmc::kAxiCtl] = tmc::kScatter;
    memory.words[base + tmc::kSts] = tmc::kFull | tmc::kReady;
    const std::uint64_t pages[] = {0x80004000, 0x80001000, 0x80009000};
    const auto entry = [](std::uint64_t page, std::uint32_t kind) {
        return static_cast<std::uint32_t>(page >> 12) << 4 | kind;
    };
    memory.words[table] = entry(pages[0], 2);
    memory.words[table + 4] = entry(0x71000000, 3);  // goes on in another table
    memory.words[0x71000000] = entry(pages[1], 2);
    memory.words[0x71000004] = entry(pages[2], 1);
    for (std::size_t k = 0; k < 3; ++k)
        memory.fill(pages[k], std::vector<std::uint8_t>(4096, static_cast<std::uint8_t>(k + 1)));
    memory.words[base + tmc::kRwp] = static_cast<std::uint32_t>(pages[1] + 0x100);
    const auto read = read_trace_buffer(memory, etr, nullptr, kPatience);
    ASSERT_TRUE(read) << read.error().text();
    ASSERT_EQ(read->bytes.size(), 3U * 4096);
    EXPECT_EQ(read->bytes.front(), 2) << "the rest of the page that is written";
    EXPECT_EQ(read->bytes[4096 - 0x100], 3);
    EXPECT_EQ(read->bytes[2 * 4096 - 0x100], 1);
    EXPECT_EQ(read->bytes.back(), 2);
    memory.words[0x71000004] = entry(table, 3);
    const auto circle = read_trace_buffer(memory, etr, nullptr, kPatience);
    ASSERT_FALSE(circle);
    EXPECT_NE(circle.error().what.find("circle"), std::string::npos);
}

TEST(AMicroTraceBuffer, IsUnwrappedInItsMemory) {
    FakeMemory memory;
    const std::uint64_t base = 0xF0000000, ram = 0x20000000;
    memory.words[base + mtb::kMaster] = mtb::kEnable | 2;  // 64 bytes
    memory.words[base + mtb::kBase] = static_cast<std::uint32_t>(ram);
    memory.words[base + mtb::kPosition] = 0x40 | 0x10 | mtb::kWrap;  // the second block of 64
    std::vector<std::uint8_t> block(64);
    for (std::size_t i = 0; i < 64; ++i) block[(0x10 + i) % 64] = static_cast<std::uint8_t>(i);
    memory.fill(ram + 0x40, block);
    const auto read = read_trace_buffer(memory, unit(UnitKind::mtb, base), nullptr, kPatience);
    ASSERT_TRUE(read) << read.error().text();
    EXPECT_EQ(read->bytes, counted(64));
    EXPECT_EQ(memory.words[base + mtb::kMaster] & mtb::kEnable, 0U) << "stopped while it is read";
}

TEST(ARamSink, IsReadThroughItsOwnRegisterAndFromSystemMemory) {
    FakeMemory memory;
    const std::uint64_t base = 0x1000, encoder_at = 0x2000;
    const Unit sink = unit(UnitKind::ram_sink, base), encoder = unit(UnitKind::trace_encoder, encoder_at);
    memory.words[encoder_at] = tc::kActive | tc::kEnable | tc::kInstTracing | tc::kEmpty;
    memory.words[base] = tc::kActive | tc::kEnable | tc::kEmpty;
    memory.words[base + tc::kRamLimitLow] = 12;
    memory.words[base + tc::kRamWpLow] = 4 | tc::kRamWrapped;
    memory.queue(base + tc::kRamData, {0x03020100, 0x07060504, 0x0B0A0908, 0x0F0E0D0C});
    const auto own = read_trace_buffer(memory, sink, &encoder, kPatience);
    ASSERT_TRUE(own) << own.error().text();
    EXPECT_EQ(own->bytes, counted(16));
    EXPECT_EQ(memory.words[base + tc::kRamRpLow], 4U);
    EXPECT_EQ(memory.words[encoder_at] & tc::kInstTracing, 0U) << "its last packet is whole only then";
    ASSERT_TRUE(restart_trace_buffer(memory, sink, &encoder, kPatience));
    EXPECT_NE(memory.words[encoder_at] & tc::kInstTracing, 0U);
    EXPECT_EQ(memory.words[base + tc::kRamWpLow], 0U);

    memory.words[base] = tc::kActive | tc::kRamSystemMemory | tc::kEmpty;
    memory.words[base + tc::kRamStartLow] = 0x80000000;
    memory.words[base + tc::kRamLimitLow] = 0x8000003C;
    memory.words[base + tc::kRamWpLow] = 0x80000020;
    memory.fill(0x80000000, counted(64));
    const auto system = read_trace_buffer(memory, sink, nullptr, kPatience);
    ASSERT_TRUE(system) << system.error().text();
    EXPECT_EQ(system->bytes, counted(32)) << "not wrapped: up to the write pointer";
    memory.words[base + tc::kRamLimitLow] = 0x10;
    EXPECT_FALSE(read_trace_buffer(memory, sink, nullptr, kPatience)) << "pointers that make no buffer";
}

TEST(ABuffer, ThatDoesNotStopIsSaid) {
    FakeMemory memory;
    memory.words[0x1000 + tmc::kCtl] = 1;
    memory.words[0x1000 + tmc::kRsz] = 16;
    const auto read = read_trace_buffer(memory, unit(UnitKind::tmc, 0x1000, "fifo"), nullptr, kPatience);
    ASSERT_FALSE(read);
    EXPECT_NE(read.error().what.find("does not stop"), std::string::npos) << read.error().what;
}

TEST(TheFormatterOfTheBoard, WritesFramesThatTellTheSourcesApart) {
    board::FrameWriter writer;
    std::vector<std::uint8_t> one, two, frames;
    for (std::size_t i = 0; i < 3000; ++i) {
        const bool first = i % 7 < 4 || i > 1500;
        (first ? one : two).push_back(static_cast<std::uint8_t>(i * 31));
        writer.put(first ? 1 : 2, static_cast<std::uint8_t>(i * 31));
        if (i % 100 == 0) writer.frames(frames, false);
    }
    writer.frames(frames, true);
    ASSERT_EQ(frames.size() % 16, 0U);
    for (const auto& [id, wanted] : {std::pair{1, one}, std::pair{2, two}}) {
        std::vector<std::uint8_t> got;
        std::uint8_t now = 0;
        for (std::size_t f = 0; f < frames.size(); f += 16) {  // IHI 0029 D4.2, read here on its own
            std::optional<std::uint8_t> delayed;
            for (unsigned i = 0; i < 15; ++i) {
                const bool aux = (frames[f + 15] >> (i / 2) & 1) != 0;
                const std::uint8_t b = frames[f + i];
                if (i % 2 == 0 && (b & 1) != 0) {
                    if (aux)
                        delayed = b >> 1;
                    else
                        now = b >> 1;
                    continue;
                }
                if (now == id) got.push_back(i % 2 == 0 ? static_cast<std::uint8_t>(b | (aux ? 1 : 0)) : b);
                if (delayed) now = *std::exchange(delayed, std::nullopt);
            }
            if (delayed) now = *delayed;
        }
        EXPECT_EQ(got, wanted) << id;
    }
}

}  // namespace
}  // namespace mt
