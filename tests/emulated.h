// A program that an emulator executes step by step, for what is held against it.
#pragma once

#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "control/debug_server.h"
#include "process.h"
#include "target/image.h"

namespace mt::test {

/// From its `start` to its `done`.
class Emulated : public testing::Test {
  protected:
    void begin(const std::string& elf, std::vector<std::string> command) {
        using namespace std::chrono_literals;
        const std::string path = MT_FIRMWARE "/" + elf;
        if (!std::filesystem::exists(path)) {
            if (std::getenv("CI") != nullptr) FAIL() << "clang-14 and lld-14 are needed to build the programs";
            GTEST_SKIP() << "clang-14 and lld-14 are not installed: the programs were not built";
        }
        const auto opened = Image::open(path);
        ASSERT_TRUE(opened) << opened.error().text();
        image = *opened;
        const std::string port = std::to_string(free_port());
        for (const char* rest : {"-display", "none", "-monitor", "none", "-serial", "none", "-S", "-kernel"}) command.push_back(rest);
        command.push_back(path);
        command.insert(command.end(), {"-gdb", "tcp:127.0.0.1:" + port});
        qemu = std::make_unique<Process>(command);
        wait_until([&] {
            auto s = DebugServer::connect("127.0.0.1:" + port, 10000ms);
            if (s) server = std::move(*s);
            return server != nullptr;
        });
        ASSERT_NE(server, nullptr);
        done = *image->address_of("done") & ~std::uint64_t{1};
        const std::uint64_t first = *image->address_of("start") & ~std::uint64_t{1};
        if (*server->pc() != first) {  // a loader of the emulator's own runs before
            ASSERT_TRUE(server->set_point(DebugServer::Point::software, first, 4));
            ASSERT_TRUE(server->resume());
            ASSERT_TRUE(server->wait(10000ms));
            ASSERT_TRUE(server->clear_point(DebugServer::Point::software, first, 4));
        }
        ASSERT_EQ(*server->pc(), first);
    }

    std::shared_ptr<const Image> image;
    std::unique_ptr<Process> qemu;
    std::unique_ptr<DebugServer> server;
    std::uint64_t done = 0;
};

}  // namespace mt::test
