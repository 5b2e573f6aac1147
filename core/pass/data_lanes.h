// What a program sent through its instruction trace becomes values and text, as what it writes to stimulus ports does:
// the tag of a message stands for the port. What the trace tells beside the instructions (which process has the core, data
// that was loaded and stored) becomes values, too.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <utility>

#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

class DataLanes {
  public:
    /// Both must outlive it.
    DataLanes(const Recording& recording, Trail& trail, std::size_t core)
        : recording_(recording), trail_(trail), core_(core) {}
    /// Takes what came in since it was asked last.
    void take(const StepTrail& steps);

  private:
    static constexpr std::size_t kMostTags = 1024;
    struct Lane {
        bool text = false;
        std::size_t index = 0;
        ValueType type;
    };
    Lane make(const StepData& data);
    Lane make_of_core(const StepData& data);
    Lane make_values(const std::string& name, const ValueType& type, const std::map<std::uint64_t, std::string>& names);

    const Recording& recording_;
    Trail& trail_;
    std::size_t core_;
    std::map<std::pair<std::uint32_t, std::uint64_t>, Lane> lanes_;  ///< by tag, and the address of data
    std::size_t taken_ = 0;
    bool told_many_ = false;
};

}  // namespace mt
