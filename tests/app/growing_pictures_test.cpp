// Pictures of a recording that grows: they show the same as if all had come at once, and are drawn no oftener than eyes
// can follow.
#include <QApplication>
#include <QTest>

#include "look/line_texts.h"
#include "look/paced_update.h"
#include "look/theme.h"
#include "overview/ridge.h"
#include "pass/growing_trail.h"
#include "support.h"

namespace mt::app {
namespace {

TEST(PacedUpdate, RenewsAtOnceThenWaitsAndForgetsWhatWasPaintedMeanwhile) {
    int renewed = 0;
    PacedUpdate pace([&] { ++renewed; });
    pace.ask();
    EXPECT_EQ(renewed, 1) << "nothing was painted yet";
    pace.painted();
    for (int i = 0; i < 5; ++i) pace.ask();
    EXPECT_EQ(renewed, 1) << "it was painted just now";
    ASSERT_TRUE(QTest::qWaitFor([&] { return renewed == 2; }, 2000)) << "the newest is shown in the end";
    pace.painted();
    pace.ask();
    pace.painted();  // by a person who zooms
    QTest::qWait(2 * PacedUpdate::kEachMs);
    EXPECT_EQ(renewed, 2) << "that picture showed the newest already";
}

// How many pixels of the two differ clearly.
int different(const QImage& a, const QImage& b) {
    int n = 0;
    for (int y = 0; y < a.height(); ++y)
        for (int x = 0; x < a.width(); ++x) n += std::abs(qGray(a.pixel(x, y)) - qGray(b.pixel(x, y))) > 40 ? 1 : 0;
    return n;
}

TEST(LineTexts, LookLikeThePaintersOwnAndAreShortenedToTheirRoom) {
    LineTexts texts;
    const auto drawn = [&](auto draw) {
        QImage image(220, 24, QImage::Format_RGB32);
        image.fill(Qt::white);
        QPainter p(&image);
        p.setFont(text_font(12, true));
        p.setPen(Qt::black);
        draw(p);
        return image;
    };
    const QImage blank = drawn([](QPainter&) {});
    for (const QString text :
         {QStringLiteral("ENC_INDEX"), QStringLiteral("a name that is far too long for so little")}) {
        const QRectF room(8, 2, 120, 20);
        const QImage cached = drawn([&](QPainter& p) { texts.draw(p, room, text); });
        const QImage own = drawn([&](QPainter& p) {
            p.drawText(room, Qt::AlignLeft | Qt::AlignVCenter,
                       p.fontMetrics().elidedText(text, Qt::ElideRight, static_cast<int>(room.width())));
        });
        ASSERT_GT(different(own, blank), 100);
        EXPECT_LT(different(cached, own), different(own, blank) / 5) << text.toStdString();
        EXPECT_EQ(drawn([&](QPainter& p) { texts.draw(p, room, text); }), cached) << "the second time, too";
        for (int y = 0; y < cached.height(); ++y)
            for (int x = 132; x < cached.width(); ++x) ASSERT_EQ(cached.pixel(x, y), blank.pixel(x, y)) << x;
    }
}

TEST(Ridge, ThatGrewInPiecesIsTheRidgeOfTheWhole) {
    const auto whole = test::decode(test::demo("larkspur.target.toml"));
    GrowingTrail growing(*whole.recording);
    growing.start(0, {});
    const auto raw = whole.recording->streams[0].bytes();
    const Time horizon = whole.trail->end;
    Document grown_document, whole_document;
    Viewpoint grown_view, whole_view;
    FindingList grown_findings(grown_document), whole_findings(whole_document);
    Ridge grown(grown_document, grown_findings, grown_view), at_once(whole_document, whole_findings, whole_view);
    for (Ridge* r : {&grown, &at_once}) {
        r->resize(1100, 110);
        r->set_horizon(horizon, {});
    }
    std::shared_ptr<Trail> last;
    const std::size_t pieces = 23;
    for (std::size_t i = 0; i < pieces; ++i) {
        const std::size_t from = raw.size() * i / pieces, to = raw.size() * (i + 1) / pieces;
        growing.feed(0, raw.subspan(from, to - from));
        last = growing.snapshot();
        grown_document.take_live(whole.recording, last, i == 0);
        grown_view.extend(last->end);
        grown.grab();  // it is looked at in between
    }
    whole_document.take_live(whole.recording, last, true);
    whole_view.extend(last->end);
    const QImage one = grown.grab().toImage(), other = at_once.grab().toImage();
    QImage blank(one.size(), one.format());
    blank.fill(theme().panel);
    EXPECT_GT(different(one, blank), 5000) << "there is land";
    EXPECT_EQ(one, other);
}

// One stream of a core is decoded before another: how far it came says nothing of what the other has not told yet.
TEST(Ridge, OfAHalfDecodedCoreIsMendedOnceAllIsDecoded) {
    const auto whole = test::decode(test::demo("larkspur.target.toml"));
    GrowingTrail growing(*whole.recording);
    growing.start(0, {});
    const auto raw = whole.recording->streams[0].bytes();
    growing.feed(0, raw.first(raw.size() / 2));
    const auto half = growing.snapshot();
    const Time told = half->cores[0].change_time.back();
    half->end = half->cores[0].end = whole.trail->end;
    Document grown_document, whole_document;
    Viewpoint grown_view, whole_view;
    FindingList grown_findings(grown_document), whole_findings(whole_document);
    Ridge grown(grown_document, grown_findings, grown_view), at_once(whole_document, whole_findings, whole_view);
    for (Ridge* r : {&grown, &at_once}) r->resize(1100, 110);
    grown_document.take_live(whole.recording, half, true);
    grown_view.reset(half->end);
    const QImage before = grown.grab().toImage();
    // Behind what was told there is no land: the row of pixels above the ground is that of an empty panel.
    const int beyond = static_cast<int>(1100 * (told.seconds() / half->end.seconds())) + 8;
    for (int x = std::min(beyond, 1090); x < 1090; x += 9)
        EXPECT_EQ(before.pixelColor(x, 60), before.pixelColor(1095, 60)) << x;
    grown_document.take_live(whole.recording, whole.trail, false);
    whole_document.take_live(whole.recording, whole.trail, true);
    whole_view.reset(whole.trail->end);
    EXPECT_EQ(grown.grab().toImage(), at_once.grab().toImage());
}

}  // namespace
}  // namespace mt::app
