// Members of a few bits, as both ways of DWARF tell them: their word, and which of its bits they are.
#include <gtest/gtest.h>

#include "target/data_place.h"
#include "target/image.h"
#include "target/value_type.h"

namespace mt {
namespace {

class BitFields : public ::testing::TestWithParam<const char*> {
  protected:
    std::string image() const { return std::string(MT_DATA "/bit-fields/") + GetParam(); }
    Result<DataPlace> find(const std::string& expression) const {
        CoreSpec c;
        c.name = "main";
        c.isa = "armv7e-m";
        c.image = image();
        return find_data(c, expression);
    }
    /// Its value as the image initialises it.
    std::uint64_t value(const std::string& expression) const {
        const auto p = find(expression);
        EXPECT_TRUE(p) << p.error().text();
        if (!p) return ~std::uint64_t{0};
        const auto elf = Image::open(image());
        std::uint64_t bits = 0, found = 0;
        for (const Image::Piece& piece : (*elf)->pieces())
            for (std::uint64_t i = 0; i < p->size; ++i)
                if (const std::uint64_t at = p->address + i - piece.address; at < piece.bytes.size()) {
                    bits |= std::uint64_t{piece.bytes[at]} << (8 * i);
                    ++found;
                }
        EXPECT_EQ(found, p->size) << expression;
        return (bits & p->mask) >> p->shift;
    }
};

TEST_P(BitFields, AreReadWhereTheCompilerPutThem) {
    EXPECT_EQ(value("state.ready"), 1U);
    EXPECT_EQ(value("state.phase"), 2U);
    EXPECT_EQ(value("state.tries"), 9U);
    EXPECT_EQ(value("state.wide"), 0x54321U);
    EXPECT_EQ(value("state.locked"), 1U);
    EXPECT_EQ(value("state.port"), 7U);
    const auto phase = find("state.phase");
    ASSERT_TRUE(phase) << phase.error().text();
    EXPECT_EQ(phase->names.at(2), "TRACK");
    EXPECT_EQ(value("state.tries & 8"), 8U) << "a mask of one's own is of the member's bits";
}

TEST_P(BitFields, OfPackedStructuresLieAcrossBytes) {
    EXPECT_EQ(value("tight.first"), 0x11U);
    EXPECT_EQ(value("tight.across"), 0xABCU);
    EXPECT_EQ(value("tight.rest"), 0xDU);
}

TEST_P(BitFields, KeepTheirSignAndNothingStandsInAField) {
    const auto drift = find("state.drift");
    ASSERT_TRUE(drift) << drift.error().text();
    EXPECT_EQ(value("state.drift"), 0xDU);
    EXPECT_EQ(drift->type, "i4");
    EXPECT_EQ(ValueType::named(drift->type)->with(drift->mask, drift->shift).read(std::uint64_t{0xD} << drift->shift).text(), "-3");
    const auto below = find("state.phase.x");
    ASSERT_FALSE(below);
    EXPECT_NE(below.error().text().find("nothing stands in it"), std::string::npos) << below.error().text();
}

INSTANTIATE_TEST_SUITE_P(Dwarf, BitFields, ::testing::Values("fields.elf", "fields-dwarf3.elf"),
                         [](const auto& p) { return std::string(p.param).find("dwarf3") == std::string::npos ? "Five" : "Three"; });

}  // namespace
}  // namespace mt
