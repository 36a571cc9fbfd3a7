#pragma once

#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/control/controller.h"
#include "core/history/signal_history.h"
#include "core/procedure/procedure_run.h"
#include "core/rules/alarm_book.h"
#include "core/rules/rehearsal.h"
#include "devices/device_kind.h"
#include "engine/output_arbiter.h"
#include "engine/recorder.h"
#include "engine/shot_gate.h"

namespace cruscotto {

struct Mark {
    Instant at;
    std::string words;
    bool operator==(const Mark&) const = default;
};

/// What a rule of the bench is doing.
struct RuleReport {
    std::string id;
    RuleState state;
    std::string done;      ///< what it did last, in words; empty: nothing yet
    bool latched = false;  ///< it holds an output until a person resets it
};
/// What a control of the bench is doing.
struct ControlReport {
    std::string id;
    ControlState state;
    bool holds = false;     ///< the output is what it wants; else somebody else holds it
    bool byDevice = false;  ///< the device was told all of it, and plays it by itself
};
/// What a rule wants that is not the engine's to do: recordings, pages and tones.
struct RuleRequest {
    std::string rule;
    Action action;
    Instant at;
};

struct EngineOptions {
    Pace pace = Pace::realTime;
    /// As fast as possible: how much bench time to make. Real time: ignored; stop() ends it.
    std::optional<Duration> until;
    HistorySize history;
    RecorderLimits recorder;
    /// Nanoseconds since 1970 by the wall clock; the system's where empty.
    std::function<std::int64_t()> wallClock;
    /// Nanoseconds that the computer has slept in all, suspended; the system's where empty.
    std::function<std::int64_t()> asleep;
    /// As fast as possible: the bench's time stands still from when a rule wants something that is not the engine's to
    /// do until whoever takes the requests has called requestsObeyed().
    bool requestsAwaited = false;
    /// Nothing is driven, and nothing is sent but what reading needs, until driveOutputs(). Simulated devices are
    /// driven all the same.
    bool outputsAtRest = false;
    /// A procedure that begins with the bench, see startProcedure().
    std::optional<ProcedureSpec> procedure = {};
    /// What a procedure asks, by its step and the step's number, where the answer is known beforehand. Called on the
    /// engine's thread.
    std::function<std::optional<std::string>(const ProcedureStep&, const std::string&)> answers = {};
    /// Whether evidence is looked for; off only to measure what that costs.
    bool evidence = true;
    /// What devices are made of; null: the kinds that this build knows.
    std::shared_ptr<const DeviceKinds> kinds;
};

/// A terminal that has been seen in the stream of a device.
struct SeenTerminal {
    std::string device;
    Channel channel;
    /// Its newest raw sample, whether a signal uses it or not.
    std::shared_ptr<const std::atomic<double>> newest;
};

/// The running bench: device threads, one engine thread on which blocks go through chains into histories and on to the
/// recorder. All public members may be called from any thread unless said otherwise; none of them waits for a
/// device, and only those that say so for the disk.
class Engine {
public:
    /// Sets outputs to their start values, then begins to measure. Check the bench with checkDevices() before.
    static std::unique_ptr<Engine> start(const Bench& bench, EngineOptions options = {});
    /// The same, recording from the first sample on. Nothing is started, and no output moved, if the file cannot be
    /// made.
    static Result<std::unique_ptr<Engine>> startRecorded(const Bench& bench, const std::string& path,
                                                         EngineOptions options = {}, std::optional<ShotPlan> plan = {});
    /// Stops, if that has not been done.
    ~Engine();
    Engine(const Engine&) = delete;
    Engine& operator=(const Engine&) = delete;

    /// Sets outputs to their safe values, ends measuring, closes the recording. Waits for the device threads. One
    /// thread. Also done, to every engine that there is, when the program ends by exit().
    void stop();
    /// As fast as possible: waits until `until` has been reached and everything has gone through. One thread.
    void wait();
    /// Asks the devices to end, and with that wait(). Does not wait itself.
    void interrupt();

    [[nodiscard]] const Source& source() const;
    /// Now on the bench's time axis (as fast as possible: the end of what has been measured).
    [[nodiscard]] Instant now() const;
    /// The bench as edited: takes hold between two blocks, without a stop unless a device cannot do without.
    void apply(const Bench& bench);
    /// By hand. Clamped to the output's own limits. False if there is no such output, or it is at rest or safe for
    /// good. Where something else holds the output, the value waits until that lets go.
    bool setOutput(const std::string& signal, double value);
    /// What the output is to be, who holds it and why; nothing where it has not been driven.
    [[nodiscard]] std::optional<OutputState> outputState(const std::string& signal) const;
    /// Puts all outputs to their safe values, where they stay: from now on nothing else drives them. Waits for nothing
    /// but for handing them to the devices. stop() does it too; this is for whoever has other things to end first.
    void endOutputs();
    /// See EngineOptions::outputsAtRest.
    [[nodiscard]] bool outputsAtRest() const;
    /// The outputs get their start values, and from then on what the bench says. Their devices begin anew for that.
    void driveOutputs();
    /// Writes a setting that lies in the device; its status says how that went. Does nothing without such a device.
    void setParameter(const std::string& device, const std::string& key, const std::string& value);

    /// The bench's rules, in their order, as of a tenth of a second ago or since something happened.
    [[nodiscard]] std::vector<RuleReport> ruleReports() const;
    /// Once each.
    std::vector<RuleRequest> takeRuleRequests();
    /// See EngineOptions::requestsAwaited.
    void requestsObeyed();
    /// Lets go of outputs that a latched interlock, or a control whose read-back did not follow, holds. False while it
    /// still holds, or where there is none.
    bool resetRule(const std::string& id);
    /// A person lets go of the output: rules decide about it again. False where nobody had set it by hand.
    bool releaseOutput(const std::string& signal);
    /// The bench's controls, in their order, as ruleReports().
    [[nodiscard]] std::vector<ControlReport> controlReports() const;
    [[nodiscard]] std::vector<Alarm> alarms() const;
    /// What became of alarms since the bench began, the newest mostJournal of it; and how much there was in all.
    static constexpr std::size_t mostJournal = 20'000;
    [[nodiscard]] std::vector<AlarmEvent> alarmJournal() const;
    [[nodiscard]] std::uint64_t alarmsJournaled() const;
    void acknowledgeAlarm(const std::string& rule, const std::string& person, const std::string& comment);
    /// 0: at once again.
    void shelveAlarm(const std::string& rule, Duration forTime, const std::string& person = {},
                     const std::string& comment = {});

    /// Begins a procedure, which checkProcedure() has nothing against. Outputs that it sets are let go of by hand, and
    /// safe when it ends, however it does. As fast as possible: measuring ends with it. Refuses while one is going on.
    Result<void> startProcedure(const ProcedureSpec& procedure);
    void pauseProcedure(bool paused);
    /// Before its last step; `why` in a sentence.
    void endProcedure(const Text& why);
    /// To the question that it stands at. Why that is no answer.
    Result<void> answerProcedure(const std::string& words);
    /// The newest one's; null: none has begun. As of a tenth of a second ago or since a step was done.
    [[nodiscard]] std::shared_ptr<const ProcedureReport> procedureReport() const;

    /// What ended the work of the engine itself, as no memory; empty: nothing. The outputs are safe then, nothing more
    /// is measured, and what was recorded is whole.
    [[nodiscard]] Text problem() const;
    [[nodiscard]] std::map<std::string, DeviceStatus> deviceStatus() const;
    /// How the device refused or changed what this output was last set to; empty where it did not. See DeviceStatus.
    [[nodiscard]] Text outputProblem(const std::string& device, const std::string& terminal) const;
    [[nodiscard]] std::vector<SeenTerminal> seenTerminals() const;
    /// Somebody says that the signal should read `value` now, as where it is grounded: its mean over the last second is
    /// held against that. Evidence where it differs by more than `allowed` and its noise. Without a value what was said
    /// is forgotten. All evidence is in source(): it is looked for about once a second of bench time; while it is a
    /// suspicion, what is measured is of the quality suspect, in the run too.
    void tell(const std::string& signal, std::optional<double> value, double allowed = 0);
    /// Switches the load of an analog input on for about two seconds and looks whether anything holds the input: the
    /// outcome is evidence, and what is measured meanwhile is suspect. Does nothing where its device has no such load
    /// free (probeAmong()), or while another one is being checked.
    void checkConnection(const std::string& signal);
    /// What passes on a device's link, for the wire view. Stays the same when the device is made anew.
    [[nodiscard]] std::shared_ptr<WireTap> wire(const std::string& device) const;
    /// The computer's last sleep, if it slept since the bench began. It is a gap in everything that is measured, and a
    /// mark.
    [[nodiscard]] std::optional<Span> lastSleep() const;
    /// Samples, over all channels, that never came this far since the bench began: because devices could not keep them
    /// until they were fetched, or blocks came faster than the engine could take them.
    [[nodiscard]] std::uint64_t lostSamples() const;
    /// Why the last of those were lost, a sentence; empty: none were.
    [[nodiscard]] std::string lostTo() const;

    /// Bytes that recording all of it would have taken so far, before packing, by what is kept of each signal; an upper
    /// bound where that depends on the readings.
    [[nodiscard]] std::uint64_t measuredBytes() const;

    /// Refuses while one is going on, or when the file cannot be made. Makes the file before it returns, which takes
    /// as long as the disk takes; measuring goes on meanwhile.
    /// With a plan only shots are recorded, all into the one run; status().complete tells when there will be no more.
    Result<void> startRecording(const std::string& path, std::optional<ShotPlan> plan = {});
    /// Everything measured before the call is in the run when it returns, which takes as long as the disk takes. The
    /// status says how it ended.
    RecordingStatus stopRecording();
    [[nodiscard]] RecordingStatus recording() const;
    /// From when on every signal's samples are still held in memory: as far back as keepPast() reaches.
    [[nodiscard]] Instant heldSince() const;
    /// Writes the last `past`, or as much of it as is held, into a run of its own, with the chains as they are now.
    /// Takes as long as the disk takes; measuring, and a recording, go on meanwhile. Returns what was kept.
    Result<Span> keepPast(const std::string& path, Duration past);
    /// The same of a stretch.
    Result<Span> keep(const std::string& path, Span span);
    /// Spans of time that have been recorded since the start, the last one still growing while recording.
    [[nodiscard]] std::vector<Span> recordedSpans() const;
    void mark(Instant at, const std::string& words);
    [[nodiscard]] std::vector<Mark> marks() const;

private:
    struct State;
    struct Living;
    explicit Engine(std::unique_ptr<State> state);
    static std::unique_ptr<Engine> begin(const Bench& bench, EngineOptions options);
    void launchDevices();
    std::unique_ptr<State> state_;
};

}  // namespace cruscotto
