// SHA-256 (FIPS 180-4), for the record of a study's inputs.
#pragma once
#include <array>
#include <cstdint>
#include <span>
#include <string>

namespace katoptra {

class Sha256 {
 public:
  void add(std::span<const std::uint8_t> bytes);
  // Lower-case hexadecimal; the object is spent.
  std::string hex();

 private:
  void block(const std::uint8_t* p);
  std::array<std::uint32_t, 8> state_{0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a,
                                      0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19};
  std::array<std::uint8_t, 64> rest_{};
  std::uint64_t length_ = 0;
};

}  // namespace katoptra
