// Traces of events that a test writes by hand.
#pragma once

#include "share/ctf_writer.h"
#include "support.h"

namespace mt::test {

inline OsEvent event(OsKind kind, std::uint32_t subject, std::int64_t value = 0, std::uint8_t code = 0) {
    OsEvent e;
    e.kind = kind;
    e.subject = subject;
    e.value = value;
    e.code = code;
    return e;
}
inline OsEvent next_job(std::uint32_t task) {
    return event(OsKind::task_block, task, 0, static_cast<std::uint8_t>(BlockReason::activation));
}

/// Events at microseconds of one clock, by core. All names in them are "work".
class WrittenEvents {
  public:
    explicit WrittenEvents(unsigned cores = 1)
        : writer_(std::move(*CtfWriter::create(folder_ / "t", {"written by hand", 1'000'000, cores}))) {
        texts_.texts = {"work"};
    }
    void write(std::int64_t us, OsEvent e, std::uint16_t core = 0) {
        e.core = core;
        writer_->write(e, us, texts_);
    }
    /// A task that runs from the beginning.
    void task(std::uint32_t id, std::uint16_t core = 0) {
        write(0, event(OsKind::task_create, id, text_and_priority(0, 3)), core);
        write(10, event(OsKind::task_switch_in, id), core);
    }
    /// No more will be written. May be asked again: what stands in the folder is decoded.
    Opened decode() {
        if (writer_) {
            EXPECT_TRUE(writer_->finish());
        }
        writer_.reset();
        return test::decode(folder_ / "t");
    }

  private:
    Folder folder_;
    std::unique_ptr<CtfWriter> writer_;
    OsBlock texts_;
};

}  // namespace mt::test
