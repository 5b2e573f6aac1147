// What several tests need: folders that vanish, files, recordings from the simulated board.
#pragma once

#include <gtest/gtest.h>
#include <stdlib.h>

#include <filesystem>
#include <fstream>
#include <memory>
#include <optional>
#include <sstream>
#include <string>
#include <vector>

#include "mount_model.h"
#include "pass/reading.h"
#include "recording/recording.h"

namespace mt::test {

/// A folder that is removed at the end of the test.
class Folder {
  public:
    Folder() {
        char name[] = "/tmp/mtrail-test-XXXXXX";
        path_ = ::mkdtemp(name);
    }
    ~Folder() {
        std::error_code ec;
        std::filesystem::remove_all(path_, ec);
    }
    std::string operator/(const std::string& name) const { return path_ + "/" + name; }
    const std::string& path() const { return path_; }

  private:
    std::string path_;
};

inline void write_file(const std::string& path, const std::string& text) {
    std::ofstream(path, std::ios::binary) << text;
}
inline void write_file(const std::string& path, const std::vector<std::uint8_t>& bytes) {
    std::ofstream(path, std::ios::binary)
        .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
}
inline std::vector<std::uint8_t> read_bytes(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}
inline std::string read_text(const std::string& path) {
    const auto bytes = read_bytes(path);
    return {bytes.begin(), bytes.end()};
}

inline std::vector<std::string> lines(const std::string& text) {
    std::vector<std::string> all;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);) all.push_back(line);
    return all;
}

inline std::string data(const std::string& name) { return std::string(MT_DATA) + "/" + name; }
inline std::string demo(const std::string& name) { return std::string(MT_DEMO) + "/" + name; }

struct Opened {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
};

/// Opens and decodes; the test fails if that does not work. `draft`: what the target file shall say.
inline Opened decode(const std::string& path, const std::optional<std::string>& draft = std::nullopt) {
    auto recording = open_recording(path, draft);
    EXPECT_TRUE(recording) << (recording ? "" : recording.error().text());
    if (!recording) throw std::runtime_error("not opened");
    Progress progress;
    auto trail = read_trail(**recording, progress);
    EXPECT_TRUE(trail) << (trail ? "" : trail.error().text());
    if (!trail) throw std::runtime_error("not decoded");
    return {*recording, *trail};
}

/// A target file for a bare ITM stream at 120 MHz, with the demonstration's image if wanted.
inline std::string itm_target(const std::string& stream, bool image = false, const std::string& clock = "120_000_000",
                              const std::string& more = "") {
    return "format = \"mindful-trail-target/1\"\nname = \"Larkspur\"\n[[core]]\nname = \"main\"\nisa = "
           "\"armv7e-m\"\nclock_hz = " +
           clock + "\n" +
           (image ? "image = \"" + demo("larkspur.elf") + "\"\nsvd = \"" + demo("larkspur.svd") + "\"\n" : "") +
           "[[stream]]\nfile = \"" + stream + "\"\nprotocol = \"itm\"\ncore = \"main\"\n" + more;
}

/// Bytes as a whole recording in `folder`.
inline Opened decode_bytes(const Folder& folder, const std::vector<std::uint8_t>& bytes,
                           const std::string& clock = "120_000_000", const std::string& more = "") {
    write_file(folder / "stream.bin", bytes);
    write_file(folder / "x.target.toml", itm_target("stream.bin", false, clock, more));
    return decode(folder / "x.target.toml");
}

/// A recording of the simulated mount without image.
inline std::vector<std::uint8_t> mount_bytes(const board::MountOptions& options) {
    return board::record_mount(options, [](const std::string&) {
        return std::pair<std::uint32_t, std::uint32_t>{0x08000100, 64};
    });
}

}  // namespace mt::test
