// The Sharing page against a gateway of the test's own.
#include <QComboBox>
#include <QLabel>
#include <QSpinBox>
#include <QTableWidget>

#include <SQLiteCpp/SQLiteCpp.h>

#include "desktop/sharing/audit_panel.hpp"
#include "desktop/sharing/look_window.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "gate/gate.hpp"
#include "tests/desktop/window_bench.hpp"
#include "tests/gate_caller.hpp"

using namespace kw;
using namespace kw::test;

namespace {

struct GateBench : WindowBench {
  GateBench() : WindowBench(1) {
    gate::GateOptions options;
    options.port = 0;
    options.state = folder.path / "gate";
    door = std::make_unique<gate::Gate>(gateRuntime, options, tools);
    door->store().addAccount("duty", "duty-at-the-gate", gate::Role::Keeper);
    door->store().addAccount("seed desk", "seed-desk-looks", gate::Role::Look);
    door->start();
  }
  ~GateBench() {
    window.reset();
    desk.reset();
    door.reset();
    gateRuntime.stop();
  }
  [[nodiscard]] QString address() const { return QString("127.0.0.1:%1").arg(door->port()); }
  /// Trusts the certificate, as one who compared it.
  SharingView& signIn(const QString& name, const QString& password) {
    open();
    window->action("sharing")->trigger();
    SharingView* page = window->sharing();
    page->useAddress(address(), name);
    child<QLineEdit>("gatePassword")->setText(password);
    child<QPushButton>("gateSignIn")->click();
    auto* trust = child<QPushButton>("gateTrust");
    REQUIRE(shown([&] { return trust->isVisible(); }));
    trust->click();
    return *page;
  }
  /// Somebody else at the same gateway.
  std::shared_ptr<gate::GateClient> other(const std::string& name, const std::string& password) {
    gate::ClientPlan plan;
    plan.host = "127.0.0.1", plan.port = door->port(), plan.user = name, plan.password = password;
    plan.decide = [](PeerCertificate) -> Task<bool> { co_return true; };
    auto client =
        std::make_shared<gate::GateClient>(gateRuntime.strand(), plan, [](const gate::ClientView&) {});
    client->start();
    return client;
  }

  Runtime gateRuntime{1};
  std::unique_ptr<gate::Gate> door;
};

}  // namespace

TEST_CASE("Sharing: nothing is sent before the certificate is trusted; a wrong password is told",
          "[window][gate]") {
  GateBench b;
  b.open();
  b.window->showSharing();
  SharingView* page = b.window->sharing();
  page->useAddress(b.address(), "duty");
  b.child<QLineEdit>("gatePassword")->setText("duty-at-the-gate");
  b.child<QPushButton>("gateSignIn")->click();
  auto* trust = b.child<QPushButton>("gateTrust");
  REQUIRE(shown([&] { return trust->isVisible(); }));
  CHECK(b.door->store().auditEntries(0, 100).size() == 1);  // "gateway starts", and nobody signed in
  b.child<QLineEdit>("gatePassword")->setText("not-this-one");
  trust->click();
  bool told = false;
  REQUIRE(shown([&] {
    for (auto* label : page->findChildren<QLabel*>("bad")) told = told || label->text().contains("not right");
    return told;
  }));
}

TEST_CASE("Sharing: a pass is made, its link is on the clipboard and opens, and it is ended from there",
          "[window][gate]") {
  GateBench b;
  SharingView& page = b.signIn("duty", "duty-at-the-gate");
  REQUIRE(shown(
      [&] { return page.view().stage == gate::ClientStage::SignedIn && !page.view().machines.empty(); }));
  CHECK(page.passes()->rowCount() == 0);
  page.sharePass(b.endpoints[0]);
  b.child<QSpinBox>("passUses")->setValue(3);
  b.child<QPushButton>("makePass")->click();
  REQUIRE(shown([&] { return page.passes()->rowCount() == 1; }));
  const QString link = b.child<QLineEdit>("passLink")->text();
  CHECK(link.startsWith("https://127.0.0.1:"));
  const std::string token = link.section("#pass=", 1).toStdString();
  REQUIRE(b.door->store().passOf(token).has_value());
  CHECK(b.door->store().passOf(token)->wayIn == b.endpoints[0]);
  CHECK(b.door->store().passOf(token)->look);
  CHECK(b.door->store().passOf(token)->most == 3);
  CHECK(page.passes()->item(0, 4)->text() == "0 of 3");
  page.passes()->selectRow(0);
  b.child<QPushButton>("endPass")->click();
  CHECK(shown([&] { return b.door->store().passOf(token)->ended; }));
  CHECK(shown([&] { return page.passes()->item(0, 3)->text() == "ended"; }));
}

TEST_CASE("Sharing: an account that only looks makes no pass, and the page says so", "[window][gate]") {
  GateBench b;
  SharingView& page = b.signIn("seed desk", "seed-desk-looks");
  REQUIRE(shown(
      [&] { return page.view().stage == gate::ClientStage::SignedIn && !page.view().machines.empty(); }));
  QString said;
  QObject::connect(&page, &SharingView::said, &page, [&](const QString& words) { said = words; });
  b.child<QPushButton>("makePass")->click();
  CHECK(shown([&] { return said.contains("makes no passes"); }));
  CHECK(page.passes()->rowCount() == 0);
}

TEST_CASE("Sharing: a gateway that ends is told; its address is remembered", "[window][gate]") {
  GateBench b;
  SharingView& page = b.signIn("duty", "duty-at-the-gate");
  REQUIRE(shown([&] { return page.view().stage == gate::ClientStage::SignedIn; }));
  b.door->stop();
  CHECK(shown([&] { return page.view().stage == gate::ClientStage::Lost; }));
  CHECK(shown([&] { return b.child<QPushButton>("gateSignIn")->isVisible(); }));
  const QString address = b.address();
  b.window->close();
  b.window.reset();
  b.desk.reset();
  b.open();
  b.window->showSharing();
  CHECK(b.window->sharing()->address() == address);
}

TEST_CASE("Sharing: a keeper reads what happened, narrowed, and sees a chain that was broken",
          "[window][gate]") {
  GateBench b;
  SharingView& page = b.signIn("duty", "duty-at-the-gate");
  REQUIRE(
      shown([&] { return page.view().stage == gate::ClientStage::SignedIn && page.view().me.is_object(); }));
  b.door->store().audit("seed desk", "127.0.0.9", "opens", {{"machine", "palm-house-01"}});
  auto* happened = b.child<QPushButton>("whatHappened");
  REQUIRE(shown([&] { return happened->isVisible() && happened->isEnabled(); }));
  happened->click();
  QTableWidget* table = page.audit()->table();
  REQUIRE(shown([&] { return table->rowCount() == 3; }));
  CHECK(table->item(0, 1)->text() == "seed desk");  // the newest first
  CHECK(table->item(0, 3)->text() == "palm-house-01");
  b.child<QLineEdit>("auditNarrow")->setText("SIGNS in");
  REQUIRE(shown([&] { return table->rowCount() == 1; }));
  CHECK(table->item(0, 1)->text() == "duty");
  b.child<QLineEdit>("auditNarrow")->setText("nothing of the kind");
  CHECK(shown([&] { return table->rowCount() == 0 && !table->isVisible(); }));
  const auto chainSays = [&](const QString& words) {
    const auto labels = page.audit()->findChildren<QLabel*>();
    return std::any_of(labels.begin(), labels.end(), [&](QLabel* l) { return l->text().contains(words); });
  };
  CHECK(chainSays("chain is whole"));
  {
    SQLite::Database file((b.folder.path / "gate" / "gate.sqlite").string(), SQLite::OPEN_READWRITE);
    file.exec("UPDATE audit SET entry = replace(entry, 'seed desk', 'somebody') WHERE id = 3");
  }
  b.child<QLineEdit>("auditNarrow")->clear();
  CHECK(shown([&] { return chainSays("breaks at entry 3"); }));
  happened->click();
  CHECK_FALSE(page.audit()->isVisible());
}

TEST_CASE("Sharing: who is no keeper does not read what happened", "[window][gate]") {
  GateBench b;
  SharingView& page = b.signIn("seed desk", "seed-desk-looks");
  auto* happened = b.child<QPushButton>("whatHappened");
  REQUIRE(shown([&] { return happened->isVisible(); }));
  CHECK_FALSE(happened->isEnabled());
  CHECK(happened->toolTip().contains("keeper"));
  // Asked for all the same, past the button, the gateway refuses.
  QString said;
  QObject::connect(&page, &SharingView::said, &page, [&](const QString& words) { said = words; });
  emit page.audit()->wanted();
  CHECK(shown([&] { return said.contains("only a keeper"); }));
  CHECK(page.view().audit.is_null());
}

TEST_CASE("Sharing: a keeper looks in on a visit, sees its picture follow, and is told when it is over",
          "[window][gate]") {
  GateBench b;
  SharingView& page = b.signIn("duty", "duty-at-the-gate");
  REQUIRE(
      shown([&] { return page.view().stage == gate::ClientStage::SignedIn && page.view().me.is_object(); }));
  GateCaller caller;
  caller.port = b.door->port();
  const std::string cookie = caller.signIn("seed desk", "seed-desk-looks");
  std::shared_ptr<WebSocket> visitor;
  runToEnd([&]() -> Task<void> {
    visitor = co_await caller.page("/visit?way=" + std::to_string(b.endpoints[0]), cookie);
    co_await GateCaller::until(visitor, "\"size\"");
  });
  REQUIRE(shown([&] { return page.visits()->rowCount() == 1; }));
  auto* button = b.child<QPushButton>("lookIn");
  CHECK_FALSE(button->isEnabled());
  CHECK(button->toolTip() == "Choose a visit first.");
  page.visits()->selectRow(0);
  REQUIRE(button->isEnabled());
  button->click();
  LookWindow* look = page.lookWindow();
  REQUIRE(look != nullptr);
  CHECK(look->windowTitle().contains("seed desk"));
  REQUIRE(shown([&] { return !look->picture().isNull(); }));
  // What changes there is seen here.
  b.consoles[0]->withGuest([](lab::Guest& guest) { guest.resize(Size{1000, 700}); });
  CHECK(shown([&] { return look->picture().size() == QSize(1000, 700); }));
  auto* state = look->findChild<QLabel*>("lookState");
  CHECK(state->text().contains("seed desk looks"));
  visitor->close();
  CHECK(shown([&] { return look->over(); }));
  CHECK(state->text() == "This visit is over.");
  QTest::keyClick(look, Qt::Key_Escape);
  CHECK(shown([&] { return page.lookWindow() == nullptr; }));
}
