// Any bytes from the wire to the nest: times never run backwards, the nest never breaks.
#include <cstdint>
#include <cstdlib>
#include <span>
#include <vector>

#include "flow/exception_nest.h"
#include "flow/itm_pipe.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    if (size < 2) return 0;
    std::optional<mt::TpiuDeframer> deframer;
    if ((bytes[0] & 1) != 0)
        deframer = mt::TpiuDeframer(static_cast<std::uint8_t>(bytes[0] % 111 + 1), (bytes[0] & 2) != 0);
    mt::ItmPipe pipe(deframer, (bytes[0] & 4) != 0 ? mt::ItmDecoder::Start::at_once : mt::ItmDecoder::Start::at_sync,
                     mt::Clock{72'000'000}, 1u << (2 * (bytes[0] >> 3 & 3)));
    std::vector<mt::TimedPacket> packets;
    pipe.feed({bytes + 1, size - 1}, packets);
    pipe.finish(packets);
    mt::ExceptionNest nest;
    mt::Time last{};
    for (const auto& p : packets) {
        if (p.earliest > p.latest || p.latest < last) std::abort();
        last = p.latest;
        const mt::BoundedTime when{p.earliest, p.latest};
        switch (p.packet.kind) {
            case mt::ItmKind::exc_enter:
                nest.enter(p.packet.number, when, p.packet.offset);
                break;
            case mt::ItmKind::exc_exit:
                nest.exit(p.packet.number, when, p.packet.offset);
                break;
            case mt::ItmKind::exc_return:
                nest.back_in(p.packet.number, when, p.packet.offset);
                break;
            case mt::ItmKind::overflow:
            case mt::ItmKind::damage:
                nest.lose(p.earliest, p.latest);
                break;
            default:
                break;
        }
    }
    nest.finish(last);
    if (!nest.open().empty()) std::abort();
    for (const auto& x : nest.closed())
        if (x.end < x.begin || x.own.ps < 0) std::abort();
    return 0;
}
