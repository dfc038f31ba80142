// The sheet: makes and edits a machine, its ways in and their settings, or a place or group and what it hands
// down; every setting shows where it comes from.
#pragma once
#include <QWidget>
#include <map>
#include <memory>
#include <optional>

#include "desktop/model/records.hpp"
#include "record/checks.hpp"
#include "record/merge.hpp"
#include "record/setting.hpp"

class QComboBox;
class QLabel;
class QLineEdit;
class QListWidget;
class QPlainTextEdit;
class QPushButton;
class QStackedWidget;
class QVBoxLayout;

namespace kw::desktop {

class Sheet : public QWidget {
  Q_OBJECT
 public:
  explicit Sheet(Records& records, QWidget* parent = nullptr);

  /// machine 0 begins a new one; `address` fills its first way in.
  void edit(Id machine, const QString& address = {});
  /// A place or group; 0 begins a new one inside `parent`.
  void editFolder(Id folder, Id parent = 0);
  /// 0 while a group is edited.
  [[nodiscard]] Id machine() const { return machine_.id; }
  [[nodiscard]] bool editsFolder() const { return folder_.has_value(); }
  [[nodiscard]] Id folder() const { return folder_ ? folder_->id : 0; }
  [[nodiscard]] bool dirty() const;
  /// The way in as it stands in the form now, for the side's "What will happen".
  [[nodiscard]] std::optional<Endpoint> draftEndpoint() const;
  /// What the records themselves say about the way in as it stands in the form.
  [[nodiscard]] std::vector<RecordCheck> checks() const;
  /// Of what is edited, machine or group.
  [[nodiscard]] QString machineName() const;
  void useAddress(const QString& address);
  /// The group a new machine begins in.
  void useFolder(Id folder);
  [[nodiscard]] class MergeView* mergeView() const { return merge_; }
  /// Gets a machine's first password from its host, for FirstPasswordBox; none: nobody asks hosts.
  std::function<void(Id machine, std::function<void(const QString& sealed, const QString& problem)> told)>
      askHostForFirst;

 signals:
  void kept(kw::Id machine);
  void folderKept(kw::Id folder);
  void openWanted(kw::Id endpoint);
  void closed();
  void draftChanged();
  /// The page of credentials, at this one; empty: a new one.
  void credentialWanted(const QString& name);

 protected:
  void keyPressEvent(QKeyEvent* event) override;

 private:
  struct EndpointRow {
    Endpoint endpoint;
    bool removed = false;
  };
  void build();
  void buildPages();
  [[nodiscard]] QString pathText(Id folder) const;
  [[nodiscard]] class QComboBox* newGroupBox(QWidget* page) const;
  QWidget* pageFolder();
  [[nodiscard]] QString folderProblem() const;
  void summarizeFolder();
  bool keepFolder();
  QWidget* pageNames();
  QWidget* pageWays();
  QWidget* pageSettings(const QString& section);
  void addOwnerBox(QVBoxLayout* column, QWidget* page);
  void addSettingRows(QVBoxLayout* column, QWidget* page, const QString& section);
  void addWhatCannotBe(QVBoxLayout* column, QWidget* page, const QString& section);
  QWidget* settingRow(const Setting& setting, QWidget* page);
  // Signing in; sheet_sign_in.cpp.
  void addKeptPassword(QVBoxLayout* column, QWidget* page);
  void addNamedSignIn(QVBoxLayout* column, QWidget* page, const QString& name);
  /// The way in whose password the page of signing in is about; 0: one that is not kept yet.
  [[nodiscard]] Id signInWay() const;
  [[nodiscard]] QString signInWords() const;
  // What a colleague did meanwhile; sheet_merge.cpp.
  void buildMerge(QVBoxLayout* column);
  void showMerge();
  void hideMerge();
  void keepMerged();
  void makeAnew();
  void recordsChanged();
  /// What others changed of it since the draft began.
  [[nodiscard]] std::vector<MergeField> othersChanges(const Snapshot& now) const;
  void tellChanges(const std::vector<MergeField>& changes);
  /// Who changed any of these last; empty when that is not known.
  [[nodiscard]] QString lastAuthorOf(const std::vector<Owner>& owners) const;
  void showMergeView(const QString& name, const std::vector<Owner>& owners, std::vector<MergeField> fields);
  // The same for a place or group; sheet_folder_merge.cpp.
  [[nodiscard]] FolderDraft folderDraft() const;
  void showFolderMerge();
  void keepFolderMerged();
  void folderChanged();
  void folderGone();
  [[nodiscard]] RecordDraft draft() const;
  void writeDraft(StoreWriter& writer);
  QWidget* pageSignIn();
  QWidget* pageNotes();
  void refreshWays();
  void refreshSummaries();
  [[nodiscard]] ResolvedSetting inForce(const std::string& key) const;
  void setValue(const std::string& key, const std::optional<std::string>& value);
  void touched();
  bool keep();
  [[nodiscard]] QString problem() const;
  [[nodiscard]] std::vector<std::pair<QString, Owner>> owners() const;
  [[nodiscard]] QStringList sections() const;
  [[nodiscard]] bool applies(const Setting& setting) const;
  void addWay(const QString& label, const QString& address);
  void fillNewWay(class QMenu* menu);

  Records& records_;
  std::shared_ptr<const Snapshot> base_;  ///< what the draft began from
  Machine machine_;
  std::optional<Folder> folder_;  ///< when a place or group is edited
  QString groupPath_;             ///< of the machine, or of what the group is in
  std::vector<EndpointRow> ways_;
  std::size_t currentWay_ = 0;
  /// Changes of settings by owner; owner {WayIn, 0} stands for the current, perhaps unsaved, way in.
  SettingChanges changes_;
  std::optional<QString> newPassword_;
  bool forgetPassword_ = false, changed_ = false;
  Owner owner_;

  QWidget* middle_ = nullptr;
  class MergeView* merge_ = nullptr;
  QLabel* meanwhile_ = nullptr;
  std::shared_ptr<const Snapshot> theirs_;  ///< what is being merged with
  QLabel *title_, *subtitle_, *problem_;
  QPushButton *undo_, *keep_, *keepOpen_, *close_;
  QListWidget* list_;
  QStringList shownSections_;  ///< those that have pages now
  QStackedWidget* pages_;
  QVBoxLayout* waysLayout_ = nullptr;
};

}  // namespace kw::desktop
