// Any bytes as metadata, and any bytes as packets of our own metadata: a value or a problem with a place, events in the
// order of time, a model that can be judged.
#include <cstdint>
#include <cstdlib>
#include <span>
#include <string>

#include "doubt/ring_check.h"
#include "judge/finding.h"
#include "measure/tasks.h"
#include "pass/growing_tasks.h"
#include "share/ctf_writer.h"
#include "wire/ctf_metadata.h"
#include "wire/ctf_packets.h"

namespace {

using namespace mt;

// Every packet in the bytes, damaged or not.
template <class Take>
void each_event(const CtfMetadata& metadata, std::span<const std::uint8_t> bytes, Take take) {
    CtfCursor cursor(metadata);
    for (std::uint64_t at = 0, packets = 0; at < bytes.size() && packets < 64; ++packets) {
        CtfPacket p;
        const auto found = cursor.packet_at(bytes, at, p);
        if (found != CtfCursor::Found::packet && found != CtfCursor::Found::partial) {
            ++at;
            continue;
        }
        if (p.offset + p.bytes > bytes.size() || p.content_bits > p.bytes * 8) std::abort();
        cursor.open(bytes, p);
        CtfText text;
        for (int n = 0; n < 4096 && cursor.next(text); ++n) {
            text.out.clear();
            take(cursor, p);
        }
        at += std::max<std::uint64_t>(p.bytes, 1);
    }
}

void as_metadata(std::span<const std::uint8_t> bytes) {
    const std::size_t split = bytes.size() - bytes.size() / 4;
    auto metadata = read_ctf_metadata(bytes.first(split), "metadata");
    if (!metadata) {
        if (metadata.error().what.empty() || metadata.error().where.empty()) std::abort();
        return;
    }
    const auto shared = std::make_shared<const CtfMetadata>(std::move(*metadata));
    const OsBinding binding(shared);
    OsBlock block;
    each_event(*shared, bytes.subspan(split),
               [&](const CtfCursor& cursor, const CtfPacket&) { binding.take(cursor, Time{}, 0, block); });
}

void as_packets(std::span<const std::uint8_t> bytes) {
    static const auto metadata = [] {
        auto read = read_ctf_metadata({reinterpret_cast<const std::uint8_t*>(CtfWriter::metadata_text().data()),
                                       CtfWriter::metadata_text().size()},
                                      "metadata");
        if (!read) std::abort();
        return std::make_shared<const CtfMetadata>(std::move(*read));
    }();
    static const OsBinding binding(metadata);
    Recording recording;
    CoreSpec core;
    core.name = "core0";
    recording.target.cores = {core, core};
    Trail trail;
    trail.cores.resize(2);
    trail.complete = true;
    for (auto& c : trail.cores) c.system_lanes = true;
    GrowingTasks growing(recording, trail, {true, true});
    Time reached{};
    OsBlock block;
    each_event(*metadata, bytes, [&](const CtfCursor& cursor, const CtfPacket& p) {
        block.clear();
        reached = std::max(reached, Time{std::min<std::int64_t>(std::max<std::int64_t>(cursor.ticks(), 0), 1LL << 50)});
        binding.take(cursor, reached, static_cast<std::uint16_t>(p.cpu % 2), block);
        for (const auto& e : block.events) growing.take(e, block);
    });
    growing.finish();
    trail.tasks.streams.emplace_back();
    for (const auto& t : trail.tasks.tasks) {
        for (std::size_t i = 1; i < t.stretches.size(); ++i)
            if (t.stretches[i].begin < t.stretches[i - 1].begin) std::abort();
        for (std::size_t i = 0; i < t.jobs.size(); ++i)
            if (t.jobs[i].run.ps < 0 || t.jobs[i].end < t.jobs[i].ready) std::abort();
    }
    recording.exception_names.resize(2);
    recording.images.resize(2);
    recording.code.resize(2);
    recording.functions.resize(2);
    (void)task_rows(trail);
    (void)lock_rows(trail);
    (void)queue_rows(trail);
    (void)find_all(recording, trail);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    if (size < 2) return 0;
    if ((bytes[0] & 1) != 0)
        as_metadata({bytes + 1, size - 1});
    else
        as_packets({bytes + 1, size - 1});
    if ((bytes[0] & 6) == 6) (void)mt::check_ring({bytes + 1, size - 1}, 0x20000000, 1'000'000);
    return 0;
}
