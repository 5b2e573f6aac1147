// mtrail-board: the simulated Larkspur mount controller.
#include <fstream>
#include <iostream>

#include <CLI/CLI.hpp>

#include "mount_model.h"
#include "target/image.h"

int main(int argc, char** argv) {
    CLI::App app{"mtrail-board: the simulated Larkspur mount controller; writes the trace that its core would send",
                 "mtrail-board"};
    board::MountOptions options;
    std::string file, image_path;
    app.add_option("--write", file, "file for the bytes of the serial-wire output")->required();
    app.add_option("--image", image_path, "ELF of the firmware: gives the addresses for program-counter samples");
    app.add_option("--seconds", options.seconds, "how long to record")->check(CLI::Range(0.01, 3600.0));
    app.add_option("--seed", options.seed, "same seed, same recording");
    app.add_option("--clock", options.clock_hz, "core clock in Hz")->check(CLI::Range(1'000'000, 1'000'000'000));
    app.add_option("--baud", options.baud, "line rate of the serial-wire output")
        ->check(CLI::Range(100'000, 100'000'000));
    app.add_flag("--healthy", options.healthy, "nothing goes wrong");
    CLI11_PARSE(app, argc, argv);
    std::shared_ptr<const mt::Image> image;
    if (!image_path.empty()) {
        auto opened = mt::Image::open(image_path);
        if (!opened) {
            std::cerr << "mtrail-board: " << opened.error().text() << "\n";
            return 2;
        }
        image = *opened;
    }
    const auto range = [&](const std::string& name) -> std::pair<std::uint32_t, std::uint32_t> {
        const mt::Symbol* symbol = image == nullptr ? nullptr : image->symbol_named(name);
        if (symbol == nullptr) return {0x08000000, 64};
        return {static_cast<std::uint32_t>(symbol->address), static_cast<std::uint32_t>(symbol->size)};
    };
    const auto bytes = board::record_mount(options, range);
    std::ofstream out(file, std::ios::binary);
    out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
    out.close();
    if (!out) {
        std::cerr << "mtrail-board: cannot write: " << file << ": check free space and permissions\n";
        return 2;
    }
    return 0;
}
