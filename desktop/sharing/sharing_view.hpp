// The page "Sharing": a gateway, who visits what through it, and the passes; a visit or a pass ended from
// here.
#pragma once
#include <QPointer>
#include <QWidget>

#include "desktop/model/desk.hpp"
#include "gate/gate_client.hpp"

class QFrame;
class QLabel;
class QLineEdit;
class QPushButton;
class QTableWidget;

namespace kw::desktop {

class SharingView : public QWidget {
  Q_OBJECT
 public:
  explicit SharingView(Desk& desk, QWidget* parent = nullptr);
  ~SharingView() override;
  [[nodiscard]] QTableWidget* visits() const { return visits_; }
  [[nodiscard]] QTableWidget* passes() const;
  [[nodiscard]] class AuditPanel* audit() const { return audit_; }
  /// Null unless a keeper looks in.
  [[nodiscard]] class LookWindow* lookWindow() const;
  [[nodiscard]] const gate::ClientView& view() const { return view_; }
  /// The address typed last, remembered by the window.
  [[nodiscard]] QString address() const;
  [[nodiscard]] QString account() const;
  /// "duty drives, since 08:12", of all the machine's ways in; empty while no gateway is signed in to.
  [[nodiscard]] QStringList visitorsOf(Id machine) const;
  void useAddress(const QString& address, const QString& account);
  void signIn();
  /// A pass for this way in is what the form begins with.
  void sharePass(Id endpoint);

 signals:
  void closed();
  void said(const QString& sentence);
  /// Who visits what has changed.
  void visitsChanged();

 private:
  struct Channel;
  void take(const gate::ClientView& view);
  void askTrust(const PeerCertificate& certificate, const QString& peer, const QString& pinned);
  void refresh();
  void showVisits();
  void askAudit();
  /// What is chosen in the list; nothing when none is.
  struct Chosen {
    qint64 way = 0, visit = 0;
    QString what, who;
  };
  [[nodiscard]] std::optional<Chosen> chosenVisit() const;
  void endVisit(const Chosen& visit);
  void writeTo(const Chosen& visit);
  void lookInto(const Chosen& visit);
  void allowForVisits();

  Desk& desk_;
  std::shared_ptr<Channel> channel_;
  std::shared_ptr<gate::GateClient> client_;
  gate::ClientView view_;
  QFrame *signIn_, *trust_, *body_;
  QLineEdit *address_, *user_, *password_, *code_;
  QLabel *state_, *trouble_, *trustText_, *noVisits_;
  QTableWidget* visits_;
  class PassPanel* passes_;
  QPushButton *endVisit_, *write_, *lookIn_, *trustIt_;
  QPointer<class LookWindow> looking_;
  QPushButton* happened_;
  class AuditPanel* audit_;
};

}  // namespace kw::desktop
