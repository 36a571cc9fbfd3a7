#pragma once

#include <QLabel>
#include <QScrollArea>
#include <QVBoxLayout>
#include <functional>
#include <string>
#include <vector>

#include "app/document/session.h"

namespace cruscotto {

class Field;

/// What several chosen signals are set to together: names and tags by a pattern, colour, range, rate, unit, limits,
/// scale, and the chain of one of them or of another signal. What they do not have in common stands empty until it is
/// set.
class SeveralPanel : public QScrollArea {
    Q_OBJECT
public:
    explicit SeveralPanel(Session& session, QWidget* parent = nullptr);
    void open(std::vector<std::string> signalIds);
    [[nodiscard]] const std::vector<std::string>& signalIds() const { return ids_; }

    /// "T{n}" for the second of several is "T2"; "{n:3}" begins to count at 3; without braces all are called the same.
    static QString numbered(const QString& pattern, int index);

Q_SIGNALS:
    void closeAsked();

private:
    void rebuild();
    void addRates(QVBoxLayout* column);
    using Change = std::function<bool(SignalSpec&, int index)>;  ///< false: it does not suit that one
    void changeAll(const QString& effect, const Change& change);
    Field* addField(QVBoxLayout* column, const QString& label, const std::function<QString(const SignalSpec&)>& show,
                    const std::function<void(Field*, const QString&)>& take);

    Session& session_;
    std::vector<std::string> ids_;
    QLabel* said_ = nullptr;
};

}  // namespace cruscotto
