// Opens a recording in the window and tells when the first picture stands there, and how long a frame of the lanes
// takes while a person zooms from the whole to a few instances and pans.
//   mtrail-frames-bench INPUT
//   mtrail-frames-bench --events     an event trace of MT_BENCH_EVENTS events (4 million), made for the purpose
#include <time.h>

#include <QApplication>
#include <QElapsedTimer>
#include <QSettings>
#include <QTemporaryDir>

#include <algorithm>
#include <cstdio>
#include <memory>
#include <random>

#include "long_trace.h"
#include "look/theme.h"
#include "process_memory.h"
#include "shell/main_window.h"

namespace {

// Of this thread, in ms: what a frame costs where nobody else wants the processor.
double processor_ms() {
    timespec t{};
    ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
    return static_cast<double>(t.tv_sec) * 1e3 + static_cast<double>(t.tv_nsec) / 1e6;
}

double at_share(const std::vector<double>& sorted, double share) {
    return sorted.empty() ? 0 : sorted[static_cast<std::size_t>(share * static_cast<double>(sorted.size() - 1))];
}

}  // namespace

int main(int argc, char** argv) {
    if (argc != 2) {
        std::fprintf(stderr, "mtrail-frames-bench INPUT | --events\n");
        return 2;
    }
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication app(argc, argv);
    QTemporaryDir settings;
    QSettings::setPath(QSettings::NativeFormat, QSettings::UserScope, settings.path());
    mt::app::apply_theme(false);
    std::unique_ptr<mt::bench::LongTrace> made;
    QString input = argv[1];
    if (input == "--events") {
        made = std::make_unique<mt::bench::LongTrace>();
        input = QString::fromStdString(made->path());
    }
    mt::app::MainWindow window;
    window.resize(1280, 800);
    window.show();
    QApplication::processEvents();

    QElapsedTimer clock;
    clock.start();
    double first = 0, complete = 0;
    QObject::connect(&window.document(), &mt::app::Document::grew, [&] {
        if (first != 0) return;
        window.desk().lanes()->repaint();
        first = static_cast<double>(clock.nsecsElapsed()) / 1e9;
    });
    QObject::connect(&window.document(), &mt::app::Document::finished, [&] {
        complete = static_cast<double>(clock.nsecsElapsed()) / 1e9;
        QApplication::exit(0);
    });
    QObject::connect(&window.document(), &mt::app::Document::failed, [] { QApplication::exit(2); });
    window.open(input);
    const int opened = QApplication::exec();
    QApplication::processEvents();
    if (opened != 0 || !window.document().trail()) {
        std::fprintf(stderr, "%s cannot be opened: %s\n", qPrintable(input), qPrintable(window.notice_text()));
        return 2;
    }

    std::vector<double> frames;
    double most_processor = 0;
    std::mt19937_64 random(1);
    mt::app::Viewpoint& view = window.desk().viewpoint();
    const mt::Time end = window.document().trail()->end;
    for (int turn = 0; turn < 40; ++turn) {
        view.show({}, end);
        const double centre = static_cast<double>(random() % 1000) / 1000;
        for (int step = 0; step < 24; ++step) {
            if (step > 0)
                view.zoom(step % 4 == 3 ? 1.1 : 0.45,
                          {static_cast<std::int64_t>(centre * static_cast<double>(end.ps))});
            const qint64 from = clock.nsecsElapsed();
            const double processor = processor_ms();
            window.desk().lanes()->repaint();
            most_processor = std::max(most_processor, processor_ms() - processor);
            frames.push_back(static_cast<double>(clock.nsecsElapsed() - from) / 1e6);
        }
    }
    std::sort(frames.begin(), frames.end());
    std::printf("first picture     %.2f s after opening; all decoded and judged after %.2f s\n", first, complete);
    std::printf(
        "frames of lanes   %zu: median %.1f ms, 99 %% under %.1f ms, worst %.1f ms (%.1f ms of processor time at the "
        "most)\n",
        frames.size(), at_share(frames, 0.5), at_share(frames, 0.99), frames.back(), most_processor);
    std::printf("memory            %.0f MB at its peak, %.0f MB of it not backed by files at the end\n",
                mt::bench::status_megabytes("VmHWM:"), mt::bench::status_megabytes("RssAnon:"));
    std::fflush(stdout);
    made.reset();
    std::_Exit(0);  // nothing waits for the rest
}
