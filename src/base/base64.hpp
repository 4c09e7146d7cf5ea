// Bytes as text (RFC 4648, section 4).
#pragma once
#include <cstdint>
#include <span>
#include <string>

namespace katoptra {

inline std::string base64(std::span<const std::uint8_t> bytes) {
  static const char* k = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out((bytes.size() + 2) / 3 * 4, '=');
  std::size_t at = 0;
  for (std::size_t i = 0; i < bytes.size(); i += 3, at += 4) {
    std::uint32_t v = std::uint32_t{bytes[i]} << 16;
    if (i + 1 < bytes.size()) v |= std::uint32_t{bytes[i + 1]} << 8;
    if (i + 2 < bytes.size()) v |= bytes[i + 2];
    out[at] = k[v >> 18];
    out[at + 1] = k[v >> 12 & 63];
    if (i + 1 < bytes.size()) out[at + 2] = k[v >> 6 & 63];
    if (i + 2 < bytes.size()) out[at + 3] = k[v & 63];
  }
  return out;
}

}  // namespace katoptra
