// One open document with all its views: ridge, findings, lanes, figures, moment and evidence.
#pragma once

#include <chrono>

#include <QSplitter>
#include <QStackedWidget>
#include <QWidget>

#include "document/block_store.h"
#include "document/live_session.h"
#include "evidence/call_tree.h"
#include "evidence/compare_page.h"
#include "evidence/coverage_page.h"
#include "document/cover_book.h"
#include "document/judgement.h"
#include "evidence/rules_page.h"
#include "evidence/evidence_area.h"
#include "evidence/footsteps.h"
#include "evidence/functions_table.h"
#include "evidence/interplay_page.h"
#include "evidence/packet_table.h"
#include "evidence/source_view.h"
#include "evidence/state_page.h"
#include "evidence/hand_page.h"
#include "evidence/samples_page.h"
#include "evidence/text_page.h"
#include "evidence/waymark_page.h"
#include "evidence/trace_table.h"
#include "figures/measures.h"
#include "lanes/lanes.h"
#include "navigate/navigator.h"
#include "overview/findings_panel.h"
#include "overview/moment_strip.h"
#include "overview/ridge.h"
#include "shell/arrangement.h"
#include "shell/bytes_strip.h"
#include "shell/notice.h"
#include "shell/record_page.h"
#include "shell/start_page.h"
#include "shell/target_side.h"

namespace mt::app {

class Beside;
class PastStrip;

/// Builds the views, joins them, and says which of them stand where. What a person does with them goes through the
/// navigator. Only the window's thread may call its members.
class Desk : public QWidget {
    Q_OBJECT
  public:
    explicit Desk(Document& document, QWidget* parent = nullptr);
    ~Desk() override;

    void open(const QString& path);
    /// Bytes whose settings are to be found out, whether somebody described them already or not.
    void open_bytes(const QString& path);
    /// What stands on its tab, and at the corner of the window.
    QString title() const;
    QString file_name() const;
    /// Whether nothing is open, being opened, or recorded here: another recording may take its place.
    bool is_empty() const;

    Document& document() { return document_; }
    Viewpoint& viewpoint() { return view_; }
    Navigator& navigator() { return navigator_; }
    Lanes* lanes() const { return lanes_; }
    Ridge* ridge() const { return ridge_; }
    MeasuresPage* measures_page() const { return page_; }
    MeasuresPanel* measures_panel() const { return panel_; }
    FindingList& finding_list() { return finding_list_; }
    FindingsPanel* findings_panel() const { return findings_; }
    MomentStrip* moment() const { return moment_; }
    PacketTable* events() const { return events_; }
    PacketTable* packets() const { return packets_; }
    TraceTable* trace_events() const { return trace_events_; }
    TextPage* text() const { return text_; }
    SamplesPage* samples() const { return samples_; }
    WaymarkPage* waymarks() const { return waymarks_; }
    Footsteps* footsteps() const { return footsteps_; }
    FunctionsTable* functions() const { return functions_; }
    SourceView* source() const { return source_; }
    PastStrip* past() const { return past_; }
    CallTree* call_tree() const { return call_tree_; }
    CoveragePage* coverage() const { return coverage_; }
    RulesPage* rules() const { return rules_; }
    StatePage* state() const { return state_; }
    HandPage* hand() const { return hand_; }
    Judgement& judgement() { return judgement_; }
    CoverBook& cover_book() { return cover_book_; }
    ComparePage* compare() const { return compare_; }
    InterplayPage* interplay() const { return interplay_; }
    EvidenceArea* evidence() const { return evidence_; }
    StartPage* start_page() const { return start_; }
    Arrangement& arrangement() { return *arrangement_; }
    RecordPage& record() { return *record_; }
    BytesStrip* bytes() const { return bytes_; }
    TargetSide& target() const { return *target_; }

    void show_measures(bool on);
    bool measures_shown() const;
    /// The way of each task from the recording's start to its first run. False if there is none to show.
    bool show_start(bool on);
    /// Steps of the core that is looked at, each equally wide, in place of time.
    void show_even(bool on);
    /// Everything but the lanes is folded away, or comes back.
    void set_only_lanes(bool on);
    bool only_lanes() const { return only_lanes_; }
    /// Brings a page of evidence to the front, also while a recording is made, which hides them.
    void show_evidence(QWidget* page);
    Beside* beside() const { return beside_; }
    /// The next finding (1) or the one before (-1); the first time the one that is selected already.
    void walk_findings(int step);
    void set_ruler_end(bool is_a);
    /// The source of an instruction of a core, whether it was executed or not. False if it is in no instruction trace.
    bool show_source(std::size_t core, std::uint32_t slot);
    void save_csv(const QString& path);
    /// The view that is used: where the keys go, else the lanes or what stands in their place.
    QWidget* view_in_use() const;

  signals:
    void told(const QString& text, bool bad);
    /// The same, with what can be done about it.
    void offered(const QString& text, bool bad, const std::vector<mt::app::Offer>& offers);
    /// What was told before is of no matter any more.
    void quieted();
    /// Its title, what it is busy with, or what can be done with it has changed.
    void renewed();
    /// A person wants the table that the page of measures shows as a file.
    void csv_wanted();
    /// A file was opened or saved: worth offering again.
    void used(const QString& path);
    /// All of it was read and judged.
    void judged(const QString& path, const mt::app::RecentFacts& facts);

  private:
    void look_at_both();
    void join_hand();
    void chase();
    QWidget* front_page() const;
    friend class RecordPage;
    friend class TargetSide;
    void build();
    void join_document();
    void join_views();
    void opened();
    void finished();
    /// Lanes, measures or the form of a recipe among the other views, or the start page alone.
    void show_page(QWidget* page);
    void show_past();
    QString kind() const;
    QImage ridge_picture() const;
    /// Once it was read anew, everybody is where they are now.
    void keep_place();

    Document& document_;
    Viewpoint view_;
    Navigator navigator_{document_, view_};
    FindingList finding_list_{document_};
    Judgement judgement_{document_};
    CoverBook cover_book_{document_};
    BlockStore store_;
    Ridge* ridge_;
    Lanes* lanes_;
    FindingsPanel* findings_;
    MeasuresPanel* panel_;
    MeasuresPage* page_;
    MomentStrip* moment_;
    PacketTable *events_, *packets_;
    TraceTable* trace_events_;
    TextPage* text_;
    SamplesPage* samples_;
    WaymarkPage* waymarks_;
    Footsteps* footsteps_;
    FunctionsTable* functions_;
    SourceView* source_;
    PastStrip* past_;
    CallTree* call_tree_;
    CoveragePage* coverage_;
    RulesPage* rules_;
    StatePage* state_;
    HandPage* hand_;
    ComparePage* compare_;
    InterplayPage* interplay_;
    EvidenceArea* evidence_;
    BytesStrip* bytes_;
    QStackedWidget *stack_, *outer_;
    QWidget* work_;  ///< everything but the start page
    StartPage* start_;
    QSplitter *across_, *down_, *both_;  ///< both_: the lanes, and those of the recording before
    Beside* beside_;
    QWidget* upper_;
    Arrangement* arrangement_ = nullptr;
    RecordPage* record_ = nullptr;
    QString opening_;  ///< what is being opened
    TargetSide* target_ = nullptr;
    bool findings_were_shown_ = true, only_lanes_ = false;
    struct KeptPlace {
        Time from, to, cursor;
        Selection selection;
    };
    std::optional<KeptPlace> kept_place_;  ///< where to be again once the recording was decoded anew
    /// The core that came to stand, until when its trace may still come, and how much there was of it.
    struct Chase {
        std::size_t core = 0;
        std::chrono::steady_clock::time_point until;
        std::optional<std::uint64_t> placed{};  ///< the step that was shown: another is current once a person went elsewhere
    };
    std::optional<Chase> chase_;
    bool walked_ = false;                  ///< a finding has been gone to
};

}  // namespace mt::app
