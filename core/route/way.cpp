// The way to an address: straight, or through SSH jumps.
#include "route/text_opening.hpp"

namespace kw {

namespace {

class RouteWay : public Way {
 public:
  RouteWay(Address address, std::vector<SshHop> hops, std::chrono::nanoseconds limit, OpeningTools tools)
      : address_(std::move(address)), hops_(std::move(hops)), limit_(limit), tools_(std::move(tools)) {}

  Task<StreamPtr> connect(Asker& asker, RouteFacts& facts, ConnectFindings* findings,
                          std::optional<Place> elsewhere) override {
    Address to = address_;
    if (elsewhere && !elsewhere->host.empty()) to.host = elsewhere->host;
    if (elsewhere && elsewhere->port != 0) to.port = elsewhere->port;
    return connectThrough(hops_, std::move(to), limit_, tools_, asker, facts, findings);
  }

  [[nodiscard]] std::string pinName() const override {
    std::string name;
    for (const SshHop& hop : hops_) name += hop.options.host + ":" + std::to_string(hop.options.port) + " > ";
    return name +
           (address_.host.empty() ? address_.path : address_.host + ":" + std::to_string(address_.port));
  }
  [[nodiscard]] std::string forPeople() const override { return address_.forPeople(); }

 private:
  Address address_;
  std::vector<SshHop> hops_;
  std::chrono::nanoseconds limit_;
  OpeningTools tools_;
};

}  // namespace

std::shared_ptr<Way> wayTo(const Address& address, const SettingReader& setting, const OpeningTools& tools) {
  return std::make_shared<RouteWay>(address, hopsTo(address, setting, tools),
                                    std::chrono::seconds(wholeOf(setting, "connect.limit")), tools);
}

}  // namespace kw
