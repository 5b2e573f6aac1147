// Any bytes as a CMSIS-SVD file: registers or a problem, within bounds whatever is derived from what.
#include <sys/mman.h>
#include <unistd.h>

#include <cstdint>
#include <cstdlib>
#include <string>

#include "target/exception_names.h"
#include "target/svd_registers.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    using namespace mt;
    static const int file = ::memfd_create("svd", 0);
    if (::ftruncate(file, 0) != 0 || ::pwrite(file, data, size, 0) < 0) std::abort();
    const std::string path = "/proc/self/fd/" + std::to_string(file);
    const auto all = read_svd_registers(path);
    if (!all) {
        if (all.error().what.empty() || all.error().where.empty()) std::abort();
        return 0;
    }
    std::size_t registers = 0;
    for (const SvdPeripheral& p : *all)
        for (const SvdRegister& r : p.registers) {
            ++registers;
            for (const SvdField& f : r.fields)
                if (f.lsb > 63 || f.width == 0 || f.lsb + f.width > 64) std::abort();
        }
    if (registers > kMostSvdRegisters) std::abort();
    (void)read_svd(path);
    return 0;
}
