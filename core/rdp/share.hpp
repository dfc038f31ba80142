// The share of T.128 as RDP has it: capabilities, activation, and the messages about it (MS-RDPBCGR 2.2.1.13
// and following). Bodies without the MCS envelope.
#pragma once
#include <map>
#include <string>
#include <vector>

#include "base/little.hpp"
#include "picture/geometry.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

struct ShareHead {  // 2.2.8.1.1.1.1
  unsigned type = 0, source = 0;
  ByteView body;
};
ShareHead readShareHead(ByteView bytes);

struct DataHead {  // 2.2.8.1.1.1.2
  std::uint32_t shareId = 0;
  unsigned type = 0, compression = 0;
  ByteView body;
};
DataHead readDataHead(ByteView body);
Bytes writeData(std::uint32_t shareId, unsigned source, unsigned type, ByteView body);

struct DemandActive {  // 2.2.1.13.1
  std::uint32_t shareId = 0;
  Size desktop;
  int bitsPerPixel = 0;
  bool refreshRect = false, suppressOutput = false, fastPathInput = false, unicodeInput = false;
  std::uint32_t mostFastPath = 0;
};
DemandActive readDemandActive(ByteView body);
Bytes writeDemandActive(const DemandActive& demand);

struct ClientAbilities {
  Size desktop;
  int bitsPerPixel = 32;
  std::uint32_t keyboardLayout = 0x409;
  bool remoteFx = false, nsCodec = false;  ///< in surface commands
  bool orders = false;                     ///< drawing orders, and caches for them
  std::uint32_t mostFastPath = 0;          ///< what the service asked for
};
/// 2.2.1.13.2, with its share control head.
Bytes writeConfirmActive(std::uint32_t shareId, unsigned user, const ClientAbilities& abilities);

/// Synchronize, two Controls and the Font List (2.2.1.14 to 2.2.1.18): what a client sends after it.
std::vector<Bytes> finalization(std::uint32_t shareId, unsigned user);

/// 2.2.5.1.1 errorInfo: what went wrong, with a cure; empty for 0 ("no error").
struct Reason {
  std::string sentence, cure;
  bool ours = false;  ///< the end was wished for from here
};
Reason reasonFor(std::uint32_t errorInfo);

struct ClientInfo {  // 2.2.1.11.1.1
  std::string domain, user, password, program, folder, address;
  std::uint32_t performanceFlags = 0;
  bool autoLogon = false, sound = false, soundThere = false;
  std::optional<unsigned>
      packing{};          ///< the best kind of bulk compression that can be opened (codec/bulk.hpp)
  Bytes reconnectCookie;  ///< 28 bytes, or none
};
Bytes writeClientInfo(const ClientInfo& info);
ClientInfo readClientInfo(ByteView body);

/// 2.2.1.3.6.1 TS_MONITOR_DEF: the primary one comes first out.
std::vector<Rect> readMonitors(LittleReader& in, std::uint32_t count);
void writeMonitors(LittleWriter& out, const std::vector<Rect>& monitors);

/// performanceFlags for the words of "rdp.effects".
std::uint32_t performanceFlags(const std::string& word);

}  // namespace kw::rdp
