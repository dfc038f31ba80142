#include "rdp/licensing.hpp"

#include "base/little.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

// MS-RDPELE 2.2.2, 2.2.1.12.1.1
constexpr unsigned kRequest = 0x01, kChallenge = 0x02, kNew = 0x03, kUpgrade = 0x04, kNewRequest = 0x13,
                   kChallengeResponse = 0x15, kAlert = 0xff;
constexpr std::uint32_t kValidClient = 7;

Bytes message(unsigned type, ByteView body) {
  LittleWriter out;
  out.u8(type).u8(3).u16(static_cast<unsigned>(body.size() + 4)).bytes(body);
  return out.take();
}

void blob(LittleWriter& out, unsigned type, ByteView bytes) {
  out.u16(type).u16(static_cast<unsigned>(bytes.size())).bytes(bytes);
}

ByteView readBlob(LittleReader& in) {
  in.skip(2);
  return in.bytes(in.u16());
}

Bytes textBytes(const std::string& text) { return Bytes(text.c_str(), text.c_str() + text.size() + 1); }

std::string wordsForAlert(std::uint32_t code) {
  switch (code) {
    case 2: return "the service found no licence for another desktop (invalid MAC)";
    case 8: return "the service has no licence for this desk";
    case 11: return "the service has no licence server";
    default: return "the service refused a licence (code " + std::to_string(code) + ")";
  }
}

}  // namespace

std::optional<Bytes> Licensing::take(ByteView bytes) {
  LittleReader in(bytes, "licensing");
  const unsigned type = in.u8();
  in.skip(3);
  const ByteView body = in.rest();
  switch (type) {
    case kAlert: {
      LittleReader alert(body, "licensing");
      const std::uint32_t code = alert.u32();
      if (code != kValidClient) throw Error(ErrorKind::SignInFailed, wordsForAlert(code));
      done_ = true;
      return std::nullopt;
    }
    case kRequest: return answerRequest(body);
    case kChallenge: return answerChallenge(body);
    case kNew:
    case kUpgrade: done_ = true; return std::nullopt;
    default: protocolBroken("licensing", "message kind " + std::to_string(type));
  }
}

/// MS-RDPELE 2.2.2.1, 2.2.2.2
Bytes Licensing::answerRequest(ByteView body) {
  LittleReader in(body, "licence request");
  const ByteView serverRandom = in.bytes(32);
  in.skip(4);  // product version
  in.skip(in.u32());
  in.skip(in.u32());
  readBlob(in);  // key exchange list
  const RsaKey key = keyInServerCertificate(readBlob(in));
  const Bytes clientRandom = randomBytes(32), preMaster = randomBytes(48);
  // 5.1.2.1: here the client's random goes first for the master secret, the server's for the keys.
  const Bytes master = threefoldHash(preMaster, 'A', clientRandom, serverRandom);
  const Bytes keys = threefoldHash(master, 'A', serverRandom, clientRandom);
  macKey_.assign(keys.begin(), keys.begin() + 16);
  cipherKey_ = md5({ByteView(keys).subspan(16, 16), clientRandom, serverRandom});
  LittleWriter out;
  out.u32(1).u32(0x04010000).bytes(clientRandom);
  blob(out, 2, rsaEncrypt(key, preMaster));
  blob(out, 0x0f, textBytes(user_));
  blob(out, 0x10, textBytes(machine_));
  return message(kNewRequest, out.view());
}

Bytes Licensing::mac(ByteView bytes) const {
  const Bytes pad1(40, 0x36), pad2(48, 0x5c);
  LittleWriter length;
  length.u32(static_cast<std::uint32_t>(bytes.size()));
  return md5({macKey_, pad2, sha1({macKey_, pad1, length.view(), bytes})});
}

/// MS-RDPELE 2.2.2.4, 2.2.2.5
Bytes Licensing::answerChallenge(ByteView body) {
  if (cipherKey_.empty()) protocolBroken("licensing", "a challenge before the request");
  LittleReader in(body, "licence challenge");
  in.skip(4);
  const ByteView sealedText = readBlob(in);
  Bytes challenge(sealedText.begin(), sealedText.end());
  Rc4(cipherKey_).apply(challenge);
  LittleWriter response;
  response.u16(0x0100).u16(0xff00).u16(3).u16(static_cast<unsigned>(challenge.size())).bytes(challenge);
  LittleWriter hardware;
  hardware.u32(0x04010000);
  Bytes name = textBytes(machine_);
  name.resize(16);
  hardware.bytes(name);
  const auto sealed = [&](ByteView plain) {
    Bytes text(plain.begin(), plain.end());
    Rc4(cipherKey_).apply(text);
    return text;
  };
  Bytes both(response.view().begin(), response.view().end());
  both.insert(both.end(), hardware.view().begin(), hardware.view().end());
  LittleWriter out;
  blob(out, 9, sealed(response.view()));
  blob(out, 9, sealed(hardware.view()));
  out.bytes(mac(both));
  return message(kChallengeResponse, out.view());
}

Bytes licenceValidClient() {
  LittleWriter out;
  out.u32(kValidClient).u32(2).u16(4).u16(0);
  return message(kAlert, out.view());
}

}  // namespace kw::rdp
