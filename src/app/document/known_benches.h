#pragma once

#include <QByteArray>
#include <QString>

namespace cruscotto {

/// Which bench files a person has saved here, or has said of that they may drive outputs: told by what is in them, so
/// that a file that was changed since is unknown. Kept in a file of the person's own. May be used from any thread, one
/// object a thread.
class KnownBenches {
public:
    explicit KnownBenches(QString file = defaultFile());
    [[nodiscard]] bool knows(const QByteArray& content) const;
    /// The newest 2000 are kept. What cannot be written is asked about again the next time.
    void remember(const QByteArray& content) const;
    /// $XDG_STATE_HOME/cruscotto/known-benches, or below ~/.local/state.
    static QString defaultFile();

private:
    const QString file_;
};

}  // namespace cruscotto
