#pragma once

#include <QObject>
#include <QStringList>
#include <memory>

#include "app/document/newest_job.h"
#include "core/compare/band.h"
#include "core/compare/difference.h"
#include "core/compare/run_table.h"
#include "engine/run_source.h"

namespace cruscotto {

class Session;

/// Runs beside what is open: drawn in the traces by their signals' ids, and compared with it. Screen thread only.
class RunsBeside : public QObject {
    Q_OBJECT
public:
    explicit RunsBeside(Session& session);
    ~RunsBeside() override;

    /// Its readings are drawn `shift` later than they were by its own time.
    struct Run {
        QString path;
        std::shared_ptr<RunSource> source;
        Duration shift{};
        bool there = false;  ///< it has been opened
        [[nodiscard]] QString name() const;
        [[nodiscard]] const Bench& bench() const { return source->info()->bench; }
        /// It is open and has the signal, in its unit.
        [[nodiscard]] bool has(const SignalSpec& signal) const;
        [[nodiscard]] LaidOver laid() const { return {source.get(), shift}; }
    };
    [[nodiscard]] const std::vector<std::unique_ptr<Run>>& runs() const { return runs_; }
    [[nodiscard]] bool empty() const { return runs_.empty(); }
    /// Begins to open it; changed() or failed() follows.
    void add(const QString& path);
    void remove(std::size_t which);
    void clear();
    /// So much later than it lies now.
    void shift(std::size_t which, Duration by);

    /// How they lie and are drawn.
    enum class Drawn { paler, band };
    struct View {
        Alignment by = Alignment::beginning;
        Crossing crossing;
        Drawn drawn = Drawn::paler;
        bool difference = false;  ///< what is open less held(), in a lane of its own
        std::size_t heldAgainst = 0;
        BandLimits limits;
        bool operator==(const View&) const = default;
    };
    [[nodiscard]] const View& view() const { return view_; }
    void setView(const View& view);
    /// Lays all of them anew by view().by. Those that cannot be laid so begin together with what is open; the reason of
    /// the first of them is returned, else nothing.
    QString align();

    /// Those that are open and have the signal, in its unit.
    [[nodiscard]] std::vector<LaidOver> having(const SignalSpec& signal) const;

    /// The one that view().heldAgainst means, as having() gives it; nothing where it has not the signal.
    [[nodiscard]] std::optional<LaidOver> held(const SignalSpec& signal) const;

    /// What a thread of its own finds out.
    struct Comparison {
        std::vector<SignalDifference> differences;
        std::vector<Text> written;
        std::vector<RunTableRow> table;
        Text problem;
    };
    /// What differs between what is open and this one, where they meet; within `stretch` where it is given.
    void askDifferences(std::size_t which, std::optional<Span> stretch);
    /// The measures of a signal in what is open and in all of them, in this order.
    void askTable(const std::string& signal, std::optional<Span> stretch);
    [[nodiscard]] NewestJob<Comparison>& comparing() { return comparing_; }

    /// Called by the frame clock.
    void poll();

Q_SIGNALS:
    void changed();
    void failed(const QString& sentence);
    void noticed(const QString& sentence);

private:
    [[nodiscard]] std::optional<Instant> ownMark() const;
    QString lay(Run& run);

    Session& session_;
    std::vector<std::unique_ptr<Run>> runs_;
    View view_;
    NewestJob<Comparison> comparing_;
};

}  // namespace cruscotto
