#include "app/widgets/form.h"

#include <QApplication>
#include <cmath>

#include "app/widgets/switch.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"

namespace cruscotto {

Form::Form(QWidget* parent) : QWidget(parent), column_(new QVBoxLayout(this)) {
    setObjectName("page");
    column_->setContentsMargins(0, 0, 8, 8);
    column_->setSpacing(4);
}

void Form::add(const QString& label, QWidget* field) {
    auto* caption = new QLabel(label);
    caption->setObjectName("muted");
    caption->setWordWrap(true);
    column_->addWidget(caption);
    column_->addWidget(field);
}

Field* Form::text(const QString& label, const std::string& is, std::function<void(std::string)> take) {
    auto* field = new Field(label);
    field->show(shown(is));
    connect(field, &Field::taken, this,
            [take = std::move(take)](const QString& typed) { take(typed.trimmed().toStdString()); });
    add(label, field);
    return field;
}

Field* Form::number(const QString& label, double is, std::function<void(double)> take) {
    auto* field = new Field(label);
    field->show(shown(shortNumber(is)));
    connect(field, &Field::taken, this, [field, take = std::move(take)](const QString& typed) {
        double v = 0;
        const bool fine = parseNumber(typed.toStdString(), v);
        field->markWrong(!fine, tr("This is no number."));
        if (fine) take(v);
    });
    add(label, field);
    return field;
}

Field* Form::optionalNumber(const QString& label, double is, const QString& whenEmpty,
                            std::function<void(double)> take) {
    auto* field = new Field(label);
    field->show(std::isfinite(is) ? shown(shortNumber(is)) : QString());
    field->setPlaceholderText(whenEmpty);
    connect(field, &Field::taken, this, [field, take = std::move(take)](const QString& typed) {
        double v = std::nan("");
        const bool fine = typed.trimmed().isEmpty() || parseNumber(typed.toStdString(), v);
        field->markWrong(!fine, tr("This is no number."));
        if (fine) take(v);
    });
    add(label, field);
    return field;
}

QComboBox* Form::choice(const QString& label, const Choices& choices, const std::string& is,
                        std::function<void(std::string)> take) {
    auto* box = new Choice;
    box->setAccessibleName(label);
    for (const auto& [key, words] : choices) box->addItem(words, shown(key));
    box->setCurrentIndex(box->findData(shown(is)));
    connect(box, &QComboBox::activated, this,
            [box, take = std::move(take)](int i) { take(box->itemData(i).toString().toStdString()); });
    add(label, box);
    return box;
}

void Form::flag(const QString& label, bool is, std::function<void(bool)> take) {
    auto* row = new QWidget;
    auto* line = new QHBoxLayout(row);
    line->setContentsMargins(0, 4, 0, 4);
    auto* box = new Switch(row);
    box->setCheckable(true);
    box->setChecked(is);
    box->setAccessibleName(label);
    connect(box, &Switch::clicked, this, [take = std::move(take)](bool on) { take(on); });
    line->addWidget(box);
    auto* words = new QLabel(label);
    words->setWordWrap(true);
    line->addWidget(words, 1);
    column_->addWidget(row);
}

void showForm(QScrollArea& in, QWidget* form) {
    const auto stops = [](QWidget* of) {
        QList<QWidget*> out;
        if (of)
            for (QWidget* w : of->findChildren<QWidget*>())
                if (w->focusPolicy() & Qt::TabFocus) out << w;
        return out;
    };
    QWidget* old = in.takeWidget();
    QWidget* at = QApplication::focusWidget();
    const auto before = stops(old);
    const auto was = at ? before.indexOf(at) : -1;
    in.setWidget(form);
    form->show();
    const auto now = stops(form);
    if (was >= 0) {
        // The field of that name, else the one in its place: a form may have got more of them above it.
        const auto named = std::ranges::find_if(now, [&](QWidget* w) {
            return !at->accessibleName().isEmpty() && w->accessibleName() == at->accessibleName();
        });
        if (named != now.end() && now.size() != before.size())
            (*named)->setFocus();
        else if (was < now.size())
            now[was]->setFocus();
    }
    if (old) old->deleteLater();
}

void scrollUpAndDown(QScrollArea& area, const char* ground) {
    area.setObjectName(ground == std::string("page") ? "pageScroll" : ground);
    area.setWidgetResizable(true);
    area.setFrameShape(QFrame::NoFrame);
    area.setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
}

void makeFormArea(QScrollArea& area, int width) {
    scrollUpAndDown(area, "page");
    area.setFixedWidth(width);
}

namespace {
QLabel* title(const QString& words, int pixels) {
    auto* out = new QLabel(words);
    out->setTextFormat(Qt::PlainText);
    out->setStyleSheet(QStringLiteral("font-size: %1px; font-weight: 600;").arg(pixels));
    return out;
}
}  // namespace

QLabel* pageTitle(const QString& words) {
    constexpr int pixels = 20;
    return title(words, pixels);
}
QLabel* panelTitle(const QString& words) {
    constexpr int pixels = 16;
    return title(words, pixels);
}

QToolButton* quietButton(const QString& words, const QString& accessibleName) {
    auto* out = new QToolButton;
    out->setObjectName("quiet");
    out->setText(words);
    out->setAccessibleName(accessibleName);
    out->setToolTip(accessibleName);
    return out;
}
QToolButton* closeButton(const QString& accessibleName) {
    return quietButton(QStringLiteral("✕"), accessibleName);
}

}  // namespace cruscotto
