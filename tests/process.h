// Child processes for tests: the simulated board, the command line, and real debug servers.
#pragma once

#include <fcntl.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <map>
#include <sstream>
#include <string>
#include <thread>
#include <vector>

#include "support.h"

namespace mt::test {

/// Starts a program and ends it when it goes out of scope.
class Process {
  public:
    Process(std::vector<std::string> arguments, const std::string& output = "/dev/null",
            rlim_t file_limit = RLIM_INFINITY) {
        pid_ = ::fork();
        if (pid_ != 0) return;
        const int out = ::open(output.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644), in = ::open("/dev/null", O_RDONLY);
        ::dup2(in, 0);
        ::dup2(out, 1);
        ::dup2(out, 2);
        if (file_limit != RLIM_INFINITY) {
            ::signal(SIGXFSZ, SIG_IGN);
            const rlimit limit{file_limit, file_limit};
            ::setrlimit(RLIMIT_FSIZE, &limit);
        }
        std::vector<char*> argv;
        for (auto& a : arguments) argv.push_back(a.data());
        argv.push_back(nullptr);
        ::execvp(argv[0], argv.data());
        ::_exit(127);
    }
    ~Process() {
        if (!reaped_) end(SIGKILL);
    }
    Process(const Process&) = delete;
    Process& operator=(const Process&) = delete;

    void signal(int number) { ::kill(pid_, number); }
    int end(int number) {
        signal(number);
        return wait();
    }
    /// The exit code; 128 + signal if it was killed.
    int wait() {
        int status = 0;
        ::waitpid(pid_, &status, 0);
        reaped_ = true;
        return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    }
    bool running() {
        int status = 0;
        if (reaped_ || ::waitpid(pid_, &status, WNOHANG) == 0) return !reaped_;
        reaped_ = true;
        return false;
    }

  private:
    pid_t pid_ = -1;
    bool reaped_ = false;
};

/// What a command said, on both of its outputs, and how it ended.
struct Outcome {
    int code;
    std::string said;
};
inline Outcome outcome_of(const Folder& folder, std::vector<std::string> command) {
    Process p(std::move(command), folder / "said");
    const int code = p.wait();
    return {code, read_text(folder / "said")};
}
inline Outcome mtrail(const Folder& folder, std::vector<std::string> arguments) {
    arguments.insert(arguments.begin(), MT_CLI);
    return outcome_of(folder, std::move(arguments));
}

/// Waits until `is` holds; false after `seconds`.
template <class F>
bool wait_until(F is, double seconds = 60) {
    const auto until = std::chrono::steady_clock::now() + std::chrono::duration<double>(seconds);
    while (std::chrono::steady_clock::now() < until) {
        if (is()) return true;
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    return is();
}

/// A running mtrail-board on ports of its own.
class Board {
  public:
    explicit Board(std::vector<std::string> more = {}, const std::string& gdb = "0", const std::string& trace = "0")
        : process_(arguments(more, folder_ / "ports.toml", gdb, trace)) {
        listening_ = wait_until([&] { return std::filesystem::exists(folder_ / "ports.toml"); });
        std::istringstream in(read_text(folder_ / "ports.toml"));
        for (std::string key, equals, value; in >> key >> equals >> value;) {
            if (value.front() == '"') value = value.substr(1, value.size() - 2);
            values_[key] = value;
        }
    }
    bool listening() const { return listening_; }
    std::string gdb() const { return "127.0.0.1:" + values_.at("gdb_main"); }
    std::string gdb_cop() const { return "127.0.0.1:" + values_.at("gdb_cop"); }
    std::string trace() const { return "127.0.0.1:" + values_.at("trace"); }
    std::string events() const { return "127.0.0.1:" + values_.at("events"); }
    std::string probe() const { return "127.0.0.1:" + values_.at("probe"); }
    std::string trace_cop() const { return "127.0.0.1:" + values_.at("trace_cop"); }
    std::string terminal() const { return values_.at("terminal"); }
    Process& process() { return process_; }

  private:
    static std::vector<std::string> arguments(const std::vector<std::string>& more, const std::string& ports,
                                              const std::string& gdb, const std::string& trace) {
        std::vector<std::string> all = {MT_BOARD,
                                        "--image",
                                        MT_DEMO "/larkspur.elf",
                                        "--cop",
                                        MT_DEMO "/larkspur-cop.elf",
                                        "--gdb",
                                        gdb,
                                        "--gdb-cop",
                                        "0",
                                        "--trace",
                                        trace,
                                        "--events",
                                        "0",
                                        "--trace-cop",
                                        "0",
                                        "--probe",
                                        "0",
                                        "--ports-file",
                                        ports};
        all.insert(all.end(), more.begin(), more.end());
        return all;
    }
    Folder folder_;
    Process process_;
    bool listening_ = false;
    std::map<std::string, std::string> values_;
};

/// A TCP port of this machine that was free a moment ago.
inline unsigned free_port() {
    const int s = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    ::bind(s, reinterpret_cast<sockaddr*>(&at), sizeof at);
    socklen_t size = sizeof at;
    ::getsockname(s, reinterpret_cast<sockaddr*>(&at), &size);
    ::close(s);
    return ntohs(at.sin_port);
}

/// The text of a recipe for one core. Its patience is long: the machine that runs the tests may stand still for seconds.
inline std::string recipe_text_for(const std::string& connect, const std::string& rest = "[record]\nseconds = 0.6\n",
                                   const std::string& target = MT_DEMO "/larkspur.target.toml",
                                   const std::string& core = "main") {
    return "format = \"mindful-trail-recipe/1\"\nname = \"test\"\npatience_ms = 30000\ntarget = \"" + target + "\"\n[[connect]]\ncore = \"" +
           core + "\"\n" + connect + rest;
}
inline std::string tcp(const std::string& address) { return "trace = \"tcp\"\naddress = \"" + address + "\"\n"; }

}  // namespace mt::test
