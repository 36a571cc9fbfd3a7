#pragma once

#include <string>

#include "core/base/new_file.h"
#include "core/base/time.h"
#include "core/bench/bench.h"
#include "core/bench/explanation.h"

namespace cruscotto {

class MainWindow;
class Recovery;

struct WindowOptions {
    std::string file;      ///< .bench or .run; the last bench, or the pump bench example, where empty
    bool drive = false;    ///< the file's outputs need no question
    std::string attached;  ///< the tree of /sys and /dev that attached devices are looked for in; / where empty
};
/// Opens the window and stays until it is closed. Returns the program's exit code.
int runWindow(const WindowOptions& options, int argc, char** argv);

/// What asks the program to end, and the end of the desktop's session, close the window in order: outputs safe, the run
/// closed. Nobody may be there to answer a question: unsaved edits are kept for the next time.
void closeOnEndings(MainWindow& window, Recovery& recovery);

struct PictureOptions {
    std::string file, out;
    Duration after = seconds(60);
    std::string theme = "day";
    std::string page, chain, device;
    std::string wire;   ///< id of a device whose wire is painted, instead of the window
    std::string sheet;  ///< id of the signal whose calibration sheet is opened
    std::string find;   ///< a tree of /sys and /dev: what is attached there is shown, to be added
    double backSeconds = 0;
    double stretchSeconds = 0;     ///< a stretch of so long ends a quarter of it before the moment
    std::string measure, against;  ///< the signals whose measures stand in the drawer then
    int width = 1280, height = 800;
    double scale = 1;
    bool actions = false;
    bool rules = false;               ///< the page of rules
    std::string procedure;            ///< the id of one: it begins with the bench, and its page is shown
    std::vector<std::string> beside;  ///< runs that are laid over it
    bool drive = false;               ///< outputs of real devices too
    NewFile::Existing existing = NewFile::Existing::refuse;
};
/// Measures as fast as possible for a while, paints the window without a display, and writes the picture. The same
/// file and options give the same pixels for devices that make their own time.
int runPicture(const PictureOptions& options, int argc, char** argv);

struct SheetOptions {
    Bench bench;
    std::string signal, today, out;
    NewFile::Existing existing = NewFile::Existing::refuse;
};
/// The calibration sheet of a signal, which has one, as a PDF or a picture, without a display.
Result<void> printSheet(const SheetOptions& options, int argc, char** argv);

/// Writes where a number comes from as a page: see explanation_paper.h.
struct ExplanationPage {
    Explanation explanation;
    std::string today, out;
    NewFile::Existing existing = NewFile::Existing::refuse;
};
Result<void> printExplanation(const ExplanationPage& page, int argc, char** argv);

}  // namespace cruscotto
