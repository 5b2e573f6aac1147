// Reads what an emulator says of a Cortex-M program (standard input, see board/emulator_log.h) and writes the ETMv4
// trace that a trace unit would have sent of it, with what was executed beside it: instructions and exceptions, and for
// each function how often it was entered and how many instructions it executed.
#include <cstdio>
#include <cstring>
#include <stdexcept>
#include <string>
#include <vector>

#include <CLI/CLI.hpp>

#include "emulator_log.h"

namespace {

// Closed at the end; says if it could not be written.
class File {
  public:
    File(const std::string& path) : path_(path), file_(std::fopen(path.c_str(), "wb")) {
        if (file_ == nullptr) throw std::runtime_error("cannot write " + path_);
    }
    void write(const void* bytes, std::size_t n) {
        if (std::fwrite(bytes, 1, n, file_) != n) throw std::runtime_error("cannot write " + path_);
    }
    void close() {
        if (std::fclose(file_) != 0) throw std::runtime_error("cannot write " + path_);
    }

  private:
    std::string path_;
    std::FILE* file_;
};

void convert(const std::string& elf, const std::string& trace, const std::string& executed, std::uint64_t most,
             const board::Etm4Setup& setup) {
    const auto image = mt::Image::open(elf);
    if (!image) throw std::runtime_error(image.error().text());
    board::Etm4Encoder encoder(setup);
    board::EmulatorLog log(**image, encoder);
    File out(trace);
    std::vector<char> buffer(1 << 20);
    std::vector<std::uint8_t> bytes;
    const auto drain = [&](bool end) {
        bytes.clear();
        encoder.drain(bytes, end);
        out.write(bytes.data(), bytes.size());
    };
    std::size_t held = 0;
    while (log.steps() < most) {
        const std::size_t n = std::fread(buffer.data() + held, 1, buffer.size() - held, stdin);
        if (n == 0) break;
        const std::string_view all(buffer.data(), held + n);
        std::size_t from = 0;
        for (std::size_t to; (to = all.find('\n', from)) != std::string_view::npos; from = to + 1)
            log.line(all.substr(from, to - from));
        held = all.size() - from;
        std::memmove(buffer.data(), buffer.data() + from, held);
        drain(false);
    }
    drain(true);
    out.close();
    File told(executed);
    std::string text =
        "instructions," + std::to_string(log.told()) + "\nexceptions," + std::to_string(log.exceptions()) + "\n";
    for (std::uint32_t i = 0; i < log.functions().size(); ++i)
        if (log.executed()[i] > 0)
            text += log.functions()[i].name + "," + std::to_string(log.entered()[i]) + "," +
                    std::to_string(log.executed()[i]) + "\n";
    told.write(text.data(), text.size());
    told.close();
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{"mtrail-emulator-etm: an emulator's log (standard input) to ETMv4 trace"};
    std::string elf, trace, executed;
    std::uint64_t most = 1'000'000'000;
    board::Etm4Setup setup;
    setup.sync_bytes = 4096;
    app.add_option("elf", elf)->required();
    app.add_option("trace", trace)->required();
    app.add_option("executed", executed, "file for what was executed")->required();
    app.add_option("--instructions", most, "after so many it ends");
    app.add_flag("--return-stack", setup.return_stack);
    app.add_option("--sync-bytes", setup.sync_bytes);
    app.add_option("--stamp-each", setup.stamp_each, "cycles");
    CLI11_PARSE(app, argc, argv);
    try {
        convert(elf, trace, executed, most, setup);
        return 0;
    } catch (const std::exception& e) {
        std::fprintf(stderr, "mtrail-emulator-etm: %s\n", e.what());
        return 1;
    }
}
