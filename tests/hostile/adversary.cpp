// Attacks the program as a stranger's files, a bad line and a hard end would, and prints what held. Every attack must
// end within its time, in bounded memory, by an exit code of the program's own; nothing may be lost.
//   adversary MTRAIL BOARD DATA [--mutations N] [--seed N]
#include <fcntl.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <functional>
#include <string>
#include <thread>
#include <vector>

#include "damage.h"
#include "nested_metadata.h"

namespace {

namespace fs = std::filesystem;
using Steady = std::chrono::steady_clock;
using mt::hostile::Damage;

struct Ended {
    int code = 0;  ///< 128 and more: killed by a signal, or by the clock
    double seconds = 0;
    long peak_mb = 0;
    std::string said;
};

struct Limits {
    double seconds = 20;
    rlim_t descriptors = 0, memory = 0, file = 0;
};

std::string read(const fs::path& file) {
    std::ifstream in(file, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}
void write(const fs::path& file, const std::string& text) {
    fs::create_directories(file.parent_path());
    std::ofstream(file, std::ios::binary) << text;
}

// Runs a program to its end, or kills it when its time is over.
Ended run(const std::vector<std::string>& arguments, const fs::path& log, const Limits& limits = {},
          const std::function<void(pid_t)>& meanwhile = {}) {
    const auto began = Steady::now();
    const pid_t pid = ::fork();
    if (pid == 0) {
        const int out = ::open(log.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644), in = ::open("/dev/null", O_RDONLY);
        ::dup2(in, 0);
        ::dup2(out, 1);
        ::dup2(out, 2);
        const auto limit = [](int what, rlim_t value) {
            const rlimit l{value, value};
            if (value != 0) ::setrlimit(static_cast<__rlimit_resource_t>(what), &l);
        };
        ::signal(SIGXFSZ, SIG_IGN);
        limit(RLIMIT_NOFILE, limits.descriptors);
        limit(RLIMIT_AS, limits.memory);
        limit(RLIMIT_FSIZE, limits.file);
        std::vector<char*> argv;
        for (const auto& a : arguments) argv.push_back(const_cast<char*>(a.c_str()));
        argv.push_back(nullptr);
        ::execv(argv[0], argv.data());
        ::_exit(127);
    }
    if (meanwhile) meanwhile(pid);
    Ended e;
    int status = 0;
    rusage used{};
    for (;;) {
        if (::wait4(pid, &status, WNOHANG, &used) == pid) break;
        e.seconds = std::chrono::duration<double>(Steady::now() - began).count();
        if (e.seconds > limits.seconds) {
            ::kill(pid, SIGKILL);
            ::wait4(pid, &status, 0, &used);
            break;
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(2));
    }
    e.seconds = std::chrono::duration<double>(Steady::now() - began).count();
    e.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    e.peak_mb = used.ru_maxrss / 1024;
    e.said = read(log);
    return e;
}

class Adversary {
  public:
    Adversary(std::string mtrail, std::string board, fs::path data, std::uint64_t seed)
        : mtrail_(std::move(mtrail)), board_(std::move(board)), data_(std::move(data)), seed_(seed) {
        char name[] = "/tmp/mtrail-adversary-XXXXXX";
        here_ = ::mkdtemp(name);
    }
    ~Adversary() {
        std::error_code ec;
        fs::remove_all(here_, ec);
    }

    bool all(int mutations) {
        std::printf("%-52s %7s %9s %9s %9s\n", "attack", "tried", "failed", "longest", "most");
        mutated_captures(mutations);
        hostile_targets();
        hostile_metadata();
        devices();
        noise();
        links_and_names();
        limits();
        cut_short_meanwhile();
        killed_recordings();
        full_disk();
        std::printf("%-52s %7d %9d\n", "all", tried_, failed_);
        return failed_ == 0;
    }

  private:
    struct Row {
        std::string name;
        int tried = 0, failed = 0;
        double seconds = 0;
        long mb = 0;
    };

    // An end of its own: done, bad verdict, or could not; with a message if it could not; in time, and not too large.
    void judge(Row& row, const Ended& e, const std::string& what, double seconds = 10, long mb = 1200) {
        ++row.tried;
        row.seconds = std::max(row.seconds, e.seconds);
        row.mb = std::max(row.mb, e.peak_mb);
        std::string why;
        if (e.code > 2) why = "ended with " + std::to_string(e.code);
        if (e.code == 2 && e.said.find("mtrail: ") == std::string::npos) why = "gave no reason";
        if (e.said.find('\x1b') != std::string::npos) why = "spoke to the terminal";
        if (e.seconds > seconds) why = "took " + std::to_string(e.seconds) + " s";
        if (e.peak_mb > mb) why = "took " + std::to_string(e.peak_mb) + " MB";
        if (why.empty()) return;
        ++row.failed;
        std::printf("    %s: %s\n", what.c_str(), why.c_str());
    }
    void expect(Row& row, bool holds, const std::string& what) {
        ++row.tried;
        if (holds) return;
        ++row.failed;
        std::printf("    %s\n", what.c_str());
    }
    void print(const Row& row) {
        std::printf("%-52s %7d %9d %7.2f s %6ld MB\n", row.name.c_str(), row.tried, row.failed, row.seconds, row.mb);
        std::fflush(stdout);
        tried_ += row.tried;
        failed_ += row.failed;
    }
    Ended mtrail(std::vector<std::string> arguments, const Limits& limits = {},
                 const std::function<void(pid_t)>& meanwhile = {}) {
        arguments.insert(arguments.begin(), mtrail_);
        return run(arguments, here_ / "log", limits, meanwhile);
    }
    std::string target_text(const std::string& rest,
                            const std::string& core = "isa = \"armv7e-m\"\nclock_hz = 72000000\n") {
        return "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\n" + core + rest;
    }

    void mutated_captures(int mutations) {
        struct Capture {
            std::string stream, target;
        };
        std::vector<Capture> captures;
        for (const auto& e : fs::recursive_directory_iterator(data_))
            if (e.path().string().ends_with(".target.toml"))
                for (const char* stream : {"capture.bin", "trace.bin"})
                    if (fs::exists(e.path().parent_path() / stream))
                        captures.push_back({(e.path().parent_path() / stream).string(), e.path().string()});
        std::sort(captures.begin(), captures.end(), [](const auto& a, const auto& b) { return a.target < b.target; });
        Row row{"captures damaged, each command", 0, 0, 0, 0};
        const std::vector<std::vector<std::string>> commands = {
            {"summary"}, {"find"}, {"events", "--csv"}, {"stats", "--csv", "--of", "interrupts"}, {"cover", "--json"}, {"report", "--html", "-"}, {"state", "--index", "900"}};
        for (int i = 0; i < mutations && !captures.empty(); ++i) {
            const Capture& c = captures[static_cast<std::size_t>(i) % captures.size()];
            std::mt19937_64 random(seed_ * 7919 + static_cast<std::uint64_t>(i));
            const std::string whole = read(c.stream);
            std::vector<std::uint8_t> bytes(whole.begin(), whole.end());
            for (unsigned k = 1 + static_cast<unsigned>(random() % 5); k > 0; --k)
                mt::hostile::damage(bytes, static_cast<Damage>(random() % mt::hostile::kDamages), random);
            if (random() % 8 == 0) bytes.resize(bytes.size() * (random() % 100) / 100);
            write(here_ / "stream", std::string(bytes.begin(), bytes.end()));
            std::string text = read(c.target);
            const fs::path home = fs::path(c.target).parent_path();
            const std::string stream = fs::path(c.stream).filename().string();
            for (std::size_t at = 0; (at = text.find('"' + stream + '"', at)) != std::string::npos; at += 8)
                text.replace(at, stream.size() + 2, "\"stream\"");
            for (const char* image : {"firmware.elf", "../mount-cop.elf", "../mount-main.elf", "../paddle.elf",
                                      "../mount-cop-modes.elf", "../mount-cop-duo.elf"})
                if (const auto at = text.find('"' + std::string(image) + '"'); at != std::string::npos)
                    text.replace(at + 1, std::strlen(image), (home / image).lexically_normal().string());
            write(here_ / "x.target.toml", text);
            std::vector<std::string> arguments = commands[static_cast<std::size_t>(i) % commands.size()];
            arguments.insert(arguments.begin() + 1, (here_ / "x.target.toml").string());
            judge(row, mtrail(arguments), c.target + " turn " + std::to_string(i), 10, 700);
        }
        print(row);
    }

    void hostile_targets() {
        Row row{"target files", 0, 0, 0, 0};
        std::string dotted = "a";
        for (int i = 0; i < 200'000; ++i) dotted += ".a";
        const std::string stream = "[[stream]]\nfile = \"s\"\nprotocol = \"itm\"\ncore = \"main\"\n";
        write(here_ / "s", std::string(4096, 'x'));
        for (const std::string& text :
             {dotted + " = 1\n", "[" + dotted + "]\n", "x = " + std::string(100'000, '['), std::string(3'000'000, '#'),
              target_text(stream, "isa = \"z80\"\nclock_hz = 1\n"),
              target_text(stream, "isa = \"armv7e-m\"\nclock_hz = 99999999999999999999\n"),
              target_text(stream, "isa = \"armv7e-m\"\nclock_hz = -5\n"),
              target_text("[[stream]]\nfile = \"\\u001b]0;owned\\u0007\"\nprotocol = \"itm\"\ncore = \"main\"\n"),
              target_text(stream + "[stream.itm]\ntimestamp_prescaler = 3\n"), std::string("\0\0\0\0", 4),
              std::string("\xff\xfe\x00", 3)}) {
            write(here_ / "t.target.toml", text);
            judge(row, mtrail({"summary", (here_ / "t.target.toml").string()}), text.substr(0, 60), 2, 500);
        }
        print(row);
    }

    void hostile_metadata() {
        Row row{"trace metadata", 0, 0, 0, 0};
        std::string json =
            "\x1e{\"type\":\"preamble\",\"version\":2}\n\x1e{\"type\":\"field-class-alias\",\"name\":\"a0\",\"field-"
            "class\":{\"type\":\"fixed-length-unsigned-integer\",\"length\":8,\"byte-order\":\"little-endian\"}}\n";
        for (int i = 1; i <= 16; ++i) {
            json += "\x1e{\"type\":\"field-class-alias\",\"name\":\"a" + std::to_string(i) +
                    "\",\"field-class\":{\"type\":\"structure\",\"member-classes\":[";
            for (int k = 0; k < 10; ++k)
                json += std::string(k == 0 ? "" : ",") + "{\"name\":\"f" + std::to_string(k) +
                        "\",\"field-class\":\"a" + std::to_string(i - 1) + "\"}";
            json += "]}}\n";
        }
        for (const std::string& text : {mt::hostile::names_of_names(), json,
                                        "/* CTF 1.8 */" + std::string(200'000, '{'), "\x1e" + std::string(200'000, '['),
                                        std::string("/* CTF 1.8 */\nevent { id = 99999999999999999999; };\n")}) {
            fs::remove_all(here_ / "ctf");
            write(here_ / "ctf/metadata", text);
            write(here_ / "ctf/stream", std::string(65536, '\xC1'));
            judge(row, mtrail({"summary", (here_ / "ctf").string()}), text.substr(0, 60), 2, 500);
        }
        print(row);
    }

    void devices() {
        Row row{"pipes and devices in place of files", 0, 0, 0, 0};
        ::mkfifo((here_ / "pipe").c_str(), 0600);
        for (const std::string& device :
             {std::string("/dev/zero"), std::string("/dev/tty"), (here_ / "pipe").string()}) {
            judge(row, mtrail({"summary", device}), device, 2, 500);
            judge(row, mtrail({"record", "--recipe", device, "-o", (here_ / "r.mtrail").string()}), "recipe " + device,
                  2, 500);
            judge(row, mtrail({"ring", device}), "ring " + device, 2, 500);
            for (const char* key : {"image", "svd", "orti"}) {
                write(here_ / "d.target.toml",
                      target_text(
                          "[[stream]]\nfile = \"s\"\nprotocol = \"itm\"\ncore = \"main\"\n",
                          "isa = \"armv7e-m\"\nclock_hz = 1000000\n" + std::string(key) + " = \"" + device + "\"\n"));
                judge(row, mtrail({"summary", (here_ / "d.target.toml").string()}), std::string(key) + " " + device, 2,
                      500);
            }
        }
        print(row);
    }

    // Bytes without any sense, as every protocol.
    void noise() {
        Row row{"64 MB of noise as each protocol", 0, 0, 0, 0};
        {
            std::mt19937_64 random(seed_);
            std::ofstream out(here_ / "noise", std::ios::binary);
            std::vector<std::uint64_t> block(1 << 16);
            for (int i = 0; i < 128; ++i) {
                for (auto& w : block) w = random();
                out.write(reinterpret_cast<const char*>(block.data()), static_cast<std::streamsize>(block.size() * 8));
            }
        }
        const std::string riscv = (data_ / "steps/mount-cop.elf").string(),
                          arm = (data_ / "steps/mount-main.elf").string();
        for (const auto& [protocol, isa, image] : {std::tuple{"itm", "armv7e-m", arm},
                                                   {"etm4", "armv7e-m", arm},
                                                   {"mtb", "armv6-m", (data_ / "steps/paddle.elf").string()},
                                                   {"etrace", "rv32imac", riscv},
                                                   {"ntrace", "rv32imac", riscv}}) {
            write(here_ / "n.target.toml",
                  target_text(
                      "[[stream]]\nfile = \"noise\"\nprotocol = \"" + std::string(protocol) + "\"\ncore = \"main\"\n",
                      "isa = \"" + std::string(isa) + "\"\nclock_hz = 1000000\nimage = \"" + image + "\"\n"));
            judge(row, mtrail({"summary", (here_ / "n.target.toml").string()}, {60}), protocol, 10, 500);
        }
        fs::remove(here_ / "noise");
        print(row);
    }

    void links_and_names() {
        Row row{"recording folders that point elsewhere", 0, 0, 0, 0};
        write(here_ / "secret.svd",
              "<device><peripherals><peripheral><interrupt><name>SECRET</name><value>3</value></interrupt></"
              "peripheral></peripherals></device>");
        const std::string capture = read(data_ / "mount/capture.bin");
        int n = 0;
        for (const std::string& svd :
             {(here_ / "secret.svd").string(), std::string("../secret.svd"), std::string("images/link")}) {
            const fs::path folder = here_ / ("f" + std::to_string(n++) + ".mtrail");
            write(folder / "trail.toml",
                  "format = \"mindful-trail-recording/1\"\ntarget = \"recording.target.toml\"\n");
            write(folder / "streams/capture.bin", capture.substr(0, 200'000));
            fs::create_directories(folder / "images");
            fs::create_symlink(here_ / "secret.svd", folder / "images/link");
            write(folder / "recording.target.toml",
                  target_text("[[stream]]\nfile = \"streams/capture.bin\"\nprotocol = \"itm\"\ncore = \"main\"\n",
                              "isa = \"armv7e-m\"\nclock_hz = 72000000\nsvd = \"" + svd + "\"\n"));
            const Ended e = mtrail({"stats", folder.string(), "--of", "interrupts"});
            judge(row, e, svd);
            expect(row, e.said.find("SECRET") == std::string::npos, svd + " was read");
            const fs::path copy = here_ / ("copy" + std::to_string(n) + ".mtrail");
            judge(row, mtrail({"read", folder.string(), "-o", copy.string()}), "read " + svd);
            bool leaked = false;
            if (fs::exists(copy))
                for (const auto& file : fs::recursive_directory_iterator(copy))
                    leaked =
                        leaked || (file.is_regular_file() && read(file.path()).find("SECRET") != std::string::npos);
            expect(row, !leaked, svd + " was copied");
        }
        print(row);
    }

    void limits() {
        Row row{"few descriptors, little memory, small files", 0, 0, 0, 0};
        const std::string target = (data_ / "mount/mount.target.toml").string();
        for (const rlim_t n : {3, 4, 5, 8, 16})
            if (const Ended e = mtrail({"find", target}, {20, n});
                e.code != 127)  // else the loader did not get that far
                judge(row, e, std::to_string(n) + " descriptors");
        for (const rlim_t mb : {60, 100, 150, 250}) {
            const Ended e = mtrail({"summary", target}, {20, 0, mb << 20});
            // The loader itself may not get that far.
            if (e.code != 127) judge(row, e, std::to_string(mb) + " MB of address space");
        }
        for (const rlim_t kb : {1, 100, 1000}) {
            const fs::path out = here_ / "small.csv";
            write(out, "by hand");
            const Ended e = mtrail({"events", target, "--csv", "-o", out.string()}, {20, 0, 0, kb << 10});
            judge(row, e, std::to_string(kb) + " kB");
            expect(row, e.code == 0 || read(out) == "by hand", "what was there before is gone");
        }
        print(row);
    }

    // The stream is cut short by another program while it is read.
    void cut_short_meanwhile() {
        Row row{"streams cut short while they are read", 0, 0, 0, 0};
        const std::string capture = read(data_ / "mount/capture.bin");
        std::string large;
        while (large.size() < (24u << 20)) large += capture;
        for (int i = 0; i < 6; ++i) {
            write(here_ / "s", large);
            write(here_ / "c.target.toml",
                  target_text("[[stream]]\nfile = \"s\"\nprotocol = \"itm\"\ncore = \"main\"\n"));
            judge(row,
                  mtrail({"summary", (here_ / "c.target.toml").string()}, {},
                         [&](pid_t) {
                             std::this_thread::sleep_for(std::chrono::milliseconds(10 + 25 * i));
                             fs::resize_file(here_ / "s", static_cast<std::uintmax_t>(i) * 1000);
                         }),
                  "cut after " + std::to_string(10 + 25 * i) + " ms");
        }
        print(row);
    }

    std::string recipe(const std::string& port, const std::string& rest) {
        write(here_ / "board.target.toml", target_text("[[stream]]\nprotocol = \"itm\"\ncore = \"main\"\n",
                                                       "isa = \"armv7e-m\"\nclock_hz = 120000000\n"));
        write(here_ / "r.recipe.toml",
              "format = \"mindful-trail-recipe/1\"\nname = \"r\"\ntarget = \"board.target.toml\"\n[[connect]]\ncore = "
              "\"main\"\ntrace = "
              "\"tcp\"\naddress = \"127.0.0.1:" +
                  port + "\"\n[record]\n" + rest);
        return (here_ / "r.recipe.toml").string();
    }
    // A board in the background while `use(port of its trace)` runs.
    void with_board(const std::function<void(const std::string&)>& use) {
        const fs::path ports = here_ / "ports.toml";
        fs::remove(ports);
        const pid_t pid = ::fork();
        if (pid == 0) {
            const int out = ::open("/dev/null", O_WRONLY);
            ::dup2(out, 1);
            ::dup2(out, 2);
            ::execl(board_.c_str(), board_.c_str(), "--image", (demo() / "larkspur.elf").c_str(), "--cop",
                    (demo() / "larkspur-cop.elf").c_str(), "--gdb", "0", "--gdb-cop", "0", "--trace", "0", "--events",
                    "0", "--trace-cop", "0", "--probe", "0", "--ports-file", ports.c_str(), static_cast<char*>(nullptr));
            ::_exit(127);
        }
        std::string text;
        for (int i = 0; i < 500 && text.find("trace = ") == std::string::npos; ++i) {
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
            text = read(ports);
        }
        const auto at = text.find("trace = ");
        if (at != std::string::npos) use(text.substr(at + 8, text.find('\n', at) - at - 8));
        ::kill(pid, SIGKILL);
        ::waitpid(pid, nullptr, 0);
    }
    fs::path demo() const { return data_.parent_path().parent_path() / "demo"; }

    // kill -9 at any moment leaves a recording that opens, or none.
    void killed_recordings() {
        Row row{"recordings killed at any moment", 0, 0, 0, 0};
        with_board([&](const std::string& port) {
            for (int i = 0; i < 6; ++i) {
                const fs::path folder = here_ / "killed.mtrail";
                fs::remove_all(folder);
                (void)mtrail({"record", "--recipe", recipe(port, "seconds = 10\n"), "-o", folder.string()}, {},
                             [&](pid_t pid) {
                                 std::this_thread::sleep_for(std::chrono::milliseconds(20 + 130 * i));
                                 ::kill(pid, SIGKILL);
                             });
                const bool any =
                    fs::exists(folder / "streams/main.trace") && fs::file_size(folder / "streams/main.trace") > 2000;
                const Ended e = mtrail({"summary", folder.string()});
                judge(row, e, "summary after the kill");
                expect(row, !any || e.code == 0, "a recording with bytes does not open: " + e.said);
            }
        });
        expect(row, row.tried > 0, "the board did not start");
        print(row);
    }

    void full_disk() {
        Row row{"files that may grow no further", 0, 0, 0, 0};
        with_board([&](const std::string& port) {
            const fs::path folder = here_ / "full.mtrail";
            const Ended e = mtrail({"record", "--recipe", recipe(port, "seconds = 10\n"), "-o", folder.string()},
                                   {20, 0, 0, 100'000});
            judge(row, e, "record", 15);
            expect(row, e.code == 2, "it is not said that not all could be written");
            expect(row, mtrail({"summary", folder.string()}).code == 0, "what was written does not open");
        });
        expect(row, row.tried > 0, "the board did not start");
        print(row);
    }

    std::string mtrail_, board_;
    fs::path data_, here_;
    std::uint64_t seed_;
    int tried_ = 0, failed_ = 0;
};

}  // namespace

int main(int argc, char** argv) {
    if (argc < 4) {
        std::fprintf(stderr, "adversary MTRAIL BOARD DATA [--mutations N] [--seed N]\n");
        return 2;
    }
    int mutations = 120;
    std::uint64_t seed = 1;
    for (int i = 4; i + 1 < argc; i += 2) {
        if (std::strcmp(argv[i], "--mutations") == 0) mutations = std::atoi(argv[i + 1]);
        if (std::strcmp(argv[i], "--seed") == 0) seed = std::strtoull(argv[i + 1], nullptr, 10);
    }
    return Adversary(argv[1], argv[2], fs::absolute(argv[3]), seed).all(mutations) ? 0 : 1;
}
