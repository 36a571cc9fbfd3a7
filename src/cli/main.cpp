// One program: the window, and the same work without one.
#include <CLI/CLI.hpp>
#include <array>

#include "app/shell/application.h"
#include "cli/commands.h"
#include "cli/say.h"
#include "core/base/crash_send.h"
#include "core/base/endings.h"
#include "core/base/log.h"

using namespace cruscotto;

namespace {

/// A command-line value that is a stretch of time: 10s, 250ms, 2h.
struct TimeOption {
    std::string typed;
    [[nodiscard]] std::optional<Duration> value() const {
        Duration d;
        return !typed.empty() && parseDuration(typed, d) ? std::optional(d) : std::nullopt;
    }
    static std::string check(const std::string& typed) {
        Duration d;
        return parseDuration(typed, d) && d.ns >= 0 ? ""
                                                    : "\"" + typed + "\" is not a time. Write 10s, 250ms, 5min or 2h.";
    }
};

CLI::Option* addTime(CLI::App* app, const std::string& name, TimeOption& to, const std::string& help) {
    return app->add_option(name, to.typed, help)->check(CLI::Validator(TimeOption::check, "TIME"));
}

int runCommand(int argc, char** argv) {
    CLI::App app{"Cruscotto: acquire, watch and record what is measured on a bench."};
    app.set_version_flag("--version", CRUSCOTTO_VERSION);
    app.get_formatter()->column_width(34);
    app.footer(
        "Exit codes: 0 fine, 1 could not be done, 2 wrong usage, 3 bench or run not readable or not valid,\n"
        "4 samples were lost, 5 a device did not deliver.");

    WindowOptions window;
    TimeOption after;
    app.add_option("FILE", window.file, "a .bench or .run to open in the window");
    app.add_option("--attached", window.attached,
                   "where the window looks for what is attached: a made or copied tree of /sys and /dev");

    app.add_flag("--drive", window.drive, "drive the outputs of a bench that was not saved here, without a question");

    const auto addForce = [](CLI::App* command, bool& force) {
        command->add_flag("--force", force, "replace a file that is there");
    };
    cli::RecordOptions record;
    TimeOption recordFor;
    CLI::App* recordCommand = app.add_subcommand("record", "record a bench without a window");
    recordCommand->add_option("BENCH", record.bench)->required();
    addTime(recordCommand, "--for", recordFor, "how long; until Ctrl+C where it is left out");
    recordCommand->add_option("--out", record.out, "the run file to make, or a folder, where the bench names it")
        ->required();
    recordCommand->add_option("--set", record.outputs, "an output's start value, as in drive=5; may be given again");
    TimeOption before, afterTrigger;
    recordCommand->add_option(
        "--when", record.when,
        "record only around a trigger: \"ID>NUMBER\", \"ID<NUMBER\", \"mark\" or a time of day, 14:30:00");
    recordCommand->add_option("--hysteresis", record.hysteresis, "how far back it must go before it triggers again");
    addTime(recordCommand, "--before", before, "with --when: time before the trigger, 1s where it is left out");
    addTime(recordCommand, "--after", afterTrigger, "with --when: time after it, 1s where it is left out");
    recordCommand->add_option("--shots", record.shots, "with --when: how many; 0 for any number")
        ->check(CLI::NonNegativeNumber);
    recordCommand->footer("SIGUSR1 sets a mark.");
    recordCommand->add_option("--begins-at", record.beginsAtUnix,
                              "with --as-fast-as-possible: the time that it pretends, in seconds since 1970");
    recordCommand->add_flag("--as-fast-as-possible", record.asFastAsPossible,
                            "simulated devices do not wait for the clock");

    addForce(recordCommand, record.force);

    cli::WatchOptions watch;
    TimeOption watchFor, watchEvery;
    CLI::App* watchCommand = app.add_subcommand("watch", "print live readings");
    watchCommand->add_option("BENCH", watch.bench)->required();
    addTime(watchCommand, "--for", watchFor, "how long; until Ctrl+C where it is left out");
    addTime(watchCommand, "--every", watchEvery, "time between lines, 500ms where it is left out");

    std::string infoRun;
    bool infoJson = false;
    CLI::App* infoCommand = app.add_subcommand("info", "tell what a run holds");
    infoCommand->add_option("RUN", infoRun)->required();
    infoCommand->add_flag("--json", infoJson, "for programs");
    const char* versionHelp = "of the readings: 0 as recorded, the newest where it is left out";
    std::optional<int> infoVersion;
    infoCommand->add_option("--version", infoVersion, versionHelp);

    std::string exportRun, exportOut;
    ExportOptions csv;
    TimeOption from, to;
    cli::DescribeOptions describe;
    CLI::App* describeCommand =
        app.add_subcommand("describe", "write notes and marks into a run; its data stay as they are");
    describeCommand->add_option("RUN", describe.run)->required();
    describeCommand->add_option("--title", describe.title);
    describeCommand->add_option("--person", describe.person, "who ran it");
    describeCommand->add_option("--specimen", describe.specimen, "what was tested");
    describeCommand->add_option("--notes", describe.notes, "whatever else is to be known");
    describeCommand->add_option("--verdict", describe.verdict, "what was found of it: good, bad, or other words");
    describeCommand->add_option("--mark", describe.marks, "SECONDS=WORDS from the run's start; may be given again");
    cli::RecomputeOptions recompute;
    CLI::App* recomputeCommand = app.add_subcommand(
        "recompute",
        "work readings of a run out again from its raw samples, with the chains of a bench, as a new version");
    recomputeCommand->add_option("RUN", recompute.run)->required();
    recomputeCommand->add_option("--bench", recompute.bench, "the bench with the corrected chains")->required();
    recomputeCommand
        ->add_option("--signals", recompute.signals, "ids, separated by commas; all whose chain differs where left out")
        ->delimiter(',');
    recomputeCommand->add_option("--words", recompute.words, "what was corrected");
    CLI::App* exportCommand = app.add_subcommand("export", "write a run's readings as CSV or HDF5");
    exportCommand->add_option("RUN", exportRun)->required();
    exportCommand->add_option("--out", exportOut, "the file to write; .h5 and .hdf5 are HDF5, all others CSV")
        ->required();
    exportCommand
        ->add_option("--signals", csv.signals, "ids, names or tags, separated by commas; all where it is left out")
        ->delimiter(',');
    addTime(exportCommand, "--from", from, "since the run's start");
    addTime(exportCommand, "--to", to, "since the run's start");
    exportCommand->add_option("--version", csv.version, versionHelp);
    bool exportForce = false;
    addForce(exportCommand, exportForce);
    exportCommand->add_flag("--quality", csv.qualityColumns, "a column for the quality of each reading");

    cli::CheckOptions check;
    TimeOption checkFor;
    CLI::App* checkCommand = app.add_subcommand("check", "tell whether a bench is valid");
    checkCommand->add_option("BENCH", check.bench)->required();
    checkCommand->add_flag("--write", check.write, "write it back in the usual order and layout");
    checkCommand->add_flag("--live", check.live, "measure too, and list what to look after before it counts");
    addTime(checkCommand, "--for", checkFor, "how long to measure, 5s where it is left out");
    checkCommand->add_flag("--json", check.json, "the list for programs");

    cli::ChainOptions chain;
    TimeOption chainEvery;
    CLI::App* chainCommand =
        app.add_subcommand("chain", "print what each stage of a signal's chain makes of raw samples; needs no device");
    chainCommand->add_option("BENCH", chain.bench)->required();
    chainCommand->add_option("SIGNAL", chain.signal, "its id, tag or name")->required();
    chainCommand->add_option("--raw", chain.raw, "the samples, separated by commas")->required()->delimiter(',');
    chainCommand->add_option("--given", chain.given, "what other signals read, as cold-junction=23.1,supply=4.98")
        ->delimiter(',');
    addTime(chainCommand, "--every", chainEvery, "time between two samples, 1s where it is left out");
    chainCommand->add_flag("--json", chain.json, "for programs");

    cli::CalibrationOptions calibration;
    CLI::App* calibrationCommand =
        app.add_subcommand("calibration", "print the calibration sheet of a signal; needs no device");
    calibrationCommand->add_option("BENCH", calibration.bench)->required();
    calibrationCommand->add_option("SIGNAL", calibration.signal, "its id, tag or name")->required();
    calibrationCommand->add_flag("--json", calibration.json, "for programs");
    calibrationCommand->add_option("--out", calibration.out, "a page to be signed: a .pdf or a .png");
    bool calibrationForce = false;
    addForce(calibrationCommand, calibrationForce);

    cli::ExplainOptions explain;
    TimeOption explainAt;
    CLI::App* explainCommand = app.add_subcommand(
        "explain", "tell where a reading of a run comes from: every stage, its uncertainty, its sheet");
    explainCommand->add_option("RUN", explain.run)->required();
    explainCommand->add_option("SIGNAL", explain.signal, "its id, tag or name")->required();
    addTime(explainCommand, "--at", explainAt, "the moment, from the run's beginning; its end where it is left out");
    explainCommand->add_flag("--json", explain.json, "for programs");
    explainCommand->add_option("--out", explain.out, "a page of it: a .pdf or a .png");
    bool explainForce = false;
    addForce(explainCommand, explainForce);

    cli::MeasureOptions measure;
    TimeOption measureFrom, measureTo;
    CLI::App* measureCommand = app.add_subcommand(
        "measure", "tell what a stretch of a signal comes to: levels, edges, sines, one signal against another");
    measureCommand->add_option("RUN|BENCH", measure.file, "a bench is measured live, its outputs at rest")->required();
    measureCommand->add_option("--signal", measure.signal, "its id, tag or name")->required();
    measureCommand->add_option("--against", measure.against, "the signal that it is held against: gain, phase, delay");
    addTime(measureCommand, "--from", measureFrom, "from the beginning; the beginning where it is left out");
    addTime(measureCommand, "--to", measureTo, "its end where it is left out; 5s of a bench");
    measureCommand->add_option("--measures", measure.measures, "only these, as mean,frequency,gain")->delimiter(',');
    measureCommand->add_flag("--json", measure.json, "for programs");

    cli::CompareOptions compare;
    TimeOption compareShift;
    CLI::App* compareCommand = app.add_subcommand(
        "compare", "lay runs over each other: what differs, the measures of all, or a band of good ones");
    compareCommand->add_option("RUN", compare.runs, "two runs, or more with --signal or --band")->required();
    compareCommand->add_option("--signal", compare.signal, "its measures in all of them, with what lies between them");
    compareCommand->add_option("--against", compare.against, "the signal that it is held against");
    compareCommand->add_option("--measures", compare.measures, "only these, as mean,frequency")->delimiter(',');
    compareCommand
        ->add_option("--align", compare.align, "what lies at the same place; the beginning where it is left out")
        ->check(CLI::IsMember({"beginning", "mark", "crossing", "time-of-day"}));
    compareCommand->add_option("--of", compare.crossingOf,
                               "the signal that goes through a level, for --align crossing");
    compareCommand->add_option("--level", compare.level, "that level, in its unit");
    compareCommand->add_flag("--falls", compare.falls, "it falls through it");
    addTime(compareCommand, "--later", compareShift, "the others lie so much later on top of that");
    compareCommand->add_flag("--band", compare.band, "judge the last by the band of those before it");
    compareCommand->add_option("--spreads", compare.spreads, "half the band's width, in spreads between the runs; 3")
        ->check(CLI::Range(0.0, 100.0));
    compareCommand->add_option("--allowance", compare.allowance, "and so much more, in the signal's unit")
        ->check(CLI::NonNegativeNumber);
    compareCommand->add_option("--outside", compare.outsidePercent, "percent of the time that may lie outside; 1")
        ->check(CLI::Range(0.0, 100.0));
    compareCommand->add_flag("--json", compare.json, "for programs");

    cli::RehearseOptions rehearse;
    CLI::App* rehearseCommand =
        app.add_subcommand("rehearse", "tell what the rules of a bench would have done over a run; touches no output");
    rehearseCommand->add_option("BENCH", rehearse.bench)->required();
    rehearseCommand->add_option("RUN", rehearse.run)->required();
    rehearseCommand->add_flag("--json", rehearse.json, "for programs");

    cli::ProcedureOptions procedure;
    CLI::App* runCommand = app.add_subcommand("run", "work a procedure of a bench through, and record it");
    runCommand->add_option("BENCH", procedure.bench)->required();
    runCommand->add_option("--procedure", procedure.procedure, "its id or name")->required();
    runCommand->add_option("--out", procedure.out, "the run file to make")->required();
    runCommand->add_option("--answers", procedure.answers,
                           "JSON with what it asks: a list in order, or an object by names and step numbers");
    runCommand->add_option("--junit", procedure.junit, "write the verdicts as JUnit's XML");
    runCommand->add_flag("--json", procedure.json, "all of it for programs");
    runCommand->add_flag("--as-fast-as-possible", procedure.asFastAsPossible,
                         "of simulated devices only: without waiting for time to pass, the same every time");
    runCommand->add_option("--begins-at", procedure.beginsAtUnix,
                           "with --as-fast-as-possible: the time that it pretends, in seconds since 1970");
    addForce(runCommand, procedure.force);
    runCommand->footer("Exit code 0: passed, 6: failed, 7: it ended before its last step.");

    cli::RunsOptions runs;
    CLI::App* runsCommand = app.add_subcommand("runs", "list the runs of a folder and of those below it");
    runsCommand->add_option("FOLDER", runs.folder, "this one where it is left out");
    runsCommand->add_option("--find", runs.search.words, "words of its title, notes, marks, file name or date");
    runsCommand->add_option("--since", runs.search.since, "a day, as 2026-11-29");
    runsCommand->add_option("--until", runs.search.until, "a day, as 2026-11-29");
    runsCommand->add_flag("--json", runs.json, "for programs");

    PictureOptions picture;
    CLI::App* pictureCommand =
        app.add_subcommand("picture", "paint the window of a bench or run into a PNG, without a display");
    pictureCommand->add_option("FILE", picture.file)->required();
    pictureCommand->add_option("--out", picture.out, "the PNG to write")->required();
    addTime(pictureCommand, "--after", after, "how much bench time to measure first; 60s where it is left out");
    pictureCommand->add_option("--theme", picture.theme)->check(CLI::IsMember({"day", "night"}));
    pictureCommand->add_option("--page", picture.page, "the page's name");
    pictureCommand->add_option("--chain", picture.chain, "id of the signal whose chain is opened");
    pictureCommand->add_option("--wire", picture.wire, "id of the device whose wire is painted, instead of the window");
    pictureCommand->add_option("--sheet", picture.sheet, "id of the signal whose calibration sheet is opened");
    pictureCommand->add_option("--device", picture.device, "id of the device whose panel is opened");
    pictureCommand->add_option("--find", picture.find, "a tree of /sys and /dev, to show what is attached there");
    pictureCommand->add_option("--stretch", picture.stretchSeconds, "length in seconds of a stretch to be measured");
    pictureCommand->add_flag("--rules", picture.rules, "the page of rules");
    pictureCommand->add_option("--procedure", picture.procedure, "id of a procedure that is at work");
    pictureCommand->add_option("--beside", picture.beside, "runs that are laid over it")->delimiter(',');
    pictureCommand->add_option("--measure", picture.measure, "signal whose measures stand beside the page");
    pictureCommand->add_option("--against", picture.against, "the signal that it is held against");
    pictureCommand->add_option("--back", picture.backSeconds, "seconds before the end to go back to");
    pictureCommand->add_option("--width", picture.width);
    pictureCommand->add_option("--height", picture.height);
    pictureCommand->add_option("--scale", picture.scale, "device pixel ratio");
    pictureCommand->add_flag("--actions", picture.actions, "with the list of actions open");

    pictureCommand->add_flag("--drive", picture.drive, "drive the bench's outputs, which else are at rest");
    bool pictureForce = false;
    addForce(pictureCommand, pictureForce);

    CLI::App* standIn = app.add_subcommand("stand-in", "a simulated outside device");
    standIn->require_subcommand(1);
    cli::StandInOptions beehive;
    CLI::App* beehiveCommand =
        standIn->add_subcommand("beehive", "a board that prints readings on a serial line; prints its port");
    beehiveCommand->add_option("--format", beehive.format)->check(CLI::IsMember({"delimited", "labelled", "hex"}));
    beehiveCommand->add_option("--rate", beehive.linesPerSecond, "lines a second")->check(CLI::Range(0.01, 1000.0));
    beehiveCommand->add_option("--seed", beehive.seed);
    beehiveCommand->add_option("--link", beehive.link, "make a symbolic link to the port under this name");
    beehiveCommand->add_flag("--asked", beehive.asked, "send a line only for each ? that it gets");
    beehiveCommand
        ->add_option("--baud", beehive.baud, "speak at this speed only: listeners at another one hear nonsense")
        ->check(CLI::Range(50, 4'000'000));

    const auto addFaults = [](CLI::App* command, std::vector<std::string>& faults) {
        command->add_option(
            "--fault", faults,
            "what goes wrong from the beginning; typed while it runs, its name switches it on or off: " +
                cli::standInFaults(command->get_name()));
    };
    addFaults(beehiveCommand, beehive.faults);
    cli::CabinetOptions cabinet;
    CLI::App* cabinetCommand = standIn->add_subcommand(
        "computer", "a small computer with sensors, fast inputs, lines and counters, as a tree of /sys and /dev");
    cabinetCommand->add_option("FOLDER", cabinet.folder, "the tree; taken away in the end")->required();
    addFaults(cabinetCommand, cabinet.faults);

    struct Hosted {
        const char *name, *help;
        int (*run)(const cli::HostedOptions&);
        CLI::App* command = nullptr;
        cli::HostedOptions options{};
    };
    std::array<Hosted, 7> hosted{
        {{"rack", "a cold store's rack of modules that answers Modbus requests", cli::rack},
         {"meter", "a meter with a source and a switch unit that understands SCPI", cli::meter},
         {"weather", "a weather board that sends frames of bytes", cli::weather},
         {"sensors", "a master with two smart sensors (IO-Link, JSON)", cli::sensors},
         {"tone", "a stream of sound samples: a bearing's hum and a lamp", cli::tone},
         {"bus", "a pump's CAN bus behind a serial adapter (slcan)", cli::pumpBus},
         {"pins", "a board with the Firmata firmware", cli::pinBoard}}};
    for (Hosted& h : hosted) {
        h.command = standIn->add_subcommand(h.name, std::string(h.help) + "; prints where it is");
        h.command->add_option("--link", h.options.link, "make a symbolic link to its serial port under this name");
        h.command->add_option("--port", h.options.port, "wait on this TCP port of the loopback address instead; 0: any")
            ->check(CLI::Range(0, 65535));
        addFaults(h.command, h.options.faults);
        if (std::string_view(h.name) == "bus")
            h.command
                ->add_option("--times", h.options.times,
                             "as many times as many frames; about 40 fill a bus of 1 Mbit/s")
                ->check(CLI::Range(0.1, 100.0));
    }

    std::string dbcBench, dbcDevice, dbcOut;
    CLI::App* dbcCommand =
        app.add_subcommand("dbc", "write the description of the readings that a bench publishes on a CAN bus");
    dbcCommand->add_option("BENCH", dbcBench)->required();
    dbcCommand->add_option("--device", dbcDevice, "which bus, where there are several");
    dbcCommand->add_option("--out", dbcOut, "the .dbc file to write")->required();

    bool dbcForce = false;
    addForce(dbcCommand, dbcForce);

    cli::WireOptions wire;
    TimeOption wireFor;
    CLI::App* wireCommand = app.add_subcommand("wire", "print what passes on a device's link, or save it as a capture");
    wireCommand->add_option("BENCH", wire.bench)->required();
    wireCommand->add_option("--device", wire.device, "its id; may be left out where only one has a wire");
    addTime(wireCommand, "--for", wireFor, "how long; until Ctrl+C where it is left out");
    wireCommand->add_option("--out", wire.out, "the .wire file to write instead");

    addForce(wireCommand, wire.force);

    cli::ReplayCommand replayed;
    CLI::App* replayCommand =
        app.add_subcommand("replay", "write a bench that plays a recorded run as if it was measured now");
    replayCommand->add_option("RUN", replayed.run)->required();
    replayCommand->add_option("--out", replayed.out, "the .bench file to write")->required();
    replayCommand->add_option("--speed", replayed.speed, "times as fast")->check(CLI::Range(0.001, 1000.0));
    addForce(replayCommand, replayed.force);
    replayCommand->add_flag("--loop", replayed.loop, "again and again");

    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& e) {
        const int code = app.exit(e);
        return code == 0 ? cli::ok : cli::wrongUsage;
    }

    if (auto log = logTo(defaultLogPath()); !log)
        std::fprintf(stderr, "cruscotto: %s\n", log.error().english().c_str());
    for (const Hosted& h : hosted)
        if (h.command->parsed()) {
            cli::handleSignals();
            return h.run(h.options);
        }
    if (cabinetCommand->parsed()) {
        cli::handleSignals();
        return cli::cabinet(cabinet);
    }
    if (dbcCommand->parsed()) return cli::writeBusDescription(dbcBench, dbcDevice, dbcOut, dbcForce);
    if (replayCommand->parsed()) return cli::replay(replayed);
    if (recordCommand->parsed()) {
        cli::handleSignals();
        record.length = recordFor.value();
        record.before = before.value().value_or(seconds(1));
        record.after = afterTrigger.value().value_or(seconds(1));
        return cli::record(record);
    }
    if (wireCommand->parsed()) {
        cli::handleSignals();
        wire.length = wireFor.value();
        return cli::wire(wire);
    }
    if (watchCommand->parsed()) {
        cli::handleSignals();
        watch.length = watchFor.value();
        watch.every = watchEvery.value().value_or(milliseconds(500));
        return cli::watch(watch);
    }
    if (infoCommand->parsed()) return cli::info(infoRun, infoJson, infoVersion);
    if (describeCommand->parsed()) return cli::describe(describe);
    if (recomputeCommand->parsed()) {
        cli::handleSignals();
        return cli::recompute(recompute);
    }
    if (exportCommand->parsed()) {
        cli::handleSignals();
        csv.existing = exportForce ? NewFile::Existing::replace : NewFile::Existing::refuse;
        csv.from = from.value();
        csv.to = to.value();
        return cli::exportRun(exportRun, exportOut, csv);
    }
    if (chainCommand->parsed()) {
        chain.every = chainEvery.value().value_or(seconds(1));
        return cli::chain(chain);
    }
    if (compareCommand->parsed()) {
        compare.shift = compareShift.value().value_or(Duration{});
        return cli::compareRuns(compare);
    }
    if (rehearseCommand->parsed()) return cli::rehearseRules(rehearse);
    if (runCommand->parsed()) {
        cli::handleSignals();
        return cli::runProcedure(procedure);
    }
    if (runsCommand->parsed()) return cli::listRuns(runs);
    if (measureCommand->parsed()) {
        measure.from = measureFrom.value();
        measure.to = measureTo.value();
        return cli::measure(measure);
    }
    if (explainCommand->parsed()) {
        explain.at = explainAt.value();
        explain.existing = explainForce ? NewFile::Existing::replace : NewFile::Existing::refuse;
        return cli::explain(explain, argc, argv);
    }
    if (calibrationCommand->parsed()) {
        calibration.existing = calibrationForce ? NewFile::Existing::replace : NewFile::Existing::refuse;
        return cli::calibration(calibration, argc, argv);
    }
    if (checkCommand->parsed()) {
        cli::handleSignals();
        check.length = checkFor.value().value_or(seconds(5));
        return cli::check(check);
    }
    if (beehiveCommand->parsed()) {
        cli::handleSignals();
        return cli::beehive(beehive);
    }
    if (pictureCommand->parsed()) {
        picture.existing = pictureForce ? NewFile::Existing::replace : NewFile::Existing::refuse;
        picture.after = after.value().value_or(seconds(60));
        return runPicture(picture, argc, argv);
    }
    return runWindow(window, argc, argv);
}

}  // namespace

int main(int argc, char** argv) {
    prepareProcess();
    guardCrashes();
    int code = cli::failed;
    try {
        code = runCommand(argc, argv);
    } catch (const std::bad_alloc&) {
        cli::complain("There is not enough memory for this. Close other programs, or ask for less at once.", code);
    } catch (const std::exception& e) {
        cli::complain(std::string("It could not be done: ") + e.what(), code);
    }
    if (const std::string why = cli::outputLost(); !why.empty())
        return cli::complain("The output could not be written: " + why + ".", code == cli::ok ? cli::failed : code);
    return code;
}
