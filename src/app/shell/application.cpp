#include "app/shell/application.h"
#include "app/calibration/sheet_paper.h"

#include <sys/socket.h>
#include <unistd.h>

#include <QApplication>
#include <QBuffer>
#include <QCursor>
#include <QPixmap>
#include <QSettings>
#include <QSocketNotifier>
#include <QTimer>
#include <QTranslator>
#include <array>
#include <cstdio>

#include "app/document/recovery.h"
#include "app/run/explanation_paper.h"
#include "app/shell/main_window.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/endings.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

std::array<int, 2> signalPipe{-1, -1};

void setUp() {
    QApplication::setApplicationName("Cruscotto");
    QApplication::setOrganizationName("Cruscotto");
    QApplication::setStyle("Fusion");
    static QTranslator translator;
    if (translator.load(QLocale(), "cruscotto", "_", ":/translations")) QApplication::installTranslator(&translator);
}

}  // namespace

void closeOnEndings(MainWindow& window, Recovery& recovery) {
    const auto close = [&window, &recovery] {
        recovery.leave(window.session().worthKeeping());
        window.closeWithoutAsking();
        QCoreApplication::exit(0);  // a dialog that is open would hold it up
    };
    QObject::connect(qGuiApp, &QGuiApplication::commitDataRequest, &window, close);
    if (socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, signalPipe.data()) != 0) return;
    auto* notifier = new QSocketNotifier(signalPipe[1], QSocketNotifier::Read, &window);
    QObject::connect(notifier, &QSocketNotifier::activated, &window, close);
    onEndingSignals([](int) {
        const char c = 1;
        [[maybe_unused]] const auto n = ::write(signalPipe[0], &c, 1);
    });
}

int runWindow(const WindowOptions& options, int argc, char** argv) {
    if (qEnvironmentVariableIsEmpty("DISPLAY") && qEnvironmentVariableIsEmpty("WAYLAND_DISPLAY") &&
        qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) {
        std::fputs("cruscotto: there is no display here. Use a command that needs none: cruscotto --help lists them.\n",
                   stderr);
        return 1;
    }
    QApplication app(argc, argv);
    setUp();
    applyTheme(QSettings().value("window/night").toBool());
    MainWindow window;
    if (!options.attached.empty()) window.findPanel().setRoot(options.attached);
    window.restoreSettings();
    Recovery recovery(Recovery::defaultFolder());
    closeOnEndings(window, recovery);
    QTimer keeping;
    QObject::connect(&keeping, &QTimer::timeout, &window, [&] { recovery.keep(window.session().worthKeeping()); });
    keeping.start(1000);
    if (auto left = recovery.take(QString::fromStdString(options.file))) {
        window.session().restore(std::move(*left));
        recovery.done(window.session().worthKeeping());
    } else if (!options.file.empty()) {
        window.openFile(QString::fromStdString(options.file),
                        options.drive ? Session::Outputs::drive : Session::Outputs::asKnown);
    } else {
        const QString last = QSettings().value("last/bench").toString();
        if (last.isEmpty()) {
            window.openExample("pump-bench");
        } else {
            // Where it is no longer there the example is shown, and the sentence that says why stays.
            QObject::connect(
                &window.session(), &Session::failed, &window,
                [&window] {
                    if (window.session().openedNothing()) window.session().openBench(":/examples/pump-bench.bench");
                },
                Qt::SingleShotConnection);
            window.openFile(last);
        }
    }
    window.show();
    return QApplication::exec();
}

int runPicture(const PictureOptions& options, int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    qputenv("QT_SCALE_FACTOR", QByteArray::number(options.scale));
    qputenv("TZ", "UTC");
    QApplication app(argc, argv);
    setUp();
    applyTheme(options.theme == "night");
    MainWindow window;
    window.forgetSettings();
    window.stopClock();
    window.resize(options.width, options.height);
    window.status().setFreeBytes(std::uint64_t{5} << 30);
    Session& session = window.session();
    const auto fail = [](const QString& why) {
        std::fprintf(stderr, "cruscotto: %s\n", qPrintable(why));
        return 3;
    };
    WireView* wire = nullptr;
    if (options.file.ends_with(".run")) {
        session.openRun(QString::fromStdString(options.file));
        while (!session.run() || !session.run()->state().done) {
            session.poll();
            if (!window.noticeText().isEmpty() && !session.run()) return fail(window.noticeText());
            QApplication::processEvents(QEventLoop::AllEvents, 10);
        }
        session.poll();
    } else {
        auto bench = loadBench(options.file, checkDevices);
        if (!bench) return fail(shown(bench.error().message));
        EngineOptions engine;
        engine.outputsAtRest = !options.drive && drivesOutside(bench.value());  // a picture is no reason for that
        engine.history.samples = std::size_t{1} << 18;
        engine.wallClock = [] { return std::int64_t{1'768'467'600'000'000'000}; };  // 2026-01-15 09:00 UTC
        if (const ProcedureSpec* procedure = bench.value().procedure(options.procedure)) engine.procedure = *procedure;
        const bool fast = allSimulated(bench.value());
        if (fast) {
            engine.pace = Pace::asFastAsPossible;
            engine.until = options.after;
        }
        session.openBenchDocument(std::move(bench.value()), engine);
        if (fast) session.engine()->wait();
        if (!options.wire.empty()) wire = window.openWire(QString::fromStdString(options.wire));
        // As fast as it goes, all has been measured that will be: devices may end sooner, or be none.
        while (!fast && session.engine()->now() < Instant{options.after.ns}) {
            if (wire) window.frame(true);
            QApplication::processEvents(QEventLoop::AllEvents, 10);
        }
        if (fast) session.engine()->mark({options.after.ns * 2 / 3}, "Valve half closed");
    }
    QCursor::setPos(-1, -1);  // nothing is lit because the pointer happens to be there
    window.show();
    if (!options.page.empty())
        for (const auto& page : session.bench().pages)
            if (page->name == options.page || page->id == options.page) window.page().showPage(shown(page->id));
    if (!options.chain.empty()) window.openChain(QString::fromStdString(options.chain));
    if (!options.sheet.empty()) {
        session.setToday("2026-01-15");  // the day of the pictures' clock
        window.openSheet(QString::fromStdString(options.sheet));
    }
    if (!options.device.empty()) window.openDevice(QString::fromStdString(options.device));
    if (!options.find.empty()) {
        window.findPanel().setRoot(options.find);
        window.openFind();
        while (!window.findPanel().looked()) {
            window.frame(true);
            QApplication::processEvents(QEventLoop::AllEvents, 10);
        }
    }
    if (options.backSeconds > 0) session.cursor().goTo(session.end() - seconds(options.backSeconds));
    if (options.stretchSeconds > 0) {
        constexpr double before = 0.25;
        const Instant to = session.shownAt() - seconds(before * options.stretchSeconds);
        session.cursor().stretchOver({to - seconds(options.stretchSeconds), to});
        window.openMeasures();
        if (!options.measure.empty()) window.measures().open(QString::fromStdString(options.measure));
        window.measures().holdAgainst(QString::fromStdString(options.against));
        while (session.measuring().working()) {
            window.frame(true);
            QApplication::processEvents(QEventLoop::AllEvents, 10);
        }
    }
    const auto waitFor = [&](auto&& done) {
        while (!done()) {
            window.frame(true);
            QApplication::processEvents(QEventLoop::AllEvents, 10);
        }
    };
    if (!options.beside.empty()) {
        QStringList paths;
        for (const std::string& path : options.beside) paths << QString::fromStdString(path);
        window.layOver(paths);
        RunsBeside& beside = session.beside();
        waitFor([&] {
            return std::ranges::all_of(beside.runs(), [](const auto& run) { return run->source->state().done; }) &&
                   !beside.comparing().working();
        });
        RunsBeside::View view = beside.view();
        view.drawn = beside.runs().size() > 1 ? RunsBeside::Drawn::band : RunsBeside::Drawn::paler;
        beside.setView(view);
        waitFor([&] { return !beside.comparing().working(); });
    }
    if (options.rules) {
        window.openRules();
        waitFor([&] { return !session.rehearsing().working(); });
    }
    if (!options.procedure.empty()) window.openProcedures(options.procedure);
    if (options.actions) window.showActions();
    for (int i = 0; i < 3; ++i) {
        window.frame(true);
        QApplication::processEvents();
    }
    const QPixmap picture = wire ? wire->grab() : window.grab();
    QByteArray png;
    QBuffer into(&png);
    picture.save(&into, "PNG");
    auto file = NewFile::create(options.out, options.existing);
    if (!file) return fail(shown(file.error().message));
    (void)file.value().write({png.constData(), static_cast<std::size_t>(png.size())});
    if (auto put = file.value().put(); !put) return fail(shown(put.error().message));
    window.closeWithoutAsking();
    return 0;
}

Result<void> printSheet(const SheetOptions& options, int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication app(argc, argv);
    setUp();
    const SignalSpec* signal = options.bench.signal(options.signal);
    if (!signal) return failure("There is no signal \"{0}\".", options.signal);
    return writeSheet(sheetPaper(options.bench, *signal, options.today), options.out, options.existing);
}

Result<void> printExplanation(const ExplanationPage& page, int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication app(argc, argv);
    setUp();
    return writeExplanation(page.explanation, page.today, page.out, page.existing);
}

}  // namespace cruscotto
