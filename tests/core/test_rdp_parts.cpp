// The parts of RDP by themselves: specification vectors, codecs, envelopes, channels.
#include "tests/core/rdp_parts.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

TEST_CASE("Interleaved RLE: pictures survive in every depth", "[rdp]") {
  const Framebuffer picture = colourfulPicture({93, 41});
  for (int bytes : {1, 2, 3}) {
    Bytes pixels;
    for (int y = 0; y < picture.height(); ++y)
      for (int x = 0; x < picture.width(); ++x)
        for (int b = 0; b < bytes; ++b) pixels.push_back(static_cast<Byte>(picture.pixel(x, y) >> (8 * b)));
    const Bytes packed = encodeInterleaved(pixels.data(), 93, 41, bytes);
    Bytes out(pixels.size());
    decodeInterleaved(packed, 93, 41, bytes, out);
    CHECK(out == pixels);
    for (std::size_t n : {std::size_t{1}, packed.size() / 2, packed.size() - 1}) {
      Bytes cut(pixels.size());
      try {
        decodeInterleaved(ByteView(packed).first(n), 93, 41, bytes, cut);
      } catch (const Error& e) {
        CHECK(e.kind() == ErrorKind::ProtocolBroken);
      }
    }
  }
}

TEST_CASE("Interleaved RLE: each order as the specification has it", "[rdp]") {
  const auto decode = [](const std::string& bytes, int width, int height) {
    Bytes out(static_cast<std::size_t>(width * height), 0x77);
    decodeInterleaved(unhex(bytes), width, height, 1, out);
    return hex(out);
  };
  CHECK(decode("04", 4, 1) == "00000000");  // a run of the background on the first row
  CHECK(decode("24", 4, 1) == "ffffffff");  // of the foreground
  CHECK(decode("c3aa61"
               "55",
               4, 1) == "aaaaaa55");  // a new foreground, then one colour
  CHECK(decode("84"
               "01020304",
               4, 1) == "01020304");  // plain pixels
  CHECK(decode("84"
               "01020304"
               "04",
               4, 2) == "0102030401020304");  // the row above
  CHECK(decode("84"
               "01020304"
               "24",
               4, 2) == "01020304fefdfcfb");  // and that with the foreground
  CHECK(decode("e2"
               "1122",
               4, 1) == "11221122");  // dithered
  CHECK(decode("41"
               "a5",
               8, 1) == "ff00ff0000ff00ff");  // bits: foreground or background
  CHECK(decode("f9", 8, 1) == "ffff000000000000");
  CHECK(decode("fa", 8, 1) == "ff00ff0000000000");
  CHECK(decode("fdfe", 2, 1) == "ff00");
  CHECK(decode("0202", 4, 1) == "0000ff00");  // two runs of the background: a foreground pixel between them
  CHECK(decode("f30400"
               "42",
               4, 1) == "42424242");  // the long form
  CHECK(decode("60"
               "00"
               "42",
               32, 1) == std::string(64, ' ').replace(0, 64, [] {
    std::string s;
    for (int i = 0; i < 32; ++i) s += "42";
    return s;
  }()));
  CHECK(breaks([&] { decode("25", 4, 1); }));        // longer than the picture
  CHECK(breaks([&] { decode("84010203", 4, 1); }));  // ends early
  CHECK(breaks([&] { decode("a1", 4, 1); }));
  CHECK(breaks([&] { decode("f5", 4, 1); }));
}

TEST_CASE("Planar bitmaps: round trip both ways up, raw planes, alpha, and chroma with loss", "[rdp]") {
  const Framebuffer picture = colourfulPicture({61, 37});
  for (const bool flip : {true, false}) {
    const Bytes packed = encodePlanar(picture.row(0), picture.stride(), 61, 37, flip);
    Framebuffer out(Size{61, 37});
    decodePlanar(packed, 61, 37, out.row(0), out.stride(), flip);
    CHECK(samePixels(picture, out));
    for (std::size_t n = 0; n < packed.size(); n += 97)
      CHECK(breaks([&] { decodePlanar(ByteView(packed).first(n), 61, 37, out.row(0), out.stride(), flip); }));
  }
  std::vector<Pixel> out(2);
  decodePlanar(unhex("20"
                     "1020"
                     "3040"
                     "5060"
                     "00"),
               2, 1, out.data(), 2, false);
  CHECK(out[0] == rgb(0x10, 0x30, 0x50));
  CHECK(out[1] == rgb(0x20, 0x40, 0x60));
  decodePlanar(unhex("00"
                     "ffff"
                     "1020"
                     "3040"
                     "5060"
                     "00"),
               2, 1, out.data(), 2, false);  // with alpha
  CHECK(out[1] == rgb(0x20, 0x40, 0x60));
  // Luma 100, orange chroma 10, green chroma 4, not shifted: t = 96, so 106, 104, 86.
  decodePlanar(unhex("21"
                     "6464"
                     "0a0a"
                     "0404"
                     "00"),
               2, 1, out.data(), 2, false);
  CHECK(out[0] == rgb(106, 104, 86));
  // Half the chroma: one value for both.
  decodePlanar(unhex("29"
                     "6464"
                     "0a"
                     "04"
                     "00"),
               2, 1, out.data(), 2, false);
  CHECK(out[1] == rgb(106, 104, 86));
  CHECK(breaks([&] { decodePlanar({}, 2, 1, out.data(), 2, false); }));
  CHECK(breaks([&] {
    decodePlanar(unhex("30"
                       "f0"),
                 2, 1, out.data(), 2, false);
  }));
}

TEST_CASE("The envelopes of a connection are read as they were written", "[rdp]") {
  ConnectRequest request;
  request.cookie = "duty";
  const Bytes bytes = writeConnectRequest(request);
  CHECK(textOf(bytes).find("Cookie: mstshash=duty\r\n") != std::string::npos);
  CHECK(readConnectRequest(bytes).cookie == "duty");
  CHECK(readConnectRequest(bytes).protocols == 0xb);
  request.routingToken = "farm-7";
  CHECK(readConnectRequest(writeConnectRequest(request)).routingToken == "farm-7");
  ConnectConfirm refused;
  refused.negotiated = true, refused.failure = 5;
  CHECK(readConnectConfirm(writeConnectConfirm(refused)).failure == 5);
  CHECK(wordsForNegotiationFailure(5).find("network level") != std::string::npos);
  CHECK(breaks([] { readConnectConfirm(viewOf("HTTP/1.1 400 Bad")); }));

  ClientCore core;
  core.width = 1920, core.height = 1080, core.colours = 16, core.clientName = "desk",
  core.keyboardLayout = 0x407;
  core.channels = {{"cliprdr", 0xc0000000, 0}, {"drdynvc", 0x80000000, 0}};
  const ClientCore back = readConnectInitial(payloadOfData(writeConnectInitial(core)));
  CHECK(back.width == 1920);
  CHECK(back.height == 1080);
  CHECK(back.colours == 16);
  CHECK(back.clientName == "desk");
  CHECK(back.keyboardLayout == 0x407);
  REQUIRE(back.channels.size() == 2);
  CHECK(back.channels[0].name == "cliprdr");
  ServerCore server;
  server.channelIds = {1008, 1009};
  server.encryptionMethod = 2;
  server.random = Bytes(32, 5);
  server.certificate = Bytes(90, 6);
  const Bytes response = writeConnectResponse(server, 3);
  const ServerCore seen = readConnectResponse(payloadOfData(response));
  CHECK(seen.channelIds == server.channelIds);
  CHECK(seen.random == server.random);
  CHECK(seen.certificate == server.certificate);
  for (std::size_t n = 8; n < response.size(); ++n)
    CHECK(breaks([&] { readConnectResponse(payloadOfData(ByteView(response).first(n))); }));
  const Bytes sent = sendData(false, 1007, 1003, viewOf("hello"));
  const auto data = readSendData(payloadOfData(sent));
  REQUIRE(data);
  CHECK(data->channelId == 1003);
  CHECK(textOf(data->payload) == "hello");
  const Bytes goodbye = disconnectUltimatum();
  CHECK_FALSE(readSendData(payloadOfData(goodbye)));
}

TEST_CASE("Client info and demand active survive the way", "[rdp]") {
  ClientInfo info;
  info.user = "duty", info.domain = "ALDER", info.password = "fern-höuse", info.autoLogon = true;
  const ClientInfo back = readClientInfo(writeClientInfo(info));
  CHECK(back.user == "duty");
  CHECK(back.password == "fern-höuse");
  CHECK(back.autoLogon);
  DemandActive demand;
  demand.shareId = 77, demand.desktop = {1024, 768}, demand.bitsPerPixel = 32;
  const Bytes bytes = writeDemandActive(demand);
  const ShareHead head = readShareHead(bytes);
  CHECK(head.type == share::kDemandActive);
  const DemandActive seen = readDemandActive(head.body);
  CHECK(seen.shareId == 77);
  CHECK(seen.desktop == Size{1024, 768});
  CHECK(seen.refreshRect);
  CHECK(seen.unicodeInput);
  CHECK(reasonFor(0x5).sentence.find("took over") != std::string::npos);
  CHECK(reasonFor(0xc).ours);
  CHECK(reasonFor(0).sentence.empty());
}

TEST_CASE("Pointers: masks become transparency, inverting ones a checker", "[rdp]") {
  LittleWriter out;
  out.u16(24).u16(7).u16(1).u16(0).u16(2).u16(2).u16(4).u16(12);
  // Bottom row first, rows of six bytes: blue and green below, red and black above; the mask hides the last
  // one.
  out.bytes(unhex("ff000000ff00"
                  "0000ff000000"))
      .bytes(unhex("0000"
                   "4000"));
  LittleReader in(out.view());
  const PointerMessage m = readPointer(in, PointerKind::New, defaultColourMap());
  CHECK(m.cacheIndex == 7);
  CHECK(m.cursor.size == Size{2, 2});
  CHECK(m.cursor.hotspot == Point{1, 0});
  CHECK(m.cursor.pixels == std::vector<Pixel>{rgb(255, 0, 0), 0, rgb(0, 0, 255), rgb(0, 255, 0)});
  LittleWriter huge;
  huge.u16(24).u16(0).u16(0).u16(0).u16(9999).u16(9999).u16(4).u16(12).zeros(16);
  CHECK(breaks([&] {
    LittleReader bad(huge.view());
    readPointer(bad, PointerKind::New, defaultColourMap());
  }));
  CHECK(usualPointer().pixels.size() == 12 * 14);
}

TEST_CASE("Channel chunks are put together; those out of order or too large are refused", "[rdp]") {
  Bytes message(5000);
  for (std::size_t i = 0; i < message.size(); ++i) message[i] = static_cast<Byte>(i * 7);
  const auto chunks = chunksOf(message);
  CHECK(chunks.size() == 4);
  ChunkReader reader;
  std::optional<Bytes> whole;
  for (const Bytes& c : chunks) {
    CHECK_FALSE(whole);
    whole = reader.take(c);
  }
  REQUIRE(whole);
  CHECK(*whole == message);
  CHECK(breaks([&] { reader.take(chunks[1]); }));
  LittleWriter endless;
  endless.u32(0x7fffffff).u32(channel::kFirst);
  CHECK(breaks([&] { reader.take(endless.view()); }));
  LittleWriter more;
  more.u32(2).u32(channel::kFirst).zeros(5);
  CHECK(breaks([&] { reader.take(more.view()); }));
}

TEST_CASE("Dynamic channels: known names open, others are refused, long messages come in parts", "[rdp]") {
  std::vector<Bytes> sent;
  DynamicChannels channels([&](Bytes m) { sent.push_back(std::move(m)); });
  std::string got;
  bool opened = false;
  channels.listen("Echo",
                  {[&] { opened = true; }, [&](ByteView m) { got = textOf(m); }, [&] { opened = false; }});
  channels.take(unhex("50000300000000000000"));
  CHECK(hex(sent.back()) == "50000100");
  channels.take(
      unhex("1005"
            "4563686f00"));
  CHECK(opened);
  CHECK(hex(sent.back()) == "100500000000");
  channels.take(
      unhex("1006"
            "4e6f706500"));
  CHECK(hex(sent.back()) == "1006010000c0");
  channels.take(
      unhex("3005"
            "6869"));
  CHECK(got == "hi");
  channels.take(
      unhex("2005"
            "04"
            "6162"));
  channels.take(
      unhex("3005"
            "6364"));
  CHECK(got == "abcd");
  CHECK(channels.sendOn("Echo", Bytes(4000, 1)));
  CHECK(sent.size() == 6);
  CHECK_FALSE(channels.sendOn("Nope", {}));
  CHECK(breaks([&] {
    channels.take(
        unhex("2805"
              "ffffff7f"));
  }));
  channels.take(unhex("4005"));
  CHECK_FALSE(opened);
}

TEST_CASE("Input events have the bytes of the specification", "[rdp]") {
  InputEvents events;
  events.key(0x1e, true);
  events.key(0xe04b, false);
  events.unicode(0xe4, true);
  events.locks(2);
  CHECK(events.count() == 4);
  CHECK(hex(events.take()) ==
        "001e"
        "034b"
        "80e400"
        "62");
  PointerButtons buttons;
  buttons.move(events, {10, 20}, 0);
  buttons.move(events, {10, 20}, 1);
  buttons.move(events, {10, 20}, 1 | 8);
  buttons.move(events, {10, 20}, 1 | 16);
  CHECK(hex(events.take()) ==
        "2000080a001400"
        "2000900a001400"
        "2078020a001400"
        "2088030a001400");
}

TEST_CASE("Licensing ends at once with a valid client, and refusals are told in words", "[rdp]") {
  Licensing licensing("duty", "desk");
  CHECK_FALSE(licensing.take(licenceValidClient()));
  CHECK(licensing.done());
  Licensing refused("duty", "desk");
  CHECK_THROWS_WITH(refused.take(unhex("ff0310000b0000000200000004000000")),
                    Catch::Contains("licence server"));
  // The whole exchange with a server of the test.
  const RsaPair pair = makeRsaPair(1024);
  const Bytes certificate = ownCertificate(pair);
  LittleWriter request;
  request.bytes(Bytes(32, 9)).u32(0x60000).u32(2).zeros(2).u32(2).zeros(2).u16(0xd).u16(4).u32(1);
  request.u16(3).u16(static_cast<unsigned>(certificate.size())).bytes(certificate).u32(0);
  LittleWriter message;
  message.u8(1).u8(3).u16(static_cast<unsigned>(request.size() + 4)).bytes(request.view());
  Licensing whole("duty", "desk");
  const auto answer = whole.take(message.view());
  REQUIRE(answer);
  CHECK((*answer)[0] == 0x13);
  LittleReader in(*answer);
  in.skip(4 + 8);
  const ByteView clientRandom = in.bytes(32);
  in.skip(2);
  Bytes preMaster = rsaDecrypt(pair, in.bytes(in.u16()));
  preMaster.resize(48);
  const Bytes serverRandom(32, 9);
  const Bytes keys = threefoldHash(threefoldHash(preMaster, 'A', clientRandom, serverRandom), 'A',
                                   serverRandom, clientRandom);
  Bytes challenge = unhex("54004500530054000000");
  Rc4(md5({ByteView(keys).subspan(16, 16), clientRandom, serverRandom})).apply(challenge);
  LittleWriter second;
  second.u8(2).u8(3).u16(static_cast<unsigned>(4 + 4 + 4 + challenge.size() + 16));
  second.u32(0).u16(9).u16(static_cast<unsigned>(challenge.size())).bytes(challenge).zeros(16);
  const auto response = whole.take(second.view());
  REQUIRE(response);
  CHECK((*response)[0] == 0x15);
  CHECK_FALSE(whole.done());
  whole.take(unhex("03030400"));
  CHECK(whole.done());
}
