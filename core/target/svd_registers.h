// The registers of a device and their fields, as its CMSIS-SVD file describes them (CMSIS-SVD 1.3, "SVD File Schema
// Levels").
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/problem.h"

namespace mt {

enum class SvdAccess : std::uint8_t { read_write, read_only, write_only };

struct SvdField {
    std::string name, description;
    unsigned lsb = 0, width = 1;  ///< bits
    SvdAccess access = SvdAccess::read_write;
    bool reading_acts = false;                   ///< reading changes something
    std::map<std::uint64_t, std::string> names;  ///< of its values, as they are read
};
struct SvdRegister {
    std::string name, description;  ///< of a cluster: "CH[0].CTRL"
    std::uint64_t address = 0;
    unsigned bytes = 4;
    SvdAccess access = SvdAccess::read_write;
    bool reading_acts = false;
    std::vector<SvdField> fields;  ///< ascending by bit
};
struct SvdPeripheral {
    std::string name, description;
    std::uint64_t base = 0;
    std::vector<SvdRegister> registers;  ///< as they stand in the file; arrays one by one
};

inline constexpr std::size_t kMostSvdRegisters = 200'000;  ///< of a device; what is beyond is left out

/// Reads them, with what is derived from others, arrays and clusters. A Problem if the file is no CMSIS-SVD.
Result<std::vector<SvdPeripheral>> read_svd_registers(const std::string& path);
/// The same of the file that was asked for last, as long as it is not written anew; nullptr instead of a Problem. For who
/// looks up one name after the other. Any thread may call it.
std::shared_ptr<const std::vector<SvdPeripheral>> kept_svd_registers(const std::string& path);

}  // namespace mt
