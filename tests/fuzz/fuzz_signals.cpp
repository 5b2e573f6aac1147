// Any bytes as a file of signals: lanes with ascending times, or a problem with a place. The first byte says how: as
// they are, or as changes (two bytes of place, one of value) of a real MDF file.
#include <cstdlib>
#include <fstream>
#include <iterator>

#include "signals/lay_beside.h"
#include "signals/signal_file.h"

namespace {

using namespace mt;

std::vector<std::uint8_t> read(const char* path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}

void look_at(const Result<SignalFile>& file) {
    if (!file) {
        if (file.error().what.empty() || file.error().where.empty()) std::abort();
        return;
    }
    std::vector<SeenByBoth> seen;
    for (const ValueLane& lane : file->lanes) {
        for (std::size_t i = 1; i < lane.samples.size(); ++i)
            if (lane.samples.time(i) < lane.samples.time(i - 1)) std::abort();
        for (std::size_t i = 0; i < std::min<std::size_t>(lane.samples.size(), 64); ++i) (void)lane.text(i);
        if (!lane.samples.empty()) (void)lane.extent(0, lane.samples.size());
        const Edges edges = edges_of(lane);
        if (seen.size() < 2) seen.push_back({edges.rising, edges.falling});
    }
    (void)fit_clocks(seen);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const std::vector<std::uint8_t> real = read(MT_DATA "/signals/mdf-mount.mf4");
    if (size < 1) return 0;
    if (data[0] % 4 != 0) {
        const std::span<const std::uint8_t> bytes(data + 1, size - 1);
        look_at(data[0] % 4 == 1   ? read_vcd(bytes, "in", {})
                : data[0] % 4 == 2 ? read_csv_signals(bytes, "in", {})
                                   : read_mdf(bytes, "in", {}));
        return 0;
    }
    std::vector<std::uint8_t> bytes = real;
    for (std::size_t i = 1; i + 2 < size; i += 3)
        bytes[static_cast<std::size_t>(data[i] | data[i + 1] << 8) % bytes.size()] = data[i + 2];
    look_at(read_mdf(bytes, "in", {}));
    return 0;
}
