#pragma once

#include <QPainter>
#include <QRectF>
#include <string>
#include <vector>

#include "core/base/new_file.h"
#include "core/bench/bench.h"
#include "core/chain/calibration_sheet.h"

namespace cruscotto {

/// What stands on a printed calibration sheet.
struct SheetPaper {
    std::string bench, signal, tag, wired;  ///< wired: the device and terminal
    std::string unitBefore, unit;
    std::vector<std::string> chain;  ///< a sentence for each stage before the sheet
    CalibrationSheet sheet;
    std::vector<CalibrationSheet> before;  ///< oldest first
    std::string today;                     ///< as 2026-11-29
};

/// Precondition: the signal's chain has a stage "calibration".
SheetPaper sheetPaper(const Bench& bench, const SignalSpec& signal, const std::string& today);

/// Paints it into `page`, whose sides are as those of A4.
void paintSheet(QPainter& painter, const QRectF& page, const SheetPaper& paper);

/// As a PDF or, where the name ends in .png, as a picture of 150 dots to the inch. Needs a QGuiApplication.
Result<void> writeSheet(const SheetPaper& paper, const std::string& path, NewFile::Existing existing);

}  // namespace cruscotto
