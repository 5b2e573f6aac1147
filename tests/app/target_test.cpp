// The target in the window: its keys as fields, what sets a wrong setting right, and what is said about it.
#include <gtest/gtest.h>

#include <QAbstractButton>
#include <QApplication>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QMenu>
#include <QSignalSpy>
#include <QToolButton>
#include <QTest>

#include "shown_window.h"
#include "support.h"
#include "target/target_edit.h"

namespace mt::app {
namespace {

class Target : public testing::Test {
  protected:
    void SetUp() override { window = shown_window(); }

    void open(const std::string& path) { open_and_wait(*window, path); }
    // A copy of a recording of the tests, with changes to its target file.
    std::string copy(const std::string& target, const std::vector<KeyChange>& changes) {
        const std::filesystem::path from = test::data(target), to = folder.path();
        std::filesystem::copy(from.parent_path(), to / "one", std::filesystem::copy_options::recursive);
        for (const auto& f : std::filesystem::directory_iterator(from.parent_path().parent_path()))
            if (f.path().extension() == ".elf") std::filesystem::copy(f.path(), to);
        // A framed recording shares the image of the bare one.
        std::filesystem::create_directories(to / "mount");
        std::filesystem::copy(test::data("mount/firmware.elf"), to / "mount");
        const std::string path = (to / "one" / from.filename()).string();
        const auto text = changed_target(test::read_text(path), changes);
        EXPECT_TRUE(text);
        test::write_file(path, *text);
        return path;
    }
    // Does something, and waits until the recording has been read anew.
    void and_wait(const std::function<void()>& what) {
        QSignalSpy finished(&window->document(), &Document::finished);
        what();
        ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000))
            << window->notice_text().toStdString();
    }
    QPushButton* offer(const QString& label) {
        for (QPushButton* b : window->findChildren<QPushButton*>("offer"))
            if (b->text() == label && b->isVisible()) return b;
        return nullptr;
    }
    void click(const char* name) {
        auto* b = window->findChild<QAbstractButton*>(name);
        ASSERT_NE(b, nullptr) << name;
        QTest::mouseClick(b, Qt::LeftButton);
    }
    template <class W>
    W* field(const char* name) {
        auto* w = window->desk().target().form()->findChild<W*>(name);
        EXPECT_NE(w, nullptr) << name;
        return w;
    }
    void enter(const char* name, const QString& value) {
        auto* line = field<QLineEdit>(name);
        ASSERT_NE(line, nullptr);
        line->setFocus();
        line->selectAll();
        QTest::keyClicks(line, value);
        QTest::keyClick(line, Qt::Key_Return);
    }

    test::Folder folder;
    std::unique_ptr<MainWindow> window;
};

TEST_F(Target, AWarningAboutASettingOffersTheMendShowsWhatItChangedAndCanBeUndone) {
    const std::string path =
        copy("mount-framed/mount.target.toml", {{"stream", 0, "framing", "\"none\""}, {"stream", 0, "trace_id", ""}});
    const std::string before = test::read_text(path);
    open(path);
    EXPECT_TRUE(window->notice_text().contains("is framing = \"tpiu\" right?")) << window->notice_text().toStdString();
    QPushButton* mend = offer("Read formatter frames, trace ID 1");
    ASSERT_NE(mend, nullptr);
    and_wait([&] { QTest::mouseClick(mend, Qt::LeftButton); });
    EXPECT_EQ(window->document().trail()->streams[0].bad_bytes, 0U);
    const QString told = window->notice_text();
    EXPECT_TRUE(told.startsWith("Read formatter frames, trace ID 1.\nBefore: ")) << told.toStdString();
    EXPECT_TRUE(told.contains("Now: ") && told.contains("no bad bytes")) << told.toStdString();
    EXPECT_EQ(test::read_text(path), before) << "nothing is written before it is saved";
    and_wait([&] { QTest::mouseClick(offer("Undo"), Qt::LeftButton); });
    EXPECT_GT(window->document().trail()->streams[0].bad_bytes, 0U);
    EXPECT_TRUE(window->notice_text().startsWith("Undone: Read formatter frames"));
    window->desk().target().show(true);
    and_wait([&] { click("target_redo"); });
    EXPECT_EQ(window->document().trail()->streams[0].bad_bytes, 0U);
    QTest::mouseClick(offer("Save in mount.target.toml"), Qt::LeftButton);
    EXPECT_EQ(toml_unquoted(stated_value(test::read_text(path), "stream", 0, "framing")), "tpiu");
    EXPECT_EQ(stated_value(test::read_text(path), "stream", 0, "trace_id"), "1");
}

TEST_F(Target, EveryKeyIsAFieldAndWhatIsEnteredIsDecodedAtOnce) {
    open(copy("mount/mount.target.toml", {}));
    const Time end = window->document().trail()->end;
    QTest::keyClick(window.get(), Qt::Key_T, Qt::ControlModifier);
    TargetForm* form = window->desk().target().form();
    ASSERT_TRUE(form->isVisible());
    QStringList parts;
    for (int i = 0; i < form->parts()->count(); ++i) parts << form->parts()->item(i)->text().trimmed();
    EXPECT_EQ(parts.mid(0, 5), (QStringList{"Target file", "Core main", "Stream 1", "itm", "line"}))
        << parts.join("|").toStdString();
    EXPECT_TRUE(parts.contains("Watch axis_error"));
    EXPECT_TRUE(parts.contains("Port 0 console"));
    form->show_part("core", 0);
    EXPECT_EQ(field<QLineEdit>("key_clock_hz")->text(), "72000000");
    and_wait([&] { enter("key_clock_hz", "36 000 000"); });
    EXPECT_NEAR(window->document().trail()->end.ns(), end.ns() * 2, 1);
    EXPECT_EQ(field<QLineEdit>("key_clock_hz")->text(), "36000000");
    EXPECT_TRUE(window->notice_text().startsWith("clock_hz set to 36 000 000.")) << window->notice_text().toStdString();
    form->show_part("stream.itm", 0);
    auto* prescaler = field<QComboBox>("key_timestamp_prescaler");
    EXPECT_EQ(prescaler->currentText(), "1");
    and_wait([&] {
        prescaler->setFocus();
        QTest::keyClick(prescaler, Qt::Key_Down);
        QTest::keyClick(prescaler, Qt::Key_Return);
    });
    EXPECT_EQ(window->document().recording()->target.streams[0].timestamp_prescaler, 4U);
    and_wait([&] { click("target_undo"); });
    and_wait([&] { click("target_undo"); });
    EXPECT_EQ(window->document().trail()->end, end);
    EXPECT_FALSE(window->findChild<QPushButton*>("target_undo")->isEnabled());
    EXPECT_FALSE(window->findChild<QPushButton*>("target_save")->isEnabled()) << "it says what the file says";
}

TEST_F(Target, WhatCannotBeIsNotTakenAndSaysWhy) {
    open(copy("mount/mount.target.toml", {}));
    window->desk().target().show(true);
    TargetForm* form = window->desk().target().form();
    form->show_part("core", 0);
    enter("key_clock_hz", "fast");
    EXPECT_TRUE(form->trouble().startsWith("Rejected: ")) << form->trouble().toStdString();
    enter("key_clock_hz", "0");
    EXPECT_TRUE(form->trouble().contains("it must be a whole number from 1")) << form->trouble().toStdString();
    EXPECT_EQ(window->document().recording()->target.cores[0].clock_hz, 72'000'000U);
    form->show_part("stream", 0);
    enter("key_core", "nobody");
    EXPECT_TRUE(form->trouble().contains("names 'nobody', which is no [[core]]")) << form->trouble().toStdString();
}

TEST_F(Target, WhatCannotBeDecodedIsSetRightInTheFormToo) {
    const std::string path =
        copy("mount/mount.target.toml", {{"stream", 0, "framing", "\"tpiu\""}, {"stream", 0, "trace_id", "1"}});
    window->open(QString::fromStdString(path));
    ASSERT_TRUE(QTest::qWaitFor([&] { return offer("Target…") != nullptr; }, 20'000));
    EXPECT_TRUE(window->notice_text().contains("no ITM stream")) << window->notice_text().toStdString();
    EXPECT_NE(offer("Identify capture.bin"), nullptr);
    QTest::mouseClick(offer("Target…"), Qt::LeftButton);
    TargetForm* form = window->desk().target().form();
    ASSERT_TRUE(form->isVisible());
    form->show_part("stream", 0);
    auto* framing = field<QComboBox>("key_framing");
    and_wait([&] {
        framing->setFocus();
        QTest::keyClick(framing, Qt::Key_Up);
        QTest::keyClick(framing, Qt::Key_Return);
    });
    EXPECT_EQ(window->document().trail()->streams[0].bad_bytes, 0U);
    EXPECT_TRUE(window->notice_text().contains("Before: it could not be decoded."))
        << window->notice_text().toStdString();
}

TEST_F(Target, PartsAreAddedNamedAndRemoved) {
    open(copy("mount/mount.target.toml", {}));
    window->desk().target().show(true);
    TargetForm* form = window->desk().target().form();
    auto* add = window->findChild<QToolButton*>("target_add");
    const int parts = form->parts()->count();
    and_wait([&] {
        for (QAction* a : add->menu()->actions())
            if (a->text() == "Port") a->trigger();
    });
    EXPECT_EQ(form->parts()->count(), parts + 1);
    and_wait([&] { enter("key_number", "1"); });
    and_wait([&] { enter("key_name", "probe"); });
    EXPECT_EQ(form->parts()->currentItem()->text(), "Port 1 probe");
    ASSERT_NE(window->document().recording()->target.port(1), nullptr);
    EXPECT_EQ(window->document().recording()->target.port(1)->name, "probe");
    and_wait([&] { click("target_remove"); });
    EXPECT_EQ(window->document().recording()->target.port(1), nullptr);
    EXPECT_EQ(form->parts()->count(), parts);
}

TEST_F(Target, AFindingAboutTheClockOffersTheClock) {
    open(copy("mount/mount.target.toml", {{"core", 0, "clock_hz", "50000000"}}));
    const auto& findings = window->document().findings();
    std::size_t index = findings.size();
    for (std::size_t i = 0; i < findings.size(); ++i)
        if (findings[i].kind == FindingKind::clock_doubt) index = i;
    ASSERT_LT(index, findings.size());
    window->desk().navigator().go_to_finding(index);
    QPushButton* mend = offer("Set clock_hz to 72000000");
    ASSERT_NE(mend, nullptr) << window->notice_text().toStdString();
    and_wait([&] { QTest::mouseClick(mend, Qt::LeftButton); });
    EXPECT_TRUE(window->health_text().contains("clock agrees")) << window->health_text().toStdString();
}

TEST_F(Target, AMendThatAsksTakesTheAnswer) {
    const std::string path = copy("mount/mount.target.toml", {{"core", 0, "image", ""}});
    open(path);
    ASSERT_NE(offer("Choose the image…"), nullptr) << window->notice_text().toStdString();
    const Mend mend = window->document().trail()->doubts[0].mends[0];
    and_wait([&] { window->desk().target().mend_with(mend, QString::fromStdString(folder / "one/firmware.elf")); });
    EXPECT_NE(window->document().recording()->images[0], nullptr);
    EXPECT_NE(window->desk().target().draft().text().find("image = \"firmware.elf\""), std::string::npos)
        << "as seen from the target file: " << window->desk().target().draft().text();
}

TEST_F(Target, BytesThatATargetFileNamesAreReadAsItSays) {
    const std::string path = copy("mount/mount.target.toml", {});
    test::write_file(folder / "one/other.target.toml", test::itm_target("capture.bin", false, "10_000_000"));
    open(folder / "one/capture.bin");
    EXPECT_EQ(window->document().recording()->target.path, path);
    EXPECT_EQ(window->notice_text(), "capture.bin is decoded as described in mount.target.toml.");
    ASSERT_NE(offer("Identify again"), nullptr);
    QPushButton* other = offer("Use other.target.toml");
    ASSERT_NE(other, nullptr);
    and_wait([&] { QTest::mouseClick(other, Qt::LeftButton); });
    EXPECT_EQ(window->document().recording()->target.cores[0].clock_hz, 10'000'000U);
}

TEST_F(Target, BytesThatLieInAProjectMayBeReadAsItsTargetSays) {
    const std::string shared = copy("mount/mount.target.toml", {});
    const std::string before = test::read_text(shared);
    std::filesystem::create_directories(folder / "nights");
    std::filesystem::rename(folder / "one/capture.bin", folder / "nights/fourth.bin");
    test::write_file(folder / "larkspur.project.toml",
                     "format = \"mindful-trail-project/1\"\nname = \"Larkspur\"\ntarget = \"one/mount.target.toml\"\n");
    open(folder / "nights/fourth.bin");
    EXPECT_EQ(window->notice_text(), "This file belongs to the project Larkspur.");
    QPushButton* read = offer("Use mount.target.toml");
    ASSERT_NE(read, nullptr);
    and_wait([&] { QTest::mouseClick(read, Qt::LeftButton); });
    EXPECT_FALSE(window->desk().bytes()->isVisible());
    const TargetFile& target = window->document().recording()->target;
    EXPECT_EQ(target.streams[0].file, folder / "nights/fourth.bin");
    EXPECT_EQ(target.watches.size(), 4U) << "what is watched is known from the project";
    window->desk().target().show(true);
    click("target_save");
    EXPECT_EQ(test::read_text(shared), before) << "the shared one stays as it is";
    EXPECT_NE(test::read_text(folder / "one/fourth.target.toml").find("../nights/fourth.bin"), std::string::npos);
}

TEST_F(Target, TheStartPageLeadsToTheDemonstrationAndRemembersWithRidgeAndFindings) {
    const auto cards = [&] {
        QStringList names;
        for (auto* c : window->desk().start_page()->findChildren<QAbstractButton*>("start_card"))
            if (c->isVisible()) names << c->text();
        return names;
    };
    EXPECT_TRUE(cards().contains("A night that went wrong")) << cards().join("|").toStdString();
    const std::string path = copy("mount/mount.target.toml", {});
    open(path);
    const auto findings = static_cast<int>(window->document().findings().size());
    const RecentFacts facts = Recent().facts(QString::fromStdString(path));
    EXPECT_EQ(facts.findings, findings);
    EXPECT_FALSE(facts.ridge.isNull());
    window->close_desk(window->desk());
    QAbstractButton* card = nullptr;
    EXPECT_TRUE(QTest::qWaitFor([&] {
        for (auto* c : window->desk().start_page()->findChildren<QAbstractButton*>("start_card"))
            if (c->text() == "mount.target.toml" && c->isVisible()) card = c;
        return card != nullptr;
    }));
    ASSERT_NE(card, nullptr) << cards().join("|").toStdString();
    EXPECT_TRUE(card->accessibleDescription().startsWith(QString::number(findings) + " finding"))
        << card->accessibleDescription().toStdString();
    QSignalSpy finished(&window->document(), &Document::finished);
    card->setFocus();
    QTest::keyClick(card, Qt::Key_Space);
    ASSERT_TRUE(QTest::qWaitFor([&] { return finished.count() > 0; }, 20'000));
}

}  // namespace
}  // namespace mt::app
