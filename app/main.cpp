// mindful-trail: the window. With --picture it draws itself once into a PNG and ends.
#include <QAction>
#include <QApplication>
#include <QComboBox>
#include <QCommandLineParser>
#include <QLineEdit>
#include <QPushButton>
#include <QSettings>
#include <QTemporaryDir>
#include <QTimer>
#include <QToolButton>

#include <cstdio>
#include <exception>
#include <functional>

#include "look/theme.h"
#include "shell/beside.h"
#include "shell/main_window.h"

namespace {

// "1280x800" → size; invalid if it is no such thing.
QSize size_of(const QString& text) {
    const QStringList parts = text.split('x');
    return parts.size() == 2 ? QSize(parts[0].toInt(), parts[1].toInt()) : QSize();
}

// What goes wrong while one event is handled ends neither the program nor a recording that is being made.
class Application : public QApplication {
  public:
    using QApplication::QApplication;

    bool notify(QObject* receiver, QEvent* event) override {
        try {
            return QApplication::notify(receiver, event);
        } catch (const std::exception& e) {
            std::fprintf(stderr, "mindful-trail: this went wrong inside: %s\n", e.what());
            return false;
        }
    }
};

// Looks again and again whether it is so, and then does it; after a minute it does it anyway.
void when(QObject* of, const std::function<bool()>& is, const std::function<void()>& then) {
    constexpr int kEvery = 100, kMost = 60'000;
    auto* timer = new QTimer(of);
    QObject::connect(timer, &QTimer::timeout, of, [timer, is, then, looked = 0]() mutable {
        if (!is() && ++looked * kEvery < kMost) return;
        timer->deleteLater();
        timer->stop();
        then();
    });
    timer->start(kEvery);
}

// What needs no screen works without one; the rest says so. False: there is nowhere to show a window.
bool find_a_screen(int argc, char** argv) {
    if (!qEnvironmentVariableIsEmpty("DISPLAY") || !qEnvironmentVariableIsEmpty("WAYLAND_DISPLAY") ||
        !qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM"))
        return true;
    for (int i = 1; i < argc; ++i) {
        const QByteArray word(argv[i]);
        if (word.startsWith("--picture") || word == "--help" || word == "-h" || word == "--help-all" ||
            word == "--version" || word == "-v") {
            qputenv("QT_QPA_PLATFORM", "offscreen");
            return true;
        }
    }
    std::fprintf(stderr,
                 "mindful-trail: there is no display: set DISPLAY or WAYLAND_DISPLAY, use --picture FILE, or mtrail, "
                 "which needs none\n");
    return false;
}

}  // namespace

int main(int argc, char** argv) {
    if (!find_a_screen(argc, argv)) return 2;
    Application app(argc, argv);
    QApplication::setApplicationName("mindful-trail");
    QApplication::setOrganizationName("mindful-trail");
    QApplication::setApplicationDisplayName("Mindful Trail");
    QApplication::setApplicationVersion("0.1.0");
    Q_INIT_RESOURCE(resources);
    QApplication::setWindowIcon(QIcon(":/mindful-trail.svg"));
    // A text size other than the usual one scales all type.
    app.setProperty("mtTextScale", QApplication::font().pointSizeF() > 0
                                       ? std::min(2.5, QApplication::font().pointSizeF() / 10.0)
                                       : 1.0);
    mt::app::apply_theme(false);

    QCommandLineParser parser;
    parser.setApplicationDescription("Mindful Trail: trace recordings of embedded targets, from bytes to a cause.");
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addPositionalArgument(
        "INPUT", "a *.target.toml, a *.mtrail folder, the folder of a CTF trace or a *.recipe.toml to open", "[INPUT]");
    const QCommandLineOption picture("picture", "Draw the window into this PNG and end.", "FILE");
    const QCommandLineOption view(
        "view",
        "What the picture shows: whole, finding=N, go=NAME, startup, measures, measures=TABLE, packets, samples, key, start, "
        "steps=FUNCTION, lines=FUNCTION, stack=FUNCTION, even=FUNCTION, source=FUNCTION, tree=FUNCTION, state=FUNCTION, "
        "code=FUNCTION, functions, interplay, target=TABLE, leave, search=TEXT, help=TEXT; of a recipe: recipe, trace, "
        "recording=SECONDS, hand=FUNCTION, line.",
        "VIEW", "whole");
    const QCommandLineOption size("size", "Size of the window.", "WxH", "1280x800");
    const QCommandLineOption night("night", "Night colours.");
    parser.addOptions({picture, view, size, night});
    parser.process(app);

    // A picture leaves no trace in the person's settings.
    QTemporaryDir apart;
    if (parser.isSet(picture)) QSettings::setPath(QSettings::NativeFormat, QSettings::UserScope, apart.path());

    mt::app::MainWindow window;
    const QSize wanted = size_of(parser.value(size));
    if (wanted.isValid() && wanted.width() >= 640) window.resize(wanted);
    if (parser.isSet(night)) window.set_night(true);
    const QStringList inputs = parser.positionalArguments();
    if (!inputs.isEmpty()) window.open(inputs.front());
    window.show();
    if (!parser.isSet(picture)) return QApplication::exec();

    bool failed = false;
    const auto draw = [&] {
        const QString v = parser.value(view);
        if (v.startsWith("finding="))
            window.desk().navigator().go_to_finding(static_cast<std::size_t>(v.mid(8).toInt() - 1));
        if (v == "measures") window.desk().show_measures(true);
        if (v.startsWith("measures=")) {
            window.desk().show_measures(true);
            const auto choose = [&window, v] { window.desk().measures_page()->choose(v.mid(9).toStdString()); };
            choose();
            QObject::connect(&window.desk().document(), &mt::app::Document::measured, &window, choose);
        }
        if (v == "startup") window.desk().show_start(true);
        if (v.startsWith("go=")) window.desk().navigator().go_to_text(v.mid(3));
        if (v == "packets") {
            window.desk().navigator().go_to_finding(1);
            window.desk().evidence()->show_page("packets");
        }
        if (v == "samples") {
            window.desk().navigator().go_to_finding(2);
            window.desk().evidence()->show_page("samples");
        }
        if (v.startsWith("steps=")) {
            window.desk().functions()->choose(v.mid(6));
            window.desk().evidence()->show_page(window.desk().footsteps());
        }
        if (v.startsWith("lines=") || v.startsWith("stack=") || v.startsWith("even=")) {
            const bool lines = v.startsWith("lines=");
            window.desk().functions()->choose(v.section('=', 1));
            window.desk().evidence()->show_page(window.desk().footsteps());
            window.desk().footsteps()->set_fold(lines ? mt::app::Footsteps::Fold::lines
                                                      : mt::app::Footsteps::Fold::stack);
            if (v.startsWith("even=")) window.desk().show_even(true);
        }
        if (v.startsWith("source=")) {
            window.desk().evidence()->show_page(window.desk().source());
            window.desk().source()->set_mixed(true);
            window.desk().functions()->choose(v.mid(7));
        }
        if (v.startsWith("state=")) {
            window.desk().functions()->choose(v.mid(6));
            window.desk().show_evidence(window.desk().state());
        }
        if (v.startsWith("tree=")) {
            window.desk().functions()->choose(v.mid(5));
            window.desk().evidence()->show_page(window.desk().call_tree());
        }
        if (v.startsWith("code=")) {
            window.desk().arrangement().use(mt::app::Arrangement::Name::code);
            window.desk().functions()->choose(v.mid(5));
        }
        if (v.startsWith("search=")) {
            window.tools().search().begin();
            window.tools().search().insert(v.mid(7));
            emit window.tools().search().textEdited(v.mid(7));
        }
        if (v == "interplay") {
            window.desk().evidence()->show_page("interplay");
            window.desk().evidence()->set_larger(true);
            QTimer::singleShot(400, &window, [&] {  // the lock that somebody had to wait for longest
                auto* p = window.desk().interplay()->picture();
                const auto& edges = p->interplay().edges;
                std::optional<std::size_t> worst;
                for (std::size_t i = 0; i < edges.size(); ++i)
                    if (edges[i].deed == mt::Deed::locks && (!worst || edges[i].worst_wait > edges[*worst].worst_wait))
                        worst = i;
                p->select_edge(worst);
                emit p->selected();
            });
        }
        if (v.startsWith("target")) {
            window.desk().target().show(true);
            window.desk().target().form()->show_part(v.mid(7), 0);
        }
        if (v == "leave") window.close_desk(window.desk());  // what the start page knows of it then
        if (v == "coverage" || v == "rules") window.desk().evidence()->show_page(v);
        if (v.startsWith("compare=")) {
            window.desk().evidence()->show_page("compare");
            // The other recording's lanes stand below, as a person would have them.
            QObject::connect(window.desk().compare(), &mt::app::ComparePage::compared, &window, [&window, path = v.mid(8)] {
                if (window.desk().compare()->found() != nullptr) emit window.desk().compare()->lanes_wanted(path);
            });
            window.desk().compare()->compare_with(v.mid(8));
        }
        if (v == "functions") window.desk().evidence()->show_page(window.desk().functions());
        if (v.startsWith("help")) {
            for (QAction* a : window.findChildren<QAction*>())
                if (a->shortcut() == QKeySequence(Qt::Key_F1)) a->trigger();
            if (auto* field = window.findChild<QLineEdit*>("help_search"); field != nullptr) field->setText(v.mid(5));
        }
        if (v == "key") {
            window.desk().navigator().go_to_finding(1);
            window.desk().lanes()->set_key_shown(true);
        }
        const auto grab = [&, v] {
            QWidget* beside = QApplication::activeWindow();  // the help stands in a window of its own
            const bool done = (v.startsWith("help") && beside != nullptr ? beside : &window)
                                  ->grab()
                                  .save(parser.value(picture), "PNG");
            if (!done)
                std::fprintf(stderr, "mindful-trail: cannot write: %s: check the folder\n",
                             qPrintable(parser.value(picture)));
            QApplication::exit(done && !failed ? 0 : 2);
        };
        // Plots and evidence arrive a little later than the figures; another recording when it is read.
        const bool compares = v.startsWith("compare=");
        when(&window,
             [&window, compares] {
                 if (!compares) return true;
                 const auto other = window.desk().beside()->document().trail();
                 return window.desk().compare()->found() != nullptr && other && other->complete;
             },
             [&window, v, grab] { QTimer::singleShot(v == "measures=charge" ? 8000 : 2000, &window, grab); });
    };
    const QString shown = parser.value(view);
    const bool in_hand = shown.startsWith("hand=");
    if (in_hand || shown.startsWith("recording=") || shown == "recipe" || shown == "line" || shown.startsWith("trace")) {
        const int ms = shown.startsWith("recording=") ? static_cast<int>(shown.mid(10).toDouble() * 1000) : 6000;
        QTimer::singleShot(100, &window, [&, shown] {
            if (shown == "recipe") window.desk().record().form()->findChild<QPushButton*>("recipe_test")->click();
            if (shown.startsWith("trace")) {
                auto* page = window.desk().record().trace();
                window.desk().record().ask_trace();
                page->look();
                QObject::connect(page, &mt::app::TracePage::looked, page, [page, shown] {
                    for (int i = 0; i < 64; ++i)  // trace=UNIT chooses it
                        if (!shown.mid(6).isEmpty() && page->picture()->name_of(i) == shown.mid(6))
                            page->picture()->choose(i);
                });
            }
            if (shown == "line") window.desk().record().check_line();
            if (in_hand || shown.startsWith("recording=")) window.desk().record().start();
        });
        const auto grab = [&] {
            QWidget* dialog = QApplication::activeModalWidget();
            const bool done = (dialog != nullptr ? dialog : &window)->grab().save(parser.value(picture), "PNG");
            const bool ran = !(in_hand || shown.startsWith("recording=")) || window.desk().record().live().active();
            if (!ran) std::fprintf(stderr, "mindful-trail: nothing was being recorded when the picture was drawn\n");
            if (window.desk().record().live().active()) window.desk().record().live().stop(false);
            QTimer::singleShot(600, &window, [done, ran] { QApplication::exit(done && ran ? 0 : 2); });
        };
        QTimer::singleShot(600, &window, [&] {
            if (auto* measure = window.findChild<QPushButton*>("line_start")) measure->click();
        });
        const auto measured = [&window] {  // it can be measured again
            const auto* measure = window.findChild<QPushButton*>("line_start");
            return measure != nullptr && measure->isEnabled();
        };
        const auto tested = [&window] {
            return window.desk().record().form()->findChild<QPushButton*>("recipe_test")->isEnabled();
        };
        if (in_hand) {  // the last core stops at that function, and goes a few lines on
            auto* hand = window.desk().hand();
            const auto recorded = [&window, hand] {
                const auto trail = window.document().trail();
                return hand->at_hand() && trail && !trail->steps.empty() && trail->steps[0].steps > 10'000;
            };
            when(&window, recorded, [&window, hand, shown, grab] {
                auto* cores = window.findChild<QComboBox*>("hand_core");
                cores->setCurrentIndex(cores->count() - 1);
                emit cores->activated(cores->currentIndex());
                auto* stop = window.findChild<QLineEdit*>("hand_add_point");
                stop->setText(shown.mid(5));
                emit stop->returnPressed();
                when(&window, [hand] { return !hand->stands().isEmpty(); }, [&window, hand, grab] {
                    window.desk().show_evidence(hand);
                    for (int i = 1; i <= 2; ++i)
                        QTimer::singleShot(700 * i, &window, [&window] { window.findChild<QToolButton*>("hand_line")->click(); });
                    QTimer::singleShot(3500, &window, grab);
                });
            });
        } else if (shown == "line")
            QTimer::singleShot(1500, &window, [&window, measured, grab] { when(&window, measured, grab); });
        else if (shown == "recipe")
            QTimer::singleShot(600, &window, [&window, tested, grab] {
                when(&window, tested, [&window, grab] { QTimer::singleShot(300, &window, grab); });  // once laid out
            });
        else
            QTimer::singleShot(ms, &window, grab);
    } else if (inputs.isEmpty() || parser.value(view) == "start")
        QTimer::singleShot(0, &window, draw);
    else {
        QObject::connect(&window.document(), &mt::app::Document::finished, &window, draw);
        QObject::connect(&window.document(), &mt::app::Document::failed, &window, [&](const mt::Problem& why) {
            failed = true;
            std::fprintf(stderr, "mindful-trail: %s\n", why.text().c_str());
            draw();
        });
    }
    return QApplication::exec();
}
