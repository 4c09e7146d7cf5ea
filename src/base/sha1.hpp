// SHA-1 (FIPS 180-4), for checksums that others chose; it proves that a file arrived whole, not who made it.
#pragma once
#include <array>
#include <bit>
#include <cstdint>
#include <fmt/format.h>
#include <span>
#include <string>

namespace katoptra {

class Sha1 {
 public:
  void add(std::span<const std::uint8_t> bytes) {
    for (std::uint8_t b : bytes) {
      rest_[length_++ % 64] = b;
      if (length_ % 64 == 0) block();
    }
  }
  std::string hex() {
    const std::uint64_t bits = length_ * 8;
    const std::uint8_t end = 0x80, zero = 0;
    add({&end, 1});
    while (length_ % 64 != 56) add({&zero, 1});
    for (int i = 7; i >= 0; --i) {
      const auto b = static_cast<std::uint8_t>(bits >> (8 * i));
      add({&b, 1});
    }
    std::string out;
    for (std::uint32_t s : state_) out += fmt::format("{:08x}", s);
    return out;
  }

 private:
  void block() {
    std::array<std::uint32_t, 80> w;
    for (std::size_t i = 0; i < 16; ++i)
      w[i] = static_cast<std::uint32_t>(rest_[4 * i] << 24 | rest_[4 * i + 1] << 16 | rest_[4 * i + 2] << 8 |
                                        rest_[4 * i + 3]);
    for (std::size_t i = 16; i < 80; ++i) w[i] = std::rotl(w[i - 3] ^ w[i - 8] ^ w[i - 14] ^ w[i - 16], 1);
    auto [a, b, c, d, e] = state_;
    for (std::size_t i = 0; i < 80; ++i) {
      std::uint32_t f, k;
      if (i < 20)
        f = (b & c) | (~b & d), k = 0x5a827999;
      else if (i < 40)
        f = b ^ c ^ d, k = 0x6ed9eba1;
      else if (i < 60)
        f = (b & c) | (b & d) | (c & d), k = 0x8f1bbcdc;
      else
        f = b ^ c ^ d, k = 0xca62c1d6;
      const std::uint32_t t = std::rotl(a, 5) + f + e + k + w[i];
      e = d, d = c, c = std::rotl(b, 30), b = a, a = t;
    }
    state_ = {state_[0] + a, state_[1] + b, state_[2] + c, state_[3] + d, state_[4] + e};
  }
  std::array<std::uint32_t, 5> state_{0x67452301, 0xefcdab89, 0x98badcfe, 0x10325476, 0xc3d2e1f0};
  std::array<std::uint8_t, 64> rest_{};
  std::uint64_t length_ = 0;
};

}  // namespace katoptra
