#include "record/postgres_watch.hpp"

#include <atomic>
#include <pqxx/pqxx>
#include <thread>

namespace kw {

namespace {

/// A connection of its own that the database wakes.
class PostgresWatch : public ChangeWatch {
 public:
  PostgresWatch(std::string uri, std::function<void()> changed)
      : uri_(std::move(uri)), changed_(std::move(changed)), thread_([this] { run(); }) {}
  ~PostgresWatch() override {
    stopped_ = true;
    thread_.join();
  }

 private:
  class Receiver : public pqxx::notification_receiver {
   public:
    Receiver(pqxx::connection& c, const std::function<void()>& changed)
        : pqxx::notification_receiver(c, kPostgresChannel), changed_(changed) {}
    void operator()(const std::string&, int) override { changed_(); }

   private:
    const std::function<void()>& changed_;
  };

  void run() {
    while (!stopped_) {
      try {
        pqxx::connection connection(uri_);
        const Receiver receiver(connection, changed_);
        changed_();  // what came while nobody listened
        while (!stopped_) connection.await_notification(0, kLookMicroseconds);
      } catch (const std::exception&) {
        changed_();  // whoever looks now finds that the database is gone, and says so
        for (int i = 0; i < 10 && !stopped_; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(100));
      }
    }
  }

  static constexpr long kLookMicroseconds = 200'000;  ///< so soon the end of the watch is noticed
  std::string uri_;
  std::function<void()> changed_;
  std::atomic<bool> stopped_ = false;
  std::thread thread_;
};

}  // namespace

std::unique_ptr<ChangeWatch> watchPostgres(std::string uri, std::function<void()> changed) {
  return std::make_unique<PostgresWatch>(std::move(uri), std::move(changed));
}

}  // namespace kw
