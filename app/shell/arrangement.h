// How a desk is arranged: two arrangements a key apart, each remembered for each kind of recording.
#pragma once

#include <QObject>
#include <QSplitter>

#include "evidence/evidence_area.h"
#include "lanes/lanes.h"

namespace mt::app {

/// Timing has the lanes large, with findings and figures beside them; Code has calls and values above, and
/// instructions, source and a third column below. Sizes, what is folded away, which page stands where and which lanes
/// are shown is kept in the settings under the kind of recording and the name of the arrangement.
class Arrangement : public QObject {
    Q_OBJECT
  public:
    enum class Name { timing, code };
    struct Parts {
        QSplitter *across, *down;  ///< findings, health, lanes, figures; what stands above, evidence
        QWidget *findings, *panel;
        EvidenceArea* evidence;
        Lanes* lanes;
    };
    explicit Arrangement(const Parts& parts, QObject* parent = nullptr);

    Name name() const { return name_; }
    /// Keeps the present one and shows the other as it was left.
    void use(Name name);
    /// Recordings with the same kinds of streams are arranged alike. What was used last for them comes back.
    void use_kind(const QString& kind);
    /// As it comes, for this kind of recording and this arrangement.
    void reset();
    /// Keeps the present one.
    void keep() const;

  signals:
    void changed();

  private:
    QString place() const;
    void show_default();
    void restore();
    Parts parts_;
    Name name_ = Name::timing;
    QString kind_;
};

}  // namespace mt::app
