// Checksums (FIPS 180-4): SHA-256 for the record of a study's inputs, SHA-1 for those that others chose; both prove
// that a file arrived whole, not who made it.
//
//   Sha256 sum;
//   sum.add(bytes);
//   record(sum.hex());
#pragma once
#include <cstdint>
#include <memory>
#include <span>
#include <string>

namespace katoptra {

class Checksum {
 public:
  ~Checksum();
  void add(std::span<const std::uint8_t> bytes);
  // Lower-case hexadecimal; the object is spent.
  std::string hex();

 protected:
  enum class Kind { Sha1, Sha256 };
  explicit Checksum(Kind kind);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

class Sha256 : public Checksum {
 public:
  Sha256() : Checksum(Kind::Sha256) {}
};

class Sha1 : public Checksum {
 public:
  Sha1() : Checksum(Kind::Sha1) {}
};

}  // namespace katoptra
