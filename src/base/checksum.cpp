#include "katoptra/base/checksum.hpp"

#include <array>
#include <openssl/evp.h>

#include "katoptra/base/error.hpp"

namespace katoptra {

struct Checksum::State {
  struct Free {
    void operator()(EVP_MD_CTX* c) const { EVP_MD_CTX_free(c); }
  };
  std::unique_ptr<EVP_MD_CTX, Free> context{EVP_MD_CTX_new()};
  void expect(int ok) const {
    if (ok != 1) throw Error(ErrorCode::MissingResource, "the library of checksums does not do its work", "libcrypto");
  }
};

Checksum::Checksum(Kind kind) : state_(std::make_unique<State>()) {
  state_->expect(EVP_DigestInit_ex(state_->context.get(), kind == Kind::Sha1 ? EVP_sha1() : EVP_sha256(), nullptr));
}

Checksum::~Checksum() = default;

void Checksum::add(std::span<const std::uint8_t> bytes) {
  state_->expect(EVP_DigestUpdate(state_->context.get(), bytes.data(), bytes.size()));
}

std::string Checksum::hex() {
  std::array<std::uint8_t, EVP_MAX_MD_SIZE> sum;
  unsigned int n = 0;
  state_->expect(EVP_DigestFinal_ex(state_->context.get(), sum.data(), &n));
  std::string out;
  for (unsigned int i = 0; i < n; ++i) {
    out += "0123456789abcdef"[sum[i] >> 4];
    out += "0123456789abcdef"[sum[i] & 15];
  }
  return out;
}

}  // namespace katoptra
