#include "output.h"

#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <iostream>
#include <streambuf>

#include "base/plain_text.h"

namespace mt::cli {
namespace fs = std::filesystem;
namespace {

// Hands on whole lines with their control characters made visible.
class PlainLines : public std::streambuf {
  public:
    explicit PlainLines(std::streambuf& to) : to_(to) {}
    ~PlainLines() override { hand_on(); }

  protected:
    int_type overflow(int_type c) override {
        if (traits_type::eq_int_type(c, traits_type::eof())) return traits_type::not_eof(c);
        line_ += traits_type::to_char_type(c);
        if (line_.back() == '\n' || line_.size() > kMost) hand_on();
        return c;
    }
    std::streamsize xsputn(const char* s, std::streamsize n) override {
        for (std::streamsize i = 0; i < n; ++i) overflow(traits_type::to_int_type(s[i]));
        return n;
    }
    int sync() override { return to_.pubsync(); }

  private:
    static constexpr std::size_t kMost = 1 << 16;
    void hand_on() {
        const std::string plain = plain_text(line_);
        to_.sputn(plain.data(), static_cast<std::streamsize>(plain.size()));
        line_.clear();
    }
    std::streambuf& to_;
    std::string line_;
};

struct FileId {
    dev_t device = 0;
    ino_t inode = 0;
    bool operator==(const FileId&) const = default;
};

bool id_of(const std::string& path, FileId& id) {
    struct stat about {};
    if (path.empty() || ::stat(path.c_str(), &about) != 0 || S_ISCHR(about.st_mode)) return false;
    id = {about.st_dev, about.st_ino};
    return true;
}

}  // namespace

int fail(const Problem& problem) {
    say("mtrail: " + problem.text());
    return kCannot;
}

void say(const std::string& text) { std::cerr << plain_text(text) << "\n"; }

Inputs::Inputs(const Recording& r) {
    files = {r.target.path, r.input};
    for (const CoreSpec& c : r.target.cores) {
        files.insert(files.end(), {c.image, c.svd, c.orti});
        files.insert(files.end(), c.more_images.begin(), c.more_images.end());
    }
    for (const StreamSpec& s : r.target.streams)
        files.insert(files.end(), {s.file, s.file + ".journal", s.file + ".metadata", s.mapping, s.metadata,
                                   (fs::path(s.file) / "metadata").string()});
    for (const PortSpec& p : r.target.ports) files.push_back(p.metadata);
    if (r.events)
        for (const auto& f : r.events->files) files.push_back(f.path);
    files.push_back((fs::path(r.input) / "trail.toml").string());
}

std::string Inputs::hit(const std::string& path) const {
    FileId id, other;
    if (!id_of(path, id)) return {};
    for (const std::string& file : files)
        if (id_of(file, other) && other == id) return file;
    return {};
}

int write_to(const std::string& file, const Inputs& inputs, bool for_people,
             const std::function<void(std::ostream&)>& write) {
    if (file.empty() || file == "-") {
        if (for_people || ::isatty(STDOUT_FILENO) != 0) {
            PlainLines plain(*std::cout.rdbuf());
            std::ostream out(&plain);
            write(out);
        } else {
            write(std::cout);
        }
        std::cout.flush();
        return std::cout ? kDone : fail({"cannot write to standard output", "", ""});
    }
    if (const std::string input = inputs.hit(file); !input.empty())
        return fail({"would overwrite what is being read", input, "choose another name"});
    std::error_code ec;
    const auto kind = fs::status(file, ec).type();
    if (kind == fs::file_type::directory) return fail({"is a folder", file, "give a file's name"});
    const bool beside = kind == fs::file_type::regular || kind == fs::file_type::not_found;
    const fs::path place = beside && fs::exists(file, ec) ? fs::canonical(file, ec) : fs::path(file);
    const std::string part = beside ? place.string() + ".part-" + std::to_string(::getpid()) : place.string();
    std::ofstream out(part, std::ios::binary);
    if (!out) return fail({"cannot write", file, "check the folder and the permissions"});
    write(out);
    out.close();
    if (out && beside) fs::rename(part, place, ec);
    if (out && !ec) return kDone;
    if (beside) fs::remove(part, ec);
    return fail({"cannot write all of it", file, "is the disk full? What was there before is untouched"});
}

}  // namespace mt::cli
