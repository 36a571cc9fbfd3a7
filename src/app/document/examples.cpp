#include "app/document/examples.h"

#include <QCoreApplication>

namespace cruscotto {

std::vector<Example> examples() {
    using App = QCoreApplication;
    return {
        {"pump-bench", App::translate("examples", "pump bench"), {}},
        {"seed-sorter", App::translate("examples", "seed sorter"), {}},
        {"beehive", App::translate("examples", "beehive board"), {"beehive", "--link", "/tmp/cruscotto-beehive"}},
        {"cold-store", App::translate("examples", "cold store"), {"rack", "--port", "15020"}},
        {"weather", App::translate("examples", "weather on the roof"), {"weather", "--link", "/tmp/cruscotto-weather"}},
    };
}

QString standInCommand(const Example& example) {
    return "cruscotto stand-in " + example.standIn.join(' ');
}

const char* examplesFolder() {
    return CRUSCOTTO_EXAMPLES;
}

}  // namespace cruscotto
