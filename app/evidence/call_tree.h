// The call tree: from the roots down, the callers of a function, or whom it calls.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include <QAbstractItemModel>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QTreeView>

#include "document/document.h"
#include "evidence/evidence_page.h"
#include "measure/call_paths.h"

namespace mt::app {

enum class CallWalk { down, callers, callees };

/// Children are worked out when somebody unfolds their parent.
class CallTreeModel : public QAbstractItemModel {
    Q_OBJECT
  public:
    explicit CallTreeModel(QObject* parent = nullptr);
    ~CallTreeModel() override;
    QModelIndex index(int row, int column, const QModelIndex& parent = {}) const override;
    QModelIndex parent(const QModelIndex& index) const override;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

    /// `function`: where callers and callees begin.
    void show(std::shared_ptr<const Trail> trail, std::size_t stream, CallWalk walk,
              std::optional<std::uint32_t> function);
    /// The function of a row.
    std::uint32_t function_of(const QModelIndex& index) const;

  private:
    struct Node;
    Node* node_of(const QModelIndex& index) const;
    void unfold(Node& node) const;

    std::shared_ptr<const Trail> trail_;
    std::size_t stream_ = 0;
    CallWalk walk_ = CallWalk::down;
    std::unique_ptr<CallPaths> paths_;
    std::unique_ptr<Node> root_;
    Time whole_;
};

class CallTree : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    CallTree(Document& document, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    QString id() const override { return "call_tree"; }
    QString title() const override { return tr("Call tree"); }
    bool has_something() const override { return document_.trail() && !document_.trail()->steps.empty(); }
    std::vector<Stream> streams() const override { return step_streams(document_.trail().get()); }
    QTreeView* view() const { return view_; }
    /// What callers and callees are shown of, from now on.
    void use_function(std::size_t stream, std::uint32_t function);
    void use_stream(std::size_t stream) override;
    std::size_t stream() const override { return stream_; }
    void set_walk(CallWalk walk);
    /// The unfolded rows as text, indented.
    QString copied_text() const;

  signals:
    /// A person wants to see the longest call of this function.
    void function_chosen(const QString& name);

  private:
    void renew();
    void show_function();

    Document& document_;
    CallTreeModel* model_;
    QTreeView* view_;
    QComboBox* walk_;
    QLineEdit* function_edit_;
    QLabel* hint_;
    std::size_t stream_ = 0;
    std::optional<std::uint32_t> function_;
};

}  // namespace mt::app
