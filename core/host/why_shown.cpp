#include "host/why_shown.hpp"

#include <algorithm>

#include "base/iso_time.hpp"
#include "record/catalogue.hpp"
#include "route/shown.hpp"

namespace kw::host {

namespace {

using Findings = std::vector<Finding>;

/// Names in "QEMU (seed-bank)", "duty@seed-bank", "CN=seed-bank".
std::vector<std::string> namesIn(const std::string& text) {
  std::vector<std::string> names;
  std::string name;
  for (const char c : lowered(text) + " ") {
    const bool part = std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-' || c == '_';
    if (part)
      name += c;
    else if (!name.empty())
      names.push_back(std::exchange(name, {}));
  }
  return names;
}

/// Another machine of the records that `text` names, while it does not name this one.
const Machine* otherMachineIn(const Snapshot& records, Id machine, const std::string& text) {
  const auto names = namesIn(text);
  const auto named = [&names](const Machine& m) {
    return std::find(names.begin(), names.end(), lowered(m.name)) != names.end();
  };
  const auto own = records.machines.find(machine);
  if (own == records.machines.end() || named(own->second)) return nullptr;
  for (const auto& [id, m] : records.machines)
    if (named(m)) return &m;
  return nullptr;
}

void compareNames(const Snapshot& records, Id wayIn, const std::string& how, const std::string& text,
                  Findings& out) {
  const auto way = records.endpoints.find(wayIn);
  if (way == records.endpoints.end()) return;
  const Machine* other = otherMachineIn(records, way->second.machine, text);
  if (other == nullptr) return;
  out.push_back({"other-machine", Weight::Trouble,
                 how + " \"" + text + "\", and \"" + other->name + "\" is another machine of the roster",
                 "Compare address and port with what its host says; the stock shows both.", "stock"});
}

/// The pin of this way in; empty when there is none.
std::string pinOf(const WhyTools& tools, const Address& address, const SettingReader& setting) {
  if (!tools.store) return {};
  OpeningTools opening;
  opening.store = tools.store;
  return tools.store->pinned(wayTo(address, setting, opening)->pinName()).value_or("");
}

void judgeDates(const PeerCertificate& c, Findings& out) {
  const std::string now = nowText();
  if (c.notBefore > now)
    out.push_back(
        {"clock",
         Weight::Trouble,
         "its certificate begins to count at " + c.notBefore + ", and here it is " + now +
             ": one of the two clocks is wrong",
         "Set both clocks by the same time server. A wrong clock also spoils one-time codes and domain "
         "sign-ins.",
         {}});
  else if (!c.notAfter.empty() && c.notAfter < now)
    out.push_back(
        {"certificate-expired",
         Weight::Remark,
         "its certificate counted until " + c.notAfter,
         "Have it renewed on the machine; a certificate that is trusted here by its fingerprint still opens.",
         {}});
}

void judgeCertificate(const PeerCertificate& c, const std::string& pin, Findings& out) {
  if (!pin.empty() && pin != c.sha256)
    out.push_back(
        {"certificate-changed",
         Weight::Trouble,
         "it shows another certificate than the one that is trusted: SHA-256 " + c.sha256,
         "A machine that was set up anew shows a new one, and so does somebody in between. Compare it on "
         "the machine itself; when it is right, trust it at the question in the pane.",
         {}});
  else if (!pin.empty())
    out.push_back({"certificate", Weight::Good, "it shows the certificate that is trusted here", {}, {}});
  else
    out.push_back(
        {"certificate-new",
         Weight::Remark,
         "its certificate is not known here yet (" + c.subject + "); the pane asks when it is opened",
         {},
         {}});
  judgeDates(c, out);
}

void judgePicture(const Shown& shown, bool passwordWasSet, Findings& out) {
  if (passwordWasSet)
    out.push_back(
        {"password-forgotten", Weight::Trouble,
         "it lets anybody in, though a password was set for its console: its host forgot it when the "
         "machine was stopped",
         "Set it again. Starts from here do so by themselves.", "again"});
  if (shown.black == true)
    out.push_back(
        {"black",
         Weight::Remark,
         "it opens, and its picture is black: a screen saver, a screen without a signal, or somebody who "
         "is signed in elsewhere",
         "Press a key there; look at another of its ways in, or at its serial line.",
         {}});
  else if (shown.black == false)
    out.push_back({"picture", Weight::Good, "it opens without a sign-in and shows a picture", {}, {}});
}

}  // namespace

Task<void> lookAtWhatItShows(const Snapshot& records, Id wayIn, Address address, SettingReader setting,
                             const WhyTools& tools, Findings& out) {
  if (!isOfForm(address.scheme, Form::Screen)) co_return;
  OpeningTools opening;
  opening.clock = tools.clock;
  const Shown shown = co_await shownBy(address, setting, opening, tools.limit);
  if (shown.certificate) {
    judgeCertificate(*shown.certificate, pinOf(tools, address, setting), out);
    compareNames(records, wayIn, "its certificate is for", shown.certificate->subject, out);
  }
  if (!shown.letIn) co_return;
  compareNames(records, wayIn, "it calls itself", shown.machineName, out);
  judgePicture(shown, setting("host.setagain") == "on", out);
}

}  // namespace kw::host
