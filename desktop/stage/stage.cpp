#include "desktop/stage/stage.hpp"

#include <QJsonArray>
#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>

#include "desktop/stage/pane.hpp"
#include "desktop/stage/story_card.hpp"
#include "desktop/stage/strip.hpp"

namespace kw::desktop {

namespace {
QSplitter* makeSplitter(Qt::Orientation orientation) {
  auto* splitter = new QSplitter(orientation);
  splitter->setHandleWidth(4);
  splitter->setChildrenCollapsible(false);
  return splitter;
}

void shareEvenly(QSplitter* splitter) { splitter->setSizes(QList<int>(splitter->count(), 10000)); }

void collect(QWidget* node, std::vector<Pane*>& out) {
  if (auto* pane = qobject_cast<Pane*>(node)) out.push_back(pane);
  if (auto* splitter = qobject_cast<QSplitter*>(node))
    for (int i = 0; i < splitter->count(); ++i) collect(splitter->widget(i), out);
}
}  // namespace

Stage::Stage(QWidget* parent) : QWidget(parent) {
  setObjectName("stagePage");
  column_ = new QVBoxLayout(this);
  column_->setContentsMargins(6, 6, 6, 0);
  column_->setSpacing(6);
  tree_ = new QWidget(this);
  auto* inside = new QVBoxLayout(tree_);
  inside->setContentsMargins(0, 0, 0, 0);
  column_->addWidget(tree_, 1);
  strip_ = new Strip(this);
  column_->addWidget(strip_);
  connect(strip_, &Strip::chosen, this, &Stage::show);
  connect(strip_, &Strip::arrangeWanted, this, &Stage::arrange);
  connect(strip_, &Strip::endWanted, this, &Stage::endWanted);
  setRoot(makePane());
  focusPane(panes().front());
}

void Stage::setRoot(QWidget* root) {
  root_ = root;
  tree_->layout()->addWidget(root);
}

Pane* Stage::makePane() {
  auto* pane = new Pane;
  connect(pane, &Pane::focused, this, [this, pane] { focusPane(pane); });
  const auto forward = [this, pane](auto signal) {
    return [this, pane, signal] {
      if (pane->session() != nullptr) emit(this->*signal)(pane->session());
    };
  };
  connect(pane, &Pane::fullScreenWanted, this, forward(&Stage::fullScreenWanted));
  connect(pane, &Pane::releaseChordPressed, this, forward(&Stage::releaseChordPressed));
  connect(pane, &Pane::endWanted, this, forward(&Stage::endWanted));
  connect(pane->story(), &StoryCard::consoleWanted, this, forward(&Stage::consoleWanted));
  connect(pane->story(), &StoryCard::whyWanted, this, forward(&Stage::whyWanted));
  pane->story()->hasConsole = [this, pane] {
    return hasConsole && pane->session() != nullptr && hasConsole(pane->session());
  };
  const auto forwardAt = [this, pane](auto signal) {
    return [this, pane, signal](QPoint at) {
      if (pane->session() != nullptr) emit(this->*signal)(pane->session(), at);
    };
  };
  connect(pane, &Pane::keysMenuWanted, this, forwardAt(&Stage::keysMenuWanted));
  connect(pane, &Pane::screensMenuWanted, this, forwardAt(&Stage::screensMenuWanted));
  connect(pane, &Pane::viewMenuWanted, this, forwardAt(&Stage::viewMenuWanted));
  connect(pane, &Pane::sessionDropped, this,
          [this, pane](OpenSession* session, int edge) { drop(pane, session, edge); });
  return pane;
}

std::vector<Pane*> Stage::panes() const {
  std::vector<Pane*> out;
  collect(root_, out);
  return out;
}

OpenSession* Stage::focusedSession() const { return focused_ ? focused_->session() : nullptr; }

OpenSession* Stage::sessionOf(Id endpoint) const {
  for (OpenSession* s : sessions_)
    if (s->endpoint() == endpoint && endpoint != 0) return s;
  return nullptr;
}

bool Stage::onStage(const OpenSession* session) const {
  const auto all = panes();
  return std::any_of(all.begin(), all.end(), [&](Pane* p) { return p->session() == session; });
}

void Stage::focusPane(Pane* pane) {
  focused_ = pane;
  const auto all = panes();
  for (Pane* p : all) p->setFocusMark(p == pane && all.size() > 1);
  emit focusChanged();
}

void Stage::focusNextPane(int step) {
  const auto all = panes();
  const auto at = std::find(all.begin(), all.end(), focused_.data());
  const auto index = at == all.end() ? 0 : at - all.begin();
  const auto count = static_cast<std::ptrdiff_t>(all.size());
  Pane* next = all[static_cast<std::size_t>((index + step + count) % count)];
  focusPane(next);
  next->face()->setFocus();
}

void Stage::adopt(OpenSession* session) {
  if (std::find(sessions_.begin(), sessions_.end(), session) != sessions_.end()) return;
  sessions_.push_back(session);
  connect(session, &QObject::destroyed, this, [this, session] {
    if (std::erase(sessions_, session) > 0) refreshStrip();
  });
}

void Stage::show(OpenSession* session) {
  adopt(session);
  const auto all = panes();
  Pane* target = nullptr;
  for (Pane* p : all)
    if (p->session() == session) target = p;
  if (target == nullptr) {
    for (Pane* p : all)
      if (p->session() == nullptr && target == nullptr) target = p;
    if (focused_ && focused_->session() == nullptr) target = focused_;
    if (target == nullptr) target = focused_ ? focused_.data() : all.front();
    target->setSession(session);
  }
  focusPane(target);
  target->face()->setFocus();
  refreshStrip();
}

void Stage::remove(OpenSession* session) {
  std::erase(sessions_, session);
  for (Pane* p : panes())
    if (p->session() == session) p->setSession(nullptr);
  // The first of the strip comes up into the place that became free.
  for (OpenSession* waiting : sessions_)
    if (!onStage(waiting) && focused_ && focused_->session() == nullptr) focused_->setSession(waiting);
  refreshStrip();
  emit focusChanged();
}

void Stage::refreshStrip() {
  std::vector<OpenSession*> rest;
  for (OpenSession* s : sessions_)
    if (!onStage(s)) rest.push_back(s);
  strip_->setSessions(rest, static_cast<int>(panes().size()), !sessions_.empty());
}

void Stage::arrange(int count) {
  std::vector<OpenSession*> order;
  if (focusedSession() != nullptr) order.push_back(focusedSession());
  for (Pane* p : panes())
    if (p->session() != nullptr && p->session() != focusedSession()) order.push_back(p->session());
  for (OpenSession* s : sessions_)
    if (std::find(order.begin(), order.end(), s) == order.end()) order.push_back(s);
  clearTree();
  std::vector<Pane*> fresh;
  for (int i = 0; i < count; ++i) fresh.push_back(makePane());
  if (count == 1) {
    setRoot(fresh[0]);
  } else {
    auto* across = makeSplitter(Qt::Horizontal);
    if (count == 2) {
      for (Pane* p : fresh) across->addWidget(p);
    } else {
      for (std::size_t column = 0; column < 2; ++column) {
        auto* down = makeSplitter(Qt::Vertical);
        down->addWidget(fresh[column]);
        down->addWidget(fresh[column + 2]);
        shareEvenly(down);
        across->addWidget(down);
      }
    }
    shareEvenly(across);
    setRoot(across);
  }
  for (std::size_t i = 0; i < fresh.size() && i < order.size(); ++i) fresh[i]->setSession(order[i]);
  focusPane(fresh.front());
  refreshStrip();
}

void Stage::clearTree() {
  focused_ = nullptr;
  tree_->layout()->removeWidget(root_);
  for (Pane* p : panes()) p->setSession(nullptr);
  root_->hide();
  root_->deleteLater();
  root_ = nullptr;
}

void Stage::drop(Pane* pane, OpenSession* session, int edge) {
  // The pointer came through a drag: it counts only when it is one of ours.
  if (std::find(sessions_.begin(), sessions_.end(), session) == sessions_.end()) return;
  Pane* from = nullptr;
  for (Pane* p : panes())
    if (p->session() == session) from = p;
  if (edge == 0 || from == pane) {
    if (from == pane) return;
    OpenSession* other = pane->session();
    pane->setSession(session);
    if (from != nullptr) from->setSession(other);
    focusPane(pane);
    refreshStrip();
    return;
  }
  auto* fresh = makePane();
  const bool horizontal = edge == Qt::LeftEdge || edge == Qt::RightEdge;
  const bool before = edge == Qt::LeftEdge || edge == Qt::TopEdge;
  auto* splitter = makeSplitter(horizontal ? Qt::Horizontal : Qt::Vertical);
  if (auto* parent = qobject_cast<QSplitter*>(pane->parentWidget())) {
    const int index = parent->indexOf(pane);
    const QList<int> sizes = parent->sizes();
    parent->replaceWidget(index, splitter);
    splitter->addWidget(pane);
    parent->setSizes(sizes);
  } else {
    tree_->layout()->removeWidget(pane);
    splitter->addWidget(pane);
    setRoot(splitter);
  }
  splitter->insertWidget(before ? 0 : 1, fresh);
  pane->show();
  shareEvenly(splitter);
  if (from != nullptr) {
    from->setSession(nullptr);
    closePane(from);
  }
  fresh->setSession(session);
  focusPane(fresh);
  refreshStrip();
}

void Stage::closePane(Pane* pane) {
  auto* parent = qobject_cast<QSplitter*>(pane->parentWidget());
  if (parent == nullptr) return;  // the last pane stays
  pane->setSession(nullptr);
  pane->setParent(nullptr);
  pane->deleteLater();
  if (parent->count() != 1) return;
  QWidget* left = parent->widget(0);
  if (auto* above = qobject_cast<QSplitter*>(parent->parentWidget())) {
    const QList<int> sizes = above->sizes();
    above->replaceWidget(above->indexOf(parent), left);
    above->setSizes(sizes);
  } else {
    tree_->layout()->removeWidget(parent);
    left->setParent(tree_);
    setRoot(left);
  }
  left->show();
  parent->deleteLater();
  if (!focused_ || focused_ == pane) focusPane(panes().front());
  refreshStrip();
}

QJsonObject Stage::rememberNode(QWidget* node) const {
  QJsonObject out;
  if (auto* pane = qobject_cast<Pane*>(node)) {
    out["endpoint"] = pane->session() != nullptr ? static_cast<double>(pane->session()->endpoint()) : 0;
    return out;
  }
  auto* splitter = qobject_cast<QSplitter*>(node);
  out["split"] = splitter->orientation() == Qt::Horizontal ? "across" : "down";
  QJsonArray sizes, children;
  for (int size : splitter->sizes()) sizes.append(size);
  for (int i = 0; i < splitter->count(); ++i) children.append(rememberNode(splitter->widget(i)));
  out["sizes"] = sizes;
  out["children"] = children;
  return out;
}

QJsonObject Stage::remembered() const {
  QJsonObject out;
  out["tree"] = rememberNode(root_);
  QJsonArray strip;
  for (OpenSession* s : sessions_)
    if (!onStage(s) && s->endpoint() != 0) strip.append(static_cast<double>(s->endpoint()));
  out["strip"] = strip;
  return out;
}

QWidget* Stage::restoreNode(const QJsonObject& node, const std::function<OpenSession*(Id)>& sessionFor) {
  const QJsonArray children = node["children"].toArray();
  if (children.isEmpty()) {
    Pane* pane = makePane();
    const auto endpoint = static_cast<Id>(node["endpoint"].toDouble());
    OpenSession* session = endpoint != 0 ? sessionFor(endpoint) : nullptr;
    if (session != nullptr && !onStage(session)) {
      adopt(session);
      pane->setSession(session);
    }
    return pane;
  }
  auto* splitter = makeSplitter(node["split"].toString() == "down" ? Qt::Vertical : Qt::Horizontal);
  for (const auto& child : children) splitter->addWidget(restoreNode(child.toObject(), sessionFor));
  QList<int> sizes;
  for (const auto& size : node["sizes"].toArray()) sizes.append(size.toInt());
  splitter->setSizes(sizes);
  return splitter;
}

void Stage::restore(const QJsonObject& saved, const std::function<OpenSession*(Id)>& sessionFor) {
  clearTree();
  root_ = nullptr;
  setRoot(restoreNode(saved["tree"].toObject(), sessionFor));
  for (const auto& endpoint : saved["strip"].toArray())
    if (OpenSession* s = sessionFor(static_cast<Id>(endpoint.toDouble())); s != nullptr) adopt(s);
  focusPane(panes().front());
  refreshStrip();
}

}  // namespace kw::desktop
