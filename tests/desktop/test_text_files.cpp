// Beside a pane of text: files, what was trusted, pictures of text.
#include "tests/desktop/text_bench.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// As the desktop's drag and drop hands it over; true when it was taken.
bool dropOn(QWidget* on, const QMimeData& data, QPoint at) {
  QDragEnterEvent enter(at, Qt::CopyAction, &data, Qt::LeftButton, {});
  QApplication::sendEvent(on, &enter);
  if (!enter.isAccepted()) return false;
  QDropEvent drop(at, Qt::CopyAction, &data, Qt::LeftButton, {});
  QApplication::sendEvent(on, &drop);
  return drop.isAccepted();
}

}  // namespace

TEST_CASE("Files: a folder is shown, files go both ways, a clash is asked about", "[text-window]") {
  if (!lab::SshServer::available()) {
    std::cout << "SKIPPED: Files: OpenSSH's server is not installed" << std::endl;
    return;
  }
  WindowBench bench(0);
  const int port = listenTcp(bench.runtime.strand(), "127.0.0.1", 0)->port();
  lab::SshServer server({bench.folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port), ""});
  namespace fs = std::filesystem;
  const fs::path here = bench.folder.path / "here", there = bench.folder.path / "there";
  fs::create_directories(here);
  fs::create_directories(there / "zones");
  std::ofstream(here / "valve.bin") << std::string(5000, 'v');
  std::ofstream(there / "mist.log") << "log";
  std::ofstream(there / ".hidden") << "x";
  Id gatehouse = 0;
  bench.tools.store->commit("gatehouse", [&](StoreWriter& w) {
    Machine m;
    m.folder = bench.groupId, m.name = "gatehouse";
    w.put(m);
    gatehouse = m.id;
    Endpoint e;
    e.machine = m.id, e.label = "shell",
    e.address = "ssh://" + lab::SshServer::user() + "@127.0.0.1:" + std::to_string(port);
    w.put(e);
    const Owner owner{OwnerKind::Machine, m.id};
    w.set(owner, "ssh.keys", server.clientKey().string());
    w.set(owner, "ssh.agent", "off");
    w.set(owner, "ssh.knownhosts", (bench.folder.path / "known").string());
  });
  MainWindow& window = bench.open();
  window.openFiles(gatehouse);
  FilesPanel* panel = window.files();
  REQUIRE(panel != nullptr);
  const auto press = [&](const QString& text) {
    QPushButton* found = nullptr;
    REQUIRE(shown([&] {
      for (QPushButton* b : panel->findChildren<QPushButton*>())
        if (b->isVisible() && b->text() == text) found = b;
      return found != nullptr;
    }));
    QTest::mouseClick(found, Qt::LeftButton);
  };
  press("From now on");  // the host key is new
  REQUIRE(shown([&] { return !panel->remoteFolder().isEmpty(); }));
  panel->work().list(QString::fromStdString(there.string()));
  REQUIRE(
      shown([&] { return panel->remoteList()->topLevelItemCount() == 2; }));  // the hidden one is not shown
  panel->setLocalFolder(QString::fromStdString(here.string()));
  REQUIRE(shown([&] { return panel->localList()->model()->rowCount(panel->localList()->rootIndex()) == 1; }));
  panel->localList()->selectAll();
  panel->sendSelected();
  REQUIRE(shown([&] { return panel->remoteList()->topLevelItemCount() == 3 && !panel->work().busy(); }));
  CHECK(sha256OfFile(there / "valve.bin") == sha256OfFile(here / "valve.bin"));
  std::ofstream(here / "valve.bin") << std::string(7000, 'w');
  panel->sendSelected();
  press("Replace");
  REQUIRE(shown([&] { return !panel->work().busy(); }));
  CHECK(fs::file_size(there / "valve.bin") == 7000);
  panel->sendSelected();
  press("Leave it");
  REQUIRE(shown([&] { return !panel->work().busy(); }));
  for (int i = 0; i < panel->remoteList()->topLevelItemCount(); ++i)
    if (panel->remoteList()->topLevelItem(i)->text(0) == "mist.log")
      panel->remoteList()->topLevelItem(i)->setSelected(true);
  panel->getSelected();
  REQUIRE(shown([&] { return fs::exists(here / "mist.log") && !panel->work().busy(); }));
  panel->work().compare(QString::fromStdString((here / "mist.log").string()),
                        QString::fromStdString((there / "mist.log").string()));
  CHECK(shown([&] { return panel->statusLabel()->text().startsWith("Same content"); }));

  // Dragged from the machine onto this desk's side, and from this desk onto a folder of the machine.
  fs::remove(here / "mist.log");
  QTreeWidgetItem* log = panel->remoteList()->findItems("mist.log", Qt::MatchExactly).value(0);
  REQUIRE(log != nullptr);
  const std::unique_ptr<QMimeData> dragged(
      panel->remoteList()->model()->mimeData({panel->remoteList()->indexFromItem(log)}));
  REQUIRE(dragged != nullptr);
  INFO(panel->statusLabel()->text().toStdString() << " " << panel->work().busy());
  CHECK(dropOn(panel->localList()->viewport(), *dragged,
               QPoint(5, panel->localList()->viewport()->height() - 5)));
  REQUIRE(shown([&] { return fs::exists(here / "mist.log") && !panel->work().busy(); }));
  QMimeData urls;
  urls.setUrls({QUrl::fromLocalFile(QString::fromStdString((here / "valve.bin").string()))});
  QTreeWidgetItem* zones = panel->remoteList()->findItems("zones", Qt::MatchExactly).value(0);
  REQUIRE(zones != nullptr);
  CHECK(dropOn(panel->remoteList()->viewport(), urls, panel->remoteList()->visualItemRect(zones).center()));
  CHECK(shown([&] { return fs::exists(there / "zones" / "valve.bin") && !panel->work().busy(); }));
  QMimeData text;
  text.setText("no file");
  CHECK_FALSE(dropOn(panel->remoteList()->viewport(), text, QPoint(5, 5)));
}

TEST_CASE("What was trusted can be looked at, forgotten and put back", "[text-window]") {
  WindowBench bench(1);
  MainWindow& window = bench.open();
  window.action("trusted")->trigger();
  CHECK(window.trusted()->table()->rowCount() == 0);
  bench.tools.store->pin("ssh gatehouse:22", "SHA256:abc");
  bench.tools.store->pin("fernery:5907", "ab:cd");
  window.showTrusted();
  QTableWidget* table = window.trusted()->table();
  REQUIRE(table->rowCount() == 2);
  CHECK(table->item(0, 0)->text() == "fernery:5907");
  auto* forget = window.trusted()->findChild<QPushButton*>("forgetPins");
  CHECK_FALSE(forget->isEnabled());
  table->selectRow(1);
  REQUIRE(forget->isEnabled());
  QTest::mouseClick(forget, Qt::LeftButton);
  CHECK_FALSE(bench.tools.store->pinned("ssh gatehouse:22"));
  CHECK(bench.tools.store->pinned("fernery:5907"));
  for (QPushButton* b : window.trusted()->findChildren<QPushButton*>())
    if (b->isVisible() && b->text() == "Put back") QTest::mouseClick(b, Qt::LeftButton);
  CHECK(bench.tools.store->pinned("ssh gatehouse:22") == "SHA256:abc");
}

TEST_CASE("A picture of text is saved from the stage; off it, that is said and nothing is written",
          "[text-window]") {
  TextBench b;
  OpenSession* s = b.openLine();
  const QString file = QString::fromStdString((b.folder.path / "line.png").string());
  b.window->savePicture(s, file);
  CHECK(QFile::exists(file));
  QFile::remove(file);
  b.window->stage()->remove(s);
  b.window->savePicture(s, file);
  CHECK_FALSE(QFile::exists(file));
  bool told = false;
  for (auto* label : b.window->findChildren<QLabel*>())
    told = told || label->text().contains("is not on the stage");
  CHECK(told);
}

TEST_CASE("What a machine says is shown letter by letter, not as a page", "[text-window]") {
  QWidget window;
  QLabel foreign("<b>orchid</b>", &window), own("<b>orchid</b>", &window);
  own.setTextFormat(Qt::RichText);
  window.show();
  CHECK(foreign.textFormat() == Qt::PlainText);
  CHECK(own.textFormat() == Qt::RichText);
}
