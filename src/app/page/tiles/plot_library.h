#pragma once

// The plot library's header wants Qt's short keywords, which are switched off here: a bench has signals of its own.
// clang-format off
#define signals Q_SIGNALS
#define slots Q_SLOTS
#define foreach Q_FOREACH
#include <qcustomplot.h>
#undef signals
#undef slots
#undef foreach
// clang-format on
