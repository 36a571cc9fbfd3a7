#include "app/document/runs_beside.h"

#include <QFileInfo>

#include "app/document/session.h"
#include "app/widgets/words.h"

namespace cruscotto {

RunsBeside::RunsBeside(Session& session) : session_(session) {}
RunsBeside::~RunsBeside() = default;

QString RunsBeside::Run::name() const {
    const QString title = there ? shown(source->info()->notes.title) : QString();
    return title.isEmpty() ? QFileInfo(path).completeBaseName() : title;
}

void RunsBeside::add(const QString& path) {
    auto run = std::make_unique<Run>();
    run->path = path;
    run->source = std::make_shared<RunSource>(path.toStdString());
    runs_.push_back(std::move(run));
    Q_EMIT changed();
}

void RunsBeside::remove(std::size_t which) {
    if (which >= runs_.size()) return;
    runs_.erase(runs_.begin() + static_cast<std::ptrdiff_t>(which));
    if (which < view_.heldAgainst) --view_.heldAgainst;
    Q_EMIT changed();
}

void RunsBeside::clear() {
    comparing_.stop();
    if (runs_.empty()) return;
    runs_.clear();
    Q_EMIT changed();
}

void RunsBeside::shift(std::size_t which, Duration by) {
    if (which >= runs_.size()) return;
    runs_[which]->shift = runs_[which]->shift + by;
    Q_EMIT changed();
}

void RunsBeside::setView(const View& view) {
    if (view == view_) return;
    view_ = view;
    Q_EMIT changed();
}

std::optional<Instant> RunsBeside::ownMark() const {
    std::optional<Instant> first;
    for (const Mark& mark : session_.marks())
        if (!first || mark.at < *first) first = mark.at;
    return first;
}

QString RunsBeside::lay(Run& run) {
    const auto& marks = run.source->info()->marks;
    const auto mark = marks.empty() ? std::nullopt : std::optional(marks.front().at);
    const Source& own = session_.source();
    auto found = shiftFor(view_.by, own, ownMark(), *run.source, mark, view_.crossing);
    run.shift = found ? found.value() : own.extent().from - run.source->extent().from;
    return found ? QString() : run.name() + QStringLiteral(": ") + shown(found.error().message);
}

QString RunsBeside::align() {
    QString why;
    for (const auto& run : runs_)
        if (run->there)
            if (const QString words = lay(*run); why.isEmpty()) why = words;
    Q_EMIT changed();
    return why;
}

bool RunsBeside::Run::has(const SignalSpec& signal) const {
    const SignalSpec* its = there ? bench().signal(signal.id) : nullptr;
    return its && its->unit() == signal.unit() && its->isState() == signal.isState();
}

std::vector<LaidOver> RunsBeside::having(const SignalSpec& signal) const {
    std::vector<LaidOver> out;
    for (const auto& run : runs_)
        if (run->has(signal)) out.push_back(run->laid());
    return out;
}

std::optional<LaidOver> RunsBeside::held(const SignalSpec& signal) const {
    if (runs_.empty()) return {};
    const Run& run = *runs_[std::min(view_.heldAgainst, runs_.size() - 1)];
    return run.has(signal) ? std::optional(run.laid()) : std::nullopt;
}

void RunsBeside::poll() {
    comparing_.poll();
    for (auto it = runs_.begin(); it != runs_.end();) {
        Run& run = **it;
        const RunSource::State state = run.source->state();
        if (state.error) {
            const QString why = shown(state.error->message);
            it = runs_.erase(it);
            Q_EMIT failed(why);
            Q_EMIT changed();
            continue;
        }
        if (!run.there && state.opened) {
            run.there = true;
            if (const QString why = lay(run); !why.isEmpty()) Q_EMIT noticed(why);
            Q_EMIT changed();
            const bool any =
                std::ranges::any_of(run.bench().signals, [&](const auto& s) { return session_.bench().signal(s->id); });
            if (!any) Q_EMIT noticed(tr("%1 has no signal of this bench: there is nothing to lay over.").arg(run.path));
        }
        ++it;
    }
}

void RunsBeside::askDifferences(std::size_t which, std::optional<Span> stretch) {
    if (which >= runs_.size() || !runs_[which]->there) return;
    const Run& run = *runs_[which];
    const RunInfo& theirs = *run.source->info();
    const Bench own = session_.isRun() ? session_.run()->info()->benchThatComputes() : session_.bench();
    comparing_.ask([own, shownBench = session_.bench(), notes = session_.runNotes(), isRun = session_.isRun(),
                    &source = session_.source(), laid = run.source, shift = run.shift, info = run.source->info(),
                    writtenThere = theirs.benchThatComputes(), stretch](Progress& progress) {
        Comparison out;
        const LaidOver other{laid.get(), shift};
        Span span = commonSpan(source, other);
        if (stretch) span = {std::max(span.from, stretch->from), std::min(span.to, stretch->to)};
        if (!(span.from < span.to)) {
            out.problem = CRUSCOTTO_TEXT("The two do not meet in time, laid over each other so.");
            return out;
        }
        out.differences = differencesBetween(shownBench, source, info->bench, other, span, &progress);
        if (isRun) out.written = writtenDifferences(notes, info->notes);
        for (Text& words : writtenDifferences(own, writtenThere)) out.written.push_back(std::move(words));
        return out;
    });
}

void RunsBeside::askTable(const std::string& signal, std::optional<Span> stretch) {
    struct Of {
        Bench bench;
        std::shared_ptr<RunSource> source;  // null: what is open
        LaidOver laid;
    };
    auto all = std::make_shared<std::vector<Of>>();
    all->push_back({session_.bench(), nullptr, {&session_.source(), {}}});
    Span span = stretch.value_or(session_.source().extent());
    for (const auto& run : runs_) {
        if (!run->there) continue;
        const Span common = commonSpan(session_.source(), run->laid());
        if (common.from < common.to) span = {std::max(span.from, common.from), std::min(span.to, common.to)};
        all->push_back({run->bench(), run->source, run->laid()});
    }
    comparing_.ask([all, signal, span](Progress& progress) {
        Comparison out;
        if (!(span.from < span.to)) {
            out.problem = CRUSCOTTO_TEXT("The runs do not meet in time, laid over each other so.");
            return out;
        }
        std::vector<std::pair<const Bench*, LaidOver>> of;
        for (const Of& one : *all) of.emplace_back(&one.bench, one.laid);
        auto table = runTable(of, signal, {}, span, &progress);
        if (table)
            out.table = std::move(table.value());
        else
            out.problem = table.error().message;
        return out;
    });
}

}  // namespace cruscotto
