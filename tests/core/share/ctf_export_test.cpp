// What is exported as a Common Trace Format trace says what the recording says.
#include <gtest/gtest.h>

#include "share/ctf_export.h"
#include "support.h"

namespace mt {
namespace {

test::Opened exported(const test::Opened& o, const std::string& folder) {
    Progress progress;
    const auto done = export_ctf(*o.recording, *o.trail, folder, false, progress);
    EXPECT_TRUE(done) << done.error().text();
    return test::decode(folder);
}

// Data value packets of two bytes (Armv7-M ARM, D4.3.5) and source packets of one byte (D4.2.6).
TEST(AnExportedTrace, HoldsValuesAsTheirTypesReadThemAndByTheirNames) {
    std::vector<std::uint8_t> bytes(5, 0x00);
    bytes.push_back(0x80);
    for (const int angle : {-5, 300, -32768}) {
        bytes.push_back(0x8E);  // comparator 0, write, two bytes
        bytes.push_back(static_cast<std::uint8_t>(angle & 0xFF));
        bytes.push_back(static_cast<std::uint8_t>(angle >> 8 & 0xFF));
        bytes.push_back(0x10);  // a local timestamp
        bytes.push_back(0x61);  // port 12, one byte
        bytes.push_back(0xFE);
        bytes.push_back(0x10);
    }
    const test::Folder folder;
    const auto o = test::decode_bytes(folder, bytes, "120_000_000",
                                      "[[watch]]\ncomparator = 0\naddress = 0x20000100\ntype = \"i16\"\n"
                                      "[[port]]\nnumber = 12\nname = \"seeing\"\ntype = \"i8\"\n");
    const auto again = exported(o, folder / "out");
    const ValueLane* angle = nullptr;
    for (const ValueLane& lane : again.trail->tasks.values)
        if (lane.name == "0x20000100") angle = &lane;
    ASSERT_NE(angle, nullptr) << "named after what it watches";
    ASSERT_EQ(angle->samples.size(), 3U);
    EXPECT_EQ(angle->value(0).text(), "-5");
    EXPECT_EQ(angle->value(1).text(), "300");
    EXPECT_EQ(angle->value(2).text(), "-32768");
}

}  // namespace
}  // namespace mt
