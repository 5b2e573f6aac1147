// Offsets and bits of the trace units' registers, as the planner and the looking use them alike.
#pragma once

#include <cstdint>

namespace mt {

/// Debug Exception and Monitor Control Register: TRCENA, bit 24, switches DWT and ITM on (DDI 0403E C1.6.5).
namespace demcr {
constexpr std::uint64_t kAddress = 0xE000EDFC;
constexpr std::uint32_t kTrcEna = 1u << 24;
}  // namespace demcr

/// Armv7-M Architecture Reference Manual (DDI 0403E) C1.8; Armv8-M (DDI 0553) D1.2.
namespace dwt {
constexpr std::uint32_t kCtrl = 0x000, kComp0 = 0x020, kMask0 = 0x024, kFunction0 = 0x028, kStride = 0x10;
constexpr std::uint32_t kCycCntEna = 1u << 0, kPcSamplEna = 1u << 12, kExcTrcEna = 1u << 16, kCpiEvtEna = 1u << 17,
                        kExcEvtEna = 1u << 18, kSleepEvtEna = 1u << 19, kLsuEvtEna = 1u << 20, kFoldEvtEna = 1u << 21,
                        kCycEvtEna = 1u << 22, kNoPrfCnt = 1u << 24, kNoCycCnt = 1u << 25, kNoTrcPkt = 1u << 27;
constexpr std::uint32_t kEmitRange = 1u << 5;
}  // namespace dwt

/// DDI 0403E C1.7.
namespace itm {
constexpr std::uint32_t kTer = 0xE00, kTpr = 0xE40, kTcr = 0xE80;
constexpr std::uint32_t kItmEna = 1u << 0, kTsEna = 1u << 1, kSyncEna = 1u << 2, kTxEna = 1u << 3, kSwoEna = 1u << 4,
                        kBusy = 1u << 23;
}  // namespace itm

/// DDI 0403E C1.10 and Arm CoreSight TPIU; the SWO component has CODR where the TPIU has ACPR.
namespace tpiu {
constexpr std::uint32_t kSspsr = 0x000, kCspsr = 0x004, kAcpr = 0x010, kSppr = 0x0F0, kFfsr = 0x300, kFfcr = 0x304;
constexpr std::uint32_t kEnFCont = 1u << 1, kTrigIn = 1u << 8, kParallel = 0, kManchester = 1, kNrz = 2;
}  // namespace tpiu

/// Embedded Trace Macrocell Architecture Specification ETMv4 (IHI 0064) chapter 7.
namespace etm4 {
constexpr std::uint32_t kPrgCtl = 0x004, kStat = 0x00C, kConfig = 0x010, kEventCtl0 = 0x020, kEventCtl1 = 0x024,
                        kStallCtl = 0x02C, kTsCtl = 0x030, kSyncP = 0x034, kCcCtl = 0x038, kBbCtl = 0x03C,
                        kTraceId = 0x040, kViCtl = 0x080, kViIeCtl = 0x084, kViSsCtl = 0x088, kViPcSsCtl = 0x08C,
                        kCntRldV0 = 0x140, kCntCtl0 = 0x150, kCntV0 = 0x160, kIdr8 = 0x180, kIdr0 = 0x1E0,
                        kRsCtl0 = 0x200, kOsLock = 0x300, kOsLockStatus = 0x304, kPowerControl = 0x310,
                        kPowerStatus = 0x314, kAcv0 = 0x400, kAcat0 = 0x480;
constexpr std::uint32_t kPowerUp = 1u << 3;  // TRCPDCR.PU
constexpr std::uint32_t kBb = 1u << 3, kCci = 1u << 4, kCid = 1u << 6, kVmid = 1u << 7, kTs = 1u << 11, kRs = 1u << 12;
}  // namespace etm4

/// CoreSight Trace Memory Controller (DDI 0461) chapter 3, and the older Embedded Trace Buffer (DDI 0314).
namespace tmc {
constexpr std::uint32_t kRsz = 0x004, kSts = 0x00C, kRrd = 0x010, kRrp = 0x014, kRwp = 0x018, kTrg = 0x01C,
                        kCtl = 0x020, kMode = 0x028, kCbufLevel = 0x030, kBufWm = 0x034, kRrpHi = 0x038, kRwpHi = 0x03C,
                        kAxiCtl = 0x110, kDbaLo = 0x118, kDbaHi = 0x11C, kFfsr = 0x300, kFfcr = 0x304;
constexpr std::uint32_t kFull = 1u << 0, kTriggered = 1u << 1, kReady = 1u << 2, kEmpty = 1u << 4;
constexpr std::uint32_t kEnFt = 1u << 0, kEnTi = 1u << 1, kFlushMan = 1u << 6, kTrigOnTrigIn = 1u << 8,
                        kStopOnFl = 1u << 12, kStopOnTrig = 1u << 13;
constexpr std::uint32_t kCircular = 0, kSoftwareFifo = 1, kHardwareFifo = 2;
constexpr std::uint32_t kScatter = 1u << 7;
}  // namespace tmc

/// Micro Trace Buffer (DDI 0486) chapter 3.
namespace mtb {
constexpr std::uint32_t kPosition = 0x000, kMaster = 0x004, kFlow = 0x008, kBase = 0x00C;
constexpr std::uint32_t kWrap = 1u << 2, kEnable = 1u << 31, kTStartEn = 1u << 5, kTStopEn = 1u << 6;
}  // namespace mtb

namespace funnel {
constexpr std::uint32_t kCtrl = 0x000;
}
namespace replicator {
constexpr std::uint32_t kFilter0 = 0x000, kFilter1 = 0x004;
}

/// RISC-V Trace Control Interface Specification 1.0.
namespace trace_control {
constexpr std::uint32_t kControl = 0x000, kImpl = 0x004, kInstFeatures = 0x008, kInstFilters = 0x00C,
                        kTsControl = 0x040, kFilter0 = 0x400, kFilterStride = 0x20, kComp0 = 0x600, kCompStride = 0x20;
constexpr std::uint32_t kActive = 1u << 0, kEnable = 1u << 1, kInstTracing = 1u << 2, kEmpty = 1u << 3;
constexpr std::uint32_t kTsActive = 1u << 0, kTsEnable = 1u << 15;
constexpr std::uint32_t kDisInput = 0x008;
constexpr std::uint32_t kRamStartLow = 0x010, kRamStartHigh = 0x014, kRamLimitLow = 0x018, kRamLimitHigh = 0x01C,
                        kRamWpLow = 0x020, kRamWpHigh = 0x024, kRamRpLow = 0x028, kRamRpHigh = 0x02C, kRamData = 0x040;
constexpr std::uint32_t kRamSystemMemory = 1u << 4, kRamStopOnWrap = 1u << 8, kRamWrapped = 1u << 0;
}  // namespace trace_control

}  // namespace mt
