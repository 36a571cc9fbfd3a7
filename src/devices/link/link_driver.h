#pragma once

#include <condition_variable>
#include <deque>
#include <functional>
#include <map>
#include <optional>
#include <set>

#include "core/base/crash_send.h"
#include "core/base/guarded.h"
#include "devices/link/byte_link.h"
#include "devices/link/scan_buffer.h"

namespace cruscotto {

/// What drivers of a link have in common: opening it, coming back by itself ever less often, the gap that an absence
/// leaves, the states, and outputs that wait to be sent, and that are put to their safe values when the link fails. A
/// driver overrides what is particular to its protocol. All of it runs on the thread of run(), but for wake() and what
/// Device says.
class LinkDriver : public Device {
public:
    void run(DeviceSink& sink, std::stop_token stop) final;
    void setOutput(const std::string& terminal, double value) final;
    bool playByItself(const std::string& terminal, const PlayedList& list) final;
    void setSafeValues(const std::map<std::string, double>& byTerminal) final;
    void allowOutputs(std::uint64_t fellSafe) final;
    void sendSafe() final { crash_.send(); }
    void setParameter(const std::string& key, const std::string& value) final;
    bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return false; }

protected:
    enum class End {
        lost,    ///< it was there, and went away
        again,   ///< it is there, but not as it should be (the state says so): opened anew after a while
        stopped  ///< the stop was asked for
    };
    LinkDriver(DeviceContext context, std::set<std::string> outputs);

    virtual std::optional<ByteLink::Failure> open() = 0;
    virtual void close() = 0;
    /// Any thread: ends what open() or talk() waits for.
    virtual void wake() = 0;
    /// Asks and listens until the link is lost or the stop is asked for.
    virtual End talk(const std::stop_token& stop) = 0;
    /// Before the link is closed in order: the outputs' last values are to be sent.
    virtual void finish() {}
    /// When what is lost now was last known to be there; a gap begins there. Now, unless a driver knows better.
    [[nodiscard]] virtual Instant lostSince() const { return now(); }
    /// What went away and what to do, for the state "lost".
    [[nodiscard]] virtual Text lostSentence() const = 0;
    /// A device that is asked and says nothing has failed; one that speaks when it has something to say may have
    /// nothing.
    [[nodiscard]] virtual bool silenceIsFault() const { return true; }
    /// Has `crash` hold what puts these outputs there if the program crashes. Called while the link is open; does
    /// nothing where the kind of link does not allow it.
    virtual void keepReady(CrashSend& /*crash*/, const std::map<std::string, double>& /*safe*/) {}

    [[nodiscard]] const std::string& id() const { return context_.id; }
    /// Nothing is to be driven: see DeviceContext.
    [[nodiscard]] bool atRest() const { return context_.atRest; }
    [[nodiscard]] Instant now() const { return sink_->now(); }
    /// For open(), which may wait long.
    [[nodiscard]] const std::stop_token& stopToken() const { return stop_; }
    DeviceSink& sink() { return *sink_; }
    /// Reported where it differs from what was.
    void setState(LinkState state, Text sentence, std::vector<DeviceStatus::Suggestion> suggestions = {});
    /// Readings arrive: the next absence is looked after at once again.
    void setLive(Text sentence, std::vector<DeviceStatus::Suggestion> suggestions = {});
    /// What counts bytes and lines; told to the sink four times a second by reportSometimes().
    DeviceStatus& status() { return status_; }
    void reportSometimes();
    void reject(std::string_view bytes, Text reason);
    /// Buffers that a gap is marked in, and that are delivered, together. Stay where they are.
    ScanBuffer& addScan(std::string name, std::vector<Channel> channels);
    void deliver();
    /// Somebody looks at the wire.
    [[nodiscard]] bool wireOpen() const { return context_.wire && context_.wire->isOpen(); }
    void tell(WireMessage::Way way, std::string bytes, std::vector<WireField> fields = {}, Text problem = {});
    void tellAt(Instant at, WireMessage::Way way, std::string bytes, std::vector<WireField> fields, Text problem);
    /// What outputs have been set to since the last time, of each only the newest value. Drivers call it at least ten
    /// times a second: it also checks that the engine is alive.
    [[nodiscard]] std::vector<std::pair<std::string, double>> dueOutputs();
    /// What outputs are to play by themselves since the last time; to be sent behind dueOutputs().
    [[nodiscard]] std::map<std::string, PlayedList> duePlays();
    /// A sign of life may be sent, for devices that put their outputs to rest without one.
    [[nodiscard]] bool mayBeat() const { return !atRest() && engineAlive_; }
    /// What came of writing a parameter: what was done, or why not.
    struct Written {
        Text done{};
        Text problem{};
    };
    static Written notTaken(const std::string& value);
    static Written writtenAndRead();
    /// Has `write` write what waits to be written, by its place in status().parameters, in order, and reports what came
    /// of each. `write` gives nothing where the link is lost: then false, and what was not written says so.
    bool writeWaiting(const std::function<std::optional<Written>(std::size_t, const std::string&)>& write);
    /// For request(), any thread: ends pauseUnlessAsked(), and is found with newRequests(). `outputs` can be set from
    /// now on.
    void requestLater(const std::vector<TerminalRequest>& terminals, const std::set<std::string>& outputs = {});
    /// All that the bench asks for, where that has changed since the last time.
    [[nodiscard]] std::optional<std::vector<TerminalRequest>> newRequests();
    /// An output could not be sent now; sent with the next unless it is set anew.
    void owe(const std::string& terminal, double value);
    /// Some of what is behind the link has failed, and with it these outputs: they are put to their safe values, and
    /// are sent when it is back. The rest goes on.
    void partFails(const std::set<std::string>& outputs);
    void partIsBack(const std::set<std::string>& outputs);
    /// What keepReady() would say has changed: it is asked again with the next dueOutputs().
    void readyAgain() { ready_.clear(); }
    /// What came of sending an output: empty where it went through, else how it was refused or changed. Reported where
    /// that differs from what was.
    void outputSent(const std::string& terminal, Text problem);
    /// Waits without the processor; ends with the stop.
    void pause(const std::stop_token& stop, Duration d);
    /// Ends also when there are newRequests().
    void pauseUnlessAsked(const std::stop_token& stop, Duration d);

private:
    const DeviceContext context_;
    Mutex sleepMutex_;
    std::condition_variable_any sleeper_;
    std::optional<std::vector<TerminalRequest>> requested_ GUARDED_BY(sleepMutex_);
    Mutex outputMutex_;
    std::set<std::string> outputNames_ GUARDED_BY(outputMutex_);
    struct Output {
        double value = 0;
        bool waits = false;
        bool sent = false;  // since the outputs were last safe
    };
    /// Outputs that are driven are put to their safe values, and stay there until allowOutputs().
    void fallSafe(const std::set<std::string>* only = nullptr);
    /// Outputs fall safe when the engine's pulse (DeviceContext) is too old, and come back with it.
    void checkPulse();
    std::map<std::string, Output> outputs_ GUARDED_BY(outputMutex_);
    std::map<std::string, PlayedList> plays_ GUARDED_BY(outputMutex_);  // not sent yet
    bool live_ GUARDED_BY(outputMutex_) = false;
    std::map<std::string, double> safe_ GUARDED_BY(outputMutex_);
    std::set<std::string> held_ GUARDED_BY(outputMutex_);  // they take nothing until allowOutputs()
    std::uint64_t fell_ GUARDED_BY(outputMutex_) = 0;
    std::vector<std::pair<std::string, std::string>> parameters_ GUARDED_BY(outputMutex_);
    // the run thread's own
    DeviceSink* sink_ = nullptr;
    std::stop_token stop_;
    DeviceStatus status_;
    Instant lastReport_;
    Duration retry_;
    bool engineAlive_ = true;
    std::deque<ScanBuffer> scans_;
    CrashSend crash_;
    std::map<std::string, double> ready_;  // what crash_ holds
    std::set<std::string> failedParts_;    // their outputs
    std::set<std::string> unwatched_;      // outputs that are safe because the engine hangs
};

}  // namespace cruscotto
