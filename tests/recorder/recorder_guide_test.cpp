// The listings of the recorder's guide compile as they stand there, against the recorder as it is.
#include <gtest/gtest.h>

#include <cstdlib>

#include "support.h"

namespace mt {
namespace {

std::vector<std::string> listings() {
    std::vector<std::string> all;
    bool inside = false;
    for (const std::string& line : test::lines(test::read_text(std::string(MT_DOCS) + "/recorder.md"))) {
        const auto from = line.find_first_not_of(' ');
        const std::string text = from == std::string::npos ? std::string() : line.substr(from);
        if (text == "```c") {
            all.emplace_back();
            inside = true;
        } else if (text == "```") {
            inside = false;
        } else if (inside) {
            all.back() += line + "\n";
        }
    }
    return all;
}

TEST(RecorderGuide, ListingsCompile) {
    const auto all = listings();
    ASSERT_EQ(all.size(), 3U) << "a firmware, hooks, a port";
    test::Folder folder;
    // What the hooks' system has, and a use of each.
    const std::string system =
        "#include <stdint.h>\nstruct task { unsigned uxTCBNumber, uxPriority; char pcTaskName[16]; } *pxCurrentTCB;\n"
        "struct queue { unsigned uxQueueNumber, uxMessagesWaiting; };\n";
    const std::string use =
        "void hooks(struct task *t, struct queue *q) { traceTASK_CREATE(t); traceTASK_SWITCHED_IN(); "
        "traceMOVED_TASK_TO_READY_STATE(t); traceTASK_DELAY_UNTIL(0); traceTASK_DELAY(); "
        "traceBLOCKING_ON_QUEUE_RECEIVE(q); traceQUEUE_SEND(q); traceQUEUE_RECEIVE(q); "
        "traceTASK_PRIORITY_INHERIT(t, 3); }\n";
    test::write_file(folder / "firmware.c", all[0]);
    test::write_file(folder / "hooks.c", system + all[1] + use);
    test::write_file(folder / "port.c", "#include <stddef.h>\n#include <stdint.h>\n" + all[2] +
                                            "int (*used)(const void *, size_t) = to_port;\n");
    for (const char* file : {"firmware.c", "hooks.c", "port.c"}) {
        const std::string command =
            std::string("cc -std=c99 -Wall -Wextra -Werror -Wno-int-to-pointer-cast -fsyntax-only -I") + MT_RECORDER +
            " " + (folder / file) + " 2> " + (folder / "errors");
        EXPECT_EQ(std::system(command.c_str()), 0) << file << ": " << test::read_text(folder / "errors");
    }
}

// What the table says there is, there is.
TEST(RecorderGuide, NamesEveryMacro) {
    const std::string guide = test::read_text(std::string(MT_DOCS) + "/recorder.md");
    for (const std::string& line : test::lines(test::read_text(std::string(MT_RECORDER) + "/mt_recorder.h"))) {
        if (!line.starts_with("#define MT_") || line.find('(') == std::string::npos) continue;
        const std::string name = line.substr(8, line.find('(') - 8);
        EXPECT_NE(guide.find(name), std::string::npos) << name;
    }
}

}  // namespace
}  // namespace mt
