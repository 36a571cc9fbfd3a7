#pragma once

#include <QLabel>
#include <QScrollArea>
#include <QToolButton>
#include <QVBoxLayout>
#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "app/widgets/fields.h"

namespace cruscotto {

/// Fields below each other, each under its label, as they stand beside a page. What a person takes in one is handed to
/// its `take`, which may make the whole form anew.
class Form : public QWidget {
    Q_OBJECT
public:
    using Choices = std::vector<std::pair<std::string, QString>>;  ///< what is kept, and how it is called
    explicit Form(QWidget* parent = nullptr);
    /// Where what is no field is added.
    [[nodiscard]] QVBoxLayout* column() const { return column_; }
    void add(const QString& label, QWidget* field);
    Field* text(const QString& label, const std::string& is, std::function<void(std::string)> take);
    Field* number(const QString& label, double is, std::function<void(double)> take);
    /// One that may be left empty, as it is where `is` is not finite; NaN is taken then.
    Field* optionalNumber(const QString& label, double is, const QString& whenEmpty, std::function<void(double)> take);
    QComboBox* choice(const QString& label, const Choices& choices, const std::string& is,
                      std::function<void(std::string)> take);
    void flag(const QString& label, bool is, std::function<void(bool)> take);

private:
    QVBoxLayout* column_;
};

/// Shows the form in place of the one before, with the keyboard where it was.
void showForm(QScrollArea& in, QWidget* form);
/// An area that scrolls what it holds up and down only, on the ground of a "page" or a "panel".
void scrollUpAndDown(QScrollArea& area, const char* ground);
/// An area for forms of this width: it scrolls, up and down only.
void makeFormArea(QScrollArea& area, int width);

/// The heads of pages and of panels beside them, which look alike everywhere.
QLabel* pageTitle(const QString& words = {});
QLabel* panelTitle(const QString& words = {});
QToolButton* quietButton(const QString& words, const QString& accessibleName);
/// The cross at the end of a head.
QToolButton* closeButton(const QString& accessibleName);

}  // namespace cruscotto
