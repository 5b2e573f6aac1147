// An event trace of any length, written to a folder of its own.
#pragma once

#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <string>

#include "share/ctf_writer.h"

namespace mt::bench {

// Eight tasks that take turns under an interrupt each millisecond, with a lock now and then. MT_BENCH_EVENTS sets how
// many events; the folder stays until the run ends.
class LongTrace {
  public:
    LongTrace() : folder_(std::filesystem::temp_directory_path() / ("mtrail-events-" + std::to_string(::getpid()))) {
        const char* wanted = std::getenv("MT_BENCH_EVENTS");
        const std::uint64_t events = wanted != nullptr ? std::strtoull(wanted, nullptr, 10) : 4'000'000;
        auto writer = CtfWriter::create(folder_.string(), {"bench", 100'000'000, 1});
        if (!writer) std::abort();
        OsBlock texts;
        std::int64_t ticks = 0;
        const auto put = [&](OsKind kind, std::uint32_t subject, std::int64_t value = 0, std::uint8_t code = 0) {
            OsEvent e;
            e.kind = kind;
            e.subject = subject;
            e.value = value;
            e.code = code;
            (*writer)->write(e, ticks += 97 + static_cast<std::int64_t>(subject), texts);
        };
        for (std::uint32_t i = 0; i < 9; ++i) {
            texts.texts = {"task" + std::to_string(i)};
            put(OsKind::task_create, i, text_and_priority(0, static_cast<int>(i)));
        }
        put(OsKind::task_switch_in, 0);
        for (std::uint64_t n = 0; n < events; n += 8) {
            const auto id = static_cast<std::uint32_t>(n / 8 % 8 + 1);
            put(OsKind::isr_enter, 15);
            put(OsKind::task_ready, id);
            put(OsKind::isr_exit, 15);
            put(OsKind::task_switch_in, id);
            put(OsKind::mutex_take, 50 + id % 2);
            put(OsKind::mutex_give, 50 + id % 2);
            put(OsKind::task_block, id, 0, 0);
            put(OsKind::task_switch_in, 0);
        }
        if (!(*writer)->finish()) std::abort();
    }
    ~LongTrace() {
        std::error_code ec;
        std::filesystem::remove_all(folder_, ec);
    }
    std::string path() const { return folder_.string(); }

  private:
    std::filesystem::path folder_;
};

}  // namespace mt::bench
