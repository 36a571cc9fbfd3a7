#pragma once

#include <QString>

class QWidget;

namespace cruscotto {

/// Asks for the name of a file to write; it gets the ending where it has none. What is there already is asked about,
/// under the name that it gets. Empty: cancelled.
QString askFileToWrite(QWidget* parent, const QString& title, const QString& proposed, const QString& filter,
                       const QString& ending);

}  // namespace cruscotto
