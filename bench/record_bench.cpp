// Records from a loopback sender into the window, and tells what that costs: bytes and decoding per second, memory,
// and how long the window's thread was ever kept from its events while a person zooms and pans.
//   mtrail-record-bench BOARD DEMO-FOLDER [MB/s] [seconds] [one]
// "one": all but the sender has one core.
#include <QApplication>
#include <QElapsedTimer>
#include <QSettings>
#include <QTemporaryDir>
#include <QTimer>
#include <QWheelEvent>

#include <fcntl.h>
#include <sched.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <fstream>

#include "look/theme.h"
#include "process.h"
#include "process_memory.h"
#include "shell/main_window.h"

namespace {

constexpr int kSender = 0, kOurs = 1;  // cores: interrupts are usually served by the first

double seconds_of(const timeval& t) { return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) / 1e6; }
// Processor time of this process, or of this thread alone.
double processor_seconds(int who) {
    rusage use{};
    ::getrusage(who, &use);
    return seconds_of(use.ru_utime) + seconds_of(use.ru_stime);
}

// How long this core was taken away by the host so far ("steal" in proc(5)); 0 where nobody tells.
double stolen_seconds(int core) {
    std::ifstream in("/proc/stat");
    const std::string wanted = "cpu" + std::to_string(core);
    for (std::string line; std::getline(in, line);) {
        std::istringstream words(line);
        std::string name;
        double ticks = 0;
        words >> name;
        if (name != wanted) continue;
        for (int i = 0; i < 8; ++i) words >> ticks;
        return ticks / static_cast<double>(::sysconf(_SC_CLK_TCK));
    }
    return 0;
}

// Of this thread: how long it ran, and how long it waited for a processor though it could run (schedstats, seconds).
std::pair<double, double> ran_and_waited() {
    static const int file = ::open("/proc/thread-self/schedstat", O_RDONLY | O_CLOEXEC);
    char text[64] = {};
    if (::pread(file, text, sizeof text - 1, 0) <= 0) return {};
    char* rest = nullptr;
    const double ran = std::strtod(text, &rest);
    return {ran * 1e-9, std::strtod(rest, nullptr) * 1e-9};
}

// This process, and those that it starts from now on, run on this core.
void stay_on(int core) {
    cpu_set_t use;
    CPU_ZERO(&use);
    CPU_SET(core, &use);
    ::sched_setaffinity(0, sizeof use, &use);
}

}  // namespace

int main(int argc, char** argv) {
    if (argc < 3) {
        std::fprintf(stderr, "mtrail-record-bench BOARD DEMO-FOLDER [MB/s] [seconds] [one]\n");
        return 2;
    }
    const std::string board = argv[1], demo = std::filesystem::absolute(argv[2]).string(),
                      rate = argc > 3 ? argv[3] : "50";
    const bool one_core = argc > 5 && argv[5] == std::string("one");
    const double seconds = argc > 4 ? std::atof(argv[4]) : 20;
    if (one_core) stay_on(kSender);
    mt::test::Folder folder;
    mt::test::Process sender({board, "--image", demo + "/larkspur.elf", "--gdb", "0", "--events", "0", "--trace", "0",
                              "--ports-file", folder / "ports.toml", "--flood", demo + "/larkspur-night.swo",
                              "--flood-rate", rate});
    if (one_core) stay_on(kOurs);
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication app(argc, argv);
    QTemporaryDir settings;
    QSettings::setPath(QSettings::NativeFormat, QSettings::UserScope, settings.path());
    mt::app::apply_theme(false);

    mt::test::wait_until([&] { return std::filesystem::exists(folder / "ports.toml"); });
    std::string port;
    std::istringstream ports(mt::test::read_text(folder / "ports.toml"));
    for (std::string key, equals, value; ports >> key >> equals >> value;)
        if (key == "trace") port = value;
    mt::test::write_file(folder / "r.recipe.toml",
                         mt::test::recipe_text_for(mt::test::tcp("127.0.0.1:" + port),
                                                   "[record]\nseconds = " + std::to_string(seconds) + "\n",
                                                   demo + "/larkspur.target.toml"));
    mt::app::MainWindow window;
    window.show();
    window.open(QString::fromStdString(folder / "r.recipe.toml"));
    window.desk().record().start();
    if (!window.desk().record().live().active()) {
        std::fprintf(stderr, "cannot record: %s\n", qPrintable(window.notice_text()));
        return 2;
    }

    // A heartbeat each 2 ms: what lies between two beats beyond that, something else had the thread.
    std::vector<double> late;
    const double before = processor_seconds(RUSAGE_SELF), window_before = processor_seconds(RUSAGE_THREAD),
                 stolen_before = stolen_seconds(kOurs);
    QElapsedTimer clock;
    clock.start();
    qint64 last = clock.nsecsElapsed();
    struct {
        double late = 0, at = 0, ran = 0, waited = 0;
    } worst;
    auto mark = ran_and_waited();
    QTimer beat;
    beat.setTimerType(Qt::PreciseTimer);
    QObject::connect(&beat, &QTimer::timeout, [&] {
        const qint64 now = clock.nsecsElapsed();
        late.push_back(static_cast<double>(now - last) / 1e6 - 2);
        last = now;
        const auto here = ran_and_waited();
        if (late.back() > worst.late)
            worst = {late.back(), static_cast<double>(now) / 1e9, 1e3 * (here.first - mark.first),
                     1e3 * (here.second - mark.second)};
        mark = here;
    });
    beat.start(2);
    QTimer person;  // zooms and pans ten times a second
    int turn = 0;
    QObject::connect(&person, &QTimer::timeout, [&] {
        if (!window.desk().lanes()->isVisible()) return;
        const QPointF at(700, 200);
        const int step = ++turn / 12 % 2 == 0 ? -120 : 120;
        QWheelEvent wheel(at, window.desk().lanes()->mapToGlobal(at), {}, {0, step}, Qt::NoButton,
                          turn % 3 == 0 ? Qt::ShiftModifier : Qt::NoModifier, Qt::NoScrollPhase, false);
        QApplication::sendEvent(window.desk().lanes(), &wheel);
        if (turn % 60 == 0) window.desk().viewpoint().follow(true, mt::Time::from_ms(1000));
    });
    person.start(100);
    std::uint64_t decoded_at_stop = 0, bytes = 0;
    QObject::connect(&window.desk().record().live(), &mt::app::LiveSession::renewed, [&] {
        if (!window.desk().record().live().recording()) return;
        bytes = window.desk().record().live().state().bytes;
        decoded_at_stop =
            window.desk().record().live().figures().empty() ? 0 : window.desk().record().live().figures()[0].decoded;
    });
    QObject::connect(&window.desk().record().live(), &mt::app::LiveSession::ended, [&] { QApplication::exit(0); });
    QApplication::exec();
    const double done_after = static_cast<double>(clock.nsecsElapsed()) / 1e9 - seconds;

    const double used = processor_seconds(RUSAGE_SELF) - before,
                 window_used = processor_seconds(RUSAGE_THREAD) - window_before,
                 stolen = stolen_seconds(kOurs) - stolen_before;

    std::sort(late.begin(), late.end());
    const auto at = [&](double share) {
        return late.empty() ? 0 : late[static_cast<std::size_t>(share * static_cast<double>(late.size() - 1))];
    };
    std::printf("recorded          %.0f MB in %.0f s (%.1f MB/s), %.0f MB decoded meanwhile (%.1f MB/s)\n",
                static_cast<double>(bytes) / 1e6, seconds, static_cast<double>(bytes) / 1e6 / seconds,
                static_cast<double>(decoded_at_stop) / 1e6, static_cast<double>(decoded_at_stop) / 1e6 / seconds);
    std::printf("processor time    %.1f s, %.1f s of it for the window\n", used, window_used);
    if (one_core) std::printf("on one core       besides the sender; the host took %.1f s of it away\n", stolen);
    std::printf("done              %.1f s after the end\n", done_after);
    std::printf("window's thread   kept for at most %.1f ms; 99.9 %% under %.1f ms, 99 %% under %.1f ms\n", at(1),
                at(0.999), at(0.99));
    std::printf(
        "                  (the longest after %.1f s: %.1f ms of it running, %.1f ms waiting for a processor)\n",
        worst.at, worst.ran, worst.waited);
    std::printf("memory            %.0f MB at its peak, %.0f MB of it not backed by files at the end\n",
                mt::bench::status_megabytes("VmHWM:"), mt::bench::status_megabytes("RssAnon:"));
    std::fflush(stdout);
    sender.end(SIGKILL);
    std::error_code ec;
    std::filesystem::remove_all(folder.path(), ec);
    settings.remove();
    std::_Exit(0);  // nothing waits for the rest
}
