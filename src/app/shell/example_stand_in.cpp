#include "app/shell/example_stand_in.h"

#include <sys/prctl.h>
#include <QCoreApplication>
#include <algorithm>
#include <csignal>

namespace cruscotto {

namespace {
std::optional<Example> exampleOf(const QString& name) {
    for (const Example& e : examples())
        if (e.name == name) return e;
    return std::nullopt;
}
}  // namespace

ExampleStandIn::ExampleStandIn(Session& session, QObject* parent) : QObject(parent), session_(session) {
    program_ = QCoreApplication::applicationFilePath();
    process_.setStandardOutputFile(QProcess::nullDevice());
    // It does not outlive this program, however that ends.
    process_.setChildProcessModifier([] { prctl(PR_SET_PDEATHSIG, SIGTERM); });
    connect(&session_, &Session::sourceChanged, this, &ExampleStandIn::begin);
    connect(&process_, &QProcess::errorOccurred, this, [this](QProcess::ProcessError error) {
        if (error == QProcess::FailedToStart)
            Q_EMIT failed(tr("%1 cannot be started: %2.").arg(process_.program(), process_.errorString()));
    });
    connect(&process_, &QProcess::finished, this, [this](int code, QProcess::ExitStatus how) {
        if (how == QProcess::NormalExit && code != 0)
            Q_EMIT failed(QString::fromUtf8(process_.readAllStandardError()).trimmed());
    });
}

ExampleStandIn::~ExampleStandIn() {
    process_.disconnect(this);
    process_.terminate();
    if (!process_.waitForFinished(1000)) process_.kill();
}

void ExampleStandIn::begin() {
    const QString now = session_.example();
    if (now == example_ && process_.state() != QProcess::NotRunning) return;  // opened once more
    process_.terminate();
    example_ = now;
    const auto example = exampleOf(example_);
    offer_ = example && !example->standIn.isEmpty() ? Offer::wanted : Offer::none;
}

void ExampleStandIn::look() {
    if (offer_ == Offer::none || !session_.engine()) return;
    bool live = false, absent = false;
    for (const auto& [id, status] : session_.engine()->deviceStatus()) {
        live = live || status.state == LinkState::live;
        absent = absent || status.state == LinkState::absent;
    }
    if (live) {
        if (offer_ == Offer::made) Q_EMIT settled();
        offer_ = Offer::none;
    } else if (absent && offer_ == Offer::wanted) {
        offer_ = Offer::made;
        Q_EMIT offered(
            tr("The device of this example is simulated, and does not run yet. Start it here, or in a terminal: %1")
                .arg(standInCommand(*exampleOf(example_))));
    }
}

void ExampleStandIn::start() {
    if (const auto example = exampleOf(example_); example && process_.state() == QProcess::NotRunning)
        process_.start(program_, QStringList("stand-in") + example->standIn);
}

}  // namespace cruscotto
