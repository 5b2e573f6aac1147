// Registers of a CMSIS-SVD file: arrays, clusters, what is derived, fields however their bits are told.
#include <gtest/gtest.h>

#include "support.h"
#include "target/data_place.h"
#include "target/svd_registers.h"

namespace mt {
namespace {

constexpr const char* kDevice = R"(<?xml version="1.0"?>
<device><name>X</name><size>32</size><access>read-write</access><peripherals>
<peripheral><name>GPIOA</name><description>pins
   of port A</description><baseAddress>0x40020000</baseAddress><registers>
  <register><name>IDR</name><addressOffset>0x10</addressOffset><access>read-only</access><fields>
    <field><name>LIMIT</name><bitRange>[5:5]</bitRange><enumeratedValues>
      <enumeratedValue><name>free</name><value>0</value></enumeratedValue>
      <enumeratedValue><name>touched</name><value>1</value></enumeratedValue></enumeratedValues></field>
    <field><name>MODE</name><lsb>8</lsb><msb>10</msb></field>
    <field><name>TOP</name><bitOffset>28</bitOffset><bitWidth>4</bitWidth></field></fields></register>
  <register><dim>3</dim><dimIncrement>4</dimIncrement><name>ODR%s</name><addressOffset>0x20</addressOffset><size>16</size></register>
  <cluster><dim>2</dim><dimIncrement>0x10</dimIncrement><dimIndex>A,B</dimIndex><name>CH[%s]</name><addressOffset>0x40</addressOffset>
    <register><name>DATA</name><addressOffset>4</addressOffset><readAction>clear</readAction></register></cluster>
</registers></peripheral>
<peripheral derivedFrom="GPIOA"><name>GPIOB</name><baseAddress>0x40020400</baseAddress></peripheral>
</peripherals></device>)";

class SvdRegisters : public ::testing::Test {
  protected:
    SvdRegisters() { test::write_file(folder / "x.svd", kDevice); }
    std::vector<SvdPeripheral> read() {
        auto all = read_svd_registers(folder / "x.svd");
        EXPECT_TRUE(all) << all.error().text();
        return all.value_or(std::vector<SvdPeripheral>{});
    }
    DataPlace place(const std::string& expression) {
        CoreSpec core;
        core.svd = folder / "x.svd";
        auto p = find_data(core, expression);
        EXPECT_TRUE(p) << p.error().text();
        return p.value_or(DataPlace{});
    }
    test::Folder folder;
};

TEST_F(SvdRegisters, GivesRegistersOneByOneWithTheirAddresses) {
    const auto all = read();
    ASSERT_EQ(all.size(), 2U);
    EXPECT_EQ(all[0].description, "pins of port A");
    ASSERT_EQ(all[0].registers.size(), 6U);
    EXPECT_EQ(all[0].registers[0].access, SvdAccess::read_only);
    EXPECT_EQ(all[0].registers[3].name, "ODR2");
    EXPECT_EQ(all[0].registers[3].address, 0x40020028U);
    EXPECT_EQ(all[0].registers[3].bytes, 2U);
    EXPECT_EQ(all[0].registers[5].name, "CH[B].DATA");
    EXPECT_EQ(all[0].registers[5].address, 0x40020054U);
    EXPECT_TRUE(all[0].registers[5].reading_acts);
    ASSERT_EQ(all[1].registers.size(), 6U) << "derived from the first";
    EXPECT_EQ(all[1].registers[0].address, 0x40020410U);
}

TEST_F(SvdRegisters, GivesFieldsHoweverTheirBitsAreTold) {
    const auto fields = read()[0].registers[0].fields;
    ASSERT_EQ(fields.size(), 3U);
    EXPECT_EQ(std::pair(fields[0].lsb, fields[0].width), std::pair(5U, 1U));
    EXPECT_EQ(std::pair(fields[1].lsb, fields[1].width), std::pair(8U, 3U));
    EXPECT_EQ(std::pair(fields[2].lsb, fields[2].width), std::pair(28U, 4U));
    EXPECT_EQ(fields[0].names.at(1), "touched");
}

TEST_F(SvdRegisters, ARegisterOrAFieldOfOneCanBeWatched) {
    const DataPlace word = place("GPIOB.IDR"), field = place("GPIOB.IDR.LIMIT");
    EXPECT_EQ(word.address, 0x40020410U);
    EXPECT_EQ(word.type, "u32");
    EXPECT_EQ(field.address, 0x40020410U);
    EXPECT_EQ(field.mask, 0x20U);
    EXPECT_EQ(field.shift, 5U);
    EXPECT_EQ(field.names.at(0), "free");
    EXPECT_EQ(place("GPIOA.CH[B].DATA").address, 0x40020054U);
}

TEST_F(SvdRegisters, ThatIsNoneIsToldSo) {
    test::write_file(folder / "bad.svd", "<device><periph");
    EXPECT_FALSE(read_svd_registers(folder / "bad.svd"));
    test::write_file(folder / "other.svd", "<html/>");
    EXPECT_NE(read_svd_registers(folder / "other.svd").error().text().find("no <device>"), std::string::npos);
    EXPECT_FALSE(read_svd_registers(folder / "nowhere.svd"));
    // An array of a billion is cut; a peripheral derived from itself ends.
    test::write_file(folder / "huge.svd",
                     "<device><peripherals><peripheral derivedFrom=\"P\"><name>P</name><baseAddress>0</baseAddress><registers>"
                     "<register><dim>1000000000</dim><dimIncrement>4</dimIncrement><name>R%s</name><addressOffset>0</addressOffset></register>"
                     "</registers></peripheral></peripherals></device>");
    const auto huge = read_svd_registers(folder / "huge.svd");
    ASSERT_TRUE(huge);
    EXPECT_EQ(huge->at(0).registers.size(), 4096U);
}

TEST_F(SvdRegisters, OfWhichNobodySaysWhereTheyStandAreNotRead) {
    const std::string named = "<register><name>R</name><addressOffset>4</addressOffset></register>";
    test::write_file(folder / "lost.svd",
                     "<device><peripherals>"
                     "<peripheral><name>A</name><baseAddress>0x4000ZZ</baseAddress><registers>" + named + "</registers></peripheral>"
                     "<peripheral><name>B</name><registers>" + named + "</registers></peripheral>"
                     "<peripheral><name>C</name><baseAddress>0x40000000</baseAddress><registers>" + named +
                     "<register><name>S</name><addressOffset>-5</addressOffset></register><register><name>T</name></register></registers></peripheral>"
                     "</peripherals></device>");
    const auto all = read_svd_registers(folder / "lost.svd");
    ASSERT_TRUE(all);
    ASSERT_EQ(all->size(), 3U);
    EXPECT_TRUE(all->at(0).registers.empty());
    EXPECT_TRUE(all->at(1).registers.empty());
    ASSERT_EQ(all->at(2).registers.size(), 1U) << "what can be read is there";
    EXPECT_EQ(all->at(2).registers[0].address, 0x4000'0004U);
}

TEST_F(SvdRegisters, EndHoweverManyAreDerivedInACircleOrStandInArraysOfArrays) {
    constexpr int kMany = 20'000;
    std::string circle = "<device><peripherals>";
    for (int i = 0; i < kMany; ++i)
        circle += "<peripheral derivedFrom=\"P" + std::to_string((i + 1) % kMany) + "\"><name>P" + std::to_string(i) +
                  "</name><baseAddress>" + std::to_string(i * 16) + "</baseAddress></peripheral>";
    test::write_file(folder / "circle.svd", circle + "</peripherals></device>");
    const auto all = read_svd_registers(folder / "circle.svd");
    ASSERT_TRUE(all);
    EXPECT_EQ(all->size(), std::size_t{kMany}) << "each stands there";
    EXPECT_EQ(all->back().base, std::uint64_t{16 * (kMany - 1)});

    std::string deep = "<device><peripherals><peripheral><name>P</name><baseAddress>0</baseAddress><registers>";
    for (int i = 0; i < 8; ++i) deep += "<cluster><name>C%s</name><dim>4096</dim><dimIncrement>4</dimIncrement>";
    deep += "<register><name>R</name><addressOffset>0</addressOffset></register>";
    for (int i = 0; i < 8; ++i) deep += "</cluster>";
    test::write_file(folder / "deep.svd", deep + "</registers></peripheral></peripherals></device>");
    const auto cut = read_svd_registers(folder / "deep.svd");
    ASSERT_TRUE(cut);
    EXPECT_LE(cut->at(0).registers.size(), kMostSvdRegisters);
    EXPECT_GT(cut->at(0).registers.size(), 4000U) << "what stands first is there";
}

}  // namespace
}  // namespace mt
