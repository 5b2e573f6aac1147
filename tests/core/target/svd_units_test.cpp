// Trace units that a CMSIS-SVD file names.
#include <gtest/gtest.h>

#include "support.h"
#include "target/svd_units.h"

namespace mt {
namespace {

TEST(TraceUnitsOfSvd, AreFoundByTheirNamesAndDescriptions) {
    const test::Folder folder;
    test::write_file(
        folder / "chip.svd",
        "<device><peripherals><peripheral><name>GPIO</name><baseAddress>0x40000000</baseAddress></peripheral>"
        "<peripheral><name>TR_TE0</name><baseAddress>0x20000000</baseAddress></peripheral>"
        "<peripheral><name>SINK</name><description>Trace RAM sink</description><baseAddress>536879104</baseAddress>"
        "</peripheral></peripherals></device>");
    EXPECT_EQ(trace_units_of_svd(folder / "chip.svd"), (std::vector<std::uint64_t>{0x20000000, 0x20002000}));
    EXPECT_TRUE(trace_units_of_svd(folder / "none.svd").empty());
    test::write_file(folder / "odd.svd", "<device><peripherals><peripheral>");
    EXPECT_TRUE(trace_units_of_svd(folder / "odd.svd").empty());
}

}  // namespace
}  // namespace mt
