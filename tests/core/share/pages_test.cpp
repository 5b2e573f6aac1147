// Pages for people who do not have the program: that they are whole, harmless whatever names stand in them, and say what
// the recording says.
#include <gtest/gtest.h>

#include <pugixml.hpp>

#include <functional>
#include <set>

#include "judge/finding.h"
#include "measure/kinds/kinds.h"
#include "share/html_page.h"
#include "share/lane_picture.h"
#include "share/report.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

std::size_t times(const std::string& text, const std::string& what) {
    std::size_t n = 0;
    for (std::size_t at = 0; (at = text.find(what, at)) != std::string::npos; at += what.size()) ++n;
    return n;
}

TEST(HtmlPage, TextIsTextWhateverStandsInIt) {
    EXPECT_EQ(html_text("a < b && \"c\" > 'd'"), "a &lt; b &amp;&amp; &quot;c&quot; &gt; &#39;d&#39;");
    EXPECT_EQ(html_text("<script>alert(1)</script>").find('<'), std::string::npos);
    EXPECT_EQ(html_text("µs → ≥ Ω"), "µs → ≥ Ω");
    for (int c = 0; c < 32; ++c) {
        const std::string out = html_text(std::string(1, static_cast<char>(c)) + "x");
        EXPECT_TRUE(c == '\t' || c == '\n' || out.find(static_cast<char>(c)) == std::string::npos) << c;
    }
}

TEST(HtmlPage, IsOneFileThatFetchesAndRunsNothing) {
    const std::string page = html_page("Night & day", "<p>body</p>");
    EXPECT_NE(page.find("<title>Night &amp; day</title>"), std::string::npos);
    EXPECT_NE(page.find("<p>body</p>"), std::string::npos);
    EXPECT_NE(page.find("default-src 'none'"), std::string::npos);
    for (const char* outside : {"http://", "https://", "<script", "<link", "<iframe", "@import", "url("})
        EXPECT_EQ(page.find(outside), std::string::npos) << outside;
    EXPECT_EQ(page.find("{{"), std::string::npos);
}

TEST(HtmlPage, AFrameOfOnesOwnIsFilledInAndNamesCannotFillItAgain) {
    EXPECT_EQ(html_page_in("<h1>{{title}}</h1>{{body}}<h2>{{title}}</h2>", "T", "B"), "<h1>T</h1>B<h2>T</h2>");
    EXPECT_EQ(html_page_in("nothing to fill in", "T", "B"), "nothing to fill in");
    EXPECT_EQ(html_page_in("{{body}}", "T", "{{title}} {{body}}"), "{{title}} {{body}}") << "what is filled in stays";
    EXPECT_EQ(html_page_in("{{title}}|{{body}}", "{{body}}", "B"), "{{body}}|B") << "a name is no place";
    EXPECT_EQ(html_page_in("{{title", "T", "B"), "{{title");
    EXPECT_EQ(html_page_in("{{other}}", "T", "B"), "{{other}}");
}

TEST(HtmlPage, ATableHasAsManyCellsAsItIsGivenAndStandsAsSaid) {
    const std::string table = html_table({"name", "a < b"}, {{"x", "1"}, {"y", "2"}}, {true});
    EXPECT_EQ(times(table, "<tr>"), 3U);
    EXPECT_EQ(times(table, "<td"), 4U);
    EXPECT_EQ(times(table, "class=\"l\""), 3U) << "the first column, and its heading";
    EXPECT_NE(table.find("a &lt; b"), std::string::npos);
    EXPECT_EQ(times(html_table({}, {}, {}), "<tr>"), 1U);
}

TEST(HtmlPage, ABarIsNeverWiderThanTheWhole) {
    EXPECT_NE(html_share(0.5, "half").find("width:50.0%"), std::string::npos);
    EXPECT_NE(html_share(7, "much").find("width:100.0%"), std::string::npos);
    EXPECT_NE(html_share(-1, "none").find("width:0.0%"), std::string::npos);
    EXPECT_NE(html_share(0, "<b>").find("&lt;b&gt;"), std::string::npos);
}

// The picture of lanes as XML.
struct Drawn {
    pugi::xml_document xml;
    explicit Drawn(const std::string& svg) { EXPECT_TRUE(xml.load_string(svg.c_str())) << svg; }
    std::vector<std::string> texts() const {
        std::vector<std::string> all;
        for (const auto& t : xml.child("svg").children("text")) all.push_back(t.text().get());
        return all;
    }
    std::vector<std::pair<double, double>> bars(const std::string& colour) const {  // from, width
        std::vector<std::pair<double, double>> all;
        for (const auto& r : xml.child("svg").children("rect"))
            if (r.attribute("fill").value() == colour) all.emplace_back(r.attribute("x").as_double(), r.attribute("width").as_double());
        return all;
    }
};

// Interrupts of 100 µs each millisecond.
std::shared_ptr<const Trail> beating(const std::string& name, int n) {
    auto trail = std::make_shared<Trail>();
    CoreTrail core;
    core.name = "main";
    core.lanes.emplace_back(std::uint16_t{17}, name);
    for (int i = 1; i <= n; ++i) {
        ExceptionInstance x;
        x.begin = Time::from_ms(i);
        x.end = x.begin + Time::from_us(100);
        x.own = Time::from_us(100);
        core.lanes[0].append(x);
    }
    core.end = trail->end = Time::from_ms(n + 1);
    trail->cores.push_back(std::move(core));
    return trail;
}

TEST(LanePicture, BarsStandWhereTheirTimesAreAndHaveTheirLengths) {
    const auto trail = beating("STEP_TIMER", 9);
    const LaneBook book(trail);
    const LaneId lane = interrupts_kind().lane_of(*trail, interrupts_kind().names(*trail)[0].index);
    const Drawn d(lanes_svg(book, {lane}, Time{}, Time::from_ms(10)));
    const auto bars = d.bars("var(--other)");
    ASSERT_EQ(bars.size(), 9U);
    for (std::size_t i = 0; i < 9; ++i) {
        EXPECT_NEAR(bars[i].first, 150 + 85.0 * static_cast<double>(i + 1), 0.02);  // 850 for 10 ms
        EXPECT_NEAR(bars[i].second, 8.5, 0.02);
    }
    const auto texts = d.texts();
    EXPECT_NE(std::find(texts.begin(), texts.end(), "STEP_TIMER"), texts.end());
    // A part: what lies outside is not drawn, what reaches in is cut.
    EXPECT_EQ(Drawn(lanes_svg(book, {lane}, Time::from_us(2050), Time::from_us(3050))).bars("var(--other)").size(), 2U);
}

TEST(LanePicture, ManyThousandSpansAreDrawnAsFewBars) {
    const auto trail = beating("busy", 60'000);
    const LaneBook book(trail);
    const LaneId lane = interrupts_kind().lane_of(*trail, interrupts_kind().names(*trail)[0].index);
    const std::string svg = lanes_svg(book, {lane}, Time{}, trail->end);
    EXPECT_LT(svg.size(), 400'000U);
    EXPECT_GE(Drawn(svg).bars("var(--other)").size(), 1U);
}

TEST(LanePicture, ALongNameIsCutBetweenItsCharacters) {
    for (int more = 0; more < 4; ++more) {
        const auto trail = beating(std::string(static_cast<std::size_t>(20 + more), 'x') + "µµµµµµµµ <&>", 3);
        const LaneBook book(trail);
        const LaneId lane = interrupts_kind().lane_of(*trail, interrupts_kind().names(*trail)[0].index);
        const std::string svg = lanes_svg(book, {lane}, Time{}, Time::from_ms(4));
        const Drawn d(svg);
        for (const std::string& text : d.texts()) EXPECT_EQ(text.find("\uFFFD"), std::string::npos) << text;
        EXPECT_EQ(svg.find("\xC2…"), std::string::npos) << "half a character";
        EXPECT_EQ(svg.find("\\x"), std::string::npos);
    }
}

TEST(LanePicture, IsEmptyWhereThereIsNothingToDraw) {
    const auto trail = beating("x", 3);
    const LaneBook book(trail);
    const LaneId lane = interrupts_kind().lane_of(*trail, interrupts_kind().names(*trail)[0].index);
    EXPECT_EQ(lanes_svg(book, {}, Time{}, Time::from_ms(1)), "");
    EXPECT_EQ(lanes_svg(book, {LaneId{}}, Time{}, Time::from_ms(1)), "");
    EXPECT_EQ(lanes_svg(book, {lane}, Time::from_ms(1), Time::from_ms(1)), "");
    EXPECT_EQ(lanes_svg(book, {lane}, Time::from_ms(2), Time::from_ms(1)), "");
    for (const Time length : {Time{1}, Time::from_ms(1), Time{1'000'000'000'000'000}})
        EXPECT_TRUE(pugi::xml_document().load_string(lanes_svg(book, {lane}, Time{}, length).c_str()));
}

TEST(LanePicture, PointsOutAStretch) {
    const auto trail = beating("x", 9);
    const LaneBook book(trail);
    const LaneId lane = interrupts_kind().lane_of(*trail, interrupts_kind().names(*trail)[0].index);
    const auto marks = Drawn(lanes_svg(book, {lane}, Time{}, Time::from_ms(10), std::pair(Time::from_ms(2), Time::from_ms(4)))).bars("var(--partly)");
    ASSERT_EQ(marks.size(), 1U);
    EXPECT_NEAR(marks[0].first, 150 + 170, 0.02);
    EXPECT_NEAR(marks[0].second, 170, 0.02);
}

std::string reported(const test::Opened& o, const std::vector<std::string>& sections, const std::string& frame = "") {
    ReportParts parts;
    parts.sections = sections;
    parts.findings = find_all(*o.recording, *o.trail);
    parts.frame = frame;
    parts.made = "made by a test";
    return report_html(*o.recording, o.trail, parts);
}

TEST(Report, HasTheSectionsThatAreAskedForInTheirOrder) {
    test::Folder folder;
    test::write_jobs_of_two_parts(folder / "t", 40);
    const auto o = test::decode(folder / "t");
    const std::string all = reported(o, {});
    std::size_t before = 0;
    for (const char* section : {"What was recorded", "Findings", "Measures"}) {
        const std::size_t at = all.find(section, before);
        EXPECT_NE(at, std::string::npos) << section;
        if (at != std::string::npos) before = at;
    }
    EXPECT_NE(all.find("made by a test"), std::string::npos);
    const std::string one = reported(o, {"measures"});
    EXPECT_EQ(times(one, "<h2"), 1U);
    EXPECT_NE(one.find("guide"), std::string::npos);
    EXPECT_EQ(reported(o, {"measures"}, "<main>{{body}}</main>").rfind("<main>", 0), 0U) << "in a frame of one's own";
}

TEST(Report, TakesTheFrameThatLiesBesideTheRecording) {
    test::Folder folder;
    test::write_jobs_of_two_parts(folder / "t", 10);
    const auto o = test::decode(folder / "t");
    EXPECT_EQ(*report_frame({}, *o.recording), "") << "there is none";
    test::write_file(folder / "report-frame.html", "<b>ours</b>{{body}}");
    EXPECT_EQ(*report_frame({}, *o.recording), "<b>ours</b>{{body}}");
    test::write_file(folder / "other.html", "no place for it");
    const auto wrong = report_frame(folder / "other.html", *o.recording);
    ASSERT_FALSE(wrong);
    EXPECT_NE(wrong.error().text().find("{{body}}"), std::string::npos) << wrong.error().text();
    EXPECT_FALSE(report_frame(folder / "nowhere.html", *o.recording));
}

TEST(Report, TellsWhatChangedSinceAnotherRecording) {
    const auto was = test::decode(test::data("pairs/a-before.tar.xz")), is = test::decode(test::data("pairs/a-after.tar.xz"));
    ReportParts parts;
    parts.sections = {"comparison"};
    parts.comparison = ReportComparison{"the night <before>", compare(*was.trail, *is.trail), {}, {}};
    const std::string page = report_html(*is.recording, is.trail, parts);
    EXPECT_NE(page.find("What changed since the night &lt;before&gt;"), std::string::npos);
    EXPECT_NE(page.find("dome map is held for longer"), std::string::npos);
    EXPECT_NE(page.find("because of dome map hold"), std::string::npos);
    EXPECT_EQ(times(page, "<h2"), 1U);
}

TEST(Report, OfNamesThatAreMarkupShowsThemAsText) {
    test::Folder folder;
    test::EventScript s(folder / "t");
    const std::string evil = "<img src=x onerror=alert(1)>";
    s.task(0, "idle", 0);
    s.task(1, evil, 3);
    s.block(1, BlockReason::activation);
    s.put(OsKind::task_switch_in, 0);
    for (int i = 0; i < 30; ++i) {
        s.now = 1000 * (i + 1);
        s.put(OsKind::task_ready, 1);
        s.put(OsKind::task_switch_in, 1);
        s.now += i == 17 ? 900 : 100;
        s.block(1, BlockReason::activation);
        s.put(OsKind::task_switch_in, 0);
    }
    s.finish();
    const std::string page = reported(test::decode(folder / "t"), {});
    EXPECT_EQ(page.find("<img"), std::string::npos);
    EXPECT_NE(page.find("&lt;img src=x"), std::string::npos);
    EXPECT_EQ(times(page, "<table>"), times(page, "</table>"));
    EXPECT_EQ(times(page, "<svg"), times(page, "</svg>"));
}

TEST(Report, WhenCancelledEnds) {
    test::Folder folder;
    test::write_jobs_of_two_parts(folder / "t", 40);
    const auto o = test::decode(folder / "t");
    Progress progress;
    progress.cancel();
    (void)report_html(*o.recording, o.trail, {}, &progress);
}

class CoverPagesOfPaddle : public ::testing::Test {
  protected:
    CoverPagesOfPaddle() : opened(test::decode(test::data("steps/arm-mtb-paddle/recording.target.toml"))) {
        const StepTrail& steps = opened.trail->steps[0];
        all.push_back({"main", Coverage::of(steps.code, steps.functions,
                                            SourceMap::of(*opened.recording->images[steps.core_index], *steps.code), CoverCounts::of(steps))});
    }
    test::Opened opened;
    std::vector<CoverOfCore> all;
};

TEST_F(CoverPagesOfPaddle, EveryLinkLeadsToAPageAndEveryFileHasOne) {
    const auto pages = cover_pages(all, {}, "paddle", [](const std::string&) { return std::vector<std::string>{"int a;", "int b;"}; });
    ASSERT_EQ(pages.size(), all[0].coverage.files.size() + 1);
    std::set<std::string> names;
    for (const CoverPage& p : pages) EXPECT_TRUE(names.insert(p.name).second) << p.name;
    EXPECT_EQ(pages[0].name, "index.html");
    for (const CoverPage& p : pages)
        for (std::size_t at = 0; (at = p.html.find("href=\"", at)) != std::string::npos;) {
            at += 6;
            std::string to = p.html.substr(at, p.html.find('"', at) - at);
            to = to.substr(0, to.find('#'));
            EXPECT_TRUE(to.empty() || names.count(to) == 1) << p.name << " → " << to;
        }
    for (const CoverFile& f : all[0].coverage.files) EXPECT_NE(pages[0].html.find(html_text(f.name)), std::string::npos);
}

TEST_F(CoverPagesOfPaddle, ASourceThatIsNotHereIsSaidToBeMissingAndItsCountsAreShown) {
    const auto pages = cover_pages(all, {}, "paddle", [](const std::string&) { return std::vector<std::string>(); });
    ASSERT_GT(pages.size(), 1U);
    EXPECT_NE(pages[1].html.find("not"), std::string::npos);
    EXPECT_GT(pages[1].html.size(), 2000U);
}

TEST_F(CoverPagesOfPaddle, SourcesAreShownAsText) {
    const auto pages = cover_pages(all, {}, "paddle", [](const std::string&) {
        return std::vector<std::string>(400, "if (a < b && c > d) puts(\"</pre><script>\");");
    });
    for (const CoverPage& p : pages) EXPECT_EQ(p.html.find("<script"), std::string::npos) << p.name;
}

TEST_F(CoverPagesOfPaddle, OnlyTheFilesThatAreChosenHaveAPage) {
    CoverChoice choice;
    choice.names = {"keys.c"};
    const auto pages = cover_pages(all, choice, "paddle", [](const std::string&) { return std::vector<std::string>(); });
    EXPECT_EQ(pages.size(), 2U);
}

}  // namespace
}  // namespace mt
