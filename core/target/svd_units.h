// Where a CMSIS-SVD file says that RISC-V trace units stand.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace mt {

/// Base addresses of peripherals that are called as the trace components are ("trace encoder", "TR_FUNNEL", "pib", …),
/// in the file's order. What really stands there their own identification tells. Empty for a file that cannot be read.
std::vector<std::uint64_t> trace_units_of_svd(const std::string& path);

}  // namespace mt
