#include "devices/scpi/scpi_device.h"

#include <algorithm>
#include <cmath>

#include "devices/link/byte_template.h"
#include "devices/link/link_driver.h"

namespace cruscotto {

namespace {

constexpr int mostErrorsRead = 20;
constexpr std::size_t mostEntries = 64, mostListed = 1000;
constexpr int missedUntilSilent = 3;
constexpr Duration lookForErrorsEvery = milliseconds(2000), showErrorFor = milliseconds(10'000);

class ScpiDevice : public LinkDriver {
public:
    ScpiDevice(DeviceContext context, ScpiSettings settings)
        : LinkDriver(std::move(context), outputsOf(settings)),
          settings_(std::move(settings)),
          link_(makeByteLink(settings_.address)),
          answers_(settings_.end) {
        // What somebody had it play before is not known.
        for (const auto& [output, ends] : settings_.listEnds) lists_.insert(output);
        for (const ScpiQuery& q : settings_.queries) {
            std::vector<Channel> channels;
            for (const std::string& terminal : q.terminals())
                channels.push_back({terminal, SampleType::float64, ChannelKind::analogInput});
            asked_.push_back({&q, &addScan(q.name, std::move(channels)), {}, {}, {}});
        }
    }

protected:
    std::optional<ByteLink::Failure> open() override { return link_->open(); }
    void close() override { link_->close(); }
    void wake() override { link_->wake(); }
    [[nodiscard]] Instant lostSince() const override { return {now().ns - link_->unheard().ns}; }
    [[nodiscard]] Text lostSentence() const override {
        return text(CRUSCOTTO_TEXT("The connection to {0} broke. It is tried again; the gap is kept."), link_->name());
    }
    void finish() override { sendOutputs(); }
    void keepReady(CrashSend& crash, const std::map<std::string, double>& safe) override {
        const std::string end(1, settings_.end);
        std::vector<std::string> messages;
        for (const auto& [output, value] : safe)
            if (const auto ends = settings_.listEnds.find(output); ends != settings_.listEnds.end())
                for (const std::string& message : ends->second) messages.push_back(message + end);
        for (std::string& message : messagesFor(settings_.outputs, safe, end)) messages.push_back(std::move(message));
        crash.arm(link_->descriptor(), messages);
    }
    [[nodiscard]] std::size_t mostPlayed(const std::string& output) const override {
        return settings_.lists.contains(output) ? mostListed : 0;
    }

    End talk(const std::stop_token& stop) override {
        answers_.reset();
        waiting_.clear();
        misses_ = 0;
        setState(LinkState::starting, text(CRUSCOTTO_TEXT("Connected to {0}; asking what it is."), link_->name()));
        std::string answer;
        // Answers to somebody who was there before may still be on their way.
        if (const Outcome o = excused(query("*IDN?", answer, stop)); o != Outcome::good) return after(o, stop);
        identity_ = answer.substr(0, 120);
        if (nothingAsked())
            if (const Outcome o = excused(describe(stop)); o != Outcome::good) return after(o, stop);
        // Commands may do anything.
        if (!atRest())
            for (const std::string& line : settings_.setup)
                if (!send(line)) return End::lost;
        nextLook_ = now();
        for (Asked& a : asked_) a.due = now();
        while (!stop.stop_requested()) {
            if (!sendOutputs()) return End::lost;
            if (const Outcome o = excused(playLists(stop)); o != Outcome::good) return after(o, stop);
            if (now() >= nextLook_) {
                nextLook_ = now() + lookForErrorsEvery;
                if (const Outcome o = excused(readErrors(stop)); o != Outcome::good) return after(o, stop);
                judge();
            }
            reportSometimes();
            const auto next = std::ranges::min_element(asked_, {}, &Asked::due);
            const Instant due = next == asked_.end() ? nextLook_ : std::min(next->due, nextLook_);
            if (due > now()) {
                if (!idle(std::max(due - now(), milliseconds(1)))) return End::lost;
                continue;
            }
            if (next == asked_.end() || next->due > now()) continue;
            if (const Outcome o = ask(*next, stop);
                o == Outcome::lost || o == Outcome::stopped || o == Outcome::nothing)
                return after(o, stop);
        }
        return End::stopped;
    }

private:
    enum class Outcome { good, nothing, lost, stopped };
    struct Asked {
        const ScpiQuery* what;
        ScanBuffer* scan;
        Instant due;
        std::optional<Instant> lastGood;
        Text problem;
    };

    static std::set<std::string> outputsOf(const ScpiSettings& settings) {
        std::set<std::string> out;
        for (const auto& [name, bytes] : settings.outputs) out.insert(name);
        return out;
    }

    /// In a capture that is replayed not everything was asked.
    [[nodiscard]] Outcome excused(Outcome o) const {
        return o == Outcome::nothing && settings_.address.isCapture() ? Outcome::good : o;
    }

    /// What to do when an exchange did not go well. An instrument that says nothing at all is connected to anew.
    End after(Outcome o, const std::stop_token& stop) {
        if (stop.stop_requested()) return End::stopped;
        if (o == Outcome::lost) return End::lost;
        setState(
            LinkState::silent,
            identity_.empty()
                ? text(CRUSCOTTO_TEXT("{0} is open, but does not say what it is (*IDN?). Check that it is the port for "
                                      "commands, and on a serial line the speed."),
                       link_->name())
                : text(CRUSCOTTO_TEXT("{0} has stopped answering. It is asked anew; the gap is kept."), link_->name()));
        return End::again;
    }

    bool send(const std::string& message) {
        const std::string bytes = message + settings_.end;
        tell(WireMessage::Way::sent, bytes);
        return link_->write(bytes);
    }

    bool idle(Duration d) {
        std::string bytes;
        const auto got = link_->read(std::min(d, milliseconds(100)), bytes);
        if (got == ByteLink::Got::lost) return false;
        if (!bytes.empty()) {
            answers_.feed(bytes, waiting_);
            for (const auto& piece : waiting_)
                strange(piece, CRUSCOTTO_TEXT("came without being asked for, or too late"));
            waiting_.clear();
        }
        return true;
    }

    void strange(const ScpiAnswers::Piece& piece, const Text& why) {
        const Text reason = piece.problem ? Text(piece.problem) : why;
        reject(piece.bytes, reason);
        tell(WireMessage::Way::received, piece.bytes, {}, reason);
    }

    /// The next whole answer.
    Outcome receive(ScpiAnswers::Piece& piece, Duration limit, const std::stop_token& stop) {
        const Instant until = now() + limit;
        while (waiting_.empty()) {
            if (stop.stop_requested()) return Outcome::stopped;
            const Instant t = now();
            if (t >= until) return Outcome::nothing;
            std::string bytes;
            if (link_->read(until - t, bytes) == ByteLink::Got::lost) return Outcome::lost;
            status().bytes += bytes.size();
            answers_.feed(bytes, waiting_);
        }
        piece = std::move(waiting_.front());
        waiting_.erase(waiting_.begin());
        ++status().lines;
        return Outcome::good;
    }

    Outcome query(const std::string& message, std::string& answer, const std::stop_token& stop) {
        if (!send(message)) return Outcome::lost;
        ScpiAnswers::Piece piece;
        if (const Outcome o = receive(piece, seconds(settings_.timeoutSeconds), stop); o != Outcome::good) return o;
        tell(WireMessage::Way::received, piece.bytes, {}, piece.problem ? Text(piece.problem) : Text{});
        if (piece.problem) {
            reject(piece.bytes, piece.problem);
            return Outcome::nothing;
        }
        answer = piece.text;
        return Outcome::good;
    }

    /// After a missing answer: what still comes belongs to the questions before. The instrument is asked what it is,
    /// and all up to that answer is passed over (IEEE 488.2, 6.3: a new message ends the one that waits).
    Outcome resynchronise(const std::stop_token& stop) {
        const Instant until = now() + seconds(2 * settings_.timeoutSeconds);
        if (!send("*IDN?")) return Outcome::lost;
        while (now() < until) {
            ScpiAnswers::Piece piece;
            if (const Outcome o = receive(piece, until - now(), stop); o != Outcome::good) return o;
            if (piece.text.starts_with(identity_)) {
                tell(WireMessage::Way::received, piece.bytes);
                return settle(stop);
            }
            strange(piece, CRUSCOTTO_TEXT("came too late"));
        }
        return Outcome::nothing;
    }
    /// Some answer out of order: the late answer may yet come behind the identification. Nothing is asked until it has
    /// been quiet for a while.
    Outcome settle(const std::stop_token& stop) {
        const Duration quiet = std::min(seconds(settings_.timeoutSeconds), milliseconds(500));
        const Instant most = now() + seconds(2 * settings_.timeoutSeconds);
        while (now() < most) {
            ScpiAnswers::Piece piece;
            const Outcome o = receive(piece, quiet, stop);
            if (o == Outcome::nothing) return Outcome::good;
            if (o != Outcome::good) return o;
            strange(piece, CRUSCOTTO_TEXT("came too late"));
        }
        return Outcome::nothing;
    }

    /// `nothing` where it does not answer at all any more.
    Outcome ask(Asked& asked, const std::stop_token& stop) {
        const ScpiQuery& q = *asked.what;
        asked.due = std::max(asked.due + seconds(q.everySeconds), now());
        // What lies there already is no answer to what is asked now.
        if (!idle(Duration{})) return Outcome::lost;
        const Instant sent = now();
        if (!send(q.text)) return Outcome::lost;
        ScpiAnswers::Piece piece;
        const Outcome o = receive(piece, seconds(settings_.timeoutSeconds), stop);
        if (o == Outcome::lost || o == Outcome::stopped) return o;
        if (o == Outcome::nothing) {
            asked.problem = text(CRUSCOTTO_TEXT("{0} was not answered within {1} s"), q.text, settings_.timeoutSeconds);
            tell(WireMessage::Way::received, {}, {}, asked.problem);
            if (++misses_ >= missedUntilSilent) return Outcome::nothing;
            if (const Outcome again = excused(resynchronise(stop)); again != Outcome::good) return again;
            nextLook_ = now();
            judge();
            return Outcome::good;
        }
        misses_ = 0;
        const Instant at{sent.ns + (now().ns - sent.ns) / 2};
        std::vector<WireField> fields;
        Text problem = piece.problem ? Text(piece.problem) : Text{};
        if (problem.empty()) problem = take(asked, piece, at, fields);
        tell(WireMessage::Way::received, piece.bytes, std::move(fields), problem);
        if (!problem.empty()) {
            reject(piece.bytes, problem);
            nextLook_ = now();  // the instrument may say why
        }
        asked.problem = problem.empty()
                            ? Text{}
                            : text(CRUSCOTTO_TEXT("the answer to {0} does not fit: {1}"), q.text, problem.english());
        judge();
        return Outcome::good;
    }

    Text take(Asked& asked, const ScpiAnswers::Piece& piece, Instant at, std::vector<WireField>& fields) {
        const ScpiQuery& q = *asked.what;
        if (q.answer == ScpiQuery::Answer::block) {
            if (!piece.block) return CRUSCOTTO_TEXT("no block of bytes");
            const std::vector<double> samples = scpiSamples(q, piece.text);
            // The last sample has been taken when the question came; a step back in time between two blocks is none.
            const Duration step = seconds(q.stepSeconds);
            Instant t{at.ns - step.ns * static_cast<std::int64_t>(samples.size())};
            for (const double v : samples) {
                t = t + step;
                asked.scan->add(t, std::span(&v, 1));
            }
        } else {
            if (piece.block) return CRUSCOTTO_TEXT("a block of bytes where numbers were expected");
            const auto numbers = scpiNumbers(piece.text);
            if (!numbers) return numbers.error().message;
            if (numbers.value().size() != q.parts.size())
                return text(CRUSCOTTO_TEXT("{0} numbers instead of {1}"), numbers.value().size(), q.parts.size());
            std::vector<double> values;
            std::vector<Quality> qualities;
            for (const ScpiNumber& n : numbers.value()) {
                values.push_back(n.value);
                qualities.push_back(n.quality);
            }
            asked.scan->add(at, values, qualities);
            if (wireOpen()) {
                std::size_t start = 0;
                const auto names = q.terminals();
                for (std::size_t i = 0; i < names.size(); ++i) {
                    const std::size_t end = std::min(piece.bytes.find_first_of(",\r\n", start), piece.bytes.size());
                    fields.push_back({start, end - start, names[i], values[i]});
                    start = std::min(end + 1, piece.bytes.size());
                }
            }
        }
        asked.scan->deliver(sink());
        asked.lastGood = at;
        return {};
    }

    [[nodiscard]] bool nothingAsked() const { return asked_.empty() && settings_.setup.empty(); }

    /// Nothing is to be read yet: what the instrument says of itself is all there is to tell. Its four fields
    /// (IEEE 488.2, 10.14), its options, as modules of a switch unit are (10.20), and its logical instruments (SCPI-99,
    /// INSTrument:CATalog?). What it has none of it may leave unanswered, with an error in its queue that is ours.
    Outcome describe(const std::stop_token& stop) {
        constexpr const char* fields[]{"maker", "model", "number", "firmware"};
        status().parts.clear();
        const auto list = [&](const std::string& answer, const auto& placeOf) {
            const auto entries = scpiEntries(answer, mostEntries);
            for (std::size_t i = 0; i < entries.size(); ++i)
                if (!entries[i].empty() && entries[i] != "0")
                    status().parts.push_back({placeOf(i), Text(entries[i].substr(0, 80))});
        };
        list(identity_, [&](std::size_t i) { return i < 4 ? fields[i] : std::string("more"); });
        if (const Outcome o = readErrors(stop); o != Outcome::good) return o;
        const std::pair<const char*, const char*> questions[]{{"*OPT?", "option"}, {"INST:CAT?", "instrument"}};
        for (const auto& asked : questions) {
            std::string answer;
            Outcome o = query(asked.first, answer, stop);
            if (o == Outcome::good)
                list(answer, [&](std::size_t i) { return fmt::format("{} {}", asked.second, i + 1); });
            if (o == Outcome::nothing) o = resynchronise(stop);
            for (int i = 0; i < mostErrorsRead && readsErrors_ && o == Outcome::good; ++i) {
                o = query("SYST:ERR?", answer, stop);
                if (answer.starts_with("0") || answer.starts_with("+0")) break;
            }
            if (o != Outcome::good) return o;
        }
        return Outcome::good;
    }

    /// SCPI-99, 21.8: the queue is read until it says 0.
    Outcome readErrors(const std::stop_token& stop) {
        const std::set<std::string> sent = std::exchange(sent_, {});
        Text refused;
        const Outcome o = readErrors(stop, refused);
        if (o == Outcome::good)
            for (const std::string& output : sent) outputSent(output, refused);
        return o;
    }
    Outcome readErrors(const std::stop_token& stop, Text& last) {
        for (int i = 0; i < mostErrorsRead; ++i) {
            std::string answer;
            if (const Outcome o = query("SYST:ERR?", answer, stop); o != Outcome::good) {
                // Not every instrument has it; one that is silent then is not asked again.
                if (o != Outcome::nothing || readsErrors_) return o;
                return resynchronise(stop);
            }
            readsErrors_ = true;
            const auto code = scpiNumbers(answer.substr(0, answer.find(',')));
            if (!code || code.value().front().value == 0) return Outcome::good;
            instrumentError_ = answer.substr(0, 200);
            last = text(CRUSCOTTO_TEXT("the instrument says {0}"), instrumentError_);
            errorSince_ = now();
            reject(answer, text(CRUSCOTTO_TEXT("the instrument reports an error")));
        }
        return Outcome::good;
    }

    void judge() {
        if (now() - errorSince_ > showErrorFor) instrumentError_.clear();
        Text problem;
        if (const auto& refused = status().outputProblems; !refused.empty())
            problem = text(CRUSCOTTO_TEXT("the output {0} did not go through: {1}"), refused.begin()->first,
                           refused.begin()->second.english());
        for (const Asked& a : asked_)
            if (problem.empty()) problem = a.problem;
        if (!problem.empty() || !instrumentError_.empty()) {
            std::string words = problem.english();
            if (!instrumentError_.empty())
                words += (words.empty() ? "" : "; ") + std::string("it says ") + instrumentError_;
            setLive(text(CRUSCOTTO_TEXT("{0} answers, but not everything is well: {1}."), identity_, words));
        } else {
            setLive(text(nothingAsked() ? CRUSCOTTO_TEXT("{0} answers. Write under Questions what to ask it.")
                                        : CRUSCOTTO_TEXT("{0} answers."),
                         identity_));
        }
    }

    bool sendOutputs() {
        const auto due = dueOutputs();
        for (std::size_t i = 0; i < due.size(); ++i) {
            const std::string bytes = bytesFor(settings_.outputs.at(due[i].first), due[i].second);
            if (!endList(due[i].first) || !send(bytes)) {
                for (std::size_t k = i; k < due.size(); ++k) owe(due[k].first, due[k].second);
                return false;
            }
            nextLook_ = now();
            sent_.insert(due[i].first);
        }
        return true;
    }

    /// What an output plays by itself stops before it is told anything else.
    bool endList(const std::string& output) {
        if (!lists_.erase(output)) return true;
        const auto ends = settings_.listEnds.find(output);
        if (ends == settings_.listEnds.end() ||
            std::ranges::all_of(ends->second, [&](const auto& m) { return send(m); }))
            return true;
        lists_.insert(output);
        return false;
    }

    /// Lists that outputs are to play: all of each but its last message, which begins it, and that only where nothing
    /// was refused: an instrument would play what it was told before.
    Outcome playLists(const std::stop_token& stop) {
        for (const auto& [output, list] : duePlays()) {
            if (const Outcome o = readErrors(stop); o != Outcome::good) return o;  // of what was sent before
            if (!endList(output)) return Outcome::lost;
            std::vector<std::string> messages = listMessages(settings_.lists.at(output), list);
            const std::string last = std::move(messages.back());
            messages.pop_back();
            for (const std::string& message : messages)
                if (!send(message)) return Outcome::lost;
            lists_.insert(output);
            Text refused;
            if (const Outcome o = readErrors(stop, refused); o != Outcome::good) return o;
            if (!refused.empty()) {
                outputSent(output, refused);
                continue;
            }
            if (!send(last)) return Outcome::lost;
            sent_.insert(output);
            nextLook_ = now();
        }
        return Outcome::good;
    }

    const ScpiSettings settings_;
    const std::unique_ptr<ByteLink> link_;
    ScpiAnswers answers_;
    std::vector<ScpiAnswers::Piece> waiting_;
    std::vector<Asked> asked_;
    std::string identity_, instrumentError_;
    std::set<std::string> sent_;   // outputs, since the errors were last read
    std::set<std::string> lists_;  // outputs that may play a list
    Instant nextLook_, errorSince_;
    bool readsErrors_ = false;
    int misses_ = 0;
};

}  // namespace

std::unique_ptr<Device> makeScpi(const DeviceContext& context, ScpiSettings settings) {
    return std::make_unique<ScpiDevice>(context, std::move(settings));
}

}  // namespace cruscotto
