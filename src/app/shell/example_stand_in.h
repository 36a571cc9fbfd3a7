#pragma once

#include <QProcess>

#include "app/document/examples.h"
#include "app/document/session.h"

namespace cruscotto {

/// Where an example was opened and its device is not there: offers the stand-in that ships with the program, and starts
/// it when told to. What it started ends with the bench.
class ExampleStandIn : public QObject {
    Q_OBJECT
public:
    explicit ExampleStandIn(Session& session, QObject* parent = nullptr);
    ~ExampleStandIn() override;
    /// A few times a second.
    void look();
    void start();
    /// What is started instead of this program; for tests.
    void useProgram(const QString& path) { program_ = path; }

Q_SIGNALS:
    /// Once for each example that is opened.
    void offered(const QString& sentence);
    /// Its device is there; nothing need be offered any more.
    void settled();
    void failed(const QString& sentence);

private:
    void begin();

    Session& session_;
    QProcess process_;
    QString program_;
    QString example_;  ///< that is open; empty for any other bench
    enum class Offer { none, wanted, made } offer_ = Offer::none;
};

}  // namespace cruscotto
