#pragma once

#include <chrono>
#include <condition_variable>
#include <deque>
#include <future>
#include <limits>
#include <set>
#include <thread>
#include <unordered_map>

#include "core/base/guarded.h"
#include "core/base/level.h"
#include "core/chain/input_aligner.h"
#include "core/control/controller.h"
#include "core/evidence/evidence_round.h"
#include "core/evidence/evidence_watch.h"
#include "core/history/history_source.h"
#include "core/history/signal_history.h"
#include "core/history/timeline.h"
#include "core/procedure/procedure_run.h"
#include "devices/terminal_setup.h"
#include "engine/engine.h"
#include "engine/keep_filter.h"
#include "engine/output_arbiter.h"

/// The engine's inside, shared by its own source files only: engine.cpp (queue, start and stop), engine_blocks.cpp
/// (what becomes of a block), engine_devices.cpp (devices, outputs, edits), engine_recording.cpp (recordings, marks),
/// engine_computed.cpp (signals that are computed from others), engine_rules.cpp (what reacts), engine_controls.cpp
/// (what follows), engine_procedure.cpp (what is done in order), engine_evidence.cpp (what speaks against readings),
/// engine_past.cpp (keeping what is in memory), engine_clock.cpp (wall clock, sleep).
namespace cruscotto {

/// The group of an output's own samples is called by this and the output's id.
inline const std::string outputGroup = "output ";

struct Engine::State {
    using Command = std::function<void()>;
    struct Item {
        BlockPtr block;
        Command command;
    };

    /// A device on its thread, which makes it too: its settings may name files, and reading those may take long. What
    /// is asked of it before waits for it.
    struct Running : DeviceSink {
        State& engine;
        DeviceSpec spec;
        const DeviceContext context;
        const std::vector<TerminalRequest> requests;
        std::map<const ScanGroup*, Gap> dropped;  // the device thread's own
        std::unique_ptr<Running> before;          // the same: what it replaces, until that has ended
        std::atomic<bool> leaving{false};         // nobody takes its blocks and reports any more
        std::atomic<bool> none{false};            // it could not be made
        std::atomic<bool> ended{false};           // its thread has nothing more to do
        std::atomic<bool> broken{false};          // because its driver threw an exception
        std::map<std::string, double> safe;       // of its outputs, by terminal; guarded as the set of devices
        Mutex deviceMutex;
        std::unique_ptr<Device> device GUARDED_BY(deviceMutex);  // set once, by its thread
        std::vector<std::function<void(Device&)>> waiting GUARDED_BY(deviceMutex);
        std::jthread thread;

        Running(State& e, DeviceSpec s, DeviceContext c, std::vector<TerminalRequest> r)
            : engine(e), spec(std::move(s)), context(std::move(c)), requests(std::move(r)) {}
        /// The device's thread.
        void work(const std::stop_token& stop);
        void run(const std::stop_token& stop);
        std::unique_ptr<Device> make();
        /// Any thread: does it with the device, now or as soon as it is there, in order.
        void with(std::function<void(Device&)> what);
        void setOutput(const std::string& terminal, double value);
        std::size_t mostPlayed(const std::string& terminal);
        bool playByItself(const std::string& terminal, const PlayedList& list);
        /// False where it must be made anew.
        bool request(const std::vector<TerminalRequest>& terminals);
        bool reconfigure(const JsonText& settings, const std::vector<TerminalRequest>& terminals);

        void deliver(BlockPtr block) override { engine.enqueue(*this, std::move(block)); }
        void report(DeviceStatus status) override {
            if (!leaving) engine.note(spec.id, std::move(status));
        }
        void quiet(const std::shared_ptr<const ScanGroup>& group) override {
            if (!leaving) engine.noteQuiet(group);
        }
        [[nodiscard]] Instant now() const override { return engine.now(); }
    };

    /// A signal tied to a column of a scan group.
    struct Bound {
        std::size_t column = 0;
        std::shared_ptr<const SignalSpec> spec;
        std::optional<ChainEvaluator> evaluator;
        std::shared_ptr<const SignalSpec> evaluated;  // whose chain that is
        std::vector<NeededSignal> needs;              // other signals, for its chain
        std::vector<std::string> units;               // that those read in
        bool wanted = false;                          // another signal of this group needs it, or a computed one does
        Readings now;                                 // of the block at hand, where it is wanted
        std::shared_ptr<SignalHistory> history;
        std::optional<KeepFilter> filter;      // where not every raw sample is recorded
        std::size_t recorded = 0;              // else its place among the recorded columns
        bool came = false;                     // something of it, since the recording began
        double share = 1;                      // bytes recorded for each raw one, about
        std::shared_ptr<EvidenceWatch> watch;  // null: an output
        std::vector<Evidence> noted;           // of its evidence, in the run
        double newestReading = 0;              // of the block at hand, where a look is due
        Quality newestWorst = Quality::good;
    };
    /// A computed signal: what its inputs have brought so far, and the moments for which not all of them have come yet.
    struct Computed {
        Computed(std::shared_ptr<const SignalSpec> s, std::vector<NeededSignal> n, const InputAligner::Rule& rule)
            : spec(std::move(s)), needs(std::move(n)), aligner(needs.size(), rule) {}
        std::shared_ptr<const SignalSpec> spec;
        std::shared_ptr<const ScanGroup> group;  // of its own; null until its clock's is known
        std::vector<NeededSignal> needs;
        InputAligner aligner;
        struct Moments {
            BlockPtr block;  // a column without readings
            StretchTimesPtr times;
        };
        std::deque<Moments> waiting;
        std::size_t done = 0;  // of the first of them
        Instant clockUntil;
        std::optional<std::int64_t> nextTick;  // of a rate of its own
        bool onlyOutputs = false;              // and of nothing that has a clock
        std::uint64_t samples = 0;
        InputAligner::Aligned aligned;  // of the block that is worked on
    };
    struct Group {
        std::shared_ptr<const ScanGroup> group;
        std::shared_ptr<Timeline> timeline;
        std::vector<Bound> bound;
        std::vector<std::shared_ptr<std::atomic<double>>> newestRaw;  // by column
        Recorder::Columns columns;                                    // those that are recorded raw and whole
        Instant newest;  // unclocked: time of the last sample; clocked: end of the last block
        std::uint64_t disordered = 0;
        bool anew = false;  // the device was made anew: its next samples do not go on from those before
        EvidenceRound round{EvidenceWatch::every};
        const InputAligner::Aligned* inputs = nullptr;  // of a computed signal, for the block at hand
    };

    /// Why samples are lost that the queue cannot take; they are counted there.
    static constexpr const char* couldNotFollow = "The computer could not follow.";

    // fixed after construction
    EngineOptions options;
    /// See DeviceContext. Null where nothing runs in real time.
    std::shared_ptr<std::atomic<std::int64_t>> pulse;
    static constexpr Duration pulseEvery = milliseconds(200);
    std::int64_t began = 0;  // by clockNs()
    WallAnchor startAnchor;

    // the engine thread's own
    Bench bench;
    std::map<std::pair<std::string, std::string>, Group> groups;
    std::unordered_map<std::string, std::vector<std::shared_ptr<const SignalSpec>>>
        signalsAt;                                                                     // by device and terminal
    std::unordered_multimap<std::string, std::shared_ptr<const SignalSpec>> agreedBy;  // signals that name this one
    std::vector<std::unique_ptr<Computed>> computed;  // those that others need come before those
    /// By the signal that they need, or whose samples are their moments.
    std::unordered_multimap<std::string, Computed*> computedFrom;
    std::shared_ptr<Recorder> recorder;
    bool makingRun = false;
    bool brokenDown = false;
    std::optional<ShotGate> gate;  // where only shots are recorded
    int shotsNoted = 0;
    /// What devices had to skip, since the recording began.
    struct Skips {
        std::uint64_t before = 0, now = 0, noted = 0;  // by the device's count
        std::string last;
        std::optional<Instant> notedAt;
    };
    std::map<std::string, Skips> skips;
    std::map<std::string, std::string> troubles;
    double measuredExact = 0;                 // bytes; `measured` is its whole part
    std::map<std::string, KeepSpec> keeping;  // of the recording that is going on, by signal
    Readings readings;                        // of the column that is being worked on
    std::vector<FinishedBucket> finished;     // of the same
    struct Published {
        std::string device, terminal;
        std::optional<double> waits;  // the newest reading, not handed over yet
    };
    std::multimap<std::string, Published> published;  // by signal: readings that devices want
    bool publishing = false;                          // some of them wait
    /// Outputs that their devices have put to safe values, by device and terminal, and where they stood.
    std::map<std::string, std::map<std::string, std::optional<double>>> fallen;
    OutputArbiter arbiter;
    // rules
    struct Ramp {
        std::size_t rule = 0;
        std::string output;
        double from = 0, to = 0;
        Instant began;
        double seconds = 1;
        bool over = false;
        bool ofProcedure = false;
    };
    /// By the output and the place of who wants it: of a rule in the bench's list; behind them controlPlace() of a
    /// control; of a procedure 0.
    using RuleWishes = std::map<std::string, std::map<std::size_t, double>>;
    static constexpr std::size_t controlPlace(std::size_t i) { return 1'000'000 + i; }
    struct {
        std::optional<RuleEvaluator> evaluator;
        /// What active rules want of outputs, by the output and the rule's place: the first prevails.
        RuleWishes wishes, holds;
        std::set<std::string> latched;  // rules whose interlock waits for a person
        std::vector<Ramp> ramps;
        std::set<std::string> outputsToLook;  // whose wishes have changed
        std::deque<RuleFiring> pending;       // not acted on yet
        std::vector<std::string> done;        // what each did last
        std::size_t own = 0;                  // so many are of the bench's list; behind them what limits are
        std::vector<std::string> suppresses;  // and what suppresses whose alarms
    } rules;
    struct Controlling {
        std::unique_ptr<Controller> controller;
        std::future<std::vector<std::pair<double, double>>> played;  ///< samples of a run that are being read
        std::shared_ptr<const ControlSpec> waits;                    ///< for those
        bool noted = false;                                          ///< that it failed
        bool refused = false;  ///< its output's device does not take what it plays as a list
    };
    std::vector<Controlling> controls;  // in the order of the bench
    /// Outputs whose device has all that is still to be played, and the id of the control that plays it.
    std::map<std::string, std::string> playing;
    /// Of a procedure: what it wants of outputs.
    RuleWishes procedureWishes;
    std::set<std::string> procedureOutputs;  // that it may set
    struct ProcedureWorks;
    std::unique_ptr<ProcedureWorld> procedureWorks;
    std::unique_ptr<ProcedureRun> procedure;
    std::uint64_t procedureSeen = 0;
    Instant procedurePublished;
    AlarmBook alarms;
    bool rulesChanged = false;
    Instant rulesPublished;
    std::size_t ruleReportsMade = 0;
    std::set<std::string> unreached;  // devices that take nothing now
    Instant lastAnchor;
    std::int64_t wallOffset = 0;  // wall clock less bench time at the last anchor
    std::int64_t sleptNs = 0;     // by asleepNs(), when it was last looked at
    Instant amidSleep;            // the last one's middle
    std::map<std::string, std::shared_ptr<const ScanGroup>> outputGroups;
    std::map<std::string, std::uint64_t> outputSamples;

    HistorySource source;
    std::atomic<std::int64_t> reached{0};    // as fast as possible: end of what has been measured
    std::atomic<std::uint64_t> lost{0};      // before they came to the recorder
    std::atomic<std::uint64_t> measured{0};  // bytes

    Mutex queueMutex;
    std::condition_variable_any queueChanged;
    std::deque<Item> queue GUARDED_BY(queueMutex);
    std::size_t queuedBytes GUARDED_BY(queueMutex) = 0;
    bool quitting GUARDED_BY(queueMutex) = false;
    /// As fast as possible, with rules: a device waits until its block has been worked on, so that what a rule sets
    /// comes at the same sample in every run.
    std::atomic<bool> inStep{false};
    bool requestsAwaited = false;      // on the engine's thread: no block counts as worked on until they are obeyed
    std::uint64_t workedAwaiting = 0;  // blocks
    std::uint64_t handed GUARDED_BY(queueMutex) = 0, worked GUARDED_BY(queueMutex) = 0;  // blocks
    int alive GUARDED_BY(queueMutex) = 0;       // threads of devices that have not ended
    std::string lostTo GUARDED_BY(queueMutex);  // why the last of `lost` were

    mutable Mutex mutex;
    Text problem GUARDED_BY(mutex);
    std::map<std::string, DeviceStatus> statuses GUARDED_BY(mutex);
    std::map<std::string, std::shared_ptr<WireTap>> taps GUARDED_BY(mutex);  // by device, kept while the engine lives
    std::map<std::string, OutputState> outputs GUARDED_BY(mutex);            // as the arbiter has them
    std::vector<SeenTerminal> seen GUARDED_BY(mutex);
    std::vector<Mark> marks GUARDED_BY(mutex);
    std::vector<RuleReport> ruleReports GUARDED_BY(mutex);
    std::vector<ControlReport> controlReports GUARDED_BY(mutex);
    std::shared_ptr<const ProcedureReport> procedureReport GUARDED_BY(mutex);
    std::vector<RuleRequest> ruleRequests GUARDED_BY(mutex);
    std::vector<Alarm> alarmsNow GUARDED_BY(mutex);
    std::deque<AlarmEvent> alarmJournal GUARDED_BY(mutex);  // the newest of them
    std::uint64_t journaled GUARDED_BY(mutex) = 0;          // in all
    std::vector<Span> recorded GUARDED_BY(mutex);
    RecordingStatus lastRecording GUARDED_BY(mutex);
    bool recordingNow GUARDED_BY(mutex) = false;
    std::shared_ptr<const Recorder> recording GUARDED_BY(mutex);  // the same as `recorder`, to ask for its status
    std::optional<Instant> completeFrom GUARDED_BY(mutex);        // of the shots
    std::uint64_t lostBefore GUARDED_BY(mutex) = 0;               // the recording began
    std::optional<Span> lastSleep GUARDED_BY(mutex);

    // the set of devices; held while they are started or stopped
    Mutex devicesMutex;  // held for moments only: never while a device is waited for
    std::map<std::string, std::unique_ptr<Running>> devices GUARDED_BY(devicesMutex);
    std::vector<std::unique_ptr<Running>> retired GUARDED_BY(devicesMutex);  // that end by themselves
    bool stopped GUARDED_BY(devicesMutex) = false;
    bool outputsEnded GUARDED_BY(devicesMutex) = false;  // they are safe, for good
    bool atRest GUARDED_BY(devicesMutex) = false;

    std::thread thread;

    [[nodiscard]] Instant now() const {
        if (options.pace == Pace::asFastAsPossible) return {reached.load(std::memory_order_acquire)};
        return {clockNs() - began};
    }
    /// The clock of the bench's axis: nobody steps it, and it goes on while the computer sleeps.
    [[nodiscard]] std::int64_t clockNs() const;
    [[nodiscard]] std::int64_t asleepNs() const;
    [[nodiscard]] std::int64_t wallNow() const;  ///< nanoseconds since 1970

    /// What is in memory of a group. Its histories are read from any thread.
    struct Held {
        std::shared_ptr<const ScanGroup> group;
        std::shared_ptr<const Timeline> timeline;
        std::vector<std::pair<std::string, std::shared_ptr<const SignalHistory>>> signals;
        std::vector<std::size_t> columns;  // of the group
        /// By the timeline's count.
        [[nodiscard]] std::pair<std::uint64_t, std::uint64_t> range() const {
            std::uint64_t first = 0, end = std::numeric_limits<std::uint64_t>::max();
            for (const auto& [id, history] : signals) {
                const auto [a, b] = history->held();
                first = std::max(first, a);
                end = std::min(end, b);
            }
            return {first, std::max(first, end)};
        }
    };
    std::vector<Held> held();  // engine thread

    // ---- queue

    /// From a device's thread. Real time: never waits; what does not fit is a gap on the device's next block.
    void enqueue(Running& from, BlockPtr block);
    /// True if the engine's thread may be asleep: woken when the lock is gone, it need not wait for that.
    [[nodiscard]] bool put(Item item) HOLDING(queueMutex);
    void noteLost(std::uint64_t samples, const std::string& cause) HOLDING(queueMutex);
    /// Adds to what the recorder has lost what never came to it since it began.
    void addLostUpstream(RecordingStatus& status) HOLDING(mutex);
    /// Runs on the engine thread, behind everything that is queued now; does not wait for it.
    void post(Command command);
    /// Runs on the engine thread, behind everything that is queued now; waits for it.
    /// Does nothing once the engine has stopped.
    void call(const Command& command);
    /// The engine thread.
    void work();
    /// It is at work: for the devices that drive outputs.
    void beat();
    /// Does it; what it throws ends the engine's work.
    void guarded(const Command& what);
    void breakDown(Text why);

    // ---- on the engine thread

    /// Ties the run to the wall clock: every minute, and at once where that has been stepped. Sample times do not care.
    void anchorRecording(Instant t);
    void noticeSleep();
    /// The block, with a gap before it if the computer slept since the sample before it, at `from`.
    [[nodiscard]] BlockPtr sleptBefore(Instant from, const BlockPtr& block) const;

    void indexSignals();
    /// Known already, or made, with the bench's signals bound to its columns.
    Group& groupFor(const std::shared_ptr<const ScanGroup>& scan);
    void bind(Group& group);
    /// Decides for each of the group's signals what of it is recorded. A recording keeps to what was asked for when it,
    /// or the signal in it, began.
    void arrangeKeeping(Group& group);
    /// The bench with what is really kept of its signals.
    [[nodiscard]] Bench benchAsKept() const;
    /// On to the recorder, or to the gate before it.
    void record(ShotGate::Part part);
    /// What the policies still hold back, at a recording's end.
    void recordRest();

    /// A device that stamps its samples itself may do so out of order: traces and runs have them in order, and say so.
    BlockPtr ordered(Group& group, const BlockPtr& given);

    /// The block with the samples of signals under suspicion marked as such; itself where there are none.
    [[nodiscard]] BlockPtr withSuspicions(const Group& group, const BlockPtr& block) const;
    /// Of an input whose load is switched on, to see whether anything holds it.
    struct Probing {
        std::string signal;
        TerminalSetting::Probe how;
        double before = 0;  ///< raw
        Instant from;
        std::optional<Instant> until;  ///< the load is off again, and this is over then
    };
    std::optional<Probing> probing;
    void goOnProbing(Bound& bound, Instant at);
    /// The load is switched off; nothing is said. Does nothing where none is on.
    void endProbing();
    /// Asks the device for its terminals as the bench has them, with this setting of one of them changed. False where
    /// it cannot do that as it goes.
    bool requestWith(const SignalSpec& spec, const std::string& key, const std::string& choice);
    /// Engine thread. Signals of the group, by their places, that are looked at with this block.
    EvidenceRound::Portion toLookAt(Group& group, const Block& block) const;
    /// What speaks against the readings of those.
    void lookForEvidence(Group& group, const Block& block, EvidenceRound::Portion portion);
    void lookAt(Group& group, Bound& bound, const Block& block);
    /// Samples a second; of what has no clock as it has been of late.
    static double rateOf(const Group& group);
    static void lookAtReading(Bound& bound);
    static void lookAtContact(Bound& bound, EvidenceWatch::Stretch& stretch);
    static void lookAtAnalog(Group& group, Bound& bound, EvidenceWatch::Stretch& stretch);
    void lookAtPair(Bound& bound, const std::string& with, const AgreesSpec& how, const Block& block);
    /// Into the source, and where something began or ended, into the run.
    void publishEvidence(Bound& bound, Instant at);
    void forgetEvidence(Group& group);
    [[nodiscard]] Bound* boundOf(const std::string& signal);

    /// Puts into order, and takes apart where the computer slept in between.
    void process(const BlockPtr& given);
    /// Through chains into histories, rules, and on to the recorder.
    void take(Group& group, const BlockPtr& block);
    /// Runs the signal's chain over the block, into `readings`. Signals that the chain needs are taken sample by sample
    /// where they are of the same group, else the reading that is the newest at each sample holds; their quality, where
    /// it is not good, becomes that of the outcome too.
    void evaluate(Group& group, Bound& bound, const Block& block);
    /// The bench's computed signals; those that are as they were go on.
    void arrangeComputed();
    /// The newest block of the group, with its readings, to the computed signals that need it; works out what can be.
    void feedComputed(const Group& group, const Block& block);
    /// Works out all moments for which the inputs have come.
    void advance(Computed& c);
    /// And those for which they have not: nothing more will come.
    void finishComputed();
    /// Marks the computed signals that get nothing new any more because this device is lost.
    void markComputedLost(const std::string& device, Quality quality);
    /// Those that others of them need come before those.
    static std::vector<Bound> inOrderOfNeed(std::vector<Bound> bound);
    /// The newest readings, to the devices that publish them.
    void handOverPublished();
    /// The bench's rules; those that are as they were go on.
    void arrangeRules();
    [[nodiscard]] static bool reachable(LinkState state);
    /// With `readings` of the signal.
    void feedRules(const SignalSpec& spec, const Block& block);
    /// Nothing is known of the signal from now on.
    void loseInRules(const std::string& signal);
    /// What is known now, to an evaluator that begins.
    void seed(RuleEvaluator& evaluator, Instant at);
    /// What came of it: wishes, marks, alarms, events.
    void fireRules();
    void fire(const RuleFiring& firing);
    /// What the rules want now goes to the outputs whose wishes have changed.
    void settleOutputs();
    void endRule(std::size_t i, const RuleSpec& rule);
    void actOn(const RuleFiring& firing, const RuleSpec& rule, const Action& a);
    [[nodiscard]] std::string readingsOf(const RuleSpec& rule) const;
    [[nodiscard]] std::string readingText(const std::string& signal) const;
    /// What the rules want of the output, to the arbiter.
    void askRules(const SignalSpec& spec) HOLDING(devicesMutex);
    void askAs(const SignalSpec& spec, OutputHolder holder, const RuleWishes& all) HOLDING(devicesMutex);
    /// fireRules(), and their wishes to the outputs.
    void driveRules();
    /// Time has come to t.
    void passRules(Instant t);
    void publishRules(Instant t);
    /// Who wants it, in words.
    [[nodiscard]] std::string wisher(OutputHolder holder, std::size_t place) const;
    /// The bench's controls; those that go on keep what they know.
    void arrangeControls();
    void driveControls(Instant t);
    /// As fast as possible: see inStep.
    void keepInStep();
    void noteFailed(std::size_t i);
    /// Nobody prevails over what this control wants of its output.
    [[nodiscard]] bool holdsOutput(std::size_t i) const;
    /// A device that can play what is still to come by itself is told all of it.
    void handOver(std::size_t i, Instant t);
    /// Its device does, and nobody else wants anything of it. Where that is over, it is so from here on.
    [[nodiscard]] bool playsByItself(const SignalSpec& output);
    /// What the device plays and nobody wants any more ends with the value that is due.
    void endPlaying(const SignalSpec& output) HOLDING(devicesMutex);
    void listRefused(const std::string& device, const std::string& terminal) HOLDING(devicesMutex);
    [[nodiscard]] std::vector<ControlReport> reportControls() const;
    void beginProcedure(const ProcedureSpec& spec);
    /// What became of alarms, into the journal and the run.
    void noteAlarms();
    void driveProcedure(Instant t);
    /// Its outputs are safe.
    void leaveProcedure();
    void publishProcedure(Instant t);
    /// When they have something to do although nothing comes; nothing: never.
    [[nodiscard]] std::optional<Duration> untilRules() const;
    /// With `readings` of the signal: the newest good one, to be handed to the devices that publish it.
    void publish(const std::string& signal);
    /// What triggered the shots taken since the last call, into the run.
    void noteShots();

    /// An output's value as a sample of its own, so that it is shown and recorded like any other signal.
    void emitOutput(const SignalSpec& spec, double value);

    void markLost(const std::string& device, Quality quality);
    /// What the device's outputs were told last is not sure while it cannot be reached.
    void markOutputs(const std::string& device);

    // ---- devices and outputs, any thread

    void note(const std::string& device, DeviceStatus status);
    /// Engine thread: what did not fit, into the run, once a minute at most unless it is the end.
    void noteSkips(bool atTheEnd);
    void noteAccount();
    void noteQuiet(const std::shared_ptr<const ScanGroup>& group);
    /// Made when it is first asked for.
    std::shared_ptr<WireTap> wire(const std::string& device);

    /// Engine thread. What of a device's outputs is safe because nobody watches over them is looked at anew: those that
    /// are so from now on are told to be there, those that are back are brought to what the bench says for that.
    void lookAtFallen(const std::string& device, const DeviceStatus& status);
    /// Any thread.
    void endOutputs();
    /// What each output of the device is put to when nobody watches over it.
    [[nodiscard]] std::map<std::string, double> safeValues(const std::string& device) const;

    /// devicesMutex held; engine thread. False where the output is not driven: at rest, safe for good, or its device is
    /// none.
    [[nodiscard]] bool isDriven(const SignalSpec& spec) HOLDING(devicesMutex);
    /// devicesMutex held; engine thread. Asks the arbiter and sends what it decides. False as isDriven().
    bool ask(const SignalSpec& spec, OutputHolder holder, double value, Text why = {}) HOLDING(devicesMutex);
    /// devicesMutex held; engine thread. Hands a value that the arbiter decided to the device, the histories and the
    /// run; without one only what holds the output is noted.
    void send(const SignalSpec& spec, std::optional<double> value) HOLDING(devicesMutex);
    /// Engine thread: what the arbiter says of the output, for outputState().
    void noteOutput(const std::string& signal);
    /// Null where no device can be made of that kind.
    [[nodiscard]] const DeviceKind* kindOf(const DeviceSpec& spec) const {
        return options.kinds ? options.kinds->find(spec.kind) : deviceKind(spec.kind);
    }
    /// Whether a device is kept at rest.
    [[nodiscard]] bool rests(const DeviceSpec& spec) const HOLDING(devicesMutex);
    void tellSafeValues(Running& running) HOLDING(devicesMutex);

    /// devicesMutex held; engine thread. The device begins when the one that it replaces, if any, has ended.
    void launch(const DeviceSpec& spec, std::unique_ptr<Running> before = nullptr) HOLDING(devicesMutex);

    /// Engine thread.
    void take(const Bench& next);

    /// The bench as it is from here on, into the run.
    void noteBench(Instant at);

    /// Outputs of a device that no signal has any more are set to their safe values.
    void leaveOutputs(const Bench& before, Running& running);
    /// Asks a device's thread to end, and does not wait for it. What it still hands over is not taken.
    void retire(Running& running);
    /// Those that have ended go.
    void reap() HOLDING(devicesMutex);
};

}  // namespace cruscotto
