#pragma once

#include <QAbstractScrollArea>
#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <deque>

#include "app/device/suggestion_buttons.h"
#include "app/document/session.h"
#include "devices/device_kind.h"
#include "devices/wire.h"

namespace cruscotto {

/// Messages of a link, one a row: when, which way, its bytes as hexadecimal and as text, what they mean or why they do
/// not fit. The bytes of a value have the colour of its signal. Follows the newest while it stands at the end.
class WireRows : public QAbstractScrollArea {
    Q_OBJECT
public:
    struct Colours {
        std::map<std::string, QColor> ofTerminal;
        std::map<std::string, QString> nameOfTerminal;
        bool operator==(const Colours&) const = default;
    };
    explicit WireRows(QWidget* parent = nullptr);
    /// The rows that are shown, oldest first; repaints.
    void show(std::deque<WireMessagePtr> rows);
    /// More of them behind; those with numbers below `oldest` go.
    void add(const std::vector<WireMessagePtr>& rows, std::uint64_t oldest);
    void setColours(Colours colours);
    [[nodiscard]] const std::deque<WireMessagePtr>& rows() const { return rows_; }
    [[nodiscard]] QString meaning(const WireMessage& message) const;
    static constexpr int rowHeight = 22;
    /// Bytes of every message, marked in all rows; a length of 0: none.
    struct Selection {
        std::size_t start = 0, length = 0;
        bool operator==(const Selection&) const = default;
    };
    void setSelectable(bool on) { selectable_ = on; }
    void select(Selection selection);
    [[nodiscard]] Selection selection() const { return selection_; }
    /// Where a byte of a row in sight is drawn.
    [[nodiscard]] QRect byteRect(int row, std::size_t byte) const;

Q_SIGNALS:
    void selected(WireRows::Selection selection);

protected:
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

private:
    void arrange(bool toEnd);
    [[nodiscard]] QString nameOf(const std::string& terminal) const;
    struct Columns {
        int time = 0, way = 0, hex = 0, text = 0, meaning = 0, end = 0;
        int hexCells = 0, textCells = 0;
        std::vector<int> fieldRoom;  // of the first value, the second ...
    };
    [[nodiscard]] Columns columns() const;
    void paintRow(QPainter& p, const Columns& c, const WireMessage& m, int y) const;

    /// The byte under a point; empty where there is none.
    [[nodiscard]] std::optional<std::size_t> byteAt(QPoint at) const;

    std::deque<WireMessagePtr> rows_;
    Colours colours_;
    bool selectable_ = false;
    std::size_t anchor_ = 0;
    Selection selection_;
};

/// Under the rows of a device whose frames are described by looking: what the selected bytes may be, a name for them,
/// and with one press a reading of that name. Without a selection: what values the frames seem to be made of.
class FieldBar : public QWidget {
    Q_OBJECT
public:
    FieldBar(Session& session, const QString& device, WireRows& rows, QWidget* parent);
    void refresh();

private:
    void propose();
    void take();
    [[nodiscard]] const DeviceKind* kind() const;

    Session& session_;
    const QString device_;
    WireRows& rows_;
    QLabel* said_;
    QLineEdit* name_;
    QComboBox* choice_;
    QPushButton* add_;
    SuggestionButtons* suggestions_;
    std::vector<FieldProposal> proposals_;
    WireRows::Selection proposedFor_;
    int refreshed_ = 0;
};

/// What passes on the link of one device, as long as the window is open; a window of its own, beside the live page.
class WireView : public QWidget {
    Q_OBJECT
public:
    WireView(Session& session, const QString& device, QWidget* parent);
    ~WireView() override;
    void refresh(bool digits);
    [[nodiscard]] const QString& device() const { return device_; }
    [[nodiscard]] WireRows& rows() { return *rows_; }
    [[nodiscard]] QString summary() const { return summary_->text(); }

Q_SIGNALS:
    void saveAsked(const std::vector<WireMessagePtr>& messages);

protected:
    void closeEvent(QCloseEvent* event) override;

private:
    void look();
    void stopLooking();
    void sift();
    [[nodiscard]] bool passes(const WireMessage& m) const;

    Session& session_;
    const QString device_;
    std::shared_ptr<WireTap> tap_;
    std::deque<WireMessagePtr> all_;
    std::uint64_t next_ = 0;
    int skip_ = 0;  // refreshes
    QLabel* title_;
    QLineEdit* search_;
    QComboBox* filter_;
    QPushButton* freeze_;
    QPushButton* save_;
    WireRows* rows_;
    QLabel* summary_;
    FieldBar* fields_;
};

}  // namespace cruscotto
