#include "command.h"

#include <cerrno>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iostream>

#include <CLI/CLI.hpp>

#include "base/mapped_file.h"
#include "base/plain_text.h"
#include "base/text.h"
#include "doubt/ring_check.h"
#include "output.h"
#include "recording/event_source.h"

namespace mt::cli {
namespace {

struct RingOptions {
    std::string input, output;
    std::uint64_t at = 0, hz = 0;
};

// What is wrong with a ring, and its packets for the taking.
int ring(const RingOptions& o) {
    namespace fs = std::filesystem;
    auto file = MappedFile::open(o.input);
    if (!file) return fail(file.error());
    const auto report = check_ring((*file)->bytes(), o.at, o.hz);
    if (!report) return fail(report.error());
    if (!o.output.empty() && o.output == o.input)
        return fail({"would overwrite what is being read", o.input, "choose another name"});
    std::cout << "header at " << hex_text(report->header_at) << "\n";
    for (const auto& r : report->remarks) {
        constexpr const char* grades[] = {"  ", "? ", "! "};
        std::cout << grades[static_cast<std::size_t>(r.grade)] << plain_text(r.text) << "\n";
        if (!r.advice.empty()) std::cout << "    " << plain_text(r.advice) << "\n";
    }
    if (!o.output.empty()) {
        std::error_code ec;
        if (fs::exists(o.output, ec)) return fail({"exists already", o.output, "choose another name"});
        if (report->packets == 0) return fail({"there is nothing to write", o.input, "see what is wrong above"});
        fs::create_directories(o.output, ec);
        std::ofstream(fs::path(o.output) / "metadata", std::ios::binary)
            << recorder_metadata(o.hz == 0 ? 1'000'000'000 : o.hz);
        std::ofstream packets(fs::path(o.output) / "packets", std::ios::binary);
        packets.write(reinterpret_cast<const char*>(report->stream.data()),
                      static_cast<std::streamsize>(report->stream.size()));
        packets.close();
        if (!packets) return fail({"cannot write", o.output, "check free space and permissions"});
    }
    return report->good() && report->lost == 0 ? kDone : kBad;
}

}  // namespace

void add_ring(CLI::App& app, Run& run) {
    const auto o = std::make_shared<RingOptions>();
    CLI::App& c = *app.add_subcommand("ring", "look at an image of memory with the recorder's ring in it");
    c.add_option("IMAGE", o->input, "file with the bytes of the target's memory")->required();
    c.add_option("--at", o->at, "address of its first byte (0x… or decimal)")->check([](const std::string& text) {
        errno = 0;
        (void)std::strtoull(text.c_str(), nullptr, 0);
        return errno == ERANGE ? text + " is more than 64 bits hold" : std::string();
    });
    c.add_option("--hz", o->hz, "ticks per second of the recorder's time source");
    c.add_option("-o,--output", o->output, "new folder for what it holds, as a Common Trace Format trace");
    c.callback([o, &run] { run = [o] { return ring(*o); }; });
}

}  // namespace mt::cli
