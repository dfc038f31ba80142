// Kept passwords are locked by hand, after a time, and before the computer sleeps.
#include "desktop/app/vault_guard.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("Kept passwords are locked when nobody touches the window for a while, and before sleep",
          "[window]") {
  TemporaryFolder folder;
  const std::shared_ptr<Vault> vault = openVault(folder.path);
  VaultGuard guard(vault, nullptr);
  QStringList why;
  QObject::connect(&guard, &VaultGuard::locked, &guard, [&](const QString& words) { why << words; });
  // Without a passphrase nothing is locked: nothing would open it.
  guard.sleepComes(true);
  CHECK(vault->isOpen());
  vault->setPassphrase("compost heap");
  guard.setIdle(std::chrono::milliseconds(400));
  QWidget touched;
  touched.show();
  QElapsedTimer time;
  for (time.start(); time.elapsed() < 900;) {
    QTest::keyClick(&touched, Qt::Key_A);
    QTest::qWait(40);
    REQUIRE(vault->isOpen());
  }
  CHECK(shown([&] { return !vault->isOpen(); }));
  REQUIRE(why.size() == 1);
  CHECK(why.front().contains("nobody has touched"));
  REQUIRE(vault->open("compost heap"));
  guard.setIdle(std::chrono::milliseconds(0));
  // As the login service's signal comes in.
  QMetaObject::invokeMethod(&guard, "sleepComes", Q_ARG(bool, false));
  CHECK(vault->isOpen());
  QMetaObject::invokeMethod(&guard, "sleepComes", Q_ARG(bool, true));
  CHECK_FALSE(vault->isOpen());
  CHECK(why.back().contains("sleeps"));
}

TEST_CASE("Kept passwords are locked by hand from the menu, and only where a passphrase opens them again",
          "[window]") {
  WindowBench bench(1);
  bench.open();
  const auto action = [&](const QString& text) -> QAction* {
    for (QAction* a : bench.window->findChildren<QAction*>())
      if (a->text().remove('&') == text) return a;
    return nullptr;
  };
  REQUIRE(action("Lock kept passwords") != nullptr);
  CHECK_FALSE(action("Lock kept passwords")->isEnabled());
  CHECK_FALSE(action("Lock kept passwords after…")->isEnabled());
  bench.tools.vault->setPassphrase("compost heap");
  emit bench.desk->sessionsChanged();
  REQUIRE(action("Lock kept passwords")->isEnabled());
  action("Lock kept passwords")->trigger();
  CHECK_FALSE(bench.tools.vault->isOpen());
  CHECK_FALSE(action("Lock kept passwords")->isEnabled());
  CHECK(action("Unlock kept passwords…")->isEnabled());
}
