// What is on the screen: contrast of the colours, and that the shapes of state are really drawn.
#include <QGlyphRun>
#include <QImage>
#include <QRawFont>
#include <QSignalSpy>
#include <QTest>
#include <QTextDocument>
#include <QTextLayout>

#include <cmath>

#include "look/html.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "measure/refs.h"
#include "shell/main_window.h"
#include "support.h"

namespace mt::app {
namespace {

// Relative luminance and contrast as WCAG 2.1 defines them.
double luminance(const QColor& c) {
    const auto channel = [](double v) { return v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
    return 0.2126 * channel(c.redF()) + 0.7152 * channel(c.greenF()) + 0.0722 * channel(c.blueF());
}
double contrast(const QColor& a, const QColor& b) {
    const double x = luminance(a), y = luminance(b);
    return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
}

TEST(Theme, TextIsLegibleByDayAndByNight) {
    for (const bool night : {false, true}) {
        apply_theme(night);
        const Theme& t = theme();
        for (const QColor& back : {t.window, t.panel}) {
            EXPECT_GE(contrast(t.text, back), 4.5);
            EXPECT_GE(contrast(t.second, back), 4.5)
                << t.second.name().toStdString() << " on " << back.name().toStdString();
        }
        EXPECT_GE(contrast(t.text, t.selected), 4.5) << "on a selected row";
        EXPECT_GE(contrast(t.finding, t.panel), 3.0) << "a shape, not text";
        EXPECT_GE(contrast(t.interrupt, t.panel), 3.0);
        EXPECT_GE(contrast(t.land, t.panel), 3.0);
    }
    apply_theme(false);
}

TEST(Theme, AnAddressIsWrittenWithTheLetterX) {
    const QString address = "0x20000018";
    for (const bool bold : {false, true}) {
        QTextLayout layout(address, text_font(12, bold));
        layout.beginLayout();
        layout.createLine();
        layout.endLayout();
        QList<quint32> drawn;
        for (const QGlyphRun& run : layout.glyphRuns()) drawn += run.glyphIndexes();
        EXPECT_EQ(drawn, QRawFont::fromFont(text_font(12, bold)).glyphIndexesForString(address));
    }
}

TEST(Html, KeepsANumberTogetherAtTheEndOfALineAndEscapesWhatIsText) {
    QTextDocument document;
    document.setHtml(escaped("vector<int>: 16\u202f777\u202f216 cycles"));
    EXPECT_EQ(document.toRawText(), "vector<int>: 16\u00a0777\u00a0216 cycles");
    document.setHtml(link_html("time:0", "a & b"));
    EXPECT_EQ(document.toRawText(), "a & b") << "escaped once";
}

int count_near(const QImage& image, const QColor& wanted, const QRect& area) {
    int n = 0;
    const QRect inside = area.intersected(image.rect());
    for (int y = inside.top(); y <= inside.bottom(); ++y)
        for (int x = inside.left(); x <= inside.right(); ++x) {
            const QColor c = image.pixelColor(x, y);
            n += std::abs(c.red() - wanted.red()) + std::abs(c.green() - wanted.green()) +
                             std::abs(c.blue() - wanted.blue()) <
                         24
                     ? 1
                     : 0;
        }
    return n;
}

TEST(Shapes, AHandlerHasItsCornerCut) {
    QImage image(60, 30, QImage::Format_RGB32);
    image.fill(Qt::white);
    QPainter p(&image);
    draw_handler(p, QRectF(10, 5, 40, 20), theme().interrupt);
    p.end();
    EXPECT_EQ(image.pixelColor(11, 6), QColor(Qt::white)) << "upper left";
    EXPECT_EQ(image.pixelColor(48, 6), theme().interrupt) << "upper right";
    EXPECT_EQ(image.pixelColor(11, 23), theme().interrupt) << "lower left";
}

TEST(Shapes, ACutBarIsAThreadAndANarrowGapNoWiderThanItIs) {
    QImage image(60, 30, QImage::Format_RGB32);
    image.fill(Qt::white);
    QPainter p(&image);
    draw_cut_into(p, QRectF(5, 0, 20, 30), theme().land);
    draw_gap(p, QRectF(40, 0, 1, 30));
    p.end();
    EXPECT_EQ(image.pixelColor(10, 15), theme().land);
    EXPECT_EQ(image.pixelColor(10, 3), QColor(Qt::white));
    EXPECT_EQ(image.pixelColor(40, 10), theme().contour);
    EXPECT_EQ(image.pixelColor(42, 10), QColor(Qt::white));
}

class Looks : public ::testing::Test {
  protected:
    void SetUp() override {
        window.resize(1280, 800);
        window.show();
        QSignalSpy finished(&window.document(), &Document::finished);
        window.open(QString::fromStdString(test::demo("larkspur.target.toml")));
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
    }
    QImage lanes() {
        QTest::qWait(80);
        return window.desk().lanes()->grab().toImage();
    }
    QRect row(unsigned number) {
        return window.desk()
            .lanes()
            ->row_rect(interrupt_lane(0, *window.document().trail()->cores[0].lane_index(number)))
            .toRect();
    }
    MainWindow window;
};

TEST_F(Looks, TheLateInterruptShowsItsWaitItsEntryAndWhoRan) {
    window.desk().navigator().go_to_finding(1);
    // The name of the sampled function comes with its block.
    QTest::qWait(300);
    const QImage image = lanes();
    EXPECT_GT(count_near(image, theme().finding, row(16)), 60) << "the line from when it was due";
    EXPECT_GT(count_near(image, theme().interrupt, row(16)), 60) << "the execution itself";
    EXPECT_GT(count_near(image, theme().land, window.desk().lanes()->row_rect({&threads_kind(), 0}).toRect()), 3000)
        << "thread mode had the core";
    EXPECT_EQ(count_near(image, theme().finding, row(17)), 0) << "nothing loud elsewhere";
}

TEST_F(Looks, AGapIsHatchedAcrossAllLanes) {
    window.desk().navigator().go_to_finding(6);
    const QImage image = lanes();
    for (const unsigned number : {16u, 17u, 15u}) {
        const QRect r = row(number);
        if (r.height() < 20) continue;
        EXPECT_GT(count_near(image, theme().contour, r), 20) << number;
    }
}

TEST_F(Looks, TheKeyIsDrawnAndTakenAway) {
    const QImage before = lanes();
    QTest::keyClick(window.desk().lanes(), Qt::Key_K);
    const QImage with = lanes();
    EXPECT_NE(before, with);
    QTest::keyClick(window.desk().lanes(), Qt::Key_K);
    EXPECT_EQ(before, lanes());
}

TEST_F(Looks, NightTurnsEveryPartDark) {
    window.set_night(true);
    QTest::qWait(80);
    const QImage image = window.grab().toImage();
    window.set_night(false);
    int light = 0;
    for (int y = 0; y < image.height(); y += 4)
        for (int x = 0; x < image.width(); x += 4) light += image.pixelColor(x, y).lightness() > 215 ? 1 : 0;
    // The moment strip is light at night, and text; nothing else.
    EXPECT_LT(light, image.width() * image.height() / 16 / 12);
}

TEST_F(Looks, NothingBlinks) {
    window.desk().lanes()->setFocus();
    const QImage once = lanes();
    QTest::qWait(700);
    EXPECT_EQ(once, lanes());
}

}  // namespace
}  // namespace mt::app
