// Levels at which something happens, dragged on a trace.

#include "app/page/tiles/plot_library.h"
#include "app/page/tiles/trace_tile.h"
#include "app/window_fixture.h"
#include "core/bench/rule_edits.h"

namespace cruscotto {
namespace {

class Thresholds : public test::WindowTest {
protected:
    /// The plot in which a signal of this unit is drawn, and where a value lies in it.
    QCustomPlot* plotOf(const std::string& signal, double value, double& y) {
        for (TraceTile* tile : window->findChildren<TraceTile*>()) {
            const auto& signals = tile->spec().signals;
            auto* plot = tile->findChild<QCustomPlot*>();
            if (!plot || !tile->isVisible() || std::ranges::find(signals, signal) == signals.end()) continue;
            for (QCPAxisRect* rect : plot->axisRects()) {
                QCPAxis* axis = rect->axis(QCPAxis::atLeft);
                if (!axis->range().contains(value)) continue;
                y = axis->coordToPixel(value);
                return plot;
            }
        }
        return nullptr;
    }
};

TEST_F(Thresholds, ALimitAndALevelOfARuleAreDraggedAndUndone) {
    Bench bench = session().bench();
    bench.rules.clear();
    SignalSpec pressure = *bench.signal("outlet-pressure");
    pressure.limits.high = 4;
    bench = withSignal(bench, pressure);
    RuleSpec rule;
    rule.id = rule.name = "low";
    rule.when = {.kind = ConditionKind::below, .of = "outlet-pressure", .level = 1};
    bench = withRule(bench, rule);
    session().edit("rules", bench);
    ASSERT_TRUE(waitFor([&] { return !std::isnan(value("outlet-pressure")); }));
    const auto dragged = [&](double from, double to) {
        double y0 = 0, y1 = 0;
        QCustomPlot* plot = plotOf("outlet-pressure", from, y0);
        if (!plot || plot != plotOf("outlet-pressure", to, y1)) return false;
        test::drag(plot, QPoint(plot->width() / 2, static_cast<int>(std::lround(y0))),
                   QPoint(0, static_cast<int>(std::lround(y1 - y0))));
        return true;
    };
    ASSERT_TRUE(dragged(4, 3));
    EXPECT_NEAR(*session().bench().signal("outlet-pressure")->limits.high, 3, 0.1);
    frame();
    ASSERT_TRUE(dragged(1, 2));
    EXPECT_NEAR(session().bench().rule("low")->when.level, 2, 0.1);
    session().undoStack().undo();
    EXPECT_EQ(session().bench().rule("low")->when.level, 1);
    session().undoStack().undo();
    EXPECT_EQ(*session().bench().signal("outlet-pressure")->limits.high, 4);
}

TEST_F(Thresholds, WhileALevelIsDraggedItSaysHowOftenItWouldHaveBeenPassed) {
    SignalSpec pressure = *session().bench().signal("outlet-pressure");
    pressure.limits.high = 4;
    session().edit("limit", withSignal(session().bench(), pressure));
    ASSERT_TRUE(waitFor([&] { return value("outlet-pressure") > 0.6; }));
    double y0 = 0, y1 = 0;
    QCustomPlot* plot = plotOf("outlet-pressure", 4, y0);
    ASSERT_NE(plot, nullptr);
    ASSERT_EQ(plotOf("outlet-pressure", 0.5, y1), plot);
    const QPoint from(plot->width() / 2, static_cast<int>(std::lround(y0)));
    QTest::mousePress(plot, Qt::LeftButton, {}, from);
    const QPoint to(from.x(), static_cast<int>(std::lround(y1)));
    QMouseEvent move(QEvent::MouseMove, to, plot->mapToGlobal(to), Qt::NoButton, Qt::LeftButton, {});
    QApplication::sendEvent(plot, &move);
    const auto words = [&] {
        for (int i = 0; i < plot->itemCount(); ++i)
            if (auto* text = qobject_cast<QCPItemText*>(plot->item(i)); text && text->visible()) return text->text();
        return QString();
    };
    EXPECT_TRUE(words().startsWith("Limit")) << words().toStdString();
    EXPECT_TRUE(waitFor([&] { return words().contains(QStringLiteral("1 × in the last")); })) << words().toStdString();
    QTest::mouseRelease(plot, Qt::LeftButton, {}, to);
    EXPECT_NEAR(*session().bench().signal("outlet-pressure")->limits.high, 0.5, 0.1);
}

}  // namespace
}  // namespace cruscotto
