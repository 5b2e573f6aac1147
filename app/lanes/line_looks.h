// How lanes of numbers are drawn, as a person chose it: remembered by kind and name, over all recordings.
#pragma once

#include <map>
#include <string>

namespace mt::app {

struct LineLook {
    enum class Drawn : std::uint8_t { steps, line, dots } drawn = Drawn::steps;
    enum class Scale : std::uint8_t { usual, all, visible, fixed } scale = Scale::usual;
    double low = 0, high = 1;  ///< with a fixed scale
    std::string with;          ///< name of the lane in whose row it is drawn; empty: it has a row of its own
    bool operator==(const LineLook&) const = default;
};

class LineLooks {
  public:
    LineLooks();  ///< what was chosen before
    LineLook of(const std::string& key) const;
    void set(const std::string& key, const LineLook& look);

  private:
    std::map<std::string, LineLook> all_;
};

}  // namespace mt::app
