#pragma once

#include <QStringList>
#include <vector>

namespace cruscotto {

/// A bench that ships with the program. One of them is opened as a copy.
struct Example {
    QString name;         ///< of its file, without the ending
    QString title;        ///< what it shows, for the menu
    QStringList standIn;  ///< what `cruscotto stand-in` is given for its device; empty where the bench needs none
};
/// In the order of the menu, in the person's language.
std::vector<Example> examples();
/// What a person types to start the stand-in of an example.
QString standInCommand(const Example& example);

/// Where the examples lay when the program was built; inside the program they lie in ":/examples".
const char* examplesFolder();

}  // namespace cruscotto
