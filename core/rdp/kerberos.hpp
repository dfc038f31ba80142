// Kerberos as CredSSP's proof: a ticket from the account's realm, shown inside SPNEGO (RFC 4178, RFC 4121).
// Tickets come through the system's GSSAPI and its krb5.conf; nothing of them is kept.
#pragma once
#include "rdp/proof.hpp"

namespace kw::rdp {

/// The realm that an account names: of duty@alder-vale.example, or of a domain with a dot in it; in capitals.
/// Empty when it names none.
std::string realmOf(const NtlmAccount& account);

/// Whether krb5.conf of this computer says where that realm's key service is. Reads files only.
bool isRealmKnownHere(const std::string& realm);

/// Proves `account` to the remote desktop service of `host`, which must be a name, not a number. The key
/// service is asked from a thread of its own, within the limits that krb5.conf sets.
std::shared_ptr<Proof> kerberosProof(NtlmAccount account, const std::string& host);

}  // namespace kw::rdp
