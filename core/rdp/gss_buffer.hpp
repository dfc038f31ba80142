// GSSAPI's buffers (RFC 2744 3.2) beside our bytes.
#pragma once
#include <gssapi/gssapi.h>

#include <string>

#include "base/bytes.hpp"

namespace kw::rdp {

/// Refers to the bytes; GSSAPI only reads them.
inline gss_buffer_desc gssBuffer(ByteView bytes) { return {bytes.size(), const_cast<Byte*>(bytes.data())}; }
inline gss_buffer_desc gssBuffer(const std::string& text) {
  return {text.size(), const_cast<char*>(text.data())};
}

/// What GSSAPI made, copied; its buffer is released.
inline Bytes takeGssBuffer(gss_buffer_desc& buffer) {
  const auto* at = static_cast<const Byte*>(buffer.value);
  Bytes out(at, at + buffer.length);
  OM_uint32 minor = 0;
  gss_release_buffer(&minor, &buffer);
  return out;
}

}  // namespace kw::rdp
