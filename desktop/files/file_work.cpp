#include "desktop/files/file_work.hpp"

#include <QFileInfo>
#include <QPointer>
#include <filesystem>
#include <mutex>

#include "base/error.hpp"
#include "route/text_opening.hpp"
#include "ssh/sftp_tree.hpp"

namespace kw::desktop {

namespace fs = std::filesystem;

/// Lives on the runtime's strand; knows the interface only through a pointer that is cleared first.
class FileWork::Link : public Asker, public std::enable_shared_from_this<FileWork::Link> {
 public:
  Link(FileWork* target, Executor on) : strand(std::move(on)), answered(strand), target_(target) {}
  void detach() {
    const std::lock_guard held(lock_);
    target_ = nullptr;
  }
  template <typename F>
  void hand(F what) {
    const std::lock_guard held(lock_);
    if (target_ == nullptr) return;
    QMetaObject::invokeMethod(
        target_, [t = target_, what = std::move(what)] { what(*t); }, Qt::QueuedConnection);
  }
  Task<Answer> ask(Question question) override {
    reply.reset();
    hand([question](FileWork& t) { emit t.asked(question); });
    while (!reply && !over) co_await answered.wait();
    co_return reply.value_or(Answer{});
  }
  void doing(const std::string&) override {}

  Executor strand;
  Signal answered;
  std::optional<Answer> reply;
  std::shared_ptr<SshConnection> connection;
  std::shared_ptr<Sftp> sftp;
  bool over = false;

 private:
  std::mutex lock_;
  FileWork* target_;
};

FileWork::FileWork(Runtime& runtime, OpeningTools tools, QObject* parent)
    : QObject(parent),
      runtime_(runtime),
      tools_(std::move(tools)),
      cancel_(std::make_shared<std::atomic<bool>>(false)) {
  if (!tools_.ssh) tools_.ssh = std::make_shared<SshPool>([&runtime] { return runtime.strand(); });
}
FileWork::~FileWork() { close(); }

void FileWork::close() {
  if (!link_) return;
  link_->detach();
  *cancel_ = true;
  cancel_ = std::make_shared<std::atomic<bool>>(false);
  post(link_->strand, [link = link_] {
    link->over = true;
    link->answered.notify();
    if (link->sftp) link->sftp->close();
  });
  link_.reset();
  queue_.clear();
  waiting_.reset();
  running_ = false;
  forAll_ = ForAll::Ask;
}

void FileWork::open(const Address& address, const SettingReader& setting, Owner owner) {
  close();
  link_ = std::make_shared<Link>(this, runtime_.strand());
  std::vector<SshHop> hops;
  try {
    hops = hopsTo(address, setting, tools_);
    hops.push_back(sshHop(address, setting, tools_, owner));
  } catch (const Error& e) {
    emit failed(QString::fromUtf8(e.what()));
    return;
  }
  spawn(
      link_->strand,
      [link = link_, tools = tools_, hops]() -> Task<void> {
        RouteFacts facts;
        const std::shared_ptr<TrustStore> trust = tools.store ? trustIn(tools.store) : nullptr;
        link->connection = co_await tools.ssh->connect(hops, trust, *link, facts, nullptr);
        StreamPtr stream = co_await link->connection->subsystem("sftp");
        link->sftp = co_await Sftp::open(link->strand, std::move(stream));
        const std::string start = co_await link->sftp->realPath(".");
        link->hand([start](FileWork& t) { emit t.opened(QString::fromStdString(start)); });
      },
      [link = link_](std::exception_ptr failure) {
        if (!failure) return;
        link->hand([said = messageOf(failure)](FileWork& t) { emit t.failed(QString::fromStdString(said)); });
      });
}

void FileWork::answer(const Answer& given) {
  if (!link_) return;
  post(link_->strand, [link = link_, given] {
    link->reply = given;
    link->answered.notify();
  });
}

/// One command; failures are told, `then` runs on the interface thread when it went well.
void FileWork::run(std::function<Task<void>()> work, std::function<void()> then) {
  if (!link_) return;
  spawn(link_->strand, std::move(work), [link = link_, then = std::move(then)](std::exception_ptr failure) {
    link->hand([failure, then](FileWork& t) {
      if (failure)
        emit t.problem(QString::fromStdString(messageOf(failure)));
      else if (then)
        then();
    });
  });
}

void FileWork::list(const QString& folder) {
  if (!link_) return;
  run([link = link_, path = folder.toStdString()]() -> Task<void> {
    if (!link->sftp) co_return;
    const std::string whole = co_await link->sftp->realPath(path);
    std::vector<RemoteFile> files = co_await link->sftp->list(whole);
    link->hand([whole, files](FileWork& t) { emit t.listed(QString::fromStdString(whole), files); });
  });
}

void FileWork::makeFolder(const QString& path) {
  run([link = link_, p = path.toStdString()]() -> Task<void> { co_await link->sftp->makeFolder(p); },
      [this, path] { emit changed(path.section('/', 0, -2)); });
}
void FileWork::rename(const QString& from, const QString& to) {
  run([link = link_, a = from.toStdString(),
       b = to.toStdString()]() -> Task<void> { co_await link->sftp->rename(a, b); },
      [this, from] { emit changed(from.section('/', 0, -2)); });
}
void FileWork::setRights(const QString& path, unsigned rights) {
  run([link = link_, p = path.toStdString(),
       rights]() -> Task<void> { co_await link->sftp->setPermissions(p, rights); },
      [this, path] { emit changed(path.section('/', 0, -2)); });
}

namespace {

QList<CopyJob> jobsOf(const std::vector<TreeFile>& files, bool upload) {
  QList<CopyJob> jobs;
  for (const TreeFile& f : files)
    jobs.append({upload, QString::fromStdString(f.local.string()), QString::fromStdString(f.remote),
                 CopyJob::Way::Fresh});
  return jobs;
}

}  // namespace

void FileWork::remove(const QString& path, bool folder) {
  run(
      [link = link_, p = path.toStdString(), folder]() -> Task<void> {
        if (folder)
          co_await removeTree(link->sftp, p);
        else
          co_await link->sftp->remove(p);
      },
      [this, path] { emit changed(path.section('/', 0, -2)); });
}

void FileWork::copyFolder(bool upload, const QString& local, const QString& remote) {
  auto jobs = std::make_shared<QList<CopyJob>>();
  run(
      [link = link_, upload, l = local.toStdString(), r = remote.toStdString(), jobs]() -> Task<void> {
        std::vector<TreeFile> files;
        if (upload)
          files = co_await filesHere(link->sftp, l, r);
        else
          files = co_await filesThere(link->sftp, r, l);
        *jobs = jobsOf(files, upload);
      },
      [this, jobs] { copy(*jobs); });
}

void FileWork::copy(const QList<CopyJob>& jobs) {
  if (!link_) return;
  for (const CopyJob& job : jobs) queue_.push_back(job);
  if (!running_ && !waiting_) next();
}

void FileWork::cancel() {
  queue_.clear();
  *cancel_ = true;
  if (waiting_) resolve(std::nullopt, false);
}

/// Looks at the target of the next job; asks when something is there.
void FileWork::next() {
  if (queue_.empty()) {
    running_ = false;
    forAll_ = ForAll::Ask;
    if (done_ + failures_ > 0)
      emit finished(failures_ == 0 ? (done_ == 1 ? tr("1 file copied, sizes agree")
                                                 : tr("%1 files copied, sizes agree").arg(done_))
                                   : tr("%1 copied, %2 failed or left out").arg(done_).arg(failures_));
    done_ = failures_ = 0;
    return;
  }
  running_ = true;
  const CopyJob job = queue_.front();
  queue_.pop_front();
  auto there = std::make_shared<std::optional<RemoteFile>>();
  spawn(
      link_->strand,
      [link = link_, p = job.remote.toStdString(), there]() -> Task<void> {
        *there = co_await link->sftp->stat(p);
      },
      [link = link_, job, there](std::exception_ptr failure) {
        link->hand([job, there, failure](FileWork& t) {
          if (failure) return t.take(job.remote, failure);
          const QFileInfo here(job.local);
          const bool taken = job.upload ? there->has_value() : here.exists();
          if (!taken || t.forAll_ == ForAll::Replace) return t.start(job);
          if (t.forAll_ == ForAll::Skip) return t.take({}, nullptr);
          CopyJob resumed = job;
          resumed.way = CopyJob::Way::Resume;
          if (t.forAll_ == ForAll::Resume) return t.start(resumed);
          t.waiting_ = job;
          emit t.clash(job, there->has_value() ? (*there)->size : 0, static_cast<quint64>(here.size()));
        });
      });
}

void FileWork::resolve(std::optional<CopyJob> job, bool forAll) {
  if (!waiting_) return;
  waiting_.reset();
  if (forAll)
    forAll_ = !job ? ForAll::Skip : job->way == CopyJob::Way::Resume ? ForAll::Resume : ForAll::Replace;
  if (job) return start(*job);
  ++failures_;
  next();
}

namespace {

/// Copies and then compares the sizes.
Task<void> copyOne(std::shared_ptr<Sftp> sftp, CopyJob job, OnCopy progress, CancelFlag cancel) {
  const std::string remote = job.remote.toStdString(), local = job.local.toStdString();
  std::uint64_t from = 0;
  if (job.way == CopyJob::Way::Resume) {
    const auto there = co_await sftp->stat(remote);
    const std::uint64_t sizeThere = there ? there->size : 0,
                        sizeHere = fs::exists(local) ? fs::file_size(local) : 0;
    from = std::min(sizeThere, sizeHere);
  }
  if (job.upload)
    co_await sftp->upload(local, remote, from, progress, cancel);
  else
    co_await sftp->download(remote, local, from, progress, cancel);
  const auto there = co_await sftp->stat(remote);
  if (!there || there->size != fs::file_size(local))
    throw Error(ErrorKind::ProtocolBroken, "the copy has another size than its original", remote);
}

}  // namespace

void FileWork::start(const CopyJob& job) {
  *cancel_ = false;
  const QString name = job.remote.section('/', -1);
  const auto told = std::make_shared<std::chrono::steady_clock::time_point>();
  const OnCopy progress = [link = link_, name, told](const CopyProgress& p) {
    const auto now = std::chrono::steady_clock::now();
    if (p.done != p.total && now - *told < std::chrono::milliseconds(60)) return;
    *told = now;
    link->hand([p, name](FileWork& t) {
      emit t.progress(name, p.done, p.total, static_cast<int>(t.queue_.size()));
    });
  };
  spawn(
      link_->strand,
      [link = link_, job, progress, cancel = cancel_]() -> Task<void> {
        co_await copyOne(link->sftp, job, progress, cancel);
      },
      [link = link_, job](std::exception_ptr failure) {
        link->hand([job, failure](FileWork& t) {
          if (!failure) {
            ++t.done_;
            emit t.changed(job.upload ? job.remote.section('/', 0, -2) : QString());
          }
          t.take(job.remote, failure);
        });
      });
}

void FileWork::take(const QString&, std::exception_ptr failure) {
  if (failure) {
    ++failures_;
    emit problem(QString::fromStdString(messageOf(failure)));
  }
  next();
}

void FileWork::compare(const QString& local, const QString& remote) {
  if (!link_) return;
  run([link = link_, local = local.toStdString(), remote = remote.toStdString()]() -> Task<void> {
    std::string quoted = "'";
    for (const char c : remote) quoted += c == '\'' ? "'\\''" : std::string(1, c);
    const std::string command = "sha256sum -- " + quoted + "'";
    StreamPtr out = co_await link->connection->exec(command);
    std::string said;
    Bytes in(4096);
    try {
      for (;;) {
        const std::size_t n = co_await out->readSome(in);
        said += textOf(ByteView(in).first(n));
      }
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::ClosedByPeer) throw;
    }
    if (said.starts_with("\\")) said.erase(0, 1);  // a name with odd characters
    if (said.size() < 64 || said.find_first_not_of("0123456789abcdef") != 64)
      throw Error(ErrorKind::Unsupported, "no digest came: " + cleanUtf8(said.substr(0, 200)), remote);
    const std::string here = sha256OfFile(local);
    const bool same = said.substr(0, 64) == here;
    link->hand([same, here](FileWork& t) {
      emit t.compared(same ? tr("Same content: SHA-256 %1").arg(QString::fromStdString(here))
                           : tr("The contents differ."),
                      same);
    });
  });
}

}  // namespace kw::desktop
