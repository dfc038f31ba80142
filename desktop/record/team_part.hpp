// Who of the team holds a credential's secrets: given and taken away with a tick, new computers told of.
#pragma once
#include <QWidget>
#include <set>
#include <string>

#include "desktop/model/records.hpp"
#include "route/team_bundle.hpp"

class QCheckBox;
class QVBoxLayout;

namespace kw::desktop {

class TeamPart : public QWidget {
  Q_OBJECT
 public:
  TeamPart(Records& records, QWidget* parent);
  /// Hidden where the records have one person only, or for a new credential (0).
  void showFor(Id credential);
  /// The others who shall hold it.
  [[nodiscard]] std::set<std::string> chosen() const;
  /// Whoever holds it and shall not any more.
  [[nodiscard]] std::vector<std::string> losers() const;
  /// Gives and takes away, as ticked; nothing where that is so already. Throws Error.
  void share();

 signals:
  void edited();
  void said(const QString& sentence);

 private:
  /// `isShared`: somebody holds it as shared; without, it is one's own.
  void addRow(const Teammate& mate, bool isShared);
  void addNewDesk(const Teammate& mate);
  void clear();

  Records& records_;
  Id credential_ = 0;
  std::set<std::string> before_;
  std::vector<QCheckBox*> ticks_;
  QVBoxLayout* rows_;
};

}  // namespace kw::desktop
