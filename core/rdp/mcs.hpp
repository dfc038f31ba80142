// The envelopes of RDP: TPKT and X.224 (T.123, X.224), MCS (T.125) and the GCC blocks of its connect messages
// (T.124, MS-RDPBCGR 2.2.1). Functions that write give whole packets; functions that read throw
// Error{ProtocolBroken}.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "base/little.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

/// TPKT and X.224 data header around a payload.
Bytes dataPacket(ByteView payload);
/// The payload of such a packet, or of a whole TPKT packet.
ByteView payloadOfData(ByteView packet);

// 2.2.1.1, 2.2.1.2
struct ConnectRequest {
  std::string cookie;        ///< the name for a load balancer; empty: none
  std::string routingToken;  ///< instead of it
  std::uint32_t protocols = protocol::kSsl | protocol::kHybrid | protocol::kHybridEx;
};
Bytes writeConnectRequest(const ConnectRequest& request);
ConnectRequest readConnectRequest(ByteView packet);
struct ConnectConfirm {
  bool negotiated = false;  ///< false: an old service, without the negotiation
  std::uint32_t chosen = protocol::kRdp;
  std::uint32_t failure = 0;
};
Bytes writeConnectConfirm(const ConnectConfirm& confirm);
ConnectConfirm readConnectConfirm(ByteView packet);
/// 2.2.1.2.2 in words: "the service wants network level authentication".
std::string wordsForNegotiationFailure(std::uint32_t code);

struct StaticChannel {
  std::string name;  ///< at most seven characters
  std::uint32_t options = 0;
  unsigned id = 0;
};

struct ClientCore {  // 2.2.1.3.2 to 2.2.1.3.8
  int width = 1280, height = 800, colours = 32, scale = 100;
  std::uint32_t keyboardLayout = 0x409;
  std::string clientName;
  std::uint32_t selectedProtocol = protocol::kRdp;
  std::uint32_t encryptionMethods = 0;
  bool administrative = false;
  bool graphicsPipeline = false, messageChannel = false, monitorLayout = false;
  std::vector<StaticChannel> channels;
};
Bytes writeConnectInitial(const ClientCore& core);
ClientCore readConnectInitial(ByteView payload);

struct ServerCore {
  std::uint32_t encryptionMethod = 0, encryptionLevel = 0;
  Bytes random, certificate;
  unsigned ioChannel = 1003;
  unsigned messageChannel = 0;  ///< 0: none
  std::vector<unsigned> channelIds;
};
Bytes writeConnectResponse(const ServerCore& core, std::uint32_t clientProtocols);
ServerCore readConnectResponse(ByteView payload);

Bytes erectDomain();
Bytes attachUserRequest();
Bytes attachUserConfirm(unsigned user);
unsigned readAttachUserConfirm(ByteView payload);
Bytes channelJoinRequest(unsigned user, unsigned channelId);
unsigned readChannelJoinRequest(ByteView payload);
Bytes channelJoinConfirm(unsigned user, unsigned channelId);
/// Throws Error{Unsupported} when the channel was refused.
void readChannelJoinConfirm(ByteView payload, unsigned channelId);

/// T.125 SendDataRequest of a client, SendDataIndication of a server; with all envelopes around.
Bytes sendData(bool fromClient, unsigned user, unsigned channelId, ByteView payload);
struct McsData {
  unsigned channelId = 0;
  ByteView payload;
};
/// Nothing for a DisconnectProviderUltimatum. `payload` is what payloadOfData() gave.
std::optional<McsData> readSendData(ByteView payload);
Bytes disconnectUltimatum();

}  // namespace kw::rdp
